//! MySQL, as a mask before a real server answers for it.

use super::fixture;
use super::zoo::{MARIADB, two_sites};
use fernweh_demo::database::{Database, Place};
use fernweh_demo::server::Server;
use fernweh_testkit::{
    Engine, Habits, MysqlMask, Version, Workspace, database_cells, files_of, mariadb_client,
    new_database,
};

#[test]
fn the_whole_way_on_every_version() {
    for version in Version::ALL {
        let fixture = fixture(Engine::Mysql(version));
        let other = super::fixture(Engine::Mariadb);
        let survey = fixture.workspace.done("survey old --json").json();
        assert_eq!(
            survey["database"]["version"],
            format!("MySQL {}", version.text().trim_end_matches("-log"))
        );
        fixture.workspace.done("survey old --for new");
        let archive = fixture.pack();
        fixture.workspace.done("show site.fernweh.tar --verify");
        fixture.workspace.done(&format!("unpack {archive} new"));
        other.workspace.done(&format!("unpack {} new", other.pack()));
        // What MySQL has is what MariaDB has, cell by cell.
        assert_eq!(records(&fixture.new), records(&other.new), "{version:?}");
        let before = (database_cells(&fixture.new), files_of(&fixture.root("new")));
        fixture.workspace.done("rewrite new --from https://www.glimmer-point.example --to https://third.example --apply");
        fixture.workspace.done("trace new https://third.example/");
        fixture.workspace.done("undo new");
        assert_eq!(
            before,
            (database_cells(&fixture.new), files_of(&fixture.root("new"))),
            "{version:?}"
        );
        fixture.workspace.done(&format!("unpack {archive} new --overwrite"));
        fixture.workspace.done("undo new");
        assert_eq!(
            before,
            (database_cells(&fixture.new), files_of(&fixture.root("new"))),
            "{version:?}"
        );
    }
}

/// Every record of a database, table by table.
fn records(place: &Place) -> Vec<(String, Vec<Vec<Option<String>>>)> {
    let mut database = Database::open(place).unwrap();
    let tables = database.ask("SHOW FULL TABLES WHERE table_type <> 'VIEW'").unwrap();
    let tables = tables.into_iter().filter_map(|row| row.into_iter().next()?);
    tables
        .filter(|table| !table.starts_with("_fw"))
        .map(|table| {
            let name = table.replace('`', "``");
            let rows = database.ask(&format!("SELECT * FROM `{name}` ORDER BY 1")).unwrap();
            (table, rows)
        })
        .collect()
}

/// Two sites in databases behind a mask, and the mask.
fn behind(version: Version, habits: Habits) -> (Workspace, [Place; 2], MysqlMask) {
    let places = ["masked_old", "masked_new"].map(|name| new_database(Server::Mariadb, name));
    let Place::Mariadb { port, .. } = places[0] else { unreachable!() };
    let mask = MysqlMask::before(port, version, habits);
    let workspace = two_sites(&places[0], &places[1]);
    let text = workspace.read("fernweh.toml").replace("mariadb://", "mysql://");
    let text = text.replace(&format!(":{port}/"), &format!(":{}/", mask.port));
    workspace.write("fernweh.toml", text);
    (workspace, places, mask)
}

const AWKWARD: &str = "CREATE TABLE nights (id int PRIMARY KEY, seeing varchar(20) \
     COLLATE utf8mb4_unicode_ci, made timestamp NOT NULL DEFAULT current_timestamp() ON UPDATE \
     current_timestamp(), code varchar(36) DEFAULT (uuid()), data json, plain json NOT NULL, \
     next int AS (id + 1) VIRTUAL, kept int AS (id + 2) STORED, small tinyint(1), \
     CONSTRAINT good CHECK (id < 1000)) DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_unicode_520_nopad_ci; \
     CREATE TABLE reports (id int PRIMARY KEY, night int, CONSTRAINT reports_ibfk_1 FOREIGN KEY (night) \
     REFERENCES nights (id)); \
     INSERT INTO nights (id, seeing, made, code, data, plain, small) VALUES \
     (1, 'Grüße', '2026-01-02 03:04:05', 'a-code', '{\"url\": \"http:\\\\/\\\\/old.example\\\\/ü\"}', '[]', 1), \
     (2, NULL, '2026-01-02 03:04:06', 'b-code', NULL, '{\"a\": [1, 2, {\"b\": null}]}', 0); \
     INSERT INTO reports VALUES (1, 1), (2, 2); \
     CREATE FUNCTION double_of (n int) RETURNS int DETERMINISTIC RETURN n * 2; \
     CREATE TRIGGER noted BEFORE INSERT ON reports FOR EACH ROW SET NEW.night = ifnull(NEW.night, 1)";

