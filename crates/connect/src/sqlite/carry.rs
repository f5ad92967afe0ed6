//! Tables that are not replaced, and what hangs on them, are the same in the old and the new
//! state: they are copied from one file into the other.

use super::outside::{Own, keep_to_the_file, run_one};
use super::{ListedTable, column_list, describe_with_rowid, list, made_by, quoted};
use fernweh_ports::ContentSwap;
use rusqlite::Connection;
use std::collections::BTreeSet;
use std::path::Path;

/// Whether SQLite keeps counters in this database.
pub(super) fn has_counters(db: &Connection) -> rusqlite::Result<bool> {
    let query = "SELECT count(*) FROM main.sqlite_schema WHERE name = 'sqlite_sequence'";
    db.query_row(query, [], |row| row.get::<_, i64>(0)).map(|count| count > 0)
}

/// Every table and view of a file.
pub(super) fn all_of(db: &Connection) -> rusqlite::Result<Vec<String>> {
    Ok(list(db)?.into_iter().map(|found| found.name).collect())
}

/// Copies the tables and views of the file `from` that are not in `db` and not among `others`.
pub(super) fn carry_over(
    db: &Connection,
    own: &Own,
    from: &Path,
    others: &[String],
) -> rusqlite::Result<()> {
    let old = Connection::open(from)?;
    let new: BTreeSet<String> = all_of(db)?.into_iter().collect();
    let stays = |found: &ListedTable| !new.contains(&found.name) && !others.contains(&found.name);
    let mut extra: Vec<_> = list(&old)?.into_iter().filter(stays).collect();
    if extra.is_empty() {
        return Ok(());
    }
    // Shadows come with their virtual tables.
    extra.sort_by_key(|found| found.kind == "shadow");
    for found in extra.iter().filter(|found| found.kind == "table" || found.kind == "virtual") {
        run_one(db, &made_by(&old, &found.name)?)?;
    }
    db.execute_batch("COMMIT")?;
    let path = from.to_string_lossy();
    own.run(|| db.execute("ATTACH DATABASE ?1 AS replaced", [&path]))?;
    db.execute_batch("BEGIN")?;
    for found in extra.iter().filter(|found| found.kind == "table" || found.kind == "shadow") {
        let table = describe_with_rowid(&old, found)?;
        let (name, columns) = (quoted(&found.name), column_list(&table));
        db.execute_batch(&format!(
            "DELETE FROM main.{name}; \
             INSERT INTO main.{name} ({columns}) SELECT {columns} FROM replaced.{name}"
        ))?;
    }
    if has_counters(db)? && has_counters(&old)? {
        for found in &extra {
            db.execute("DELETE FROM main.sqlite_sequence WHERE name = ?1", [&found.name])?;
            db.execute(
                "INSERT INTO main.sqlite_sequence (name, seq) \
                 SELECT name, seq FROM replaced.sqlite_sequence WHERE name = ?1",
                [&found.name],
            )?;
        }
    }
    hang_on(db, &old, &extra)?;
    own.run(|| db.execute_batch("COMMIT; DETACH DATABASE replaced; BEGIN"))
}

/// Indexes, views and triggers of what was copied.
fn hang_on(db: &Connection, old: &Connection, extra: &[ListedTable]) -> rusqlite::Result<()> {
    let mut query = old.prepare(
        "SELECT name, sql FROM sqlite_schema WHERE sql IS NOT NULL AND type <> 'table' \
         AND tbl_name IN (SELECT value FROM json_each(?1)) ORDER BY type = 'trigger', rowid",
    )?;
    let names: Vec<&str> = extra.iter().map(|found| found.name.as_str()).collect();
    let names = serde_json::Value::from(names).to_string();
    let mut rows = query.query([names])?;
    while let Some(row) = rows.next()? {
        let (name, sql): (String, String) = (row.get(0)?, row.get(1)?);
        let there: i64 = db.query_row(
            "SELECT count(*) FROM main.sqlite_schema WHERE name = ?1",
            [&name],
            |row| row.get(0),
        )?;
        if there == 0 {
            run_one(db, &sql)?;
        }
    }
    Ok(())
}

/// Brings what is not replaced up to date: in the file `side`, as it is in the file `present`.
pub(super) fn renew(side: &Path, present: &Path, swap: &ContentSwap) -> rusqlite::Result<()> {
    let turned: Vec<String> = swap.replaced.iter().chain(&swap.removed).cloned().collect();
    let others = |db: &Connection| -> rusqlite::Result<Vec<ListedTable>> {
        Ok(list(db)?.into_iter().filter(|found| !turned.contains(&found.name)).collect())
    };
    let mut db = Connection::open(side)?;
    let stale = others(&db)?;
    if stale.is_empty() && others(&Connection::open(present)?)?.is_empty() {
        return Ok(());
    }
    let own = keep_to_the_file(&mut db)?;
    db.execute_batch("PRAGMA foreign_keys = OFF; PRAGMA ignore_check_constraints = ON; BEGIN")?;
    for kind in ["view", "virtual", "table"] {
        for found in stale.iter().filter(|found| found.kind == kind) {
            let what = if kind == "view" { "VIEW" } else { "TABLE" };
            db.execute_batch(&format!("DROP {what} main.{}", quoted(&found.name)))?;
        }
    }
    carry_over(&db, &own, present, &turned)?;
    db.execute_batch("COMMIT")?;
    db.close().map_err(|(_, error)| error)
}
