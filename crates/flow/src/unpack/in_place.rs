//! Unpacking where the old and the new state do not fit side by side: the old one is packed
//! into an archive of the run first, and removed; `undo` unpacks that archive again.
//!
//! The site goes on while it is packed. What is removed is what was packed: tables are compared
//! once more under the lock under which their rows go, and each file right before it goes.

use super::switching::NAMED;
use super::{UnpackOptions, UnpackReport, unpack};
use crate::archive::{ArchiveReader, PieceReader, each_entry};
use crate::journal::{Journal, Run, RunState, SET_ASIDE, Step};
use crate::pack::is_database;
use crate::verify::read_through;
use fernweh_core::digest::half_sha256;
use fernweh_core::record::Entry;
use fernweh_ports::{Fingerprint, Progress, Result, Targets, Trouble};
use std::collections::HashSet;
use std::path::Path;

/// The old state as it was packed.
#[derive(Debug, Default, PartialEq, Eq)]
pub struct Standing {
    /// The database.
    pub database: Fingerprint,
    /// Digests of the entries of its tree.
    pub files: HashSet<[u8; 16]>,
}

impl Standing {
    /// What a run has packed whose removal was broken off.
    pub fn packed(run: &Run) -> Result<Self> {
        let mut standing = Self::default();
        for step in &run.steps {
            if let Step::Clearing { packed } = step {
                standing.database.clone_from(packed);
            }
        }
        let Some(path) = run.set_aside() else { return Ok(standing) };
        let archive = ArchiveReader::open(&path)?;
        if archive.manifest.files.is_some() {
            let mut pieces = PieceReader::new(&archive);
            let read = each_entry(&mut pieces, &mut |entry, _| {
                standing.add(&entry);
                Ok(true)
            });
            let trouble = pieces.trouble.take();
            read.map_err(|error| trouble.unwrap_or(error))?;
        }
        Ok(standing)
    }

    /// Adds an entry of the tree.
    pub fn add(&mut self, entry: &Entry) {
        self.files.insert(digest_of(entry));
    }
}

/// A digest of all that is listed of an entry.
fn digest_of(entry: &Entry) -> [u8; 16] {
    half_sha256(format!("{entry:?}").as_bytes())
}

/// Removes the old state, which has been set aside as it is `standing`, and unpacks the archive.
/// `None`, and nothing is removed, if it has been written to since. From the removal on the site
/// is down; the journal knows. A removal that was broken off goes on with what `standing` knows.
pub fn unpack_in_place(
    options: &UnpackOptions<'_>,
    archive: &ArchiveReader,
    standing: &Standing,
    targets: &mut Targets,
    journal: &mut Journal,
    progress: &dyn Progress,
) -> Result<Option<UnpackReport>> {
    let site = &options.site;
    let empty = |trouble: Trouble| {
        trouble.incomplete(format!(
            "site {site} is empty: its old state is in the run's archive; type the same command \
             again to resume,\nor fernweh undo {site} to restore the old state"
        ))
    };
    let mut written = Vec::new();
    if !journal.run()?.steps.contains(&Step::Cleared) {
        let cleared = clear(options, archive, standing, (targets, journal), progress);
        let is_empty = journal.run()?.state() == RunState::Emptied;
        match cleared.map_err(|trouble| if is_empty { empty(trouble) } else { trouble })? {
            Some(left) => written = left,
            None => return Ok(None),
        }
        journal.step(&Step::Cleared, progress)?;
    }
    let mut report = unpack(options, archive, targets, journal, progress).map_err(empty)?;
    if !written.is_empty() {
        let known = report.came_in_files_count.unwrap_or(0);
        report.came_in_files_count = Some(known + written.len() as u64);
        report.came_in_files.splice(0..0, written.into_iter().take(NAMED));
        report.came_in_files.truncate(NAMED);
    }
    Ok(Some(report))
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
            .map_err(|error| Trouble::file("cannot move the old state aside", &path, &error))?;
    }
    pack(&path)?;
    let archive = ArchiveReader::open(&path)?;
    if let Some(member) = archive.verify(progress)?.first() {
        return Err(Trouble::damaged("the archive of the old state is not what was written")
            .at(path.display().to_string())
            .because(format!("its member {member} is different"))
            .hint("check the disk; nothing has been removed"));
    }
    read_through(&archive, progress)?;
    journal.step(&Step::SetAside, progress)
}

/// Removes the old state, as far as it is what was packed; gives the files that somebody has
/// written in the last moment. They go into the kept state, as everything that comes in later.
/// `None`, and nothing is removed, if the tables were written to.
fn clear(
    options: &UnpackOptions<'_>,
    archive: &ArchiveReader,
    standing: &Standing,
    (targets, journal): (&mut Targets, &mut Journal),
    progress: &dyn Progress,
) -> Result<Option<Vec<String>>> {
    let goes_on = journal.run()?.state() == RunState::Emptied;
    let clearing = Step::Clearing { packed: standing.database.clone() };
    let mut agreed = || if goes_on { Ok(()) } else { journal.step(&clearing, progress) };
    match (&mut targets.database, &archive.manifest.database) {
        (Some(target), Some(_)) => {
            // Of a removal that was broken off, what was written since stays: it will be kept.
            if !target.clear(&standing.database, &mut agreed)? && !goes_on {
                return Ok(None);
            }
        }
        _ => agreed()?,
    }
    match (&mut targets.files, &archive.manifest.files) {
        (Some(target), Some(_)) => {
            let inside = options.inside_files.as_deref();
            let stays = |path: &[u8]| options.keep.hold(path) || is_database(path, inside);
            let is_packed = |entry: &Entry| standing.files.contains(&digest_of(entry));
            Ok(Some(target.clear(&stays, &is_packed)?))
        }
        _ => Ok(Some(Vec::new())),
    }
}
