//! The files of a site → pieces of an archive.
//!
//! Nobody stops while they are read. A file that is small enough is packed as it was at one
//! moment; of one that was changed only moments before, it is asked once more at the end whether
//! it still is what was read: its writer may have been halted half-way.

use super::{PackOptions, PackReport};
use crate::archive::{ArchiveWriter, PieceWriter};
use fernweh_core::archive::Seal;
use fernweh_core::entries::EntryList;
use fernweh_core::limits;
use fernweh_core::record::{Entry, EntryKind};
use fernweh_core::settings::{self, Role};
use fernweh_ports::{
    FileSource, Held, LeftOut, Progress, Result, SETTLED, Stamp, Trouble, Unit, WholeFile, counted,
    in_turn, read_whole,
};
use std::collections::HashMap;
use std::io::Read;
use std::path::Path;

/// Packs every file, folder and link that is not left out.
pub(super) fn pack_files(
    options: &PackOptions<'_>,
    source: &mut dyn FileSource,
    archive: &mut ArchiveWriter,
    seal: &mut Seal,
    report: &mut PackReport,
    progress: &dyn Progress,
) -> Result<()> {
    let inside = options.inside_files.as_deref();
    let asked = std::cell::RefCell::new(Vec::new());
    let enter = |path: &[u8]| {
        let leave = options.leave_out.hold(path);
        if leave {
            asked.borrow_mut().push(String::from_utf8_lossy(path).into_owned());
        }
        !leave && !is_database(path, inside)
    };
    let mut entries = EntryList::default();
    let mut total = 0;
    progress.stage("files", None, Unit::Bytes);
    report.left_out = source.walk(&enter, &mut |entry| {
        if let EntryKind::File(size) = entry.kind {
            total += size;
        }
        entries.push(entry);
        Ok(())
    })?;
    report.left_out_as_asked = asked.take();
    progress.stage("files", Some(total), Unit::Bytes);
    let mut pieces = PieceWriter::new(archive);
    let mut unsettled = Vec::new();
    let mut linked = Linked::default();
    in_turn(source, &entries, |source, mut entry| {
        progress.go_on()?;
        match &entry.kind {
            EntryKind::Folder => {
                seal.folders += 1;
                pieces.add(&entry, &mut std::io::empty())?;
            }
            EntryKind::Link(target) => {
                if !options.outside_links && leads_out(&entry.path, target) {
                    report.left_out.push(LeftOut {
                        path: entry.shown(),
                        because: format!(
                            "a link that points out of the site, to {}",
                            String::from_utf8_lossy(target)
                        ),
                    });
                    return Ok(());
                }
                seal.links += 1;
                pieces.add(&entry, &mut std::io::empty())?;
            }
            EntryKind::HardLink(_) => {}
            EntryKind::File(_) => {
                if let Some(further) = linked.further_name(&entry, source)? {
                    seal.links += 1;
                    return pieces.add(&further, &mut std::io::empty());
                }
                let packed = pack_file(&mut entry, source, &mut pieces, report, progress)?;
                let Some(Packed { stamp, settled }) = packed else { return Ok(()) };
                seal.files += 1;
                seal.file_bytes += stamp.size;
                linked.add(&entry, stamp, report);
                if !settled {
                    unsettled.push((entry.path, stamp));
                }
            }
        }
        Ok(())
    })?;
    pieces.finish()?;
    look_again(source, unsettled, report)?;
    progress.done(&format!("read {}", counted(seal.files, "file", "files")));
    Ok(())
}

/// Files of several names: the first name is packed with the content, the others as names of it.
#[derive(Default)]
struct Linked(HashMap<(u64, u64), (Vec<u8>, Stamp)>);

impl Linked {
    /// Remembers a file that was packed.
    fn add(&mut self, entry: &Entry, stamp: Stamp, report: &mut PackReport) {
        let Some(names) = entry.extra.names else { return };
        if self.0.len() < limits::LINKED_FILES {
            self.0.insert(names, (entry.path.clone(), stamp));
        } else if self.0.len() == limits::LINKED_FILES {
            let many = LeftOut::new(
                "hard links",
                "there are too many; some are packed as \
                             separate files",
            );
            if !report.left_out.contains(&many) {
                report.left_out.push(many);
            }
        }
    }

    /// The entry as a further name of a file that was packed, if it still is one: a program may
    /// have put another file in its place since the tree was walked.
    fn further_name(&self, entry: &Entry, source: &mut dyn FileSource) -> Result<Option<Entry>> {
        let known = entry.extra.names.and_then(|names| self.0.get(&names));
        let Some((first, stamp)) = known else { return Ok(None) };
        let same = source.look(&entry.path)?.is_some_and(|now| now.is_same(stamp));
        Ok(same.then(|| Entry { kind: EntryKind::HardLink(first.clone()), ..entry.clone() }))
    }
}

/// A file that was packed.
struct Packed {
    /// What it was when it was read.
    stamp: Stamp,
    /// Whether it had been left alone for a while, or is named already.
    settled: bool,
}

/// Names those of the files that were changed only moments before they were read, and are not any
/// more what was read.
fn look_again(
    source: &mut dyn FileSource,
    unsettled: Vec<(Vec<u8>, Stamp)>,
    report: &mut PackReport,
) -> Result<()> {
    if !unsettled.is_empty() {
        std::thread::sleep(SETTLED);
    }
    for (path, read) in unsettled {
        if source.look(&path)?.is_some_and(|now| !now.is_same(&read)) {
            report.changed.push(String::from_utf8_lossy(&path).into_owned());
        }
    }
    Ok(())
}

