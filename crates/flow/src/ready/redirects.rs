//! Other spellings of the site's address, and the old one: each leads in one step, for good, to
//! the same page of the site.

use super::certificate::not_known;
use super::landing::{Fault, Goal, follow};
use super::web::{Web, told};
use super::{Found, Looking, Looks, Topic};
use crate::effect::{MADE_UP, twin};
use crate::outcome::Of;
use fernweh_core::address::WebAddress;
use fernweh_core::finding::Verdict;
use fernweh_core::page::LinkKind;
use fernweh_ports::{HostAddress, PageProblem, SiteAccess};
use std::collections::BTreeSet;
use url::Url;

pub(super) struct Redirects;

const TOPIC: Topic = Topic::Redirects;
/// Pages of the site that are tried beside it.
const PAGES: usize = 3;

impl Looks for Redirects {
    fn look(&self, at: &Looking<'_>) -> Vec<Found> {
        let Some(web) = &at.web else { return vec![not_known(at, TOPIC)] };
        let paths = paths(at, web);
        let mut found = Vec::new();
        let mut starts: Vec<String> = Vec::new();
        for (number, host) in at.hosts().iter().enumerate() {
            let is_own = number == 0;
            let led = at.names.of_host(number).is_some_and(|answer| !answer.addresses.is_empty());
            if !is_own && !led {
                continue;
            }
            let port = at.url.port;
            if at.is_secure() && port.is_none() {
                starts.push(format!("http://{host}"));
            }
            if !is_own {
                let port = port.map(|port| format!(":{port}")).unwrap_or_default();
                starts.push(format!("{}://{host}{port}", at.url.scheme.name()));
            }
        }
        found.extend(front(at, web));
        let all: Vec<_> = std::thread::scope(|scope| {
            let follow = |start: &String| {
                let (start, paths) = (start.clone(), &paths);
                scope.spawn(move || lands(at, web, &start, "", paths, false))
            };
            let all: Vec<_> = starts.iter().map(follow).collect();
            all.into_iter().filter_map(|one| one.join().ok()).collect()
        });
        found.extend(together(at, all.into_iter().flatten().collect()));
        if let (Some(old), Some(from), false) = (at.old_url(), at.from, at.is_before()) {
            found.extend(old_ones(at, from, old, &paths));
        }
        found
    }
}

/// Paths to try: of pages that the last scan opened, or that the first page links to.
fn paths(at: &Looking<'_>, web: &Web<'_>) -> Vec<String> {
    let scanned = at.outcome(Of::Scan);
    let pages = scanned.map(|scan| scan.pages).unwrap_or_default();
    let below = |path: &String| path.strip_prefix(at.url.path.as_str()).map(str::to_owned);
    let mut paths: Vec<String> = pages.iter().filter_map(below).collect();
    if paths.is_empty() {
        paths = linked(at, web);
    }
    paths.truncate(PAGES);
    if paths.is_empty() {
        paths.push("/".into());
    }
    paths.push(MADE_UP.into());
    paths
}

/// Pages to which the first page links, as paths below the site's folder.
fn linked(at: &Looking<'_>, web: &Web<'_>) -> Vec<String> {
    let Some((base, page)) = web.front_page(&at.url) else { return Vec::new() };
    let mut paths = BTreeSet::new();
    for link in page.links.iter().filter(|link| link.kind == LinkKind::Page) {
        let Ok(to) = base.join(&link.address) else { continue };
        if to.origin() == base.origin() && to.query().is_none() && to.path() != base.path() {
            paths.extend(to.path().strip_prefix(at.url.path.as_str()).map(str::to_owned));
        }
    }
    paths.into_iter().take(PAGES).collect()
}

/// Folders of the site from which the first page takes pictures, styles and the like.
pub(super) fn linked_folders(at: &Looking<'_>, web: &Web<'_>) -> BTreeSet<Url> {
    let Some((base, page)) = web.front_page(&at.url) else { return BTreeSet::new() };
    let parts = page.links.iter().filter(|link| link.kind.is_resource());
    let folders = parts.filter_map(|link| base.join(&link.address).ok()?.join(".").ok());
    let own = |url: &Url| url.origin() == base.origin() && url.path() != base.path();
    folders.filter(own).take(4 * PAGES).collect()
}

/// What is as it should be, in one line.
fn together(at: &Looking<'_>, found: Vec<Found>) -> Vec<Found> {
    let (passed, mut other): (Vec<Found>, Vec<Found>) =
        found.into_iter().partition(|one| one.verdict == Verdict::Passed);
    if !passed.is_empty() {
        let starts: Vec<&str> =
            passed.iter().filter_map(|one| one.what.split(' ').next()).collect();
        let verb = if starts.len() == 1 { "leads" } else { "lead" };
        let (starts, to) = (starts.join(", "), at.url.origin());
        let what = format!("{starts} {verb} to {to} in one step, path and query kept");
        let evidence = passed.into_iter().flat_map(|one| one.evidence);
        other.push(Found::passed(TOPIC, "redirect", what).seen(evidence));
    }
    other
}

