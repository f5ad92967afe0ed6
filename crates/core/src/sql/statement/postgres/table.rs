//! Tables of PostgreSQL and what is done to them.

use super::super::StatementError;
use super::super::shape::Shape;
use super::{parts, qualified};
use crate::sql::lexer::Token;

/// What may follow an expression in the line of a column.
const ATTRIBUTES: [&[&str]; 10] = [
    &["NOT", "NULL"],
    &["NULL"],
    &["DEFAULT"],
    &["COLLATE"],
    &["CONSTRAINT"],
    &["CHECK"],
    &["GENERATED"],
    &["PRIMARY", "KEY"],
    &["UNIQUE"],
    &["COMPRESSION"],
];

/// What follows the name of a table.
pub(super) fn definition(shape: &mut Shape<'_>) -> Result<(), StatementError> {
    if shape.words(&["PARTITION", "OF"])? {
        qualified(shape)?;
        if shape.peek()? == Some(Token::Sign(b'(')) {
            shape.group()?;
        }
        bounds_of(shape)?;
    } else {
        shape.sign(b'(')?;
        if shape.peek()? != Some(Token::Sign(b')')) {
            shape.each(&mut item)?;
        }
        shape.sign(b')')?;
    }
    loop {
        if shape.word("INHERITS")? {
            shape.sign(b'(')?;
            shape.each(&mut |shape| qualified(shape).map(drop))?;
            shape.sign(b')')?;
        } else if shape.words(&["PARTITION", "BY"])? {
            if !shape.one_of(&["RANGE", "LIST", "HASH"])? {
                return Err(shape.refused());
            }
            shape.group()?;
        } else if shape.word("USING")? {
            shape.name()?;
        } else if shape.word("WITH")? {
            shape.group()?;
        } else {
            return Ok(());
        }
    }
}

fn item(shape: &mut Shape<'_>) -> Result<(), StatementError> {
    if shape.word("CONSTRAINT")? {
        shape.name()?;
        return constraint(shape);
    }
    let begins = ["CHECK", "PRIMARY", "UNIQUE", "FOREIGN", "EXCLUDE"];
    if shape.peek()?.is_some_and(|token| begins.iter().any(|word| token.is(word))) {
        return constraint(shape);
    }
    shape.name()?;
    type_and_attributes(shape)
}

/// The type of a column or a domain, and what follows it.
pub(super) fn type_and_attributes(shape: &mut Shape<'_>) -> Result<(), StatementError> {
    shape.expression(&ATTRIBUTES)?;
    while attribute(shape)? {}
    Ok(())
}

fn attribute(shape: &mut Shape<'_>) -> Result<bool, StatementError> {
    if shape.words(&["NOT", "NULL"])?
        || shape.word("NULL")?
        || shape.words(&["PRIMARY", "KEY"])?
        || shape.word("UNIQUE")?
    {
        return Ok(true);
    }
    if shape.word("DEFAULT")? {
        shape.expression(&ATTRIBUTES)?;
        return Ok(true);
    }
    if shape.word("COLLATE")? {
        parts(shape)?;
        return Ok(true);
    }
    if shape.word("COMPRESSION")? {
        shape.name()?;
        return Ok(true);
    }
    if shape.word("GENERATED")? {
        generated(shape)?;
        return Ok(true);
    }
    if shape.word("CONSTRAINT")? {
        shape.name()?;
        if shape.word("CHECK")? {
            shape.group()?;
            shape.words(&["NO", "INHERIT"])?;
            shape.words(&["NOT", "VALID"])?;
        }
        return Ok(true);
    }
    if shape.word("CHECK")? {
        shape.group()?;
        shape.words(&["NO", "INHERIT"])?;
        return Ok(true);
    }
    Ok(false)
}

/// `ALWAYS AS (…) STORED`, `BY DEFAULT AS IDENTITY (…)`
fn generated(shape: &mut Shape<'_>) -> Result<(), StatementError> {
    if !(shape.word("ALWAYS")? || shape.words(&["BY", "DEFAULT"])?) {
        return Err(shape.refused());
    }
    shape.need(&["AS"])?;
    if !shape.word("IDENTITY")? {
        shape.group()?;
        shape.one_of(&["STORED", "VIRTUAL"])?;
        return Ok(());
    }
    if shape.sign_if(b'(')? {
        while !shape.sign_if(b')')? {
            sequence_option(shape)?;
        }
    }
    Ok(())
}

pub(super) fn sequence_option(shape: &mut Shape<'_>) -> Result<(), StatementError> {
    if shape.words(&["SEQUENCE", "NAME"])? {
        return qualified(shape).map(drop);
    }
    if shape.word("AS")? {
        return shape.name().map(drop);
    }
    if shape.word("CYCLE")? {
        return Ok(());
    }
    if shape.word("NO")? {
        return match shape.one_of(&["MINVALUE", "MAXVALUE", "CYCLE"])? {
            true => Ok(()),
            false => Err(shape.refused()),
        };
    }
    if !shape.one_of(&["INCREMENT", "MINVALUE", "MAXVALUE", "START", "CACHE"])? {
        return Err(shape.refused());
    }
    shape.one_of(&["BY", "WITH"])?;
    shape.number()
}

