//! What flows between a source and a target: tables, rows of values, files.
//!
//! Values keep exactly what the database gave; each engine's connector says which
//! of the variants it makes and takes.

use crate::attributes::Attribute;
use crate::rewrite::ColumnText;
use serde::{Deserialize, Serialize};

/// One value of a row.
#[derive(Clone, Debug, PartialEq)]
pub enum Value {
    /// `NULL`
    Null,
    /// A whole number (SQLite).
    Integer(i64),
    /// A floating-point number (SQLite).
    Real(f64),
    /// A number as its digits (MariaDB); never changed on the way.
    Number(Vec<u8>),
    /// Text in the character set of its column.
    Text(Vec<u8>),
    /// Bytes.
    Bytes(Vec<u8>),
}

impl Value {
    /// The bytes of text or binary data.
    pub fn bytes(&self) -> Option<&[u8]> {
        match self {
            Value::Text(bytes) | Value::Bytes(bytes) => Some(bytes),
            _ => None,
        }
    }

    /// The value for people: short, on one line.
    pub fn shown(&self) -> String {
        match self {
            Value::Null => "NULL".into(),
            Value::Integer(number) => number.to_string(),
            Value::Real(number) => number.to_string(),
            Value::Number(digits) => String::from_utf8_lossy(digits).into_owned(),
            Value::Text(bytes) => {
                let text = String::from_utf8_lossy(bytes);
                let short: String = text
                    .chars()
                    .take(40)
                    .map(|ch| if ch.is_control() { '·' } else { ch })
                    .collect();
                if short.len() < text.len() { format!("{short}…") } else { short }
            }
            Value::Bytes(bytes) => {
                format!("0x{}", crate::digest::hex(&bytes[..bytes.len().min(16)]))
            }
        }
    }

    /// Bytes that the value takes in memory, about.
    pub fn weight(&self) -> usize {
        24 + match self {
            Value::Number(bytes) | Value::Text(bytes) | Value::Bytes(bytes) => bytes.len(),
            _ => 8,
        }
    }
}

/// The values of one record, in the order of the columns.
pub type Row = Vec<Value>;

/// Bytes that rows take in memory, about.
pub fn weight_of(rows: &[Row]) -> usize {
    rows.iter().flatten().map(Value::weight).sum()
}

/// A column as rewriting and writing need it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Column {
    /// Its name.
    pub name: String,
    /// What its bytes stand for; `None` for numbers, dates and the like.
    pub text: Option<ColumnText>,
}

/// A table as it is packed.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Table {
    /// Its name.
    pub name: String,
    /// Its columns, without generated ones.
    pub columns: Vec<Column>,
    /// The columns of its primary key, in order; empty if there is none.
    pub key: Vec<String>,
}

impl Table {
    /// The key of a row for people: `id 31`, or the first columns if there is no key.
    pub fn record_name(&self, row: &[Value]) -> String {
        let named: Vec<String> = if self.key.is_empty() {
            self.columns.iter().zip(row).take(2).map(|(c, v)| one(&c.name, v)).collect()
        } else {
            self.columns
                .iter()
                .zip(row)
                .filter(|(column, _)| self.key.contains(&column.name))
                .map(|(c, v)| one(&c.name, v))
                .collect()
        };
        named.join(", ")
    }
}

fn one(name: &str, value: &Value) -> String {
    format!("{name} {}", value.shown())
}

/// The table in which SQLite keeps its counters. It travels like a table, but is none of
/// the site's.
pub const COUNTERS: &str = "sqlite_sequence";

/// The table in which PostgreSQL keeps large objects, page by page. It travels like a table,
/// but is none of the site's.
pub const LARGE_OBJECTS: &str = "pg_catalog.pg_largeobject";

/// Whether a table is the engine's own, and travels only because the site needs what it
/// holds.
pub fn is_of_engine(table: &str) -> bool {
    table == COUNTERS || table == LARGE_OBJECTS
}

/// What a file-tree entry is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum EntryKind {
    /// A regular file of so many bytes.
    File(u64),
    /// A folder.
    Folder,
    /// A symbolic link to this target.
    Link(Vec<u8>),
    /// A further name of the file at this path below the root (a hard link).
    HardLink(Vec<u8>),
}

impl EntryKind {
    /// Whether it is a regular file.
    pub fn is_file(&self) -> bool {
        matches!(self, Self::File(_))
    }
}

/// One entry of a file tree.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Entry {
    /// The path below the root, segments joined by `/`, as raw bytes.
    pub path: Vec<u8>,
    /// What it is.
    pub kind: EntryKind,
    /// Permission bits (07777).
    pub mode: u32,
    /// Seconds since 1970.
    pub mtime: i64,
    /// Nanoseconds of that second.
    pub nanos: u32,
    /// Numeric owner and group.
    pub owner: (u64, u64),
    /// What few entries have.
    pub extra: Extra,
}

/// What few entries of a file tree have.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Extra {
    /// Extended attributes and access lists.
    pub attributes: Vec<Attribute>,
    /// Device and number of a file that has further names, as its machine tells them.
    pub names: Option<(u64, u64)>,
}

impl Extra {
    /// Whether there is nothing.
    pub fn is_empty(&self) -> bool {
        self.attributes.is_empty() && self.names.is_none()
    }
}

impl Entry {
    /// The path for people.
    pub fn shown(&self) -> String {
        String::from_utf8_lossy(&self.path).into_owned()
    }
}
