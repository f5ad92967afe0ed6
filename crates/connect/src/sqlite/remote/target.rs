//! Building a SQLite database that takes its place on another host.
//!
//! It is built on this machine, where a run that is broken off finds it again, and goes to
//! the host when it is complete: beside the old file, or among the new files of the site.

use super::{COMPANIONS, RemoteSqlite, Snapshot};
use crate::remote::single;
use crate::runtime::runtime;
use crate::sqlite::{SqliteTarget, companions};
use fernweh_core::finding::Check;
use fernweh_core::record::{Entry, EntryKind, Extra};
use fernweh_core::sql::Statement;
use fernweh_ports::{
    DatabaseSwap, DatabaseTarget, Direction, Fingerprint, NewFile, Overview, Progress, Rejected,
    Result, RowBatch, Scope, Structure, Trouble, foreign,
};
use std::path::PathBuf;

/// How the new database takes its place.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum RemoteSqlitePlace {
    /// Among the new files of the site, at this path below its folder.
    WithFiles(String),
    /// By itself.
    Beside,
}

/// A database file of another host that is to be replaced.
pub struct RemoteSqliteTarget {
    far: RemoteSqlite,
    place: RemoteSqlitePlace,
    run: String,
    built: PathBuf,
    inner: SqliteTarget,
    /// The present state, once it was needed.
    copy: Option<Snapshot>,
    finished: bool,
}

impl RemoteSqliteTarget {
    /// The database of `far`; `run` names what is built.
    pub fn new(far: RemoteSqlite, place: RemoteSqlitePlace, run: &str) -> Self {
        let built = far.here.join(format!("built-{run}.db"));
        let inner = SqliteTarget::inside(&far.here.join("nothing.db"), &built);
        Self { far, place, run: run.to_owned(), built, inner, copy: None, finished: false }
    }

    /// Fetches the present state.
    fn fetch(&mut self) -> Result<()> {
        self.copy = self.far.copy()?;
        if let Some(copy) = &self.copy {
            self.inner.path = copy.path();
        }
        Ok(())
    }

    fn fetched(&mut self) -> Result<()> {
        if self.copy.is_some() { Ok(()) } else { self.fetch() }
    }
}

impl DatabaseTarget for RemoteSqliteTarget {
    fn overview(&mut self, scope: &dyn Scope) -> Result<Overview> {
        self.fetched()?;
        self.inner.overview(scope)
    }

    fn build(&mut self, structure: &[Statement]) -> Result<()> {
        self.fetched()?;
        self.inner.build(structure)
    }

    fn write(&mut self, rows: &RowBatch, adapt: bool) -> Result<Vec<Rejected>> {
        self.inner.write(rows, adapt)
    }

    fn secure(&mut self) -> Result<()> {
        self.inner.secure()
    }

    fn resume(&mut self, structure: &[Statement]) -> Result<bool> {
        self.fetched()?;
        self.inner.resume(structure)
    }

    fn incompatibilities(&mut self, from: &Overview, structure: &Structure) -> Result<Vec<Check>> {
        self.fetched()?;
        let mut checks = self.inner.incompatibilities(from, structure)?;
        if self.copy.is_some() {
            checks.push(Check::warned(
                "the database to be replaced is a file of its host, and nobody can lock it",
                "stop the site there (maintenance mode) until the new database is in place",
            ));
        }
        Ok(checks)
    }

    fn rows_only(&mut self, packed: &[Statement]) {
        self.inner.rows_only(packed);
    }

    fn remove(&mut self, tables: &[String]) {
        self.inner.remove(tables);
    }

    fn finish(&mut self, afterwards: &[Statement]) -> Result<DatabaseSwap> {
        self.inner.finish(afterwards)?;
        self.finished = true;
        if let RemoteSqlitePlace::WithFiles(_) = self.place {
            return Ok(DatabaseSwap::WithFiles);
        }
        let swap = self.far.bring(&self.built, &self.run)?;
        Ok(DatabaseSwap::File(swap))
    }

    fn new_file(&mut self) -> Result<Option<NewFile>> {
        let RemoteSqlitePlace::WithFiles(inside) = &self.place else { return Ok(None) };
        let found = runtime().block_on(self.far.tree.look(&self.far.path))?;
        let mode = found.and_then(|found| found.mode).unwrap_or(0o600);
        new_file(&self.built, inside, mode).map(Some)
    }

