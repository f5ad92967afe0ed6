//! Site → archive.

mod blocks;
mod options;
mod rows;

pub(crate) use blocks::Blocks;
pub use options::{PackOptions, PackReport};
use rows::PackRows;

use crate::archive::{ArchiveWriter, Checkpoint, Expected, Partial, PieceWriter};
use fernweh_core::archive::{DatabaseManifest, FORMAT, FilesManifest, Manifest, Member, Seal};
use fernweh_core::entries::EntryList;
use fernweh_core::limits;
use fernweh_core::record::{Entry, EntryKind, Table, is_of_engine};
use fernweh_core::settings::{self, Role};
use fernweh_core::sql::{Statement, is_same_structure, left_behind, write_structure};
use fernweh_ports::{
    Counting, DatabaseSource, FileSource, Held, LeftOut, Progress, Result, Stamp, Structure,
    Trouble, TroubleKind, Unit, WholeFile, counted, in_turn, read_whole,
};
use std::io::Read;
use std::path::Path;

/// Packs a site.
pub fn pack(
    options: &PackOptions<'_>,
    database: Option<&mut dyn DatabaseSource>,
    files: Option<&mut dyn FileSource>,
    progress: &dyn Progress,
) -> Result<PackReport> {
    let (path, level) = (&options.archive, options.level);
    let (mut archive, partial) = match (&options.follower, options.go_on) {
        (_, true) => ArchiveWriter::go_on(path, level)?,
        (Some(member_index), false) => {
            (ArchiveWriter::create_followed(path, level, member_index.clone())?, None)
        }
        (None, false) => (ArchiveWriter::create(path, level)?, None),
    };
    match fill(options, database, files, &mut archive, partial, progress) {
        Ok((seal, mut report)) => {
            report.size = archive.seal(seal)?;
            Ok(report)
        }
        Err(trouble) if trouble.lost || trouble.kind == TroubleKind::Interrupted => {
            let Some(again) = &options.again else { return Err(trouble) };
            archive.keep();
            Err(trouble.incomplete(format!("nothing was changed; to go on from here: {again}")))
        }
        Err(trouble) => {
            if options.go_on {
                archive.keep();
            }
            Err(trouble)
        }
    }
}

fn fill(
    options: &PackOptions<'_>,
    mut database: Option<&mut dyn DatabaseSource>,
    files: Option<&mut dyn FileSource>,
    archive: &mut ArchiveWriter,
    partial: Option<Partial>,
    progress: &dyn Progress,
) -> Result<(Seal, PackReport)> {
    let mut report =
        PackReport { archive: options.archive.display().to_string(), ..PackReport::default() };
    let mut seal = Seal::default();
    let mut structure = Structure::default();
    let manifest = Manifest {
        format: FORMAT,
        program: options.program.clone(),
        site: options.site.clone(),
        url: options.url.clone(),
        root: options.root.clone(),
        created: crate::now(),
        database: match &mut database {
            Some(source) => Some(describe(options, *source, &mut structure, &mut report)?),
            None => None,
        },
        files: files
            .as_ref()
            .map(|_| FilesManifest { left_out: options.leave_out.texts().to_vec() }),
    };
    let mut part = None;
    match partial {
        Some(partial) => {
            check_same(&manifest, &structure, &partial)?;
            (seal.rows, seal.breaks, part) = (partial.rows, partial.breaks, partial.part);
            seal.breaks.push(crate::now());
        }
        None => {
            let text = serde_json::to_vec_pretty(&manifest).unwrap_or_default();
            archive.add(Member::Manifest, text)?;
            if let Some(about) = &manifest.database {
                let sql = write_structure(about.dialect, &structure.before);
                archive.add(Member::Structure, sql)?;
            }
        }
    }
    archive
        .checkpoint(Checkpoint { anew: seal.breaks.last().cloned(), ..Checkpoint::default() })?;
    progress.reached("begun");
    if let (Some(source), Some(about)) = (database, &manifest.database) {
        progress.stage("database", Some(report.records), Unit::Records);
        if let Some(member_index) = &options.follower {
            member_index.expect(Expected { rows: Some(report.records), file_bytes: None });
        }
        let mut packing =
            PackRows { options, about, structure: &structure, archive, progress, part };
        packing.all(source, &mut seal)?;
        report.records = site_rows(&seal);
    }
    if let Some(source) = files {
        pack_files(options, source, archive, &mut seal, &mut report, progress)?;
    }
    if manifest.database.is_none() {
        seal.breaks.clear();
    }
    report.breaks.clone_from(&seal.breaks);
    seal.settings.clone_from(&report.settings);
    (report.files, report.folders) = (seal.files, seal.folders);
    (report.links, report.file_bytes) = (seal.links, seal.file_bytes);
    Ok((seal, report))
}

