//! What becomes of the files that are there now: some are carried over into the new state, or
//! all are removed so that there is room for it. The same for folders here and on other hosts.

use fernweh_core::entries::EntryList;
use fernweh_core::record::{Entry, EntryKind};
use fernweh_ports::{FileSource, FileTarget, Result, in_turn};

/// A tree that is built, as far as carrying over needs it.
pub(crate) trait Building: FileTarget {
    /// Takes away what was built at the entry's place, unless both are folders. Whether there is
    /// such a folder.
    fn make_way(&mut self, entry: &Entry) -> Result<bool>;
}

/// Carries entries of the present state over; what the new state has at their place goes. Gives
/// the number of files.
pub(crate) fn keep(
    target: &mut impl Building,
    present: &mut impl FileSource,
    wanted: &dyn Fn(&[u8]) -> bool,
) -> Result<u64> {
    let found = listed(present, wanted)?;
    let mut kept = 0;
    in_turn(present, &found, |present, entry| {
        if target.make_way(&entry)? {
            return Ok(());
        }
        if !entry.kind.is_file() {
            return target.put(&entry);
        }
        // What visitors have removed meanwhile is not brought back.
        let Some(mut file) = present.open(&entry.path)? else { return Ok(()) };
        kept += 1;
        target.put_file(&entry, &mut file)
    })?;
    Ok(kept)
}

/// Removes everything but what stays, and the folders in which something does. `remove` is
/// called for what lies in a folder before the folder itself.
pub(crate) fn clear(
    present: &mut impl FileSource,
    stays: &dyn Fn(&[u8]) -> bool,
    remove: &mut dyn FnMut(&Entry) -> Result<()>,
) -> Result<()> {
    let found = listed(present, &|_| true)?;
    found
        .iter_back()
        .filter(|entry| entry.kind == EntryKind::Folder || !stays(&entry.path))
        .try_for_each(|entry| remove(&entry))
}

fn listed(present: &mut impl FileSource, wanted: &dyn Fn(&[u8]) -> bool) -> Result<EntryList> {
    let mut found = EntryList::default();
    present.walk(&|_| true, &mut |entry| {
        if wanted(&entry.path) {
            found.push(entry);
        }
        Ok(())
    })?;
    Ok(found)
}
