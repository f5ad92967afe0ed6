//! Lines that are placed in a file of a live site, with the old file kept, and taken back at once
//! where the web server fails because of them.

use super::Surroundings;
use super::branch::{end, ends, note};
use crate::effect::{Effect, Host, told};
use crate::journal::{Journal, Operation, Run};
use crate::rewrite::{FileEdit, Safekeeping, edit_files, edited};
use crate::undo::turn_rewrite;
use fernweh_ports::{Fetched, Halves, Result, SiteAccess, Trouble};
use schemars::JsonSchema;
use serde::Serialize;

/// What was placed, and what came of it.
#[derive(Clone, Debug, Default, Serialize, JsonSchema)]
pub struct PlacedReport {
    /// The site.
    pub site: String,
    /// The files in which the lines stand.
    pub files: Vec<String>,
    /// Whether anything was changed.
    pub changed: bool,
    /// Whether lines were taken out rather than put in.
    pub removed: bool,
    /// The run, if something was changed.
    pub run: Option<String>,
    /// By which file of the site it works.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub by: Option<String>,
    /// Requests that show what it does.
    pub effects: Vec<Effect>,
    /// Why nothing was asked, if nothing was.
    pub not_verified: Option<String>,
    /// What else is to be said.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub notes: Vec<String>,
}

impl PlacedReport {
    /// Whether everything was asked that could be, and came back as it should.
    pub fn works(&self) -> bool {
        self.not_verified.is_none() && self.effects.iter().all(|effect| effect.works)
    }
}

/// A change of files, and how it shows.
pub(super) struct Placing<'a> {
    pub operation: Operation,
    /// What goes in, as the journal has it.
    pub input: String,
    pub removes: bool,
    /// Files, and what becomes of each.
    pub edits: Edits<'a>,
    /// Changes that follow from what the first have shown.
    pub then: Option<Box<dyn FnOnce() -> Edits<'a> + 'a>>,
    /// The host, where it is known.
    pub host: Option<&'a Host>,
    /// An address of the site that must not fail.
    pub front: String,
}

/// Files, and what becomes of each.
pub(super) type Edits<'a> = Vec<(&'a str, Edit<'a>)>;

/// What becomes of a file: of its content, or of none.
pub(super) type Edit<'a> = Box<dyn FnOnce(Option<&[u8]>) -> Option<Vec<u8>> + 'a>;

impl Placing<'_> {
    pub fn run(self, site: &dyn SiteAccess, around: Surroundings<'_>) -> Result<Placed> {
        let _lock = around.records.lock(site.name())?;
        around.warn_of_earlier(site)?;
        let mut parts = site.editors(Halves::FILES)?;
        if parts.editor.is_none() {
            return Err(Trouble::usage(format!("site {} has no files", site.name()))
                .hint(format!("set files in [site.{}]", site.name())));
        }
        let mut edits = Vec::new();
        for (path, edit) in self.edits {
            edits.push(FileEdit::of(&mut parts, path, edit)?);
        }
        let shown = |edit: &FileEdit| String::from_utf8_lossy(&edit.path).into_owned();
        let mut report = PlacedReport {
            site: site.name().to_owned(),
            removed: self.removes,
            files: edits.iter().filter(|edit| edit.new.is_some()).map(shown).collect(),
            changed: edits.iter().any(FileEdit::changes),
            ..PlacedReport::default()
        };
        if !report.changed {
            return Ok(Placed::Stands(report));
        }
        let before = self.host.map(|host| host.head(&self.front));
        let ended = ends(site, around)?;
        let mut journal = around.records.begin(self.operation, site.name(), &self.input)?;
        note(&mut journal, &ended, around)?;
        let half = |trouble: Trouble| {
            trouble.incomplete(format!(
                "a file may have been changed; fernweh undo {} takes it back",
                site.name()
            ))
        };
        let mut safe = Safekeeping::open(journal.folder())?;
        around.progress.reached("started");
        edit_files(&edits, &mut parts, &mut safe, around.progress).map_err(half)?;
        if let Some(then) = self.then {
            let mut edits = Vec::new();
            for (path, edit) in then() {
                edits.push(FileEdit::of(&mut parts, path, edit).map_err(half)?);
            }
            edit_files(&edits, &mut parts, &mut safe, around.progress).map_err(half)?;
        }
        edited(&mut journal, around.progress)?;
        if let (Some(host), Some(before)) = (self.host, &before) {
            let after = host.head(&self.front);
            if Host::broke(before, &after) {
                return taken_back(site, journal, &after, around).map(Placed::TakenBack);
            }
        }
        report.run = Some(journal.header.run.clone());
        report.notes = end(&ended, site, around);
        Ok(Placed::Stands(report))
    }
}

/// What became of a change.
pub(super) enum Placed {
    /// It stands.
    Stands(PlacedReport),
    /// The web server failed with it, as this says, and it was taken back.
    TakenBack(Trouble),
}

impl Placed {
    /// The report of what stands.
    pub fn stands(self) -> Result<PlacedReport> {
        match self {
            Placed::Stands(report) => Ok(report),
            Placed::TakenBack(trouble) => Err(trouble),
        }
    }
}

/// Takes a change back that has no effect, as if it had never been.
pub(super) fn take_back_unseen(
    site: &dyn SiteAccess,
    run: Option<&str>,
    around: Surroundings<'_>,
) -> Result<()> {
    let _lock = around.records.lock(site.name())?;
    let runs = around.records.runs_of(site.name())?;
    let Some(run) = runs.iter().find(|one| Some(one.header.run.as_str()) == run) else {
        return Ok(());
    };
    back_and_forgotten(site, run, around)
}

fn back_and_forgotten(site: &dyn SiteAccess, run: &Run, around: Surroundings<'_>) -> Result<()> {
    turn_rewrite(run, &mut site.editors(Halves::FILES)?, around.progress)?;
    Journal::resume(run)?.forget();
    Ok(())
}

/// Takes a change back that the web server does not bear.
fn taken_back(
    site: &dyn SiteAccess,
    journal: Journal,
    after: &Fetched,
    around: Surroundings<'_>,
) -> Result<Trouble> {
    let run = journal.run()?;
    drop(journal);
    back_and_forgotten(site, &run, around)?;
    Ok(Trouble::outside("the web server fails with what was placed")
        .because(format!("its first page answered {} then; all is as it was before", told(after)))
        .hint("read its log; often a module is missing, or AllowOverride forbids the rules"))
}
