//! Tar or zip file of a site's files → archive.

use super::stream::{opened, zip_of};
use super::{Conversion, is_part, part_of_archive};
use crate::archive::{ArchiveWriter, BoundedTar, Level, PieceWriter, link_of};
use crate::pack::leads_out;
use fernweh_core::archive::{FilesManifest, Member, Seal};
use fernweh_core::entries::PathSet;
use fernweh_core::record::{Entry, EntryKind, Extra};
use fernweh_ports::{LeftOut, Progress, Result, Trouble, Unit};
use std::collections::BTreeSet;
use std::fs::File;
use std::io::Read;
use std::path::Path;

/// Permission bits of what says nothing about them.
const FILE: u32 = 0o644;
const FOLDER: u32 = 0o755;

/// Packs the files of a tar or zip file; gives what was left out.
pub fn pack_tree(
    options: &Conversion,
    path: &Path,
    progress: &dyn Progress,
) -> Result<Vec<LeftOut>> {
    progress.stage("files", None, Unit::Bytes);
    let mut manifest = options.manifest(path);
    manifest.files = Some(FilesManifest { left_out: Vec::new() });
    let mut archive = ArchiveWriter::create(&options.archive, Level::new(1))?;
    archive.add(Member::Manifest, serde_json::to_vec_pretty(&manifest).unwrap_or_default())?;
    let mut seal = Seal::default();
    let mut left_out = Vec::new();
    let (mut folders, mut files) = (BTreeSet::new(), PathSet::default());
    let mut pieces = PieceWriter::new(&mut archive);
    let mut others = Vec::new();
    each_entry(path, &mut others, &mut |mut entry, content| {
        progress.go_on()?;
        if entry.path.is_empty() {
            return Ok(());
        }
        if is_part(&entry.path) {
            return Err(part_of_archive(path));
        }
        if entry.path.split(|byte| *byte == b'/').any(|part| part == b"..") {
            return Err(Trouble::damaged("the file holds a path that leaves its folder")
                .at(format!("{} in {}", entry.shown(), path.display()))
                .hint("do not use it; ask where it comes from"));
        }
        // Folders that are not listed come before what lies in them.
        let ends = entry.path.iter().enumerate().filter(|(_, byte)| **byte == b'/');
        for (end, _) in ends {
            let above = entry.path[..end].to_vec();
            if folders.insert(above.clone()) {
                seal.folders += 1;
                pieces.add(&folder(above, entry.mtime), &mut std::io::empty())?;
            }
        }
        match &entry.kind {
            EntryKind::Folder => {
                if !folders.insert(entry.path.clone()) {
                    return Ok(());
                }
                seal.folders += 1;
            }
            EntryKind::Link(target) if !options.outside_links && leads_out(&entry.path, target) => {
                let target = String::from_utf8_lossy(target);
                left_out.push(LeftOut {
                    path: entry.shown(),
                    because: format!("a link that points out of the site, to {target}"),
                });
                return Ok(());
            }
            EntryKind::HardLink(first) if !files.contains(first) => {
                left_out.push(LeftOut {
                    path: entry.shown(),
                    because: "a hard link to a file that does not come before it".into(),
                });
                return Ok(());
            }
            EntryKind::Link(_) | EntryKind::HardLink(_) => seal.links += 1,
            EntryKind::File(size) => {
                seal.files += 1;
                seal.file_bytes += size;
                files.insert(&entry.path);
                progress.advance(*size);
            }
        }
        entry.mode &= 0o7777;
        pieces.add(&entry, content)
    })?;
    left_out.append(&mut others);
    pieces.finish()?;
    archive.seal(seal)?;
    progress.done("read the files");
    Ok(left_out)
}

fn folder(path: Vec<u8>, mtime: i64) -> Entry {
    Entry {
        path,
        kind: EntryKind::Folder,
        mode: FOLDER,
        mtime,
        nanos: 0,
        owner: (0, 0),
        extra: Extra::default(),
    }
}

type Visit<'a> = &'a mut dyn FnMut(Entry, &mut dyn Read) -> Result<()>;

fn each_entry(path: &Path, others: &mut Vec<LeftOut>, visit: Visit<'_>) -> Result<()> {
    let wrong = |error: std::io::Error| match error.raw_os_error() {
        Some(_) => Trouble::file("cannot read the file", path, &error),
        // Not the disk says so, but what is on it.
        None => Trouble::damaged("the tar file cannot be read")
            .at(path.display().to_string())
            .because(error)
            .hint("copy it again from where it was made"),
    };
    let mut start = [0; 2];
    let zipped = File::open(path).and_then(|mut file| file.read_exact(&mut start)).is_ok();
    if zipped && &start == b"PK" {
        each_of_zip(path, visit)
    } else {
        each_of_tar(path, others, visit, &wrong)
    }
}

