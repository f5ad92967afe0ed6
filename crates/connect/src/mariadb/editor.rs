//! Changing cells of a live MariaDB or MySQL database.
//!
//! Rows are read in one stream over one connection and changed over another, so that
//! no key has to be in order and no table is held in memory.

use super::describe::{Described, Travel, describe, list};
use super::source::{select_list, stream};
use super::{Link, quoted};
use crate::server::{Batches, ServerAddress, Session, apply};
use fernweh_core::record::{Table, Value};
use fernweh_core::sql::{Dialect, write_row};
use fernweh_ports::{Applied, Change, DatabaseEditor, Record, Refreshing, Result, Scope};

/// A database whose cells are changed.
pub struct MariadbEditor {
    reader: Link,
    writer: Link,
}

impl MariadbEditor {
    /// Logs in twice.
    pub fn open(address: &ServerAddress) -> Result<Self> {
        let mut writer = Link::open(address)?;
        writer.run("SET NAMES binary")?;
        Ok(Self { reader: Link::open(address)?, writer })
    }

    /// Whether changes of a table can be taken back, and so be made in one transaction.
    fn is_transactional(&mut self, table: &Table) -> Result<bool> {
        let engine = list(&mut self.reader)?.into_iter().find(|one| one.name == table.name);
        Ok(engine.is_some_and(|table| table.engine == "InnoDB"))
    }

    /// Without a primary key all columns together identify a row.
    fn key_of(described: &Described) -> Vec<usize> {
        let columns = &described.table.columns;
        let key = &described.table.key;
        let places = key.iter().filter_map(|name| columns.iter().position(|c| c.name == *name));
        if key.is_empty() { (0..columns.len()).collect() } else { places.collect() }
    }
}

fn literal(value: &Value) -> Vec<u8> {
    let mut out = Vec::new();
    write_row(Dialect::Mariadb, std::slice::from_ref(value), &mut out);
    out.pop();
    out.remove(0);
    out
}

fn update(described: &Described, key: &[usize], change: &Change) -> Vec<u8> {
    let columns = &described.table.columns;
    let mut sql =
        format!("UPDATE {} SET {} = ", quoted(&described.table.name), quoted(&change.column))
            .into_bytes();
    // A value of JSON is made of characters, and compared as such.
    let place = columns.iter().position(|column| column.name == change.column);
    let json = place.is_some_and(|place| described.travel[place] == Travel::Json);
    match json {
        true => {
            sql.extend_from_slice(b"CONVERT(");
            sql.extend(literal(&change.new));
            sql.extend_from_slice(b" USING utf8mb4)");
        }
        false => sql.extend(literal(&change.new)),
    }
    for column in described.automatic.iter().filter(|name| **name != change.column) {
        // A time of change that the server would set stays as it was.
        sql.extend(format!(", {0} = {0}", quoted(column)).into_bytes());
    }
    sql.extend_from_slice(b" WHERE ");
    for (place, value) in key.iter().zip(&change.key) {
        let name = quoted(&columns[*place].name);
        let name = match described.travel[*place] {
            Travel::Float => format!("{name} * 1e0"),
            Travel::Raw(length) => format!("CAST({name} AS BINARY({length}))"),
            _ => name,
        };
        sql.extend(format!("{name} <=> ").into_bytes());
        sql.extend(literal(value));
        sql.extend_from_slice(b" AND ");
    }
    // Compared as bytes, so that no collation calls different texts the same.
    let compared = if json { "CHAR" } else { "BINARY" };
    sql.extend(format!("CAST({} AS {compared}) = ", quoted(&change.column)).into_bytes());
    sql.extend(literal(&change.old));
    sql.extend_from_slice(b" LIMIT 1");
    sql
}

impl DatabaseEditor for MariadbEditor {
    fn tables(&mut self, scope: &dyn Scope) -> Result<Vec<Table>> {
        let listed = list(&mut self.reader)?;
        let wanted = listed.into_iter().filter(|t| t.is_table() && scope.holds(&t.name));
        wanted.map(|table| Ok(describe(&mut self.reader, &table.name)?.table)).collect()
    }

    fn key_columns(&mut self, table: &Table) -> Result<Vec<String>> {
        let described = describe(&mut self.reader, &table.name)?;
        let columns = &described.table.columns;
        Ok(Self::key_of(&described).iter().map(|place| columns[*place].name.clone()).collect())
    }

    fn each_batch(
        &mut self,
        table: &Table,
        visit: &mut dyn FnMut(&[Record]) -> Result<Vec<Change>>,
    ) -> Result<Applied> {
        let described = describe(&mut self.reader, &table.name)?;
        let transactional = self.is_transactional(table)?;
        // Engines without snapshots would hold their lock while the rows stream.
        let buffer = if transactional { "" } else { "SQL_BUFFER_RESULT " };
        let query =
            format!("SELECT {buffer}{} FROM {}", select_list(&described), quoted(&table.name));
        let key = Self::key_of(&described);
        let writer = &mut self.writer;
        let mut apply = |changes: &[Change]| {
            let statement = |change: &Change| update(&described, &key, change);
            apply(writer, (&table.name, transactional), changes, statement)
        };
        let (reader, travel) = (&mut self.reader, &described.travel);
        Batches::new(key.clone(), visit, &mut apply)
            .read(|sink| stream(reader, &query, travel, sink))
    }

    fn apply(&mut self, table: &Table, changes: &[Change]) -> Result<Applied> {
        let described = describe(&mut self.reader, &table.name)?;
        let key = Self::key_of(&described);
        let place = (table.name.as_str(), self.is_transactional(table)?);
        apply(&mut self.writer, place, changes, |change| update(&described, &key, change))
    }

    fn refresh(&mut self, steps: &[Refreshing]) -> Result<Vec<u64>> {
        self.writer.refresh(&["START TRANSACTION"], steps, quoted)
    }
}
