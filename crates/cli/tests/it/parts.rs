//! Some tables, some files, rows only, another prefix, exactly what the archive holds.

use super::{fixture, one};
use fernweh_testkit::{Engine, Fixture, Version, database_cells, files_of};

const ENGINES: [Engine; 5] = [
    Engine::Sqlite,
    Engine::SqliteOutside,
    Engine::Mariadb,
    Engine::Mysql(Version::V80),
    Engine::Postgres,
];

/// A new site whose tables and files have changed since it was unpacked.
fn changed(engine: Engine) -> Fixture {
    let fixture = fixture(engine);
    fixture.pack();
    fixture.workspace.done("unpack site.fernweh.tar new");
    fixture.workspace.done("undo new --let-go --yes");
    for sql in [
        "UPDATE gp_nights SET seeing = 'changed'",
        "UPDATE gp_members SET name = 'changed'",
        "DELETE FROM gp_comments WHERE id > 10",
    ] {
        fixture.database("new").run(sql.as_bytes()).unwrap();
    }
    fixture
}

#[test]
fn one_table_comes_back_and_the_others_stay() {
    for engine in ENGINES {
        let fixture = changed(engine);
        let before = (database_cells(&fixture.new), files_of(&fixture.root("new")));
        fixture.workspace.run("unpack site.fernweh.tar new --tables gp_comments").code(2);
        let ran =
            fixture.workspace.run("unpack site.fernweh.tar new --tables gp_no_such --overwrite");
        ran.code(2).says("holds no table of this name").says("gp_articles");
        let ran = fixture.workspace.run("pack old --tables gp_no_such -o none.tar");
        ran.code(2).says("has no table of this name");
        let ran = fixture.workspace.done(
            "unpack site.fernweh.tar new --tables gp_comments --tables gp_n?ghts --overwrite",
        );
        assert!(!ran.out.contains("orphans"), "{engine:?}: {}", ran.out);
        assert_eq!(one(&fixture, "SELECT count(*) FROM gp_comments"), "300", "{engine:?}");
        assert_eq!(one(&fixture, "SELECT count(*) FROM gp_nights WHERE seeing = 'changed'"), "0");
        assert_eq!(one(&fixture, "SELECT count(*) FROM gp_members WHERE name = 'changed'"), "60");
        let now = files_of(&fixture.root("new"));
        assert_eq!(before.1, now, "{engine:?}: no file is touched");
        let insert =
            "INSERT INTO gp_comments (id, article_id, author, body) VALUES (999, 1, 'x', 'y')";
        fixture.database("new").run(insert.as_bytes()).unwrap();
        assert_eq!(one(&fixture, "SELECT count(*) FROM gp_log WHERE line = 'comment; x'"), "1");
        fixture.workspace.done("undo new");
        // The trigger wrote one line into a table that stays.
        let after = database_cells(&fixture.new).without("gp_log");
        assert_eq!(before.0.without("gp_log"), after, "{engine:?}: undo brings everything back");
    }
}

#[test]
fn records_that_point_at_what_is_not_there_are_named() {
    for engine in ENGINES {
        let fixture = changed(engine);
        for sql in [
            "DELETE FROM gp_comments",
            "DELETE FROM gp_pictures",
            "DELETE FROM gp_articles WHERE id < 50",
        ] {
            fixture.database("new").run(sql.as_bytes()).unwrap();
        }
        let ran =
            fixture.workspace.done("unpack site.fernweh.tar new --tables gp_comments --overwrite");
        ran.says("orphans").says("gp_comments").says("gp_articles");
        assert_eq!(one(&fixture, "SELECT count(*) FROM gp_comments"), "300", "{engine:?}");
    }
}

