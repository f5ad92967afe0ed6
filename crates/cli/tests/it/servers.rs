//! Other servers than the one that was packed: records that they reject, collations that
//! they do not know, rights that are missing, and what stays beside the new tables.

use super::{archives, fixture, one};
use fernweh_core::sql::Dialect;
use fernweh_demo::database::{Database, Place};
use fernweh_demo::server::{PrivateServer, Server};
use fernweh_demo::site::{Build, build};
use fernweh_testkit::{Engine, Fixture, database_cells, new_database, shared_server};
use std::os::unix::fs::PermissionsExt;

fn run(fixture: &Fixture, site: &str, statements: &[&str]) {
    for sql in statements {
        let ran = fixture.database(site).run(sql.as_bytes());
        ran.unwrap_or_else(|error| panic!("{sql}: {error}"));
    }
}

/// Rows that the structure at the destination does not take: a shorter column, a check.
fn with_bad_records(engine: Engine) -> Fixture {
    let fixture = fixture(engine);
    fixture.pack();
    fixture.workspace.done("unpack site.fernweh.tar new");
    fixture.workspace.done("undo new --let-go --yes");
    match engine {
        Engine::Sqlite | Engine::SqliteOutside => run(
            &fixture,
            "new",
            &[
                "DROP TABLE gp_members",
                "CREATE TABLE gp_members (id INTEGER PRIMARY KEY, name TEXT CHECK (id % 20 <> 7), \
             email TEXT, homepage TEXT, secret TEXT)",
            ],
        ),
        Engine::Mariadb | Engine::Mysql(_) => run(
            &fixture,
            "new",
            &["UPDATE gp_members SET name = id", "ALTER TABLE gp_members MODIFY name varchar(12)"],
        ),
        Engine::Postgres => run(
            &fixture,
            "new",
            &[
                "UPDATE gp_members SET name = id",
                "ALTER TABLE gp_members ALTER COLUMN name TYPE varchar(12)",
            ],
        ),
    }
    fixture
}

const ROWS_ONLY: &str = "unpack site.fernweh.tar new --tables gp_members --rows-only --overwrite";

#[test]
fn records_that_the_destination_rejects_are_named_and_left_out_only_when_told() {
    for engine in [Engine::SqliteOutside, Engine::Mariadb, Engine::Postgres] {
        let fixture = with_bad_records(engine);
        let before = database_cells(&fixture.new);
        let ran = fixture.workspace.run(ROWS_ONLY);
        let ran = ran.code(3).says("rejected a record").says("table gp_members, id ");
        ran.says("--on-bad-record").says("nothing was changed");
        assert_eq!(before, database_cells(&fixture.new), "{engine:?}");

        // The preview finds all of them, and leaves nothing behind.
        let runs = fixture.workspace.changes();
        fixture
            .workspace
            .run(&format!("{ROWS_ONLY} --preview"))
            .code(1)
            .says("unpacking would stop at the first");
        let foreseen = fixture.workspace.run(&format!("{ROWS_ONLY} --preview --json"));
        let foreseen = foreseen.code(1).json();
        assert_eq!(before, database_cells(&fixture.new), "{engine:?}");
        assert_eq!(runs, fixture.workspace.changes(), "{engine:?}");

        let ran = fixture.workspace.run(&format!("{ROWS_ONLY} --on-bad-record skip --json"));
        let ran = ran.code(1);
        let report = ran.json();
        for number in ["rejected", "records", "bad_records", "rewriting"] {
            assert_eq!(foreseen[number], report[number], "{engine:?}: {number}");
        }
        let left_out = report["rejected"].as_u64().unwrap();
        assert!(left_out > 0 && left_out < 60, "{engine:?}: {left_out}");
        assert_eq!(one(&fixture, "SELECT count(*) FROM gp_members"), (60 - left_out).to_string());
        let file = std::fs::read_to_string(
            fixture.workspace.path(report["rejected_file"].as_str().unwrap()),
        )
        .unwrap();
        assert_eq!(file.matches("INSERT INTO").count() as u64, left_out, "{engine:?}");
        if fixture.new.dialect() == Dialect::Mariadb {
            fixture.workspace.done("undo new");
            let ran = fixture.workspace.done(&format!("{ROWS_ONLY} --on-bad-record adapt"));
            ran.says("changed by the database to fit");
            assert_eq!(one(&fixture, "SELECT count(*) FROM gp_members"), "60");
        }
    }
}

