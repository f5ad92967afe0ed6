//! What tells one content of a table from another. It is compared within this program only, so the
//! quicker BLAKE3 does: a large database is read through twice for it.

use super::quoted;
use fernweh_core::limits;
use rusqlite::Connection;
use rusqlite::types::ValueRef;

/// A digest of everything that a table holds; `None` where the file is so large that reading it
/// twice more would be felt.
pub(super) fn small_digest_of(db: &Connection, table: &str) -> rusqlite::Result<Option<String>> {
    let pages: i64 = db.query_row("PRAGMA page_count", [], |row| row.get(0))?;
    let size: i64 = db.query_row("PRAGMA page_size", [], |row| row.get(0))?;
    match pages * size > limits::DIGESTED_DATABASE {
        true => Ok(None),
        false => digest_of(db, table),
    }
}

/// The same whatever its size; `None` where the table cannot be read by itself.
pub(super) fn digest_of(db: &Connection, table: &str) -> rusqlite::Result<Option<String>> {
    // A full-text table can lean on a table that is gone.
    let Ok(mut query) = db.prepare(&format!("SELECT * FROM {}", quoted(table))) else {
        return Ok(None);
    };
    let columns = query.column_count();
    let Ok(mut rows) = query.query([]) else { return Ok(None) };
    let mut digest = blake3::Hasher::new();
    while let Ok(Some(row)) = rows.next() {
        for column in 0..columns {
            add(&mut digest, row.get_ref(column)?);
        }
    }
    Ok(Some(digest.finalize().to_hex().to_string()))
}

/// A value with its type and length, so that none runs into the next.
fn add(digest: &mut blake3::Hasher, value: ValueRef<'_>) {
    let mut with = |kind: u8, bytes: &[u8]| {
        digest.update(&[kind]).update(&(bytes.len() as u64).to_le_bytes()).update(bytes);
    };
    match value {
        ValueRef::Null => with(0, &[]),
        ValueRef::Integer(number) => with(1, &number.to_le_bytes()),
        ValueRef::Real(number) => with(2, &number.to_le_bytes()),
        ValueRef::Text(bytes) => with(3, bytes),
        ValueRef::Blob(bytes) => with(4, bytes),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::BTreeSet;

    #[test]
    fn contents_that_differ_have_other_digests() {
        let contents = [
            "SELECT 1, 2",
            "SELECT 1, '2'",
            "SELECT 1, 2.0",
            "SELECT 1, x'32'",
            "SELECT 1, NULL",
            "SELECT NULL, 1",
            "SELECT 'ab', 'c'",
            "SELECT 'a', 'bc'",
            "SELECT '', 'abc'",
            "SELECT x'', 'abc'",
            "SELECT 1, 2 UNION ALL SELECT 1, 2",
            "SELECT 1, 2 WHERE 0",
        ];
        let digests: BTreeSet<String> = contents
            .iter()
            .map(|content| {
                let db = Connection::open_in_memory().unwrap();
                db.execute_batch(&format!("CREATE TABLE \"a b\" AS {content}")).unwrap();
                let found = digest_of(&db, "a b").unwrap().unwrap();
                assert_eq!(Some(&found), small_digest_of(&db, "a b").unwrap().as_ref());
                found
            })
            .collect();
        assert_eq!(digests.len(), contents.len());
        let db = Connection::open_in_memory().unwrap();
        assert_eq!(digest_of(&db, "nowhere").unwrap(), None);
    }
}
