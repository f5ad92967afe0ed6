//! A database file that is built beside the one in use.

use super::carry::{all_of, carry_over, has_counters};
use super::fitting::would_change;
use super::outside::{Own, keep_to_the_file, run_one};
use super::{Parameter, companions, list, quoted, trouble};
use crate::local;
use fernweh_core::record::COUNTERS;
use fernweh_core::sql::{ObjectKind, Statement};
use fernweh_ports::{Rejected, Result, RowBatch, Trouble};
use rusqlite::{Connection, ErrorCode};
use std::path::{Path, PathBuf};

/// A database file that is to be replaced.
pub struct SqliteTarget {
    pub(super) path: PathBuf,
    pub(super) built: PathBuf,
    /// The place beside which it is built, if it is not built among new files.
    pub(super) place: Option<PathBuf>,
    /// The file lies inside the site's files and changes places with them.
    pub(super) with_files: bool,
    pub(super) db: Option<Connection>,
    /// What lets statements of our own reach the old database.
    pub(super) own: Own,
    pub(super) cleared_counters: bool,
    pub(super) journal_mode: Option<String>,
    /// The rows come into tables as they are there.
    pub(super) rows_only: bool,
    /// Tables and views that are built; known when they are complete.
    pub(super) replaced: Vec<String>,
    /// Tables of the old state that are not carried over.
    pub(super) removed: Vec<String>,
    /// Folders that were not there before.
    pub(super) made: Vec<PathBuf>,
}

/// Until the switch nobody else uses the file; a run that is broken off goes on with it. Only
/// `main`: the old database, attached later, must not be locked.
const SESSION: &str = "PRAGMA main.journal_mode = TRUNCATE; PRAGMA main.synchronous = OFF; \
     PRAGMA foreign_keys = OFF; PRAGMA main.locking_mode = EXCLUSIVE;";

impl SqliteTarget {
    /// The database `path`, built as a file of its own in the workshop of `place`.
    pub fn beside(path: &Path, place: &Path, run: &str) -> Self {
        let built = local::workshop(place).join(format!("database-{run}"));
        Self { place: Some(place.to_owned()), ..Self::at(path, built, false) }
    }

    /// The database `path`, built at `built`, inside the new files of the site.
    pub fn inside(path: &Path, built: &Path) -> Self {
        Self::at(path, built.to_owned(), true)
    }

    pub(super) fn at(path: &Path, built: PathBuf, with_files: bool) -> Self {
        let path = path.to_owned();
        Self {
            path,
            built,
            place: None,
            with_files,
            db: None,
            own: Own::default(),
            cleared_counters: false,
            journal_mode: None,
            rows_only: false,
            replaced: Vec::new(),
            removed: Vec::new(),
            made: Vec::new(),
        }
    }

    pub(super) fn wrong(&self, error: rusqlite::Error) -> Trouble {
        trouble("cannot write the site's new database", &self.path, &error)
    }

    pub(super) fn db(&self) -> Result<&Connection> {
        self.db.as_ref().ok_or_else(|| Trouble::damaged("no database is being built"))
    }

    pub(super) fn create(&mut self, structure: &[Statement]) -> rusqlite::Result<Connection> {
        let mut db = Connection::open(&self.built)?;
        db.set_prepared_statement_cache_capacity(64);
        self.own = keep_to_the_file(&mut db)?;
        self.note_journal_mode(structure);
        // The size of the pages is fixed by whatever comes next; older archives name it late.
        let is_size = |name: &str| name == "page_size";
        for first in [true, false] {
            for statement in structure {
                if let Statement::Pragma { name, sql } = statement
                    && name != "journal_mode"
                    && is_size(name) == first
                {
                    run_one(&db, sql)?;
                }
            }
        }
        self.begin(&db)?;
        for statement in structure {
            if let Statement::Table { sql, .. }
            | Statement::Object { kind: ObjectKind::Virtual, sql, .. } = statement
            {
                run_one(&db, sql)?;
            }
        }
        Ok(db)
    }

    /// Records that break a check at the source come as they are, into the tables of the source.
    fn begin(&self, db: &Connection) -> rusqlite::Result<()> {
        db.execute_batch(SESSION)?;
        let ignored = if self.rows_only { "OFF" } else { "ON" };
        db.execute_batch(&format!("PRAGMA ignore_check_constraints = {ignored}; BEGIN;"))
    }