#[test]
fn postgres_fits_what_stays_to_the_new_tables_and_back() {
    let fixture = fixture(Engine::Postgres);
    fixture.pack();
    fixture.workspace.done("unpack site.fernweh.tar new");
    run(
        &fixture,
        "new",
        &[
            "CREATE TABLE shop_orders (id int PRIMARY KEY, article_id int CONSTRAINT fk_shop REFERENCES gp_articles)",
            "INSERT INTO shop_orders VALUES (1, 1)",
            "CREATE VIEW shop_titles AS SELECT o.id, a.title FROM shop_orders o JOIN gp_articles a ON a.id = o.article_id",
            "UPDATE gp_articles SET title = 'old state' WHERE id = 1",
        ],
    );
    let other = "shop_reader";
    let server = shared_server(Server::Postgres).lock().unwrap();
    server.administrator().unwrap().run(format!("CREATE ROLE {other}").as_bytes()).unwrap();
    drop(server);
    run(&fixture, "new", &[&format!("GRANT SELECT, UPDATE ON gp_articles TO {other}")]);
    let before = database_cells(&fixture.new);
    let ran = fixture.workspace.done("unpack site.fernweh.tar new --overwrite");
    ran.says("foreign key fk_shop of table public.shop_orders");
    assert_ne!(
        one(&fixture, "SELECT title FROM shop_titles"),
        "old state",
        "the view sees the new table"
    );
    assert_eq!(
        one(&fixture, &format!("SELECT has_table_privilege('{other}', 'gp_articles', 'UPDATE')")),
        "t"
    );
    assert!(fixture.database("new").run(b"INSERT INTO shop_orders VALUES (2, 987654)").is_err());
    run(&fixture, "new", &["ALTER TABLE shop_orders VALIDATE CONSTRAINT fk_shop"]);
    fixture.workspace.done("undo new");
    assert_eq!(one(&fixture, "SELECT title FROM shop_titles"), "old state");
    run(&fixture, "new", &["ALTER TABLE shop_orders VALIDATE CONSTRAINT fk_shop"]);
    assert_eq!(before, database_cells(&fixture.new));
}

#[test]
fn a_switch_on_postgres_waits_for_readers_only_seconds_and_names_them() {
    let fixture = fixture(Engine::Postgres);
    fixture.pack();
    fixture.workspace.done("unpack site.fernweh.tar new");
    let before = database_cells(&fixture.new);
    let mut reader = fixture.database("new");
    reader.run(b"BEGIN; SELECT count(*) FROM gp_articles").unwrap();
    let ran = fixture.workspace.run("unpack site.fernweh.tar new --overwrite");
    ran.code(5).says("the tables cannot be switched").says("idle in transaction");
    reader.run(b"COMMIT").unwrap();
    assert_eq!(before, database_cells(&fixture.new));
    fixture.workspace.done("unpack site.fernweh.tar new --overwrite").says("completed");
}

#[test]
fn a_collation_that_the_server_does_not_know_is_replaced_and_named() {
    let fixture = fixture(Engine::Mariadb);
    run(
        &fixture,
        "old",
        &["CREATE TABLE gp_sorted (a varchar(20) COLLATE utf8mb4_unicode_520_ci)"],
    );
    fixture.pack();
    // The archive of a newer server, as far as this one is concerned.
    let mut members = archives::read(&fixture.workspace.path("site.fernweh.tar"));
    for (_, bytes) in members.iter_mut().filter(|(name, _)| name.contains("1-structure")) {
        let sql = String::from_utf8(zstd::decode_all(bytes.as_slice()).unwrap()).unwrap();
        let newer = sql.replace("utf8mb4_unicode_520_ci", "utf8mb4_0900_ai_ci");
        *bytes = zstd::encode_all(newer.as_bytes(), 3).unwrap();
    }
    archives::forge(&fixture.workspace.path("newer.fernweh.tar"), members);
    let ran = fixture.workspace.done("unpack newer.fernweh.tar new");
    ran.says("collation utf8mb4_0900_ai_ci does not exist");
    let found = "SELECT collation_name FROM information_schema.columns \
                 WHERE table_schema = database() AND table_name = 'gp_sorted'";
    let took = one(&fixture, found);
    // Neither pads: 'a' and 'a ' stay two values.
    let nearest = ["utf8mb4_uca1400_nopad_ai_ci", "utf8mb4_unicode_520_nopad_ci"];
    assert!(nearest.contains(&took.as_str()), "{took}");
}

