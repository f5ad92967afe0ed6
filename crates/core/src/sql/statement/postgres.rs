//! The statements of PostgreSQL that an archive may hold.

mod table;

use super::reader::Reader;
use super::shape::{Several, Shape};
use super::{ObjectKind, Statement, StatementError};
use crate::sql::lexer::Token;
use crate::sql::{CopyHead, Dialect, Qualified};

/// What a comment can be about, beside constraints and what hangs on a table.
const COMMENTED: [&[&str]; 10] = [
    &["TABLE"],
    &["COLUMN"],
    &["VIEW"],
    &["MATERIALIZED", "VIEW"],
    &["SEQUENCE"],
    &["TYPE"],
    &["DOMAIN"],
    &["INDEX"],
    &["STATISTICS"],
    &["COLLATION"],
];

/// Settings that packing writes for the server's own client.
const SETTINGS: [&str; 10] = [
    "client_encoding",
    "standard_conforming_strings",
    "DateStyle",
    "IntervalStyle",
    "TimeZone",
    "extra_float_digits",
    "bytea_output",
    "xmloption",
    "check_function_bodies",
    "row_security",
];

fn object(kind: ObjectKind, name: String, sql: String) -> Statement {
    Statement::Object { kind, name, table: None, sql }
}

pub(super) fn parse(mut shape: Shape<'_>) -> Result<Statement, StatementError> {
    if shape.word("SET")? {
        return set(shape);
    }
    if shape.word("CREATE")? {
        return create(shape);
    }
    if shape.word("ALTER")? {
        return alter(shape);
    }
    if shape.words(&["COMMENT", "ON"])? {
        return comment(shape);
    }
    if shape.words(&["REFRESH", "MATERIALIZED", "VIEW"])? {
        let name = qualified(&mut shape)?;
        return Ok(object(ObjectKind::Refresh, name, shape.finish()?));
    }
    if shape.words(&["SELECT", "pg_catalog"])? {
        return called(shape);
    }
    Err(shape.refused())
}

/// The functions that an archive may call: `SELECT pg_catalog.setval('name', number, true)`
/// and `SELECT pg_catalog.lo_create(number)`.
fn called(mut shape: Shape<'_>) -> Result<Statement, StatementError> {
    shape.sign(b'.')?;
    if shape.word("lo_create")? {
        shape.sign(b'(')?;
        let number = match shape.peek()? {
            Some(Token::Number(number)) => number.parse::<u32>().unwrap_or(0),
            _ => 0,
        };
        if number == 0 {
            return Err(shape.refused());
        }
        shape.number()?;
        shape.sign(b')')?;
        return Ok(object(ObjectKind::LargeObject, number.to_string(), shape.finish()?));
    }
    shape.need(&["setval"])?;
    shape.sign(b'(')?;
    let name = String::from_utf8_lossy(&shape.text()?).into_owned();
    shape.sign(b',')?;
    shape.number()?;
    shape.sign(b',')?;
    if !shape.one_of(&["true", "false"])? {
        return Err(shape.refused());
    }
    shape.sign(b')')?;
    Ok(object(ObjectKind::Sequence, name, shape.finish()?))
}

/// The schema of what follows; other settings are for the engine's own client, and are not run.
fn set(mut shape: Shape<'_>) -> Result<Statement, StatementError> {
    if !shape.word("search_path")? {
        if !shape.one_of(&SETTINGS)? {
            return Err(shape.refused());
        }
        if !shape.word("TO")? {
            shape.sign(b'=')?;
        }
        shape.value()?;
        return shape.finish().map(|_| Statement::Session);
    }
    shape.sign(b'=')?;
    // The path that finds nothing stands before what names its schemas itself.
    if matches!(shape.peek()?, Some(Token::Text(text)) if text.is_empty()) {
        shape.text()?;
        return shape.finish().map(|_| Statement::Session);
    }
    let name = shape.name()?;
    Ok(Statement::Schema { name, sql: shape.finish()? })
}

/// A name, with its schema if that is written.
fn qualified(shape: &mut Shape<'_>) -> Result<String, StatementError> {
    let first = shape.name()?;
    if shape.sign_if(b'.')? {
        return Ok(Qualified::new(&first, &shape.name()?).to_string());
    }
    Ok(Qualified::new("public", &first).to_string())
}