#[test]
fn one_file_comes_back_and_the_others_stay() {
    for engine in [Engine::Sqlite, Engine::Mariadb] {
        let fixture = changed(engine);
        fixture.workspace.write("new/htdocs/styles/main.css", "spoiled");
        fixture.workspace.write("new/htdocs/styles/night.css", "spoiled too");
        fixture.workspace.write("new/htdocs/extra.txt", "stays");
        let before = (database_cells(&fixture.new), files_of(&fixture.root("new")));
        let ran = fixture
            .workspace
            .done("unpack site.fernweh.tar new --paths styles/main.css --overwrite");
        ran.says("1 file");
        let text = |path: &str| std::fs::read_to_string(fixture.root("new").join(path)).unwrap();
        assert!(text("styles/main.css").contains("https://www.glimmer-point.example/styles"));
        assert_eq!(text("styles/night.css"), "spoiled too");
        assert_eq!(text("extra.txt"), "stays");
        assert_eq!(before.0, database_cells(&fixture.new), "{engine:?}");
        fixture.workspace.done("unpack site.fernweh.tar new --paths styles/** --overwrite");
        assert!(text("styles/night.css").contains("background"));
        fixture.workspace.done("undo new");
        fixture
            .workspace
            .run("unpack site.fernweh.tar new --paths no/such.txt --overwrite")
            .code(2)
            .says("holds no file of this name");
    }
}

#[test]
fn rows_come_into_the_structure_that_is_there() {
    for engine in ENGINES {
        let fixture = changed(engine);
        fixture
            .database("new")
            .run(b"ALTER TABLE gp_members ADD COLUMN joined VARCHAR(20) DEFAULT 'unknown'")
            .unwrap();
        fixture
            .workspace
            .done("unpack site.fernweh.tar new --tables gp_members --rows-only --overwrite");
        assert_eq!(one(&fixture, "SELECT count(*) FROM gp_members WHERE name = 'changed'"), "0");
        assert_eq!(one(&fixture, "SELECT count(*) FROM gp_members WHERE joined = 'unknown'"), "60");
        let insert = "INSERT INTO gp_members (name) VALUES ('new one')";
        fixture.database("new").run(insert.as_bytes()).unwrap();
        fixture.workspace.done("undo new");
        assert_eq!(one(&fixture, "SELECT count(*) FROM gp_members WHERE name = 'changed'"), "60");
        fixture.database("new").run(b"ALTER TABLE gp_members DROP COLUMN homepage").unwrap();
        fixture
            .workspace
            .run("unpack site.fernweh.tar new --tables gp_members --rows-only --overwrite")
            .code(2)
            .says("has no column homepage");
    }
}

#[test]
fn tables_that_the_archive_does_not_hold_go_only_when_that_is_meant() {
    for engine in ENGINES {
        let fixture = changed(engine);
        for sql in ["CREATE TABLE gp_extra (id INT PRIMARY KEY)", "INSERT INTO gp_extra VALUES (5)"]
        {
            fixture.database("new").run(sql.as_bytes()).unwrap();
        }
        let before = database_cells(&fixture.new);
        let line = "unpack site.fernweh.tar new --overwrite --exactly --only database";
        fixture.workspace.run(line).code(2).says("they are: gp_extra").says("--yes");
        fixture.workspace.done(&format!("{line} --yes")).says("table gp_extra, kept for undo");
        assert!(fixture.database("new").ask("SELECT * FROM gp_extra").is_err(), "{engine:?}");
        fixture.workspace.done("undo new");
        assert_eq!(before, database_cells(&fixture.new), "{engine:?}");
        fixture.workspace.done("undo new");
        assert!(fixture.database("new").ask("SELECT * FROM gp_extra").is_err(), "{engine:?}");
        fixture.workspace.done("undo new");
        assert_eq!(one(&fixture, "SELECT id FROM gp_extra"), "5");
    }
}

#[test]
fn tables_that_are_not_chosen_stay_and_are_named() {
    for engine in ENGINES {
        let fixture = changed(engine);
        let before = one(&fixture, "SELECT count(*) FROM gp_articles");
        let line = "unpack site.fernweh.tar new --tables gp_members --exactly --overwrite --yes";
        let ran = fixture.workspace.done(line);
        ran.says("1 table").says("of these tables").says("not unpacked: gp_a");
        assert_eq!(one(&fixture, "SELECT count(*) FROM gp_articles"), before, "{engine:?}");
    }
}

