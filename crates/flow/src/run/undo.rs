//! Back to the state before the last change of a site, forward again, or giving it up.

use super::Surroundings;
use super::unpack::Unpack;
use crate::archive::ArchiveReader;
use crate::incoming::Incoming;
use crate::journal::{Journal, Records, Run, RunState, Step};
use crate::noted::Others;
use crate::undo::{Stack, UndoReport, let_go, nothing_to_take_back, turn_rewrite, turn_unpack};
use crate::unpack::{Part, UnpackReport, discard};
use fernweh_ports::{Halves, Result, SiteAccess, Trouble};
use std::path::Path;

/// What to take back.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Undo {
    /// The last change that stands; where none does, the first that was taken back comes again.
    LastChange,
    /// Everything that came after this run, or, where it was taken back, up to it again.
    ToRun(String),
    /// What is kept of earlier states is given up: of the oldest alone, or of all.
    LetGo {
        /// Only of the oldest one.
        oldest: bool,
    },
}

/// What was done.
#[derive(Debug)]
pub enum Undone {
    /// Runs were turned, in this order.
    Turned(Vec<UndoReport>),
    /// The old state was unpacked from the archive that the run had made of it.
    Unpacked(Box<UnpackReport>),
    /// These runs keep nothing any more.
    LetGo(Vec<String>),
}

impl Undo {
    /// Takes the change back, or gives up what is kept.
    pub fn run(self, site: &dyn SiteAccess, around: Surroundings<'_>) -> Result<Undone> {
        self.work(site, around).map_err(|trouble| {
            trouble.doing(format!("undoing the last change of site {}", site.name()))
        })
    }

    fn work(self, site: &dyn SiteAccess, around: Surroundings<'_>) -> Result<Undone> {
        let lock = around.records.lock(site.name())?;
        look_around(&self, site, around)?;
        let name = match self {
            Undo::LetGo { oldest } => return give_up(oldest, site, around).map(Undone::LetGo),
            Undo::ToRun(name) => name,
            Undo::LastChange => {
                let run = Stack::of(around.records, site.name())?.next().cloned();
                let run = run.ok_or_else(|| nothing_to_take_back(site.name()))?;
                let Some(archive) = run.set_aside() else {
                    return Ok(Undone::Turned(vec![turn(&run, site, around)?]));
                };
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
        };
        let mut turned: Vec<UndoReport> = Vec::new();
        let mut stack = Stack::of(around.records, site.name())?;
        if let Some(broken) = stack.standing.last().filter(|run| !run.is_kept())
            && broken.set_aside().is_none()
        {
            // What was broken off comes to an end first.
            turned.push(turn(broken, site, around)?);
            stack = Stack::of(around.records, site.name())?;
        }
        let way = stack.way_to(&name)?;
        if way.is_empty() && !turned.is_empty() {
            return Ok(Undone::Turned(turned));
        }
        if way.is_empty() {
            return Err(Trouble::usage(format!(
                "site {} is already in the state that {name} left behind",
                site.name()
            )));
        }
        if let Some(run) = way.iter().find(|run| run.set_aside().is_some()) {
            return Err(Trouble::usage("one of the steps must be undone by itself")
                .because(format!("{} kept the old state as an archive", run.header.run))
                .hint(format!(
                    "go up to it with fernweh undo {}, one step at a time",
                    site.name()
                )));
        }
        for run in &way {
            let report = turn(run, site, around).map_err(|trouble| match turned.last() {
                Some(last) => trouble.incomplete(format!(
                    "{} of {} steps are done, the last one {}; type the same command again to \
                     resume",
                    way.iter().take_while(|one| one.header.run != run.header.run).count(),
                    way.len(),
                    last.run
                )),
                None => trouble,
            })?;
            turned.push(report);
        }
        Ok(Undone::Turned(turned))
    }
}

/// Makes what other folders keep of a site runs of this one, as the destination itself tells it:
/// only where the user trusts what stands there.
pub fn take_over(site: &dyn SiteAccess, around: Surroundings<'_>) -> Result<()> {
    let _lock = around.records.lock(site.name())?;
    Others::ask(site, around.records, around.progress)?.take_over(site, around.records)
}

/// Sees what other folders have done to the site: what they have made over the last change of
/// this one goes first, or what is turned would not be what stands.
fn look_around(undo: &Undo, site: &dyn SiteAccess, around: Surroundings<'_>) -> Result<()> {
    let name = site.name();
    let stack = Stack::of(around.records, name)?;
    if stack.next().is_some_and(|run| run.is_edit() || !run.is_kept()) {
        // Each cell is looked at, or something is to be completed first.
        return Ok(());
    }
    let others = Others::ask(site, around.records, around.progress)?;
    let stack = Stack::of(around.records, name)?;
    let started = stack.next().map_or("", |run| run.header.started.as_str());
    let Some(kept) = others.since(started).filter(|_| !matches!(undo, Undo::LetGo { .. })) else {
        return Ok(());
    };
    Err(Trouble::usage(format!("the last change of site {name} was made in another folder"))
        .because(format!("{} by {}", kept.run, kept.by))
        .hint(format!(
            "run undo there; if that is not possible, fernweh undo {name} --trust reads the \
             record kept at the destination, where the site's own programs can write"
        )))
}

/// Turns one run.
fn turn(run: &Run, site: &dyn SiteAccess, around: Surroundings<'_>) -> Result<UndoReport> {
    match run.is_edit() {
        true => turn_rewrite(run, &mut site.editors(site.has())?, around.progress),
        false => {
            let mut targets = site.targets(&run.header.run, site.has())?;
            turn_unpack(run, &mut targets, around.progress)
        }
    }
}

/// Unpacks the archive that a run has made of the old state.
fn bring_back(
    site: &dyn SiteAccess,
    run: &Run,
    archive: &Path,
    around: Surroundings<'_>,
) -> Result<UnpackReport> {
    around.progress.note(&format!("undoing {}: its old state is in an archive\n", run.header.run));
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

/// The runs whose kept states would be given up: of the oldest alone, or of all; the oldest first.
pub fn kept_runs(records: &Records, site: &str, oldest: bool) -> Result<Vec<Run>> {
    let mut kept = records.runs_of(site)?;
    kept.retain(Run::is_kept);
    kept.reverse();
    if oldest {
        let mut stack = Stack::of(records, site)?;
        if stack.standing.is_empty() && stack.undone.is_empty() {
            return Ok(kept);
        }
        // Where nothing stands, the farthest goes: those before it can still come again.
        match stack.standing.is_empty() {
            true => drop(stack.undone.pop()),
            false => drop(stack.standing.remove(0)),
        }
        let stays = |run: &Run| {
            let mut all = stack.standing.iter().chain(&stack.undone);
            all.any(|one| one.header.run == run.header.run)
        };
        kept.retain(|run| !stays(run));
    }
    Ok(kept)
}

fn give_up(oldest: bool, site: &dyn SiteAccess, around: Surroundings<'_>) -> Result<Vec<String>> {
    let mut given = Vec::new();
    for run in &kept_runs(around.records, site.name(), oldest)? {
        let_go(run, &mut site.targets(&run.header.run, site.has())?, around.progress)?;
        given.push(run.header.run.clone());
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
                .because("the site is partly in its old and partly in its new state")
                .hint(format!(
                    "type its command again to complete it, or fernweh undo {site} to \
                               go back"
                )));
        }
        RunState::Open => {
            return Err(Trouble::usage("this rewriting has changed cells already")
                .hint(format!("to take it back: fernweh undo {site}")));
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
