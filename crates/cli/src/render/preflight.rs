//! The tests before a move, in words.

use super::{Page, counts, duration, size};
use fernweh_core::finding::{Check, Verdict};
use fernweh_flow::preflight::{NAMES, Preflight};

/// The tests on a page.
pub fn preflight(page: &mut Page, found: &Preflight, (from, to): (&str, &str)) {
    let checks: Vec<Check> = found.checks.iter().map(|named| named.check.clone()).collect();
    page.checks(&checks);
    let names = found.checks.iter().filter(|named| named.check.verdict == Verdict::Failed);
    let mut names: Vec<&str> = names.map(|named| named.name).collect();
    names.dedup();
    // Steps of [after] are no test of survey's.
    names.retain(|name| NAMES.contains(name));
    if let Some(first) = names.first() {
        page.row("again", &format!("fernweh survey {from} --for {to} --check {first}"));
    }
}

/// How much goes and how long it takes.
pub fn amount(found: &Preflight) -> String {
    let all = &found.size;
    let bytes = size(all.database_bytes + all.file_bytes);
    let time = match found.seconds {
        Some(seconds) => format!("; about {} at the measured speed", duration(seconds)),
        None => String::new(),
    };
    let what = counts(&[(all.records, "record", "records"), (all.files, "file", "files")]);
    match what.is_empty() {
        true => format!("{bytes}{time}"),
        false => format!("{}, {bytes}{time}", what.join(" and ")),
    }
}
