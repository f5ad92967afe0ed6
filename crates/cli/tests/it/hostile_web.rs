//! Web servers that lie, drip, bomb and lead in circles: a scan ends within its limits, says what it
//! met in plain words, and takes little memory.

use super::PROGRAM;
use fernweh_connect::http::{HttpOptions, HttpSource};
use fernweh_connect::tls::Trust;
use fernweh_core::finding::Code;
use fernweh_demo::host::Authority;
use fernweh_flow::scan::{ScanOptions, ScanReport, scan};
use fernweh_ports::Silent;
use fernweh_testkit::{Reply, Request, Stage, Workspace};
use std::io::Write;
use std::time::Duration;
use url::Url;

type Answerer = fn(&Request) -> Option<Reply>;

/// What a server does with `/trap`, how the first page refers to it, and what must be found.
struct Case {
    name: &'static str,
    markup: &'static str,
    answer: Answerer,
    expected: Expected,
}

enum Expected {
    /// Nothing but what is in order.
    Nothing,
    /// A finding of this kind, with these words.
    Finding(Code, &'static str),
    /// A limit of this name.
    Limit(&'static str),
    /// Pages that were cut off as endless.
    Endless,
}

use Expected::{Endless, Finding, Limit, Nothing};

const LINK: &str = "<a href=/trap>t</a>";

fn html(body: impl Into<Vec<u8>>) -> Option<Reply> {
    Some(Reply::of(200, "text/html", body))
}

fn raw(bytes: &'static [u8]) -> Option<Reply> {
    Some(Reply::Raw(Box::new(move |to| drop(to.write_all(bytes)))))
}

/// Writes a beginning, and then the same again and again until nobody reads any more.
fn endless(begin: &'static [u8], again: &'static [u8], pause: Duration) -> Option<Reply> {
    Some(Reply::Raw(Box::new(move |to| {
        let _ = to.write_all(begin);
        // What is meant to be without end ends when the other side has gone, or after a while.
        for _ in 0..4_000_000_u32 {
            if to.write_all(again).and_then(|()| to.flush()).is_err() {
                return;
            }
            std::thread::sleep(pause);
        }
    })))
}

fn number(request: &Request, start: &str) -> u64 {
    request.path.strip_prefix(start).and_then(|rest| rest.parse().ok()).unwrap_or(0)
}

const OK: &[u8] = b"HTTP/1.1 200 OK\r\nContent-Type: text/html\r\n";

fn packed(encoding: &'static str, body: Vec<u8>) -> Option<Reply> {
    Some(Reply::of(200, "text/html", body).with("Content-Encoding", encoding))
}

/// A hundred megabytes of nothing.
fn bomb() -> Vec<u8> {
    let mut packer = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
    let portion = vec![b' '; 1 << 20];
    (0..100).for_each(|_| packer.write_all(&portion).unwrap());
    packer.finish().unwrap()
}

const CASES: &[Case] = &[
    Case {
        name: "redirects without end",
        markup: LINK,
        answer: |it| Some(Reply::to(302, &format!("/trap{}", number(it, "/trap") + 1))),
        expected: Finding(Code::RedirectLoop, "→"),
    },
    Case {
        name: "a redirect to itself",
        markup: LINK,
        answer: |_| Some(Reply::to(301, "/trap")),
        expected: Finding(Code::RedirectLoop, "/trap"),
    },
    Case {
        name: "a redirect in a circle of two",
        markup: LINK,
        answer: |it| Some(Reply::to(302, if it.path == "/trap" { "/trap2" } else { "/trap" })),
        expected: Finding(Code::RedirectLoop, "/trap2"),
    },
    Case {
        name: "a redirect to nowhere",
        markup: LINK,
        answer: |_| Some(Reply::of(302, "text/html", "")),
        expected: Finding(Code::BrokenLink, "does not say where to"),
    },
    Case {
        name: "a redirect to what is no web address",
        markup: LINK,
        answer: |_| Some(Reply::to(302, "file:///etc/passwd")),
        expected: Finding(Code::BrokenLink, "no web address"),
    },
    Case {
        name: "a redirect to what cannot be read",
        markup: LINK,
        answer: |_| Some(Reply::to(302, "http://[bad")),
        expected: Finding(Code::BrokenLink, "does not say where to"),
    },
    Case {
        name: "a redirect with a long address",
        markup: LINK,
        answer: |it| match it.path.len() {
            5 => Some(Reply::to(302, &format!("/trap{}", "x".repeat(60_000)))),
            _ => html("<p>long"),
        },
        expected: Nothing,
    },
    Case {
        name: "a page without end",
        markup: LINK,
        answer: |_| {
            let begin = b"HTTP/1.1 200 OK\r\nContent-Type: text/html\r\n\r\n";
            const AGAIN: &[u8] = &[b' '; 1 << 16];
            endless(begin, AGAIN, Duration::ZERO)
        },
        expected: Limit("size"),
    },
    Case {
        name: "headers without end",
        markup: LINK,
        answer: |_| endless(OK, b"X-More: more and more and more\r\n", Duration::ZERO),
        expected: Finding(Code::BrokenLink, ""),
    },
    Case {
        name: "a header of a megabyte",
        markup: LINK,
        answer: |_| html("x").map(|reply| reply.with("X-Long", &"x".repeat(1 << 20))),
        expected: Finding(Code::BrokenLink, ""),
    },
    Case {
        name: "headers by single bytes",
        markup: LINK,
        answer: |_| endless(b"HTTP/1.1 200 OK\r\nX: ", b"x", Duration::from_millis(50)),
        expected: Finding(Code::BrokenLink, "no answer in time"),
    },
    Case {
        name: "a body by single bytes",
        markup: LINK,
        answer: |_| {
            let begin = b"HTTP/1.1 200 OK\r\nContent-Type: text/html\r\n\r\n";
            endless(begin, b"x", Duration::from_millis(50))
        },
        expected: Finding(Code::BrokenLink, "no answer in time"),
    },
    Case {
        name: "silence",
        markup: LINK,
        answer: |_| Some(Reply::Raw(Box::new(|_| std::thread::sleep(Duration::from_secs(12))))),
        expected: Finding(Code::BrokenLink, "no answer in time"),
    },
    Case {
        name: "a connection that is closed at once",
        markup: LINK,
        answer: |_| raw(b""),
        expected: Finding(Code::BrokenLink, "broke off"),
    },
    Case {
        name: "half a head",
        markup: LINK,
        answer: |_| raw(b"HTTP/1.1 200 OK\r\nContent-Ty"),
        expected: Finding(Code::BrokenLink, "broke off"),
    },
    Case {
        name: "fewer bytes than promised",
        markup: LINK,
        answer: |_| {
            raw(b"HTTP/1.1 200 OK\r\nContent-Type: text/html\r\nContent-Length: 1000\r\n\r\n<p>x")
        },
        expected: Finding(Code::BrokenLink, "broke off"),
    },
    Case {
        name: "more bytes than promised",
        markup: LINK,
        answer: |_| {
            raw(b"HTTP/1.1 200 OK\r\nContent-Type: text/html\r\nContent-Length: 4\r\nConnection: close\r\n\r\n<p>x and more")
        },
        expected: Nothing,
    },
    Case {
        name: "a length that is no number",
        markup: LINK,
        answer: |_| raw(b"HTTP/1.1 200 OK\r\nContent-Length: -5\r\n\r\n<p>x"),
        expected: Finding(Code::BrokenLink, ""),
    },
    Case {
        name: "two lengths",
        markup: LINK,
        answer: |_| {
            raw(b"HTTP/1.1 200 OK\r\nContent-Length: 4\r\nContent-Length: 9\r\n\r\n<p>x12345")
        },
        expected: Finding(Code::BrokenLink, ""),
    },
    Case {
        name: "chunks of nonsense",
        markup: LINK,
        answer: |_| {
            raw(b"HTTP/1.1 200 OK\r\nContent-Type: text/html\r\nTransfer-Encoding: chunked\r\n\r\nzzz\r\n<p>x\r\n0\r\n\r\n")
        },
        expected: Finding(Code::BrokenLink, ""),
    },
    Case {
        name: "chunks that are cut off",
        markup: LINK,
        answer: |_| {
            raw(b"HTTP/1.1 200 OK\r\nContent-Type: text/html\r\nTransfer-Encoding: chunked\r\n\r\n4\r\n<p>x\r\nff\r\n")
        },
        expected: Finding(Code::BrokenLink, ""),
    },
    Case {
        name: "a chunk of all the memory there is",
        markup: LINK,
        answer: |_| {
            raw(b"HTTP/1.1 200 OK\r\nContent-Type: text/html\r\nTransfer-Encoding: chunked\r\n\r\nffffffffffffffff\r\n<p>x")
        },
        expected: Finding(Code::BrokenLink, ""),
    },
    Case {
        name: "a bomb of gzip",
        markup: LINK,
        answer: |_| packed("gzip", bomb()),
        expected: Limit("size"),
    },
    Case {
        name: "gzip that is none",
        markup: LINK,
        answer: |_| packed("gzip", b"<p>not packed at all".to_vec()),
        expected: Finding(Code::BrokenLink, "cannot be read"),
    },
    Case {
        name: "brotli that is none",
        markup: LINK,
        answer: |_| packed("br", vec![0xff; 1000]),
        expected: Finding(Code::BrokenLink, "cannot be read"),
    },
    Case {
        name: "bytes that are no text",
        markup: LINK,
        answer: |_| html((0..=255).cycle().take(100_000).collect::<Vec<u8>>()),
        expected: Nothing,
    },
    Case {
        name: "a status that does not exist",
        markup: LINK,
        answer: |_| raw(b"HTTP/1.1 000 Nothing\r\n\r\n"),
        expected: Finding(Code::BrokenLink, ""),
    },
    Case {
        name: "a server of something else",
        markup: LINK,
        answer: |_| raw(b"SSH-2.0-OpenSSH_9.2\r\n"),
        expected: Finding(Code::BrokenLink, ""),
    },
    Case {
        name: "a page that holds itself",
        markup: LINK,
        answer: |_| html("<iframe src=/trap></iframe><iframe src=/trap?1></iframe>"),
        expected: Nothing,
    },
    Case {
        name: "a hundred thousand links",
        markup: LINK,
        answer: |it| match it.path.as_str() {
            "/trap" => {
                html((0..100_000).map(|n| format!("<a href=/trap#{n}>x</a>")).collect::<String>())
            }
            _ => None,
        },
        expected: Finding(Code::MissingPlace, ""),
    },
    Case {
        name: "elements in elements in elements",
        markup: LINK,
        answer: |_| html("<div><table><b>".repeat(60_000)),
        expected: Finding(Code::EmptyPage, ""),
    },
    Case {
        name: "attributes without end",
        markup: LINK,
        answer: |_| html(format!("<p {}>x", "a=b ".repeat(500_000))),
        expected: Nothing,
    },
    Case {
        name: "sheets that import each other",
        markup: "<link rel=stylesheet href=/trap.css>",
        answer: |it| match it.path.as_str() {
            "/trap.css" => Some(Reply::of(200, "text/css", "@import '/trap2.css';")),
            _ => Some(Reply::of(200, "text/css", "@import '/trap.css';")),
        },
        expected: Nothing,
    },
    Case {
        name: "modules that import each other without end",
        markup: "<script type=module src=/trap0></script>",
        answer: |it| {
            let next = format!("import '/trap{}'", number(it, "/trap") + 1);
            Some(Reply::of(200, "text/javascript", next))
        },
        expected: Limit("imports"),
    },
    Case {
        name: "a wall of cookies that lets in",
        markup: LINK,
        answer: |it| match it.header("cookie") {
            Some(_) => html("<p>in"),
            None => Some(Reply::to(302, "/trap?again").with("Set-Cookie", "in=1; Path=/")),
        },
        expected: Nothing,
    },
    Case {
        name: "a wall of cookies that does not",
        markup: LINK,
        answer: |_| Some(Reply::to(302, "/trap").with("Set-Cookie", "in=1; Path=/")),
        expected: Finding(Code::RedirectLoop, "/trap"),
    },
    Case {
        name: "a login that leads to itself",
        markup: LINK,
        answer: |it| match it.path.contains("login") {
            true => Some(Reply::to(302, "/trap")),
            false => Some(Reply::to(302, "/trap?login")),
        },
        expected: Finding(Code::RedirectLoop, "login"),
    },
    Case {
        name: "a pause of a year",
        markup: LINK,
        answer: |_| Some(Reply::of(503, "text/html", "").with("Retry-After", "31536000")),
        expected: Finding(Code::BrokenLink, "not ready"),
    },
    Case {
        name: "too many requests, always",
        markup: LINK,
        answer: |_| Some(Reply::of(429, "text/html", "").with("Retry-After", "0")),
        expected: Finding(Code::BrokenLink, "too many requests"),
    },
    Case {
        name: "a type of a hundred kilobytes",
        markup: LINK,
        answer: |_| Some(Reply::of(200, &format!("text/html; {}", "x".repeat(100_000)), "<p>x")),
        expected: Nothing,
    },
    Case {
        name: "no type at all",
        markup: LINK,
        answer: |_| Some(Reply::Whole(200, Vec::new(), b"<p>x<a href=/ok>x</a>".to_vec())),
        expected: Nothing,
    },
    Case {
        name: "a calendar without end",
        markup: "<a href=/trap?month=1>t</a>",
        answer: |it| {
            let month = number(it, "/trap?month=");
            let words = "monday tuesday wednesday thursday friday saturday sunday ".repeat(20);
            html(format!("<p>{words} {month}<a href=/trap?month={}>next</a>", month + 1))
        },
        expected: Endless,
    },
    Case {
        name: "the same list in every order",
        markup: "<a href=/trap?a=0&b=0>t</a>",
        answer: |it| {
            let words = "moon mars venus saturn jupiter mercury neptune uranus ".repeat(20);
            let next: u64 = it.path.bytes().map(u64::from).fold(7, |sum, b| sum * 31 % 99991 + b);
            html(format!("<p>{words}<a href='/trap?a={next}&b={}'>x</a>", next / 7))
        },
        expected: Endless,
    },
    Case {
        name: "a description of an application that is none",
        markup: "<link rel=manifest href=/trap>",
        answer: |_| Some(Reply::of(200, "application/json", "[".repeat(200_000))),
        expected: Nothing,
    },
    Case {
        name: "structured data in data in data",
        markup: LINK,
        answer: |_| {
            let data = "{\"a\":".repeat(100_000);
            html(format!("<p>x<script type=application/ld+json>{data}</script>"))
        },
        expected: Nothing,
    },
    Case {
        name: "interim answers without end",
        markup: LINK,
        answer: |_| endless(b"", b"HTTP/1.1 103 Early Hints\r\n\r\n", Duration::from_millis(1)),
        expected: Finding(Code::BrokenLink, ""),
    },
];

/// As the program does when it starts.
fn ready() {
    let _ = rustls::crypto::ring::default_provider().install_default();
}

fn scanned(port: u16, authority: &Authority, start: &str) -> fernweh_ports::Result<ScanReport> {
    ready();
    let start = Url::parse(start).unwrap();
    let mut trusted = tempfile::NamedTempFile::new().unwrap();
    trusted.write_all(authority.certificate.as_bytes()).unwrap();
    let source = HttpSource::new(&HttpOptions {
        host: "site.test".into(),
        origin: Some(start.origin()),
        address: Some(format!("127.0.0.1:{port}")),
        login: None,
        trust: Trust { authority: Some(trusted.path().to_owned()), ..Trust::default() },
        patience: Duration::from_secs(4),
    })?;
    let options = ScanOptions {
        start,
        old: None,
        external: false,
        whole: false,
        gently: false,
        pages: 1000,
        depth: 1000,
        time: Duration::from_secs(60),
        slow: Duration::from_secs(30),
        state: None,
        visited: None,
    };
    scan(&options, &source, &Silent)
}

fn judge(case: &Case) -> Result<(), String> {
    let authority = Authority::new().unwrap();
    let (answer, markup) = (case.answer, case.markup);
    let stage = Stage::start(&authority, &["site.test"], move |it| {
        if it.path == "/" {
            return Reply::of(200, "text/html", format!("<p>start<a href=/ok>ok</a>{markup}"));
        }
        if it.path == "/ok" {
            return Reply::of(200, "text/html", "<p>fine");
        }
        let trapped = it.path.starts_with("/trap").then(|| answer(it)).flatten();
        trapped.unwrap_or_else(|| Reply::of(404, "text/html", ""))
    });
    let report = scanned(stage.port, &authority, "https://site.test/")
        .map_err(|told| format!("{}: {told}", case.name))?;
    let shown = format!("{:?} {:?}", report.findings, report.limits);
    let well = match case.expected {
        Nothing => report.findings.is_empty() && report.limits.is_empty(),
        Finding(code, words) => {
            let detail = |f: &fernweh_core::finding::Finding| {
                f.code == code && (f.detail.contains(words) || f.address.contains(words))
            };
            report.findings.iter().any(detail)
        }
        Limit(name) => report.limits.iter().any(|limit| limit.limit == name),
        Endless => report.endless.len() == 1 && report.pages < 200,
    };
    if well { Ok(()) } else { Err(format!("{}: {shown}", case.name)) }
}

#[test]
fn a_scan_ends_and_says_what_it_met_whatever_a_server_does() {
    assert!(CASES.len() >= 40);
    let next = std::sync::atomic::AtomicUsize::new(0);
    let wrong = std::sync::Mutex::new(Vec::new());
    std::thread::scope(|scope| {
        for _ in 0..6 {
            scope.spawn(|| {
                while let Some(case) =
                    CASES.get(next.fetch_add(1, std::sync::atomic::Ordering::Relaxed))
                {
                    if let Err(told) = judge(case) {
                        wrong.lock().unwrap().push(told);
                    }
                }
            });
        }
    });
    let wrong = wrong.into_inner().unwrap();
    assert!(wrong.is_empty(), "{} of {}:\n{}", wrong.len(), CASES.len(), wrong.join("\n"));
}

#[test]
fn certificates_that_prove_nothing_are_named() {
    let (right, wrong) = (Authority::new().unwrap(), Authority::new().unwrap());
    let page = |_: &Request| Reply::of(200, "text/html", "<p>x<a href=/ok>x</a>");
    for (authority, hosts) in [(&right, ["other.test"]), (&wrong, ["site.test"])] {
        let stage = Stage::start(authority, &hosts, page);
        let told = scanned(stage.port, &right, "https://site.test/").unwrap_err();
        assert!(told.because.clone().unwrap().contains("certificate"), "{told:?}");
    }
}

#[test]
fn lists_that_name_each_other_and_what_robots_are_told_without_end_have_an_end() {
    let authority = Authority::new().unwrap();
    let stage = Stage::start(&authority, &["site.test"], |it| match it.path.as_str() {
        "/" => Reply::of(200, "text/html", "<p>start<a href=/ok>ok</a>"),
        "/ok" => Reply::of(200, "text/html", "<p>fine"),
        "/robots.txt" => {
            let lines = "Disallow: /*a*b*c*d$\nSitemap: /a.xml\n".repeat(100_000);
            Reply::of(200, "text/plain", format!("User-agent: *\n{lines}"))
        }
        path if path.ends_with(".xml") => {
            let next = if path == "/a.xml" { "/b.xml" } else { "/a.xml" };
            let list = format!(
                "<sitemapindex><sitemap><loc>https://site.test{next}</loc></sitemap></sitemapindex>"
            );
            Reply::of(200, "text/xml", list)
        }
        _ => Reply::of(404, "text/html", ""),
    });
    let report = scanned(stage.port, &authority, "https://site.test/").unwrap();
    assert_eq!((report.pages, report.findings.len()), (2, 0), "{:?}", report.findings);
    assert!(stage.asked().len() < 20);
}

#[test]
fn what_is_packed_without_end_takes_little_memory() {
    let authority = Authority::new().unwrap();
    let stage = Stage::start(&authority, &["site.test"], |it| match it.path.as_str() {
        "/" => {
            let links: String = (0..6).map(|n| format!("<a href=/trap{n}>t</a>")).collect();
            Reply::of(200, "text/html", format!("<p>start{links}"))
        }
        path if path.starts_with("/trap") => packed("gzip", bomb()).unwrap(),
        _ => Reply::of(404, "text/html", ""),
    });
    let workspace = Workspace::new(PROGRAM);
    let line = format!("scan http://127.0.0.1:{} --json", stage.port);
    let (ran, memory) = workspace.run_measured(&line);
    let limits = ran.code(1).json()["limits"].clone();
    assert_eq!(limits[0]["limit"], "size", "{limits}");
    // Six pages of 16 MB are held while they are read, not six hundred megabytes.
    assert!(memory < 400 << 20, "{} MB", memory >> 20);
}
