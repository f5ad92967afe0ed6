//! Rewriting a live site, and taking it back.

use super::zoo::assert_same;
use super::{PROGRAM, fixture};
use fernweh_core::rewrite::is_serialized;
use fernweh_demo::database::{Database, Place};
use fernweh_testkit::{Engine, Fixture, Workspace, database_cells, files_of, mariadb_client, psql};

const RULE: &str = "rewrite old --from http://glimmerpoint.example --to https://glimmer.example";

#[test]
fn preview_and_real_run_give_the_same_numbers_and_undo_brings_every_cell_back() {
    for engine in [Engine::Sqlite, Engine::SqliteOutside, Engine::Mariadb, Engine::Postgres] {
        let fixture = fixture(engine);
        let before = (database_cells(&fixture.old), files_of(&fixture.root("old")));
        let preview = fixture.workspace.done(&format!("{RULE} --json")).json();
        assert_eq!(before.0, database_cells(&fixture.old), "{engine:?}");
        let real = fixture.workspace.done(&format!("{RULE} --apply --json")).json();
        assert_eq!(preview["rewriting"], real["rewriting"], "{engine:?}");
        assert_eq!(real["refused"], serde_json::json!([]), "{engine:?}");
        let after = (database_cells(&fixture.old), files_of(&fixture.root("old")));
        assert_ne!(before.0, after.0);
        let twice = fixture.workspace.done(&format!("{RULE} --json")).json();
        let columns = twice["rewriting"]["columns"].as_object().unwrap();
        assert!(columns.values().all(|tally| tally["replacements"] == 0));
        let undone = fixture.workspace.done("undo old --json").json();
        assert_eq!(
            undone["turned"][0]["taken_back"]["refused"],
            serde_json::json!([]),
            "{engine:?}"
        );
        assert_eq!(before.0, database_cells(&fixture.old), "{engine:?}");
        same_content(&before.1, &files_of(&fixture.root("old")));
        fixture.workspace.done("undo old");
        assert_eq!(after.0, database_cells(&fixture.old), "{engine:?}");
        same_content(&after.1, &files_of(&fixture.root("old")));
    }
}

#[test]
fn tables_of_many_batches_are_rewritten_while_they_are_read() {
    for engine in [Engine::Sqlite, Engine::Mariadb, Engine::Postgres] {
        let fixture = Fixture::of_size(PROGRAM, engine, 1_700);
        let before = database_cells(&fixture.old);
        let real = fixture.workspace.done(&format!("{RULE} --only database --apply --json")).json();
        assert_eq!(real["rewriting"]["columns"]["gp_articles.body"]["changed"], 1_700);
        assert_eq!(real["refused"], serde_json::json!([]), "{engine:?}");
        let twice = fixture.workspace.done(&format!("{RULE} --only database --json")).json();
        let columns = twice["rewriting"]["columns"].as_object().unwrap();
        assert!(columns.values().all(|tally| tally["replacements"] == 0), "{engine:?}");
        fixture.workspace.done("undo old");
        assert_eq!(before, database_cells(&fixture.old), "{engine:?}");
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
        let fixture = fixture(engine);
        let archive = fixture.pack();
        fixture.workspace.done(&format!("unpack {archive} new"));
        let unpacked = database_cells(&fixture.new);
        fixture.workspace.done("unpack site.fernweh.tar new --as-is --overwrite");
        fixture.workspace.done("rewrite new --apply");
        assert_eq!(unpacked, database_cells(&fixture.new), "{engine:?}");
    }
}

