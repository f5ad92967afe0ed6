//! The statements of scripts for PostgreSQL.

use super::definition::Definition;
use super::layout::kind_of;
use super::rows::InsertHead;
use super::{ForeignError, ForeignScript, Meaning, beginning, unread};
use crate::rewrite::ColumnText;
use crate::sql::Dialect::Postgres;
use crate::sql::lexer::{Modes, Token};
use crate::sql::statement::{Reader, Statement, StatementError};
use crate::sql::{CopyHead, ObjectKind, Qualified, quote_name};
use std::ops::Range;

/// Statements that concern only the session that would run the script, or that all-or-nothing
/// makes needless.
const PASSED: [&str; 9] =
    ["BEGIN", "COMMIT", "START", "LOCK", "ANALYZE", "RESET", "VACUUM", "CLUSTER", "END"];

/// What is created under a name that may hold a schema.
const NAMED: [&str; 10] = [
    "TABLE",
    "VIEW",
    "SEQUENCE",
    "TYPE",
    "DOMAIN",
    "FUNCTION",
    "PROCEDURE",
    "AGGREGATE",
    "COLLATION",
    "STATISTICS",
];

/// The schema that `SET search_path` names first.
pub(super) fn schema_set(statement: &[u8]) -> Option<String> {
    let mut reader = Reader::new(Postgres, statement);
    reader.expect("SET").ok()?;
    if !reader.some().ok()?.is("search_path") {
        return None;
    }
    reader.some().ok()?;
    match reader.some().ok()? {
        Token::Word(name) if name.eq_ignore_ascii_case("default") => Some("public".into()),
        Token::Word(name) => Some(name.to_lowercase()),
        Token::Name(name) => Some(name),
        Token::Text(name) if !name.is_empty() => Some(String::from_utf8_lossy(&name).into_owned()),
        _ => Some("public".into()),
    }
}

/// The head of a `COPY`, its table known by the schema in which it lies.
pub(super) fn copy_head(statement: &[u8], schema: &str) -> Result<CopyHead, StatementError> {
    let mut reader = Reader::new(Postgres, statement);
    reader.some()?;
    let at = reader.name()?.1;
    let without_schema = !reader.next_is_dot();
    let head = CopyHead::parse(statement)?;
    let mut head = head.ok_or(StatementError::Unreadable)?;
    if without_schema {
        let name = &statement[at];
        let name = String::from_utf8_lossy(name.strip_prefix(b"\"").unwrap_or(name));
        head.table = Qualified::new(schema, name.trim_end_matches('"')).to_string();
    }
    Ok(head)
}

impl ForeignScript {
    pub(super) fn take_postgres(&mut self, whole: &[u8]) -> Result<Meaning, ForeignError> {
        let wrong = |error| unread(whole, &error);
        let refused = || ForeignError::Refused(beginning(whole));
        if let Some(command) = whole.strip_prefix(b"\\") {
            // A guard of the client's, around the whole script.
            let guard = command.starts_with(b"restrict ") || command.starts_with(b"unrestrict ");
            return if guard { Ok(Meaning::Noted) } else { Err(refused()) };
        }
        let mut reader = Reader::new(Postgres, whole);
        let first = reader.word().map_err(wrong)?.to_ascii_uppercase();
        let sql = || {
            String::from_utf8(whole.to_vec()).map_err(|_| ForeignError::Unread {
                statement: beginning(whole),
                why: "it is not UTF-8".into(),
            })
        };
        match first.as_str() {
            "COPY" => {
                let head = copy_head(whole, &self.schema).map_err(wrong)?;
                self.note_rows(head.table, head.columns)?;
                return Ok(Meaning::Lines);
            }
            "INSERT" => {
                let head = InsertHead::read(&mut reader).map_err(wrong)?;
                let schema = head.place.as_ref().unwrap_or(&self.schema);
                let table = Qualified::new(schema, &head.table).to_string();
                self.note_rows(table, head.columns)?;
                return Ok(Meaning::Rows);
            }
            "SET" => self.schema = schema_set(whole).unwrap_or(std::mem::take(&mut self.schema)),
            "SELECT" => self.select(&sql()?)?,
            "CREATE" => self.create_postgres(&sql()?)?,
            "ALTER" => self.alter_postgres(&sql()?)?,
            "DROP" => self.drop_postgres(&mut reader).map_err(wrong)?,
            "COMMENT" => self.comment(&sql()?)?,
            "REFRESH" => self.in_schema_of(&sql()?, true)?,
            "GRANT" | "REVOKE" => self.leave_out("rights of other users"),
            word if PASSED.contains(&word) => {}
            _ => return Err(refused()),
        }
        Ok(Meaning::Noted)
    }

