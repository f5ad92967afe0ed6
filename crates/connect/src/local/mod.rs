//! Files on this machine.

mod attributes;
mod editor;
mod finishing;
mod mounts;
mod owner;
mod part;
mod resident;
mod source;
mod swap;
mod target;
mod within;

pub use editor::LocalEditor;
pub(crate) use owner::give;
use part::LocalTrees;
pub use source::LocalSource;
pub use swap::{file_id, let_go, switch};
pub use target::LocalTarget;
pub(crate) use within::random_name;

use fernweh_ports::{FileSwap, Result, Trouble, foreign};
use std::ffi::OsStr;
use std::path::{Component, Path, PathBuf};

/// Bytes free for this user on the disk of a path that exists, or of its nearest
/// existing parent.
pub fn free_space(path: &Path) -> Option<u64> {
    let path = std::path::absolute(path).ok()?;
    let existing = path.ancestors().find(|path| path.exists())?;
    let stat = rustix::fs::statvfs(existing).ok()?;
    Some(stat.f_bavail.saturating_mul(stat.f_frsize))
}

/// The folder beside a place in which Fernweh builds and keeps states of it. It lies
/// beside the site's folder, not in it, and only its owner may enter.
pub fn workshop(place: &Path) -> PathBuf {
    let name = place.file_name().unwrap_or_default().to_string_lossy();
    place.with_file_name(format!(".fernweh-{name}"))
}

/// The folder in which states are kept where the site's folder is a mount point: beside it lies
/// another file system.
pub(crate) const WITHIN: &str = ".fernweh-work";

/// Makes the workshop of a place, closed to others and to web servers.
pub fn open_workshop(place: &Path) -> std::io::Result<PathBuf> {
    let path = workshop(place);
    open_workshop_at(&path)?;
    Ok(path)
}

/// Makes a workshop at this path.
fn open_workshop_at(path: &Path) -> std::io::Result<()> {
    use std::io::Write;
    if let Some(parent) = path.parent() {
        std::fs::create_dir_all(parent)?;
    }
    let folder = within::own_folder(path)?;
    match within::create(&folder, OsStr::new(".htaccess")) {
        Ok(mut closed) => closed.write_all(b"Require all denied\n"),
        Err(error) if error.kind() == std::io::ErrorKind::AlreadyExists => Ok(()),
        Err(error) => Err(error),
    }
}

/// Keeps everybody else from working in a workshop, from whatever folder and configuration, until
/// the file is dropped.
fn lock_workshop(workshop: &Path) -> Result<std::fs::File> {
    let marker = workshop.join(".htaccess");
    let wrong = |error| Trouble::file("cannot lock the site's files", &marker, &error);
    let file = std::fs::File::open(&marker).map_err(wrong)?;
    match file.try_lock() {
        Ok(()) => Ok(file),
        Err(std::fs::TryLockError::WouldBlock) => {
            Err(Trouble::outside("another run is working on these files")
                .at(workshop.display().to_string())
                .because("it was begun in another folder, or by somebody else")
                .hint("wait until it has ended"))
        }
        Err(std::fs::TryLockError::Error(error)) => Err(wrong(error)),
    }
}

/// How the name of a note begins that says what a run keeps.
pub(crate) const NOTE: &str = "kept-";

/// Notes in a workshop that a run keeps a state there, or that it does no more.
pub(crate) fn note_kept(workshop: &Path, run: &str, note: Option<&[u8]>) -> Result<()> {
    let path = workshop.join(format!("{NOTE}{run}.json"));
    let noted = match note {
        Some(text) => std::fs::write(&path, text),
        None => remove_file(&path),
    };
    noted.map_err(|error| Trouble::file("cannot note what is kept", &path, &error))?;
    if note.is_none() {
        close_workshop_at(workshop);
    }
    Ok(())
}

/// What was noted there. A note is small; what is not is none.
pub(crate) fn notes_kept(workshop: &Path) -> Vec<Vec<u8>> {
    let entries = std::fs::read_dir(workshop).into_iter().flatten().flatten();
    let notes = entries.filter(|entry| {
        let name = entry.file_name();
        let small = entry
            .metadata()
            .is_ok_and(|found| found.is_file() && found.len() <= fernweh_core::limits::KEPT_NOTE);
        small && name.to_string_lossy().starts_with(NOTE)
    });
    notes.filter_map(|entry| std::fs::read(entry.path()).ok()).collect()
}

/// A switch that another folder has noted, with its places as they are seen from here: what is
/// kept lies under the name of the run in one of the site's own workshops, or nothing is done.
pub(crate) fn adopted(noted: &FileSwap, target: &Path, built: &Path) -> Result<FileSwap> {
    let parent = noted.side.parent().and_then(Path::file_name);
    let side = match parent.is_some_and(|name| name == WITHIN) {
        true => target.join(WITHIN).join(built.file_name().unwrap_or_default()),
        false => built.to_owned(),
    };
    let is_below = |path: &String| {
        let parts = Path::new(path).components();
        !path.is_empty() && parts.into_iter().all(|part| matches!(part, Component::Normal(_)))
    };
    if side.file_name() != noted.side.file_name() || !noted.resident.iter().all(is_below) {
        return Err(foreign(&format!("the files of {}", target.display())));
    }
    Ok(FileSwap { target: target.to_owned(), side, ..noted.clone() })
}

/// Removes a file, if it is there.
pub fn remove_file(path: &Path) -> std::io::Result<()> {
    match std::fs::remove_file(path) {
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(()),
        removed => removed,
    }
}

/// Removes the workshop in which something was kept, if nothing is kept there any more.
pub fn close_workshop_of(kept: &Path) {
    if let Some(folder) = kept.parent() {
        close_workshop_at(folder);
    }
}

/// The same, at its path; any other folder is left alone.
fn close_workshop_at(folder: &Path) {
    let name = folder.file_name().unwrap_or_default().to_string_lossy();
    if !name.starts_with(".fernweh-") {
        return;
    }
    let only_marker = std::fs::read_dir(folder)
        .is_ok_and(|entries| entries.flatten().all(|entry| entry.file_name() == ".htaccess"));
    if only_marker {
        let _ = std::fs::remove_file(folder.join(".htaccess"));
        let _ = std::fs::remove_dir(folder);
    }
}
