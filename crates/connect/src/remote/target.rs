//! Building a file tree beside the old one on another host.
//!
//! Many files are under way at once: each waits for its folder only. The first failure is
//! told at the next call, and at the latest before the switch.

use super::building::{RemoteTarget, Unsaid};
use super::editor::write;
use super::lease::{self, Lease};
use super::part::RemoteTrees;
use super::single;
use super::source::{Listing, fetch_whole};
use super::upload::reading;
use super::workshop::{WITHIN, open_at, workshops};
use super::{FoundKind, Metadata, RemoteSource, joined, listed, remove_all, shown, split, switch};
use crate::local::{NOTE, random_name};
use crate::part;
use crate::present::{self, Building};
use crate::runtime::runtime;
use fernweh_core::entries::EntryList;
use fernweh_core::limits;
use fernweh_core::record::{Entry, EntryKind};
use fernweh_ports::{
    Counts, Direction, FileSource, FileSwap, FileTarget, Probe, Result, Trouble, counted, foreign,
};
use futures_util::StreamExt;
use std::collections::HashMap;
use std::ffi::OsString;
use std::io::Read;
use std::os::unix::ffi::{OsStrExt, OsStringExt};
use std::path::PathBuf;

impl RemoteTarget {
    /// Makes the folder in which states are built: beside the site's folder if the host
    /// allows it, otherwise in it.
    async fn open_workshop(&mut self) -> Result<()> {
        let tree = self.tree.clone();
        let mut refused = None;
        for place in workshops(&self.root) {
            match open_at(&*tree, &place).await {
                Ok(made) => {
                    self.workshop = Some(place);
                    self.way.extend(made);
                    return Ok(());
                }
                Err(trouble) if trouble.lost => return Err(trouble),
                Err(trouble) => refused = refused.or(Some(trouble)),
            }
        }
        let trouble = refused.unwrap_or_else(|| Trouble::outside("cannot write there"));
        Err(trouble.hint(
            "Fernweh builds the new files beside the site's folder, or in a hidden folder in it; \
             it needs the right to write to one of them",
        ))
    }
}

impl RemoteTarget {
    /// Keeps everybody else from working on this place.
    fn hold(&mut self, workshop: &[u8]) -> Result<()> {
        if self.lease.is_some() {
            return Ok(());
        }
        let (tree, run, trial) = (&self.tree, &self.run, &self.trial);
        self.lease = runtime().block_on(async {
            open_at(&**tree, workshop).await?;
            match trial {
                // A lease of one that is killed would keep everybody away for ten minutes.
                Some(own) => lease::look(&**tree, workshop, own).await.map(|()| None),
                None => Lease::take(tree, workshop, run).await.map(Some),
            }
        })?;
        Ok(())
    }

    fn trees_of(&self, swap: &FileSwap) -> RemoteTrees {
        let path = |path: &PathBuf| path.as_os_str().as_bytes().to_vec();
        RemoteTrees::of(self.tree.clone(), &path(&swap.target), &path(&swap.side))
    }

    /// Notes what of the built tree takes its place, and what it needs there.
    fn finish_part(&mut self, folders: &[Entry]) -> Result<FileSwap> {
        let modes: HashMap<&[u8], u32> =
            folders.iter().map(|folder| (&folder.path[..], folder.mode)).collect();
        let (built, root) = (self.built(), self.root.clone());
        let (tree, aside) = (self.tree.clone(), self.aside("earlier"));
        runtime().block_on(async {
            if tree.look(&aside).await?.is_some() {
                remove_all(&*tree, aside, FoundKind::Folder).await?;
            }
            if tree.look(&root).await?.is_none() {
                tree.make_folder(&root).await?;
                let open = Metadata { mode: tree.carries().modes.then_some(0o755), mtime: None };
                tree.set_metadata(&root, open).await?;
            }
            Ok::<_, Trouble>(())
        })?;
        let mut entries = EntryList::default();
        RemoteSource::open(tree.clone(), &built)?.walk(&|_| true, &mut |mut entry| {
            entry.mode = modes.get(&entry.path[..]).copied().unwrap_or(entry.mode);
            entries.push(entry);
            Ok(())
        })?;
        let trees = RemoteTrees::of(tree.clone(), &root, &built);
        trees.note(&part::plan(&trees, entries.iter(), &shown(&*tree, &root))?)?;
        let path = |bytes: Vec<u8>| PathBuf::from(OsString::from_vec(bytes));
        Ok(FileSwap {
            target: path(root),
            side: path(built),
            new: None,
            had_old: true,
            part: true,
            resident: None,
        })
    }
}

