//! What a rewriting did, column by column and file by file.

use crate::scope;
use fernweh_core::limits;
use fernweh_core::record::{Row, Table, Value};
use fernweh_core::rewrite::{ColumnText, Rewriter, Tally};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// The numbers of a rewriting; the same in a preview and in the real run.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct RewriteReport {
    /// The rules, in order.
    pub rules: Vec<RulePair>,
    /// Whether wrong lengths of serialized values are made right.
    pub mends: bool,
    /// By `table.column`.
    pub columns: BTreeMap<String, Tally>,
    /// By path; files without hits are not listed.
    pub files: BTreeMap<String, Tally>,
    /// The numbers of files with hits that are not listed because there are too many.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub further_files: Option<Box<Tally>>,
    /// Files looked at.
    pub files_seen: u64,
}

/// One rule of a report.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct RulePair {
    /// What was looked for.
    pub from: String,
    /// What it became.
    pub to: String,
}

impl RewriteReport {
    /// An empty report for these rules.
    pub fn of(rewriter: &Rewriter) -> Self {
        let pair = |rule: &fernweh_core::rewrite::Rule| RulePair {
            from: rule.from.to_string(),
            to: rule.to.to_string(),
        };
        let (rules, mends) = (rewriter.rules().iter().map(pair).collect(), rewriter.mends());
        Self { rules, mends, ..Self::default() }
    }

    /// Addresses replaced, in cells and in files.
    pub fn replaced(&self) -> u64 {
        self.database_total().replacements + self.files_total().replacements
    }

    /// Old addresses that were left, in cells and in files.
    pub fn left(&self) -> u64 {
        self.database_total().left_total() + self.files_total().left_total()
    }

    /// The numbers of all columns together.
    pub fn database_total(&self) -> Tally {
        total(self.columns.values())
    }

    /// The numbers of all files together.
    pub fn files_total(&self) -> Tally {
        let mut total = total(self.files.values().chain(self.further_files.as_deref()));
        total.seen = self.files_seen;
        total
    }

    /// Columns and files with their numbers.
    pub fn places(&self) -> impl Iterator<Item = (&str, &Tally)> {
        let listed = self.columns.iter().chain(&self.files);
        let further = self.further_files.iter().map(|tally| ("further files", &**tally));
        listed.map(|(place, tally)| (place.as_str(), tally)).chain(further)
    }

    /// Whether a file is listed with numbers of its own.
    fn lists(&self, path: &str) -> bool {
        self.files.len() < limits::LISTED_FILES || self.files.contains_key(path)
    }

    /// Where the numbers of a file are added.
    fn tally_of(&mut self, path: &str) -> &mut Tally {
        if self.lists(path) {
            return self.files.entry(path.to_owned()).or_default();
        }
        let further = self.further_files.get_or_insert_default();
        further.seen += 1;
        further
    }

    /// Looks into a file; gives its new content if it changes.
    pub fn file(&mut self, rewriter: &Rewriter, path: &str, content: &[u8]) -> Option<Vec<u8>> {
        self.files_seen += 1;
        let here = rewriter.occurs(content).then(|| scope::of_file(rewriter, path)).flatten();
        let rewriter = here.as_ref().unwrap_or(rewriter);
        let kind = if content.contains(&0) { ColumnText::Binary } else { ColumnText::Utf8 };
        let outcome = match kind {
            // A file with NUL bytes is no text, whatever it reads like.
            ColumnText::Binary => rewriter.binary(content)?,
            _ => rewriter.cell(kind, content)?,
        };
        if outcome.found.edits.is_empty() && outcome.found.left.is_empty() {
            return None;
        }
        let line = |at: usize| 1 + outcome.view[..at].iter().filter(|b| **b == b'\n').count();
        let file = if self.lists(path) { String::new() } else { format!("{path}, ") };
        let place = |at: usize| format!("{file}line {}", line(at));
        self.tally_of(path).add(&outcome.view, &outcome.found, place);
        outcome.new
    }

    /// Notes that a file was too large to be read as text.
    pub fn large_file(&mut self, path: &str, hits: u64) {
        self.files_seen += 1;
        if hits > 0 {
            let tally = self.tally_of(path);
            tally.left.insert(fernweh_core::rewrite::Reason::TooLarge, hits);
        }
    }
}

fn total<'a>(tallies: impl Iterator<Item = &'a Tally>) -> Tally {
    let mut total = Tally::default();
    tallies.for_each(|tally| total.merge(tally));
    total
}

/// The columns of one table while its rows pass.
pub struct TableReport<'a> {
    rewriter: &'a Rewriter,
    /// Where not all rules hold in a column, those that do.
    of_column: Vec<Option<Rewriter>>,
    tallies: Vec<Tally>,
}

impl<'a> TableReport<'a> {
    /// Begins a table.
    pub fn new(rewriter: &'a Rewriter, table: &Table) -> Self {
        let tallies = vec![Tally::default(); table.columns.len()];
        Self { rewriter, of_column: scope::of_columns(rewriter, table), tallies }
    }

    /// Looks into one cell; gives its new value if it changes.
    pub fn cell(&mut self, table: &Table, column: usize, row: &[Value]) -> Option<Value> {
        let (value, kind) = match (&row[column], table.columns[column].text) {
            (Value::Text(bytes), Some(kind)) => (bytes, kind),
            (Value::Bytes(bytes), Some(_)) => (bytes, ColumnText::Binary),
            _ => return None,
        };
        let tally = &mut self.tallies[column];
        tally.seen += 1;
        let rewriter = self.of_column[column].as_ref().unwrap_or(self.rewriter);
        let outcome = rewriter.cell(kind, value)?;
        tally.add(&outcome.view, &outcome.found, |_| table.record_name(row));
        outcome.new.map(|bytes| match &row[column] {
            Value::Bytes(_) => Value::Bytes(bytes),
            _ => Value::Text(bytes),
        })
    }

    /// Rewrites a whole row in place.
    pub fn row(&mut self, table: &Table, row: &mut Row) {
        for column in 0..row.len() {
            if let Some(new) = self.cell(table, column, row) {
                row[column] = new;
            }
        }
    }

    /// Adds the columns that were looked into to a report.
    pub fn into_report(self, table: &Table, report: &mut RewriteReport) {
        for (column, tally) in table.columns.iter().zip(self.tallies) {
            if tally.seen > 0 {
                let name = format!("{}.{}", table.name, column.name);
                report.columns.entry(name).or_default().merge(&tally);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use fernweh_core::rewrite::Rule;

    #[test]
    fn files_beyond_those_that_are_listed_are_added_up() {
        let rule = Rule::new("http://old.example", "http://new.example").unwrap();
        let rewriter = Rewriter::new(vec![rule]).unwrap();
        let mut report = RewriteReport::of(&rewriter);
        let files = limits::LISTED_FILES + 7;
        for number in 0..files {
            let path = format!("{number:05}.html");
            assert!(report.file(&rewriter, &path, b"at http://old.example/").is_some());
        }
        assert_eq!(report.files.len(), limits::LISTED_FILES);
        assert_eq!(report.further_files.as_ref().unwrap().changed, 7);
        assert_eq!(report.files_total().changed, files as u64);
        assert_eq!(report.replaced(), files as u64);
        let (place, tally) = report.places().last().unwrap();
        assert_eq!((place, tally.seen), ("further files", 7));
        assert_eq!(tally.samples[0].place, "10000.html, line 1");
    }
}
