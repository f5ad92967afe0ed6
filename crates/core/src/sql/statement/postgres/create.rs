//! What is made: every `CREATE` that packing writes.

use super::{object, parts, qualified, table};
use crate::sql::lexer::Token;
use crate::sql::statement::shape::{Several, Shape};
use crate::sql::statement::{ObjectKind, Statement, StatementError};

pub(super) fn create(mut shape: Shape<'_>) -> Result<Statement, StatementError> {
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
