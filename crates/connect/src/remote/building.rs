//! A file tree that is built on another host, and what is known of it until it is switched.

use super::lease::Lease;
use super::workshop::workshops;
use super::{Tree, joined};
use fernweh_core::entries::{EntryList, PathSet};
use fernweh_core::limits;
use fernweh_core::record::Entry;
use fernweh_ports::{Result, Trouble};
use futures_util::future::{BoxFuture, Shared};
use std::collections::HashMap;
use std::sync::{Arc, Mutex};
use tokio::sync::Semaphore;

/// The making of a folder, for which others wait.
pub(super) type Made = Shared<BoxFuture<'static, Result<()>>>;

/// A folder on another host that is to be replaced.
pub struct RemoteTarget {
    pub(super) tree: Arc<dyn Tree>,
    pub(super) root: Vec<u8>,
    pub(super) run: String,
    /// Chosen when building begins.
    pub(super) workshop: Option<Vec<u8>>,
    pub(super) folders: Vec<Entry>,
    pub(super) made: HashMap<Vec<u8>, Made>,
    pub(super) written: PathSet,
    /// Files of an earlier run of this name: path below the root, size and time.
    pub(super) earlier: HashMap<Vec<u8>, (u64, i64)>,
    pub(super) failure: Arc<Mutex<Option<Trouble>>>,
    pub(super) pool: Arc<Semaphore>,
    pub(super) held: Arc<Semaphore>,
    pub(super) unsaid: Unsaid,
    /// Only what is built takes its place.
    pub(super) part: bool,
    pub(super) kept: EntryList,
    /// When building began, by the clock of the host (seconds since 1970), if it tells.
    pub(super) began: Option<i64>,
    /// What is built is a trial, which needs no lease. These runs may be at work, for they are not:
    /// they were broken off.
    pub(super) trial: Option<Vec<String>>,
    /// Nobody else works on this place.
    pub(super) lease: Option<Lease>,
    /// Folders on the way to the place that were made, the innermost last.
    pub(super) way: Vec<Vec<u8>>,
}

/// What the protocol does not carry.
#[derive(Default)]
pub(super) struct Unsaid {
    pub(super) links: u64,
    pub(super) entries: u64,
    pub(super) hard_links: u64,
    pub(super) attributes: u64,
}

impl RemoteTarget {
    /// The place `root`; `run` names what is built.
    pub fn new(tree: Arc<dyn Tree>, root: &[u8], run: &str) -> Self {
        let pool = Arc::new(Semaphore::new(2 * tree.connections()));
        Self {
            tree,
            root: root.to_vec(),
            run: run.to_owned(),
            workshop: None,
            folders: Vec::new(),
            made: HashMap::new(),
            written: PathSet::default(),
            earlier: HashMap::new(),
            failure: Arc::default(),
            pool,
            held: Arc::new(Semaphore::new(limits::WRITTEN_KIB as usize)),
            unsaid: Unsaid::default(),
            part: false,
            kept: EntryList::default(),
            began: None,
            trial: None,
            lease: None,
            way: Vec::new(),
        }
    }

    /// A folder of this run: `new` or `earlier`.
    pub(super) fn aside(&self, word: &str) -> Vec<u8> {
        let workshop =
            self.workshop.clone().unwrap_or_else(|| workshops(&self.root).swap_remove(0));
        joined(&workshop, format!("{word}-{}", self.run).as_bytes())
    }

    /// The folder in which this run builds.
    pub(super) fn built(&self) -> Vec<u8> {
        self.aside("new")
    }

    pub(super) fn failed(&self) -> Result<()> {
        match self.failure.lock() {
            Ok(mut failure) => failure.take().map_or(Ok(()), Err),
            Err(_) => Err(Trouble::outside("a transfer ended unexpectedly")),
        }
    }
}
