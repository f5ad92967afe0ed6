//! Programs of a site keep its database open while it is replaced: what they write is in the live
//! site, or in the kept state, and they see the new one at once.

use super::PROGRAM;
use fernweh_testkit::Workspace;
use rusqlite::Connection;
use std::path::Path;
use std::time::Duration;

const OLD: &str = "CREATE TABLE nights (id INTEGER PRIMARY KEY, note TEXT); \
     INSERT INTO nights VALUES (1, 'of the archive'), (2, 'of the archive');";
const NEW: &str = "CREATE TABLE nights (id INTEGER PRIMARY KEY, note TEXT); \
     INSERT INTO nights VALUES (1, 'old state'); \
     CREATE TABLE guests (id INTEGER PRIMARY KEY, name TEXT); \
     CREATE INDEX guest_names ON guests (name); \
     CREATE VIEW guest_list AS SELECT name FROM guests; \
     CREATE TABLE guest_log (name TEXT); \
     CREATE TRIGGER on_guest AFTER INSERT ON guests BEGIN \
       INSERT INTO guest_log VALUES (new.name); END; \
     INSERT INTO guests (name) VALUES ('Ada')";

fn make(path: &Path, script: &str, mode: &str) {
    std::fs::create_dir_all(path.parent().unwrap()).unwrap();
    let db = Connection::open(path).unwrap();
    let _: String =
        db.query_row(&format!("PRAGMA journal_mode = {mode}"), [], |r| r.get(0)).unwrap();
    db.execute_batch(script).unwrap();
}

fn open(path: &Path) -> Connection {
    let db = Connection::open(path).unwrap();
    db.busy_timeout(Duration::from_secs(20)).unwrap();
    db
}

fn text(db: &Connection, sql: &str) -> String {
    let query = db.query_row(sql, [], |row| row.get::<_, rusqlite::types::Value>(0));
    match query.unwrap_or_else(|error| panic!("{sql}: {error}")) {
        rusqlite::types::Value::Integer(number) => number.to_string(),
        rusqlite::types::Value::Text(text) => text,
        other => format!("{other:?}"),
    }
}

/// Where the database lies, and the configuration of the two sites.
fn sites(inside: bool, mode: &str) -> Workspace {
    let workspace = Workspace::new(PROGRAM);
    let (old, new) = match inside {
        true => ("old/data/site.db", "new/data/site.db"),
        false => ("old.db", "new.db"),
    };
    make(&workspace.path(old), OLD, "delete");
    make(&workspace.path(new), NEW, mode);
    let files = |name: &str| {
        workspace.write(&format!("{name}/index.html"), name);
        format!("files = \"{name}\"\n")
    };
    let [of_old, of_new] = ["old", "new"].map(|name| if inside { files(name) } else { "".into() });
    workspace.write(
        "fernweh.toml",
        format!("[site.old]\ndatabase = \"sqlite:{old}\"\n{of_old}[site.new]\ndatabase = \"sqlite:{new}\"\n{of_new}"),
    );
    workspace.done("pack old -o a.tar");
    workspace
}

/// What a connection sees and writes that is open from before the run to its end.
fn stays_connected(workspace: &Workspace, inside: bool, command: &str) {
    let path = workspace.path(if inside { "new/data/site.db" } else { "new.db" });
    let worker = open(&path);
    assert_eq!(text(&worker, "SELECT count(*) FROM nights"), "1");
    let ran = workspace.run_halted_at(command, "checked", || {
        worker.execute("INSERT INTO nights (note) VALUES ('late')", []).unwrap();
        worker.execute("INSERT INTO guests (name) VALUES ('Bea')", []).unwrap();
    });
    ran.fine();
    let guests = "SELECT group_concat(name, ' ') FROM (SELECT name FROM guest_list ORDER BY name)";
    let log = "SELECT group_concat(name, ' ') FROM guest_log";
    for db in [&worker, &open(&path)] {
        assert_eq!(text(db, "SELECT group_concat(DISTINCT note) FROM nights"), "of the archive");
        assert_eq!((text(db, guests), text(db, log)), ("Ada Bea".into(), "Ada Bea".into()));
    }
    // The worker goes on, in the live site.
    worker.execute("INSERT INTO nights (id, note) VALUES (7, 'after')", []).unwrap();
    worker.execute("INSERT INTO guests (name) VALUES ('Cleo')", []).unwrap();
    assert_eq!(text(&open(&path), "SELECT note FROM nights WHERE id = 7"), "after");
    // The old state comes back with what was written late; tables that are not replaced stay.
    workspace.done("undo new");
    for db in [&worker, &open(&path)] {
        assert_eq!(text(db, "SELECT group_concat(note) FROM nights"), "old state,late");
        assert_eq!(
            (text(db, guests), text(db, log)),
            ("Ada Bea Cleo".into(), "Ada Bea Cleo".into())
        );
    }
    worker.execute("INSERT INTO nights (id, note) VALUES (9, 'later still')", []).unwrap();
    workspace.done("undo new");
    for db in [&worker, &open(&path)] {
        assert_eq!(text(db, "SELECT group_concat(id) FROM nights"), "1,2,7");
        assert_eq!(text(db, guests), "Ada Bea Cleo");
        assert_eq!(text(db, "PRAGMA integrity_check"), "ok");
        assert_eq!(text(db, "SELECT count(*) FROM sqlite_schema WHERE name = 'guest_names'"), "1");
    }
    workspace.done("undo new --let-go --yes");
    worker.execute("INSERT INTO guests (name) VALUES ('Dora')", []).unwrap();
    assert_eq!(text(&open(&path), guests), "Ada Bea Cleo Dora");
    let left = std::fs::read_dir(workspace.path(".")).unwrap().flatten();
    let left: Vec<_> =
        left.filter(|one| one.file_name().to_string_lossy().starts_with(".fernweh-")).collect();
    assert!(left.is_empty(), "{left:?}");
}

