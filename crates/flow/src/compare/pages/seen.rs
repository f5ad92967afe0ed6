//! What is seen of one page, and how it differs from its counterpart.

use super::super::excerpts;
use super::wording::{Visited, differing, shape};
use fernweh_core::digest::sha256;
use fernweh_core::page::{
    Line, Link, LinkKind, TextKind, Usage, decode, lines_of, read_html, read_xml, xml_links,
};
use fernweh_core::rewrite::Rewriter;
use fernweh_ports::{PageProblem, PageResponse};
use std::collections::{BTreeMap, BTreeSet};
use url::Url;

/// Header lines that decide what browsers and search engines make of an answer.
const HEADERS: [&str; 6] = [
    "access-control-allow-origin",
    "content-disposition",
    "content-language",
    "content-security-policy",
    "x-frame-options",
    "x-robots-tag",
];

/// Bytes of a text that are shown.
const TEXT: usize = 300;

/// A page, in the words and addresses of the second site.
#[derive(Clone, Debug, Default)]
pub(super) struct Seen {
    /// The status of HTTP, or why there is none.
    pub status: String,
    /// Where a redirect leads.
    location: Option<String>,
    /// The media type and the character set.
    content_type: String,
    headers: BTreeMap<&'static str, String>,
    title: String,
    lines: Vec<Line>,
    links: BTreeSet<String>,
    /// Of what is no text.
    digest: Option<String>,
    /// Pictures: where they are fetched, and where that is on the second site.
    pub pictures: BTreeSet<(String, String)>,
    /// The body is longer than what was read.
    pub is_cut: bool,
}

impl Seen {
    /// A page that did not come.
    pub fn without(problem: &PageProblem) -> Self {
        Self { status: problem.to_string(), ..Self::default() }
    }
}

/// Something that differs in a page.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(super) struct Difference {
    pub what: &'static str,
    pub expected: String,
    pub there: String,
}

impl Difference {
    pub fn new(what: &'static str, expected: impl Into<String>, there: impl Into<String>) -> Self {
        Self { what, expected: expected.into(), there: there.into() }
    }
}

/// Reads an answer. With rules, they are followed in what it says, and `as_if` is the address that
/// the page has on the second site.
pub(super) fn seen(
    url: &Url,
    as_if: &Url,
    answer: &PageResponse,
    rules: Option<&Rewriter>,
) -> Seen {
    let follow = |text: &str| match rules {
        Some(rules) => {
            let new = rules.look(text.as_bytes()).apply(text.as_bytes());
            String::from_utf8_lossy(&new).into_owned()
        }
        None => text.to_owned(),
    };
    let location = answer.location.as_deref();
    let header = |name: &'static str| {
        let all: Vec<&str> = answer.header(name).collect();
        (!all.is_empty()).then(|| (name, follow(&all.join(", "))))
    };
    let mut seen = Seen {
        status: answer.status.to_string(),
        location: location.map(|to| as_if.join(&follow(to)).map_or(follow(to), String::from)),
        content_type: content_type(answer),
        headers: HEADERS.into_iter().filter_map(header).collect(),
        is_cut: answer.is_cut,
        ..Seen::default()
    };
    let media = answer.media_type.as_str();
    let html = media == "text/html" || (media.is_empty() && answer.body.contains(&b'<'));
    let xml = media.ends_with("xml");
    if !(html || xml || media.starts_with("text/") || media.ends_with("json")) {
        seen.digest = Some(sha256(&answer.body));
        return seen;
    }
    let kind = if html {
        TextKind::Html
    } else if xml {
        TextKind::Xml
    } else {
        TextKind::Plain
    };
    let decoded = decode(&answer.body, answer.charset.as_deref(), kind);
    let text = follow(&decoded.text);
    let read = |text: &str| match (html, media) {
        (true, _) => {
            let page = read_html(text, false);
            (page.links, page.base, page.title)
        }
        (_, "application/xhtml+xml") => {
            let page = read_xml(text);
            (page.links, page.base, page.title)
        }
        _ if xml => (xml_links(text), None, String::new()),
        _ => (Vec::new(), None, String::new()),
    };
    let (links, base, title) = read(&text);
    (seen.title, seen.lines) = (title, if html { lines_of(&text) } else { plain_lines(&text) });
    let join = |page: &Url, base: &Option<String>, link: &Link| {
        let base = base.as_deref().and_then(|base| decoded.base(page, base));
        decoded.join(base.as_ref().unwrap_or(page), &link.address)
    };
    let web = |url: &Url| matches!(url.scheme(), "http" | "https");
    for link in &links {
        if let Some(to) = join(as_if, &base, link).filter(|to| web(to)) {
            seen.links.insert(to.into());
        }
    }
    // The rules change addresses, and no element: links stand in the same order. Where they change
    // nothing, the page is not read again.
    let own = (text != decoded.text).then(|| read(&decoded.text));
    let (own_links, own_base) = own.as_ref().map_or((&links, &base), |own| (&own.0, &own.1));
    if own_links.len() == links.len() {
        for (own, link) in own_links.iter().zip(&links).filter(|(own, _)| is_picture(own)) {
            let place = join(url, own_base, own).filter(|from| from.host() == url.host());
            if let (Some(mut from), Some(mut to)) = (place, join(as_if, &base, link)) {
                from.set_fragment(None);
                to.set_fragment(None);
                seen.pictures.insert((from.into(), to.into()));
            }
        }
    }
    seen
}