#[test]
fn what_mysql_says_otherwise_arrives_as_it_was() {
    for version in Version::ALL {
        let (workspace, places, mask) = behind(version, Habits::default());
        let made = match version {
            Version::V57 => AWKWARD.replace("_nopad_ci", "_ci"),
            _ => AWKWARD.to_owned(),
        };
        mariadb_client(&places[0], made.into());
        workspace.done("survey old --for new");
        workspace.done("survey old").says("mysql://");
        workspace.done("pack old -o a.tar");
        workspace.done("unpack a.tar new --as-is");
        let question = "SELECT id, seeing, made, code, data, plain, next, kept, small FROM nights; \
                        SELECT * FROM reports; SELECT double_of(4)";
        let old = mariadb_client(&places[0], question.into());
        assert_eq!(old, mariadb_client(&places[1], question.into()), "{version:?}");
        // The same names of checks and keys come a second time, and a third.
        for _ in 0..2 {
            workspace.done("unpack a.tar new --as-is --overwrite");
        }
        assert_eq!(old, mariadb_client(&places[1], question.into()), "{version:?}");
        workspace.done("rewrite new --from http://old.example --to https://new.example --apply");
        let data = mariadb_client(&places[1], "SELECT data FROM nights WHERE id = 1".into());
        assert!(data.contains("https:"), "{version:?}: {data}");
        workspace.done("undo new");
        assert_eq!(old, mariadb_client(&places[1], question.into()), "{version:?}");
        workspace.done("undo new");
        workspace.done("undo new");
        workspace.done("undo new");
        let left = mariadb_client(&places[1], "SHOW TABLES LIKE 'nights'".into());
        assert_eq!(left, "", "{version:?}");
        if version >= Version::V80 {
            // The password is shown in full once for each user.
            assert_eq!(mask.logins(), (2, 2), "{version:?}");
        }
    }
}

#[test]
fn what_such_a_server_demands_is_said_before_anything_changes() {
    let one = |habits: Habits, made: &str| {
        let (workspace, places, mask) = behind(Version::V80, habits);
        mariadb_client(&places[0], made.into());
        (workspace, places, mask)
    };
    let (workspace, ..) = one(Habits { wants_encryption: true, ..Habits::default() }, AWKWARD);
    workspace
        .run("survey old")
        .code(3)
        .says("requires an encrypted connection")
        .says("encrypted = true");

    let keyless = "CREATE TABLE log (line text)";
    let (workspace, ..) = one(Habits { wants_primary_keys: true, ..Habits::default() }, keyless);
    workspace
        .run("survey old --for new")
        .code(3)
        .says("requires primary keys; tables without: log");
    workspace.done("pack old -o a.tar");
    workspace.run("unpack a.tar new").code(3).says("3750").says("nothing was changed");

    let habits = Habits { logs_in_binary: true, ..Habits::default() };
    let (workspace, places, _mask) = one(habits, AWKWARD);
    workspace.run("survey old --for new").code(3).says("trigger noted").says("1419");
    workspace.done("pack old -o a.tar");
    let before = database_cells(&places[1]);
    workspace.run("unpack a.tar new").code(3).says("trigger noted").says("nothing was changed");
    assert_eq!(before, database_cells(&places[1]));

    let habits = Habits { hides_bodies: true, ..Habits::default() };
    let (workspace, ..) = one(habits, AWKWARD);
    workspace.done("survey old").says("function double_of");
}

#[test]
fn modes_that_the_new_server_does_not_know_are_left_out_and_named() {
    let (workspace, places, _mask) = behind(Version::V80, Habits::default());
    let old = "CREATE TABLE nights (id int PRIMARY KEY); \
               SET sql_mode = 'NO_AUTO_CREATE_USER,PIPES_AS_CONCAT'; \
               CREATE FUNCTION joined () RETURNS varchar(9) DETERMINISTIC RETURN 'a' || 'b'";
    mariadb_client(&places[0], old.into());
    workspace.done("pack old -o a.tar");
    let ran = workspace.done("unpack a.tar new --as-is");
    ran.says("without SQL modes that this server").says("NO_AUTO_CREATE_USER");
    assert_eq!(mariadb_client(&places[1], "SELECT joined()".into()), "ab\n");
}

