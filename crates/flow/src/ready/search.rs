//! What the site tells search engines: that it may be listed, and under which address.

use super::certificate::not_known;
use super::web::told;
use super::{Found, Looking, Looks, Topic};
use fernweh_core::page::{LinkKind, Robots, xml_links};
use fernweh_ports::PageResponse;
use std::collections::BTreeSet;
use url::Url;

pub(super) struct Search;

const TOPIC: Topic = Topic::Search;
/// The robot whose rules count where a site names robots.
const ROBOT: &str = "googlebot";

impl Looks for Search {
    fn look(&self, at: &Looking<'_>) -> Vec<Found> {
        let Some(web) = &at.web else { return vec![not_known(at, TOPIC)] };
        let (Ok(front), Some((start, page))) = (web.front(&at.url), web.front_page(&at.url)) else {
            return vec![Found::failed(
                TOPIC,
                "not-looked-at",
                "not looked at: the first page does not answer",
                "see what is said of the redirects",
            )];
        };
        let shown = told(start, web.front(&at.url));
        let header: Vec<String> =
            front.header("x-robots-tag").map(str::to_ascii_lowercase).collect();
        let is_kept_out = |text: &str| {
            text.split([',', ' ', ':']).any(|word| matches!(word.trim(), "noindex" | "none"))
        };
        let in_header = header.iter().any(|text| is_kept_out(text));
        let in_page = is_kept_out(&page.robots);
        let robots = robots(at);
        let closes =
            robots.as_ref().is_some_and(|(robots, _)| !robots.allows(&at.url.path_or_root()));
        let mut found = match at.hidden {
            true => hidden(at, front, in_header || in_page, closes),
            false => listed(at, in_header, in_page, closes),
        };
        for one in &mut found {
            one.evidence.push(format!("{shown}, X-Robots-Tag: {}", of(&header)));
        }
        if at.hidden {
            return found;
        }
        found.extend(addresses(at, start, &page.links));
        found.extend(sitemap(at, start, robots.as_ref().map(|(robots, _)| robots)));
        found
    }
}

fn of(header: &[String]) -> String {
    if header.is_empty() { "none".into() } else { header.join(", ") }
}

/// The site's `robots.txt`; it counts only at the root of the host.
fn robots(at: &Looking<'_>) -> Option<(Robots, Url)> {
    let url = Url::parse(&at.url.origin()).ok()?.join("/robots.txt").ok()?;
    let answer = at.web.as_ref()?.page(&url).ok().filter(|answer| answer.status == 200)?;
    Some((Robots::read(&String::from_utf8_lossy(&answer.body), ROBOT), url))
}

trait Path {
    fn path_or_root(&self) -> String;
}

impl Path for fernweh_core::address::WebAddress {
    fn path_or_root(&self) -> String {
        format!("{}/", self.path)
    }
}

/// A site that is to be found.
fn listed(at: &Looking<'_>, in_header: bool, in_page: bool, closes: bool) -> Vec<Found> {
    let mut found = Vec::new();
    if closes {
        found.push(Found::failed(
            TOPIC,
            "robots-forbid",
            format!("robots.txt forbids search engines to read {}", at.url),
            "take the line Disallow: / out of robots.txt",
        ));
    }
    if in_header || in_page {
        let place = if in_header { "a header line (X-Robots-Tag)" } else { "a meta element" };
        found.push(Found::failed(
            TOPIC,
            "noindex",
            format!("{place} of the first page keeps search engines from listing it (noindex)"),
            format!(
                "take it out; if the site is a copy that nobody should find, set hidden = true in \
                 [site.{}]",
                at.site.name()
            ),
        ));
    }
    if found.is_empty() {
        found.push(Found::passed(TOPIC, "listed", "search engines may list the site"));
    }
    found
}

/// A copy that nobody is to find.
fn hidden(at: &Looking<'_>, front: &PageResponse, kept_out: bool, closes: bool) -> Vec<Found> {
    let site = at.site.name();
    if front.status == 401 {
        return vec![Found::passed(TOPIC, "hidden", "the site is hidden behind a password")];
    }
    let mut found = Vec::new();
    if !kept_out {
        found.push(Found::failed(
            TOPIC,
            "not-hidden",
            format!("site {site} is to be hidden, but search engines may list it"),
            format!(
                "fernweh rewrite {site} --apply places a rule for it; or put a password in front \
                 of the site"
            ),
        ));
    } else if closes {
        found.push(Found::warned(
            TOPIC,
            "robots-hide-noindex",
            "robots.txt keeps search engines from reading that they should not list the site",
            "take the line Disallow: / out of robots.txt",
        ));
    } else {
        found.push(Found::passed(
            TOPIC,
            "hidden",
            "search engines are asked not to list the site (noindex)",
        ));
    }
    found
}

