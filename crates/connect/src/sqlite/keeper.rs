//! A database that stays while the files around it are replaced: nobody may write to it while
//! they change places.

use super::trouble;
use fernweh_ports::{Keeper, Result};
use rusqlite::{Connection, OpenFlags};
use std::path::{Path, PathBuf};
use std::time::Duration;

/// How long somebody who writes is waited for.
const PATIENCE: Duration = Duration::from_secs(10);

/// Keeps writers of a database waiting.
pub struct SqliteKeeper {
    live: PathBuf,
    /// Holds the lock until it is dropped.
    locked: Option<Connection>,
}

impl SqliteKeeper {
    /// The database `live`.
    pub fn new(live: &Path) -> Self {
        Self { live: live.to_owned(), locked: None }
    }

    fn lock(&self) -> rusqlite::Result<Connection> {
        let flags = OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_NO_MUTEX;
        let live = Connection::open_with_flags(&self.live, flags)?;
        live.busy_timeout(PATIENCE)?;
        live.execute_batch("BEGIN IMMEDIATE")?;
        Ok(live)
    }
}

impl Keeper for SqliteKeeper {
    fn hold(&mut self) -> Result<()> {
        if self.live.is_file() {
            let locked = self.lock().map_err(|error| {
                trouble("cannot keep the database while its folder changes", &self.live, &error)
            })?;
            self.locked = Some(locked);
        }
        Ok(())
    }

    fn release(&mut self) {
        self.locked = None;
    }
}
