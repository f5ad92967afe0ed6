//! Changing cells of a live SQLite database.

use super::{Parameter, column_list, describe, list, quoted, rowid_name, trouble, value_of};
use crate::server::{not_refreshed, refreshing};
use fernweh_core::limits;
use fernweh_core::record::{Row, Table, Value};
use fernweh_ports::{
    Applied, Change, DatabaseEditor, Record, Refreshing, Refused, Result, Scope, Trouble,
};
use rusqlite::{Connection, ErrorCode, params_from_iter};
use std::path::{Path, PathBuf};

/// A database file whose cells are changed.
pub struct SqliteEditor {
    path: PathBuf,
    db: Connection,
}

impl SqliteEditor {
    /// Opens an existing database for writing.
    pub fn open(path: &Path) -> Result<Self> {
        super::SqliteSource::open(path)?;
        let wrong = |error| trouble("cannot open the site's database", path, &error);
        let db = Connection::open(path).map_err(wrong)?;
        db.busy_timeout(std::time::Duration::from_secs(10)).map_err(wrong)?;
        Ok(Self { path: path.to_owned(), db })
    }

    fn wrong(&self, error: rusqlite::Error) -> Trouble {
        trouble("cannot change the site's database", &self.path, &error)
    }

    fn batch(
        &self,
        table: &Table,
        key: &[String],
        after: &[Value],
    ) -> rusqlite::Result<Vec<Record>> {
        let keys = key.join(",");
        let condition = match after.len() {
            0 => String::new(),
            count => format!("WHERE ({keys}) > ({})", vec!["?"; count].join(",")),
        };
        let mut query = self.db.prepare_cached(&format!(
            "SELECT {keys},{} FROM {} {condition} ORDER BY {keys} LIMIT {}",
            column_list(table),
            quoted(&table.name),
            limits::EDITED_TOGETHER
        ))?;
        let mut rows = query.query(params_from_iter(after.iter().map(Parameter)))?;
        let mut found = Vec::new();
        while let Some(row) = rows.next()? {
            let values = (0..key.len() + table.columns.len()).map(|n| row.get_ref(n).map(value_of));
            let mut values: Row = values.collect::<rusqlite::Result<_>>()?;
            let row = values.split_off(key.len());
            found.push(Record { key: values, row });
        }
        Ok(found)
    }

    fn change(&self, table: &Table, key: &[String], change: &Change) -> rusqlite::Result<usize> {
        let place: Vec<String> = key.iter().map(|name| format!("{name} IS ?")).collect();
        let column = quoted(&change.column);
        let mut update = self.db.prepare_cached(&format!(
            "UPDATE {} SET {column} = ? WHERE {} AND typeof({column}) = typeof(?) \
             AND CAST({column} AS BLOB) IS CAST(? AS BLOB)",
            quoted(&table.name),
            place.join(" AND "),
        ))?;
        let values = [&change.new].into_iter().chain(&change.key).chain([&change.old; 2]);
        update.execute(params_from_iter(values.map(Parameter)))
    }
}

impl DatabaseEditor for SqliteEditor {
    fn tables(&mut self, scope: &dyn Scope) -> Result<Vec<Table>> {
        let found = list(&self.db).map_err(|error| self.wrong(error))?;
        found
            .iter()
            .filter(|found| found.kind == "table" && scope.holds(&found.name))
            .map(|found| describe(&self.db, &found.name).map_err(|error| self.wrong(error)))
            .collect()
    }

    fn key_columns(&mut self, table: &Table) -> Result<Vec<String>> {
        let without = list(&self.db).map_err(|error| self.wrong(error))?;
        let without = without.iter().any(|f| f.name == table.name && f.without_rowid);
        Ok(match rowid_name(table).filter(|_| !without) {
            Some(rowid) => vec![rowid.to_owned()],
            None => table.key.clone(),
        })
    }

    fn each_batch(
        &mut self,
        table: &Table,
        visit: &mut dyn FnMut(&[Record]) -> Result<Vec<Change>>,
    ) -> Result<Applied> {
        let key: Vec<String> = self.key_columns(table)?.iter().map(|name| quoted(name)).collect();
        let mut total = Applied::default();
        let mut after = Vec::new();
        loop {
            let batch = self.batch(table, &key, &after).map_err(|error| self.wrong(error))?;
            let Some(last) = batch.last() else { return Ok(total) };
            after.clone_from(&last.key);
            let changes = visit(&batch)?;
            if !changes.is_empty() {
                let applied = self.apply(table, &changes)?;
                total.changed += applied.changed;
                total.refused.extend(applied.refused);
            }
        }
    }

    fn apply(&mut self, table: &Table, changes: &[Change]) -> Result<Applied> {
        let key: Vec<String> = self.key_columns(table)?.iter().map(|name| quoted(name)).collect();
        let mut applied = Applied::default();
        self.db.execute_batch("BEGIN IMMEDIATE").map_err(|error| self.wrong(error))?;
        for change in changes {
            let mut refuse = |because: String| {
                let place = format!("{}.{}, {}", table.name, change.column, change.record);
                applied.refused.push(Refused { place, because });
            };
            match self.change(table, &key, change) {
                Ok(0) => refuse("the cell was changed in the meantime".into()),
                Ok(_) => applied.changed += 1,
                Err(error) if error.sqlite_error_code() == Some(ErrorCode::ConstraintViolation) => {
                    refuse(format!("the new value is not allowed here ({error})"));
                }
                Err(error) => {
                    let _ = self.db.execute_batch("ROLLBACK");
                    return Err(self.wrong(error));
                }
            }
        }
        self.db.execute_batch("COMMIT").map_err(|error| self.wrong(error))?;
        Ok(applied)
    }

    fn refresh(&mut self, steps: &[Refreshing]) -> Result<Vec<u64>> {
        self.db.execute_batch("BEGIN IMMEDIATE").map_err(|error| self.wrong(error))?;
        let mut counts = Vec::new();
        for step in steps {
            let sql = refreshing(step, quoted);
            match self.db.execute(&sql, []) {
                Ok(count) => counts.push(count as u64),
                Err(error) => {
                    let _ = self.db.execute_batch("ROLLBACK");
                    let mut trouble = self.wrong(error);
                    trouble.place = None;
                    return Err(not_refreshed(trouble, &sql));
                }
            }
        }
        self.db.execute_batch("COMMIT").map_err(|error| self.wrong(error))?;
        Ok(counts)
    }
}
