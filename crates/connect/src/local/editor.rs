//! Changing files of a live site on this machine.

use fernweh_ports::{FileEditor, Result, Trouble};
use std::ffi::OsStr;
use std::fs::{self, OpenOptions};
use std::io::Write;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::{MetadataExt, OpenOptionsExt};
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
}

impl FileEditor for LocalEditor {
    /// A visitor sees the old content or the new one, never a part: the new file is
    /// written beside the old one, and takes its name.
    fn replace(&mut self, path: &[u8], content: &[u8]) -> Result<()> {
        let full = self.root.join(OsStr::from_bytes(path));
        let mut name = std::ffi::OsString::from(".fernweh-");
        name.push(full.file_name().unwrap_or_default());
        let beside = full.with_file_name(name);
        let write = || -> std::io::Result<()> {
            let old = fs::symlink_metadata(&full)?;
            let mut file = OpenOptions::new()
                .write(true)
                .create(true)
                .truncate(true)
                .mode(0o600)
                .open(&beside)?;
            file.write_all(content)?;
            // Only root may give files away; for others the owner is the same anyway.
            let _ = std::os::unix::fs::fchown(&file, Some(old.uid()), Some(old.gid()));
            file.set_permissions(old.permissions())?;
            file.sync_all()?;
            fs::rename(&beside, &full)
        };
        write().map_err(|error| {
            let _ = fs::remove_file(&beside);
            Trouble::file("cannot change a file of the site", &full, &error)
        })
    }

    fn remove(&mut self, path: &[u8]) -> Result<()> {
        let full = self.root.join(OsStr::from_bytes(path));
        fs::remove_file(&full)
            .map_err(|error| Trouble::file("cannot remove a file of the site", &full, &error))
    }
}
