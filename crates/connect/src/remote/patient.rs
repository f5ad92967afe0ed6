//! A host whose connection breaks is reached again, and what was under way is done once more.
//!
//! Whoever works on the tree of a host notices nothing but time. Steps that only look are repeated.
//! A step that changes something may have been taken before its answer was lost: it is looked first
//! whether the host stands as it should. Of a file that is read, what has come already is passed
//! over; one that is written begins anew as long as all of it is still held. Of a larger one the last
//! bytes are held, and it goes on behind those that are sure to have arrived.

use super::{Carries, Doing, FoundKind, Metadata, RemoteEntry, Tree};
use crate::stop;
use bytes::Bytes;
use fernweh_core::limits;
use fernweh_ports::{Result, Stamp, Trouble};
use std::collections::VecDeque;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;
use tokio::sync::mpsc;

/// Seconds before each attempt; about five minutes in all.
const WAITS: [u64; 14] = match cfg!(test) {
    false => [1, 1, 2, 4, 8, 15, 30, 30, 30, 30, 30, 30, 45, 60],
    true => [0; 14],
};
/// How often one step may lose its connection: a host that falls over it would do so for ever.
const SAME_STEP: u32 = 5;

/// Logs in at the host once more.
type Connect = Arc<dyn Fn() -> Result<Arc<dyn Tree>> + Send + Sync>;

/// A tree that outlasts its connection.
pub struct PatientTree {
    /// The tree at the moment, and the number of its connection.
    now: Mutex<(u64, Arc<dyn Tree>)>,
    /// One reconnects, the others wait.
    connecting: tokio::sync::Mutex<()>,
    connect: Connect,
    /// It was waited for long enough: whoever cleans up does not wait once more.
    given_up: AtomicBool,
    first: Arc<dyn Tree>,
}

impl PatientTree {
    /// A tree that is connected, and how it is reached again.
    pub fn new(
        tree: Arc<dyn Tree>,
        connect: impl Fn() -> Result<Arc<dyn Tree>> + Send + Sync + 'static,
    ) -> Self {
        Self {
            now: Mutex::new((0, tree.clone())),
            connecting: tokio::sync::Mutex::default(),
            connect: Arc::new(connect),
            given_up: AtomicBool::new(false),
            first: tree,
        }
    }

    fn now(&self) -> (u64, Arc<dyn Tree>) {
        self.now.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// Reaches the host again, after the connection of this number was lost.
    async fn again(&self, number: u64, lost: Trouble) -> Result<()> {
        let _alone = self.connecting.lock().await;
        if self.now().0 != number {
            return Ok(());
        }
        let mut waits = &WAITS[..];
        match self.given_up.load(Ordering::Relaxed) {
            true => waits = &waits[..1],
            false => crate::word::say(&format!("{lost}; trying again for five minutes")),
        }
        let mut last = lost;
        for &seconds in waits {
            tokio::select! {
                () = tokio::time::sleep(Duration::from_secs(seconds)) => {}
                () = stop::wanted() => return Err(stop::interrupted()),
            }
            let connect = self.connect.clone();
            let made = tokio::task::spawn_blocking(move || connect()).await;
            match made.unwrap_or_else(|error| Err(Trouble::outside("cannot log in").because(error)))
            {
                Ok(tree) => {
                    self.given_up.store(false, Ordering::Relaxed);
                    *self.now.lock().unwrap_or_else(PoisonError::into_inner) = (number + 1, tree);
                    return Ok(());
                }
                Err(trouble) => last = trouble,
            }
        }
        self.given_up.store(true, Ordering::Relaxed);
        Err(last.lost(true))
    }

    /// Takes a step; where the connection is lost, `stands` says whether it was taken all the same.
    async fn step<'a, T>(
        &self,
        take: impl Fn(Arc<dyn Tree>) -> Doing<'a, T>,
        stands: impl Fn(Arc<dyn Tree>) -> Doing<'a, Option<T>>,
    ) -> Result<T> {
        let mut losses = 0;
        loop {
            let (number, tree) = self.now();
            let taking = async {
                if losses > 0
                    && let Some(outcome) = stands(tree.clone()).await?
                {
                    return Ok(outcome);
                }
                take(tree).await
            };
            match stop::soon_once_wanted(taking).await {
                Err(trouble) if trouble.lost && losses < SAME_STEP => {
                    losses += 1;
                    self.again(number, trouble).await?;
                }
                outcome => return outcome,
            }
        }
    }