fn each_of_tar(
    path: &Path,
    others: &mut Vec<LeftOut>,
    visit: Visit<'_>,
    wrong: &dyn Fn(std::io::Error) -> Trouble,
) -> Result<()> {
    let bounded = BoundedTar::new(opened(path)?);
    let extended = bounded.extended();
    let mut tar = tar::Archive::new(bounded);
    for entry in tar.entries().map_err(wrong)? {
        let mut entry = entry.map_err(wrong)?;
        let header = entry.header();
        let kind = match header.entry_type() {
            tar::EntryType::Directory => EntryKind::Folder,
            tar::EntryType::Symlink => EntryKind::Link(link_of(&entry, &extended)),
            tar::EntryType::Link => EntryKind::HardLink(plain(&link_of(&entry, &extended))),
            tar::EntryType::Regular | tar::EntryType::Continuous => EntryKind::File(entry.size()),
            tar::EntryType::XGlobalHeader => continue,
            other => {
                others.push(LeftOut {
                    path: String::from_utf8_lossy(&plain(&entry.path_bytes())).into_owned(),
                    because: match other {
                        tar::EntryType::GNUSparse => "a file with holes".into(),
                        _ => "neither file, folder nor link".into(),
                    },
                });
                continue;
            }
        };
        let header = entry.header();
        let found = Entry {
            path: plain(&extended.get("path").unwrap_or_else(|| entry.path_bytes().into_owned())),
            kind,
            mode: header.mode().unwrap_or(FILE),
            mtime: header.mtime().map_or(0, |time| i64::try_from(time).unwrap_or(0)),
            nanos: 0,
            owner: (header.uid().unwrap_or(0), header.gid().unwrap_or(0)),
            extra: Extra { attributes: extended.attributes(), names: None },
        };
        visit(found, &mut entry)?;
    }
    Ok(())
}

fn each_of_zip(path: &Path, visit: Visit<'_>) -> Result<()> {
    let damaged = |error: zip::result::ZipError| {
        Trouble::damaged("the zip file cannot be read")
            .at(path.display().to_string())
            .because(error)
            .hint("copy it again from where it was made")
    };
    let mut zip = zip_of(path)?;
    for number in 0..zip.len() {
        let mut file = zip.by_index(number).map_err(damaged)?;
        let mode = file.unix_mode();
        let kind = if file.is_dir() {
            EntryKind::Folder
        } else if file.is_symlink() {
            let mut target = Vec::new();
            let read = (&mut file).take(4096).read_to_end(&mut target);
            read.map_err(|error| Trouble::file("cannot read the zip file", path, &error))?;
            EntryKind::Link(target)
        } else {
            EntryKind::File(file.size())
        };
        let usual = if kind == EntryKind::Folder { FOLDER } else { FILE };
        let found = Entry {
            path: plain(file.name_raw()),
            kind,
            mode: mode.unwrap_or(usual),
            mtime: file.last_modified().map_or(0, seconds),
            nanos: 0,
            owner: (0, 0),
            extra: Extra::default(),
        };
        visit(found, &mut file)?;
    }
    Ok(())
}

/// A zip file's time, which knows no zone, as if it were UTC.
fn seconds(time: zip::DateTime) -> i64 {
    let part = |number: u8| i8::try_from(number).unwrap_or(0);
    let date = jiff::civil::date(
        i16::try_from(time.year()).unwrap_or(1980),
        part(time.month()).clamp(1, 12),
        part(time.day()).clamp(1, 28),
    );
    let moment = date.at(part(time.hour()).min(23), part(time.minute()).min(59), 0, 0);
    let days = i64::from(part(time.day()).clamp(1, 31) - part(time.day()).clamp(1, 28));
    moment.to_zoned(jiff::tz::TimeZone::UTC).map_or(0, |zoned| zoned.timestamp().as_second())
        + days * 86_400
        + i64::from(part(time.second()))
}

/// A path without `./` before it and `/` behind it.
fn plain(path: &[u8]) -> Vec<u8> {
    let mut path = path;
    while let Some(rest) = path.strip_prefix(b"./").or(path.strip_prefix(b"/")) {
        path = rest;
    }
    while let Some(rest) = path.strip_suffix(b"/") {
        path = rest;
    }
    if path == b"." { Vec::new() } else { path.to_vec() }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn paths_lose_what_says_nothing() {
        for (with, without) in
            [("./a/b", "a/b"), ("a/", "a"), ("./", ""), (".", ""), ("/a", "a"), (".a", ".a")]
        {
            assert_eq!(plain(with.as_bytes()), without.as_bytes());
        }
    }
}
