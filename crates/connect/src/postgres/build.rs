//! What is being built, and under which names.

use super::Link;
use super::describe::in_list;
use crate::server::{Fits, ServerAddress, aside};
use fernweh_core::sql::Qualified;
use std::collections::{BTreeMap, BTreeSet};

/// The large objects of the new state.
#[derive(Default)]
pub(super) struct LargeObjects {
    /// Where their numbers are noted until the switch; nothing if there are none.
    pub(super) noted_in: Option<String>,
    /// Numbers that were taken, and what is used instead.
    pub(super) instead: BTreeMap<u32, u32>,
    /// Columns that follow, by table.
    pub(super) following: BTreeMap<String, Vec<String>>,
}

/// A database whose objects are to be replaced.
pub struct PostgresTarget {
    pub(super) link: Link,
    pub(super) address: ServerAddress,
    pub(super) run: String,
    /// The schemas of the archive and what it makes in each.
    pub(super) names: BTreeMap<String, BTreeSet<String>>,
    pub(super) tables: Vec<String>,
    /// Portions of rows in the open transaction.
    pub(super) portions: u32,
    /// The statement that takes rows of the table at hand.
    pub(super) prepared: Option<(String, tokio_postgres::Statement)>,
    /// The rows come into tables as they are there.
    pub(super) rows_only: bool,
    /// What the columns of the table at hand can hold.
    pub(super) fits: Option<(String, Fits)>,
    /// Types and routines that are there are used.
    pub(super) uses_what_is_there: bool,
    /// Tables that go although nothing takes their place.
    pub(super) removed: Vec<String>,
    /// Foreign keys whose records lead nowhere.
    pub(super) orphans: Vec<String>,
    pub(super) notes: Vec<String>,
    /// Objects of the archive that the server has refused.
    pub(super) not_created: Vec<String>,
    /// The large objects of the new state.
    pub(super) large: LargeObjects,
    /// It only fills tables that another connection has built.
    pub(super) is_second: bool,
}

impl PostgresTarget {
    /// The schema for the new (`n`) or old (`o`) state of a schema.
    pub(super) fn aside(&self, kind: char, schema: &str) -> String {
        aside(&self.run, kind, schema)
    }

    pub(super) fn built(&self, table: &str) -> Qualified {
        let place = Qualified::parse(table);
        Qualified::new(&self.aside('n', &place.schema), &place.name)
    }

    /// The schemas of the archive as a list for `IN`.
    pub(super) fn schema_list(&self) -> String {
        in_list(&self.names.keys().cloned().collect::<Vec<_>>())
    }
}
