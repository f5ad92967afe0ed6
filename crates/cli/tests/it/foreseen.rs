//! What would fail when the new state takes its place is found before, and nothing has changed.

use super::zoo::two_sites;
use fernweh_demo::database::{Database, Place};
use fernweh_demo::server::Server;
use fernweh_testkit::{Workspace, database_cells, mariadb_client, new_database, shared_server};

fn administrator(sql: &str) {
    let server = shared_server(Server::Mariadb).lock().unwrap();
    server.administrator().unwrap().run(sql.as_bytes()).unwrap();
}

fn name_of(place: &Place) -> String {
    match place {
        Place::Mariadb { name, .. } | Place::Postgres { name, .. } => name.clone(),
        Place::Sqlite(_) => String::new(),
    }
}

/// Two sites on MariaDB; the first is packed.
fn packed(old: &str, new: &str) -> (Workspace, Place) {
    let places = ["foreseen_old", "foreseen_new"].map(|name| new_database(Server::Mariadb, name));
    mariadb_client(&places[0], old.into());
    mariadb_client(&places[1], new.into());
    let workspace = two_sites(&places[0], &places[1]);
    workspace.done("pack old -o a.tar");
    (workspace, places[1].clone())
}

/// The run ends with these words, and the site is what it was.
fn refused(workspace: &Workspace, new: &Place, command: &str, code: i32, words: &[&str]) {
    let before = database_cells(new);
    if command == OVER {
        // The tests before a move find it, too, and change nothing.
        let tested = workspace.run("survey old --for new").code(3).says("failed");
        words.iter().fold(tested, |tested, words| tested.says(words));
        assert_eq!(before, database_cells(new));
    }
    let ran = workspace.run(command).code(code).says("nothing was changed");
    words.iter().fold(ran, |ran, words| ran.says(words));
    assert_eq!(before, database_cells(new));
    if let Place::Mariadb { .. } = new {
        let left = "SELECT count(*) FROM information_schema.tables \
                    WHERE table_schema = database() AND left(table_name, 3) = '_fw'";
        assert_eq!(mariadb_client(new, left.into()), "0\n");
    }
}

const NIGHTS: &str = "CREATE TABLE nights (id int PRIMARY KEY, note varchar(20)); \
                      INSERT INTO nights VALUES (1, 'clear');";
const UNPACK: &str = "unpack a.tar new --as-is";
const OVER: &str = "unpack a.tar new --as-is --overwrite";

#[test]
fn a_view_is_not_replaced_unless_that_is_meant() {
    let folder = tempfile::tempdir().unwrap();
    let files = ["old.db", "new.db"].map(|name| Place::Sqlite(folder.path().join(name)));
    let on = |kind| ["views_old", "views_new"].map(|name| new_database(kind, name));
    for [old, new] in [files, on(Server::Mariadb), on(Server::Postgres)] {
        let run = |place: &Place, sql: &str| Database::open(place).unwrap().run(sql.as_bytes());
        run(&old, &format!("{NIGHTS} CREATE VIEW best AS SELECT id FROM nights")).unwrap();
        run(&new, "CREATE VIEW best AS SELECT 7 AS id").unwrap();
        let workspace = two_sites(&old, &new);
        workspace.done("pack old -o a.tar");
        refused(&workspace, &new, UNPACK, 2, &["site new is not empty", "best", "--overwrite"]);
        let ask = || Database::open(&new).unwrap().ask("SELECT id FROM best").unwrap();
        workspace.done(OVER);
        assert_eq!(ask()[0][0].as_deref(), Some("1"));
        workspace.done("undo new");
        assert_eq!(ask()[0][0].as_deref(), Some("7"));
    }
}

#[test]
fn a_routine_that_could_not_come_back_is_not_dropped() {
    let (workspace, new) = packed(&format!("{NIGHTS} CREATE PROCEDURE tidy() SELECT 1;"), "");
    administrator(&format!(
        "CREATE PROCEDURE `{}`.tidy() SELECT 'of somebody else'",
        name_of(&new)
    ));
    refused(&workspace, &new, OVER, 3, &["procedure tidy cannot be replaced", "undo"]);
}

#[test]
fn names_and_columns_of_keys_of_tables_that_stay_are_looked_at() {
    let observers = "CREATE TABLE observers (id int PRIMARY KEY, night int, \
                     CONSTRAINT at_night FOREIGN KEY (night) REFERENCES nights (id));";
    let (workspace, new) = packed(
        &format!("{NIGHTS} {observers}"),
        "CREATE TABLE halls (id int PRIMARY KEY); CREATE TABLE shop (id int, hall int, \
         CONSTRAINT at_night FOREIGN KEY (hall) REFERENCES halls (id))",
    );
    refused(&workspace, &new, UNPACK, 3, &["foreign key at_night", "table shop"]);

    let wider = "CREATE TABLE nights (id bigint PRIMARY KEY);";
    let stays = format!(
        "{NIGHTS} CREATE TABLE shop (id int, night int, \
                         CONSTRAINT of_night FOREIGN KEY (night) REFERENCES nights (id));"
    );
    let (workspace, new) = packed(wider, &stays);
    refused(&workspace, &new, OVER, 3, &["of_night", "table shop", "int", "bigint"]);

    let without = "CREATE TABLE nights (id int, note varchar(20));";
    let (workspace, new) = packed(without, &stays);
    refused(&workspace, &new, OVER, 3, &["of_night", "index"]);
}

