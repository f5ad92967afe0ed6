//! Scanning the stand-in hosts.

use super::fixture;
use fernweh_core::finding::Finding;
use fernweh_demo::faults::PageFault;
use fernweh_testkit::Engine;

#[test]
fn every_deliberate_fault_is_found_and_nothing_else() {
    for engine in [Engine::Sqlite, Engine::Mariadb, Engine::Postgres] {
        let mut fixture = fixture(engine);
        let _hosts = fixture.serve();
        let archive = fixture.pack();
        fixture.workspace.done(&format!("unpack {archive} new"));
        for (site, secure) in [("old", false), ("new", true)] {
            let report =
                fixture.workspace.run(&format!("scan {site} --own-only --json")).code(1).json();
            let findings: Vec<Finding> =
                serde_json::from_value(report["findings"].clone()).unwrap();
            let expected = PageFault::expected(secure);
            for fault in &expected {
                assert!(
                    findings.iter().any(|f| fault.is(f)),
                    "{engine:?} {site}: not found: {fault:?}"
                );
            }
            for finding in &findings {
                assert!(expected.iter().any(|f| f.is(finding)), "{engine:?} {site}: {finding:?}");
            }
            assert!(report["pages"].as_u64().unwrap() > 430);
        }
    }
}

#[test]
fn a_password_in_front_of_the_site_is_named_and_given() {
    let mut fixture = fixture(Engine::Sqlite);
    let _hosts = fixture.serve_with_login(Some(("preview", "owl-light")));
    fixture.workspace.done("pack old -o a.tar");
    fixture.workspace.done("unpack a.tar new");
    fixture
        .workspace
        .run("scan new --own-only")
        .code(3)
        .says("status 401, a password is required")
        .says("set login and password.login of the site");
    let text = std::fs::read_to_string(fixture.workspace.path("fernweh.toml")).unwrap();
    let text = text.replace(
        "[site.new]",
        "[site.new]\nlogin = \"preview\"\npassword.login = { env = \"LOGIN\" }",
    );
    fixture.workspace.write("fernweh.toml", text);
    fixture
        .workspace
        .run("scan new --own-only")
        .code(2)
        .says("the environment variable LOGIN is not set");
    let output = fixture
        .workspace
        .command("scan new --own-only --json")
        .env("LOGIN", "owl-light")
        .output()
        .unwrap();
    assert_eq!(output.status.code(), Some(1));
    assert!(!String::from_utf8_lossy(&output.stdout).contains("owl-light"));
}

#[test]
fn a_site_that_does_not_answer_is_an_error_and_no_finding() {
    let mut fixture = fixture(Engine::Sqlite);
    fixture
        .workspace
        .run("scan old")
        .code(3)
        .says("the first page cannot be read")
        .says("cannot be reached");
    let hosts = fixture.serve();
    fixture.workspace.run("scan new").code(3).says("the site is in maintenance");
    let (_, new) = &hosts;
    let text = std::fs::read_to_string(fixture.workspace.path("fernweh.toml")).unwrap();
    fixture.workspace.write("fernweh.toml", text.replace("authority = \"authority.pem\"\n", ""));
    fixture.workspace.run("scan new").code(3).says("certificate");
    fixture.workspace.run(&format!("scan http://{}/", new.address)).code(3).says("421");
}

#[test]
fn bounds_end_a_scan_and_are_named() {
    let mut fixture = fixture(Engine::Sqlite);
    let _hosts = fixture.serve();
    let report = fixture.workspace.run("scan old --own-only --max-pages 5 --json").json();
    // Five are fetched; what is fetched may be no page.
    let pages = report["pages"].as_u64().unwrap();
    assert!((3..=5).contains(&pages), "{pages}");
    assert_eq!(report["bounded"], true);
    fixture
        .workspace
        .run("scan old --own-only --max-pages 5")
        .says("the number of pages is bounded; raise it with --max-pages");
}

#[test]
fn links_that_log_out_are_not_opened() {
    let mut fixture = fixture(Engine::Sqlite);
    let _hosts = fixture.serve();
    let report = fixture.workspace.run("scan old --own-only --json").json();
    assert_eq!(report["not_followed"], serde_json::json!(["http://glimmerpoint.example/logout"]));
}