#[test]
fn rights_that_are_missing_are_named_and_stop_nothing() {
    let fixture = fixture(Engine::Mariadb);
    let fernweh_demo::database::Place::Mariadb { user, name, .. } = &fixture.old else {
        panic!("not MariaDB");
    };
    let server = shared_server(Server::Mariadb).lock().unwrap();
    let mut admin: Database = server.administrator().unwrap();
    admin.run(format!("REVOKE ALL PRIVILEGES ON `{name}`.* FROM '{user}'@'%'").as_bytes()).unwrap();
    admin.run(format!("GRANT SELECT ON `{name}`.* TO '{user}'@'%'").as_bytes()).unwrap();
    drop(server);
    fixture.workspace.done("survey old").says("the user lacks the right TRIGGER");
    let ran = fixture.workspace.done("pack old -o poor.fernweh.tar");
    ran.says("view gp_newest");
    fixture.workspace.done("unpack poor.fernweh.tar new");
    assert_eq!(one(&fixture, "SELECT count(*) FROM gp_articles"), "420");
}

/// A server of its own, whose settings can be changed.
fn own_server(kind: Server) -> (tempfile::TempDir, PrivateServer) {
    let folder = tempfile::Builder::new().prefix("fw").tempdir().unwrap();
    std::fs::set_permissions(folder.path(), std::fs::Permissions::from_mode(0o755)).unwrap();
    let server = PrivateServer::start(kind, &folder.path().join("s")).unwrap();
    (folder, server)
}

#[test]
fn records_too_large_for_one_way_of_writing_go_another() {
    let (_folder, server) = own_server(Server::Mariadb);
    let old = server.make_database("old", "u_old", "old-secret").unwrap();
    let new = server.make_database("new", "u_new", "new-secret").unwrap();
    let workspace = super::zoo::two_sites(&old, &new);
    build(&Build { root: &workspace.path("files"), database: &old, articles: 40 }).unwrap();
    let large =
        br"UPDATE gp_articles SET body = repeat('night\n\t\\ \'of\' stars', 35000) WHERE id = 7";
    let mut database = Database::open(&old).unwrap();
    database.run(b"ALTER TABLE gp_articles MODIFY body mediumtext").unwrap();
    database.run(large).unwrap();
    let mut admin = server.administrator().unwrap();
    admin.run(b"SET GLOBAL max_allowed_packet = 1048576").unwrap();
    workspace.done("pack old -o site.fernweh.tar");
    for (local_infile, note) in [(1, false), (0, true)] {
        admin.run(format!("SET GLOBAL local_infile = {local_infile}").as_bytes()).unwrap();
        let ran = workspace.done("unpack site.fernweh.tar new --as-is --overwrite");
        assert_eq!(ran.out.contains("does not allow bulk loading"), note, "{}", ran.out);
        assert_eq!(database_cells(&old), database_cells(&new));
        workspace.done("undo new");
        workspace.done("undo new --let-go --yes");
    }
}