#[test]
fn tables_get_another_prefix_wherever_they_are_named() {
    for engine in ENGINES {
        let fixture = changed(engine);
        fixture
            .database("old")
            .run(b"INSERT INTO gp_settings (id, name, value) VALUES (900, 'gp_roles', 'x')")
            .unwrap();
        fixture.configure("[unpack]\nprefix-in = [\"gp_settings.name\"]\n");
        fixture.workspace.done("pack old -o prefixed.fernweh.tar");
        let before = database_cells(&fixture.new);
        let ran = fixture
            .workspace
            .done("unpack prefixed.fernweh.tar new --prefix gp_=new_ --only database --as-is");
        ran.says("1 value carries it too");
        assert_eq!(one(&fixture, "SELECT count(*) FROM new_articles"), "420");
        assert_eq!(one(&fixture, "SELECT count(*) FROM new_newest"), "410");
        assert_eq!(one(&fixture, "SELECT name FROM new_settings WHERE id = 900"), "new_roles");
        assert_eq!(one(&fixture, "SELECT count(*) FROM gp_members WHERE name = 'changed'"), "60");
        let insert = "INSERT INTO new_comments (article_id, author, body) VALUES (1, 'x', 'y')";
        fixture.database("new").run(insert.as_bytes()).unwrap();
        assert_eq!(one(&fixture, "SELECT count(*) FROM new_log WHERE line = 'comment; x'"), "1");
        assert_eq!(one(&fixture, "SELECT count(*) FROM gp_log WHERE line = 'comment; x'"), "0");
        let orphan =
            "INSERT INTO new_comments (article_id, author, body) VALUES (987654, 'x', 'y')";
        let refused = fixture.database("new").run(orphan.as_bytes()).is_err();
        assert!(refused || matches!(engine, Engine::Sqlite | Engine::SqliteOutside), "{engine:?}");
        fixture.workspace.done("undo new");
        super::zoo::assert_same(&before, &database_cells(&fixture.new), &format!("{engine:?}"));
    }
}

#[test]
fn a_database_in_the_files_is_carried_over_whole_while_the_site_writes() {
    let fixture = changed(Engine::Sqlite);
    let mut site = fixture.database("new");
    for sql in [
        "PRAGMA journal_mode = WAL",
        "PRAGMA wal_autocheckpoint = 0",
        "UPDATE gp_nights SET notes = 'only in the log' WHERE id < 50",
    ] {
        let _ = site.ask(sql).map(drop).or_else(|_| site.run(sql.as_bytes()));
    }
    let before = database_cells(&fixture.new);
    for part in ["--only files", "--paths styles/main.css"] {
        fixture.workspace.done(&format!("unpack site.fernweh.tar new {part} --overwrite"));
        assert_eq!(before, database_cells(&fixture.new), "{part}");
        assert_eq!(one(&fixture, "PRAGMA integrity_check"), "ok");
        assert_eq!(one(&fixture, "PRAGMA journal_mode"), "wal");
        assert_eq!(one(&fixture, "SELECT count(*) FROM gp_nights WHERE notes LIKE 'only%'"), "49");
    }
    // Somebody who writes without an end is named, and nothing has changed.
    let mut writer = fixture.database("new");
    writer.run(b"BEGIN IMMEDIATE").unwrap();
    let ran = fixture.workspace.run("unpack site.fernweh.tar new --only files --overwrite");
    ran.code(5).says("the database is in use").says("nothing was changed");
    assert_eq!(before, database_cells(&fixture.new));
}

