//! Some tables, some files, rows only, another prefix, exactly what the archive holds.

use super::{one, stage};
use fernweh_testkit::{Engine, Stage, database_cells, files_of};

const ENGINES: [Engine; 4] =
    [Engine::Sqlite, Engine::SqliteOutside, Engine::Mariadb, Engine::Postgres];

/// A new site whose tables and files have changed since it was unpacked.
fn changed(engine: Engine) -> Stage {
    let stage = stage(engine);
    stage.pack();
    stage.scene.done("unpack site.fernweh.tar new");
    stage.scene.done("undo new --let-go");
    for sql in [
        "UPDATE gp_nights SET seeing = 'changed'",
        "UPDATE gp_members SET name = 'changed'",
        "DELETE FROM gp_comments WHERE id > 10",
    ] {
        stage.database("new").run(sql.as_bytes()).unwrap();
    }
    stage
}

#[test]
fn one_table_comes_back_and_the_others_stay() {
    for engine in ENGINES {
        let stage = changed(engine);
        let before = (database_cells(&stage.new), files_of(&stage.root("new")));
        stage.scene.run("unpack site.fernweh.tar new --tables gp_comments").code(2);
        let ran = stage.scene.run("unpack site.fernweh.tar new --tables gp_no_such --overwrite");
        ran.code(2).says("holds no table of this name").says("gp_articles");
        let ran = stage.scene.run("pack old --tables gp_no_such -o none.tar");
        ran.code(2).says("has no table of this name");
        let ran = stage.scene.done(
            "unpack site.fernweh.tar new --tables gp_comments --tables gp_n?ghts --overwrite",
        );
        assert!(!ran.out.contains("orphans"), "{engine:?}: {}", ran.out);
        assert_eq!(one(&stage, "SELECT count(*) FROM gp_comments"), "300", "{engine:?}");
        assert_eq!(one(&stage, "SELECT count(*) FROM gp_nights WHERE seeing = 'changed'"), "0");
        assert_eq!(one(&stage, "SELECT count(*) FROM gp_members WHERE name = 'changed'"), "60");
        let now = files_of(&stage.root("new"));
        assert_eq!(before.1, now, "{engine:?}: no file is touched");
        let insert =
            "INSERT INTO gp_comments (id, article_id, author, body) VALUES (999, 1, 'x', 'y')";
        stage.database("new").run(insert.as_bytes()).unwrap();
        assert_eq!(one(&stage, "SELECT count(*) FROM gp_log WHERE line = 'comment; x'"), "1");
        stage.scene.done("undo new");
        // The trigger wrote one line into a table that stays.
        let after = database_cells(&stage.new).without("gp_log");
        assert_eq!(before.0.without("gp_log"), after, "{engine:?}: undo brings everything back");
    }
}

#[test]
fn records_that_point_at_what_is_not_there_are_named() {
    for engine in ENGINES {
        let stage = changed(engine);
        for sql in [
            "DELETE FROM gp_comments",
            "DELETE FROM gp_pictures",
            "DELETE FROM gp_articles WHERE id < 50",
        ] {
            stage.database("new").run(sql.as_bytes()).unwrap();
        }
        let ran = stage.scene.done("unpack site.fernweh.tar new --tables gp_comments --overwrite");
        ran.says("orphans").says("gp_comments").says("gp_articles");
        assert_eq!(one(&stage, "SELECT count(*) FROM gp_comments"), "300", "{engine:?}");
    }
}

#[test]
fn one_file_comes_back_and_the_others_stay() {
    for engine in [Engine::Sqlite, Engine::Mariadb] {
        let stage = changed(engine);
        stage.scene.write("new/htdocs/styles/main.css", "spoiled");
        stage.scene.write("new/htdocs/styles/night.css", "spoiled too");
        stage.scene.write("new/htdocs/extra.txt", "stays");
        let before = (database_cells(&stage.new), files_of(&stage.root("new")));
        let ran =
            stage.scene.done("unpack site.fernweh.tar new --file styles/main.css --overwrite");
        ran.says("1 file");
        let text = |path: &str| std::fs::read_to_string(stage.root("new").join(path)).unwrap();
        assert!(text("styles/main.css").contains("https://www.glimmer-point.example/styles"));
        assert_eq!(text("styles/night.css"), "spoiled too");
        assert_eq!(text("extra.txt"), "stays");
        assert_eq!(before.0, database_cells(&stage.new), "{engine:?}");
        stage.scene.done("unpack site.fernweh.tar new --file styles/** --overwrite");
        assert!(text("styles/night.css").contains("background"));
        stage.scene.done("undo new");
        stage
            .scene
            .run("unpack site.fernweh.tar new --file no/such.txt --overwrite")
            .code(2)
            .says("holds no file of this name");
    }
}