#[test]
fn tables_of_the_other_product_are_said_in_its_words() {
    // From MariaDB to MySQL, and what has no counterpart is refused before.
    let (workspace, places, _mask) = behind(Version::V80, Habits::default());
    let old = "CREATE TABLE nights (id int PRIMARY KEY, code varchar(36) DEFAULT uuid(), note text \
               DEFAULT 'a uuid', seen int COMMENT 'WITH SYSTEM VERSIONING'); \
               INSERT INTO nights VALUES (1, 'c', 'x', 2)";
    mariadb_client(&places[0], old.into());
    let Place::Mariadb { port, .. } = places[0] else { unreachable!() };
    let text = workspace.read("fernweh.toml");
    let own = text.find("[site.new]").unwrap();
    let (first, second) = text.split_at(own);
    let first = first.replace(&format!(":{}/", _mask.port), &format!(":{port}/"));
    workspace.write("fernweh.toml", first + second);
    workspace
        .done("survey old --for new")
        .says("another product: MySQL 8.0.39 there, here MariaDB");
    workspace.done("pack old -o a.tar");
    workspace.done("unpack a.tar new --as-is");
    mariadb_client(&places[1], "INSERT INTO nights (id) VALUES (2)".into());
    let rows = "SELECT id, note, seen, char_length(code) FROM nights ORDER BY id";
    assert_eq!(mariadb_client(&places[1], rows.into()), "1\tx\t2\t1\n2\ta uuid\tNULL\t36\n");
    mariadb_client(&places[0], "CREATE TABLE known (id uuid PRIMARY KEY)".into());
    workspace.run("survey old --for new").code(3).says("columns of type uuid");
}

#[test]
fn the_usual_collation_of_one_version_is_written_out_for_the_next() {
    let (workspace, places, mask) = behind(Version::V57, Habits::default());
    let old = "CREATE TABLE nights (id int PRIMARY KEY, note varchar(20), old varchar(20) CHARACTER \
               SET latin1) DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_general_ci; \
               CREATE TABLE parts (id int PRIMARY KEY, night int, CONSTRAINT parts_ibfk_1 FOREIGN \
               KEY (night) REFERENCES nights (id)); INSERT INTO nights VALUES (1, 'a', 'b'); \
               INSERT INTO parts VALUES (1, 1)";
    mariadb_client(&places[0], old.into());
    workspace.done("pack old -o a.tar");
    let server = MysqlMask::before(mask.behind(), Version::V84, Habits::default());
    let text = workspace.read("fernweh.toml");
    workspace.write(
        "fernweh.toml",
        text.replace(&format!(":{}/", mask.port), &format!(":{}/", server.port)),
    );
    workspace.done("unpack a.tar new --as-is");
    let asked = "SELECT table_collation FROM information_schema.tables WHERE table_schema = database() \
                 AND table_name = 'nights'; SELECT collation_name FROM information_schema.columns \
                 WHERE table_schema = database() AND table_name = 'nights' ORDER BY ordinal_position";
    let found = mariadb_client(&places[1], asked.into());
    assert_eq!(found, "utf8mb4_general_ci\nNULL\nutf8mb4_general_ci\nlatin1_swedish_ci\n");
    let shown = "SELECT count(*) FROM information_schema.tables WHERE table_schema = database()";
    workspace.done("unpack a.tar new --as-is --overwrite");
    // Nothing of the kept state stands in the way of the live one.
    mariadb_client(&places[1], "DELETE FROM parts; DELETE FROM nights".into());
    workspace.done("undo new --let-go --yes");
    assert_eq!(mariadb_client(&places[1], shown.into()), "2\n");
}

/// What of the zoo only MariaDB holds.
const NOT_OF_MYSQL: &str = "SET sql_mode = 'NO_AUTO_VALUE_ON_ZERO,ALLOW_INVALID_DATES'; \
     SET foreign_key_checks = 0; ALTER TABLE kinds DROP ident, DROP net6, DROP net4; \
     ALTER TABLE people DROP ticket, DROP twice; ALTER TABLE `Odd ``name``.x \"y\"` MODIFY packed text; \
     DROP TABLE old_times, own_period, valid_for, aria, both_parts, broken_rule; \
     DROP SEQUENCE tickets; DROP SEQUENCE `odd ``seq`; DROP SEQUENCE placed; \
     SET sql_mode = 'ORACLE'; DROP PACKAGE pack; DROP PROCEDURE orap";

