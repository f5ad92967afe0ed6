//! The content of the site's database file changes places with that of another file.
//!
//! The file itself stays, since connections of the site are open on it and would go on writing
//! into a file that was moved away. SQLite writes the new pages in one transaction (its backup
//! interface), and whoever is connected sees the new state from then on. Under the lock of that
//! transaction the present content is copied first, so whatever was acknowledged is either in
//! the live file or in that copy, and tables that are not replaced are brought up to date.
//!
//! A note beside the other file says what it holds. What a killed program has left is told by
//! the number that SQLite raises with every change of the schema: the transaction raises it by
//! one.

use super::carry::renew;
use super::{companions, trouble};
use crate::local;
use fernweh_core::digest::sha256;
use fernweh_ports::{ContentSwap, Direction, Progress, Result, Trouble};
use rusqlite::backup::{Backup, StepResult};
use rusqlite::{Connection, OpenFlags};
use serde::{Deserialize, Serialize};
use std::fs::File;
use std::io::Write;
use std::os::unix::fs::{FileExt, OpenOptionsExt};
use std::path::{Path, PathBuf};
use std::time::Duration;

/// How long a site's reader or writer is waited for.
const PATIENCE: Duration = Duration::from_secs(10);
/// Pages that are written before anybody is asked whether to stop.
const PAGES: i32 = 4096;
/// Bytes that are copied at once.
const CHUNK: usize = 1 << 20;

/// What the file beside the live one holds.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
struct Note {
    /// It is the old state; else the new one.
    holds_old: bool,
    /// An exchange that has begun: the live file before it.
    begun: Option<Schema>,
}

/// What tells one state of a file from the next.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
struct Schema {
    /// The number of changes (`PRAGMA schema_version`).
    version: i64,
    /// A digest of the schema that comes.
    arriving: String,
}

/// Puts the new content into the live file, or the old one again; doing it twice is the same as
/// once.
pub(super) fn exchange(
    swap: &ContentSwap,
    direction: Direction,
    progress: &dyn Progress,
) -> Result<()> {
    let wrong = |error| trouble("cannot switch the database", &swap.live, &error);
    let file = |error| Trouble::file("cannot keep the state of the database", &swap.side, &error);
    let places = Places::of(swap);
    let mut note = settle(&places)?;
    if note.holds_old == (direction == Direction::Forward) {
        return Ok(());
    }
    fit_page_size(&places).map_err(wrong)?;
    let without_log = !File::open(&places.side).and_then(|side| in_log(&side)).map_err(file)?;
    // Closing any file drops the locks that this process holds on it (POSIX, `fcntl`): this one
    // is opened before the lock is taken, and closed after it is given back.
    let raw = File::open(&places.live).map_err(file)?;
    let mut live = connect(&places.live).map_err(wrong)?;
    let source = connect(&places.side).map_err(wrong)?;
    let backup = Backup::new(&source, &mut live).map_err(wrong)?;
    // No page is written yet, but the lock is there.
    lock(&backup).map_err(|error| {
        trouble("cannot switch the database", &swap.live, &error)
            .hint("a page or program of the site uses it; try again when the site is quiet")
    })?;
    copy(&raw, &places).map_err(wrong)?;
    renew(&places.side, &places.other, swap).map_err(wrong)?;
    let version = version_of(&places.other).map_err(wrong)?;
    let arriving = schema_of(&places.side).map_err(wrong)?;
    note.begun = Some(Schema { version, arriving });
    places.write(&note).map_err(file)?;
    progress.reached("database-copied");
    loop {
        if crate::stop::asked() {
            return Err(Trouble::interrupted("interrupted").because(
                "stopped with Ctrl-C or a \
                             signal",
            ));
        }
        match backup.step(PAGES).map_err(wrong)? {
            StepResult::Done => break,
            StepResult::More => {}
            _ => std::thread::sleep(Duration::from_millis(5)),
        }
    }
    drop(backup);
    drop(source);
    progress.reached("database-written");
    places.complete(&mut note).map_err(file)?;
    settle_log(&live, without_log).map_err(wrong)?;
    drop(live);
    drop(raw);
    Ok(())
}

/// Removes what an exchange that did not take place has left beside the file `side`.
pub(super) fn forget(side: &Path) {
    let places = Places::of(&ContentSwap { side: side.to_owned(), ..ContentSwap::default() });
    for path in companions(&places.other).iter().chain([&places.other, &places.note]) {
        let _ = std::fs::remove_file(path);
    }
}