impl Building for RemoteTarget {
    fn make_way(&mut self, entry: &Entry) -> Result<bool> {
        if self.written.remove(&entry.path) {
            let built = joined(&self.built(), &entry.path);
            runtime().block_on(self.tree.remove_file(&built))?;
        }
        Ok(entry.kind == EntryKind::Folder && self.made.contains_key(&entry.path))
    }

    fn take_away(&mut self, entry: &Entry) -> Result<()> {
        let built = joined(&self.built(), &entry.path);
        runtime().block_on(async {
            match entry.kind {
                // One in which the archive has put something stays.
                EntryKind::Folder => match self.tree.remove_folder(&built).await {
                    Err(trouble) if trouble.lost => Err(trouble),
                    _ => Ok(()),
                },
                _ if self.written.remove(&entry.path) => self.tree.remove_file(&built).await,
                _ => Ok(()),
            }
        })
    }

    fn kept(&mut self) -> &mut EntryList {
        &mut self.kept
    }
}

impl FileTarget for RemoteTarget {
    fn place(&self) -> String {
        shown(&*self.tree, &self.root)
    }

    fn free(&self) -> Option<u64> {
        // The folder itself may not be there yet.
        let mut place = &self.root[..];
        loop {
            match runtime().block_on(self.tree.free(place)) {
                Ok(Some(free)) => return Some(free),
                _ if place.len() <= 1 => return None,
                _ => place = split(place).0,
            }
        }
    }

    fn existing(&self) -> Result<u64> {
        runtime().block_on(async {
            if self.tree.look(&self.root).await?.is_none() {
                return Ok(0);
            }
            let entries = listed(&*self.tree, &self.root).await?;
            Ok(entries.iter().filter(|entry| entry.name != WITHIN).count() as u64)
        })
    }

    fn build(&mut self) -> Result<()> {
        runtime().block_on(self.open_workshop())?;
        if let Some(workshop) = self.workshop.clone() {
            self.hold(&workshop)?;
        }
        self.put_earlier_aside()?;
        let (tree, built) = (self.tree.clone(), self.built());
        let made = runtime().block_on(async {
            tree.make_folder(&built).await?;
            tree.look(&built).await
        })?;
        self.began = made.and_then(|made| made.mtime).filter(|_| tree.carries().exact_times);
        Ok(())
    }

    fn as_trial(&mut self, own: &[String]) {
        self.trial = Some(own.to_vec());
    }

    fn as_part(&mut self) {
        self.part = true;
    }

    fn put(&mut self, entry: &Entry) -> Result<()> {
        self.failed()?;
        let full = self.inside(&entry.path, entry.kind == EntryKind::Folder)?;
        match &entry.kind {
            EntryKind::Folder => {
                self.folders.push(entry.clone());
                drop(self.folder(&entry.path));
                Ok(())
            }
            EntryKind::Link(_) if !self.tree.carries().links => {
                self.unsaid.links += 1;
                Ok(())
            }
            EntryKind::Link(to) => {
                self.written.insert(&entry.path);
                let (tree, to, time) = (self.tree.clone(), to.clone(), Some(entry.mtime));
                self.begin(&entry.path, 1, async move { tree.make_link(&full, &to, time).await });
                Ok(())
            }
            EntryKind::HardLink(first) => self.put_copy(entry, first, &full),
            EntryKind::File(_) => self.put_file(entry, &mut std::io::empty()),
        }
    }

    fn put_file(&mut self, entry: &Entry, content: &mut dyn Read) -> Result<()> {
        self.failed()?;
        let full = self.inside(&entry.path, false)?;
        self.written.insert(&entry.path);
        let mut start = Vec::new();
        let read = content.take(limits::WRITTEN_WHOLE + 1).read_to_end(&mut start);
        read.map_err(|error| reading(entry, &error))?;
        if start.len() as u64 > limits::WRITTEN_WHOLE || self.earlier.contains_key(&entry.path) {
            return self.put_large(entry, full, &mut std::io::Cursor::new(start).chain(content));
        }
        let metadata = self.set_metadata(entry);
        let tree = self.tree.clone();
        let kilobytes = 1 + (start.len() >> 10) as u32;
        self.begin(&entry.path, kilobytes, async move {
            super::editor::write(&*tree, &full, start, metadata).await
        });
        Ok(())
    }

