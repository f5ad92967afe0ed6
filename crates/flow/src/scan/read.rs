//! What an answer says: its addresses made absolute, and what the scan wants to know of each.
//!
//! This is where the time goes, so it runs on every core, apart from the one that decides what is
//! asked for next.

use super::joined::{Joined, Memory};
use super::site::Site;
use fernweh_core::limits;
use fernweh_core::page::mixed::{Request, over_https, request};
use fernweh_core::page::policy::Policies;
use fernweh_core::page::{
    Decoded, ImportMap, Link, LinkKind, Page, Place, Robots, TextKind, Usage, Words, css_links,
    decode, header_links, manifest_links, read_html, read_xml, refresh_target, script_links,
    xml_links,
};
use fernweh_ports::PageResponse;
use std::borrow::Cow;
use std::io::Read as _;
use std::sync::Arc;
use url::Url;

/// The name by which `robots.txt` knows this program.
const ROBOT: &str = "fernweh";

/// What is wanted of an answer.
#[derive(Clone, Debug)]
pub(super) enum Wanted {
    /// The addresses of a page.
    Page,
    /// The addresses of a style sheet that a page uses.
    Sheet(Arc<User>),
    /// The imports of a script of modules.
    Module(Arc<User>),
    /// The addresses of the description of an application.
    Manifest(Arc<User>),
    /// The pages that a site's own list names.
    Sitemap,
    /// What the host asks of robots.
    Robots,
    /// Only that it is there.
    Existence,
    /// Whether a server offers over https what a page fetches over http.
    Offer,
    /// What the server says to an address that nobody has made.
    Nonsense,
}

/// The page that uses a sheet or a script.
#[derive(Debug)]
pub(super) struct User {
    pub page: super::store::Id,
    pub url: Url,
    pub policies: Policies,
    pub imports: Option<ImportMap>,
}

/// An address of an answer.
pub(super) struct Found {
    pub link: Link,
    pub to: Arc<Joined>,
    /// What a browser does with it.
    pub request: Request,
    /// The directive of the page's own policy that refuses it.
    pub refused: Option<String>,
}

/// An address of the site's old place.
pub(super) struct OldAddress {
    pub element: Cow<'static, str>,
    pub at: Place,
    pub address: String,
    pub markup: String,
}

/// What an answer says.
#[derive(Default)]
pub(super) struct Read {
    pub is_page: bool,
    pub title: String,
    pub links: Vec<Found>,
    pub old: Vec<OldAddress>,
    pub words: Words,
    pub places: Vec<u64>,
    pub asks_password: bool,
    pub hidden: bool,
    pub robots: Option<Robots>,
    pub user: Option<Arc<User>>,
    text: String,
}

impl Read {
    /// An element as it is written.
    pub fn markup(&self, link: &Link) -> &str {
        cut(self.text.get(link.span.clone()).unwrap_or_default())
    }
}

/// Elements are shown up to this many bytes.
const MARKUP: usize = 200;

fn cut(text: &str) -> &str {
    let mut end = text.len().min(MARKUP);
    while !text.is_char_boundary(end) {
        end -= 1;
    }
    &text[..end]
}

/// Reads an answer from this address.
pub(super) fn read(
    memory: &mut Memory,
    site: &Site<'_>,
    url: &Url,
    id: super::store::Id,
    wanted: &Wanted,
    answer: &PageResponse,
) -> Read {
    let media = answer.media_type.as_str();
    let charset = answer.charset.as_deref();
    match wanted {
        Wanted::Page | Wanted::Nonsense => page(memory, site, url, id, answer),
        Wanted::Sheet(user) if media == "text/css" => {
            let decoded = decode(&answer.body, charset, TextKind::Css);
            let links = css_links(&decoded.text);
            used(memory, site, url, user, links, decoded)
        }
        Wanted::Module(user) => {
            let decoded = decode(&answer.body, charset, TextKind::Plain);
            let links = script_links(&decoded.text, true, user.imports.as_ref());
            used(memory, site, url, user, links, decoded)
        }
        Wanted::Manifest(user) => {
            let decoded = decode(&answer.body, charset, TextKind::Plain);
            let links = manifest_links(&decoded.text);
            used(memory, site, url, user, links, decoded)
        }
        Wanted::Sitemap => {
            let body = unpacked(&answer.body);
            list(memory, site, url, &body, charset)
        }
        Wanted::Robots => {
            let text = decode(&answer.body, charset, TextKind::Plain).text;
            Read { robots: Some(Robots::read(&text, ROBOT)), ..Read::default() }
        }
        _ => Read::default(),
    }
}

