//! Building a file tree beside the old one on this machine.
//!
//! Nothing is written through a link: a folder is made where there is nothing yet, and
//! files are created anew. The tree that is built belongs to Fernweh alone until the
//! switch.

use super::attributes::{self, Unsaid};
use super::source::is_still;
use super::within::{folder_of, plain_file};
use super::{LocalTrees, file_id, mounts, owner, resident, workshop};
use crate::part::Side;
use crate::present::{self, Building};
use fernweh_core::entries::EntryList;
use fernweh_core::limits;
use fernweh_core::record::{Entry, EntryKind};
use fernweh_ports::{Amount, Direction, FileSwap, FileTarget, Probe, Result, Trouble};
use rustix::fs::{AtFlags, CWD, Timespec, Timestamps, linkat, utimensat};
use std::collections::HashSet;
use std::ffi::OsStr;
use std::fs::{self, OpenOptions, Permissions};
use std::io::{Read, Seek, SeekFrom, Write};
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::{OpenOptionsExt, PermissionsExt, symlink};
use std::path::{Component, Path, PathBuf};

/// A folder on this machine that is to be replaced.
pub struct LocalTarget {
    pub(super) root: PathBuf,
    pub(super) built: PathBuf,
    /// What this run had built before it was broken off.
    earlier: PathBuf,
    folders: Vec<Entry>,
    /// Folders of the new tree that are known to be folders: nobody else can change them.
    known: HashSet<Vec<u8>>,
    /// Only what is built takes its place.
    part: bool,
    /// A file that stays itself, if it is there.
    pub(super) resident: Option<String>,
    /// The entries at the top change places one by one, since the folder is a mount point.
    entries: bool,
    /// Nobody else works on this place.
    lock: Option<fs::File>,
    kept: EntryList,
    /// Some of it belongs to another user than root, who builds it.
    given_away: bool,
    /// What could not be set.
    unsaid: Unsaid,
    /// Folders on the way to the place that were made, the innermost first.
    made: Vec<PathBuf>,
}

impl LocalTarget {
    /// The place `root`; `run` names what is built.
    ///
    /// A place that is a link is followed: what it leads to is replaced, and the link stays.
    pub fn new(root: &Path, run: &str) -> Self {
        let root = &followed(root);
        let built = workshop(root).join(format!("new-{run}"));
        let earlier = workshop(root).join(format!("earlier-{run}"));
        Self {
            root: root.to_owned(),
            built,
            earlier,
            folders: Vec::new(),
            known: HashSet::new(),
            part: false,
            resident: None,
            entries: false,
            lock: None,
            kept: EntryList::default(),
            given_away: false,
            unsaid: Unsaid::default(),
            made: Vec::new(),
        }
    }

    /// The database at this path below the root stays the file that it is, if it is there.
    pub fn around(mut self, database: Option<String>) -> Self {
        self.resident = database.filter(|inside| self.root.join(inside).is_file());
        self
    }

    /// The folder in which the new state is built.
    pub fn built(&self) -> &Path {
        &self.built
    }

    /// Takes a file that was written to its end before a break: its time is set last.
    fn take_over(&self, entry: &Entry, full: &Path) -> bool {
        use std::os::unix::fs::MetadataExt;
        let earlier = self.earlier.join(OsStr::from_bytes(&entry.path));
        let Ok(found) = fs::symlink_metadata(&earlier) else { return false };
        let whole = found.is_file()
            && EntryKind::File(found.len()) == entry.kind
            && found.len() > limits::TAKEN_OVER
            && (found.mtime(), found.mtime_nsec()) == (entry.mtime, i64::from(entry.nanos));
        whole && fs::rename(&earlier, full).is_ok()
    }

    /// The folder in which this run builds and keeps.
    fn workshop(&self) -> PathBuf {
        self.built.parent().unwrap_or(Path::new("")).to_owned()
    }

    fn lock(&mut self, workshop: &Path) -> Result<()> {
        if self.lock.is_none() {
            // Where nothing was kept there is no workshop, and undo needs one.
            super::open_workshop_at(workshop).map_err(|error| write_trouble(workshop, &error))?;
            self.lock = Some(super::lock_workshop(workshop)?);
        }
        Ok(())
    }

