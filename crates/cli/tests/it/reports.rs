//! Reports as pages of their own.

use super::{PROGRAM, fixture};
use fernweh_testkit::{Engine, Workspace};

#[test]
fn a_rewriting_is_told_on_a_page_that_needs_nothing_else() {
    let fixture = fixture(Engine::Sqlite);
    let archive = fixture.pack();
    let preview = format!("unpack {archive} new --preview --report preview.html --json");
    let numbers = fixture.workspace.done(&preview).json();
    let page = fixture.workspace.read("preview.html");
    let total = |part: &str| -> u64 {
        let tallies = numbers["rewriting"][part].as_object().unwrap().values();
        tallies.map(|tally| tally["replacements"].as_u64().unwrap()).sum()
    };
    let sum = fernweh_ports::grouped(total("columns") + total("files"));
    assert!(page.contains(&format!("<h1>{sum} addresses would be rewritten, 6 are left</h1>")));
    for words in
        ["Left: bare host name (2)", "bare-host = true", "gp_articles.body", "http: percent"]
    {
        assert!(page.contains(words), "{words}");
    }
    // Nothing is fetched, nothing runs, and what was found is text and not part of the page.
    for tag in ["<script", "<link", "<img", "<iframe"] {
        assert!(!page.contains(tag), "{tag}");
    }
    let style = page.split("</style>").next().unwrap();
    assert!(!style.contains("@import") && !style.contains("url("));
    assert!(page.contains("&lt;img src=&quot;<del>http://glimmerpoint.example</del>"));
    // A report of an earlier run gives way to the new one, and the output names it.
    let again = preview.replace(" --json", "");
    fixture.workspace.done(&again).says("report     preview.html");
    fixture.workspace.done(&format!("unpack {archive} new --report done.html"));
    let done = fixture.workspace.read("done.html");
    assert!(done.contains(&format!("<h1>{sum} addresses were rewritten, 6 are left</h1>")));
    fixture.workspace.done("rewrite new --report again.html");
    assert!(
        fixture.workspace.read("again.html").contains("Nothing to rewrite; 6 addresses are left")
    );
}

#[test]
fn a_scan_is_told_on_a_page_with_the_records_behind_it() {
    let mut fixture = fixture(Engine::Sqlite);
    let _hosts = fixture.serve();
    let archive = fixture.pack();
    fixture.workspace.done(&format!("unpack {archive} new"));
    fixture.workspace.run("scan new --own-only --trace --report scan.html").code(1);
    let page = fixture.workspace.read("scan.html");
    for words in [
        "<h1>18 things are broken, 8 warnings</h1>",
        "a rule would change it: from http://cdn.example to https:",
        "<a href=\"#broken-link\">links that lead nowhere</a>",
        ">/members</a> 76:13 a href",
        "stored in gp_articles, id 1, column body",
        "created by the site&apos;s code",
    ] {
        assert!(page.contains(words), "{words}");
    }
}

#[test]
fn a_report_that_cannot_be_written_is_refused_before_anything_is_done() {
    let workspace = Workspace::new(PROGRAM);
    workspace.write("htdocs/a.txt", "http://old.example");
    workspace.write("there.html", "mine");
    let line = "rewrite --files htdocs --from http://old.example --to http://new.example --apply";
    workspace
        .run(&format!("{line} --report there.html"))
        .code(2)
        .says("it is no report of Fernweh");
    workspace.run(&format!("{line} --report no/such/r.html")).code(2).says("does not exist");
    assert_eq!(workspace.read("htdocs/a.txt"), "http://old.example");
    assert_eq!(workspace.read("there.html"), "mine");
}
