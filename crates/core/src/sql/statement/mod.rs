//! The shapes of statements that an archive may hold.
//!
//! Each is parsed by a grammar of what packing writes, and made anew from what was parsed
//! (`shape`): nothing passes because nothing wrong was noticed in it. Bodies (of routines,
//! triggers, views, events) are opaque, but there is exactly one, with nothing behind it.

mod insert;
mod mariadb;
mod postgres;
mod reader;
mod shape;
mod sqlite;

pub use insert::Insert;
pub use mariadb::{
    DefaultName, disabled_event, moved_trigger, renamed, renamed_default, sequences_in,
};
pub(in crate::sql) use reader::Reader;

pub use super::refused::StatementError;

use super::Dialect;
use super::lexer::Modes;
use shape::Shape;
use std::ops::Range;

/// One statement of an archive, understood.
#[derive(Clone, Debug, PartialEq)]
pub enum Statement {
    /// A setting of the session, meant for the engine's own client.
    Session,
    /// What follows lies in this schema (PostgreSQL).
    Schema {
        /// The schema.
        name: String,
        /// The whole statement.
        sql: String,
    },
    /// What follows was made with this setting of the session (MariaDB).
    Mode {
        /// `sql_mode`, `time_zone` or `collation_connection`.
        name: String,
        /// Its value.
        value: String,
        /// The whole statement.
        sql: String,
    },
    /// `PRAGMA name = number` of SQLite's file header.
    Pragma {
        /// `user_version`, `application_id`, `encoding`, `page_size` or `journal_mode`.
        name: String,
        /// The whole statement.
        sql: String,
    },
    /// `CREATE TABLE`.
    Table {
        /// The table.
        name: String,
        /// Where its name stands in the statement, with quotes.
        at: Range<usize>,
        /// The whole statement.
        sql: String,
    },
    /// `CREATE INDEX`.
    Index {
        /// The index.
        name: String,
        /// The table it belongs to.
        table: String,
        /// The whole statement.
        sql: String,
    },
    /// `CREATE VIEW`.
    View {
        /// The view.
        name: String,
        /// The whole statement.
        sql: String,
    },
    /// `CREATE TRIGGER`.
    Trigger {
        /// The trigger.
        name: String,
        /// The table it belongs to.
        table: String,
        /// The whole statement.
        sql: String,
    },
    /// `ALTER TABLE … ADD CONSTRAINT … FOREIGN KEY`.
    ForeignKey {
        /// The table that has the key.
        table: String,
        /// The name of the constraint.
        name: String,
        /// The whole statement.
        sql: String,
    },
    /// Any other object, or a property of one.
    Object {
        /// What it is, in words.
        kind: ObjectKind,
        /// Its name.
        name: String,
        /// The table it belongs to, if it belongs to one.
        table: Option<String>,
        /// The whole statement.
        sql: String,
    },
    /// `DELETE FROM "sqlite_sequence"`: the counters follow as rows.
    ClearCounters,
}

/// The kinds of objects beside tables, indexes, views, triggers and foreign keys.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ObjectKind {
    /// A schema.
    Schema,
    /// An extension of the server.
    Extension,
    /// A type or a domain.
    Type,
    /// A function, procedure, aggregate or package.
    Routine,
    /// A large object, still empty; its name is its number.
    LargeObject,
    /// A sequence, its owner or its position.
    Sequence,
    /// A partition, attached.
    Partition,
    /// A key, a check or an exclusion.
    Constraint,
    /// A rule or a policy.
    Rule,
    /// An event.
    Event,
    /// A virtual table, or what it is made of.
    Virtual,
    /// A comment, a statistics object, a collation or a setting of a table.
    Property,
    /// The rows of a materialized view.
    Refresh,
}

impl Statement {
    /// The number of the large object that it makes, if it makes one.
    pub fn large_object(&self) -> Option<&str> {
        match self {
            Statement::Object { kind: ObjectKind::LargeObject, name, .. } => Some(name),
            _ => None,
        }
    }

    /// The statement itself; `None` for what only concerns the client.
    pub fn sql(&self) -> Option<&str> {
        match self {
            Statement::Session | Statement::ClearCounters => None,
            Statement::Schema { sql, .. }
            | Statement::Mode { sql, .. }
            | Statement::Pragma { sql, .. }
            | Statement::Table { sql, .. }
            | Statement::Index { sql, .. }
            | Statement::View { sql, .. }
            | Statement::Trigger { sql, .. }
            | Statement::ForeignKey { sql, .. }
            | Statement::Object { sql, .. } => Some(sql),
        }
    }

    /// Whether it holds a body in which semicolons stand.
    pub fn has_body(&self) -> bool {
        matches!(
            self,
            Statement::Trigger { .. }
                | Statement::Object { kind: ObjectKind::Routine | ObjectKind::Event, .. }
        )
    }

    /// Understands one statement of a structure member, written in these modes; what it says
    /// is made anew from what was understood.
    pub fn parse(dialect: Dialect, modes: Modes, statement: &[u8]) -> Result<Self, StatementError> {
        let mut shape = Shape::new(dialect, modes, statement);
        if shape.is_empty() {
            // A comment, perhaps one for the engine's own client.
            return Ok(Statement::Session);
        }
        match dialect {
            Dialect::Sqlite => sqlite::parse(&mut shape, statement),
            Dialect::Mariadb => mariadb::parse(shape),
            Dialect::Postgres => postgres::parse(shape),
        }
    }

    /// The modes in which what follows it is written, if it sets them.
    pub fn sets_modes(&self) -> Option<Modes> {
        match self {
            Statement::Mode { name, value, .. } if name == "sql_mode" => {
                Some(Modes::of_sql_mode(value))
            }
            _ => None,
        }
    }
}

/// Statements, each with the modes in which it is written.
pub fn with_modes<'a>(
    statements: impl IntoIterator<Item = &'a Statement>,
) -> impl Iterator<Item = (Modes, &'a Statement)> {
    let mut modes = Modes::default();
    statements.into_iter().map(move |statement| {
        modes = statement.sets_modes().unwrap_or(modes);
        (modes, statement)
    })
}

#[cfg(test)]
mod tests;
