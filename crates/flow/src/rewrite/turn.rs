//! Taking a rewriting back, and forward again.

use super::follow::key_after;
use super::kept::{KeptChange, Lines, cannot_keep, hidden_name, remove_left};
use fernweh_core::digest::sha256;
use fernweh_core::limits;
use fernweh_core::record::{Table, Value};
use fernweh_ports::{
    Applied, Change, Direction, Editors, Held, Progress, Refused, Result, Trouble, read_whole,
};
use serde::Serialize;
use std::collections::HashSet;
use std::fs;
use std::path::Path;

/// What taking back a rewriting did.
#[derive(Clone, Debug, Default, PartialEq, Serialize, schemars::JsonSchema)]
pub struct TakenBack {
    /// Cells changed.
    pub cells: u64,
    /// Files changed.
    pub files: u64,
    /// What was left, because it was changed in the meantime.
    pub refused: Vec<Refused>,
}

/// Brings back the old values of a rewriting, or the new ones again.
pub fn turn(
    folder: &Path,
    direction: Direction,
    parts: &mut Editors,
    progress: &dyn Progress,
) -> Result<TakenBack> {
    let (lines, beside) = (Lines::open(folder)?, hidden_name(folder)?);
    if let Some(editor) = &mut parts.editor {
        remove_left(&lines, &beside, &mut **editor)?;
    }
    let mut report = TakenBack::default();
    let mut batch: Vec<Change> = Vec::new();
    let mut open: Option<OpenTable> = None;
    // What is doubtful is refused where it was never changed: that is not worth a word.
    let mut quiet = false;
    let mut twice = HashSet::new();
    for number in 0..lines.len() {
        progress.go_on()?;
        let line = lines.get(match direction {
            Direction::Forward => number,
            Direction::Back => lines.len() - 1 - number,
        })?;
        if direction == Direction::Forward {
            // What was kept twice is changed once.
            if lines.is_repeated(line.batch) {
                twice.insert(line.kept.clone());
            } else if twice.contains(&line.kept) {
                continue;
            }
        }
        let doubtful = lines.is_doubtful(line.batch);
        match line.kept {
            KeptChange::Cell { table, column, record, key, old, new } => {
                let is_other = open.as_ref().is_none_or(|open| open.table.name != table);
                if is_other || doubtful != quiet || batch.len() >= 500 {
                    flush(parts, open.as_ref(), &mut batch, quiet, &mut report)?;
                }
                quiet = doubtful;
                if is_other {
                    open = Some(table_named(parts, &table)?);
                }
                let key = key.iter().map(Value::from).collect();
                let mut change =
                    Change { key, column, old: (&old).into(), new: (&new).into(), record };
                if let (Direction::Back, Some(open)) = (direction, &open) {
                    change = reversed(&open.key, change);
                }
                batch.push(change);
            }
            KeptChange::File { path, old, new_sha256 } => {
                let path = Value::from(&path);
                let (old, new_sha256, beside) = (&*old, &*new_sha256, &*beside);
                let kept = KeptFile { folder, path: &path, old, new_sha256, beside };
                let refused = kept.turn(direction, parts, &mut report)?;
                report.refused.extend(refused.filter(|_| !doubtful));
            }
            KeptChange::Made { path, new } => {
                let (path, content) = (Value::from(&path), read(&folder.join(new))?);
                let whole = WholeChange { path: &path, content, there: direction, beside: &beside };
                let refused = whole.turn(parts, &mut report)?;
                report.refused.extend(refused.filter(|_| !doubtful));
            }
            KeptChange::Removed { path, old } => {
                let (path, content) = (Value::from(&path), read(&folder.join(old))?);
                let there = match direction {
                    Direction::Forward => Direction::Back,
                    Direction::Back => Direction::Forward,
                };
                let whole = WholeChange { path: &path, content, there, beside: &beside };
                let refused = whole.turn(parts, &mut report)?;
                report.refused.extend(refused.filter(|_| !doubtful));
            }
            KeptChange::BrokenOff { .. } => {}
        }
    }
    flush(parts, open.as_ref(), &mut batch, quiet, &mut report)?;
    Ok(report)
}

/// The table whose changes are being made, and the columns of its key.
struct OpenTable {
    table: Table,
    key: Vec<String>,
}

