//! Lists of a site's entries and sets of its paths, small enough to be held for a million of
//! them. A tree is walked once, and its files are read afterwards: the list between the two is
//! the one thing that grows with the number of files.
//!
//! An entry is written as what it has beyond the one before it: neighbours share their folder,
//! mode and owner. About 25 bytes are left of each.

use crate::attributes::Attribute;
use crate::digest::half_sha256;
use crate::record::{Entry, EntryKind, Extra};
use std::collections::HashSet;

/// Bytes of a chunk, in which each first entry is written whole.
const CHUNK: usize = 64 << 10;

const FILE: u8 = 0;
const FOLDER: u8 = 1;
const LINK: u8 = 2;
const HARD_LINK: u8 = 3;
/// Mode and owner are those of the entry before.
const SAME: u8 = 4;
/// It has what few entries have.
const EXTRA: u8 = 8;

/// Entries in the order in which they were added.
#[derive(Debug, Default)]
pub struct EntryList {
    chunks: Vec<Vec<u8>>,
    last: Option<Entry>,
    len: usize,
}

impl EntryList {
    /// The number of entries.
    pub fn len(&self) -> usize {
        self.len
    }

    /// Whether there is none.
    pub fn is_empty(&self) -> bool {
        self.len == 0
    }

    /// Adds an entry.
    pub fn push(&mut self, entry: Entry) {
        if self.chunks.last().is_none_or(|chunk| chunk.len() >= CHUNK) {
            if let Some(full) = self.chunks.last_mut() {
                full.shrink_to_fit();
            }
            self.chunks.push(Vec::with_capacity(CHUNK + 1024));
            self.last = None;
        }
        if let Some(chunk) = self.chunks.last_mut() {
            write(self.last.as_ref(), &entry, chunk);
        }
        self.last = Some(entry);
        self.len += 1;
    }

    /// The entries, one at a time.
    pub fn iter(&self) -> impl Iterator<Item = Entry> + '_ {
        self.chunks.iter().flat_map(|chunk| entries_of(chunk))
    }

    /// The entries from the last to the first.
    pub fn iter_back(&self) -> impl Iterator<Item = Entry> + '_ {
        self.chunks.iter().rev().flat_map(|chunk| {
            let mut entries: Vec<Entry> = entries_of(chunk).collect();
            entries.reverse();
            entries
        })
    }
}

fn entries_of(chunk: &[u8]) -> impl Iterator<Item = Entry> + '_ {
    let mut rest = chunk;
    let mut last = None;
    std::iter::from_fn(move || {
        let entry = read(last.as_ref(), &mut rest)?;
        last = Some(entry.clone());
        Some(entry)
    })
}

fn write(last: Option<&Entry>, entry: &Entry, out: &mut Vec<u8>) {
    let before = last.map_or(&[][..], |last| &last.path);
    let shared = before.iter().zip(&entry.path).take_while(|(a, b)| a == b).count();
    let same = last.is_some_and(|last| (last.mode, last.owner) == (entry.mode, entry.owner));
    let kind = match entry.kind {
        EntryKind::File(_) => FILE,
        EntryKind::Folder => FOLDER,
        EntryKind::Link(_) => LINK,
        EntryKind::HardLink(_) => HARD_LINK,
    };
    let extra = if entry.extra.is_empty() { 0 } else { EXTRA };
    out.push(kind | extra | if same { SAME } else { 0 });
    number(shared as u64, out);
    bytes(&entry.path[shared..], out);
    match &entry.kind {
        EntryKind::File(size) => number(*size, out),
        EntryKind::Folder => {}
        EntryKind::Link(target) | EntryKind::HardLink(target) => bytes(target, out),
    }
    // The sign goes to the lowest bit, so that small differences are short in both directions.
    let later = entry.mtime.wrapping_sub(last.map_or(0, |last| last.mtime));
    number(((later << 1) ^ (later >> 63)) as u64, out);
    number(entry.nanos.into(), out);
    if !same {
        number(entry.mode.into(), out);
        number(entry.owner.0, out);
        number(entry.owner.1, out);
    }
    if extra != 0 {
        write_extra(&entry.extra, out);
    }
}

