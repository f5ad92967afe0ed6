//! What becomes of an earlier run of the site: completed, gone on with, or cleaned up.

use super::switching::{HALF, Wanted, switch_with};
use super::{OnBadRecord, UnpackOptions, tables_of};
use crate::archive::ArchiveReader;
use crate::identity::{RulesIdentity, identity as digest_of};
use crate::journal::{Journal, Operation, Records, Run, RunState, SET_ASIDE, Step};
use crate::patterns::Patterns;
use fernweh_core::archive::SealedMember;
use fernweh_ports::{Direction, Halves, Progress, Result, Targets, Trouble};
use serde::Serialize;

/// Completes a run of this site that was broken off in the middle of its switch, or
/// cleans up one that had not come so far, unless the same command can go on with it. The
/// run `superseded` is left alone; `mark` and `input` are those of the command that is typed, and
/// `carried_over` what it carries over of the present files.
pub fn settle_earlier(
    records: &Records,
    site: &str,
    (mark, input): (&str, &str),
    superseded: Option<&str>,
    targets_of: &mut dyn FnMut(&Run) -> Result<Targets>,
    carried_over: Option<Wanted<'_>>,
    progress: &dyn Progress,
) -> Result<Earlier> {
    let mut earlier = Earlier::None;
    for run in records.runs_of(site)? {
        if !run.builds() || !run.is_unfinished() {
            continue;
        }
        if superseded == Some(run.header.run.as_str()) {
            continue;
        }
        let emptied = run.state() == RunState::Emptied;
        if emptied && run.header.mark != mark {
            return Err(Trouble::usage(format!("site {site} is empty"))
                .because(format!(
                    "{} of {} removed its old state and was interrupted",
                    run.header.command, run.header.started
                ))
                .hint(format!(
                    "type that command again to resume, or fernweh undo {site} to restore the \
                     old state"
                )));
        }
        let same = run.header.mark == mark && matches!(earlier, Earlier::None);
        if same && (emptied || run.takes_rows()) {
            earlier = Earlier::GoesOn(Box::new(run));
            continue;
        }
        let mut targets = targets_of(&run)?;
        let mut journal = Journal::resume(&run)?;
        match run.state() {
            RunState::Switching(direction, plan) => {
                let same = run.header.mark == mark
                    || run.header.mark.starts_with(FOLLOWED) && run.header.input == input;
                // Visitors may have written into what is carried over since it was broken off.
                let wanted = carried_over.filter(|_| same && direction == Direction::Forward);
                let carried_over = match (&mut targets.files, &plan.files, wanted) {
                    (Some(files), Some(swap), Some(wanted)) => {
                        files.take_up(swap, wanted)?.then_some(wanted)
                    }
                    _ => None,
                };
                switch_with(&mut journal, &mut targets, &plan, direction, progress, carried_over)
                    .map_err(|trouble| trouble.incomplete(HALF))?;
                if direction == Direction::Forward && !same {
                    return Err(other_completed(site, &run));
                }
                earlier = Earlier::Completed(direction);
            }
            _ => discard(&mut journal, &mut targets, progress)?,
        }
    }
    Ok(earlier)
}

/// Removes what previews of this site have left that were killed.
pub fn settle_previews(
    records: &Records,
    site: &str,
    targets_of: &mut dyn FnMut(&Run) -> Result<Targets>,
    progress: &dyn Progress,
) -> Result<()> {
    for run in records.runs_of(site)? {
        if run.header.command == Operation::Preview && run.state() == RunState::Open {
            discard(&mut Journal::resume(&run)?, &mut targets_of(&run)?, progress)?;
        }
    }
    Ok(())
}

/// Another unpacking was in the middle of its switch. It had to be completed, and nobody asked for
/// that: what was asked for is not begun over a state that the user does not know of.
fn other_completed(site: &str, run: &Run) -> Trouble {
    Trouble::interrupted(format!(
        "an interrupted unpacking of site {site} had to be completed \
                     first"
    ))
    .because(format!(
        "{} of {} was interrupted in the middle of its switch",
        run.header.command, run.header.started
    ))
    .incomplete(format!(
        "what it unpacked ({}) is in place now; type the same command again to replace it, \
             or fernweh undo {site} to go back first",
        run.header.input
    ))
}

/// What became of an earlier run of a site.
#[derive(Debug)]
pub enum Earlier {
    /// There was none, or it was cleaned up.
    None,
    /// It was completed, this way.
    Completed(Direction),
    /// The same command goes on with it.
    GoesOn(Box<Run>),
}

/// What tells the same unpacking from any other: the content of the archive, and what is done
/// with it. Only its digest is kept; the version changes with the meaning of a field.
#[derive(Serialize)]
struct Identity<'a> {
    version: u32,
    halves: Halves,
    /// Tables by their names in the archive and at the destination.
    tables: Vec<(String, String)>,
    files: Option<&'a [String]>,
    prefix: Option<(&'a str, &'a str)>,
    prefix_in: &'a [String],
    rows_only: bool,
    on_bad_record: OnBadRecord,
    keep: &'a [String],
    outside_links: bool,
    rules: RulesIdentity<'a>,
    /// Names, sizes and digests of what the archive holds.
    members: Vec<&'a SealedMember>,
}

/// How the mark of a run begins that followed its archive.
const FOLLOWED: &str = "followed ";

/// By what the same command knows its own unfinished run again. An archive that is followed
/// while it is written is like no other.
pub fn mark(
    options: &UnpackOptions<'_>,
    archive: &ArchiveReader,
    halves: Halves,
) -> Result<String> {
    if archive.is_growing() {
        return Ok(format!("{FOLLOWED}{}", crate::now()));
    }
    let seal = archive.seal()?;
    let database = archive.manifest.database.iter();
    let part = &options.part;
    let identity = Identity {
        version: 1,
        halves,
        tables: database.flat_map(|about| tables_of(options, about)).collect(),
        files: part.files.as_ref().map(Patterns::texts),
        prefix: part.prefix.as_ref().map(|prefix| (prefix.old.as_str(), prefix.new.as_str())),
        prefix_in: &part.prefix_in,
        rows_only: part.rows_only,
        on_bad_record: options.on_bad_record,
        keep: options.keep.texts(),
        outside_links: options.outside_links,
        rules: RulesIdentity::of(options.rewriter),
        members: seal.members.iter().filter(|member| member.name != "fernweh.json").collect(),
    };
    digest_of(&identity)
}

/// Cleans up a run that was not switched.
pub fn discard(
    journal: &mut Journal,
    targets: &mut Targets,
    progress: &dyn Progress,
) -> Result<()> {
    if let Some(target) = &mut targets.database {
        target.discard()?;
    }
    if let Some(target) = &mut targets.files {
        target.discard()?;
    }
    if journal.run()?.state() == RunState::Open {
        // The old state stands; its archive is of no use.
        let _ = std::fs::remove_file(journal.folder().join(SET_ASIDE));
    }
    journal.step(&Step::Discarded, progress)
}
