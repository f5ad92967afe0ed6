//! Rewriting a live site, and taking it back.

use super::stage;
use fernweh_testkit::{Engine, database_cells, files_of};

const RULE: &str = "rewrite old --from http://glimmerpoint.example --to https://glimmer.example";

#[test]
fn preview_and_real_run_give_the_same_numbers_and_undo_brings_every_cell_back() {
    for engine in [Engine::Sqlite, Engine::SqliteOutside, Engine::Mariadb, Engine::Postgres] {
        let stage = stage(engine);
        let before = (database_cells(&stage.old), files_of(&stage.root("old")));
        let preview = stage.scene.done(&format!("{RULE} --json")).json();
        assert_eq!(before.0, database_cells(&stage.old), "{engine:?}");
        let real = stage.scene.done(&format!("{RULE} --apply --json")).json();
        assert_eq!(preview["rewriting"], real["rewriting"], "{engine:?}");
        assert_eq!(real["refused"], serde_json::json!([]), "{engine:?}");
        let after = (database_cells(&stage.old), files_of(&stage.root("old")));
        assert_ne!(before.0, after.0);
        let twice = stage.scene.done(&format!("{RULE} --json")).json();
        let columns = twice["rewriting"]["columns"].as_object().unwrap();
        assert!(columns.values().all(|tally| tally["replacements"] == 0));
        let undone = stage.scene.done("undo old --json").json();
        assert_eq!(undone["taken_back"]["refused"], serde_json::json!([]), "{engine:?}");
        assert_eq!(before.0, database_cells(&stage.old), "{engine:?}");
        same_content(&before.1, &files_of(&stage.root("old")));
        stage.scene.done("undo old");
        assert_eq!(after.0, database_cells(&stage.old), "{engine:?}");
        same_content(&after.1, &files_of(&stage.root("old")));
    }
}

/// Rewritten files have new times, but kept modes and, once taken back, old content.
fn same_content(
    a: &std::collections::BTreeMap<String, String>,
    b: &std::collections::BTreeMap<String, String>,
) {
    let bare = |files: &std::collections::BTreeMap<String, String>| -> Vec<String> {
        let without_time = |entry: &String| {
            let words: Vec<&str> = entry.splitn(3, ' ').collect();
            format!("{} {}", words[0], words[2])
        };
        files.iter().map(|(path, entry)| format!("{path} {}", without_time(entry))).collect()
    };
    assert_eq!(bare(a), bare(b));
}

#[test]
fn the_new_values_are_the_same_as_when_unpacking() {
    for engine in [Engine::Sqlite, Engine::Mariadb, Engine::Postgres] {
        let stage = stage(engine);
        let archive = stage.pack();
        stage.scene.done(&format!("unpack {archive} new"));
        let unpacked = database_cells(&stage.new);
        stage.scene.done("unpack site.fernweh.tar new --as-is --overwrite");
        stage.scene.done("rewrite new --apply");
        assert_eq!(unpacked, database_cells(&stage.new), "{engine:?}");
    }
}

#[test]
fn a_cell_that_cannot_take_the_new_value_is_named_and_the_rest_is_done() {
    for engine in [Engine::Sqlite, Engine::Mariadb, Engine::Postgres] {
        let stage = stage(engine);
        for sql in [
            "CREATE TABLE gp_links (id INTEGER PRIMARY KEY, link VARCHAR(40) NOT NULL UNIQUE)",
            "INSERT INTO gp_links VALUES (1, 'http://glimmerpoint.example/a'), (2, 'https://glimmer.example/a'), \
             (3, 'http://glimmerpoint.example/b')",
        ] {
            stage.database("old").run(sql.as_bytes()).unwrap();
        }
        let ran = stage.scene.done(&format!("{RULE} --apply"));
        ran.says("gp_links.link, id 1: the new value is not allowed here");
        let links = stage.database("old").ask("SELECT link FROM gp_links ORDER BY id").unwrap();
        let links: Vec<_> = links.into_iter().map(|row| row[0].clone().unwrap()).collect();
        assert_eq!(
            links,
            [
                "http://glimmerpoint.example/a",
                "https://glimmer.example/a",
                "https://glimmer.example/b"
            ]
        );
    }
}

