//! PostgreSQL's large objects: values outside all tables, known by their numbers.

use super::zoo::two_sites;
use fernweh_demo::database::{Database, Place};
use fernweh_demo::server::Server;
use fernweh_testkit::{Workspace, new_database, psql};

const PICTURES: &str = "
CREATE DOMAIN lo AS oid;
CREATE TABLE pictures (id integer PRIMARY KEY, name text NOT NULL, image oid, thumb lo);
INSERT INTO pictures VALUES
  (1, 'comet', lo_from_bytea(0, decode(repeat('00ff5c0a', 1000000), 'hex')), lo_from_bytea(0, 'small')),
  (2, 'moon', lo_from_bytea(0, 'http://glimmerpoint.example/moon.png'), NULL),
  (3, 'nothing', lo_create(0), NULL),
  (4, 'edge', lo_from_bytea(0, decode(repeat('ab', 1048576), 'hex')), NULL);
CREATE TABLE apart (id integer PRIMARY KEY, image oid);
INSERT INTO apart VALUES (1, lo_from_bytea(0, 'another table'));
SELECT lo_from_bytea(0, 'no table leads here');
";

fn sites(name: &str) -> (Workspace, Place, Place) {
    let old = new_database(Server::Postgres, &format!("{name}_old"));
    let new = new_database(Server::Postgres, &format!("{name}_new"));
    Database::open(&old).unwrap().run(PICTURES.as_bytes()).unwrap();
    (two_sites(&old, &new), old, new)
}

fn ask(place: &Place, sql: &str) -> Vec<String> {
    let rows = Database::open(place).unwrap().ask(sql).unwrap();
    rows.into_iter().map(|row| row.into_iter().flatten().collect::<Vec<_>>().join("|")).collect()
}

/// What a visitor sees: the values behind the numbers.
fn pictures(place: &Place) -> Vec<String> {
    ask(place, "SELECT name, md5(lo_get(image)), md5(lo_get(thumb)) FROM pictures ORDER BY id")
}

fn objects(place: &Place) -> Vec<String> {
    ask(place, "SELECT md5(lo_get(oid)) FROM pg_largeobject_metadata ORDER BY 1")
}

#[test]
fn large_objects_arrive_and_numbers_that_are_taken_are_replaced() {
    let (workspace, old, new) = sites("lo");
    workspace.done("survey old").says("7 large objects travel along");
    workspace.done("pack old -o a.fernweh.tar").says("2 tables, 5 records");
    workspace.done("unpack a.fernweh.tar new --as-is");
    assert_eq!(pictures(&new), pictures(&old));
    assert_eq!(objects(&new), objects(&old));
    let numbers = "SELECT image, thumb FROM pictures ORDER BY id";
    assert_eq!(ask(&new, numbers), ask(&old, numbers), "the numbers are free, so they stay");

    // Over it: every number is taken, and what visitors changed meanwhile comes back.
    ask(&new, "SELECT lo_put(image, 0, 'changed') FROM pictures WHERE id = 2");
    let changed = pictures(&new);
    workspace
        .done("unpack a.fernweh.tar new --as-is --overwrite")
        .says("7 large objects have another");
    assert_eq!(pictures(&new), pictures(&old));
    workspace.done("undo new");
    assert_eq!(pictures(&new), changed);
    workspace.redo("new");
    assert_eq!(pictures(&new), pictures(&old));
    assert_eq!(objects(&new).len(), 14, "both states are kept");
    workspace.done("undo new --let-go --yes");
    assert_eq!(pictures(&new), pictures(&old));
    // That of the first unpacking to which no table leads stays: nobody can say whose it is.
    assert_eq!(objects(&new).len(), 8);
}

#[test]
fn a_run_that_is_stopped_or_only_tried_leaves_no_large_object_behind() {
    let (workspace, old, new) = sites("lo_stop");
    workspace.done("pack old -o a.fernweh.tar");
    workspace.done("unpack a.fernweh.tar new --as-is --preview");
    assert_eq!(objects(&new), Vec::<String>::new());
    for step in ["secured", "built"] {
        workspace.run_killed_at("unpack a.fernweh.tar new --as-is", step);
        let runs = workspace.changes();
        let open =
            runs.as_array().unwrap().iter().find(|run| run["state"] == "unfinished").unwrap();
        workspace.done(&format!("runs --discard {}", open["run"].as_str().unwrap()));
        assert_eq!(objects(&new), Vec::<String>::new(), "{step}");
    }
    workspace.run_killed_at("unpack a.fernweh.tar new --as-is", "secured");
    workspace.done("unpack a.fernweh.tar new --as-is");
    assert_eq!(pictures(&new), pictures(&old));
    assert_eq!(objects(&new), objects(&old));
    let left = "SELECT relname FROM pg_class WHERE relname = 'numbers'";
    assert!(ask(&new, left).is_empty());
}

#[test]
fn some_tables_take_only_their_own_large_objects() {
    let (workspace, old, new) = sites("lo_some");
    workspace.done("pack old --tables pictures -o a.fernweh.tar");
    workspace.done("unpack a.fernweh.tar new --as-is");
    assert_eq!(pictures(&new), pictures(&old));
    assert_eq!(objects(&new).len(), 5);

    // Rows into a structure that is there already.
    workspace.done("unpack a.fernweh.tar new --as-is --rows-only --overwrite");
    assert_eq!(pictures(&new), pictures(&old));
    assert_eq!(objects(&new).len(), 10);

    // With the plain client, in the order of the names.
    let third = new_database(Server::Postgres, "lo_third");
    workspace.done("pack old --sql all.sql");
    let file = workspace.path("all.sql").display().to_string();
    let told = psql(&third, &["-v", "ON_ERROR_STOP=1", "-q", "-f", &file]);
    assert!(!told.contains("ERROR"), "{told}");
    assert_eq!(pictures(&third), pictures(&old));
}
