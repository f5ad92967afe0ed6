//! A site that has only some tables of its database: what these need comes along, and what is
//! left behind is named.

use super::zoo::two_sites;
use fernweh_demo::database::{Database, Place};
use fernweh_demo::server::Server;
use fernweh_testkit::{Workspace, new_database};

fn run(place: &Place, script: &str) {
    Database::open(place).unwrap().run(script.as_bytes()).unwrap();
}

fn ask(place: &Place, sql: &str) -> String {
    Database::open(place).unwrap().ask(sql).unwrap()[0][0].clone().unwrap_or_default()
}

/// Both sites take the tables named `gp_…` alone.
fn chosen(old: &Place, new: &Place) -> Workspace {
    let workspace = two_sites(old, new);
    let text = std::fs::read_to_string(workspace.path("fernweh.toml")).unwrap();
    let chosen = text.replace("\ndatabase = ", "\ntables = [\"gp_*\"]\ndatabase = ");
    workspace.write("fernweh.toml", chosen);
    workspace
}

const TABLES: &str = "CREATE TABLE gp_nights (id int PRIMARY KEY, note varchar(40)); \
     CREATE TABLE gp_log (note varchar(40)); CREATE TABLE shop (id int); \
     INSERT INTO gp_nights VALUES (1, 'clear'); INSERT INTO shop VALUES (1);";

#[test]
fn a_function_that_a_trigger_calls_comes_along_on_mariadb() {
    let [old, new] = ["chosen_old", "chosen_new"].map(|name| new_database(Server::Mariadb, name));
    run(
        &old,
        &format!(
            "{TABLES} CREATE FUNCTION loud(t varchar(40)) RETURNS varchar(40) DETERMINISTIC RETURN upper(t); \
             CREATE PROCEDURE gp_tidy() CALL really_tidy(); \
             CREATE PROCEDURE really_tidy() DELETE FROM gp_log; \
             CREATE PROCEDURE shop_only() SELECT * FROM shop; \
             CREATE VIEW best AS SELECT id FROM gp_nights; \
             CREATE EVENT nightly ON SCHEDULE EVERY 1 DAY DO DELETE FROM gp_log; \
             CREATE TRIGGER on_night AFTER INSERT ON gp_nights FOR EACH ROW \
               INSERT INTO gp_log VALUES (loud(NEW.note)); \
             CREATE TRIGGER on_log AFTER DELETE ON gp_log FOR EACH ROW DELETE FROM shop"
        ),
    );
    let workspace = chosen(&old, &new);
    let ran = workspace.done("pack old -o a.tar");
    let ran = ran.says("view best: it uses table gp_nights").says("event nightly: it uses table");
    let ran = ran.says("table shop: trigger on_log uses it");
    assert!(!ran.out.contains("shop_only") && !ran.out.contains("loud"), "{}", ran.out);
    workspace.done("unpack a.tar new --as-is");
    run(&new, "INSERT INTO gp_nights VALUES (2, 'hazy')");
    assert_eq!(ask(&new, "SELECT note FROM gp_log"), "HAZY");
    let routines = "SELECT group_concat(routine_name ORDER BY 1) FROM information_schema.routines \
                    WHERE routine_schema = database()";
    assert_eq!(ask(&new, routines), "gp_tidy,loud,really_tidy");
}

#[test]
fn a_function_that_a_trigger_calls_comes_along_on_postgres() {
    let [old, new] = ["chosen_old", "chosen_new"].map(|name| new_database(Server::Postgres, name));
    run(
        &old,
        &format!(
            "{TABLES} CREATE FUNCTION note_it() RETURNS trigger LANGUAGE plpgsql AS \
             $$BEGIN INSERT INTO gp_log VALUES (upper(NEW.note)); RETURN NEW; END$$; \
             CREATE FUNCTION shop_only() RETURNS int LANGUAGE sql AS $$SELECT id FROM shop$$; \
             CREATE VIEW best AS SELECT id FROM gp_nights; \
             CREATE TRIGGER on_night AFTER INSERT ON gp_nights FOR EACH ROW EXECUTE FUNCTION note_it()"
        ),
    );
    let workspace = chosen(&old, &new);
    let ran = workspace.done("pack old -o a.tar").says("view best: it uses table gp_nights");
    assert!(!ran.out.contains("shop_only") && !ran.out.contains("note_it"), "{}", ran.out);
    workspace.done("unpack a.tar new --as-is");
    run(&new, "INSERT INTO gp_nights VALUES (2, 'hazy')");
    assert_eq!(ask(&new, "SELECT note FROM gp_log"), "HAZY");
}

#[test]
fn what_triggers_and_views_need_is_named_on_sqlite() {
    let folder = tempfile::tempdir().unwrap();
    let [old, new] = ["old.db", "new.db"].map(|name| Place::Sqlite(folder.path().join(name)));
    run(
        &old,
        &format!(
            "{TABLES} CREATE VIEW best AS SELECT id FROM gp_nights; \
             CREATE VIEW of_shop AS SELECT id FROM shop; \
             CREATE TRIGGER on_night AFTER INSERT ON gp_nights BEGIN DELETE FROM shop; END"
        ),
    );
    let workspace = chosen(&old, &new);
    let ran = workspace.done("pack old -o a.tar").says("view best: it uses table gp_nights");
    let ran = ran.says("table shop: trigger on_night uses it");
    assert!(!ran.out.contains("of_shop"), "{}", ran.out);
    let report = workspace.done("pack old -o b.tar --json").json();
    assert_eq!(report["not_named"].as_array().unwrap().len(), 2);
    // Without a choice there is nothing to name.
    let all = two_sites(&old, &new);
    assert!(!all.done("pack old -o c.tar").out.contains("left out"));
}

#[test]
fn patterns_that_match_nothing_are_named() {
    let fixture = super::fixture(fernweh_testkit::Engine::Sqlite);
    let line =
        "pack old -o a.tar --leave-out cach/** --leave-out robots.txt --without-rows gp_logg";
    fixture.workspace.done(line).says("nothing matches cach/**, gp_logg: a typing error?");
    let line = "pack old -o b.tar --leave-out robots.txt --without-rows gp_log";
    assert!(!fixture.workspace.done(line).out.contains("mistyped"));
}
