//! The findings of a scan as a page of its own.

use super::{count, counted, made, write_page};
use crate::render::within_site;
use fernweh_core::finding::{Code, Finding, Severity};
use fernweh_flow::scan::{Folder, ScanReport};
use fernweh_flow::trace::{TraceReport, TracedPlace};
use fernweh_ports::Result;
use serde::Serialize;
use std::path::Path;
use url::Url;

/// Folders that are drawn; the others are one more.
const FOLDERS: usize = 24;

/// Bytes of findings that a page holds: with more, browsers are slow, and nobody reads it.
const ROOM: usize = 1_800_000;
/// Findings of each kind that are shown whatever there is of others.
const OF_EACH_KIND: usize = 50;

const LAYOUT: &str = include_str!("scan.html");

/// What the layout shows.
#[derive(Serialize)]
struct Shown {
    start: String,
    headline: String,
    facts: Vec<(&'static str, String)>,
    severities: Vec<&'static str>,
    kinds: Vec<Kind>,
    folders: Vec<Drawn>,
    made: String,
}

/// Findings of one kind and weight.
#[derive(Serialize)]
struct Kind {
    severity: &'static str,
    code: String,
    words: &'static str,
    remedy: &'static str,
    findings: String,
    places: String,
    items: Vec<Item>,
    /// That there are more.
    left: String,
}

#[derive(Serialize)]
struct Item {
    id: String,
    title: String,
    link: Option<String>,
    detail: String,
    places: Vec<Spot>,
    more: Vec<String>,
}

#[derive(Serialize)]
struct Spot {
    page: String,
    path: String,
    at: String,
    markup: String,
}

/// A folder as a bar.
#[derive(Serialize)]
struct Drawn {
    path: String,
    width: f64,
    parts: Vec<(&'static str, u64)>,
    words: String,
}

/// Writes the findings of a scan, with where their addresses live if that was traced.
pub fn write_scan(
    path: &Path,
    report: &ScanReport,
    traced: Option<&TraceReport>,
    shown: &dyn Fn(&TracedPlace) -> String,
) -> Result<()> {
    let origin = Url::parse(&report.start).map(|url| url.origin().ascii_serialization());
    let origin = origin.unwrap_or_default();
    let mut kinds = Vec::new();
    for severity in Severity::ALL {
        for code in Code::ALL {
            let of = |finding: &&Finding| finding.code == code && finding.severity == severity;
            let found: Vec<&Finding> = report.findings.iter().filter(of).collect();
            if !found.is_empty() {
                kinds.push(kind(severity, code, &found, &origin, traced, shown));
            }
        }
    }
    // Two weights of one kind have two anchors.
    for number in 1..kinds.len() {
        if kinds[..number].iter().any(|earlier| earlier.code == kinds[number].code) {
            let severity = kinds[number].severity;
            kinds[number].code.push_str(&format!("-{severity}"));
        }
    }
    bound(&mut kinds);
    let mut severities: Vec<&'static str> = kinds.iter().map(|kind| kind.severity).collect();
    severities.dedup();
    let page = Shown {
        start: report.start.clone(),
        headline: headline(report),
        facts: facts(report),
        severities,
        kinds,
        folders: drawn(&report.folders),
        made: made(),
    };
    write_page(path, LAYOUT, &page)
}

/// Leaves out findings beyond what a page can hold; of each kind some stay.
fn bound(kinds: &mut [Kind]) {
    let mut room = ROOM;
    let mut kept = vec![0; kinds.len()];
    for most in [OF_EACH_KIND, usize::MAX] {
        for (kind, kept) in kinds.iter().zip(&mut kept) {
            for item in kind.items.iter().take(most).skip(*kept) {
                let Some(left) = room.checked_sub(item.weight()) else { break };
                room = left;
                *kept += 1;
            }
        }
    }
    for (kind, kept) in kinds.iter_mut().zip(kept) {
        let left = kind.items.len() - kept;
        if left > 0 {
            kind.items.truncate(kept);
            let findings = counted(left as u64, "more finding", "more findings");
            kind.left = format!("{findings}: --csv and --json list all of them");
        }
    }
}

impl Item {
    /// Bytes that it takes in the page, about.
    fn weight(&self) -> usize {
        let place = |spot: &Spot| {
            // Of an element as it is written, a few characters are escaped.
            spot.page.len() + spot.path.len() + spot.at.len() + spot.markup.len() * 3 / 2 + 40
        };
        let link = self.link.as_ref().map_or(0, String::len);
        let more: usize = self.more.iter().map(|line| line.len() + 6).sum();
        let places: usize = self.places.iter().map(place).sum();
        self.title.len() + link + self.detail.len() + places + more + 100
    }
}

fn headline(report: &ScanReport) -> String {
    let of = |severity| report.of(severity).findings;
    let broken = of(Severity::Broken) + of(Severity::Insecure);
    let warnings = of(Severity::Warning);
    match (broken, warnings) {
        (0, 0) if report.bounded => "Nothing wrong so far, and not everything was read".into(),
        (0, 0) => "Nothing wrong was found".into(),
        (0, _) => format!("Nothing is broken, {}", counted(warnings, "warning", "warnings")),
        (_, 0) => counted(broken, "thing is broken", "things are broken"),
        _ => format!(
            "{}, {}",
            counted(broken, "thing is broken", "things are broken"),
            counted(warnings, "warning", "warnings")
        ),
    }
}

fn facts(report: &ScanReport) -> Vec<(&'static str, String)> {
    let mut facts = vec![(
        "read",
        format!(
            "{}, {}",
            counted(report.pages, "page", "pages"),
            counted(report.resources, "part of pages", "parts of pages")
        ),
    )];
    if report.external + report.external_skipped > 0 {
        let asked = counted(report.external, "address", "addresses");
        let skipped = count(report.external_skipped);
        facts.push(("other hosts", format!("{asked} checked, {skipped} not")));
    }
    if report.robots_skipped > 0 {
        let left = counted(report.robots_skipped, "address", "addresses");
        facts.push(("robots.txt", format!("{left} closed to robots, and not read")));
    }
    if report.not_followed_total > 0 {
        let left = counted(report.not_followed_total, "link", "links");
        facts.push(("not opened", format!("{left} that would log out or delete")));
    }
    for endless in &report.endless {
        let left = counted(endless.left, "address", "addresses");
        facts.push(("cut off", format!("{}: {left}, all nearly the same", endless.shape)));
    }
    for limit in &report.limits {
        facts.push(("limit", format!("{}, at {}", limit.limit, limit.at)));
    }
    facts
}

fn kind(
    severity: Severity,
    code: Code,
    found: &[&Finding],
    origin: &str,
    traced: Option<&TraceReport>,
    shown: &dyn Fn(&TracedPlace) -> String,
) -> Kind {
    let places = found.iter().map(|finding| finding.occurrences).sum();
    Kind {
        severity: severity.name(),
        code: code.name().to_owned(),
        words: code.words(),
        remedy: code.remedy(),
        findings: count(found.len() as u64),
        places: count(places),
        items: found.iter().map(|finding| item(finding, origin, traced, shown)).collect(),
        left: String::new(),
    }
}

fn item(
    finding: &Finding,
    origin: &str,
    traced: Option<&TraceReport>,
    shown: &dyn Fn(&TracedPlace) -> String,
) -> Item {
    let short = |address: &str| within_site(address, origin);
    let places = finding.places.iter().map(|spot| {
        let at = match spot.element.as_str() {
            "page" => String::new(),
            element => format!("{}:{} {element}", spot.line, spot.column),
        };
        let at = match &spot.sheet {
            Some(sheet) => format!("through {} {at}", short(sheet)),
            None => at,
        };
        let (page, path, markup) = (spot.page.clone(), short(&spot.page), spot.markup.clone());
        Spot { page, path, at, markup }
    });
    let mut more = Vec::new();
    let left = finding.occurrences.saturating_sub(finding.places.len() as u64);
    if left > 0 && !finding.places.is_empty() {
        let pages = counted(finding.pages, "page", "pages");
        more.push(format!("and {} more, on {pages} in all", counted(left, "place", "places")));
    }
    let written = finding.written();
    if let Some(found) = traced.and_then(|it| it.texts.iter().find(|one| one.text == written)) {
        more.extend(found.places.iter().map(|place| format!("stored in {}", shown(place))));
        if found.found == 0 {
            more.push("in no record and no file: created by the site's code".into());
        }
        let rule =
            traced.and_then(|it| it.proposed.iter().find(|rule| begins(written, &rule.from)));
        more.extend(rule.map(|rule| {
            let note = rule.note.as_ref().map(|note| format!(", {note}")).unwrap_or_default();
            format!("a rule would change it: from {} to {}{note}", rule.from, rule.to)
        }));
    }
    let web = finding.address.starts_with("http://") || finding.address.starts_with("https://");
    Item {
        id: finding.id.clone(),
        title: short(&finding.address),
        link: web.then(|| finding.address.clone()),
        detail: short(&finding.detail),
        places: places.collect(),
        more,
    }
}

/// Whether an address lies at or below another one, however its scheme is written.
fn begins(address: &str, from: &str) -> bool {
    let bare = |text: &str| {
        let text = text.split_once("//").map_or(text, |(_, rest)| rest).to_ascii_lowercase();
        text.strip_prefix("www.").map(str::to_owned).unwrap_or(text)
    };
    let rest = bare(address);
    let rest = rest.strip_prefix(bare(from).trim_end_matches('/'));
    rest.is_some_and(|rest| rest.is_empty() || rest.starts_with(['/', '?', '#']))
}

/// The largest folders, and the rest as one.
fn drawn(folders: &[Folder]) -> Vec<Drawn> {
    let mut folders = folders.to_vec();
    folders.sort_by(|a, b| b.pages.cmp(&a.pages).then_with(|| a.path.cmp(&b.path)));
    if folders.len() > FOLDERS {
        let rest = folders.split_off(FOLDERS - 1);
        let path = format!("{} more folders", rest.len());
        folders.push(rest.into_iter().fold(Folder { path, ..Folder::default() }, |sum, each| {
            Folder {
                pages: sum.pages + each.pages,
                broken: sum.broken + each.broken,
                insecure: sum.insecure + each.insecure,
                warnings: sum.warnings + each.warnings,
                ..sum
            }
        }));
    }
    let most = folders.iter().map(|folder| folder.pages).max().unwrap_or(1).max(1);
    let bar = |folder: Folder| {
        let bad = folder.broken + folder.insecure + folder.warnings;
        let fine = folder.pages.saturating_sub(bad);
        let all =
            [("b", folder.broken), ("i", folder.insecure), ("w", folder.warnings), ("f", fine)];
        let pages = counted(folder.pages, "page", "pages");
        Drawn {
            width: (folder.pages as f64 / most as f64 * 1000.0).round() / 10.0,
            parts: all.into_iter().filter(|(_, number)| *number > 0).collect(),
            words: match bad {
                0 => pages,
                bad => format!("findings on {} of {pages}", count(bad)),
            },
            path: folder.path,
        }
    };
    folders.into_iter().map(bar).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use fernweh_core::finding::Spot as Place;

    #[test]
    fn a_page_stays_small_however_much_was_found_and_says_what_it_leaves_out() {
        let finding = |code: Code, number: usize| Finding {
            places: vec![Place {
                page: format!("https://www.glimmer-point.example/archive/{number}"),
                sheet: None,
                line: 12,
                column: 7,
                element: "a href".into(),
                address: format!("/reports/night-{number}"),
                markup: format!("<a class=\"entry\" href=\"/reports/night-{number}\">"),
            }],
            occurrences: 1,
            pages: 1,
            ..Finding::new(code, format!("https://www.glimmer-point.example/{number}"), "404")
        };
        let broken = (0..10_000).map(|number| finding(Code::BrokenLink, number));
        let notes = (0..60).map(|number| finding(Code::MissingPlace, number));
        let report = ScanReport {
            start: "https://www.glimmer-point.example/".into(),
            findings: broken.chain(notes).collect(),
            ..ScanReport::default()
        };
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("scan.html");
        write_scan(&path, &report, None, &|_| String::new()).unwrap();
        let page = std::fs::read_to_string(&path).unwrap();
        assert!(page.len() < 2_000_000, "{}", page.len());
        let shown = page.matches("<details ").count();
        assert!(shown > 4000, "{shown}");
        assert!(page.contains("more findings: --csv and --json list all of them"));
        let notes = page.split("id=\"missing-place\"").nth(1).unwrap();
        assert!(notes.matches("<details ").count() >= OF_EACH_KIND);
    }

    #[test]
    fn an_address_lies_below_the_one_that_a_rule_changes() {
        assert!(begins("http://cdn.example/a.png", "http://cdn.example"));
        assert!(begins("//www.cdn.example/a", "https://cdn.example/"));
        assert!(!begins("http://cdn.example.evil.test/a", "http://cdn.example"));
        assert!(!begins("/a", "http://cdn.example"));
    }
}
