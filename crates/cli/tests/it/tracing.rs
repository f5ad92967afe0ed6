//! Where an address lives: in a record, in a definition, in a file, or nowhere.

use super::{PROGRAM, fixture};
use fernweh_core::finding::Finding;
use fernweh_demo::faults::PageFault;
use fernweh_testkit::{Engine, Workspace};

#[test]
fn everything_that_a_scan_finds_is_traced_to_its_record_or_file() {
    for engine in [Engine::Sqlite, Engine::Mariadb, Engine::Postgres] {
        let mut fixture = fixture(engine);
        let _hosts = fixture.serve();
        let archive = fixture.pack();
        fixture.workspace.done(&format!("unpack {archive} new"));
        let scan = fixture.workspace.run("scan new --own-only --json").code(1);
        fixture.workspace.write("scan.json", &scan.out);
        let findings = scan.json()["findings"].as_array().unwrap().clone();
        let read: Vec<Finding> = serde_json::from_value(findings.clone().into()).unwrap();
        for fault in PageFault::expected(true) {
            assert!(read.iter().any(|finding| fault.is(finding)), "{fault:?}");
        }
        for finding in &findings {
            // What the server makes of a page is stored nowhere.
            let Some(command) = finding["trace"].as_str() else { continue };
            assert!(command.starts_with("fernweh trace new "), "{command}");
        }
        let traced =
            fixture.workspace.done("trace new --findings scan.json --propose --json").json();
        let texts = traced["texts"].as_array().unwrap();
        let missing: Vec<&str> = texts
            .iter()
            .filter(|text| text["found"] == 0)
            .map(|text| text["text"].as_str().unwrap())
            .collect();
        // That page is written by the site's own code.
        assert_eq!(missing, ["/files/rota.pdf"], "{engine:?}");
        let proposed: Vec<&str> = traced["proposed"]
            .as_array()
            .unwrap()
            .iter()
            .map(|rule| rule["from"].as_str().unwrap())
            .collect();
        assert!(proposed.contains(&"http://cdn.example"), "{proposed:?}");
        assert!(proposed.contains(&"http://glimmerpoint.example"), "{proposed:?}");
        let whole = fixture.workspace.run("scan new --own-only --trace --json").code(1).json();
        assert_eq!(whole["traced"]["texts"], traced["texts"]);
    }
}

fn small_site() -> Workspace {
    let workspace = Workspace::new(PROGRAM);
    workspace
        .write("htdocs/templates/foot.html", "<p>\n<img src='http:\\/\\/cdn.test\\/a1.png'>\n");
    workspace.write("htdocs/notes.txt", "one\ntwo\nsee cdn.test/a1.png or /a1.png\n");
    let database = rusqlite_file(&workspace);
    workspace.write(
        "fernweh.toml",
        format!("[site.one]\nfiles = \"htdocs\"\ndatabase = \"sqlite:{database}\"\n"),
    );
    workspace
}

fn rusqlite_file(workspace: &Workspace) -> String {
    let path = workspace.path("one.db");
    let place = fernweh_demo::database::Place::Sqlite(path.clone());
    let sql = "CREATE TABLE gp_pages (id INTEGER PRIMARY KEY, title TEXT DEFAULT 'http://cdn.test/a1.png', body);
        INSERT INTO gp_pages VALUES (7, 'x', 'http://cdn.test/a1.png and https%3A%2F%2Fcdn.test%2Fa1.png');
        INSERT INTO gp_pages VALUES (8, 'x', x'00687474703a2f2f63646e2e746573742f61312e706e67ff');
        CREATE VIEW shown AS SELECT id, 'http://cdn.test/a1.png' AS picture FROM gp_pages;";
    fernweh_demo::database::Database::open(&place).unwrap().run(sql.as_bytes()).unwrap();
    path.display().to_string()
}

#[test]
fn records_definitions_and_files_are_named_with_the_place_and_the_form() {
    let workspace = small_site();
    let ran = workspace.done("trace one http://cdn.test/a1.png http://gone.test/x.png");
    ran.says("1 of 2 texts found, in 7 places")
        .says("gp_pages, id 7, column body, position 1\n")
        .says("gp_pages, id 7, column body, position 28, with another scheme, spelled percent")
        .says("gp_pages, id 8, column body, position 2\n")
        .says("the definition of table gp_pages")
        .says("the definition of view shown")
        .says("-v shows them")
        .says("http://gone.test/x.png  not found\n             → created by the site's code");
    workspace
        .done("trace one http://cdn.test/a1.png -v")
        .says("notes.txt, line 3, its path alone")
        .says("templates/foot.html, line 2, spelled json");
    let only = workspace.done("trace one http://cdn.test/a1.png --only files --json").json();
    assert_eq!(only["records"], 0);
    assert_eq!(only["texts"][0]["found"], 2);
    workspace.run("trace one nowhere-at-all").code(1).says("nothing was found");
    workspace.run("trace one").code(2).says("nothing to search for");
    workspace.write("broken.json", "{}");
    workspace.run("trace one --findings broken.json").code(2).says("this file is not a saved scan");
    workspace.run("trace one --findings none.json").code(2).says("cannot read the saved scan");
    workspace.done("trace --files htdocs cdn.test").says("2 places");
}

#[test]
fn large_files_are_read_in_portions_and_nothing_is_missed_between_them() {
    let workspace = Workspace::new(PROGRAM);
    let mut text = String::new();
    for line in 1..=90_000 {
        // Long lines of uneven length, so that borders fall everywhere.
        let (pad, night) = ("x".repeat(line % 97), line % 1000 == 0);
        text.push_str(&pad);
        text.push_str(if night { " http://cdn.test/a1.png\n" } else { " nothing to see\n" });
    }
    workspace.write("htdocs/large.log", &text);
    let traced = workspace.done("trace --files htdocs http://cdn.test/a1.png --json").json();
    assert_eq!(traced["texts"][0]["found"], 90);
    let places = traced["texts"][0]["places"].as_array().unwrap();
    for (n, place) in places.iter().enumerate() {
        assert_eq!(place["line"], (n as u64 + 1) * 1000);
        let at = place["position"].as_u64().unwrap() as usize;
        assert!(text[at..].starts_with("http://cdn.test/a1.png"), "{place}");
    }
}
