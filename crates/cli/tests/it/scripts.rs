//! SQL scripts, folders and packed files of others in place of an archive.

use super::PROGRAM;
use super::zoo::{MARIADB, POSTGRES, SQLITE, assert_same, two_sites};
use fernweh_demo::database::{Database, Place};
use fernweh_demo::server::Server;
use fernweh_testkit::{Scene, database_cells, files_of, mariadb_client, new_database};
use std::fs;
use std::process::Command;

/// A script of everything, taken in place of an archive.
fn script_and_back(old: &Place, new: &Place) -> Scene {
    let scene = two_sites(old, new);
    scene.done("pack old --sql zoo.sql");
    scene.done("unpack zoo.sql new --as-is");
    // Plain clients make the index of a full-text table anew.
    let cells = |place| {
        let made = ["words_data", "words_idx", "sqlite_stat1", "sqlite_stat4"];
        made.iter().fold(database_cells(place), |cells, table| cells.without(table))
    };
    assert_same(&cells(old), &cells(new), "from a script");
    scene
}

#[test]
fn a_script_of_everything_in_sqlite_arrives() {
    let folder = tempfile::tempdir().unwrap();
    let [old, new] = ["old.db", "new.db"].map(|name| Place::Sqlite(folder.path().join(name)));
    Database::open(&old).unwrap().run(SQLITE.as_bytes()).unwrap();
    script_and_back(&old, &new);
}

#[test]
fn a_script_of_everything_in_mariadb_arrives() {
    let [old, new] = ["script_old", "script_new"].map(|name| new_database(Server::Mariadb, name));
    mariadb_client(&old, MARIADB.into());
    script_and_back(&old, &new);
}

#[test]
fn a_script_of_everything_in_postgres_arrives() {
    let [old, new] = ["script_old", "script_new"].map(|name| new_database(Server::Postgres, name));
    Database::open(&old).unwrap().run(POSTGRES.as_bytes()).unwrap();
    script_and_back(&old, &new);
}
