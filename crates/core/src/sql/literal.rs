//! Values as SQL literals.
//!
//! SQLite: https://www.sqlite.org/lang_expr.html#literal_values_constants_.
//! MariaDB: string literals with backslash escapes, in scripts that begin with
//! `SET NAMES binary`, so that the bytes of every character set arrive as they are.
//! PostgreSQL: strings with `standard_conforming_strings = on`; its rows travel as `COPY`.

use super::escape::{Letters, letters, write_escaped};
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
    if text.contains(&0) || std::str::from_utf8(text).is_err() {
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
    let mut rest = text;
    while let Some(at) = memchr::memchr(b'\'', rest) {
        out.extend_from_slice(&rest[..=at]);
        out.push(b'\'');
        rest = &rest[at + 1..];
    }
    out.extend_from_slice(rest);
    out.push(b'\'');
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
