//! The whole way: pack, unpack, rewrite, undo.

use super::{PROGRAM, fixture};
use fernweh_core::sql::Dialect;
use fernweh_demo::faults::REMAINDERS;
use fernweh_demo::{NEW_URL, OLD_URL};
use fernweh_testkit::{Engine, Fixture, database_cells, files_of, php_finds_different};
use std::os::unix::fs::PermissionsExt;

const ENGINES: [Engine; 4] =
    [Engine::Sqlite, Engine::SqliteOutside, Engine::Mariadb, Engine::Postgres];

/// Everything of a site as text, in which old names can be looked for.
fn whole_text(fixture: &Fixture, site: &str) -> String {
    let mut database = fixture.database(site);
    if fixture.new.dialect() == Dialect::Postgres {
        database.run(b"SET bytea_output = 'escape'").unwrap();
    }
    let mut text = String::new();
    for (table, columns) in [
        ("gp_articles", "slug, title, body, teaser, share"),
        ("gp_nights", "notes"),
        ("gp_pictures", "caption, thumbnail"),
        ("gp_members", "email, homepage"),
        ("gp_comments", "body"),
        ("gp_settings", "value"),
        ("gp_blocks", "layout"),
        ("gp_feeds", "source"),
        ("gp_guestbook", "entry"),
        ("gp_log", "line"),
    ] {
        for row in database.ask(&format!("SELECT {columns} FROM {table}")).unwrap() {
            text.extend(row.into_iter().flatten().map(|cell| cell + "\n"));
        }
    }
    for entry in walkdir::WalkDir::new(fixture.root(site)).into_iter().flatten() {
        if entry.file_type().is_file() && !entry.path().to_string_lossy().contains("glimmer.db") {
            text.push_str(&String::from_utf8_lossy(&std::fs::read(entry.path()).unwrap()));
        }
    }
    text
}

#[test]
fn after_the_move_no_old_address_is_left_but_the_intended_ones() {
    for engine in ENGINES {
        let fixture = fixture(engine);
        let archive = fixture.pack();
        fixture.workspace.done(&format!("unpack {archive} new"));
        let mut text = whole_text(&fixture, "new");
        for remainder in REMAINDERS {
            assert!(text.contains(remainder.text), "{engine:?}: {} is gone", remainder.text);
        }
        for remainder in REMAINDERS {
            text = text.replace(remainder.text, "");
        }
        // A comment of a script names the place; that is no address.
        text = text.replace("// glimmerpoint\n", "").replace("glimmerpoint.example/$1", "");
        let left = text.find("glimmerpoint").map(|at| &text[at.saturating_sub(60)..at + 40]);
        assert_eq!(left, None, "{engine:?}");
        let once = (database_cells(&fixture.new), files_of(&fixture.root("new")));
        fixture.workspace.done(&format!("unpack {archive} new --overwrite"));
        let twice = (database_cells(&fixture.new), files_of(&fixture.root("new")));
        assert_eq!(once, twice, "{engine:?}: repeating the move changes nothing more");
        let again = fixture.workspace.done("rewrite new --json").json();
        let columns = again["rewriting"]["columns"].as_object().unwrap();
        assert!(columns.values().all(|tally| tally["replacements"] == 0), "{engine:?}");
    }
}

#[test]
fn php_reads_every_serialized_value_with_only_the_intended_changes() {
    for engine in [Engine::Sqlite, Engine::Mariadb, Engine::Postgres] {
        let fixture = fixture(engine);
        let archive = fixture.pack();
        fixture.workspace.done(&format!("unpack {archive} new"));
        let values = |site: &str| -> Vec<String> {
            let mut database = fixture.database(site);
            let settings = "SELECT value FROM gp_settings WHERE name NOT IN ('sidebar', 'feed_json', \
                            'home', 'home_encoded', 'root', 'tail') ORDER BY id";
            let guests = "SELECT entry FROM gp_guestbook WHERE id % 4 = 0 ORDER BY id";
            let rows = [settings, guests].map(|sql| database.ask(sql).unwrap()).concat();
            rows.into_iter().map(|row| row[0].clone().unwrap()).collect()
        };
        let (old, new) = (values("old"), values("new"));
        // The scheme-relative address in one value changes too; PHP is told the rest.
        let old = old.into_iter().map(|value| {
            value.replace(
                "s:29:\"//glimmerpoint.example/hidden\"",
                "s:34:\"//www.glimmer-point.example/hidden\"",
            )
        });
        let pairs: Vec<_> = old.zip(new).collect();
        assert!(pairs.len() > 25);
        assert_eq!(
            php_finds_different(&pairs, OLD_URL, NEW_URL),
            Vec::<String>::new(),
            "{engine:?}"
        );
    }
}

