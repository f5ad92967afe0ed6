//! How entries get to a host: many are under way at once, each waits for its folder only, and the
//! first failure is told at the next call.

use super::building::{Made, RemoteTarget};
use super::workshop::WITHIN;
use super::{FoundKind, Metadata, RemoteSource, joined, remove_all, split};
use crate::present::not_built;
use crate::runtime::runtime;
use bytes::Bytes;
use fernweh_core::limits;
use fernweh_core::record::{Entry, EntryKind};
use fernweh_ports::{FileSource, Result, Trouble};
use futures_util::FutureExt;
use std::io::Read;
use tokio::sync::mpsc;

impl RemoteTarget {
    /// Paths come from an archive: they must stay inside, and go through folders only.
    pub(super) fn inside(&self, path: &[u8], folder: bool) -> Result<Vec<u8>> {
        let refused = |because: &str| {
            Trouble::damaged("the archive contains a path that is not allowed")
                .at(String::from_utf8_lossy(path).into_owned())
                .because(because)
                .hint("do not use this archive; find out where it comes from")
        };
        if path.is_empty() || path.contains(&0) || path.starts_with(b"/") {
            return Err(refused("the path is empty or not a path"));
        }
        let bad = |segment: &[u8]| matches!(segment, b"" | b"." | b"..");
        let mut segments = path.split(|byte| *byte == b'/');
        // Nor into the folder in which states are kept: its folders are made where one is named.
        let into_ours = segments.clone().next() == Some(WITHIN);
        if segments.any(bad) || into_ours {
            return Err(refused("it leads out of the site's folder"));
        }
        if self.written.contains(path) || !folder && self.made.contains_key(path) {
            return Err(refused("it occurs twice"));
        }
        let mut parent = split(path).0;
        while !parent.is_empty() {
            if self.written.contains(parent) {
                return Err(refused("it leads through a file or a link"));
            }
            parent = split(parent).0;
        }
        Ok(joined(&self.built(), path))
    }

    /// The folder of an entry, which is made if it is not; the others wait for it.
    pub(super) fn folder(&mut self, path: &[u8]) -> Made {
        if let Some(made) = self.made.get(path) {
            return made.clone();
        }
        if path.is_empty() {
            return std::future::ready(Ok(())).boxed().shared();
        }
        let parent = self.folder(split(path).0);
        let (tree, full, pool) =
            (self.tree.clone(), joined(&self.built(), path), self.pool.clone());
        let made = async move {
            parent.await?;
            let _lane = pool.acquire().await;
            tree.make_folder(&full).await
        };
        let made = made.boxed().shared();
        drop(runtime().spawn(made.clone()));
        self.made.insert(path.to_vec(), made.clone());
        made
    }

    /// A folder that an earlier process has made.
    pub(super) fn is_made(&mut self, path: &[u8]) {
        self.made.insert(path.to_vec(), std::future::ready(Ok(())).boxed().shared());
    }

    /// Lets `work` run when the folder of `path` is there; its failure is told later.
    pub(super) fn begin<W>(&mut self, path: &[u8], kilobytes: u32, work: W)
    where
        W: Future<Output = Result<()>> + Send + 'static,
    {
        let parent = self.folder(split(path).0);
        let failure = self.failure.clone();
        let held = runtime().block_on(
            self.held.clone().acquire_many_owned(kilobytes.clamp(1, limits::WRITTEN_KIB)),
        );
        let pool = self.pool.clone();
        runtime().spawn(async move {
            let done = async {
                parent.await?;
                let _lane = pool.acquire().await;
                work.await
            };
            if let Err(trouble) = done.await
                && let Ok(mut failure) = failure.lock()
            {
                failure.get_or_insert(trouble);
            }
            drop(held);
        });
    }

    /// Waits for everything that is under way.
    pub(super) fn settle(&mut self) -> Result<()> {
        runtime().block_on(async {
            drop(self.held.acquire_many(limits::WRITTEN_KIB).await);
            for made in self.made.values() {
                made.clone().await?;
            }
            Ok(())
        })?;
        self.failed()
    }

    /// A further name of a file that was written before becomes a file of its own: the content is
    /// read back from the host.
    pub(super) fn put_copy(&mut self, entry: &Entry, first: &[u8], full: &[u8]) -> Result<()> {
        // It may still be under way.
        self.settle()?;
        if !self.written.contains(first) {
            return Err(not_built(first, &entry.path));
        }
        self.unsaid.hard_links += 1;
        self.written.insert(&entry.path);
        let (folder, metadata) = (self.folder(split(&entry.path).0), self.set_metadata(entry));
        let (tree, from) = (self.tree.clone(), joined(&self.built(), first));
        runtime().block_on(async {
            folder.await?;
            let found = tree.stamp(&from).await?;
            let size = found.ok_or_else(|| not_built(first, &entry.path))?.size;
            let (to, content) = mpsc::channel(4);
            let (fetched, stored) =
                tokio::join!(tree.fetch(&from, size, to), tree.store(full, 0, content, metadata));
            fetched.and(stored)
        })
    }

