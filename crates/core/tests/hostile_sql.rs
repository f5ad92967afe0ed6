//! Statements that an archive must not hold, and odd ones that it may: each dialect has its
//! corpus. What is refused is refused by the grammar, before any server sees it.

use fernweh_core::sql::{Dialect, Modes, ScriptReader, Statement};
use proptest::prelude::*;

/// Statements as packing writes them, behind which something is hidden.
const MARIADB: [&str; 16] = [
    "CREATE TABLE `t` (`a` int(11) NOT NULL) ENGINE=InnoDB",
    "CREATE TABLE `t` (`a` int(11) DEFAULT NULL COMMENT 'x', KEY `k` (`a`)) ENGINE=InnoDB COMMENT='y'",
    "CREATE TABLE `t` (`a` int) PARTITION BY RANGE (`a`) (PARTITION `p` VALUES LESS THAN (3) ENGINE = InnoDB)",
    "CREATE SEQUENCE `s` start with 1 minvalue 1 maxvalue 9 increment by 1 cache 1000 nocycle ENGINE=InnoDB",
    "DO setval(`s`, 5, 0, 0)",
    "ALTER TABLE `t` ADD CONSTRAINT `f` FOREIGN KEY (`a`) REFERENCES `p` (`a`) ON DELETE CASCADE",
    "ALTER TABLE `t` ALTER COLUMN `a` SET DEFAULT nextval(`s`)",
    "CREATE ALGORITHM=UNDEFINED SQL SECURITY DEFINER VIEW `v` AS select 1 AS `a`",
    "CREATE TRIGGER `g` BEFORE INSERT ON `t` FOR EACH ROW SET NEW.a = 1",
    "CREATE TRIGGER `g` AFTER DELETE ON `t` FOR EACH ROW BEGIN DELETE FROM u; END",
    "CREATE PROCEDURE `p`(IN a int) BEGIN SELECT 1; END",
    "CREATE FUNCTION `f`() RETURNS int(11) DETERMINISTIC BEGIN RETURN 1; END",
    "CREATE EVENT `e` ON SCHEDULE EVERY 1 DAY STARTS '2026-01-01 00:00:00' ON COMPLETION NOT PRESERVE ENABLE DO BEGIN DELETE FROM t; END",
    "SET sql_mode = 'ANSI'",
    "SET time_zone = '+00:00'",
    "CREATE TABLE `t` (`a` text /*!100301 COMPRESSED*/) ENGINE=InnoDB",
];
const POSTGRES: [&str; 18] = [
    "CREATE TABLE \"t\" (\n  a integer DEFAULT 1 NOT NULL,\n  CONSTRAINT c CHECK ((a > 0))\n)",
    "CREATE UNLOGGED TABLE \"t\" (\n  a text COLLATE \"C\"\n) WITH (fillfactor = '70')",
    "CREATE SEQUENCE \"s\" AS bigint INCREMENT BY 1 MINVALUE 1 MAXVALUE 9 START WITH 1 CACHE 1 CYCLE",
    "SELECT pg_catalog.setval('\"s\"', 5, true)",
    "SELECT pg_catalog.lo_create(16500)",
    "ALTER TABLE ONLY \"t\" ADD CONSTRAINT p PRIMARY KEY (a)",
    "ALTER TABLE \"t\" ADD CONSTRAINT f FOREIGN KEY (a) REFERENCES u(a) ON DELETE SET NULL DEFERRABLE INITIALLY DEFERRED",
    "ALTER TABLE ONLY \"t\" ALTER COLUMN a SET DEFAULT 5",
    "ALTER TABLE \"t\" ENABLE ROW LEVEL SECURITY",
    "ALTER SEQUENCE \"s\" OWNED BY t.a",
    "CREATE INDEX i ON app.t USING btree (a, lower(b)) WHERE (a > 5)",
    "CREATE VIEW \"v\" AS\n SELECT 1 AS a",
    "CREATE TRIGGER g BEFORE INSERT ON app.t FOR EACH ROW EXECUTE FUNCTION f()",
    "CREATE FUNCTION f(a text) RETURNS text LANGUAGE sql AS $x$SELECT ';'$x$",
    "CREATE TYPE \"mood\" AS ENUM ('a', 'b')",
    "COMMENT ON TABLE t IS 'x'",
    "CREATE SCHEMA \"app\"",
    "CREATE EXTENSION IF NOT EXISTS \"citext\" WITH SCHEMA \"public\"",
];
const SQLITE: [&str; 14] = [
    "CREATE TABLE t (a INTEGER PRIMARY KEY, b TEXT DEFAULT 'x')",
    "CREATE TABLE [t] (a) WITHOUT ROWID",
    "CREATE TABLE \"t\" (a INT) STRICT",
    "CREATE INDEX i ON t (a)",
    "CREATE UNIQUE INDEX i ON t (lower(a)) WHERE a > 5",
    "CREATE VIEW v AS SELECT 1 AS a",
    "CREATE TRIGGER g AFTER INSERT ON t BEGIN SELECT 1; END",
    "CREATE VIRTUAL TABLE w USING fts5(a, b)",
    "PRAGMA user_version = 5",
    "PRAGMA journal_mode = wal",
    "DELETE FROM \"w_data\"",
    "INSERT INTO \"w\" (\"w\") VALUES ('rebuild')",
    "ANALYZE",
    "PRAGMA encoding = 'UTF-8'",
];

/// What makes a second statement of one, wherever it ends.
const BEHIND: [&str; 8] = [
    "; DROP TABLE victim",
    ";\nDROP TABLE victim; --",
    "/* x */ ; /* y */ DROP TABLE victim",
    " -- x\n; COMMIT",
    ";;DROP TABLE victim",
    "; SELECT 1;",
    ";(SELECT 1)",
    " \u{0}; DROP TABLE victim",
];

