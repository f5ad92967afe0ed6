//! A folder opened step by step, so that no link on the way leads elsewhere.
//!
//! A path names whatever lies there when it is used; whoever can write in a site's folder can
//! put a link where a file was looked at a moment ago. Here every folder is opened relative to
//! the one above it, and nothing that is opened may be a link.

use rustix::fs::{AtFlags, FileType, Mode, OFlags};
use rustix::io::Errno;
use std::ffi::{OsStr, OsString};
use std::hash::{BuildHasher, Hasher, RandomState};
use std::io;
use std::os::fd::OwnedFd;
use std::os::unix::ffi::OsStrExt;
use std::path::{Component, Path};

/// A name that nobody can have put there before: `prefix` and 16 random digits.
pub(crate) fn random_name(prefix: &str) -> String {
    let mut hasher = RandomState::new().build_hasher();
    hasher.write_u128(std::time::UNIX_EPOCH.elapsed().map_or(0, |time| time.as_nanos()));
    format!("{prefix}{:016x}", hasher.finish())
}

/// The folder of a file below `root`, opened without following links, and the file's name.
pub(super) fn folder_of(root: &Path, path: &[u8]) -> io::Result<(OwnedFd, OsString)> {
    let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC;
    // The site's own folder may be reached through links: its owner has named it.
    let mut folder = rustix::fs::open(root, flags, Mode::empty())?;
    let mut names = Path::new(OsStr::from_bytes(path)).components().peekable();
    while let Some(name) = names.next() {
        let Component::Normal(name) = name else {
            return Err(io::Error::new(io::ErrorKind::InvalidInput, "it leads out of the folder"));
        };
        if names.peek().is_none() {
            return Ok((folder, name.to_owned()));
        }
        folder = rustix::fs::openat(&folder, name, flags | OFlags::NOFOLLOW, Mode::empty())
            .map_err(no_link)?;
    }
    Err(io::ErrorKind::InvalidInput.into())
}

fn no_link(error: Errno) -> io::Error {
    match error {
        Errno::LOOP | Errno::NOTDIR => {
            io::Error::new(io::ErrorKind::InvalidInput, "there is a link on the way")
        }
        other => other.into(),
    }
}

/// Makes a file that is not there yet; only its owner may read it.
pub(super) fn create(folder: &OwnedFd, name: &OsStr) -> io::Result<std::fs::File> {
    let flags = OFlags::WRONLY | OFlags::CREATE | OFlags::EXCL | OFlags::NOFOLLOW | OFlags::CLOEXEC;
    Ok(rustix::fs::openat(folder, name, flags, Mode::from_raw_mode(0o600))?.into())
}

/// Owner and permissions of a plain file; whatever else has its name is refused.
pub(super) fn plain_file(folder: &OwnedFd, name: &OsStr) -> io::Result<rustix::fs::Stat> {
    let found = rustix::fs::statat(folder, name, AtFlags::SYMLINK_NOFOLLOW)?;
    match FileType::from_raw_mode(found.st_mode) {
        FileType::RegularFile => Ok(found),
        _ => Err(io::Error::new(io::ErrorKind::InvalidInput, "it is no longer a plain file")),
    }
}

/// Opens a folder of ours, which must be one, and belong to this user; others cannot enter it
/// from then on.
pub(super) fn own_folder(path: &Path) -> io::Result<OwnedFd> {
    match rustix::fs::mkdir(path, Mode::from_raw_mode(0o700)) {
        Ok(()) | Err(Errno::EXIST) => {}
        Err(error) => return Err(error.into()),
    }
    let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::NOFOLLOW | OFlags::CLOEXEC;
    let folder = rustix::fs::open(path, flags, Mode::empty()).map_err(|error| match error {
        Errno::LOOP | Errno::NOTDIR => io::Error::new(
            io::ErrorKind::InvalidInput,
            "the name of Fernweh's own folder is taken by something else, perhaps a link",
        ),
        other => other.into(),
    })?;
    let found = rustix::fs::fstat(&folder)?;
    if found.st_uid != rustix::process::geteuid().as_raw() {
        return Err(io::Error::new(
            io::ErrorKind::PermissionDenied,
            "the name of Fernweh's own folder is taken by another user's folder",
        ));
    }
    rustix::fs::fchmod(&folder, Mode::from_raw_mode(0o700))?;
    Ok(folder)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_never_the_same() {
        assert_ne!(random_name(".x-"), random_name(".x-"));
        assert_eq!(random_name(".x-").len(), 19);
    }

    #[test]
    fn no_link_is_followed_below_the_folder() {
        let folder = tempfile::tempdir().unwrap();
        let (root, outside) = (folder.path().join("site"), folder.path().join("outside"));
        std::fs::create_dir_all(root.join("a")).unwrap();
        std::fs::create_dir(&outside).unwrap();
        std::os::unix::fs::symlink(&outside, root.join("link")).unwrap();
        assert!(folder_of(&root, b"a/x").is_ok());
        for path in [&b"link/x"[..], b"../x", b"/etc/x", b"", b"a/../x"] {
            assert!(folder_of(&root, path).is_err(), "{}", String::from_utf8_lossy(path));
        }
        std::os::unix::fs::symlink("/etc/passwd", root.join("a/x")).unwrap();
        let (opened, name) = folder_of(&root, b"a/x").unwrap();
        assert!(create(&opened, &name).is_err() && plain_file(&opened, &name).is_err());
    }

    #[test]
    fn a_folder_of_ours_is_no_link() {
        let folder = tempfile::tempdir().unwrap();
        let (ours, other) = (folder.path().join(".ours"), folder.path().join("other"));
        std::fs::create_dir(&other).unwrap();
        std::os::unix::fs::symlink(&other, &ours).unwrap();
        assert!(own_folder(&ours).unwrap_err().to_string().contains("perhaps a link"));
        std::fs::remove_file(&ours).unwrap();
        own_folder(&ours).unwrap();
        use std::os::unix::fs::PermissionsExt;
        assert_eq!(std::fs::metadata(&ours).unwrap().permissions().mode() & 0o777, 0o700);
    }
}
