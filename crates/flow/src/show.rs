//! What an archive holds, and whether it is what was written.

use crate::archive::ArchiveReader;
use crate::unpack::bodies_of;
use crate::verify::read_through;
use fernweh_core::archive::Manifest;
use fernweh_core::record::is_of_engine;
use fernweh_ports::{Progress, Result, Unit};
use serde::Serialize;
use std::path::Path;

/// What an archive holds.
#[derive(Clone, Debug, Serialize, schemars::JsonSchema)]
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
