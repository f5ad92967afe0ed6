//! A new state takes the place of the old one by renaming.
//!
//! Beside the site's folder, two renames do it. Where the login sees nothing but the site's
//! folder itself, the entries change places one by one. In both cases the names that are
//! there tell how far a switch has come, so that one that was broken off is completed.

use super::{FoundKind, Tree, joined, listed, remove_all, split};
use fernweh_ports::{Direction, FileSwap, Result, Trouble};
use std::os::unix::ffi::OsStrExt;

/// The places of a switch.
struct Places {
    target: Vec<u8>,
    /// Holds the new state while the old one is in use.
    new: Vec<u8>,
    /// Holds the old state while the new one is in use.
    old: Vec<u8>,
    /// Holds what moves into the site's folder, once everything else has left it.
    moving: Vec<u8>,
    had_old: bool,
}

impl Places {
    fn of(swap: &FileSwap) -> Self {
        let new = swap.side.as_os_str().as_bytes().to_vec();
        let (folder, name) = split(&new);
        let run = name.strip_prefix(b"new-").unwrap_or(name);
        let named = |word: &[u8]| joined(folder, &[word, run].concat());
        let (old, moving) = (named(b"old-"), named(b"moving-"));
        let target = swap.target.as_os_str().as_bytes().to_vec();
        Self { target, new, old, moving, had_old: swap.had_old }
    }

    fn is_within(&self) -> bool {
        self.new.strip_prefix(&self.target[..]).is_some_and(|rest| rest.starts_with(b"/"))
            || self.target == b"/"
    }
}

/// Makes the switch, or completes it; doing it twice is the same as once.
pub(super) async fn switch(tree: &dyn Tree, swap: &FileSwap, direction: Direction) -> Result<()> {
    let places = Places::of(swap);
    match places.is_within() {
        true => one_by_one(tree, &places, direction).await,
        false => whole(tree, &places, direction).await,
    }
}

async fn is_there(tree: &dyn Tree, path: &[u8]) -> Result<bool> {
    Ok(tree.look(path).await?.is_some())
}

async fn whole(tree: &dyn Tree, places: &Places, direction: Direction) -> Result<()> {
    let (comes, goes, had) = match direction {
        Direction::Forward => (&places.new, &places.old, places.had_old),
        Direction::Back => (&places.old, &places.new, true),
    };
    let back_to_nothing = direction == Direction::Back && !places.had_old;
    if !back_to_nothing && !is_there(tree, comes).await? {
        return Ok(());
    }
    if had && !is_there(tree, goes).await? && is_there(tree, &places.target).await? {
        tree.rename(&places.target, goes, false).await?;
    }
    match back_to_nothing {
        true => Ok(()),
        false => tree.rename(comes, &places.target, false).await,
    }
}

/// Entries that the coming state does not have go first; then each entry of it takes its
/// place. Renaming its folder marks where the one ends and the other begins.
async fn one_by_one(tree: &dyn Tree, places: &Places, direction: Direction) -> Result<()> {
    let (comes, goes) = match direction {
        Direction::Forward => (&places.new, &places.old),
        Direction::Back => (&places.old, &places.new),
    };
    if is_there(tree, &places.moving).await? {
        // Whichever way it went, it is completed first.
        let other = if is_there(tree, comes).await? { comes } else { goes };
        arrive(tree, places, other).await?;
    }
    if !is_there(tree, comes).await? {
        return Ok(());
    }
    if !is_there(tree, goes).await? {
        tree.make_folder(goes).await?;
    }
    let coming = listed(tree, comes).await?;
    for entry in listed(tree, &places.target).await? {
        let stays = entry.name == super::target::WITHIN
            || coming.iter().any(|other| other.name == entry.name);
        if !stays {
            let from = joined(&places.target, &entry.name);
            tree.rename(&from, &joined(goes, &entry.name), false).await?;
        }
    }
    tree.rename(comes, &places.moving, false).await?;
    arrive(tree, places, goes).await
}

async fn arrive(tree: &dyn Tree, places: &Places, goes: &[u8]) -> Result<()> {
    for entry in listed(tree, &places.moving).await? {
        let place = joined(&places.target, &entry.name);
        let aside = joined(goes, &entry.name);
        if is_there(tree, &place).await? && !is_there(tree, &aside).await? {
            tree.rename(&place, &aside, false).await?;
        }
        tree.rename(&joined(&places.moving, &entry.name), &place, false).await?;
    }
    tree.remove_folder(&places.moving).await
}

/// Removes what a switch has put aside.
pub(super) async fn let_go(tree: &dyn Tree, swap: &FileSwap) -> Result<()> {
    let places = Places::of(swap);
    if is_there(tree, &places.moving).await? {
        return Err(Trouble::outside("the switch of this run is not complete")
            .at(super::shown(tree, &places.target))
            .hint("complete it or take it back first: fernweh runs says how"));
    }
    for place in [&places.new, &places.old] {
        if is_there(tree, place).await? {
            remove_all(tree, place.clone(), FoundKind::Folder).await?;
        }
    }
    close(tree, split(&places.new).0).await;
    Ok(())
}

/// Removes the folder in which states are built and kept, if nothing is in it any more.
pub(super) async fn close(tree: &dyn Tree, workshop: &[u8]) {
    let Ok(entries) = listed(tree, workshop).await else { return };
    if entries.iter().all(|entry| entry.name == b".htaccess") {
        if !entries.is_empty() {
            let _ = tree.remove_file(&joined(workshop, b".htaccess")).await;
        }
        let _ = tree.remove_folder(workshop).await;
    }
}
