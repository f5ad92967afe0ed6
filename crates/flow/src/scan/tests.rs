use super::*;
use fernweh_core::finding::{Code, Finding, Severity};
use fernweh_core::rewrite::Rule;
use fernweh_ports::{Fetched, Fetching, PageRequest, PageResponse, Silent};
use std::collections::HashMap;
use std::sync::Mutex;

/// A web in memory: for each address what its server says, in the order in which it is asked.
#[derive(Default)]
struct Web {
    answers: Mutex<HashMap<String, Vec<Fetched>>>,
    /// What every other address says.
    other: Option<PageResponse>,
    asked: Mutex<Vec<(String, bool)>>,
}

fn page(body: &str) -> PageResponse {
    typed("text/html", body)
}

fn typed(media_type: &str, body: &str) -> PageResponse {
    let body = body.as_bytes().to_vec();
    PageResponse { status: 200, media_type: media_type.into(), body, ..PageResponse::default() }
}

fn status(status: u16) -> PageResponse {
    PageResponse { status, ..PageResponse::default() }
}

fn to(target: &str) -> PageResponse {
    PageResponse { location: Some(target.into()), ..status(302) }
}

impl Web {
    fn of<const N: usize>(pages: [(&str, PageResponse); N]) -> Self {
        let web = Self::default();
        pages.into_iter().for_each(|(url, answer)| web.say(url, Ok(answer)));
        web
    }

    fn say(&self, url: &str, answer: Fetched) {
        self.answers.lock().unwrap().entry(url.into()).or_default().push(answer);
    }

    fn asked_for(&self, part: &str) -> usize {
        self.asked.lock().unwrap().iter().filter(|(url, _)| url.contains(part)).count()
    }
}

impl PageSource for Web {
    fn begin(&self, request: PageRequest, done: Fetching) {
        self.asked.lock().unwrap().push((request.url.clone(), request.body.is_some()));
        let mut answers = self.answers.lock().unwrap();
        let answer = match answers.get_mut(&request.url) {
            Some(several) if several.len() > 1 => several.remove(0),
            Some(one) => one[0].clone(),
            None => Ok(self.other.clone().unwrap_or_else(|| status(404))),
        };
        drop(answers);
        done(answer.map(|mut answer| {
            if request.body.is_none() {
                answer.body.clear();
            }
            answer
        }));
    }
}

fn options(start: &str) -> ScanOptions<'static> {
    ScanOptions {
        start: Url::parse(start).unwrap(),
        old: None,
        external: true,
        whole: false,
        gently: false,
        pages: 1000,
        depth: 10,
        time: Duration::from_secs(600),
        slow: Duration::from_secs(3),
        state: None,
        visited: None,
    }
}

const START: &str = "https://a.example/sub/";

fn scanned(web: &Web) -> ScanReport {
    scan(&options(START), web, &Silent).unwrap()
}

fn shown(report: &ScanReport) -> Vec<(Code, &str)> {
    report.findings.iter().map(|f| (f.code, f.address.as_str())).collect()
}

fn one(report: &ScanReport, code: Code) -> &Finding {
    let found: Vec<&Finding> = report.findings.iter().filter(|f| f.code == code).collect();
    assert_eq!(found.len(), 1, "{code:?}: {:?}", shown(report));
    found[0]
}

#[test]
fn a_start_that_is_no_page_of_the_site_is_said_as_what_it_is() {
    let because = |answer: PageResponse| {
        let web =
            Web::of([(START, answer), ("https://a.example/login", page("<input type=password>"))]);
        scan(&options(START), &web, &Silent).unwrap_err().because.clone().unwrap()
    };
    for to_where in
        ["http://a.example/sub/", "https://a.example:8443/sub/", "https://www.a.example/"]
    {
        let expected = format!("it redirects to {to_where}, which is another site");
        assert_eq!(because(to(to_where)), expected);
    }
    assert_eq!(because(typed("text/plain", "<?php echo 1;")), "it is text/plain, not a page");
    assert!(because(page("<p>words")).starts_with("no link leads on from this page"));
    assert!(because(page("")).starts_with("no link leads on from this page"));
    assert_eq!(because(status(503)), "status 503, the server is not ready");
    assert_eq!(because(to(START)), "its redirects form a loop");
}