    fn leave_out(&mut self, what: &'static str) {
        *self.left_out.entry(what).or_default() += 1;
    }

    fn has_rows(&self) -> bool {
        !self.named.is_empty()
    }

    /// `SELECT setval('schema.sequence', …)`, or a setting of the session.
    fn select(&mut self, sql: &str) -> Result<(), ForeignError> {
        if sql.contains("set_config") {
            return Ok(());
        }
        let mut reader = Reader::new(Postgres, sql.as_bytes());
        let mut literal: Option<(String, Range<usize>)> = None;
        while let Ok(Some(token)) = reader.next() {
            if let (Token::Text(text), None) = (token, &literal) {
                let text = String::from_utf8_lossy(&text).into_owned();
                literal = Some((text, reader.tokens.from..reader.tokens.at));
            }
        }
        let Some((name, at)) = literal else {
            return Err(ForeignError::Refused(beginning(sql.as_bytes())));
        };
        let place = Qualified::parse(&name);
        let quoted = quote_name(Postgres, &place.name).replace('\'', "''");
        let sql = format!("{}'{quoted}'{}", &sql[..at.start], &sql[at.end..]);
        self.within(&place.schema, |script| script.add(true, "POSITION", &sql))
    }

    /// Does something while another schema is the usual one.
    fn within(
        &mut self,
        schema: &str,
        work: impl FnOnce(&mut Self) -> Result<(), ForeignError>,
    ) -> Result<(), ForeignError> {
        let before = std::mem::replace(&mut self.schema, schema.to_owned());
        let done = work(self);
        self.schema = before;
        done
    }

    fn create_postgres(&mut self, sql: &str) -> Result<(), ForeignError> {
        let wrong = |error| unread(sql.as_bytes(), &error);
        let mut reader = Reader::new(Postgres, sql.as_bytes());
        reader.some().map_err(wrong)?;
        loop {
            let Token::Word(word) = reader.some().map_err(wrong)? else {
                return Err(ForeignError::Refused(beginning(sql.as_bytes())));
            };
            let word = word.to_ascii_uppercase();
            match word.as_str() {
                "TRIGGER" | "POLICY" | "RULE" => return self.add(true, "GUARD", sql),
                "SCHEMA" | "EXTENSION" => {
                    let name = reader.name().map_err(wrong)?.0;
                    // It is there in every database.
                    return if name == "plpgsql" || sql.contains("plpgsql") {
                        Ok(())
                    } else {
                        self.add(false, "PLACE", sql)
                    };
                }
                "INDEX" => {
                    let late = self.has_rows();
                    return self.add(late, "INDEX", sql);
                }
                "TEMPORARY" | "TEMP" | "FOREIGN" | "USER" | "ROLE" | "DATABASE" => {
                    return Err(ForeignError::Refused(beginning(sql.as_bytes())));
                }
                _ => {}
            }
            if let Some(kind) = NAMED.iter().find(|kind| **kind == word) {
                return self.create_named(kind, &mut reader, sql);
            }
        }
    }

