//! The statements of PostgreSQL that an archive may hold.

mod create;
mod table;

use create::create;

use super::reader::Reader;
use super::shape::Shape;
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
                "CREATE OR REPLACE FUNCTION f(a text) RETURNS text LANGUAGE sql AS $x$SELECT \
                 ';'$x$",
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
