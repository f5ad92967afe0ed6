//! Back to the state before the last change, and forward again.

use crate::journal::{Journal, Plan, Records, Run, RunState, Step};
use crate::rewrite::{self, TakenBack};
use crate::unpack::{discard, kept_files, switch};
use fernweh_ports::{Direction, Editors, Fingerprint, Progress, Result, Targets, Trouble, counted};
use serde::Serialize;
use std::collections::BTreeSet;

/// What `undo` did.
#[derive(Clone, Debug, Serialize, schemars::JsonSchema)]
pub struct UndoReport {
    /// The run that was turned.
    pub run: String,
    /// Its command.
    pub command: String,
    /// Which way it was turned.
    pub direction: Direction,
    /// When the state that was left had come into place.
    pub since: String,
    /// What visitors had written since: table and number of records more or less.
    pub written: Vec<Written>,
    /// Whether something was written since that did not change the numbers.
    pub changed_since: bool,
    /// For a rewriting: what was taken back.
    pub taken_back: Option<TakenBack>,
}

/// Records that came or went since the switch.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, schemars::JsonSchema)]
pub struct Written {
    /// The table.
    pub table: String,
    /// Records more, or less if negative.
    pub records: i64,
}

/// The last change of a site, if there is one that can be turned.
pub fn last_change(records: &Records, site: &str) -> Result<Run> {
    let runs = records.runs_of(site)?;
    let turnable = |run: &&Run| match run.state() {
        RunState::Switching(..) | RunState::InPlace { .. } | RunState::Emptied => true,
        // A rewriting that was broken off has changed some cells already.
        RunState::Open => run.is_edit(),
        RunState::Closed => false,
    };
    runs.iter().find(turnable).cloned().ok_or_else(|| nothing_to_take_back(site))
}

pub(crate) fn nothing_to_take_back(site: &str) -> Trouble {
    Trouble::usage(format!("there is no change of site {site} to undo"))
        .because("no finished run on this site is recorded next to this configuration")
        .hint("fernweh runs lists what ran; undo works in the folder where the change was made")
}

/// The changes of a site that can be turned, the oldest first: those that stand, and behind them
/// those that were taken back, which come again in the same order.
#[derive(Debug, Default)]
pub struct Stack {
    /// They stand, or were broken off in the middle.
    pub standing: Vec<Run>,
    /// They were taken back, after everything that stands had come.
    pub undone: Vec<Run>,
}

impl Stack {
    /// The changes of a site.
    pub fn of(records: &Records, site: &str) -> Result<Self> {
        let mut stack = Self::default();
        let runs = records.runs_of(site)?;
        let ended: BTreeSet<String> = runs.iter().flat_map(Run::ends).cloned().collect();
        for run in runs.into_iter().rev() {
            match run.state() {
                RunState::InPlace { .. } if ended.contains(&run.header.run) => {}
                RunState::InPlace { direction: Direction::Back, .. } => stack.undone.push(run),
                RunState::InPlace { .. } | RunState::Switching(..) | RunState::Emptied => {
                    // What lies under a later change cannot come again.
                    stack.undone.clear();
                    stack.standing.push(run);
                }
                // A rewriting that was broken off has changed some cells already.
                RunState::Open if run.is_edit() => {
                    stack.undone.clear();
                    stack.standing.push(run);
                }
                RunState::Open | RunState::Closed => {}
            }
        }
        Ok(stack)
    }

    /// What `undo` turns next: the last change that stands; where none does, the first of those
    /// that were taken back comes again.
    pub fn next(&self) -> Option<&Run> {
        self.standing.last().or(self.undone.first())
    }

    /// What must be turned, in this order, so that the site stands as a run has left it.
    pub fn way_to(&self, name: &str) -> Result<Vec<Run>> {
        let place = |runs: &[Run]| runs.iter().position(|run| run.header.run == name);
        if let Some(at) = place(&self.standing) {
            return Ok(self.standing[at + 1..].iter().rev().cloned().collect());
        }
        if let Some(at) = place(&self.undone) {
            return Ok(self.undone[..=at].to_vec());
        }
        Err(Trouble::usage(format!(
            "the site cannot go to the state that run `{name}` left behind"
        ))
        .because("no such run is kept; fernweh undo reaches the state before the oldest one")
        .hint("fernweh runs lists what is kept"))
    }
}

/// What was taken back can come again only as long as nothing else is done to the site.
pub fn taken_back(records: &Records, site: &str) -> Result<Vec<Run>> {
    let is_back =
        |run: &Run| matches!(run.state(), RunState::InPlace { direction: Direction::Back, .. });
    Ok(records.runs_of(site)?.into_iter().filter(is_back).collect())
}