    /// Takes a step that can be taken twice: it changes nothing, or not any more.
    async fn look_up<'a, T: Send + 'a>(
        &self,
        take: impl Fn(Arc<dyn Tree>) -> Doing<'a, T>,
    ) -> Result<T> {
        self.step(take, |_| Box::pin(async { Ok(None) })).await
    }
}

/// Whether there is nothing at a path.
async fn is_gone(tree: Arc<dyn Tree>, path: &[u8]) -> Result<Option<()>> {
    Ok(tree.look(path).await?.is_none().then_some(()))
}

impl Tree for PatientTree {
    fn shown(&self) -> String {
        self.first.shown()
    }

    fn connections(&self) -> usize {
        self.first.connections()
    }

    fn carries(&self) -> Carries {
        self.first.carries()
    }

    fn list<'a>(&'a self, folder: &'a [u8]) -> Doing<'a, Vec<RemoteEntry>> {
        Box::pin(self.look_up(move |tree| Box::pin(async move { tree.list(folder).await })))
    }

    fn look<'a>(&'a self, path: &'a [u8]) -> Doing<'a, Option<RemoteEntry>> {
        Box::pin(self.look_up(move |tree| Box::pin(async move { tree.look(path).await })))
    }

    fn stamp<'a>(&'a self, path: &'a [u8]) -> Doing<'a, Option<Stamp>> {
        Box::pin(self.look_up(move |tree| Box::pin(async move { tree.stamp(path).await })))
    }

    fn fetch<'a>(&'a self, path: &'a [u8], size: u64, to: mpsc::Sender<Bytes>) -> Doing<'a, ()> {
        // Whether the file is still the same is asked by whoever reads it, when it has come.
        let came = Arc::new(AtomicU64::new(0));
        Box::pin(self.look_up(move |tree| {
            let (came, to) = (came.clone(), to.clone());
            Box::pin(async move {
                let (hand, taken) = mpsc::channel::<Bytes>(4);
                tokio::join!(tree.fetch(path, size, hand), pass_new(taken, to, &came)).0
            })
        }))
    }

    fn store<'a>(
        &'a self,
        path: &'a [u8],
        at: u64,
        from: mpsc::Receiver<Bytes>,
        metadata: Metadata,
    ) -> Doing<'a, ()> {
        Box::pin(async move {
            let mut upload = Upload::new(at, from);
            let (mut losses, mut begun) = (0, at);
            loop {
                let (number, tree) = self.now();
                let (hand, taken) = mpsc::channel::<Bytes>(4);
                let passing = upload.pass(begun, hand);
                let trouble =
                    match tokio::join!(tree.store(path, begun, taken, metadata), passing).0 {
                        Err(trouble) if trouble.lost && losses < SAME_STEP => trouble,
                        outcome => return outcome,
                    };
                losses += 1;
                let told = trouble.clone();
                self.again(number, trouble).await?;
                if upload.is_whole() && at == 0 {
                    // What has arrived of a new file is in the way of the whole one.
                    if self.look(path).await?.is_some() {
                        self.remove_file(path).await?;
                    }
                    continue;
                }
                let arrived = self.stamp(path).await?.map_or(0, |found| found.size);
                // What was under way at the end may be there in part.
                let sure = arrived.saturating_sub(UNSURE).max(at);
                if !upload.holds(sure) {
                    return Err(told);
                }
                // A long upload may lose its connection often, if it gets on in between.
                losses = if sure > begun { 1 } else { losses };
                begun = sure;
            }
        })
    }

    fn set_metadata<'a>(&'a self, path: &'a [u8], metadata: Metadata) -> Doing<'a, ()> {
        Box::pin(
            self.look_up(move |tree| {
                Box::pin(async move { tree.set_metadata(path, metadata).await })
            }),
        )
    }

    fn make_folder<'a>(&'a self, path: &'a [u8]) -> Doing<'a, ()> {
        Box::pin(self.step(
            move |tree| Box::pin(async move { tree.make_folder(path).await }),
            move |tree| {
                Box::pin(async move {
                    let found = tree.look(path).await?;
                    Ok(found.filter(|found| found.kind == FoundKind::Folder).map(drop))
                })
            },
        ))
    }

    fn make_link<'a>(
        &'a self,
        path: &'a [u8],
        target: &'a [u8],
        mtime: Option<i64>,
    ) -> Doing<'a, ()> {
        Box::pin(self.step(
            move |tree| Box::pin(async move { tree.make_link(path, target, mtime).await }),
            move |tree| {
                Box::pin(async move {
                    match tree.look(path).await? {
                        Some(_) => Ok((tree.read_link(path).await? == target).then_some(())),
                        None => Ok(None),
                    }
                })
            },
        ))
    }

    fn read_link<'a>(&'a self, path: &'a [u8]) -> Doing<'a, Vec<u8>> {
        Box::pin(self.look_up(move |tree| Box::pin(async move { tree.read_link(path).await })))
    }

    fn rename<'a>(&'a self, from: &'a [u8], to: &'a [u8], over: bool) -> Doing<'a, ()> {
        Box::pin(self.step(
            move |tree| Box::pin(async move { tree.rename(from, to, over).await }),
            move |tree| {
                Box::pin(async move {
                    let gone = is_gone(tree.clone(), from).await?.is_some();
                    Ok((gone && tree.look(to).await?.is_some()).then_some(()))
                })
            },
        ))
    }

    fn remove_file<'a>(&'a self, path: &'a [u8]) -> Doing<'a, ()> {
        Box::pin(self.step(
            move |tree| Box::pin(async move { tree.remove_file(path).await }),
            move |tree| Box::pin(is_gone(tree, path)),
        ))
    }

    fn remove_folder<'a>(&'a self, path: &'a [u8]) -> Doing<'a, ()> {
        Box::pin(self.step(
            move |tree| Box::pin(async move { tree.remove_folder(path).await }),
            move |tree| Box::pin(is_gone(tree, path)),
        ))
    }

    fn resolve<'a>(&'a self, path: &'a [u8]) -> Doing<'a, Vec<u8>> {
        Box::pin(self.look_up(move |tree| Box::pin(async move { tree.resolve(path).await })))
    }

    fn free<'a>(&'a self, path: &'a [u8]) -> Doing<'a, Option<u64>> {
        Box::pin(self.look_up(move |tree| Box::pin(async move { tree.free(path).await })))
    }
}

