//! Unpacking where the old and the new state do not fit side by side: the old one is packed
//! into an archive of the run first, and removed; `undo` unpacks that archive again.

use super::{UnpackOptions, UnpackReport, tables_of, unpack};
use crate::archive::ArchiveReader;
use crate::journal::{Journal, RunState, SET_ASIDE, Step};
use crate::pack::is_database;
use crate::verify::read_through;
use fernweh_ports::{Progress, Result, Targets, Trouble};
use std::path::Path;

/// Removes the old state, which has been set aside, and unpacks the archive. From the removal
/// on the site is down; the journal knows.
pub fn unpack_in_place(
    options: &UnpackOptions<'_>,
    archive: &ArchiveReader,
    targets: &mut Targets,
    journal: &mut Journal,
    progress: &dyn Progress,
) -> Result<UnpackReport> {
    if journal.run()?.state() != RunState::Emptied {
        journal.step(&Step::Clearing, progress)?;
    }
    let site = &options.site;
    let empty = |trouble: Trouble| {
        trouble.incomplete(format!(
            "site {site} is empty: its old state is in the run's archive; type the same command \
             again to go on,\nor fernweh undo {site} to bring the old state back"
        ))
    };
    if !journal.run()?.steps.contains(&Step::Cleared) {
        clear(options, archive, targets).map_err(empty)?;
        journal.step(&Step::Cleared, progress)?;
    }
    unpack(options, archive, targets, journal, progress).map_err(empty)
}

/// Packs the old state with `pack`, and reads every byte of the archive again. Whatever reads
/// the old state must be closed before it is removed.
pub fn set_aside(
    journal: &mut Journal,
    progress: &dyn Progress,
    pack: &mut dyn FnMut(&Path) -> Result<()>,
) -> Result<()> {
    let path = journal.folder().join(SET_ASIDE);
    if path.exists() {
        std::fs::remove_file(&path)
            .map_err(|error| Trouble::file("cannot set the old state aside", &path, &error))?;
    }
    pack(&path)?;
    let archive = ArchiveReader::open(&path)?;
    if let Some(member) = archive.verify(progress)?.first() {
        return Err(Trouble::damaged("the archive of the old state is not what was written")
            .at(path.display().to_string())
            .because(format!("its member {member} reads otherwise"))
            .hint("check the disk; nothing has been removed"));
    }
    read_through(&archive, progress)?;
    journal.step(&Step::SetAside, progress)
}

fn clear(
    options: &UnpackOptions<'_>,
    archive: &ArchiveReader,
    targets: &mut Targets,
) -> Result<()> {
    if let (Some(target), Some(about)) = (&mut targets.database, &archive.manifest.database) {
        let tables: Vec<String> =
            tables_of(options, about).into_iter().map(|(_, name)| name).collect();
        target.clear(&tables)?;
    }
    if let (Some(target), Some(_)) = (&mut targets.files, &archive.manifest.files) {
        let inside = options.inside_files.as_deref();
        target.clear(&|path| options.keep.hold(path) || is_database(path, inside))?;
    }
    Ok(())
}
