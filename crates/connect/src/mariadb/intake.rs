//! How a table that is built takes rows.

use crate::server::Fits;
use fernweh_core::sql::Statement;
use std::collections::BTreeMap;
use std::ops::Range;

/// The statement that made a table at the source, and where its name stands in it.
pub(super) struct Packed {
    pub at: Range<usize>,
    pub sql: String,
}

/// The tables among these statements.
pub(super) fn tables_of(structure: &[Statement]) -> BTreeMap<String, Packed> {
    let tables = structure.iter().filter_map(|statement| match statement {
        Statement::Table { name, at, sql } => {
            Some((name.clone(), Packed { at: at.clone(), sql: sql.clone() }))
        }
        _ => None,
    });
    tables.collect()
}

/// How one table takes rows.
pub(super) struct Intake {
    /// The table, under its name at the site.
    pub table: String,
    /// Whether it takes back a statement that fails, or a portion.
    pub takes_back: bool,
    /// Whether rows can be loaded in bulk.
    pub in_bulk: bool,
    /// For each column that is written, the character set in which its texts come, if it is
    /// another than the column's.
    pub charsets: Vec<Option<String>>,
    /// What the columns can hold.
    pub fits: Fits,
}
