//! The findings of a scan as a document.

use super::counted;
use super::{Document, Item, Section, made};
use fernweh_core::finding::{Code, Severity};
use fernweh_flow::scan::ScanReport;
use fernweh_flow::trace::{TraceReport, TracedPlace};

/// A scan: the findings by weight, with where their addresses live if that was traced.
pub fn of_scan(
    report: &ScanReport,
    traced: Option<&TraceReport>,
    shown: &dyn Fn(&TracedPlace) -> String,
) -> Document {
    let of = |severity| report.of(severity).findings;
    let heavy = of(Severity::Broken) + of(Severity::Insecure);
    let warnings = of(Severity::Warning);
    let headline = match (heavy, warnings) {
        (0, 0) if report.bounded => "Nothing wrong so far, and not everything was read".to_owned(),
        (0, 0) => "Nothing wrong was found".to_owned(),
        (0, _) => format!("Nothing is broken, {}", counted(warnings, "warning", "warnings")),
        (_, 0) => format!("{} broken", counted(heavy, "thing is", "things are")),
        _ => format!(
            "{} broken, {}",
            counted(heavy, "thing is", "things are"),
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
    let number = report.of_code(code).findings;
    let findings = report.findings.iter().filter(|finding| finding.code == code);
    let items = findings.map(|finding| {
        let mut lines = Vec::new();
        if !finding.detail.is_empty() {
            lines.push(finding.detail.clone());
        }
        lines.extend(finding.places.iter().map(|spot| {
            let at = format!("line {}:{}, {}", spot.line, spot.column, spot.element);
            match &spot.sheet {
                Some(sheet) => format!("on {}, in {sheet}, {at}", spot.page),
                None => format!("on {}, {at}", spot.page),
            }
        }));
        let more = finding.occurrences.saturating_sub(finding.places.len() as u64);
        if more > 0 && !finding.places.is_empty() {
            lines.push(format!("and {} more", counted(more, "place", "places")));
        }
        let address = finding.written();
        let found = traced.and_then(|traced| traced.texts.iter().find(|one| one.text == address));
        if let Some(found) = found {
            lines.extend(found.places.iter().map(|place| format!("stored in {}", shown(place))));
            if found.found == 0 {
                lines.push("in no record and no file: created by the site's code".into());
            }
        }
        Item { title: finding.address.clone(), lines }
    });
    let items: Vec<Item> = items.collect();
    let weight = match code.severity() {
        Severity::Broken | Severity::Insecure => "broken",
        Severity::Warning | Severity::Note => "warning",
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
