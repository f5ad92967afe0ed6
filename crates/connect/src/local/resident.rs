//! A database that stays the file that it is while the folder around it is exchanged.
//!
//! Programs of the site have it open, and would go on writing into a file that was moved away.
//! Right before the exchange it gets a second name (a hard link) in the other folder, and right
//! after it the first one goes; under the path of the site it is the same file all the time. The
//! files that belong to it (log, index of the log, journal) go along. Nobody may write meanwhile:
//! the lock is taken by whoever calls this.

use super::owner;
use fernweh_ports::FileSwap;
use std::ffi::OsString;
use std::fs;
use std::io;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

/// How the names end of the file itself and of those that belong to it.
const ENDINGS: [&str; 4] = ["", "-wal", "-shm", "-journal"];

/// The names that stay, in one folder and in another.
fn names(swap: &FileSwap, here: &Path, there: &Path) -> Vec<(PathBuf, PathBuf)> {
    let Some(inside) = &swap.resident else { return Vec::new() };
    let with = |folder: &Path, ending: &str| {
        let mut name = OsString::from(folder.join(inside));
        name.push(ending);
        PathBuf::from(name)
    };
    ENDINGS.map(|ending| (with(here, ending), with(there, ending))).into()
}

/// Whether an entry at the top of the site's folder is the file itself, or belongs to it.
pub(super) fn is_resident(resident: Option<&str>, name: &[u8]) -> bool {
    resident.is_some_and(|inside| {
        ENDINGS.iter().any(|ending| [inside, ending].concat().as_bytes() == name)
    })
}

/// Makes the folder of the file in the tree that comes, like the one in which it lies.
pub(super) fn prepare(resident: Option<&str>, from: &Path, to: &Path) -> io::Result<()> {
    let Some(inside) = resident else { return Ok(()) };
    match (from.join(inside).parent(), to.join(inside).parent()) {
        (Some(from), Some(to)) if from.is_dir() => make_like(from, to),
        _ => Ok(()),
    }
}

/// Gives the file a name in the tree that comes.
pub(super) fn bring_along(swap: &FileSwap, comes: &Path) -> io::Result<()> {
    for (here, there) in names(swap, &swap.target, comes) {
        super::remove_file(&there)?;
        if fs::symlink_metadata(&here).is_err() {
            continue;
        }
        if let (Some(from), Some(to)) = (here.parent(), there.parent()) {
            make_like(from, to)?;
        }
        fs::hard_link(&here, &there)?;
    }
    Ok(())
}

/// Takes the names in the tree away that has gone.
pub(super) fn leave(swap: &FileSwap, gone: &Path) -> io::Result<()> {
    for (here, gone) in names(swap, &swap.target, gone) {
        let same = match (fs::symlink_metadata(&here), fs::symlink_metadata(&gone)) {
            (Ok(here), Ok(gone)) => (here.dev(), here.ino()) == (gone.dev(), gone.ino()),
            _ => false,
        };
        if same {
            fs::remove_file(&gone)?;
        }
    }
    Ok(())
}

/// Makes a folder, and those above it, with the owner and the permissions of another.
fn make_like(like: &Path, folder: &Path) -> io::Result<()> {
    if folder.is_dir() {
        return Ok(());
    }
    if let (Some(like), Some(above)) = (like.parent(), folder.parent()) {
        make_like(like, above)?;
    }
    fs::create_dir(folder)?;
    owner::give(folder, like)?;
    fs::set_permissions(folder, fs::metadata(like)?.permissions())
}
