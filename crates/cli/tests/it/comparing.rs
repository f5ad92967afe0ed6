//! Two sites side by side.

use super::fixture;
use super::hosts::{ssh_host, with_key};
use fernweh_testkit::{Engine, Fixture};
use serde_json::Value;

fn moved(engine: Engine) -> Fixture {
    let fixture = fixture(engine);
    let archive = fixture.pack();
    fixture.workspace.done(&format!("unpack {archive} new"));
    fixture
}

#[test]
fn a_site_that_has_moved_is_identical_but_for_what_the_rules_change() {
    for engine in [Engine::Sqlite, Engine::SqliteOutside, Engine::Mariadb, Engine::Postgres] {
        let fixture = moved(engine);
        let stored = "compare old new --database --files";
        let ran = fixture.workspace.run(stored).code(0);
        ran.says("site old with new: identical");
        let report = fixture.workspace.run(&format!("{stored} --json")).code(0).json();
        assert_eq!(report["identical"], true, "{engine:?}");
        assert!(report["database"]["records"].as_u64().unwrap() > 2000, "{engine:?}");
        assert!(report["files"]["entries"].as_u64().unwrap() > 60, "{engine:?}");
        // Without the rule for the addresses they differ.
        let text = fixture.workspace.read("fernweh.toml");
        let text = text.replace("http://glimmerpoint.example", "http://elsewhere.example");
        fixture.workspace.write("fernweh.toml", text);
        let other = fixture.workspace.run(&format!("{stored} --json")).code(1).json();
        assert!(!other["database"]["differing"].as_array().unwrap().is_empty(), "{engine:?}");
    }
}

#[test]
fn every_difference_is_found_and_shown_with_its_place() {
    for engine in [Engine::Sqlite, Engine::Mariadb, Engine::Postgres] {
        let fixture = moved(engine);
        let mut database = fixture.database("new");
        for sql in [
            "UPDATE gp_articles SET title = 'Another night' WHERE id = 7",
            "DELETE FROM gp_settings WHERE name = 'menu'",
            "INSERT INTO gp_sections (id, name, slug) VALUES (9001, 'new', 'new')",
            "CREATE INDEX gp_more ON gp_sections (name)",
            "CREATE TABLE gp_extra (id INTEGER PRIMARY KEY)",
        ] {
            database.run(sql.as_bytes()).expect("it is changed");
        }
        drop(database);
        let root = fixture.root("new");
        std::fs::write(root.join("styles/extra.css"), "a{}").unwrap();
        std::fs::write(root.join("robots.txt"), "User-agent: *").unwrap();
        std::fs::remove_file(root.join("icon.png")).unwrap();
        let report = fixture.workspace.run("compare old new --json").code(1).json();
        let objects: Vec<(&str, &str)> = report["database"]["objects"]
            .as_array()
            .unwrap()
            .iter()
            .map(|it| (it["what"].as_str().unwrap(), it["object"].as_str().unwrap()))
            .collect();
        // MariaDB tells its indexes with their table.
        let index =
            |it: &(&str, &str)| it.1.contains("gp_more") || *it == ("changed", "table gp_sections");
        assert!(objects.iter().any(index), "{objects:?}");
        assert!(
            objects.iter().any(|it| it.0 == "extra" && it.1.contains("gp_extra")),
            "{objects:?}"
        );
        let of = |table: &str| -> Value {
            let all = report["database"]["differing"].as_array().unwrap();
            all.iter().find(|it| it["table"].as_str().unwrap().ends_with(table)).unwrap().clone()
        };
        let articles = of("gp_articles");
        assert_eq!(
            (articles["changed"].as_u64(), articles["missing"].as_u64()),
            (Some(1), Some(0))
        );
        assert_eq!(articles["examples"][0]["cells"][0][0], "title");
        assert_eq!(articles["examples"][0]["cells"][0][2], "Another night");
        assert_eq!(of("gp_settings")["missing"], 1);
        assert_eq!(of("gp_sections")["extra"], 1);
        let files: Vec<(&str, &str)> = report["files"]["examples"]
            .as_array()
            .unwrap()
            .iter()
            .map(|it| (it["what"].as_str().unwrap(), it["path"].as_str().unwrap()))
            .collect();
        assert_eq!(
            files,
            [("missing", "icon.png"), ("content", "robots.txt"), ("extra", "styles/extra.css")],
            "{engine:?}"
        );
        fixture.workspace.run("compare old new").code(1).says("Another night").says("id 7");
        fixture.workspace.run("compare old new --files").code(1).says("icon.png");
        fixture.workspace.run("compare old new --structure").code(1).says("gp_extra");
    }
}

#[test]
fn a_site_that_is_not_there_is_said_as_that() {
    let fixture = fixture(Engine::Sqlite);
    let workspace = &fixture.workspace;
    workspace.run("compare old").code(2);
    workspace.run("compare old nobody").code(2).says("there is no site `nobody`");
    workspace.run("compare old new --database").code(3).says("there is no such file");
}

#[test]
fn what_cannot_be_read_is_never_called_identical() {
    let fixture = moved(Engine::Sqlite);
    let _socket =
        std::os::unix::net::UnixListener::bind(fixture.root("old").join("program.sock")).unwrap();
    let ran = fixture.workspace.run("compare old new --files").code(1);
    ran.says("1 file not compared").says("program.sock");
    // Nobody serves the pages of these sites.
    let ran = fixture.workspace.run("compare old new").code(1);
    ran.says("1 page not compared").says("all pages: ");
    fixture.workspace.run("compare old new --pages").code(3).says("the first page cannot be read");
}

