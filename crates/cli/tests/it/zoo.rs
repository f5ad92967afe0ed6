//! One of every object and every value that an engine knows: nothing is lost on the way.
//! The comparison does not use Fernweh's own reading code.

use super::PROGRAM;
use fernweh_demo::database::{Database, Place};
use fernweh_demo::server::Server;
use fernweh_testkit::{Cells, Scene, database_cells, new_database, psql, shared_server};
use std::process::Command;

const POSTGRES: &str = include_str!("../zoo/postgres.sql");

/// Says what differs, short.
fn assert_same(before: &Cells, after: &Cells, what: &str) {
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

/// A scene with two sites that have nothing but a database.
fn two_sites(old: &Place, new: &Place) -> Scene {
    let scene = Scene::new(PROGRAM);
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
            scene.write(&format!("{name}-password"), password);
            text.push_str(&format!("password.database = {{ file = \"{name}-password\" }}\n"));
        }
    }
    scene.write("fernweh.toml", text);
    scene
}

/// Packs, unpacks, replaces, takes back; after each step the whole database is compared.
fn there_and_back(old: &Place, new: &Place) -> Scene {
    let scene = two_sites(old, new);
    let before = database_cells(old);
    scene.done("pack old -o zoo.fernweh.tar");
    scene.done("unpack zoo.fernweh.tar new --as-is");
    assert_same(&before, &database_cells(old), "packing changes nothing");
    let first = database_cells(new);
    assert_same(&before, &first, "unpacked");
    scene.done("unpack zoo.fernweh.tar new --as-is --overwrite");
    assert_same(&before, &database_cells(new), "unpacked over it");
    scene.done("undo new");
    assert_same(&first, &database_cells(new), "taken back");
    scene.done("undo new");
    assert_same(&first, &database_cells(new), "and forth");
    scene.done("undo new --let-go");
    assert_same(&first, &database_cells(new), "let go");
    scene.done("pack new -o again.fernweh.tar");
    scene
}

#[test]
fn everything_in_a_postgres_database_arrives() {
    let old = new_database(Server::Postgres, "zoo_old");
    let new = new_database(Server::Postgres, "zoo_new");
    let third = new_database(Server::Postgres, "zoo_third");
    Database::open(&old).unwrap().run(POSTGRES.as_bytes()).unwrap();
    let scene = there_and_back(&old, &new);

    // Without Fernweh: the members of the archive in the order of their names.
    let script = "mkdir x && tar -xf zoo.fernweh.tar -C x && \
                  find x/database -name '*.zst' | LC_ALL=C sort | xargs zstd -qdc > all.sql";
    let ran = Command::new("sh").args(["-c", script]).current_dir(scene.path(".")).status();
    assert!(ran.unwrap().success());
    let file = scene.path("all.sql").display().to_string();
    let told = psql(&third, &["-v", "ON_ERROR_STOP=1", "-q", "-f", &file]);
    assert!(!told.contains("ERROR"), "{told}");
    assert_same(&database_cells(&old), &database_cells(&third), "loaded with the plain client");
    drop(shared_server(Server::Postgres).lock());
}