/// What is missing of what an exchange in this direction would bring: the file, or the note of
/// what it holds, without which it would be taken for the other state.
pub(super) fn absent(swap: &ContentSwap, direction: Direction) -> Option<PathBuf> {
    let places = Places::of(swap);
    let readable = Connection::open_with_flags(&places.side, OpenFlags::SQLITE_OPEN_READ_ONLY)
        .and_then(|db| {
            db.query_row("SELECT count(*) FROM sqlite_schema", [], |row| row.get::<_, i64>(0))
        });
    if readable.is_err() {
        return Some(places.side);
    }
    let holds_old = places.read().is_ok_and(|note| note.holds_old);
    (holds_old != (direction == Direction::Back)).then_some(places.note)
}

/// Removes what is kept beside.
pub(super) fn let_go(swap: &ContentSwap) -> Result<()> {
    let places = Places::of(swap);
    settle(&places)?;
    for path in companions(&places.side).iter().chain([&places.side, &places.note]) {
        local::remove_file(path)
            .map_err(|error| Trouble::file("cannot remove the state kept aside", path, &error))?;
    }
    local::close_workshop_of(&places.side);
    Ok(())
}

/// The files of an exchange.
struct Places {
    live: PathBuf,
    /// Holds the other state.
    side: PathBuf,
    /// The content of the live file, until it has taken the place of `side`.
    other: PathBuf,
    note: PathBuf,
}

impl Places {
    fn of(swap: &ContentSwap) -> Self {
        let beside = |ending: &str| {
            let mut name = swap.side.as_os_str().to_owned();
            name.push(ending);
            PathBuf::from(name)
        };
        let (other, note) = (beside(".copy"), beside(".holds"));
        Self { live: swap.live.clone(), side: swap.side.clone(), other, note }
    }

    fn read(&self) -> std::io::Result<Note> {
        match std::fs::read(&self.note) {
            Ok(text) => Ok(serde_json::from_slice(&text)?),
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(Note::default()),
            Err(error) => Err(error),
        }
    }

    /// Written whole or not at all.
    fn write(&self, note: &Note) -> std::io::Result<()> {
        let mut draft = self.note.clone().into_os_string();
        draft.push(".draft");
        let mut options = File::options();
        let mut file = options.write(true).create(true).truncate(true).mode(0o600).open(&draft)?;
        file.write_all(&serde_json::to_vec(note)?)?;
        file.sync_all()?;
        std::fs::rename(&draft, &self.note)?;
        self.write_through()
    }

    fn write_through(&self) -> std::io::Result<()> {
        File::open(self.side.parent().unwrap_or(Path::new(".")))?.sync_all()
    }

    /// The live file has its new content: what it held is kept from here on.
    fn complete(&self, note: &mut Note) -> std::io::Result<()> {
        for path in companions(&self.side) {
            local::remove_file(&path)?;
        }
        std::fs::rename(&self.other, &self.side)?;
        self.write_through()?;
        *note = Note { holds_old: !note.holds_old, begun: None };
        self.write(note)
    }
}

/// Completes what a killed program has left, or clears it away.
fn settle(places: &Places) -> Result<Note> {
    let file = |error| Trouble::file("cannot read what is kept", &places.note, &error);
    let wrong = |error| trouble("cannot read the database", &places.live, &error);
    let mut note = places.read().map_err(file)?;
    let Some(begun) = note.begun.clone() else {
        for path in companions(&places.other).iter().chain([&places.other]) {
            local::remove_file(path).map_err(file)?;
        }
        return Ok(note);
    };
    let version = version_of(&places.live).map_err(wrong)?;
    if version == begun.version {
        note.begun = None;
        places.write(&note).map_err(file)?;
        return settle(places);
    }
    if version == begun.version + 1 && schema_of(&places.live).map_err(wrong)? == begun.arriving {
        // Renamed already, perhaps.
        match places.other.exists() {
            true => places.complete(&mut note).map_err(file)?,
            false => {
                note = Note { holds_old: !note.holds_old, begun: None };
                places.write(&note).map_err(file)?;
            }
        }
        return Ok(note);
    }
    Err(Trouble::damaged("it is unclear which state of the database is in place")
        .at(places.live.display().to_string())
        .because("its switch was interrupted, and the structure of its tables has changed since")
        .hint(format!(
            "both states are there: compare the database with {} and {}, and put the right one in \
             place by hand",
            places.other.display(),
            places.side.display()
        )))
}