    /// The full path of an entry, refused unless it stays inside the tree and no link
    /// is on the way.
    fn inside(&mut self, path: &[u8], folder: bool) -> Result<PathBuf> {
        let relative = Path::new(OsStr::from_bytes(path));
        let refused = |because: &str| {
            Trouble::damaged("the archive contains a path that is not allowed")
                .at(relative.display().to_string())
                .because(because)
                .hint("do not use this archive; find out where it comes from")
        };
        let parent = path.iter().rposition(|byte| *byte == b'/').map_or(&b""[..], |at| &path[..at]);
        // Each folder is looked at once, however many entries lie below it.
        let known = self.known.contains(parent);
        let mut full = self.built.clone();
        let mut segments = relative.components().peekable();
        if segments.peek().is_none() || path.contains(&0) {
            return Err(refused("the path is empty or not a path"));
        }
        while let Some(segment) = segments.next() {
            let Component::Normal(name) = segment else {
                return Err(refused("it leads out of the site's folder"));
            };
            full.push(name);
            if !known
                && segments.peek().is_some()
                && fs::symlink_metadata(&full).is_ok_and(|found| found.is_symlink())
            {
                return Err(refused("it leads through a link"));
            }
        }
        // A folder may be there already: the database is built before the files.
        let there = fs::symlink_metadata(&full);
        if there.is_ok_and(|found| !(folder && found.is_dir())) {
            return Err(refused("it occurs twice"));
        }
        if let Some(above) = full.parent().filter(|_| !known) {
            fs::create_dir_all(above).map_err(|error| write_trouble(above, &error))?;
            self.known.insert(parent.to_vec());
        }
        Ok(full)
    }
}

impl LocalTarget {
    /// Gives an entry to the owner of what it replaces.
    fn give(&mut self, path: &[u8], full: &Path) -> std::io::Result<()> {
        self.given_away |= owner::give(full, &self.root.join(OsStr::from_bytes(path)))?;
        Ok(())
    }
}

/// Bytes of nothing that are left out as a hole.
const HOLE: usize = 64 << 10;

/// Copies a file; long stretches of nothing become holes, as they may have been.
fn copy_with_holes(content: &mut dyn Read, file: &mut fs::File) -> std::io::Result<()> {
    let mut block = vec![0; HOLE];
    let mut size = 0_u64;
    loop {
        let mut filled = 0;
        while filled < HOLE {
            match content.read(&mut block[filled..]) {
                Ok(0) => break,
                Ok(length) => filled += length,
                Err(error) if error.kind() == std::io::ErrorKind::Interrupted => {}
                Err(error) => return Err(error),
            }
        }
        size += filled as u64;
        if filled == HOLE && block.iter().all(|byte| *byte == 0) {
            file.seek(SeekFrom::Current(HOLE as i64))?;
            continue;
        }
        file.write_all(&block[..filled])?;
        if filled < HOLE {
            // A hole at the end would be cut off.
            return file.set_len(size);
        }
    }
}

impl Building for LocalTarget {
    fn make_way(&mut self, entry: &Entry) -> Result<bool> {
        let built = self.built.join(OsStr::from_bytes(&entry.path));
        match (fs::symlink_metadata(&built), &entry.kind) {
            (Ok(there), EntryKind::Folder) if there.is_dir() => return Ok(true),
            (Ok(there), _) if !there.is_dir() => {
                fs::remove_file(&built).map_err(|error| write_trouble(&built, &error))?;
            }
            _ => {}
        }
        Ok(false)
    }

    fn take_away(&mut self, entry: &Entry) -> Result<()> {
        let built = self.built.join(OsStr::from_bytes(&entry.path));
        let removed = match entry.kind {
            // One in which the archive has put something stays.
            EntryKind::Folder => fs::remove_dir(&built).or(Ok(())),
            _ => fs::remove_file(&built),
        };
        match removed {
            Err(error) if error.kind() != std::io::ErrorKind::NotFound => {
                Err(write_trouble(&built, &error))
            }
            _ => Ok(()),
        }
    }

