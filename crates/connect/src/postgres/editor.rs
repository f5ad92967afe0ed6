//! Changing cells of a live PostgreSQL database.
//!
//! Rows are read in one stream over one connection and changed over another.

use super::copy::stream;
use super::describe::{describe, list};
use super::{Link, is_about_value, literal, message, quoted};
use crate::server::{Batches, ServerAddress, not_refreshed, refreshing};
use fernweh_core::record::{Table, Value};
use fernweh_core::rewrite::ColumnText;
use fernweh_core::sql::Qualified;
use fernweh_ports::{Applied, Change, DatabaseEditor, Record, Refreshing, Refused, Result, Scope};
use tokio_postgres::SimpleQueryMessage;

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
        let mut apply = |changes: &[Change]| apply(writer, table, changes);
        let reader = &mut self.reader;
        Batches::new(key, visit, &mut apply).read(|sink| stream(reader, table, sink))
    }

    fn apply(&mut self, table: &Table, changes: &[Change]) -> Result<Applied> {
        apply(&mut self.writer, table, changes)
    }

    fn refresh(&mut self, steps: &[Refreshing]) -> Result<Vec<u64>> {
        let writer = &mut self.writer;
        writer.run("BEGIN")?;
        // The user's statements name tables as the site does.
        writer.run("SET LOCAL search_path TO \"$user\", public")?;
        let mut counts = Vec::new();
        for step in steps {
            let sql = refreshing(step, |table| Qualified::parse(table).sql());
            match writer.try_one(&sql) {
                Ok(count) => counts.push(count),
                Err(error) => {
                    let mut trouble = writer.trouble("", &error);
                    let _ = writer.try_run("ROLLBACK");
                    trouble.place = None;
                    return Err(not_refreshed(trouble, &sql));
                }
            }
        }
        writer.run("COMMIT")?;
        Ok(counts)
    }
}

fn apply(writer: &mut Link, table: &Table, changes: &[Change]) -> Result<Applied> {
    let mut applied = Applied::default();
    if changes.is_empty() {
        return Ok(applied);
    }
    writer.run("BEGIN")?;
    for change in changes {
        let mut refuse = |because: String| {
            let place = format!("{}.{}, {}", table.name, change.column, change.record);
            applied.refused.push(Refused { place, because });
        };
        // A value that is refused must not take the others along.
        writer.run("SAVEPOINT one_cell")?;
        let answer = writer.runtime.block_on(writer.client.simple_query(&update(table, change)));
        match answer {
            Ok(answer) => match answer.iter().rev().find_map(|message| match message {
                SimpleQueryMessage::CommandComplete(count) => Some(*count),
                _ => None,
            }) {
                None | Some(0) => refuse("the cell was changed in the meantime".into()),
                Some(_) => applied.changed += 1,
            },
            Err(error) if is_about_value(&error) => {
                writer.run("ROLLBACK TO SAVEPOINT one_cell")?;
                refuse(format!("the new value is not allowed here ({})", message(&error)));
            }
            Err(error) => {
                let trouble = writer.trouble("cannot change the site's database", &error);
                let _ = writer.try_run("ROLLBACK");
                return Err(trouble);
            }
        }
        writer.run("RELEASE SAVEPOINT one_cell")?;
    }
    writer.run("COMMIT")?;
    Ok(applied)
}
