//! Changing files of a live site on another host.

use super::{FoundKind, Metadata, Tree, joined, shown, split};
use crate::runtime::runtime;
use bytes::Bytes;
use fernweh_ports::{FileEditor, Result, Trouble};
use std::sync::Arc;
use tokio::sync::mpsc;

/// A folder whose files are changed.
pub struct RemoteEditor {
    tree: Arc<dyn Tree>,
    root: Vec<u8>,
}

impl RemoteEditor {
    /// The tree below `root`.
    pub fn new(tree: Arc<dyn Tree>, root: &[u8]) -> Self {
        Self { tree, root: root.to_vec() }
    }
}

impl FileEditor for RemoteEditor {
    /// A visitor sees the old content or the new one, never a part: the new file is
    /// written beside the old one, and takes its name.
    fn replace(&mut self, path: &[u8], content: &[u8], beside: &str) -> Result<()> {
        let full = joined(&self.root, path);
        let folder = split(&full).0;
        let beside = joined(folder, beside.as_bytes());
        let tree = &*self.tree;
        runtime().block_on(async {
            let old = tree.look(&full).await?;
            let metadata = Metadata { mode: old.as_ref().and_then(|old| old.mode), mtime: None };
            if !matches!(old.as_ref().map(|old| old.kind), Some(FoundKind::File(_))) {
                return Err(Trouble::outside("cannot change a file of the site")
                    .at(shown(tree, &full))
                    .because("it is no longer a plain file"));
            }
            put(tree, &full, &beside, content, metadata).await
        })
    }

    fn make(&mut self, path: &[u8], content: &[u8], beside: &str) -> Result<()> {
        let full = joined(&self.root, path);
        let beside = joined(split(&full).0, beside.as_bytes());
        let tree = &*self.tree;
        let metadata = Metadata { mode: Some(0o644), mtime: None };
        runtime().block_on(async {
            if tree.look(&full).await?.is_some() {
                return Err(Trouble::outside("cannot make a file of the site")
                    .at(shown(tree, &full))
                    .because("something of this name is there by now"));
            }
            put(tree, &full, &beside, content, metadata).await
        })
    }

    fn remove(&mut self, path: &[u8]) -> Result<()> {
        runtime().block_on(self.tree.remove_file(&joined(&self.root, path)))
    }

    fn remove_left(&mut self, path: &[u8]) -> Result<()> {
        let full = joined(&self.root, path);
        runtime().block_on(async {
            match self.tree.look(&full).await? {
                Some(_) => self.tree.remove_file(&full).await,
                None => Ok(()),
            }
        })
    }
}

/// Writes a content beside a place, and gives it its name.
async fn put(
    tree: &dyn Tree,
    full: &[u8],
    beside: &[u8],
    content: &[u8],
    metadata: Metadata,
) -> Result<()> {
    let mut put = write(tree, beside, content.to_vec(), metadata).await;
    if put.as_ref().is_err_and(|trouble| !trouble.lost) && tree.look(beside).await?.is_some() {
        // What an earlier call has left, or this one has begun.
        tree.remove_file(beside).await?;
        put = write(tree, beside, content.to_vec(), metadata).await;
    }
    let written = match put {
        Ok(()) => tree.rename(beside, full, true).await,
        Err(trouble) => Err(trouble),
    };
    if written.is_err() {
        let _ = tree.remove_file(beside).await;
    }
    written
}

/// Writes a small new file.
pub(super) async fn write(
    tree: &dyn Tree,
    path: &[u8],
    content: impl Into<Bytes>,
    metadata: Metadata,
) -> Result<()> {
    let (to, from) = mpsc::channel(1);
    let content = content.into();
    let feed = async {
        if !content.is_empty() {
            let _ = to.send(content).await;
        }
        drop(to);
    };
    tokio::join!(tree.store(path, 0, from, metadata), feed).0
}
