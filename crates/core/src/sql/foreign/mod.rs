//! SQL scripts of others, understood: what they make becomes the structure of an archive,
//! their rows the rows of one.
//!
//! Reading takes two passes. The first hands every statement to a [`ForeignScript`], which
//! collects the structure; what a script says about a table in several statements becomes
//! one. The second hands them to the [`Understood`] that came of it, for the rows.
//! Only what makes tables and their like is taken; a statement that reaches for files,
//! programs, users or other databases ends it by name. SQLite's scripts need none of
//! this: the engine runs them itself, in a file of their own.

mod charsets;
mod definition;
mod layout;
mod mariadb;
mod marks;
mod postgres;
mod rows;

pub use layout::Layout;
pub use marks::without_definer;

use super::lexer::Modes;
use super::statement::{Reader, Statement, StatementError};
use super::{Dialect, Qualified};
use crate::record::{Row, Table};
use crate::rewrite::ColumnText;
use definition::{Definition, Key};
use rows::InsertHead;
use std::collections::{BTreeMap, BTreeSet};
use thiserror::Error;

/// Why a script is not taken.
#[derive(Debug, Error, PartialEq, Eq)]
pub enum ForeignError {
    /// A kind of statement that is not executed.
    #[error("`{0}` is not executed: it is none of the kinds that rows and tables need")]
    Refused(String),
    /// A statement that cannot be read.
    #[error("`{statement}` cannot be used: {why}")]
    Unread {
        /// How it begins.
        statement: String,
        /// Why.
        why: String,
    },
    /// Several databases.
    #[error("it fills more than one database: {0} and {1}")]
    Databases(String, String),
    /// Rows of a table that the script does not make.
    #[error("it fills table {0} but does not create it")]
    NoTable(String),
    /// Rows that name a column that their table does not have.
    #[error("it fills column {column} of table {table}, which has no such column")]
    NoColumn {
        /// The table.
        table: String,
        /// The column.
        column: String,
    },
    /// Rows that name columns in two ways.
    #[error("it fills table {0} in two ways: once with other columns than before")]
    Columns(String),
    /// Times in a zone that is not UTC.
    #[error("its times are those of time zone {0}; only UTC is read")]
    TimeZone(String),
    /// A value that does not fit its column.
    #[error("record {record} of table {table}: {why}")]
    Value {
        /// The table.
        table: String,
        /// Which of its records, counted from one.
        record: u64,
        /// Why.
        why: String,
    },
}

/// What a statement is to the first pass.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Meaning {
    /// It is done with.
    Noted,
    /// It is rows, which the second pass reads.
    Rows,
    /// The lines behind it are rows, up to `\.`.
    Lines,
}

/// One part of the structure: its kind and name, by which a `DROP` finds it, and where it
/// lies.
#[derive(Clone, Debug)]
struct StructurePart {
    kind: &'static str,
    name: String,
    schema: String,
    statement: Statement,
}

/// The first pass.
#[derive(Debug)]
pub struct ForeignScript {
    dialect: Dialect,
    /// The character set of tables that name none (MariaDB).
    usual: String,
    /// That of the script's texts.
    charset: String,
    time_zone: Option<String>,
    /// The time zones under which rows come.
    row_zones: BTreeSet<Option<String>>,
    /// The database that the script names, if it names one.
    database: Option<String>,
    /// Where names lie that say nothing (PostgreSQL).
    schema: String,
    tables: Vec<(String, Definition)>,
    keys: Vec<(String, Key)>,
    /// Tables that have another's columns too (PostgreSQL).
    parents: BTreeMap<String, String>,
    types: BTreeMap<String, Option<ColumnText>>,
    /// The columns that rows name, by table; empty if they name none.
    named: BTreeMap<String, Vec<String>>,
    before: Vec<StructurePart>,
    after: Vec<StructurePart>,
    left_out: BTreeMap<&'static str, u64>,
    /// The modes of the statement at hand.
    modes: Modes,
}

/// What came of the first pass, and the second.
#[derive(Debug)]
pub struct Understood {
    /// The tables as a manifest lists them.
    pub tables: Vec<Table>,
    /// What rows need.
    pub before: Vec<Statement>,
    /// What needs rows.
    pub afterwards: Vec<Statement>,
    /// What is left out or taken otherwise, for people.
    pub notes: Vec<String>,
    dialect: Dialect,
    layouts: BTreeMap<String, Layout>,
    charset: String,
    schema: String,
    records: BTreeMap<String, u64>,
}

/// A table by its name, or by its name in small letters, as servers read bare names.
fn known<'a>(tables: &'a [(String, Definition)], name: &str) -> Option<&'a (String, Definition)> {
    let find = |wanted: &str| tables.iter().find(|(name, _)| name == wanted);
    find(name).or_else(|| find(&name.to_lowercase()))
}

/// How a statement begins, for people.
fn beginning(statement: &[u8]) -> String {
    let text = String::from_utf8_lossy(&statement[..statement.len().min(400)]);
    let words: Vec<&str> = text.split_whitespace().collect();
    let line = words.join(" ");
    let short: String = line.chars().take(60).collect();
    if short.len() < line.len() { format!("{short}…") } else { short }
}