#[test]
fn a_site_behind_a_login_of_its_own_is_not_called_whole() {
    let web = Web {
        other: Some(to("https://a.example/sub/login")),
        ..Web::of([(
            "https://a.example/sub/login",
            page("<input type=password><a href=/sub/help>?</a>"),
        )])
    };
    let told = scan(&options(START), &web, &Silent).unwrap_err();
    assert_eq!(told.because.as_deref(), Some("every address leads to a login"));
}

#[test]
fn one_fault_on_many_pages_is_one_finding_and_every_place_is_counted() {
    let links: String = (0..120).map(|n| format!("<a href=p{n}>{n}</a>")).collect();
    let web = Web::of([(START, page(&links))]);
    for n in 0..120 {
        let body = format!("<p>page {n} w{}\n <a href=gone>x</a><a href=gone>y</a>", n * 7919);
        web.say(&format!("{START}p{n}"), Ok(page(&body)));
    }
    let report = scanned(&web);
    let gone = one(&report, Code::BrokenLink);
    assert_eq!((gone.pages, gone.occurrences), (120, 240));
    assert_eq!((gone.address.as_str(), gone.cause.as_str()), ("https://a.example/sub/gone", "404"));
    assert!(gone.places.len() < 240);
    let spot = &gone.places[0];
    assert_eq!((spot.line, spot.column), (2, 10));
    assert_eq!(spot.markup, "<a href=gone>");
    assert_eq!(report.of_code(Code::BrokenLink), Total { findings: 1, occurrences: 240 });
    assert_eq!(report.of(Severity::Broken).findings, 1);
}

#[test]
fn other_hosts_are_asked_once_per_address_and_their_trouble_is_one_finding() {
    let gone = "http://gone.test/";
    let web = Web::of([
        (
            START,
            page(
                "<a href=x>x</a><a href=http://b.test/no>b</a><a href=http://b.test/no#y>b</a>\
            <a href=http://gone.test/1>1</a><a href=http://gone.test/2>2</a><a href=http://wall.test/1>w</a>\
            <a href=http://head.test/>h</a>",
            ),
        ),
        (
            "https://a.example/sub/x",
            page("<a href=http://b.test/no>again</a><a href=http://gone.test/3>3</a>"),
        ),
        ("http://wall.test/1", status(999)),
    ]);
    for path in ["robots.txt", "1", "2", "3"] {
        web.say(&format!("{gone}{path}"), Err(PageProblem::Name("gone.test".into())));
    }
    web.say("http://head.test/", Ok(status(405)));
    web.say("http://head.test/", Ok(status(200)));
    let report = scanned(&web);
    // The head, and since that says no, the beginning of the body.
    assert_eq!(web.asked_for("b.test/no"), 2);
    let unknown = one(&report, Code::HostUnreachable);
    assert_eq!((unknown.address.as_str(), unknown.occurrences), ("gone.test", 3));
    assert_eq!(unknown.cause, "name-unknown");
    assert_eq!(web.asked_for("gone.test"), 1);
    assert_eq!(one(&report, Code::BrokenLink).occurrences, 3);
    assert_eq!(one(&report, Code::NotChecked).address, "wall.test");
    let own = ScanOptions { external: false, ..options(START) };
    let web = Web::of([(START, page("<a href=x>x</a><a href=http://b.test/>b</a>"))]);
    let report = scan(&own, &web, &Silent).unwrap();
    assert_eq!((report.external, report.external_skipped, web.asked_for("b.test")), (0, 1, 0));
}

