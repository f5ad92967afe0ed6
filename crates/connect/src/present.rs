//! What becomes of the files that are there now: some are carried over into the new state, or
//! all are removed so that there is room for it. The same for folders here and on other hosts.

use fernweh_core::entries::EntryList;
use fernweh_core::record::{Entry, EntryKind};
use fernweh_ports::{FileSource, FileTarget, Result, Trouble, in_turn};
use std::cmp::Ordering;
use std::collections::HashMap;

/// A tree that is built, as far as carrying over needs it.
pub(crate) trait Building: FileTarget {
    /// Takes away what was built at the entry's place, unless both are folders. Whether there is
    /// such a folder.
    fn make_way(&mut self, entry: &Entry) -> Result<bool>;
    /// Takes away what was carried over and is not there any more; a folder only if it is empty.
    fn take_away(&mut self, entry: &Entry) -> Result<()>;
    /// What was carried over, as it was then.
    fn kept(&mut self) -> &mut EntryList;
}

/// Carries entries of the present state over; what the new state has at their place goes. Gives
/// the number of files.
pub(crate) fn keep(
    target: &mut impl Building,
    present: &mut impl FileSource,
    wanted: &dyn Fn(&[u8]) -> bool,
) -> Result<u64> {
    let found = listed(present, wanted)?;
    let (mut kept, mut names) = (0, HashMap::new());
    in_turn(present, &found, |present, entry| {
        kept += u64::from(entry.kind.is_file());
        // What is one file under several names stays one.
        let first = entry.extra.names.and_then(|file| names.get(&file).cloned());
        if let Some(first) = first {
            return bring(target, present, &Entry { kind: EntryKind::HardLink(first), ..entry });
        }
        if let Some(file) = entry.extra.names {
            names.insert(file, entry.path.clone());
        }
        bring(target, present, &entry)
    })?;
    *target.kept() = found;
    Ok(kept)
}

/// An archive gives a further name to a file that it has not held before.
pub(crate) fn not_built(path: &[u8], name: &[u8]) -> Trouble {
    Trouble::damaged("the archive holds a further name of a file that it does not hold")
        .at(String::from_utf8_lossy(name).into_owned())
        .because(format!("no file {} comes before it", String::from_utf8_lossy(path)))
        .hint("do not use this archive; pack the site again")
}

fn bring(
    target: &mut impl Building,
    present: &mut (impl FileSource + ?Sized),
    entry: &Entry,
) -> Result<()> {
    if target.make_way(entry)? {
        return Ok(());
    }
    if !entry.kind.is_file() {
        return target.put(entry);
    }
    // What visitors have removed meanwhile is not brought back.
    let Some(mut file) = present.open(&entry.path)? else { return Ok(()) };
    target.put_file(entry, &mut file)
}

/// Compares what was carried over with what is there now, and brings the new state up to date.
/// Gives the number of entries that were not the same.
pub(crate) fn catch_up(
    target: &mut impl Building,
    present: &mut impl FileSource,
    wanted: &dyn Fn(&[u8]) -> bool,
) -> Result<u64> {
    let (before, now) = (std::mem::take(target.kept()), listed(present, wanted)?);
    let (mut old, mut new) = (before.iter().peekable(), now.iter().peekable());
    let (mut gone, mut moved) = (EntryList::default(), 0);
    loop {
        let order = match (old.peek(), new.peek()) {
            (None, None) => break,
            (Some(_), None) => Ordering::Less,
            (None, Some(_)) => Ordering::Greater,
            (Some(old), Some(new)) => in_walking_order(&old.path, &new.path),
        };
        let left = if order.is_le() { old.next() } else { None };
        let came = if order.is_ge() { new.next() } else { None };
        match (left, came) {
            (Some(left), None) => gone.push(left),
            (None, Some(came)) => {
                moved += 1;
                bring(target, present, &came)?;
            }
            // The time of a folder moves with what it holds.
            (Some(left), Some(came)) if left != came && came.kind != EntryKind::Folder => {
                moved += 1;
                bring(target, present, &came)?;
            }
            _ => {}
        }
    }
    // What lies in a folder comes behind it.
    gone.iter_back().try_for_each(|entry| target.take_away(&entry))?;
    moved += gone.len() as u64;
    drop(new);
    *target.kept() = now;
    Ok(moved)
}

/// The order in which a tree is walked: a folder before what it holds, names by their bytes.
fn in_walking_order(one: &[u8], other: &[u8]) -> Ordering {
    let slash = |byte: &u8| *byte == b'/';
    one.split(slash).cmp(other.split(slash))
}

/// Removes everything but what stays, and the folders in which something does. `remove` is
/// called for what lies in a folder before the folder itself, with an entry of which the present
/// one must not differ; whether it did not. Gives the files that were written since they were
/// packed.
pub(crate) fn clear(
    present: &mut impl FileSource,
    stays: &dyn Fn(&[u8]) -> bool,
    is_packed: &dyn Fn(&Entry) -> bool,
    remove: &mut dyn FnMut(&Entry) -> Result<bool>,
) -> Result<Vec<String>> {
    let found = listed(present, &|_| true)?;
    let mut written = Vec::new();
    for entry in found.iter_back() {
        let folder = entry.kind == EntryKind::Folder;
        if !folder && stays(&entry.path) {
            continue;
        }
        if !(folder || is_packed(&entry)) || !remove(&entry)? {
            written.push(entry.shown());
        }
    }
    Ok(written)
}

/// The entries that are wanted, and the folders on the way to them.
pub(crate) fn listed(
    present: &mut impl FileSource,
    wanted: &dyn Fn(&[u8]) -> bool,
) -> Result<EntryList> {
    let mut found = EntryList::default();
    let mut above: Vec<Entry> = Vec::new();
    present.walk(&|_| true, &mut |entry| {
        let is_above = |folder: &Entry| {
            let rest = entry.path.strip_prefix(&folder.path[..]);
            rest.is_some_and(|rest| rest.first() == Some(&b'/'))
        };
        above.truncate(above.iter().take_while(|folder| is_above(folder)).count());
        if wanted(&entry.path) {
            above.drain(..).for_each(|folder| found.push(folder));
            found.push(entry);
        } else if entry.kind == EntryKind::Folder {
            above.push(entry);
        }
        Ok(())
    })?;
    Ok(found)
}
