//! The old values of everything that a rewriting changes, in the run's folder: one JSON object
//! a line, written through to disk before the change itself.
//!
//! What is kept together is changed together, as a batch. Where a run was broken off, its last
//! batch may be kept and not changed: that is noted before anything else happens to the run.

use crate::journal::random_part;
use fernweh_core::digest::{from_hex, hex, sha256};
use fernweh_core::limits;
use fernweh_core::record::{Table, Value};
use fernweh_ports::{Change, FileEditor, Result, Trouble};
use serde::{Deserialize, Serialize};
use std::cell::RefCell;
use std::collections::BTreeMap;
use std::fs::{self, File, OpenOptions};
use std::io::{BufRead, BufReader, BufWriter, Write};
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};

/// What is kept of one change.
#[derive(Clone, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "kind")]
pub(super) enum KeptChange {
    Cell {
        table: String,
        column: String,
        record: String,
        key: Vec<KeptValue>,
        old: KeptValue,
        new: KeptValue,
    },
    File {
        path: KeptValue,
        old: String,
        new_sha256: String,
    },
    /// A file that was not there: its content, by the name under which it is kept.
    Made {
        path: KeptValue,
        new: String,
    },
    /// A file that goes: its content, by the name under which it is kept.
    Removed {
        path: KeptValue,
        old: String,
    },
    /// The run was broken off behind this batch. Where it went on, what of the batch had not
    /// been changed stands in a later one once more.
    BrokenOff {
        went_on: bool,
    },
}

/// One line.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub(super) struct Line {
    /// Its batch, from 1; 0 in the records of earlier versions.
    #[serde(default)]
    pub batch: u64,
    #[serde(flatten)]
    pub kept: KeptChange,
}

/// The number of a line's batch alone.
#[derive(Deserialize)]
struct Numbered {
    #[serde(default)]
    batch: u64,
    kind: String,
    #[serde(default)]
    went_on: bool,
}

/// A value in JSON: text as it is, other bytes as hexadecimal digits.
#[derive(Clone, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub(super) enum KeptValue {
    Null,
    Integer(i64),
    /// The bits of a floating-point number.
    Real(u64),
    Number(String),
    Text(String),
    TextBytes(String),
    Bytes(String),
}

impl From<&Value> for KeptValue {
    fn from(value: &Value) -> Self {
        match value {
            Value::Null => KeptValue::Null,
            Value::Integer(number) => KeptValue::Integer(*number),
            Value::Real(number) => KeptValue::Real(number.to_bits()),
            Value::Number(digits) => {
                KeptValue::Number(String::from_utf8_lossy(digits).into_owned())
            }
            Value::Text(bytes) => match std::str::from_utf8(bytes) {
                Ok(text) => KeptValue::Text(text.to_owned()),
                Err(_) => KeptValue::TextBytes(hex(bytes)),
            },
            Value::Bytes(bytes) => KeptValue::Bytes(hex(bytes)),
        }
    }
}

impl From<&KeptValue> for Value {
    fn from(stored: &KeptValue) -> Self {
        let bytes = |digits: &str| from_hex(digits.as_bytes()).unwrap_or_default();
        match stored {
            KeptValue::Null => Value::Null,
            KeptValue::Integer(number) => Value::Integer(*number),
            KeptValue::Real(bits) => Value::Real(f64::from_bits(*bits)),
            KeptValue::Number(digits) => Value::Number(digits.clone().into_bytes()),
            KeptValue::Text(text) => Value::Text(text.clone().into_bytes()),
            KeptValue::TextBytes(digits) => Value::Text(bytes(digits)),
            KeptValue::Bytes(digits) => Value::Bytes(bytes(digits)),
        }
    }
}

fn changes_file(folder: &Path) -> PathBuf {
    folder.join("changes.jsonl")
}

pub(super) fn cannot_keep(folder: &Path, error: &std::io::Error) -> Trouble {
    Trouble::file("cannot save the old values", folder, error)
}

/// Keeps old values.
pub(crate) struct Safekeeping {
    folder: PathBuf,
    changes: BufWriter<File>,
    /// The name under which new contents are written beside files.
    pub hidden_name: String,
    /// How many files are kept.
    files: u64,
    /// How many batches.
    batch: u64,
}

impl Safekeeping {
    /// Begins, or goes on where a run was broken off.
    pub fn open(folder: &Path) -> Result<Self> {
        let batch = note_broken_off(folder, true)?;
        let kept = fs::read_dir(folder).into_iter().flatten().flatten();
        let numbers = kept.filter_map(|entry| {
            let name = entry.file_name().into_string().ok()?;
            name.strip_prefix(FILE)?.parse().ok()
        });
        let files = numbers.max().unwrap_or(0);
        let changes = appended(folder).map_err(|error| cannot_keep(folder, &error))?;
        let (changes, hidden_name) = (BufWriter::new(changes), hidden_name(folder)?);
        Ok(Self { folder: folder.to_owned(), changes, hidden_name, files, batch })
    }

