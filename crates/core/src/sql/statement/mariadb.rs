//! The statements of MariaDB and MySQL that an archive may hold.

mod table;

use super::reader::Reader;
use super::shape::{Several, Shape};
use super::{ObjectKind, Statement, StatementError};
use crate::sql::lexer::{Modes, Token};
use crate::sql::{Dialect, quote_name};

/// Words with which a body of several statements begins, behind its label.
const COMPOUND: [&str; 7] = ["BEGIN", "IF", "CASE", "LOOP", "REPEAT", "WHILE", "FOR"];

/// Settings that packing writes for the server's own client.
const SETTINGS: [&str; 6] = [
    "foreign_key_checks",
    "unique_checks",
    "time_zone",
    "sql_mode",
    "check_constraint_checks",
    "system_versioning_insert_history",
];

/// What a foreign key does when the other record goes.
const ACTIONS: [&[&str]; 5] =
    [&["RESTRICT"], &["CASCADE"], &["SET", "NULL"], &["NO", "ACTION"], &["SET", "DEFAULT"]];

pub(super) fn parse(mut shape: Shape<'_>) -> Result<Statement, StatementError> {
    if shape.word("SET")? {
        return set(shape);
    }
    // A setting that only some servers know.
    if shape.mark(&mut |inside| {
        inside.need(&["SET"])?;
        settings(inside)
    })? {
        return shape.finish().map(|_| Statement::Session);
    }
    if shape.words(&["ALTER", "TABLE"])? {
        return alter(shape);
    }
    if shape.word("CREATE")? {
        return create(shape);
    }
    if shape.one_of(&["DO", "SELECT"])? {
        return set_value(shape);
    }
    Err(shape.refused())
}

/// `SET sql_mode = '…'`, the time zone, or the collation of texts: they belong to what follows.
/// Other settings are for the engine's own client.
fn set(mut shape: Shape<'_>) -> Result<Statement, StatementError> {
    for name in ["sql_mode", "time_zone", "collation_connection"] {
        if !shape.word(name)? {
            continue;
        }
        shape.sign(b'=')?;
        let value = shape.text()?;
        if shape.is_empty() {
            let value = String::from_utf8(value).map_err(|_| StatementError::Unreadable)?;
            return Ok(Statement::Mode { name: name.to_owned(), value, sql: shape.finish()? });
        }
    }
    // What the loop above has begun with goes on behind a comma.
    if shape.sign_if(b',')? || !shape.is_empty() {
        settings(&mut shape)?;
    }
    shape.finish().map(|_| Statement::Session)
}

/// `NAMES x`, or `a = 1, b = 'x'`.
fn settings(shape: &mut Shape<'_>) -> Result<(), StatementError> {
    if shape.word("NAMES")? {
        return shape.value();
    }
    loop {
        if !shape.one_of(&SETTINGS)? {
            return Err(shape.refused());
        }
        shape.sign(b'=')?;
        shape.value()?;
        if !shape.sign_if(b',')? {
            return Ok(());
        }
    }
}

fn alter(mut shape: Shape<'_>) -> Result<Statement, StatementError> {
    let table = shape.name()?;
    if shape.words(&["ALTER", "COLUMN"])? || shape.word("ALTER")? {
        // A default that needs a sequence, or one that a script adds later.
        let name = shape.name()?;
        shape.need(&["SET", "DEFAULT"])?;
        shape.expression(&[])?;
        let sql = shape.finish()?;
        return Ok(Statement::Object { kind: ObjectKind::Property, name, table: Some(table), sql });
    }
    shape.need(&["ADD", "CONSTRAINT"])?;
    let name = shape.name()?;
    shape.need(&["FOREIGN", "KEY"])?;
    shape.names()?;
    shape.need(&["REFERENCES"])?;
    shape.name()?;
    shape.names()?;
    if shape.word("MATCH")? && !shape.one_of(&["FULL", "PARTIAL", "SIMPLE"])? {
        return Err(shape.refused());
    }
    while shape.word("ON")? {
        if !shape.one_of(&["DELETE", "UPDATE"])? {
            return Err(shape.refused());
        }
        let mut found = false;
        for action in ACTIONS {
            found = found || shape.words(action)?;
        }
        if !found {
            return Err(shape.refused());
        }
    }
    Ok(Statement::ForeignKey { table, name, sql: shape.finish()? })
}

