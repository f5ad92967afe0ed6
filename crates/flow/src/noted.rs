//! What a destination says of the states that are kept there: by which runs, begun where. Whoever
//! works on the site from another folder or machine can see it; what a note says comes from
//! outside, so nothing is done by it.

use crate::journal::{Records, Run, RunState};
use fernweh_ports::{DatabaseSwap, Direction, Result, SiteAccess, Targets};
use serde::{Deserialize, Serialize};

/// One kept state, as it is noted at the destination.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct KeptNote {
    /// The run.
    pub run: String,
    /// Its command.
    pub command: String,
    /// When it began (RFC 3339, UTC).
    pub started: String,
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

/// Notes at the destination what the run keeps there, or that it keeps nothing any more. It is for
/// others to know: that it cannot be noted is no error.
pub(crate) fn note(run: &Run, targets: &mut Targets) {
    if run.is_kept() && !keeps_something(run) {
        return;
    }
    let text = serde_json::to_vec(&KeptNote::of(run)).unwrap_or_default();
    let note = run.is_kept().then_some(text.as_slice());
    let name = &run.header.run;
    // It may have been noted in the other half: which ones took part is not known any more.
    let _ = targets.files.as_mut().map(|files| files.note_kept(name, note));
    if note.is_none() || targets.files.is_none() {
        let _ = targets.database.as_mut().map(|database| database.note_kept(name, note));
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

/// What is kept of a site by runs that are not recorded here.
pub fn elsewhere(site: &dyn SiteAccess, records: &Records) -> Result<Vec<KeptNote>> {
    let own = records.runs()?;
    let mut targets = site.targets("look", site.has())?;
    let mut texts = Vec::new();
    if let Some(files) = &mut targets.files {
        texts.extend(files.notes_kept()?);
    }
    if let Some(database) = &mut targets.database {
        texts.extend(database.notes_kept()?);
    }
    let mut notes: Vec<KeptNote> =
        texts.iter().filter_map(|text| serde_json::from_slice(text).ok()).collect();
    notes.retain(|note| !own.iter().any(|run| run.header.run == note.run));
    notes.sort_by(|a, b| (&a.started, &a.run).cmp(&(&b.started, &b.run)));
    notes.dedup();
    Ok(notes)
}