/// A name of up to three parts: a column with its table and its schema.
fn parts(shape: &mut Shape<'_>) -> Result<Vec<String>, StatementError> {
    let mut parts = vec![shape.name()?];
    while parts.len() < 3 && shape.sign_if(b'.')? {
        parts.push(shape.name()?);
    }
    Ok(parts)
}

fn create(mut shape: Shape<'_>) -> Result<Statement, StatementError> {
    shape.words(&["OR", "REPLACE"])?;
    let unlogged = shape.word("UNLOGGED")?;
    if shape.word("TABLE")? {
        let (name, at) = shape.name_at()?;
        table::definition(&mut shape)?;
        return Ok(Statement::Table { name, at, sql: shape.finish()? });
    }
    if shape.word("SEQUENCE")? {
        let name = shape.name()?;
        sequence(&mut shape)?;
        return Ok(object(ObjectKind::Sequence, name, shape.finish()?));
    }
    if unlogged {
        return Err(shape.refused());
    }
    let unique = shape.word("UNIQUE")?;
    if shape.word("INDEX")? {
        return index(shape);
    }
    if unique {
        return Err(shape.refused());
    }
    let materialized = shape.word("MATERIALIZED")?;
    if materialized || shape.word("RECURSIVE")? {
        shape.need(&["VIEW"])?;
        return view(shape);
    }
    if shape.word("VIEW")? {
        return view(shape);
    }
    let constraint = shape.word("CONSTRAINT")?;
    if shape.word("TRIGGER")? {
        return trigger(shape);
    }
    if constraint {
        return Err(shape.refused());
    }
    if shape.word("POLICY")? {
        return policy(shape);
    }
    if shape.word("RULE")? {
        return rule(shape);
    }
    if shape.one_of(&["FUNCTION", "PROCEDURE"])? {
        return routine(shape);
    }
    if shape.word("AGGREGATE")? {
        let name = last_of(&mut shape)?;
        shape.group()?;
        shape.group()?;
        return Ok(object(ObjectKind::Routine, name, shape.finish()?));
    }
    if shape.one_of(&["TYPE", "DOMAIN"])? {
        let name = shape.name()?;
        type_definition(&mut shape)?;
        return Ok(object(ObjectKind::Type, name, shape.finish()?));
    }
    if shape.word("COLLATION")? {
        let name = shape.name()?;
        shape.group()?;
        return Ok(object(ObjectKind::Property, name, shape.finish()?));
    }
    if shape.word("STATISTICS")? {
        let name = last_of(&mut shape)?;
        if shape.peek()? == Some(Token::Sign(b'(')) {
            shape.group()?;
        }
        shape.need(&["ON"])?;
        shape.each(&mut |shape| shape.expression(&[&["FROM"]]))?;
        shape.need(&["FROM"])?;
        qualified(&mut shape)?;
        return Ok(object(ObjectKind::Property, name, shape.finish()?));
    }
    if shape.word("SCHEMA")? {
        shape.words(&["IF", "NOT", "EXISTS"])?;
        let name = shape.name()?;
        return Ok(object(ObjectKind::Schema, name, shape.finish()?));
    }
    if shape.word("EXTENSION")? {
        shape.words(&["IF", "NOT", "EXISTS"])?;
        let name = shape.name()?;
        shape.word("WITH")?;
        while shape.one_of(&["SCHEMA", "VERSION"])? {
            shape.value()?;
        }
        return Ok(object(ObjectKind::Extension, name, shape.finish()?));
    }
    Err(shape.refused())
}

/// A name whose schema, where it is written, is that of what lies around it.
fn last_of(shape: &mut Shape<'_>) -> Result<String, StatementError> {
    let parts = parts(shape)?;
    parts.into_iter().next_back().ok_or(StatementError::Unreadable)
}

/// `ENUM (…)`, `RANGE (…)`, columns, or what a domain is made of.
fn type_definition(shape: &mut Shape<'_>) -> Result<(), StatementError> {
    shape.word("AS")?;
    if shape.one_of(&["ENUM", "RANGE"])? {
        return shape.group();
    }
    if shape.peek()? == Some(Token::Sign(b'(')) {
        return shape.group();
    }
    table::type_and_attributes(shape)
}

