//! The shapes of statements that an archive may hold.

mod postgres;

use super::Dialect;
use super::lexer::{Token, Tokens, tokens};
use crate::record::{Row, Value};
use std::ops::Range;
use thiserror::Error;

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
        /// `sql_mode` or `time_zone`.
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
        kind: Kind,
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
pub enum Kind {
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

/// `INSERT INTO` with its rows.
#[derive(Clone, Debug, PartialEq)]
pub struct Insert {
    /// The table.
    pub table: String,
    /// The columns.
    pub columns: Vec<String>,
    /// The rows, each with as many values as there are columns.
    pub rows: Vec<Row>,
}

/// Why a statement is not one of those that packing writes.
#[derive(Debug, Error, PartialEq, Eq)]
pub enum StatementError {
    /// Not a kind of statement that an archive holds.
    #[error("a statement that archives do not hold: {0}")]
    Shape(String),
    /// A part of a statement that reaches outside the database.
    #[error("a statement that reaches outside the database ({0})")]
    Outside(String),
    /// Broken off, or not SQL.
    #[error("a statement that cannot be read")]
    Unreadable,
}

/// Table options that name files or servers.
const OUTSIDE: [&str; 5] = ["DIRECTORY", "CONNECTION", "TABLESPACE", "FEDERATED", "CONNECT"];

impl Statement {
    /// The number of the large object that it makes, if it makes one.
    pub fn large_object(&self) -> Option<&str> {
        match self {
            Statement::Object { kind: Kind::LargeObject, name, .. } => Some(name),
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
            Statement::Trigger { .. } | Statement::Object { kind: Kind::Routine | Kind::Event, .. }
        )
    }

