//! One of every object and every value that an engine knows: nothing is lost on the way.
//! The comparison does not use Fernweh's own reading code.

use super::PROGRAM;
use fernweh_demo::database::{Database, Place};
use fernweh_demo::server::Server;
use fernweh_testkit::{
    Cells, Workspace, database_cells, mariadb_client, new_database, psql, shared_server,
};
use std::process::Command;

pub(super) const POSTGRES: &str = include_str!("../zoo/postgres.sql");
pub(super) const SQLITE: &str = include_str!("../zoo/sqlite.sql");
pub(super) const MARIADB: &str = include_str!("../zoo/mariadb.sql");
const MARIADB_SETTINGS: &str = include_str!("../zoo/mariadb_settings.sql");

/// Says what differs, short.
pub(super) fn assert_same(before: &Cells, after: &Cells, what: &str) {
    let mut different = Vec::new();
    for (place, lines) in before.iter() {
        let other = after.get(place);
        for (n, line) in lines.iter().enumerate() {
            let found = other.and_then(|other| other.get(n));
            if found != Some(line) {
                let found = found.map(|line| &line[..line.len().min(400)]);
                different.push(format!("{place}\n - {line:.400}\n + {found:?}"));
            }
        }
        if other.is_some_and(|other| other.len() > lines.len()) {
            different.push(format!("{place}: more lines: {:?}", other.map(|o| o.last())));
        }
    }
    different.extend(after.keys().filter(|k| !before.contains_key(*k)).map(|k| format!("new {k}")));
    assert!(different.is_empty(), "{what}:\n{}", different[..different.len().min(8)].join("\n"));
}

/// A workspace with two sites that have nothing but a database.
pub(super) fn two_sites(old: &Place, new: &Place) -> Workspace {
    let workspace = Workspace::new(PROGRAM);
    let mut text = String::new();
    for (name, place) in [("old", old), ("new", new)] {
        let database = match place {
            Place::Sqlite(path) => format!("sqlite:{}", path.display()),
            Place::Mariadb { port, user, name, .. } => {
                format!("mariadb://{user}@127.0.0.1:{port}/{name}")
            }
            Place::Postgres { port, user, name, .. } => {
                format!("postgres://{user}@127.0.0.1:{port}/{name}")
            }
        };
        text.push_str(&format!("[site.{name}]\ndatabase = \"{database}\"\n"));
        if let Place::Mariadb { password, .. } | Place::Postgres { password, .. } = place {
            workspace.write(&format!("{name}-password"), password);
            text.push_str(&format!("password.database = {{ file = \"{name}-password\" }}\n"));
        }
    }
    workspace.write("fernweh.toml", text);
    workspace
}

/// Packs, unpacks, replaces, takes back; after each step the whole database is compared.
fn there_and_back(old: &Place, new: &Place) -> Workspace {
    let workspace = two_sites(old, new);
    let before = database_cells(old);
    let nothing = match new {
        // Its client lists nothing where there is nothing.
        Place::Postgres { .. } => Cells::default(),
        _ => database_cells(new),
    };
    workspace.done("pack old -o zoo.fernweh.tar");
    workspace.done("unpack zoo.fernweh.tar new --as-is");
    assert_same(&before, &database_cells(old), "packing changes nothing");
    let first = database_cells(new);
    assert_same(&before, &first, "unpacked");
    workspace.done("unpack zoo.fernweh.tar new --as-is --overwrite");
    assert_same(&before, &database_cells(new), "unpacked over it");
    workspace.done("undo new");
    assert_same(&first, &database_cells(new), "taken back");
    workspace.done("undo new");
    if !matches!(new, Place::Postgres { .. }) {
        // Extensions and range types cannot be taken back, and are named.
        assert_same(&nothing, &database_cells(new), "taken back to the beginning");
    }
    workspace.redo("new");
    assert_same(&first, &database_cells(new), "and forth");
    workspace.done("undo new --let-go --yes");
    assert_same(&first, &database_cells(new), "let go");
    workspace.done("pack new -o again.fernweh.tar");
    workspace
}

/// Without Fernweh: the members of the archive in the order of their names.
fn unpack_by_hand(workspace: &Workspace) {
    let script = "mkdir x && tar -xf zoo.fernweh.tar -C x && \
                  find x/database -name '*.zst' | LC_ALL=C sort | xargs zstd -qdc > all.sql";
    let ran = Command::new("sh").args(["-c", script]).current_dir(workspace.path(".")).status();
    assert!(ran.unwrap().success());
}