#[test]
fn rows_come_into_the_structure_that_is_there() {
    for engine in ENGINES {
        let stage = changed(engine);
        stage
            .database("new")
            .run(b"ALTER TABLE gp_members ADD COLUMN joined VARCHAR(20) DEFAULT 'unknown'")
            .unwrap();
        stage.scene.done("unpack site.fernweh.tar new --tables gp_members --rows-only --overwrite");
        assert_eq!(one(&stage, "SELECT count(*) FROM gp_members WHERE name = 'changed'"), "0");
        assert_eq!(one(&stage, "SELECT count(*) FROM gp_members WHERE joined = 'unknown'"), "60");
        let insert = "INSERT INTO gp_members (name) VALUES ('new one')";
        stage.database("new").run(insert.as_bytes()).unwrap();
        stage.scene.done("undo new");
        assert_eq!(one(&stage, "SELECT count(*) FROM gp_members WHERE name = 'changed'"), "60");
        stage.database("new").run(b"ALTER TABLE gp_members DROP COLUMN homepage").unwrap();
        stage
            .scene
            .run("unpack site.fernweh.tar new --tables gp_members --rows-only --overwrite")
            .code(2)
            .says("has no column homepage");
    }
}

#[test]
fn tables_that_the_archive_does_not_hold_go_only_when_that_is_meant() {
    for engine in ENGINES {
        let stage = changed(engine);
        for sql in ["CREATE TABLE gp_extra (id INT PRIMARY KEY)", "INSERT INTO gp_extra VALUES (5)"]
        {
            stage.database("new").run(sql.as_bytes()).unwrap();
        }
        let before = database_cells(&stage.new);
        let line = "unpack site.fernweh.tar new --overwrite --exactly --only database";
        stage.scene.run(line).code(2).says("these go: gp_extra").says("--yes");
        stage.scene.done(&format!("{line} --yes")).says("table gp_extra, kept for undo");
        assert!(stage.database("new").ask("SELECT * FROM gp_extra").is_err(), "{engine:?}");
        stage.scene.done("undo new");
        assert_eq!(before, database_cells(&stage.new), "{engine:?}");
        stage.scene.done("undo new");
        assert!(stage.database("new").ask("SELECT * FROM gp_extra").is_err(), "{engine:?}");
        stage.scene.done("undo new");
        assert_eq!(one(&stage, "SELECT id FROM gp_extra"), "5");
    }
}

#[test]
fn tables_get_another_prefix_wherever_they_are_named() {
    for engine in ENGINES {
        let stage = changed(engine);
        stage
            .database("old")
            .run(b"INSERT INTO gp_settings (id, name, value) VALUES (900, 'gp_roles', 'x')")
            .unwrap();
        stage.configure("[unpack]\nprefix-in = [\"gp_settings.name\"]\n");
        stage.scene.done("pack old -o prefixed.fernweh.tar");
        let before = database_cells(&stage.new);
        let ran = stage
            .scene
            .done("unpack prefixed.fernweh.tar new --prefix gp_=new_ --only database --as-is");
        ran.says("1 value carries it too");
        assert_eq!(one(&stage, "SELECT count(*) FROM new_articles"), "420");
        assert_eq!(one(&stage, "SELECT count(*) FROM new_newest"), "410");
        assert_eq!(one(&stage, "SELECT name FROM new_settings WHERE id = 900"), "new_roles");
        assert_eq!(one(&stage, "SELECT count(*) FROM gp_members WHERE name = 'changed'"), "60");
        let insert = "INSERT INTO new_comments (article_id, author, body) VALUES (1, 'x', 'y')";
        stage.database("new").run(insert.as_bytes()).unwrap();
        assert_eq!(one(&stage, "SELECT count(*) FROM new_log WHERE line = 'comment; x'"), "1");
        assert_eq!(one(&stage, "SELECT count(*) FROM gp_log WHERE line = 'comment; x'"), "0");
        let orphan =
            "INSERT INTO new_comments (article_id, author, body) VALUES (987654, 'x', 'y')";
        let refused = stage.database("new").run(orphan.as_bytes()).is_err();
        assert!(refused || matches!(engine, Engine::Sqlite | Engine::SqliteOutside), "{engine:?}");
        stage.scene.done("undo new");
        assert_eq!(before, database_cells(&stage.new), "{engine:?}");
    }
}