    fn orphans(&mut self, swap: &DatabaseSwap) -> Result<Vec<String>> {
        self.inner.orphans(swap)
    }

    fn notes(&self) -> Vec<String> {
        let replaced = self.copy.as_ref().map(|_| {
            format!(
                "{} is a file of its host: what the site wrote to it while it was replaced is in \
                 the old state alone, unless the site was stopped",
                self.far.shown()
            )
        });
        replaced.into_iter().collect()
    }

    fn built_rows(&mut self, tables: &[String]) -> Result<Vec<(String, u64)>> {
        self.inner.built_rows(tables)
    }

    fn clear(&mut self, _: &Fingerprint, _: &mut dyn FnMut() -> Result<()>) -> Result<bool> {
        Err(Trouble::usage("a SQLite database of another host cannot be replaced in place")
            .at(self.far.shown())
            .hint("leave --in-place out: the new file is built on this machine"))
    }

    fn absent(&mut self, swap: &DatabaseSwap, direction: Direction) -> Result<Vec<String>> {
        let DatabaseSwap::File(swap) = swap else { return Ok(Vec::new()) };
        let there = single::holds_file(&self.far.tree, swap, direction)?;
        Ok(if there {
            Vec::new()
        } else {
            vec![format!("the other state of {}", self.far.shown())]
        })
    }

    fn adopted(&mut self, swap: &DatabaseSwap) -> Result<DatabaseSwap> {
        let path = &self.far.path;
        let own = [single::workshop_of(path)];
        let adopted = match swap {
            DatabaseSwap::WithFiles => Some(DatabaseSwap::WithFiles),
            DatabaseSwap::File(swap) => {
                single::adopted(swap, path, &own, &self.run).map(DatabaseSwap::File)
            }
            _ => None,
        };
        adopted.ok_or_else(|| foreign(&self.far.shown()))
    }

    fn discard(&mut self) -> Result<()> {
        self.inner.discard()?;
        if self.place == RemoteSqlitePlace::Beside {
            let side = single::beside(&self.far.path, &self.run);
            single::discard_file(&self.far.tree, &side)?;
        }
        Ok(())
    }

    fn switch(
        &mut self,
        swap: &DatabaseSwap,
        direction: Direction,
        _: &dyn Progress,
    ) -> Result<()> {
        if let DatabaseSwap::File(swap) = swap {
            single::switch_file(&self.far.tree, swap, &COMPANIONS, direction)?;
        }
        // Whatever was built here is there now.
        let _ = std::fs::remove_file(&self.built);
        Ok(())
    }

    fn let_go(&mut self, swap: &DatabaseSwap, _: Direction) -> Result<()> {
        match swap {
            DatabaseSwap::File(swap) => single::let_go_file(&self.far.tree, swap, &COMPANIONS),
            _ => Ok(()),
        }
    }

    fn fingerprint(&mut self, tables: &[String]) -> Result<Fingerprint> {
        self.fetch()?;
        match &self.copy {
            Some(_) => self.inner.fingerprint(tables),
            None => Ok(Fingerprint::default()),
        }
    }
}

impl Drop for RemoteSqliteTarget {
    fn drop(&mut self) {
        if self.finished {
            // A run that is broken off from here on builds it anew.
            for path in companions(&self.built).iter().chain([&self.built]) {
                let _ = std::fs::remove_file(path);
            }
        }
    }
}

/// A database of this machine as a file for the new files of a site.
pub(super) fn new_file(built: &std::path::Path, inside: &str, mode: u32) -> Result<NewFile> {
    let wrong = |error| Trouble::file("cannot read the new database", built, &error);
    let file = std::fs::File::open(built).map_err(wrong)?;
    let size = file.metadata().map_err(wrong)?.len();
    let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH);
    let entry = Entry {
        path: inside.as_bytes().to_vec(),
        kind: EntryKind::File(size),
        mode,
        mtime: now.map_or(0, |now| now.as_secs() as i64),
        nanos: 0,
        owner: (0, 0),
        extra: Extra::default(),
    };
    Ok(NewFile { entry, content: Box::new(file) })
}