fn is_picture(link: &Link) -> bool {
    let picture = matches!(link.kind, LinkKind::Picture | LinkKind::PictureSet | LinkKind::Icon);
    picture && link.usage != Usage::Followed
}

/// The lines of a text that is no page.
fn plain_lines(text: &str) -> Vec<Line> {
    let words = |line: &str| line.split_whitespace().collect::<Vec<_>>().join(" ");
    let each = text.lines().map(|line| Line { heading: 0, text: words(line) });
    each.filter(|line| !line.text.is_empty()).collect()
}

fn content_type(answer: &PageResponse) -> String {
    match &answer.charset {
        Some(charset) => format!("{}; charset={}", answer.media_type, charset.to_ascii_lowercase()),
        None => answer.media_type.clone(),
    }
}

/// A page of one side, and what a second visit of it gave.
#[derive(Clone, Copy)]
pub(super) struct Visits<'a> {
    pub first: &'a Seen,
    pub again: Option<&'a Seen>,
}

impl Visits<'_> {
    /// Whether something of it is another one at the second visit.
    fn moves<T: PartialEq>(&self, of: impl Fn(&Seen) -> &T) -> bool {
        self.again.is_some_and(|again| of(again) != of(self.first))
    }

    fn lines(&self) -> Visited<'_> {
        Visited { lines: &self.first.lines, again: self.again.map(|again| again.lines.as_slice()) }
    }
}

/// What differs between two pages, and whether something was left out because it changes at every
/// visit.
pub(super) fn compared(one: Visits<'_>, other: Visits<'_>) -> (Vec<Difference>, bool) {
    let (a, b) = (one.first, other.first);
    if a.status != b.status {
        let shown = |seen: &Seen| match &seen.location {
            Some(to) => format!("{} to {to}", seen.status),
            None => seen.status.clone(),
        };
        return (vec![Difference::new("status", shown(a), shown(b))], false);
    }
    let mut found = Vec::new();
    if a.location != b.location {
        let shown = |seen: &Seen| seen.location.clone().unwrap_or_default();
        found.push(Difference::new("redirect", shown(a), shown(b)));
    }
    if a.content_type != b.content_type {
        found.push(Difference::new("type", &a.content_type, &b.content_type));
    }
    for name in HEADERS {
        let (expected, there) = (a.headers.get(name), b.headers.get(name));
        let value = |seen: &Seen| seen.headers.get(name).cloned();
        let moves = |visits: Visits<'_>| {
            visits.again.is_some_and(|again| value(again) != value(visits.first))
        };
        if expected != there && !(moves(one) && moves(other)) {
            let shown = |value: Option<&String>| value.map_or("none", String::as_str).to_owned();
            let named = |value| format!("{name}: {}", shown(value));
            found.push(Difference::new("header", named(expected), named(there)));
        }
    }
    let mut moved = false;
    if a.title != b.title {
        match one.moves(|seen| &seen.title) || other.moves(|seen| &seen.title) {
            true => moved = true,
            false => found.push(Difference::new("title", &a.title, &b.title)),
        }
    }
    let (lines, some) = differing(one.lines(), other.lines());
    moved |= some;
    found.extend(lines.into_iter().map(|it| {
        let what = if it.heading { "heading" } else { "text" };
        let (expected, there) = excerpts(it.expected.as_bytes(), it.there.as_bytes(), TEXT);
        Difference::new(what, expected, there)
    }));
    if a.digest != b.digest && !one.moves(|seen| &seen.digest) {
        found.push(Difference::new("content", "", ""));
    }
    let (missing, extra, some) = links(one, other);
    moved |= some;
    match (missing.as_slice(), extra.as_slice()) {
        // One that has another address.
        ([one], [other]) => found.push(Difference::new("link", one, other)),
        _ => {
            found.extend(missing.into_iter().map(|link| Difference::new("link", link, "")));
            found.extend(extra.into_iter().map(|link| Difference::new("link", "", link)));
        }
    }
    (found, moved)
}

/// Links that one side alone has; those with a token that is another one at every visit are none.
fn links(one: Visits<'_>, other: Visits<'_>) -> (Vec<String>, Vec<String>, bool) {
    let alone = |here: Visits<'_>, there: Visits<'_>| -> (Vec<String>, Vec<String>) {
        let alone = here.first.links.difference(&there.first.links).cloned();
        let stays = |link: &String| here.again.is_none_or(|again| again.links.contains(link));
        alone.partition(stays)
    };
    let ((mut missing, gone), (mut extra, came)) = (alone(one, other), alone(other, one));
    let shapes = |links: &[String]| links.iter().map(|link| shape(link)).collect::<BTreeSet<_>>();
    let (gone_shapes, came_shapes) = (shapes(&gone), shapes(&came));
    // One side may answer from a cache.
    missing.retain(|link| !came_shapes.contains(&shape(link)));
    extra.retain(|link| !gone_shapes.contains(&shape(link)));
    (missing, extra, !(gone.is_empty() && came.is_empty()))
}
