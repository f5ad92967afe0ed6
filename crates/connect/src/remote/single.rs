//! Single large files of a host: fetched to this machine, stored there, and switched with
//! the files that belong to them.

use super::{FoundKind, Metadata, Tree, joined, remove_all, split, switch, workshop};
use crate::runtime::runtime;
use bytes::Bytes;
use fernweh_core::limits;
use fernweh_ports::{Direction, FileSwap, Result, Trouble};
use std::ffi::OsString;
use std::fs::File;
use std::io::{Read, Write};
use std::os::unix::ffi::{OsStrExt, OsStringExt};
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use tokio::sync::mpsc;

/// The first `size` bytes of a file of the host, handed over in portions.
pub(crate) fn fetch(
    tree: &Arc<dyn Tree>,
    path: &[u8],
    size: u64,
    mut take: impl FnMut(&[u8]) -> std::io::Result<()>,
) -> Result<()> {
    let (to, mut from) = mpsc::channel::<Bytes>(16);
    let (there, full) = (tree.clone(), path.to_vec());
    let fetching = runtime().spawn(async move { there.fetch(&full, size, to).await });
    let mut taken = Ok(());
    while let Some(portion) = from.blocking_recv() {
        taken = taken.and_then(|()| take(&portion));
    }
    let fetched = runtime().block_on(fetching);
    fetched
        .map_err(|error| Trouble::outside("a transfer ended unexpectedly").because(error))
        .flatten()?;
    taken.map_err(|error| Trouble::outside("cannot keep a copy of a file here").because(error))
}

/// Fetches a file of the host into a new file here.
pub(crate) fn fetch_file(tree: &Arc<dyn Tree>, path: &[u8], size: u64, here: &Path) -> Result<()> {
    let wrong = |error| Trouble::file("cannot keep a copy of a file here", here, &error);
    // It may be a whole database: for its owner alone.
    let mut options = File::options();
    options.write(true).create(true).truncate(true).mode(0o600);
    let mut file = options.open(here).map_err(wrong)?;
    fetch(tree, path, size, |portion| file.write_all(portion))?;
    file.sync_all().map_err(wrong)
}

/// Writes a file of this machine as a new file of the host.
pub(crate) fn store_file(
    tree: &Arc<dyn Tree>,
    here: &Path,
    path: &[u8],
    mode: Option<u32>,
) -> Result<()> {
    let wrong = |error| Trouble::file("cannot read a file on its way to the host", here, &error);
    let mut file = File::open(here).map_err(wrong)?;
    let (to, from) = mpsc::channel(16);
    let (there, full) = (tree.clone(), path.to_vec());
    let mode = mode.filter(|_| tree.carries().modes);
    let metadata = Metadata { mode, mtime: None };
    let storing = runtime().spawn(async move { there.store(&full, 0, from, metadata).await });
    loop {
        let mut portion = Vec::with_capacity(limits::TRANSFER);
        (&mut file).take(limits::TRANSFER as u64).read_to_end(&mut portion).map_err(wrong)?;
        if portion.is_empty() || to.blocking_send(portion.into()).is_err() {
            break;
        }
    }
    drop(to);
    let stored = runtime().block_on(storing);
    stored.map_err(|error| Trouble::outside("a transfer ended unexpectedly").because(error))?
}

/// The folder beside a file in which its other states lie.
pub(crate) fn workshop_of(path: &[u8]) -> Vec<u8> {
    let (folder, name) = split(path);
    joined(folder, &[b".fernweh-", name].concat())
}

/// Where the new state of a file waits, beside it on its host.
pub(crate) fn beside(path: &[u8], run: &str) -> Vec<u8> {
    joined(&workshop_of(path), format!("new-{run}").as_bytes())
}

/// A switch that another folder has noted, with its places as they are seen from here: what is
/// kept lies under the name of the run in one of the site's own workshops, or there is none.
pub(crate) fn adopted(
    noted: &FileSwap,
    target: &[u8],
    workshops: &[Vec<u8>],
    run: &str,
) -> Option<FileSwap> {
    let (workshop, name) = split(noted.side.as_os_str().as_bytes());
    let own = workshops.iter().find(|own| split(own).1 == split(workshop).1)?;
    let is_ours = name == format!("new-{run}").as_bytes() && noted.resident.is_none();
    let path = |bytes: &[u8]| PathBuf::from(OsString::from_vec(bytes.to_vec()));
    let (target, side) = (path(target), path(&joined(own, name)));
    is_ours.then(|| FileSwap { target, side, ..noted.clone() })
}

