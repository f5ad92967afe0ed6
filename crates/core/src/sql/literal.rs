//! Values as SQL literals.
//!
//! SQLite: https://www.sqlite.org/lang_expr.html#literal_values_constants_.
//! MariaDB: string literals with backslash escapes, in scripts that begin with
//! `SET NAMES binary`, so that the bytes of every character set arrive as they are.

use super::Dialect;
use crate::digest::hex;
use crate::record::Value;

/// A name as an identifier.
pub fn quote_name(dialect: Dialect, name: &str) -> String {
    match dialect {
        Dialect::Sqlite => format!("\"{}\"", name.replace('"', "\"\"")),
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
        Value::Number(digits) => out.extend_from_slice(digits),
        Value::Text(text) => match dialect {
            Dialect::Sqlite => write_sqlite_text(text, out),
            Dialect::Mariadb => write_mariadb_text(text, out),
        },
        Value::Bytes(bytes) => {
            out.extend_from_slice(b"x'");
            out.extend_from_slice(hex(bytes).as_bytes());
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
        out.extend_from_slice(hex(text).as_bytes());
        out.extend_from_slice(b"' AS TEXT)");
        return;
    }
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

fn write_mariadb_text(text: &[u8], out: &mut Vec<u8>) {
    out.push(b'\'');
    for &byte in text {
        match byte {
            b'\'' => out.extend_from_slice(b"\\'"),
            b'\\' => out.extend_from_slice(b"\\\\"),
            0 => out.extend_from_slice(b"\\0"),
            b'\n' => out.extend_from_slice(b"\\n"),
            b'\r' => out.extend_from_slice(b"\\r"),
            0x1A => out.extend_from_slice(b"\\Z"),
            other => out.push(other),
        }
    }
    out.push(b'\'');
}

/// Structure statements as a script for the engine's own client.
pub fn write_structure(dialect: Dialect, statements: &[&super::Statement]) -> Vec<u8> {
    use super::Statement;
    let mut out = Vec::new();
    if dialect == Dialect::Mariadb {
        out.extend_from_slice(
            b"SET NAMES utf8mb4;\nSET foreign_key_checks = 0, unique_checks = 0, \
              sql_mode = 'NO_AUTO_VALUE_ON_ZERO';\n",
        );
    }
    for statement in statements {
        match statement {
            Statement::Trigger { sql, .. } if dialect == Dialect::Mariadb => {
                out.extend_from_slice(format!("DELIMITER ;;\n{sql};;\nDELIMITER ;\n").as_bytes());
            }
            Statement::Pragma { sql, .. }
            | Statement::Table { sql, .. }
            | Statement::Index { sql, .. }
            | Statement::View { sql, .. }
            | Statement::Trigger { sql, .. }
            | Statement::ForeignKey { sql, .. } => {
                let sql = sql.trim_end_matches(';');
                out.extend_from_slice(sql.as_bytes());
                // A comment at the end must not swallow the semicolon.
                let commented = sql.lines().last().is_some_and(|line| line.contains("--"));
                out.extend_from_slice(if commented { b"\n;\n" } else { b";\n" });
            }
            Statement::Session | Statement::ClearCounters => {}
        }
    }
    out
}