/// Statements of other kinds, or of these with something in them that reaches elsewhere.
const MARIADB_ALONE: [&str; 64] = [
    "DROP TABLE t",
    "GRANT ALL ON *.* TO x",
    "CREATE USER x",
    "SET GLOBAL general_log = 1",
    "SET PASSWORD = 'x'",
    "SET @@global.general_log = 1",
    "SET sql_mode = (SELECT load_file('/etc/passwd'))",
    "FLUSH TABLES",
    "LOAD DATA INFILE '/etc/passwd' INTO TABLE t",
    "SELECT * FROM t INTO OUTFILE '/var/www/x.php'",
    "SELECT sleep(300)",
    "DO sleep(300)",
    "DO setval(`s`, sleep(9))",
    "DO setval(`s`)",
    "DO setval(`s`, 1, 2, 3, 4)",
    "DO setval(`s`, 1), sleep(9)",
    "INSERT INTO t VALUES (1)",
    "UPDATE t SET a = 1",
    "DELETE FROM t",
    "TRUNCATE t",
    "RENAME TABLE t TO other.x",
    "ALTER TABLE t RENAME TO other.x",
    "ALTER TABLE `t` ADD CONSTRAINT `f` FOREIGN KEY (`a`) REFERENCES `p` (`a`), RENAME TO other.x",
    "ALTER TABLE `t` ADD CONSTRAINT `f` FOREIGN KEY (`a`) REFERENCES `other`.`p` (`a`)",
    "ALTER TABLE `t` ADD CONSTRAINT `f` FOREIGN KEY (`a`) REFERENCES `p` (`a`) ON DELETE DROP",
    "ALTER TABLE `t` ALTER COLUMN `a` SET DEFAULT 'x', ADD COLUMN b int",
    "ALTER TABLE `t` ALTER COLUMN `a` SET DEFAULT 'x', DATA DIRECTORY='/tmp'",
    "ALTER TABLE `t` ALTER COLUMN `a` DROP DEFAULT",
    "ALTER TABLE `t` ADD COLUMN a int",
    "ALTER TABLE `t` DROP COLUMN a",
    "ALTER TABLE `t` DISCARD TABLESPACE",
    "ALTER TABLE `t` ENGINE=FEDERATED",
    "ALTER DATABASE x CHARACTER SET utf8",
    "CREATE TABLE other.t (a int)",
    "CREATE TABLE `t` (a int) DATA DIRECTORY='/tmp'",
    "CREATE TABLE `t` (a int) INDEX DIRECTORY='/tmp'",
    "CREATE TABLE `t` (a int) /*M! DATA DIRECTORY='/tmp' */",
    "CREATE TABLE `t` (a int) /*!50000 DATA DIRECTORY='/tmp' */",
    "CREATE TABLE `t` (a int) /*! DATA */ DIRECTORY='/tmp'",
    "CREATE TABLE `t` (a int) COMMENT \"a\\\"\" DATA DIRECTORY='/tmp'",
    "CREATE TABLE `t` (a int) COMMENT 'a\\'' DATA DIRECTORY='/tmp'",
    "CREATE TABLE `t` (a int) ENGINE=FEDERATED CONNECTION='mysql://x@192.0.2.1/d/t'",
    "CREATE TABLE `t` (a int) ENGINE=CONNECT TABLE_TYPE=DOS FILE_NAME='/etc/passwd'",
    "CREATE TABLE `t` (a int) ENGINE='FEDERATED'",
    "CREATE TABLE `t` (a int) ENGINE=SPIDER",
    "CREATE TABLE `t` (a int) ENGINE=S3",
    "CREATE TABLE `t` (a int) TABLESPACE `x`",
    "CREATE TABLE `t` (a int) UNION=(`other`.`x`)",
    "CREATE TABLE `t` (a int) AS SELECT sleep(300)",
    "CREATE TABLE `t` (a int) SELECT sleep(300)",
    "CREATE TABLE `t` (a int) IGNORE AS SELECT 1",
    "CREATE TABLE `t` LIKE `other`.`u`",
    "CREATE TABLE `t` AS SELECT 1",
    "CREATE TABLE `t` (a int) PARTITION BY HASH (`a`) (PARTITION p DATA DIRECTORY = '/tmp' ENGINE = InnoDB)",
    "CREATE TABLE `t` (a int) PARTITION BY HASH (`a`) (PARTITION p TABLESPACE = x ENGINE = InnoDB)",
    "CREATE TABLE `t` (a text /*!50000 COMMENT '*/ DROP TABLE v; -- ' */)",
    "CREATE TABLE `t` (a int) /*!50000 COMMENT='/*' */",
    "CREATE TABLE `t` (a int) /*!50000 ENGINE=InnoDB",
    "CREATE DEFINER=`root`@`localhost` VIEW v AS SELECT 1",
    "CREATE DEFINER=root TRIGGER g BEFORE INSERT ON t FOR EACH ROW SET @a = 1",
    "CREATE FUNCTION f RETURNS STRING SONAME 'evil.so'",
    "CREATE AGGREGATE FUNCTION f RETURNS STRING SONAME 'evil.so'",
    "CREATE TRIGGER g BEFORE INSERT ON t FOR EACH ROW SET @a = 1; DROP TABLE v; SET @b = 2",
    "CREATE SERVER s FOREIGN DATA WRAPPER mysql OPTIONS (HOST '192.0.2.1')",
];
const POSTGRES_ALONE: [&str; 66] = [
    "DROP TABLE t",
    "GRANT ALL ON t TO x",
    "CREATE ROLE x",
    "ALTER ROLE postgres SUPERUSER",
    "SET ROLE postgres",
    "SET SESSION AUTHORIZATION x",
    "SET search_path = a, b",
    "SET search_path = pg_read_file('/etc/passwd')",
    "RESET ALL",
    "DO $$BEGIN END$$",
    "COPY t FROM PROGRAM 'x'",
    "COPY t TO '/tmp/x'",
    "SELECT 1",
    "SELECT pg_read_file('/etc/passwd')",
    "SELECT pg_catalog.pg_read_file('/etc/passwd')",
    "SELECT pg_catalog.setval('s', pg_sleep(9), true)",
    "SELECT pg_catalog.setval('s', 1, true), f()",
    "SELECT pg_catalog.setval('s', 1, true) FROM pg_sleep(9)",
    "SELECT pg_catalog.setval('s', 1, f())",
    "SELECT pg_catalog.lo_create(0)",
    "SELECT pg_catalog.lo_create(16500), f()",
    "SELECT pg_catalog.lo_create(f())",
    "SELECT pg_catalog.lo_import('/etc/passwd')",
    "SELECT pg_catalog.lo_export(1, '/tmp/x')",
    "SELECT pg_catalog.lo_unlink(16500)",
    "INSERT INTO t VALUES (1)",
    "CREATE TABLE t (a text) AS SELECT pg_read_file('/etc/passwd')",
    "CREATE TABLE t AS SELECT pg_read_file('/etc/passwd')",
    "CREATE TABLE t AS TABLE pg_authid",
    "CREATE TABLE t (a) AS EXECUTE p",
    "CREATE TEMPORARY TABLE t (a int)",
    "CREATE FOREIGN TABLE t (a int) SERVER s",
    "CREATE TABLE t (a int) TABLESPACE x",
    "CREATE TABLE t (a int) ON COMMIT DROP",
    "CREATE TABLE t (LIKE pg_authid INCLUDING ALL) AS SELECT 1",
    "CREATE SERVER x FOREIGN DATA WRAPPER y",
    "CREATE LANGUAGE plperlu",
    "CREATE EVENT TRIGGER g ON ddl_command_start EXECUTE FUNCTION f()",
    "CREATE PUBLICATION p FOR ALL TABLES",
    "CREATE SUBSCRIPTION s CONNECTION 'host=192.0.2.1' PUBLICATION p",
    "CREATE CAST (a AS b) WITHOUT FUNCTION",
    "CREATE OPERATOR + (leftarg = a, function = f)",
    "CREATE FUNCTION f() RETURNS int LANGUAGE c AS '/x.so'",
    "CREATE FUNCTION f() RETURNS int LANGUAGE 'C' AS '/x.so', 'f'",
    "CREATE FUNCTION f() RETURNS int LANGUAGE internal AS 'x'",
    "CREATE FUNCTION f() RETURNS int AS '/x.so'",
    "CREATE FUNCTION f() RETURNS int LANGUAGE sql LANGUAGE c AS '/x.so'",
    "ALTER TABLE t OWNER TO x",
    "ALTER TABLE t SET SCHEMA x",
    "ALTER TABLE t SET TABLESPACE x",
    "ALTER TABLE t RENAME TO x",
    "ALTER TABLE t ALTER COLUMN a TYPE text USING pg_read_file('/etc/passwd')",
    "ALTER TABLE t ADD CONSTRAINT c CHECK (true), OWNER TO x",
    "ALTER TABLE t ADD CONSTRAINT p PRIMARY KEY (a), DROP COLUMN b",
    "ALTER TABLE t ADD CONSTRAINT p PRIMARY KEY (a) USING INDEX TABLESPACE x",
    "ALTER TABLE t ADD COLUMN a text DEFAULT pg_read_file('/etc/passwd')",
    "ALTER TABLE t ALTER COLUMN a SET DEFAULT 5, OWNER TO x",
    "ALTER TABLE t ENABLE ROW LEVEL SECURITY, OWNER TO x",
    "ALTER TABLE t INHERIT pg_authid",
    "ALTER SYSTEM SET archive_command = 'x'",
    "ALTER SEQUENCE s OWNER TO x",
    "ALTER INDEX i SET TABLESPACE x",
    "COMMENT ON ROLE postgres IS 'x'",
    "COMMENT ON DATABASE d IS 'x'",
    "COMMENT ON TABLE t IS pg_read_file('x')",
    "CREATE INDEX i ON t USING btree (a) TABLESPACE x",
];
const SQLITE_ALONE: [&str; 58] = [
    "ATTACH 'x' AS y",
    "DETACH y",
    "VACUUM INTO '/tmp/x'",
    "VACUUM",
    "COMMIT",
    "BEGIN",
    "ROLLBACK",
    "SAVEPOINT x",
    "RELEASE x",
    "DROP TABLE t",
    "ALTER TABLE t RENAME TO u",
    "SELECT load_extension('x')",
    "SELECT 1",
    "UPDATE t SET a = 1",
    "REINDEX",
    "INSERT INTO t VALUES (1)",
    "INSERT INTO \"w\" (\"w\") VALUES ('rebuild'), ('x')",
    "INSERT INTO \"w\" (\"v\") VALUES ('rebuild')",
    "INSERT INTO \"w\" (\"w\") SELECT 'rebuild'",
    "INSERT INTO \"w\" (\"w\") VALUES ('delete-all')",
    "INSERT INTO sqlite_master (sqlite_master) VALUES ('rebuild')",
    "DELETE FROM sqlite_master",
    "DELETE FROM sqlite_schema",
    "DELETE FROM t WHERE load_extension('x')",
    "DELETE FROM t RETURNING load_extension('x')",
    "PRAGMA writable_schema = ON",
    "PRAGMA writable_schema",
    "PRAGMA temp_store_directory = '/tmp'",
    "PRAGMA trusted_schema = 1",
    "PRAGMA user_version",
    "PRAGMA user_version(5)",
    "PRAGMA user_version = 'x'",
    "PRAGMA main.user_version = 5",
    "PRAGMA journal_mode = 'x'; ATTACH '1' AS x",
    "PRAGMA journal_mode = wal2",
    "PRAGMA encoding = 'x''y'",
    "PRAGMA [user_version] = 5 x",
    "PRAGMA page_size = 4096 + 1",
    "CREATE TABLE t AS SELECT load_extension('x')",
    "CREATE TABLE t (a) AS SELECT 1",
    "CREATE TABLE other.t (a)",
    "CREATE TEMP TABLE t (a)",
    "CREATE TABLE sqlite_x (a)",
    "CREATE TABLE t",
    "CREATE TABLE t (a))",
    "CREATE TABLE t (a",
    "CREATE TABLE t (a) WITHOUT",
    "CREATE TABLE [a'] (b); ATTACH 'c' AS d",
    "CREATE VIRTUAL TABLE v USING csv(filename = '/etc/passwd')",
    "CREATE VIRTUAL TABLE v USING fts5(a) x",
    "CREATE VIRTUAL TABLE v USING dbstat",
    "CREATE VIRTUAL TABLE v USING fts5(a), csv(b)",
    "CREATE TRIGGER g AFTER INSERT ON t BEGIN SELECT 1; END -- x\n; COMMIT; ATTACH '/x' AS y",
    "CREATE TRIGGER g AFTER INSERT ON t BEGIN SELECT 1; END; ATTACH 'x' AS y",
    "CREATE TRIGGER g AFTER INSERT ON t BEGIN SELECT 1; END ATTACH 'x' AS y",
    "CREATE TEMP TRIGGER g AFTER INSERT ON t BEGIN SELECT 1; END",
    "CREATE VIEW v AS SELECT 1; ATTACH 'x' AS y",
    "ANALYZE sqlite_master",
];

