//! Writing rows into a table that is built: in bulk, otherwise by statements, and one by one where
//! some are rejected.

use super::build::MariadbTarget;
use super::{Link, MODE};
use crate::server::Session;
use fernweh_core::limits;
use fernweh_core::record::Value;
use fernweh_core::sql::{Dialect, write_insert_head, write_row};
use fernweh_ports::{Rejected, Result, RowBatch, Trouble};

/// A mode in which the server changes values so that they fit.
const LENIENT: &str = "SET SESSION sql_mode = 'NO_AUTO_VALUE_ON_ZERO,ALLOW_INVALID_DATES'";

impl MariadbTarget {
    fn refused(&self, table: &str, error: &mysql_async::Error) -> Trouble {
        let mut trouble = self.link.trouble("the database does not take a record", error);
        trouble.place = Some(format!("table {table} of {}", self.link.shown));
        trouble
    }

    /// An enum that holds none of its values reads as an empty text, which the strict mode does
    /// not take back. Writes such a row, if that is all that is wrong with it.
    fn write_nothing_chosen(&mut self, rows: &RowBatch, row: usize, sql: &[u8]) -> Result<bool> {
        let cells = rows.columns.iter().zip(&rows.rows[row]);
        let empty = |value: &&Value| matches!(value, Value::Text(text) if text.is_empty());
        let places: Vec<String> = cells
            .filter(|(_, value)| empty(value))
            .map(|(column, _)| format!("Data truncated for column '{column}' at row 1"))
            .collect();
        if places.is_empty() {
            return Ok(false);
        }
        self.link.run("SAVEPOINT nothing_chosen")?;
        self.link.run(LENIENT)?;
        let written = self.link.try_bytes(sql.to_vec()).is_ok();
        let warnings = self.link.ask("SHOW WARNINGS")?;
        let exact = warnings.iter().all(|warning| {
            warning.get(2).cloned().flatten().is_some_and(|words| places.contains(&words))
        });
        self.link.run(format!("SET SESSION sql_mode = '{}'", MODE))?;
        if !(written && exact) {
            self.link.run("ROLLBACK TO SAVEPOINT nothing_chosen")?;
        }
        Ok(written && exact)
    }

    /// Writes one row of a portion; with `adapt`, the server may change values to fit.
    fn write_one(
        &mut self,
        built: &str,
        rows: &RowBatch,
        row: usize,
        adapt: bool,
    ) -> Result<Option<Rejected>> {
        let mut sql = Vec::new();
        write_insert_head(Dialect::Mariadb, built, &rows.columns, &mut sql);
        write_row(Dialect::Mariadb, &rows.rows[row], &mut sql);
        let because = match self.link.try_bytes(sql.clone()) {
            Ok(()) => return Ok(None),
            Err(error) if Link::is_about_value(&error) => Link::message(&error),
            Err(error) => return Err(self.refused(&rows.table, &error)),
        };
        if self.write_nothing_chosen(rows, row, &sql)? {
            return Ok(None);
        }
        let mut rejected = Rejected { row, because, adapted: false };
        if adapt {
            self.link.run(LENIENT)?;
            rejected.adapted = self.link.try_bytes(sql).is_ok();
            self.link.run(format!("SET SESSION sql_mode = '{}'", MODE))?;
        }
        Ok(Some(rejected))
    }

    pub(super) fn write_rows(&mut self, rows: &RowBatch, adapt: bool) -> Result<Vec<Rejected>> {
        let built = self.aside('n', &rows.table);
        if self.loader.load(&mut self.link, &built, &rows.columns, &rows.rows)? {
            return Ok(Vec::new());
        }
        let mut rejected = Vec::new();
        let mut sql = Vec::new();
        let mut from = 0;
        for (place, row) in rows.rows.iter().enumerate() {
            if sql.is_empty() {
                from = place;
                write_insert_head(Dialect::Mariadb, &built, &rows.columns, &mut sql);
            } else {
                sql.extend_from_slice(b",\n");
            }
            write_row(Dialect::Mariadb, row, &mut sql);
            if sql.len() > limits::WRITTEN_INSERT || place + 1 == rows.rows.len() {
                match self.link.try_bytes(std::mem::take(&mut sql)) {
                    Ok(()) => {}
                    Err(error) if Link::is_about_value(&error) => {
                        for one in from..=place {
                            rejected.extend(self.write_one(&built, rows, one, adapt)?);
                        }
                    }
                    Err(error) => return Err(self.refused(&rows.table, &error)),
                }
            }
        }
        Ok(rejected)
    }
}
