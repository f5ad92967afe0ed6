//! The pages of PostgreSQL's large objects as statements that any client can run:
//! `SELECT pg_catalog.lo_put(number, offset, 'bytes');`
//! (PostgreSQL documentation, "Large Objects", "Server-Side Functions").

use super::Dialect;
use super::lexer::Token;
use super::statement::{Reader, StatementError};
use crate::record::{Row, Value};

/// Bytes of a page.
pub const PAGE: u64 = 2048;

/// Writes a row of number, page and bytes (`\\x` and hexadecimal digits), each as the server
/// notes it. Other rows are none of large objects, and give nothing.
pub fn write_page(row: &[Value], out: &mut Vec<u8>) {
    let [Value::Number(number), Value::Number(page), Value::Number(data)] = row else { return };
    let page: u64 = std::str::from_utf8(page).ok().and_then(|n| n.parse().ok()).unwrap_or(0);
    out.extend_from_slice(b"SELECT pg_catalog.lo_put(");
    out.extend_from_slice(number);
    out.extend_from_slice(format!(", {}, '", page * PAGE).as_bytes());
    out.extend_from_slice(data);
    out.extend_from_slice(b"');\n");
}

/// Understands such a statement; `None` for a setting of the session.
pub fn read_page(statement: &[u8]) -> Result<Option<Row>, StatementError> {
    let mut reader = Reader::new(Dialect::Postgres, statement);
    let first = reader.word()?.to_ascii_uppercase();
    if first == "SET" {
        return Ok(None);
    }
    let shape = || StatementError::Shape(first.clone());
    let begins = [Token::Word("pg_catalog"), Token::Sign(b'.'), Token::Word("lo_put")];
    for token in begins.into_iter().chain([Token::Sign(b'(')]) {
        if first != "SELECT" || reader.some()? != token {
            return Err(shape());
        }
    }
    let Token::Number(number) = reader.some()? else { return Err(shape()) };
    let number = number.as_bytes().to_vec();
    let first_comma = reader.comma_or(b')')?;
    let Token::Number(offset) = reader.some()? else { return Err(shape()) };
    let offset: u64 = offset.parse().map_err(|_| shape())?;
    let second_comma = reader.comma_or(b')')?;
    let Token::Text(data) = reader.some()? else { return Err(shape()) };
    let ends = !reader.comma_or(b')')? && reader.next()?.is_none();
    if !first_comma || !second_comma || !ends || !offset.is_multiple_of(PAGE) {
        return Err(shape());
    }
    let page = (offset / PAGE).to_string().into_bytes();
    Ok(Some(vec![Value::Number(number), Value::Number(page), Value::Number(data.into_owned())]))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_page_is_read_as_it_was_written() {
        let number = |text: &str| Value::Number(text.into());
        for data in ["\\x", "\\x00ff", "\\x27"] {
            let row = vec![number("16500"), number("3"), number(data)];
            let mut out = Vec::new();
            write_page(&row, &mut out);
            let statement = out.strip_suffix(b";\n").unwrap();
            assert_eq!(read_page(statement).unwrap(), Some(row));
        }
        assert_eq!(read_page(b"SET client_encoding = 'UTF8'").unwrap(), None);
    }

    #[test]
    fn nothing_else_is_called() {
        for sql in [
            "SELECT pg_catalog.lo_put(1, 0, '\\x00'), f()",
            "SELECT pg_catalog.lo_put(1, 5, '\\x00')",
            "SELECT pg_catalog.lo_put(f(), 0, '\\x00')",
            "SELECT pg_catalog.lo_put(1, 0, f())",
            "SELECT pg_catalog.lo_export(1, 0, '/etc/passwd')",
            "SELECT lo_put(1, 0, '\\x00')",
            "INSERT INTO t VALUES (1)",
        ] {
            assert!(read_page(sql.as_bytes()).is_err(), "{sql}");
        }
    }
}
