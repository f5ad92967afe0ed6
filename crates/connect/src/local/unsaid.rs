//! What files of this machine have that an archive does not hold: further names of the same file
//! (hard links), extended attributes, access lists. It is counted, so that it can be named.

use fernweh_ports::{LeftOut, counted};
use std::collections::HashSet;
use std::fs::Metadata;
use std::os::unix::fs::MetadataExt;
use std::path::Path;

/// Files with several names that are remembered; a tree with more is named all the same.
const REMEMBERED: usize = 100_000;

/// What was seen so far.
#[derive(Default)]
pub(super) struct Unsaid {
    several: HashSet<(u64, u64)>,
    linked: u64,
    attributes: u64,
    first: Option<String>,
}

impl Unsaid {
    /// Looks at a file or a folder.
    pub fn look(&mut self, path: &Path, shown: &[u8], found: &Metadata) {
        if found.is_file() && found.nlink() > 1 {
            let file = (found.dev(), found.ino());
            if !self.several.contains(&file) && self.several.len() < REMEMBERED {
                self.several.insert(file);
            } else {
                self.linked += 1;
            }
        }
        if !found.is_symlink() && has_attributes(path) {
            self.attributes += 1;
            self.first.get_or_insert_with(|| String::from_utf8_lossy(shown).into_owned());
        }
    }

    /// What is to be said about it.
    pub fn told(self) -> impl Iterator<Item = LeftOut> {
        let linked = (self.linked > 0).then(|| {
            LeftOut::new(
                counted(self.linked, "hard link", "hard links"),
                "each name of such a file arrives as a file of its own",
            )
        });
        let attributes = self.first.map(|first| {
            let entries = counted(self.attributes, "entry", "entries");
            LeftOut::new(
                format!("attributes of {entries}, as {first}"),
                "extended attributes and access lists do not travel; set them again there",
            )
        });
        linked.into_iter().chain(attributes)
    }
}

/// Whether something has attributes of users or an access list. Those of the system's own
/// security modules belong to the machine.
fn has_attributes(path: &Path) -> bool {
    let mut names = [0_u8; 4096];
    match rustix::fs::llistxattr(path, &mut names[..]) {
        Ok(length) => names[..length]
            .split(|byte| *byte == 0)
            .any(|name| name.starts_with(b"user.") || name.starts_with(b"system.posix_acl_")),
        // There are more than the names have room for.
        Err(rustix::io::Errno::RANGE) => true,
        Err(_) => false,
    }
}
