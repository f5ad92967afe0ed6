//! A file tree in memory.

use super::{Host, unknown};
use fernweh_core::record::{Entry, EntryKind, Extra};
use fernweh_ports::{
    Direction, FileEditor, FileId, FileSource, FileSwap, FileTarget, LeftOut, OpenFile, Result,
    Stamp, Trouble,
};
use std::collections::BTreeMap;
use std::io::{Cursor, Read};
use std::path::PathBuf;

/// Files by path, with their contents.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Files(pub BTreeMap<Vec<u8>, Vec<u8>>);

impl Files {
    /// These files.
    pub fn of<'a>(files: impl IntoIterator<Item = (&'a str, &'a str)>) -> Self {
        Self(files.into_iter().map(|(path, text)| (path.into(), text.into())).collect())
    }

    /// What a file holds.
    pub fn content(&self, path: &str) -> Option<&[u8]> {
        self.0.get(path.as_bytes()).map(Vec::as_slice)
    }

    /// Folders and files, folders before what they hold.
    fn entries(&self) -> Vec<Entry> {
        let entry = |path: &[u8], kind: EntryKind, mode| Entry {
            path: path.to_vec(),
            kind,
            mode,
            mtime: 1_795_000_000,
            nanos: 0,
            owner: (0, 0),
            extra: Extra::default(),
        };
        let mut found: BTreeMap<Vec<u8>, Entry> = BTreeMap::new();
        for (path, content) in &self.0 {
            let slashes = path.iter().enumerate().filter(|(_, byte)| **byte == b'/');
            for (at, _) in slashes {
                let folder = &path[..at];
                found.insert(folder.to_vec(), entry(folder, EntryKind::Folder, 0o755));
            }
            let kind = EntryKind::File(content.len() as u64);
            found.insert(path.clone(), entry(path, kind, 0o644));
        }
        found.into_values().collect()
    }
}

/// Reads the live tree.
pub(super) struct Source {
    host: Host,
}

impl Source {
    pub fn new(host: Host) -> Self {
        Self { host }
    }
}

impl FileSource for Source {
    fn place(&self) -> String {
        "memory".into()
    }
    fn walk(
        &mut self,
        enter: &dyn Fn(&[u8]) -> bool,
        visit: &mut dyn FnMut(Entry) -> Result<()>,
    ) -> Result<Vec<LeftOut>> {
        let entries = self.host.call("walk the files")?.live.files.entries();
        let mut closed: Vec<Vec<u8>> = Vec::new();
        for entry in entries {
            if closed.iter().any(|folder| entry.path.starts_with(folder)) {
                continue;
            }
            if !enter(&entry.path) {
                closed.push([&entry.path[..], b"/"].concat());
                continue;
            }
            visit(entry)?;
        }
        Ok(Vec::new())
    }
    fn open(&mut self, path: &[u8]) -> Result<Option<Box<dyn OpenFile + '_>>> {
        let content = self.host.call("open a file")?.live.files.0.get(path).cloned();
        let host = self.host.clone();
        Ok(content.map(|content| {
            let opened = stamp(&content);
            let content = Cursor::new(content);
            Box::new(Open { host, path: path.to_vec(), content, opened }) as Box<dyn OpenFile>
        }))
    }
    fn look(&mut self, path: &[u8]) -> Result<Option<Stamp>> {
        let world = self.host.call("look at a file later")?;
        Ok(world.live.files.0.get(path).map(|content| stamp(content)))
    }
    fn free(&self) -> Option<u64> {
        None
    }
}

/// A file of the live tree. What was read is of the moment at which it was opened.
struct Open {
    host: Host,
    path: Vec<u8>,
    content: Cursor<Vec<u8>>,
    opened: Stamp,
}

/// Two contents have two times.
fn stamp(content: &[u8]) -> Stamp {
    let digest = content
        .iter()
        .fold(7, |sum: i64, byte| sum.wrapping_mul(31).wrapping_add(i64::from(*byte)));
    Stamp { size: content.len() as u64, mtime: Some((digest.rem_euclid(1 << 31), 0)), change: None }
}

