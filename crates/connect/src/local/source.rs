//! Reading a file tree on this machine.

use super::attributes::Unsaid;
use fernweh_core::record::{Entry, EntryKind};
use fernweh_ports::{FileSource, LeftOut, OpenFile, Result, SETTLED, Stamp, Trouble};
use std::ffi::OsStr;
use std::fs::{self, File};
use std::io::{ErrorKind, Read};
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::time::{Duration, SystemTime};
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
        let (mut left_out, mut unsaid) = (Vec::new(), Unsaid::default());
        let walker = WalkDir::new(&self.root)
            .min_depth(1)
            .sort_by(|a, b| a.file_name().as_bytes().cmp(b.file_name().as_bytes()));
        let root = self.root.clone();
        let walker = walker.into_iter().filter_entry(|entry| {
            // What Fernweh keeps there belongs to no state of the site.
            let ours = entry.depth() == 1 && entry.file_name() == super::WITHIN;
            entry.depth() == 0 || !ours && enter(relative(&root, entry.path()))
        });
        for entry in walker {
            let entry = match entry {
                Ok(entry) => entry,
                Err(error) => {
                    let path = error.path().unwrap_or(&self.root).to_owned();
                    let below = error.depth() > 0;
                    let error = error
                        .into_io_error()
                        .unwrap_or_else(|| std::io::Error::other("the folders form a circle"));
                    if below && error.kind() == ErrorKind::NotFound {
                        left_out.push(LeftOut::vanished(relative(&self.root, &path)));
                        continue;
                    }
                    return Err(Trouble::file("cannot read the site's files", &path, &error));
                }
            };
            let path = relative(&self.root, entry.path()).to_vec();
            match entry_of(entry.path(), path.clone(), &mut unsaid) {
                Ok(Some(found)) => visit(found)?,
                Ok(None) => left_out.push(LeftOut::special(&path)),
                Err(error) if error.kind() == ErrorKind::NotFound => {
                    left_out.push(LeftOut::vanished(&path));
                }
                Err(error) => {
                    return Err(Trouble::file("cannot read a file", entry.path(), &error));
                }
            }
        }
        left_out.extend(unsaid.told());
        Ok(left_out)
    }

    fn open(&mut self, path: &[u8]) -> Result<Option<Box<dyn OpenFile + '_>>> {
        let full = self.root.join(OsStr::from_bytes(path));
        let opened = File::open(&full).and_then(|file| {
            let opened = stamp(&file.metadata()?);
            Ok(LocalFile { file, opened })
        });
        match opened {
            Ok(file) => Ok(Some(Box::new(file))),
            Err(error) if error.kind() == ErrorKind::NotFound => Ok(None),
            Err(error) => Err(Trouble::file("cannot read a file", &full, &error)),
        }
    }

    fn look(&mut self, path: &[u8]) -> Result<Option<Stamp>> {
        let full = self.root.join(OsStr::from_bytes(path));
        match fs::metadata(&full) {
            Ok(found) => Ok(Some(stamp(&found))),
            Err(error) if error.kind() == ErrorKind::NotFound => Ok(None),
            Err(error) => Err(Trouble::file("cannot look at a file", &full, &error)),
        }
    }

    fn free(&self) -> Option<u64> {
        super::free_space(&self.root)
    }
}

/// A file of this machine.
struct LocalFile {
    file: File,
    opened: Stamp,
}

impl Read for LocalFile {
    fn read(&mut self, buffer: &mut [u8]) -> std::io::Result<usize> {
        self.file.read(buffer)
    }
}

impl OpenFile for LocalFile {
    fn opened(&self) -> Stamp {
        self.opened
    }

    fn now(&mut self) -> Result<Option<Stamp>> {
        if let Some(rest) = quiet_for(&self.opened).and_then(|quiet| QUIET.checked_sub(quiet)) {
            std::thread::sleep(rest);
        }
        // Of the open file: one that was replaced by another was whole.
        Ok(self.file.metadata().ok().map(|found| stamp(&found)))
    }

    fn is_settled(&self) -> bool {
        quiet_for(&self.opened).is_none_or(|quiet| quiet >= SETTLED)
    }
}

fn stamp(found: &fs::Metadata) -> Stamp {
    Stamp {
        size: found.len(),
        mtime: Some((found.mtime(), found.mtime_nsec() as u32)),
        change: Some((found.ctime(), found.ctime_nsec() as u32)),
    }
}

/// How long a file must have been left alone before it is compared with itself: a system may give
/// changes that follow each other the same time.
const QUIET: Duration = Duration::from_millis(50);

/// How long a file has been left alone, if its time can be believed.
fn quiet_for(stamp: &Stamp) -> Option<Duration> {
    let (seconds, nanos) = stamp.change?;
    let since = Duration::new(u64::try_from(seconds).ok()?, nanos);
    SystemTime::UNIX_EPOCH.checked_add(since)?.elapsed().ok()
}

/// Whether an entry is what it was when it was listed.
pub(super) fn is_still(full: &Path, listed: &Entry) -> bool {
    let now = entry_of(full, listed.path.clone(), &mut Unsaid::default());
    now.is_ok_and(|now| now.is_some_and(|now| now == *listed))
}

fn entry_of(full: &Path, path: Vec<u8>, unsaid: &mut Unsaid) -> std::io::Result<Option<Entry>> {
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
    let extra = unsaid.look(full, &path, &found);
    Ok(Some(Entry {
        path,
        kind,
        mode: found.mode() & 0o7777,
        mtime: found.mtime(),
        nanos: found.mtime_nsec() as u32,
        owner: (found.uid().into(), found.gid().into()),
        extra,
    }))
}
