use super::*;
use fernweh_ports::{PageProblem, PageRequest, PageResponse, Silent};
use std::collections::HashMap;
use std::sync::Mutex;

/// Pages in memory: address → status and body, or where it leads.
struct Memory {
    pages: HashMap<&'static str, (u16, &'static str)>,
    asked: Mutex<Vec<(String, bool)>>,
}

impl PageSource for Memory {
    fn fetch(&self, request: &PageRequest) -> std::result::Result<PageResponse, PageProblem> {
        self.asked.lock().unwrap().push((request.url.clone(), request.body.is_some()));
        let Some((status, body)) = self.pages.get(request.url.as_str()) else {
            return Ok(PageResponse { status: 404, ..PageResponse::default() });
        };
        if *status == 405 && request.body.is_some() {
            return Ok(PageResponse { status: 200, ..PageResponse::default() });
        }
        let location = (300..400).contains(status).then(|| (*body).to_owned());
        let media_type = if request.url.ends_with(".css") { "text/css" } else { "text/html" };
        Ok(PageResponse {
            status: *status,
            location,
            media_type: media_type.into(),
            body: body.as_bytes().to_vec(),
        })
    }
}

fn scanned(
    pages: &[(&'static str, u16, &'static str)],
    external: bool,
) -> (ScanReport, Vec<(String, bool)>) {
    let pages = pages.iter().map(|(url, status, body)| (*url, (*status, *body))).collect();
    let memory = Memory { pages, asked: Mutex::default() };
    let options = ScanOptions {
        start: Url::parse("https://a.example/sub/").unwrap(),
        old: None,
        external,
        pages: 100,
        depth: 10,
        time: std::time::Duration::from_secs(600),
    };
    let report = scan(&options, &memory, &Silent).unwrap();
    (report, memory.asked.into_inner().unwrap())
}

const FRONT: &str = "<a href=x>x</a><a href=http://b.test/gone>b</a><a \
                 href=http://b.test/gone#y>b</a>\
    <a href=http://b.test/head>b</a><a href=/other/>o</a><a href=mailto:x@b.test>m</a>\
    <link rel=stylesheet href=s.css>";

const SITE: [(&str, u16, &str); 6] = [
    ("https://a.example/sub/", 200, FRONT),
    ("https://a.example/sub/x", 200, "<a href=http://b.test/gone>again</a><img src=p.png>"),
    ("https://a.example/sub/s.css", 200, "@import 't.css'; a { background: url(q.png) }"),
    ("https://a.example/sub/t.css", 200, "b { background: url(http://b.test/r.png) }"),
    ("http://b.test/head", 405, ""),
    ("http://b.test/r.png", 200, ""),
];

#[test]
fn other_hosts_are_asked_once_per_address_and_only_when_wanted() {
    let (report, asked) = scanned(&SITE, true);
    assert_eq!(asked.iter().filter(|(url, _)| url == "http://b.test/gone").count(), 1);
    // A server that knows no HEAD is asked for one byte.
    assert!(asked.contains(&("http://b.test/head".into(), true)));
    assert_eq!(report.external, 4);
    let gone: Vec<_> =
        report.findings.iter().filter(|f| f.address.starts_with("http://b.test/gone")).collect();
    assert_eq!(gone.len(), 3, "{gone:?}");
    let (report, asked) = scanned(&SITE, false);
    assert!(asked.iter().all(|(url, _)| url.starts_with("https://a.example/")));
    assert_eq!((report.external, report.external_skipped), (0, 4));
}

#[test]
fn the_scan_stays_below_its_folder_and_reads_style_sheets_behind_style_sheets() {
    let (report, asked) = scanned(&SITE, false);
    assert!(!asked.iter().any(|(url, _)| url == "https://a.example/other/"));
    let found: Vec<_> = report.findings.iter().map(|f| (f.code, f.address.as_str())).collect();
    assert_eq!(
        found,
        [
            (Code::BrokenResource, "q.png"),
            (Code::BrokenResource, "p.png"),
            (Code::MixedUpgraded, "http://b.test/r.png"),
        ]
    );
    let sheet = &report.findings[2];
    assert_eq!(sheet.sheet.as_deref(), Some("https://a.example/sub/t.css"));
    assert_eq!(sheet.page, "https://a.example/sub/");
}

#[test]
fn a_scan_without_time_says_that_it_has_read_nothing() {
    let memory = Memory { pages: HashMap::new(), asked: Mutex::default() };
    let options = ScanOptions {
        start: Url::parse("https://a.example/").unwrap(),
        old: None,
        external: false,
        pages: 100,
        depth: 10,
        time: std::time::Duration::ZERO,
    };
    let ended = scan(&options, &memory, &Silent).unwrap_err();
    assert_eq!(
        ended.because.as_deref(),
        Some("a limit of the scan was reached before the first page")
    );
    assert!(memory.asked.into_inner().unwrap().is_empty());
}

#[test]
fn a_first_page_that_leads_to_another_scheme_or_port_is_another_site() {
    for to in ["http://a.example/sub/", "https://a.example:8443/sub/", "https://b.example/"] {
        let pages = HashMap::from([("https://a.example/sub/", (302, to))]);
        let memory = Memory { pages, asked: Mutex::default() };
        let options = ScanOptions {
            start: Url::parse("https://a.example/sub/").unwrap(),
            old: None,
            external: false,
            pages: 100,
            depth: 10,
            time: std::time::Duration::from_secs(600),
        };
        let ended = scan(&options, &memory, &Silent).unwrap_err();
        let because = ended.because.clone().unwrap();
        assert_eq!(because, format!("it redirects to {to}, which is another site"));
        let asked = memory.asked.into_inner().unwrap();
        assert!(asked.iter().all(|(url, _)| url.starts_with("https://a.example/")), "{asked:?}");
    }
}

#[test]
fn redirects_are_followed_counted_and_their_circles_found() {
    let (report, _) = scanned(
        &[
            ("https://a.example/sub/", 200, "<a href=1>1</a> <a href=r>r</a> <a href=one>one</a>"),
            ("https://a.example/sub/1", 301, "2"),
            ("https://a.example/sub/2", 302, "end"),
            ("https://a.example/sub/end", 200, ""),
            ("https://a.example/sub/one", 302, "end"),
            ("https://a.example/sub/r", 302, "/sub/r"),
        ],
        false,
    );
    let found: Vec<_> = report.findings.iter().map(|f| (f.code, f.address.as_str())).collect();
    assert_eq!(found, [(Code::RedirectLoop, "r"), (Code::RedirectChain, "1")]);
}
