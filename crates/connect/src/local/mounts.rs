//! Other file systems that are mounted at a folder or below it: renaming takes them along, and
//! removing what was put aside would empty them.
//!
//! proc(5), `/proc/[pid]/mountinfo`. Where a system has no such file, none is known.

use fernweh_ports::{Result, Trouble};
use std::ffi::OsString;
use std::fs;
use std::os::unix::ffi::OsStringExt;
use std::path::{Path, PathBuf};

/// The places at a folder and below it where something is mounted.
fn mounted_in(folder: &Path) -> Vec<PathBuf> {
    let Ok(folder) = fs::canonicalize(folder) else { return Vec::new() };
    let text = fs::read("/proc/self/mountinfo").unwrap_or_default();
    let places = text.split(|byte| *byte == b'\n').filter_map(mount_point);
    places.filter(|place| place.starts_with(&folder)).collect()
}

/// The fifth field of a line: spaces and such stand there as octal digits.
fn mount_point(line: &[u8]) -> Option<PathBuf> {
    let mut field = line.split(|byte| *byte == b' ').nth(4)?;
    let mut path = Vec::new();
    while let Some((&byte, rest)) = field.split_first() {
        let octal = rest.get(..3).and_then(|digits| std::str::from_utf8(digits).ok());
        match octal.and_then(|digits| u8::from_str_radix(digits, 8).ok()) {
            Some(escaped) if byte == b'\\' => {
                path.push(escaped);
                field = &rest[3..];
            }
            _ => {
                path.push(byte);
                field = rest;
            }
        }
    }
    Some(PathBuf::from(OsString::from_vec(path)))
}

/// Whether another file system is mounted at this folder itself.
pub(super) fn is_mount_point(folder: &Path) -> bool {
    let real = fs::canonicalize(folder).ok();
    real.is_some_and(|real| mounted_in(&real).contains(&real))
}

/// Refuses a folder in which something is mounted: it would move along with what it lies in.
pub(super) fn refuse_within(folder: &Path) -> Result<()> {
    let real = fs::canonicalize(folder).unwrap_or_else(|_| folder.to_owned());
    match mounted_in(folder).into_iter().find(|place| *place != real) {
        None => Ok(()),
        Some(place) => Err(Trouble::outside("the site's entries cannot be exchanged")
            .at(folder.display().to_string())
            .because(format!("another file system is mounted at {}", place.display()))
            .hint("unmount it during the run")),
    }
}

/// Refuses to exchange a folder that another file system is mounted at, or below.
pub(super) fn refuse_to_exchange(folder: &Path) -> Result<()> {
    match mounted_in(folder).first() {
        None => Ok(()),
        Some(place) => Err(Trouble::outside("the site's folder cannot be exchanged")
            .at(folder.display().to_string())
            .because(format!("another file system is mounted at {}", place.display()))
            .hint(
                "unmount it during the run; if it is the site's folder itself, --entry-by-entry \
                 replaces its entries one by one, and for some seconds visitors see a mixture",
            )),
    }
}

/// An entry lies in another file system, and so cannot be renamed into the site's folder.
pub(super) fn another(path: &Path) -> Trouble {
    Trouble::outside("some of the files cannot be put in place")
        .at(path.display().to_string())
        .because("another file system is mounted there, and nothing can be renamed into it")
        .hint("unmount it during the run, or leave these files out of --paths")
}

/// Refuses to remove what another file system is mounted in.
pub(super) fn refuse_to_remove(folder: &Path) -> Result<()> {
    match mounted_in(folder).first() {
        None => Ok(()),
        Some(place) => Err(Trouble::outside("what was put aside is not removed")
            .at(folder.display().to_string())
            .because(format!(
                "another file system is mounted at {}, and would be emptied",
                place.display()
            ))
            .hint("unmount it, and try again")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn mount_points_are_read_with_their_signs() {
        let line = br"36 35 98:0 / /srv/two\040words\134x rw,noatime master:1 - ext4 /dev/root rw";
        assert_eq!(mount_point(line).unwrap(), Path::new(r"/srv/two words\x"));
        assert_eq!(mount_point(b"36 35 98:0"), None);
        assert!(mounted_in(Path::new("/proc")).contains(&"/proc".into()));
        assert!(mounted_in(&std::env::temp_dir().join("nothing-here")).is_empty());
    }
}