fn sequence(shape: &mut Shape<'_>) -> Result<(), StatementError> {
    while !shape.is_empty() {
        table::sequence_option(shape)?;
    }
    Ok(())
}

fn index(mut shape: Shape<'_>) -> Result<Statement, StatementError> {
    let name = shape.name()?;
    shape.need(&["ON"])?;
    shape.word("ONLY")?;
    let table = qualified(&mut shape)?;
    if shape.word("USING")? {
        shape.name()?;
    }
    shape.group()?;
    if shape.word("INCLUDE")? {
        shape.group()?;
    }
    if shape.word("NULLS")? {
        shape.word("NOT")?;
        shape.need(&["DISTINCT"])?;
    }
    if shape.word("WITH")? {
        shape.group()?;
    }
    if shape.word("WHERE")? {
        shape.expression(&[])?;
    }
    Ok(Statement::Index { name, table, sql: shape.finish()? })
}

fn view(mut shape: Shape<'_>) -> Result<Statement, StatementError> {
    let name = shape.name()?;
    if shape.peek()? == Some(Token::Sign(b'(')) {
        shape.names()?;
    }
    if shape.word("USING")? {
        shape.name()?;
    }
    if shape.word("WITH")? {
        shape.group()?;
    }
    shape.need(&["AS"])?;
    shape.body(Several::None)?;
    Ok(Statement::View { name, sql: shape.finish()? })
}

fn trigger(mut shape: Shape<'_>) -> Result<Statement, StatementError> {
    let name = shape.name()?;
    let _ = shape.one_of(&["BEFORE", "AFTER"])? || shape.words(&["INSTEAD", "OF"])?;
    loop {
        if shape.one_of(&["INSERT", "DELETE", "TRUNCATE"])? {
        } else if shape.word("UPDATE")? {
            if shape.word("OF")? {
                shape.each(&mut |shape| shape.name().map(drop))?;
            }
        } else {
            return Err(shape.refused());
        }
        if !shape.word("OR")? {
            break;
        }
    }
    shape.need(&["ON"])?;
    let table = qualified(&mut shape)?;
    shape.body(Several::None)?;
    Ok(Statement::Trigger { name, table, sql: shape.finish()? })
}

fn policy(mut shape: Shape<'_>) -> Result<Statement, StatementError> {
    let name = shape.name()?;
    shape.need(&["ON"])?;
    let table = Some(qualified(&mut shape)?);
    shape.body(Several::None)?;
    Ok(Statement::Object { kind: ObjectKind::Rule, name, table, sql: shape.finish()? })
}

/// A rule: what it does stands in parentheses where it is more than one statement.
fn rule(mut shape: Shape<'_>) -> Result<Statement, StatementError> {
    let name = shape.name()?;
    shape.need(&["AS", "ON"])?;
    if !shape.one_of(&["SELECT", "INSERT", "UPDATE", "DELETE"])? {
        return Err(shape.refused());
    }
    shape.need(&["TO"])?;
    let table = Some(qualified(&mut shape)?);
    shape.body(Several::InParentheses)?;
    Ok(Statement::Object { kind: ObjectKind::Rule, name, table, sql: shape.finish()? })
}

/// A function or a procedure in a language whose bodies the server runs itself.
fn routine(mut shape: Shape<'_>) -> Result<Statement, StatementError> {
    let name = last_of(&mut shape)?;
    shape.group()?;
    // RETURNS type, TABLE (…), SETOF …, and what says how it is called.
    let mut languages = 0;
    loop {
        match shape.peek()? {
            None => break,
            Some(token) if token.is("LANGUAGE") => {
                shape.take()?;
                language(&mut shape)?;
                languages += 1;
            }
            // A body of statements that the server has parsed is the last thing.
            Some(token) if token.is("BEGIN") => {
                shape.body(Several::UpToEnd)?;
                break;
            }
            Some(Token::Sign(b'(')) => shape.group()?,
            Some(Token::Sign(b';')) => return Err(shape.refused()),
            Some(_) => drop(shape.take()?),
        }
    }
    if languages != 1 {
        return Err(shape.refused());
    }
    Ok(object(ObjectKind::Routine, name, shape.finish()?))
}