#[test]
fn a_cell_that_cannot_take_the_new_value_is_named_and_the_rest_is_done() {
    for engine in [Engine::Sqlite, Engine::Mariadb, Engine::Postgres] {
        let fixture = fixture(engine);
        for sql in [
            "CREATE TABLE gp_links (id INTEGER PRIMARY KEY, link VARCHAR(40) NOT NULL UNIQUE)",
            "INSERT INTO gp_links VALUES (1, 'http://glimmerpoint.example/a'), (2, 'https://glimmer.example/a'), \
             (3, 'http://glimmerpoint.example/b')",
        ] {
            fixture.database("old").run(sql.as_bytes()).unwrap();
        }
        let ran = fixture.workspace.done(&format!("{RULE} --apply"));
        ran.says("gp_links.link, id 1: the new value is not allowed here");
        let links = fixture.database("old").ask("SELECT link FROM gp_links ORDER BY id").unwrap();
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
        let fixture = fixture(engine);
        for sql in [
            "CREATE TABLE gp_seen (link VARCHAR(90) PRIMARY KEY, target VARCHAR(90))",
            "INSERT INTO gp_seen VALUES ('http://glimmerpoint.example/a', 'http://glimmerpoint.example/b')",
            "CREATE TABLE gp_loose (a VARCHAR(90), b VARCHAR(90), c DOUBLE PRECISION)",
            "INSERT INTO gp_loose VALUES ('http://glimmerpoint.example/a', 'http://glimmerpoint.example/b', 0.1), \
             ('http://glimmerpoint.example/a', 'http://glimmerpoint.example/b', 0.1), (NULL, '//glimmerpoint.example', NULL)",
        ] {
            fixture.database("old").run(sql.as_bytes()).unwrap();
        }
        let before = database_cells(&fixture.old);
        let ran = fixture.workspace.done(&format!("{RULE} --apply --json")).json();
        assert_eq!(ran["refused"], serde_json::json!([]), "{engine:?}");
        let text = format!(
            "{:?}",
            (&database_cells(&fixture.old)["gp_seen"], &database_cells(&fixture.old)["gp_loose"])
        );
        let old =
            if engine == Engine::Mariadb { "676C696D6D6572706F696E74" } else { "glimmerpoint" };
        assert!(!text.contains(old), "{engine:?}: {text}");
        fixture.workspace.done("undo old");
        assert_eq!(before, database_cells(&fixture.old), "{engine:?}");
    }
}

#[test]
fn what_was_edited_since_is_not_overwritten_by_undo() {
    for engine in [Engine::Sqlite, Engine::Mariadb, Engine::Postgres] {
        let fixture = fixture(engine);
        fixture.workspace.done(&format!("{RULE} --apply"));
        fixture
            .database("old")
            .run(b"UPDATE gp_settings SET value = 'edited' WHERE name = 'home'")
            .unwrap();
        fixture.workspace.write("old/htdocs/robots.txt", "edited");
        let ran = fixture.workspace.done("undo old");
        ran.says("the cell was changed in the meantime")
            .says("robots.txt: the file was changed in the meantime");
        let home = fixture
            .database("old")
            .ask("SELECT value FROM gp_settings WHERE name = 'home'")
            .unwrap();
        assert_eq!(home[0][0].as_deref(), Some("edited"));
    }
}

#[test]
fn a_killed_rewriting_is_taken_back_or_gone_on_with() {
    for engine in [Engine::Sqlite, Engine::Mariadb, Engine::Postgres] {
        let fixture = fixture(engine);
        let before = database_cells(&fixture.old);
        let line = format!("{RULE} --apply");
        assert_eq!(fixture.workspace.run_killed_at(&line, "changes-kept#3").code, None);
        assert_ne!(before, database_cells(&fixture.old), "{engine:?}: some cells were changed");
        fixture.workspace.done("survey old").says("was interrupted");
        fixture.workspace.done("undo old");
        assert_eq!(before, database_cells(&fixture.old), "{engine:?}");
        fixture.workspace.run_killed_at(&line, "changes-kept#3");
        fixture.workspace.done(&line);
        fixture
            .workspace
            .done("rewrite old --from http://glimmerpoint.example --to https://glimmer.example")
            .says("nothing is left to rewrite");
    }
}

#[test]
fn times_that_the_server_would_set_stay_as_they_were() {
    let fixture = fixture(Engine::Mariadb);
    for sql in [
        "CREATE TABLE gp_stamped (id INT PRIMARY KEY, link TEXT, changed TIMESTAMP DEFAULT CURRENT_TIMESTAMP ON UPDATE CURRENT_TIMESTAMP)",
        "INSERT INTO gp_stamped VALUES (1, 'http://glimmerpoint.example', '2004-05-06 07:08:09')",
    ] {
        fixture.database("old").run(sql.as_bytes()).unwrap();
    }
    fixture.workspace.done(&format!("{RULE} --apply"));
    let found =
        fixture.database("old").ask("SELECT link, CAST(changed AS CHAR) FROM gp_stamped").unwrap();
    assert_eq!(found[0][0].as_deref(), Some("https://glimmer.example"));
    assert_eq!(found[0][1].as_deref(), Some("2004-05-06 07:08:09"));
}

