//! Pages that mean harm, and the bounds of a scan.

use super::PROGRAM;
use fernweh_testkit::{Answer, Web, Workspace};

const HTML: &str = "text/html";
const CSS: &str = "text/css";

/// A site at this port, behind a password.
fn site(port: u16) -> Workspace {
    let workspace = Workspace::new(PROGRAM);
    workspace.write("pw", "night-sky-7");
    workspace.write(
        "fernweh.toml",
        format!(
            "[site.new]\nurl = \"http://127.0.0.1:{port}\"\nlogin = \"preview\"\n\
             password.login = {{ file = \"pw\" }}\n"
        ),
    );
    workspace
}

#[test]
fn the_password_of_a_site_goes_to_its_exact_origin_alone() {
    let other = Web::start(|_| Some((HTML, "<a href=/secret>s</a>".into())));
    let port = other.port;
    let own = Web::start(move |path| -> Answer {
        (path == "/").then(|| {
            (
                HTML,
                format!(
                    "<a href=http://127.0.0.1:{port}/a>a</a><img src=http://127.0.0.1:{port}/b>"
                ),
            )
        })
    });
    let workspace = site(own.port);
    workspace.done("scan new");
    let login = |asked: &fernweh_testkit::Asked| {
        asked.headers.iter().any(|line| line.starts_with("authorization:"))
    };
    assert!(own.asked().iter().all(login), "{:?}", own.asked());
    let asked = other.asked();
    assert!(!asked.is_empty() && !asked.iter().any(login), "{asked:?}");
    // It is another site: what it links to is not asked for.
    assert!(!asked.iter().any(|asked| asked.path == "/secret"), "{asked:?}");
}

#[test]
fn style_sheets_that_import_each_other_without_end_have_an_end() {
    let own = Web::start(|path| {
        if path == "/" {
            return Some((HTML, "<link rel=stylesheet href=/0.css><a href=/x>x</a>".into()));
        }
        let number: u64 = path.strip_prefix('/')?.strip_suffix(".css")?.parse().ok()?;
        Some((CSS, format!("@import '/{}.css';", number + 1)))
    });
    let workspace = Workspace::new(PROGRAM);
    let ran = workspace.run(&format!("scan http://127.0.0.1:{}", own.port));
    ran.code(1).says("import each other too deeply");
    assert!(own.asked().len() < 40, "{}", own.asked().len());
}

#[test]
fn the_largest_number_of_pages_bounds_what_is_fetched() {
    let own = Web::start(|path| {
        let number = path.strip_prefix('/').filter(|n| !n.is_empty());
        let number: u64 = number.map_or(Some(0), |n| n.parse().ok())?;
        let links: Vec<String> =
            (1..20).map(|n| format!("<a href=/{}>x</a>", number * 20 + n)).collect();
        Some((if number.is_multiple_of(2) { HTML } else { "application/pdf" }, links.concat()))
    });
    let workspace = Workspace::new(PROGRAM);
    let ran = workspace.run(&format!("scan http://127.0.0.1:{} --max-pages 25", own.port));
    ran.code(1).says("raise it with --max-pages");
    // What the site asks of robots, its list, and a made-up address come beside the pages.
    assert!(own.asked().len() <= 28, "{}", own.asked().len());
}

#[test]
fn a_style_sheet_of_brackets_does_not_end_the_program() {
    let own = Web::start(|path| {
        match path {
        "/" => Some((
            HTML,
            "<link rel=stylesheet href=/s.css><a href=/>x</a><p style='background: url(/p.png)'>x</p>".into(),
        )),
        "/s.css" => Some((CSS, format!("{}url(/q.png)", "a{b:[(".repeat(20_000)))),
        _ => None,
    }
    });
    let workspace = Workspace::new(PROGRAM);
    let ran = workspace.run(&format!("scan http://127.0.0.1:{}", own.port)).code(1);
    ran.says("/p.png");
}

