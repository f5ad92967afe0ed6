//! `INSERT` of scripts: with and without columns, and literals in all their notations.

use crate::limits;
use crate::record::{Row, Value};
use crate::sql::Dialect;
use crate::sql::lexer::Token;
use crate::sql::statement::{Reader, StatementError};

/// What stands before the rows.
#[derive(Debug, PartialEq, Eq)]
pub(super) struct InsertHead {
    /// The schema or database, if one is written.
    pub place: Option<String>,
    pub table: String,
    /// The columns; empty if none are named.
    pub columns: Vec<String>,
}

impl InsertHead {
    /// Reads what follows `INSERT` or `REPLACE`, up to `VALUES`.
    pub fn read(reader: &mut Reader<'_>) -> Result<Self, StatementError> {
        let passed = ["LOW_PRIORITY", "DELAYED", "HIGH_PRIORITY", "IGNORE", "INTO", "ONLY"];
        let mut name = reader.name()?.0;
        while passed.iter().any(|word| name.eq_ignore_ascii_case(word)) {
            name = reader.name()?.0;
        }
        let mut place = None;
        if reader.next_is_dot() {
            reader.sign(b'.')?;
            place = Some(std::mem::replace(&mut name, reader.name()?.0));
        }
        let columns = reader.names_if_any()?;
        let mut word = reader.some()?;
        if word.is("OVERRIDING") {
            reader.some()?;
            reader.expect("VALUE")?;
            word = reader.some()?;
        }
        let fits = word.is("VALUES") || word.is("VALUE");
        if fits { Ok(Self { place, table: name, columns }) } else { Err(unread(&word)) }
    }
}

fn unread(token: &Token<'_>) -> StatementError {
    match token {
        Token::Word(word) => StatementError::Shape((*word).to_owned()),
        _ => StatementError::Unreadable,
    }
}

/// The rows behind `VALUES`, one at a time: scripts hold any number in one statement.
pub(super) fn rows<E>(
    reader: &mut Reader<'_>,
    dialect: Dialect,
    wrong: &dyn Fn(StatementError) -> E,
    visit: &mut dyn FnMut(Row) -> Result<(), E>,
) -> Result<(), E> {
    loop {
        let (row, last) = one_row(reader, dialect).map_err(wrong)?;
        visit(row)?;
        if last {
            return Ok(());
        }
    }
}

/// A row, and whether it is the last one.
fn one_row(reader: &mut Reader<'_>, dialect: Dialect) -> Result<(Row, bool), StatementError> {
    reader.sign(b'(')?;
    let mut row = Vec::new();
    loop {
        if row.len() == limits::COLUMNS {
            return Err(StatementError::TooMuch("values in a record"));
        }
        row.push(value(reader, dialect)?);
        if !reader.comma_or(b')')? {
            break;
        }
    }
    match reader.next()? {
        None => Ok((row, true)),
        Some(Token::Sign(b',')) => Ok((row, false)),
        Some(token) => Err(unread(&token)),
    }
}

/// One literal. What would have to be computed is refused by its name.
fn value(reader: &mut Reader<'_>, dialect: Dialect) -> Result<Value, StatementError> {
    let mariadb = dialect == Dialect::Mariadb;
    let value = match reader.some()? {
        Token::Text(text) => Value::Text(text.into_owned()),
        Token::Bytes(bytes) => Value::Bytes(bytes),
        // Without ANSI_QUOTES double quotes hold a text.
        Token::Name(name) if mariadb && !name.contains('\\') => Value::Text(name.into_bytes()),
        Token::Number(digits) => number(digits)?,
        Token::Word(word) => {
            let mut after = reader.copied();
            let text = match after.next() {
                Ok(Some(Token::Text(text))) => Some(text.into_owned()),
                _ => None,
            };
            let value = match (word.to_ascii_uppercase().as_str(), text) {
                ("NULL", _) => return Ok(Value::Null),
                ("TRUE", _) if mariadb => return Ok(Value::Number(b"1".to_vec())),
                ("FALSE", _) if mariadb => return Ok(Value::Number(b"0".to_vec())),
                ("TRUE", _) => return Ok(Value::Text(b"t".to_vec())),
                ("FALSE", _) => return Ok(Value::Text(b"f".to_vec())),
                ("_BINARY", Some(text)) => Value::Bytes(text),
                ("_UTF8" | "_UTF8MB3" | "_UTF8MB4" | "N", Some(text)) => Value::Text(text),
                ("B", Some(digits)) if mariadb => Value::Bytes(bits(&digits)?),
                ("B" | "DATE" | "TIME" | "TIMESTAMP" | "INTERVAL", Some(text)) => Value::Text(text),
                ("X", Some(digits)) => Value::Text([b"x", digits.as_slice()].concat()),
                _ => {
                    return Err(StatementError::Shape(format!("{word} among the values of a row")));
                }
            };
            reader.some()?;
            value
        }
        _ => return Err(StatementError::Unreadable),
    };
    if dialect == Dialect::Postgres {
        skip_cast(reader)?;
    }
    Ok(value)
}