#[test]
fn a_round_trip_as_is_gives_the_same_database_and_the_same_files() {
    for engine in ENGINES {
        let fixture = fixture(engine);
        let root = fixture.root("old");
        std::fs::set_permissions(root.join("uploads"), std::fs::Permissions::from_mode(0o2750))
            .unwrap();
        std::fs::write(root.join("a name with spaces and \"quotes\".txt"), "x").unwrap();
        std::fs::create_dir_all(root.join("deep/".repeat(30))).unwrap();
        std::fs::write(root.join("deep/".repeat(30)).join("file.txt"), "deep down").unwrap();
        std::fs::remove_dir_all(root.join("cache")).unwrap();
        for archive in ["one.tar", "two.tar"] {
            fixture.workspace.done(&format!("pack old -o {archive}"));
        }
        fixture.workspace.done("unpack one.tar new --as-is");
        assert_eq!(database_cells(&fixture.old), database_cells(&fixture.new), "{engine:?}");
        let mut old = files_of(&root);
        let mut new = files_of(&fixture.root("new"));
        if engine == Engine::SqliteOutside {
            old.remove("config/site.php");
            new.remove("config/site.php");
        }
        assert_eq!(old, new, "{engine:?}");
        fixture.workspace.done("unpack two.tar new --as-is --overwrite");
        assert_eq!(database_cells(&fixture.old), database_cells(&fixture.new), "{engine:?}");
    }
}

#[test]
fn the_preview_gives_the_numbers_of_the_real_run_and_changes_nothing() {
    for engine in [Engine::Sqlite, Engine::Mariadb, Engine::Postgres] {
        let fixture = fixture(engine);
        let archive = fixture.pack();
        let preview =
            fixture.workspace.done(&format!("unpack {archive} new --preview --json")).json();
        assert!(!fixture.root("new").exists());
        assert_eq!(fixture.workspace.changes(), serde_json::json!([]));
        let real = fixture.workspace.done(&format!("unpack {archive} new --json")).json();
        assert_eq!(preview["rewriting"], real["rewriting"], "{engine:?}");
        assert_eq!(preview["records"], real["records"]);
        let half =
            fixture.workspace.done(&format!("unpack {archive} new --preview --only files --json"));
        assert_eq!(half.json()["records"], 0);
        assert_eq!(half.json()["rewriting"]["files"], real["rewriting"]["files"]);
    }
}

#[test]
fn a_filled_site_is_replaced_only_when_told_and_undo_brings_it_back_and_again() {
    for engine in ENGINES {
        let fixture = fixture(engine);
        let archive = fixture.pack();
        fixture.workspace.done(&format!("unpack {archive} new"));
        let sql = "UPDATE gp_articles SET title = 'Written at the new place' WHERE id = 3";
        fixture.database("new").run(sql.as_bytes()).unwrap();
        std::fs::write(fixture.root("new").join("extra.txt"), "of the new site").unwrap();
        let (cells, files) = (database_cells(&fixture.new), files_of(&fixture.root("new")));
        fixture
            .workspace
            .run(&format!("unpack {archive} new"))
            .code(2)
            .says("site new is not empty")
            .says("--overwrite")
            .says("nothing was changed");
        assert_eq!(cells, database_cells(&fixture.new));
        fixture
            .workspace
            .done(&format!("unpack {archive} new --overwrite"))
            .says("fernweh undo new");
        let replaced = (database_cells(&fixture.new), files_of(&fixture.root("new")));
        assert_ne!(cells, replaced.0);
        assert!(!fixture.root("new").join("extra.txt").exists());
        fixture.workspace.done("undo new").says("undone");
        assert_eq!(cells, database_cells(&fixture.new), "{engine:?}");
        assert_eq!(files, files_of(&fixture.root("new")), "{engine:?}");
        fixture.workspace.redo("new").says("redone");
        assert_eq!(replaced.0, database_cells(&fixture.new), "{engine:?}");
        assert_eq!(replaced.1, files_of(&fixture.root("new")), "{engine:?}");
    }
}