#[test]
fn a_limit_is_said_with_the_address_at_which_it_cut_and_is_never_nothing_wrong() {
    let web = Web::of([(START, page("<a href=a>a</a><a href=b>b</a>"))]);
    web.say(&format!("{START}a"), Ok(page("<p>one<a href=deep>d</a>")));
    web.say(&format!("{START}b"), Ok(page("<p>two")));
    web.say(&format!("{START}deep"), Ok(page("<p>three")));
    let few = scan(&ScanOptions { pages: 2, ..options(START) }, &web, &Silent).unwrap();
    let left = Limit { limit: "pages".into(), at: format!("{START}b"), left: 2 };
    assert_eq!((few.limits.clone(), few.is_fine(None)), (vec![left], false));
    let flat = scan(&ScanOptions { depth: 1, ..options(START) }, &web, &Silent).unwrap();
    assert_eq!(flat.limits, [Limit { limit: "depth".into(), at: format!("{START}deep"), left: 1 }]);
    assert!(scanned(&web).is_fine(None));
    let timeless = ScanOptions { time: Duration::ZERO, ..options(START) };
    let ended = scan(&timeless, &web, &Silent).unwrap_err();
    assert_eq!(
        ended.because.as_deref(),
        Some("a limit of the scan was reached before the first page")
    );
}

#[test]
fn a_busy_server_is_waited_for_and_a_broken_connection_tried_again() {
    let web = Web::of([(START, page("<a href=a>a</a><a href=b>b</a><a href=c>c</a>"))]);
    let busy = PageResponse { headers: vec![("retry-after".into(), "0".into())], ..status(503) };
    web.say(&format!("{START}a"), Ok(busy.clone()));
    web.say(&format!("{START}a"), Ok(page("<p>one")));
    web.say(&format!("{START}b"), Err(PageProblem::Broken("reset".into())));
    web.say(&format!("{START}b"), Ok(page("<p>two")));
    web.say(&format!("{START}c"), Ok(busy));
    let report = scanned(&web);
    assert_eq!(report.pages, 3);
    assert_eq!(web.asked_for("/sub/c"), 3);
    assert_eq!(one(&report, Code::BrokenLink).detail, "status 503, the server is not ready");
}

#[test]
fn the_site_is_its_folder_and_its_own_list_is_read() {
    let web = Web::of([
        (START, page("<a href=/subway/>no</a><a href=/sub>itself</a><a href=x>x</a>")),
        ("https://a.example/sub", to("/sub/")),
        ("https://a.example/sub/x", page("<p>x")),
        ("https://a.example/sub/listed", page("<p>listed")),
        ("https://a.example/subway/", page("<a href=/subway/more>more</a>")),
        ("https://a.example/sub/sitemap.xml", to("/map.xml")),
        (
            "https://a.example/map.xml",
            typed(
                "text/xml",
                "<urlset><url><loc>https://a.example/sub/listed</loc></url></urlset>",
            ),
        ),
    ]);
    let report = scanned(&web);
    assert_eq!(shown(&report), []);
    assert_eq!((report.pages, web.asked_for("/sub/listed"), web.asked_for("more")), (3, 1, 0));
}

#[test]
fn what_robots_are_asked_to_leave_alone_is_left_and_said() {
    let pages = || {
        Web::of([
            (START, page("<a href=open>o</a><a href=closed>c</a>")),
            ("https://a.example/sub/open", page("<p>open")),
            ("https://a.example/sub/closed", page("<p>closed")),
            (
                "https://a.example/robots.txt",
                typed("text/plain", "User-agent: *\nDisallow: /sub/closed"),
            ),
        ])
    };
    let (web, all) = (pages(), pages());
    let report = scanned(&web);
    assert_eq!((report.pages, report.robots_skipped, web.asked_for("closed")), (2, 1, 0));
    let whole = scan(&ScanOptions { whole: true, ..options(START) }, &all, &Silent).unwrap();
    assert_eq!((whole.pages, whole.robots_skipped), (3, 0));
}

