//! Killed at every named step of the journal, and at random moments.

use super::{PROGRAM, stage};
use fernweh_testkit::{Cells, Engine, Stage, database_cells, files_of};
use std::collections::BTreeMap;
use std::time::Duration;

type State = (Cells, BTreeMap<String, String>);

fn state(stage: &Stage) -> State {
    (database_cells(&stage.new), files_of(&stage.root("new")))
}

/// Two different states of the new site, the first in place; the archive of the second.
fn two_states(engine: Engine) -> (Stage, State, State) {
    let stage = stage(engine);
    let archive = stage.pack();
    stage.scene.done(&format!("unpack {archive} new"));
    stage.database("new").run(b"UPDATE gp_nights SET seeing = 'first state'").unwrap();
    stage.scene.write("new/htdocs/first.txt", "first state");
    stage.scene.done("undo new --let-go");
    let first = state(&stage);
    stage.scene.done(&format!("unpack {archive} new --overwrite"));
    let second = state(&stage);
    stage.scene.done("undo new");
    stage.scene.done("undo new --let-go");
    assert_eq!(first, state(&stage));
    assert_ne!(first, second);
    (stage, first, second)
}

const UNPACK: &str = "unpack site.fernweh.tar new --overwrite";

fn killed_at_every_step(engine: Engine, after: &[&str]) {
    let (stage, first, second) = two_states(engine);
    for step in ["started", "made", "secured", "built", "checked"] {
        let ran = stage.scene.run_killed_at(UNPACK, step);
        assert_eq!(ran.code, None, "{engine:?} {step}: not killed\n{}{}", ran.out, ran.err);
        assert_eq!(first, state(&stage), "{engine:?} {step}: the old site is whole");
        stage.scene.done("runs").says("unfinished");
        stage.scene.done(UNPACK);
        assert_eq!(second, state(&stage), "{engine:?} {step}: the same command completes");
        stage.scene.done("undo new");
        assert_eq!(first, state(&stage), "{engine:?} {step}: undo goes back");
        stage.scene.done("undo new --let-go");
    }
    for step in after {
        let ran = stage.scene.run_killed_at(UNPACK, step);
        assert_eq!(ran.code, None, "{engine:?} {step}: not killed\n{}{}", ran.out, ran.err);
        if *step != "done" {
            stage.scene.done("survey new").says("half switched");
            stage.scene.done(UNPACK).says("completed");
        }
        assert_eq!(second, state(&stage), "{engine:?} {step}: the same command completes");
        stage.scene.done("undo new");
        assert_eq!(first, state(&stage), "{engine:?} {step}: undo goes back");
        stage.scene.done("undo new --let-go");

        stage.scene.run_killed_at(UNPACK, step);
        stage.scene.done("undo new");
        assert_eq!(first, state(&stage), "{engine:?} {step}: undo goes back at once");
        stage.scene.done("undo new --let-go");
    }
}

#[test]
fn a_site_with_sqlite_survives_a_kill_at_every_step() {
    let after = ["switching", "database-switched", "files-in-place", "files-switched", "done"];
    killed_at_every_step(Engine::Sqlite, &after);
    let after = ["switching", "database-in-place", "database-switched", "files-in-place", "done"];
    killed_at_every_step(Engine::SqliteOutside, &after);
}

#[test]
fn a_site_with_mariadb_survives_a_kill_at_every_step() {
    let after = [
        "switching",
        "tables-renamed",
        "objects-taken-off",
        "database-in-place",
        "database-switched",
        "files-in-place",
        "files-switched",
        "done",
    ];
    killed_at_every_step(Engine::Mariadb, &after);
}

#[test]
fn a_site_with_postgres_survives_a_kill_at_every_step() {
    let after = [
        "switching",
        "objects-moved",
        "database-in-place",
        "database-switched",
        "files-in-place",
        "files-switched",
        "done",
    ];
    killed_at_every_step(Engine::Postgres, &after);
}