/// Odd statements that packing can write, or that a hand can have written at the source.
const MARIADB_ODD: [&str; 46] = [
    "CREATE TABLE `a;b` (`x``y` int(11) NOT NULL DEFAULT 5 COMMENT 'it''s; \\'; --') ENGINE=InnoDB",
    "CREATE TABLE `t` (`a` enum('x;','y''','/*z*/','\\\\') CHARACTER SET latin1 COLLATE latin1_bin DEFAULT 'x;')",
    "CREATE TABLE `t` (`a` set('1','2') NOT NULL DEFAULT '')",
    "CREATE TABLE `t` (`a` bigint(20) unsigned NOT NULL AUTO_INCREMENT, PRIMARY KEY (`a`)) ENGINE=MyISAM AUTO_INCREMENT=7 DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin PACK_KEYS=1 ROW_FORMAT=DYNAMIC CHECKSUM=1 DELAY_KEY_WRITE=1",
    "CREATE TABLE `t` (`a` decimal(10,2) unsigned zerofill DEFAULT 0.00, `b` double DEFAULT -1.5e-3)",
    "CREATE TABLE `t` (`a` timestamp(6) NOT NULL DEFAULT current_timestamp(6) ON UPDATE current_timestamp(6))",
    "CREATE TABLE `t` (`a` timestamp NULL DEFAULT NULL)",
    "CREATE TABLE `t` (`a` longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin DEFAULT NULL CHECK (json_valid(`a`)))",
    "CREATE TABLE `t` (`a` int(11) GENERATED ALWAYS AS (`b` + 1) VIRTUAL, `b` int(11) DEFAULT (1 + 2), KEY `k` (`b` DESC))",
    "CREATE TABLE `t` (`a` int(11) GENERATED ALWAYS AS (`b` * 2) STORED COMMENT 'x', `b` int(11))",
    "CREATE TABLE `t` (`a` varchar(20) DEFAULT concat('a',';','b'), `b` bit(8) DEFAULT b'101', `c` binary(2) DEFAULT x'4142')",
    "CREATE TABLE `t` (`a` int(11) INVISIBLE DEFAULT 1 COMMENT 'x', CONSTRAINT `c` CHECK (`a` > 0 and `b` in (1,2)))",
    "CREATE TABLE `t` (`a` text /*!100301 COMPRESSED*/ DEFAULT NULL, `b` text /*M!100301 COMPRESSED*/ NOT NULL)",
    "CREATE TABLE `t` (`a` int(11), FULLTEXT KEY `f` (`a`), SPATIAL KEY `s` (`g`), UNIQUE KEY `u` (`a`(10),`b`) USING HASH COMMENT 'x')",
    "CREATE TABLE `t` (`a` int, KEY `k` (`a`) KEY_BLOCK_SIZE=8 IGNORED, KEY `l` ((lower(`a`))) /*!80000 INVISIBLE */)",
    "CREATE TABLE `t` (`a` int, FULLTEXT KEY `f` (`a`) /*!50100 WITH PARSER `ngram` */ )",
    "CREATE TABLE `t` (`a` int NOT NULL /*!80023 INVISIBLE */, `b` point NOT NULL /*!80003 SRID 4326 */)",
    "CREATE TABLE `t` (`a` int, CONSTRAINT `c` CHECK ((`a` > 0)) /*!80016 NOT ENFORCED */)",
    "CREATE TABLE `t` (`a` int(11)) ENGINE=InnoDB WITH SYSTEM VERSIONING",
    "CREATE TABLE `t` (`a` int(11), `s` timestamp(6) GENERATED ALWAYS AS ROW START, `e` timestamp(6) GENERATED ALWAYS AS ROW END, PERIOD FOR SYSTEM_TIME (`s`, `e`)) WITH SYSTEM VERSIONING",
    "CREATE TABLE `t` (`a` int(11) WITHOUT SYSTEM VERSIONING, PRIMARY KEY (`a`, `p` WITHOUT OVERLAPS), PERIOD FOR `p` (`b`, `c`))",
    "CREATE TABLE `t` (`a` int) ENGINE=InnoDB `PAGE_COMPRESSED`=1 `ENCRYPTED`=YES `ENCRYPTION_KEY_ID`=2",
    "CREATE TABLE `t` (`a` int) ENGINE=MRG_MyISAM INSERT_METHOD=LAST UNION=(`b`,`c`)",
    "CREATE TABLE `t` (`a` int) ENGINE=Aria PAGE_CHECKSUM=1 TRANSACTIONAL=1",
    "CREATE TABLE `t` (`d` date) ENGINE=InnoDB\n PARTITION BY RANGE (year(`d`))\nSUBPARTITION BY HASH (to_days(`d`))\nSUBPARTITIONS 2\n(PARTITION `p0` VALUES LESS THAN (2000) ENGINE = InnoDB,\n PARTITION `p1` VALUES LESS THAN MAXVALUE ENGINE = InnoDB)",
    "CREATE TABLE `t` (`d` int)\n/*!50100 PARTITION BY LIST (`d`)\n(PARTITION p VALUES IN (1,2) COMMENT = 'x' ENGINE = InnoDB) */",
    "CREATE TABLE `t` (`d` int) PARTITION BY LINEAR KEY (`d`) PARTITIONS 4",
    "CREATE TABLE `t` (`d` int) PARTITION BY KEY /*!50611 ALGORITHM = 1 */ (`d`) PARTITIONS 4",
    "CREATE TABLE `t` (`d` int) WITH SYSTEM VERSIONING PARTITION BY SYSTEM_TIME INTERVAL 1 MONTH STARTS TIMESTAMP'2026-01-01 00:00:00' (PARTITION `h` HISTORY ENGINE = InnoDB, PARTITION `c` CURRENT ENGINE = InnoDB)",
    "CREATE TABLE `t` (`d` int) PARTITION BY RANGE  COLUMNS(`d`) (PARTITION `p` VALUES LESS THAN (5) MAX_ROWS = 3 ENGINE = InnoDB)",
    "CREATE SEQUENCE `s ;1` start with 1 minvalue -9 maxvalue 9223372036854775806 increment by -1 nocache cycle ENGINE=MyISAM COMMENT='x'",
    "ALTER TABLE `t` ALTER COLUMN `a` SET DEFAULT (nextval(`s`) * 2)",
    "ALTER TABLE `t` ADD CONSTRAINT `f;` FOREIGN KEY (`a`,`b`) REFERENCES `p` (`x`,`y`) ON DELETE SET NULL ON UPDATE NO ACTION",
    "CREATE VIEW `v` AS select `a;`.`x` AS `;`,'; DROP' AS `b` from `a;` where `x` = ';' -- end",
    "CREATE OR REPLACE ALGORITHM=MERGE SQL SECURITY INVOKER VIEW `v` (`a`,`b`) AS select 1,2 WITH CASCADED CHECK OPTION",
    "CREATE VIEW `v` AS (select 1) union (select 2)",
    "CREATE TRIGGER `g` BEFORE UPDATE ON `t` FOR EACH ROW FOLLOWS `h` SET NEW.a = concat(';', NEW.b)",
    "CREATE TRIGGER `g` AFTER INSERT ON `t` FOR EACH ROW lab: BEGIN IF NEW.a THEN SET @x = 1; ELSE SET @x = 2; END IF; END lab",
    "CREATE TRIGGER `g` AFTER INSERT ON `t` FOR EACH ROW IF NEW.a THEN SET @x = 1; END IF",
    "CREATE PROCEDURE `p`(IN `a` int, OUT `b` varchar(10)) READS SQL DATA SQL SECURITY INVOKER COMMENT 'it''s' BEGIN DECLARE c CURSOR FOR SELECT 1; WHILE a DO SET a = a - 1; END WHILE; END",
    "CREATE PROCEDURE `p`() SELECT ';' AS `x`",
    "CREATE FUNCTION `f`(`a` int) RETURNS varchar(10) CHARSET utf8mb4 DETERMINISTIC RETURN case a when 1 then 'x;' else 'y' end",
    "CREATE AGGREGATE FUNCTION `f`(`x` int) RETURNS int(11) BEGIN LOOP FETCH GROUP NEXT ROW; END LOOP; END",
    "CREATE EVENT `e` ON SCHEDULE AT '2026-12-01 00:00:00' ON COMPLETION PRESERVE DISABLE COMMENT 'x' DO DELETE FROM `t`",
    "CREATE EVENT `e` ON SCHEDULE EVERY '1:30' HOUR_MINUTE STARTS '2026-01-01 00:00:00' ENDS '2027-01-01 00:00:00' ON COMPLETION NOT PRESERVE DISABLE ON SLAVE DO BEGIN SET @a = 1; SET @b = 2; END",
    "-- only a comment",
];
const POSTGRES_ODD: [&str; 52] = [
    "CREATE TABLE \"a;\"\"b\" (\n  \"x y\" character varying(20) DEFAULT 'it''s; --'::character varying NOT NULL\n)",
    "CREATE TABLE \"t\" (\n  \n)",
    "CREATE TABLE \"t\" (\n  a bigint GENERATED ALWAYS AS IDENTITY (SEQUENCE NAME t_a_seq INCREMENT BY 1 MINVALUE 1 MAXVALUE 9 START WITH 1 CACHE 1) NOT NULL\n)",
    "CREATE TABLE \"t\" (\n  a bigint GENERATED BY DEFAULT AS IDENTITY (SEQUENCE NAME \"T\" INCREMENT BY 1 MINVALUE 1 MAXVALUE 9 START WITH 1 CACHE 1 CYCLE) NOT NULL\n)",
    "CREATE TABLE \"t\" (\n  a numeric(10,2) GENERATED ALWAYS AS ((b * 2)) STORED,\n  b integer[] DEFAULT '{1,2}'::integer[],\n  c app.mood DEFAULT 'a'::app.mood\n)",
    "CREATE TABLE \"t\" (\n  a timestamp(3) with time zone DEFAULT (now() + '1 day'::interval) NOT NULL,\n  b text COMPRESSION lz4 COLLATE \"C\" DEFAULT ''::text\n)",
    "CREATE TABLE \"t\" (\n  a interval day to second(3),\n  b bit varying(5) DEFAULT '101'::\"bit\",\n  c double precision\n)",
    "CREATE TABLE \"t\" (\n  a text,\n  CONSTRAINT \"c;\" CHECK (((a ~ '^[a-z;]+$'::text) AND (length(a) < 5))) NO INHERIT\n) INHERITS (p, app.q)",
    "CREATE TABLE \"t\" (\n  a date\n) PARTITION BY RANGE (a, date_trunc('month'::text, (a)::timestamp without time zone))",
    "CREATE TABLE \"t\" (\n  a text\n) USING heap2 WITH (fillfactor = '70', toast.autovacuum_enabled = 'false')",
    "CREATE UNLOGGED SEQUENCE \"s\" AS integer INCREMENT BY -1 MINVALUE -9 MAXVALUE -1 START WITH -1 CACHE 1",
    "SELECT pg_catalog.setval('\"it''s\"', -5, false)",
    "ALTER SEQUENCE \"s\" OWNED BY app.\"T\".\"a b\"",
    "ALTER TABLE ONLY app.\"t;\" ADD CONSTRAINT \"p;\" PRIMARY KEY (a) INCLUDE (b) WITH (fillfactor='70') DEFERRABLE",
    "ALTER TABLE ONLY t ADD CONSTRAINT u UNIQUE NULLS NOT DISTINCT (a)",
    "ALTER TABLE ONLY t ADD CONSTRAINT x EXCLUDE USING gist (r WITH &&, a WITH =) WHERE ((a > 5))",
    "ALTER TABLE t ADD CONSTRAINT c CHECK ((a > 0)) NOT VALID",
    "ALTER TABLE t ADD CONSTRAINT f FOREIGN KEY (a, b) REFERENCES app.\"u;\"(a, b) MATCH FULL ON UPDATE CASCADE ON DELETE SET NULL (b) NOT VALID",
    "ALTER TABLE ONLY p ATTACH PARTITION q FOR VALUES FROM ('2026-01-01') TO (MAXVALUE)",
    "ALTER TABLE ONLY p ATTACH PARTITION q FOR VALUES IN ('a', NULL)",
    "ALTER TABLE ONLY p ATTACH PARTITION q FOR VALUES WITH (modulus 4, remainder 1)",
    "ALTER TABLE ONLY p ATTACH PARTITION q DEFAULT",
    "ALTER INDEX i ATTACH PARTITION j",
    "ALTER TABLE ONLY t ALTER COLUMN a SET DEFAULT nextval('s'::regclass)",
    "ALTER TABLE ONLY t ALTER COLUMN a SET STORAGE EXTERNAL",
    "ALTER TABLE ONLY t ALTER COLUMN a SET STATISTICS 500",
    "ALTER TABLE ONLY t ALTER COLUMN a SET (n_distinct = '5')",
    "ALTER TABLE t FORCE ROW LEVEL SECURITY",
    "ALTER TABLE t ENABLE REPLICA TRIGGER g",
    "ALTER TABLE t DISABLE RULE \"r;\"",
    "ALTER TABLE t CLUSTER ON i",
    "ALTER TABLE ONLY t REPLICA IDENTITY USING INDEX i",
    "ALTER TABLE ONLY t REPLICA IDENTITY FULL",
    "CREATE UNIQUE INDEX \"i;\" ON ONLY app.t USING btree (a DESC NULLS LAST, (lower(b)) COLLATE \"C\" text_pattern_ops) INCLUDE (c) NULLS NOT DISTINCT WITH (fillfactor='70') WHERE ((a > 5) AND (b <> ';'::text))",
    "CREATE INDEX i ON t USING gin (to_tsvector('english'::regconfig, a))",
    "CREATE VIEW \"v\" WITH (security_barrier = 'true') AS\n SELECT ';'::text AS \";\", $$;$$ AS b",
    "CREATE MATERIALIZED VIEW \"m\" AS\n WITH x AS (SELECT 1) SELECT * FROM x WITH NO DATA",
    "REFRESH MATERIALIZED VIEW \"m\"",
    "CREATE CONSTRAINT TRIGGER g AFTER INSERT OR UPDATE OF a, b ON t DEFERRABLE INITIALLY DEFERRED FOR EACH ROW WHEN ((new.a > ';'::text)) EXECUTE FUNCTION app.f('it''s;')",
    "CREATE RULE r AS ON INSERT TO app.v DO INSTEAD ( INSERT INTO t VALUES (new.a); DELETE FROM u; )",
    "CREATE POLICY p ON t AS PERMISSIVE FOR SELECT TO PUBLIC USING ((a = CURRENT_USER))",
    "CREATE OR REPLACE FUNCTION f(a integer DEFAULT 5, VARIADIC b text[] DEFAULT '{}'::text[])\n RETURNS TABLE(x integer, y text)\n LANGUAGE plpgsql\n STABLE STRICT SECURITY DEFINER\n SET search_path TO 'app'\nAS $function$ BEGIN; $x$ ; END $function$",
    "CREATE OR REPLACE PROCEDURE p(INOUT a integer)\n LANGUAGE sql\nBEGIN ATOMIC\n SELECT CASE WHEN a > 1 THEN 2 END;\n SELECT 1;\nEND",
    "CREATE FUNCTION \"f;\"() RETURNS trigger LANGUAGE 'plpgsql' AS 'begin return new; end'",
    "CREATE AGGREGATE app.a (integer, text ORDER BY integer) (SFUNC = f, STYPE = integer, INITCOND = '0;')",
    "CREATE TYPE \"t\" AS (a integer, b text COLLATE \"C\")",
    "CREATE TYPE \"r\" AS RANGE (SUBTYPE = integer, MULTIRANGE_TYPE_NAME = rr)",
    "CREATE DOMAIN \"d\" AS character varying(9) COLLATE \"C\" DEFAULT 'x'::character varying NOT NULL CONSTRAINT c CHECK (((VALUE)::text ~ ';'::text)) CONSTRAINT e CHECK ((VALUE IS NOT NULL))",
    "CREATE COLLATION \"c\" (provider = icu, locale = 'de-u-co-phonebk', deterministic = false)",
    "CREATE STATISTICS s (ndistinct, dependencies) ON a, b, (lower(c)) FROM app.t",
    "COMMENT ON COLUMN t.\"a;\" IS 'it''s; DROP TABLE x'",
    "COMMENT ON FUNCTION f(integer, text) IS NULL",
];
const SQLITE_ODD: [&str; 44] = [
    "CREATE TABLE \"a;\"\"b\" (\"x\ty\" TEXT DEFAULT ';', [z;'] BLOB)",
    "CREATE TABLE t(a,b,c)",
    "CREATE TABLE IF NOT EXISTS t (a)",
    "CREATE TABLE 't' (a)",
    "CREATE TABLE `t` (`a`)",
    "CREATE TABLE t /* ; */ (a -- ;\n, b)",
    "CREATE TABLE t (a INTEGER PRIMARY KEY AUTOINCREMENT, b REAL NOT NULL DEFAULT (1.5 + 2), c AS (a * 2) STORED)",
    "CREATE TABLE t (a INT REFERENCES u (b) ON DELETE CASCADE DEFERRABLE INITIALLY DEFERRED, CHECK (a > 0 AND a <> ';'))",
    "CREATE TABLE t (a TEXT COLLATE NOCASE, UNIQUE (a, b) ON CONFLICT REPLACE, PRIMARY KEY (a)) WITHOUT ROWID, STRICT",
    "CREATE TABLE t (a TEXT) STRICT, WITHOUT ROWID",
    "CREATE TABLE \"ünï\" (a)",
    "CREATE TABLE t (\"a\"\"b\" DEFAULT \"x;\")",
    "CREATE TABLE t (a DEFAULT x'3b')",
    "CREATE TABLE t (a VARCHAR(255), b DECIMAL(10, 2))",
    "CREATE TABLE t (a DEFAULT CURRENT_TIMESTAMP)",
    "CREATE TABLE t (a DEFAULT -5)",
    "CREATE INDEX \"i;\" ON \"t;\" (\"a;\" COLLATE NOCASE DESC, b)",
    "CREATE INDEX i ON t (json_extract(a, '$.x;'))",
    "CREATE UNIQUE INDEX i ON t (a) WHERE b IS NOT NULL AND c <> ';'",
    "CREATE INDEX IF NOT EXISTS i ON t(a)",
    "CREATE VIEW v (a, b) AS SELECT ';', \";\" FROM t -- end;",
    "CREATE VIEW v AS WITH RECURSIVE n(x) AS (SELECT 1 UNION ALL SELECT x + 1 FROM n WHERE x < 5) SELECT x FROM n",
    "CREATE VIEW [v;] AS SELECT 1",
    "CREATE VIEW IF NOT EXISTS v AS VALUES (1), (2)",
    "CREATE TRIGGER g BEFORE INSERT ON t BEGIN SELECT RAISE(ABORT, ';'); END",
    "CREATE TRIGGER g AFTER UPDATE OF a, b ON t FOR EACH ROW WHEN new.a <> ';' BEGIN UPDATE t SET b = ';' WHERE a = new.a; DELETE FROM u; END",
    "CREATE TRIGGER g INSTEAD OF DELETE ON v BEGIN DELETE FROM t; END",
    "CREATE TRIGGER IF NOT EXISTS g DELETE ON t BEGIN SELECT CASE WHEN 1 THEN 2 END; END",
    "CREATE TRIGGER g AFTER INSERT ON t BEGIN SELECT 1; /* END; */ SELECT 2; -- END;\n END",
    "CREATE TRIGGER [g;] AFTER INSERT ON [t;] BEGIN INSERT INTO u VALUES (new.a, ';'); END",
    "CREATE TRIGGER g AFTER INSERT ON t BEGIN SELECT 1; END;",
    "CREATE VIRTUAL TABLE w USING fts5(a, b, content='t', content_rowid='id', tokenize = 'porter ascii')",
    "CREATE VIRTUAL TABLE w USING FTS4(a TEXT, tokenize=unicode61 \"remove_diacritics=0\")",
    "CREATE VIRTUAL TABLE IF NOT EXISTS w USING rtree(id, x0, x1, +label TEXT)",
    "CREATE VIRTUAL TABLE w USING geopoly(a)",
    "PRAGMA user_version = -5",
    "PRAGMA application_id = 1196444487",
    "PRAGMA page_size = 65536",
    "PRAGMA auto_vacuum = 2",
    "PRAGMA encoding = 'UTF-16le'",
    "PRAGMA journal_mode = delete",
    "PRAGMA foreign_keys = OFF",
    "DELETE FROM \"w;_data\"",
    "DELETE FROM sqlite_sequence",
];

