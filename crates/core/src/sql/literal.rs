//! Values as SQL literals.
//!
//! SQLite: https://www.sqlite.org/lang_expr.html#literal_values_constants_.
//! MariaDB: string literals with backslash escapes, in scripts that begin with
//! `SET NAMES binary`, so that the bytes of every character set arrive as they are.
//! PostgreSQL: strings with `standard_conforming_strings = on`; its rows travel as `COPY`.

use super::escape::{Letters, PIECE, letters, write_escaped};
use super::{Dialect, Statement};
use crate::digest::write_hex;
use crate::record::Value;

/// A name as an identifier.
pub fn quote_name(dialect: Dialect, name: &str) -> String {
    match dialect {
        Dialect::Sqlite | Dialect::Postgres => format!("\"{}\"", name.replace('"', "\"\"")),
        Dialect::Mariadb => format!("`{}`", name.replace('`', "``")),
    }
}

/// `INSERT INTO t (a, b) VALUES` and a line break.
pub fn write_insert_head(dialect: Dialect, table: &str, columns: &[String], out: &mut Vec<u8>) {
    let names: Vec<String> = columns.iter().map(|name| quote_name(dialect, name)).collect();
    let head = format!("INSERT INTO {} ({}) VALUES\n", quote_name(dialect, table), names.join(","));
    out.extend_from_slice(head.as_bytes());
}

/// `(1,'a',NULL)`
pub fn write_row(dialect: Dialect, row: &[Value], out: &mut Vec<u8>) {
    out.push(b'(');
    for (number, value) in row.iter().enumerate() {
        if number > 0 {
            out.push(b',');
        }
        write_value(dialect, value, out);
    }
    out.push(b')');
}

/// The same as [`write_row`], for rows that are too large to be held a second time as text:
/// hands pieces of bounded size to `emit`.
pub fn row_in_pieces<E>(
    dialect: Dialect,
    row: &[Value],
    emit: &mut dyn FnMut(&[u8]) -> Result<(), E>,
) -> Result<(), E> {
    let mut out = Vec::new();
    for (number, value) in row.iter().enumerate() {
        out.push(if number == 0 { b'(' } else { b',' });
        match value.bytes().filter(|bytes| bytes.len() > PIECE) {
            None => write_value(dialect, value, &mut out),
            Some(bytes) => {
                let text = matches!(value, Value::Text(_)) && !is_odd(dialect, bytes);
                let (begin, end): (&[u8], &[u8]) = match (value, text) {
                    (_, true) => (b"'", b"'"),
                    (Value::Text(_), false) => (b"CAST(x'", b"' AS TEXT)"),
                    _ if dialect == Dialect::Postgres => (b"'\\x", b"'"),
                    _ => (b"x'", b"'"),
                };
                out.extend_from_slice(begin);
                for piece in bytes.chunks(PIECE) {
                    match (text, dialect) {
                        (false, _) => write_hex(piece, &mut out),
                        (true, Dialect::Mariadb) => {
                            write_escaped(piece, &MARIADB_LETTERS, &mut out)
                        }
                        (true, _) => write_doubled_within(piece, &mut out),
                    }
                    emit(&out)?;
                    out.clear();
                }
                out.extend_from_slice(end);
            }
        }
    }
    out.push(b')');
    emit(&out)
}

/// Whether a text cannot stand between quotes as it is.
fn is_odd(dialect: Dialect, text: &[u8]) -> bool {
    dialect == Dialect::Sqlite && (text.contains(&0) || std::str::from_utf8(text).is_err())
}

fn write_value(dialect: Dialect, value: &Value, out: &mut Vec<u8>) {
    match value {
        Value::Null => out.extend_from_slice(b"NULL"),
        Value::Integer(number) => out.extend_from_slice(number.to_string().as_bytes()),
        Value::Real(number) => out.extend_from_slice(real(*number).as_bytes()),
        Value::Number(text) if dialect == Dialect::Postgres => write_doubled(text, out),
        Value::Number(digits) => out.extend_from_slice(digits),
        Value::Text(text) => match dialect {
            Dialect::Sqlite => write_sqlite_text(text, out),
            Dialect::Mariadb => write_mariadb_text(text, out),
            Dialect::Postgres => write_doubled(text, out),
        },
        Value::Bytes(bytes) if dialect == Dialect::Postgres => {
            out.extend_from_slice(b"'\\x");
            write_hex(bytes, out);
            out.push(b'\'');
        }
        Value::Bytes(bytes) => {
            out.extend_from_slice(b"x'");
            write_hex(bytes, out);
            out.push(b'\'');
        }
    }
}

/// The shortest digits that give the same number again; infinity overflows on purpose.
fn real(number: f64) -> String {
    if number.is_infinite() {
        return if number > 0.0 { "9e999".into() } else { "-9e999".into() };
    }
    format!("{number:?}")
}