#[test]
fn everything_that_mysql_holds_of_the_zoo_arrives() {
    for version in [Version::V80, Version::V84] {
        let (workspace, places, _mask) = behind(version, Habits::default());
        mariadb_client(&places[0], MARIADB.into());
        mariadb_client(&places[0], NOT_OF_MYSQL.into());
        let before = records(&places[0]);
        workspace.done("pack old -o a.tar");
        assert_eq!(before, records(&places[0]), "{version:?}: packing changes nothing");
        workspace.done("unpack a.tar new --as-is");
        let first = database_cells(&places[1]);
        assert_eq!(before, records(&places[1]), "{version:?}");
        workspace.done("unpack a.tar new --as-is --overwrite");
        assert_eq!(before, records(&places[1]), "{version:?}: over it");
        workspace.done("undo new");
        super::zoo::assert_same(&first, &database_cells(&places[1]), "taken back");
        for (table, column) in [
            ("views", "table_schema"),
            ("triggers", "trigger_schema"),
            ("routines", "routine_schema"),
            ("events", "event_schema"),
        ] {
            let question = format!(
                "SELECT count(*) FROM information_schema.{table} WHERE {column} = database()"
            );
            let count = |place: &Place| mariadb_client(place, question.clone().into());
            assert_eq!(count(&places[0]), count(&places[1]), "{version:?}: {table}");
        }
    }
}

#[test]
fn what_cannot_be_taken_back_stands_in_no_transaction_where_transactions_are_numbered() {
    let habits = Habits { numbers_transactions: true, ..Habits::default() };
    let (workspace, places, _mask) = behind(Version::V80, habits);
    let old = "CREATE TABLE nights (id int PRIMARY KEY, note varchar(60), KEY (note)) ENGINE=MyISAM; \
               CREATE TABLE parts (id int PRIMARY KEY, note varchar(60)) ENGINE=InnoDB; \
               INSERT INTO nights SELECT seq, concat('http://old.example/', seq) FROM seq_1_to_3000; \
               INSERT INTO parts SELECT seq, concat('http://old.example/', seq) FROM seq_1_to_3000";
    mariadb_client(&places[0], old.into());
    workspace.done("pack old -o a.tar");
    workspace.done("unpack a.tar new --as-is");
    assert_eq!(records(&places[0]), records(&places[1]));
    let before = records(&places[1]);
    workspace.done("rewrite new --from http://old.example --to https://new.example --apply");
    let question = "SELECT (SELECT count(*) FROM nights WHERE note LIKE 'https://new.example/%') + \
                    (SELECT count(*) FROM parts WHERE note LIKE 'https://new.example/%')";
    assert_eq!(mariadb_client(&places[1], question.into()), "6000\n");
    workspace.done("undo new");
    assert_eq!(records(&places[1]), before);
}

#[test]
fn a_time_without_a_default_gets_none_from_a_server_that_would_give_it_one() {
    let folder = Workspace::new(super::PROGRAM);
    let server =
        fernweh_demo::server::PrivateServer::start(Server::Mariadb, &folder.path("server"));
    let server = server.expect("a server");
    let place = |name: &str| server.make_database(name, name, "a-secret").expect("a database");
    let places = ["old", "new"].map(place);
    let old = "CREATE TABLE nights (id int PRIMARY KEY, made timestamp NOT NULL, seen timestamp NULL); \
               INSERT INTO nights VALUES (1, '2026-01-02 03:04:05', NULL)";
    mariadb_client(&places[0], old.into());
    let mut admin = server.administrator().expect("its administrator");
    admin.run(b"SET GLOBAL explicit_defaults_for_timestamp = OFF").expect("the old way");
    let workspace = two_sites(&places[0], &places[1]);
    workspace.done("pack old -o a.tar");
    workspace.done("unpack a.tar new --as-is");
    let made = |place| mariadb_client(place, b"SHOW CREATE TABLE nights".to_vec());
    assert_eq!(made(&places[0]), made(&places[1]));
    assert_eq!(records(&places[0]), records(&places[1]));
}