#[test]
fn everything_in_a_sqlite_database_arrives() {
    let folder = tempfile::tempdir().unwrap();
    let [old, new] = ["old.db", "new.db"].map(|name| Place::Sqlite(folder.path().join(name)));
    Database::open(&old).unwrap().run(SQLITE.as_bytes()).unwrap();
    let workspace = there_and_back(&old, &new);
    let ask = |sql: &str| Database::open(&new).unwrap().ask(sql);
    assert_eq!(ask("SELECT rowid FROM words WHERE words MATCH 'rising'").unwrap().len(), 1);
    assert_eq!(
        ask("SELECT rowid FROM loose_words WHERE loose_words MATCH 'far'").unwrap().len(),
        1
    );
    assert_eq!(ask("SELECT id FROM places WHERE x1 > 4").unwrap()[0][0].as_deref(), Some("2"));

    // What stays at the destination keeps its shadows and its rowids.
    Database::open(&new).unwrap().run(b"DROP TABLE words; DROP TABLE loose").unwrap();
    workspace.done("pack new -o fewer.fernweh.tar");
    workspace.done("unpack fewer.fernweh.tar old --as-is --overwrite");
    let ask = |sql: &str| Database::open(&old).unwrap().ask(sql).unwrap();
    assert_eq!(ask("SELECT rowid FROM words WHERE words MATCH 'moon'")[0][0].as_deref(), Some("7"));
    assert_eq!(ask("SELECT max(rowid) FROM loose")[0][0].as_deref(), Some("1000000000000"));

    // After rewriting, the index knows the new words.
    workspace.write("fernweh.toml", format!(
        "{}[[rule]]\nfrom = \"http://glimmerpoint.example\"\nto = \"https://observatory.test\"\n",
        std::fs::read_to_string(workspace.path("fernweh.toml")).unwrap()
    ));
    workspace.done("unpack zoo.fernweh.tar new --overwrite");
    let rows =
        Database::open(&new).unwrap().ask("SELECT body FROM words WHERE words MATCH 'observatory'");
    let rows = rows.unwrap();
    assert_eq!(rows[0][0].as_deref(), Some("rises at https://observatory.test/"));
}

#[test]
fn everything_in_a_mariadb_database_arrives() {
    let [old, new, third] =
        ["zoo_old", "zoo_new", "zoo_third"].map(|name| new_database(Server::Mariadb, name));
    mariadb_client(&old, MARIADB.into());
    let workspace = there_and_back(&old, &new);
    unpack_by_hand(&workspace);
    let told = workspace.done("pack old -o named.fernweh.tar").out;
    assert!(told.contains("merge table both_parts"), "{told}");
    // The same, written by the program; tables without a snapshot aside, it is the same text.
    workspace.done("pack old --sql script.sql").says("plain SQL");
    let read = |name: &str| std::fs::read(workspace.path(name)).unwrap();
    assert_eq!(read("all.sql").len(), read("script.sql").len());
    workspace.run("pack old --sql script.sql").code(2).says("already there");
    mariadb_client(&third, std::fs::read(workspace.path("all.sql")).unwrap());
    assert_same(&database_cells(&old), &database_cells(&third), "loaded with the plain client");
}

#[test]
fn objects_keep_the_settings_under_which_they_were_made() {
    let [old, new, third] = ["settings_old", "settings_new", "settings_third"]
        .map(|n| new_database(Server::Mariadb, n));
    mariadb_client(&old, MARIADB_SETTINGS.into());
    let workspace = there_and_back(&old, &new);
    unpack_by_hand(&workspace);
    mariadb_client(&third, std::fs::read(workspace.path("all.sql")).unwrap());
    assert_same(&database_cells(&old), &database_cells(&third), "loaded with the plain client");
    // They also do the same.
    let asked = "SELECT f_backslash(), f_joined(), o_joined(), f_not(), f_german(), \
                 f_exact(), f_text(); CALL p_backslash(); CALL p_minus(); CALL p_named(); \
                 CALL o_backslash(); INSERT INTO words_log VALUES ('x'); SELECT @seen; \
                 SELECT * FROM words_log";
    let [told, again, by_client] = [&old, &new, &third].map(|at| mariadb_client(at, asked.into()));
    assert_eq!((&told, &told), (&again, &by_client));
}

#[test]
fn views_on_a_table_that_is_named_like_its_database_arrive() {
    let [old, new] = ["namesake_old", "namesake_new"].map(|n| new_database(Server::Mariadb, n));
    let Place::Mariadb { name, .. } = &old else { unreachable!() };
    let script = "CREATE TABLE @ (id int, twice int); INSERT INTO @ VALUES (3, 6);
        CREATE TABLE other (id int, twice int); INSERT INTO other VALUES (3, 0);
        CREATE FUNCTION half(n int) RETURNS int DETERMINISTIC RETURN n / 2;
        CREATE VIEW v_short AS SELECT @.id, half(@.twice) FROM @ \
            JOIN other ON other.id = @.id;
        CREATE VIEW v_long AS SELECT @.id, half(@.twice), s.schema_name FROM @ \
            JOIN information_schema.schemata s ON s.schema_name = 'information_schema';";
    mariadb_client(&old, script.replace('@', &format!("`{name}`")).into());
    let workspace = two_sites(&old, &new);
    workspace.done("pack old -o namesake.fernweh.tar");
    workspace.done("unpack namesake.fernweh.tar new --as-is");
    let asked = "SELECT * FROM v_short; SELECT * FROM v_long";
    assert_eq!(mariadb_client(&new, asked.into()), "3\t3\n3\t3\tinformation_schema\n");
}