/// Functions that are loaded from a file of the server's host are refused.
fn language(shape: &mut Shape<'_>) -> Result<(), StatementError> {
    let language = match shape.peek()? {
        Some(Token::Word(word)) => word.to_ascii_lowercase(),
        Some(Token::Name(name)) => name.to_ascii_lowercase(),
        Some(Token::Text(text)) => String::from_utf8_lossy(&text).to_ascii_lowercase(),
        _ => return Err(shape.refused()),
    };
    if matches!(language.as_str(), "c" | "internal") {
        return Err(StatementError::Outside(format!("LANGUAGE {language}")));
    }
    shape.value()
}

fn alter(mut shape: Shape<'_>) -> Result<Statement, StatementError> {
    if shape.word("SEQUENCE")? {
        let sequence = qualified(&mut shape)?;
        shape.need(&["OWNED", "BY"])?;
        let owner = match &parts(&mut shape)?[..] {
            [table, _] => Qualified::new("public", table).to_string(),
            [schema, table, _] => Qualified::new(schema, table).to_string(),
            _ => return Err(shape.refused()),
        };
        let (name, table) = (Qualified::parse(&sequence).name, Some(owner));
        return Ok(Statement::Object {
            kind: ObjectKind::Sequence,
            name,
            table,
            sql: shape.finish()?,
        });
    }
    let index = shape.word("INDEX")?;
    if !index {
        shape.need(&["TABLE"])?;
    }
    shape.word("ONLY")?;
    let table = qualified(&mut shape)?;
    if shape.words(&["ADD", "CONSTRAINT"])? && !index {
        let name = shape.name()?;
        let foreign = shape.peek()?.is_some_and(|token| token.is("FOREIGN"));
        table::constraint(&mut shape)?;
        let sql = shape.finish()?;
        return Ok(match foreign {
            true => Statement::ForeignKey { table, name, sql },
            false => {
                let table = Some(table);
                Statement::Object { kind: ObjectKind::Constraint, name, table, sql }
            }
        });
    }
    let attached = shape.words(&["ATTACH", "PARTITION"])?;
    match (attached, index) {
        (true, true) => drop(qualified(&mut shape)?),
        (true, false) => table::bounds(&mut shape)?,
        (false, _) => table::setting(&mut shape, index)?,
    }
    let (kind, name) = if attached {
        (ObjectKind::Partition, "partition")
    } else {
        (ObjectKind::Property, "setting")
    };
    let (name, table) = (name.to_owned(), Some(table));
    Ok(Statement::Object { kind, name, table, sql: shape.finish()? })
}

/// `COMMENT ON … IS 'text'`, about what belongs to the site.
fn comment(mut shape: Shape<'_>) -> Result<Statement, StatementError> {
    let mut found = false;
    for words in COMMENTED {
        if !found && shape.words(words)? {
            parts(&mut shape)?;
            found = true;
        }
    }
    if !found && shape.one_of(&["FUNCTION", "PROCEDURE", "AGGREGATE"])? {
        parts(&mut shape)?;
        shape.group()?;
        found = true;
    }
    if !found && shape.one_of(&["CONSTRAINT", "TRIGGER", "POLICY", "RULE"])? {
        shape.name()?;
        shape.need(&["ON"])?;
        shape.word("DOMAIN")?;
        parts(&mut shape)?;
        found = true;
    }
    if !found {
        return Err(shape.refused());
    }
    shape.need(&["IS"])?;
    if !shape.word("NULL")? {
        shape.text()?;
    }
    Ok(object(ObjectKind::Property, "comment".into(), shape.finish()?))
}

/// A name, with its schema if that is written, where nothing is made anew.
pub(in crate::sql) fn qualified_name(reader: &mut Reader<'_>) -> Result<String, StatementError> {
    let (first, _) = reader.name()?;
    if reader.next_is_dot() {
        reader.sign(b'.')?;
        return Ok(Qualified::new(&first, &reader.name()?.0).to_string());
    }
    Ok(Qualified::new("public", &first).to_string())
}

