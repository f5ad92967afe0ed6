//! What becomes of an earlier run of the site: completed, gone on with, or cleaned up.

use super::{Targets, UnpackOptions, Work, switch, tables_of};
use crate::archive::ArchiveReader;
use crate::journal::{Journal, Records, Run, SET_ASIDE, State, Step};
use crate::patterns::Patterns;
use fernweh_core::digest::sha256;
use fernweh_ports::{Direction, Result, Trouble, Watch};

/// Completes a run of this site that was broken off in the middle of its switch, or
/// cleans up one that had not come so far, unless the same command can go on with it. The
/// run `superseded` is left alone.
pub fn settle_earlier(
    records: &Records,
    site: &str,
    mark: &str,
    superseded: Option<&str>,
    connect: &mut dyn FnMut(&Run, Work<'_>) -> Result<()>,
    watch: &dyn Watch,
) -> Result<Earlier> {
    let mut earlier = Earlier::None;
    for run in records.runs_of(site)? {
        if !run.builds() || !run.is_unfinished() {
            continue;
        }
        if superseded == Some(run.header.run.as_str()) {
            continue;
        }
        let emptied = run.state() == State::Emptied;
        if emptied && run.header.mark != mark {
            return Err(Trouble::usage(format!("site {site} is empty"))
                .because(format!(
                    "{} of {} removed its old state and was broken off",
                    run.header.command, run.header.started
                ))
                .hint(format!(
                    "type that command again to go on, or fernweh undo {site} to bring the old \
                     state back"
                )));
        }
        let same = run.header.mark == mark && matches!(earlier, Earlier::None);
        if same && (emptied || run.takes_rows()) {
            earlier = Earlier::GoesOn(Box::new(run));
            continue;
        }
        connect(&run, &mut |targets| {
            let mut journal = Journal::resume(&run)?;
            match run.state() {
                State::Switching(direction, plan) => {
                    switch(&mut journal, targets, &plan, direction, watch)?;
                    earlier = Earlier::Completed(direction);
                }
                _ => discard(&mut journal, targets, watch)?,
            }
            Ok(())
        })?;
    }
    Ok(earlier)
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
/// with it. An archive that is followed while it is written is like no other.
pub fn mark(
    options: &UnpackOptions<'_>,
    archive: &ArchiveReader,
    halves: (bool, bool),
) -> Result<String> {
    if archive.is_growing() {
        return Ok(format!("followed {}", crate::now()));
    }
    let seal = archive.seal()?;
    let members: Vec<_> =
        seal.members.iter().filter(|member| member.name != "fernweh.json").collect();
    let database = archive.manifest.database.iter();
    let tables: Vec<_> = database.flat_map(|about| tables_of(options, about)).collect();
    let part = &options.part;
    let files = part.files.as_ref().map(Patterns::texts);
    let prefix = part.prefix.as_ref().map(|prefix| (&prefix.old, &prefix.new));
    let whole = format!(
        "{halves:?} {tables:?} {files:?} {prefix:?} {:?} {} {:?} {:?} {} {:?} {members:?}",
        part.prefix_in,
        part.rows_only,
        options.on_bad_record,
        options.keep.texts(),
        options.outside_links,
        (options.rewriter.rules(), options.rewriter.ways()),
    );
    Ok(sha256(whole.as_bytes()))
}

/// Cleans up a run that was not switched.
pub fn discard(journal: &mut Journal, targets: &mut Targets<'_>, watch: &dyn Watch) -> Result<()> {
    if let Some(target) = &mut targets.database {
        target.discard()?;
    }
    if let Some(target) = &mut targets.files {
        target.discard()?;
    }
    if journal.run()?.state() == State::Open {
        // The old state stands; its archive is of no use.
        let _ = std::fs::remove_file(journal.folder().join(SET_ASIDE));
    }
    journal.step(&Step::Discarded, watch)
}
