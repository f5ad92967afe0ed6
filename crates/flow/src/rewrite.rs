//! Addresses in a live site: a preview, or the real run with every old value kept safe.

use crate::journal::{Journal, Plan, Step};
use crate::overlap;
use crate::report::{RewriteReport, TableReport};
use fernweh_core::digest::hex;
use fernweh_core::limits;
use fernweh_core::record::{EntryKind, Table, Value};
use fernweh_core::rewrite::Rewriter;
use fernweh_ports::{
    Applied, Change, DatabaseEditor, Direction, Editors, Fingerprint, Refused, Result, Scope,
    Trouble, Unit, Watch, counted, files_of,
};
use serde::{Deserialize, Serialize};
use std::fs::{self, File, OpenOptions};
use std::io::{BufWriter, Read, Write};
use std::path::{Path, PathBuf};

/// No name that is looked for is longer (RFC 1035: a label has 63 bytes; words have more).
const LONGEST_NAME: usize = 1 << 10;

/// What a rewriting did.
#[derive(Clone, Debug, Default, Serialize)]
pub struct LiveReport {
    /// Whether anything was changed, or this was a preview.
    pub applied: bool,
    /// The numbers.
    pub rewriting: RewriteReport,
    /// Cells that were not changed, and why.
    pub refused: Vec<Refused>,
    /// The run, if something was changed.
    pub run: Option<String>,
}

/// What to rewrite.
pub struct RewriteOptions<'a> {
    /// The rules.
    pub rewriter: &'a Rewriter,
    /// Which tables are the site's.
    pub tables: &'a dyn Scope,
    /// Which paths are not looked at.
    pub skip: &'a dyn Fn(&[u8]) -> bool,
}

/// Goes through the whole site. Without a journal this is a preview.
pub fn rewrite(
    options: &RewriteOptions<'_>,
    parts: &mut Editors,
    mut journal: Option<&mut Journal>,
    watch: &dyn Watch,
) -> Result<LiveReport> {
    let mut report = LiveReport {
        applied: journal.is_some(),
        rewriting: RewriteReport::of(options.rewriter),
        ..LiveReport::default()
    };
    let mut safe = match &journal {
        Some(journal) => Some(Safekeeping::create(journal.folder())?),
        None => None,
    };
    watch.reached("started");
    if let Some(editor) = &mut parts.database {
        database(options, &mut **editor, safe.as_mut(), &mut report, watch)?;
    }
    if parts.files.is_some() {
        files(options, parts, safe.as_mut(), &mut report, watch)?;
    }
    if let Some(journal) = &mut journal {
        let plan = Plan::default();
        let (direction, fingerprint) = (Direction::Forward, Fingerprint::default());
        journal.step(&Step::Switching { direction, plan }, watch)?;
        journal.step(&Step::Done { direction, at: crate::now(), fingerprint }, watch)?;
        report.run = Some(journal.header.run.clone());
    }
    Ok(report)
}

fn database(
    options: &RewriteOptions<'_>,
    editor: &mut dyn DatabaseEditor,
    mut safe: Option<&mut Safekeeping>,
    report: &mut LiveReport,
    watch: &dyn Watch,
) -> Result<()> {
    watch.stage("database", None, Unit::Records);
    let mut records = 0;
    for table in editor.tables(options.tables)? {
        let key = editor.key_columns(&table)?;
        let mut tallies = TableReport::new(options.rewriter, &table);
        let applied = editor.each_batch(&table, &mut |batch| {
            watch.go_on()?;
            let mut changes = Vec::new();
            for record in batch {
                let first = changes.len();
                for column in 0..table.columns.len() {
                    let new = tallies.cell(&table, column, &record.row);
                    changes.extend(new.map(|new| Change {
                        key: record.key.clone(),
                        column: table.columns[column].name.clone(),
                        old: record.row[column].clone(),
                        new,
                        record: table.record_name(&record.row),
                    }));
                }
                follow_key(&mut changes[first..], &key);
            }
            records += batch.len() as u64;
            watch.advance(batch.len() as u64);
            match &mut safe {
                Some(safe) => {
                    safe.keep(&table, &changes)?;
                    watch.reached("changes-kept");
                    Ok(changes)
                }
                None => Ok(Vec::new()),
            }
        })?;
        report.refused.extend(applied.refused);
        tallies.into_report(&table, &mut report.rewriting);
    }
    watch.done(&counted(records, "record", "records"));
    Ok(())
}

/// Changes of one record come one after the other: where one of them changes a part of
/// the key, the next must look for the changed key.
fn follow_key(changes: &mut [Change], key: &[String]) {
    for n in 1..changes.len() {
        let (before, after) = changes.split_at_mut(n);
        after[0].key = key_after(&before[n - 1], key);
    }
}

fn key_after(change: &Change, key: &[String]) -> Vec<Value> {
    let mut values = change.key.clone();
    if let Some(place) = key.iter().position(|name| *name == change.column) {
        values[place] = change.new.clone();
    }
    values
}