impl Read for Open {
    fn read(&mut self, buffer: &mut [u8]) -> std::io::Result<usize> {
        self.content.read(buffer)
    }
}

impl OpenFile for Open {
    fn opened(&self) -> Stamp {
        self.opened
    }

    fn now(&mut self) -> Result<Option<Stamp>> {
        let world = self.host.call("look at a file again")?;
        Ok(world.live.files.0.get(&self.path).map(|content| stamp(content)))
    }

    /// Whoever has just emptied a file is about to write it.
    fn is_settled(&self) -> bool {
        self.opened.size > 0
    }
}

/// Builds a tree beside the live one; both change places.
pub(super) struct Target {
    host: Host,
    run: String,
    part: bool,
    /// What was carried over.
    kept: BTreeMap<Vec<u8>, Vec<u8>>,
}

impl Target {
    pub fn new(host: Host, run: &str) -> Self {
        Self { host, run: run.into(), part: false, kept: BTreeMap::new() }
    }
}

impl FileTarget for Target {
    fn place(&self) -> String {
        "memory".into()
    }
    fn existing(&self) -> Result<u64> {
        Ok(self.host.call("look for files")?.live.files.0.len() as u64)
    }
    fn build(&mut self) -> Result<()> {
        let mut world = self.host.call("build a tree")?;
        world.last_tree += 1;
        let number = world.last_tree;
        world.files_aside.insert(self.run.clone(), Files::default());
        world.trees_aside.insert(self.run.clone(), number);
        Ok(())
    }
    fn as_part(&mut self) {
        self.part = true;
    }
    fn put(&mut self, _: &Entry) -> Result<()> {
        Ok(())
    }
    fn put_file(&mut self, entry: &Entry, content: &mut dyn Read) -> Result<()> {
        let mut bytes = Vec::new();
        content
            .read_to_end(&mut bytes)
            .map_err(|error| Trouble::damaged("the content breaks off").because(error))?;
        let mut world = self.host.call("put a file")?;
        let built = world.files_aside.get_mut(&self.run).ok_or_else(|| unknown("such tree"))?;
        built.0.insert(entry.path.clone(), bytes);
        Ok(())
    }
    fn keep(&mut self, wanted: &dyn Fn(&[u8]) -> bool) -> Result<u64> {
        let mut world = self.host.call("carry files over")?;
        let live = world.live.files.clone();
        let built = world.files_aside.get_mut(&self.run).ok_or_else(|| unknown("such tree"))?;
        let mut kept = 0;
        for (path, content) in live.0 {
            if wanted(&path) {
                self.kept.insert(path.clone(), content.clone());
                built.0.insert(path, content);
                kept += 1;
            }
        }
        Ok(kept)
    }
    fn catch_up(&mut self, wanted: &dyn Fn(&[u8]) -> bool) -> Result<u64> {
        let mut world = self.host.call("look again at what is carried over")?;
        let live = world.live.files.clone();
        let built = world.files_aside.get_mut(&self.run).ok_or_else(|| unknown("such tree"))?;
        let now: BTreeMap<_, _> = live.0.into_iter().filter(|(path, _)| wanted(path)).collect();
        let mut moved = 0;
        for (path, content) in &now {
            if self.kept.get(path) != Some(content) {
                built.0.insert(path.clone(), content.clone());
                moved += 1;
            }
        }
        for path in self.kept.keys().filter(|path| !now.contains_key(*path)) {
            built.0.remove(path);
            moved += 1;
        }
        self.kept = now;
        Ok(moved)
    }
    fn finish(&mut self) -> Result<FileSwap> {
        let world = self.host.call("finish the tree")?;
        let number = world.trees_aside.get(&self.run).copied().unwrap_or_default();
        Ok(FileSwap {
            target: PathBuf::from("live"),
            side: PathBuf::from(&self.run),
            new: Some(FileId { device: 0, inode: number }),
            had_old: true,
            part: self.part,
            resident: None,
        })
    }
    fn clear(
        &mut self,
        stays: &dyn Fn(&[u8]) -> bool,
        is_packed: &dyn Fn(&Entry) -> bool,
    ) -> Result<Vec<String>> {
        let mut world = self.host.call("clear the files")?;
        let mut written = Vec::new();
        for entry in world.live.files.entries() {
            match is_packed(&entry) {
                _ if !entry.kind.is_file() || stays(&entry.path) => {}
                true => drop(world.live.files.0.remove(&entry.path)),
                false => written.push(entry.shown()),
            }
        }
        Ok(written)
    }
    fn absent(&mut self, swap: &FileSwap, _: Direction) -> Result<Vec<String>> {
        let world = self.host.call("look for the kept tree")?;
        let side = swap.side.to_string_lossy().into_owned();
        Ok(if world.files_aside.contains_key(&side) { Vec::new() } else { vec![side] })
    }
    fn discard(&mut self) -> Result<()> {
        let mut world = self.host.call("discard the tree")?;
        world.files_aside.remove(&self.run);
        world.trees_aside.remove(&self.run);
        Ok(())
    }
    fn switch(&mut self, swap: &FileSwap, direction: Direction) -> Result<()> {
        let mut world = self.host.call("switch the trees")?;
        let side = swap.side.to_string_lossy().into_owned();
        let new = swap.new.map_or(0, |new| new.inode);
        let is_new = world.tree == new;
        if is_new == (direction == Direction::Forward) {
            return Ok(());
        }
        let number = world.trees_aside.get(&side).copied().unwrap_or_default();
        if swap.part {
            // Both sides change places, path by path; what is no part of it stays.
            let paths = world.parts.get(&side).cloned();
            let comes =
                world.files_aside.get(&side).cloned().ok_or_else(|| unknown("such tree"))?;
            let paths = paths.unwrap_or_else(|| comes.0.keys().cloned().collect());
            let mut goes = Files::default();
            for path in &paths {
                let live = &mut world.live.files.0;
                goes.0.extend(live.remove(path).map(|content| (path.clone(), content)));
                live.extend(comes.0.get(path).map(|content| (path.clone(), content.clone())));
            }
            world.parts.insert(side.clone(), paths);
            let old = std::mem::replace(&mut world.tree, number);
            world.files_aside.insert(side.clone(), goes);
            world.trees_aside.insert(side, old);
            return Ok(());
        }
        let comes = world.files_aside.remove(&side).ok_or_else(|| unknown("such tree"))?;
        let goes = std::mem::replace(&mut world.live.files, comes);
        let old = std::mem::replace(&mut world.tree, number);
        world.files_aside.insert(side.clone(), goes);
        world.trees_aside.insert(side, old);
        Ok(())
    }
    fn let_go(&mut self, swap: &FileSwap) -> Result<()> {
        let side = swap.side.to_string_lossy().into_owned();
        let mut world = self.host.call("let the tree go")?;
        world.files_aside.remove(&side);
        world.trees_aside.remove(&side);
        Ok(())
    }
}