fn write_extra(extra: &Extra, out: &mut Vec<u8>) {
    out.push(u8::from(extra.names.is_some()));
    if let Some((device, file)) = extra.names {
        number(device, out);
        number(file, out);
    }
    number(extra.attributes.len() as u64, out);
    for attribute in &extra.attributes {
        bytes(&attribute.name, out);
        bytes(&attribute.value, out);
    }
}

fn read_extra(rest: &mut &[u8]) -> Option<Extra> {
    let (named, after) = rest.split_first()?;
    *rest = after;
    let names = if *named == 0 { None } else { Some((take_number(rest)?, take_number(rest)?)) };
    let mut attributes = Vec::new();
    for _ in 0..take_number(rest)? {
        let (name, value) = (take_bytes(rest)?.to_vec(), take_bytes(rest)?.to_vec());
        attributes.push(Attribute { name, value });
    }
    Some(Extra { attributes, names })
}

/// The next entry; `None` at the end.
fn read(last: Option<&Entry>, rest: &mut &[u8]) -> Option<Entry> {
    let (kind, after) = rest.split_first()?;
    *rest = after;
    let shared = take_number(rest)? as usize;
    let mut path = last.map_or(&[][..], |last| &last.path).get(..shared)?.to_vec();
    path.extend_from_slice(take_bytes(rest)?);
    let entry_kind = match kind & HARD_LINK {
        FILE => EntryKind::File(take_number(rest)?),
        FOLDER => EntryKind::Folder,
        HARD_LINK => EntryKind::HardLink(take_bytes(rest)?.to_vec()),
        _ => EntryKind::Link(take_bytes(rest)?.to_vec()),
    };
    let later = take_number(rest)?;
    let later = (later >> 1) as i64 ^ -((later & 1) as i64);
    let mtime = last.map_or(0, |last| last.mtime).wrapping_add(later);
    let nanos = take_number(rest)? as u32;
    let (mode, owner) = match (kind & SAME, last) {
        (SAME, Some(last)) => (last.mode, last.owner),
        _ => (take_number(rest)? as u32, (take_number(rest)?, take_number(rest)?)),
    };
    let extra = if kind & EXTRA != 0 { read_extra(rest)? } else { Extra::default() };
    Some(Entry { path, kind: entry_kind, mode, mtime, nanos, owner, extra })
}

/// Seven bits at a time, the lowest first; the eighth says that more follow.
fn number(mut value: u64, out: &mut Vec<u8>) {
    while value >= 0x80 {
        out.push(value as u8 | 0x80);
        value >>= 7;
    }
    out.push(value as u8);
}

fn take_number(rest: &mut &[u8]) -> Option<u64> {
    let mut value = 0;
    for shift in (0..64).step_by(7) {
        let (byte, after) = rest.split_first()?;
        *rest = after;
        value |= u64::from(byte & 0x7f) << shift;
        if byte & 0x80 == 0 {
            return Some(value);
        }
    }
    None
}

fn bytes(value: &[u8], out: &mut Vec<u8>) {
    number(value.len() as u64, out);
    out.extend_from_slice(value);
}

fn take_bytes<'a>(rest: &mut &'a [u8]) -> Option<&'a [u8]> {
    let length = take_number(rest)? as usize;
    let (value, after) = rest.split_at_checked(length)?;
    *rest = after;
    Some(value)
}

/// A set of paths of which only half a SHA-256 is held: nobody can make two paths with the
/// same one.
#[derive(Clone, Debug, Default)]
pub struct PathSet(HashSet<[u8; 16]>);

impl PathSet {
    /// Adds a path; whether it is new.
    pub fn insert(&mut self, path: &[u8]) -> bool {
        self.0.insert(half_sha256(path))
    }