#[test]
fn rules_that_contradict_or_do_not_pair_are_refused() {
    let fixture = fixture(Engine::Sqlite);
    fixture
        .workspace
        .run("rewrite old --from http://a.example --to http://b.example --from https://a.example --to http://c.example")
        .code(2)
        .says("http://b.example")
        .says("http://c.example");
    fixture
        .workspace
        .run("rewrite old --from http://a.example")
        .code(2)
        .says("--from and --to do not pair up");
    fixture
        .workspace
        .run("rewrite old --from a.example --to b.example")
        .code(2)
        .says("type it with its scheme");
}

/// Lets the engine's plain client run a script.
fn load(place: &Place, path: &std::path::Path) {
    let script = std::fs::read(path).unwrap();
    match place {
        Place::Sqlite(file) => {
            let _ = std::fs::remove_file(file);
            Database::open(place).unwrap().run(&script).unwrap();
        }
        Place::Mariadb { .. } => drop(mariadb_client(place, script)),
        Place::Postgres { .. } => {
            drop(psql(place, &["-v", "ON_ERROR_STOP=1", "-q", "-f", &path.display().to_string()]));
        }
    }
}

#[test]
fn a_rewritten_script_makes_the_database_that_rewriting_in_place_makes() {
    for engine in [Engine::SqliteOutside, Engine::Mariadb, Engine::Postgres] {
        let fixture = fixture(engine);
        let file = RULE.replace("rewrite old", "rewrite old.sql.gz -o new.sql");
        fixture.workspace.done("pack old --sql old.sql");
        let packed = std::fs::read(fixture.workspace.path("old.sql")).unwrap();
        let mut gzip = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
        std::io::Write::write_all(&mut gzip, &packed).unwrap();
        fixture.workspace.write("old.sql.gz", gzip.finish().unwrap());
        let report = fixture.workspace.done(&format!("{file} --json")).json();
        load(&fixture.new, &fixture.workspace.path("new.sql"));
        let live = fixture.workspace.done(&format!("{RULE} --apply --only database --json")).json();
        assert_same(&database_cells(&fixture.old), &database_cells(&fixture.new), "the same cells");
        let replaced = |report: &serde_json::Value, part: &str| -> u64 {
            let tallies = report["rewriting"][part].as_object().unwrap();
            tallies.values().map(|tally| tally["replacements"].as_u64().unwrap()).sum()
        };
        assert_eq!(replaced(&report, "files"), replaced(&live, "columns"), "{engine:?}");
        fixture.workspace.run(&file).code(2).says("already there");
    }
}

#[test]
fn files_of_text_and_streams_are_rewritten_too() {
    let workspace = Workspace::new(PROGRAM);
    let rule = "--from http://old.example --to https://new.example";
    workspace.write("notes.txt", "one http://old.example/a\ntwo\n");
    workspace.done(&format!("rewrite notes.txt -o new.txt {rule}")).says("a text, 29 bytes");
    assert_eq!(workspace.read("new.txt"), "one https://new.example/a\ntwo\n");
    // Too large to be looked at as a whole: line by line.
    let line = "see http://old.example/a and nothing else worth a word\n";
    workspace.write("large.txt", line.repeat(400_000));
    let report = workspace.done(&format!("rewrite large.txt -o large.zst {rule} --json")).json();
    assert_eq!(report["rewriting"]["files"]["large.txt"]["replacements"], 400_000);
    let whole =
        zstd::decode_all(std::fs::File::open(workspace.path("large.zst")).unwrap()).unwrap();
    let expected = line.replace("http://old.example", "https://new.example").repeat(400_000);
    assert!(whole == expected.into_bytes());
    // What cannot be told apart is asked for.
    workspace.write("odd.sql", "UPDATE t SET a = 'it\\'s http://old.example'");
    let odd = format!("rewrite odd.sql -o odd.new {rule}");
    workspace.run(&odd).code(2).says("unknown SQL dialect").says("--engine mariadb");
    workspace.done(&format!("{odd} --engine mariadb"));
    assert_eq!(workspace.read("odd.new"), "UPDATE t SET a = 'it\\'s https://new.example'");
    workspace.run(&format!("rewrite none.sql -o x {rule}")).code(3).says("no such file");
    assert!(!workspace.path("x").exists());
}