#[test]
fn an_undo_that_is_killed_can_be_completed() {
    for engine in [Engine::SqliteOutside, Engine::Mariadb, Engine::Postgres] {
        let (stage, first, second) = two_states(engine);
        for step in ["switching", "database-switched", "files-in-place"] {
            stage.scene.done(UNPACK);
            assert_eq!(second, state(&stage));
            assert_eq!(stage.scene.run_killed_at("undo new", step).code, None);
            stage.scene.done("undo new");
            assert_eq!(first, state(&stage), "{engine:?} {step}");
            stage.scene.done("undo new --let-go");
        }
    }
}

#[test]
fn an_unfinished_run_can_be_cleaned_up() {
    for engine in [Engine::Sqlite, Engine::Mariadb, Engine::Postgres] {
        let (stage, first, _) = two_states(engine);
        stage.scene.run_killed_at(UNPACK, "checked");
        let runs = stage.scene.done("runs --json").json();
        let open =
            runs.as_array().unwrap().iter().find(|run| run["state"] == "unfinished").unwrap();
        let name = open["run"].as_str().unwrap();
        stage.scene.done(&format!("runs --discard {name}"));
        assert_eq!(first, state(&stage));
        assert!(!stage.scene.path("new/.fernweh-htdocs").exists());
        stage.scene.run(&format!("runs --discard {name}")).code(2);
    }
}

#[test]
fn an_interrupted_pack_leaves_no_half_archive_and_goes_on() {
    let stage = Stage::of_size(PROGRAM, Engine::Sqlite, 30_000);
    let ran = stage.scene.run_interrupted_at("pack old -o half.tar", ".half.tar.partial");
    ran.code(5).says("nothing was changed").says("fernweh pack old -o half.tar --continue");
    assert!(!stage.scene.path("half.tar").exists());
    stage.scene.done("pack old -o half.tar --continue");
    stage.scene.done("show half.tar --verify");
    assert!(!stage.scene.path(".half.tar.partial").exists());
    assert!(!stage.scene.path(".half.tar.partial.marks").exists());
}

#[test]
fn an_interrupted_unpack_leaves_the_old_site_and_can_be_gone_on_with_or_given_up() {
    let stage = Stage::of_size(PROGRAM, Engine::Sqlite, 20_000);
    stage.pack();
    stage.scene.write("new/htdocs/index.php", "the site that stands");
    let ran = stage.scene.run_interrupted_at(UNPACK, "new/.fernweh-htdocs");
    ran.code(5).says("nothing was changed").says("type the same command again");
    let runs = stage.scene.done("runs --json").json();
    stage.scene.done(&format!("runs --discard {}", runs[0]["run"].as_str().unwrap()));
    assert!(!stage.scene.path("new/.fernweh-htdocs").exists());
    let names: Vec<_> = files_of(&stage.root("new")).into_keys().collect();
    assert_eq!(names, ["index.php"]);
    stage.scene.run_interrupted_at(UNPACK, "new/.fernweh-htdocs").code(5);
    stage.scene.done(UNPACK);
    stage.scene.done("undo new --let-go");
    assert!(!stage.scene.path("new/.fernweh-htdocs").exists());
}

#[test]
fn a_switch_behind_an_open_reader_names_it_and_is_completed_later() {
    let (stage, _, second) = two_states(Engine::Mariadb);
    let mut reader = stage.database("new");
    reader.run(b"START TRANSACTION").unwrap();
    reader.ask("SELECT count(*) FROM gp_articles").unwrap();
    stage
        .scene
        .run(UNPACK)
        .code(5)
        .says("the tables cannot be switched")
        .says("Lock wait timeout exceeded")
        .says(" of u_new_")
        .says("type the same command again to complete it");
    // Visitors see the old site all the while.
    assert_eq!(
        stage.database("new").ask("SELECT DISTINCT seeing FROM gp_nights").unwrap().len(),
        1
    );
    reader.run(b"COMMIT").unwrap();
    stage.scene.done(UNPACK).says("completed");
    assert_eq!(second, state(&stage));
}