/// Turns an unpacking: the states change places again.
pub fn turn_unpack(
    run: &Run,
    targets: &mut Targets,
    progress: &dyn Progress,
) -> Result<UndoReport> {
    let mut journal = Journal::resume(run)?;
    let (direction, plan, since, before) = match run.state() {
        RunState::InPlace { direction, plan, at, fingerprint } => {
            (opposite(direction), plan, at, Some(fingerprint))
        }
        // A switch that was broken off is taken back.
        RunState::Switching(_, plan) => (Direction::Back, plan, run.header.started.clone(), None),
        _ => {
            discard(&mut journal, targets, progress)?;
            return Err(Trouble::usage("this run had changed nothing and was cleaned up"));
        }
    };
    if before.is_some() {
        check_kept(run, &plan, targets, direction)?;
    }
    let written = match (&mut targets.database, &before) {
        // Where the run did not change the database, nothing of it goes or comes back.
        (Some(target), Some(before)) if plan.database.is_some() => {
            difference(before, &target.fingerprint(&plan.tables)?)
        }
        _ => (Vec::new(), false),
    };
    switch(&mut journal, targets, &plan, direction, progress)?;
    Ok(UndoReport {
        run: run.header.run.clone(),
        command: run.header.command.to_string(),
        direction,
        since,
        written: written.0,
        changed_since: written.1,
        taken_back: None,
    })
}

/// What comes back must be what was kept: a part of it in place would be neither state.
fn check_kept(run: &Run, plan: &Plan, targets: &mut Targets, direction: Direction) -> Result<()> {
    let mut absent = Vec::new();
    if let (Some(target), Some(swap)) = (&mut targets.database, &plan.database) {
        absent.extend(target.absent(swap, direction)?);
    }
    if let (Some(target), Some(swap)) = (&mut targets.files, &plan.files) {
        absent.extend(target.absent(swap, direction)?);
        if let (Some(kept), Some(now), true) =
            (run.kept_files(), kept_files(targets, plan), absent.is_empty())
            && now.files < kept.files
        {
            let gone = counted(kept.files - now.files, "file", "files");
            absent.push(format!("{gone} of {} in {}", kept.files, swap.side.display()));
        }
    }
    if absent.is_empty() {
        return Ok(());
    }
    let site = &run.header.site;
    Err(Trouble::damaged(format!("a part of what is kept of site {site} is missing"))
        .because(format!("missing: {}", absent.join("; ")))
        .hint(format!(
            "somebody removed it: restore it from a backup, or give up this state with fernweh \
             undo {site} --let-go"
        )))
}

/// Turns a rewriting: the old values come back, or the new ones again.
pub fn turn_rewrite(run: &Run, parts: &mut Editors, progress: &dyn Progress) -> Result<UndoReport> {
    let mut journal = Journal::resume(run)?;
    let (direction, since) = match run.state() {
        RunState::InPlace { direction, at, .. } => (opposite(direction), at),
        RunState::Switching(direction, _) => (direction, run.header.started.clone()),
        _ => (Direction::Back, run.header.started.clone()),
    };
    if run.state() == RunState::Open {
        rewrite::broken_off(&run.folder)?;
    }
    journal.step(&Step::Switching { direction, plan: Plan::default() }, progress)?;
    // Broken off at its very beginning it has changed nothing, and noted nothing.
    let complete = matches!(run.state(), RunState::InPlace { .. });
    let nothing = !complete && !rewrite::has_begun(&run.folder);
    let taken_back = match nothing {
        true => TakenBack::default(),
        false => rewrite::turn(&run.folder, direction, parts, progress).map_err(|trouble| {
            trouble.incomplete(format!(
                "some cells may have been changed already; type fernweh undo {} again to finish",
                run.header.site
            ))
        })?,
    };
    let fingerprint = Fingerprint::default();
    journal.step(
        &Step::Done { direction, at: crate::now(), fingerprint, kept: None, kept_files: None },
        progress,
    )?;
    Ok(UndoReport {
        run: run.header.run.clone(),
        command: run.header.command.to_string(),
        direction,
        since,
        written: Vec::new(),
        changed_since: false,
        taken_back: Some(taken_back),
    })
}

/// Gives up what a run keeps safe.
pub fn let_go(run: &Run, targets: &mut Targets, progress: &dyn Progress) -> Result<()> {
    let mut journal = Journal::resume(run)?;
    if let RunState::InPlace { direction, plan, .. } = run.state() {
        if let (Some(target), Some(swap)) = (&mut targets.database, &plan.database) {
            target.let_go(swap, direction)?;
        }
        if let (Some(target), Some(swap)) = (&mut targets.files, &plan.files) {
            target.let_go(swap)?;
        }
    }
    run.clear();
    journal.step(&Step::LetGo, progress)?;
    crate::noted::note(&journal.run()?, targets);
    Ok(())
}

fn opposite(direction: Direction) -> Direction {
    match direction {
        Direction::Forward => Direction::Back,
        Direction::Back => Direction::Forward,
    }
}

fn difference(before: &Fingerprint, now: &Fingerprint) -> (Vec<Written>, bool) {
    let mut written = Vec::new();
    for (table, count) in &now.rows {
        let earlier = before.rows.iter().find(|(name, _)| name == table).map_or(0, |(_, n)| *n);
        if earlier != *count {
            let records = *count as i64 - earlier as i64;
            written.push(Written { table: table.clone(), records });
        }
    }
    (written, before.mark != now.mark)
}