#[test]
fn what_the_destination_refuses_is_named_and_the_rest_is_there() {
    let [old, new] = ["refusing_old", "refusing_new"].map(|n| new_database(Server::Mariadb, n));
    let script = "CREATE TABLE nights (id int); INSERT INTO nights VALUES (3);
        CREATE TABLE gone (id int); CREATE VIEW broken AS SELECT id FROM gone;
        CREATE VIEW needs_broken AS SELECT id FROM broken; DROP TABLE gone;
        CREATE VIEW z_base AS SELECT max(id) AS last FROM nights;
        CREATE FUNCTION last() RETURNS int READS SQL DATA RETURN (SELECT last FROM z_base);
        CREATE VIEW a_hidden AS SELECT last() AS last;";
    mariadb_client(&old, script.into());
    let workspace = two_sites(&old, &new);
    workspace.done("pack old -o refusing.fernweh.tar");
    let ran = workspace.run("unpack refusing.fernweh.tar new --as-is").code(1);
    let ran = ran.says("refused").says("view broken: 1146").says("view needs_broken");
    assert!(!ran.out.contains("a_hidden"), "{}", ran.out);
    assert_eq!(mariadb_client(&new, "SELECT * FROM a_hidden".into()), "3\n");
    let again = "unpack refusing.fernweh.tar new --as-is --overwrite --json";
    let report: serde_json::Value =
        serde_json::from_str(&workspace.run(again).code(1).out).unwrap();
    assert_eq!(report["not_created"].as_array().unwrap().len(), 2);
}

#[test]
fn everything_in_a_postgres_database_arrives() {
    let old = new_database(Server::Postgres, "zoo_old");
    let new = new_database(Server::Postgres, "zoo_new");
    let third = new_database(Server::Postgres, "zoo_third");
    Database::open(&old).unwrap().run(POSTGRES.as_bytes()).unwrap();
    let workspace = there_and_back(&old, &new);

    unpack_by_hand(&workspace);
    let file = workspace.path("all.sql").display().to_string();
    let told = psql(&third, &["-v", "ON_ERROR_STOP=1", "-q", "-f", &file]);
    assert!(!told.contains("ERROR"), "{told}");
    assert_same(&database_cells(&old), &database_cells(&third), "loaded with the plain client");
    drop(shared_server(Server::Postgres).lock());
}

#[test]
fn what_an_archive_of_postgres_does_not_hold_is_named() {
    let place = new_database(Server::Postgres, "unsaid");
    let Place::Postgres { name, .. } = &place else { unreachable!() };
    let script = format!(
        "CREATE TYPE night AS (held date, note text); CREATE TABLE nights OF night; \
         GRANT SELECT (note) ON nights TO PUBLIC; COMMENT ON SCHEMA public IS 'ours'; \
         SELECT lo_create(4711); COMMENT ON LARGE OBJECT 4711 IS 'a picture'; \
         ALTER DATABASE \"{name}\" SET search_path = observatory"
    );
    psql(&place, &["-c", &script]);
    let workspace = two_sites(&place, &place);
    let ran = workspace.done("pack old -o unsaid.fernweh.tar");
    [
        "columns of table",
        "setting search_path=observatory",
        "comment on schema public",
        "comment on large object 4711",
        "type public.night of which table",
    ]
    .iter()
    .fold(ran, |ran, words| ran.says(words));
}

#[test]
fn rows_that_a_policy_hides_are_not_left_out_in_silence() {
    let [old, new] = ["hidden_old", "hidden_new"].map(|name| new_database(Server::Postgres, name));
    let script = "CREATE TABLE members (id int PRIMARY KEY, hidden boolean); \
        INSERT INTO members VALUES (1, false), (2, true); \
        ALTER TABLE members ENABLE ROW LEVEL SECURITY; \
        CREATE POLICY shown ON members USING (NOT hidden)";
    psql(&old, &["-c", script]);
    let workspace = two_sites(&old, &new);
    workspace.done("pack old -o a.tar");
    psql(&old, &["-c", "ALTER TABLE members FORCE ROW LEVEL SECURITY"]);
    for line in ["pack old -o b.tar", "survey old"] {
        let ran = workspace.run(line).code(3).says("hides rows from this login");
        ran.says("BYPASSRLS").says("members");
    }
    // Where they come from an archive, they are put in place, whoever may see them afterwards.
    workspace.done("unpack a.tar new --as-is");
    psql(&new, &["-c", "ALTER TABLE members FORCE ROW LEVEL SECURITY"]);
    workspace.done("unpack a.tar new --as-is --overwrite");
    assert_eq!(psql(&new, &["-c", "SELECT count(*) FROM members"]), "2\n");
    workspace.done("undo new");
    assert_eq!(psql(&new, &["-c", "SELECT count(*) FROM members"]), "1\n");
    psql(&new, &["-c", "ALTER TABLE members NO FORCE ROW LEVEL SECURITY"]);
    assert_eq!(psql(&new, &["-c", "SELECT count(*) FROM members"]), "2\n");
}
