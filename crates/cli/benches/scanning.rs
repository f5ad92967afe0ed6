//! A scan against the same HTTP client that fetches the same pages, reads them with the same parser
//! and makes the same addresses absolute, and does nothing else. The server is a process of its own.
//!
//! `cargo bench -p fernweh --bench scanning [-- PAGES]`; with `-- memory ADDRESSES` a site of so many
//! addresses is scanned, and the memory that it took is told.

use fernweh_connect::http::{HttpOptions, HttpSource, PATIENCE};
use fernweh_connect::tls::Trust;
use fernweh_core::page::read_html;
use fernweh_flow::scan::{ScanOptions, scan};
use fernweh_ports::Silent;
use lol_html::{HtmlRewriter, Settings, element};
use std::io::{BufRead, BufReader, Write};
use std::net::{TcpListener, TcpStream};
use std::process::{Child, Command, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};
use url::Url;

/// Connections of the floor.
const CONNECTIONS: usize = 32;

fn main() {
    let _ = rustls::crypto::ring::default_provider().install_default();
    let mut arguments = std::env::args().skip(1).filter(|word| word != "--bench");
    match arguments.next().as_deref() {
        Some("serve") => serve(
            arguments.next().and_then(|n| n.parse().ok()).unwrap_or(0),
            arguments.next().and_then(|n| n.parse().ok()).unwrap_or(0),
            arguments.next().and_then(|n| n.parse().ok()).unwrap_or(0),
        ),
        Some("memory") => {
            let addresses = arguments.next().and_then(|n| n.parse().ok()).unwrap_or(500_000);
            memory(addresses);
        }
        other => {
            let pages = other.and_then(|n| n.parse().ok()).unwrap_or(5_000);
            compared(pages, 0);
            compared(pages.min(2_000), 20);
        }
    }
}

/// A page of about 32 KB with a hundred links: to the next pages, to pictures, to a style sheet.
fn page(number: usize, pages: usize, filler: usize) -> String {
    let mut out = String::with_capacity(33_000);
    out.push_str(&format!(
        "<!doctype html><html><head><title>Night {number}</title><link rel=stylesheet href=/s.css>"
    ));
    out.push_str("</head><body><h1>Observing night</h1>");
    for link in 1..=60 {
        let to = (number * 7 + link * link) % pages;
        out.push_str(&format!("<p class=\"entry\"><a href=\"/night/{to}\">Night {to}</a> "));
    }
    for link in 0..40 {
        out.push_str(&format!("<img src=\"/pictures/{link}.png\" alt=\"The sky\" width=\"20\">"));
    }
    while out.len() < filler {
        out.push_str("<p>The <b>sky</b> was clear from dusk on, and the <i>dome</i> turned well; ");
        out.push_str("number ");
        out.push_str(&(number * 31 + out.len()).to_string());
        out.push_str(" of the list was seen for the first time this year.</p>\n");
    }
    out
}

fn serve(pages: usize, delay: u64, filler: usize) {
    let listener = TcpListener::bind(("127.0.0.1", 0)).expect("a port");
    println!("{}", listener.local_addr().expect("an address").port());
    for stream in listener.incoming().flatten() {
        std::thread::spawn(move || drop(talk(&stream, pages, delay, filler)));
    }
}

fn talk(stream: &TcpStream, pages: usize, delay: u64, filler: usize) -> std::io::Result<()> {
    stream.set_nodelay(true)?;
    let mut lines = BufReader::new(stream);
    let mut line = String::new();
    loop {
        line.clear();
        if lines.read_line(&mut line)? == 0 {
            return Ok(());
        }
        let request = line.clone();
        while line.trim() != "" {
            line.clear();
            lines.read_line(&mut line)?;
        }
        let path = request.split(' ').nth(1).unwrap_or_default();
        let night = path.strip_prefix("/night/").and_then(|n| n.parse().ok());
        let (status, kind, body) = match (path, night) {
            ("/", _) => (200, "text/html", page(0, pages, filler)),
            (_, Some(number)) => (200, "text/html", page(number, pages, filler)),
            ("/s.css", _) => (200, "text/css", "body { color: black }".into()),
            _ if path.starts_with("/pictures/") => (200, "image/png", "x".into()),
            _ => (404, "text/html", "no".into()),
        };
        std::thread::sleep(Duration::from_millis(delay));
        let head = format!(
            "HTTP/1.1 {status} X\r\nContent-Type: {kind}\r\nContent-Length: {}\r\n\r\n",
            body.len()
        );
        let mut answer = head.into_bytes();
        if request.starts_with("GET") {
            answer.extend_from_slice(body.as_bytes());
        }
        (&*stream).write_all(&answer)?;
    }
}

struct Server(Child, u16);

