//! The SQL of the archive: writing literals and statements, and reading them back.
//!
//! Only the statement shapes that packing writes are understood; anything else in
//! an archive is refused, because archives come from outside.

mod bodies;
mod collation;
mod copy;
mod database;
mod escape;
mod family;
mod foreign;
mod lexer;
mod literal;
mod pages;
mod prefix;
mod qualified;
mod refused;
mod same;
mod scope;
mod script;
mod statement;
mod texts;

pub use bodies::bodies;
pub use collation::{nearest_collation, with_known_collations};
pub use copy::{
    CopyHead, copy_row_in_pieces, read_copy_row, write_copy_head, write_copy_row, write_load_row,
};
pub use database::without_database;
pub use family::{
    Product, SecondaryKey, Server, named_checks, secondary_keys, with_collations,
    without_host_options,
};
pub use foreign::{ForeignError, ForeignScript, Layout, Meaning, Understood, without_definer};
pub use lexer::{Lexeme, Lexer, Literal, Modes, Step, Token, tokens};
pub use literal::{
    MARIADB_ROW_SETTINGS, POSTGRES_SETTINGS, quote_name, row_in_pieces, write_insert_head,
    write_row, write_structure,
};
pub use pages::{PAGE, read_page, write_page};
pub use prefix::Prefix;
pub use qualified::{Qualified, in_schemas};
pub use refused::StatementError;
pub use same::is_same_structure;
pub use scope::{Outside, left_behind, mentions, used};
pub use script::{ScriptError, ScriptReader};
pub use statement::{
    DefaultName, Insert, ObjectKind, Statement, disabled_event, moved_trigger, renamed,
    renamed_default, sequences_in, with_modes,
};
pub use texts::{Notation, ScriptPart, TextCutter, TextOutcome};

use serde::{Deserialize, Serialize};

/// Whose SQL it is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Dialect {
    /// SQLite.
    Sqlite,
    /// MariaDB and MySQL.
    Mariadb,
    /// PostgreSQL.
    Postgres,
}

impl Dialect {
    /// The name of the engine for people.
    pub fn engine(self) -> &'static str {
        match self {
            Dialect::Sqlite => "SQLite",
            Dialect::Mariadb => "MariaDB",
            Dialect::Postgres => "PostgreSQL",
        }
    }
}
