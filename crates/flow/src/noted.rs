//! What a destination says of the states that are kept there: by which runs, begun where, and how
//! they are taken back.
//!
//! Whoever works on the site from another folder or machine can see it, and take a run over: from
//! then on it is a run of that folder. What a note says comes from outside, where the site's own
//! programs can write, so it is taken over only where the user says so, and only as far as it
//! names what that run would have built and put aside there.

use crate::journal::{Header, Journal, Operation, Plan, Records, Run, RunState, Step, is_run_name};
use fernweh_ports::{
    DatabaseSwap, Direction, Progress, Result, SiteAccess, Targets, Trouble, foreign,
};
use serde::{Deserialize, Serialize};

/// One kept state, as it is noted at the destination.
#[derive(
    Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, schemars::JsonSchema,
)]
pub struct KeptNote {
    /// When it began (RFC 3339, UTC).
    pub started: String,
    /// The run.
    pub run: String,
    /// Its command.
    pub command: String,
    /// Where it was begun, as `keeper@desk:/home/keeper/sites`.
    pub by: String,
}

impl KeptNote {
    fn of(run: &Run) -> Self {
        let folder = std::path::absolute(&run.folder).unwrap_or_else(|_| run.folder.clone());
        let user = std::env::var("USER").unwrap_or_default();
        let host = std::fs::read_to_string("/proc/sys/kernel/hostname").unwrap_or_default();
        // `.fernweh/runs/RUN` below the folder in which the command was typed.
        let folder = folder.ancestors().nth(3).unwrap_or(&folder).display().to_string();
        Self {
            run: run.header.run.clone(),
            command: run.header.command.to_string(),
            started: run.header.started.clone(),
            by: format!("{user}@{}:{folder}", host.trim()),
        }
    }
}

/// The whole note.
#[derive(Clone, Debug, Serialize, Deserialize)]
struct Note {
    #[serde(flatten)]
    kept: KeptNote,
    /// The records of which folder know how to take it back.
    #[serde(default)]
    folder: String,
    /// How it is taken back: the steps of its journal that say it. None where that would be more
    /// than a note.
    #[serde(default)]
    record: Vec<Step>,
}

/// Notes at the destination what the run keeps there, or that it keeps nothing any more. It is for
/// others to know: that it cannot be noted is no error.
pub(crate) fn note(run: &Run, targets: &mut Targets) {
    if run.is_kept() && !keeps_something(run) {
        return;
    }
    let record = run.last_switch().map(|steps| steps.map(Step::clone).to_vec());
    let mut note = Note {
        kept: KeptNote::of(run),
        folder: Records::of(run).identity().unwrap_or_default(),
        record: record.unwrap_or_default(),
    };
    let mut text = serde_json::to_vec(&note).unwrap_or_default();
    if text.len() as u64 > fernweh_core::limits::KEPT_NOTE {
        note.record.clear();
        text = serde_json::to_vec(&note).unwrap_or_default();
    }
    let kept = run.is_kept().then_some(text.as_slice());
    let name = &run.header.run;
    // Always in the same place, whichever halves are open: beside the files, if it changed them.
    let beside_files = match run.last_switch() {
        Some([_, Step::Switching { plan, .. }, _]) => plan.files.is_some(),
        _ => false,
    };
    if let Some(files) = targets.files.as_mut().filter(|_| kept.is_none() || beside_files) {
        let _ = files.note_kept(name, kept);
    }
    if let Some(database) = targets.database.as_mut().filter(|_| kept.is_none() || !beside_files) {
        let _ = database.note_kept(name, kept);
    }
}

/// Whether a state lies beside the one in place: where there was nothing before, there is none.
fn keeps_something(run: &Run) -> bool {
    let RunState::InPlace { direction, plan, .. } = run.state() else { return false };
    let database = plan.database.as_ref().is_some_and(|swap| match swap {
        DatabaseSwap::WithFiles => false,
        DatabaseSwap::File(swap) => swap.had_old,
        DatabaseSwap::Content(_) => true,
        DatabaseSwap::Tables(swap) => swap.tables.iter().any(|one| one.aside_old.is_some()),
        DatabaseSwap::Schemas(swap) => swap.schemas.iter().any(|one| !one.old.is_empty()),
    });
    let files = plan.files.as_ref().is_some_and(|swap| swap.had_old);
    direction == Direction::Back || database || files
}