#[test]
fn the_pages_of_a_site_that_has_moved_are_the_same_pages() {
    for engine in [Engine::Sqlite, Engine::Mariadb] {
        let mut fixture = moved(engine);
        let _hosts = fixture.serve();
        // One page of the sample site keeps an address of the old one, on purpose.
        let ran = fixture.workspace.run("compare old new --pages").code(1);
        ran.says("1 page differs").says("answers").says("http://glimmerpoint.example/visit");
        let report = fixture.workspace.run("compare old new --json").code(1).json();
        let pages = &report["pages"];
        assert!(pages["pages"].as_u64().unwrap() > 430, "{engine:?}");
        assert!(pages["pictures"].as_u64().unwrap() > 10, "{engine:?}");
        assert_eq!(pages["differing"], 1, "{pages}");
        let differences = pages["differences"].as_array().unwrap();
        let paths = differences.iter().map(|it| it["examples"][0].as_str().unwrap());
        assert!(paths.into_iter().all(|path| path == "/about"), "{pages}");
    }
}

#[test]
fn what_differs_in_pages_is_shown_with_both_sides() {
    let mut fixture = moved(Engine::Sqlite);
    let _hosts = fixture.serve();
    let mut database = fixture.database("new");
    let sql = "UPDATE gp_articles SET title = 'Another night' WHERE id = 7";
    database.run(sql.as_bytes()).expect("it is changed");
    drop(database);
    let root = fixture.root("new");
    std::fs::write(root.join("pictures/night-02.png"), "another picture").unwrap();
    let report = fixture.workspace.run("compare old new --pages --json").code(1).json();
    let differences = report["pages"]["differences"].as_array().unwrap();
    let of = |what: &'static str| differences.iter().filter(move |it| it["what"] == what);
    let title = of("title").next().expect("a title differs");
    assert!(title["there"].as_str().unwrap().contains("Another night"), "{title}");
    assert_eq!(of("status").count(), 0, "{differences:?}");
    let picture = of("picture").next().expect("a picture differs");
    assert!(picture["there"].as_str().unwrap().contains("/pictures/night-02.png"), "{picture}");

    // A list, in place of what a scan finds.
    fixture.workspace.write("list.txt", "/\n# the members\n/no-such-page\n\n");
    let listed = "compare old new --addresses list.txt";
    let report = fixture.workspace.run(&format!("{listed} --json")).code(1).json();
    assert_eq!(report["pages"]["pages"], 2);
    fixture.workspace.write("list.txt", "https://elsewhere.example/\n");
    fixture.workspace.run(listed).code(2).says("line 1").says("is not below");
    fixture.workspace.write("list.txt", "\n");
    fixture.workspace.run(listed).code(2).says("the list names no page");

    // The same as a page.
    fixture
        .workspace
        .run("compare old new --pages --report differs.html")
        .code(1)
        .says("differs.html");
    assert!(fixture.workspace.read("differs.html").contains("Another night"));
}

#[test]
fn a_host_with_a_shell_computes_the_digests_of_its_files() {
    let fixture = fixture(Engine::Mariadb);
    std::fs::write(fixture.root("old").join("it's $HOME.bin"), vec![7; 100_000]).unwrap();
    let archive = fixture.pack();
    fixture.workspace.done(&format!("unpack {archive} new"));
    let host = ssh_host(&fixture.workspace, "");
    fixture.reach_files("new", &host.files(&fixture.root("new")), &with_key(&host));
    fixture.workspace.run("compare old new --files").code(0).says("identical");
    let moon = fixture.root("new").join("pictures/night-02.png");
    let mut bytes = std::fs::read(&moon).unwrap();
    let last = bytes.len() - 1;
    bytes[last] ^= 1;
    std::fs::write(&moon, &bytes).unwrap();
    let ran = fixture.workspace.run("compare old new --files").code(1);
    ran.says("pictures/night-02.png").says(&format!("from byte {last} on"));
}

#[test]
fn a_move_ends_with_a_comparison_if_asked_to() {
    let mut fixture = fixture(Engine::Sqlite);
    let _hosts = fixture.serve();
    let ran = fixture.workspace.run("move old new --overwrite --yes --no-scan --compare").code(1);
    ran.says("compared ").says("1 page differs").says("fernweh compare old new");
}

#[test]
fn tables_under_another_prefix_are_the_same_tables() {
    for engine in [Engine::Sqlite, Engine::Mariadb, Engine::Postgres] {
        let fixture = fixture(engine);
        let rename = "INSERT INTO gp_settings (id, name, value) VALUES (900, 'gp_roles', 'x')";
        fixture.database("old").run(rename.as_bytes()).unwrap();
        fixture.configure("[unpack]\nprefix-in = [\"gp_settings.name\"]\n");
        let archive = fixture.pack();
        fixture.workspace.done(&format!("unpack {archive} new --prefix gp_=new_ --only database"));
        let compare = "compare old new --database";
        fixture.workspace.run(compare).code(1).says("missing  table");
        let ran = fixture.workspace.run(&format!("{compare} --prefix gp_=new_")).code(0);
        ran.says("identical");
        fixture.workspace.run(&format!("{compare} --prefix gp_")).code(2).says("gp_=new_");
    }
}
