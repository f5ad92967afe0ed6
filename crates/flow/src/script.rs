//! Archive → one plain SQL script.

use crate::archive::ArchiveReader;
use fernweh_core::archive::Member;
use fernweh_ports::{Progress, Result, Trouble};
use std::fs::{self, File};
use std::io::{BufWriter, Cursor, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;

/// Writes the database of an archive as one script, readable by its owner alone; gives its
/// size in bytes. Until it is complete the file has another name.
pub fn write_script(archive: &ArchiveReader, path: &Path, progress: &dyn Progress) -> Result<u64> {
    let what = "cannot write the script";
    let wrong = |error: std::io::Error| Trouble::file(what, path, &error);
    let name = path.file_name().unwrap_or_default().to_string_lossy();
    let partial = path.with_file_name(format!(".{name}.partial"));
    let write = || -> Result<u64> {
        let mut options = File::options();
        options.write(true).create(true).truncate(true).mode(0o600);
        let mut out = BufWriter::new(options.open(&partial).map_err(wrong)?);
        for member in &in_order(archive)? {
            progress.go_on()?;
            let bytes = archive.read(member)?;
            let mut sql = zstd::Decoder::new(Cursor::new(bytes)).map_err(wrong)?;
            std::io::copy(&mut sql, &mut out).map_err(wrong)?;
        }
        out.flush().map_err(wrong)?;
        let file = out.into_inner().map_err(|error| wrong(error.into_error()))?;
        file.sync_all().map_err(wrong)?;
        fs::rename(&partial, path).map_err(wrong)?;
        Ok(file.metadata().map_err(wrong)?.len())
    };
    let written = write();
    if written.is_err() {
        let _ = fs::remove_file(&partial);
    }
    written
}

/// What rows need, the rows, what needs rows.
fn in_order(archive: &ArchiveReader) -> Result<Vec<Member>> {
    let mut members = archive.members()?;
    members.retain(|member| {
        matches!(member, Member::Structure | Member::Rows { .. } | Member::Afterwards)
    });
    members.sort_by_key(|member| match member {
        Member::Structure => 0,
        Member::Rows { .. } => 1,
        _ => 2,
    });
    Ok(members)
}