fn parse(dialect: Dialect, sql: &str) -> Result<Statement, String> {
    let parsed = Statement::parse(dialect, Modes::default(), sql.as_bytes());
    parsed.map_err(|error| error.to_string())
}

fn hostile(dialect: Dialect) -> Vec<String> {
    let (shapes, alone): (&[&str], &[&str]) = match dialect {
        Dialect::Mariadb => (&MARIADB, &MARIADB_ALONE),
        Dialect::Postgres => (&POSTGRES, &POSTGRES_ALONE),
        Dialect::Sqlite => (&SQLITE, &SQLITE_ALONE),
    };
    let behind = shapes.iter().flat_map(|shape| BEHIND.map(|tail| format!("{shape}{tail}")));
    behind.chain(alone.iter().map(|sql| (*sql).to_owned())).collect()
}

fn odd(dialect: Dialect) -> Vec<String> {
    let (shapes, odd): (&[&str], &[&str]) = match dialect {
        Dialect::Mariadb => (&MARIADB, &MARIADB_ODD),
        Dialect::Postgres => (&POSTGRES, &POSTGRES_ODD),
        Dialect::Sqlite => (&SQLITE, &SQLITE_ODD),
    };
    // Comments in the middle, and other letters.
    let spaced = shapes.iter().flat_map(|shape| {
        [
            (*shape).to_owned(),
            format!("/* ; ' */ -- '\n{shape}"),
            format!("{shape} /* ; DROP TABLE victim; */"),
            format!("{shape} -- ; DROP TABLE victim"),
        ]
    });
    spaced.chain(odd.iter().map(|sql| (*sql).to_owned())).collect()
}