impl CopyHead {
    /// Understands `COPY table (columns) FROM stdin`; `None` for a setting of the session.
    pub fn parse(statement: &[u8]) -> Result<Option<Self>, StatementError> {
        let mut reader = Reader::new(Dialect::Postgres, statement);
        let first = reader.word()?.to_ascii_uppercase();
        if first == "SET" {
            return Ok(None);
        }
        if first != "COPY" {
            return Err(StatementError::Shape(first));
        }
        let table = qualified_name(&mut reader)?;
        let columns = reader.names_if_any()?;
        reader.expect("FROM")?;
        reader.expect("stdin")?;
        match reader.next()? {
            None => Ok(Some(Self { table, columns })),
            Some(_) => Err(StatementError::Unreadable),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::sql::Modes;

    fn parsed(sql: &str) -> Result<Statement, StatementError> {
        Statement::parse(Dialect::Postgres, Modes::default(), sql.as_bytes())
    }

    #[test]
    fn the_shapes_that_packing_writes_are_understood() {
        for (sql, kind) in [
            ("CREATE TYPE \"mood\" AS ENUM ('a')", ObjectKind::Type),
            (
                "CREATE OR REPLACE FUNCTION f(a text) RETURNS text LANGUAGE sql AS $x$SELECT ';'$x$",
                ObjectKind::Routine,
            ),
            ("CREATE SEQUENCE \"s\" AS bigint", ObjectKind::Sequence),
            ("SELECT pg_catalog.setval('\"s\"', 5, true)", ObjectKind::Sequence),
            ("SELECT pg_catalog.lo_create(16500)", ObjectKind::LargeObject),
            ("ALTER SEQUENCE \"s\" OWNED BY \"t\".\"id\"", ObjectKind::Sequence),
            (
                "ALTER TABLE ONLY \"t\" ADD CONSTRAINT \"p\" PRIMARY KEY (id)",
                ObjectKind::Constraint,
            ),
            ("ALTER TABLE \"t\" ENABLE ROW LEVEL SECURITY", ObjectKind::Property),
            ("CREATE POLICY p ON t FOR SELECT USING (true)", ObjectKind::Rule),
            (
                "CREATE EXTENSION IF NOT EXISTS \"citext\" WITH SCHEMA \"public\"",
                ObjectKind::Extension,
            ),
            ("REFRESH MATERIALIZED VIEW \"m\"", ObjectKind::Refresh),
            ("COMMENT ON TABLE t IS 'x'", ObjectKind::Property),
        ] {
            match parsed(sql) {
                Ok(Statement::Object { kind: found, .. }) => assert_eq!(found, kind, "{sql}"),
                other => panic!("{sql}: {other:?}"),
            }
        }
        let index = parsed("CREATE UNIQUE INDEX i ON ONLY app.t USING btree (a)").unwrap();
        assert!(matches!(index, Statement::Index { table, .. } if table == "app.t"));
        let path = parsed("SET search_path = \"app\"").unwrap();
        assert!(matches!(path, Statement::Schema { name, .. } if name == "app"));
    }

    #[test]
    fn everything_else_is_refused() {
        for sql in [
            "DROP TABLE t",
            "GRANT ALL ON t TO x",
            "CREATE ROLE x",
            "SELECT pg_read_file('/etc/passwd')",
            "SELECT pg_catalog.setval('s', pg_sleep(9), true)",
            "SELECT pg_catalog.setval('s', 1, true), f()",
            "SELECT pg_catalog.lo_create(16500), f()",
            "SELECT pg_catalog.lo_create(0)",
            "SELECT pg_catalog.lo_create(99999999999)",
            "SELECT pg_catalog.lo_import('/etc/passwd')",
            "SELECT pg_catalog.lo_unlink(16500)",
            "COPY t FROM PROGRAM 'x'",
            "ALTER TABLE t OWNER TO x",
            "ALTER TABLE t SET SCHEMA x",
            "CREATE SERVER x FOREIGN DATA WRAPPER y",
            "DO $$BEGIN END$$",
            "SET search_path = a, b",
        ] {
            assert!(parsed(sql).is_err(), "{sql}");
        }
        let outside = parsed("CREATE FUNCTION f() RETURNS int LANGUAGE c AS '/x.so'");
        assert_eq!(outside, Err(StatementError::Outside("LANGUAGE c".into())));
        assert!(CopyHead::parse(b"COPY t (a) FROM '/etc/passwd'").is_err());
        assert!(CopyHead::parse(b"COPY t (a) FROM PROGRAM 'x'").is_err());
        let head = CopyHead::parse(b"COPY \"app\".\"t\" (\"a\", b) FROM stdin").unwrap().unwrap();
        assert_eq!((head.table.as_str(), head.columns.len()), ("app.t", 2));
    }
}