#[test]
fn style_sheets_modules_and_their_parts_are_read() {
    let web = Web::of([
        (
            START,
            page(
                "<link rel=stylesheet href=s.css><script type=module src=m.js></script><a href=x>x</a>",
            ),
        ),
        ("https://a.example/sub/x", page("<link rel=stylesheet href=s.css><p>x")),
        (
            "https://a.example/sub/s.css",
            typed("text/css", "@import 't.css'; a { background: url(q.png) }"),
        ),
        (
            "https://a.example/sub/t.css",
            typed("text/css", "b { background: url(http://b.test/r.png) }"),
        ),
        ("https://a.example/sub/m.js", typed("text/javascript", "import './gone.js'")),
        ("https://b.test/r.png", typed("image/png", "")),
        ("http://b.test/r.png", typed("image/png", "")),
    ]);
    let report = scanned(&web);
    assert_eq!(
        shown(&report),
        [
            (Code::BrokenResource, "https://a.example/sub/gone.js"),
            (Code::BrokenResource, "https://a.example/sub/q.png"),
            (Code::MixedUpgraded, "http://b.test/r.png"),
        ]
    );
    let mixed = one(&report, Code::MixedUpgraded);
    assert_eq!(mixed.places[0].sheet.as_deref(), Some("https://a.example/sub/t.css"));
    assert_eq!(mixed.places[0].page, START);
    assert_eq!(mixed.detail, "its server offers the same over https: an s will do");
}

#[test]
fn what_a_server_offers_over_https_is_asked_once_and_weighs() {
    let web = Web::of([(
        START,
        page("<img src=http://b.test/p.png><img src=http://b.test/p.png><a href=x>x</a>"),
    )]);
    web.say("http://b.test/p.png", Ok(typed("image/png", "")));
    web.say("https://b.test/robots.txt", Err(PageProblem::Reach("refused".into())));
    let report = scanned(&web);
    let mixed = one(&report, Code::MixedUpgraded);
    assert_eq!((mixed.severity, mixed.occurrences), (Severity::Insecure, 2));
    assert!(mixed.detail.starts_with("its server does not offer it over https"));
}

#[test]
fn redirects_are_followed_counted_and_their_circles_found() {
    let web = Web::of([
        (START, page("<a href=1>1</a><a href=r>r</a><a href=one>one</a><a href=plain>p</a>")),
        ("https://a.example/sub/1", to("2")),
        ("https://a.example/sub/2", to("end")),
        ("https://a.example/sub/end", page("<p>the end")),
        ("https://a.example/sub/one", to("end")),
        ("https://a.example/sub/r", to("/sub/r")),
        ("https://a.example/sub/plain", to("http://a.example/sub/plain")),
    ]);
    let report = scanned(&web);
    assert_eq!(
        shown(&report),
        [
            (Code::RedirectLoop, "https://a.example/sub/r"),
            (Code::InsecureRedirect, "https://a.example/sub/plain"),
            (Code::RedirectChain, "https://a.example/sub/1"),
        ]
    );
    // The page behind the redirects is read once.
    assert_eq!(report.pages, 2);
}

#[test]
fn pages_that_hide_their_trouble_are_found_out() {
    let lost = "<h1>Nothing is here</h1><p>We are sorry, the page was not found.";
    let web = Web {
        other: Some(page(lost)),
        ..Web::of([
            (
                START,
                page(
                    "<a href=lost>l</a><a href=php>p</a><a href=blank>e</a><img src=page.png>\
                     <a href=members>m</a><a href=hidden>h</a><a href=x#there>t</a><a href=x#no>n</a>",
                ),
            ),
            ("https://a.example/sub/php", page("<b>Fatal error</b>: x<p>Fatal error: Uncaught")),
            ("https://a.example/sub/blank", page("")),
            ("https://a.example/sub/page.png", page("<p>another page")),
            ("https://a.example/sub/members", to("/sub/door")),
            ("https://a.example/sub/door", page("<p>Who are you?<input type=password>")),
            ("https://a.example/sub/hidden", page("<meta name=robots content=noindex><p>hidden")),
            ("https://a.example/sub/x", page("<p id=there>x")),
            ("https://a.example/robots.txt", status(404)),
            ("https://a.example/sitemap.xml", status(404)),
            ("https://a.example/sub/sitemap.xml", status(404)),
        ])
    };
    let report = scanned(&web);
    assert_eq!(
        shown(&report),
        [
            (Code::SoftMissing, "https://a.example/sub/lost"),
            (Code::ServerError, "https://a.example/sub/php"),
            (Code::EmptyPage, "https://a.example/sub/blank"),
            (Code::WrongContent, "https://a.example/sub/page.png"),
            (Code::HiddenPage, START),
            (Code::LoginNeeded, "https://a.example/sub/members"),
            (Code::MissingPlace, "https://a.example/sub/x#no"),
        ]
    );
}

