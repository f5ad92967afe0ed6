//! To whom new files belong. Whoever is root gives them away, to the owner of what they replace:
//! otherwise the site's programs could not write where they could before.

use rustix::fs::{AtFlags, CWD, Gid, Uid, chownat};
use std::fs;
use std::io;
use std::os::unix::fs::MetadataExt;
use std::path::Path;

/// Gives what was built to the owner of what it will replace, or of the nearest folder above
/// that. Only root can do so; whether the new owner is another than root.
pub(crate) fn give(built: &Path, replaced: &Path) -> io::Result<bool> {
    if !rustix::process::geteuid().is_root() {
        return Ok(false);
    }
    let Some(there) = replaced.ancestors().map(fs::symlink_metadata).find_map(Result::ok) else {
        return Ok(false);
    };
    let (user, group) = (Uid::from_raw(there.uid()), Gid::from_raw(there.gid()));
    chownat(CWD, built, Some(user), Some(group), AtFlags::SYMLINK_NOFOLLOW)?;
    Ok(there.uid() != 0)
}