fn create(mut shape: Shape<'_>) -> Result<Statement, StatementError> {
    let object = |kind, name, sql| Statement::Object { kind, name, table: None, sql };
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
    shape.words(&["OR", "REPLACE"])?;
    if shape.word("ALGORITHM")? {
        shape.sign(b'=')?;
        if !shape.one_of(&["UNDEFINED", "MERGE", "TEMPTABLE"])? {
            return Err(shape.refused());
        }
    }
    if shape.words(&["SQL", "SECURITY"])? && !shape.one_of(&["DEFINER", "INVOKER"])? {
        return Err(shape.refused());
    }
    if shape.word("VIEW")? {
        let name = shape.name()?;
        if shape.peek()? == Some(Token::Sign(b'(')) {
            shape.names()?;
        }
        shape.need(&["AS"])?;
        shape.body(Several::None)?;
        return Ok(Statement::View { name, sql: shape.finish()? });
    }
    if shape.word("TRIGGER")? {
        return trigger(shape);
    }
    let aggregate = shape.word("AGGREGATE")?;
    if shape.word("FUNCTION")? || (!aggregate && shape.word("PROCEDURE")?) {
        let name = shape.name()?;
        shape.group()?;
        // One that is loaded from a file of the server's host has no parameters here.
        shape.body(Several::UpToEnd)?;
        return Ok(object(ObjectKind::Routine, name, shape.finish()?));
    }
    if aggregate {
        return Err(shape.refused());
    }
    if shape.word("PACKAGE")? {
        shape.word("BODY")?;
        let name = shape.name()?;
        shape.body(Several::UpToEnd)?;
        return Ok(object(ObjectKind::Routine, name, shape.finish()?));
    }
    if shape.word("EVENT")? {
        let name = shape.name()?;
        schedule(&mut shape)?;
        shape.need(&["DO"])?;
        shape.body(Several::UpToEnd)?;
        return Ok(object(ObjectKind::Event, name, shape.finish()?));
    }
    Err(shape.refused())
}

fn trigger(mut shape: Shape<'_>) -> Result<Statement, StatementError> {
    let name = shape.name()?;
    if !shape.one_of(&["BEFORE", "AFTER"])? || !shape.one_of(&["INSERT", "UPDATE", "DELETE"])? {
        return Err(shape.refused());
    }
    shape.need(&["ON"])?;
    let table = shape.name()?;
    shape.need(&["FOR", "EACH", "ROW"])?;
    if shape.one_of(&["FOLLOWS", "PRECEDES"])? {
        shape.name()?;
    }
    let first = shape.peek()?.ok_or_else(|| shape.refused())?;
    shape.body(if is_compound(&first) { Several::UpToEnd } else { Several::None })?;
    Ok(Statement::Trigger { name, table, sql: shape.finish()? })
}

/// Whether a body that begins so may hold several statements; a name may be its label.
fn is_compound(first: &Token<'_>) -> bool {
    let words = ["SET", "INSERT", "UPDATE", "DELETE", "REPLACE", "CALL", "SIGNAL", "DO", "SELECT"];
    COMPOUND.iter().any(|word| first.is(word)) || !words.iter().any(|word| first.is(word))
}

