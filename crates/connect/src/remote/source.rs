//! Reading a file tree of another host: folders are listed and small files fetched before
//! they are asked for, so that nobody waits for the network between two of them.

use super::{FoundKind, RemoteEntry, Tree, joined, listed, shown};
use crate::runtime::runtime;
use bytes::Bytes;
use fernweh_core::limits;
use fernweh_core::record::{Entry, EntryKind};
use fernweh_ports::{FileSource, LeftOut, Result, Trouble};
use std::collections::VecDeque;
use std::io::Read;
use std::sync::Arc;
use tokio::sync::mpsc;
use tokio::task::JoinHandle;

/// A folder on another host.
pub struct RemoteSource {
    tree: Arc<dyn Tree>,
    root: Vec<u8>,
    /// What will be asked for next, in this order.
    expected: VecDeque<(Vec<u8>, u64)>,
    fetching: VecDeque<Fetching>,
    bytes: u64,
}

struct Fetching {
    path: Vec<u8>,
    size: u64,
    task: JoinHandle<Result<Vec<u8>>>,
}

impl Drop for Fetching {
    fn drop(&mut self) {
        self.task.abort();
    }
}

/// A folder that is being visited.
struct Level {
    path: Vec<u8>,
    /// Its entries that were not visited yet.
    rest: VecDeque<Listed>,
}

impl Level {
    fn of(path: Vec<u8>, found: Vec<RemoteEntry>) -> Self {
        let listed = |found| Listed { found, wanted: None, listing: None };
        Self { path, rest: found.into_iter().map(listed).collect() }
    }
}

/// An entry that was listed and not yet visited.
struct Listed {
    found: RemoteEntry,
    wanted: Option<bool>,
    listing: Option<JoinHandle<Result<Vec<RemoteEntry>>>>,
}

impl RemoteSource {
    /// The tree below `root`, which must be a folder.
    pub fn open(tree: Arc<dyn Tree>, root: &[u8]) -> Result<Self> {
        let trouble = |because: &str| {
            Trouble::outside("cannot read the site's files")
                .at(shown(&*tree, root))
                .because(because)
                .hint("set files to the folder of the site, as the host names it")
        };
        // The site's folder itself may be a link to where it really is.
        let probe = joined(root, b".");
        match runtime().block_on(tree.look(&probe)) {
            Ok(Some(found)) if found.kind == FoundKind::Folder => {}
            Ok(Some(_)) => return Err(trouble("this is not a folder")),
            Ok(None) => return Err(trouble("there is no such folder")),
            Err(other) => return Err(other),
        }
        let (expected, fetching) = (VecDeque::new(), VecDeque::new());
        Ok(Self { tree, root: root.to_vec(), expected, fetching, bytes: 0 })
    }

    fn full(&self, path: &[u8]) -> Vec<u8> {
        if path.is_empty() { self.root.clone() } else { joined(&self.root, path) }
    }

    fn begin_listing(&self, path: &[u8]) -> JoinHandle<Result<Vec<RemoteEntry>>> {
        let (tree, full) = (self.tree.clone(), self.full(path));
        runtime().spawn(async move { listed(&*tree, &full).await })
    }

    /// Begins to list the folders that will be visited next.
    fn look_ahead(&self, levels: &mut [Level], enter: &dyn Fn(&[u8]) -> bool) {
        let mut under_way = 0;
        let next = levels.iter_mut().rev().flat_map(|level| {
            let path = &level.path;
            level.rest.iter_mut().map(move |next| (path, next))
        });
        for (folder, next) in next.take(256) {
            if under_way >= self.tree.connections() {
                break;
            }
            if next.found.kind != FoundKind::Folder {
                continue;
            }
            let path = below(folder, &next.found.name);
            if *next.wanted.get_or_insert_with(|| enter(&path)) {
                under_way += 1;
                next.listing.get_or_insert_with(|| self.begin_listing(&path));
            }
        }
    }