/// What is gone on with must be what it was.
fn check_same(manifest: &Manifest, structure: &Structure, partial: &Partial) -> Result<()> {
    let other = |what: &str| {
        Trouble::usage("this archive cannot be continued")
            .because(what)
            .hint("pack anew, without --continue, into another file")
    };
    let halves = |manifest: &Manifest| (manifest.database.is_some(), manifest.files.is_some());
    if partial.manifest.site != manifest.site || halves(&partial.manifest) != halves(manifest) {
        return Err(other("it was begun for another site, or with other options"));
    }
    let (Some(now), Some(then)) = (&manifest.database, &partial.manifest.database) else {
        return Ok(());
    };
    let tables = (&now.tables, &now.without_rows) == (&then.tables, &then.without_rows);
    let sql = write_structure(now.dialect, &structure.before);
    let same = partial
        .structure
        .as_ref()
        .is_some_and(|structure| is_same_structure(now.dialect, structure, &sql));
    if !tables || !same {
        return Err(other(
            "the structure of the database, or which tables are packed, has changed",
        ));
    }
    Ok(())
}

fn describe(
    options: &PackOptions<'_>,
    source: &mut dyn DatabaseSource,
    structure: &mut Structure,
    report: &mut PackReport,
) -> Result<DatabaseManifest> {
    report.outside_snapshot = source.begin()?;
    report.outside_snapshot.retain(|name| options.tables.holds(name));
    let snapshot = crate::now();
    let overview = source.overview(options.tables, Counting::Rough)?;
    *structure = source.structure(options.tables)?;
    let tables = std::mem::take(&mut structure.tables);
    if tables.is_empty() && options.some_tables {
        return Err(Trouble::usage("the site has no table of this name")
            .because("nothing matches --tables among the tables of the site")
            .hint("fernweh survey lists them; * stands for any letters, as in gp_*"));
    }
    let bare = |table: &&Table| options.without_rows.hold(table.name.as_bytes());
    report.snapshot = Some(snapshot.clone());
    report.tables = overview.tables.len() as u64;
    // Until the rows are read, this is what is expected.
    let full = overview.tables.iter().filter(|t| !options.without_rows.hold(t.name.as_bytes()));
    report.records = full.map(|table| table.rows).sum();
    report.not_carried = overview.not_carried;
    let chosen: Vec<Statement> =
        structure.before.iter().chain(&structure.afterwards).cloned().collect();
    report.not_named = left_behind(&chosen, &structure.outside);
    report.without_rows = tables.iter().filter(bare).map(|table| table.name.clone()).collect();
    Ok(DatabaseManifest {
        dialect: overview.dialect,
        version: overview.version,
        charset: overview.charset,
        collation: overview.collation,
        snapshot,
        tables,
        without_rows: report.without_rows.clone(),
        name: options.database_name.clone(),
        inside_files: options.inside_files.clone(),
    })
}

/// The records of the site's own tables.
fn site_rows(seal: &Seal) -> u64 {
    seal.rows.iter().filter(|(table, _)| !is_of_engine(table)).map(|(_, rows)| rows).sum()
}

fn pack_files(
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
            EntryKind::File(_) => {
                if let Some(size) = pack_file(&mut entry, source, &mut pieces, report, progress)? {
                    seal.files += 1;
                    seal.file_bytes += size;
                }
            }
        }
        Ok(())
    })?;
    pieces.finish()?;
    progress.done(&format!("read {}", counted(seal.files, "file", "files")));
    Ok(())
}

/// Adds one file as it is now, and gives its size. One that is small enough is held whole, and is
/// of one moment; a larger one that changes while it is read is named. One that has gone since
/// the tree was walked is named, too.
fn pack_file(
    entry: &mut Entry,
    source: &mut dyn FileSource,
    pieces: &mut PieceWriter<'_>,
    report: &mut PackReport,
    progress: &dyn Progress,
) -> Result<Option<u64>> {
    let EntryKind::File(listed) = entry.kind else { return Ok(None) };
    let held = match listed <= limits::HELD_FILE {
        true => read_whole(source, &entry.path, limits::HELD_FILE)
            .map_err(|trouble| unreadable(entry, &trouble))?,
        false => Held::TooLarge,
    };
    if let Held::Whole(WholeFile { bytes, stamp, changed }) = held {
        as_it_is(entry, stamp);
        progress.advance(stamp.size);
        if holds_settings(&bytes) {
            report.settings.push(entry.shown());
        }
        if changed {
            report.changed.push(entry.shown());
        }
        pieces.add(entry, &mut bytes.as_slice())?;
        return Ok(Some(stamp.size));
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
    if cut || !file.now()?.is_none_or(|now| now.is_same(&stamp)) {
        report.changed.push(entry.shown());
    }
    Ok(Some(stamp.size))
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
        true => settings::find(bytes).unwrap_or_default(),
        false => Vec::new(),
    };
    found.iter().any(|setting| match setting.role {
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
pub fn is_database(path: &[u8], inside: Option<&str>) -> bool {
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