#[test]
fn two_runs_on_one_site_do_not_meet() {
    let (stage, first, _) = two_states(Engine::Sqlite);
    let lock = std::fs::File::open(stage.scene.path(".fernweh/locks/new.lock")).unwrap();
    lock.lock().unwrap();
    stage.scene.run(UNPACK).code(3).says("another run is at work on site new");
    drop(lock);
    assert_eq!(first, state(&stage));
    stage.scene.done(UNPACK);
}

/// `scripts/soak` runs this with a seed and a number of rounds.
#[test]
#[ignore = "takes minutes; scripts/soak runs it"]
fn soak() {
    let number = |name: &str, default: u64| {
        std::env::var(name).ok().and_then(|text| text.parse().ok()).unwrap_or(default)
    };
    let (mut seed, rounds) = (number("SOAK_SEED", 1), number("SOAK_ROUNDS", 50));
    let mut random = move || {
        // xorshift64, so that a seed gives the same moments again
        seed ^= seed << 13;
        seed ^= seed >> 7;
        seed ^= seed << 17;
        seed
    };
    for engine in [Engine::Sqlite, Engine::SqliteOutside, Engine::Mariadb, Engine::Postgres] {
        let (stage, first, second) = two_states(engine);
        let began = std::time::Instant::now();
        stage.scene.done(UNPACK);
        let whole = began.elapsed().as_micros() as u64;
        stage.scene.done("undo new");
        stage.scene.done("undo new --let-go");
        let mut ends = [0, 0];
        for round in 0..rounds {
            let moment = Duration::from_micros(random() % (whole + whole / 10));
            let mut child = stage
                .scene
                .command(UNPACK)
                .stdout(std::process::Stdio::null())
                .stderr(std::process::Stdio::null())
                .spawn()
                .unwrap();
            std::thread::sleep(moment);
            let _ = child.kill();
            child.wait().unwrap();
            let place = format!("{engine:?}, round {round}, killed after {moment:?}");
            let runs = stage.scene.done("runs --json").json();
            let last = runs
                .as_array()
                .unwrap()
                .last()
                .map(|run| run["state"].as_str().unwrap().to_owned());
            match last.as_deref() {
                Some("half switched" | "done") => {
                    ends[1] += 1;
                    if random() % 2 == 0 && last.as_deref() != Some("done") {
                        stage.scene.done(UNPACK);
                        assert_eq!(second, state(&stage), "{place}: completed");
                    }
                    stage.scene.done("undo new");
                }
                _ => ends[0] += 1,
            }
            assert_eq!(first, state(&stage), "{place}: the first state stands");
            stage.scene.done(UNPACK);
            assert_eq!(second, state(&stage), "{place}: the same command completes");
            stage.scene.done("undo new");
            stage.scene.done("undo new --let-go");
            assert_eq!(first, state(&stage), "{place}: back again");
        }
        println!(
            "{engine:?}: {rounds} kills, {} before and {} in or after the switch",
            ends[0], ends[1]
        );
    }
}

#[test]
fn a_sqlite_database_with_an_open_log_is_not_switched_and_loses_nothing() {
    let stage = stage(Engine::SqliteOutside);
    stage.pack();
    stage.scene.done("unpack site.fernweh.tar new");
    stage.scene.done("undo new --let-go");
    let fernweh_demo::database::Place::Sqlite(path) = &stage.new else { panic!() };
    let mut visitor = stage.database("new");
    visitor.ask("PRAGMA journal_mode = WAL").unwrap();
    visitor.run(b"UPDATE gp_sections SET name = 'only in the log'").unwrap();
    assert!(path.with_extension("db-wal").exists());
    let before = database_cells(&stage.new);
    stage.scene.run(UNPACK).code(5).says("the database is in use").says("to complete it");
    assert_eq!(before, database_cells(&stage.new), "the visitor still sees the old state");
    drop(visitor);
    stage.scene.done(UNPACK).says("completed");
    assert_ne!(before, database_cells(&stage.new));
    stage.scene.done("undo new");
    assert_eq!(before, database_cells(&stage.new), "what was in the log came back");
}