    fn keep(&mut self, wanted: &dyn Fn(&[u8]) -> bool) -> Result<u64> {
        if self.existing()? == 0 {
            return Ok(0);
        }
        let mut present = RemoteSource::open(self.tree.clone(), &self.root)?;
        self.settle()?;
        present::keep(self, &mut present, wanted)
    }

    fn catch_up(&mut self, wanted: &dyn Fn(&[u8]) -> bool) -> Result<u64> {
        if self.existing()? == 0 {
            return Ok(0);
        }
        let mut present = RemoteSource::open(self.tree.clone(), &self.root)?;
        let moved = present::catch_up(self, &mut present, wanted)?;
        self.settle()?;
        Ok(moved)
    }

    fn take_up(&mut self, swap: &FileSwap, wanted: &dyn Fn(&[u8]) -> bool) -> Result<bool> {
        let new = swap.side.as_os_str().as_bytes();
        let waits = !swap.part && runtime().block_on(self.tree.look(new))?.is_some();
        if !waits {
            return Ok(false);
        }
        self.workshop = Some(split(new).0.to_vec());
        let mut kept = EntryList::default();
        RemoteSource::open(self.tree.clone(), new)?.walk(&|_| true, &mut |entry| {
            match entry.kind {
                EntryKind::Folder => self.is_made(&entry.path),
                _ => drop(self.written.insert(&entry.path)),
            }
            if wanted(&entry.path) {
                kept.push(entry);
            }
            Ok(())
        })?;
        self.kept = kept;
        Ok(true)
    }

    fn finish(&mut self) -> Result<FileSwap> {
        self.settle()?;
        let mut folders = std::mem::take(&mut self.folders);
        if self.part {
            return self.finish_part(&folders);
        }
        let depth = |entry: &Entry| entry.path.iter().filter(|byte| **byte == b'/').count();
        folders.sort_by_key(|entry| std::cmp::Reverse(depth(entry)));
        let tree = self.tree.clone();
        let mut dressed = Vec::new();
        for entry in folders {
            dressed.push((
                joined(&self.built(), &entry.path),
                self.set_metadata(&entry),
                depth(&entry),
            ));
        }
        let aside = self.aside("earlier");
        let (built, root) = (self.built(), self.root.clone());
        let carries = tree.carries();
        let had_old = runtime().block_on(async {
            // What is in a folder is dressed before it: it may close itself.
            for same_depth in dressed.chunk_by(|a, b| a.2 == b.2) {
                let steps =
                    same_depth.iter().map(|(path, metadata, _)| tree.set_metadata(path, *metadata));
                let mut steps =
                    futures_util::stream::iter(steps).buffer_unordered(tree.connections());
                while let Some(step) = steps.next().await {
                    step?;
                }
            }
            if tree.look(&aside).await?.is_some() {
                remove_all(&*tree, aside, FoundKind::Folder).await?;
            }
            let old = tree.look(&root).await?;
            if carries.modes {
                let mode = old.as_ref().and_then(|old| old.mode).or(Some(0o755));
                tree.set_metadata(&built, Metadata { mode, mtime: None }).await?;
            }
            Ok::<_, Trouble>(old.is_some())
        })?;
        let path = |bytes: Vec<u8>| PathBuf::from(OsString::from_vec(bytes));
        Ok(FileSwap {
            target: path(self.root.clone()),
            side: path(built),
            new: None,
            had_old,
            part: false,
            resident: None,
        })
    }

    fn cannot_carry(&self, counts: Counts) -> Vec<String> {
        let Counts { entries, links, hard_links, attributes } = counts;
        let carries = self.tree.carries();
        let mut notes = Vec::new();
        let mut note = |number, what: &str| {
            if number > 0 {
                let entries = counted(number, "entry", "entries");
                notes.push(format!("{} cannot carry {what}: {entries}", self.tree.shown()));
            }
        };
        let without = |carried, number| if carried { 0 } else { number };
        note(without(carries.links, links), "links; they are left out");
        note(hard_links, "hard links; each name becomes a file of its own there");
        note(attributes, "extended attributes and access lists; they are left out");
        note(without(carries.modes, entries), "permissions; the host sets its usual ones");
        note(without(carries.times, entries), "times; the files look new");
        notes
    }

