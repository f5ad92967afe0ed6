//! What is there of an archive that was broken off.

use super::member_index::StoredMember;
use super::reader::list;
use super::unfinished::{checkpoints_of, partial_of};
use fernweh_core::archive::{Manifest, Member, SealedMember};
use fernweh_core::digest::sha256;
use fernweh_ports::{KeyPosition, Result, Trouble};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::fs::{self, File};
use std::io::{Read, Seek, SeekFrom};
use std::path::Path;

/// Up to where an unfinished archive is whole: one line of the file beside it.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Checkpoint {
    /// The table; none behind the structure.
    pub table: Option<String>,
    /// Its records up to here.
    pub rows: u64,
    /// Where in the table this is; it is complete otherwise.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub part: Option<TablePart>,
    /// When reading began anew before it, if it did (RFC 3339, UTC).
    pub anew: Option<String>,
    /// Bytes of the archive up to here.
    pub end: u64,
}

/// A place within a table, from where it can be read on.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct TablePart {
    /// Blocks of its rows so far.
    pub blocks: u32,
    /// The key of the last row in them.
    pub behind: KeyPosition,
}

/// The whole part of an unfinished archive.
#[derive(Debug)]
pub struct Partial {
    /// What it says of itself.
    pub manifest: Manifest,
    /// The structure of its database as SQL, if it has one.
    pub structure: Option<Vec<u8>>,
    /// The records of each table that is complete.
    pub rows: BTreeMap<String, u64>,
    /// The table in which it was broken off, its records so far, and from where to go on.
    pub part: Option<(String, u64, TablePart)>,
    /// When reading began anew (RFC 3339, UTC).
    pub breaks: Vec<String>,
    pub(super) members: Vec<(SealedMember, u64)>,
    pub(super) end: u64,
}

/// Reads what is there, and cuts off what is not whole; `None` if nothing is.
pub(super) fn partial_archive(path: &Path) -> Result<Option<Partial>> {
    let partial = &partial_of(path);
    let nothing = |because: &str| {
        Trouble::usage("there is nothing to resume")
            .at(path.display().to_string())
            .because(because)
            .hint("add --fresh to begin anew")
    };
    let checkpoints = fs::read_to_string(checkpoints_of(path))
        .map_err(|_| nothing("no interrupted packing of this archive was found"))?;
    let wrong = |error: std::io::Error| Trouble::file("cannot resume the archive", partial, &error);
    let mut file = File::options().read(true).write(true).open(partial).map_err(wrong)?;
    let length = file.metadata().map_err(wrong)?.len();
    // A last line that is not whole was never acted upon.
    let checkpoints: Vec<Checkpoint> =
        checkpoints.lines().map_while(|line| serde_json::from_str(line).ok()).collect();
    let whole: Vec<&Checkpoint> =
        checkpoints.iter().take_while(|checkpoint| checkpoint.end <= length).collect();
    let Some(end) = whole.last().map(|checkpoint| checkpoint.end) else { return Ok(None) };
    file.set_len(end).map_err(wrong)?;
    let damaged = |because: String| {
        Trouble::damaged("the unfinished archive is damaged")
            .at(partial.display().to_string())
            .because(because)
            .hint("add --fresh to begin anew")
    };
    let mut members = Vec::new();
    let mut first = Vec::new();
    for StoredMember { name, member, offset, size, .. } in list(&file, end).map_err(&damaged)? {
        let mut bytes = Vec::new();
        file.seek(SeekFrom::Start(offset)).map_err(wrong)?;
        (&mut file).take(size).read_to_end(&mut bytes).map_err(wrong)?;
        let sealed = SealedMember { name, size, sha256: sha256(&bytes) };
        members.push((sealed, offset));
        if matches!(member, Member::Manifest | Member::Structure) {
            first.push((member, bytes));
        }
    }
    let bytes_of = |wanted: &Member| {
        first.iter().find(|(member, _)| member == wanted).map(|(_, bytes)| bytes.as_slice())
    };
    let manifest =
        bytes_of(&Member::Manifest).ok_or_else(|| damaged("it has no manifest".into()))?;
    let manifest = Manifest::parse(manifest).map_err(|error| damaged(error.to_string()))?;
    let structure = bytes_of(&Member::Structure).map(zstd::decode_all).transpose();
    let structure = structure.map_err(|error| damaged(error.to_string()))?;
    let complete = whole.iter().filter(|checkpoint| checkpoint.part.is_none());
    let rows = complete
        .filter_map(|checkpoint| Some((checkpoint.table.clone()?, checkpoint.rows)))
        .collect();
    let last = whole.iter().rev().find(|checkpoint| checkpoint.table.is_some());
    let part = last.and_then(|m| Some((m.table.clone()?, m.rows, m.part.clone()?)));
    // Every table behind a break names it.
    let mut breaks: Vec<String> =
        whole.iter().filter_map(|checkpoint| checkpoint.anew.clone()).collect();
    breaks.dedup();
    Ok(Some(Partial { manifest, structure, rows, part, breaks, members, end }))
}

#[cfg(test)]
mod tests {
    use crate::archive::{ArchiveWriter, Checkpoint, Level};
    use fernweh_core::archive::{FORMAT, Manifest, Member};

    #[test]
    fn a_break_counts_once_however_many_tables_come_behind_it() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("a.tar");
        let mut archive = ArchiveWriter::create(&path, Level::default()).unwrap();
        let manifest = Manifest {
            format: FORMAT,
            program: "test".into(),
            site: "old".into(),
            url: None,
            root: None,
            created: crate::now(),
            database: None,
            files: None,
        };
        archive.add(Member::Manifest, serde_json::to_vec(&manifest).unwrap()).unwrap();
        let anew = Some("2026-11-23T12:00:00Z".to_owned());
        for table in [None, Some("a"), Some("b"), None] {
            let table = table.map(str::to_owned);
            let anew = anew.clone().filter(|_| table.is_some());
            archive
                .checkpoint(Checkpoint { table, rows: 1, anew, ..Checkpoint::default() })
                .unwrap();
        }
        archive.keep();
        drop(archive);
        let (_writer, begun) = ArchiveWriter::go_on(&path, Level::default()).unwrap();
        let begun = begun.unwrap();
        assert_eq!(begun.rows.len(), 2);
        assert_eq!(begun.breaks, ["2026-11-23T12:00:00Z"]);
    }
}