#[test]
fn in_place_the_old_state_is_packed_and_removed_first_and_undo_unpacks_it_again() {
    const IN_PLACE: &str = "unpack site.fernweh.tar new --overwrite --in-place";
    for engine in [Engine::Sqlite, Engine::SqliteOutside, Engine::Mariadb, Engine::Postgres] {
        let fixture = changed(engine);
        let state = || (database_cells(&fixture.new), files_of(&fixture.root("new")));
        let first = state();
        fixture.workspace.done("unpack site.fernweh.tar new --overwrite");
        let second = state();
        fixture.workspace.done("undo new");
        fixture.workspace.done("undo new --let-go --yes");
        assert_eq!(first, state(), "{engine:?}");

        fixture.workspace.done(IN_PLACE).says("was packed and removed first");
        assert_eq!(second, state(), "{engine:?}: in place");
        fixture.workspace.done("undo new");
        assert_eq!(first, state(), "{engine:?}: undone");
        fixture.workspace.done("undo new");
        assert_eq!(second, state(), "{engine:?}: and forth");
        fixture.workspace.done("undo new");
        fixture.workspace.done("undo new --let-go --yes");

        // Killed before anything is removed: the old state stands.
        fixture.workspace.run_killed_at(IN_PLACE, "set-aside");
        assert_eq!(first, state(), "{engine:?}: nothing removed");
        // Killed afterwards: everybody says so, the same command goes on, undo goes back.
        let steps: &[&str] = match engine {
            Engine::Sqlite | Engine::SqliteOutside => &["cleared", "checked"],
            _ => &["clearing", "cleared", "made", "built"],
        };
        for step in steps {
            fixture.workspace.run_killed_at(IN_PLACE, step);
            fixture.workspace.done("survey new").says("site new is empty");
            let other = "unpack site.fernweh.tar new --overwrite --as-is";
            fixture.workspace.run(other).code(2).says("site new is empty");
            fixture.workspace.done(IN_PLACE);
            assert_eq!(second, state(), "{engine:?} {step}: gone on");
            fixture.workspace.done("undo new");
            assert_eq!(first, state(), "{engine:?} {step}: undone");
            fixture.workspace.done("undo new --let-go --yes");

            fixture.workspace.run_killed_at(IN_PLACE, step);
            fixture.workspace.done("undo new");
            assert_eq!(first, state(), "{engine:?} {step}: undone at once");
            fixture.workspace.done("undo new --let-go --yes");
        }
    }
}

#[test]
fn what_is_written_right_before_the_old_state_is_removed_comes_back_or_is_refused_or_named() {
    const IN_PLACE: &str = "unpack site.fernweh.tar new --overwrite --in-place --json";
    for engine in [Engine::Sqlite, Engine::SqliteOutside, Engine::Mariadb, Engine::Postgres] {
        let fixture = changed(engine);
        let write = |seeing: u64| {
            let mut site = fixture.database("new");
            let wait = match engine {
                Engine::Mariadb => "SET lock_wait_timeout = 1",
                Engine::Postgres => "SET lock_timeout = '1s'",
                _ => "PRAGMA busy_timeout = 1000",
            };
            let _ = site.run(wait.as_bytes());
            // As many records as before, and within the same second.
            site.run(format!("UPDATE gp_nights SET seeing = {seeing} WHERE id = 7").as_bytes())
        };
        let upload = |name: &str| {
            std::fs::write(fixture.root("new").join(name), "a visitor's").unwrap();
        };
        let ran = fixture.workspace.run_halted_at(IN_PLACE, "set-aside", || {
            write(4).unwrap();
            upload("early.txt");
        });
        ran.fine().says("changed while it was packed");
        fixture.workspace.done("undo new");
        assert_eq!(one(&fixture, "SELECT seeing FROM gp_nights WHERE id = 7"), "4", "{engine:?}");
        assert!(fixture.root("new").join("early.txt").exists(), "{engine:?}");
        fixture.workspace.done("undo new --let-go --yes");

        let report = fixture
            .workspace
            .run_halted_at(IN_PLACE, "clearing", || {
                assert!(write(5).is_err(), "{engine:?}: nobody may write any more");
                upload("late.txt");
                std::fs::write(fixture.root("new").join("styles/main.css"), "changed").unwrap();
            })
            .fine()
            .json();
        let named = report["came_in_files"].to_string();
        assert!(named.contains("late.txt") && named.contains("styles/main.css"), "{named}");
        fixture.workspace.done("undo new");
        fixture.workspace.done("undo new --let-go --yes");

        let report = fixture
            .workspace
            .run_halted_at(IN_PLACE, "built", || {
                let sql = "INSERT INTO gp_settings (id, name, value) VALUES (9001, 'late', 'x')";
                fixture.database("new").run(sql.as_bytes()).unwrap();
            })
            .fine()
            .json();
        let came_in = report["came_in"].as_array().unwrap();
        assert_eq!(came_in.len(), 1, "{engine:?} {came_in:?}");
        assert!(came_in[0]["table"].as_str().unwrap().ends_with("gp_settings"), "{came_in:?}");
        assert_eq!(came_in[0]["records"], 1, "{engine:?}");
    }
}
