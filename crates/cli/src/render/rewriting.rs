//! The numbers of a rewriting, with samples before and after.

use super::{Page, Paint, Style, aligned, columns, count, counted, cut_middle};
use fernweh_core::rewrite::{Leftover, Reason, Sample, Tally};
use fernweh_flow::report::RewriteReport;
use fernweh_ports::natural;
use std::collections::BTreeMap;

/// Samples shown unless more detail is wanted.
const SAMPLES: usize = 5;
/// Leftovers shown per reason unless more detail is wanted.
const LEFTOVERS: usize = 4;

/// Writes a report of rewriting.
pub fn rewriting(page: &mut Page, style: Style, report: &RewriteReport) {
    let mut label = "rules";
    for rule in &report.rules {
        page.row(label, &format!("{} → {}", rule.from, rule.to));
        label = "";
    }
    if report.rules.is_empty() {
        page.row("rules", "none: addresses stay unchanged");
        if !report.mends {
            return;
        }
    }
    page.gap();
    places(page, style, report);
    mended(page, style, report);
    spellings(page, style, report);
    samples(page, style, report);
    leftovers(page, style, report);
}

fn places(page: &mut Page, style: Style, report: &RewriteReport) {
    let line = |name: &str, tally: &Tally| {
        vec![
            cut_middle(name, style.width.saturating_sub(60).max(26)),
            count(tally.seen),
            count(tally.changed),
            count(tally.replacements),
            count(tally.left_total()),
        ]
    };
    let head = ["changes", "seen", "changed", "addresses", "left"].map(String::from).to_vec();
    let mut rows = vec![head];
    let busy = |tally: &&Tally| tally.changed > 0 || tally.left_total() > 0;
    let mut columns: Vec<_> = report.columns.iter().filter(|(_, tally)| busy(tally)).collect();
    columns.sort_by(|one, other| natural(one.0, other.0));
    for (name, tally) in columns {
        rows.push(line(name, tally));
    }
    let database = report.database_total();
    if !report.columns.is_empty() {
        rows.push(line("all cells", &database));
    }
    let alone = report.files.iter().next().filter(|_| report.files_seen == 1);
    if let Some((name, tally)) = alone.filter(|_| report.columns.is_empty()) {
        // One file by itself: its texts count, if it is a script.
        rows.push(line(name, &Tally { seen: tally.seen.max(1), ..tally.clone() }));
    } else if report.files_seen > 0 {
        if style.verbose {
            let mut files: Vec<_> = report.files.iter().collect();
            files.sort_by(|one, other| natural(one.0, other.0));
            for (name, tally) in files {
                rows.push(line(name, &Tally { seen: 1, ..tally.clone() }));
            }
            if let Some(tally) = &report.further_files {
                rows.push(line("further files", tally));
            }
        }
        rows.push(line("all files", &report.files_total()));
    }
    for (n, text) in aligned(&rows, &[1, 2, 3, 4]).iter().enumerate() {
        page.exact(&if n == 0 { style.paint(Paint::Quiet, text) } else { text.clone() });
    }
    if database.in_serialized > 0 {
        let cells = counted(database.in_serialized, "cell", "cells");
        page.more(&format!("of these, {cells} with serialized values, lengths corrected"));
    }
}

/// Which records hold serialized values whose lengths were made right.
fn mended(page: &mut Page, style: Style, report: &RewriteReport) {
    let number: u64 = report.places().map(|(_, tally)| tally.mended).sum();
    if !report.mends {
        return;
    }
    page.gap();
    let values = counted(number, "serialized value", "serialized values");
    page.row("mended", &format!("{values} whose lengths were wrong"));
    let places = report
        .places()
        .flat_map(|(place, tally)| tally.mended_in.iter().map(move |record| (place, record)));
    let limit = if style.verbose { usize::MAX } else { LEFTOVERS };
    for (place, record) in places.take(limit) {
        page.exact(&format!("  {}", style.paint(Paint::Quiet, &format!("{place}, {record}"))));
    }
    if number > limit as u64 {
        page.exact(&format!("  and {} more", count(number - limit as u64)));
    }
}

