//! Two streams of records, side by side: each is matched with its counterpart by its key, in whatever
//! order they come.
//!
//! Both sides come in nearly the same order, so a record waits for its counterpart for a moment only,
//! and what waits is small. Records that never find one are counted at the end, and the first of them
//! shown. Nothing is read twice.

use super::{EXAMPLES, excerpts};
use fernweh_core::record::{Row, Table, Value};
use serde::Serialize;
use std::collections::HashMap;
use std::collections::hash_map::Entry;
use std::hash::{DefaultHasher, Hash, Hasher};

/// Bytes of records that wait whole; of the others a digest waits.
const WHOLE: usize = 32 << 20;
/// Records that wait at most on each side.
const WAITING: usize = 2_000_000;

/// What is different about a record.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum What {
    /// Values of it.
    Changed,
    /// Only the first site has it.
    Missing,
    /// Only the second site has it.
    Extra,
}

/// A record that differs.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, schemars::JsonSchema)]
pub struct Record {
    /// The record, by its key.
    pub record: String,
    /// What is different.
    pub what: What,
    /// Columns that differ, with what was expected and what is there, both short.
    pub cells: Vec<(String, String, String)>,
}

/// A table whose records differ.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, schemars::JsonSchema)]
pub struct TableDifferences {
    /// The table.
    pub table: String,
    /// Records that are the same.
    pub same: u64,
    /// Records of which values differ.
    pub changed: u64,
    /// Records that only the first site has.
    pub missing: u64,
    /// Records that only the second site has.
    pub extra: u64,
    /// Records beyond those that could be told apart.
    pub untold: u64,
    /// Some of them.
    pub examples: Vec<Record>,
}

impl TableDifferences {
    /// Whether nothing differs.
    pub fn is_empty(&self) -> bool {
        self.changed + self.missing + self.extra + self.untold == 0
    }
}

/// Which side a record comes from.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Side {
    First,
    Second,
}

struct Waiting {
    row: Kept,
    /// Of records that are alike in every value: how many more there are.
    more: u32,
}

/// A record that waits. Whole ones are compared as they are, which is cheaper than a digest of each.
enum Kept {
    Whole(Row),
    Digest(u64),
}

impl Kept {
    fn weight(&self) -> usize {
        match self {
            Self::Whole(row) => weight(row),
            Self::Digest(_) => 0,
        }
    }

    fn is(&self, row: &[Value]) -> bool {
        match self {
            Self::Whole(kept) => same(kept, row),
            Self::Digest(kept) => *kept == digest(row),
        }
    }

    fn row(self) -> Option<Row> {
        match self {
            Self::Whole(row) => Some(row),
            Self::Digest(_) => None,
        }
    }
}

/// Whether two records are the same to the bit, as their digests would be.
fn same(one: &[Value], other: &[Value]) -> bool {
    let mut each = one.iter().zip(other);
    one.len() == other.len()
        && each.all(|(one, other)| match (one, other) {
            (Value::Real(one), Value::Real(other)) => one.to_bits() == other.to_bits(),
            _ => one == other,
        })
}

/// The matching of one table.
pub(super) struct Matching<'a> {
    table: &'a Table,
    /// Places of the columns of the key; none if all of a record counts.
    key: Vec<usize>,
    first: HashMap<u128, Waiting>,
    second: HashMap<u128, Waiting>,
    whole: usize,
    found: TableDifferences,
}

impl<'a> Matching<'a> {
    pub fn new(table: &'a Table) -> Self {
        let place = |name: &String| table.columns.iter().position(|column| column.name == *name);
        // A key whose columns are not all there matches nothing.
        let key: Option<Vec<usize>> = table.key.iter().map(place).collect();
        Self {
            table,
            key: key.unwrap_or_default(),
            first: HashMap::new(),
            second: HashMap::new(),
            whole: 0,
            found: TableDifferences { table: table.name.clone(), ..TableDifferences::default() },
        }
    }

    /// Takes a record of one side.
    pub fn take(&mut self, side: Side, row: Row) {
        let key = self.key_of(&row);
        let (own, other) = match side {
            Side::First => (&mut self.first, &mut self.second),
            Side::Second => (&mut self.second, &mut self.first),
        };
        if let Entry::Occupied(mut found) = other.entry(key) {
            let counterpart = found.get_mut();
            if counterpart.more > 0 {
                counterpart.more -= 1;
                self.found.same += 1;
                return;
            }
            let counterpart = found.remove();
            self.whole -= counterpart.row.weight();
            // Without a key the values themselves are the key.
            if self.key.is_empty() || counterpart.row.is(&row) {
                self.found.same += 1;
            } else {
                self.differs(side, row, counterpart.row.row());
            }
            return;
        }
        if own.len() >= WAITING {
            self.found.untold += 1;
            return;
        }
        match own.entry(key) {
            Entry::Occupied(mut alike) => alike.get_mut().more += 1,
            Entry::Vacant(free) => {
                let row = match self.whole + weight(&row) <= WHOLE {
                    true => Kept::Whole(row),
                    false => Kept::Digest(digest(&row)),
                };
                self.whole += row.weight();
                free.insert(Waiting { row, more: 0 });
            }
        }
    }

    fn key_of(&self, row: &[Value]) -> u128 {
        let of = |seed: u64| {
            let mut hasher = DefaultHasher::new();
            seed.hash(&mut hasher);
            match self.key.is_empty() {
                true => row.iter().for_each(|value| hash(value, &mut hasher)),
                false => self.key.iter().for_each(|place| hash(&row[*place], &mut hasher)),
            }
            hasher.finish()
        };
        u128::from(of(1)) << 64 | u128::from(of(2))
    }

