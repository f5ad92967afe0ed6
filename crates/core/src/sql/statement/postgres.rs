//! The statements of PostgreSQL that an archive may hold.

use super::{Kind, Reader, Statement, StatementError};
use crate::sql::lexer::Token;
use crate::sql::{CopyHead, Dialect, Qualified};

/// What may be done to a table beside adding constraints.
const SETTINGS: [&str; 7] = ["ENABLE", "DISABLE", "FORCE", "CLUSTER", "REPLICA", "ALTER", "NO"];

fn shape(sql: &str) -> StatementError {
    StatementError::Shape(sql.chars().take(60).collect())
}

pub(super) fn parse(reader: &mut Reader<'_>, sql: String) -> Result<Statement, StatementError> {
    let object = |kind, name, sql| Statement::Object { kind, name, table: None, sql };
    match reader.word()?.to_ascii_uppercase().as_str() {
        "SET" => set(reader, sql),
        "CREATE" => create(reader, sql),
        "ALTER" => alter(reader, sql),
        "COMMENT" => {
            reader.expect("ON").map_err(|_| shape(&sql))?;
            Ok(object(Kind::Property, "comment".into(), sql))
        }
        "REFRESH" => {
            reader.expect("MATERIALIZED").map_err(|_| shape(&sql))?;
            reader.expect("VIEW").map_err(|_| shape(&sql))?;
            Ok(object(Kind::Refresh, qualified(reader)?, sql))
        }
        "SELECT" => called(reader, sql),
        _ => Err(shape(&sql)),
    }
}

/// The functions that an archive may call: `SELECT pg_catalog.setval('name', number, true)`
/// and `SELECT pg_catalog.lo_create(number)`.
fn called(reader: &mut Reader<'_>, sql: String) -> Result<Statement, StatementError> {
    let within = [Token::Word("pg_catalog"), Token::Sign(b'.')];
    for token in within {
        if reader.some()? != token {
            return Err(shape(&sql));
        }
    }
    let function = reader.some()?;
    if reader.some()? != Token::Sign(b'(') {
        return Err(shape(&sql));
    }
    let object = |kind, name, sql| Statement::Object { kind, name, table: None, sql };
    if function == Token::Word("lo_create") {
        let Token::Number(number) = reader.some()? else { return Err(shape(&sql)) };
        let number = number.parse::<u32>().map_err(|_| shape(&sql))?;
        if number == 0 || reader.comma_or(b')')? || reader.next()?.is_some() {
            return Err(shape(&sql));
        }
        return Ok(object(Kind::LargeObject, number.to_string(), sql));
    }
    let Token::Text(name) = reader.some()? else { return Err(shape(&sql)) };
    let name = String::from_utf8_lossy(&name).into_owned();
    let rest = (reader.comma_or(b')')?, reader.some()?, reader.comma_or(b')')?);
    let used = reader.some()?;
    let fits =
        matches!(rest, (true, Token::Number(_), true)) && (used.is("true") || used.is("false"));
    let fits = fits && function == Token::Word("setval");
    if !fits || reader.comma_or(b')')? || reader.next()?.is_some() {
        return Err(shape(&sql));
    }
    Ok(object(Kind::Sequence, name, sql))
}

fn set(reader: &mut Reader<'_>, sql: String) -> Result<Statement, StatementError> {
    if !reader.some()?.is("search_path") || reader.some()? != Token::Sign(b'=') {
        return Ok(Statement::Session);
    }
    let (name, _) = reader.name()?;
    match reader.next()? {
        None => Ok(Statement::Schema { name, sql }),
        Some(_) => Err(shape(&sql)),
    }
}

/// A name, with its schema if that is written.
pub(in crate::sql) fn qualified(reader: &mut Reader<'_>) -> Result<String, StatementError> {
    let (first, _) = reader.name()?;
    if reader.next_is_dot() {
        reader.sign(b'.')?;
        return Ok(Qualified::new(&first, &reader.name()?.0).to_string());
    }
    Ok(Qualified::new("public", &first).to_string())
}

/// The table behind the word `ON`.
fn on_table(reader: &mut Reader<'_>) -> Result<String, StatementError> {
    while !reader.some()?.is("ON") {}
    loop {
        // ONLY stands between: the index of a partitioned table itself.
        let mut after = reader.copied();
        if after.some()?.is("ONLY") {
            reader.some()?;
            continue;
        }
        return qualified(reader);
    }
}

fn create(reader: &mut Reader<'_>, sql: String) -> Result<Statement, StatementError> {
    loop {
        let token = reader.some()?;
        let Token::Word(word) = token else { return Err(shape(&sql)) };
        let kind = match word.to_ascii_uppercase().as_str() {
            "OR" | "REPLACE" | "UNLOGGED" | "UNIQUE" | "MATERIALIZED" | "CONSTRAINT" => continue,
            "RECURSIVE" => continue,
            "TABLE" => {
                let (name, at) = reader.name()?;
                return Ok(Statement::Table { name, at, sql });
            }
            "INDEX" => {
                let (name, _) = reader.name()?;
                let table = on_table(reader)?;
                return Ok(Statement::Index { name, table, sql });
            }
            "VIEW" => {
                let (name, _) = reader.name()?;
                return Ok(Statement::View { name, sql });
            }
            "TRIGGER" => {
                let (name, _) = reader.name()?;
                let table = on_table(reader)?;
                return Ok(Statement::Trigger { name, table, sql });
            }
            "POLICY" => {
                let (name, _) = reader.name()?;
                let table = Some(on_table(reader)?);
                return Ok(Statement::Object { kind: Kind::Rule, name, table, sql });
            }
            "RULE" => {
                let (name, _) = reader.name()?;
                while !reader.some()?.is("TO") {}
                let table = Some(qualified(reader)?);
                return Ok(Statement::Object { kind: Kind::Rule, name, table, sql });
            }
            "FUNCTION" | "PROCEDURE" | "AGGREGATE" => Kind::Routine,
            "TYPE" | "DOMAIN" => Kind::Type,
            "SEQUENCE" => Kind::Sequence,
            "STATISTICS" | "COLLATION" => Kind::Property,
            "SCHEMA" => Kind::Schema,
            "EXTENSION" => Kind::Extension,
            _ => return Err(shape(&sql)),
        };
        let mut name = reader.name()?.0;
        if name.eq_ignore_ascii_case("IF") {
            // IF NOT EXISTS
            reader.expect("NOT")?;
            reader.expect("EXISTS")?;
            name = reader.name()?.0;
        }
        if kind == Kind::Routine {
            refuse_outside(reader)?;
        }
        return Ok(Statement::Object { kind, name, table: None, sql });
    }
}

