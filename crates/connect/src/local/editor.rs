//! Changing files of a live site on this machine.

use super::within::{create, folder_of, plain_file};
use fernweh_ports::{FileEditor, Result, Trouble};
use rustix::fs::AtFlags;
use std::ffi::{OsStr, OsString};
use std::fs::Permissions;
use std::io::{ErrorKind, Write};
use std::os::fd::OwnedFd;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};

/// A folder whose files are changed.
pub struct LocalEditor {
    root: PathBuf,
}

impl LocalEditor {
    /// The tree below `root`.
    pub fn new(root: &Path) -> Self {
        Self { root: root.to_owned() }
    }

    fn wrong(&self, what: &str, path: &[u8], error: &std::io::Error) -> Trouble {
        Trouble::file(what, &self.root.join(OsStr::from_bytes(path)), error)
    }
}

/// Writes a content beside a place, and gives it its name. Where the place must be empty, what has
/// come there meanwhile stays.
fn put(
    folder: &OwnedFd,
    name: &OsStr,
    content: &[u8],
    beside: &str,
    (owner, mode): ((u32, u32), u32),
    is_new: bool,
) -> std::io::Result<()> {
    let beside = OsString::from(beside);
    let made = create(folder, &beside).or_else(|error| match error.kind() {
        ErrorKind::AlreadyExists => {
            rustix::fs::unlinkat(folder, &beside, AtFlags::empty())?;
            create(folder, &beside)
        }
        _ => Err(error),
    });
    let mut file = made?;
    let mut write = || -> std::io::Result<()> {
        file.write_all(content)?;
        // Only root may give files away; for others the owner is the same anyway.
        let _ = std::os::unix::fs::fchown(&file, Some(owner.0), Some(owner.1));
        file.set_permissions(Permissions::from_mode(mode))?;
        file.sync_all()?;
        if is_new {
            rustix::fs::linkat(folder, &beside, folder, name, AtFlags::empty())?;
            return Ok(rustix::fs::unlinkat(folder, &beside, AtFlags::empty())?);
        }
        Ok(rustix::fs::renameat(folder, &beside, folder, name)?)
    };
    write().inspect_err(|_| {
        let _ = rustix::fs::unlinkat(folder, &beside, AtFlags::empty());
    })
}

impl FileEditor for LocalEditor {
    /// A visitor sees the old content or the new one, never a part: the new file is
    /// written beside the old one under a name that nobody can know, and takes its name.
    fn replace(&mut self, path: &[u8], content: &[u8], beside: &str) -> Result<()> {
        let replace = || -> std::io::Result<()> {
            let (folder, name) = folder_of(&self.root, path)?;
            let old = plain_file(&folder, &name)?;
            let owner = (old.st_uid, old.st_gid);
            put(&folder, &name, content, beside, (owner, old.st_mode & 0o7777), false)
        };
        replace().map_err(|error| self.wrong("cannot change a file of the site", path, &error))
    }

    fn make(&mut self, path: &[u8], content: &[u8], beside: &str) -> Result<()> {
        let make = || -> std::io::Result<()> {
            let (folder, name) = folder_of(&self.root, path)?;
            // Like everything else in the folder it belongs to whoever has the folder.
            let of = rustix::fs::fstat(&folder)?;
            put(&folder, &name, content, beside, ((of.st_uid, of.st_gid), 0o644), true)
        };
        make().map_err(|error| self.wrong("cannot make a file of the site", path, &error))
    }

    fn remove(&mut self, path: &[u8]) -> Result<()> {
        let remove = || -> std::io::Result<()> {
            let (folder, name) = folder_of(&self.root, path)?;
            Ok(rustix::fs::unlinkat(&folder, &name, AtFlags::empty())?)
        };
        remove().map_err(|error| self.wrong("cannot remove a file of the site", path, &error))
    }

    fn remove_left(&mut self, path: &[u8]) -> Result<()> {
        let removed = folder_of(&self.root, path)
            .and_then(|(folder, name)| Ok(rustix::fs::unlinkat(&folder, &name, AtFlags::empty())?));
        match removed {
            Err(error) if error.kind() != ErrorKind::NotFound => {
                Err(self.wrong("cannot remove what an earlier run has left", path, &error))
            }
            _ => Ok(()),
        }
    }
}
