//! Two tables are filled over two connections, where nobody uses the database yet.

use super::PROGRAM;
use super::zoo::{assert_same, two_sites};
use fernweh_demo::database::{Database, Place};
use fernweh_demo::server::{PrivateServer, Server};
use fernweh_testkit::{Workspace, database_cells};

/// Records of each table.
const RECORDS: u32 = 12_000;

/// Three tables, two of them large, with an old address in every tenth record.
fn fill(place: &Place) {
    let mut database = Database::open(place).expect("the database opens");
    for table in ["nights", "reports", "small"] {
        let make = format!(
            "CREATE TABLE {table} (id int PRIMARY KEY, slug varchar(60) NOT NULL, notes text, \
             rating int NOT NULL)"
        );
        database.run(make.as_bytes()).expect("a table");
        let records = if table == "small" { 10 } else { RECORDS };
        for from in (0..records).step_by(2000) {
            let row = |id: u32| {
                let link =
                    if id.is_multiple_of(10) { "http://old.example/page" } else { "no link" };
                format!("({id}, '{table}-{id}', '{link} {}', {})", "x".repeat(200), id % 7)
            };
            let rows: Vec<String> = (from..records.min(from + 2000)).map(row).collect();
            let insert = format!("INSERT INTO {table} VALUES {}", rows.join(","));
            database.run(insert.as_bytes()).expect("records");
        }
    }
}

/// Two sites on a server of their own.
fn sites(kind: Server) -> (Workspace, PrivateServer, [Place; 2], Workspace) {
    let folder = Workspace::new(PROGRAM);
    let server = PrivateServer::start(kind, &folder.path("server")).expect("a server");
    let place = |name: &str| server.make_database(name, name, "a-secret").expect("a database");
    let places = ["old", "new"].map(place);
    fill(&places[0]);
    let workspace = two_sites(&places[0], &places[1]);
    let rule = "[[rule]]\nfrom = \"http://old.example\"\nto = \"https://new.example\"\n";
    workspace.write("fernweh.toml", workspace.read("fernweh.toml") + rule);
    workspace.done("pack old -o a.tar");
    (folder, server, places, workspace)
}

/// The connections that a user has open.
fn connections(server: &PrivateServer, kind: Server) -> u32 {
    let question = match kind {
        Server::Mariadb => "SELECT count(*) FROM information_schema.processlist WHERE user = 'new'",
        Server::Postgres => "SELECT count(*) FROM pg_stat_activity WHERE usename = 'new'",
    };
    let rows = server.administrator().expect("a login").ask(question).expect("a count");
    rows[0][0].as_deref().and_then(|n| n.parse().ok()).expect("a number")
}

#[test]
fn two_tables_are_filled_at_once_and_hold_what_one_connection_would_have_written() {
    for kind in [Server::Mariadb, Server::Postgres] {
        let (_folder, mut server, [old, new], workspace) = sites(kind);
        // Whatever happens to either connection, and to the program.
        let ran = workspace.run_halted_at("unpack a.tar new --as-is", "secured", || {
            assert_eq!(connections(&server, kind), 2, "{kind:?}");
            server.crash_and_restart().expect("it starts again");
        });
        ran.fine().says("trying again");
        assert_same(&database_cells(&old), &database_cells(&new), "as is");
        workspace.done("undo new");
        workspace.done("undo new --let-go --yes");
        for step in ["secured", "secured#2"] {
            workspace.run_killed_at("unpack a.tar new --as-is", step);
        }
        workspace.done("unpack a.tar new --as-is");
        assert_same(&database_cells(&old), &database_cells(&new), "broken off");
        workspace.done("undo new");
        workspace.done("undo new --let-go --yes");
        let twice = workspace.done("unpack a.tar new --json").json();
        // A database that is in use is left its cores, and the numbers are the same.
        let ran = workspace.run_halted_at("unpack a.tar new --overwrite --json", "secured", || {
            assert_eq!(connections(&server, kind), 1, "{kind:?}");
        });
        let once = ran.fine().json();
        assert_eq!(once["rewriting"], twice["rewriting"], "{kind:?}");
        assert_eq!((&once["records"], &once["tables"]), (&twice["records"], &twice["tables"]));
        let changed = &twice["rewriting"]["columns"]["reports.notes"]["changed"];
        assert_eq!(changed, RECORDS / 10, "{kind:?}: {twice}");
    }
}

#[test]
fn records_that_are_rejected_over_either_connection_are_named_and_kept() {
    for kind in [Server::Mariadb, Server::Postgres] {
        let (_folder, _server, [old, new], workspace) = sites(kind);
        let mut database = Database::open(&old).expect("the database opens");
        for (table, id) in [("nights", 77), ("reports", 11_999)] {
            // It is too long once it is rewritten.
            let slug = format!("http://old.example/{}", "y".repeat(41));
            let update = format!("UPDATE {table} SET slug = '{slug}' WHERE id = {id}");
            database.run(update.as_bytes()).expect("a longer slug");
        }
        workspace.done("pack old -o long.tar");
        let refused = workspace.run("unpack long.tar new").code(3);
        assert!(refused.err.contains("id 77") || refused.err.contains("id 11999"), "{refused:?}");
        let report = workspace.run("unpack long.tar new --on-bad-record skip --json").code(1);
        let report = report.json();
        assert_eq!(report["rejected"], 2, "{kind:?}: {report}");
        let named = report["bad_records"].to_string();
        assert!(named.contains("id 77") && named.contains("id 11999"), "{kind:?}: {named}");
        let file = report["rejected_file"].as_str().expect("a file");
        let kept = std::fs::read_to_string(workspace.folder().join(file)).expect("the file");
        assert_eq!(kept.matches("INSERT INTO").count(), 2, "{kind:?}: {kept}");
        let mut database = Database::open(&new).expect("the database opens");
        for table in ["nights", "reports"] {
            let rows = database.ask(&format!("SELECT count(*) FROM {table}")).expect("a count");
            assert_eq!(rows[0][0].as_deref(), Some("11999"), "{kind:?}");
        }
    }
}

#[test]
fn a_lock_of_a_process_that_is_gone_keeps_its_run_from_nothing() {
    let (_folder, _server, [old, new], workspace) = sites(Server::Postgres);
    workspace.run_killed_at("unpack a.tar new --as-is", "secured");
    let mut database = Database::open(&new).expect("the database opens");
    let schemas = "SELECT nspname FROM pg_namespace WHERE nspname LIKE '\\_fw%'";
    let schema = database.ask(schemas).expect("schemas")[0][0].clone().expect("a name");
    let run = schema.trim_start_matches("_fw").split('_').next().expect("a run").to_owned();
    // The server has not noticed that nobody waits for this.
    let mut abandoned = Database::open(&new).expect("the database opens");
    let hold = format!(
        "SET application_name = 'fernweh {run}'; SELECT pg_advisory_lock(hashtext('fernweh'))"
    );
    abandoned.run(hold.as_bytes()).expect("the lock");
    std::thread::scope(|scope| {
        let waits = scope.spawn(move || abandoned.run(b"SELECT pg_sleep(600)").is_err());
        workspace.done("unpack a.tar new --as-is");
        assert!(waits.join().expect("it has ended"), "the statement went on");
    });
    assert_same(&database_cells(&old), &database_cells(&new), "unpacked");
    // The lock of another run is respected.
    let mut other = Database::open(&new).expect("the database opens");
    other.run(b"SELECT pg_advisory_lock(hashtext('fernweh'))").expect("the lock");
    workspace.run("unpack a.tar new --as-is --overwrite").code(3).says("another run is working");
}
