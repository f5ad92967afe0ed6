-- One of everything that a MariaDB database of the observatory could hold.
SET NAMES utf8mb4;
SET sql_mode = 'NO_AUTO_VALUE_ON_ZERO,ALLOW_INVALID_DATES';
SET time_zone = '+00:00';
SET foreign_key_checks = 0;
CREATE SEQUENCE tickets START WITH 30 INCREMENT BY -3 MINVALUE -300 MAXVALUE 300 CACHE 5 CYCLE;
SELECT nextval(tickets);
CREATE SEQUENCE `odd ``seq` START WITH 1;
CREATE SEQUENCE placed; DO setval(placed, 77, 0);
CREATE TABLE kinds (
  id bigint unsigned NOT NULL AUTO_INCREMENT PRIMARY KEY,
  tiny tinyint, small smallint unsigned zerofill, medium mediumint, whole int(7), big bigint unsigned, is_on bool,
  fixed decimal(65,30), single float, narrow_it float(7,3), wide double, bits bit(37), one bit(1),
  day date, moment datetime(6), stamp timestamp(3) NULL DEFAULT '1999-12-31 23:59:59.5' ON UPDATE current_timestamp(3), span time(6), y year,
  fixed_text char(9), short varchar(20), tinyt tinytext, body text, medium_text mediumtext, long_text longtext,
  fixed_bytes binary(8), bytes varbinary(9), tinyb tinyblob, b blob, mb mediumblob, lb longblob,
  mood enum('clear','hazy','it''s \\ raining','größer') DEFAULT 'clear', moods set('a','b','c ?','d') , doc json,
  ident uuid, net6 inet6, net4 inet4,
  spot point, way linestring, shape polygon, spots multipoint, ways multilinestring, shapes multipolygon, all_of geometrycollection, any_of geometry
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COMMENT='every type; with a '' quote';
INSERT INTO kinds VALUES (0, -128, 7, -8388608, 2147483647, 18446744073709551615, true,
  '12345678901234567890123456789012345.123456789012345678901234567890', 16777216.5, 1234.567, 0.1, b'1010101010101010101010101010101010101', b'1',
  '0000-00-00', '9999-12-31 23:59:59.999999', '2026-11-23 12:34:56.789', '-838:59:59.000000', 1901,
  'ab  ', '', 'tiny', 'it''s \\ "x" \0 \n \r \Z %_', 'ünï☃😀', repeat('long ', 2000),
  x'00ff', x'00010a0d1a5c27', '', x'00', 'http://glimmerpoint.example', x'ffd8',
  'it''s \\ raining', 'a,c ?', '{"u": "http:\\/\\/glimmerpoint.example\\/"}',
  '123e4567-e89b-12d3-a456-426655440000', '2001:db8::1', '192.0.2.7',
  point(1,2), linestring(point(0,0),point(1,1)), polygon(linestring(point(0,0),point(0,3),point(3,3),point(0,0))), multipoint(point(1,1)), multilinestring(linestring(point(0,0),point(1,1))),
  multipolygon(polygon(linestring(point(0,0),point(0,3),point(3,3),point(0,0)))), geometrycollection(point(1,1)), point(9,9));
INSERT INTO kinds (id, single, wide, day, moment, span, y, mood, moods) VALUES (5, 1.17549435e-38, 2.2250738585072014e-308, '2026-00-15', '2024-02-31 00:00:00', '838:59:59', 0, NULL, ''),
  (18446744073709551613, 3.40282347e38, -1.7976931348623157e308, '1000-01-01', '0000-00-00 00:00:00', '00:00:00.000001', 2155, NULL, 'd');
SET SESSION sql_mode = 'NO_AUTO_VALUE_ON_ZERO';
INSERT INTO kinds (id, mood) VALUES (6, 0);
SET SESSION sql_mode = 'NO_AUTO_VALUE_ON_ZERO,ALLOW_INVALID_DATES';
SET SESSION sql_mode = '';
CREATE TABLE unchosen (id int, mood enum('a','b') NOT NULL, other enum('x')); INSERT INTO unchosen VALUES (1, 'nonsense', 'x'), (2, 'a', 0), (3, '', NULL);
SET SESSION sql_mode = 'NO_AUTO_VALUE_ON_ZERO,ALLOW_INVALID_DATES';
CREATE TABLE charsets (id int PRIMARY KEY, a varchar(20) CHARACTER SET latin1, b varchar(20) CHARACTER SET utf16, c varchar(20) CHARACTER SET sjis, d varchar(20) CHARACTER SET cp1251 COLLATE cp1251_bin,
  e varchar(20) CHARACTER SET ucs2, f varchar(20) CHARACTER SET utf8mb3 COLLATE utf8mb3_unicode_ci, g text CHARACTER SET binary, h varchar(20) CHARACTER SET utf32, i varchar(5) CHARACTER SET koi8r) DEFAULT CHARSET=latin1;
INSERT INTO charsets VALUES (1, 'größe €', 'größe', '日本', 'Привет', 'ucs', 'ünï', x'00ff', 'weit', 'да');
INSERT INTO charsets (id, a) VALUES (2, x'808182ff');
CREATE TABLE `Odd ``name``.x "y"` (`select` int, `a b` varchar(20) DEFAULT 'it''s; x', `ä` int AS (`select` * 2) PERSISTENT COMMENT 'made', v int AS (`select` + 1) VIRTUAL,
  hidden int INVISIBLE DEFAULT 7, packed text COMPRESSED, CHECK (`select` < 100), CONSTRAINT `named check` CHECK (`a b` <> 'no')) ROW_FORMAT=DYNAMIC;
INSERT INTO `Odd ``name``.x "y"` (`select`, hidden) VALUES (1, 8), (NULL, 9);
CREATE TABLE ORDERS (`from` int NOT NULL, `to` int NOT NULL, note text, place point NOT NULL, PRIMARY KEY (`from`, `to`), KEY pre (note(7)), FULLTEXT KEY words (note), SPATIAL KEY around (place), UNIQUE KEY down (`to` DESC, `from`)) ENGINE=InnoDB;
INSERT INTO ORDERS VALUES (1, 2, 'some words', point(1,1));
CREATE TABLE no_key (a varchar(10), b varchar(10)) ; INSERT INTO no_key VALUES ('x','y'),('x','y'),(NULL,'');
CREATE TABLE people (id int AUTO_INCREMENT PRIMARY KEY, chief int, name varchar(40), ticket int DEFAULT nextval(tickets), twice int DEFAULT (nextval(placed) * 2) COMMENT 'DEFAULT nextval(x)',
  KEY chief (chief), CONSTRAINT to_chief FOREIGN KEY (chief) REFERENCES people (id) ON DELETE SET NULL ON UPDATE CASCADE) AUTO_INCREMENT=5000;
INSERT INTO people (id, chief, name, ticket, twice) VALUES (1, NULL, 'Ann Other', 1, 1), (2, 1, 'Bo Rest', 2, 2), (3, 999, 'an orphan', 3, 3);
CREATE TABLE ring_a (id int PRIMARY KEY, b int, KEY (b), CONSTRAINT ring_1 FOREIGN KEY (b) REFERENCES ring_b (id));
CREATE TABLE ring_b (id int PRIMARY KEY, a int, KEY (a), CONSTRAINT ring_2 FOREIGN KEY (a) REFERENCES ring_a (id));
INSERT INTO ring_a VALUES (1, 1); INSERT INTO ring_b VALUES (1, 1);
CREATE TABLE nights (id int NOT NULL, held date NOT NULL, note varchar(20), PRIMARY KEY (id, held)) PARTITION BY RANGE (year(held)) SUBPARTITION BY HASH (id) SUBPARTITIONS 2 (PARTITION p0 VALUES LESS THAN (2020) COMMENT = 'old', PARTITION p1 VALUES LESS THAN MAXVALUE);
INSERT INTO nights VALUES (1, '2019-01-01', 'a'), (2, '2026-01-01', 'b');
CREATE TABLE parted (a int, b varchar(5)) PARTITION BY LIST COLUMNS (b) (PARTITION pa VALUES IN ('x','y'), PARTITION pz VALUES IN ('z', NULL));
INSERT INTO parted VALUES (1, 'x'), (2, NULL);
CREATE TABLE old_times (a int PRIMARY KEY, b varchar(20)) WITH SYSTEM VERSIONING;
INSERT INTO old_times VALUES (1, 'first'); UPDATE old_times SET b = 'second'; DELETE FROM old_times; INSERT INTO old_times VALUES (2, 'now');
CREATE TABLE own_period (a int, s timestamp(6) GENERATED ALWAYS AS ROW START INVISIBLE, e timestamp(6) GENERATED ALWAYS AS ROW END, PERIOD FOR SYSTEM_TIME (s, e), w int WITHOUT SYSTEM VERSIONING) WITH SYSTEM VERSIONING;
INSERT INTO own_period (a) VALUES (1); UPDATE own_period SET a = 2;
CREATE TABLE valid_for (a int, f date, t date, PERIOD FOR app (f, t), UNIQUE (a, app WITHOUT OVERLAPS)); INSERT INTO valid_for VALUES (1, '2020-01-01', '2021-01-01');
CREATE TABLE still (a int PRIMARY KEY, b text) ENGINE=MyISAM DEFAULT CHARSET=latin1 COMMENT='old engine'; INSERT INTO still VALUES (1, 'x');
CREATE TABLE aria (a int) ENGINE=Aria TRANSACTIONAL=1; INSERT INTO aria VALUES (1);
CREATE TABLE brief (a int) ENGINE=MEMORY MAX_ROWS=10; INSERT INTO brief VALUES (1);
CREATE TABLE broken_rule (a int CHECK (a < 5)); SET check_constraint_checks = 0; INSERT INTO broken_rule VALUES (9); SET check_constraint_checks = 1;
CREATE TABLE part_one (a int, b varchar(9), KEY (a)) ENGINE=MyISAM; CREATE TABLE part_two LIKE part_one; INSERT INTO part_one VALUES (1, 'x'); INSERT INTO part_two VALUES (2, 'y');
CREATE TABLE both_parts (a int, b varchar(9), KEY (a)) ENGINE=MERGE UNION=(part_one, part_two) INSERT_METHOD=LAST;
CREATE TABLE zero_default (a int, d date NOT NULL DEFAULT '0000-00-00', m datetime NOT NULL DEFAULT '0000-00-00 00:00:00'); INSERT INTO zero_default (a) VALUES (1);
CREATE ALGORITHM=MERGE SQL SECURITY INVOKER VIEW z_first AS SELECT id, name FROM people WHERE id > 0;
CREATE VIEW a_second AS SELECT z.id AS `odd ``id`, 'zoo.x; ''quoted''' AS t, f.s FROM z_first z, (SELECT 1 AS s) f WITH CASCADED CHECK OPTION;
SHOW WARNINGS;
CREATE VIEW m_third AS SELECT `odd ``id` FROM a_second;
DELIMITER //
CREATE FUNCTION twice(n int) RETURNS varchar(20) CHARSET utf8mb4 DETERMINISTIC NO SQL COMMENT 'doubles; it''s' BEGIN IF n > 5 THEN RETURN 'many;'; END IF; RETURN n * 2; END//
CREATE PROCEDURE `odd ``proc`(IN a int, INOUT b varchar(9), OUT c decimal(9,2)) SQL SECURITY INVOKER MODIFIES SQL DATA BEGIN -- a comment; here
  DECLARE done int DEFAULT 0; SET c = a; INSERT INTO no_key VALUES ('DEFINER=`x`@`y`', ';;'); END//
SET sql_mode = 'ANSI_QUOTES'//
CREATE PROCEDURE "ansi ""p"() SELECT "name" FROM "people"//
SET sql_mode = 'ORACLE'//
CREATE OR REPLACE PACKAGE pack AS FUNCTION one RETURN int; END//
CREATE OR REPLACE PACKAGE BODY pack AS FUNCTION one RETURN int AS BEGIN RETURN 1; END; END//
CREATE OR REPLACE PROCEDURE orap AS BEGIN NULL; END//
SET sql_mode = 'NO_AUTO_VALUE_ON_ZERO'//
CREATE TRIGGER p_before BEFORE INSERT ON people FOR EACH ROW SET NEW.name = concat(NEW.name, 5--3)//
CREATE TRIGGER p_one AFTER INSERT ON people FOR EACH ROW BEGIN INSERT INTO no_key VALUES ('1', 'a;'); END//
CREATE TRIGGER p_two AFTER INSERT ON people FOR EACH ROW FOLLOWS p_one INSERT INTO no_key VALUES ('2', twice(2))//
CREATE EVENT nightly ON SCHEDULE EVERY 1 DAY STARTS '2026-01-01 03:00:00' ENDS '2036-01-01 00:00:00' ON COMPLETION PRESERVE DISABLE COMMENT 'it''s night' DO BEGIN DELETE FROM no_key WHERE a = ';;'; DELETE FROM no_key; END//
SET time_zone = '+05:30'//
CREATE EVENT once ON SCHEDULE AT '2037-05-05 05:05:05' DO SELECT 1//
DELIMITER ;
SET time_zone = '+00:00';
