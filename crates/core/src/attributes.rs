//! What an entry of a file tree has beyond its permissions, as archives hold it.
//!
//! Extended attributes of users stand under `SCHILY.xattr.NAME`, access lists as text under
//! `SCHILY.acl.access` and `SCHILY.acl.default`: the keys that the usual tools read and write. The
//! text is the one of POSIX.1e, draft 17, with numbers in place of names. Linux hands access lists
//! over as an attribute: a version, and eight bytes for each line (`linux/posix_acl_xattr.h`).

/// An attribute as the system knows it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Attribute {
    /// Its name, as `user.origin` or `system.posix_acl_access`.
    pub name: Vec<u8>,
    /// Its value.
    pub value: Vec<u8>,
}

const XATTR: &[u8] = b"SCHILY.xattr.";
/// Keys of access lists, and what they are for the system.
const LISTS: [(&[u8], &[u8]); 2] = [
    (b"SCHILY.acl.access", b"system.posix_acl_access"),
    (b"SCHILY.acl.default", b"system.posix_acl_default"),
];

/// Whether an attribute is the site's: those of the system's own security modules belong to the
/// machine, and one from outside would give rights.
pub fn is_carried(name: &[u8]) -> bool {
    name.starts_with(b"user.") || LISTS.iter().any(|(_, list)| *list == name)
}

/// Key and value of an extended header; `None` for what cannot stand there.
pub fn to_pax(attribute: &Attribute) -> Option<(Vec<u8>, Vec<u8>)> {
    if let Some((key, _)) = LISTS.iter().find(|(_, name)| *name == attribute.name) {
        return Some((key.to_vec(), list_to_text(&attribute.value)?.into_bytes()));
    }
    // A key ends at the first equals sign.
    let carried = is_carried(&attribute.name) && !attribute.name.contains(&b'=');
    carried.then(|| ([XATTR, &attribute.name].concat(), attribute.value.clone()))
}

/// The attribute of a record of an extended header, if it is one.
pub fn from_pax(key: &[u8], value: &[u8]) -> Option<Attribute> {
    if let Some((_, name)) = LISTS.iter().find(|(list, _)| *list == key) {
        return Some(Attribute { name: name.to_vec(), value: list_from_text(value)? });
    }
    let name = key.strip_prefix(XATTR).filter(|name| name.starts_with(b"user."))?;
    Some(Attribute { name: name.to_vec(), value: value.to_vec() })
}

const VERSION: u32 = 2;
/// A line that names nobody.
const NOBODY: u32 = u32::MAX;
/// Tags of lines: word, with a number, without.
const TAGS: [(&str, Option<u16>, Option<u16>); 4] = [
    ("user", Some(0x02), Some(0x01)),
    ("group", Some(0x08), Some(0x04)),
    ("mask", None, Some(0x10)),
    ("other", None, Some(0x20)),
];

fn list_to_text(value: &[u8]) -> Option<String> {
    let (version, lines) = value.split_first_chunk::<4>()?;
    if u32::from_le_bytes(*version) != VERSION || lines.len() % 8 != 0 {
        return None;
    }
    let line = |line: &[u8]| -> Option<String> {
        let tag = u16::from_le_bytes([line[0], line[1]]);
        let rights = u16::from_le_bytes([line[2], line[3]]);
        let number = u32::from_le_bytes([line[4], line[5], line[6], line[7]]);
        let (word, named, _) =
            TAGS.iter().find(|(_, named, plain)| [*named, *plain].contains(&Some(tag)))?;
        let who = if *named == Some(tag) { number.to_string() } else { String::new() };
        let right = |bit, letter| if rights & bit != 0 { letter } else { '-' };
        Some(format!("{word}:{who}:{}{}{}", right(4, 'r'), right(2, 'w'), right(1, 'x')))
    };
    let lines: Option<Vec<String>> = lines.chunks_exact(8).map(line).collect();
    Some(lines?.join(","))
}

fn list_from_text(text: &[u8]) -> Option<Vec<u8>> {
    let text = std::str::from_utf8(text).ok()?;
    let mut value = VERSION.to_le_bytes().to_vec();
    for line in text.split([',', '\n']).map(str::trim).filter(|line| !line.is_empty()) {
        let parts: Vec<&str> = line.split(':').collect();
        let [word, who, rights] = parts[..] else { return None };
        let (_, named, plain) = TAGS.iter().find(|(known, ..)| *known == word)?;
        let (tag, number) = match who {
            "" => ((*plain)?, NOBODY),
            who => ((*named)?, who.parse().ok()?),
        };
        let mut bits = 0_u16;
        for letter in rights.chars() {
            bits |= match letter {
                'r' => 4,
                'w' => 2,
                'x' => 1,
                '-' => 0,
                _ => return None,
            };
        }
        value.extend_from_slice(&tag.to_le_bytes());
        value.extend_from_slice(&bits.to_le_bytes());
        value.extend_from_slice(&number.to_le_bytes());
    }
    Some(value)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn list() -> impl Strategy<Value = Vec<u8>> {
        let line = (0..6_usize, 0..8_u16, any::<u32>()).prop_map(|(tag, rights, number)| {
            let tag = [0x01_u16, 0x02, 0x04, 0x08, 0x10, 0x20][tag];
            let number = if [0x02, 0x08].contains(&tag) { number } else { NOBODY };
            [&tag.to_le_bytes()[..], &rights.to_le_bytes(), &number.to_le_bytes()].concat()
        });
        prop::collection::vec(line, 0..6)
            .prop_map(|lines| [&VERSION.to_le_bytes()[..], &lines.concat()].concat())
    }

    proptest! {
        #[test]
        fn access_lists_come_back_as_they_were(list in list(), default in any::<bool>()) {
            let name = LISTS[usize::from(default)].1.to_vec();
            let attribute = Attribute { name, value: list };
            let (key, value) = to_pax(&attribute).unwrap();
            prop_assert_eq!(from_pax(&key, &value), Some(attribute));
        }

        #[test]
        fn no_text_is_taken_for_more_than_it_says(text in prop::collection::vec(any::<u8>(), 0..60)) {
            if let Some(attribute) = from_pax(LISTS[0].0, &text) {
                let lines = text.iter().filter(|byte| [b',', b'\n'].contains(byte)).count() + 1;
                prop_assert!(attribute.value.len() <= 4 + 8 * lines);
            }
        }
    }

    #[test]
    fn access_lists_are_written_as_the_usual_tools_write_them() {
        let value =
            list_from_text(b"user::rw-,user:1001:r--,group::r--,mask::r--,other::---").unwrap();
        assert_eq!(value.len(), 4 + 5 * 8);
        assert_eq!(value[12..20], [0x02, 0, 4, 0, 0xe9, 3, 0, 0]);
        for wrong in ["user:keeper:rw-", "user::rwz", "mask:7:r--", "root::rw-", "user::rw-:x"] {
            assert_eq!(list_from_text(wrong.as_bytes()), None, "{wrong}");
        }
    }

    #[test]
    fn only_attributes_of_the_site_are_carried() {
        assert!(is_carried(b"user.origin") && is_carried(b"system.posix_acl_default"));
        assert!(!is_carried(b"security.capability") && !is_carried(b"trusted.overlay.opaque"));
        assert_eq!(from_pax(b"SCHILY.xattr.security.capability", b"x"), None);
        assert_eq!(from_pax(b"SCHILY.xattr.system.posix_acl_access", b"x"), None);
        assert_eq!(from_pax(b"mtime", b"1"), None);
    }
}