    /// Creates something under a name; the schema in the name becomes the usual one.
    fn create_named(
        &mut self,
        kind: &'static str,
        reader: &mut Reader<'_>,
        sql: &str,
    ) -> Result<(), ForeignError> {
        let wrong = |error| unread(sql.as_bytes(), &error);
        let (mut name, mut at) = reader.name().map_err(wrong)?;
        let from = at.start;
        if name.eq_ignore_ascii_case("IF") {
            reader.expect("NOT").map_err(wrong)?;
            reader.expect("EXISTS").map_err(wrong)?;
            (name, at) = reader.name().map_err(wrong)?;
        }
        let mut schema = self.schema.clone();
        if reader.next_is_dot() {
            reader.sign(b'.').map_err(wrong)?;
            schema = name;
            (name, at) = reader.name().map_err(wrong)?;
        }
        if !sql[at.clone()].starts_with('"') {
            name = name.to_lowercase();
        }
        let plain = format!("{}{}{}", &sql[..from], quote_name(Postgres, &name), &sql[at.end..]);
        let plain = sequence_in_place(&plain);
        // Tables of interleaved scripts, and what they are made of, come before all rows.
        let of_tables = matches!(kind, "TABLE" | "SEQUENCE" | "TYPE" | "DOMAIN" | "COLLATION");
        let late = self.has_rows() && !of_tables;
        self.within(&schema, |script| {
            script.note_type(kind, &name, &sql[at.end..]);
            if kind == "TABLE" {
                let shown = Qualified::new(&script.schema, &name).to_string();
                script.note_table(&shown, &plain)?;
            }
            script.add(late, kind, &plain)
        })
    }

    /// What the values of a type of the script's own hold.
    fn note_type(&mut self, kind: &str, name: &str, rest: &str) {
        let mut reader = Reader::new(Postgres, rest.as_bytes());
        let holds = match kind {
            "DOMAIN" => {
                let base = reader.some().is_ok_and(|word| word.is("AS"));
                kind_of(if base { &rest[reader.tokens.at..] } else { rest }, &self.types)
            }
            "TYPE" => {
                let composite = reader.some().is_ok_and(|word| word.is("AS"))
                    && reader.some() == Ok(Token::Sign(b'('));
                composite.then_some(ColumnText::Utf8)
            }
            _ => return,
        };
        self.types.insert(name.to_owned(), holds);
    }

    fn note_table(&mut self, shown: &str, sql: &str) -> Result<(), ForeignError> {
        let wrong = |error| unread(sql.as_bytes(), &error);
        let made = Definition::parse(Postgres, sql).map_err(wrong)?;
        // What follows the columns, or stands in their place.
        let rest = made.as_ref().map_or(sql, |made| made.options.as_str());
        let mut reader = Reader::new(Postgres, rest.as_bytes());
        while let Ok(Some(token)) = reader.next() {
            let heir = token.is("INHERITS") && reader.sign(b'(').is_ok();
            let part = token.is("PARTITION") && {
                let mut after = reader.copied();
                after.expect("OF").is_ok() && reader.expect("OF").is_ok()
            };
            if heir || part {
                let parent = self.place_of(&mut reader).map_err(wrong)?;
                self.parents.insert(shown.to_owned(), parent);
            }
            if token.is("SELECT") {
                return Err(ForeignError::Refused(beginning(sql.as_bytes())));
            }
        }
        if made.is_none() && !self.parents.contains_key(shown) {
            return Err(ForeignError::Refused(beginning(sql.as_bytes())));
        }
        self.tables.push((shown.to_owned(), made.unwrap_or_default()));
        Ok(())
    }

    /// A name that follows, with the usual schema if it says none.
    fn place_of(&self, reader: &mut Reader<'_>) -> Result<String, StatementError> {
        let first = reader.name()?.0;
        if reader.next_is_dot() {
            reader.sign(b'.')?;
            return Ok(Qualified::new(&first, &reader.name()?.0).to_string());
        }
        Ok(Qualified::new(&self.schema, &first).to_string())
    }

