//! Back to the state before the last change of a site, forward again, or giving it up.

use super::Surroundings;
use super::unpack::Unpack;
use crate::archive::ArchiveReader;
use crate::incoming::Incoming;
use crate::journal::{Journal, Run, RunState, Step};
use crate::undo::{UndoReport, last_change, let_go, turn_rewrite, turn_unpack};
use crate::unpack::{Part, UnpackReport, discard};
use fernweh_ports::{Halves, Result, SiteAccess, Trouble};
use std::path::Path;

/// What to take back.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Undo {
    /// The last change; what was taken back comes again.
    LastChange,
    /// Everything that is kept of earlier states is given up.
    LetGo,
}

/// What was done.
#[derive(Debug)]
pub enum Undone {
    /// A run was turned.
    Turned(Box<UndoReport>),
    /// The old state was unpacked from the archive that the run had made of it.
    Unpacked(Box<UnpackReport>),
    /// These runs keep nothing any more.
    LetGo(Vec<String>),
}

impl Undo {
    /// Takes the change back, or gives up what is kept.
    pub fn run(self, site: &dyn SiteAccess, around: Surroundings<'_>) -> Result<Undone> {
        self.work(site, around).map_err(|trouble| {
            trouble.doing(format!("taking back the last change of site {}", site.name()))
        })
    }

    fn work(self, site: &dyn SiteAccess, around: Surroundings<'_>) -> Result<Undone> {
        let lock = around.records.lock(site.name())?;
        if self == Undo::LetGo {
            return give_up(site, around).map(Undone::LetGo);
        }
        let run = last_change(around.records, site.name())?;
        if let Some(archive) = run.set_aside() {
            let mut run = run;
            if matches!(run.state(), RunState::Switching(..)) {
                // What of the new state is in place already goes first.
                let mut targets = site.targets(&run.header.run, site.has())?;
                turn_unpack(&run, &mut targets, around.progress)?;
                run = Journal::resume(&run)?.run()?;
            }
            // Unpacking takes the lock itself.
            drop(lock);
            let report = bring_back(site, &run, &archive, around)?;
            return Ok(Undone::Unpacked(Box::new(report)));
        }
        let report = match run.is_rewriting() {
            true => turn_rewrite(&run, &mut site.editors(site.has())?, around.progress)?,
            false => {
                let mut targets = site.targets(&run.header.run, site.has())?;
                turn_unpack(&run, &mut targets, around.progress)?
            }
        };
        Ok(Undone::Turned(Box::new(report)))
    }
}

/// Unpacks the archive that a run has made of the old state.
fn bring_back(
    site: &dyn SiteAccess,
    run: &Run,
    archive: &Path,
    around: Surroundings<'_>,
) -> Result<UnpackReport> {
    around
        .progress
        .note(&format!("taking back {}: its old state is in an archive\n", run.header.run));
    let unpack = Unpack {
        input: archive.display().to_string(),
        halves: Halves::BOTH,
        overwrite: true,
        // An emptied site has nothing to be set aside.
        in_place: run.state() != RunState::Emptied,
        // The old state had no tables that came with the new one.
        part: Part { exactly: true, ..Part::default() },
        may_remove: true,
        as_is: true,
        outside_links: true,
        trust: true,
        ..Unpack::default()
    };
    let incoming = Incoming::own(ArchiveReader::open(archive)?);
    unpack.run_superseding(site, &incoming, Some(run), around)
}

fn give_up(site: &dyn SiteAccess, around: Surroundings<'_>) -> Result<Vec<String>> {
    let mut given = Vec::new();
    for run in around.records.runs_of(site.name())? {
        if matches!(run.state(), RunState::InPlace { .. }) {
            let_go(&run, &mut site.targets(&run.header.run, site.has())?, around.progress)?;
            given.push(run.header.run.clone());
        }
    }
    Ok(given)
}

/// Cleans up an unfinished run; `site_of` gives the site of a name.
pub fn discard_run<S: SiteAccess>(
    name: &str,
    around: Surroundings<'_>,
    site_of: impl FnOnce(&str) -> Result<S>,
) -> Result<Run> {
    let all = around.records.runs()?;
    let run = all.into_iter().find(|run| run.header.run == name).ok_or_else(|| {
        Trouble::usage(format!("there is no run `{name}`")).hint("fernweh runs lists them")
    })?;
    if run.is_move() && run.state() == RunState::Open {
        // It leaves an archive; what it changed belongs to other runs.
        run.clear();
        Journal::resume(&run)?.step(&Step::Discarded, around.progress)?;
        return Ok(run);
    }
    let site = &run.header.site;
    let _lock = around.records.lock(site)?;
    match run.state() {
        RunState::Open if run.builds() => {}
        RunState::Switching(..) => {
            return Err(Trouble::usage("this run is in the middle of its switch")
                .because("the site stands half on its old state and half on its new one")
                .hint(format!("type its command again to complete it, or fernweh undo {site}")));
        }
        RunState::Open => {
            return Err(Trouble::usage("this rewriting has changed cells already")
                .hint(format!("fernweh undo {site} takes it back")));
        }
        _ => {
            return Err(
                Trouble::usage("this run is not unfinished").hint("fernweh runs shows its state")
            );
        }
    }
    let site = site_of(site)?;
    let mut targets = site.targets(name, site.has())?;
    discard(&mut Journal::resume(&run)?, &mut targets, around.progress)?;
    Ok(run)
}
