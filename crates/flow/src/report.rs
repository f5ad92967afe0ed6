//! What a rewriting did, column by column and file by file.

use crate::scope;
use fernweh_core::record::{Row, Table, Value};
use fernweh_core::rewrite::{ColumnText, Rewriter, Tally};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// The numbers of a rewriting; the same in a preview and in the real run.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct RewriteReport {
    /// The rules, in order.
    pub rules: Vec<RulePair>,
    /// Whether wrong lengths of serialized values are made right.
    pub mends: bool,
    /// By `table.column`.
    pub columns: BTreeMap<String, Tally>,
    /// By path; files without hits are not listed.
    pub files: BTreeMap<String, Tally>,
    /// Files looked at.
    pub files_seen: u64,
}

/// One rule of a report.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
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

    /// The numbers of all columns together.
    pub fn database_total(&self) -> Tally {
        total(self.columns.values())
    }

    /// The numbers of all files together.
    pub fn files_total(&self) -> Tally {
        let mut total = total(self.files.values());
        total.seen = self.files_seen;
        total
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
        let place = |at: usize| format!("line {}", line(at));
        self.files.entry(path.to_owned()).or_default().add(&outcome.view, &outcome.found, place);
        outcome.new
    }

    /// Notes that a file was too large to be read as text.
    pub fn large_file(&mut self, path: &str, hits: u64) {
        self.files_seen += 1;
        if hits > 0 {
            let tally = self.files.entry(path.to_owned()).or_default();
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