/// Passes on what has not come before.
async fn pass_new(mut from: mpsc::Receiver<Bytes>, to: mpsc::Sender<Bytes>, came: &AtomicU64) {
    let mut over = came.load(Ordering::Relaxed);
    while let Some(mut portion) = from.recv().await {
        let known = over.min(portion.len() as u64);
        over -= known;
        let new = portion.split_off(known as usize);
        let length = new.len() as u64;
        if length > 0 && to.send(new).await.is_err() {
            // Nobody wants the rest.
            return;
        }
        came.fetch_add(length, Ordering::Relaxed);
    }
}

/// Bytes at the end of what has arrived that were under way together, and may not all be there.
const UNSURE: u64 = if cfg!(test) { 2 } else { limits::RESUMED_UPLOAD };
/// Bytes of an upload that are held.
const HELD: usize = if cfg!(test) { 9 } else { limits::HELD_UPLOAD };

/// What is to be stored, and the last of what has passed.
struct Upload {
    /// Where in the file it begins.
    at: u64,
    from: mpsc::Receiver<Bytes>,
    held: VecDeque<Bytes>,
    /// Bytes that are held.
    weight: usize,
    /// Where in the file what has passed ends.
    end: u64,
}

impl Upload {
    fn new(at: u64, from: mpsc::Receiver<Bytes>) -> Self {
        Self { at, from, held: VecDeque::new(), weight: 0, end: at }
    }

    /// Whether it can go on from this place in the file.
    fn holds(&self, place: u64) -> bool {
        (self.end - self.weight as u64..=self.end).contains(&place)
    }

    /// Whether all that has passed is still held.
    fn is_whole(&self) -> bool {
        self.holds(self.at)
    }

    /// Passes everything on, from a place that is held.
    async fn pass(&mut self, place: u64, to: mpsc::Sender<Bytes>) {
        let mut over = place.saturating_sub(self.end - self.weight as u64) as usize;
        for portion in &self.held {
            let known = over.min(portion.len());
            over -= known;
            if known < portion.len() && to.send(portion.slice(known..)).await.is_err() {
                return;
            }
        }
        while let Some(portion) = self.from.recv().await {
            self.end += portion.len() as u64;
            self.weight += portion.len();
            self.held.push_back(portion.clone());
            while self.weight > HELD
                && let Some(first) = self.held.pop_front()
            {
                self.weight -= first.len();
            }
            if to.send(portion).await.is_err() {
                return;
            }
        }
    }
}

#[cfg(test)]
pub(super) mod tests;