    fn notes(&self) -> Vec<String> {
        let Unsaid { links, entries, hard_links, attributes } = self.unsaid;
        let mut notes = self.cannot_carry(Counts { entries, links, hard_links, attributes });
        if self.workshop.as_deref().is_some_and(|place| split(place).1 == WITHIN) {
            notes.push(format!(
                "nothing can be created beside {}, so both states are kept in {} inside it, closed by an .htaccess file, and are exchanged entry by entry; make sure that the web server does not serve that folder",
                self.place(),
                String::from_utf8_lossy(WITHIN)
            ));
        }
        notes
    }

    fn put_mark(&mut self) -> Result<Option<Probe>> {
        let opened: Result<bool> = runtime().block_on(async {
            if self.tree.look(&self.root).await?.is_none() {
                return Ok(false);
            }
            open_at(&*self.tree, &joined(&self.root, WITHIN)).await?;
            Ok(true)
        });
        if opened? { self.put_probe(false) } else { Ok(None) }
    }

    fn put_probe(&mut self, beside: bool) -> Result<Option<Probe>> {
        let within = joined(&self.root, WITHIN);
        let tree = self.tree.clone();
        runtime().block_on(async {
            for place in workshops(&self.root) {
                if place != within && !beside {
                    continue;
                }
                if !matches!(tree.look(&place).await?, Some(found) if found.kind == FoundKind::Folder) {
                    continue;
                }
                let (name, content) = (random_name("probe-"), random_name(""));
                // As readable as it may be: the folder itself must keep others out.
                let metadata = Metadata { mode: tree.carries().modes.then_some(0o644), mtime: None };
                let full = joined(&place, name.as_bytes());
                super::editor::write(&*tree, &full, content.clone().into_bytes(), metadata).await?;
                let folder = String::from_utf8_lossy(split(&place).1).into_owned();
                let up = if place == within { "" } else { "../" };
                return Ok(Some(Probe { path: format!("{up}{folder}/{name}"), content }));
            }
            Ok(None)
        })
    }

    fn take_probe(&mut self, probe: &Probe) -> Result<()> {
        let base = match probe.path.starts_with("../") {
            true => split(&self.root).0.to_vec(),
            false => self.root.clone(),
        };
        let path = joined(&base, probe.path.trim_start_matches("../").as_bytes());
        runtime().block_on(async {
            self.tree.remove_file(&path).await?;
            switch::close(&*self.tree, split(&path).0).await;
            Ok(())
        })
    }

    fn clear(
        &mut self,
        stays: &dyn Fn(&[u8]) -> bool,
        is_packed: &dyn Fn(&Entry) -> bool,
    ) -> Result<Vec<String>> {
        if self.existing()? == 0 {
            return Ok(Vec::new());
        }
        let mut present = RemoteSource::open(self.tree.clone(), &self.root)?;
        let mut listing = Listing::default();
        present::clear(&mut present, stays, is_packed, &mut |entry| {
            let full = joined(&self.root, &entry.path);
            runtime().block_on(async {
                match entry.kind {
                    // One in which something stays is not empty.
                    EntryKind::Folder => {
                        self.tree.remove_folder(&full).await.map(|()| true).or(Ok(true))
                    }
                    _ if !listing.holds(&*self.tree, &full, entry).await? => Ok(false),
                    _ => self.tree.remove_file(&full).await.map(|()| true),
                }
            })
        })
    }

    fn discard(&mut self) -> Result<()> {
        // What is still under way must not come after the end.
        let _ = self.settle();
        self.lease = None;
        runtime().block_on(async {
            for workshop in workshops(&self.root) {
                if self.tree.look(&workshop).await?.is_none() {
                    continue;
                }
                for word in ["new", "earlier", "part"] {
                    let place = joined(&workshop, format!("{word}-{}", self.run).as_bytes());
                    if let Some(found) = self.tree.look(&place).await? {
                        let kind = found.kind;
                        remove_all(&*self.tree, place, kind).await?;
                    }
                }
                lease::give_back(&*self.tree, &workshop, &self.run).await;
                switch::close(&*self.tree, &workshop).await;
            }
            // Whoever only tries leaves nothing behind; one that holds something by now stays.
            for folder in self.way.drain(..).rev() {
                let _ = self.tree.remove_folder(&folder).await;
            }
            Ok(())
        })
    }

