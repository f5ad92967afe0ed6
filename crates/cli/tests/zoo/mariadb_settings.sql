-- Objects of the observatory that were made under settings other than the usual ones.
SET NAMES utf8mb4;
SET sql_mode = '';
CREATE TABLE words (id int PRIMARY KEY, word varchar(40)) DEFAULT CHARSET=latin1;
INSERT INTO words VALUES (1, 'größe'), (2, 'a\\b'), (3, 'GRÖSSE');
CREATE TABLE words_log (what varchar(80)) DEFAULT CHARSET=utf8mb4;

SET sql_mode = 'ANSI_QUOTES,PIPES_AS_CONCAT';
CREATE VIEW v_joined AS SELECT "id" AS "the id", "word" || '!' AS loud FROM "words";
SET sql_mode = 'NO_BACKSLASH_ESCAPES';
CREATE VIEW v_backslash AS SELECT id, '\' AS one, 'a\nb' AS two FROM words WHERE word = 'a\b';
SET sql_mode = 'HIGH_NOT_PRECEDENCE';
CREATE VIEW v_not AS SELECT NOT 1 BETWEEN -5 AND 5 AS loose;
SET sql_mode = 'IGNORE_SPACE';
CREATE VIEW v_space AS SELECT count (*) AS n FROM words;
SET sql_mode = 'ORACLE';
CREATE VIEW v_empty AS SELECT id, concat(word, '') AS w FROM words;
SET sql_mode = '';
SET NAMES latin1 COLLATE latin1_german2_ci;
CREATE VIEW v_german AS SELECT 'x' AS t, 'oe' = CAST(x'f6' AS CHAR) AS same;
CREATE VIEW v_typed AS SELECT concat('a', 'b') AS t;
SET NAMES utf8mb4 COLLATE utf8mb4_bin;
CREATE VIEW v_exact AS SELECT id FROM words WHERE 'A' = 'a' UNION SELECT 7 WHERE 'é' = 'e';
CREATE VIEW v_text AS SELECT 'größe' AS t, collation('x') AS c;
SET NAMES utf8mb4;

DELIMITER //
SET sql_mode = 'NO_BACKSLASH_ESCAPES'//
CREATE PROCEDURE p_backslash() BEGIN SELECT '\', 'it''s \n'; SELECT 'two;'; END//
CREATE FUNCTION f_backslash() RETURNS varchar(9) CHARSET utf8mb4 DETERMINISTIC RETURN '\'//
CREATE TRIGGER t_backslash BEFORE INSERT ON words_log FOR EACH ROW SET NEW.what = concat(NEW.what, '\')//
CREATE EVENT e_backslash ON SCHEDULE EVERY 1 DAY STARTS '2036-01-01 03:00:00' DISABLE DO SET @x = '\'//
SET sql_mode = 'ANSI_QUOTES,PIPES_AS_CONCAT,NO_BACKSLASH_ESCAPES'//
CREATE FUNCTION f_joined() RETURNS varchar(40) CHARSET utf8mb4 DETERMINISTIC RETURN '\' || 'x' || (SELECT max("id") FROM "words")//
SET sql_mode = 'ORACLE'//
CREATE PACKAGE tools AS FUNCTION quoted RETURN varchar2(20); PROCEDURE noted(a IN varchar2(20)); END//
CREATE PACKAGE BODY tools AS
  FUNCTION quoted RETURN varchar2(20) AS BEGIN RETURN 'a' || '\\' || 'b'; END;
  PROCEDURE noted(a IN varchar2(20)) AS BEGIN INSERT INTO words_log VALUES (a || ';'); END;
END//
CREATE FUNCTION o_joined RETURN varchar2(20) AS BEGIN RETURN 'a' || NULL || 'b'; END//
SET sql_mode = 'ORACLE,NO_BACKSLASH_ESCAPES'//
CREATE PROCEDURE o_backslash AS x varchar2(9); BEGIN x := '\'; INSERT INTO words_log VALUES (x); END//
SET sql_mode = 'HIGH_NOT_PRECEDENCE'//
CREATE FUNCTION f_not() RETURNS int DETERMINISTIC RETURN NOT 1 BETWEEN -5 AND 5//
SET sql_mode = 'NO_UNSIGNED_SUBTRACTION'//
CREATE PROCEDURE p_minus() SELECT CAST(1 AS UNSIGNED) - 2//
SET sql_mode = ''//
SET NAMES latin1 COLLATE latin1_german2_ci//
CREATE FUNCTION f_german() RETURNS int DETERMINISTIC RETURN 'oe' = CAST(x'f6' AS CHAR)//
CREATE PROCEDURE p_named() SELECT collation('x')//
CREATE TRIGGER t_german AFTER INSERT ON words_log FOR EACH ROW SET @seen = 'oe' = CAST(x'f6' AS CHAR)//
CREATE EVENT e_german ON SCHEDULE EVERY 2 DAY STARTS '2036-01-01 03:00:00' DISABLE DO SET @seen = collation('x')//
SET NAMES utf8mb4 COLLATE utf8mb4_bin//
CREATE FUNCTION f_exact() RETURNS int DETERMINISTIC RETURN 'A' = 'a'//
CREATE FUNCTION f_text() RETURNS varchar(20) CHARSET utf8mb4 DETERMINISTIC RETURN 'größe'//
DELIMITER ;
SET NAMES utf8mb4;
