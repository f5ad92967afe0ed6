//! Killed at every named step of the journal, and at random moments.

use super::{PROGRAM, fixture, one};
use fernweh_testkit::{Cells, Engine, Fixture, database_cells, files_of};
use std::collections::BTreeMap;
use std::time::Duration;

type State = (Cells, BTreeMap<String, String>);

fn state(fixture: &Fixture) -> State {
    (database_cells(&fixture.new), files_of(&fixture.root("new")))
}

/// Two different states of the new site, the first in place; the archive of the second.
fn two_states(engine: Engine) -> (Fixture, State, State) {
    let fixture = fixture(engine);
    let archive = fixture.pack();
    fixture.workspace.done(&format!("unpack {archive} new"));
    fixture.database("new").run(b"UPDATE gp_nights SET seeing = 'first state'").unwrap();
    fixture.workspace.write("new/htdocs/first.txt", "first state");
    fixture.workspace.done("undo new --let-go --yes");
    let first = state(&fixture);
    fixture.workspace.done(&format!("unpack {archive} new --overwrite"));
    let second = state(&fixture);
    fixture.workspace.done("undo new");
    fixture.workspace.done("undo new --let-go --yes");
    assert_eq!(first, state(&fixture));
    assert_ne!(first, second);
    (fixture, first, second)
}

const UNPACK: &str = "unpack site.fernweh.tar new --overwrite";

fn killed_at_every_step(engine: Engine, after: &[&str]) {
    let (fixture, first, second) = two_states(engine);
    for step in ["started", "made", "secured", "built", "checked"] {
        let ran = fixture.workspace.run_killed_at(UNPACK, step);
        assert_eq!(ran.code, None, "{engine:?} {step}: not killed\n{}{}", ran.out, ran.err);
        assert_eq!(first, state(&fixture), "{engine:?} {step}: the old site is whole");
        fixture.workspace.done("runs").says("unfinished");
        fixture.workspace.done(UNPACK);
        assert_eq!(second, state(&fixture), "{engine:?} {step}: the same command completes");
        fixture.workspace.done("undo new");
        assert_eq!(first, state(&fixture), "{engine:?} {step}: undo goes back");
        fixture.workspace.done("undo new --let-go --yes");
    }
    for step in after {
        let ran = fixture.workspace.run_killed_at(UNPACK, step);
        assert_eq!(ran.code, None, "{engine:?} {step}: not killed\n{}{}", ran.out, ran.err);
        if *step != "done" {
            fixture.workspace.done("survey new").says("partly switched");
            fixture.workspace.done(UNPACK).says("completed");
        }
        assert_eq!(second, state(&fixture), "{engine:?} {step}: the same command completes");
        fixture.workspace.done("undo new");
        assert_eq!(first, state(&fixture), "{engine:?} {step}: undo goes back");
        fixture.workspace.done("undo new --let-go --yes");

        fixture.workspace.run_killed_at(UNPACK, step);
        fixture.workspace.done("undo new");
        assert_eq!(first, state(&fixture), "{engine:?} {step}: undo goes back at once");
        fixture.workspace.done("undo new --let-go --yes");
    }
}

#[test]
fn a_site_with_sqlite_survives_a_kill_at_every_step() {
    let after = [
        "switching",
        "database-copied",
        "database-written",
        "database-in-place",
        "database-switched",
        "files-in-place",
        "files-switched",
        "done",
    ];
    killed_at_every_step(Engine::Sqlite, &after);
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
        let (fixture, first, second) = two_states(engine);
        let sqlite = ["switching", "database-copied", "database-written", "files-in-place"];
        let steps = match engine {
            Engine::SqliteOutside => &sqlite[..],
            _ => &["switching", "database-switched", "files-in-place"],
        };
        for step in steps {
            fixture.workspace.done(UNPACK);
            assert_eq!(second, state(&fixture));
            assert_eq!(fixture.workspace.run_killed_at("undo new", step).code, None);
            fixture.workspace.done("undo new");
            assert_eq!(first, state(&fixture), "{engine:?} {step}");
            fixture.workspace.done("undo new --let-go --yes");
        }
    }
}