    fn differs(&mut self, side: Side, row: Row, counterpart: Option<Row>) {
        self.found.changed += 1;
        if self.found.examples.len() >= EXAMPLES {
            return;
        }
        let record = self.table.record_name(&row);
        let (one, other) = match side {
            Side::First => (Some(row), counterpart),
            Side::Second => (counterpart, Some(row)),
        };
        let mut cells = Vec::new();
        if let (Some(one), Some(other)) = (one, other) {
            let each = self.table.columns.iter().zip(one.iter().zip(&other));
            let differing = each.filter(|(_, (one, other))| one != other);
            cells =
                differing.map(|(column, (one, other))| around(&column.name, one, other)).collect();
        }
        self.found.examples.push(Record { record, what: What::Changed, cells });
    }

    /// Counts what has found no counterpart, and tells what was found.
    pub fn finish(mut self) -> TableDifferences {
        for (what, side) in [(What::Missing, Side::First), (What::Extra, Side::Second)] {
            let waiting = match side {
                Side::First => std::mem::take(&mut self.first),
                Side::Second => std::mem::take(&mut self.second),
            };
            let count: u64 = waiting.values().map(|each| 1 + u64::from(each.more)).sum();
            match what {
                What::Missing => self.found.missing += count,
                _ => self.found.extra += count,
            }
            let rows = waiting.into_values().filter_map(|each| each.row.row());
            let mut names: Vec<String> = rows.map(|row| self.table.record_name(&row)).collect();
            names.sort_by(|a, b| fernweh_ports::natural(a, b));
            let named = names.into_iter().map(|record| Record { record, what, cells: Vec::new() });
            self.found.examples.extend(named.take(EXAMPLES));
        }
        self.found.examples.truncate(EXAMPLES);
        self.found
    }
}

fn weight(row: &[Value]) -> usize {
    row.iter().map(Value::weight).sum()
}

fn hash(value: &Value, hasher: &mut DefaultHasher) {
    std::mem::discriminant(value).hash(hasher);
    match value {
        Value::Null => {}
        Value::Integer(number) => number.hash(hasher),
        Value::Real(number) => number.to_bits().hash(hasher),
        Value::Number(bytes) | Value::Text(bytes) | Value::Bytes(bytes) => bytes.hash(hasher),
    }
}

fn digest(row: &[Value]) -> u64 {
    let mut hasher = DefaultHasher::new();
    row.iter().for_each(|value| hash(value, &mut hasher));
    hasher.finish()
}

/// Two values from a little before the place where they begin to differ.
fn around(column: &str, one: &Value, other: &Value) -> (String, String, String) {
    let (Some(a), Some(b)) = (one.bytes(), other.bytes()) else {
        return (column.to_owned(), one.shown(), other.shown());
    };
    let (expected, there) = excerpts(a, b, 60);
    (column.to_owned(), expected, there)
}

#[cfg(test)]
mod tests {
    use super::*;
    use fernweh_core::record::Column;

    fn table(key: &[&str]) -> Table {
        let column = |name: &str| Column { name: name.into(), text: None };
        let key = key.iter().map(|name| (*name).to_owned()).collect();
        Table { name: "nights".into(), columns: vec![column("id"), column("text")], key }
    }

    fn row(id: i64, text: &str) -> Row {
        vec![Value::Integer(id), Value::Text(text.as_bytes().to_vec())]
    }

    #[test]
    fn records_are_matched_by_key_in_any_order() {
        let table = table(&["id"]);
        let mut matching = Matching::new(&table);
        for id in 0..100 {
            matching.take(Side::First, row(id, "the sky"));
        }
        for id in (1..101).rev() {
            let text = if id == 50 { "the moon" } else { "the sky" };
            matching.take(Side::Second, row(id, text));
        }
        let found = matching.finish();
        let counts = (found.same, found.changed, found.missing, found.extra);
        assert_eq!(counts, (98, 1, 1, 1));
        let cells = vec![("text".to_owned(), "the sky".to_owned(), "the moon".to_owned())];
        assert_eq!(
            found.examples,
            [
                Record { record: "id 50".into(), what: What::Changed, cells },
                Record { record: "id 0".into(), what: What::Missing, cells: vec![] },
                Record { record: "id 100".into(), what: What::Extra, cells: vec![] },
            ]
        );
    }

    #[test]
    fn without_a_key_every_value_counts_and_how_often() {
        let table = table(&[]);
        let mut matching = Matching::new(&table);
        for _ in 0..3 {
            matching.take(Side::First, row(1, "a"));
        }
        for _ in 0..2 {
            matching.take(Side::Second, row(1, "a"));
        }
        matching.take(Side::Second, row(1, "b"));
        let found = matching.finish();
        assert_eq!((found.same, found.missing, found.extra), (2, 1, 1));
    }

    #[test]
    fn what_waits_is_small_however_many_records_there_are() {
        let table = table(&["id"]);
        let mut matching = Matching::new(&table);
        let text = "night ".repeat(1000);
        for id in 0..20_000 {
            matching.take(Side::First, row(id, &text));
            if id >= 100 {
                matching.take(Side::Second, row(id - 100, &text));
            }
            assert!(matching.first.len() <= 101 && matching.whole < 1 << 20);
        }
    }
}
