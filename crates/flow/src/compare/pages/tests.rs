use super::*;
use fernweh_core::rewrite::Rule;
use fernweh_ports::{Fetching, PageResponse, Silent};
use std::sync::Arc;
use std::sync::atomic::AtomicU64;

const OLD: &str = "http://old.example";
const NEW: &str = "https://www.new.example";

type Says = dyn Fn(&str, u64) -> PageResponse + Send + Sync;

/// A server: what it says to a path, at its so-manieth request.
#[derive(Clone)]
struct Server {
    origin: &'static str,
    says: Arc<Says>,
    asked: Arc<AtomicU64>,
}

impl PageSource for Server {
    fn begin(&self, request: PageRequest, done: Fetching) {
        let number = self.asked.fetch_add(1, Ordering::Relaxed);
        done(match request.url.strip_prefix(self.origin) {
            Some(path) => Ok((self.says)(path, number)),
            None => Err(PageProblem::Name(request.url)),
        });
    }
}

fn server(
    origin: &'static str,
    says: impl Fn(&str, u64) -> PageResponse + Send + Sync + 'static,
) -> Server {
    Server { origin, says: Arc::new(says), asked: Arc::default() }
}

fn typed(media_type: &str, body: &str) -> PageResponse {
    let body = body.as_bytes().to_vec();
    PageResponse { status: 200, media_type: media_type.into(), body, ..PageResponse::default() }
}

fn page(body: &str) -> PageResponse {
    typed("text/html", body)
}

fn compared_at(paths: &[&str], one: &Server, other: &Server) -> PageDifferences {
    let side = |server: &Server| Side {
        first: Box::new(server.clone()),
        second: Box::new(server.clone()),
    };
    let rules = Rewriter::new(vec![Rule::new(OLD, NEW).unwrap()]).unwrap();
    let addresses: Vec<Url> =
        paths.iter().map(|path| format!("{OLD}{path}").parse().unwrap()).collect();
    side_by_side(&addresses, (&side(one), &side(other)), &rules, 1, &Silent).unwrap()
}

/// Differences as `what: expected → there`.
fn told(found: &PageDifferences) -> Vec<String> {
    let each = found.differences.iter();
    each.map(|it| format!("{}: {} → {}", it.what, it.expected, it.there)).collect()
}

#[test]
fn what_the_rules_change_is_no_difference() {
    let old = "<title>Nights</title><h1>Nights</h1><p>See http://old.example/a or <a href=/b>b</a> \
               <a href='http://old.example/c'>c</a> <img src=http://old.example/p.png>";
    let one = server(OLD, move |path, _| match path {
        "/p.png" => typed("image/png", "picture"),
        _ => page(old),
    });
    let other = server(NEW, move |path, _| match path {
        "/p.png" => typed("image/png", "picture"),
        _ => page(&old.replace(OLD, NEW)),
    });
    let found = compared_at(&["/", "/b"], &one, &other);
    assert!(found.is_empty(), "{:?}", told(&found));
    assert_eq!((found.pages, found.pictures, found.changing), (2, 1, 0));
    // Nothing was fetched twice.
    assert_eq!(one.asked.load(Ordering::Relaxed), 3);
}

#[test]
fn every_part_of_a_page_is_compared() {
    let one = server(OLD, |path, _| match path {
        "/p.png" => typed("image/png", "one"),
        "/paper.pdf" => typed("application/pdf", "%PDF 1"),
        "/gone" => page("here"),
        "/way" => {
            PageResponse { status: 301, location: Some("/a".into()), ..PageResponse::default() }
        }
        _ => page("<title>A</title><h2>Head</h2><p>text<a href=/x>x</a><img src=/p.png>"),
    });
    let other = server(NEW, |path, _| match path {
        "/p.png" => typed("image/png", "two"),
        "/paper.pdf" => typed("application/pdf", "%PDF 2"),
        "/gone" => PageResponse { status: 404, ..PageResponse::default() },
        "/way" => {
            PageResponse { status: 301, location: Some("/b".into()), ..PageResponse::default() }
        }
        _ => PageResponse {
            headers: vec![("x-robots-tag".into(), "noindex".into())],
            charset: Some("UTF-8".into()),
            ..page("<title>B</title><h3>Head</h3><p>texts<a href=/y>x</a><img src=/p.png>")
        },
    });
    let found = compared_at(&["/", "/gone", "/way", "/paper.pdf"], &one, &other);
    let parts =
        ["status: 200 → 404", "redirect: https://www.new.example/a → https://www.new.example/b"];
    let digests = "picture: /p.png (SHA-256 7692c3ad3540…) → /p.png (SHA-256 3fc4ccfe7458…)";
    let expected = [
        parts[0],
        parts[1],
        "type: text/html → text/html; charset=utf-8",
        "title: A → B",
        "heading: Head → Head",
        "text: text x → texts x",
        digests,
        "link: https://www.new.example/x → https://www.new.example/y",
        "content:  → ",
        "header: x-robots-tag: none → x-robots-tag: noindex",
    ];
    let mut told = told(&found);
    let order = |it: &String| expected.iter().position(|is| is == it);
    told.sort_by_key(order);
    assert_eq!(told.len(), expected.len(), "{told:#?}");
    assert_eq!((found.pages, found.differing), (4, 4));
}

#[test]
fn what_is_on_every_page_is_one_difference() {
    let text =
        |foot: &'static str| move |path: &str, _| page(&format!("<h1>{path}</h1><p>{foot}</p>"));
    let (one, other) = (server(OLD, text("Open on Fridays")), server(NEW, text("Closed")));
    let paths: Vec<String> = (0..40).map(|n| format!("/p{n}")).collect();
    let paths: Vec<&str> = paths.iter().map(String::as_str).collect();
    let found = compared_at(&paths, &one, &other);
    assert_eq!(told(&found), ["text: Open on Fridays → Closed"]);
    assert_eq!((found.differences[0].pages, found.differences[0].examples.len()), (40, EXAMPLES));
    // The first page is looked at a second time; what is known by then is not.
    assert_eq!(one.asked.load(Ordering::Relaxed), 41);
}

#[test]
fn what_changes_at_every_visit_is_learnt() {
    let text = |_: &str, number: u64| {
        page(&format!(
            "<title>seen {number}</title><p>visitor {number} of us</p><a href='/x?token=a{number}b'>x</a>"
        ))
    };
    let (one, other) =
        (server(OLD, text), server(NEW, move |path, number| text(path, 7000 + number)));
    let found = compared_at(&["/"], &one, &other);
    assert!(found.is_empty(), "{:?}", told(&found));
    assert_eq!((found.changing, found.differing), (1, 0));
}

#[test]
fn a_page_that_cannot_be_fetched_is_never_the_same() {
    let one = server(OLD, |_, _| page("a"));
    let other = server("https://elsewhere.example", |_, _| page("a"));
    let found = compared_at(&["/"], &one, &other);
    assert_eq!(found.differences[0].what, "status");
    let found = compared_at(&["/"], &other, &one);
    assert_eq!((found.pages, found.not_compared.len()), (0, 1));
    assert!(!found.is_empty());
}

#[test]
fn an_overloaded_server_is_asked_again_after_a_while() {
    let one = server(OLD, |_, _| page("a"));
    let other = server(NEW, |_, number| match number {
        0 => PageResponse {
            headers: vec![("retry-after".into(), "0".into())],
            status: 503,
            ..PageResponse::default()
        },
        _ => page("a"),
    });
    assert!(compared_at(&["/"], &one, &other).is_empty());
}