#[test]
fn what_the_destination_cannot_take_is_said_beforehand() {
    let fixture = fixture(Engine::Postgres);
    let ran = fixture.workspace.done("survey old --for new");
    ran.says("the destination accepts every object of the database");
    let server = shared_server(Server::Postgres).lock().unwrap();
    let mut admin = server.administrator().unwrap();
    for sql in ["CREATE ROLE only_for_a_while", "DROP ROLE IF EXISTS never_there"] {
        admin.run(sql.as_bytes()).unwrap();
    }
    run(
        &fixture,
        "old",
        &[
            "ALTER TABLE gp_members ENABLE ROW LEVEL SECURITY",
            "CREATE POLICY shy ON gp_members AS PERMISSIVE FOR SELECT TO only_for_a_while USING (true)",
        ],
    );
    fixture.pack();
    run(&fixture, "old", &["DROP POLICY shy ON gp_members"]);
    admin.run(b"DROP ROLE only_for_a_while").unwrap();
    drop(server);
    let ran = fixture.workspace.run("unpack site.fernweh.tar new").code(1);
    ran.says("refused").says("policy shy of table gp_members");

    let fixture = super::fixture(Engine::Mariadb);
    fixture.workspace.done("survey old --for new").says("the destination accepts every object");
    fixture.configure("[site.third]\ndatabase = \"sqlite:third.db\"\n");
    let ran = fixture.workspace.run("survey old --for third").code(3);
    ran.says("its database is SQLite, not MariaDB");
}

/// The program and the server are killed together, at every step that matters to the server.
#[test]
fn a_server_that_dies_with_the_program_leaves_one_of_both_states() {
    for (kind, steps) in [
        (Server::Mariadb, &["built", "switching", "tables-renamed", "objects-taken-off"][..]),
        (Server::Postgres, &["built", "switching", "objects-moved", "database-in-place"][..]),
    ] {
        let (_folder, mut server) = own_server(kind);
        let old = server.make_database("old", "u_old", "old-secret").unwrap();
        let new = server.make_database("new", "u_new", "new-secret").unwrap();
        let workspace = super::zoo::two_sites(&old, &new);
        let root = workspace.path("files");
        build(&Build { root: &root, database: &old, articles: 40 }).unwrap();
        workspace.done("pack old -o site.fernweh.tar");
        workspace.done("unpack site.fernweh.tar new --as-is");
        workspace.done("undo new --let-go --yes");
        let update = b"UPDATE gp_nights SET seeing = 'first state'";
        Database::open(&new).unwrap().run(update).unwrap();
        let (first, second) = (database_cells(&new), database_cells(&old));
        let unpack = "unpack site.fernweh.tar new --as-is --overwrite";
        for step in steps {
            assert_eq!(workspace.run_killed_at(unpack, step).code, None, "{kind:?} {step}");
            server.crash_and_restart().unwrap();
            if *step == "built" {
                assert_eq!(first, database_cells(&new), "{kind:?} {step}: the old state stands");
            }
            workspace.done(unpack);
            assert_eq!(second, database_cells(&new), "{kind:?} {step}: the same command completes");
            server.crash_and_restart().unwrap();
            workspace.done("undo new");
            assert_eq!(first, database_cells(&new), "{kind:?} {step}: undo goes back");
            workspace.done("undo new --let-go --yes");
        }
    }
}

#[test]
fn a_record_that_the_server_does_not_take_is_found_beforehand() {
    let (_folder, server) = own_server(Server::Mariadb);
    let old = server.make_database("old", "u_old", "old-secret").unwrap();
    let new = server.make_database("new", "u_new", "new-secret").unwrap();
    let workspace = super::zoo::two_sites(&old, &new);
    build(&Build { root: &workspace.path("files"), database: &old, articles: 40 }).unwrap();
    let mut database = Database::open(&old).unwrap();
    database.run(b"ALTER TABLE gp_articles MODIFY body mediumtext").unwrap();
    // Longer than a small packet may be, made of two parts that are not.
    database.run(b"UPDATE gp_articles SET body = repeat('night', 260000) WHERE id = 7").unwrap();
    let mut admin = server.administrator().unwrap();
    let mut set = |settings: &str| {
        admin.run(format!("SET GLOBAL {settings}").as_bytes()).unwrap();
    };
    set("max_allowed_packet = 16777216");
    workspace.done("survey old --for new").says("no record is larger than 16.8 MB");
    workspace.done("pack old -o site.fernweh.tar");
    set("max_allowed_packet = 1048576, GLOBAL local_infile = 0");
    let survey = workspace.run("survey old --for new").code(3);
    survey.says("failed   table gp_articles, id 7: a record of 1.3 MB; the server accepts 1.0 MB");
    let refused = workspace.run("unpack site.fernweh.tar new --as-is").code(3);
    refused.says("gp_articles, id 7").says("max_allowed_packet").says("nothing was changed");
    assert_eq!(Database::open(&new).unwrap().ask("SHOW TABLES").unwrap().len(), 0);
    let skipped = workspace.run("unpack site.fernweh.tar new --as-is --on-bad-record skip").code(1);
    skipped.says("gp_articles, id 7").says("the record has 1.3 MB");
    // With bulk loading it comes in; the site's own programs could not have written it.
    set("local_infile = 1");
    workspace.done("survey old --for new").says("accepts 1.0 MB, and more");
    workspace.done("unpack site.fernweh.tar new --as-is --overwrite");
    set("max_allowed_packet = 16777216");
    assert_eq!(database_cells(&old), database_cells(&new));
}

