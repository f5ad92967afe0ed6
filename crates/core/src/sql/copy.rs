//! Rows in the text format of PostgreSQL's `COPY`: one line for a row, tabs between
//! values, `\\N` for NULL, a backslash before what would end a value or a line
//! (PostgreSQL documentation, `COPY`, "Text Format").

use super::escape::{Letters, PIECE, letters, write_escaped};
use super::statement::StatementError;
use super::{Dialect, Qualified, quote_name};
use crate::digest::{from_hex, write_hex};
use crate::record::{Row, Value};
use crate::rewrite::ColumnText;

/// `COPY table (columns) FROM stdin`, understood.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct CopyHead {
    /// The table, as a manifest names it.
    pub table: String,
    /// The columns, in the order of the values.
    pub columns: Vec<String>,
}

/// Writes `COPY table (columns) FROM stdin;` and a line break.
pub fn write_copy_head(table: &str, columns: &[String], out: &mut Vec<u8>) {
    let names: Vec<String> =
        columns.iter().map(|name| quote_name(Dialect::Postgres, name)).collect();
    let table = Qualified::parse(table).sql();
    // A table can be without columns of its own.
    let names = if names.is_empty() { String::new() } else { format!(" ({})", names.join(", ")) };
    out.extend_from_slice(format!("COPY {table}{names} FROM stdin;\n").as_bytes());
}

/// Writes a row as one line.
pub fn write_copy_row(row: &[Value], out: &mut Vec<u8>) {
    let text = |text: &[u8], out: &mut Vec<u8>| write_escaped(text, &COPY_LETTERS, out);
    write_line(row, out, &text, &|bytes, out| {
        out.extend_from_slice(b"\\\\x");
        write_hex(bytes, out);
    });
}

/// The same as [`write_copy_row`], for rows that are too large to be held a second time as
/// text: hands pieces of bounded size to `emit`.
pub fn copy_row_in_pieces<E>(
    row: &[Value],
    emit: &mut dyn FnMut(&[u8]) -> Result<(), E>,
) -> Result<(), E> {
    let mut out = Vec::new();
    for (number, value) in row.iter().enumerate() {
        if number > 0 {
            out.push(b'\t');
        }
        let Some(bytes) = value.bytes().filter(|bytes| bytes.len() > PIECE) else {
            write_copy_row(std::slice::from_ref(value), &mut out);
            // The line does not end here.
            out.pop();
            continue;
        };
        let text = matches!(value, Value::Text(_));
        if !text {
            out.extend_from_slice(b"\\\\x");
        }
        for piece in bytes.chunks(PIECE) {
            match text {
                true => write_escaped(piece, &COPY_LETTERS, &mut out),
                false => write_hex(piece, &mut out),
            }
            emit(&out)?;
            out.clear();
        }
    }
    out.push(b'\n');
    emit(&out)
}

/// Writes a row as one line for MariaDB's `LOAD DATA` with its usual separators, which
/// differs in that bytes stand as they are, and a zero byte has an escape (which `COPY` would
/// read as the beginning of an octal number).
pub fn write_load_row(row: &[Value], out: &mut Vec<u8>) {
    let write = |bytes: &[u8], out: &mut Vec<u8>| write_escaped(bytes, &LOAD_LETTERS, out);
    write_line(row, out, &write, &write);
}

type WriteText<'a> = &'a dyn Fn(&[u8], &mut Vec<u8>);

fn write_line(
    row: &[Value],
    out: &mut Vec<u8>,
    write_text: WriteText<'_>,
    write_bytes: WriteText<'_>,
) {
    for (number, value) in row.iter().enumerate() {
        if number > 0 {
            out.push(b'\t');
        }
        match value {
            Value::Null => out.extend_from_slice(b"\\N"),
            Value::Integer(number) => out.extend_from_slice(number.to_string().as_bytes()),
            Value::Real(number) => out.extend_from_slice(number.to_string().as_bytes()),
            Value::Number(text) | Value::Text(text) => write_text(text, out),
            Value::Bytes(bytes) => write_bytes(bytes, out),
        }
    }
    out.push(b'\n');
}

const COPY_LETTERS: Letters =
    letters(&[(b'\\', b'\\'), (b'\n', b'n'), (b'\r', b'r'), (b'\t', b't')]);

const LOAD_LETTERS: Letters =
    letters(&[(b'\\', b'\\'), (b'\n', b'n'), (b'\r', b'r'), (b'\t', b't'), (0, b'0')]);

/// Reads one line (without its line break) as a row. What a column holds decides
/// which values its texts become: bytes for binary columns, text where addresses can
/// stand, and the server's own notation for everything else.
pub fn read_copy_row(line: &[u8], columns: &[Option<ColumnText>]) -> Result<Row, StatementError> {
    let mut row = Vec::with_capacity(columns.len());
    if columns.is_empty() && line.is_empty() {
        return Ok(row);
    }
    let mut fields = line.split(|byte| *byte == b'\t');
    for column in columns {
        let field = fields.next().ok_or(StatementError::Unreadable)?;
        if field == b"\\N" {
            row.push(Value::Null);
            continue;
        }
        let plain = unescape(field)?;
        row.push(match column {
            Some(ColumnText::Binary) => {
                let digits = plain.strip_prefix(b"\\x").ok_or(StatementError::Unreadable)?;
                Value::Bytes(from_hex(digits).ok_or(StatementError::Unreadable)?)
            }
            Some(_) => Value::Text(plain),
            None => Value::Number(plain),
        });
    }
    if fields.next().is_some() { Err(StatementError::Unreadable) } else { Ok(row) }
}

