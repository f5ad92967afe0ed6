//! Reading a file tree on this machine.

use fernweh_core::record::{Entry, EntryKind};
use fernweh_ports::{FileSource, LeftOut, Result, Trouble};
use std::ffi::OsStr;
use std::fs::{self, File};
use std::io::Read;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use walkdir::WalkDir;

/// A folder on this machine.
pub struct LocalSource {
    root: PathBuf,
}

impl LocalSource {
    /// The tree below `root`, which must be a folder.
    pub fn open(root: &Path) -> Result<Self> {
        let what = "cannot read the site's files";
        let found = fs::metadata(root).map_err(|error| Trouble::file(what, root, &error))?;
        if !found.is_dir() {
            return Err(Trouble::outside(what)
                .at(root.display().to_string())
                .because("this is not a folder")
                .hint("set files to the folder of the site"));
        }
        Ok(Self { root: root.to_owned() })
    }
}

fn relative<'a>(root: &Path, path: &'a Path) -> &'a [u8] {
    path.strip_prefix(root).unwrap_or(path).as_os_str().as_bytes()
}

impl FileSource for LocalSource {
    fn place(&self) -> String {
        self.root.display().to_string()
    }

    fn walk(
        &mut self,
        enter: &dyn Fn(&[u8]) -> bool,
        visit: &mut dyn FnMut(Entry) -> Result<()>,
    ) -> Result<Vec<LeftOut>> {
        let mut left_out = Vec::new();
        let walker = WalkDir::new(&self.root)
            .min_depth(1)
            .sort_by(|a, b| a.file_name().as_bytes().cmp(b.file_name().as_bytes()));
        let root = self.root.clone();
        let walker = walker
            .into_iter()
            .filter_entry(|entry| entry.depth() == 0 || enter(relative(&root, entry.path())));
        for entry in walker {
            let entry = entry.map_err(|error| {
                let path = error.path().unwrap_or(&self.root).to_owned();
                let error = error
                    .into_io_error()
                    .unwrap_or_else(|| std::io::Error::other("the folders form a circle"));
                Trouble::file("cannot read the site's files", &path, &error)
            })?;
            let path = relative(&self.root, entry.path()).to_vec();
            match entry_of(entry.path(), path.clone())
                .map_err(|error| Trouble::file("cannot read a file", entry.path(), &error))?
            {
                Some(found) => visit(found)?,
                None => left_out.push(LeftOut {
                    path: String::from_utf8_lossy(&path).into_owned(),
                    because: "neither file, folder nor link (a socket or device)".into(),
                }),
            }
        }
        Ok(left_out)
    }

    fn open(&mut self, path: &[u8]) -> Result<Box<dyn Read + '_>> {
        let full = self.root.join(OsStr::from_bytes(path));
        let file = File::open(&full)
            .map_err(|error| Trouble::file("cannot read a file", &full, &error))?;
        Ok(Box::new(file))
    }

    fn free(&self) -> Option<u64> {
        super::free_space(&self.root)
    }
}

fn entry_of(full: &Path, path: Vec<u8>) -> std::io::Result<Option<Entry>> {
    let found = fs::symlink_metadata(full)?;
    let kind = if found.is_dir() {
        EntryKind::Folder
    } else if found.is_symlink() {
        EntryKind::Link(fs::read_link(full)?.as_os_str().as_bytes().to_vec())
    } else if found.is_file() {
        EntryKind::File(found.len())
    } else {
        return Ok(None);
    };
    Ok(Some(Entry {
        path,
        kind,
        mode: found.mode() & 0o7777,
        mtime: found.mtime(),
        nanos: found.mtime_nsec() as u32,
        owner: (found.uid().into(), found.gid().into()),
    }))
}