/// A list that may be packed (gzip, RFC 1952), up to the size of a page.
fn unpacked(body: &[u8]) -> Cow<'_, [u8]> {
    if !body.starts_with(&[0x1f, 0x8b]) {
        return body.into();
    }
    let mut out = Vec::new();
    let limit = limits::PAGE as u64;
    // What comes before a fault counts.
    let _ = flate2::read::MultiGzDecoder::new(body).take(limit).read_to_end(&mut out);
    out.into()
}

/// The pages of a sitemap: of XML, or one address a line (sitemaps.org).
fn list(
    memory: &mut Memory,
    site: &Site<'_>,
    url: &Url,
    body: &[u8],
    charset: Option<&str>,
) -> Read {
    let decoded = decode(body, charset, TextKind::Xml);
    let links = match decoded.text.trim_start().starts_with('<') {
        true => xml_links(&decoded.text),
        false => lines(&decoded.text),
    };
    let user = User { page: 0, url: url.clone(), policies: Policies::default(), imports: None };
    used(memory, site, url, &Arc::new(user), links, decoded)
}

fn lines(text: &str) -> Vec<Link> {
    let web = |line: &str| line.starts_with("http://") || line.starts_with("https://");
    let each = text.lines().enumerate().filter(|(_, line)| web(line.trim()));
    let link = |(number, line): (usize, &str)| Link {
        kind: LinkKind::Page,
        usage: Usage::Followed,
        element: "line".into(),
        address: line.trim().to_owned(),
        at: Place { line: number + 1, column: 1 },
        span: 0..0,
    };
    each.map(link).collect()
}

/// What a part of a page names; its requests are those of the page.
fn used(
    memory: &mut Memory,
    site: &Site<'_>,
    url: &Url,
    user: &Arc<User>,
    links: Vec<Link>,
    decoded: Decoded<'_>,
) -> Read {
    let old = old_addresses(site, &decoded.text, &links);
    let found = links.into_iter().filter_map(|link| {
        let to = memory.join(site, &decoded, url, &link.address)?;
        Some(found(site, &user.url, &user.policies, link, to))
    });
    let links = found.collect();
    Read {
        links,
        old,
        user: Some(user.clone()),
        text: decoded.text.into_owned(),
        ..Read::default()
    }
}

fn page(
    memory: &mut Memory,
    site: &Site<'_>,
    url: &Url,
    id: super::store::Id,
    answer: &PageResponse,
) -> Read {
    let media = answer.media_type.as_str();
    let charset = answer.charset.as_deref();
    let says_html = media == "text/html" || (media.is_empty() && answer.body.contains(&b'<'));
    let strict = matches!(media, "application/xhtml+xml" | "image/svg+xml");
    if !says_html && !strict {
        // A feed, or a list of the site: links, and nothing else.
        return match media.ends_with("xml") {
            true => list(memory, site, url, &answer.body, charset),
            false => Read::default(),
        };
    }
    let kind = if says_html { TextKind::Html } else { TextKind::Xml };
    let decoded = decode(&answer.body, charset, kind);
    let mut page = match says_html {
        true => read_html(&decoded.text, true),
        false => read_xml(&decoded.text),
    };
    if decoded.text.trim_start().starts_with("<?php") {
        page.text.complaint = Some("the program itself is sent, not what it prints".into());
    }
    for value in answer.header("link") {
        page.links.extend(header_links(value));
    }
    if let Some((address, _)) = answer.header("refresh").find_map(refresh_target) {
        page.links.push(Link {
            kind: LinkKind::Page,
            usage: Usage::Followed,
            element: "Refresh header".into(),
            address: address.to_owned(),
            at: Place::default(),
            span: 0..0,
        });
    }
    let mut policies = Policies::default();
    answer.header("content-security-policy").for_each(|policy| policies.add_header(policy));
    page.policies.iter().for_each(|policy| policies.add_meta(policy));
    let tagged =
        answer.header("x-robots-tag").any(|tag| tag.to_ascii_lowercase().contains("noindex"));
    let hidden =
        tagged || page.robots.split([',', ' ']).any(|word| matches!(word, "noindex" | "none"));
    let Page {
        links, base, before_base, title, places, imports, text: words, asks_password, ..
    } = page;
    let base = base
        .and_then(|base| decoded.base(url, &base))
        .filter(|base| policies.allow_base(url, base))
        .unwrap_or_else(|| url.clone());
    let old = old_addresses(site, &decoded.text, &links);
    let found = links.into_iter().enumerate().filter_map(|(number, link)| {
        // A page is a click away: it is looked up when all of the page is there.
        let early = number < before_base && link.usage == Usage::Loaded;
        let base = if early { url } else { &base };
        let to = memory.join(site, &decoded, base, &link.address)?;
        Some(found(site, url, &policies, link, to))
    });
    let links = found.collect();
    let user = User { page: id, url: url.clone(), policies, imports };
    Read {
        is_page: true,
        title,
        links,
        old,
        words,
        places,
        asks_password,
        hidden,
        robots: None,
        user: Some(Arc::new(user)),
        text: decoded.text.into_owned(),
    }
}