    fn switch(&mut self, swap: &FileSwap, direction: Direction) -> Result<()> {
        let workshop = split(swap.side.as_os_str().as_bytes()).0.to_vec();
        match &self.lease {
            Some(lease) => runtime().block_on(lease.check())?,
            None => self.hold(&workshop)?,
        }
        match swap.part {
            true => self.trees_of(swap).switch(direction),
            false => runtime().block_on(switch::switch(&*self.tree, swap, direction)),
        }
    }

    fn came_in(
        &mut self,
        swap: &FileSwap,
        _: std::time::SystemTime,
        most: usize,
    ) -> Result<Option<(Vec<String>, u64)>> {
        let (Some(began), Some(old)) = (self.began, switch::holds(swap, Direction::Back)) else {
            return Ok(None);
        };
        let (mut names, mut count) = (Vec::new(), 0);
        RemoteSource::open(self.tree.clone(), &old)?.walk(&|_| true, &mut |entry| {
            if entry.kind.is_file() && entry.mtime >= began {
                count += 1;
                if names.len() < most {
                    names.push(entry.shown());
                }
            }
            Ok(())
        })?;
        Ok(Some((names, count)))
    }

    fn absent(&mut self, swap: &FileSwap, direction: Direction) -> Result<Vec<String>> {
        let place = match swap.part {
            true => Some(self.trees_of(swap).list()),
            false => switch::holds(swap, direction),
        };
        let Some(place) = place else { return Ok(Vec::new()) };
        let there = runtime().block_on(self.tree.look(&place))?.is_some();
        Ok(if there { Vec::new() } else { vec![shown(&*self.tree, &place)] })
    }

    fn note_kept(&mut self, run: &str, note: Option<&[u8]>) -> Result<()> {
        runtime().block_on(async {
            for workshop in workshops(&self.root) {
                if self.tree.look(&workshop).await?.is_none() {
                    continue;
                }
                let path = joined(&workshop, format!("{NOTE}{run}.json").as_bytes());
                if self.tree.look(&path).await?.is_some() {
                    self.tree.remove_file(&path).await?;
                }
                match note {
                    Some(note) => {
                        let mode = self.tree.carries().modes.then_some(0o600);
                        let note = note.to_vec();
                        write(&*self.tree, &path, note, Metadata { mode, mtime: None }).await?;
                        return Ok(());
                    }
                    None => switch::close(&*self.tree, &workshop).await,
                }
            }
            Ok(())
        })
    }

    fn notes_kept(&mut self) -> Result<Vec<Vec<u8>>> {
        runtime().block_on(async {
            let mut notes = Vec::new();
            for workshop in workshops(&self.root) {
                if self.tree.look(&workshop).await?.is_none() {
                    continue;
                }
                for entry in listed(&*self.tree, &workshop).await? {
                    if let FoundKind::File(size) = entry.kind
                        && size <= limits::KEPT_NOTE
                        && entry.name.starts_with(NOTE.as_bytes())
                    {
                        let path = joined(&workshop, &entry.name);
                        notes.push(fetch_whole(&*self.tree, &path, size).await?);
                    }
                }
            }
            Ok(notes)
        })
    }

    fn adopted(&mut self, swap: &FileSwap) -> Result<FileSwap> {
        single::adopted(swap, &self.root, &workshops(&self.root), &self.run)
            .ok_or_else(|| foreign(&format!("the files of {}", shown(&*self.tree, &self.root))))
    }

    fn let_go(&mut self, swap: &FileSwap) -> Result<()> {
        runtime().block_on(async {
            if !swap.part {
                return switch::let_go(&*self.tree, swap).await;
            }
            self.trees_of(swap).remove().await?;
            switch::close(&*self.tree, split(swap.side.as_os_str().as_bytes()).0).await;
            Ok(())
        })
    }
}
