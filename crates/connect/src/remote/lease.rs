//! Nobody else works on a site of another host, from whatever folder and machine.
//!
//! A host of files knows no locks that end with their holder. A folder with a token in it is given
//! one name, which only one can do; it is made under another name, so that none without a token is
//! ever there, wherever its maker is killed. Beside the token a sign of life is written anew every
//! minute. Where both are older than ten minutes, by the clock of the host, their program was
//! killed. The token is read again before the switch.

use super::editor::write;
use super::source::fetch_whole;
use super::{FoundKind, Metadata, Tree, joined, listed, remove_all, shown, switch};
use crate::local::random_name;
use crate::runtime::runtime;
use fernweh_ports::{Result, Trouble};
use std::sync::Arc;
use std::time::Duration;
use tokio::task::JoinHandle;

/// How often the holder shows that it lives.
const SHOWN: Duration = Duration::from_secs(60);
/// Seconds after which nobody holds it any more.
const STALE: i64 = 600;
/// Bytes of a token at most.
const TOKEN: u64 = 1024;

/// The right to work on a place; given back when it is dropped.
pub(super) struct Lease {
    tree: Arc<dyn Tree>,
    workshop: Vec<u8>,
    run: String,
    shows: JoinHandle<()>,
}

impl Lease {
    /// Takes it for a run. What a killed program of this run has left is taken over.
    pub async fn take(tree: &Arc<dyn Tree>, workshop: &[u8], run: &str) -> Result<Self> {
        let mut tried = 0;
        while !put_up(&**tree, workshop, run).await? {
            tried += 1;
            match holder(&**tree, workshop).await? {
                Some(holder) if holder == run => break,
                // It was given back meanwhile.
                None if tried < 3 && tree.look(&folder_in(workshop)).await?.is_none() => {}
                _ if tried < 3 && is_stale(&**tree, workshop).await? => {
                    remove(&**tree, workshop).await;
                }
                _ => return Err(busy(&**tree, workshop)),
            }
        }
        clear(&**tree, workshop).await?;
        let (shown_by, place, name) = (tree.clone(), workshop.to_vec(), run.to_owned());
        let shows = runtime().spawn(async move {
            loop {
                tokio::time::sleep(SHOWN).await;
                // A host that does not answer now is asked again in a minute. Whoever has taken it
                // over meanwhile keeps it.
                match holder(&*shown_by, &place).await {
                    Ok(Some(holder)) if holder != name => break,
                    _ => drop(show(&*shown_by, &place).await),
                }
            }
        });
        let (tree, workshop, run) = (tree.clone(), workshop.to_vec(), run.to_owned());
        Ok(Self { tree, workshop, run, shows })
    }

    /// Fails if somebody else has taken it over: the host did not answer for long.
    pub async fn check(&self) -> Result<()> {
        match holder(&*self.tree, &self.workshop).await? {
            Some(holder) if holder == self.run => Ok(()),
            _ => Err(busy(&*self.tree, &self.workshop)),
        }
    }
}

impl Drop for Lease {
    fn drop(&mut self) {
        self.shows.abort();
        runtime().block_on(give_back(&*self.tree, &self.workshop, &self.run));
    }
}

/// Fails if somebody is at work, unless it is one of these runs.
pub(super) async fn look(tree: &dyn Tree, workshop: &[u8], own: &[String]) -> Result<()> {
    if tree.look(&folder_in(workshop)).await?.is_none()
        || holder(tree, workshop).await?.is_some_and(|holder| own.contains(&holder))
        || is_stale(tree, workshop).await?
    {
        return Ok(());
    }
    Err(busy(tree, workshop))
}

/// Removes what a run has left of its lease.
pub(super) async fn give_back(tree: &dyn Tree, workshop: &[u8], run: &str) {
    if let Ok(Some(holder)) = holder(tree, workshop).await
        && holder == run
    {
        remove(tree, workshop).await;
        switch::close(tree, workshop).await;
    }
}

fn folder_in(workshop: &[u8]) -> Vec<u8> {
    joined(workshop, b"at-work")
}

fn token_in(workshop: &[u8]) -> Vec<u8> {
    joined(&folder_in(workshop), b"token")
}