    fn kept(&mut self) -> &mut EntryList {
        &mut self.kept
    }
}

/// Where a place really is, if it is a link.
fn followed(place: &Path) -> PathBuf {
    let is_link = fs::symlink_metadata(place).is_ok_and(|found| found.is_symlink());
    let real = if is_link { fs::canonicalize(place).ok() } else { None };
    real.unwrap_or_else(|| place.to_owned())
}

pub(super) fn write_trouble(path: &Path, error: &std::io::Error) -> Trouble {
    Trouble::file("cannot write the site's new files", path, error)
}

fn set_times(path: &Path, entry: &Entry) -> std::io::Result<()> {
    let time = Timespec { tv_sec: entry.mtime, tv_nsec: entry.nanos.into() };
    let times = Timestamps { last_access: time, last_modification: time };
    Ok(utimensat(CWD, path, &times, AtFlags::SYMLINK_NOFOLLOW)?)
}

impl FileTarget for LocalTarget {
    fn place(&self) -> String {
        self.root.display().to_string()
    }

    fn free(&self) -> Option<u64> {
        super::free_space(&self.root)
    }

    fn existing(&self) -> Result<u64> {
        match fs::read_dir(&self.root) {
            Ok(entries) => {
                let ours = |entry: &fs::DirEntry| entry.file_name() == super::WITHIN;
                Ok(entries.flatten().filter(|entry| !ours(entry)).count() as u64)
            }
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(0),
            Err(error) => Err(Trouble::file("cannot read the site's files", &self.root, &error)),
        }
    }

    fn build(&mut self) -> Result<()> {
        match (self.part, self.entries) {
            (true, _) => {}
            (false, true) => mounts::refuse_within(&self.root)?,
            (false, false) => mounts::refuse_to_exchange(&self.root)?,
        }
        let parent = self.root.parent().unwrap_or(Path::new("/"));
        let missing = parent.ancestors().take_while(|folder| !folder.exists());
        self.made.extend(missing.map(Path::to_owned));
        fs::create_dir_all(parent).map_err(|error| write_trouble(parent, &error))?;
        super::open_workshop_at(&self.workshop()).map_err(|error| {
            write_trouble(&self.root, &error).hint(
                "Fernweh builds the new files beside the site's folder; it needs the right to \
                 write there",
            )
        })?;
        self.lock(&self.workshop())?;
        if self.built.exists() {
            remove(&self.earlier)?;
            fs::rename(&self.built, &self.earlier)
                .map_err(|error| write_trouble(&self.built, &error))?;
        }
        fs::create_dir(&self.built).map_err(|error| write_trouble(&self.built, &error))
    }

    fn as_part(&mut self) {
        self.part = true;
    }

    fn entry_by_entry(&mut self) {
        // Anything else changes places at once.
        if mounts::is_mount_point(&self.root) {
            self.entries = true;
            let workshop = self.root.join(super::WITHIN);
            for path in [&mut self.built, &mut self.earlier] {
                *path = workshop.join(path.file_name().unwrap_or_default());
            }
        }
    }

    fn put(&mut self, entry: &Entry) -> Result<()> {
        let full = self.inside(&entry.path, entry.kind == EntryKind::Folder)?;
        let made = match &entry.kind {
            EntryKind::Folder => {
                self.folders.push(entry.clone());
                // Open for the owner until everything in it is written.
                fs::create_dir_all(&full)
                    .and_then(|()| fs::set_permissions(&full, Permissions::from_mode(0o700)))
            }
            EntryKind::Link(target) => symlink(OsStr::from_bytes(target), &full)
                .and_then(|()| self.give(&entry.path, &full))
                .and_then(|()| set_times(&full, entry)),
            EntryKind::HardLink(first) => {
                // Of a file that was built: no link on the way, and none in its place.
                let not_built = |_| present::not_built(first, &entry.path);
                let (folder, name) = folder_of(&self.built, first).map_err(not_built)?;
                plain_file(&folder, &name).map_err(not_built)?;
                linkat(folder, name, CWD, &full, AtFlags::empty()).map_err(Into::into)
            }
            EntryKind::File(_) => return self.put_file(entry, &mut std::io::empty()),
        };
        made.map_err(|error| write_trouble(&full, &error))
    }