/// Stores the new state of a file beside it, and plans the switch.
pub(crate) fn store_beside(
    tree: &Arc<dyn Tree>,
    here: &Path,
    path: &[u8],
    run: &str,
) -> Result<FileSwap> {
    let side = beside(path, run);
    let old = runtime().block_on(async {
        workshop::open_at(&**tree, split(&side).0).await?;
        if tree.look(&side).await?.is_some() {
            tree.remove_file(&side).await?;
        }
        tree.look(path).await
    })?;
    let mode = old.as_ref().and_then(|old| old.mode).unwrap_or(0o600);
    store_file(tree, here, &side, Some(mode))?;
    let as_path = |bytes: &[u8]| PathBuf::from(OsString::from_vec(bytes.to_vec()));
    let (target, side) = (as_path(path), as_path(&side));
    Ok(FileSwap { target, side, new: None, had_old: old.is_some(), part: false, resident: None })
}

/// Makes the switch of a file and of those whose names begin with its name and end with one
/// of `companions`, or completes it; doing it twice is the same as once.
pub(crate) fn switch_file(
    tree: &Arc<dyn Tree>,
    swap: &FileSwap,
    companions: &[&str],
    direction: Direction,
) -> Result<()> {
    let target = swap.target.as_os_str().as_bytes();
    let [new, old] = states(swap);
    let (comes, goes, goes_on) = match direction {
        Direction::Forward => (&new, &old, swap.had_old),
        Direction::Back => (&old, &new, true),
    };
    let nothing_comes = direction == Direction::Back && !swap.had_old;
    runtime().block_on(async {
        let is_there = async |path: &[u8]| tree.look(path).await.map(|found| found.is_some());
        if !nothing_comes && !is_there(comes).await? {
            return Ok(());
        }
        // The file itself goes last and comes last: as long as it has not, this is not done.
        if goes_on && is_there(target).await? && !is_there(goes).await? {
            for ending in companions {
                let (from, to) = (named(target, ending), named(goes, ending));
                if is_there(&from).await? {
                    tree.rename(&from, &to, true).await?;
                }
            }
            tree.rename(target, goes, false).await?;
        }
        if nothing_comes {
            return Ok(());
        }
        for ending in companions {
            let (from, to) = (named(comes, ending), named(target, ending));
            if is_there(&from).await? {
                tree.rename(&from, &to, true).await?;
            }
        }
        tree.rename(comes, target, false).await
    })
}

/// Whether what a switch in this direction brings into place is there, if it brings anything.
pub(crate) fn holds_file(
    tree: &Arc<dyn Tree>,
    swap: &FileSwap,
    direction: Direction,
) -> Result<bool> {
    let [new, old] = states(swap);
    let comes = match direction {
        Direction::Back if !swap.had_old => return Ok(true),
        Direction::Back => old,
        Direction::Forward => new,
    };
    Ok(runtime().block_on(tree.look(&comes))?.is_some())
}

/// Removes what a switch has put aside.
pub(crate) fn let_go_file(
    tree: &Arc<dyn Tree>,
    swap: &FileSwap,
    companions: &[&str],
) -> Result<()> {
    let states = states(swap);
    runtime().block_on(async {
        for state in &states {
            for ending in companions.iter().chain([&""]) {
                let place = named(state, ending);
                if tree.look(&place).await?.is_some() {
                    remove_all(&**tree, place, FoundKind::File(0)).await?;
                }
            }
        }
        switch::close(&**tree, split(&states[0]).0).await;
        Ok(())
    })
}

/// Removes a new state that has not taken its place.
pub(crate) fn discard_file(tree: &Arc<dyn Tree>, side: &[u8]) -> Result<()> {
    runtime().block_on(async {
        if tree.look(split(side).0).await?.is_none() {
            return Ok(());
        }
        if tree.look(side).await?.is_some() {
            tree.remove_file(side).await?;
        }
        switch::close(&**tree, split(side).0).await;
        Ok(())
    })
}

/// Where the new state is while the old one is in use, and the other way round.
fn states(swap: &FileSwap) -> [Vec<u8>; 2] {
    let new = swap.side.as_os_str().as_bytes().to_vec();
    let (workshop, name) = split(&new);
    let run = name.strip_prefix(b"new-").unwrap_or(name);
    let old = joined(workshop, &[b"old-", run].concat());
    [new, old]
}

fn named(path: &[u8], ending: &str) -> Vec<u8> {
    [path, ending.as_bytes()].concat()
}
