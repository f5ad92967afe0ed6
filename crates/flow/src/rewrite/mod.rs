//! Addresses in a live site: a preview, or the real run with every old value kept safe.

mod edit;
mod follow;
mod kept;
mod turn;

pub(crate) use edit::{FileEdit, edit_files, edited};
pub(crate) use kept::{Safekeeping, has_begun};
pub use turn::{TakenBack, turn};

use crate::effect::Effect;
use crate::journal::Journal;
use crate::overlap;
use crate::report::{RewriteReport, TableReport};
use fernweh_core::entries::EntryList;
use fernweh_core::limits;
use fernweh_core::placed::{RULE_FILE, rule_file};
use fernweh_core::record::EntryKind;
use fernweh_core::rewrite::Rewriter;
use fernweh_ports::{
    Change, DatabaseEditor, Editors, Held, Progress, Refused, Result, Scope, Trouble, Unit,
    WholeFile, counted, in_turn, read_whole,
};
use follow::follow_key;
use kept::{Lines, keeps_something, remove_left};
use serde::Serialize;
use std::path::Path;

/// Notes that a run was broken off, before it is taken back.
pub(crate) fn broken_off(folder: &Path) -> Result<()> {
    kept::note_broken_off(folder, false).map(drop)
}

/// What a rewriting did.
#[derive(Clone, Debug, Default, Serialize, schemars::JsonSchema)]
pub struct LiveReport {
    /// Whether anything was changed, or this was a preview.
    pub applied: bool,
    /// The numbers.
    pub rewriting: RewriteReport,
    /// Cells that were not changed, and why.
    pub refused: Vec<Refused>,
    /// The run, if something was changed.
    pub run: Option<String>,
    /// Of a site that is to be hidden: whether its host says so.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub hidden: Option<Effect>,
    /// What else is to be said.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub notes: Vec<String>,
}

/// What to rewrite.
pub struct RewriteOptions<'a> {
    /// The rules.
    pub rewriter: &'a Rewriter,
    /// Which tables are the site's.
    pub tables: &'a dyn Scope,
    /// Which paths are not looked at.
    pub skip: &'a dyn Fn(&[u8]) -> bool,
    /// Whether search engines are kept out of the site: its rule file says so then.
    pub hidden: bool,
}

/// Goes through the whole site. Without a journal this is a preview.
pub fn rewrite(
    options: &RewriteOptions<'_>,
    parts: &mut Editors,
    journal: Option<&mut Journal>,
    progress: &dyn Progress,
) -> Result<LiveReport> {
    let mut report = LiveReport {
        applied: journal.is_some(),
        rewriting: RewriteReport::of(options.rewriter),
        ..LiveReport::default()
    };
    let mut safe = match &journal {
        Some(journal) => Some(Safekeeping::open(journal.folder())?),
        None => None,
    };
    // Only a run that goes on can have left something.
    if let (Some(safe), Some(editor)) = (&safe, &mut parts.editor)
        && keeps_something(safe.folder())
    {
        remove_left(&Lines::open(safe.folder())?, &safe.hidden_name, &mut **editor)?;
    }
    progress.reached("started");
    if let Some(editor) = &mut parts.database {
        database(options, &mut **editor, safe.as_mut(), &mut report, progress)?;
    }
    if parts.files.is_some() {
        files(options, parts, safe.as_mut(), &mut report, progress)?;
        if let (true, Some(safe)) = (options.hidden, &mut safe) {
            let hide = |text: Option<&[u8]>| Some(rule_file(text.unwrap_or_default(), true));
            edit_files(&[FileEdit::of(parts, RULE_FILE, hide)?], parts, safe, progress)?;
        }
    }
    // A run that has changed nothing is nothing to take back: it would only hide the one before.
    if let Some(journal) = journal.filter(|journal| keeps_something(journal.folder())) {
        edited(journal, progress)?;
        report.run = Some(journal.header.run.clone());
    }
    Ok(report)
}

fn database(
    options: &RewriteOptions<'_>,
    editor: &mut dyn DatabaseEditor,
    mut safe: Option<&mut Safekeeping>,
    report: &mut LiveReport,
    progress: &dyn Progress,
) -> Result<()> {
    progress.stage("database", None, Unit::Records);
    let mut records = 0;
    for table in editor.tables(options.tables)? {
        let key = editor.key_columns(&table)?;
        let mut tallies = TableReport::new(options.rewriter, &table);
        let applied = editor.each_batch(&table, &mut |batch| {
            progress.go_on()?;
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
            progress.advance(batch.len() as u64);
            match &mut safe {
                Some(safe) => {
                    safe.keep(&table, &changes)?;
                    progress.reached("changes-kept");
                    Ok(changes)
                }
                None => Ok(Vec::new()),
            }
        })?;
        report.refused.extend(applied.refused);
        tallies.into_report(&table, &mut report.rewriting);
    }
    progress.done(&counted(records, "record", "records"));
    Ok(())
}

fn files(
    options: &RewriteOptions<'_>,
    parts: &mut Editors,
    mut safe: Option<&mut Safekeeping>,
    report: &mut LiveReport,
    progress: &dyn Progress,
) -> Result<()> {
    let Some(source) = &mut parts.files else { return Ok(()) };
    progress.stage("files", None, Unit::Bytes);
    let mut entries = EntryList::default();
    source.walk(&|path| !(options.skip)(path), &mut |entry| {
        entries.push(entry);
        Ok(())
    })?;
    let editor = &mut parts.editor;
    in_turn(&mut **source, &entries, |source, entry| {
        progress.go_on()?;
        let EntryKind::File(size) = entry.kind else { return Ok(()) };
        if size > limits::TEXT_FILE {
            let Some(mut content) = source.open(&entry.path)? else { return Ok(()) };
            let mut hits = 0;
            overlap::each(&mut content, limits::SEARCHED_NAME, &mut |portion| {
                let places = options.rewriter.hit_places(portion.bytes);
                hits += places.filter(|at| portion.is_settled(*at)).count() as u64;
            })
            .map_err(|error| {
                Trouble::outside("cannot read a file of the site").at(entry.shown()).because(error)
            })?;
            report.rewriting.large_file(&entry.shown(), hits);
            return Ok(());
        }
        // What has gone meanwhile needs no rewriting.
        let WholeFile { bytes, changed, .. } =
            match read_whole(source, &entry.path, limits::TEXT_FILE)? {
                Held::Whole(file) => file,
                Held::Gone => return Ok(()),
                Held::TooLarge => {
                    let because = "the file grew too large while the site was read".into();
                    report.refused.push(Refused { place: entry.shown(), because });
                    return Ok(());
                }
            };
        progress.advance(bytes.len() as u64);
        let new = report.rewriting.file(options.rewriter, &entry.shown(), &bytes);
        if let (Some(new), Some(safe), Some(editor)) = (new, &mut safe, &mut *editor) {
            if changed {
                let because = "the file changed each time it was read".into();
                report.refused.push(Refused { place: entry.shown(), because });
                return Ok(());
            }
            safe.keep_file(&entry.path, &bytes, &new)?;
            editor.replace(&entry.path, &new, &safe.hidden_name)?;
        }
        Ok(())
    })?;
    progress.done(&counted(report.rewriting.files_seen, "file", "files"));
    Ok(())
}