#[test]
fn old_addresses_of_a_long_sitemap_are_all_found() {
    let own = Web::start(|path| match path {
        "/" => Some((HTML, "<p>x</p>".into())),
        "/sitemap.xml" => {
            let entries: Vec<String> = (0..50_000)
                .map(|n| format!("<url><loc>http://old.example/{n}</loc></url>\n"))
                .collect();
            Some(("text/xml", format!("<urlset>\n{}</urlset>", entries.concat())))
        }
        _ => None,
    });
    let workspace = Workspace::new(PROGRAM);
    workspace.write(
        "fernweh.toml",
        format!(
            "[site.new]\nurl = \"http://127.0.0.1:{}\"\n[site.old]\nurl = \"http://old.example\"\n",
            own.port
        ),
    );
    let found = workspace.run("scan new --own-only --json").code(1).json();
    assert_eq!(found["counts"]["old-address"]["findings"], 50_000);
    assert_eq!(found["findings"][19_999]["places"][0]["line"], 20_001);
}

#[test]
fn a_scan_that_is_interrupted_tells_what_it_has_found() {
    let workspace = Workspace::new(PROGRAM);
    let mark = workspace.path("asked-for");
    let own = Web::start(move |path| {
        let number: u64 = match path {
            "/" => 0,
            path => path.strip_prefix("/night/")?.parse().ok()?,
        };
        if number == 40 {
            std::fs::write(&mark, "").unwrap();
        }
        // From here on the server is slow, so that the end does not come before the interruption.
        if number >= 40 {
            std::thread::sleep(std::time::Duration::from_millis(300));
        }
        let next = number + 1;
        Some((
            HTML,
            format!(
                "<title>{number}</title><p>night {number}<a href=/night/{next}>next</a><a href=/gone>g</a>"
            ),
        ))
    });
    let line = format!("scan http://127.0.0.1:{}", own.port);
    let ran = workspace.run_interrupted_at(&line, "asked-for").code(5);
    ran.says("the scan was interrupted").says("/gone").says("next       fernweh scan");
    // Typed again, with a bound that is soon reached: what was read is not read again.
    let asked = own.asked().len();
    let again = workspace.run(&format!("{line} --max-pages 45")).code(1);
    again
        .says("resumed an interrupted scan; ")
        .says("/gone")
        .says("the number of pages is bounded");
    assert!(own.asked().len() < asked + 20, "{} and {asked}", own.asked().len());
}

#[test]
fn findings_are_written_as_a_table_compared_with_earlier_ones_and_tolerated() {
    let broken = std::sync::Arc::new(std::sync::atomic::AtomicBool::new(true));
    let is_broken = broken.clone();
    let own = Web::start(move |path| match path {
        "/" => Some((HTML, "<p>start<a href=/a>a</a><a href='/=cmd'>b</a>".into())),
        "/a" if is_broken.load(std::sync::atomic::Ordering::Relaxed) => None,
        "/a" => Some((HTML, "<p>here again<a href=/a#no>x</a>".into())),
        _ => None,
    });
    let workspace = Workspace::new(PROGRAM);
    let line = format!("scan http://127.0.0.1:{}", own.port);
    let first = workspace.run(&format!("{line} --csv found.csv --json")).code(1);
    workspace.write("first.json", &first.out);
    let table = workspace.read("found.csv");
    let rows: Vec<&str> = table.lines().collect();
    assert_eq!(rows.len(), 3, "{table}");
    assert!(rows[0].starts_with("severity,code,id,address,cause"));
    assert!(rows[1].starts_with("broken,broken-link,"), "{table}");
    workspace.run(&format!("{line} --csv first.json")).code(2).says("it is no table of Fernweh");
    broken.store(false, std::sync::atomic::Ordering::Relaxed);
    let ran = workspace.run(&format!("{line} --since first.json")).code(1);
    ran.says("1 new finding, 1 still there, 1 repaired").says("repaired: broken-link /a");
    workspace.run(&format!("{line} --tolerate broken")).code(0);
    workspace.run(&format!("{line} --tolerate warning")).code(1);
    workspace.run(&format!("{line} --since found.csv")).code(2).says("not a saved scan");
}