fn files(
    options: &RewriteOptions<'_>,
    parts: &mut Editors,
    mut safe: Option<&mut Safekeeping>,
    report: &mut LiveReport,
    watch: &dyn Watch,
) -> Result<()> {
    let Some(source) = &mut parts.files else { return Ok(()) };
    watch.stage("files", None, Unit::Bytes);
    let mut entries = Vec::new();
    source.walk(&|path| !(options.skip)(path), &mut |entry| {
        entries.push(entry);
        Ok(())
    })?;
    source.expect(files_of(&entries));
    for entry in entries {
        watch.go_on()?;
        let EntryKind::File(size) = entry.kind else { continue };
        let mut content = source.open(&entry.path)?;
        let cannot = |error| {
            Trouble::outside("cannot read a file of the site").at(entry.shown()).because(error)
        };
        if size > limits::TEXT_FILE {
            let mut hits = 0;
            overlap::each(&mut content, LONGEST_NAME, &mut |portion| {
                let places = options.rewriter.hit_places(portion.bytes);
                hits += places.filter(|at| portion.is_settled(*at)).count() as u64;
            })
            .map_err(cannot)?;
            report.rewriting.large_file(&entry.shown(), hits);
            continue;
        }
        let mut bytes = Vec::new();
        content.read_to_end(&mut bytes).map_err(cannot)?;
        drop(content);
        watch.advance(bytes.len() as u64);
        let new = report.rewriting.file(options.rewriter, &entry.shown(), &bytes);
        if let (Some(new), Some(safe), Some(editor)) = (new, &mut safe, &mut parts.editor) {
            safe.keep_file(&entry.path, &bytes, &new)?;
            editor.replace(&entry.path, &new)?;
        }
    }
    watch.done(&counted(report.rewriting.files_seen, "file", "files"));
    Ok(())
}

/// The old values of everything that a rewriting changes, in the run's folder.
struct Safekeeping {
    folder: PathBuf,
    changes: BufWriter<File>,
    files: u64,
}

/// One line of the safekeeping.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "kind")]
enum Kept {
    Cell {
        table: String,
        column: String,
        record: String,
        key: Vec<Stored>,
        old: Stored,
        new: Stored,
    },
    File {
        path: Stored,
        old: String,
        new_sha256: String,
    },
}

/// A value in JSON: text as it is, other bytes as hexadecimal digits.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
enum Stored {
    Null,
    Integer(i64),
    /// The bits of a floating-point number.
    Real(u64),
    Number(String),
    Text(String),
    TextBytes(String),
    Bytes(String),
}

impl From<&Value> for Stored {
    fn from(value: &Value) -> Self {
        match value {
            Value::Null => Stored::Null,
            Value::Integer(number) => Stored::Integer(*number),
            Value::Real(number) => Stored::Real(number.to_bits()),
            Value::Number(digits) => Stored::Number(String::from_utf8_lossy(digits).into_owned()),
            Value::Text(bytes) => match std::str::from_utf8(bytes) {
                Ok(text) => Stored::Text(text.to_owned()),
                Err(_) => Stored::TextBytes(hex(bytes)),
            },
            Value::Bytes(bytes) => Stored::Bytes(hex(bytes)),
        }
    }
}

impl From<&Stored> for Value {
    fn from(stored: &Stored) -> Self {
        let bytes = |digits: &str| {
            let pairs = digits.as_bytes().chunks(2);
            pairs
                .filter_map(|pair| u8::from_str_radix(std::str::from_utf8(pair).ok()?, 16).ok())
                .collect()
        };
        match stored {
            Stored::Null => Value::Null,
            Stored::Integer(number) => Value::Integer(*number),
            Stored::Real(bits) => Value::Real(f64::from_bits(*bits)),
            Stored::Number(digits) => Value::Number(digits.clone().into_bytes()),
            Stored::Text(text) => Value::Text(text.clone().into_bytes()),
            Stored::TextBytes(digits) => Value::Text(bytes(digits)),
            Stored::Bytes(digits) => Value::Bytes(bytes(digits)),
        }
    }
}

fn changes_file(folder: &Path) -> PathBuf {
    folder.join("changes.jsonl")
}

fn cannot_keep(folder: &Path, error: &std::io::Error) -> Trouble {
    Trouble::file("cannot keep the old values safe", folder, error)
}

impl Safekeeping {
    fn create(folder: &Path) -> Result<Self> {
        let file = OpenOptions::new().create(true).append(true).open(changes_file(folder));
        let file = file.map_err(|error| cannot_keep(folder, &error))?;
        Ok(Self { folder: folder.to_owned(), changes: BufWriter::new(file), files: 0 })
    }

    fn write(&mut self, kept: &[Kept]) -> Result<()> {
        let mut write = || -> std::io::Result<()> {
            for line in kept {
                serde_json::to_writer(&mut self.changes, line)?;
                self.changes.write_all(b"\n")?;
            }
            self.changes.flush()?;
            self.changes.get_ref().sync_data()
        };
        if kept.is_empty() {
            Ok(())
        } else {
            write().map_err(|error| cannot_keep(&self.folder, &error))
        }
    }

