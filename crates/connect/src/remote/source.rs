//! Reading a file tree of another host: folders are listed and small files fetched before
//! they are asked for, so that nobody waits for the network between two of them.

use super::{FoundKind, RemoteEntry, Tree, joined, listed, shown, split};
use crate::runtime::runtime;
use bytes::Bytes;
use fernweh_core::limits;
use fernweh_core::record::{Entry, EntryKind, Extra};
use fernweh_ports::{FileSource, LeftOut, OpenFile, Result, Stamp, Trouble};
use std::collections::VecDeque;
use std::io::{Cursor, Read};
use std::sync::Arc;
use std::time::SystemTime;
use tokio::sync::mpsc;
use tokio::task::JoinHandle;

/// A folder on another host.
pub struct RemoteSource {
    tree: Arc<dyn Tree>,
    root: Vec<u8>,
    /// What will be asked for next, in this order.
    expected: VecDeque<(Vec<u8>, Stamp)>,
    fetching: VecDeque<Fetching>,
    bytes: u64,
}

struct Fetching {
    path: Vec<u8>,
    size: u64,
    task: JoinHandle<Result<Fetched>>,
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

    fn is_there(&self, path: &[u8]) -> Result<bool> {
        Ok(runtime().block_on(self.tree.look(&self.full(path)))?.is_some())
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
                Some((_, stamp)) if stamp.size <= limits::FETCHED_AHEAD_FILE => {}
                _ => break,
            }
            let Some((path, stamp)) = self.expected.pop_front() else { break };
            let (tree, full) = (self.tree.clone(), self.full(&path));
            let task = runtime().spawn(async move { whole(&*tree, &full, stamp).await });
            self.bytes += stamp.size;
            self.fetching.push_back(Fetching { path, size: stamp.size, task });
        }
    }
}

/// The path of an entry of a folder; the site's folder itself has none.
fn below(folder: &[u8], name: &[u8]) -> Vec<u8> {
    if folder.is_empty() { name.to_vec() } else { joined(folder, name) }
}

/// A small file that was fetched before it was asked for.
struct Fetched {
    content: Cursor<Vec<u8>>,
    opened: Stamp,
    now: Option<Stamp>,
}

impl Read for Fetched {
    fn read(&mut self, buffer: &mut [u8]) -> std::io::Result<usize> {
        self.content.read(buffer)
    }
}

impl OpenFile for Fetched {
    fn opened(&self) -> Stamp {
        self.opened
    }

    fn now(&mut self) -> Result<Option<Stamp>> {
        Ok(self.now)
    }

    fn is_settled(&self) -> bool {
        is_settled(&self.opened)
    }
}

/// The bytes of a file that is small enough to be held.
pub(super) async fn fetch_whole(tree: &dyn Tree, path: &[u8], size: u64) -> Result<Vec<u8>> {
    let (to, mut from) = mpsc::channel::<Bytes>(4);
    let mut content = Vec::new();
    let collect = async {
        while let Some(bytes) = from.recv().await {
            content.extend_from_slice(&bytes);
        }
    };
    let (fetched, ()) = tokio::join!(tree.fetch(path, size, to), collect);
    fetched.map(|()| content)
}

/// The content of a small file, and what the file is afterwards.
async fn whole(tree: &dyn Tree, path: &[u8], opened: Stamp) -> Result<Fetched> {
    let content = fetch_whole(tree, path, opened.size).await?;
    let now = tree.stamp(path).await?;
    Ok(Fetched { content: Cursor::new(content), opened, now })
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
        extra: Extra::default(),
    }
}

/// The folder of another host that was looked at last: entries of one folder follow each other.
#[derive(Default)]
pub(super) struct Listing {
    folder: Vec<u8>,
    entries: Vec<RemoteEntry>,
}