    /// The run's folder.
    pub fn folder(&self) -> &Path {
        &self.folder
    }

    fn write(&mut self, kept: impl ExactSizeIterator<Item = KeptChange>) -> Result<()> {
        if kept.len() == 0 {
            return Ok(());
        }
        self.batch += 1;
        let batch = self.batch;
        let write = || -> std::io::Result<()> {
            for kept in kept {
                serde_json::to_writer(&mut self.changes, &Line { batch, kept })?;
                self.changes.write_all(b"\n")?;
            }
            self.changes.flush()?;
            self.changes.get_ref().sync_data()
        };
        write().map_err(|error| cannot_keep(&self.folder, &error))
    }

    /// Keeps the old values of cells, before they are changed.
    pub fn keep(&mut self, table: &Table, changes: &[Change]) -> Result<()> {
        self.write(changes.iter().map(|change| KeptChange::Cell {
            table: table.name.clone(),
            column: change.column.clone(),
            record: change.record.clone(),
            key: change.key.iter().map(KeptValue::from).collect(),
            old: (&change.old).into(),
            new: (&change.new).into(),
        }))
    }

    /// Keeps a file, before it is replaced.
    pub fn keep_file(&mut self, path: &[u8], old: &[u8], new: &[u8]) -> Result<()> {
        let name = self.content(old)?;
        let path = KeptValue::from(&Value::Text(path.to_vec()));
        self.write([KeptChange::File { path, old: name, new_sha256: sha256(new) }].into_iter())
    }

    /// Notes a file that is about to be made.
    pub fn keep_made(&mut self, path: &[u8], new: &[u8]) -> Result<()> {
        let new = self.content(new)?;
        let path = KeptValue::from(&Value::Text(path.to_vec()));
        self.write([KeptChange::Made { path, new }].into_iter())
    }

    /// Keeps a file that is about to be removed.
    pub fn keep_removed(&mut self, path: &[u8], old: &[u8]) -> Result<()> {
        let old = self.content(old)?;
        let path = KeptValue::from(&Value::Text(path.to_vec()));
        self.write([KeptChange::Removed { path, old }].into_iter())
    }

    /// Keeps a content; gives the name of the file that holds it.
    fn content(&mut self, bytes: &[u8]) -> Result<String> {
        self.files += 1;
        let name = format!("{FILE}{:05}", self.files);
        let kept = self.folder.join(&name);
        let write = || -> std::io::Result<()> {
            let mut file = File::create(&kept)?;
            file.write_all(bytes)?;
            file.sync_all()
        };
        write().map_err(|error| cannot_keep(&kept, &error))?;
        Ok(name)
    }
}

/// The name under which a run writes new contents beside the files of a live site: the same for
/// the whole run, so that what was left when it was killed is found and removed.
pub(super) fn hidden_name(folder: &Path) -> Result<String> {
    let path = folder.join("beside");
    if let Ok(name) = fs::read_to_string(&path) {
        return Ok(name);
    }
    let name = format!(".fernweh-{}{}", random_part(), random_part());
    let note = || -> std::io::Result<()> {
        fs::write(&path, &name)?;
        File::open(&path)?.sync_all()
    };
    note().map_err(|error| cannot_keep(&path, &error))?;
    Ok(name)
}

/// Removes what a run that was killed may have left beside the file that it was replacing.
pub(super) fn remove_left(lines: &Lines, beside: &str, editor: &mut dyn FileEditor) -> Result<()> {
    for number in (0..lines.len()).rev() {
        match lines.get(number)?.kept {
            KeptChange::BrokenOff { .. } => {}
            KeptChange::Cell { .. } => return Ok(()),
            KeptChange::File { path, .. }
            | KeptChange::Made { path, .. }
            | KeptChange::Removed { path, .. } => {
                let path = Value::from(&path).bytes().unwrap_or_default().to_vec();
                let slash = path.iter().rposition(|byte| *byte == b'/').map_or(0, |at| at + 1);
                return editor.remove_left(&[&path[..slash], beside.as_bytes()].concat());
            }
        }
    }
    Ok(())
}

/// How the name of a kept file begins.
const FILE: &str = "file-";

fn appended(folder: &Path) -> std::io::Result<File> {
    OpenOptions::new().create(true).append(true).open(changes_file(folder))
}

/// Whether a run has come so far that it could change something.
pub(crate) fn has_begun(folder: &Path) -> bool {
    changes_file(folder).exists()
}

/// Whether a run has changed something, or was about to.
pub(super) fn keeps_something(folder: &Path) -> bool {
    fs::metadata(changes_file(folder)).is_ok_and(|found| found.len() > 0)
}