/// Adds one file as it is now, and tells what it was. One that is small enough is held whole, and is
/// of one moment; a larger one that changes while it is read is named. One that has gone since
/// the tree was walked is named, too.
fn pack_file(
    entry: &mut Entry,
    source: &mut dyn FileSource,
    pieces: &mut PieceWriter<'_>,
    report: &mut PackReport,
    progress: &dyn Progress,
) -> Result<Option<Packed>> {
    let EntryKind::File(listed) = entry.kind else { return Ok(None) };
    let held = match listed <= limits::HELD_FILE {
        true => read_whole(source, &entry.path, limits::HELD_FILE)
            .map_err(|trouble| unreadable(entry, &trouble))?,
        false => Held::TooLarge,
    };
    if let Held::Whole(WholeFile { bytes, stamp, changed, settled }) = held {
        as_it_is(entry, stamp);
        progress.advance(stamp.size);
        if holds_settings(&bytes) {
            report.settings.push(entry.shown());
        }
        if changed {
            report.changed.push(entry.shown());
        }
        pieces.add(entry, &mut bytes.as_slice())?;
        return Ok(Some(Packed { stamp, settled: settled || changed }));
    }
    let opened = match held {
        Held::TooLarge => {
            source.open(&entry.path).map_err(|trouble| unreadable(entry, &trouble))?
        }
        _ => None,
    };
    let Some(mut file) = opened else {
        report.left_out.push(LeftOut::vanished(&entry.path));
        return Ok(None);
    };
    let stamp = file.opened();
    as_it_is(entry, stamp);
    let mut exact = Exact { content: &mut *file, left: stamp.size, short: false, progress };
    pieces.add(entry, &mut exact)?;
    let cut = exact.short;
    let changed = cut || !file.now()?.is_none_or(|now| now.is_same(&stamp));
    if changed {
        report.changed.push(entry.shown());
    }
    Ok(Some(Packed { stamp, settled: changed || file.is_settled() }))
}

fn as_it_is(entry: &mut Entry, stamp: Stamp) {
    entry.kind = EntryKind::File(stamp.size);
    if let Some((seconds, nanos)) = stamp.mtime {
        (entry.mtime, entry.nanos) = (seconds, nanos);
    }
}

fn unreadable(entry: &Entry, trouble: &Trouble) -> Trouble {
    let because = trouble.because.clone().unwrap_or_else(|| trouble.what.clone());
    Trouble::outside("cannot read a file of the site")
        .at(entry.shown())
        .because(because)
        .hint("make it readable, or leave it out with --leave-out")
        .lost(trouble.lost)
}

/// Whether a file holds connection settings: a password, or the place of a database file.
pub(crate) fn holds_settings(bytes: &[u8]) -> bool {
    let found = match bytes.len() as u64 <= limits::SETTINGS_FILE {
        true => settings::find(bytes),
        false => Vec::new(),
    };
    found.iter().flat_map(|connection| &connection.settings).any(|setting| match setting.role {
        Role::Password => !setting.value.is_empty(),
        role => role == Role::File,
    })
}

/// Gives exactly as many bytes as announced, even if the file changes underneath.
struct Exact<'a> {
    content: &'a mut dyn Read,
    left: u64,
    short: bool,
    progress: &'a dyn Progress,
}

impl Read for Exact<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> std::io::Result<usize> {
        let room = buffer.len().min(usize::try_from(self.left).unwrap_or(usize::MAX));
        let mut length = if self.short { 0 } else { self.content.read(&mut buffer[..room])? };
        if length == 0 && room > 0 {
            self.short = true;
            buffer[..room].fill(0);
            length = room;
        }
        self.left -= length as u64;
        self.progress.advance(length as u64);
        Ok(length)
    }
}

/// Whether a path is that of the database file inside the tree, or of its companions.
pub(crate) fn is_database(path: &[u8], inside: Option<&str>) -> bool {
    let rest = inside.and_then(|inside| path.strip_prefix(inside.as_bytes()));
    rest.is_some_and(|rest| [&b""[..], b"-wal", b"-shm", b"-journal"].contains(&rest))
}

/// Whether a link at `path` points out of the tree.
pub(crate) fn leads_out(path: &[u8], target: &[u8]) -> bool {
    use std::ffi::OsStr;
    use std::os::unix::ffi::OsStrExt;
    use std::path::Component;
    let mut depth = Path::new(OsStr::from_bytes(path)).components().count() as i64 - 1;
    for part in Path::new(OsStr::from_bytes(target)).components() {
        match part {
            Component::Normal(_) => depth += 1,
            Component::ParentDir => depth -= 1,
            Component::CurDir => {}
            Component::RootDir | Component::Prefix(_) => return true,
        }
        if depth < 0 {
            return true;
        }
    }
    false
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn links_out_of_the_tree_are_told_from_those_inside() {
        assert!(leads_out(b"a", b"/etc/passwd"));
        assert!(leads_out(b"a", b"../x"));
        assert!(leads_out(b"a/b", b"../../x"));
        assert!(leads_out(b"a/b", b"c/../../../a/b"));
        assert!(!leads_out(b"a/b", b"../c"));
        assert!(!leads_out(b"a", b"b/c"));
    }

    #[test]
    fn the_database_file_and_its_companions_are_packed_once() {
        assert!(is_database(b"data/site.db", Some("data/site.db")));
        assert!(is_database(b"data/site.db-wal", Some("data/site.db")));
        assert!(!is_database(b"data/site.db2", Some("data/site.db")));
        assert!(!is_database(b"data/site.db", None));
    }
}
