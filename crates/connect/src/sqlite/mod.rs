//! SQLite, the embedded default.

mod editor;
mod source;
mod target;

pub use editor::SqliteEditor;
pub use source::SqliteSource;
pub use target::SqliteTarget;

use fernweh_core::record::{Column, Table, Value};
use fernweh_core::rewrite::ColumnText;
use fernweh_core::sql::{Dialect, quote_name};
use fernweh_ports::Trouble;
use rusqlite::Connection;
use rusqlite::types::{ToSqlOutput, ValueRef};
use std::path::{Path, PathBuf};

/// The files that belong to a database file.
pub fn companions(path: &Path) -> [PathBuf; 3] {
    ["-wal", "-shm", "-journal"].map(|ending| {
        let mut name = path.as_os_str().to_owned();
        name.push(ending);
        PathBuf::from(name)
    })
}

fn quoted(name: &str) -> String {
    quote_name(Dialect::Sqlite, name)
}

/// An error of SQLite in plain words.
fn trouble(what: &str, path: &Path, error: &rusqlite::Error) -> Trouble {
    use rusqlite::ErrorCode::*;
    let (because, hint) = match error.sqlite_error_code() {
        Some(CannotOpen) => ("the database file cannot be opened", "check the path of database"),
        Some(NotADatabase) => ("this file is not a SQLite database", "check the path of database"),
        Some(DatabaseCorrupt) => {
            ("the database file is damaged", "restore it from a safety copy first")
        }
        Some(DatabaseBusy | DatabaseLocked) => {
            ("the database is in use", "stop the site for a moment and try again")
        }
        Some(ReadOnly) => ("the database file cannot be written", "check its permissions"),
        Some(DiskFull) => ("no room left on the disk", "make room, or choose another disk"),
        Some(PermissionDenied) => ("no right to open the file", "check owner and permissions"),
        _ => ("SQLite reports an error", "see the message of SQLite above"),
    };
    Trouble::outside(what)
        .at(format!("sqlite:{}", path.display()))
        .because(format!("{because} ({error})"))
        .hint(hint)
}

fn value_of(value: ValueRef<'_>) -> Value {
    match value {
        ValueRef::Null => Value::Null,
        ValueRef::Integer(number) => Value::Integer(number),
        ValueRef::Real(number) => Value::Real(number),
        ValueRef::Text(text) => Value::Text(text.to_vec()),
        ValueRef::Blob(bytes) => Value::Bytes(bytes.to_vec()),
    }
}

/// A value as a parameter. SQLite takes text of any bytes, so nothing is checked.
struct Parameter<'a>(&'a Value);

impl rusqlite::ToSql for Parameter<'_> {
    fn to_sql(&self) -> rusqlite::Result<ToSqlOutput<'_>> {
        Ok(ToSqlOutput::Borrowed(match self.0 {
            Value::Null => ValueRef::Null,
            Value::Integer(number) => ValueRef::Integer(*number),
            Value::Real(number) => ValueRef::Real(*number),
            Value::Text(text) | Value::Number(text) => ValueRef::Text(text),
            Value::Bytes(bytes) => ValueRef::Blob(bytes),
        }))
    }
}

/// A table of the schema.
struct Found {
    name: String,
    /// `table`, `virtual`, `shadow` or `view`.
    kind: String,
    without_rowid: bool,
}

fn list(db: &Connection) -> rusqlite::Result<Vec<Found>> {
    let mut query = db.prepare(
        "SELECT name, type, wr FROM pragma_table_list \
         WHERE schema = 'main' AND name NOT LIKE 'sqlite\\_%' ESCAPE '\\' ORDER BY name",
    )?;
    let found = query.query_map([], |row| {
        Ok(Found { name: row.get(0)?, kind: row.get(1)?, without_rowid: row.get(2)? })
    })?;
    found.collect()
}

fn describe(db: &Connection, name: &str) -> rusqlite::Result<Table> {
    let mut query =
        db.prepare("SELECT name, pk FROM pragma_table_xinfo(?1) WHERE hidden = 0 ORDER BY cid")?;
    let mut keyed: Vec<(i64, String)> = Vec::new();
    let mut columns = Vec::new();
    let mut rows = query.query([name])?;
    while let Some(row) = rows.next()? {
        let (name, pk): (String, i64) = (row.get(0)?, row.get(1)?);
        if pk > 0 {
            keyed.push((pk, name.clone()));
        }
        columns.push(Column { name, text: Some(ColumnText::Utf8) });
    }
    keyed.sort();
    let key = keyed.into_iter().map(|(_, name)| name).collect();
    Ok(Table { name: name.to_owned(), columns, key })
}

fn column_list(table: &Table) -> String {
    table.columns.iter().map(|c| quoted(&c.name)).collect::<Vec<_>>().join(",")
}

/// The name under which a table's rowid can be used, unless columns hide all of them.
fn rowid_name(table: &Table) -> Option<&'static str> {
    ["rowid", "_rowid_", "oid"]
        .into_iter()
        .find(|name| !table.columns.iter().any(|c| c.name.eq_ignore_ascii_case(name)))
}