/// Functions that are loaded from a file of the server's host.
fn refuse_outside(reader: &mut Reader<'_>) -> Result<(), StatementError> {
    while let Some(token) = reader.next()? {
        if token.is("LANGUAGE") {
            let language = reader.some()?;
            let language = match &language {
                Token::Word(word) => word.to_ascii_lowercase(),
                Token::Name(name) => name.to_ascii_lowercase(),
                Token::Text(text) => String::from_utf8_lossy(text).to_ascii_lowercase(),
                _ => String::new(),
            };
            if matches!(language.as_str(), "c" | "internal") {
                return Err(StatementError::Outside(format!("LANGUAGE {language}")));
            }
        }
    }
    Ok(())
}

fn alter(reader: &mut Reader<'_>, sql: String) -> Result<Statement, StatementError> {
    let what = reader.word()?.to_ascii_uppercase();
    if !["TABLE", "INDEX", "SEQUENCE"].contains(&what.as_str()) {
        return Err(shape(&sql));
    }
    let mut after = reader.copied();
    if after.some()?.is("ONLY") {
        reader.some()?;
    }
    let table = qualified(reader)?;
    let action = reader.word()?.to_ascii_uppercase();
    let object = |kind, name: &str, sql| Statement::Object {
        kind,
        name: name.to_owned(),
        table: Some(table.clone()),
        sql,
    };
    match (what.as_str(), action.as_str()) {
        ("TABLE", "ADD") => {
            reader.expect("CONSTRAINT").map_err(|_| shape(&sql))?;
            let (name, _) = reader.name()?;
            if reader.some()?.is("FOREIGN") {
                return Ok(Statement::ForeignKey { table, name, sql });
            }
            Ok(object(Kind::Constraint, &name, sql))
        }
        ("TABLE" | "INDEX", "ATTACH") => Ok(object(Kind::Partition, "partition", sql)),
        ("SEQUENCE", "OWNED") => {
            reader.expect("BY")?;
            let owner = column_owner(reader)?;
            let (name, table) = (Qualified::parse(&table).name, Some(owner));
            Ok(Statement::Object { kind: Kind::Sequence, name, table, sql })
        }
        ("TABLE" | "INDEX", action) if SETTINGS.contains(&action) => {
            Ok(object(Kind::Property, "setting", sql))
        }
        _ => Err(shape(&sql)),
    }
}

/// The table of `table.column` or `schema.table.column`.
fn column_owner(reader: &mut Reader<'_>) -> Result<String, StatementError> {
    let mut parts = vec![reader.name()?.0];
    while reader.next_is_dot() {
        reader.sign(b'.')?;
        parts.push(reader.name()?.0);
    }
    match &parts[..] {
        [table, _] => Ok(Qualified::new("public", table).to_string()),
        [schema, table, _] => Ok(Qualified::new(schema, table).to_string()),
        _ => Err(StatementError::Unreadable),
    }
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
        let table = qualified(&mut reader)?;
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

    fn parsed(sql: &str) -> Result<Statement, StatementError> {
        Statement::parse(Dialect::Postgres, sql.as_bytes())
    }

    #[test]
    fn the_shapes_that_packing_writes_are_understood() {
        for (sql, kind) in [
            ("CREATE TYPE \"mood\" AS ENUM ('a')", Kind::Type),
            (
                "CREATE OR REPLACE FUNCTION f(a text) RETURNS text LANGUAGE sql AS $x$SELECT ';'$x$",
                Kind::Routine,
            ),
            ("CREATE SEQUENCE \"s\" AS bigint", Kind::Sequence),
            ("SELECT pg_catalog.setval('\"s\"', 5, true)", Kind::Sequence),
            ("SELECT pg_catalog.lo_create(16500)", Kind::LargeObject),
            ("ALTER SEQUENCE \"s\" OWNED BY \"t\".\"id\"", Kind::Sequence),
            ("ALTER TABLE ONLY \"t\" ADD CONSTRAINT \"p\" PRIMARY KEY (id)", Kind::Constraint),
            ("ALTER TABLE \"t\" ENABLE ROW LEVEL SECURITY", Kind::Property),
            ("CREATE POLICY p ON t FOR SELECT USING (true)", Kind::Rule),
            ("CREATE EXTENSION IF NOT EXISTS \"citext\" WITH SCHEMA \"public\"", Kind::Extension),
            ("REFRESH MATERIALIZED VIEW \"m\"", Kind::Refresh),
            ("COMMENT ON TABLE t IS 'x'", Kind::Property),
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
