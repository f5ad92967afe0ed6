//! What an archive holds, and whether it is what was written.

use crate::archive::{ArchiveReader, PieceReader};
use crate::stream;
use crate::unpack::{bodies_of, each_entry};
use fernweh_core::archive::{Manifest, Member};
use fernweh_core::record::EntryKind;
use fernweh_core::record::is_of_engine;
use fernweh_ports::{Progress, Result, Trouble, Unit};
use serde::Serialize;
use std::path::Path;

/// What an archive holds.
#[derive(Clone, Debug, Serialize)]
pub struct ShowReport {
    /// The archive.
    pub archive: String,
    /// Its size in bytes.
    pub size: u64,
    /// What it says of itself.
    pub manifest: Manifest,
    /// Records by table, in the order of packing.
    pub rows: Vec<(String, u64)>,
    /// Number of files.
    pub files: u64,
    /// Number of folders.
    pub folders: u64,
    /// Number of links.
    pub links: u64,
    /// Bytes of all files.
    pub file_bytes: u64,
    /// What runs code in the database: routines, triggers, views, events.
    pub runs: Vec<String>,
    /// Files that hold connection settings.
    pub settings: Vec<String>,
    /// When reading the database began anew after a break (RFC 3339, UTC).
    pub breaks: Vec<String>,
    /// Number of members.
    pub members: u64,
    /// After `--verify`: members that are not what was written.
    pub different: Option<Vec<String>>,
}

/// Opens an archive; its members are compared with its seal. With `verify` their digests are, too,
/// and everything is read as unpacking reads it.
pub fn show(path: &Path, verify: bool, progress: &dyn Progress) -> Result<ShowReport> {
    let archive = ArchiveReader::open(path)?;
    let different = if verify {
        progress.stage("verify", Some(archive.size), Unit::Bytes);
        let different = archive.verify(progress)?;
        progress.done("read every member");
        // A whole archive may still hold what cannot be unpacked.
        if different.is_empty() {
            read_through(&archive, progress)?;
        }
        Some(different)
    } else {
        None
    };
    let seal = archive.seal()?;
    let tables = archive.manifest.database.iter().flat_map(|database| &database.tables);
    let tables = tables.filter(|table| !is_of_engine(&table.name));
    let rows =
        tables.map(|table| (table.name.clone(), seal.rows.get(&table.name).copied().unwrap_or(0)));
    Ok(ShowReport {
        archive: path.display().to_string(),
        size: archive.size,
        rows: rows.collect(),
        files: seal.files,
        folders: seal.folders,
        links: seal.links,
        file_bytes: seal.file_bytes,
        runs: bodies_of(&archive)?,
        settings: seal.settings.clone(),
        breaks: seal.breaks.clone(),
        members: seal.members.len() as u64 + 1,
        different,
        manifest: archive.manifest.clone(),
    })
}

/// Reads rows and files as unpacking does, and counts them.
pub(crate) fn read_through(archive: &ArchiveReader, progress: &dyn Progress) -> Result<()> {
    let seal = archive.seal()?;
    if let Some(about) = &archive.manifest.database {
        progress.stage("records", Some(seal.rows.values().sum()), Unit::Records);
        for member in [Member::Structure, Member::Afterwards] {
            stream::structure(archive, about.dialect, &member)?;
        }
        for table in &about.tables {
            let columns: Vec<&String> = table.columns.iter().map(|column| &column.name).collect();
            let mut found = 0;
            for member in archive.blocks(&table.name) {
                let member = member?;
                stream::rows(archive, about.dialect, &member, table, &mut |insert| {
                    progress.go_on()?;
                    if !insert.columns.iter().eq(columns.iter().copied()) {
                        return Err(stream::other_columns(&member));
                    }
                    found += insert.rows.len() as u64;
                    progress.advance(insert.rows.len() as u64);
                    Ok(())
                })?;
            }
            let sealed = seal.rows.get(&table.name).copied().unwrap_or(0);
            if found != sealed {
                return Err(incomplete(&format!("table {}", table.name), found, sealed));
            }
        }
        progress.done("read every record");
    }
    if archive.manifest.files.is_some() {
        progress.stage("files", Some(seal.file_bytes), Unit::Bytes);
        let mut found = 0;
        let mut pieces = PieceReader::new(archive);
        let result = each_entry(&mut pieces, &mut |entry, content| {
            progress.go_on()?;
            found += 1;
            if let EntryKind::File(size) = entry.kind {
                let came = std::io::copy(content, &mut std::io::sink()).unwrap_or(0);
                if came != size {
                    return Err(incomplete(&entry.shown(), came, size));
                }
                progress.advance(size);
            }
            Ok(true)
        });
        let trouble = pieces.trouble.take();
        result.map_err(|error| trouble.unwrap_or(error))?;
        let sealed = seal.files + seal.folders + seal.links;
        if found != sealed {
            return Err(incomplete("the files", found, sealed));
        }
        progress.done("read every file");
    }
    Ok(())
}

fn incomplete(what: &str, found: u64, sealed: u64) -> Trouble {
    Trouble::damaged("the archive does not hold what its seal says")
        .at(what.to_owned())
        .because(format!("{found} were read; the seal says {sealed}"))
        .hint("pack the site again")
}