fn unescape(field: &[u8]) -> Result<Vec<u8>, StatementError> {
    let Some(mut at) = memchr::memchr(b'\\', field) else { return Ok(field.to_vec()) };
    let mut plain = Vec::with_capacity(field.len());
    plain.extend_from_slice(&field[..at]);
    loop {
        let second = *field.get(at + 1).ok_or(StatementError::Unreadable)?;
        at += 2;
        match second {
            b'b' => plain.push(8),
            b'f' => plain.push(12),
            b'n' => plain.push(b'\n'),
            b'r' => plain.push(b'\r'),
            b't' => plain.push(b'\t'),
            b'v' => plain.push(11),
            b'0'..=b'7' => {
                // One to three octal digits.
                let mut value = u32::from(second - b'0');
                for _ in 0..2 {
                    match field.get(at) {
                        Some(digit @ b'0'..=b'7') => {
                            value = value * 8 + u32::from(digit - b'0');
                            at += 1;
                        }
                        _ => break,
                    }
                }
                plain.push(value as u8);
            }
            b'x' if field.get(at).is_some_and(u8::is_ascii_hexdigit) => {
                let digits = field[at..].iter().take(2).take_while(|c| c.is_ascii_hexdigit());
                let digits: Vec<u32> = digits.filter_map(|c| (*c as char).to_digit(16)).collect();
                at += digits.len();
                plain.push(digits.iter().fold(0, |value, digit| value * 16 + digit) as u8);
            }
            other => plain.push(other),
        }
        let rest = &field[at..];
        let next = memchr::memchr(b'\\', rest).unwrap_or(rest.len());
        plain.extend_from_slice(&rest[..next]);
        at += next;
        if at == field.len() {
            return Ok(plain);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const KINDS: [Option<ColumnText>; 3] = [Some(ColumnText::Utf8), Some(ColumnText::Binary), None];

    proptest! {
        #[test]
        fn every_row_comes_back(text in any::<Vec<u8>>(), bytes in any::<Vec<u8>>()) {
            let row = vec![Value::Text(text.clone()), Value::Bytes(bytes), Value::Number(text)];
            let mut line = Vec::new();
            write_copy_row(&row, &mut line);
            prop_assert_eq!(line.iter().filter(|byte| **byte == b'\n').count(), 1);
            prop_assert_eq!(line.pop(), Some(b'\n'));
            prop_assert_eq!(read_copy_row(&line, &KINDS).unwrap(), row);
        }

        #[test]
        fn a_row_in_pieces_is_the_same_row(text: Vec<u8>, bytes: Vec<u8>) {
            let row = vec![Value::Text(text), Value::Null, Value::Bytes(bytes)];
            let (mut whole, mut pieces) = (Vec::new(), Vec::new());
            write_copy_row(&row, &mut whole);
            let mut emit = |piece: &[u8]| {
                pieces.extend_from_slice(piece);
                Ok::<_, ()>(())
            };
            copy_row_in_pieces(&row, &mut emit).unwrap();
            prop_assert_eq!(pieces, whole);
        }

        #[test]
        fn no_line_makes_it_panic(line in any::<Vec<u8>>()) {
            let _ = read_copy_row(&line, &KINDS);
        }
    }

    #[test]
    fn a_zero_byte_is_escaped_for_mariadb_alone() {
        let row = [Value::Bytes(b"\x007\\".to_vec()), Value::Null];
        let mut line = Vec::new();
        write_load_row(&row, &mut line);
        assert_eq!(line, b"\\07\\\\\t\\N\n");
        line.clear();
        write_copy_row(&[Value::Text(b"\x007".to_vec())], &mut line);
        assert_eq!(line, b"\x007\n");
    }

    #[test]
    fn escapes_of_other_writers_are_understood() {
        let row = read_copy_row(b"a\\tb\\x41\\101\\q\t\\\\x00ff\t\\N", &KINDS).unwrap();
        let expected = [Value::Text(b"a\tbAAq".to_vec()), Value::Bytes(vec![0, 255]), Value::Null];
        assert_eq!(row, expected);
    }

    #[test]
    fn a_line_of_another_width_is_refused() {
        assert!(read_copy_row(b"a\t\\\\x00", &KINDS).is_err());
        assert!(read_copy_row(b"a\t\\\\x00\t1\t2", &KINDS).is_err());
        assert!(read_copy_row(b"a\\", &[None]).is_err());
        assert!(read_copy_row(b"\\\\x0", &[Some(ColumnText::Binary)]).is_err());
    }

    #[test]
    fn the_head_names_table_and_columns() {
        let mut out = Vec::new();
        write_copy_head("app.notes", &["id".into(), "a b".into()], &mut out);
        assert_eq!(out, b"COPY \"app\".\"notes\" (\"id\", \"a b\") FROM stdin;\n");
    }
}
