//! Writing rows into a table that is built, by `COPY`.

use super::Link;
use super::build::PostgresTarget;
use super::{quoted, text};
use crate::server::{Fits, Session};
use bytes::Bytes;
use fernweh_core::fit::Fit;
use fernweh_core::record::{Row, weight_of};
use fernweh_core::sql::write_copy_row;
use fernweh_ports::{Rejected, Result, RowBatch, Trouble};
use futures_util::{SinkExt, pin_mut};
use std::ops::Range;

impl PostgresTarget {
    /// What the columns of a batch can hold, if its rows were packed from other tables.
    pub(super) fn fits_of(&mut self, rows: &RowBatch) -> Result<Fits> {
        if !self.rows_only {
            return Ok(Fits::new());
        }
        if let Some((_, fits)) = self.fits.as_ref().filter(|(table, _)| *table == rows.table) {
            return Ok(fits.clone());
        }
        let place = self.built(&rows.table);
        let found = self.link.ask(&format!(
            "SELECT column_name, data_type, numeric_scale, datetime_precision, \
             character_maximum_length FROM information_schema.columns \
             WHERE table_schema = {} AND table_name = {}",
            text(&place.schema),
            text(&place.name)
        ))?;
        let fits = found.iter().filter_map(|row| {
            let cell = |n: usize| row.get(n).cloned().flatten();
            let size = |n: usize| cell(n).and_then(|number| number.parse().ok());
            let place = rows.columns.iter().position(|name| Some(name) == cell(0).as_ref())?;
            let fit = match cell(1)?.as_str() {
                "numeric" => Fit::Places(size(2)?),
                "real" => Fit::Single,
                "double precision" => Fit::Double,
                "date" => Fit::Day,
                "character varying" | "character" => Fit::Length(size(4)?),
                kind if kind.starts_with("time") || kind == "interval" => Fit::Seconds(size(3)?),
                _ => return None,
            };
            Some((place, fit))
        });
        let fits: Fits = fits.collect();
        self.fits = Some((rows.table.clone(), fits.clone()));
        Ok(fits)
    }

    pub(super) fn refused(&self, table: &str, error: &tokio_postgres::Error) -> Trouble {
        let mut trouble = self.link.trouble("the database rejected a record", error);
        trouble.place = Some(format!("table {table} of {}", self.link.shown));
        trouble
    }

    /// The statement that takes rows; it is prepared once for all portions of a table.
    pub(super) fn statement(
        &mut self,
        columns: &[String],
        table: &str,
    ) -> std::result::Result<tokio_postgres::Statement, tokio_postgres::Error> {
        let names: Vec<String> = columns.iter().map(|name| quoted(name)).collect();
        let names =
            if names.is_empty() { String::new() } else { format!(" ({})", names.join(",")) };
        let sql = format!("COPY {}{names} FROM STDIN", self.built(table).sql());
        if let Some((_, statement)) = self.prepared.as_ref().filter(|(known, _)| *known == sql) {
            return Ok(statement.clone());
        }
        let Link { runtime, client, .. } = &mut self.link;
        let statement = runtime.block_on(client.prepare(&sql))?;
        self.prepared = Some((sql, statement.clone()));
        Ok(statement)
    }

    /// Sends rows in one `COPY`, behind a savepoint which goes if all is well. On a long way
    /// each wait for an answer counts, so what belongs together is sent without waiting.
    pub(super) fn copy(
        &mut self,
        columns: &[String],
        table: &str,
        rows: &[Row],
    ) -> std::result::Result<(), tokio_postgres::Error> {
        let statement = self.statement(columns, table)?;
        let mut lines = Vec::with_capacity(weight_of(rows));
        rows.iter().for_each(|row| write_copy_row(row, &mut lines));
        let Link { runtime, client, .. } = &mut self.link;
        runtime.block_on(async {
            let savepoint = client.batch_execute("SAVEPOINT portion");
            let (savepoint, sink) = tokio::join!(savepoint, client.copy_in(&statement));
            savepoint?;
            let sink = sink?;
            pin_mut!(sink);
            sink.send(Bytes::from(lines)).await?;
            let release = client.batch_execute("RELEASE SAVEPOINT portion");
            let (copied, released) = tokio::join!(sink.finish(), release);
            copied?;
            released
        })
    }

    /// Sends rows so that a refusal takes only these back.
    pub(super) fn copy_or_take_back(
        &mut self,
        portion: &RowBatch,
        rows: &[Row],
    ) -> Result<Option<String>> {
        let Err(error) = self.copy(&portion.columns, &portion.table, rows) else {
            return Ok(None);
        };
        if !Link::is_about_value(&error) {
            return Err(self.refused(&portion.table, &error));
        }
        self.link.run("ROLLBACK TO SAVEPOINT portion")?;
        Ok(Some(Link::message(&error)))
    }

    /// Sends a stretch of rows; where some are refused, by halves, until it is known which.
    pub(super) fn write_halves(
        &mut self,
        portion: &RowBatch,
        stretch: Range<usize>,
        rejected: &mut Vec<Rejected>,
    ) -> Result<()> {
        let refused = self.copy_or_take_back(portion, &portion.rows[stretch.clone()])?;
        let Some(because) = refused else { return Ok(()) };
        if stretch.len() == 1 {
            rejected.push(Rejected { row: stretch.start, because, adapted: false });
            return Ok(());
        }
        let middle = stretch.start + stretch.len() / 2;
        self.write_halves(portion, stretch.start..middle, rejected)?;
        self.write_halves(portion, middle..stretch.end, rejected)
    }
}