#[test]
fn keys_that_hold_addresses_and_tables_without_keys_are_rewritten_and_taken_back() {
    for engine in [Engine::Sqlite, Engine::Mariadb, Engine::Postgres] {
        let stage = stage(engine);
        for sql in [
            "CREATE TABLE gp_seen (link VARCHAR(90) PRIMARY KEY, target VARCHAR(90))",
            "INSERT INTO gp_seen VALUES ('http://glimmerpoint.example/a', 'http://glimmerpoint.example/b')",
            "CREATE TABLE gp_loose (a VARCHAR(90), b VARCHAR(90), c DOUBLE PRECISION)",
            "INSERT INTO gp_loose VALUES ('http://glimmerpoint.example/a', 'http://glimmerpoint.example/b', 0.1), \
             ('http://glimmerpoint.example/a', 'http://glimmerpoint.example/b', 0.1), (NULL, '//glimmerpoint.example', NULL)",
        ] {
            stage.database("old").run(sql.as_bytes()).unwrap();
        }
        let before = database_cells(&stage.old);
        let ran = stage.scene.done(&format!("{RULE} --apply --json")).json();
        assert_eq!(ran["refused"], serde_json::json!([]), "{engine:?}");
        let text = format!(
            "{:?}",
            (&database_cells(&stage.old)["gp_seen"], &database_cells(&stage.old)["gp_loose"])
        );
        let old =
            if engine == Engine::Mariadb { "676C696D6D6572706F696E74" } else { "glimmerpoint" };
        assert!(!text.contains(old), "{engine:?}: {text}");
        stage.scene.done("undo old");
        assert_eq!(before, database_cells(&stage.old), "{engine:?}");
    }
}

#[test]
fn what_was_edited_since_is_not_overwritten_by_undo() {
    for engine in [Engine::Sqlite, Engine::Mariadb, Engine::Postgres] {
        let stage = stage(engine);
        stage.scene.done(&format!("{RULE} --apply"));
        stage
            .database("old")
            .run(b"UPDATE gp_settings SET value = 'edited' WHERE name = 'home'")
            .unwrap();
        stage.scene.write("old/htdocs/robots.txt", "edited");
        let ran = stage.scene.done("undo old");
        ran.says("the cell was changed in the meantime")
            .says("robots.txt: the file was changed in the meantime");
        let home =
            stage.database("old").ask("SELECT value FROM gp_settings WHERE name = 'home'").unwrap();
        assert_eq!(home[0][0].as_deref(), Some("edited"));
    }
}

#[test]
fn a_killed_rewriting_is_taken_back_or_gone_on_with() {
    for engine in [Engine::Sqlite, Engine::Mariadb, Engine::Postgres] {
        let stage = stage(engine);
        let before = database_cells(&stage.old);
        let line = format!("{RULE} --apply");
        assert_eq!(stage.scene.run_killed_at(&line, "changes-kept#3").code, None);
        assert_ne!(before, database_cells(&stage.old), "{engine:?}: some cells were changed");
        stage.scene.done("survey old").says("was broken off");
        stage.scene.done("undo old");
        assert_eq!(before, database_cells(&stage.old), "{engine:?}");
        stage.scene.run_killed_at(&line, "changes-kept#3");
        stage.scene.done(&line);
        stage
            .scene
            .done("rewrite old --from http://glimmerpoint.example --to https://glimmer.example")
            .says("nothing is left to rewrite");
    }
}

#[test]
fn times_that_the_server_would_set_stay_as_they_were() {
    let stage = stage(Engine::Mariadb);
    for sql in [
        "CREATE TABLE gp_stamped (id INT PRIMARY KEY, link TEXT, changed TIMESTAMP DEFAULT CURRENT_TIMESTAMP ON UPDATE CURRENT_TIMESTAMP)",
        "INSERT INTO gp_stamped VALUES (1, 'http://glimmerpoint.example', '2004-05-06 07:08:09')",
    ] {
        stage.database("old").run(sql.as_bytes()).unwrap();
    }
    stage.scene.done(&format!("{RULE} --apply"));
    let found =
        stage.database("old").ask("SELECT link, CAST(changed AS CHAR) FROM gp_stamped").unwrap();
    assert_eq!(found[0][0].as_deref(), Some("https://glimmer.example"));
    assert_eq!(found[0][1].as_deref(), Some("2004-05-06 07:08:09"));
}

#[test]
fn rules_that_contradict_or_do_not_pair_are_refused() {
    let stage = stage(Engine::Sqlite);
    stage
        .scene
        .run("rewrite old --from http://a.example --to http://b.example --from https://a.example --to http://c.example")
        .code(2)
        .says("http://b.example")
        .says("http://c.example");
    stage
        .scene
        .run("rewrite old --from http://a.example")
        .code(2)
        .says("--from and --to do not pair up");
    stage
        .scene
        .run("rewrite old --from a.example --to b.example")
        .code(2)
        .says("http:// or https://");
}
