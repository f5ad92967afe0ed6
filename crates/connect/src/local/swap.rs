//! Two places change names, in one step where the file system can do that.

use super::{close_workshop_of, resident};
use fernweh_ports::{Direction, FileId, FileSwap, Result, Trouble};
use rustix::fs::{CWD, RenameFlags, renameat_with};
use std::fs;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

/// What identifies a file or folder whatever its name; `None` if there is nothing.
pub fn file_id(path: &Path) -> Option<FileId> {
    let found = fs::symlink_metadata(path).ok()?;
    Some(FileId { device: found.dev(), inode: found.ino() })
}

/// Makes the switch, or completes it; doing it twice is the same as once.
pub fn switch(swap: &FileSwap, direction: Direction) -> Result<()> {
    let trouble = |error: std::io::Error| {
        Trouble::file(
            format!("cannot put {} in its place", swap.target.display()),
            &swap.target,
            &error,
        )
    };
    settle(swap).map_err(trouble)?;
    let is_new = file_id(&swap.target) == swap.new;
    let done = match direction {
        Direction::Forward => is_new,
        Direction::Back => !is_new,
    };
    if done {
        return resident::leave(swap, &swap.side).map_err(trouble);
    }
    resident::bring_along(swap, &swap.side).map_err(trouble)?;
    let result = match (direction, swap.had_old) {
        (Direction::Forward, false) => fs::rename(&swap.side, &swap.target),
        (Direction::Back, false) => fs::rename(&swap.target, &swap.side),
        _ => exchange(&swap.target, &swap.side),
    };
    result.map_err(trouble)?;
    resident::leave(swap, &swap.side).map_err(trouble)?;
    write_through(swap).map_err(trouble)
}

/// Removes what a switch has put aside.
pub fn let_go(swap: &FileSwap) -> Result<()> {
    let removed = match fs::symlink_metadata(&swap.side) {
        Err(_) => Ok(()),
        Ok(found) if found.is_dir() => fs::remove_dir_all(&swap.side),
        Ok(_) => fs::remove_file(&swap.side),
    };
    removed
        .map_err(|error| Trouble::file("cannot remove the state kept aside", &swap.side, &error))?;
    close_workshop_of(&swap.side);
    Ok(())
}

fn between(side: &Path) -> PathBuf {
    let mut name = side.file_name().unwrap_or_default().to_owned();
    name.push(".between");
    side.with_file_name(name)
}

fn exchange(target: &Path, side: &Path) -> std::io::Result<()> {
    match renameat_with(CWD, target, CWD, side, RenameFlags::EXCHANGE) {
        Ok(()) => Ok(()),
        Err(rustix::io::Errno::INVAL | rustix::io::Errno::NOSYS | rustix::io::Errno::NOTSUP) => {
            // Three renames; `settle` completes them if the program is killed in between.
            fs::rename(target, between(side))?;
            fs::rename(side, target)?;
            fs::rename(between(side), side)
        }
        Err(error) => Err(error.into()),
    }
}

/// Completes an exchange by three renames that was broken off.
fn settle(swap: &FileSwap) -> std::io::Result<()> {
    let between = between(&swap.side);
    if !between.exists() {
        return Ok(());
    }
    if !swap.target.exists() {
        fs::rename(&swap.side, &swap.target)?;
    }
    fs::rename(between, &swap.side)
}

fn write_through(swap: &FileSwap) -> std::io::Result<()> {
    for path in [&swap.target, &swap.side] {
        if let Some(parent) = path.parent() {
            fs::File::open(if parent.as_os_str().is_empty() { Path::new(".") } else { parent })?
                .sync_all()?;
        }
    }
    Ok(())
}