#[test]
fn one_value_is_tried_and_every_reason_given() {
    let workspace = Workspace::new(PROGRAM);
    let rule = "--from http://old.example --to https://new.example";
    let tried = |value: &str| {
        let mut command = workspace.command(&format!("rewrite {rule} --try"));
        let out = command.arg(value).output().unwrap();
        assert!(out.status.success());
        String::from_utf8(out.stdout).unwrap()
    };
    let value = "s:20:\"http:\\/\\/old.example\";";
    let said = tried(value);
    assert!(said.contains("rule 1, http: json"), "{said}");
    assert!(said.contains("a length in a serialized value"), "{said}");
    assert!(said.contains("result     s:21:\"https:\\/\\/new.example\";"), "{said}");
    let said = tried("old.example, a@old.example http://old.example:81");
    assert!(said.contains("rule 1: bare host name"), "{said}");
    assert!(said.contains("bare-host = true"), "{said}");
    assert!(said.contains("rule 1: another port"), "{said}");
    assert!(said.contains("untouched  a@old.example"), "{said}");
    assert!(
        tried("s:3:\"http://old.example\";").contains("repair its lengths with --mend-lengths")
    );
    assert!(tried("nothing").contains("no old name of any rule occurs"));
    workspace.run(&format!("rewrite {rule} --try x --apply")).code(2);
}

#[test]
fn damaged_values_are_mended_where_they_are_asked_to_be() {
    for engine in [Engine::Sqlite, Engine::Mariadb, Engine::Postgres] {
        let fixture = fixture(engine);
        let before = database_cells(&fixture.old);
        let broken = fixture.workspace.done(&format!("{RULE} --json")).json();
        let left = &broken["rewriting"]["columns"]["gp_settings.value"]["left"];
        assert_eq!(left["damaged-serialized"], 1, "{engine:?}");
        let preview = fixture.workspace.done(&format!("{RULE} --mend-lengths"));
        preview.says("1 serialized value whose lengths were wrong").says("gp_settings.value, id 4");
        let mended =
            fixture.workspace.done(&format!("{RULE} --mend-lengths --apply --json")).json();
        let tally = &mended["rewriting"]["columns"]["gp_settings.value"];
        assert_eq!(tally["mended"], 1);
        assert_eq!(tally["left"], serde_json::json!({}));
        let ask = "SELECT value FROM gp_settings WHERE id = 4";
        let value = fixture.database("old").ask(ask).unwrap()[0][0].clone().unwrap();
        assert!(is_serialized(value.as_bytes()), "{value}");
        fixture.workspace.done("undo old");
        assert_eq!(before, database_cells(&fixture.old), "{engine:?}");
        // On the way into another site, too, with the addresses left alone.
        let archive = fixture.pack();
        fixture.workspace.done(&format!("unpack {archive} new --as-is --mend-lengths"));
        let value = fixture.database("new").ask(ask).unwrap()[0][0].clone().unwrap();
        assert!(is_serialized(value.as_bytes()) && value.contains("glimmerpoint.example"));
    }
}

#[test]
fn rules_of_every_kind_are_read_from_the_configuration() {
    let workspace = Workspace::new(PROGRAM);
    workspace.write("htdocs/a.html", "Glimmer Point http://cdn.example/x http://www.a.test/y");
    let site = "[site.one]\nfiles = \"htdocs\"\n";
    let rules = |more: &str| workspace.write("fernweh.toml", format!("{site}{more}"));
    rules(
        "[[rule]]\nkind = \"text\"\nfrom = \"Glimmer Point\"\nto = \"Dusk Bay\"\n\
         [[rule]]\nfrom = \"http://cdn.example\"\nhttps = true\n\
         [[rule]]\nfrom = \"http://a.test\"\nto = \"https://b.test\"\n\
         [[rule]]\nfrom = \"http://www.a.test\"\nto = \"https://c.test\"\nexact = true\n",
    );
    let ran = workspace.done("rewrite one --apply");
    ran.says("words plain 1").says("the rule http://www.a.test → https://c.test never applies");
    assert_eq!(workspace.read("htdocs/a.html"), "Dusk Bay https://cdn.example/x https://b.test/y");
    for (rule, said) in [
        ("from = \"http://a.test\"", "`http://a.test` has no `to`"),
        ("from = \"http://a.test\"\nhttps = true\nto = \"x\"", "so it needs no `to`"),
        ("from = \"ab\"\nkind = \"word\"", "unknown variant `word`"),
        ("from = \"-\"\nkind = \"text\"", "at least two letters or digits"),
    ] {
        rules(&format!("[[rule]]\n{rule}\n"));
        workspace.run("rewrite one").code(2).says(said);
    }
}