    /// Understands one statement of a structure member.
    pub fn parse(dialect: Dialect, statement: &[u8]) -> Result<Self, StatementError> {
        let mut reader = Reader::new(dialect, statement);
        let sql = || String::from_utf8(statement.to_vec()).map_err(|_| StatementError::Unreadable);
        if reader.is_empty() {
            // A comment, perhaps one for the engine's own client.
            return Ok(Statement::Session);
        }
        if dialect == Dialect::Postgres {
            return postgres::parse(&mut reader, sql()?);
        }
        let shape = || {
            let text = String::from_utf8_lossy(statement);
            StatementError::Shape(text.chars().take(60).collect())
        };
        let first = reader.word()?;
        match first.as_str() {
            "SET" if dialect == Dialect::Mariadb => Ok(match reader.mode()? {
                Some((name, value)) => Statement::Mode { name, value, sql: sql()? },
                None => Statement::Session,
            }),
            "PRAGMA" => {
                let name = reader.word()?.to_ascii_lowercase();
                match name.as_str() {
                    "foreign_keys" => Ok(Statement::Session),
                    "user_version" | "application_id" | "encoding" | "page_size"
                    | "auto_vacuum" | "journal_mode" => Ok(Statement::Pragma { name, sql: sql()? }),
                    _ => Err(shape()),
                }
            }
            "DELETE" if dialect == Dialect::Sqlite => {
                let rest = (reader.word()?, reader.name()?, reader.next()?);
                match rest {
                    (from, (table, _), None) if from == "FROM" && table == "sqlite_sequence" => {
                        Ok(Statement::ClearCounters)
                    }
                    (from, (name, _), None) if from == "FROM" => Ok(Statement::Object {
                        kind: Kind::Virtual,
                        name,
                        table: None,
                        sql: sql()?,
                    }),
                    _ => Err(shape()),
                }
            }
            "INSERT" if dialect == Dialect::Sqlite => {
                // INSERT INTO "words" ("words") VALUES ('rebuild')
                let rebuild = reader.rebuild().map_err(|_| shape())?;
                let name = rebuild.ok_or_else(shape)?;
                Ok(Statement::Object { kind: Kind::Refresh, name, table: None, sql: sql()? })
            }
            "ANALYZE" if dialect == Dialect::Sqlite && reader.is_empty() => {
                let (kind, name) = (Kind::Property, "statistics".into());
                Ok(Statement::Object { kind, name, table: None, sql: sql()? })
            }
            "ALTER" => {
                reader.expect("TABLE").map_err(|_| shape())?;
                let (table, _) = reader.name()?;
                let action = reader.word()?;
                if action == "ALTER" {
                    return reader.column_default(table, sql()?, shape);
                }
                if action != "ADD" {
                    return Err(shape());
                }
                reader.expect("CONSTRAINT").map_err(|_| shape())?;
                let (name, _) = reader.name()?;
                reader.expect("FOREIGN").map_err(|_| shape())?;
                Ok(Statement::ForeignKey { table, name, sql: sql()? })
            }
            "CREATE" => reader.create(dialect, sql()?, shape),
            "DO" | "SELECT" if dialect == Dialect::Mariadb => reader.set_value(sql()?, shape),
            _ => Err(shape()),
        }
    }
}

impl Insert {
    /// Understands one statement of a rows member; `None` for a session setting.
    pub fn parse(dialect: Dialect, statement: &[u8]) -> Result<Option<Self>, StatementError> {
        let mut reader = Reader::new(dialect, statement);
        if reader.is_empty() {
            return Ok(None);
        }
        let first = reader.word()?;
        if first != "INSERT" {
            return match Statement::parse(dialect, statement)? {
                Statement::Session | Statement::Mode { .. } | Statement::ClearCounters => Ok(None),
                _ => Err(StatementError::Shape(first)),
            };
        }
        reader.expect("INTO")?;
        let (table, _) = reader.name()?;
        let columns = reader.names()?;
        reader.expect("VALUES")?;
        let mut rows = Vec::new();
        loop {
            rows.push(reader.row(dialect, columns.len())?);
            match reader.next()? {
                None => {
                    return Ok(Some(Insert { table, columns, rows }));
                }
                Some(Token::Sign(b',')) => {}
                Some(_) => return Err(StatementError::Unreadable),
            }
        }
    }
}

/// A statement that creates a sequence, routine or event, or sets a sequence, with another
/// name in it (MariaDB).
pub fn renamed(statement: &str, new: &str) -> Option<String> {
    let mut reader = Reader::new(Dialect::Mariadb, statement.as_bytes());
    let mut found = false;
    while let Ok(Some(token)) = reader.next() {
        if found && !token.is("BODY") && token != Token::Sign(b'(') {
            let (from, to) = (reader.tokens.from, reader.tokens.at);
            let name = super::quote_name(Dialect::Mariadb, new);
            return Some(format!("{}{name}{}", &statement[..from], &statement[to..]));
        }
        found |= mariadb_kind(&token).is_some() || token.is("setval");
    }
    None
}

fn mariadb_kind(token: &Token<'_>) -> Option<Kind> {
    let kinds = [
        ("SEQUENCE", Kind::Sequence),
        ("PROCEDURE", Kind::Routine),
        ("FUNCTION", Kind::Routine),
        ("PACKAGE", Kind::Routine),
        ("EVENT", Kind::Event),
    ];
    kinds.into_iter().find(|(word, _)| token.is(word)).map(|(_, kind)| kind)
}

/// Tokens, one after another, with what is expected of them.
pub(in crate::sql) struct Reader<'a> {
    pub tokens: Tokens<'a>,
}

impl<'a> Reader<'a> {
    pub fn new(dialect: Dialect, statement: &'a [u8]) -> Self {
        Self { tokens: tokens(dialect, statement) }
    }