#[test]
fn old_addresses_are_found_where_the_parser_says_and_in_redirects() {
    let rule = Rule::new("http://old.example", "https://a.example/sub").unwrap();
    let old = Rewriter::new(vec![rule]).unwrap();
    let web = Web::of([
        (
            START,
            page(
                "<p>see http://old.example/text\n<a href=x>x</a> <a title='http://old.example/t' href=http://old.example/l>l</a><a href=r>r</a>",
            ),
        ),
        ("https://a.example/sub/x", page("<p>x")),
        ("https://a.example/sub/r", to("http://old.example/r")),
    ]);
    let report =
        scan(&ScanOptions { old: Some(&old), external: false, ..options(START) }, &web, &Silent)
            .unwrap();
    let places: Vec<_> = report
        .findings
        .iter()
        .flat_map(|f| {
            f.places
                .iter()
                .map(move |p| (f.code, f.address.as_str(), p.line, p.column, p.element.as_str()))
        })
        .collect();
    assert_eq!(
        places,
        [
            (Code::OldRedirect, "https://a.example/sub/r", 2, 88, "a href"),
            (Code::OldAddress, "http://old.example/l", 2, 54, "a href"),
            (Code::OldAddress, "http://old.example/t", 2, 27, "text"),
            (Code::OldAddress, "http://old.example/text", 1, 8, "text"),
        ]
    );
}

#[test]
fn a_list_of_fifty_thousand_old_addresses_takes_no_longer_than_reading_it() {
    let rule = Rule::new("http://old.example", "https://a.example/sub").unwrap();
    let old = Rewriter::new(vec![rule]).unwrap();
    let body: String = (0..50_000)
        .map(|n| format!("<p><a href=http://old.example/{n}>x</a> http://old.example/t{n}\n"))
        .collect();
    let again = page("<p>http://old.example/t49999");
    let web = Web::of([
        (START, page(&format!("<a href=x>x</a>{body}"))),
        ("https://a.example/sub/x", again),
    ]);
    let options = ScanOptions { old: Some(&old), external: false, ..options(START) };
    let report = scan(&options, &web, &Silent).unwrap();
    // Every one is counted, and a bounded number is shown; the last stands on another page as well.
    let total = report.of_code(Code::OldAddress);
    assert_eq!((total.findings, total.occurrences), (100_000, 100_001));
    assert!(report.findings.len() <= 20_001);
}

/// Keeps the state of a scan in memory.
#[derive(Default)]
struct Kept(Mutex<Option<Vec<u8>>>);

impl ScanState for Kept {
    fn load(&self) -> Option<Vec<u8>> {
        self.0.lock().unwrap().clone()
    }
    fn save(&self, state: &[u8]) -> Result<()> {
        *self.0.lock().unwrap() = Some(state.to_vec());
        Ok(())
    }
    fn forget(&self) {
        *self.0.lock().unwrap() = None;
    }
}

/// Somebody stops the scan after so many pages.
struct Stopping {
    after: u64,
    pages: std::sync::atomic::AtomicU64,
}

impl fernweh_ports::Failpoints for Stopping {}