#[test]
fn undo_says_what_visitors_wrote_since_the_switch() {
    for engine in ENGINES {
        let fixture = fixture(engine);
        let archive = fixture.pack();
        fixture.workspace.done(&format!("unpack {archive} new"));
        let sql = "INSERT INTO gp_sections (id, name, slug) VALUES (99, 'New', 'new')";
        fixture.database("new").run(sql.as_bytes()).unwrap();
        fixture.workspace.done("undo new").says("since then 1 record came to gp_sections");
        fixture.workspace.done("undo new");
        let found =
            fixture.database("new").ask("SELECT name FROM gp_sections WHERE id = 99").unwrap();
        assert_eq!(found.len(), 1, "{engine:?}: the visitor's record is back");
    }
}

#[test]
fn what_is_kept_can_be_given_up_and_then_nothing_of_it_remains() {
    for engine in ENGINES {
        let fixture = fixture(engine);
        let archive = fixture.pack();
        fixture.workspace.done(&format!("unpack {archive} new"));
        fixture.workspace.done(&format!("unpack {archive} new --overwrite"));
        fixture.workspace.done("undo new --let-go --yes").says("given up");
        fixture.workspace.run("undo new").code(2).says("no change of site new to undo");
        assert!(!fixture.workspace.path("new/.fernweh-htdocs").exists(), "{engine:?}");
        if engine == Engine::Mariadb {
            let sql = "SELECT table_name FROM information_schema.tables \
                       WHERE table_schema = database() AND left(table_name, 3) = '_fw'";
            assert!(fixture.database("new").ask(sql).unwrap().is_empty());
        }
        fixture.workspace.done("rewrite new");
    }
}

#[test]
fn tables_of_others_in_the_same_database_stay_where_they_are() {
    for engine in ENGINES {
        let fixture = fixture(engine);
        let archive = fixture.pack();
        for sql in [
            "CREATE TABLE shop_orders (id INTEGER PRIMARY KEY, note TEXT)",
            "INSERT INTO shop_orders VALUES (1, 'http://glimmerpoint.example stays')",
            "CREATE INDEX shop_note ON shop_orders (note(20))",
        ] {
            let sql =
                if engine == Engine::Mariadb { sql.to_owned() } else { sql.replace("(20)", "") };
            fixture.database("new").run(sql.as_bytes()).unwrap();
        }
        fixture.workspace.done(&format!("unpack {archive} new --overwrite"));
        let found = fixture.database("new").ask("SELECT note FROM shop_orders").unwrap();
        assert_eq!(found[0][0].as_deref(), Some("http://glimmerpoint.example stays"), "{engine:?}");
    }
}

#[test]
fn foreign_keys_of_tables_that_stay_point_at_the_tables_in_place() {
    let fixture = fixture(Engine::Mariadb);
    let archive = fixture.pack();
    fixture.workspace.done(&format!("unpack {archive} new"));
    fixture
        .database("new")
        .run(
            b"CREATE TABLE shop_orders (id INT PRIMARY KEY, article_id INT, CONSTRAINT fk_shop \
              FOREIGN KEY (article_id) REFERENCES gp_articles (id) ON DELETE CASCADE)",
        )
        .unwrap();
    let before = database_cells(&fixture.new);
    let create = &before["structure of shop_orders"];
    fixture.workspace.done(&format!("unpack {archive} new --overwrite"));
    assert_eq!(create, &database_cells(&fixture.new)["structure of shop_orders"]);
    fixture.workspace.done("undo new");
    assert_eq!(before, database_cells(&fixture.new));
}

#[test]
fn a_database_with_several_groups_of_tables_is_not_overwritten_unless_bounded() {
    let fixture = fixture(Engine::Sqlite);
    let archive = fixture.pack();
    fixture.workspace.done(&format!("unpack {archive} new"));
    for n in 1..=3 {
        fixture.database("new").run(format!("CREATE TABLE shop_{n} (id INT)").as_bytes()).unwrap();
    }
    fixture
        .workspace
        .run(&format!("unpack {archive} new --overwrite"))
        .code(2)
        .says("gp_* (13 tables), shop_* (3 tables)");
    let text = std::fs::read_to_string(fixture.workspace.path("fernweh.toml")).unwrap();
    let text = text.replace("[site.new]", "[site.new]\ntables = [\"gp_*\"]");
    fixture.workspace.write("fernweh.toml", text);
    fixture.workspace.done(&format!("unpack {archive} new --overwrite"));
    assert!(fixture.database("new").ask("SELECT * FROM shop_3").is_ok());
}