fn unread(statement: &[u8], error: &StatementError) -> ForeignError {
    let statement = beginning(statement);
    match error {
        StatementError::Shape(shape) => match shape.rsplit_once(" (at ") {
            Some((_, at)) if !shape.starts_with(at.trim_end_matches(')')) => {
                let why = format!("`{}` is not allowed there", at.trim_end_matches(')'));
                ForeignError::Unread { statement, why }
            }
            _ => ForeignError::Refused(statement),
        },
        StatementError::Outside(_) => ForeignError::Unread { statement, why: error.to_string() },
        StatementError::Deep | StatementError::TooMuch(_) => {
            ForeignError::Unread { statement, why: error.to_string() }
        }
        StatementError::Unreadable => {
            ForeignError::Unread { statement, why: "it is not SQL of this database".into() }
        }
    }
}

impl ForeignScript {
    /// Begins with a script for `dialect`; `usual` is the destination's character set.
    pub fn new(dialect: Dialect, usual: &str) -> Self {
        Self {
            dialect,
            usual: usual.to_owned(),
            charset: "utf8mb4".into(),
            time_zone: None,
            row_zones: BTreeSet::new(),
            database: None,
            schema: "public".into(),
            tables: Vec::new(),
            keys: Vec::new(),
            parents: BTreeMap::new(),
            types: BTreeMap::new(),
            named: BTreeMap::new(),
            before: Vec::new(),
            after: Vec::new(),
            left_out: BTreeMap::new(),
            modes: Modes::default(),
        }
    }

    /// Takes the next statement, written in these modes.
    pub fn take(&mut self, statement: &[u8], modes: Modes) -> Result<Meaning, ForeignError> {
        self.modes = modes;
        let whole = marks::plain(self.dialect, modes, statement)
            .map_err(|error| unread(statement, &error))?;
        let whole = whole.trim_ascii();
        if self.dialect == Dialect::Mariadb && self.after.is_empty() {
            self.begin_in_usual_mode()?;
        }
        if Reader::new(self.dialect, whole).is_empty() {
            return Ok(Meaning::Noted);
        }
        match self.dialect {
            Dialect::Postgres => self.take_postgres(whole),
            _ => self.take_mariadb(whole, statement),
        }
    }

    /// Notes the columns that rows come with.
    fn note_rows(&mut self, table: String, columns: Vec<String>) -> Result<(), ForeignError> {
        let Some((table, made)) = known(&self.tables, &table) else {
            return Err(ForeignError::NoTable(table));
        };
        let table = table.clone();
        let mut columns = columns;
        if columns.is_empty() && self.dialect == Dialect::Mariadb {
            // Those that the table has so far; others may be added behind the rows.
            columns = Layout::mariadb(made, &self.usual).names();
        }
        match self.named.get(&table) {
            Some(before) if *before != columns => Err(ForeignError::Columns(table)),
            Some(_) => Ok(()),
            None => {
                self.named.insert(table, columns);
                Ok(())
            }
        }
    }

    /// Adds a statement of the shapes that archives hold.
    fn add(&mut self, late: bool, kind: &'static str, sql: &str) -> Result<(), ForeignError> {
        self.add_in(Modes::default(), late, kind, sql)
    }

    /// The same for a statement that keeps the notation of its modes.
    fn add_in(
        &mut self,
        modes: Modes,
        late: bool,
        kind: &'static str,
        sql: &str,
    ) -> Result<(), ForeignError> {
        let statement = Statement::parse(self.dialect, modes, sql.as_bytes())
            .map_err(|error| unread(sql.as_bytes(), &error))?;
        let name = match &statement {
            Statement::Table { name, .. }
            | Statement::View { name, .. }
            | Statement::Trigger { name, .. }
            | Statement::Index { name, .. }
            | Statement::ForeignKey { name, .. }
            | Statement::Object { name, .. } => name.clone(),
            _ => String::new(),
        };
        let list = if late { &mut self.after } else { &mut self.before };
        list.push(StructurePart { kind, name, schema: self.schema.clone(), statement });
        Ok(())
    }

    /// Forgets what a `DROP` takes away again. Rows cannot be taken away: the second pass
    /// would meet them.
    fn forget(&mut self, kind: &str, name: &str) -> Result<(), StatementError> {
        if kind == "TABLE" && self.named.contains_key(name) {
            return Err(StatementError::Shape(format!("DROP TABLE {name}")));
        }
        for list in [&mut self.before, &mut self.after] {
            list.retain(|part| part.kind != kind || part.name != name);
        }
        if kind == "TABLE" {
            self.tables.retain(|(table, _)| table != name);
            self.keys.retain(|(table, _)| table != name);
        }
        Ok(())
    }

