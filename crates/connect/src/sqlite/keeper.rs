//! A database that stays while the files around it are replaced.
//!
//! Copying its bytes while the site writes would give a torn copy. It is copied page by page
//! through SQLite, and nobody else may write from then on until the files have changed places.

use super::trouble;
use fernweh_ports::{Keeper, NewFile, Result, Trouble};
use rusqlite::Connection;
use rusqlite::backup::Backup;
use std::path::{Path, PathBuf};
use std::time::Duration;

/// Carries a database over into new files.
pub struct SqliteKeeper {
    live: PathBuf,
    built: PathBuf,
    /// Holds the lock until the keeper is dropped.
    locked: Option<Connection>,
}

impl SqliteKeeper {
    /// The database `live`, to be carried over to `built`.
    pub fn new(live: &Path, built: &Path) -> Self {
        Self { live: live.to_owned(), built: built.to_owned(), locked: None }
    }

    /// Makes the copy, and keeps writers waiting until this is dropped.
    fn copy_and_lock(&mut self) -> Result<()> {
        if !self.live.is_file() {
            return Ok(());
        }
        let what = "cannot carry the database over";
        let (from, to) = (self.live.parent(), self.built.parent());
        if let (Some(from), Some(to)) = (from, to)
            && !to.exists()
        {
            std::fs::create_dir_all(to)
                .and_then(|()| std::fs::set_permissions(to, std::fs::metadata(from)?.permissions()))
                .map_err(|error| Trouble::file(what, to, &error))?;
        }
        let locked = self.copy().map_err(|error| trouble(what, &self.live, &error))?;
        std::fs::metadata(&self.live)
            .and_then(|found| std::fs::set_permissions(&self.built, found.permissions()))
            .map_err(|error| Trouble::file(what, &self.built, &error))?;
        self.locked = Some(locked);
        Ok(())
    }

    fn copy(&self) -> rusqlite::Result<Connection> {
        let live = Connection::open(&self.live)?;
        live.busy_timeout(Duration::from_secs(10))?;
        let mode: String = live.query_row("PRAGMA journal_mode", [], |row| row.get(0))?;
        live.execute_batch("BEGIN IMMEDIATE")?;
        // A second connection reads: a backup does not begin inside a transaction that writes.
        let reader = Connection::open(&self.live)?;
        let mut built = Connection::open(&self.built)?;
        Backup::new(&reader, &mut built)?.run_to_completion(1000, Duration::ZERO, None)?;
        if mode == "wal" {
            built.query_row("PRAGMA journal_mode = WAL", [], |_| Ok(()))?;
        }
        built.close().map_err(|(_, error)| error)?;
        Ok(live)
    }
}

impl Keeper for SqliteKeeper {
    fn keep(&mut self) -> Result<Option<NewFile>> {
        self.copy_and_lock().map(|()| None)
    }
}
