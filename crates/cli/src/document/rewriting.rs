//! The numbers of a rewriting as a document.

use super::{Document, Item, Section, Shown, made};
use super::{count, counted};
use fernweh_core::rewrite::{Reason, Tally};
use fernweh_flow::report::RewriteReport;
use fernweh_ports::Refused;
use std::collections::BTreeMap;

/// A rewriting: what was done or would be, place by place.
pub fn of_rewriting(
    title: String,
    applied: bool,
    report: &RewriteReport,
    refused: &[Refused],
) -> Document {
    let (cells, files) = (report.database_total(), report.files_total());
    let addresses = cells.replacements + files.replacements;
    let left = cells.left_total() + files.left_total();
    let verb = if applied { "were rewritten" } else { "would be rewritten" };
    let headline = match (addresses, left) {
        (0, 0) => "No old address was found".to_owned(),
        (0, _) => format!("Nothing to rewrite; {} are left", addresses_of(left)),
        (_, 0) => format!("{} {verb}, all there are", addresses_of(addresses)),
        _ => format!("{} {verb}, {} are left", addresses_of(addresses), count(left)),
    };
    let mut facts: Vec<(&'static str, String)> = Vec::new();
    for (n, rule) in report.rules.iter().enumerate() {
        facts.push((if n == 0 { "rules" } else { "" }, format!("{} → {}", rule.from, rule.to)));
    }
    facts.push(("cells", format!("{} read, {} change", count(cells.seen), count(cells.changed))));
    facts.push(("files", format!("{} read, {} change", count(files.seen), count(files.changed))));
    if cells.mended + files.mended > 0 {
        let mended = counted(cells.mended + files.mended, "serialized value", "serialized values");
        facts.push(("mended", format!("{mended} whose lengths were wrong")));
    }
    let mut sections = leftovers(report);
    if !refused.is_empty() {
        sections.push(Section {
            title: "Cells that could not be changed".into(),
            weight: "warning",
            items: refused
                .iter()
                .map(|one| Item { title: one.place.clone(), lines: vec![one.because.clone()] })
                .collect(),
            ..Section::default()
        });
    }
    sections.extend([places(report), spellings(report), samples(report)]);
    sections
        .retain(|part| !(part.rows.is_empty() && part.items.is_empty() && part.samples.is_empty()));
    Document { title, headline, facts, sections, made: made() }
}

fn addresses_of(number: u64) -> String {
    counted(number, "address", "addresses")
}

fn places(report: &RewriteReport) -> Section {
    let busy = report.places().filter(|(_, tally)| tally.changed > 0 || tally.left_total() > 0);
    let row = |(place, tally): (&str, &Tally)| {
        // A file counts as one.
        let numbers = [tally.seen.max(1), tally.changed, tally.replacements, tally.left_total()];
        std::iter::once(place.to_owned()).chain(numbers.map(count)).collect()
    };
    Section {
        title: "Where".into(),
        head: vec!["column or file", "#seen", "#changed", "#addresses", "#left"],
        rows: busy.map(row).collect(),
        ..Section::default()
    }
}

fn spellings(report: &RewriteReport) -> Section {
    let mut found: BTreeMap<&String, u64> = BTreeMap::new();
    for (spelling, number) in report.places().flat_map(|(_, tally)| &tally.spellings) {
        *found.entry(spelling).or_default() += number;
    }
    Section {
        title: "Spellings".into(),
        head: vec!["spelling", "#addresses"],
        rows: found.into_iter().map(|(name, number)| vec![name.clone(), count(number)]).collect(),
        ..Section::default()
    }
}

/// What was left, one section for each reason.
fn leftovers(report: &RewriteReport) -> Vec<Section> {
    let mut reasons: BTreeMap<Reason, (u64, Vec<Item>)> = BTreeMap::new();
    for (place, tally) in report.places() {
        for (reason, number) in &tally.left {
            reasons.entry(*reason).or_default().0 += number;
        }
        for leftover in &tally.leftovers {
            let title = format!("{place}, {}", leftover.place);
            let lines = vec![leftover.excerpt.clone()];
            reasons.entry(leftover.reason).or_default().1.push(Item { title, lines });
        }
    }
    let section = |(reason, (number, items)): (Reason, (u64, Vec<Item>))| Section {
        title: format!("Left: {} ({})", reason.words(), count(number)),
        weight: "warning",
        remedy: reason.remedy().into(),
        items,
        ..Section::default()
    };
    reasons.into_iter().map(section).collect()
}

fn samples(report: &RewriteReport) -> Section {
    let shown = report.places().flat_map(|(place, tally)| {
        tally.samples.iter().map(move |sample| Shown {
            place: format!("{place}, {}", sample.place),
            lead: sample.lead.clone(),
            before: sample.before.clone(),
            after: sample.after.clone(),
            trail: sample.trail.clone(),
        })
    });
    Section {
        title: "Samples, before and after".into(),
        samples: shown.collect(),
        ..Section::default()
    }
}
