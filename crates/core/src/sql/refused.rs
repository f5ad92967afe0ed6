//! Why a statement is refused.

use thiserror::Error;

/// Why a statement is not one of those that packing writes.
#[derive(Debug, Error, PartialEq, Eq)]
pub enum StatementError {
    /// Not a kind of statement that an archive holds.
    #[error("a statement that archives do not hold: {0}")]
    Shape(String),
    /// A part of a statement that reaches outside the database.
    #[error("a statement that reaches outside the database ({0})")]
    Outside(String),
    /// Parentheses in each other without end.
    #[error("a statement that is nested too deeply")]
    Deep,
    /// More than packing ever writes at once.
    #[error("a statement that holds too many {0}")]
    TooMuch(&'static str),
    /// Broken off, or not SQL.
    #[error("a statement that cannot be read")]
    Unreadable,
}
