//! The switch: what is carried over is brought up to date, the states change places, and what came in
//! meanwhile is named. A switch that fails goes back by itself.

use super::{UnpackOptions, UnpackReport};
use crate::journal::{Journal, Plan, Step};
use fernweh_ports::{
    Amount, CameIn, Direction, Progress, Result, TableMark, Targets, Trouble, TroubleKind,
};

/// Files that are named of those that came in.
pub(super) const NAMED: usize = 20;

/// What came in while the new state was built. That is in the kept state, whether anybody can
/// tell or not: not to know it is no error.
pub(super) fn came_in(
    report: &mut UnpackReport,
    targets: &mut Targets,
    plan: &Plan,
    (marks, began): (&[TableMark], std::time::SystemTime),
) {
    if let (Some(target), Some(swap)) = (&mut targets.database, &plan.database) {
        report.came_in = target.came_in(swap, marks).unwrap_or_else(|_| {
            let unknown =
                |mark: &TableMark| CameIn { table: mark.table.clone(), records: 0, changed: None };
            marks.iter().map(unknown).collect()
        });
        report.came_in.retain(CameIn::is_something);
    }
    if let (Some(target), Some(swap)) = (&mut targets.files, &plan.files)
        && swap.had_old
    {
        match target.came_in(swap, began, NAMED).ok().flatten() {
            Some((names, count)) => {
                report.came_in_files = names;
                report.came_in_files_count = Some(count);
            }
            None => report.came_in_files_unknown = true,
        }
    }
}

/// What is in place of a switch that failed, and what to do.
pub(super) const HALF: &str = "the switch is not complete; type the same command again to \
                 complete it, or fernweh undo to go back";

/// A switch that failed goes back by itself, so that nothing has changed; what was built stays,
/// and the same command makes the switch later. Whoever asked to stop, or whose connection was
/// lost, goes on or back later.
pub(super) fn back_again(
    targets: &mut Targets,
    plan: &Plan,
    progress: &dyn Progress,
    trouble: Trouble,
) -> Trouble {
    if trouble.lost || trouble.kind == TroubleKind::Interrupted {
        return trouble.incomplete(HALF);
    }
    let mut back = || -> Result<()> {
        if let (Some(target), Some(swap)) = (&mut targets.database, &plan.database) {
            target.switch(swap, Direction::Back, progress)?;
        }
        if let (Some(target), Some(swap)) = (&mut targets.files, &plan.files) {
            target.switch(swap, Direction::Back)?;
        }
        Ok(())
    };
    match back() {
        Ok(()) => trouble.incomplete(
            "nothing was changed; type the same command again to complete it, or fernweh undo to \
             give it up",
        ),
        Err(_) => trouble.incomplete(HALF),
    }
}

/// Whether anything of the present files is carried over.
pub(crate) fn has_carried_over(options: &UnpackOptions<'_>) -> bool {
    options.part.files.is_none() && !options.keep.is_empty()
}

/// Which of the present files are carried over into the new state.
pub(crate) fn carried_over<'a>(options: &'a UnpackOptions<'_>) -> impl Fn(&[u8]) -> bool + 'a {
    let inside = options.inside_files.as_deref();
    move |path| options.keep.hold(path) && !crate::pack::is_database(path, inside)
}

/// Says of a path whether it is meant.
pub(super) type Wanted<'a> = &'a dyn Fn(&[u8]) -> bool;

/// How often what is carried over is brought up to date before it is said to move on and on.
const ROUNDS: usize = 3;

/// What is carried over is looked at again right before the switch: visitors write into it while
/// the new state is built.
pub(super) fn hold_still(options: &UnpackOptions<'_>, targets: &mut Targets) -> Result<()> {
    let Some(target) = &mut targets.files else { return Ok(()) };
    if !has_carried_over(options) {
        return Ok(());
    }
    for _ in 0..ROUNDS {
        if target.catch_up(&carried_over(options))? == 0 {
            return Ok(());
        }
    }
    Err(Trouble::outside("the files that are kept (keep) change all the time")
        .at(target.place())
        .because(format!("they changed each of the {ROUNDS} times that they were copied"))
        .hint("stop what writes to them for a moment, or remove them from keep"))
}

/// Puts everything in place. Doing it twice, or after a break, gives the same.
pub fn switch(
    journal: &mut Journal,
    targets: &mut Targets,
    plan: &Plan,
    direction: Direction,
    progress: &dyn Progress,
) -> Result<()> {
    switch_with(journal, targets, plan, direction, progress, None)
        .map_err(|trouble| trouble.incomplete(HALF))
}

/// What the kept files take, if that is known.
pub(crate) fn kept_files(targets: &mut Targets, plan: &Plan) -> Option<Amount> {
    let (Some(target), Some(swap)) = (&mut targets.files, &plan.files) else { return None };
    target.kept_amount(swap).ok().flatten()
}

/// Bytes that the other state takes. The switch is made: that nobody can tell is no error.
fn kept_bytes(
    targets: &mut Targets,
    plan: &Plan,
    direction: Direction,
    files: Option<Amount>,
) -> Option<u64> {
    let database = match (&mut targets.database, &plan.database) {
        (Some(target), Some(swap)) => target.kept_bytes(swap, direction).ok().flatten()?,
        _ => 0,
    };
    match plan.files.is_some() {
        true => Some(database + files?.bytes),
        false => Some(database),
    }
}

/// The same; what was `carried_over` into the new files is brought up to date once more when the
/// database is in place.
pub(super) fn switch_with(
    journal: &mut Journal,
    targets: &mut Targets,
    plan: &Plan,
    direction: Direction,
    progress: &dyn Progress,
    carried_over: Option<Wanted<'_>>,
) -> Result<()> {
    journal.step(&Step::Switching { direction, plan: plan.clone() }, progress)?;
    if let (Some(target), Some(swap)) = (&mut targets.database, &plan.database) {
        target.switch(swap, direction, progress)?;
        progress.reached("database-in-place");
        journal.step(&Step::DatabaseSwitched, progress)?;
    }
    if let (Some(target), Some(swap)) = (&mut targets.files, &plan.files) {
        if let Some(carried_over) = carried_over {
            target.catch_up(carried_over)?;
        }
        if let Some(keeper) = &mut targets.keeper {
            keeper.hold()?;
        }
        target.switch(swap, direction)?;
        if let Some(keeper) = &mut targets.keeper {
            keeper.release();
        }
        progress.reached("files-in-place");
        journal.step(&Step::FilesSwitched, progress)?;
    }
    let mut fingerprint = match &mut targets.database {
        Some(target) if plan.database.is_some() => target.fingerprint(&plan.tables)?,
        _ => fernweh_ports::Fingerprint::default(),
    };
    let is_first = !journal.run()?.steps.iter().any(|step| matches!(step, Step::Done { .. }));
    if is_first && direction == Direction::Forward {
        for (table, rows) in &mut fingerprint.rows {
            let built = plan.built.iter().find(|(name, _)| name == table);
            *rows = built.map_or(*rows, |(_, rows)| *rows);
        }
    }
    let files = kept_files(targets, plan);
    let kept = kept_bytes(targets, plan, direction, files);
    let at = crate::now();
    journal.step(&Step::Done { direction, at, fingerprint, kept, kept_files: files }, progress)?;
    crate::noted::note(&journal.run()?, targets);
    Ok(())
}
