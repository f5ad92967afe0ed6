//! Extended attributes and access lists of files on this machine. What cannot be read or set is
//! counted, so that it can be named.

use fernweh_core::attributes::{Attribute, is_carried, to_pax};
use fernweh_core::limits;
use fernweh_core::record::{Entry, Extra};
use fernweh_ports::{LeftOut, counted};
use rustix::fs::{XattrFlags, lgetxattr, llistxattr, lsetxattr};
use rustix::io::Errno;
use std::fs::Metadata;
use std::os::unix::fs::MetadataExt;
use std::path::Path;

/// Bytes of the names of an entry's attributes, and of one value: what Linux takes at most.
const MOST: usize = 64 << 10;

/// Attributes that do not come along.
#[derive(Default)]
pub(super) struct Unsaid {
    entries: u64,
    first: Option<String>,
}

impl Unsaid {
    /// What few entries have of this one; what of it cannot be carried is counted.
    pub fn look(&mut self, path: &Path, shown: &[u8], found: &Metadata) -> Extra {
        let names = (found.is_file() && found.nlink() > 1).then(|| (found.dev(), found.ino()));
        let attributes = match found.is_symlink() {
            true => Some(Vec::new()),
            false => attributes_of(path),
        };
        let attributes = attributes.unwrap_or_else(|| {
            self.add(shown);
            Vec::new()
        });
        Extra { attributes, names }
    }

    /// Counts one more.
    pub fn add(&mut self, shown: &[u8]) {
        self.entries += 1;
        self.first.get_or_insert_with(|| String::from_utf8_lossy(shown).into_owned());
    }

    /// Which entries it is about, in words.
    pub fn words(&self) -> Option<String> {
        let first = self.first.as_ref()?;
        Some(format!("attributes of {}, as {first}", counted(self.entries, "entry", "entries")))
    }

    /// What is to be said about it.
    pub fn told(&self) -> Option<LeftOut> {
        let because = "extended attributes or access lists that an archive cannot hold";
        Some(LeftOut::new(self.words()?, because))
    }
}

/// What a file or folder has; `None` if not all of it can be carried.
fn attributes_of(path: &Path) -> Option<Vec<Attribute>> {
    let mut names = [0_u8; 1024];
    let length = match llistxattr(path, &mut names[..]) {
        Ok(length) => length,
        Err(Errno::RANGE) => return long_attributes_of(path),
        // A file system that knows none has none.
        Err(_) => return Some(Vec::new()),
    };
    values_of(path, &names[..length])
}

fn long_attributes_of(path: &Path) -> Option<Vec<Attribute>> {
    let mut names = vec![0_u8; MOST];
    let length = llistxattr(path, &mut names[..]).ok()?;
    values_of(path, &names[..length])
}

fn values_of(path: &Path, names: &[u8]) -> Option<Vec<Attribute>> {
    let (mut found, mut bytes) = (Vec::new(), 0);
    for name in names.split(|byte| *byte == 0).filter(|name| is_carried(name)) {
        let mut value = vec![0_u8; MOST];
        let length = match lgetxattr(path, name, &mut value[..]) {
            Ok(length) => length,
            // It has gone meanwhile.
            Err(Errno::NODATA | Errno::NOENT) => continue,
            Err(_) => return None,
        };
        value.truncate(length);
        bytes += name.len() + length;
        let attribute = Attribute { name: name.to_vec(), value };
        if bytes > limits::ATTRIBUTES || to_pax(&attribute).is_none() {
            return None;
        }
        found.push(attribute);
    }
    Some(found)
}

/// Gives an entry its attributes; what its file system does not take is counted.
pub(super) fn set(path: &Path, entry: &Entry, unsaid: &mut Unsaid) {
    let attributes = entry.extra.attributes.iter();
    let set = |one: &Attribute| lsetxattr(path, &one.name[..], &one.value, XattrFlags::empty());
    if attributes.filter(|one| is_carried(&one.name)).any(|one| set(one).is_err()) {
        unsaid.add(&entry.path);
    }
}
