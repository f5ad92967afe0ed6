//! The entries of a stream of files, with their contents.

use super::bounds::{BoundedTar, Extended};
use fernweh_core::record::{Entry, EntryKind, Extra};
use fernweh_ports::{Result, Trouble};
use std::io::Read;

pub(crate) fn broken_stream(error: std::io::Error) -> Trouble {
    Trouble::damaged("the archive is damaged").because(error).hint("copy the archive again")
}

/// Every entry of the stream of files, with its content, as long as `visit` wants more.
pub(crate) fn each_entry(
    stream: impl Read,
    visit: &mut dyn FnMut(Entry, &mut dyn Read) -> Result<bool>,
) -> Result<()> {
    let bounded = BoundedTar::new(stream);
    let extended = bounded.extended();
    let mut tar = tar::Archive::new(bounded);
    let entries = tar.entries().map_err(broken_stream)?;
    for found in entries {
        let mut found = found.map_err(broken_stream)?;
        let entry = entry_of(&mut found, &extended).map_err(broken_stream)?.ok_or_else(|| {
            Trouble::damaged("the archive contains an entry that is not allowed")
                .at(String::from_utf8_lossy(&found.path_bytes()).into_owned())
                .because("it is neither file, folder nor link")
                .hint("do not use this archive; find out where it comes from")
        })?;
        if !visit(entry, &mut found)? {
            break;
        }
    }
    Ok(())
}

fn entry_of<R: Read>(
    found: &mut tar::Entry<'_, R>,
    extended: &Extended,
) -> std::io::Result<Option<Entry>> {
    let time = extended.get("mtime").and_then(|time| time_of(&String::from_utf8_lossy(&time)));
    let header = found.header();
    let mut path = extended.get("path").unwrap_or_else(|| found.path_bytes().into_owned());
    while path.last() == Some(&b'/') {
        path.pop();
    }
    let kind = match header.entry_type() {
        tar::EntryType::Regular => EntryKind::File(found.size()),
        tar::EntryType::Directory => EntryKind::Folder,
        tar::EntryType::Symlink => EntryKind::Link(link_of(found, extended)),
        tar::EntryType::Link => EntryKind::HardLink(link_of(found, extended)),
        _ => return Ok(None),
    };
    let (mtime, nanos) = time.unwrap_or((header.mtime()? as i64, 0));
    let mode = header.mode()? & 0o7777;
    let owner = (header.uid()?, header.gid()?);
    let extra = Extra { attributes: extended.attributes(), names: None };
    Ok(Some(Entry { path, kind, mode, mtime, nanos, owner, extra }))
}

/// Where a link leads.
pub(crate) fn link_of<R: Read>(found: &tar::Entry<'_, R>, extended: &Extended) -> Vec<u8> {
    let link = extended.get("linkpath");
    link.or_else(|| found.link_name_bytes().map(|link| link.into_owned())).unwrap_or_default()
}

/// Seconds with a fraction, as pax writes them; negative before 1970.
fn time_of(text: &str) -> Option<(i64, u32)> {
    let (seconds, fraction) = text.split_once('.').unwrap_or((text, "0"));
    let digits: String = fraction.chars().chain("000000000".chars()).take(9).collect();
    Some((seconds.parse().ok()?, digits.parse().ok()?))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::archive::append;
    use fernweh_core::attributes::Attribute;
    use proptest::prelude::*;

    fn name() -> impl Strategy<Value = Vec<u8>> {
        let byte = prop_oneof![
            Just(b'a'),
            Just(b'\n'),
            Just(b' '),
            Just(b'='),
            any::<u8>().prop_filter("no name holds these", |byte| ![0, b'/'].contains(byte)),
        ];
        prop_oneof![
            prop::collection::vec(byte.clone(), 1..12),
            prop::collection::vec(byte, 90..300)
        ]
    }

    proptest! {
        /// Names and targets may hold any byte but NUL and, in a name, the slash.
        #[test]
        fn entries_of_any_name_come_back_as_they_were_packed(
            names in prop::collection::vec((prop::collection::vec(name(), 1..4), name(), 0..4), 1..6),
            value in prop::collection::vec(any::<u8>(), 0..40),
            mtime in any::<i32>(),
            nanos in 0..1_000_000_000_u32,
        ) {
            let mut tar = tar::Builder::new(Vec::new());
            let mut packed = Vec::new();
            for (path, target, kind) in names {
                let kind = match kind {
                    0 => EntryKind::File(3),
                    1 => EntryKind::Folder,
                    2 => EntryKind::HardLink(target),
                    _ => EntryKind::Link(target),
                };
                let path = path.join(&b'/');
                let attribute = Attribute { name: b"user.origin".to_vec(), value: value.clone() };
                let attributes = if value.is_empty() { Vec::new() } else { vec![attribute] };
                let extra = Extra { attributes, names: None };
                let (mode, owner) = (0o640, (7, 8));
                let entry = Entry { path, kind, mode, mtime: mtime.into(), nanos, owner, extra };
                let content = if entry.kind.is_file() { &b"abc"[..] } else { b"" };
                append(&mut tar, &entry, &mut { content }).unwrap();
                packed.push(entry);
            }
            let bytes = tar.into_inner().unwrap();
            let mut found = Vec::new();
            each_entry(&bytes[..], &mut |entry, content| {
                let mut text = String::new();
                content.read_to_string(&mut text).unwrap();
                assert_eq!(text == "abc", entry.kind.is_file());
                found.push(entry);
                Ok(true)
            }).unwrap();
            prop_assert_eq!(found, packed);
        }
    }

    #[test]
    fn times_keep_their_nanoseconds() {
        assert_eq!(time_of("12.000000345"), Some((12, 345)));
        assert_eq!(time_of("12.5"), Some((12, 500_000_000)));
        assert_eq!(time_of("-3"), Some((-3, 0)));
    }
}
