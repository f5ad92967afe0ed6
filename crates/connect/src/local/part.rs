//! A part of the files takes its place on this machine. Every folder is opened step by step, so
//! that no link leads elsewhere, whoever may write in the site's folder meanwhile.

use super::mounts;
use super::within::folder_of;
use crate::part::{Item, Side, There, Trees, read_list, switch, write_list};
use fernweh_ports::{Direction, Result, Trouble};
use rustix::fs::{AtFlags, FileType, Gid, Mode, Uid};
use rustix::io::Errno;
use std::ffi::OsStr;
use std::fs;
use std::io;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

/// The trees of one run.
pub(super) struct LocalTrees {
    live: PathBuf,
    /// `new-RUN`: the others lie beside it.
    new: PathBuf,
    /// The device on which it lies, if it is there.
    device: Option<u64>,
}

impl LocalTrees {
    pub fn of(live: &Path, new: &Path) -> Self {
        let device = fs::metadata(new).ok().map(|found| found.dev());
        Self { live: live.to_owned(), new: new.to_owned(), device }
    }

    /// A place of this run beside the new tree.
    fn beside(&self, word: &str) -> PathBuf {
        let name = self.new.file_name().unwrap_or_default().to_string_lossy();
        let run = name.strip_prefix("new-").unwrap_or(&name).to_owned();
        self.new.with_file_name(format!("{word}-{run}"))
    }

    pub(super) fn root(&self, side: Side) -> PathBuf {
        match side {
            Side::Live => self.live.clone(),
            Side::New => self.new.clone(),
            Side::Old => self.beside("old"),
            Side::Later => self.beside("later"),
        }
    }

    pub fn list(&self) -> PathBuf {
        self.beside("part")
    }

    fn trouble(&self, path: &[u8], error: &io::Error) -> Trouble {
        let full = self.live.join(String::from_utf8_lossy(path).as_ref());
        Trouble::file("cannot put a part of the files in place", &full, error)
    }

    /// Whether entries can be renamed from the new tree to a folder of this device.
    fn is_same_disk(&self, device: u64) -> bool {
        self.device == Some(device)
    }

    /// Refuses a site's folder that lies in another file system than what is built beside it.
    pub fn check_disk(&self) -> Result<()> {
        let device = fs::metadata(&self.live).map(|live| live.dev());
        match device.map_err(|error| self.trouble(b"", &error))? {
            device if self.is_same_disk(device) => Ok(()),
            _ => Err(mounts::another(&self.live)),
        }
    }

    /// Writes the list through to disk.
    pub fn note(&self, items: &[Item]) -> Result<()> {
        let path = self.list();
        let write = || -> io::Result<()> {
            fs::write(&path, write_list(items))?;
            fs::File::open(&path)?.sync_all()
        };
        write().map_err(|error| Trouble::file("cannot record what is put in place", &path, &error))
    }

    /// Makes the switch, or completes it.
    pub fn switch(&self, direction: Direction) -> Result<()> {
        let path = self.list();
        let text = fs::read(&path)
            .map_err(|error| Trouble::file("cannot read what is put in place", &path, &error))?;
        switch(self, &read_list(&text, &path.display().to_string())?, direction)?;
        let synced = fs::File::open(&self.live).and_then(|folder| Ok(rustix::fs::syncfs(folder)?));
        synced.map_err(|error| self.trouble(b"", &error))
    }

    /// Removes what is kept, and what was not put in place.
    pub fn remove(&self) -> Result<()> {
        for side in [Side::New, Side::Old, Side::Later] {
            super::target::remove(&self.root(side))?;
        }
        self.forget()
    }

    /// Removes the list.
    pub fn forget(&self) -> Result<()> {
        match fs::remove_file(self.list()) {
            Err(error) if error.kind() != io::ErrorKind::NotFound => {
                Err(Trouble::file("cannot remove the state kept aside", &self.list(), &error))
            }
            _ => Ok(()),
        }
    }
}

impl Trees for LocalTrees {
    fn look(&self, side: Side, path: &[u8]) -> Result<There> {
        let root = self.root(side);
        if path.is_empty() {
            return Ok(if root.is_dir() { There::Folder } else { There::Nothing });
        }
        let found = folder_of(&root, path).and_then(|(folder, name)| {
            Ok(rustix::fs::statat(&folder, &name, AtFlags::SYMLINK_NOFOLLOW)?)
        });
        match found {
            Ok(found) => match FileType::from_raw_mode(found.st_mode) {
                FileType::Directory if side == Side::Live && !self.is_same_disk(found.st_dev) => {
                    Err(mounts::another(&self.live.join(OsStr::from_bytes(path))))
                }
                FileType::Directory => Ok(There::Folder),
                _ => Ok(There::Other),
            },
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(There::Nothing),
            Err(error) => Err(self.trouble(path, &error)),
        }
    }

    fn move_entry(&self, from: Side, to: Side, path: &[u8]) -> Result<()> {
        let moved = || -> io::Result<()> {
            let (from, name) = folder_of(&self.root(from), path)?;
            let (to, _) = folder_of(&self.root(to), path)?;
            Ok(rustix::fs::renameat(&from, &name, &to, &name)?)
        };
        moved().map_err(|error| self.trouble(path, &error))
    }

    fn make_folder(&self, side: Side, path: &[u8], mode: u32) -> Result<()> {
        let root = self.root(side);
        let made = || -> io::Result<()> {
            if path.is_empty() {
                return fs::create_dir(&root);
            }
            let (folder, name) = folder_of(&root, path)?;
            match rustix::fs::mkdirat(&folder, &name, Mode::from_raw_mode(mode)) {
                Ok(()) => {
                    if side == Side::Live && rustix::process::geteuid().is_root() {
                        let above = rustix::fs::fstat(&folder)?;
                        let owner = Some(Uid::from_raw(above.st_uid));
                        let group = Some(Gid::from_raw(above.st_gid));
                        let flags = AtFlags::SYMLINK_NOFOLLOW;
                        rustix::fs::chownat(&folder, &name, owner, group, flags)?;
                    }
                    let mode = Mode::from_raw_mode(mode);
                    Ok(rustix::fs::chmodat(&folder, &name, mode, AtFlags::empty())?)
                }
                Err(Errno::EXIST) => Ok(()),
                Err(error) => Err(error.into()),
            }
        };
        made().map_err(|error| self.trouble(path, &error))
    }

    fn remove_folder(&self, side: Side, path: &[u8]) -> Result<()> {
        let removed = folder_of(&self.root(side), path).and_then(|(folder, name)| {
            Ok(rustix::fs::unlinkat(&folder, &name, AtFlags::REMOVEDIR)?)
        });
        removed.map_err(|error| self.trouble(path, &error))
    }
}
