//! What is broken off goes on where it stopped; a lost connection is none of the user's
//! business.

use super::zoo::{assert_same, two_sites};
use fernweh_demo::database::{Database, Place};
use fernweh_demo::server::{PrivateServer, Server};
use fernweh_testkit::{Workspace, database_cells};
use std::fs;

/// Enough rows for several portions that are secured one after another.
fn fill(old: &Place) {
    let mut database = Database::open(old).unwrap();
    let sql = match old {
        Place::Mariadb { .. } => {
            "CREATE TABLE nights (id int PRIMARY KEY, note text) ENGINE=InnoDB; \
             CREATE TABLE old_kind (id int PRIMARY KEY, note text) ENGINE=MyISAM; \
             INSERT INTO nights SELECT seq, concat(seq, repeat(' seen', 240)) FROM seq_1_to_30000; \
             INSERT INTO old_kind SELECT seq, concat(seq, repeat(' seen', 240)) FROM seq_1_to_9000; \
             CREATE TABLE last_one (id int); INSERT INTO last_one VALUES (1), (1)"
        }
        _ => {
            "CREATE TABLE nights (id int PRIMARY KEY, note text); \
             INSERT INTO nights SELECT n, n || repeat(' seen', 240) FROM generate_series(1, 30000) n; \
             CREATE TABLE last_one (id int); INSERT INTO last_one VALUES (1), (1)"
        }
    };
    for statement in sql.split("; ") {
        database.run(statement.as_bytes()).unwrap();
    }
}

/// A server that may fall over, and two sites on it.
fn unsteady(kind: Server) -> (tempfile::TempDir, PrivateServer, Workspace, Place, Place) {
    let folder = tempfile::tempdir().unwrap();
    // PostgreSQL runs as a user of its own.
    let open = std::os::unix::fs::PermissionsExt::from_mode(0o755);
    fs::set_permissions(folder.path(), open).unwrap();
    let server = PrivateServer::start(kind, &folder.path().join("server")).unwrap();
    let [old, new] =
        ["old", "new"].map(|name| server.make_database(name, &format!("u_{name}"), "pw").unwrap());
    fill(&old);
    let workspace = two_sites(&old, &new);
    (folder, server, workspace, old, new)
}

fn goes_on(kind: Server, records: u64) {
    let (_folder, mut server, workspace, old, new) = unsteady(kind);
    workspace.done("pack old -o nights.fernweh.tar");
    let line = "unpack nights.fernweh.tar new --as-is";
    let cells = database_cells(&old);

    // The server falls over in the middle, and comes back.
    let ran = workspace.run_halted_at(line, "secured", || server.crash_and_restart().unwrap());
    ran.fine().says("trying again in 1 second");
    assert_same(&cells, &database_cells(&new), "after a lost connection");
    workspace.done("undo new");
    workspace.done("undo new --let-go --yes");

    // The program is killed in the middle, twice.
    workspace.run_killed_at(line, "secured");
    workspace.done("runs").says("unfinished");
    workspace.run_killed_at(line, "secured#2");
    let told = workspace.done(&format!("{line} --json")).json();
    assert_eq!(told["went_on"], true);
    assert_eq!(told["records"], records);
    assert_same(&cells, &database_cells(&new), "gone on after a kill");
    workspace.done("undo new");
    workspace.done("undo new --let-go --yes");

    // Something else is asked for: that begins anew.
    workspace.run_killed_at(line, "secured");
    let told = workspace.done(&format!("{line} --tables nights --json")).json();
    assert_eq!(told["went_on"], false);
    workspace.done("undo new");
    workspace.done("undo new --let-go --yes");
    let left = Database::open(&new).unwrap().ask(
        "SELECT count(*) FROM information_schema.tables WHERE table_name LIKE '\\_fw%' \
         OR table_schema LIKE '\\_fw%'",
    );
    assert_eq!(left.unwrap()[0][0].as_deref(), Some("0"));
}

#[test]
fn unpacking_into_mariadb_goes_on_after_a_crash_of_the_server_or_a_kill() {
    goes_on(Server::Mariadb, 39_002);
}

#[test]
fn unpacking_into_postgres_goes_on_after_a_crash_of_the_server_or_a_kill() {
    goes_on(Server::Postgres, 30_002);
}

/// Tables that are worth a mark each.
fn fill_several(old: &Place) {
    let mut database = Database::open(old).unwrap();
    for name in ["a_first", "b_second", "c_third"] {
        let rows = match old {
            Place::Mariadb { .. } => "SELECT seq, repeat(' seen', 300) FROM seq_1_to_12000",
            _ => "SELECT n, repeat(' seen', 300) FROM generate_series(1, 12000) n",
        };
        for sql in [
            format!("CREATE TABLE {name} (id int PRIMARY KEY, note text)"),
            format!("INSERT INTO {name} {rows}"),
        ] {
            database.run(sql.as_bytes()).unwrap();
        }
    }
    if matches!(old, Place::Mariadb { .. }) {
        let counted = b"CREATE TABLE d_counted (id int AUTO_INCREMENT PRIMARY KEY, note int)";
        database.run(counted).unwrap();
    }
}