impl Progress for Stopping {
    fn stage(&self, _: &str, _: Option<u64>, _: Unit) {}
    fn advance(&self, by: u64) {
        self.pages.fetch_add(by, std::sync::atomic::Ordering::Relaxed);
    }
    fn done(&self, _: &str) {}
    fn note(&self, _: &str) {}
    fn stopping(&self) -> bool {
        self.pages.load(std::sync::atomic::Ordering::Relaxed) >= self.after
    }
}

#[test]
fn a_scan_that_is_stopped_anywhere_and_typed_again_finds_what_one_without_a_stop_finds() {
    let web = || {
        let links: String = (0..60).map(|n| format!("<a href=p{n}>{n}</a>")).collect();
        let web = Web::of([
            (
                START,
                page(&format!(
                    "<meta http-equiv=content-security-policy content=upgrade-insecure-requests>\
                     <link rel=stylesheet href=s.css>{links}"
                )),
            ),
            ("https://a.example/sub/s.css", typed("text/css", "a { b: url(http://b.test/q.png) }")),
        ]);
        for n in 0..60 {
            let body = format!(
                "<p id=i{n}>page {n} w{} <a href=gone{}>g</a><img src=http://b.test/p.png>\
                 <a href=p{}#i{}>x</a><a href=p{}#no>y</a>",
                n * 7919,
                n % 7,
                n / 2,
                n / 2,
                n / 3
            );
            web.say(&format!("{START}p{n}"), Ok(page(&body)));
        }
        web
    };
    let told = |report: &ScanReport| {
        let of = |f: &Finding| (f.code, f.address.clone(), f.occurrences, f.pages);
        let mut all: Vec<_> = report.findings.iter().map(of).collect();
        all.sort();
        (report.pages, report.external_skipped, all)
    };
    let whole = {
        let options = ScanOptions { external: false, ..options(START) };
        told(&scan(&options, &web(), &Silent).unwrap())
    };
    for after in [1, 2, 7, 30, 59] {
        let kept = Kept::default();
        let web = web();
        let options = ScanOptions { external: false, state: Some(&kept), ..options(START) };
        let stopping = Stopping { after, pages: 0.into() };
        let first = scan(&options, &web, &stopping).unwrap();
        assert!(first.interrupted && first.pages >= after, "{after}");
        let second = scan(&options, &web, &Silent).unwrap();
        assert!(!second.interrupted);
        assert_eq!(told(&second), whole, "stopped after {after}");
        assert!(kept.load().is_none(), "what is complete is forgotten");
        // No page was read twice.
        let twice = (0..60).find(|n| web.asked_for(&format!("/sub/p{n}")) > 12);
        assert_eq!(twice, None);
    }
}

#[test]
fn a_state_that_is_damaged_or_of_another_scan_is_not_gone_on_with() {
    let web =
        Web::of([(START, page("<a href=a>a</a>")), ("https://a.example/sub/a", page("<p>a"))]);
    for state in [&b"no json"[..], b"{}", b"[]"] {
        let kept = Kept(Mutex::new(Some(state.to_vec())));
        let report = scan(&ScanOptions { state: Some(&kept), ..options(START) }, &web, &Silent);
        assert_eq!(report.unwrap().pages, 2);
    }
}

#[test]
fn a_bound_holds_over_an_interruption() {
    let links: String = (0..60).map(|n| format!("<a href=p{n}>{n}</a>")).collect();
    let web = Web::of([(START, page(&links))]);
    for n in 0..60 {
        web.say(&format!("{START}p{n}"), Ok(page(&format!("<p>page {n} w{}", n * 7919))));
    }
    let kept = Kept::default();
    let options = ScanOptions { pages: 30, state: Some(&kept), ..options(START) };
    let stopping = Stopping { after: 10, pages: 0.into() };
    assert!(scan(&options, &web, &stopping).unwrap().interrupted);
    let report = scan(&options, &web, &Silent).unwrap();
    assert_eq!((report.pages, report.limits[0].left), (30, 31));
}