fn write_sqlite_text(text: &[u8], out: &mut Vec<u8>) {
    if is_odd(Dialect::Sqlite, text) {
        out.extend_from_slice(b"CAST(x'");
        write_hex(text, out);
        out.extend_from_slice(b"' AS TEXT)");
        return;
    }
    write_doubled(text, out);
}

/// A text in quotes, in which only the quote itself is special.
fn write_doubled(text: &[u8], out: &mut Vec<u8>) {
    out.push(b'\'');
    write_doubled_within(text, out);
    out.push(b'\'');
}

/// A text, or a part of one, as it stands between such quotes.
fn write_doubled_within(text: &[u8], out: &mut Vec<u8>) {
    let mut rest = text;
    while let Some(at) = memchr::memchr(b'\'', rest) {
        out.extend_from_slice(&rest[..=at]);
        out.push(b'\'');
        rest = &rest[at + 1..];
    }
    out.extend_from_slice(rest);
}

/// The escapes of MariaDB's string literals.
const MARIADB_LETTERS: Letters = letters(&[
    (b'\'', b'\''),
    (b'\\', b'\\'),
    (0, b'0'),
    (b'\n', b'n'),
    (b'\r', b'r'),
    (0x1A, b'Z'),
]);

fn write_mariadb_text(text: &[u8], out: &mut Vec<u8>) {
    out.push(b'\'');
    write_escaped(text, &MARIADB_LETTERS, out);
    out.push(b'\'');
}

/// Settings with which PostgreSQL's texts of values mean the same everywhere.
pub const POSTGRES_SETTINGS: &str = "SET client_encoding = 'UTF8'; \
     SET standard_conforming_strings = on; SET DateStyle = 'ISO, YMD'; \
     SET IntervalStyle = 'postgres'; SET TimeZone = 'UTC'; SET extra_float_digits = 3; \
     SET bytea_output = 'hex'; SET xmloption = 'content'; SET check_function_bodies = off; \
     SET row_security = off;\n";

/// Settings with which rows of MariaDB arrive as they are: bytes of every character set,
/// zero in counted columns, records that break a check, former states of versioned rows.
pub const MARIADB_ROW_SETTINGS: &str = "SET NAMES binary;\n\
     SET foreign_key_checks = 0, unique_checks = 0, time_zone = '+00:00', \
     sql_mode = 'NO_AUTO_VALUE_ON_ZERO,ALLOW_INVALID_DATES';\n\
     /*M! SET check_constraint_checks = 0 */;\n\
     /*M!101100 SET system_versioning_insert_history = 1 */;\n";

/// Structure statements as a script for the engine's own client.
pub fn write_structure(dialect: Dialect, statements: &[Statement]) -> Vec<u8> {
    let mut out = Vec::new();
    match dialect {
        Dialect::Sqlite => {}
        Dialect::Mariadb => out.extend_from_slice(
            b"SET NAMES utf8mb4;\nSET foreign_key_checks = 0, unique_checks = 0, \
              time_zone = '+00:00', sql_mode = 'NO_AUTO_VALUE_ON_ZERO';\n",
        ),
        Dialect::Postgres => out.extend_from_slice(POSTGRES_SETTINGS.as_bytes()),
    }
    for statement in statements {
        let Some(sql) = statement.sql() else { continue };
        let sql = sql.trim_end_matches(';');
        if dialect == Dialect::Mariadb && statement.has_body() {
            // A sign that the body does not hold.
            let signs = [";;", "//", "$$", "|||", "@@@@"];
            let sign = signs.into_iter().find(|sign| !sql.contains(sign)).unwrap_or("<<>><<>>");
            let script = format!("DELIMITER {sign}\n{sql}\n{sign}\nDELIMITER ;\n");
            out.extend_from_slice(script.as_bytes());
            continue;
        }
        out.extend_from_slice(sql.as_bytes());
        // A comment at the end must not swallow the semicolon.
        let commented = sql.lines().last().is_some_and(|line| line.contains("--"));
        out.extend_from_slice(if commented { b"\n;\n" } else { b";\n" });
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn a_row_in_pieces_is_the_same_row(odd: Vec<u8>, text: String, bytes: Vec<u8>) {
            let text = Value::Text(text.into_bytes());
            let row = vec![Value::Integer(1), Value::Text(odd), text, Value::Bytes(bytes)];
            for dialect in [Dialect::Sqlite, Dialect::Mariadb, Dialect::Postgres] {
                let (mut whole, mut pieces) = (Vec::new(), Vec::new());
                write_row(dialect, &row, &mut whole);
                let mut emit = |piece: &[u8]| {
                    pieces.extend_from_slice(piece);
                    Ok::<_, ()>(())
                };
                row_in_pieces(dialect, &row, &mut emit).unwrap();
                prop_assert_eq!(pieces, whole);
            }
        }
    }
}