/// Addresses under which the site itself says that it is found.
fn addresses(at: &Looking<'_>, start: &Url, links: &[fernweh_core::page::Link]) -> Vec<Found> {
    let own = start.origin();
    let mut found = Vec::new();
    let mut told = BTreeSet::new();
    for link in links.iter().filter(|link| link.kind == LinkKind::Alternate) {
        let Ok(to) = start.join(&link.address) else { continue };
        let what = match link.element.as_ref() {
            "link canonical" => "canonical",
            "link hreflang" => "hreflang",
            "meta og:url" => "open-graph",
            _ => continue,
        };
        if to.origin() == own || !told.insert((what, to.origin().ascii_serialization())) {
            continue;
        }
        let host = to.host_str().unwrap_or_default();
        let is_ours = at.hosts().iter().any(|known| known == host)
            || at.from.and_then(|from| from.url()).is_some_and(|old| old.stem_host() == stem(host));
        let evidence = format!("{start} line {}: {} {}", link.at.line, link.element, link.address);
        let hint = "rewrite it: fernweh rewrite, or set the address in the site's own settings";
        let statement = format!("the first page says that its address is {to} ({what})");
        let code = format!("{what}-elsewhere");
        found.push(
            match is_ours || what == "canonical" {
                // Another site in another language has a right to its own address.
                false if what == "hreflang" => continue,
                false => Found::warned(TOPIC, &code, statement, hint),
                true => Found::failed(TOPIC, &code, statement, hint),
            }
            .seen([evidence]),
        );
    }
    if found.is_empty() {
        let right = Found::passed(
            TOPIC,
            "addresses",
            "what the first page says of its own address is right",
        );
        let alternates = links.iter().filter(|link| link.kind == LinkKind::Alternate);
        let lines = alternates.map(|link| {
            format!("{start} line {}: {} {}", link.at.line, link.element, link.address)
        });
        found.push(right.seen(lines.take(8)));
    }
    found
}

fn stem(host: &str) -> &str {
    host.strip_prefix("www.").unwrap_or(host)
}

/// The sitemap, if there is one: its addresses are the site's.
fn sitemap(at: &Looking<'_>, start: &Url, robots: Option<&Robots>) -> Vec<Found> {
    let Some(web) = &at.web else { return Vec::new() };
    let named: Vec<Url> = robots
        .iter()
        .flat_map(|robots| &robots.sitemaps)
        .filter_map(|address| start.join(address).ok())
        .collect();
    let own = start.origin();
    if let Some(other) = named.iter().find(|url| url.origin() != own) {
        return vec![
            Found::failed(
                TOPIC,
                "sitemap-elsewhere",
                format!("robots.txt names a sitemap of another place: {other}"),
                "correct the line Sitemap: in robots.txt",
            )
            .seen([format!("{}/robots.txt → Sitemap: {other}", at.url.origin())]),
        ];
    }
    let usual = || start.join("sitemap.xml").ok();
    let Some(url) = named.first().cloned().or_else(usual) else { return Vec::new() };
    let fetched = web.page(&url);
    let evidence = told(&url, &fetched);
    let Ok(answer) = fetched else { return Vec::new() };
    if answer.status != 200 || !answer.media_type.ends_with("xml") {
        return match named.is_empty() {
            true => Vec::new(),
            false => vec![
                Found::warned(
                    TOPIC,
                    "sitemap-missing",
                    format!("robots.txt names {url}, which is no sitemap"),
                    "correct the line Sitemap: in robots.txt",
                )
                .seen([evidence]),
            ],
        };
    }
    let links = xml_links(&String::from_utf8_lossy(&answer.body));
    let all: Vec<Url> = links.iter().filter_map(|link| start.join(&link.address).ok()).collect();
    let other = all.iter().find(|to| to.origin() != own);
    vec![
        match other {
            Some(other) => Found::failed(
                TOPIC,
                "sitemap-elsewhere",
                format!("the sitemap names addresses of another place: {other}"),
                "let the site make its sitemap anew, or rewrite it: fernweh rewrite",
            ),
            None => Found::passed(
                TOPIC,
                "sitemap",
                format!(
                    "the sitemap names {} of the site",
                    fernweh_ports::counted(all.len() as u64, "address", "addresses")
                ),
            ),
        }
        .seen([evidence]),
    ]
}