    fn alter_postgres(&mut self, sql: &str) -> Result<(), ForeignError> {
        let wrong = |error| unread(sql.as_bytes(), &error);
        let mut reader = Reader::new(Postgres, sql.as_bytes());
        reader.some().map_err(wrong)?;
        let what = reader.word().map_err(wrong)?.to_ascii_uppercase();
        let mut owner = false;
        let mut words = reader.copied();
        while let Some(token) = words.next().map_err(wrong)? {
            if owner && token.is("TO") {
                self.leave_out("who owns what");
                return Ok(());
            }
            owner = token.is("OWNER");
        }
        if what == "DEFAULT" {
            self.leave_out("rights of other users");
            return Ok(());
        }
        if !["TABLE", "INDEX", "SEQUENCE"].contains(&what.as_str()) {
            return Err(ForeignError::Refused(beginning(sql.as_bytes())));
        }
        self.in_schema_of(&sequence_in_place(sql), false)
    }

    /// Adds a statement in the schema in which its table lies.
    fn in_schema_of(&mut self, sql: &str, late: bool) -> Result<(), ForeignError> {
        let statement = Statement::parse(Postgres, Modes::default(), sql.as_bytes())
            .map_err(|error| unread(sql.as_bytes(), &error))?;
        let foreign = matches!(statement, Statement::ForeignKey { .. });
        if let Some(key) = added_key(sql)
            && let Statement::Object { kind: ObjectKind::Constraint, table: Some(table), .. } =
                &statement
            && let Ok(made) = self.definition(table)
        {
            made.items.push(key);
        }
        let late = late || foreign || self.has_rows();
        self.add(late, "CHANGE", sql)
    }

    fn comment(&mut self, sql: &str) -> Result<(), ForeignError> {
        let mut reader = Reader::new(Postgres, sql.as_bytes());
        reader.some().map_err(|error| unread(sql.as_bytes(), &error))?;
        reader.some().map_err(|error| unread(sql.as_bytes(), &error))?;
        let of = reader.word().map_err(|error| unread(sql.as_bytes(), &error))?;
        let whole = ["EXTENSION", "SCHEMA", "DATABASE", "LARGE", "ROLE"];
        if whole.iter().any(|word| of.eq_ignore_ascii_case(word)) {
            self.leave_out("comments on the database and its extensions");
            return Ok(());
        }
        self.add(true, "COMMENT", sql)
    }

    fn drop_postgres(&mut self, reader: &mut Reader<'_>) -> Result<(), StatementError> {
        let mut kind = reader.word()?.to_ascii_uppercase();
        if kind == "MATERIALIZED" {
            kind = reader.word()?.to_ascii_uppercase();
        }
        let mut after = reader.copied();
        if after.some()?.is("IF") {
            reader.some()?;
            reader.expect("EXISTS")?;
        }
        let place = self.place_of(reader)?;
        let part = if kind == "TABLE" { place } else { Qualified::parse(&place).name };
        // A table is known by its whole name, its statement by its own.
        self.before
            .retain(|there| there.kind != kind || there.name != Qualified::parse(&part).name);
        self.forget(&kind, &part)
    }
}

/// `ADD CONSTRAINT name PRIMARY KEY (…)`, as an item of the table.
fn added_key(sql: &str) -> Option<String> {
    let (_, rest) = sql.split_once(" ADD ")?;
    rest.contains("PRIMARY KEY").then(|| rest.to_owned())
}

/// `SEQUENCE NAME schema.name` of an identity column without its schema: it lies where its
/// table does.
fn sequence_in_place(sql: &str) -> String {
    let (mut out, mut written) = (String::with_capacity(sql.len()), 0);
    let mut reader = Reader::new(Postgres, sql.as_bytes());
    while let Ok(Some(token)) = reader.next() {
        if !token.is("SEQUENCE") {
            continue;
        }
        let mut after = reader.copied();
        if after.expect("NAME").is_err() {
            continue;
        }
        let Ok((_, schema)) = after.name() else { continue };
        if !after.next_is_dot() || after.sign(b'.').is_err() {
            continue;
        }
        // The schema and its dot go; reading goes on behind them.
        out.push_str(&sql[written..schema.start]);
        written = after.tokens.at;
        reader = after;
    }
    out.push_str(&sql[written..]);
    out
}
