//! Writing rows into a table that is built: in bulk, otherwise by statements, and one by one where
//! some are rejected.

use super::build::MariadbTarget;
use super::intake::Intake;
use super::load::execute;
use super::{Link, MODE, quoted};
use crate::server::{Session, write_fitting};
use fernweh_core::limits;
use fernweh_core::record::{Value, weight_of};
use fernweh_core::sql::{Dialect, write_insert_head, write_row};
use fernweh_ports::{DatabaseTarget, Rejected, Result, RowBatch, Trouble, size};

/// A mode in which the server changes values so that they fit.
const LENIENT: &str = "SET SESSION sql_mode = 'NO_AUTO_VALUE_ON_ZERO,ALLOW_INVALID_DATES'";

type Sent = std::result::Result<(), mysql_async::Error>;

impl MariadbTarget {
    /// Writes rows as the table takes them.
    pub(super) fn take(&mut self, rows: &RowBatch, adapt: bool) -> Result<Vec<Rejected>> {
        self.make_way(rows)?;
        let intake = match self.intake.take().filter(|known| known.table == rows.table) {
            Some(known) => known,
            None => self.learn(rows)?,
        };
        let written = write_fitting(rows, &intake.fits, adapt, &mut |rows| {
            self.write_rows(rows, &intake, adapt)
        });
        self.intake = Some(intake);
        written
    }

    /// Bytes of a statement that the server takes.
    fn packet(&mut self) -> Result<usize> {
        let limit = self.packet_limit()?;
        Ok(limit.map_or(usize::MAX, |limit| usize::try_from(limit.bytes).unwrap_or(usize::MAX)))
    }

    fn refused(&self, table: &str, error: &mysql_async::Error) -> Trouble {
        let mut trouble = self.link.trouble("the database rejected a record", error);
        trouble.place = Some(format!("table {table} of {}", self.link.shown));
        trouble
    }

    /// Sends one row as it comes.
    fn send(&mut self, rows: &RowBatch, row: usize, intake: &Intake) -> Sent {
        let built = self.aside('n', &rows.table);
        if intake.charsets.iter().any(Option::is_some) {
            let row = std::slice::from_ref(&rows.rows[row]);
            return execute(&mut self.link, &built, &rows.columns, &intake.charsets, row);
        }
        let mut sql = Vec::new();
        write_insert_head(Dialect::Mariadb, &built, &rows.columns, &mut sql);
        write_row(Dialect::Mariadb, &rows.rows[row], &mut sql);
        self.link.try_bytes(sql)
    }

    /// An enum that holds none of its values reads as an empty text, which the strict mode does
    /// not take back. Writes such a row, if that is all that is wrong with it.
    fn write_nothing_chosen(
        &mut self,
        rows: &RowBatch,
        row: usize,
        intake: &Intake,
    ) -> Result<bool> {
        let cells = rows.columns.iter().zip(&rows.rows[row]);
        let empty = |value: &&Value| matches!(value, Value::Text(text) if text.is_empty());
        let places: Vec<String> = cells
            .filter(|(_, value)| empty(value))
            .map(|(column, _)| format!("Data truncated for column '{column}' at row 1"))
            .collect();
        // A table that takes nothing back is not tried on.
        if places.is_empty() || !intake.takes_back {
            return Ok(false);
        }
        self.link.run("SAVEPOINT nothing_chosen")?;
        self.link.run(LENIENT)?;
        let written = self.send(rows, row, intake).is_ok();
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
        rows: &RowBatch,
        row: usize,
        intake: &Intake,
        adapt: bool,
    ) -> Result<Option<Rejected>> {
        let (weight, packet) = (weight_of(&rows.rows[row..=row]), self.packet()?);
        if weight > packet {
            // The server would hang up.
            let because = format!(
                "the record has {}, and max_allowed_packet there is {}",
                size(weight as u64),
                size(packet as u64)
            );
            return Ok(Some(Rejected { row, because, adapted: false }));
        }
        let because = match self.send(rows, row, intake) {
            Ok(()) => return Ok(None),
            Err(error) if Link::is_about_value(&error) => Link::message(&error),
            Err(error) => return Err(self.refused(&rows.table, &error)),
        };
        if self.write_nothing_chosen(rows, row, intake)? {
            return Ok(None);
        }
        let mut rejected = Rejected { row, because, adapted: false };
        if adapt {
            self.link.run(LENIENT)?;
            rejected.adapted = self.send(rows, row, intake).is_ok();
            self.link.run(format!("SET SESSION sql_mode = '{}'", MODE))?;
        }
        Ok(Some(rejected))
    }

    pub(super) fn write_rows(
        &mut self,
        rows: &RowBatch,
        intake: &Intake,
        adapt: bool,
    ) -> Result<Vec<Rejected>> {
        let built = self.aside('n', &rows.table);
        if self.loader.load(&mut self.link, &built, &rows.columns, intake, &rows.rows)? {
            return Ok(Vec::new());
        }
        let packet = self.packet()?;
        let mut rejected = Vec::new();
        let mut from = 0;
        while from < rows.rows.len() {
            let (sql, end) = self.statement(rows, from, intake);
            let fits = sql.as_ref().is_none_or(|sql| sql.len() <= packet);
            let there = if intake.takes_back { 0 } else { self.rows_in(&built)? };
            match sql.filter(|_| fits).map(|sql| self.link.try_bytes(sql)) {
                Some(Ok(())) => from = end,
                Some(Err(error)) if !Link::is_about_value(&error) => {
                    return Err(self.refused(&rows.table, &error));
                }
                Some(Err(_)) if !intake.takes_back => {
                    // Those before the one that is refused are in.
                    from += (self.rows_in(&built)? - there) as usize;
                    rejected.extend(self.write_one(rows, from, intake, adapt)?);
                    from += 1;
                }
                Some(Err(_)) | None => {
                    for one in from..end {
                        rejected.extend(self.write_one(rows, one, intake, adapt)?);
                    }
                    from = end;
                }
            }
        }
        Ok(rejected)
    }

    /// One statement for the rows from a place on, and where the next one begins; none where
    /// texts must be converted, which is done row by row.
    fn statement(&self, rows: &RowBatch, from: usize, intake: &Intake) -> (Option<Vec<u8>>, usize) {
        if intake.charsets.iter().any(Option::is_some) {
            return (None, from + 1);
        }
        let mut sql = Vec::new();
        write_insert_head(Dialect::Mariadb, &self.aside('n', &rows.table), &rows.columns, &mut sql);
        for (place, row) in rows.rows.iter().enumerate().skip(from) {
            if place > from {
                sql.extend_from_slice(b",\n");
            }
            write_row(Dialect::Mariadb, row, &mut sql);
            if sql.len() > limits::WRITTEN_INSERT {
                return (Some(sql), place + 1);
            }
        }
        (Some(sql), rows.rows.len())
    }

    fn rows_in(&mut self, built: &str) -> Result<u64> {
        self.link.number(&format!("SELECT count(*) FROM {}", quoted(built)))
    }
}
