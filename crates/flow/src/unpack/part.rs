//! The part of an archive that is taken, and the names that it gets.

use crate::patterns::Patterns;
use crate::stream;
use fernweh_core::record::{COUNTERS, Column, Row, Table, Value};
use fernweh_core::sql::{Dialect, Prefix, Statement, with_modes};
use fernweh_ports::{Result, Trouble};

/// Which part of an archive is taken, and how.
#[derive(Clone, Debug, Default)]
pub struct Part {
    /// Only some tables are taken.
    pub some_tables: bool,
    /// Only these files; the others at the destination stay. All without it.
    pub files: Option<Patterns>,
    /// The rows of the archive in tables as the destination has them.
    pub rows_only: bool,
    /// Tables that the archive does not hold are removed.
    pub exactly: bool,
    /// Tables under another prefix.
    pub prefix: Option<Prefix>,
    /// Columns whose values carry the prefix, as `table.column` of the archive.
    pub prefix_in: Vec<String>,
}

impl Part {
    /// The name of a table of the archive at the destination.
    pub fn renamed(&self, dialect: Dialect, table: &str) -> String {
        match &self.prefix {
            Some(prefix) => prefix.rename_table(dialect, table),
            None => table.to_owned(),
        }
    }

    /// Changes the prefix in the values that carry it; gives how many.
    pub fn change_values(&self, table: &Table, rows: &mut [Row]) -> u64 {
        let Some(prefix) = &self.prefix else { return 0 };
        let carries = |column: &Column| {
            // The counters of SQLite are named by their tables.
            table.name == COUNTERS && column.name == "name"
                || self.prefix_in.contains(&format!("{}.{}", table.name, column.name))
        };
        let places: Vec<usize> = table
            .columns
            .iter()
            .enumerate()
            .filter(|(_, column)| carries(column))
            .map(|(place, _)| place)
            .collect();
        let mut changed = 0;
        for row in rows.iter_mut().filter(|_| !places.is_empty()) {
            for place in &places {
                if let Value::Text(text) = &mut row[*place]
                    && let Some(rest) = text.strip_prefix(prefix.old.as_bytes())
                {
                    *text = [prefix.new.as_bytes(), rest].concat();
                    changed += u64::from(table.name != COUNTERS);
                }
            }
        }
        changed
    }

    /// Statements with the prefix in the names that they make together with `others`.
    pub fn statements(
        &self,
        dialect: Dialect,
        statements: &[Statement],
        others: &[Statement],
    ) -> Result<Vec<Statement>> {
        let Some(prefix) = &self.prefix else { return Ok(statements.to_vec()) };
        let names = prefix.names(dialect, statements.iter().chain(others));
        let mut schema = "public".to_owned();
        let new = with_modes(statements).map(|(modes, statement)| {
            let mut new = prefix.statement(dialect, modes, statement, &names).map_err(|error| {
                Trouble::damaged("a statement cannot be written for another prefix").because(error)
            })?;
            if dialect == Dialect::Postgres {
                stream::qualify(&mut new, &mut schema);
            }
            Ok(new)
        });
        new.collect()
    }
}