    /// Keeps as many small files under way as there is room for.
    fn fetch_ahead(&mut self) {
        while self.fetching.len() < 2 * self.tree.connections()
            && self.bytes < limits::FETCHED_AHEAD
        {
            match self.expected.front() {
                Some((_, size)) if *size <= limits::FETCHED_AHEAD_FILE => {}
                _ => break,
            }
            let Some((path, size)) = self.expected.pop_front() else { break };
            let (tree, full) = (self.tree.clone(), self.full(&path));
            let task = runtime().spawn(async move { whole(&*tree, &full, size).await });
            self.bytes += size;
            self.fetching.push_back(Fetching { path, size, task });
        }
    }
}

/// The path of an entry of a folder; the site's folder itself has none.
fn below(folder: &[u8], name: &[u8]) -> Vec<u8> {
    if folder.is_empty() { name.to_vec() } else { joined(folder, name) }
}

/// The content of a small file.
async fn whole(tree: &dyn Tree, path: &[u8], size: u64) -> Result<Vec<u8>> {
    let (to, mut from) = mpsc::channel::<Bytes>(4);
    let mut content = Vec::with_capacity(usize::try_from(size).unwrap_or(0));
    let collect = async {
        while let Some(bytes) = from.recv().await {
            content.extend_from_slice(&bytes);
        }
    };
    let (fetched, ()) = tokio::join!(tree.fetch(path, size, to), collect);
    fetched.map(|()| content)
}

fn entry_of(path: Vec<u8>, found: &RemoteEntry, kind: EntryKind) -> Entry {
    let usual = if kind == EntryKind::Folder { 0o755 } else { 0o644 };
    Entry {
        path,
        kind,
        mode: found.mode.unwrap_or(usual),
        mtime: found.mtime.unwrap_or(0),
        nanos: 0,
        owner: found.owner,
    }
}

impl FileSource for RemoteSource {
    fn place(&self) -> String {
        shown(&*self.tree, &self.root)
    }

    fn walk(
        &mut self,
        enter: &dyn Fn(&[u8]) -> bool,
        visit: &mut dyn FnMut(Entry) -> Result<()>,
    ) -> Result<Vec<LeftOut>> {
        self.expected.clear();
        self.fetching.clear();
        self.bytes = 0;
        let mut left_out = Vec::new();
        let top = settled(self.begin_listing(b""))?;
        let top = top.into_iter().filter(|entry| entry.name != super::workshop::WITHIN).collect();
        let mut levels = vec![Level::of(Vec::new(), top)];
        let mut seen = 0;
        while let Some(level) = levels.last_mut() {
            let Some(mut next) = level.rest.pop_front() else {
                levels.pop();
                continue;
            };
            let path = below(&level.path, &next.found.name);
            let wanted = next.wanted.unwrap_or_else(|| enter(&path));
            if !wanted {
                continue;
            }
            seen += 1;
            let endless = |because: String| {
                Trouble::outside("the host's files do not end")
                    .at(shown(&*self.tree, &self.full(&path)))
                    .because(because)
                    .hint("leave this folder out with --leave-out, if it is not the site's")
            };
            if seen > limits::TREE_ENTRIES {
                return Err(endless(format!("more than {} entries", limits::TREE_ENTRIES)));
            }
            match next.found.kind {
                FoundKind::Folder => {
                    if path.iter().filter(|byte| **byte == b'/').count() >= limits::TREE_DEPTH {
                        let most = limits::TREE_DEPTH;
                        return Err(endless(format!("folders lie more than {most} deep")));
                    }
                    visit(entry_of(path.clone(), &next.found, EntryKind::Folder))?;
                    let listing = next.listing.take();
                    let listing = listing.unwrap_or_else(|| self.begin_listing(&path));
                    levels.push(Level::of(path, settled(listing)?));
                    self.look_ahead(&mut levels, enter);
                }
                FoundKind::File(size) => {
                    visit(entry_of(path, &next.found, EntryKind::File(size)))?;
                }
                FoundKind::Link => {
                    let to = runtime().block_on(self.tree.read_link(&self.full(&path)));
                    match to {
                        Ok(to) => visit(entry_of(path, &next.found, EntryKind::Link(to)))?,
                        Err(trouble) if trouble.lost => return Err(trouble),
                        Err(trouble) => left_out.push(LeftOut {
                            path: String::from_utf8_lossy(&path).into_owned(),
                            because: format!("a link that cannot be read: {trouble}"),
                        }),
                    }
                }
                FoundKind::Other => left_out.push(LeftOut {
                    path: String::from_utf8_lossy(&path).into_owned(),
                    because: "neither file, folder nor link (a socket or device)".into(),
                }),
            }
        }
        Ok(left_out)
    }

