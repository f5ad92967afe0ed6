//! Writing the sample site into an empty folder and an empty database.

mod files;
mod rows;
mod tables;
mod words;

use crate::database::{Database, Failure, Place};
use fernweh_core::record::{Row, Value};
use fernweh_core::sql::{Dialect, write_insert_head, write_row};
use std::path::Path;

pub use words::{ARTICLES, article_slug};

/// Where the database file lies in the site's folder, if SQLite is used.
pub const DATABASE_FILE: &str = "data/glimmer.db";

/// What to build.
pub struct Build<'a> {
    /// The site's folder; it must be empty or not there.
    pub root: &'a Path,
    /// Where the database goes.
    pub database: &'a Place,
    /// The number of articles.
    pub articles: u64,
}

/// Builds the whole site.
pub fn build(build: &Build<'_>) -> Result<(), Failure> {
    files::write(build.root, build.database)?;
    let mut database = Database::open(build.database)?;
    let dialect = build.database.dialect();
    for sql in tables::structure(dialect) {
        database.run(sql.as_bytes())?;
    }
    let transaction: &[u8] = match dialect {
        Dialect::Sqlite | Dialect::Postgres => b"BEGIN",
        Dialect::Mariadb => b"START TRANSACTION",
    };
    database.run(transaction)?;
    for (table, columns) in tables::COLUMNS {
        let mut writer = Writer::new(&mut database, dialect, table, columns);
        rows::of_table(table, build.articles, &mut |row| writer.add(row))?;
        writer.flush()?;
    }
    for sql in tables::counters(dialect) {
        database.run(sql.as_bytes())?;
    }
    database.run(b"COMMIT")?;
    for sql in tables::afterwards(dialect) {
        database.run(sql.as_bytes())?;
    }
    Ok(())
}

/// Collects rows into statements of bounded size.
struct Writer<'a> {
    database: &'a mut Database,
    dialect: Dialect,
    table: &'a str,
    columns: Vec<String>,
    sql: Vec<u8>,
}

impl<'a> Writer<'a> {
    fn new(database: &'a mut Database, dialect: Dialect, table: &'a str, columns: &[&str]) -> Self {
        let columns = columns.iter().map(|name| (*name).to_owned()).collect();
        Self { database, dialect, table, columns, sql: Vec::new() }
    }

    fn add(&mut self, mut row: Row) -> Result<(), Failure> {
        if self.dialect == Dialect::Postgres {
            row.iter_mut().for_each(without_zero_bytes);
        }
        if self.sql.is_empty() {
            write_insert_head(self.dialect, self.table, &self.columns, &mut self.sql);
        } else {
            self.sql.extend_from_slice(b",\n");
        }
        write_row(self.dialect, &row, &mut self.sql);
        if self.sql.len() > 256 << 10 { self.flush() } else { Ok(()) }
    }

    fn flush(&mut self) -> Result<(), Failure> {
        if !self.sql.is_empty() {
            self.database.run(&self.sql)?;
            self.sql.clear();
        }
        Ok(())
    }
}

/// PostgreSQL's texts hold no zero bytes; there, the names of properties are public.
fn without_zero_bytes(value: &mut Value) {
    if let Value::Text(bytes) = value
        && bytes.contains(&0)
    {
        let text = String::from_utf8_lossy(bytes);
        let text = text.replace("s:9:\"\0*\0hidden\"", "s:6:\"hidden\"");
        *bytes = text.replace("s:12:\"\0GpWidget\0me\"", "s:2:\"me\"").into_bytes();
    }
}

fn text(value: impl Into<String>) -> Value {
    Value::Text(value.into().into_bytes())
}

fn int(value: u64) -> Value {
    Value::Number(value.to_string().into_bytes())
}
