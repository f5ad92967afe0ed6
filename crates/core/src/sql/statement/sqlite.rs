//! The statements of SQLite that an archive may hold.
//!
//! SQLite keeps the text with which an object was made, so this text travels as it is; it is
//! looked at here, and run as exactly one statement under an authorizer that knows no other
//! file (`connect::sqlite`).

use super::shape::{Several, Shape};
use super::{ObjectKind, Statement, StatementError};
use crate::sql::lexer::Token;

/// Modules of virtual tables that keep to the database.
const MODULES: [&str; 5] = ["fts3", "fts4", "fts5", "rtree", "geopoly"];

/// Settings of the file's header, and what they may be set to: numbers, or one of these words.
const HEADER: [&str; 6] =
    ["user_version", "application_id", "encoding", "page_size", "auto_vacuum", "journal_mode"];
const JOURNALS: [&str; 6] = ["delete", "truncate", "persist", "memory", "wal", "off"];
const ENCODINGS: [&str; 5] = ["UTF-8", "UTF-16", "UTF-16le", "UTF-16be", "UTF8"];

pub(super) fn parse(shape: &mut Shape<'_>, statement: &[u8]) -> Result<Statement, StatementError> {
    let sql = std::str::from_utf8(statement).map_err(|_| StatementError::Unreadable)?;
    if sql.contains('\0') {
        return Err(StatementError::Unreadable);
    }
    let sql = sql.trim().to_owned();
    let object = |kind, name, sql| Statement::Object { kind, name, table: None, sql };
    let parsed = if shape.word("PRAGMA")? {
        pragma(shape, sql)?
    } else if shape.words(&["DELETE", "FROM"])? {
        match shape.name()? {
            name if name == "sqlite_sequence" => Statement::ClearCounters,
            name if is_of_engine(&name) => return Err(shape.refused()),
            name => object(ObjectKind::Virtual, name, sql),
        }
    } else if shape.words(&["INSERT", "INTO"])? {
        // INSERT INTO "words" ("words") VALUES ('rebuild')
        let name = shape.name()?;
        let columns = shape.names()?;
        shape.need(&["VALUES"])?;
        shape.sign(b'(')?;
        let word = shape.text()?;
        shape.sign(b')')?;
        if columns != [name.as_str()] || word != b"rebuild" || is_of_engine(&name) {
            return Err(shape.refused());
        }
        object(ObjectKind::Refresh, name, sql)
    } else if shape.word("ANALYZE")? {
        object(ObjectKind::Property, "statistics".into(), sql)
    } else {
        create(shape, sql)?
    };
    if shape.is_empty() { Ok(parsed) } else { Err(shape.refused()) }
}

/// Whether a table belongs to SQLite itself.
fn is_of_engine(name: &str) -> bool {
    name.get(..7).is_some_and(|start| start.eq_ignore_ascii_case("sqlite_"))
}

fn pragma(shape: &mut Shape<'_>, sql: String) -> Result<Statement, StatementError> {
    let name = shape.name()?.to_ascii_lowercase();
    shape.sign(b'=')?;
    let value = match shape.peek()? {
        Some(Token::Number(number)) => number.to_owned(),
        Some(Token::Word(word)) => word.to_owned(),
        Some(Token::Text(text)) => String::from_utf8_lossy(&text).into_owned(),
        _ => return Err(shape.refused()),
    };
    shape.value()?;
    let one_of = |words: &[&str]| words.iter().any(|word| word.eq_ignore_ascii_case(&value));
    let fits = match name.as_str() {
        "foreign_keys" => one_of(&["on", "off", "0", "1"]),
        "journal_mode" => one_of(&JOURNALS),
        "encoding" => one_of(&ENCODINGS),
        _ => value.parse::<i64>().is_ok(),
    };
    match (fits, name.as_str()) {
        (true, "foreign_keys") => Ok(Statement::Session),
        (true, name) if HEADER.contains(&name) => {
            Ok(Statement::Pragma { name: name.to_owned(), sql })
        }
        _ => Err(shape.refused()),
    }
}

fn create(shape: &mut Shape<'_>, sql: String) -> Result<Statement, StatementError> {
    shape.need(&["CREATE"])?;
    if shape.words(&["VIRTUAL", "TABLE"])? {
        let name = own_name(shape)?;
        shape.need(&["USING"])?;
        let module = shape.name()?.to_ascii_lowercase();
        if !MODULES.contains(&module.as_str()) {
            return Err(shape.refused());
        }
        if !shape.is_empty() {
            shape.group()?;
        }
        return Ok(Statement::Object { kind: ObjectKind::Virtual, name, table: None, sql });
    }
    if shape.word("TABLE")? {
        let name = own_name(shape)?;
        shape.group()?;
        loop {
            if !(shape.words(&["WITHOUT", "ROWID"])? || shape.word("STRICT")?) {
                break;
            }
            shape.sign_if(b',')?;
        }
        return Ok(Statement::Table { name, at: 0..0, sql });
    }
    let unique = shape.word("UNIQUE")?;
    if shape.word("INDEX")? {
        let name = own_name(shape)?;
        shape.need(&["ON"])?;
        let table = shape.name()?;
        shape.group()?;
        if shape.word("WHERE")? {
            shape.expression(&[])?;
        }
        return Ok(Statement::Index { name, table, sql });
    }
    if !unique && shape.word("VIEW")? {
        let name = own_name(shape)?;
        if shape.peek()? == Some(Token::Sign(b'(')) {
            shape.names()?;
        }
        shape.need(&["AS"])?;
        shape.body(Several::None)?;
        return Ok(Statement::View { name, sql });
    }
    if !unique && shape.word("TRIGGER")? {
        let name = own_name(shape)?;
        let _ = shape.one_of(&["BEFORE", "AFTER"])? || shape.words(&["INSTEAD", "OF"])?;
        if !shape.one_of(&["DELETE", "INSERT"])? {
            shape.need(&["UPDATE"])?;
            if shape.word("OF")? {
                shape.each(&mut |shape| shape.name().map(drop))?;
            }
        }
        shape.need(&["ON"])?;
        let table = shape.name()?;
        shape.body(Several::UpToEnd)?;
        return Ok(Statement::Trigger { name, table, sql });
    }
    Err(shape.refused())
}

/// The name of what is made; SQLite writes its text without schema, and keeps `IF NOT EXISTS`
/// out of it.
fn own_name(shape: &mut Shape<'_>) -> Result<String, StatementError> {
    shape.words(&["IF", "NOT", "EXISTS"])?;
    // A text in the place of a name is one for SQLite.
    let name = match shape.peek()? {
        Some(Token::Text(text)) => {
            shape.take()?;
            String::from_utf8_lossy(&text).into_owned()
        }
        _ => shape.name()?,
    };
    if is_of_engine(&name) { Err(shape.refused()) } else { Ok(name) }
}