    fn put_file(&mut self, entry: &Entry, content: &mut dyn Read) -> Result<()> {
        let full = self.inside(&entry.path, false)?;
        if self.take_over(entry, &full) {
            return Ok(());
        }
        let mut write = || -> std::io::Result<()> {
            let mut file =
                OpenOptions::new().write(true).create_new(true).mode(0o600).open(&full)?;
            copy_with_holes(content, &mut file)?;
            // Another owner takes permissions away.
            self.give(&entry.path, &full)?;
            file.set_permissions(Permissions::from_mode(entry.mode))?;
            attributes::set(&full, entry, &mut self.unsaid);
            set_times(&full, entry)
        };
        write().map_err(|error| write_trouble(&full, &error))
    }

    fn keep(&mut self, wanted: &dyn Fn(&[u8]) -> bool) -> Result<u64> {
        if !self.root.is_dir() {
            return Ok(0);
        }
        let mut present = super::LocalSource::open(&self.root)?;
        present::keep(self, &mut present, wanted)
    }

    fn catch_up(&mut self, wanted: &dyn Fn(&[u8]) -> bool) -> Result<u64> {
        if !self.root.is_dir() {
            return Ok(0);
        }
        let mut present = super::LocalSource::open(&self.root)?;
        present::catch_up(self, &mut present, wanted)
    }

    fn take_up(&mut self, swap: &FileSwap, wanted: &dyn Fn(&[u8]) -> bool) -> Result<bool> {
        if swap.part || swap.new.is_none() || file_id(&swap.side) != swap.new {
            return Ok(false);
        }
        self.kept = present::listed(&mut super::LocalSource::open(&swap.side)?, wanted)?;
        Ok(true)
    }

    fn finish(&mut self) -> Result<FileSwap> {
        for entry in std::mem::take(&mut self.folders).into_iter().rev() {
            let full = self.built.join(OsStr::from_bytes(&entry.path));
            self.give(&entry.path, &full).map_err(|error| write_trouble(&full, &error))?;
            fs::set_permissions(&full, Permissions::from_mode(entry.mode))
                .map_err(|error| write_trouble(&full, &error))?;
            attributes::set(&full, &entry, &mut self.unsaid);
            set_times(&full, &entry).map_err(|error| write_trouble(&full, &error))?;
        }
        remove(&self.earlier)?;
        if self.part {
            return self.finish_part();
        }
        if self.entries {
            return self.finish_entries();
        }
        let had_old = fs::symlink_metadata(&self.root).is_ok();
        self.give(b"", &self.built.clone()).map_err(|error| write_trouble(&self.root, &error))?;
        let mode = fs::metadata(&self.root).map_or(0o755, |found| found.permissions().mode());
        fs::set_permissions(&self.built, Permissions::from_mode(mode & 0o7777))
            .map_err(|error| write_trouble(&self.built, &error))?;
        let folder =
            fs::File::open(&self.built).map_err(|error| write_trouble(&self.built, &error))?;
        rustix::fs::syncfs(&folder)
            .map_err(|error| write_trouble(&self.built, &std::io::Error::from(error)))?;
        let new = file_id(&self.built).ok_or_else(|| {
            Trouble::outside("the new files are missing").at(self.built.display().to_string())
        })?;
        let (target, side) = (self.root.clone(), self.built.clone());
        Ok(FileSwap {
            target,
            side,
            new: Some(new),
            had_old,
            part: false,
            resident: self.resident.clone(),
        })
    }

    fn notes(&self) -> Vec<String> {
        let words = "you are root: new files belong to the owner of what they replace, or of the \
                     folder that they come into";
        let unsaid = self.unsaid.words().map(|words| {
            format!("{words}, could not be set: the disk or the login does not allow it")
        });
        self.given_away.then(|| words.into()).into_iter().chain(unsaid).collect()
    }