fn table_named(parts: &mut Editors, name: &str) -> Result<OpenTable> {
    let gone = || {
        Trouble::outside(format!("table {name} no longer exists"))
            .hint("restore the table, or give up the change with fernweh undo SITE --let-go")
    };
    let editor = parts.database.as_mut().ok_or_else(gone)?;
    let table = editor.tables(&|table: &str| table == name)?.into_iter().next().ok_or_else(gone)?;
    let key = editor.key_columns(&table)?;
    Ok(OpenTable { table, key })
}

fn reversed(key: &[String], change: Change) -> Change {
    let key = key_after(&change, key);
    Change { key, old: change.new, new: change.old, ..change }
}

fn flush(
    parts: &mut Editors,
    open: Option<&OpenTable>,
    batch: &mut Vec<Change>,
    quiet: bool,
    report: &mut TakenBack,
) -> Result<()> {
    let Some(OpenTable { table, .. }) = open.filter(|_| !batch.is_empty()) else { return Ok(()) };
    let Some(editor) = &mut parts.database else { return Ok(()) };
    let Applied { changed, refused } = editor.apply(table, batch)?;
    report.cells += changed;
    if !quiet {
        report.refused.extend(refused);
    }
    batch.clear();
    Ok(())
}

/// A file of which one state is in place, and the other kept.
struct KeptFile<'a> {
    folder: &'a Path,
    path: &'a Value,
    /// The name of the old content in the run's folder.
    old: &'a str,
    new_sha256: &'a str,
    /// The name under which a new content is written beside the file.
    beside: &'a str,
}

impl KeptFile<'_> {
    /// Puts the other content in place; gives why it is left, if it is.
    fn turn(
        &self,
        direction: Direction,
        parts: &mut Editors,
        report: &mut TakenBack,
    ) -> Result<Option<Refused>> {
        let (Some(source), Some(editor)) = (&mut parts.files, &mut parts.editor) else {
            return Ok(None);
        };
        let path = self.path.bytes().unwrap_or_default().to_vec();
        let shown = String::from_utf8_lossy(&path).into_owned();
        let present = match read_whole(&mut **source, &path, limits::TEXT_FILE)? {
            Held::Whole(file) => file.bytes,
            Held::Gone => {
                let because = "the file no longer exists".into();
                return Ok(Some(Refused { place: shown, because }));
            }
            Held::TooLarge => return Ok(Some(changed_since(shown))),
        };
        let (old, new) =
            (self.folder.join(self.old), self.folder.join(format!("{}-new", self.old)));
        match direction {
            Direction::Back if sha256(&present) == self.new_sha256 => {
                fs::write(&new, &present).map_err(|error| cannot_keep(&new, &error))?;
                editor.replace(&path, &read(&old)?, self.beside)?;
            }
            // Without a new content this one was never taken back.
            Direction::Forward if new.exists() && read(&old)? == present => {
                editor.replace(&path, &read(&new)?, self.beside)?;
            }
            _ => return Ok(Some(changed_since(shown))),
        }
        report.files += 1;
        Ok(None)
    }
}

/// A file that comes as a whole, or goes.
struct WholeChange<'a> {
    path: &'a Value,
    content: Vec<u8>,
    /// Forward: it comes; back: it goes.
    there: Direction,
    /// The name under which it is written beside its place.
    beside: &'a str,
}

impl WholeChange<'_> {
    /// Lets it come or go; gives why not, if it does not.
    fn turn(&self, parts: &mut Editors, report: &mut TakenBack) -> Result<Option<Refused>> {
        let (Some(source), Some(editor)) = (&mut parts.files, &mut parts.editor) else {
            return Ok(None);
        };
        let path = self.path.bytes().unwrap_or_default().to_vec();
        let shown = String::from_utf8_lossy(&path).into_owned();
        let present = match read_whole(&mut **source, &path, limits::TEXT_FILE)? {
            Held::Whole(file) => Some(file.bytes),
            Held::Gone => None,
            Held::TooLarge => return Ok(Some(changed_since(shown))),
        };
        match (self.there, present) {
            (Direction::Forward, None) => editor.make(&path, &self.content, self.beside)?,
            (Direction::Back, Some(bytes)) if bytes == self.content => editor.remove(&path)?,
            _ => return Ok(Some(changed_since(shown))),
        }
        report.files += 1;
        Ok(None)
    }
}

fn changed_since(place: String) -> Refused {
    Refused { place, because: "the file was changed in the meantime".into() }
}

fn read(path: &Path) -> Result<Vec<u8>> {
    fs::read(path).map_err(|error| Trouble::file("cannot read the saved values", path, &error))
}