#[test]
fn a_trigger_that_binary_logging_forbids_is_found_before() {
    let folder = tempfile::Builder::new().prefix("fw").tempdir().unwrap();
    std::fs::set_permissions(folder.path(), std::fs::Permissions::from_mode(0o755)).unwrap();
    let place = folder.path().join("s");
    std::fs::create_dir(&place).unwrap();
    std::fs::write(place.join("my.cnf"), "[mariadbd]\nlog_bin = log\nserver_id = 1\n").unwrap();
    let server = PrivateServer::start(Server::Mariadb, &place).unwrap();
    let old = server.make_database("old", "u_old", "old-secret").unwrap();
    let new = server.make_database("new", "u_new", "new-secret").unwrap();
    let mut admin = server.administrator().unwrap();
    let table = "CREATE TABLE nights (id int PRIMARY KEY, note varchar(20))";
    let trigger = "CREATE TRIGGER on_night BEFORE INSERT ON nights FOR EACH ROW SET NEW.note = 'x'";
    admin.run(b"SET GLOBAL log_bin_trust_function_creators = 1").unwrap();
    Database::open(&old).unwrap().run(table.as_bytes()).unwrap();
    Database::open(&old).unwrap().run(trigger.as_bytes()).unwrap();
    Database::open(&new).unwrap().run(table.as_bytes()).unwrap();
    admin.run(b"SET GLOBAL log_bin_trust_function_creators = 0").unwrap();
    let workspace = super::zoo::two_sites(&old, &new);
    workspace.done("pack old -o a.tar");
    let before = database_cells(&new);
    for line in ["survey old --for new", "unpack a.tar new --as-is --overwrite"] {
        workspace.run(line).code(3).says("trigger on_night").says("1419");
        assert_eq!(before, database_cells(&new));
    }
    admin.run(b"SET GLOBAL log_bin_trust_function_creators = 1").unwrap();
    workspace.done("unpack a.tar new --as-is --overwrite");
    assert_eq!(database_cells(&old), database_cells(&new));
}

#[test]
fn another_default_of_the_database_is_named_where_routines_take_texts() {
    let [old, new] = ["texts_old", "texts_new"].map(|name| new_database(Server::Mariadb, name));
    let run =
        |place: &Place, sql: &str| Database::open(place).unwrap().run(sql.as_bytes()).unwrap();
    let Place::Mariadb { name, .. } = &old else { panic!() };
    run(&old, &format!("ALTER DATABASE `{name}` CHARACTER SET latin1"));
    run(&old, "CREATE TABLE nights (id int PRIMARY KEY)");
    run(&old, "CREATE FUNCTION half(a varchar(20)) RETURNS int DETERMINISTIC RETURN length(a)");
    let workspace = super::zoo::two_sites(&old, &new);
    workspace.done("pack old -o a.tar");
    workspace.done("unpack a.tar new --as-is").says("latin1_swedish_ci").says("half");
    let Place::Mariadb { name, .. } = &new else { panic!() };
    run(&new, &format!("ALTER DATABASE `{name}` CHARACTER SET latin1"));
    let quiet = workspace.done("unpack a.tar new --as-is --overwrite");
    assert!(!quiet.out.contains("latin1"), "{}", quiet.out);
}
