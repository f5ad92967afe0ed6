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
    /// The folder of all these, and the name of the run.
    workshop: Vec<u8>,
    run: Vec<u8>,
    had_old: bool,
}

impl Places {
    fn of(swap: &FileSwap) -> Self {
        let new = swap.side.as_os_str().as_bytes().to_vec();
        let (folder, name) = split(&new);
        let run = name.strip_prefix(b"new-").unwrap_or(name);
        let named = |word: &[u8]| joined(folder, &[word, run].concat());
        let old = named(b"old-");
        let target = swap.target.as_os_str().as_bytes().to_vec();
        let (workshop, run) = (folder.to_vec(), run.to_vec());
        Self { target, new, old, workshop, run, had_old: swap.had_old }
    }

    /// Which folder's content comes into use, and which one takes what was in use.
    fn of_direction(&self, direction: Direction) -> (&[u8], &[u8]) {
        match direction {
            Direction::Forward => (&self.new, &self.old),
            Direction::Back => (&self.old, &self.new),
        }
    }

    /// What comes into use bears these names while it does: `leaving` as long as others have
    /// to leave the site's folder, `arriving` then.
    fn marked(&self, word: &str, direction: Direction) -> Vec<u8> {
        let way = if direction == Direction::Forward { "forward" } else { "back" };
        joined(&self.workshop, &[format!("{word}-{way}-").as_bytes(), &self.run].concat())
    }

    fn is_within(&self) -> bool {
        self.new.strip_prefix(&self.target[..]).is_some_and(|rest| rest.starts_with(b"/"))
            || self.target == b"/"
    }
}

/// The folder that holds what a switch in this direction brings into place, if it brings anything.
pub(super) fn holds(swap: &FileSwap, direction: Direction) -> Option<Vec<u8>> {
    let places = Places::of(swap);
    match direction {
        Direction::Back if !places.had_old => None,
        _ => Some(places.of_direction(direction).0.to_vec()),
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
/// place. The name of its folder says how far that has come, and which way it goes.
async fn one_by_one(tree: &dyn Tree, places: &Places, direction: Direction) -> Result<()> {
    for begun in [Direction::Forward, Direction::Back] {
        if is_there(tree, &places.marked("leaving", begun)).await? {
            leave(tree, places, begun).await?;
        }
        if is_there(tree, &places.marked("arriving", begun)).await? {
            arrive(tree, places, begun).await?;
        }
    }
    let (comes, _) = places.of_direction(direction);
    if !is_there(tree, comes).await? {
        return Ok(());
    }
    tree.rename(comes, &places.marked("leaving", direction), false).await?;
    leave(tree, places, direction).await?;
    arrive(tree, places, direction).await
}

async fn leave(tree: &dyn Tree, places: &Places, direction: Direction) -> Result<()> {
    let (_, goes) = places.of_direction(direction);
    let leaving = places.marked("leaving", direction);
    if !is_there(tree, goes).await? {
        tree.make_folder(goes).await?;
    }
    let coming = listed(tree, &leaving).await?;
    for entry in listed(tree, &places.target).await? {
        let stays = entry.name == super::workshop::WITHIN
            || coming.iter().any(|other| other.name == entry.name);
        if !stays {
            let from = joined(&places.target, &entry.name);
            tree.rename(&from, &joined(goes, &entry.name), false).await?;
        }
    }
    tree.rename(&leaving, &places.marked("arriving", direction), false).await
}

async fn arrive(tree: &dyn Tree, places: &Places, direction: Direction) -> Result<()> {
    let (_, goes) = places.of_direction(direction);
    let arriving = places.marked("arriving", direction);
    for entry in listed(tree, &arriving).await? {
        let place = joined(&places.target, &entry.name);
        let aside = joined(goes, &entry.name);
        if is_there(tree, &place).await? && !is_there(tree, &aside).await? {
            tree.rename(&place, &aside, false).await?;
        }
        tree.rename(&joined(&arriving, &entry.name), &place, false).await?;
    }
    tree.remove_folder(&arriving).await
}

/// Removes what a switch has put aside.
pub(super) async fn let_go(tree: &dyn Tree, swap: &FileSwap) -> Result<()> {
    let places = Places::of(swap);
    let mut half = false;
    for word in ["leaving", "arriving"] {
        for direction in [Direction::Forward, Direction::Back] {
            half |= is_there(tree, &places.marked(word, direction)).await?;
        }
    }
    if half {
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