    pub(super) fn set_metadata(&mut self, entry: &Entry) -> Metadata {
        let carries = self.tree.carries();
        self.unsaid.entries += 1;
        self.unsaid.attributes += u64::from(!entry.extra.attributes.is_empty());
        Metadata {
            mode: carries.modes.then_some(entry.mode),
            mtime: carries.times.then_some(entry.mtime),
        }
    }

    pub(super) fn put_large(
        &mut self,
        entry: &Entry,
        full: Vec<u8>,
        content: &mut dyn Read,
    ) -> Result<()> {
        runtime().block_on(self.folder(split(&entry.path).0))?;
        let metadata = self.set_metadata(entry);
        let sure = self.taken_over(entry, &full)?;
        let (at, first) = match EntryKind::File(sure) == entry.kind {
            // Its time says that it was written to its end.
            true => {
                std::io::copy(&mut content.take(sure), &mut std::io::sink())
                    .map_err(|error| reading(entry, &error))?;
                (sure, Vec::new())
            }
            false => self.same_so_far(entry, &full, sure, content)?,
        };
        let (to, from) = mpsc::channel(16);
        let tree = self.tree.clone();
        let writing = runtime().spawn(async move { tree.store(&full, at, from, metadata).await });
        if !first.is_empty() {
            // Whether it was taken is told when writing ends.
            let _ = to.blocking_send(first.into());
        }
        loop {
            let mut portion = Vec::with_capacity(limits::TRANSFER);
            content
                .take(limits::TRANSFER as u64)
                .read_to_end(&mut portion)
                .map_err(|error| reading(entry, &error))?;
            if portion.is_empty() || to.blocking_send(portion.into()).is_err() {
                break;
            }
        }
        drop(to);
        let written = runtime().block_on(writing);
        written.map_err(|error| Trouble::outside("a transfer ended unexpectedly").because(error))?
    }

    /// Compares what an earlier run has written of a file with what is to be written: the file can
    /// have changed since. Gives how many bytes are the same, and what of the content was read
    /// behind them.
    fn same_so_far(
        &self,
        entry: &Entry,
        full: &[u8],
        sure: u64,
        content: &mut dyn Read,
    ) -> Result<(u64, Vec<u8>)> {
        if sure == 0 {
            return Ok((0, Vec::new()));
        }
        let (to, mut from) = mpsc::channel::<Bytes>(16);
        let (tree, path) = (self.tree.clone(), full.to_vec());
        // Where it ends early, what is missing is different.
        drop(runtime().spawn(async move { tree.fetch(&path, sure, to).await }));
        let mut at = 0;
        while at < sure
            && let Some(there) = from.blocking_recv()
        {
            let wanted = (there.len() as u64).min(sure - at);
            let mut here = Vec::with_capacity(wanted as usize);
            content.take(wanted).read_to_end(&mut here).map_err(|error| reading(entry, &error))?;
            if here[..] != there[..wanted as usize] {
                return Ok((at, here));
            }
            at += wanted;
        }
        Ok((at, Vec::new()))
    }

    /// Takes a file over that an earlier run had written, whole or its beginning; gives the
    /// number of bytes that are sure.
    pub(super) fn taken_over(&mut self, entry: &Entry, full: &[u8]) -> Result<u64> {
        let EntryKind::File(wanted) = entry.kind else { return Ok(0) };
        let Some((size, mtime)) = self.earlier.remove(&entry.path) else { return Ok(0) };
        // The time is set when everything is written.
        let whole = size == wanted && mtime == entry.mtime;
        let sure =
            if whole { size } else { size.min(wanted).saturating_sub(limits::RESUMED_UPLOAD) };
        if sure > 0 {
            let from = joined(&self.aside("earlier"), &entry.path);
            runtime().block_on(self.tree.rename(&from, full, false))?;
        }
        Ok(sure)
    }

    /// What an earlier run of this name has built is put aside; what of it is worth taking
    /// over is noted.
    pub(super) fn put_earlier_aside(&mut self) -> Result<()> {
        let (built, aside) = (self.built(), self.aside("earlier"));
        let tree = self.tree.clone();
        runtime().block_on(async {
            if tree.look(&built).await?.is_none() {
                return Ok(());
            }
            if tree.look(&aside).await?.is_some() {
                remove_all(&*tree, aside.clone(), FoundKind::Folder).await?;
            }
            tree.rename(&built, &aside, false).await
        })?;
        if runtime().block_on(tree.look(&aside))?.is_none() {
            return Ok(());
        }
        let earlier = &mut self.earlier;
        RemoteSource::open(tree, &aside)?.walk(&|_| true, &mut |entry| {
            if let EntryKind::File(size) = entry.kind
                && size > limits::TAKEN_OVER
            {
                earlier.insert(entry.path, (size, entry.mtime));
            }
            Ok(())
        })?;
        Ok(())
    }
}

pub(super) fn reading(entry: &Entry, error: &std::io::Error) -> Trouble {
    Trouble::damaged("cannot read a file on its way to the host").at(entry.shown()).because(error)
}