    fn put_mark(&mut self) -> Result<Option<Probe>> {
        if !self.root.is_dir() {
            return Ok(None);
        }
        let within = self.root.join(super::WITHIN);
        super::open_workshop_at(&within).map_err(|error| write_trouble(&within, &error))?;
        self.put_probe(false)
    }

    fn put_probe(&mut self, beside: bool) -> Result<Option<Probe>> {
        let within = self.root.join(super::WITHIN);
        let folder = if within.is_dir() { within.clone() } else { workshop(&self.root) };
        if !(beside || folder == within) || !folder.is_dir() {
            return Ok(None);
        }
        let (name, content) = (super::random_name("probe-"), super::random_name(""));
        let full = folder.join(&name);
        let put = || -> std::io::Result<()> {
            let mut options = OpenOptions::new();
            // As readable as it may be: the folder itself must keep others out.
            let mut file = options.write(true).create_new(true).mode(0o644).open(&full)?;
            std::io::Write::write_all(&mut file, content.as_bytes())
        };
        put().map_err(|error| write_trouble(&full, &error))?;
        let above = if folder == within { "" } else { "../" };
        let folder = folder.file_name().unwrap_or_default().to_string_lossy().into_owned();
        Ok(Some(Probe { path: format!("{above}{folder}/{name}"), content }))
    }

    fn take_probe(&mut self, probe: &Probe) -> Result<()> {
        let name = probe.path.rsplit('/').next().unwrap_or_default();
        let folder = match probe.path.starts_with("../") {
            true => workshop(&self.root),
            false => self.root.join(super::WITHIN),
        };
        let full = folder.join(name);
        fs::remove_file(&full).map_err(|error| write_trouble(&full, &error))?;
        super::close_workshop_of(&full);
        Ok(())
    }

    fn clear(
        &mut self,
        stays: &dyn Fn(&[u8]) -> bool,
        is_packed: &dyn Fn(&Entry) -> bool,
    ) -> Result<Vec<String>> {
        if !self.root.is_dir() {
            return Ok(Vec::new());
        }
        mounts::refuse_to_exchange(&self.root)?;
        let mut present = super::LocalSource::open(&self.root)?;
        present::clear(&mut present, stays, is_packed, &mut |entry| {
            let full = self.root.join(OsStr::from_bytes(&entry.path));
            let removed = match entry.kind {
                // One in which something stays is not empty.
                EntryKind::Folder => fs::remove_dir(&full).map(|()| true).or(Ok(true)),
                // Between this look and the removal is nothing but this line.
                _ if !is_still(&full, entry) => Ok(false),
                _ => fs::remove_file(&full).map(|()| true),
            };
            removed.map_err(|error| {
                Trouble::file("cannot remove a file of the old state", &full, &error)
            })
        })
    }

    fn discard(&mut self) -> Result<()> {
        // Another process may have built in the folder itself.
        let name = self.built.file_name().unwrap_or_default().to_owned();
        let earlier = self.earlier.file_name().unwrap_or_default().to_owned();
        for workshop in [workshop(&self.root), self.root.join(super::WITHIN)] {
            LocalTrees::of(&self.root, &workshop.join(&name)).forget()?;
            remove(&workshop.join(&name))?;
            remove(&workshop.join(&earlier))?;
            super::close_workshop_at(&workshop);
        }
        // Whoever only tries leaves nothing behind; one that holds something by now stays.
        self.lock = None;
        for folder in self.made.drain(..) {
            let _ = fs::remove_dir(folder);
        }
        Ok(())
    }

    fn switch(&mut self, swap: &FileSwap, direction: Direction) -> Result<()> {
        self.lock(swap.side.parent().unwrap_or(Path::new("")))?;
        if !swap.part {
            return super::switch(swap, direction);
        }
        let trees = LocalTrees::of(&swap.target, &swap.side);
        let (comes, goes) = match direction {
            Direction::Forward => (Side::New, Side::Old),
            Direction::Back => (Side::Old, Side::New),
        };
        let wrong = |error| write_trouble(&swap.target, &error);
        resident::bring_along(swap, &trees.root(comes)).map_err(wrong)?;
        trees.switch(direction)?;
        resident::leave(swap, &trees.root(goes)).map_err(wrong)
    }