    /// Keeps old values before they are changed.
    fn keep(&mut self, table: &Table, changes: &[Change]) -> Result<()> {
        let lines = changes.iter().map(|change| Kept::Cell {
            table: table.name.clone(),
            column: change.column.clone(),
            record: change.record.clone(),
            key: change.key.iter().map(Stored::from).collect(),
            old: (&change.old).into(),
            new: (&change.new).into(),
        });
        self.write(&lines.collect::<Vec<_>>())
    }

    fn keep_file(&mut self, path: &[u8], old: &[u8], new: &[u8]) -> Result<()> {
        self.files += 1;
        let name = format!("file-{:05}", self.files);
        let kept = self.folder.join(&name);
        let write = || -> std::io::Result<()> {
            let mut file = File::create(&kept)?;
            file.write_all(old)?;
            file.sync_all()
        };
        write().map_err(|error| cannot_keep(&kept, &error))?;
        let path = Stored::from(&Value::Text(path.to_vec()));
        let new_sha256 = fernweh_core::digest::sha256(new);
        self.write(&[Kept::File { path, old: name, new_sha256 }])
    }
}

/// What taking back a rewriting did.
#[derive(Clone, Debug, Default, PartialEq, Serialize)]
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
    watch: &dyn Watch,
) -> Result<TakenBack> {
    let mut lines = read_kept(folder)?;
    if direction == Direction::Back {
        lines.reverse();
    }
    let mut report = TakenBack::default();
    let mut batch: Vec<Change> = Vec::new();
    let mut open: Option<OpenTable> = None;
    for line in lines {
        watch.go_on()?;
        match line {
            Kept::Cell { table, column, record, key, old, new } => {
                let is_other = open.as_ref().is_none_or(|open| open.table.name != table);
                if is_other || batch.len() >= 500 {
                    flush(parts, open.as_ref(), &mut batch, &mut report)?;
                }
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
            Kept::File { path, old, new_sha256 } => {
                let path = Value::from(&path);
                turn_file(folder, direction, parts, &path, &old, &new_sha256, &mut report)?;
            }
        }
    }
    flush(parts, open.as_ref(), &mut batch, &mut report)?;
    Ok(report)
}

/// The table whose changes are being made, and the columns of its key.
struct OpenTable {
    table: Table,
    key: Vec<String>,
}

/// Whether a run has come so far that it could change something.
pub(crate) fn has_begun(folder: &Path) -> bool {
    changes_file(folder).exists()
}

fn read_kept(folder: &Path) -> Result<Vec<Kept>> {
    let path = changes_file(folder);
    let text = fs::read_to_string(&path)
        .map_err(|error| Trouble::file("cannot read the values kept safe", &path, &error))?;
    // A last line that is not whole was never acted upon.
    Ok(text.lines().map_while(|line| serde_json::from_str(line).ok()).collect())
}

fn table_named(parts: &mut Editors, name: &str) -> Result<OpenTable> {
    let gone = || {
        Trouble::outside(format!("table {name} is not there any more"))
            .hint("bring the table back, or give the change up with fernweh undo SITE --let-go")
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
    report: &mut TakenBack,
) -> Result<()> {
    let Some(OpenTable { table, .. }) = open.filter(|_| !batch.is_empty()) else { return Ok(()) };
    let Some(editor) = &mut parts.database else { return Ok(()) };
    let Applied { changed, refused } = editor.apply(table, batch)?;
    report.cells += changed;
    report.refused.extend(refused);
    batch.clear();
    Ok(())
}

fn turn_file(
    folder: &Path,
    direction: Direction,
    parts: &mut Editors,
    path: &Value,
    kept: &str,
    new_sha256: &str,
    report: &mut TakenBack,
) -> Result<()> {
    let bytes = path.bytes().unwrap_or_default().to_vec();
    let shown = String::from_utf8_lossy(&bytes).into_owned();
    let (Some(source), Some(editor)) = (&mut parts.files, &mut parts.editor) else { return Ok(()) };
    let mut present = Vec::new();
    source.open(&bytes)?.read_to_end(&mut present).map_err(|error| {
        Trouble::outside("cannot read a file of the site").at(shown.clone()).because(error)
    })?;
    let kept = folder.join(kept);
    let other =
        folder.join(format!("{}-new", kept.file_name().unwrap_or_default().to_string_lossy()));
    let is_new = fernweh_core::digest::sha256(&present) == new_sha256;
    let read = |path: &Path| {
        fs::read(path)
            .map_err(|error| Trouble::file("cannot read the values kept safe", path, &error))
    };
    match direction {
        Direction::Back if is_new => {
            fs::write(&other, &present).map_err(|error| cannot_keep(&other, &error))?;
            editor.replace(&bytes, &read(&kept)?)?;
            report.files += 1;
        }
        Direction::Forward if read(&kept)? == present => {
            editor.replace(&bytes, &read(&other)?)?;
            report.files += 1;
        }
        _ => report
            .refused
            .push(Refused { place: shown, because: "the file was changed in the meantime".into() }),
    }
    Ok(())
}