/// All notes at the destination, the oldest first.
fn notes(site: &dyn SiteAccess) -> Result<Vec<Note>> {
    let mut targets = site.targets("look", site.has())?;
    let mut texts = Vec::new();
    if let Some(files) = &mut targets.files {
        texts.extend(files.notes_kept()?);
    }
    if let Some(database) = &mut targets.database {
        texts.extend(database.notes_kept()?);
    }
    let mut notes: Vec<Note> =
        texts.iter().filter_map(|text| serde_json::from_slice(text).ok()).collect();
    notes.sort_by(|a, b| a.kept.cmp(&b.kept));
    notes.dedup_by(|a, b| a.kept == b.kept);
    Ok(notes)
}

/// What is kept of a site by runs that are not recorded here, or not here any more.
pub fn elsewhere(site: &dyn SiteAccess, records: &Records) -> Result<Vec<KeptNote>> {
    let own = records.runs()?;
    let is_own = |note: &Note| {
        own.iter().any(|run| {
            run.header.run == note.kept.run && run.steps.last() != Some(&Step::TakenOver)
        })
    };
    Ok(notes(site)?.into_iter().filter(|note| !is_own(note)).map(|note| note.kept).collect())
}

/// What others have done to a site since this folder last looked.
#[derive(Debug, Default)]
pub(crate) struct Others {
    notes: Vec<Note>,
}

impl Others {
    /// Asks the destination. Runs of this folder that another has taken over are closed here:
    /// where they stand, only the other one knows.
    pub fn ask(site: &dyn SiteAccess, records: &Records, progress: &dyn Progress) -> Result<Self> {
        let own = records.runs_of(site.name())?;
        let mut notes = notes(site)?;
        let here = records.identity()?;
        notes.retain(|note| {
            // Versions that noted no folder had no way to take a run over.
            let known = own.iter().any(|run| run.header.run == note.kept.run);
            note.folder != here && !(known && note.folder.is_empty())
        });
        for run in own.iter().filter(|run| run.is_kept()) {
            let taken = notes.iter().find(|note| note.kept.run == run.header.run);
            if let Some(note) = taken {
                Journal::resume(run)?.step(&Step::TakenOver, progress)?;
                progress.note(&format!("{} was taken over by {}\n", note.kept.run, note.kept.by));
            }
        }
        Ok(Self { notes })
    }

    /// The last run of another folder that has begun after this moment.
    pub fn since(&self, started: &str) -> Option<&KeptNote> {
        self.notes.iter().map(|note| &note.kept).rfind(|kept| kept.started.as_str() >= started)
    }

    /// Makes all runs of other folders that keep something of the site runs of this one. What the
    /// destination says is believed only as far as it names what these runs have made there.
    pub fn take_over(self, site: &dyn SiteAccess, records: &Records) -> Result<()> {
        for note in self.notes {
            let about = |trouble: Trouble| {
                trouble.doing(format!("taking over {} of {}", note.kept.run, note.kept.by))
            };
            let (header, plan, done) = parts(&note).map_err(about)?;
            let mut targets = site.targets(&header.run, site.has()).map_err(about)?;
            let plan = adopted(&plan, &mut targets).map_err(about)?;
            let Step::Done { direction, .. } = done else { continue };
            let header = Header { site: site.name().to_owned(), mark: String::new(), ..header };
            let run = records.adopt(header, [Step::Switching { direction, plan }, done]);
            self::note(&run.map_err(about)?, &mut targets);
        }
        Ok(())
    }
}

/// What a note says, if it is one of a complete run that can be turned.
fn parts(note: &Note) -> Result<(Header, Plan, Step)> {
    match note.record.as_slice() {
        [Step::Started(header), Step::Switching { direction, plan }, done]
            if header.run == note.kept.run
                && is_run_name(&header.run)
                && header.command == Operation::Unpack
                && matches!(done, Step::Done { direction: last, .. } if last == direction) =>
        {
            Ok((header.clone(), plan.clone(), done.clone()))
        }
        [] => Err(Trouble::usage("the destination does not say how it is taken back")
            .because("its record is too long for a note, or comes from an earlier version")
            .hint("undo it in the folder where it was begun")),
        _ => Err(foreign("a run")),
    }
}

/// The plan of another folder's run as this one would have made it.
fn adopted(plan: &Plan, targets: &mut Targets) -> Result<Plan> {
    let half = || {
        Trouble::usage("the site has both files and a database there, and only one of them here")
            .hint("configure both, or undo it in the folder where it was begun")
    };
    let mut own = Plan { tables: plan.tables.clone(), ..Plan::default() };
    if let Some(swap) = &plan.database {
        own.database = Some(targets.database.as_mut().ok_or_else(half)?.adopted(swap)?);
    }
    if let Some(swap) = &plan.files {
        own.files = Some(targets.files.as_mut().ok_or_else(half)?.adopted(swap)?);
    }
    Ok(own)
}
