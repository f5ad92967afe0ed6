//! MariaDB and MySQL: which server it is, what it knows (`server`), how a table of the one is said
//! to the other (`table`), what is written out or left behind at packing (`packing`), and which keys
//! can wait until a table holds its rows (`secondary`).
//! Statements are changed by tokens (`pieces`): a comment that holds a word of a type is no type.
//!
//! Sources: the reference manuals of MySQL 5.7, 8.0 and 8.4 and of MariaDB, for `CREATE TABLE`,
//! server SQL modes and version comments.

mod packing;
mod pieces;
mod secondary;
mod server;
mod table;

pub use packing::{named_checks, with_collations, without_host_options};
pub use secondary::{SecondaryKey, secondary_keys};
pub use server::{Product, Server};

#[cfg(test)]
mod tests;