/// What a constraint says, behind its name.
pub(super) fn constraint(shape: &mut Shape<'_>) -> Result<(), StatementError> {
    if shape.word("CHECK")? {
        shape.group()?;
    } else if shape.words(&["PRIMARY", "KEY"])? || shape.word("UNIQUE")? {
        if shape.word("NULLS")? {
            shape.word("NOT")?;
            shape.need(&["DISTINCT"])?;
        }
        shape.group()?;
    } else if shape.word("EXCLUDE")? {
        if shape.word("USING")? {
            shape.name()?;
        }
        shape.group()?;
    } else {
        shape.need(&["FOREIGN", "KEY"])?;
        shape.group()?;
        shape.need(&["REFERENCES"])?;
        qualified(shape)?;
        if shape.peek()? == Some(Token::Sign(b'(')) {
            shape.group()?;
        }
    }
    while constraint_option(shape)? {}
    Ok(())
}

fn constraint_option(shape: &mut Shape<'_>) -> Result<bool, StatementError> {
    if shape.word("MATCH")? {
        return shape.one_of(&["FULL", "PARTIAL", "SIMPLE"]);
    }
    if shape.words(&["ON", "DELETE"])? || shape.words(&["ON", "UPDATE"])? {
        let set = shape.word("SET")?;
        if set && shape.one_of(&["NULL", "DEFAULT"])? {
            if shape.peek()? == Some(Token::Sign(b'(')) {
                shape.names()?;
            }
            return Ok(true);
        }
        let acts =
            !set && (shape.one_of(&["CASCADE", "RESTRICT"])? || shape.words(&["NO", "ACTION"])?);
        return if acts { Ok(true) } else { Err(shape.refused()) };
    }
    if shape.one_of(&["INCLUDE", "WITH", "WHERE"])? {
        shape.group()?;
        return Ok(true);
    }
    Ok(shape.words(&["NO", "INHERIT"])?
        || shape.words(&["NOT", "VALID"])?
        || shape.words(&["NOT", "DEFERRABLE"])?
        || shape.word("DEFERRABLE")?
        || shape.words(&["INITIALLY", "DEFERRED"])?
        || shape.words(&["INITIALLY", "IMMEDIATE"])?)
}

/// The partition that is attached, and what it holds.
pub(super) fn bounds(shape: &mut Shape<'_>) -> Result<(), StatementError> {
    qualified(shape)?;
    bounds_of(shape)
}

fn bounds_of(shape: &mut Shape<'_>) -> Result<(), StatementError> {
    if shape.word("DEFAULT")? {
        return Ok(());
    }
    shape.need(&["FOR", "VALUES"])?;
    if shape.word("FROM")? {
        shape.group()?;
        shape.need(&["TO"])?;
    } else if !shape.one_of(&["IN", "WITH"])? {
        return Err(shape.refused());
    }
    shape.group()
}

/// One setting of a table, or of an index.
pub(super) fn setting(shape: &mut Shape<'_>, index: bool) -> Result<(), StatementError> {
    if shape.word("ALTER")? {
        shape.word("COLUMN")?;
        match shape.peek()? {
            Some(Token::Number(_)) if index => shape.number()?,
            _ => drop(shape.name()?),
        }
        return column_setting(shape);
    }
    if index {
        return Err(shape.refused());
    }
    if shape.words(&["CLUSTER", "ON"])? {
        return shape.name().map(drop);
    }
    if shape.words(&["REPLICA", "IDENTITY"])? {
        if shape.words(&["USING", "INDEX"])? {
            return shape.name().map(drop);
        }
        return match shape.one_of(&["FULL", "NOTHING", "DEFAULT"])? {
            true => Ok(()),
            false => Err(shape.refused()),
        };
    }
    let force = shape.words(&["NO", "FORCE"])? || shape.word("FORCE")?;
    if force {
        return shape.need(&["ROW", "LEVEL", "SECURITY"]);
    }
    let enable = shape.word("ENABLE")?;
    if !(enable || shape.word("DISABLE")?) {
        return Err(shape.refused());
    }
    if shape.words(&["ROW", "LEVEL", "SECURITY"])? {
        return Ok(());
    }
    if enable {
        shape.one_of(&["REPLICA", "ALWAYS"])?;
    }
    match shape.one_of(&["TRIGGER", "RULE"])? {
        true => shape.name().map(drop),
        false => Err(shape.refused()),
    }
}

fn column_setting(shape: &mut Shape<'_>) -> Result<(), StatementError> {
    if shape.words(&["ADD", "GENERATED"])? {
        return generated(shape);
    }
    shape.need(&["SET"])?;
    if shape.word("DEFAULT")? {
        return shape.expression(&[]);
    }
    if shape.words(&["NOT", "NULL"])? {
        return Ok(());
    }
    if shape.one_of(&["STORAGE", "COMPRESSION"])? {
        return shape.name().map(drop);
    }
    if shape.word("STATISTICS")? {
        return shape.number();
    }
    shape.group()
}
