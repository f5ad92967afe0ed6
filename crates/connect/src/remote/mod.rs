//! File trees on other hosts, whatever the protocol.
//!
//! A protocol is one implementation of [`Tree`]: single steps on single entries, many of
//! which may be under way at once. Reading, building beside and switching are made of
//! these steps here, once for all protocols.

mod building;
mod editor;
mod lease;
mod part;
mod patient;
pub(crate) mod single;
mod source;
mod switch;
mod target;
mod upload;
mod workshop;

pub use building::RemoteTarget;
pub use editor::RemoteEditor;
pub use patient::PatientTree;
pub use source::RemoteSource;

use bytes::Bytes;
use fernweh_ports::{Result, Stamp, Trouble};
use futures_util::future::BoxFuture;
use tokio::sync::mpsc;

/// Something that is being done.
pub type Doing<'a, T> = BoxFuture<'a, Result<T>>;

/// What an entry is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum FoundKind {
    /// A folder.
    Folder,
    /// A file of so many bytes.
    File(u64),
    /// A link.
    Link,
    /// A socket, a device, or something that the protocol does not name.
    Other,
}

/// An entry as the host shows it.
#[derive(Clone, Debug)]
pub struct RemoteEntry {
    /// Its name in its folder.
    pub name: Vec<u8>,
    /// What it is.
    pub kind: FoundKind,
    /// Permission bits (07777), if the protocol tells them.
    pub mode: Option<u32>,
    /// Seconds since 1970, if the protocol tells them.
    pub mtime: Option<i64>,
    /// Numeric owner and group.
    pub owner: (u64, u64),
}

impl RemoteEntry {
    /// What tells its content from another, if it is a file.
    pub(crate) fn stamp(&self) -> Option<Stamp> {
        let FoundKind::File(size) = self.kind else { return None };
        Some(Stamp { size, mtime: self.mtime.map(|seconds| (seconds, 0)), change: None })
    }
}

/// Properties that an entry is given.
#[derive(Clone, Copy, Debug, Default)]
pub struct Metadata {
    /// Permission bits (07777).
    pub mode: Option<u32>,
    /// Seconds since 1970.
    pub mtime: Option<i64>,
}

/// What a protocol carries beside names and contents.
#[derive(Clone, Copy, Debug)]
pub struct Carries {
    /// Links.
    pub links: bool,
    /// Permissions.
    pub modes: bool,
    /// Times.
    pub times: bool,
    /// Listings tell times to the second, whether they can be set or not.
    pub exact_times: bool,
}

/// Single steps on a host. Paths are absolute.
pub trait Tree: Send + Sync {
    /// The host for people, as `sftp://keeper@192.0.2.7`.
    fn shown(&self) -> String;
    /// How many steps may be under way at once.
    fn connections(&self) -> usize;
    /// What the protocol carries.
    fn carries(&self) -> Carries;
    /// The entries of a folder.
    fn list<'a>(&'a self, folder: &'a [u8]) -> Doing<'a, Vec<RemoteEntry>>;
    /// The entry at a path, links not followed; none if there is nothing.
    fn look<'a>(&'a self, path: &'a [u8]) -> Doing<'a, Option<RemoteEntry>>;
    /// Size and time of a file as they are now; no time if the host does not tell it as exactly
    /// as [`Tree::list`] does. `None` if there is no such file.
    fn stamp<'a>(&'a self, path: &'a [u8]) -> Doing<'a, Option<Stamp>> {
        Box::pin(async move { Ok(self.look(path).await?.and_then(|found| found.stamp())) })
    }
    /// Reads `size` bytes of a file, fewer if it has become shorter.
    fn fetch<'a>(&'a self, path: &'a [u8], size: u64, to: mpsc::Sender<Bytes>) -> Doing<'a, ()>;
    /// Writes a new file, or goes on with one behind its first `at` bytes.
    fn store<'a>(
        &'a self,
        path: &'a [u8],
        at: u64,
        from: mpsc::Receiver<Bytes>,
        metadata: Metadata,
    ) -> Doing<'a, ()>;
    /// Gives an entry its properties.
    fn set_metadata<'a>(&'a self, path: &'a [u8], metadata: Metadata) -> Doing<'a, ()>;
    /// Makes a folder.
    fn make_folder<'a>(&'a self, path: &'a [u8]) -> Doing<'a, ()>;
    /// Makes a link, with its own time where the protocol can set it.
    fn make_link<'a>(
        &'a self,
        path: &'a [u8],
        target: &'a [u8],
        mtime: Option<i64>,
    ) -> Doing<'a, ()>;
    /// Where a link leads.
    fn read_link<'a>(&'a self, path: &'a [u8]) -> Doing<'a, Vec<u8>>;
    /// Gives an entry another name; `over` says that a file of that name is replaced.
    fn rename<'a>(&'a self, from: &'a [u8], to: &'a [u8], over: bool) -> Doing<'a, ()>;
    /// Removes a file or link.
    fn remove_file<'a>(&'a self, path: &'a [u8]) -> Doing<'a, ()>;
    /// Removes an empty folder.
    fn remove_folder<'a>(&'a self, path: &'a [u8]) -> Doing<'a, ()>;
    /// The absolute path of a place that is named from the login's folder.
    fn resolve<'a>(&'a self, path: &'a [u8]) -> Doing<'a, Vec<u8>>;
    /// Bytes free on the disk of a path, if the host tells.
    fn free<'a>(&'a self, path: &'a [u8]) -> Doing<'a, Option<u64>>;
}