#[test]
fn a_rule_holds_only_where_it_is_meant_to() {
    for engine in [Engine::Sqlite, Engine::Mariadb, Engine::Postgres] {
        let fixture = fixture(engine);
        let rule = |more: &str| {
            fixture.configure(&format!(
                "[[rule]]\nfrom = \"http://glimmerpoint.example\"\nto = \"https://b.test\"\n\
                 into = [\"old\"]\n{more}\n"
            ));
            let report = fixture.workspace.done("rewrite old --json").json();
            let changed = |part: &str| -> Vec<String> {
                let places = report["rewriting"][part].as_object().unwrap().iter();
                let busy = places.filter(|(_, tally)| tally["replacements"] != 0);
                busy.map(|(place, _)| place.clone()).collect()
            };
            (changed("columns"), changed("files"))
        };
        let (columns, files) = rule("");
        assert!(columns.len() > 4 && files.len() > 4, "{columns:?} {files:?}");
        assert_eq!(rule("only = [\"gp_articles\"]").0, ["gp_articles.body", "gp_articles.share"]);
        assert_eq!(rule("only = [\"gp_articles\"]").1, [""; 0]);
        let (fewer, same) = rule("not = [\"gp_settings.*\", \"gp_articles.body\"]");
        let other =
            |name: &&String| !name.starts_with("gp_settings") && *name != "gp_articles.body";
        assert_eq!(fewer, columns.iter().filter(other).cloned().collect::<Vec<_>>());
        assert_eq!(same, files);
        let (none, some) = rule("only = [\"*.css\"]");
        assert!(none.is_empty() && some.iter().all(|name| name.ends_with(".css")), "{some:?}");
        assert!(!some.is_empty());
    }
}

#[test]
fn base64_is_counted_and_opened_when_asked() {
    let workspace = Workspace::new(PROGRAM);
    // "see http://old.example/a", and the same address at another host.
    let (before, after) =
        ("c2VlIGh0dHA6Ly9vbGQuZXhhbXBsZS9h", "c2VlIGh0dHBzOi8vbmV3LmV4YW1wbGUvYQ==");
    let place = Place::Sqlite(workspace.path("one.db"));
    let sql = format!(
        "CREATE TABLE a (id INTEGER PRIMARY KEY, b TEXT); INSERT INTO a VALUES (1, '{before}')"
    );
    Database::open(&place).unwrap().run(sql.as_bytes()).unwrap();
    workspace.write("fernweh.toml", "[site.one]\ndatabase = \"sqlite:one.db\"\n");
    let line = "rewrite one --from http://old.example --to https://new.example";
    workspace.done(line).says("inside base64: 1");
    workspace.done(&format!("{line} --inside base64 --apply")).says("http: base64 1");
    let ask = || Database::open(&place).unwrap().ask("SELECT b FROM a").unwrap()[0][0].clone();
    assert_eq!(ask().as_deref(), Some(after));
    workspace.done("undo one");
    assert_eq!(ask().as_deref(), Some(before));
}

#[test]
fn in_a_file_that_is_too_large_every_old_address_is_counted_wherever_it_lies() {
    let workspace = Workspace::new(PROGRAM);
    let address = "http://old.example/a";
    let mut text = vec![b'.'; 17 << 20];
    // Across every border at which a file could be cut, and once each.
    let places: Vec<usize> = (1..17).map(|n| (n << 20) - 12).collect();
    for at in &places {
        text[*at..*at + address.len()].copy_from_slice(address.as_bytes());
    }
    workspace.write("htdocs/large.txt", &text);
    let line = "rewrite --files htdocs --from http://old.example --to https://new.example --json";
    let report = workspace.done(line).json();
    let left = &report["rewriting"]["files"]["large.txt"]["left"]["too-large"];
    assert_eq!(left.as_u64(), Some(places.len() as u64));
}