fn life_in(workshop: &[u8]) -> Vec<u8> {
    joined(&folder_in(workshop), b"alive")
}

/// Names of what is being made or removed; whoever holds the place removes what killed ones left.
const MAKING: &str = "at-work-";
const CLOCK: &str = "clock-";

/// Makes a folder with the token and gives it its name; says whether that was still free.
async fn put_up(tree: &dyn Tree, workshop: &[u8], run: &str) -> Result<bool> {
    let folder = folder_in(workshop);
    if tree.look(&folder).await?.is_some() {
        return Ok(false);
    }
    let making = joined(workshop, random_name(MAKING).as_bytes());
    let made = async {
        tree.make_folder(&making).await?;
        let mode = tree.carries().modes.then_some(0o600);
        let token = run.as_bytes().to_vec();
        write(tree, &joined(&making, b"token"), token, Metadata { mode, mtime: None }).await?;
        tree.rename(&making, &folder, false).await
    };
    let Err(trouble) = made.await else { return Ok(true) };
    let _ = remove_all(tree, making, FoundKind::Folder).await;
    // One that was quicker has the name.
    if tree.look(&folder).await?.is_some() { Ok(false) } else { Err(trouble) }
}

/// Shows that the holder lives.
async fn show(tree: &dyn Tree, workshop: &[u8]) -> Result<()> {
    let life = life_in(workshop);
    // Hosts write files that are not there yet.
    let _ = tree.remove_file(&life).await;
    write(tree, &life, Vec::new(), Metadata { mode: None, mtime: None }).await
}

/// Removes what others have left half made or half removed.
async fn clear(tree: &dyn Tree, workshop: &[u8]) -> Result<()> {
    for entry in listed(tree, workshop).await? {
        if entry.name.starts_with(MAKING.as_bytes()) || entry.name.starts_with(CLOCK.as_bytes()) {
            let _ = remove_all(tree, joined(workshop, &entry.name), entry.kind).await;
        }
    }
    Ok(())
}

/// The run that holds it, if there is a token.
async fn holder(tree: &dyn Tree, workshop: &[u8]) -> Result<Option<String>> {
    let token = token_in(workshop);
    let Some(stamp) = tree.stamp(&token).await? else { return Ok(None) };
    let bytes = fetch_whole(tree, &token, stamp.size.min(TOKEN)).await?;
    Ok(Some(String::from_utf8_lossy(&bytes).into_owned()))
}

/// Whether nobody has shown himself for long: the times of files of the host are compared.
async fn is_stale(tree: &dyn Tree, workshop: &[u8]) -> Result<bool> {
    let mut last = None;
    for sign in [token_in(workshop), life_in(workshop)] {
        last = last.max(tree.look(&sign).await?.and_then(|found| found.mtime));
    }
    if last.is_none() {
        last = tree.look(&folder_in(workshop)).await?.and_then(|found| found.mtime);
    }
    let name = joined(workshop, random_name(CLOCK).as_bytes());
    write(tree, &name, Vec::new(), Metadata { mode: None, mtime: None }).await?;
    let now = tree.look(&name).await?.and_then(|found| found.mtime);
    // The holder may have cleared it away.
    let _ = tree.remove_file(&name).await;
    Ok(matches!((last, now), (Some(last), Some(now)) if now - last >= STALE))
}

/// Takes the name away first, so that a folder of that name has its token as long as it is there.
async fn remove(tree: &dyn Tree, workshop: &[u8]) {
    let going = joined(workshop, random_name(MAKING).as_bytes());
    if tree.rename(&folder_in(workshop), &going, false).await.is_ok() {
        let _ = remove_all(tree, going, FoundKind::Folder).await;
    }
}

fn busy(tree: &dyn Tree, workshop: &[u8]) -> Trouble {
    Trouble::outside("another run is working on these files")
        .at(shown(tree, workshop))
        .because("it was begun in another folder, or on another machine")
        .hint(format!(
            "wait until it has ended; if it was killed, ten minutes, or remove {}",
            shown(tree, &folder_in(workshop))
        ))
}

#[cfg(test)]
mod tests;
