//! SQL scripts, folders and tar or zip files of others in place of an archive: they become
//! an archive first, so that everything that holds for archives holds for them, too:
//! nothing is changed before the whole of it has been read and understood.

mod room;
mod script;
mod stream;
mod tree;

pub use room::Room;
pub use script::{each_statement, pack_script};
pub use stream::{Packed, opened, opened_input};
pub use tree::pack_tree;

use crate::archive::ArchiveReader;
use fernweh_core::archive::{FORMAT, Manifest};
use fernweh_ports::{LeftOut, Result, Trouble};
use std::fs::File;
use std::path::{Path, PathBuf};
use stream::{Packing, first_bytes};

/// An archive to unpack, and what is to be said about it.
pub struct Incoming {
    /// The archive.
    pub archive: ArchiveReader,
    /// What people should know about how it came about.
    pub notes: Vec<String>,
    /// What of a file or folder of others was left out.
    pub left_out: Vec<LeftOut>,
    /// Whether it was something of others.
    pub foreign: bool,
    /// Where it was made of something of others; it goes with it.
    pub room: Option<Room>,
}

impl Incoming {
    /// An archive that was one from the beginning.
    pub fn own(archive: ArchiveReader) -> Self {
        Self { archive, notes: Vec::new(), left_out: Vec::new(), foreign: false, room: None }
    }
}

/// What a file or folder is that shall be unpacked.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum InputKind {
    /// An archive, or something broken that wants to be one.
    Archive,
    /// An SQL script, perhaps compressed.
    Script,
    /// A tar or zip file of files.
    Files,
    /// A folder.
    Folder,
    /// A database file of SQLite.
    Database,
}

/// Where the archive goes, and what it says of itself.
#[derive(Clone, Debug)]
pub struct Conversion {
    /// The archive to write.
    pub archive: PathBuf,
    /// Version of the program.
    pub program: String,
    /// The web address from which rewriting starts.
    pub url: Option<String>,
    /// Take links along that point out of the tree.
    pub outside_links: bool,
}

impl Conversion {
    fn manifest(&self, site: &Path) -> Manifest {
        Manifest {
            format: FORMAT,
            program: self.program.clone(),
            site: site.file_stem().unwrap_or_default().to_string_lossy().into_owned(),
            url: self.url.clone(),
            root: None,
            created: crate::now(),
            database: None,
            files: None,
        }
    }
}

/// Looks at what is to be unpacked.
pub fn look(path: &Path) -> Result<InputKind> {
    if path.is_dir() {
        if PARTS.iter().any(|part| path.join(part).exists()) {
            return Err(part_of_archive(path));
        }
        return Ok(InputKind::Folder);
    }
    let what = "cannot read what is to be unpacked";
    let mut file = File::open(path).map_err(|error| Trouble::file(what, path, &error))?;
    let start = first_bytes(&mut file).map_err(|error| Trouble::file(what, path, &error))?;
    if start.starts_with(b"SQLite format 3\0") {
        return Ok(InputKind::Database);
    }
    let packing = Packing::of(&start);
    if packing == Packing::Plain && is_tar(&start) {
        return Ok(if start.starts_with(b"fernweh.json\0") {
            InputKind::Archive
        } else {
            InputKind::Files
        });
    }
    if packing == Packing::Zip {
        let script = stream::only_script(path)?.is_some();
        return Ok(if script { InputKind::Script } else { InputKind::Files });
    }
    let mut inner = opened(path)?;
    // What cannot be decompressed is no tar; reading it says what is wrong.
    let start = first_bytes(&mut inner).unwrap_or_default();
    Ok(match () {
        () if packing != Packing::Plain && is_tar(&start) => InputKind::Files,
        () if packing != Packing::Plain || looks_like_sql(path, &start) => InputKind::Script,
        () => InputKind::Archive,
    })
}

/// Members that only an archive of Fernweh has.
const PARTS: [&str; 4] = [
    "fernweh.json",
    "database/1-structure.sql.zst",
    "database/3-afterwards.sql.zst",
    "files/index.zst",
];

/// Whether a path of a tree of files is that of an archive's member.
fn is_part(path: &[u8]) -> bool {
    PARTS.iter().any(|part| part.as_bytes() == path)
}

/// What holds an archive's members, but is none, would put the database into the web folder.
fn part_of_archive(path: &Path) -> Trouble {
    Trouble::damaged("these are not a site's files but the remains of an archive")
        .at(path.display().to_string())
        .because("it holds parts of an archive, but its manifest or its seal is missing")
        .hint("copy the archive again from where it was made, and unpack it unchanged")
}

/// POSIX: the magic of a header.
fn is_tar(start: &[u8]) -> bool {
    start.get(257..262) == Some(b"ustar")
}

/// Text that is named so, or begins as SQL does.
fn looks_like_sql(path: &Path, start: &[u8]) -> bool {
    const FIRST: [&[u8]; 14] = [
        b"--", b"/*", b"\\", b"#", b"set ", b"create ", b"insert ", b"drop ", b"begin", b"pragma ",
        b"start ", b"use ", b"copy ", b"lock ",
    ];
    let named = path.extension().is_some_and(|extension| extension.eq_ignore_ascii_case("sql"));
    let text = start.strip_prefix(b"\xEF\xBB\xBF").unwrap_or(start).trim_ascii_start();
    let lower = text[..text.len().min(8)].to_ascii_lowercase();
    named || FIRST.iter().any(|first| lower.starts_with(first))
}