    pub fn next(&mut self) -> Result<Option<Token<'a>>, StatementError> {
        self.tokens.next_token()
    }

    /// Another reader at the same place, to look ahead.
    pub fn copied(&self) -> Self {
        Self { tokens: self.tokens.clone() }
    }

    pub fn is_empty(&self) -> bool {
        matches!(self.copied().next(), Ok(None))
    }

    pub fn next_is_dot(&self) -> bool {
        matches!(self.copied().next(), Ok(Some(Token::Sign(b'.'))))
    }

    pub fn some(&mut self) -> Result<Token<'a>, StatementError> {
        self.next()?.ok_or(StatementError::Unreadable)
    }

    pub fn word(&mut self) -> Result<String, StatementError> {
        match self.some()? {
            Token::Word(word) => Ok(word.to_owned()),
            _ => Err(StatementError::Unreadable),
        }
    }

    pub fn expect(&mut self, word: &str) -> Result<(), StatementError> {
        if self.some()?.is(word) { Ok(()) } else { Err(StatementError::Unreadable) }
    }

    pub fn sign(&mut self, sign: u8) -> Result<(), StatementError> {
        if self.some()? == Token::Sign(sign) { Ok(()) } else { Err(StatementError::Unreadable) }
    }

    /// `true` for a comma, `false` for the closing sign.
    pub fn comma_or(&mut self, close: u8) -> Result<bool, StatementError> {
        match self.some()? {
            Token::Sign(b',') => Ok(true),
            Token::Sign(sign) if sign == close => Ok(false),
            _ => Err(StatementError::Unreadable),
        }
    }

    /// A name, quoted or not, and where it stands.
    pub fn name(&mut self) -> Result<(String, Range<usize>), StatementError> {
        let token = self.some()?;
        let range = self.tokens.from..self.tokens.at;
        match token {
            Token::Word(word) => Ok((word.to_owned(), range)),
            Token::Name(name) => Ok((name, range)),
            _ => Err(StatementError::Unreadable),
        }
    }

    /// Names in parentheses.
    pub fn names(&mut self) -> Result<Vec<String>, StatementError> {
        self.sign(b'(')?;
        let mut names = Vec::new();
        loop {
            names.push(self.name()?.0);
            if !self.comma_or(b')')? {
                return Ok(names);
            }
        }
    }

    /// Names in parentheses, if a parenthesis follows; none otherwise.
    pub fn names_if_any(&mut self) -> Result<Vec<String>, StatementError> {
        match self.copied().some()? {
            Token::Sign(b'(') => self.names(),
            _ => Ok(Vec::new()),
        }
    }

    fn create(
        &mut self,
        dialect: Dialect,
        sql: String,
        shape: impl Fn() -> StatementError,
    ) -> Result<Statement, StatementError> {
        loop {
            let token = self.some()?;
            if token.is("TABLE") {
                let (name, at) = self.name()?;
                self.refuse_outside()?;
                return Ok(Statement::Table { name, at, sql });
            }
            if token.is("INDEX") {
                let (name, _) = self.name()?;
                self.expect("ON")?;
                let (table, _) = self.name()?;
                return Ok(Statement::Index { name, table, sql });
            }
            if token.is("VIEW") {
                let (name, _) = self.name()?;
                return Ok(Statement::View { name, sql });
            }
            if token.is("TRIGGER") {
                let (name, _) = self.name()?;
                while !self.some()?.is("ON") {}
                let (table, _) = self.name()?;
                return Ok(Statement::Trigger { name, table, sql });
            }
            if dialect == Dialect::Sqlite && token.is("VIRTUAL") {
                return self.virtual_table(sql, shape);
            }
            if dialect == Dialect::Mariadb
                && let Some(kind) = mariadb_kind(&token)
            {
                return self.mariadb_object(kind, sql);
            }
            let passed = [
                "OR",
                "REPLACE",
                "UNIQUE",
                "AGGREGATE",
                "ALGORITHM",
                "UNDEFINED",
                "MERGE",
                "TEMPTABLE",
                "SQL",
            ];
            let passed = passed.iter().chain(&["SECURITY", "INVOKER", "DEFINER"]);
            let mut passed = passed.map(|word| token.is(word));
            if !passed.any(|yes| yes) && token != Token::Sign(b'=') {
                return Err(shape());
            }
        }
    }

    /// The rest of a statement that makes the index of a full-text table anew.
    fn rebuild(&mut self) -> Result<Option<String>, StatementError> {
        self.expect("INTO")?;
        let (name, _) = self.name()?;
        self.sign(b'(')?;
        let (column, _) = self.name()?;
        self.sign(b')')?;
        self.expect("VALUES")?;
        self.sign(b'(')?;
        let word = self.some()?;
        self.sign(b')')?;
        let fits = column == name && word == Token::Text(b"rebuild".into());
        Ok((fits && self.next()?.is_none()).then_some(name))
    }

    /// `VIRTUAL TABLE name USING module(…)`, of modules that keep to the database.
    fn virtual_table(
        &mut self,
        sql: String,
        shape: impl Fn() -> StatementError,
    ) -> Result<Statement, StatementError> {
        self.expect("TABLE")?;
        let (name, _) = self.name()?;
        self.expect("USING")?;
        let module = self.word()?.to_ascii_lowercase();
        if !["fts3", "fts4", "fts5", "rtree", "geopoly"].contains(&module.as_str()) {
            return Err(shape());
        }
        Ok(Statement::Object { kind: Kind::Virtual, name, table: None, sql })
    }

    /// A sequence, routine, package or event.
    fn mariadb_object(&mut self, kind: Kind, sql: String) -> Result<Statement, StatementError> {
        let (mut name, _) = self.name()?;
        if name.eq_ignore_ascii_case("BODY") {
            name = self.name()?.0;
        }
        // A function that is loaded from a file of the server's host.
        while let Some(token) = self.next()? {
            if token.is("SONAME") {
                return Err(StatementError::Outside("SONAME".into()));
            }
        }
        Ok(Statement::Object { kind, name, table: None, sql })
    }

    /// `ALTER TABLE … ALTER COLUMN … SET DEFAULT`: a default that needs a sequence.
    fn column_default(
        &mut self,
        table: String,
        sql: String,
        shape: impl Fn() -> StatementError,
    ) -> Result<Statement, StatementError> {
        self.expect("COLUMN").map_err(|_| shape())?;
        let (name, _) = self.name()?;
        self.expect("SET").map_err(|_| shape())?;
        self.expect("DEFAULT").map_err(|_| shape())?;
        Ok(Statement::Object { kind: Kind::Property, name, table: Some(table), sql })
    }

    /// `SET sql_mode = '…'`, or the time zone, and nothing else.
    fn mode(&mut self) -> Result<Option<(String, String)>, StatementError> {
        let name = self.some()?;
        let name = ["sql_mode", "time_zone"].into_iter().find(|word| name.is(word));
        let Some(name) = name else { return Ok(None) };
        if self.some()? != Token::Sign(b'=') {
            return Ok(None);
        }
        let Token::Text(value) = self.some()? else { return Ok(None) };
        let value =
            String::from_utf8(value.into_owned()).map_err(|_| StatementError::Unreadable)?;
        Ok(self.next()?.is_none().then(|| (name.to_owned(), value)))
    }

    /// `DO setval(sequence, position, …)`: where a sequence stands.
    fn set_value(
        &mut self,
        sql: String,
        shape: impl Fn() -> StatementError,
    ) -> Result<Statement, StatementError> {
        self.expect("setval").map_err(|_| shape())?;
        self.sign(b'(')?;
        let (name, _) = self.name()?;
        let mut numbers = 0;
        while self.comma_or(b')').map_err(|_| shape())? {
            match self.some()? {
                Token::Number(_) => numbers += 1,
                _ => return Err(shape()),
            }
        }
        match (numbers, self.next()?) {
            (1..=3, None) => Ok(Statement::Object { kind: Kind::Sequence, name, table: None, sql }),
            _ => Err(shape()),
        }
    }

    fn refuse_outside(&mut self) -> Result<(), StatementError> {
        while let Some(token) = self.next()? {
            if let Some(word) = OUTSIDE.iter().find(|word| token.is(word)) {
                return Err(StatementError::Outside((*word).into()));
            }
        }
        Ok(())
    }

    fn row(&mut self, dialect: Dialect, width: usize) -> Result<Row, StatementError> {
        self.sign(b'(')?;
        let mut row = Vec::with_capacity(width);
        loop {
            row.push(self.value(dialect)?);
            if !self.comma_or(b')')? {
                break;
            }
        }
        if row.len() == width { Ok(row) } else { Err(StatementError::Unreadable) }
    }

    fn value(&mut self, dialect: Dialect) -> Result<Value, StatementError> {
        Ok(match self.some()? {
            Token::Text(text) => Value::Text(text.into_owned()),
            Token::Bytes(bytes) => Value::Bytes(bytes),
            Token::Number(digits) if dialect == Dialect::Mariadb => {
                Value::Number(digits.as_bytes().to_vec())
            }
            Token::Number(digits) => match digits.parse::<i64>() {
                Ok(number) => Value::Integer(number),
                Err(_) => Value::Real(digits.parse().map_err(|_| StatementError::Unreadable)?),
            },
            token if token.is("NULL") => Value::Null,
            token if token.is("CAST") => {
                self.sign(b'(')?;
                let Token::Bytes(bytes) = self.some()? else {
                    return Err(StatementError::Unreadable);
                };
                self.expect("AS")?;
                self.expect("TEXT")?;
                self.sign(b')')?;
                Value::Text(bytes)
            }
            _ => return Err(StatementError::Unreadable),
        })
    }
}

#[cfg(test)]
mod tests;
