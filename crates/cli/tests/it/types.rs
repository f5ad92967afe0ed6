//! Values of many types through a round trip on real databases.

use super::fixture;
use super::zoo::two_sites;
use fernweh_demo::database::{Database, Place};
use fernweh_demo::server::PrivateServer;
use fernweh_testkit::{Engine, database_cells};

const MARIADB: &str = r#"
SET NAMES utf8mb4
----
CREATE TABLE `gp_tä"b.l e` (`Spalte ä` INT PRIMARY KEY, `select` TEXT CHARACTER SET latin1,
    c CHAR(8) CHARACTER SET koi8r, u TEXT CHARACTER SET ucs2)
----
INSERT INTO `gp_tä"b.l e` VALUES (1, 'é http://glimmerpoint.example', 'привт', 'ucs2 ☃'), (0, '', '', NULL)
----
CREATE TABLE gp_types (id BIGINT UNSIGNED PRIMARY KEY AUTO_INCREMENT, b BIT(10), f FLOAT, d DOUBLE,
    dc DECIMAL(40,10), y YEAR, t TIME(3), dt DATETIME(6), ts TIMESTAMP(3) NULL, da DATE,
    e ENUM('a', 'ö', '''q') CHARACTER SET latin1, s SET('ß', 'y'), j JSON CHECK (json_valid(j)),
    bin BINARY(4), vb VARBINARY(10), bl LONGBLOB, g POINT, ip INET6, u UUID,
    gen INT AS (y * 2) STORED, gv INT AS (y * 3) VIRTUAL, inv INT INVISIBLE DEFAULT 7,
    UNIQUE KEY uq (e), FULLTEXT KEY ft (j)) COMMENT 'it''s; `x`'
----
SET sql_mode = 'ALLOW_INVALID_DATES'
----
INSERT INTO gp_types (id, b, f, d, dc, y, t, dt, ts, da, e, s, j, bin, vb, bl, g, ip, u) VALUES
    (18446744073709551614, b'1010101010', 16777216.5, 1e308/3, '123456789012345678901234567890.0123456789',
    2004, '-838:59:58.999', '0000-00-00 00:00:00', '2004-02-20 00:00:00', '2004-00-00', 'ö', 'ß,y',
    '{"a":"http:\\/\\/glimmerpoint.example"}', '\0a\0', 'x\0', x'000102ff275c', POINT(1, 2), '::1',
    '123e4567-e89b-12d3-a456-426614174000'),
    (1, NULL, 0.1, 0.1, NULL, NULL, NULL, '2004-05-06 07:08:09.123456', NULL, '2004-02-31', '''q', '', NULL,
    '', '', '', NULL, NULL, NULL)
----
CREATE TABLE gp_keyless (ip INET6, u UUID, f FLOAT, link TEXT)
----
INSERT INTO gp_keyless VALUES ('::2', '123e4567-e89b-12d3-a456-426614174001', 0.1, 'http://glimmerpoint.example'),
    (NULL, NULL, NULL, 'http://glimmerpoint.example')
----
CREATE TABLE gp_parent (id INT PRIMARY KEY, boss INT, CONSTRAINT fk_boss FOREIGN KEY (boss)
    REFERENCES gp_parent (id) ON DELETE SET NULL)
----
INSERT INTO gp_parent VALUES (1, 1), (2, 1)
----
CREATE TABLE gp_old_engine (id INT PRIMARY KEY, t TEXT) ENGINE=MyISAM
----
INSERT INTO gp_old_engine VALUES (0, 'http://glimmerpoint.example')
----
CREATE VIEW gp_second AS SELECT * FROM gp_parent
----
CREATE VIEW gp_first AS SELECT gp_second.id, e.t FROM gp_second JOIN gp_old_engine e WHERE e.t LIKE '%;%' OR 1
"#;

#[test]
fn values_of_every_common_type_of_mariadb_arrive_exactly() {
    let fixture = fixture(Engine::Mariadb);
    let mut old = fixture.database("old");
    for sql in MARIADB.split("----") {
        old.run(sql.trim().as_bytes()).unwrap_or_else(|error| panic!("{sql}: {error}"));
    }
    fixture.pack();
    fixture.workspace.done("unpack site.fernweh.tar new --as-is");
    let (before, after) = (database_cells(&fixture.old), database_cells(&fixture.new));
    for (place, cells) in before.iter() {
        assert_eq!(Some(cells), after.get(place), "{place}");
    }
    // Rewritten live, only texts change, whatever stands beside them.
    let report = fixture.workspace.done("rewrite new --apply --json").json();
    assert_eq!(report["refused"], serde_json::json!([]));
    assert_eq!(report["rewriting"]["columns"]["gp_keyless.link"]["changed"], 2);
    assert_ne!(after, database_cells(&fixture.new));
    fixture.workspace.done("undo new");
    assert_eq!(after, database_cells(&fixture.new));
}

const SQLITE: &str = r#"
PRAGMA user_version = 42;
PRAGMA application_id = 77;
CREATE TABLE gp_mixed (a INTEGER, b TEXT, c REAL, d BLOB, e, "f g" AS (a + 1) STORED) -- trailing; note
;
INSERT INTO gp_mixed (a, b, c, d, e) VALUES ('text', 5, 'x', 'y', x'00ff'),
    (9223372036854775807, x'ff', 1e300, 1.5, -0.0),
    (NULL, CAST(x'610062' AS TEXT), 9e999, -9e999, CAST(x'ff61' AS TEXT)),
    (0.1, '', 'http://glimmerpoint.example', x'', 1e-320);
CREATE TABLE gp_pair (x TEXT, y INT, PRIMARY KEY (x, y)) WITHOUT ROWID;
INSERT INTO gp_pair VALUES ('http://glimmerpoint.example', 1), ('b', 2);
CREATE TABLE gp_strict (n INT, t TEXT) STRICT;
INSERT INTO gp_strict VALUES (1, 'it''s ''; http://glimmerpoint.example');
CREATE TABLE gp_rowid (rowid TEXT, _rowid_ TEXT, oid TEXT PRIMARY KEY);
INSERT INTO gp_rowid VALUES ('a', 'http://glimmerpoint.example', 'c');
CREATE INDEX gp_partial ON gp_mixed (a) WHERE a IS NOT NULL;
CREATE TRIGGER gp_t AFTER UPDATE OF n ON gp_strict WHEN new.n = 1 BEGIN
    SELECT CASE WHEN 1 THEN 2 END; DELETE FROM gp_pair; END;
DELETE FROM gp_log WHERE rowid % 2 = 0;
"#;

#[test]
fn values_that_sqlite_allows_anywhere_arrive_exactly() {
    let fixture = fixture(Engine::Sqlite);
    fixture.database("old").run(SQLITE.as_bytes()).unwrap();
    fixture.pack();
    fixture.workspace.done("unpack site.fernweh.tar new --as-is");
    let (before, after) = (database_cells(&fixture.old), database_cells(&fixture.new));
    for (place, cells) in before.iter() {
        assert_eq!(Some(cells), after.get(place), "{place}");
    }
    fixture.workspace.done("rewrite new --apply");
    assert_ne!(after, database_cells(&fixture.new));
    fixture.workspace.done("undo new");
    assert_eq!(after, database_cells(&fixture.new));
}

#[test]
fn long_and_strange_names_of_tables_and_files_travel() {
    for engine in [Engine::Sqlite, Engine::Mariadb, Engine::Postgres] {
        let fixture = fixture(engine);
        let long = format!("gp_{}", "ä".repeat(50));
        let quote = if engine == Engine::Mariadb { '`' } else { '"' };
        for name in [long.as_str(), "gp_% 1'\\x", "gp_ORDER", "gp_select"] {
            let mut old = fixture.database("old");
            old.run(
                format!("CREATE TABLE {quote}{name}{quote} (a INT PRIMARY KEY, b TEXT)").as_bytes(),
            )
            .unwrap();
            old.run(format!("INSERT INTO {quote}{name}{quote} VALUES (1, 'x')").as_bytes())
                .unwrap();
        }
        let odd = ["new\nline", "tab\there", "-rf", "%41", " lead", "ünï☃", &"n".repeat(200)];
        for name in odd {
            std::fs::write(fixture.root("old").join(name), name).unwrap();
        }
        use std::os::unix::ffi::OsStrExt;
        let not_text = std::ffi::OsStr::from_bytes(b"not-\xff-text");
        std::fs::write(fixture.root("old").join(not_text), "x").unwrap();
        fixture.pack();
        fixture.workspace.done("unpack site.fernweh.tar new --as-is");
        assert_eq!(database_cells(&fixture.old), database_cells(&fixture.new), "{engine:?}");
        for name in odd {
            assert_eq!(std::fs::read_to_string(fixture.root("new").join(name)).unwrap(), name);
        }
        assert!(fixture.root("new").join(not_text).exists());
    }
}

#[test]
fn a_view_whose_table_is_gone_is_named_and_stops_nothing() {
    let fixture = fixture(Engine::Mariadb);
    for sql in [
        "CREATE TABLE gp_gone (a INT)",
        "CREATE VIEW gp_broken AS SELECT a FROM gp_gone",
        "DROP TABLE gp_gone",
    ] {
        fixture.database("old").run(sql.as_bytes()).unwrap();
    }
    fixture.pack();
    let ran = fixture.workspace.run("unpack site.fernweh.tar new").code(1);
    ran.says("refused").says("view gp_broken: 1146");
    assert!(fixture.database("new").ask("SELECT * FROM gp_newest").is_ok());
    fixture.workspace.done("undo new");
}

/// A record beyond what a statement held before.
#[test]
fn records_of_more_than_a_hundred_megabytes_come_back() {
    let folder = tempfile::tempdir().unwrap();
    let [old, new] = ["old", "new"].map(|name| folder.path().join(format!("{name}.db")));
    let noise = "CREATE TABLE films (id INTEGER PRIMARY KEY, note TEXT, film BLOB); \
                 INSERT INTO films VALUES (1, 'noise', randomblob(101000000)); \
                 INSERT INTO films VALUES (2, 'small', x'00ff')";
    rusqlite::Connection::open(&old).unwrap().execute_batch(noise).unwrap();
    let workspace = two_sites(&Place::Sqlite(old.clone()), &Place::Sqlite(new.clone()));
    workspace.done("pack old -o films.tar --level 1");
    workspace.done("show films.tar --verify").says("everything read");
    workspace.done("unpack films.tar new --as-is");
    let both = rusqlite::Connection::open(&new).unwrap();
    both.execute("ATTACH ?1 AS old", [old.to_str().unwrap()]).unwrap();
    let same = "SELECT count(*) FROM films n JOIN old.films o USING (id) \
                WHERE n.film IS o.film AND n.note IS o.note";
    assert_eq!(both.query_row(same, [], |row| row.get::<_, i64>(0)).unwrap(), 2);
}

/// Takes minutes and gigabytes: `cargo test --release -p fernweh --test it records_of_300 -- --ignored`.
#[test]
#[ignore = "needs minutes and gigabytes"]
fn records_of_300_megabytes_come_back_on_all_engines() {
    let megabytes =
        std::env::var("FERNWEH_TEST_MEGABYTES").map_or(300, |text| text.parse().unwrap());
    let bytes = megabytes * 1_000_000_usize;
    for engine in [Engine::Sqlite, Engine::Mariadb, Engine::Postgres] {
        let folder = tempfile::tempdir().unwrap();
        let open = std::os::unix::fs::PermissionsExt::from_mode(0o755);
        std::fs::set_permissions(folder.path(), open).unwrap();
        let server = engine
            .server()
            .map(|kind| PrivateServer::start(kind, &folder.path().join("server")).unwrap());
        let [old, new] = ["old", "new"].map(|name| match &server {
            Some(server) => server.make_database(name, &format!("u_{name}"), "pw").unwrap(),
            None => Place::Sqlite(folder.path().join(format!("{name}.db"))),
        });
        let film = match engine {
            Engine::Mariadb => {
                let mut admin = server.as_ref().unwrap().administrator().unwrap();
                admin.run(b"SET GLOBAL max_allowed_packet = 1073741824").unwrap();
                format!("REPEAT(UNHEX(SHA2(RAND(), 512)), {})", bytes / 64)
            }
            Engine::Postgres => format!("decode(repeat(md5('7'), {}), 'hex')", bytes / 16),
            _ => format!("randomblob({bytes})"),
        };
        let kind = match engine {
            Engine::Mariadb => "LONGBLOB",
            Engine::Postgres => "bytea",
            _ => "BLOB",
        };
        let mut database = Database::open(&old).unwrap();
        let made = format!("CREATE TABLE films (id INTEGER PRIMARY KEY, film {kind})");
        database.run(made.as_bytes()).unwrap();
        database.run(format!("INSERT INTO films VALUES (1, {film})").as_bytes()).unwrap();
        let workspace = two_sites(&old, &new);
        let archive = format!("{}.tar", folder.path().join("films").display());
        for line in [
            format!("pack old -o {archive}"),
            format!("show {archive} --verify"),
            format!("unpack {archive} new --as-is"),
        ] {
            let (ran, memory) = workspace.run_measured(&line);
            println!("{engine:?}: {line}: exit {:?}, {} MB", ran.code, memory >> 20);
            assert_eq!(ran.code, Some(0), "{}", ran.err);
        }
        let question = match engine {
            Engine::Sqlite => "SELECT length(film) || hex(substr(film, -20)) FROM films",
            _ => "SELECT concat(length(film), md5(film)) FROM films",
        };
        let [before, after] =
            [&old, &new].map(|place| Database::open(place).unwrap().ask(question).unwrap());
        assert_eq!(before, after, "{engine:?}");
    }
}