fn number(digits: &str) -> Result<Value, StatementError> {
    match digits.strip_prefix("0x").or(digits.strip_prefix("0X")) {
        None => Ok(Value::Number(digits.as_bytes().to_vec())),
        Some(hex) => {
            let even = if hex.len() % 2 == 1 { format!("0{hex}") } else { hex.to_owned() };
            let pairs = even.as_bytes().chunks(2).map(|pair| {
                let text = std::str::from_utf8(pair).ok()?;
                u8::from_str_radix(text, 16).ok()
            });
            let bytes: Option<Vec<u8>> = pairs.collect();
            bytes.map(Value::Bytes).ok_or(StatementError::Unreadable)
        }
    }
}

/// Binary digits as bytes, the last digit in the lowest place.
fn bits(digits: &[u8]) -> Result<Vec<u8>, StatementError> {
    let mut bytes = vec![0; digits.len().div_ceil(8)];
    for (place, digit) in digits.iter().rev().enumerate() {
        let last = bytes.len() - 1;
        match digit {
            b'0' => {}
            b'1' => bytes[last - place / 8] |= 1 << (place % 8),
            _ => return Err(StatementError::Unreadable),
        }
    }
    Ok(bytes)
}

/// `::type` behind a literal: the column has the type anyway.
fn skip_cast(reader: &mut Reader<'_>) -> Result<(), StatementError> {
    if reader.copied().next()? != Some(Token::Sign(b':')) {
        return Ok(());
    }
    let mut depth = 0;
    loop {
        match reader.copied().some()? {
            Token::Sign(b',' | b')') if depth == 0 => return Ok(()),
            Token::Sign(b'(') => depth += 1,
            Token::Sign(b')') => depth -= 1,
            Token::Sign(b':' | b'.' | b'[' | b']') | Token::Word(_) | Token::Name(_) => {}
            Token::Number(_) if depth > 0 => {}
            token => return Err(unread(&token)),
        }
        reader.some()?;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(dialect: Dialect, sql: &str) -> Result<(InsertHead, Vec<Row>), StatementError> {
        let mut reader = Reader::new(dialect, sql.as_bytes());
        reader.some()?;
        let head = InsertHead::read(&mut reader)?;
        let mut found = Vec::new();
        rows(&mut reader, dialect, &|error| error, &mut |row| {
            found.push(row);
            Ok(())
        })?;
        Ok((head, found))
    }

    fn text(text: &str) -> Value {
        Value::Text(text.into())
    }

    #[test]
    fn literals_of_mariadb_are_read_in_all_their_notations() {
        let sql = "INSERT IGNORE INTO `d`.`t` VALUES \
                   (1,-2.5e3,'a\\'b',\"c\",NULL,TRUE,0xFF1,x'4142',\
                   b'100000001',_binary 'z',_utf8mb4'é'),\n(2,3,'','',NULL,false,0x,x'',b'0',_binary'','')";
        let (head, rows) = read(Dialect::Mariadb, sql).unwrap();
        assert_eq!((head.place.as_deref(), head.table.as_str()), (Some("d"), "t"));
        assert!(head.columns.is_empty());
        assert_eq!(rows[0][1], Value::Number(b"-2.5e3".to_vec()));
        assert_eq!(rows[0][2..4], [text("a'b"), text("c")]);
        assert_eq!(rows[0][5], Value::Number(b"1".to_vec()));
        let bytes = |bytes: &[u8]| Value::Bytes(bytes.to_vec());
        assert_eq!(rows[0][6..10], [bytes(&[15, 0xF1]), bytes(b"AB"), bytes(&[1, 1]), bytes(b"z")]);
        assert_eq!(rows[0][10], text("é"));
        assert_eq!(rows[1].len(), 11);
    }

    #[test]
    fn literals_of_postgresql_may_have_a_cast() {
        let sql = "INSERT INTO app.t (a, \"B\") OVERRIDING SYSTEM VALUE VALUES \
                   ('x'::character varying(9), E'a\\nb'), (true, '{1,2}'::integer[]), (1, DATE '2026-01-02')";
        let (head, rows) = read(Dialect::Postgres, sql).unwrap();
        assert_eq!(head.columns, ["a", "B"]);
        assert_eq!(rows[0], [text("x"), text("a\nb")]);
        assert_eq!(rows[1], [text("t"), text("{1,2}")]);
        assert_eq!(rows[2][1], text("2026-01-02"));
    }

    #[test]
    fn what_would_have_to_be_computed_is_refused_by_name() {
        let refused = read(Dialect::Mariadb, "INSERT INTO t VALUES (1, now())").unwrap_err();
        assert_eq!(
            refused.to_string(),
            "a statement that archives do not hold: now among the values of a row"
        );
        for sql in [
            "INSERT INTO t SELECT 1",
            "INSERT INTO t SET a = 1",
            "INSERT INTO t VALUES (1) ON DUPLICATE KEY UPDATE a = 2",
            "INSERT INTO t VALUES (1 + 1)",
            "INSERT INTO t VALUES (1",
        ] {
            assert!(read(Dialect::Mariadb, sql).is_err(), "{sql}");
        }
    }
}