/// Notes that a run was broken off behind its last batch, if it has one; gives its number. A last
/// line that is not whole was never acted upon, and goes.
pub(super) fn note_broken_off(folder: &Path, went_on: bool) -> Result<u64> {
    if !has_begun(folder) {
        return Ok(0);
    }
    let lines = Lines::open(folder)?;
    let batch = lines.last_batch;
    let write = || -> std::io::Result<()> {
        let mut file = appended(folder)?;
        file.set_len(lines.end)?;
        if batch > 0 {
            let line = Line { batch, kept: KeptChange::BrokenOff { went_on } };
            serde_json::to_writer(&mut file, &line)?;
            file.write_all(b"\n")?;
        }
        file.sync_data()
    };
    write().map_err(|error| cannot_keep(folder, &error))?;
    Ok(batch)
}

/// The lines of a run, read a few at a time: there can be more than fit into memory, and they are
/// read from either end.
pub(super) struct Lines {
    path: PathBuf,
    file: File,
    /// The number of the first line of each block, and where it begins.
    blocks: Vec<(usize, u64)>,
    count: usize,
    /// Where the last whole line ends.
    end: u64,
    last_batch: u64,
    /// Batches behind which the run was broken off, and whether it went on.
    broken_off: BTreeMap<u64, bool>,
    /// The block that was read last: the number of its first line, and its bytes.
    at_hand: RefCell<Option<(usize, Vec<u8>)>>,
}

/// Lines of a block at most.
const BLOCK: usize = 64;

impl Lines {
    /// # Errors
    ///
    /// Where a line cannot be read that was written to its end: what it says was changed, and
    /// would not be taken back.
    pub fn open(folder: &Path) -> Result<Self> {
        let path = changes_file(folder);
        let wrong = |error| Trouble::file("cannot read the saved values", &path, &error);
        let file = File::open(&path).map_err(wrong)?;
        let reader = file.try_clone().map_err(wrong)?;
        let mut lines = Self {
            path: path.clone(),
            file,
            blocks: Vec::new(),
            count: 0,
            end: 0,
            last_batch: 0,
            broken_off: BTreeMap::new(),
            at_hand: RefCell::new(None),
        };
        let mut reader = BufReader::with_capacity(limits::REWRITTEN_PORTION, reader);
        let mut line = Vec::new();
        while reader.read_until(b'\n', &mut line).map_err(wrong)? > 0 && line.ends_with(b"\n") {
            let Numbered { batch, kind, went_on } =
                serde_json::from_slice(&line).map_err(|error| lines.unreadable(&error))?;
            let is_full = lines.blocks.last().is_none_or(|(first, begin)| {
                lines.count - first >= BLOCK
                    || lines.end - begin >= limits::REWRITTEN_PORTION as u64
            });
            if is_full {
                lines.blocks.push((lines.count, lines.end));
            }
            lines.count += 1;
            lines.end += line.len() as u64;
            lines.last_batch = batch;
            if kind == "broken-off" {
                *lines.broken_off.entry(batch).or_default() |= went_on;
            }
            line.clear();
        }
        Ok(lines)
    }

    fn unreadable(&self, error: &serde_json::Error) -> Trouble {
        Trouble::damaged("a saved value is not readable")
            .at(format!("{}, line {}", self.path.display(), self.count + 1))
            .because(error)
            .hint(
                "the file may be damaged; its other lines can be restored by hand: each has the \
                 table, the record and the old value",
            )
    }

    /// How many they are.
    pub fn len(&self) -> usize {
        self.count
    }

    /// One of them.
    pub fn get(&self, number: usize) -> Result<Line> {
        let read = || -> std::io::Result<Line> {
            let block = self.blocks.partition_point(|(first, _)| *first <= number) - 1;
            let (first, begin) = self.blocks[block];
            let mut at_hand = self.at_hand.borrow_mut();
            if at_hand.as_ref().is_none_or(|(there, _)| *there != first) {
                let end = self.blocks.get(block + 1).map_or(self.end, |(_, begin)| *begin);
                let mut bytes = vec![0; (end - begin) as usize];
                self.file.read_exact_at(&mut bytes, begin)?;
                *at_hand = Some((first, bytes));
            }
            let bytes = at_hand.as_ref().map_or(&[][..], |(_, bytes)| bytes);
            let line = bytes.split_inclusive(|byte| *byte == b'\n').nth(number - first);
            Ok(serde_json::from_slice(line.unwrap_or_default())?)
        };
        read().map_err(|error| Trouble::file("cannot read the saved values", &self.path, &error))
    }

    /// Whether a line of this batch may be kept without having been changed.
    pub fn is_doubtful(&self, batch: u64) -> bool {
        self.broken_off.contains_key(&batch)
    }

    /// Whether what of this batch was not changed stands in a later one once more.
    pub fn is_repeated(&self, batch: u64) -> bool {
        self.broken_off.get(&batch) == Some(&true)
    }
}

#[cfg(test)]
mod tests;