#[test]
fn a_connection_that_stays_open_sees_the_new_state_and_writes_into_it() {
    for mode in ["delete", "wal", "truncate", "persist"] {
        for inside in [false, true] {
            let workspace = sites(inside, mode);
            stays_connected(&workspace, inside, "unpack a.tar new --as-is --overwrite");
            let workspace = sites(inside, mode);
            stays_connected(
                &workspace,
                inside,
                "unpack a.tar new --as-is --overwrite --only database",
            );
            let workspace = sites(inside, mode);
            stays_connected(
                &workspace,
                inside,
                "unpack a.tar new --as-is --overwrite --tables nights",
            );
        }
    }
}

#[test]
fn a_database_among_files_that_are_replaced_alone_stays_the_file_that_it_is() {
    for mode in ["delete", "wal"] {
        let workspace = sites(true, mode);
        let path = workspace.path("new/data/site.db");
        let worker = open(&path);
        assert_eq!(text(&worker, "SELECT count(*) FROM nights"), "1");
        let command = "unpack a.tar new --as-is --overwrite --only files";
        workspace
            .run_halted_at(command, "checked", || {
                worker.execute("INSERT INTO nights (note) VALUES ('late')", []).unwrap();
            })
            .fine();
        let read = || std::fs::read_to_string(workspace.path("new/index.html")).unwrap();
        assert_eq!(read(), "old");
        worker.execute("INSERT INTO nights (note) VALUES ('after')", []).unwrap();
        let notes = "SELECT group_concat(note) FROM nights";
        assert_eq!(text(&open(&path), notes), "old state,late,after");
        workspace.done("undo new");
        assert_eq!(read(), "new");
        worker.execute("INSERT INTO nights (note) VALUES ('back')", []).unwrap();
        assert_eq!(text(&open(&path), notes), "old state,late,after,back");
        assert_eq!(text(&worker, "PRAGMA integrity_check"), "ok");
        workspace.done("undo new --let-go --yes");
        assert_eq!(text(&open(&path), notes), "old state,late,after,back");
    }
}

#[test]
fn a_database_that_somebody_holds_is_not_switched_and_nothing_is_changed() {
    let workspace = sites(false, "delete");
    let path = workspace.path("new.db");
    let worker = open(&path);
    worker
        .execute_batch("BEGIN IMMEDIATE; INSERT INTO nights (note) VALUES ('long work')")
        .unwrap();
    let ran = workspace.run("unpack a.tar new --as-is --overwrite --only database").code(5);
    ran.says("the database is in use").says("nothing was changed");
    worker.execute_batch("COMMIT").unwrap();
    assert_eq!(text(&open(&path), "SELECT group_concat(note) FROM nights"), "old state,long work");
    workspace.done("unpack a.tar new --as-is --overwrite --only database").says("completed");
    assert_eq!(text(&worker, "SELECT count(*) FROM nights"), "2");
    workspace.done("undo new");
    assert_eq!(text(&worker, "SELECT group_concat(note) FROM nights"), "old state,long work");
}

#[test]
fn pages_of_another_size_and_another_mode_of_the_log_do_no_harm() {
    for (mode, there) in [("wal", "delete"), ("delete", "wal"), ("wal", "wal")] {
        let workspace = sites(false, there);
        let script = format!("PRAGMA page_size = 1024; PRAGMA user_version = 7; {OLD}");
        std::fs::remove_file(workspace.path("old.db")).unwrap();
        let old = Connection::open(workspace.path("old.db")).unwrap();
        old.execute_batch(&script).unwrap();
        let _: String =
            old.query_row(&format!("PRAGMA journal_mode = {mode}"), [], |row| row.get(0)).unwrap();
        drop(old);
        workspace.done("pack old -o b.tar");
        let path = workspace.path("new.db");
        let worker = open(&path);
        assert_eq!(text(&worker, "SELECT count(*) FROM nights"), "1");
        workspace.done("unpack b.tar new --as-is --overwrite");
        assert_eq!(text(&worker, "SELECT count(*) FROM nights"), "2", "{mode} over {there}");
        worker.execute("INSERT INTO nights (note) VALUES ('after')", []).unwrap();
        assert_eq!(text(&open(&path), "PRAGMA user_version"), "7");
        workspace.done("undo new");
        assert_eq!(text(&worker, "SELECT group_concat(note) FROM nights"), "old state");
        workspace.done("undo new");
        assert_eq!(text(&worker, "SELECT count(*) FROM nights"), "3");
        assert_eq!(text(&open(&path), "PRAGMA integrity_check"), "ok");
    }
}