/// Changes files of the live tree.
pub(super) struct Editor {
    host: Host,
}

impl Editor {
    pub fn new(host: Host) -> Self {
        Self { host }
    }
}

impl FileEditor for Editor {
    fn replace(&mut self, path: &[u8], content: &[u8], beside: &str) -> Result<()> {
        let slash = path.iter().rposition(|byte| *byte == b'/').map_or(0, |at| at + 1);
        let beside = [&path[..slash], beside.as_bytes()].concat();
        let written = self
            .host
            .call("write beside a file")?
            .live
            .files
            .0
            .insert(beside.clone(), content.to_vec());
        drop(written);
        let mut world = self.host.call("replace a file")?;
        world.live.files.0.remove(&beside);
        world.live.files.0.insert(path.to_vec(), content.to_vec());
        Ok(())
    }
    fn make(&mut self, path: &[u8], content: &[u8], _: &str) -> Result<()> {
        let mut world = self.host.call("make a file")?;
        world.live.files.0.insert(path.to_vec(), content.to_vec());
        Ok(())
    }
    fn remove_left(&mut self, path: &[u8]) -> Result<()> {
        self.host.call("remove what is left")?.live.files.0.remove(path);
        Ok(())
    }
    fn remove(&mut self, path: &[u8]) -> Result<()> {
        self.host.call("remove a file")?.live.files.0.remove(path);
        Ok(())
    }
}