    fn came_in(
        &mut self,
        swap: &FileSwap,
        since: std::time::SystemTime,
        most: usize,
    ) -> Result<Option<(Vec<String>, u64)>> {
        use std::os::unix::fs::MetadataExt;
        let since = since.duration_since(std::time::UNIX_EPOCH).unwrap_or_default();
        let since = (since.as_secs() as i64, i64::from(since.subsec_nanos()));
        let (mut names, mut count) = (Vec::new(), 0);
        for entry in walkdir::WalkDir::new(&swap.side).into_iter().flatten() {
            let Ok(found) = entry.path().symlink_metadata() else { continue };
            // An entry that was put aside by itself got another name, which changes its status.
            let changed = match swap.part {
                true => (found.mtime(), found.mtime_nsec()),
                false => (found.ctime(), found.ctime_nsec()),
            };
            if found.is_dir() || changed < since {
                continue;
            }
            count += 1;
            if names.len() < most {
                let path = entry.path().strip_prefix(&swap.side).unwrap_or(entry.path());
                names.push(path.to_string_lossy().into_owned());
            }
        }
        Ok(Some((names, count)))
    }

    fn note_kept(&mut self, run: &str, note: Option<&[u8]>) -> Result<()> {
        for workshop in [workshop(&self.root), self.root.join(super::WITHIN)] {
            if workshop.is_dir() {
                super::note_kept(&workshop, run, note)?;
            }
        }
        Ok(())
    }

    fn notes_kept(&mut self) -> Result<Vec<Vec<u8>>> {
        let mut notes = super::notes_kept(&workshop(&self.root));
        notes.extend(super::notes_kept(&self.root.join(super::WITHIN)));
        Ok(notes)
    }

    fn adopted(&mut self, swap: &FileSwap) -> Result<FileSwap> {
        super::adopted(swap, &self.root, &self.built)
    }

    fn kept_amount(&mut self, swap: &FileSwap) -> Result<Option<Amount>> {
        let trees = LocalTrees::of(&swap.target, &swap.side);
        let places = match swap.part {
            true => [Side::New, Side::Old, Side::Later].map(|side| trees.root(side)).to_vec(),
            false => vec![swap.side.clone()],
        };
        let mut amount = Amount::default();
        for place in places {
            for entry in walkdir::WalkDir::new(place).into_iter().flatten() {
                // What goes while it is counted takes no room any more.
                if let Ok(found) = entry.metadata()
                    && !found.is_dir()
                {
                    amount.files += 1;
                    amount.bytes += found.len();
                }
            }
        }
        Ok(Some(amount))
    }

    fn absent(&mut self, swap: &FileSwap, direction: Direction) -> Result<Vec<String>> {
        let place = match (swap.part, direction) {
            (false, Direction::Back) if !swap.had_old => return Ok(Vec::new()),
            (false, _) => swap.side.clone(),
            (true, _) => LocalTrees::of(&swap.target, &swap.side).list(),
        };
        let there = fs::symlink_metadata(&place).is_ok();
        Ok(if there { Vec::new() } else { vec![place.display().to_string()] })
    }

    fn let_go(&mut self, swap: &FileSwap) -> Result<()> {
        if swap.part {
            LocalTrees::of(&swap.target, &swap.side).remove()?;
            super::close_workshop_of(&swap.side);
            return Ok(());
        }
        mounts::refuse_to_remove(&swap.side)?;
        open_up(&swap.side);
        super::let_go(swap)
    }
}

/// Removes a tree of ours.
pub(super) fn remove(tree: &Path) -> Result<()> {
    if !tree.exists() {
        return Ok(());
    }
    open_up(tree);
    fs::remove_dir_all(tree)
        .map_err(|error| Trouble::file("cannot remove the unfinished new files", tree, &error))
}

/// Makes every folder of a tree writable for its owner, so that it can be removed.
pub(super) fn open_up(root: &Path) {
    for entry in walkdir::WalkDir::new(root).into_iter().flatten() {
        if entry.file_type().is_dir() {
            let _ = fs::set_permissions(entry.path(), Permissions::from_mode(0o700));
        }
    }
}
