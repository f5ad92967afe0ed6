//! SQLite, the embedded default.

mod build;
mod carry;
mod digest;
mod editor;
mod exchange;
mod fitting;
mod keeper;
mod outside;
mod remote;
mod script;
mod source;
mod target;

pub use build::SqliteTarget;
pub use editor::SqliteEditor;
pub use keeper::SqliteKeeper;
pub use remote::{
    RemoteSqlite, RemoteSqliteEditor, RemoteSqlitePlace, RemoteSqliteTarget, Snapshot,
};
pub use script::SqliteScript;
pub use source::SqliteSource;

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
        Some(CannotOpen) if !path.exists() => {
            return Trouble::outside(what)
                .at(format!("sqlite:{}", path.display()))
                .because("there is no such file")
                .hint("check the path of database");
        }
        Some(CannotOpen) => ("the database file cannot be opened", "check the path of database"),
        Some(NotADatabase) => ("this file is not a SQLite database", "check the path of database"),
        Some(DatabaseCorrupt) => ("the database file is damaged", "restore it from a backup first"),
        Some(DatabaseBusy | DatabaseLocked) => {
            ("the database is in use", "stop the site for a moment and try again")
        }
        Some(ReadOnly) => ("the database file cannot be written", "check its permissions"),
        Some(DiskFull) => ("the disk is full", "make room, or choose another disk"),
        Some(PermissionDenied) => ("no right to open the file", "check owner and permissions"),
        _ => ("SQLite reports an error", "check the message of SQLite above"),
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
struct ListedTable {
    name: String,
    /// `table`, `virtual`, `shadow` or `view`.
    kind: String,
    without_rowid: bool,
}

fn list(db: &Connection) -> rusqlite::Result<Vec<ListedTable>> {
    let mut query = db.prepare(
        "SELECT name, type, wr FROM pragma_table_list \
         WHERE schema = 'main' AND name NOT LIKE 'sqlite\\_%' ESCAPE '\\' ORDER BY name",
    )?;
    let found = query.query_map([], |row| {
        Ok(ListedTable { name: row.get(0)?, kind: row.get(1)?, without_rowid: row.get(2)? })
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

/// Modules of virtual tables whose content lies in tables of its own.
const MODULES: [&str; 5] = ["fts3", "fts4", "fts5", "rtree", "geopoly"];

/// The module of a virtual table, if its content can be carried.
fn module(sql: &str) -> Option<&'static str> {
    let words: Vec<String> =
        sql.split(|c: char| c.is_whitespace() || c == '(').map(str::to_ascii_lowercase).collect();
    let using = words.iter().position(|word| word == "using")?;
    MODULES.into_iter().find(|name| words.get(using + 1).is_some_and(|word| word == name))
}

/// The statement with which an object was made.
fn made_by(db: &Connection, name: &str) -> rusqlite::Result<String> {
    let query = "SELECT sql FROM sqlite_schema WHERE type = 'table' AND name = ?1";
    db.query_row(query, [name], |row| row.get(0))
}

/// The virtual table to which a shadow table belongs.
fn owner_of<'a>(shadow: &str, found: &'a [ListedTable]) -> Option<&'a ListedTable> {
    let owners = found.iter().filter(|one| {
        let rest = shadow.strip_prefix(one.name.as_str());
        one.kind == "virtual" && rest.is_some_and(|rest| rest.starts_with('_'))
    });
    owners.max_by_key(|one| one.name.len())
}

/// The rowid as a column of its own, where the rows would get others otherwise: no column
/// stands for it, and they are not simply counted.
fn own_rowid(
    db: &Connection,
    table: &Table,
    without: bool,
) -> rusqlite::Result<Option<&'static str>> {
    let Some(name) = rowid_name(table).filter(|_| !without) else { return Ok(None) };
    let quoted = quoted(&table.name);
    // A column of type INTEGER that is the whole primary key is the rowid.
    let alias: i64 = db.query_row(
        "SELECT count(*) FROM pragma_table_xinfo(?1) WHERE pk = 1 AND upper(type) = 'INTEGER' \
         AND (SELECT count(*) FROM pragma_table_xinfo(?1) WHERE pk > 0) = 1",
        [&table.name],
        |row| row.get(0),
    )?;
    if alias > 0 {
        return Ok(None);
    }
    let query = format!(
        "SELECT count(*), coalesce(min({name}), 1), coalesce(max({name}), 0) FROM {quoted}"
    );
    let counted: bool = db.query_row(&query, [], |row| {
        let (count, least, most): (i64, i64, i64) = (row.get(0)?, row.get(1)?, row.get(2)?);
        Ok(least == 1 && most == count)
    })?;
    Ok((!counted).then_some(name))
}

/// A table as it is packed.
fn describe_with_rowid(db: &Connection, found: &ListedTable) -> rusqlite::Result<Table> {
    let mut table = describe(db, &found.name)?;
    if let Some(name) = own_rowid(db, &table, found.without_rowid)? {
        table.columns.insert(0, Column { name: name.into(), text: None });
    }
    Ok(table)
}

/// The name under which a table's rowid can be used, unless columns hide all of them.
fn rowid_name(table: &Table) -> Option<&'static str> {
    ["rowid", "_rowid_", "oid"]
        .into_iter()
        .find(|name| !table.columns.iter().any(|c| c.name.eq_ignore_ascii_case(name)))
}