/// A visitor's record moves the counter of its table, which the structure names on MariaDB.
fn visit(old: &Place) {
    if matches!(old, Place::Mariadb { .. }) {
        let mut database = Database::open(old).unwrap();
        database.run(b"INSERT INTO d_counted (note) VALUES (1)").unwrap();
    }
}

fn packing_goes_on(kind: Server) {
    let (_folder, mut server, workspace, old, new) = unsteady(kind);
    fill_several(&old);

    // The server falls over between two tables, and in the middle of the largest.
    for step in ["table-packed#2", "rows-read#45"] {
        let line = format!("pack old -o {step}.fernweh.tar");
        let ran = workspace.run_halted_at(&line, step, || {
            // Its table is still to come then, and is read as it is after the break.
            if step.starts_with("table") {
                visit(&old);
            }
            server.crash_and_restart().unwrap();
        });
        ran.fine().says("trying again").says("not of one moment");
        let cells = database_cells(&old);
        let line = format!("unpack {step}.fernweh.tar new --as-is --overwrite");
        workspace.done(&line).says("not all of one moment");
        assert_same(&cells, &database_cells(&new), step);
        workspace.done("undo new --let-go --yes");
    }

    // The program is killed, and goes on behind the tables that are complete.
    workspace.run_killed_at("pack old -o kill.fernweh.tar", "table-packed#2");
    visit(&old);
    let cells = database_cells(&old);
    workspace.run("pack old -o kill.fernweh.tar --only database").fine();
    let told = workspace.done("show kill.fernweh.tar --verify").says("with a break");
    told.says("every digest checked and everything read: the archive is whole");
    workspace.done("unpack kill.fernweh.tar new --as-is --overwrite");
    assert_same(&cells, &database_cells(&new), "gone on after a kill");
    workspace.run("pack old -o kill.fernweh.tar").code(2).says("already there");

    // A structure that has changed meanwhile is none to go on with.
    workspace.run_killed_at("pack old -o late.fernweh.tar", "table-packed#3");
    Database::open(&old).unwrap().run(b"ALTER TABLE c_third ADD more int").unwrap();
    workspace.run("pack old -o late.fernweh.tar").code(2).says("has changed").says("--fresh");
    workspace.run("pack old -o late.fernweh.tar --fresh").fine();
}

/// Large enough for several marks within one table.
fn one_large_table(old: &Place) -> Vec<String> {
    let rows = match old {
        Place::Mariadb { .. } => {
            "INSERT INTO pages SELECT seq DIV 100, seq, repeat(md5(seq), 40) FROM seq_1_to_60000"
        }
        Place::Postgres { .. } => {
            "INSERT INTO pages SELECT n / 100, n, repeat(md5(n::text), 40) \
             FROM generate_series(1, 60000) n; ANALYZE pages"
        }
        Place::Sqlite(_) => {
            "WITH RECURSIVE c(n) AS (SELECT 1 UNION ALL SELECT n + 1 FROM c WHERE n < 60000) \
             INSERT INTO pages SELECT n / 100, n, replace(hex(zeroblob(640)), '00', n) FROM c"
        }
    };
    let key = match old {
        Place::Mariadb { .. } => {
            "section bigint, id int unsigned, note text, PRIMARY KEY (section, id)"
        }
        Place::Postgres { .. } => "section bigint, id int, note text, PRIMARY KEY (section, id)",
        Place::Sqlite(_) => "section integer, id INTEGER PRIMARY KEY, note text",
    };
    let make = format!("CREATE TABLE pages ({key})");
    std::iter::once(make).chain(rows.split("; ").map(str::to_owned)).collect()
}

/// A table is read on behind the last row that is sure: what was before it stays as it was.
fn goes_on_within_a_table(workspace: &Workspace, old: &Place, new: &Place) {
    let mut database = Database::open(old).unwrap();
    for sql in one_large_table(old) {
        database.run(sql.as_bytes()).unwrap();
    }
    let cells = database_cells(old);
    workspace.run_killed_at("pack old -o part.fernweh.tar", "rows-read#55");
    workspace.run_killed_at("pack old -o part.fernweh.tar", "rows-read#1");
    workspace.done("pack old -o part.fernweh.tar").says("not of one moment");
    workspace.done("unpack part.fernweh.tar new --as-is --overwrite");
    assert_same(&cells, &database_cells(new), "gone on within a table");

    workspace.run_killed_at("pack old -o now.fernweh.tar", "rows-read#55");
    for id in [1, 60_000] {
        let sql = format!("UPDATE pages SET note = 'meanwhile' WHERE id = {id}");
        database.run(sql.as_bytes()).unwrap();
    }
    workspace.done("pack old -o now.fernweh.tar");
    workspace.done("unpack now.fernweh.tar new --as-is --overwrite");
    let sql = "SELECT id FROM pages WHERE note = 'meanwhile'";
    let found = Database::open(new).unwrap().ask(sql).unwrap();
    assert_eq!(found, [[Some("60000".to_owned())]], "only what was read later is new");
    workspace.done("undo new --let-go --yes");
}

