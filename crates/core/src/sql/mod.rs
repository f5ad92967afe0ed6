//! The SQL of the archive: writing literals and statements, and reading them back.
//!
//! Only the statement shapes that packing writes are understood; anything else in
//! an archive is refused, because archives come from outside.

mod lexer;
mod literal;
mod script;
mod statement;

pub use lexer::{Token, tokens};
pub use literal::{quote_name, write_insert_head, write_row, write_structure};
pub use script::{ScriptError, ScriptReader};
pub use statement::{Insert, Statement, StatementError};

use serde::{Deserialize, Serialize};

/// Whose SQL it is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Dialect {
    /// SQLite.
    Sqlite,
    /// MariaDB and MySQL.
    Mariadb,
}

impl Dialect {
    /// The name of the engine for people.
    pub fn engine(self) -> &'static str {
        match self {
            Dialect::Sqlite => "SQLite",
            Dialect::Mariadb => "MariaDB",
        }
    }
}