fn connect(path: &Path) -> rusqlite::Result<Connection> {
    let flags = OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_NO_MUTEX;
    let db = Connection::open_with_flags(path, flags)?;
    db.busy_timeout(PATIENCE)?;
    Ok(db)
}

/// Keeps everybody else from writing until the backup ends.
fn lock(backup: &Backup<'_, '_>) -> rusqlite::Result<()> {
    match backup.step(0)? {
        StepResult::More | StepResult::Done => Ok(()),
        _ => Err(rusqlite::Error::SqliteFailure(
            rusqlite::ffi::Error::new(rusqlite::ffi::SQLITE_BUSY),
            Some("the database is locked".into()),
        )),
    }
}

/// Copies the live content under the lock. With a log beside the file (WAL) others may read,
/// through SQLite; without it nobody may, and the bytes of the file are its content.
fn copy(raw: &File, places: &Places) -> rusqlite::Result<()> {
    let io = |error: std::io::Error| {
        rusqlite::Error::SqliteFailure(
            rusqlite::ffi::Error::new(rusqlite::ffi::SQLITE_IOERR),
            Some(error.to_string()),
        )
    };
    let mut options = File::options();
    let made = options.write(true).create_new(true).mode(0o600).open(&places.other);
    let mut file = made.map_err(io)?;
    if in_log(raw).map_err(io)? {
        let reader = connect(&places.live)?;
        let mut other = Connection::open(&places.other)?;
        other.execute_batch("PRAGMA synchronous = FULL")?;
        Backup::new(&reader, &mut other)?.run_to_completion(PAGES, Duration::ZERO, None)?;
        other.query_row("PRAGMA journal_mode = WAL", [], |_| Ok(()))?;
        return other.close().map_err(|(_, error)| error);
    }
    let (mut at, mut chunk) = (0, vec![0; CHUNK]);
    loop {
        let length = raw.read_at(&mut chunk, at).map_err(io)?;
        if length == 0 {
            return file.sync_all().map_err(io);
        }
        file.write_all(&chunk[..length]).map_err(io)?;
        at += length as u64;
    }
}

/// Whether changes go to a log beside the file (bytes 18 and 19 of the header, file format 1.3.3).
fn in_log(file: &File) -> std::io::Result<bool> {
    let mut version = [0];
    Ok(file.read_at(&mut version, 19)? == 1 && version[0] == 2)
}

fn version_of(path: &Path) -> rusqlite::Result<i64> {
    connect(path)?.query_row("PRAGMA schema_version", [], |row| row.get(0))
}

fn schema_of(path: &Path) -> rusqlite::Result<String> {
    let db = connect(path)?;
    let mut query =
        db.prepare("SELECT type, name, rootpage, sql FROM sqlite_schema ORDER BY 1, 2")?;
    let mut rows = query.query([])?;
    let mut all = String::new();
    while let Some(row) = rows.next()? {
        let (kind, name, page): (String, String, Option<i64>) =
            (row.get(0)?, row.get(1)?, row.get(2)?);
        let sql: Option<String> = row.get(3)?;
        all.push_str(&format!("{kind} {name} {page:?} {sql:?}\n"));
    }
    Ok(sha256(all.as_bytes()))
}

/// A file with a log cannot change the size of its pages; so the other file does.
fn fit_page_size(places: &Places) -> rusqlite::Result<()> {
    let size = |db: &Connection| -> rusqlite::Result<i64> {
        db.query_row("PRAGMA page_size", [], |row| row.get(0))
    };
    let live = connect(&places.live)?;
    let mode: String = live.query_row("PRAGMA journal_mode", [], |row| row.get(0))?;
    let (side, wanted) = (connect(&places.side)?, size(&live)?);
    if mode == "wal" && size(&side)? != wanted {
        side.query_row("PRAGMA journal_mode = DELETE", [], |_| Ok(()))?;
        side.execute_batch(&format!("PRAGMA page_size = {wanted}; VACUUM"))?;
    }
    Ok(())
}

/// Brings the log into the file. With `without_log` the file goes on without one, as the state
/// that it got; where somebody has it open it cannot, and nothing depends on it.
fn settle_log(live: &Connection, without_log: bool) -> rusqlite::Result<()> {
    live.busy_timeout(Duration::ZERO)?;
    let _ = live.query_row("PRAGMA wal_checkpoint(TRUNCATE)", [], |_| Ok(()));
    if without_log {
        let _ = live.query_row("PRAGMA journal_mode = DELETE", [], |_| Ok(()));
    }
    Ok(())
}