impl Server {
    fn start(pages: usize, delay: u64, filler: usize) -> Self {
        let program = std::env::current_exe().expect("this program");
        let mut child = Command::new(program)
            .args(["serve", &pages.to_string(), &delay.to_string(), &filler.to_string()])
            .stdout(Stdio::piped())
            .spawn()
            .expect("it starts");
        let mut line = String::new();
        let out = child.stdout.take().expect("its output");
        BufReader::new(out).read_line(&mut line).expect("its port");
        Self(child, line.trim().parse().expect("a number"))
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

/// Seconds of processor time of this process so far (proc(5), fields 14 and 15, in hundredths).
fn processor() -> f64 {
    let stat = std::fs::read_to_string("/proc/self/stat").expect("proc");
    let rest = stat.rsplit(')').next().unwrap_or_default();
    let of = |n: usize| rest.split_whitespace().nth(n).and_then(|t| t.parse().ok()).unwrap_or(0.0);
    (of(11) + of(12)) / 100.0
}

fn peak() -> u64 {
    let status = std::fs::read_to_string("/proc/self/status").expect("proc");
    let line = status.lines().find(|line| line.starts_with("VmHWM")).unwrap_or_default();
    line.split_whitespace().nth(1).and_then(|n| n.parse::<u64>().ok()).unwrap_or(0) >> 10
}

fn scanned(port: u16, pages: usize) -> (f64, f64, u64) {
    let start = Url::parse(&format!("http://127.0.0.1:{port}/")).expect("an address");
    let source = HttpSource::new(&HttpOptions {
        host: "127.0.0.1".into(),
        origin: Some(start.origin()),
        address: None,
        login: None,
        trust: Trust::default(),
        patience: PATIENCE,
    })
    .expect("a client");
    let options = ScanOptions {
        start,
        old: None,
        external: false,
        whole: false,
        gently: false,
        pages: pages + 10,
        depth: 1_000_000,
        time: Duration::from_secs(3600),
        slow: Duration::from_secs(3),
        state: None,
        visited: None,
    };
    let (began, used) = (Instant::now(), processor());
    let report = scan(&options, &source, &Silent).expect("it is scanned");
    assert!(report.findings.is_empty(), "{:?}", report.findings.first());
    (began.elapsed().as_secs_f64(), processor() - used, report.pages)
}

/// The same client, parser and joining, on as many pages.
fn floor(port: u16, pages: usize) -> (f64, f64) {
    let runtime = tokio::runtime::Builder::new_multi_thread()
        .worker_threads(2)
        .enable_all()
        .build()
        .expect("a runtime");
    let client = reqwest::Client::builder().no_proxy().build().expect("a client");
    let next = Arc::new(AtomicUsize::new(0));
    let (began, used) = (Instant::now(), processor());
    runtime.block_on(async {
        let each = (0..CONNECTIONS).map(|_| {
            let (client, next) = (client.clone(), next.clone());
            tokio::spawn(async move {
                loop {
                    let number = next.fetch_add(1, Ordering::Relaxed);
                    if number >= pages {
                        return;
                    }
                    let address = format!("http://127.0.0.1:{port}/night/{number}");
                    let base = Url::parse(&address).expect("an address");
                    let answer = client.get(&address).send().await.expect("an answer");
                    let body = answer.bytes().await.expect("a body");
                    std::hint::black_box(addresses(&base, &body));
                }
            })
        });
        let each: Vec<_> = each.collect();
        for task in each {
            task.await.expect("it ends");
        }
    });
    (began.elapsed().as_secs_f64(), processor() - used)
}

fn addresses(base: &Url, body: &[u8]) -> Vec<Url> {
    let mut found = Vec::new();
    let settings = Settings::new().append_element_content_handler(element!("*", |el| {
        for attribute in el.attributes() {
            if matches!(attribute.name().as_str(), "href" | "src") {
                found.extend(base.join(&attribute.value()));
            }
        }
        Ok(())
    }));
    let mut reader = HtmlRewriter::new(settings, |_: &[u8]| {});
    reader.write(body).expect("it is read");
    reader.end().expect("it ends");
    found
}

/// What the digests of texts cost, by which pages are known that only look like pages: seconds of
/// processor time for so many pages, and for all of their reading.
fn digests(pages: usize) -> (f64, f64) {
    let texts: Vec<String> = (0..100).map(|number| page(number, pages, 32_000)).collect();
    let timed = |words: bool| {
        let began = Instant::now();
        for number in 0..pages {
            std::hint::black_box(read_html(&texts[number % texts.len()], words));
        }
        began.elapsed().as_secs_f64()
    };
    let (with, without) = (timed(true), timed(false));
    (with - without, with)
}

fn compared(pages: usize, delay: u64) {
    let server = Server::start(pages, delay, 32_000);
    if delay == 0 {
        let (words, reading) = digests(pages);
        println!("digests of texts: {words:.2} s of processor time, of {reading:.2} s of reading");
    }
    // Warm up.
    floor(server.1, pages.min(500));
    for _ in 0..3 {
        let (floor_time, floor_used) = floor(server.1, pages);
        let (time, used, read) = scanned(server.1, pages);
        let per = |seconds: f64| pages as f64 / seconds;
        println!(
            "{read} pages, {delay} ms of delay: scan {:.0} pages/s, floor {:.0} pages/s, ratio {:.2}; \
             processor {used:.2} s, floor {floor_used:.2} s, ratio {:.2}; at most {} MB",
            per(time),
            per(floor_time),
            floor_time / time,
            used / floor_used,
            peak()
        );
    }
}

fn memory(addresses: usize) {
    let server = Server::start(addresses, 0, 3_000);
    let (time, used, read) = scanned(server.1, addresses);
    println!("{read} pages in {time:.0} s, processor {used:.0} s, at most {} MB", peak());
}