/// What a browser makes of an address.
fn found(site: &Site<'_>, page: &Url, policies: &Policies, link: Link, to: Arc<Joined>) -> Found {
    let request = request(page, &to.url, link.kind, policies);
    let lifted = match request {
        Request::Upgraded | Request::UpgradedByPolicy => Some(over_https(&to.url)),
        _ => None,
    };
    let shown = matches!(link.usage, Usage::Loaded | Usage::Styled);
    // Sound and film are held against the policy as they are written.
    let asked = lifted.as_ref().filter(|_| link.kind != LinkKind::Media).unwrap_or(&to.url);
    let refused = policies.refuses(page, asked, link.kind).filter(|_| shown).map(str::to_owned);
    // A page that lifts all its requests to https is linked there, too.
    let to = match (request, lifted) {
        (Request::UpgradedByPolicy, Some(lifted)) => Joined::new(site, lifted).map_or(to, Arc::new),
        _ => to,
    };
    Found { link, to, request, refused }
}

/// Addresses of the old site, each with the element that it stands in.
fn old_addresses(site: &Site<'_>, text: &str, links: &[Link]) -> Vec<OldAddress> {
    let Some(old) = site.old else { return Vec::new() };
    let found = old.look(text.as_bytes());
    let edits = found.edits.iter().filter(|edit| edit.replaced.is_some());
    let (mut line, mut begins, mut counted) = (1, 0, 0);
    let mut spans: Vec<(usize, usize, usize)> = links
        .iter()
        .enumerate()
        .filter(|(_, link)| !link.span.is_empty())
        .map(|(number, link)| (link.span.start, link.span.end, number))
        .collect();
    spans.sort_unstable();
    let mut of_place: std::collections::HashMap<Place, usize> = std::collections::HashMap::new();
    for (number, link) in links.iter().enumerate() {
        of_place.entry(link.at).or_insert(number);
    }
    let mut next = 0;
    let mut out = Vec::new();
    for edit in edits {
        let start = edit.range.start;
        let between = text.as_bytes().get(counted..start).unwrap_or_default();
        if let Some(last) = memchr::memrchr(b'\n', between) {
            line += memchr::memchr_iter(b'\n', between).count();
            begins = counted + last + 1;
        }
        counted = start.max(counted);
        let in_line = text.get(begins..start).unwrap_or_default();
        // A page of one long line is not counted from its beginning for each address.
        let column = match in_line.len() < 64 << 10 {
            true => in_line.chars().count() + 1,
            false => in_line.len() + 1,
        };
        let at = Place { line, column };
        let rest = text.get(start..).unwrap_or_default();
        let end = rest.bytes().take(300).position(|c| b" \t\r\n\"'<>)".contains(&c));
        let mut end = end.unwrap_or(rest.len().min(300));
        while !rest.is_char_boundary(end) {
            end -= 1;
        }
        let address = rest[..end].to_owned();
        while spans.get(next).is_some_and(|(_, end, _)| *end <= start) {
            next += 1;
        }
        let around = spans[next.min(spans.len())..]
            .iter()
            .take_while(|(begin, _, _)| *begin <= start)
            .take(64)
            .find(|(_, end, number)| *end > start && links[*number].address.starts_with(&*address));
        let direct = of_place.get(&at).copied();
        let link = direct.or(around.map(|(_, _, number)| *number)).map(|number| &links[number]);
        let (element, markup) = match link {
            Some(link) => {
                let written = text.get(link.span.clone()).unwrap_or_default();
                (link.element.clone(), cut(written).to_owned())
            }
            None => (Cow::Borrowed("text"), String::new()),
        };
        out.push(OldAddress { element, at, address, markup });
    }
    out
}