fn packing_goes_on_within_a_table(kind: Server) {
    let (_folder, mut server, workspace, old, new) = unsteady(kind);
    goes_on_within_a_table(&workspace, &old, &new);
    // The server falls over in the middle of it: the rows that are read are kept.
    let line = "pack old --tables pages -o fall.fernweh.tar";
    let ran = workspace.run_halted_at(line, "rows-read#20", || {
        server.crash_and_restart().unwrap();
        let sql = "UPDATE pages SET note = 'later' WHERE id IN (2, 59999)";
        Database::open(&old).unwrap().run(sql.as_bytes()).unwrap();
    });
    ran.fine().says("trying again").says("not of one moment");
    workspace.done("unpack fall.fernweh.tar new --as-is --overwrite");
    let sql = "SELECT id FROM pages WHERE note = 'later'";
    let found = Database::open(&new).unwrap().ask(sql).unwrap();
    assert_eq!(found, [[Some("59999".to_owned())]]);
    let sql = "SELECT count(*), sum(id) FROM pages";
    let all = Database::open(&old).unwrap().ask(sql).unwrap();
    assert_eq!(Database::open(&new).unwrap().ask(sql).unwrap(), all, "no row is passed over");
}

#[test]
fn packing_goes_on_within_a_table_of_mariadb() {
    packing_goes_on_within_a_table(Server::Mariadb);
}

#[test]
fn packing_goes_on_within_a_table_of_postgres() {
    packing_goes_on_within_a_table(Server::Postgres);
}

#[test]
fn packing_goes_on_within_a_table_of_sqlite() {
    let folder = tempfile::tempdir().unwrap();
    let [old, new] = ["old.db", "new.db"].map(|name| Place::Sqlite(folder.path().join(name)));
    let workspace = two_sites(&old, &new);
    goes_on_within_a_table(&workspace, &old, &new);
}

#[test]
fn packing_mariadb_goes_on_after_a_crash_of_the_server_or_a_kill() {
    packing_goes_on(Server::Mariadb);
}

#[test]
fn packing_postgres_goes_on_after_a_crash_of_the_server_or_a_kill() {
    packing_goes_on(Server::Postgres);
}

#[test]
fn packing_typed_again_goes_on_with_what_was_broken_off_today() {
    let workspace = Workspace::new(super::PROGRAM);
    workspace.write("fernweh.toml", "[site.old]\nfiles = \"htdocs\"\ndatabase = \"none\"\n");
    workspace.write("htdocs/index.php", "one");
    let partial = || {
        let names = fs::read_dir(workspace.path(".")).unwrap().flatten();
        let names = names.map(|entry| entry.path());
        names.filter(|name| name.to_string_lossy().ends_with(".partial")).collect::<Vec<_>>()
    };
    workspace.run_killed_at("pack old", "begun");
    let begun = partial();
    assert_eq!(begun.len(), 1);
    workspace.done("pack old").says("1 file").says("resuming the unfinished archive");
    assert_eq!(partial().len(), 0);

    // One of another day is not what is meant today; it stays for whoever names it.
    workspace.run_killed_at("pack old", "begun");
    let marks = format!("{}.marks", partial()[0].display());
    let long_ago = std::time::SystemTime::now() - std::time::Duration::from_secs(30 * 60 * 60);
    fs::File::options().append(true).open(marks).unwrap().set_modified(long_ago).unwrap();
    let ran = workspace.done("pack old");
    assert!(!ran.err.contains("resuming"), "{}", ran.err);
    assert_eq!(partial().len(), 1);
    // And whoever wants a new one says so.
    workspace.run_killed_at("pack old -o named.tar", "begun");
    let ran = workspace.done("pack old -o named.tar --fresh");
    assert!(!ran.err.contains("resuming"), "{}", ran.err);
    workspace.done("pack old --fresh");
    assert_eq!(partial().len(), 0, "what it replaces is removed");
}

#[test]
fn what_another_program_is_packing_is_left_to_it() {
    let workspace = Workspace::new(super::PROGRAM);
    workspace.write("fernweh.toml", "[site.old]\nfiles = \"htdocs\"\ndatabase = \"none\"\n");
    workspace.write("htdocs/index.php", "one");
    let first = workspace.run_halted_at("pack old", "begun", || {
        workspace.done("pack old");
    });
    first.fine();
    let named = workspace.run_halted_at("pack old -o a.tar", "begun", || {
        workspace.run("pack old -o a.tar").code(3).says("another run is writing this archive");
    });
    named.fine();
    workspace.done("show a.tar --verify");
}
