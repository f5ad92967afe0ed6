//! A SQLite database that is a file of another host.
//!
//! It is read as a copy on this machine. A copy counts only if nobody has written while it
//! was made: the file, its log and their headers are looked at before and after. Where the
//! site writes all the time, a program of the host makes the copy through SQLite, if the
//! login has a shell; otherwise the site must be stopped for a moment.

mod editor;
mod target;

pub use editor::RemoteSqliteEditor;
pub use target::{RemoteSqlitePlace, RemoteSqliteTarget};

use super::{SqliteSource, SqliteTarget, trouble};
use crate::remote::{FoundKind, Tree, single};
use crate::runtime::runtime;
use crate::ssh::{Session, shell_word};
use fernweh_ports::{FileSwap, NewFile, Result, Trouble};
use std::os::unix::fs::DirBuilderExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use tempfile::TempDir;

/// The files that belong to a database file and move with it, by the ends of their names. The
/// index of the log is made anew by whoever opens it.
const COMPANIONS: [&str; 3] = ["-wal", "-journal", "-shm"];
/// The file and those of its companions that hold what is written, in the order in which they
/// are read; the index of the log changes with every reader.
const WRITTEN: [&str; 3] = ["", "-wal", "-journal"];
/// How often a copy is begun while the site writes.
const ATTEMPTS: u32 = 3;
/// How often a file that is listed but cannot be read is looked at. Where the site writes
/// without a pause, one look in four meets a journal that is gone when it is read: all of them
/// once in a hundred million copies.
const LOOKS: u32 = 12;

/// Where the database is.
#[derive(Clone)]
pub struct RemoteSqlite {
    /// The files of its host.
    pub tree: Arc<dyn Tree>,
    /// Its absolute path there.
    pub path: Vec<u8>,
    /// The login, if it may have a shell.
    pub shell: Option<Arc<Session>>,
    /// A folder of this machine for copies.
    pub here: PathBuf,
}

/// A file as it is at a moment.
#[derive(Clone, Debug, PartialEq, Eq)]
struct Seen {
    size: u64,
    mtime: Option<i64>,
    /// Its first bytes. Those of a database hold a counter of transactions (file format,
    /// 1.3.7), those of a log its salts (4.1).
    head: Vec<u8>,
}

/// The database and its companions as they are at a moment.
type Marks = [Option<Seen>; 3];

/// A copy on this machine; it goes when this is dropped.
pub struct Snapshot {
    folder: TempDir,
    state: Option<Marks>,
}

impl Snapshot {
    /// The file.
    pub fn path(&self) -> PathBuf {
        self.folder.path().join("copy.db")
    }
}

impl RemoteSqlite {
    /// The place for people.
    pub fn shown(&self) -> String {
        format!("{}{}", self.tree.shown(), String::from_utf8_lossy(&self.path))
    }

    fn named(&self, ending: &str) -> Vec<u8> {
        [&self.path, ending.as_bytes()].concat()
    }

    /// The database, its log and its journal as they are now.
    fn look(&self) -> Result<Marks> {
        let mut state = Marks::default();
        for (seen, ending) in state.iter_mut().zip(WRITTEN) {
            *seen = self.look_at(&self.named(ending))?;
        }
        Ok(state)
    }

    /// One of these files as it is now; `None` if it is not there.
    ///
    /// A journal comes and goes with each transaction, so one that was listed can be gone when
    /// it is read, and a new one be there when it is looked for again. Hosts do not tell this
    /// apart from a file that may not be read: only what fails every time is an error.
    fn look_at(&self, path: &[u8]) -> Result<Option<Seen>> {
        let mut refused = None;
        for _ in 0..LOOKS {
            let Some(found) = runtime().block_on(self.tree.look(path))? else { return Ok(None) };
            let FoundKind::File(size) = found.kind else {
                return Err(Trouble::usage("the database is no plain file of its host")
                    .at(self.shown())
                    .hint("name the file itself in database"));
            };
            let mut head = Vec::new();
            let fetched = single::fetch(&self.tree, path, size.min(100), |portion| {
                head.extend_from_slice(portion);
                Ok(())
            });
            match fetched {
                Ok(()) => return Ok(Some(Seen { size, mtime: found.mtime, head })),
                Err(trouble) if trouble.lost => return Err(trouble),
                Err(trouble) => refused = Some(trouble),
            }
        }
        refused.map_or(Ok(None), Err)
    }

    /// A whole copy of one moment of a file that must be there.
    pub fn present(&self) -> Result<Snapshot> {
        self.copy()?.ok_or_else(|| {
            Trouble::outside("cannot open the site's database")
                .at(self.shown())
                .because("there is no such file")
                .hint("check the path of database")
        })
    }