    /// Opens the file of a run that was broken off, if it is whole.
    pub(super) fn go_on(&mut self, structure: &[Statement]) -> rusqlite::Result<bool> {
        self.db = None;
        if !self.built.exists() {
            return Ok(false);
        }
        let mut db = Connection::open(&self.built)?;
        db.set_prepared_statement_cache_capacity(64);
        let whole: String = db.query_row("PRAGMA quick_check(1)", [], |row| row.get(0))?;
        let there: Vec<String> = list(&db)?.into_iter().map(|found| found.name).collect();
        let complete = structure.iter().all(|statement| match statement {
            Statement::Table { name, .. }
            | Statement::Object { kind: ObjectKind::Virtual, name, .. } => there.contains(name),
            _ => true,
        });
        if whole != "ok" || !complete {
            return Ok(false);
        }
        self.note_journal_mode(structure);
        self.cleared_counters = false;
        self.own = keep_to_the_file(&mut db)?;
        self.begin(&db)?;
        self.db = Some(db);
        Ok(true)
    }

    /// The mode in which the site uses the file.
    pub(super) fn note_journal_mode(&mut self, structure: &[Statement]) {
        for statement in structure {
            if let Statement::Pragma { name, sql } = statement
                && name == "journal_mode"
            {
                let mode = sql.rsplit('=').next().unwrap_or_default().trim();
                self.journal_mode = Some(mode.to_owned());
            }
        }
    }

    pub(super) fn insert(
        &mut self,
        portion: &RowBatch,
        adapt: bool,
    ) -> rusqlite::Result<Vec<Rejected>> {
        let mut rejected = Vec::new();
        let Some(db) = &self.db else { return Ok(rejected) };
        if portion.table == COUNTERS {
            if !has_counters(db)? {
                return Ok(rejected);
            }
            if !self.cleared_counters {
                db.execute_batch("DELETE FROM sqlite_sequence")?;
                self.cleared_counters = true;
            }
        }
        let names: Vec<String> = portion.columns.iter().map(|name| quoted(name)).collect();
        let marks = vec!["?"; names.len()].join(",");
        let (table, names) = (quoted(&portion.table), names.join(","));
        let mut insert =
            db.prepare_cached(&format!("INSERT INTO {table} ({names}) VALUES ({marks})"))?;
        for (row, values) in portion.rows.iter().enumerate() {
            if self.rows_only
                && let Some(because) = would_change(db, &portion.table, &portion.columns, values)?
            {
                rejected.push(Rejected { row, because, adapted: adapt });
                if !adapt {
                    continue;
                }
            }
            match insert.execute(rusqlite::params_from_iter(values.iter().map(Parameter))) {
                Ok(_) => {}
                Err(error)
                    if error.sqlite_error_code() == Some(ErrorCode::ConstraintViolation)
                        || error.sqlite_error_code() == Some(ErrorCode::TypeMismatch) =>
                {
                    let because = error.to_string();
                    rejected.push(Rejected { row, because, adapted: false });
                }
                Err(error) => return Err(error),
            }
        }
        Ok(rejected)
    }

    pub(super) fn complete(&mut self, afterwards: &[Statement]) -> rusqlite::Result<()> {
        let Some(db) = self.db.take() else { return Ok(()) };
        for statement in afterwards {
            if let Statement::Index { sql, .. }
            | Statement::View { sql, .. }
            | Statement::Object { sql, .. }
            | Statement::Trigger { sql, .. } = statement
            {
                run_one(&db, sql)?;
            }
        }
        self.replaced = all_of(&db)?;
        db.execute_batch("PRAGMA ignore_check_constraints = ON")?;
        if self.path.exists() {
            carry_over(&db, &self.own, &self.path, &self.removed)?;
        }
        if has_counters(&db)? {
            // Counters of tables that were not taken.
            db.execute_batch(
                "DELETE FROM sqlite_sequence WHERE name NOT IN (SELECT name FROM sqlite_schema)",
            )?;
        }
        db.execute_batch(
            "COMMIT; PRAGMA main.journal_mode = DELETE; PRAGMA main.locking_mode = NORMAL;",
        )?;
        if self.journal_mode.as_deref() == Some("wal") {
            db.query_row("PRAGMA journal_mode = WAL", [], |_| Ok(()))?;
        }
        db.close().map_err(|(_, error)| error)
    }

    /// Brings everything into the one file, so that it can be moved.
    pub(super) fn settle(path: &Path) -> rusqlite::Result<()> {
        if !companions(path).iter().any(|file| file.exists()) {
            return Ok(());
        }
        let db = Connection::open(path)?;
        db.busy_timeout(std::time::Duration::from_secs(5))?;
        let mode: String = db.query_row("PRAGMA journal_mode", [], |row| row.get(0))?;
        db.query_row("PRAGMA journal_mode = DELETE", [], |_| Ok(()))?;
        if mode == "wal" {
            // The mode is a property of the file; the last to leave clears the log.
            db.query_row("PRAGMA journal_mode = WAL", [], |_| Ok(()))?;
        }
        db.close().map_err(|(_, error)| error)
    }
}