#[test]
fn an_unfinished_run_can_be_cleaned_up() {
    for engine in [Engine::Sqlite, Engine::Mariadb, Engine::Postgres] {
        let (fixture, first, _) = two_states(engine);
        fixture.workspace.run_killed_at(UNPACK, "checked");
        let runs = fixture.workspace.changes();
        let open =
            runs.as_array().unwrap().iter().find(|run| run["state"] == "unfinished").unwrap();
        let name = open["run"].as_str().unwrap();
        fixture.workspace.done(&format!("runs --discard {name}"));
        assert_eq!(first, state(&fixture));
        assert!(!fixture.workspace.path("new/.fernweh-htdocs").exists());
        fixture.workspace.run(&format!("runs --discard {name}")).code(2);
    }
}

#[test]
fn an_interrupted_pack_leaves_no_half_archive_and_goes_on() {
    let fixture = Fixture::of_size(PROGRAM, Engine::Sqlite, 30_000);
    let ran = fixture.workspace.run_interrupted_at("pack old -o half.tar", ".half.tar.partial");
    ran.code(5).says("nothing was changed").says("fernweh pack old -o half.tar");
    assert!(!fixture.workspace.path("half.tar").exists());
    fixture.workspace.done("pack old -o half.tar");
    fixture.workspace.done("show half.tar --verify");
    assert!(!fixture.workspace.path(".half.tar.partial").exists());
    assert!(!fixture.workspace.path(".half.tar.partial.marks").exists());
}

#[test]
fn an_interrupted_unpack_leaves_the_old_site_and_can_be_gone_on_with_or_given_up() {
    let fixture = Fixture::of_size(PROGRAM, Engine::Sqlite, 20_000);
    fixture.pack();
    fixture.workspace.write("new/htdocs/index.php", "the site that stands");
    let ran = fixture.workspace.run_interrupted_at(UNPACK, "new/.fernweh-htdocs");
    ran.code(5).says("nothing was changed").says("type the same command again");
    let runs = fixture.workspace.changes();
    fixture.workspace.done(&format!("runs --discard {}", runs[0]["run"].as_str().unwrap()));
    assert!(!fixture.workspace.path("new/.fernweh-htdocs").exists());
    let names: Vec<_> = files_of(&fixture.root("new")).into_keys().collect();
    assert_eq!(names, ["index.php"]);
    fixture.workspace.run_interrupted_at(UNPACK, "new/.fernweh-htdocs").code(5);
    fixture.workspace.done(UNPACK);
    fixture.workspace.done("undo new --let-go --yes");
    assert!(!fixture.workspace.path("new/.fernweh-htdocs").exists());
}

#[test]
fn a_switch_behind_an_open_reader_names_it_and_is_completed_later() {
    let (fixture, _, second) = two_states(Engine::Mariadb);
    let mut reader = fixture.database("new");
    reader.run(b"START TRANSACTION").unwrap();
    reader.ask("SELECT count(*) FROM gp_articles").unwrap();
    fixture
        .workspace
        .run(UNPACK)
        .code(5)
        .says("the tables cannot be switched")
        .says("Lock wait timeout exceeded")
        .says(" of u_new_")
        .says("type the same command again to complete it");
    // Visitors see the old site all the while.
    assert_eq!(
        fixture.database("new").ask("SELECT DISTINCT seeing FROM gp_nights").unwrap().len(),
        1
    );
    reader.run(b"COMMIT").unwrap();
    fixture.workspace.done(UNPACK).says("completed");
    assert_eq!(second, state(&fixture));
}