    /// Takes a path out; whether it was there.
    pub fn remove(&mut self, path: &[u8]) -> bool {
        self.0.remove(&half_sha256(path))
    }

    /// Whether a path is in it.
    pub fn contains(&self, path: &[u8]) -> bool {
        self.0.contains(&half_sha256(path))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn entry() -> impl Strategy<Value = Entry> {
        let kind = prop_oneof![
            any::<u64>().prop_map(EntryKind::File),
            Just(EntryKind::Folder),
            prop::collection::vec(any::<u8>(), 0..20).prop_map(EntryKind::Link),
            prop::collection::vec(any::<u8>(), 0..20).prop_map(EntryKind::HardLink),
        ];
        let path = prop::collection::vec(prop_oneof![Just(b'a'), Just(b'/'), any::<u8>()], 0..40);
        let owner = (any::<u64>(), any::<u64>());
        let mode = prop_oneof![Just(0o644), any::<u32>()];
        let owner = prop_oneof![Just((33, 33)), owner];
        (path, kind, mode, any::<i64>(), any::<u32>(), owner, extra()).prop_map(
            |(path, kind, mode, mtime, nanos, owner, extra)| Entry {
                path,
                kind,
                mode,
                mtime,
                nanos,
                owner,
                extra,
            },
        )
    }

    fn extra() -> impl Strategy<Value = Extra> {
        let text = || prop::collection::vec(any::<u8>(), 0..12);
        let attribute = (text(), text()).prop_map(|(name, value)| Attribute { name, value });
        let names = prop::option::of((any::<u64>(), any::<u64>()));
        let some = (prop::collection::vec(attribute, 0..3), names)
            .prop_map(|(attributes, names)| Extra { attributes, names });
        prop_oneof![Just(Extra::default()), some]
    }

    proptest! {
        #[test]
        fn entries_come_back_as_they_were_added(
            entries in prop::collection::vec(entry(), 0..60),
            repeated in 1..80_usize,
        ) {
            let mut list = EntryList::default();
            let all: Vec<&Entry> = std::iter::repeat_n(&entries, repeated).flatten().collect();
            all.iter().for_each(|entry| list.push((*entry).clone()));
            prop_assert_eq!(list.len(), all.len());
            prop_assert!(list.iter().eq(all.iter().copied().cloned()));
            prop_assert!(list.iter_back().eq(all.into_iter().rev().cloned()));
        }

        #[test]
        fn a_set_of_paths_holds_what_was_added_and_not_taken_out(
            paths in prop::collection::hash_set(prop::collection::vec(any::<u8>(), 0..8), 2..40),
        ) {
            let paths: Vec<_> = paths.into_iter().collect();
            let (inside, outside) = paths.split_at(paths.len() / 2);
            let mut set = PathSet::default();
            prop_assert!(inside.iter().all(|path| set.insert(path)));
            prop_assert!(inside.iter().all(|path| set.contains(path) && !set.insert(path)));
            prop_assert!(!outside.iter().any(|path| set.contains(path) || set.remove(path)));
            prop_assert!(set.remove(&inside[0]) && !set.contains(&inside[0]));
        }
    }

    #[test]
    fn a_million_entries_take_less_than_40_bytes_each() {
        let mut list = EntryList::default();
        for number in 0..1_000_000_u64 {
            list.push(Entry {
                path: format!("pictures/{:04}/observation-{number:07}.jpg", number / 500)
                    .into_bytes(),
                kind: EntryKind::File(40_000 + number * 7919 % 100_000),
                mode: 0o644,
                mtime: 1_700_000_000 + (number * 104_729 % 9_000_000) as i64,
                nanos: (number * 999_983 % 1_000_000_000) as u32,
                owner: (33, 33),
                extra: Extra::default(),
            });
        }
        let held: usize = list.chunks.iter().map(Vec::capacity).sum();
        assert!(held < 40_000_000, "{held} bytes");
    }
}
