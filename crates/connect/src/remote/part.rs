//! A part of the files takes its place on another host.

use super::source::fetch_whole;
use super::{FoundKind, Metadata, Tree, editor, joined, remove_all, shown, split};
use crate::part::{Item, Side, There, Trees, read_list, switch, write_list};
use crate::runtime::runtime;
use fernweh_core::limits;
use fernweh_ports::{Direction, Result, Trouble, size};
use std::sync::Arc;

/// The trees of one run.
pub(super) struct RemoteTrees {
    tree: Arc<dyn Tree>,
    live: Vec<u8>,
    /// `new-RUN`: the others lie beside it.
    new: Vec<u8>,
}

impl RemoteTrees {
    pub fn of(tree: Arc<dyn Tree>, live: &[u8], new: &[u8]) -> Self {
        Self { tree, live: live.to_vec(), new: new.to_vec() }
    }

    /// A place of this run beside the new tree.
    fn beside(&self, word: &[u8]) -> Vec<u8> {
        let (workshop, name) = split(&self.new);
        let run = name.strip_prefix(b"new-").unwrap_or(name);
        joined(workshop, &[word, b"-", run].concat())
    }

    fn root(&self, side: Side) -> Vec<u8> {
        match side {
            Side::Live => self.live.clone(),
            Side::New => self.new.clone(),
            Side::Old => self.beside(b"old"),
            Side::Later => self.beside(b"later"),
        }
    }

    fn full(&self, side: Side, path: &[u8]) -> Vec<u8> {
        let root = self.root(side);
        if path.is_empty() { root } else { joined(&root, path) }
    }

    pub fn list(&self) -> Vec<u8> {
        self.beside(b"part")
    }

    /// Writes the list.
    pub fn note(&self, items: &[Item]) -> Result<()> {
        let mode = self.tree.carries().modes.then_some(0o600);
        let metadata = Metadata { mode, mtime: None };
        let list = write_list(items);
        if list.len() as u64 > limits::PART_LIST {
            return Err(Trouble::usage("too many files for a part")
                .because(format!("their list has more than {}", size(limits::PART_LIST)))
                .hint("unpack fewer of them at a time, or all files of the site"));
        }
        runtime().block_on(async {
            if self.tree.look(&self.list()).await?.is_some() {
                self.tree.remove_file(&self.list()).await?;
            }
            editor::write(&*self.tree, &self.list(), list, metadata).await
        })
    }

    /// Makes the switch, or completes it.
    pub fn switch(&self, direction: Direction) -> Result<()> {
        let place = shown(&*self.tree, &self.list());
        let text = runtime().block_on(self.read())?;
        switch(self, &read_list(&text, &place)?, direction)
    }

    async fn read(&self) -> Result<Vec<u8>> {
        let path = self.list();
        let Some(stamp) = self.tree.stamp(&path).await? else {
            return Err(Trouble::outside("cannot read what is put in place")
                .at(shown(&*self.tree, &path))
                .because("there is no such file")
                .hint("what was replaced is next to it; restore it by hand"));
        };
        if stamp.size > limits::PART_LIST {
            return Err(Trouble::damaged("cannot read what is put in place")
                .at(shown(&*self.tree, &path))
                .because(format!("the host says that it has {}", size(stamp.size)))
                .hint("this is not the list that was written; ask who changes files there"));
        }
        fetch_whole(&*self.tree, &path, stamp.size).await
    }

    /// Removes what is kept, and what was not put in place.
    pub async fn remove(&self) -> Result<()> {
        for side in [Side::New, Side::Old, Side::Later] {
            let root = self.root(side);
            if self.tree.look(&root).await?.is_some() {
                remove_all(&*self.tree, root, FoundKind::Folder).await?;
            }
        }
        if self.tree.look(&self.list()).await?.is_some() {
            self.tree.remove_file(&self.list()).await?;
        }
        Ok(())
    }
}

impl Trees for RemoteTrees {
    fn look(&self, side: Side, path: &[u8]) -> Result<There> {
        let found = runtime().block_on(self.tree.look(&self.full(side, path)))?;
        Ok(match found.map(|found| found.kind) {
            None => There::Nothing,
            Some(FoundKind::Folder) => There::Folder,
            Some(_) => There::Other,
        })
    }

    fn move_entry(&self, from: Side, to: Side, path: &[u8]) -> Result<()> {
        let (from, to) = (self.full(from, path), self.full(to, path));
        runtime().block_on(self.tree.rename(&from, &to, false))
    }

    fn make_folder(&self, side: Side, path: &[u8], mode: u32) -> Result<()> {
        let full = self.full(side, path);
        let mode = self.tree.carries().modes.then_some(mode);
        runtime().block_on(async {
            self.tree.make_folder(&full).await?;
            self.tree.set_metadata(&full, Metadata { mode, mtime: None }).await
        })
    }

    fn remove_folder(&self, side: Side, path: &[u8]) -> Result<()> {
        runtime().block_on(self.tree.remove_folder(&self.full(side, path)))
    }
}