#[test]
fn a_database_in_the_files_is_carried_over_whole_while_the_site_writes() {
    let stage = changed(Engine::Sqlite);
    let mut site = stage.database("new");
    for sql in [
        "PRAGMA journal_mode = WAL",
        "PRAGMA wal_autocheckpoint = 0",
        "UPDATE gp_nights SET notes = 'only in the log' WHERE id < 50",
    ] {
        let _ = site.ask(sql).map(drop).or_else(|_| site.run(sql.as_bytes()));
    }
    let before = database_cells(&stage.new);
    for part in ["--only files", "--file styles/main.css"] {
        stage.scene.done(&format!("unpack site.fernweh.tar new {part} --overwrite"));
        assert_eq!(before, database_cells(&stage.new), "{part}");
        assert_eq!(one(&stage, "PRAGMA integrity_check"), "ok");
        assert_eq!(one(&stage, "PRAGMA journal_mode"), "wal");
        assert_eq!(one(&stage, "SELECT count(*) FROM gp_nights WHERE notes LIKE 'only%'"), "49");
    }
    // Somebody who writes without an end is named, and nothing has changed.
    let mut writer = stage.database("new");
    writer.run(b"BEGIN IMMEDIATE").unwrap();
    let ran = stage.scene.run("unpack site.fernweh.tar new --only files --overwrite");
    ran.code(3).says("the database is in use").says("nothing was changed");
}

#[test]
fn in_place_the_old_state_is_packed_and_removed_first_and_undo_unpacks_it_again() {
    const IN_PLACE: &str = "unpack site.fernweh.tar new --overwrite --in-place";
    for engine in [Engine::Sqlite, Engine::SqliteOutside, Engine::Mariadb, Engine::Postgres] {
        let stage = changed(engine);
        let state = || (database_cells(&stage.new), files_of(&stage.root("new")));
        let first = state();
        stage.scene.done("unpack site.fernweh.tar new --overwrite");
        let second = state();
        stage.scene.done("undo new");
        stage.scene.done("undo new --let-go");
        assert_eq!(first, state(), "{engine:?}");

        stage.scene.done(IN_PLACE).says("was packed and removed first");
        assert_eq!(second, state(), "{engine:?}: in place");
        stage.scene.done("undo new");
        assert_eq!(first, state(), "{engine:?}: undone");
        stage.scene.done("undo new");
        assert_eq!(second, state(), "{engine:?}: and forth");
        stage.scene.done("undo new");
        stage.scene.done("undo new --let-go");

        // Killed before anything is removed: the old state stands.
        stage.scene.run_killed_at(IN_PLACE, "set-aside");
        assert_eq!(first, state(), "{engine:?}: nothing removed");
        // Killed afterwards: everybody says so, the same command goes on, undo goes back.
        let steps: &[&str] = match engine {
            Engine::Sqlite | Engine::SqliteOutside => &["cleared", "checked"],
            _ => &["clearing", "cleared", "made", "built"],
        };
        for step in steps {
            stage.scene.run_killed_at(IN_PLACE, step);
            stage.scene.done("survey new").says("site new is empty");
            let other = "unpack site.fernweh.tar new --overwrite --as-is";
            stage.scene.run(other).code(2).says("site new is empty");
            stage.scene.done(IN_PLACE);
            assert_eq!(second, state(), "{engine:?} {step}: gone on");
            stage.scene.done("undo new");
            assert_eq!(first, state(), "{engine:?} {step}: undone");
            stage.scene.done("undo new --let-go");

            stage.scene.run_killed_at(IN_PLACE, step);
            stage.scene.done("undo new");
            assert_eq!(first, state(), "{engine:?} {step}: undone at once");
            stage.scene.done("undo new --let-go");
        }
    }
}
