//! What the columns of a table that is built can hold, and in which characters rows come.

use super::build::MariadbTarget;
use super::intake::Intake;
use super::{quoted, text};
use crate::server::{Fits, Session};
use fernweh_core::fit::Fit;
use fernweh_core::sql::Modes;
use fernweh_ports::{Result, RowBatch};
use std::ops::Range;

/// A column as the server describes it.
struct About {
    name: String,
    charset: Option<String>,
    fit: Option<Fit>,
}

impl MariadbTarget {
    /// How a table that is built takes rows with these columns.
    pub(super) fn learn(&mut self, rows: &RowBatch) -> Result<Intake> {
        let built = self.aside('n', &rows.table);
        let found = self.link.ask(&format!(
            "SELECT engine, table_type FROM information_schema.tables \
             WHERE table_schema = database() AND table_name = {}",
            text(&built)
        ))?;
        let cell = |n: usize| found.first().and_then(|row| row.get(n).cloned().flatten());
        let takes_back = cell(0).as_deref() == Some("InnoDB");
        // A versioned table is filled by statements.
        let in_bulk = takes_back && cell(1).as_deref() == Some("BASE TABLE");
        let mut intake = Intake {
            table: rows.table.clone(),
            takes_back,
            in_bulk,
            charsets: vec![None; rows.columns.len()],
            fits: Fits::new(),
        };
        if !self.link.server.is_mariadb() {
            self.json_takes_characters(&built, rows, &mut intake)?;
        }
        let Some(tables) = &self.packed else { return Ok(intake) };
        let packed = tables.get(&rows.table).map(|one| (one.at.clone(), one.sql.clone()));
        let there = self.columns(&built)?;
        let came = match packed {
            Some((at, sql)) => self.as_packed(&rows.table, &at, &sql)?,
            None => Vec::new(),
        };
        for (place, name) in rows.columns.iter().enumerate() {
            let of = |columns: &'_ [About]| columns.iter().position(|column| column.name == *name);
            let Some(here) = of(&there) else { continue };
            intake.fits.extend(there[here].fit.map(|fit| (place, fit)));
            let from = of(&came).and_then(|at| came[at].charset.clone());
            let differs = from != there[here].charset && there[here].charset.is_some();
            if differs {
                intake.charsets[place] = from;
            }
        }
        Ok(intake)
    }

    /// JSON of MySQL takes characters, and no bytes (error 3144).
    fn json_takes_characters(
        &mut self,
        built: &str,
        rows: &RowBatch,
        intake: &mut Intake,
    ) -> Result<()> {
        let json = self.link.ask(&format!(
            "SELECT column_name FROM information_schema.columns \
             WHERE table_schema = database() AND table_name = {} AND data_type = 'json'",
            text(built)
        ))?;
        for name in json.into_iter().filter_map(|row| row.into_iter().next()?) {
            if let Some(place) = rows.columns.iter().position(|column| *column == name) {
                intake.charsets[place] = Some("utf8mb4".into());
            }
        }
        Ok(())
    }

    /// The columns of a table as it was at the source, which the server tells of an empty one.
    fn as_packed(&mut self, table: &str, at: &Range<usize>, sql: &str) -> Result<Vec<About>> {
        let trial = self.aside('n', &format!("packed {table}"));
        let sql = format!("{}{}{}", &sql[..at.start], quoted(&trial), &sql[at.end..]);
        let sql = self.with_collations(Modes::default(), &sql);
        self.loader.end(&mut self.link)?;
        // The statement is text, and rows are not.
        self.link.run("SET NAMES utf8mb4")?;
        self.link.try_run(&sql).map_err(|error| {
            self.link
                .trouble(&format!("unknown character set of the records of table {table}"), &error)
        })?;
        let columns = self.columns(&trial)?;
        self.link.run(format!("DROP TABLE {}", quoted(&trial)))?;
        self.link.run("SET NAMES binary")?;
        Ok(columns)
    }

    fn columns(&mut self, table: &str) -> Result<Vec<About>> {
        let found = self.link.ask(&format!(
            "SELECT column_name, data_type, character_set_name, numeric_scale, datetime_precision, \
             character_maximum_length FROM information_schema.columns \
             WHERE table_schema = database() AND table_name = {}",
            text(table)
        ))?;
        let columns = found.into_iter().map(|row| {
            let cell = |n: usize| row.get(n).cloned().flatten();
            let size = |n: usize| cell(n).and_then(|number| number.parse().ok()).unwrap_or(0);
            let fit = match cell(1).unwrap_or_default().as_str() {
                "tinyint" | "smallint" | "mediumint" | "int" | "bigint" | "year" => {
                    Some(Fit::Whole)
                }
                "decimal" => Some(Fit::Places(size(3))),
                "float" => Some(Fit::Single),
                "double" => Some(Fit::Double),
                "datetime" | "timestamp" | "time" => Some(Fit::Seconds(size(4))),
                "date" => Some(Fit::Day),
                "char" | "varchar" => Some(Fit::Length(size(5))),
                _ => None,
            };
            About { name: cell(0).unwrap_or_default(), charset: cell(2), fit }
        });
        Ok(columns.collect())
    }
}