#[test]
fn a_sequence_that_does_not_come_along_is_missed_before() {
    let (workspace, new) = packed(
        "CREATE SEQUENCE other_numbers; \
         CREATE TABLE gp_nights (id int DEFAULT nextval(other_numbers)); \
         INSERT INTO gp_nights VALUES (3)",
        "CREATE TABLE gp_nights (id int)",
    );
    refused(&workspace, &new, &format!("{OVER} --tables gp_*"), 3, &["sequence other_numbers"]);
    workspace.done(OVER);
}

#[test]
fn a_trigger_that_the_login_may_not_make_is_found_before() {
    let (workspace, new) = packed(
        &format!(
            "{NIGHTS} CREATE TRIGGER on_night BEFORE INSERT ON nights FOR EACH ROW SET NEW.note = 'x'"
        ),
        NIGHTS,
    );
    let name = name_of(&new);
    administrator(&format!("REVOKE TRIGGER ON `{name}`.* FROM `u_{name}`@`%`"));
    refused(&workspace, &new, OVER, 3, &["trigger on_night", "1142"]);
}

#[test]
fn a_key_of_another_database_does_not_follow_what_is_put_aside() {
    let (workspace, new) = packed(NIGHTS, NIGHTS);
    let name = name_of(&new);
    administrator(&format!(
        "CREATE DATABASE `{name}_shop`; CREATE TABLE `{name}_shop`.orders (id int, night int, \
         CONSTRAINT far FOREIGN KEY (night) REFERENCES `{name}`.nights (id)); \
         GRANT SELECT, INSERT ON `{name}_shop`.* TO `u_{name}`@`%`"
    ));
    refused(&workspace, &new, OVER, 3, &["table nights cannot be replaced", "far of"]);
    administrator(&format!("DROP DATABASE `{name}_shop`"));
    workspace.done(OVER);
}

#[test]
fn views_and_keys_that_stay_and_do_not_fit_are_found_before_on_postgres() {
    let stays = "CREATE TABLE nights (id int PRIMARY KEY, note text); \
                 INSERT INTO nights VALUES (1, 'clear');";
    for (packed, more, words) in [
        (
            "CREATE TABLE nights (id int PRIMARY KEY); INSERT INTO nights VALUES (2)",
            "CREATE VIEW best AS SELECT note FROM nights",
            ["view public.best does not fit", "note"],
        ),
        (
            "CREATE TABLE nights (id int, note text); INSERT INTO nights VALUES (2, 'hazy')",
            "CREATE TABLE shop (night int REFERENCES nights)",
            ["shop does not fit", "unique"],
        ),
    ] {
        let [old, new] =
            ["unfit_old", "unfit_new"].map(|name| new_database(Server::Postgres, name));
        Database::open(&old).unwrap().run(packed.as_bytes()).unwrap();
        Database::open(&new).unwrap().run(format!("{stays} {more}").as_bytes()).unwrap();
        let workspace = two_sites(&old, &new);
        workspace.done("pack old -o a.tar");
        refused(&workspace, &new, OVER, 3, &words);
        // It is no switch that went wrong: nothing of the run is left.
        let ours = "SELECT count(*) FROM pg_namespace WHERE nspname LIKE '\\_fw%'";
        let left = Database::open(&new).unwrap().ask(ours).unwrap();
        assert_eq!(left[0][0].as_deref(), Some("0"));
        let runs = workspace.done("runs new --json").json();
        assert_eq!(runs["runs"][0]["state"], "cleaned up", "{runs}");
    }
}

#[test]
fn partitions_in_another_schema_come_along() {
    let [old, new] = ["parted_old", "parted_new"].map(|name| new_database(Server::Postgres, name));
    let sql = "CREATE SCHEMA archive; \
               CREATE TABLE nights (id int, year int, note text) PARTITION BY LIST (year); \
               CREATE TABLE archive.nights_2025 PARTITION OF nights FOR VALUES IN (2025); \
               CREATE TABLE nights_2026 PARTITION OF nights FOR VALUES IN (2026); \
               CREATE INDEX by_note ON nights (note); \
               INSERT INTO nights VALUES (1, 2025, 'clear'), (2, 2026, 'hazy'), (3, 2025, 'wind')";
    Database::open(&old).unwrap().run(sql.as_bytes()).unwrap();
    let workspace = two_sites(&old, &new);
    workspace.done("pack old -o a.tar");
    workspace.done("unpack a.tar new --as-is");
    assert_eq!(database_cells(&old), database_cells(&new));
    Database::open(&new).unwrap().run(b"DELETE FROM nights WHERE id = 1").unwrap();
    let before = database_cells(&new);
    workspace.done("unpack a.tar new --as-is --overwrite");
    assert_eq!(database_cells(&old), database_cells(&new));
    workspace.done("undo new");
    assert_eq!(before, database_cells(&new));
    workspace.redo("new");
    assert_eq!(database_cells(&old), database_cells(&new));
    workspace.done("undo new --let-go --yes");
    assert_eq!(database_cells(&old), database_cells(&new));
}