#[test]
fn two_runs_on_one_site_do_not_meet() {
    let (fixture, first, _) = two_states(Engine::Sqlite);
    let lock = std::fs::File::open(fixture.workspace.path(".fernweh/locks/new.lock")).unwrap();
    lock.lock().unwrap();
    fixture.workspace.run(UNPACK).code(3).says("another run is working on site new");
    drop(lock);
    assert_eq!(first, state(&fixture));
    fixture.workspace.done(UNPACK);
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
        let (fixture, first, second) = two_states(engine);
        let began = std::time::Instant::now();
        fixture.workspace.done(UNPACK);
        let whole = began.elapsed().as_micros() as u64;
        fixture.workspace.done("undo new");
        fixture.workspace.done("undo new --let-go --yes");
        let mut ends = [0, 0];
        for round in 0..rounds {
            let moment = Duration::from_micros(random() % (whole + whole / 10));
            let mut child = fixture
                .workspace
                .command(UNPACK)
                .stdout(std::process::Stdio::null())
                .stderr(std::process::Stdio::null())
                .spawn()
                .unwrap();
            std::thread::sleep(moment);
            let _ = child.kill();
            child.wait().unwrap();
            let place = format!("{engine:?}, round {round}, killed after {moment:?}");
            let runs = fixture.workspace.changes();
            let last = runs
                .as_array()
                .unwrap()
                .last()
                .map(|run| run["state"].as_str().unwrap().to_owned());
            match last.as_deref() {
                Some("half switched" | "done") => {
                    ends[1] += 1;
                    if random() % 2 == 0 && last.as_deref() != Some("done") {
                        fixture.workspace.done(UNPACK);
                        assert_eq!(second, state(&fixture), "{place}: completed");
                    }
                    fixture.workspace.done("undo new");
                }
                _ => ends[0] += 1,
            }
            assert_eq!(first, state(&fixture), "{place}: the first state stands");
            fixture.workspace.done(UNPACK);
            assert_eq!(second, state(&fixture), "{place}: the same command completes");
            fixture.workspace.done("undo new");
            fixture.workspace.done("undo new --let-go --yes");
            assert_eq!(first, state(&fixture), "{place}: back again");
        }
        println!(
            "{engine:?}: {rounds} kills, {} before and {} in or after the switch",
            ends[0], ends[1]
        );
    }
}

#[test]
fn a_sqlite_database_with_an_open_log_is_switched_and_loses_nothing() {
    let fixture = fixture(Engine::SqliteOutside);
    fixture.pack();
    fixture.workspace.done("unpack site.fernweh.tar new");
    fixture.workspace.done("undo new --let-go --yes");
    let fernweh_demo::database::Place::Sqlite(path) = &fixture.new else { panic!() };
    let mut visitor = fixture.database("new");
    visitor.ask("PRAGMA journal_mode = WAL").unwrap();
    visitor.run(b"UPDATE gp_sections SET name = 'only in the log'").unwrap();
    assert!(path.with_extension("db-wal").exists());
    let before = database_cells(&fixture.new);
    fixture.workspace.done(UNPACK);
    let names = visitor.ask("SELECT DISTINCT name FROM gp_sections").unwrap();
    assert!(names.len() > 1, "the visitor sees the new state");
    drop(visitor);
    assert_ne!(before, database_cells(&fixture.new));
    fixture.workspace.done("undo new");
    assert_eq!(before, database_cells(&fixture.new), "what was in the log came back");
}

#[test]
fn what_a_killed_preview_has_left_is_known_and_goes_with_the_next_run() {
    for engine in [Engine::SqliteOutside, Engine::Mariadb, Engine::Postgres] {
        let fixture = fixture(engine);
        fixture.pack();
        let preview = "unpack site.fernweh.tar new --preview";
        let left = || match engine {
            Engine::Mariadb => one(
                &fixture,
                "SELECT count(*) FROM information_schema.tables \
                 WHERE table_schema = database() AND table_name LIKE '\\_fw%\\_n\\_%'",
            ),
            Engine::Postgres => one(
                &fixture,
                "SELECT count(*) FROM pg_tables WHERE schemaname LIKE '\\_fw%\\_n\\_%'",
            ),
            _ => {
                let all = walkdir::WalkDir::new(fixture.workspace.path("new")).into_iter();
                let ours = all
                    .flatten()
                    .filter(|entry| entry.file_name().to_string_lossy().starts_with("database-2"));
                ours.count().to_string()
            }
        };
        for next in ["runs --discard", preview, "unpack site.fernweh.tar new"] {
            fixture.workspace.run_killed_at(preview, "made");
            assert_ne!(left(), "0", "{engine:?}: something was made");
            let runs = fixture.workspace.done("runs new --json").json();
            let mut runs = runs["runs"].as_array().unwrap().iter();
            let killed = runs.find(|run| run["state"] == "unfinished").unwrap();
            assert_eq!(killed["command"], "preview", "{engine:?}");
            match next {
                "runs --discard" => {
                    let run = killed["run"].as_str().unwrap();
                    fixture.workspace.done(&format!("runs --discard {run}"));
                }
                line => drop(fixture.workspace.done(line)),
            }
            assert_eq!(left(), "0", "{engine:?}: {next}");
        }
    }
}