    /// A whole copy of one moment; none if there is no such file.
    pub fn copy(&self) -> Result<Option<Snapshot>> {
        let wrong = |error| Trouble::file("cannot keep a copy of the database", &self.here, &error);
        std::fs::DirBuilder::new().recursive(true).mode(0o700).create(&self.here).map_err(wrong)?;
        let mut before = self.look()?;
        for _ in 0..ATTEMPTS {
            if before[0].is_none() {
                return Ok(None);
            }
            let folder = tempfile::Builder::new().prefix("copy-").tempdir_in(&self.here);
            let mut copy = Snapshot { folder: folder.map_err(wrong)?, state: None };
            let mut fetched = Ok(());
            for (seen, ending) in before.iter().zip(WRITTEN) {
                if let Some(seen) = seen.as_ref().filter(|_| fetched.is_ok()) {
                    let here = copy.folder.path().join(format!("copy.db{ending}"));
                    fetched = single::fetch_file(&self.tree, &self.named(ending), seen.size, &here);
                }
            }
            let after = self.look()?;
            // A journal can have gone and come again in between: then it has changed, too.
            let changed = matches!(&fetched, Err(trouble) if !trouble.lost);
            if after == before && !changed {
                fetched?;
                SqliteSource::open(&copy.path())?;
                copy.state = Some(after);
                return Ok(Some(copy));
            }
            before = after;
        }
        self.copied_there().map(Some)
    }

    /// Lets a program of the host make the copy.
    fn copied_there(&self) -> Result<Snapshot> {
        let busy = |because: String| {
            Trouble::outside("the database cannot be copied while the site writes to it")
                .at(self.shown())
                .because(because)
                .hint("stop the site for a moment (maintenance mode), and type the command again")
        };
        let Some(shell) = &self.shell else {
            return Err(busy(format!("it changed during each of {ATTEMPTS} copies")));
        };
        let path = shell_word(&self.path)?;
        let ran = shell.run(&format!("database={path}\n{COPY_THERE}"))?;
        let there = ran.printed.lines().last().unwrap_or_default().trim().as_bytes().to_vec();
        if ran.status != Some(0) || !there.starts_with(b"/") {
            return Err(busy(
                "it changed during every copy, and its host has neither PHP with SQLite nor \
                 Python that could copy it"
                    .into(),
            ));
        }
        let wrong = |error| Trouble::file("cannot keep a copy of the database", &self.here, &error);
        let folder = tempfile::Builder::new().prefix("copy-").tempdir_in(&self.here);
        let copy = Snapshot { folder: folder.map_err(wrong)?, state: None };
        let fetched = self.fetch_copy(&there, &copy.path());
        shell.run(&format!("rm -r \"$(dirname {})\"", shell_word(&there)?))?;
        fetched?;
        SqliteSource::open(&copy.path())?;
        Ok(copy)
    }

    fn fetch_copy(&self, there: &[u8], here: &Path) -> Result<()> {
        let found = runtime().block_on(self.tree.look(there))?;
        match found.map(|found| found.kind) {
            Some(FoundKind::File(size)) => single::fetch_file(&self.tree, there, size, here),
            _ => Err(Trouble::outside("the copy made on the host cannot be fetched")
                .at(self.shown())
                .because("the login's files do not show the folder of temporary files")
                .hint("stop the site for a moment, and type the command again")),
        }
    }

    /// The database as it is, as a file that stays while the files around it are replaced.
    pub fn kept(&self, inside: &str) -> Result<Option<NewFile>> {
        let Some(copy) = self.copy()? else { return Ok(None) };
        SqliteTarget::settle(&copy.path())
            .map_err(|error| trouble("cannot carry the database over", &copy.path(), &error))?;
        let found = runtime().block_on(self.tree.look(&self.path))?;
        let mode = found.and_then(|found| found.mode).unwrap_or(0o600);
        target::new_file(&copy.path(), inside, mode).map(Some)
    }

    /// Brings a file of this machine beside the database, and plans the switch.
    fn bring(&self, built: &Path, run: &str) -> Result<FileSwap> {
        single::store_beside(&self.tree, built, &self.path, run)
    }
}

/// Makes a copy through SQLite in a private folder, and prints its path.
const COPY_THERE: &str = r#"folder=$(mktemp -d "${TMPDIR:-/tmp}/fernweh-XXXXXX") && chmod 700 "$folder" || exit 1
copy="$folder/copy.db"
if php -r 'exit(class_exists("SQLite3") ? 0 : 1);' 2>/dev/null; then
  php -r '$from = new SQLite3($argv[1]); $from->busyTimeout(20000); exit($from->backup(new SQLite3($argv[2])) ? 0 : 1);' "$database" "$copy" >/dev/null 2>&1
elif python3 -c 'import sqlite3' 2>/dev/null; then
  python3 -c 'import sqlite3, sys; sqlite3.connect(sys.argv[1], timeout=20).backup(sqlite3.connect(sys.argv[2]))' "$database" "$copy" >/dev/null 2>&1
else
  false
fi || { rm -r "$folder"; exit 1; }
echo "$copy""#;