const DIALECTS: [Dialect; 3] = [Dialect::Sqlite, Dialect::Mariadb, Dialect::Postgres];

#[test]
fn hostile_statements_are_refused_with_a_reason() {
    for dialect in DIALECTS {
        let corpus = hostile(dialect);
        assert!(corpus.len() >= 150, "{dialect:?}: {}", corpus.len());
        for sql in corpus {
            let refused = parse(dialect, &sql).expect_err(&format!("{dialect:?} takes: {sql}"));
            assert!(refused.starts_with("a statement that"), "{sql}: {refused}");
        }
    }
}

#[test]
fn odd_statements_are_taken_and_made_anew_as_they_are() {
    for dialect in DIALECTS {
        let corpus = odd(dialect);
        assert!(corpus.len() >= 100, "{dialect:?}: {}", corpus.len());
        for sql in corpus {
            let taken =
                parse(dialect, &sql).unwrap_or_else(|why| panic!("{dialect:?} {sql}: {why}"));
            // What is made anew is understood in the same way.
            let Some(made) = taken.sql() else { continue };
            assert_eq!(parse(dialect, made).as_ref(), Ok(&taken), "{sql}");
        }
    }
}

#[test]
fn what_packing_writes_comes_out_as_it_went_in() {
    for (dialect, corpus) in [
        (Dialect::Mariadb, MARIADB_ODD.as_slice()),
        (Dialect::Postgres, POSTGRES_ODD.as_slice()),
        (Dialect::Sqlite, SQLITE_ODD.as_slice()),
    ] {
        for sql in corpus.iter().chain(MARIADB.iter().filter(|_| dialect == Dialect::Mariadb)) {
            if let Some(made) = parse(dialect, sql).expect(sql).sql() {
                assert_eq!(made, *sql, "{dialect:?}");
            }
        }
    }
}

