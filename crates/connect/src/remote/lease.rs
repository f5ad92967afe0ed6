//! Nobody else works on a site of another host, from whatever folder and machine.
//!
//! A host of files knows no locks that end with their holder. A folder is made, which only one can
//! do; in it a token is written anew every minute. One that has not been written for ten minutes,
//! by the clock of the host, was left by a program that was killed. The token is read again
//! before the switch.

use super::editor::write;
use super::source::fetch_whole;
use super::{Metadata, Tree, joined, shown, switch};
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
        let folder = folder_in(workshop);
        for again in [true, false] {
            if tree.look(&folder).await?.is_none() && tree.make_folder(&folder).await.is_ok() {
                break;
            }
            match holder(&**tree, workshop).await? {
                Some(holder) if holder == run => break,
                None if tree.look(&folder).await?.is_none() && again => continue,
                _ if again && is_stale(&**tree, workshop).await? => {
                    remove(&**tree, workshop).await;
                }
                _ => return Err(busy(&**tree, workshop)),
            }
        }
        write_token(&**tree, workshop, run).await?;
        let (shown_by, place, name) = (tree.clone(), workshop.to_vec(), run.to_owned());
        let shows = runtime().spawn(async move {
            loop {
                tokio::time::sleep(SHOWN).await;
                // A host that does not answer now is asked again in a minute. Whoever has taken it
                // over meanwhile keeps it.
                match holder(&*shown_by, &place).await {
                    Ok(Some(holder)) if holder != name => break,
                    _ => drop(write_token(&*shown_by, &place, &name).await),
                }
            }
        });
        let (tree, workshop, run) = (tree.clone(), workshop.to_vec(), run.to_owned());
        Ok(Self { tree, workshop, run, shows })
    }

    /// Fails if somebody else has taken it over: the host did not answer for long.
    pub async fn check(&self) -> Result<()> {
        for _ in 0..3 {
            match holder(&*self.tree, &self.workshop).await? {
                Some(holder) if holder == self.run => return Ok(()),
                Some(holder) if !holder.is_empty() => break,
                // It is just being written.
                _ => tokio::time::sleep(Duration::from_millis(100)).await,
            }
        }
        Err(busy(&*self.tree, &self.workshop))
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

async fn write_token(tree: &dyn Tree, workshop: &[u8], run: &str) -> Result<()> {
    let mode = tree.carries().modes.then_some(0o600);
    // Hosts write files that are not there yet.
    let _ = tree.remove_file(&token_in(workshop)).await;
    let token = run.as_bytes().to_vec();
    write(tree, &token_in(workshop), token, Metadata { mode, mtime: None }).await
}

/// The run that holds it, if there is a token.
async fn holder(tree: &dyn Tree, workshop: &[u8]) -> Result<Option<String>> {
    let token = token_in(workshop);
    let Some(stamp) = tree.stamp(&token).await? else { return Ok(None) };
    let bytes = fetch_whole(tree, &token, stamp.size.min(TOKEN)).await?;
    Ok(Some(String::from_utf8_lossy(&bytes).into_owned()))
}

/// Whether nobody has shown himself for long: the times of two files of the host are compared.
async fn is_stale(tree: &dyn Tree, workshop: &[u8]) -> Result<bool> {
    let (folder, token) = (folder_in(workshop), token_in(workshop));
    let left = match tree.look(&token).await? {
        Some(left) => Some(left),
        None => tree.look(&folder).await?,
    };
    let name = joined(workshop, random_name("clock-").as_bytes());
    write(tree, &name, Vec::new(), Metadata { mode: None, mtime: None }).await?;
    let now = tree.look(&name).await?;
    tree.remove_file(&name).await?;
    let time = |found: Option<super::RemoteEntry>| found.and_then(|found| found.mtime);
    Ok(matches!((time(left), time(now)), (Some(left), Some(now)) if now - left >= STALE))
}

async fn remove(tree: &dyn Tree, workshop: &[u8]) {
    let _ = tree.remove_file(&token_in(workshop)).await;
    let _ = tree.remove_folder(&folder_in(workshop)).await;
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