#[test]
fn parts_can_be_left_out_and_are_named() {
    let fixture = fixture(Engine::Mariadb);
    let ran =
        fixture.workspace.done("pack old -o a.tar --leave-out *.log --without-rows gp_log --json");
    let report = ran.json();
    assert_eq!(report["without_rows"][0], "gp_log");
    assert_eq!(report["left_out_as_asked"], serde_json::json!(["cache/front.html", "notes.log"]));
    fixture.workspace.done("unpack a.tar new");
    assert!(fixture.database("new").ask("SELECT * FROM gp_log").unwrap().is_empty());
    assert!(!fixture.root("new").join("notes.log").exists());
    fixture.workspace.done("pack old -o b.tar --only database --tables gp_s*");
    let shown = fixture.workspace.done("show b.tar --json").json();
    let names: Vec<_> =
        shown["rows"].as_array().unwrap().iter().map(|row| row[0].as_str().unwrap()).collect();
    assert_eq!(names, ["gp_sections", "gp_settings", "gp_sightings"]);
    assert_eq!(shown["files"], 0);
}

#[test]
fn unpacking_only_files_keeps_the_database_that_lies_among_them() {
    let fixture = fixture(Engine::Sqlite);
    let archive = fixture.pack();
    fixture.workspace.done(&format!("unpack {archive} new"));
    let cells = database_cells(&fixture.new);
    fixture.workspace.done(&format!("unpack {archive} new --only files --overwrite"));
    assert_eq!(cells, database_cells(&fixture.new));
    fixture.database("new").run(b"DELETE FROM gp_comments").unwrap();
    fixture.workspace.done(&format!("unpack {archive} new --only database --overwrite"));
    assert_eq!(cells.get("gp_comments"), database_cells(&fixture.new).get("gp_comments"));
    fixture.workspace.done("undo new");
    assert!(fixture.database("new").ask("SELECT * FROM gp_comments").unwrap().is_empty());
}

#[test]
fn files_of_the_destination_are_carried_over_when_asked() {
    let fixture = fixture(Engine::Sqlite);
    let archive = fixture.pack();
    fixture.workspace.done(&format!("unpack {archive} new"));
    fixture.workspace.write("new/htdocs/uploads/private/key.txt", "of the new site");
    fixture.workspace.write("new/htdocs/uploads/other.txt", "goes");
    fixture.configure("[unpack]\nkeep = [\"uploads/private/**\"]\n");
    fixture.workspace.done(&format!("unpack {archive} new --overwrite")).says("carried over");
    let kept =
        std::fs::read_to_string(fixture.root("new").join("uploads/private/key.txt")).unwrap();
    assert_eq!(kept, "of the new site");
    assert!(!fixture.root("new").join("uploads/other.txt").exists());
}

#[test]
fn the_connection_is_written_into_the_settings_and_nothing_else_in_them_changes() {
    let fixture = fixture(Engine::Mariadb);
    let archive = fixture.pack();
    fixture.workspace.done(&format!("unpack {archive} new")).says("config/site.php");
    let old = std::fs::read_to_string(fixture.root("old").join("config/site.php")).unwrap();
    let new = std::fs::read_to_string(fixture.root("new").join("config/site.php")).unwrap();
    let (
        fernweh_demo::database::Place::Mariadb { user, password, name, .. },
        fernweh_demo::database::Place::Mariadb { user: u, password: p, name: n, .. },
    ) = (&fixture.old, &fixture.new)
    else {
        panic!()
    };
    let expected = old
        .replace(&format!("'{user}'"), &format!("'{u}'"))
        .replace(&format!("'{password}'"), &format!("'{p}'"))
        .replace(&format!("'{name}'"), &format!("'{n}'"))
        .replace(OLD_URL, NEW_URL);
    assert_eq!(new, expected);
}

