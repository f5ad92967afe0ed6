//! The names of files that are not complete yet. What is written stands under such a name until
//! it is whole, so that nobody takes a half for the whole.

use std::fs;
use std::path::{Path, PathBuf};

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

/// The unfinished archive of a site in a folder that was written last, by its name when it is
/// complete.
pub fn unfinished_archive(folder: &Path, site: &str) -> Option<PathBuf> {
    let entries = fs::read_dir(folder).into_iter().flatten().flatten();
    let names = entries.filter_map(|entry| {
        let name = entry.file_name().into_string().ok()?;
        let name = name.strip_prefix('.')?.strip_suffix(CHECKPOINTS)?.strip_suffix(PARTIAL)?;
        let dated = name.strip_prefix(site)?.starts_with('-');
        dated.then_some((entry.metadata().ok()?.modified().ok()?, name.to_owned()))
    });
    names.max().map(|(_, name)| PathBuf::from(name))
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
        assert_eq!(Some(found.as_os_str()), archive.file_name());
        assert_eq!(unfinished_archive(folder.path(), "new"), None);
    }
}
