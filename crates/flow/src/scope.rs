//! Rules that hold only in some places: `only` and `not` of a rule.

use crate::patterns::Patterns;
use fernweh_core::record::Table;
use fernweh_core::rewrite::{Rewriter, Rule};

/// Whether a rule holds in a place, which has one name or several.
fn holds(rule: &Rule, names: &[&str]) -> bool {
    let within = |texts: &[String]| {
        let patterns = Patterns::of_paths(texts);
        patterns.is_ok_and(|found| names.iter().any(|name| found.hold(name.as_bytes())))
    };
    (rule.only.is_empty() || within(&rule.only)) && !within(&rule.not)
}

/// The rules that hold in a place; `None` if all do.
fn at(rewriter: &Rewriter, names: &[&str]) -> Option<Rewriter> {
    let is_bound = |rule: &Rule| !rule.only.is_empty() || !rule.not.is_empty();
    if !rewriter.rules().iter().any(is_bound) {
        return None;
    }
    let held: Vec<bool> = rewriter.rules().iter().map(|rule| holds(rule, names)).collect();
    if held.iter().all(|held| *held) {
        return None;
    }
    Some(rewriter.with_rules(&|number| held[number]))
}

/// The rules that hold in a file.
pub(crate) fn of_file(rewriter: &Rewriter, path: &str) -> Option<Rewriter> {
    at(rewriter, &[path])
}

/// The rules that hold in each column of a table.
pub(crate) fn of_columns(rewriter: &Rewriter, table: &Table) -> Vec<Option<Rewriter>> {
    let column = |name: &str| format!("{}.{name}", table.name);
    let columns = table.columns.iter().map(|one| at(rewriter, &[&table.name, &column(&one.name)]));
    columns.collect()
}