impl Listing {
    /// Whether the entry at a path still is what it was when it was listed; looked up anew for
    /// every folder.
    pub async fn holds(&mut self, tree: &dyn Tree, full: &[u8], entry: &Entry) -> Result<bool> {
        let (folder, name) = split(full);
        if self.folder != folder || self.entries.is_empty() {
            self.entries = listed(tree, folder).await?;
            self.folder = folder.to_vec();
        }
        let found = self.entries.iter().find(|found| found.name == name);
        Ok(found.is_some_and(|found| match found.kind {
            FoundKind::File(size) => {
                entry_of(entry.path.clone(), found, EntryKind::File(size)) == *entry
            }
            FoundKind::Link => matches!(entry.kind, EntryKind::Link(_)),
            _ => false,
        }))
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
                Trouble::outside("the host's files never end")
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
                    let listing = next.listing.take();
                    let listing = listing.unwrap_or_else(|| self.begin_listing(&path));
                    let listed = match settled(listing) {
                        Ok(listed) => listed,
                        Err(trouble) if trouble.lost || self.is_there(&path)? => {
                            return Err(trouble);
                        }
                        Err(_) => {
                            left_out.push(LeftOut::vanished(&path));
                            continue;
                        }
                    };
                    visit(entry_of(path.clone(), &next.found, EntryKind::Folder))?;
                    levels.push(Level::of(path, listed));
                    self.look_ahead(&mut levels, enter);
                }
                FoundKind::File(size) => {
                    visit(entry_of(path, &next.found, EntryKind::File(size)))?;
                }
                FoundKind::Link => {
                    let to = runtime().block_on(self.tree.read_link(&self.full(&path)));
                    match to {
                        Ok(to) => visit(entry_of(path.clone(), &next.found, EntryKind::Link(to)))?,
                        Err(trouble) if trouble.lost => return Err(trouble),
                        Err(_) if !self.is_there(&path)? => {
                            left_out.push(LeftOut::vanished(&path));
                        }
                        Err(trouble) => left_out.push(LeftOut::new(
                            String::from_utf8_lossy(&path),
                            format!("a link that cannot be read: {trouble}"),
                        )),
                    }
                }
                FoundKind::Other => left_out.push(LeftOut::special(&path)),
            }
        }
        Ok(left_out)
    }

    fn announce(&mut self, order: Vec<(Vec<u8>, Stamp)>) {
        self.expected.extend(order);
    }

    fn open(&mut self, path: &[u8]) -> Result<Option<Box<dyn OpenFile + '_>>> {
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
                        match content.map_err(|error| crashed(&error))? {
                            Ok(content) => return Ok(Some(Box::new(content))),
                            // It may have gone: looked at below.
                            Err(trouble) if !trouble.lost => break,
                            Err(trouble) => return Err(trouble),
                        }
                    }
                    Some(other) => self.bytes -= other.size,
                    None => match self.expected.pop_front() {
                        Some((next, _)) if next == path => break,
                        Some(_) => {}
                        None => break,
                    },
                }
            }
        }
        let full = self.full(path);
        let stamp = runtime().block_on(self.tree.stamp(&full))?;
        Ok(stamp.map(|stamp| self.stream(path, stamp)))
    }

    fn look(&mut self, path: &[u8]) -> Result<Option<Stamp>> {
        runtime().block_on(self.tree.stamp(&self.full(path)))
    }

    fn free(&self) -> Option<u64> {
        runtime().block_on(self.tree.free(&self.root)).ok().flatten()
    }
}

impl RemoteSource {
    /// A large file, portion by portion.
    fn stream<'a>(&self, path: &[u8], opened: Stamp) -> Box<dyn OpenFile + 'a> {
        let (to, from) = mpsc::channel(16);
        let (tree, full) = (self.tree.clone(), self.full(path));
        let (reading, place) = (tree.clone(), full.clone());
        let task = runtime().spawn(async move { reading.fetch(&place, opened.size, to).await });
        Box::new(Stream { tree, full, opened, from, task: Some(task), portion: Bytes::new() })
    }
}

fn settled<T>(task: JoinHandle<Result<T>>) -> Result<T> {
    runtime().block_on(task).map_err(|error| crashed(&error))?
}

fn crashed(error: &tokio::task::JoinError) -> Trouble {
    Trouble::outside("a transfer ended unexpectedly").because(error)
}

struct Stream {
    tree: Arc<dyn Tree>,
    full: Vec<u8>,
    opened: Stamp,
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

impl OpenFile for Stream {
    fn opened(&self) -> Stamp {
        self.opened
    }

    fn now(&mut self) -> Result<Option<Stamp>> {
        runtime().block_on(self.tree.stamp(&self.full))
    }

    fn is_settled(&self) -> bool {
        is_settled(&self.opened)
    }
}

/// Other hosts tell times in whole seconds, and a file of the present second may be cut, read and
/// written within it. Their clocks are believed as far as they agree with ours.
fn is_settled(stamp: &Stamp) -> bool {
    const CLOSE: u64 = 2;
    let now = SystemTime::now().duration_since(SystemTime::UNIX_EPOCH).unwrap_or_default();
    let (Some((seconds, _)), Ok(now)) = (stamp.mtime, i64::try_from(now.as_secs())) else {
        return true;
    };
    seconds.abs_diff(now) > CLOSE
}

impl Drop for Stream {
    fn drop(&mut self) {
        if let Some(task) = &self.task {
            task.abort();
        }
    }
}
