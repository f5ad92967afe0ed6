//! Values that a column of another type would change: SQLite makes a number of the text `007`,
//! and a text of a number, without a word (section 3 of "Datatypes In SQLite").

use super::{Parameter, quoted, value_of};
use fernweh_core::record::{Row, Value};
use rusqlite::{Connection, params_from_iter};

/// Why a row would not be the same in this table, in words. The row is tried, and taken back.
pub(super) fn would_change(
    db: &Connection,
    table: &str,
    columns: &[String],
    values: &Row,
) -> rusqlite::Result<Option<String>> {
    let names: Vec<String> = columns.iter().map(|name| quoted(name)).collect();
    let (marks, names) = (vec!["?"; names.len()].join(","), names.join(","));
    let sql = format!("INSERT INTO {} ({names}) VALUES ({marks}) RETURNING {names}", quoted(table));
    db.execute_batch("SAVEPOINT fitting")?;
    let tried = db.prepare_cached(&sql).and_then(|mut insert| {
        insert.query_row(params_from_iter(values.iter().map(Parameter)), |row| {
            (0..values.len()).map(|n| row.get_ref(n).map(value_of)).collect::<Result<Row, _>>()
        })
    });
    db.execute_batch("ROLLBACK TO fitting; RELEASE fitting")?;
    // A row that is refused is named when it is written.
    let Ok(there) = tried else { return Ok(None) };
    let changed = values.iter().zip(&there).position(|(before, after)| !is_same(before, after));
    Ok(changed.map(|column| {
        format!(
            "column {} would hold {} in place of {}",
            columns[column],
            there[column].shown(),
            values[column].shown()
        )
    }))
}

/// Whether a value still says the same.
fn is_same(before: &Value, after: &Value) -> bool {
    match (before, after) {
        (Value::Integer(whole), Value::Real(real)) | (Value::Real(real), Value::Integer(whole)) => {
            *real == *whole as f64 && *real as i64 == *whole
        }
        (Value::Text(text), Value::Integer(_) | Value::Real(_)) => {
            after.shown().as_bytes() == text.as_slice()
        }
        (Value::Integer(whole), Value::Text(text)) => {
            std::str::from_utf8(text).is_ok_and(|text| text.parse() == Ok(*whole))
        }
        (Value::Real(real), Value::Text(text)) => {
            std::str::from_utf8(text).is_ok_and(|text| text.parse() == Ok(*real))
        }
        _ => before == after,
    }
}