/// Whether every path below `start` leads to the site.
fn lands(
    at: &Looking<'_>,
    web: &Web<'_>,
    start: &str,
    folder: &str,
    paths: &[String],
    is_old: bool,
) -> Vec<Found> {
    let Some(goal) = Goal::of(at) else { return Vec::new() };
    let to = at.url.origin();
    let mut faults: Vec<(Fault, Vec<String>)> = Vec::new();
    let mut first = Vec::new();
    for path in paths {
        let Ok(url) = Url::parse(&format!("{start}{folder}{path}")) else { continue };
        let landing = follow(web, &goal, &url, path);
        if first.is_empty() {
            first.clone_from(&landing.evidence);
        }
        for fault in landing.faults {
            if !faults.iter().any(|(known, _)| *known == fault) {
                faults.push((fault, landing.evidence.clone()));
            }
        }
        // What does not answer is not asked again and again.
        if faults.iter().any(|(fault, _)| *fault == Fault::Unreachable) {
            break;
        }
    }
    if faults.is_empty() {
        let code = if is_old { "old-redirect" } else { "redirect" };
        let what = format!("{start} leads to {to} in one step, path and query kept");
        return vec![Found::passed(TOPIC, code, what).seen(first)];
    }
    faults.sort();
    let found = faults.into_iter().map(|(fault, evidence)| {
        let what = fault.words(start, &to);
        let hint = fault.hint(at, is_old);
        let found = match fault.is_grave() {
            true => Found::failed(TOPIC, fault.code(), what, hint),
            false => Found::warned(TOPIC, fault.code(), what, hint),
        };
        found.seen(evidence)
    });
    found.collect()
}

/// Whether the site's own first page stays where it is.
fn front(at: &Looking<'_>, web: &Web<'_>) -> Vec<Found> {
    let Ok(start) = Url::parse(&format!("{}/", at.url)) else { return Vec::new() };
    let front = web.front(&at.url);
    let evidence = told(&start, front);
    let answer = match front {
        Ok(answer) => answer,
        Err(problem) => return vec![silent(at, &start, problem).seen([evidence])],
    };
    let next = match (answer.status, &answer.location) {
        (300..=399, Some(to)) => start.join(to).ok(),
        _ => None,
    };
    match next {
        Some(next) if next.origin() != start.origin() => vec![
            Found::failed(
                TOPIC,
                "leads-away",
                format!("{start} leads away, to {next}"),
                match next.host_str() == Some(&at.url.host) {
                    true => "visitors go round in circles: correct the rule of the web server",
                    false => "correct the rule of the web server, or the url of the site",
                },
            )
            .seen([evidence]),
        ],
        _ if answer.status >= 400 && answer.status != 401 => vec![
            Found::failed(
                TOPIC,
                "front-broken",
                format!("{start} answers with status {}", answer.status),
                "open it in a browser and read the log of the web server",
            )
            .seen([evidence]),
        ],
        _ => Vec::new(),
    }
}

fn silent(at: &Looking<'_>, start: &Url, problem: &PageProblem) -> Found {
    let place = at.web.as_ref().map(|web| web.place.https).filter(|_| at.is_secure());
    let place = place.map(|place| format!(" at {place}")).unwrap_or_default();
    Found::failed(
        TOPIC,
        "front-silent",
        format!("{start} does not answer{place}: {problem}"),
        "check that the web server runs, and that connect-to is its address",
    )
}

/// Whether the old site leads to the new one.
fn old_ones(
    at: &Looking<'_>,
    from: &dyn SiteAccess,
    old: &WebAddress,
    paths: &[String],
) -> Vec<Found> {
    let led = at.names.old.clone().unwrap_or_default();
    let place = match from.host_address() {
        // The old name may have moved with the site.
        Ok(Some(place))
            if led.addresses.is_empty()
                || led
                    .addresses
                    .iter()
                    .any(|address| [place.http.ip(), place.https.ip()].contains(address)) =>
        {
            Some(place)
        }
        _ => None,
    };
    let new = || {
        let web = at.web.as_ref()?;
        led.addresses.contains(&web.place.https.ip()).then_some(web.place)
    };
    let usual = || led.addresses.iter().next().map(|ip| HostAddress::usual(*ip));
    let Some(place) = place.or_else(new).or_else(usual) else {
        return vec![Found::failed(
            TOPIC,
            "old-gone",
            format!("the old address {old} leads nowhere: its name has no address"),
            "keep the old name, and let it lead to a host that redirects",
        )];
    };
    let web = match Web::open(from, place, &[old.host.clone(), twin(old)]) {
        Ok(web) => web,
        Err(trouble) => {
            return vec![Found::failed(TOPIC, "not-looked-at", trouble.to_string(), "")];
        }
    };
    let mut found = lands(at, &web, &old.origin(), &old.path, paths, true);
    // An encrypted old address stands in many links, if there ever was one.
    if old.port.is_none() && old.scheme.name() == "http" {
        let secure = Url::parse(&format!("https://{}{}/", old.host, old.path));
        if secure.is_ok_and(|url| web.head(&url).is_ok()) {
            let start = format!("https://{}", old.host);
            found.extend(lands(at, &web, &start, &old.path, paths, true));
        }
    }
    found
}