/// What follows `ON SCHEDULE`, up to `DO`.
fn schedule(shape: &mut Shape<'_>) -> Result<(), StatementError> {
    shape.need(&["ON", "SCHEDULE"])?;
    let ends: [&[&str]; 7] = [
        &["STARTS"],
        &["ENDS"],
        &["ON", "COMPLETION"],
        &["ENABLE"],
        &["DISABLE"],
        &["COMMENT"],
        &["DO"],
    ];
    if shape.word("EVERY")? {
        shape.expression(&ends)?;
        while shape.one_of(&["STARTS", "ENDS"])? {
            shape.expression(&ends)?;
        }
    } else {
        shape.need(&["AT"])?;
        shape.expression(&ends)?;
    }
    if shape.words(&["ON", "COMPLETION"])? {
        shape.word("NOT")?;
        shape.need(&["PRESERVE"])?;
    }
    if shape.word("DISABLE")? {
        let _ = shape.words(&["ON", "SLAVE"])? || shape.words(&["ON", "REPLICA"])?;
    } else {
        shape.word("ENABLE")?;
    }
    if shape.word("COMMENT")? {
        shape.text()?;
    }
    Ok(())
}

fn sequence(shape: &mut Shape<'_>) -> Result<(), StatementError> {
    while !shape.is_empty() {
        if shape.one_of(&["NOCYCLE", "CYCLE", "NOCACHE", "NOMINVALUE", "NOMAXVALUE"])? {
            continue;
        }
        if shape.word("NO")? {
            if !shape.one_of(&["CYCLE", "CACHE", "MINVALUE", "MAXVALUE"])? {
                return Err(shape.refused());
            }
            continue;
        }
        if shape.word("ENGINE")? {
            table::engine(shape)?;
            continue;
        }
        if shape.word("COMMENT")? {
            shape.sign_if(b'=')?;
            shape.text()?;
            continue;
        }
        if shape.word("AS")? {
            shape.value()?;
            shape.word("UNSIGNED")?;
            continue;
        }
        let known = ["START", "INCREMENT", "MINVALUE", "MAXVALUE", "CACHE"];
        if !shape.one_of(&known)? {
            return Err(shape.refused());
        }
        shape.one_of(&["WITH", "BY"])?;
        shape.sign_if(b'=')?;
        shape.number()?;
    }
    Ok(())
}

/// `DO setval(sequence, position, …)`: where a sequence stands.
fn set_value(mut shape: Shape<'_>) -> Result<Statement, StatementError> {
    shape.need(&["setval"])?;
    shape.sign(b'(')?;
    let name = shape.name()?;
    let mut numbers = 0;
    while shape.sign_if(b',')? {
        shape.number()?;
        numbers += 1;
    }
    shape.sign(b')')?;
    if !(1..=3).contains(&numbers) {
        return Err(shape.refused());
    }
    Ok(Statement::Object { kind: ObjectKind::Sequence, name, table: None, sql: shape.finish()? })
}

fn kind(token: &Token<'_>) -> Option<ObjectKind> {
    let kinds = [
        ("SEQUENCE", ObjectKind::Sequence),
        ("PROCEDURE", ObjectKind::Routine),
        ("FUNCTION", ObjectKind::Routine),
        ("PACKAGE", ObjectKind::Routine),
        ("EVENT", ObjectKind::Event),
    ];
    kinds.into_iter().find(|(word, _)| token.is(word)).map(|(_, kind)| kind)
}

/// A statement that creates a sequence, routine or event, or sets a sequence, with another
/// name in it.
pub fn renamed(statement: &str, new: &str) -> Option<String> {
    // The name comes before everything that modes could make look otherwise.
    let mut reader = Reader::new(Dialect::Mariadb, statement.as_bytes());
    let mut found = false;
    while let Ok(Some(token)) = reader.next() {
        if found && !token.is("BODY") && token != Token::Sign(b'(') {
            let (from, to) = (reader.tokens.from, reader.tokens.at);
            let name = quote_name(Dialect::Mariadb, new);
            return Some(format!("{}{name}{}", &statement[..from], &statement[to..]));
        }
        found |= kind(&token).is_some() || token.is("setval");
    }
    None
}

