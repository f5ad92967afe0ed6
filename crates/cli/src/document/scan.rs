//! The findings of a scan as a document.

use super::counted;
use super::{Document, Item, Section, made};
use fernweh_core::finding::{Code, Finding, Severity};
use fernweh_flow::scan::ScanReport;
use fernweh_flow::trace::{TraceReport, TracedPlace};
use std::collections::BTreeMap;

/// A scan: the findings by weight, with where their addresses live if that was traced.
pub fn of_scan(
    report: &ScanReport,
    traced: Option<&TraceReport>,
    shown: &dyn Fn(&TracedPlace) -> String,
) -> Document {
    let of = |severity| {
        report.findings.iter().filter(|found| found.code.severity() == severity).count() as u64
    };
    let (broken, warnings) = (of(Severity::Broken), of(Severity::Warning));
    let headline = match (broken, warnings) {
        (0, 0) => "Nothing wrong was found".to_owned(),
        (0, _) => format!("Nothing is broken, {}", counted(warnings, "warning", "warnings")),
        (_, 0) => format!("{} broken", counted(broken, "thing is", "things are")),
        _ => format!(
            "{} broken, {}",
            counted(broken, "thing is", "things are"),
            counted(warnings, "warning", "warnings")
        ),
    };
    let mut facts = vec![
        ("site", report.start.clone()),
        ("read", counted(report.pages, "page", "pages")),
        ("", counted(report.resources, "part of pages", "parts of pages")),
    ];
    if report.external + report.external_skipped > 0 {
        let (asked, skipped) = (report.external, report.external_skipped);
        facts.push((
            "other hosts",
            format!("{} checked, {skipped} not", counted(asked, "address", "addresses")),
        ));
    }
    if report.bounded {
        facts.push(("bounded", "the scan stopped at its limit; there may be more".into()));
    }
    let sections = Code::ALL.iter().filter_map(|code| section(*code, report, traced, shown));
    let sections = sections.collect();
    Document { title: "Scan of a site".into(), headline, facts, sections, made: made() }
}

fn section(
    code: Code,
    report: &ScanReport,
    traced: Option<&TraceReport>,
    shown: &dyn Fn(&TracedPlace) -> String,
) -> Option<Section> {
    // One fault on a hundred pages is one fault.
    let mut groups: BTreeMap<(&str, &str), Vec<&Finding>> = BTreeMap::new();
    for finding in report.findings.iter().filter(|finding| finding.code == code) {
        groups.entry((&finding.address, &finding.detail)).or_default().push(finding);
    }
    let number: usize = groups.values().map(Vec::len).sum();
    let items = groups.into_iter().map(|((address, detail), places)| {
        let mut lines = Vec::new();
        if !detail.is_empty() {
            lines.push(detail.to_owned());
        }
        lines.extend(places.iter().map(|finding| match &finding.sheet {
            Some(sheet) => format!(
                "on {}, in {sheet}, line {}, {}",
                finding.page, finding.line, finding.element
            ),
            None => format!("on {}, line {}, {}", finding.page, finding.line, finding.element),
        }));
        let found = traced.and_then(|traced| traced.texts.iter().find(|one| one.text == address));
        if let Some(found) = found {
            lines.extend(found.places.iter().map(|place| format!("stored in {}", shown(place))));
            if found.found == 0 {
                lines.push("in no record and no file: created by the site's code".into());
            }
        }
        Item { title: address.to_owned(), lines }
    });
    let items: Vec<Item> = items.collect();
    let weight = match code.severity() {
        Severity::Broken => "broken",
        Severity::Warning => "warning",
    };
    let title = format!("{} ({number})", capital(code.words()));
    let remedy = code.remedy().to_owned();
    (!items.is_empty()).then(|| Section { title, weight, remedy, items, ..Section::default() })
}

fn capital(words: &str) -> String {
    // A scheme is written small.
    if words.starts_with("http") {
        return words.to_owned();
    }
    let mut letters = words.chars();
    letters.next().map(|first| first.to_uppercase().chain(letters).collect()).unwrap_or_default()
}