#[test]
fn a_port_of_its_own_and_dotenv_lines_are_written_too() {
    let fixture = fixture(Engine::Mariadb);
    let fernweh_demo::database::Place::Mariadb { port, user, password, name } = &fixture.old else {
        panic!()
    };
    let env = |user: &str, password: &str, name: &str| {
        format!(
            "APP=x\nDB_HOST=127.0.0.1\nDB_PORT={port}\nDB_DATABASE={name}\nDB_USERNAME=\"{user}\"\nDB_PASSWORD={password}\n"
        )
    };
    fixture.workspace.write("old/htdocs/.env", env(user, password, name));
    let sample = env("someone", "secret", "some_other_database");
    fixture.workspace.write("old/htdocs/.env.sample", &sample);
    fixture.pack();
    fixture.workspace.done("unpack site.fernweh.tar new").says(".env, config/site.php");
    let fernweh_demo::database::Place::Mariadb { user, password, name, .. } = &fixture.new else {
        panic!()
    };
    let written = std::fs::read_to_string(fixture.root("new").join(".env")).unwrap();
    assert_eq!(written, env(user, password, name));
    // Settings of another database are none of ours.
    let kept = std::fs::read_to_string(fixture.root("new").join(".env.sample")).unwrap();
    assert_eq!(kept, sample);
}

#[test]
fn no_password_is_in_any_output_archive_member_or_journal() {
    let fixture = fixture(Engine::Mariadb);
    let secrets: Vec<String> = [&fixture.old, &fixture.new]
        .into_iter()
        .map(|place| match place {
            fernweh_demo::database::Place::Mariadb { password, .. } => password.clone(),
            _ => unreachable!(),
        })
        .collect();
    let mut said = String::new();
    for line in [
        "survey old -v",
        "survey old --json",
        "survey old --print-config",
        "pack old -o site.tar --leave-out config/**",
        "pack old -o whole.tar",
        "show site.tar --json",
        "unpack whole.tar new --json",
        "rewrite new --from http://cdn.example --to https://cdn.example --apply",
        "undo new",
        "runs --json",
    ] {
        let ran = fixture.workspace.done(line);
        said.push_str(&ran.out);
        said.push_str(&ran.err);
    }
    let mut tar =
        tar::Archive::new(std::fs::File::open(fixture.workspace.path("site.tar")).unwrap());
    for member in tar.entries().unwrap() {
        let member = member.unwrap();
        let is_packed = member.path().unwrap().to_string_lossy().ends_with(".zst");
        let bytes = if is_packed {
            zstd::decode_all(member).unwrap()
        } else {
            let mut bytes = Vec::new();
            std::io::copy(&mut { member }, &mut bytes).unwrap();
            bytes
        };
        said.push_str(&String::from_utf8_lossy(&bytes));
    }
    for entry in walkdir::WalkDir::new(fixture.workspace.path(".fernweh")).into_iter().flatten() {
        if entry.file_type().is_file() {
            said.push_str(&String::from_utf8_lossy(&std::fs::read(entry.path()).unwrap()));
        }
    }
    assert!(said.len() > 100_000);
    for secret in secrets {
        assert!(!said.contains(&secret), "{secret} was shown");
    }
}

#[test]
fn the_archive_opens_with_ordinary_tools() {
    let fixture = Fixture::build(PROGRAM, Engine::Mariadb);
    fixture.pack();
    let fernweh_demo::database::Place::Mariadb { port, user, password, name } = &fixture.new else {
        panic!()
    };
    let script = format!(
        "mkdir open && cd open && tar xf ../site.fernweh.tar && \
         zstd -dcq $(ls database/*.zst database/2-rows/*/*.zst | sort) \
           | mariadb -h127.0.0.1 -P{port} -u{user} -p{password} {name} && \
         mkdir out && zstd -dcq files/0*.tar.zst | tar x -C out"
    );
    let ran = std::process::Command::new("sh")
        .args(["-ec", &script])
        .current_dir(fixture.workspace.folder())
        .output()
        .unwrap();
    assert!(ran.status.success(), "{}", String::from_utf8_lossy(&ran.stderr));
    assert_eq!(database_cells(&fixture.old), database_cells(&fixture.new));
    let mut old = files_of(&fixture.root("old"));
    old.retain(|path, _| !path.starts_with("cache/"));
    let content = |entry: &String| entry.splitn(3, ' ').last().unwrap().to_owned();
    let old: Vec<_> = old.iter().map(|(path, entry)| (path.clone(), content(entry))).collect();
    let new = files_of(&fixture.workspace.path("open/out"));
    let new: Vec<_> = new.iter().map(|(path, entry)| (path.clone(), content(entry))).collect();
    assert_eq!(old, new);
}
