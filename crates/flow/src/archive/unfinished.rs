//! The names of files that are not complete yet. What is written stands under such a name until
//! it is whole, so that nobody takes a half for the whole.

use std::fs;
use std::path::{Path, PathBuf};
use std::time::SystemTime;

/// What ends the name of a file that is being written.
const PARTIAL: &str = ".partial";
/// What is added for the checkpoints of an unfinished archive.
const CHECKPOINTS: &str = ".marks";

/// The name of a file until it is complete: an archive until it is sealed.
pub fn partial_of(path: &Path) -> PathBuf {
    beside(path, "")
}

/// Where the checkpoints of an archive stand until it is sealed.
pub fn checkpoints_of(path: &Path) -> PathBuf {
    beside(path, CHECKPOINTS)
}

fn beside(path: &Path, ending: &str) -> PathBuf {
    let name = path.file_name().unwrap_or_default().to_string_lossy();
    path.with_file_name(format!(".{name}{PARTIAL}{ending}"))
}

/// An archive that was broken off.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Unfinished {
    /// Its name when it is complete.
    pub archive: PathBuf,
    /// When it was written to last.
    pub written: SystemTime,
}

/// The unfinished archive of a site in a folder that was written last, if nobody is writing it.
pub fn unfinished_archive(folder: &Path, site: &str) -> Option<Unfinished> {
    let entries = fs::read_dir(folder).into_iter().flatten().flatten();
    let found = entries.filter_map(|entry| {
        let name = entry.file_name().into_string().ok()?;
        let name = name.strip_prefix('.')?.strip_suffix(CHECKPOINTS)?.strip_suffix(PARTIAL)?;
        // The date begins with a digit; `old-shop` is another site than `old`.
        let dated = name.strip_prefix(site)?.strip_prefix('-')?;
        let dated = dated.starts_with(|ch: char| ch.is_ascii_digit());
        let written = entry.metadata().ok()?.modified().ok()?;
        let archive = PathBuf::from(name);
        (dated && is_free(&folder.join(name))).then_some(Unfinished { archive, written })
    });
    found.max_by(|a, b| (a.written, &a.archive).cmp(&(b.written, &b.archive)))
}

/// Whether an archive of this name was begun and is not complete.
pub fn is_unfinished(path: &Path) -> bool {
    checkpoints_of(path).is_file()
}

/// Removes what there is of an archive that was broken off.
pub fn remove_unfinished(path: &Path) {
    for file in [partial_of(path), checkpoints_of(path)] {
        let _ = fs::remove_file(file);
    }
}

/// Whether no other program is writing an archive.
fn is_free(path: &Path) -> bool {
    let Ok(file) = fs::File::open(partial_of(path)) else { return true };
    !matches!(file.try_lock_shared(), Err(fs::TryLockError::WouldBlock))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_unfinished_archive_of_a_site_is_found_by_its_checkpoints() {
        let folder = tempfile::tempdir().unwrap();
        let archive = folder.path().join("old-2026-11-23-0910.fernweh.tar");
        fs::write(checkpoints_of(&archive), "").unwrap();
        fs::write(partial_of(&folder.path().join("old-2026-11-24-0910.fernweh.tar")), "").unwrap();
        fs::write(checkpoints_of(&folder.path().join("older-2026.fernweh.tar")), "").unwrap();
        let found = unfinished_archive(folder.path(), "old").unwrap();
        assert_eq!(Some(found.archive.as_os_str()), archive.file_name());
        assert_eq!(unfinished_archive(folder.path(), "new"), None);
        // A site whose name begins like another one.
        let other = folder.path().join("new-shop-2026-11-23-0910.fernweh.tar");
        fs::write(checkpoints_of(&other), "").unwrap();
        assert_eq!(unfinished_archive(folder.path(), "new"), None);
    }

    #[test]
    fn what_another_program_is_writing_is_not_gone_on_with() {
        let folder = tempfile::tempdir().unwrap();
        let archive = folder.path().join("old-2026-11-23-0910.fernweh.tar");
        fs::write(checkpoints_of(&archive), "").unwrap();
        let writing = fs::File::create(partial_of(&archive)).unwrap();
        writing.try_lock().unwrap();
        assert_eq!(unfinished_archive(folder.path(), "old"), None);
        drop(writing);
        assert!(unfinished_archive(folder.path(), "old").is_some());
    }
}