fn spellings(page: &mut Page, style: Style, report: &RewriteReport) {
    let mut spellings: BTreeMap<&String, u64> = BTreeMap::new();
    for (_, tally) in report.places() {
        for (spelling, count) in &tally.spellings {
            *spellings.entry(spelling).or_default() += count;
        }
    }
    // A spelling and its number stay on one line.
    let mut lines: Vec<String> = Vec::new();
    for (spelling, number) in spellings {
        let item = format!("{spelling} {}", count(number));
        match lines.last_mut() {
            Some(line) if columns(line) + columns(&item) + 13 < style.width => {
                line.push_str(&format!(", {item}"));
            }
            Some(line) => {
                line.push(',');
                lines.push(item);
            }
            None => lines.push(item),
        }
    }
    if !lines.is_empty() {
        page.gap();
        page.list("spelled", lines);
    }
}

fn samples(page: &mut Page, style: Style, report: &RewriteReport) {
    let limit = if style.verbose { usize::MAX } else { SAMPLES };
    let mut found: Vec<(&str, &Sample)> = Vec::new();
    // One sample of every place before the second of any.
    for n in 0..3 {
        found.extend(
            report.places().filter_map(|(place, tally)| Some((place, tally.samples.get(n)?))),
        );
    }
    if found.is_empty() {
        return;
    }
    page.gap();
    let mut label = "samples";
    for (place, sample) in found.into_iter().take(limit) {
        page.row(label, &style.paint(Paint::Quiet, &format!("{place}, {}", sample.place)));
        label = "";
        let room = style.width.saturating_sub(13);
        page.exact(&format!(
            "- {}",
            in_context(style, &sample.lead, &sample.before, &sample.trail, room)
        ));
        page.exact(&format!(
            "+ {}",
            in_context(style, &sample.lead, &sample.after, &sample.trail, room)
        ));
    }
}

/// The changed part marked, the unchanged cut.
pub fn in_context(style: Style, lead: &str, changed: &str, trail: &str, room: usize) -> String {
    let around = room.saturating_sub(changed.chars().count() + 2) / 2;
    let lead: String = {
        let length = lead.chars().count();
        let cut: String = lead.chars().skip(length.saturating_sub(around)).collect();
        if length > around { format!("…{}", cut.trim_start_matches('…')) } else { cut }
    };
    let trail: String = {
        let cut: String = trail.chars().take(around).collect();
        match trail.chars().count() > around {
            true => format!("{}…", cut.trim_end_matches('…')),
            false => cut,
        }
    };
    format!("{lead}{}{trail}", style.paint(Paint::Changed, changed))
}

/// The leftovers of one reason.
#[derive(Default)]
struct Remaining<'a> {
    number: u64,
    places: Vec<(&'a str, &'a Leftover)>,
}

fn leftovers(page: &mut Page, style: Style, report: &RewriteReport) {
    let mut reasons: BTreeMap<Reason, Remaining<'_>> = BTreeMap::new();
    for (place, tally) in report.places() {
        for (reason, count) in &tally.left {
            reasons.entry(*reason).or_default().number += count;
        }
        for leftover in &tally.leftovers {
            reasons.entry(leftover.reason).or_default().places.push((place, leftover));
        }
    }
    if reasons.is_empty() {
        return;
    }
    page.gap();
    let mut label = "left";
    let limit = if style.verbose { usize::MAX } else { LEFTOVERS };
    for (reason, Remaining { number, places }) in reasons {
        page.row(label, &format!("{}: {}", reason.words(), count(number)));
        label = "";
        for (place, leftover) in places.iter().take(limit) {
            let place = format!("{place}, {}", leftover.place);
            let room = style.width.saturating_sub(17 + place.chars().count());
            let excerpt = cut_middle(&leftover.excerpt, room.max(24));
            page.exact(&format!("  {}  {excerpt}", style.paint(Paint::Quiet, &place)));
        }
        if places.len() > limit {
            page.exact(&format!("  and {} more; -v shows them", places.len() - limit));
        }
        page.arrow(2, reason.remedy());
    }
}