#[test]
fn another_host_that_keeps_robots_out_is_not_asked() {
    let link = |n| format!("<a href=http://shy.test/closed/{n}>c</a>");
    let links: String = (0..3).map(link).collect();
    let web = Web::of([
        (START, page(&format!("{links}<a href=http://shy.test/open>o</a><a href=x>x</a>"))),
        ("https://a.example/sub/x", page("<p>x")),
        ("http://shy.test/robots.txt", typed("text/plain", "User-agent: *\nDisallow: /closed/")),
        ("http://shy.test/open", page("")),
    ]);
    let report = scanned(&web);
    assert_eq!((report.external, report.external_skipped), (1, 3));
    assert_eq!((web.asked_for("/closed/"), shown(&report)), (0, vec![]));
}

#[test]
fn parts_of_pages_that_are_heavy_or_slow_are_told_with_their_size() {
    let said = |bytes: &str| vec![("content-length".to_owned(), bytes.to_owned())];
    let picture = |bytes: &str| PageResponse { headers: said(bytes), ..typed("image/png", "") };
    let slow = PageResponse { waited: Duration::from_secs(4), ..typed("text/css", "a{}") };
    let long = format!("<title>long</title><p>{}", "word ".repeat(500_000));
    let web = Web::of([
        (
            START,
            page(
                "<title>s</title><img src=big.png><img src=small.png><link rel=stylesheet href=s.css><a href=long>",
            ),
        ),
        ("https://a.example/sub/big.png", picture("3400000")),
        ("https://a.example/sub/small.png", picture("340000")),
        ("https://a.example/sub/s.css", slow),
        ("https://a.example/sub/long", page(&long)),
    ]);
    let report = scanned(&web);
    let heavy: Vec<(&str, &str)> = report
        .findings
        .iter()
        .filter(|found| found.code == Code::HeavyFile)
        .map(|found| (found.address.as_str(), found.detail.as_str()))
        .collect();
    let [big, long] = ["https://a.example/sub/big.png", "https://a.example/sub/long"];
    assert_eq!(heavy, [(big, "3.4 MB"), (long, "2.5 MB")]);
    let slow = one(&report, Code::SlowAnswer);
    assert_eq!(
        (slow.address.as_str(), slow.detail.as_str()),
        ("https://a.example/sub/s.css", "4.0 s until the answer began")
    );
    assert_eq!((slow.places[0].element.as_str(), report.findings.len()), ("link href", 3));
}

#[test]
fn titles_that_do_not_tell_pages_apart_are_one_finding_each() {
    let web = Web::default();
    let links: String = (0..20).map(|n| format!("<a href=p{n}>p</a>")).collect();
    web.say(START, Ok(page(&format!("<title>Home</title>{links}"))));
    for n in 0..20 {
        let title = if n == 7 { "Untitled" } else { "Glimmer Point" };
        let text = page(&format!("<title>{title}</title><p>night {n} of {}", n * n));
        web.say(&format!("https://a.example/sub/p{n}"), Ok(text));
    }
    let report = scanned(&web);
    let told: Vec<(&str, u64, &str)> = report
        .findings
        .iter()
        .map(|found| (found.address.as_str(), found.pages, found.detail.as_str()))
        .collect();
    let expected = [
        ("Glimmer Point", 19, "19 pages have this title"),
        ("Untitled", 1, "1 page has this title"),
    ];
    assert_eq!(told, expected);
}

#[test]
fn another_language_may_stand_elsewhere_but_not_at_another_spelling_of_the_site() {
    let web = Web::of([(
        START,
        page(
            "<title>s</title><a href=/sub/>s</a><link rel=alternate hreflang=de href=https://a-de.example/sub/>\
             <link rel=alternate hreflang=fr href=http://www.a.example/fr/>",
        ),
    )]);
    let report = scan(&ScanOptions { external: false, ..options(START) }, &web, &Silent).unwrap();
    assert_eq!(shown(&report), [(Code::ElsewhereAddress, "http://www.a.example/fr/")]);
}