#[test]
fn a_comment_leaves_nothing_behind_in_a_statement_that_is_made_anew() {
    let sql = "CREATE TABLE /* x */ `t` (`a` int # y\n) -- z\nENGINE=InnoDB";
    let taken = parse(Dialect::Mariadb, sql).unwrap();
    assert_eq!(taken.sql().unwrap(), "CREATE TABLE `t` (`a` int ) ENGINE=InnoDB");
    let modes = Modes::of_sql_mode("NO_BACKSLASH_ESCAPES,ANSI_QUOTES");
    let sql = "CREATE TABLE \"t`\" (\"a\" text DEFAULT 'C:\\' COMMENT 'x\\')";
    let taken = Statement::parse(Dialect::Mariadb, modes, sql.as_bytes()).unwrap();
    assert_eq!(
        taken.sql().unwrap(),
        "CREATE TABLE `t``` (`a` text DEFAULT 'C:\\\\' COMMENT 'x\\\\')"
    );
}

proptest! {
    /// Whatever is put into a statement of the shapes, what passes is one statement to the
    /// lexer, and is made anew in the same way again.
    #[test]
    fn nothing_hides_in_a_statement(
        dialect in prop::sample::select(DIALECTS.to_vec()),
        which in any::<prop::sample::Index>(),
        place in any::<prop::sample::Index>(),
        what in prop::sample::select(vec![
            ";", "'", "\"", "`", "]", "[", "\\", "--", "#", "/*", "*/", "/*!", "/*!50000 ", "$$",
            "(", ")", "; DROP TABLE v; ", "/*! ; */", "\n", "E'", "x'", "DELIMITER ;", ",", "\u{1}",
        ]),
    ) {
        let shapes: &[&str] = match dialect {
            Dialect::Mariadb => &MARIADB,
            Dialect::Postgres => &POSTGRES,
            Dialect::Sqlite => &SQLITE,
        };
        let shape = which.get(shapes);
        let place = place.index(shape.len() + 1);
        if !shape.is_char_boundary(place) {
            return Ok(());
        }
        let sql = format!("{}{what}{}", &shape[..place], &shape[place..]);
        let Ok(taken) = parse(dialect, &sql) else { return Ok(()) };
        let Some(made) = taken.sql() else { return Ok(()) };
        let again = parse(dialect, made);
        prop_assert_eq!(again.as_ref(), Ok(&taken));
        // A reader of scripts cuts nothing out of it, but in bodies that hold several.
        let mut script = ScriptReader::new(dialect, made.as_bytes());
        if !taken.has_body() && !matches!(taken, Statement::Object { .. }) {
            let first = script.next_statement();
            let rest = script.next_statement();
            // A semicolon at the very end says nothing.
            let one = first.is_err() || matches!(rest, Ok(None));
            prop_assert!(one, "{}", made);
        }
    }
}