    fn definition(&mut self, table: &str) -> Result<&mut Definition, ForeignError> {
        let found = self.tables.iter_mut().find(|(name, _)| name == table);
        found.map(|(_, made)| made).ok_or_else(|| ForeignError::NoTable(table.to_owned()))
    }

    /// Ends the first pass.
    pub fn understood(mut self) -> Result<Understood, ForeignError> {
        let mut layouts = BTreeMap::new();
        let mut notes = Vec::new();
        for (name, made) in &self.tables {
            let mut layout = match self.dialect {
                Dialect::Postgres => Layout::postgres(name, made, &self.types),
                _ => Layout::mariadb(made, &self.usual),
            };
            if let Some(parent) = self.parents.get(name).and_then(|parent| layouts.get(parent)) {
                layout = layout.below(parent);
            }
            if let Some(columns) = self.named.get(name).filter(|columns| !columns.is_empty()) {
                layout = layout
                    .with_columns(columns)
                    .map_err(|column| ForeignError::NoColumn { table: name.clone(), column })?;
            }
            layouts.insert(name.clone(), layout);
        }
        if self.dialect == Dialect::Mariadb {
            if layouts.values().any(|layout| layout.has_timestamps) {
                notes.extend(self.check_time_zones()?);
            }
            self.put_tables_together()?;
        }
        for (what, count) in &self.left_out {
            let statements = if *count == 1 { "statement" } else { "statements" };
            notes.push(format!("left out: {what} ({count} {statements})"));
        }
        let tables: Vec<Table> = layouts.values().map(|layout| layout.table.clone()).collect();
        Ok(Understood {
            tables,
            before: self.in_schemas(&self.before),
            afterwards: self.in_schemas(&self.after),
            notes,
            dialect: self.dialect,
            layouts,
            charset: "utf8mb4".into(),
            schema: "public".into(),
            records: BTreeMap::new(),
        })
    }

    /// Statements with the schema named wherever it changes (PostgreSQL).
    fn in_schemas(&self, parts: &[StructurePart]) -> Vec<Statement> {
        let mut schema = None;
        let mut statements = Vec::new();
        for part in parts {
            if self.dialect == Dialect::Postgres && schema != Some(&part.schema) {
                let name = part.schema.clone();
                let sql = format!("SET search_path = {}", super::quote_name(self.dialect, &name));
                statements.push(Statement::Schema { name, sql });
                schema = Some(&part.schema);
            }
            statements.push(part.statement.clone());
        }
        statements
    }
}

impl Understood {
    /// The layout of a table.
    pub fn layout(&self, table: &str) -> Option<&Layout> {
        self.layouts.get(table)
    }

    /// The name under which a table is known.
    fn known(&self, table: String) -> Result<String, ForeignError> {
        if self.layouts.contains_key(&table) {
            return Ok(table);
        }
        let folded = table.to_lowercase();
        let found = self.layouts.contains_key(&folded);
        if found { Ok(folded) } else { Err(ForeignError::NoTable(table)) }
    }

    /// Hands the rows of a statement over, one at a time, with their table; says of which table
    /// rows follow as lines, if they do.
    pub fn rows<E: From<ForeignError>>(
        &mut self,
        statement: &[u8],
        modes: Modes,
        visit: &mut dyn FnMut(&str, Row) -> Result<(), E>,
    ) -> Result<Option<String>, E> {
        let whole = marks::plain(self.dialect, modes, statement)
            .map_err(|error| unread(statement, &error))?;
        let wrong = |error| E::from(unread(&whole, &error));
        let mut reader = Reader::new(self.dialect, &whole);
        let Ok(first) = reader.word() else { return Ok(None) };
        match first.to_ascii_uppercase().as_str() {
            "SET" if self.dialect == Dialect::Mariadb => {
                if let Some(charset) = mariadb::charset_set(&whole) {
                    self.charset = charset;
                }
                Ok(None)
            }
            "SET" => {
                if let Some(schema) = postgres::schema_set(&whole) {
                    self.schema = schema;
                }
                Ok(None)
            }
            "COPY" => {
                let head = postgres::copy_head(&whole, &self.schema).map_err(wrong)?;
                Ok(Some(self.known(head.table)?))
            }
            "INSERT" | "REPLACE" => {
                let head = InsertHead::read(&mut reader).map_err(wrong)?;
                let table = match self.dialect {
                    Dialect::Postgres => {
                        let schema = head.place.as_ref().unwrap_or(&self.schema);
                        Qualified::new(schema, &head.table).to_string()
                    }
                    _ => head.table,
                };
                let table = self.known(table)?;
                let layout = &self.layouts[&table];
                let record = self.records.entry(table.clone()).or_default();
                let charset = &self.charset;
                rows::rows(&mut reader, self.dialect, &wrong, &mut |row| {
                    *record += 1;
                    let kept = layout.row(row, charset).map_err(|why| ForeignError::Value {
                        table: table.clone(),
                        record: *record,
                        why,
                    })?;
                    visit(&table, kept)
                })?;
                Ok(None)
            }
            _ => Ok(None),
        }
    }
}

#[cfg(test)]
mod tests;
