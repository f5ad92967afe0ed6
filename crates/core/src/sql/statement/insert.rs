//! The rows of a rows member.

use super::reader::Reader;
use super::{Statement, StatementError};
use crate::limits;
use crate::record::{Row, Value};
use crate::sql::Dialect;
use crate::sql::lexer::{Modes, Token};

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

impl Insert {
    /// Understands one statement of a rows member; `None` for a session setting.
    pub fn parse(dialect: Dialect, statement: &[u8]) -> Result<Option<Self>, StatementError> {
        let mut reader = Reader::new(dialect, statement);
        if reader.is_empty() {
            return Ok(None);
        }
        if !reader.some()?.is("INSERT") {
            return match Statement::parse(dialect, Modes::default(), statement)? {
                Statement::Session | Statement::Mode { .. } | Statement::ClearCounters => Ok(None),
                _ => Err(StatementError::Shape("no rows among the rows".into())),
            };
        }
        reader.expect("INTO")?;
        let (table, _) = reader.name()?;
        let columns = reader.names()?;
        if columns.len() > limits::COLUMNS {
            return Err(StatementError::TooMuch("columns"));
        }
        reader.expect("VALUES")?;
        let mut rows = Vec::new();
        loop {
            // Many records of a few bytes each would take many times their room in memory; only
            // the last one may be large.
            if !rows.is_empty() && reader.tokens.at > limits::INSERT_OF_MANY {
                return Err(StatementError::TooMuch("records"));
            }
            rows.push(row(&mut reader, dialect, columns.len())?);
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

fn row(reader: &mut Reader<'_>, dialect: Dialect, width: usize) -> Result<Row, StatementError> {
    reader.sign(b'(')?;
    let mut row = Vec::with_capacity(width);
    loop {
        if row.len() == width {
            return Err(StatementError::Unreadable);
        }
        row.push(value(reader, dialect)?);
        if !reader.comma_or(b')')? {
            break;
        }
    }
    if row.len() == width { Ok(row) } else { Err(StatementError::Unreadable) }
}

fn value(reader: &mut Reader<'_>, dialect: Dialect) -> Result<Value, StatementError> {
    Ok(match reader.some()? {
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
            reader.sign(b'(')?;
            let Token::Bytes(bytes) = reader.some()? else {
                return Err(StatementError::Unreadable);
            };
            reader.expect("AS")?;
            reader.expect("TEXT")?;
            reader.sign(b')')?;
            Value::Text(bytes)
        }
        _ => return Err(StatementError::Unreadable),
    })
}