/// The absolute path of the folder in which a login begins.
pub fn login_folder(tree: &dyn Tree) -> Result<Vec<u8>> {
    crate::runtime::runtime().block_on(tree.resolve(b"."))
}

/// Whether there is a folder at a path, links followed.
pub fn is_folder(tree: &dyn Tree, path: &[u8]) -> Result<bool> {
    let found = crate::runtime::runtime().block_on(tree.look(&joined(path, b".")))?;
    Ok(found.is_some_and(|found| found.kind == FoundKind::Folder))
}

/// A path for people.
fn shown(tree: &dyn Tree, path: &[u8]) -> String {
    format!("{}{}", tree.shown(), String::from_utf8_lossy(path))
}

fn joined(folder: &[u8], name: &[u8]) -> Vec<u8> {
    let mut path = folder.to_vec();
    if !path.ends_with(b"/") {
        path.push(b'/');
    }
    path.extend_from_slice(name);
    path
}

/// The folder of a path, and the name in it.
fn split(path: &[u8]) -> (&[u8], &[u8]) {
    match path.iter().rposition(|byte| *byte == b'/') {
        Some(0) => (b"/", &path[1..]),
        Some(at) => (&path[..at], &path[at + 1..]),
        None => (b"", path),
    }
}

/// The entries of a folder in byte order, without itself and its parent. A host that lists
/// names that are no names is refused: they would lead elsewhere.
async fn listed(tree: &dyn Tree, folder: &[u8]) -> Result<Vec<RemoteEntry>> {
    let mut found = tree.list(folder).await?;
    found.retain(|entry| entry.name != b"." && entry.name != b"..");
    let bad = |name: &[u8]| name.is_empty() || name.contains(&b'/') || name.contains(&0);
    if let Some(entry) = found.iter().find(|entry| bad(&entry.name)) {
        return Err(Trouble::damaged("the host lists a name that cannot be a file name")
            .at(shown(tree, folder))
            .because(format!("it lists `{}`", String::from_utf8_lossy(&entry.name)))
            .hint("do not trust this host; find out who runs it"));
    }
    found.sort_by(|a, b| a.name.cmp(&b.name));
    found.dedup_by(|a, b| a.name == b.name);
    Ok(found)
}

/// Removes an entry and everything below it; nothing there is fine. Links are removed, not
/// followed.
pub(crate) fn remove_all<'a>(tree: &'a dyn Tree, path: Vec<u8>, kind: FoundKind) -> Doing<'a, ()> {
    use futures_util::StreamExt;
    Box::pin(async move {
        if kind != FoundKind::Folder {
            return tree.remove_file(&path).await;
        }
        let entries = match listed(tree, &path).await {
            Ok(entries) => entries,
            Err(_) => {
                // A folder that its owner may not enter is opened first.
                tree.set_metadata(&path, Metadata { mode: Some(0o700), mtime: None }).await?;
                listed(tree, &path).await?
            }
        };
        if entries.iter().any(|entry| entry.kind != FoundKind::Folder) {
            let _ = tree.set_metadata(&path, Metadata { mode: Some(0o700), mtime: None }).await;
        }
        let removing = entries
            .into_iter()
            .map(|entry| remove_all(tree, joined(&path, &entry.name), entry.kind));
        let mut removed = futures_util::stream::iter(removing).buffer_unordered(tree.connections());
        while let Some(one) = removed.next().await {
            one?;
        }
        drop(removed);
        tree.remove_folder(&path).await
    })
}