/// A statement that creates a trigger, under another name, on another table, and in no order
/// with others.
pub fn moved_trigger(statement: &str, name: &str, table: &str) -> Option<String> {
    let mut reader = Reader::new(Dialect::Mariadb, statement.as_bytes());
    let mut out = String::new();
    let mut written = 0;
    // Each name stands between two words; it can hold a dot.
    for (before, behind, new) in
        [("TRIGGER", &["BEFORE", "AFTER"][..], name), ("ON", &["FOR"], table)]
    {
        while !reader.next().ok()??.is(before) {}
        out.push_str(&statement[written..reader.tokens.at]);
        loop {
            let token = reader.next().ok()??;
            if behind.iter().any(|word| token.is(word)) {
                break;
            }
        }
        written = reader.tokens.from;
        out.push_str(&format!(" {} ", quote_name(Dialect::Mariadb, new)));
    }
    while !reader.next().ok()??.is("ROW") {}
    out.push_str(&statement[written..reader.tokens.at]);
    written = reader.tokens.at;
    let token = reader.next().ok()??;
    if token.is("FOLLOWS") || token.is("PRECEDES") {
        reader.next().ok()??;
        written = reader.tokens.at;
    }
    out.push_str(&statement[written..]);
    Some(out)
}

/// The sequences that the default of a column takes numbers from.
pub fn sequences_in(default: &str) -> Vec<String> {
    let mut found = Vec::new();
    renamed_default(default, &mut |name| {
        found.extend(name.sequence.map(str::to_owned));
        None
    });
    found
}

/// A name in a statement that sets the default of a column.
pub struct DefaultName<'a> {
    /// The table whose column it is.
    pub table: Option<&'a str>,
    /// A sequence.
    pub sequence: Option<&'a str>,
}

/// A statement that sets the default of a column (`ALTER TABLE … ALTER COLUMN … SET DEFAULT …`),
/// with the names that `rename` gives.
pub fn renamed_default(
    statement: &str,
    rename: &mut dyn FnMut(DefaultName<'_>) -> Option<String>,
) -> String {
    let mut reader = Reader::new(Dialect::Mariadb, statement.as_bytes());
    let (mut out, mut written) = (String::new(), 0);
    let (mut before, mut called) = (None, false);
    while let Ok(Some(token)) = reader.next() {
        if let Token::Name(name) = &token {
            let (table, sequence) = match (&before, called) {
                (Some(Token::Word(word)), _) if word.eq_ignore_ascii_case("TABLE") => {
                    (Some(name.as_str()), None)
                }
                (Some(Token::Sign(b'(')), true) => (None, Some(name.as_str())),
                _ => (None, None),
            };
            if (table.is_some() || sequence.is_some())
                && let Some(new) = rename(DefaultName { table, sequence })
            {
                out.push_str(&statement[written..reader.tokens.from]);
                out.push_str(&quote_name(Dialect::Mariadb, &new));
                written = reader.tokens.at;
            }
        }
        let call = ["nextval", "lastval", "setval"].iter().any(|name| token.is(name));
        called = call || called && token == Token::Sign(b'(');
        before = Some(token);
    }
    out.push_str(&statement[written..]);
    out
}

/// A statement that creates an event so that it sleeps, and whether it is to be woken.
pub fn disabled_event(statement: &str, modes: Modes) -> (String, bool) {
    let mut reader = Reader::in_modes(Dialect::Mariadb, modes, statement.as_bytes());
    let mut depth = 0_u32;
    while let Ok(Some(token)) = reader.next() {
        let (from, to) = (reader.tokens.from, reader.tokens.at);
        match token {
            Token::Sign(b'(') => depth += 1,
            Token::Sign(b')') => depth = depth.saturating_sub(1),
            _ if depth > 0 => {}
            token if token.is("DISABLE") => return (statement.to_owned(), false),
            token if token.is("ENABLE") => {
                return (format!("{}DISABLE{}", &statement[..from], &statement[to..]), true);
            }
            // Behind the comment, where it stands, no state may follow.
            token if token.is("COMMENT") || token.is("DO") => {
                return (format!("{}DISABLE {}", &statement[..from], &statement[from..]), true);
            }
            _ => {}
        }
    }
    (statement.to_owned(), false)
}
