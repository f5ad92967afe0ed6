//! Changing cells of a live PostgreSQL database.
//!
//! Rows are read in one stream over one connection and changed over another.

use super::copy::stream;
use super::describe::{describe, list};
use super::{Link, literal, quoted};
use crate::server::{Batches, ServerAddress, Session, apply};
use fernweh_core::record::{Table, Value};
use fernweh_core::rewrite::ColumnText;
use fernweh_core::sql::Qualified;
use fernweh_ports::{Applied, Change, DatabaseEditor, Record, Refreshing, Result, Scope};

/// A database whose cells are changed.
pub struct PostgresEditor {
    reader: Link,
    writer: Link,
}

impl PostgresEditor {
    /// Logs in twice.
    pub fn open(address: &ServerAddress) -> Result<Self> {
        Ok(Self { reader: Link::open(address)?, writer: Link::open(address)? })
    }
}

/// Without a primary key all columns together identify a row.
fn key_of(table: &Table) -> Vec<usize> {
    let place = |name: &String| table.columns.iter().position(|column| column.name == *name);
    let places: Vec<usize> = table.key.iter().filter_map(place).collect();
    if places.is_empty() { (0..table.columns.len()).collect() } else { places }
}

/// Compares a column with a value, byte for byte.
fn same(table: &Table, place: usize, value: &Value) -> String {
    let column = &table.columns[place];
    let name = quoted(&column.name);
    match (value, column.text) {
        (Value::Null, _) => format!("{name} IS NULL"),
        (_, Some(ColumnText::Binary)) => format!("{name} = {}", literal(value)),
        _ => format!("{name}::text COLLATE \"C\" = {}", literal(value)),
    }
}

fn update(table: &Table, change: &Change) -> String {
    let place = Qualified::parse(&table.name).sql();
    let column = quoted(&change.column);
    let at = table.columns.iter().position(|c| c.name == change.column).unwrap_or(0);
    let old = same(table, at, &change.old);
    let new = literal(&change.new);
    let key = key_of(table);
    if table.key.is_empty() {
        let pairs = key.iter().zip(&change.key);
        let all: Vec<String> = pairs.map(|(place, value)| same(table, *place, value)).collect();
        return format!(
            "UPDATE ONLY {place} SET {column} = {new} WHERE ctid = (SELECT ctid FROM ONLY {place} \
             WHERE {} LIMIT 1) AND {old}",
            all.join(" AND ")
        );
    }
    // The key is compared as its type does, so that its index is used.
    let pairs = key.iter().zip(&change.key);
    let all: Vec<String> = pairs
        .map(|(place, value)| {
            format!("{} = {}", quoted(&table.columns[*place].name), literal(value))
        })
        .collect();
    format!("UPDATE ONLY {place} SET {column} = {new} WHERE {} AND {old}", all.join(" AND "))
}

impl DatabaseEditor for PostgresEditor {
    fn tables(&mut self, scope: &dyn Scope) -> Result<Vec<Table>> {
        let listed = list(&mut self.reader)?;
        let wanted =
            listed.into_iter().filter(|l| l.kind == 'r' && scope.holds(&l.name.to_string()));
        wanted.map(|l| describe(&mut self.reader, l.oid, &l.name)).collect()
    }

    fn key_columns(&mut self, table: &Table) -> Result<Vec<String>> {
        Ok(key_of(table).iter().map(|place| table.columns[*place].name.clone()).collect())
    }

    fn each_batch(
        &mut self,
        table: &Table,
        visit: &mut dyn FnMut(&[Record]) -> Result<Vec<Change>>,
    ) -> Result<Applied> {
        let key = key_of(table);
        let writer = &mut self.writer;
        let mut apply = |changes: &[Change]| {
            let statement = |change: &Change| update(table, change).into_bytes();
            apply(writer, (&table.name, true), changes, statement)
        };
        let reader = &mut self.reader;
        Batches::new(key, visit, &mut apply).read(|sink| stream(reader, table, sink))
    }

    fn apply(&mut self, table: &Table, changes: &[Change]) -> Result<Applied> {
        let statement = |change: &Change| update(table, change).into_bytes();
        apply(&mut self.writer, (&table.name, true), changes, statement)
    }

    fn refresh(&mut self, steps: &[Refreshing]) -> Result<Vec<u64>> {
        // The user's statements name tables as the site does.
        let begin = ["BEGIN", "SET LOCAL search_path TO \"$user\", public"];
        self.writer.refresh(&begin, steps, |table| Qualified::parse(table).sql())
    }
}