    fn announce(&mut self, order: Vec<(Vec<u8>, u64)>) {
        self.expected.extend(order);
    }

    fn open(&mut self, path: &[u8]) -> Result<Box<dyn Read + '_>> {
        // What was expected and is not wanted after all is passed over.
        if self.fetching.iter().any(|next| next.path == path)
            || self.expected.iter().take(1024).any(|(next, _)| next == path)
        {
            loop {
                self.fetch_ahead();
                match self.fetching.pop_front() {
                    Some(mut next) if next.path == path => {
                        self.bytes -= next.size;
                        let content = runtime().block_on(&mut next.task);
                        self.fetch_ahead();
                        let content = content.map_err(|error| crashed(&error))??;
                        return Ok(Box::new(std::io::Cursor::new(content)));
                    }
                    Some(other) => self.bytes -= other.size,
                    None => match self.expected.pop_front() {
                        Some((next, size)) if next == path => return Ok(self.stream(path, size)),
                        Some(_) => {}
                        None => break,
                    },
                }
            }
        }
        let full = self.full(path);
        let found = runtime().block_on(self.tree.look(&full))?;
        match found.map(|found| found.kind) {
            Some(FoundKind::File(size)) => Ok(self.stream(path, size)),
            _ => Err(Trouble::outside("cannot read a file")
                .at(shown(&*self.tree, &full))
                .because("there is no such file")
                .hint("check the path")),
        }
    }

    fn free(&self) -> Option<u64> {
        runtime().block_on(self.tree.free(&self.root)).ok().flatten()
    }
}

impl RemoteSource {
    /// A large file, portion by portion.
    fn stream<'a>(&self, path: &[u8], size: u64) -> Box<dyn Read + 'a> {
        let (to, from) = mpsc::channel(16);
        let (tree, full) = (self.tree.clone(), self.full(path));
        let task = runtime().spawn(async move { tree.fetch(&full, size, to).await });
        Box::new(Stream { from, task: Some(task), portion: Bytes::new() })
    }
}

fn settled<T>(task: JoinHandle<Result<T>>) -> Result<T> {
    runtime().block_on(task).map_err(|error| crashed(&error))?
}

fn crashed(error: &tokio::task::JoinError) -> Trouble {
    Trouble::outside("a transfer ended unexpectedly").because(error)
}

struct Stream {
    from: mpsc::Receiver<Bytes>,
    task: Option<JoinHandle<Result<()>>>,
    portion: Bytes,
}

impl Read for Stream {
    fn read(&mut self, buffer: &mut [u8]) -> std::io::Result<usize> {
        if self.portion.is_empty() {
            match self.from.blocking_recv() {
                Some(portion) => self.portion = portion,
                None => {
                    if let Some(task) = self.task.take() {
                        settled(task).map_err(std::io::Error::other)?;
                    }
                    return Ok(0);
                }
            }
        }
        let length = self.portion.len().min(buffer.len());
        buffer[..length].copy_from_slice(&self.portion.split_to(length));
        Ok(length)
    }
}

impl Drop for Stream {
    fn drop(&mut self) {
        if let Some(task) = &self.task {
            task.abort();
        }
    }
}
