//! The names of the archive's members.

use std::fmt;
use thiserror::Error;

/// One member by its role.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Member {
    /// `fernweh.json`
    Manifest,
    /// `database/1-structure.sql.zst`
    Structure,
    /// `database/2-rows/TABLE/0001.sql.zst`
    Rows {
        /// The table.
        table: String,
        /// The number of the block, from 1.
        block: u32,
    },
    /// `database/3-afterwards.sql.zst`
    Afterwards,
    /// `files/0001.tar.zst`
    Files(u32),
    /// `files/index.zst`
    Index,
    /// `seal.json`
    Seal,
}

/// A member that no archive of Fernweh holds.
#[derive(Debug, Error, PartialEq, Eq)]
#[error("a member named `{0}`, which no archive contains")]
pub struct MemberError(pub String);

impl fmt::Display for Member {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Member::Manifest => f.write_str("fernweh.json"),
            Member::Structure => f.write_str("database/1-structure.sql.zst"),
            Member::Rows { table, block } => {
                write!(f, "database/2-rows/{}/{block:04}.sql.zst", encode(table))
            }
            Member::Afterwards => f.write_str("database/3-afterwards.sql.zst"),
            Member::Files(piece) => write!(f, "files/{piece:04}.tar.zst"),
            Member::Index => f.write_str("files/index.zst"),
            Member::Seal => f.write_str("seal.json"),
        }
    }
}

impl Member {
    /// Understands a member's name. Only the names that packing writes are
    /// understood, so that none can lead out of a folder.
    pub fn parse(name: &str) -> Result<Self, MemberError> {
        let refused = || MemberError(name.chars().take(80).collect());
        let number = |text: &str| text.parse::<u32>().map_err(|_| refused());
        let member = match name {
            "fernweh.json" => Member::Manifest,
            "database/1-structure.sql.zst" => Member::Structure,
            "database/3-afterwards.sql.zst" => Member::Afterwards,
            "files/index.zst" => Member::Index,
            "seal.json" => Member::Seal,
            _ => {
                let rows = name.strip_prefix("database/2-rows/");
                let rows = rows.and_then(|rest| rest.strip_suffix(".sql.zst"));
                let files = name.strip_prefix("files/");
                let files = files.and_then(|rest| rest.strip_suffix(".tar.zst"));
                match (rows.and_then(|rest| rest.split_once('/')), files) {
                    (Some((table, block)), _) => {
                        let table = decode(table).ok_or_else(refused)?;
                        Member::Rows { table, block: number(block)? }
                    }
                    (None, Some(piece)) => Member::Files(number(piece)?),
                    (None, None) => return Err(refused()),
                }
            }
        };
        // Only the one way of writing a name counts.
        if member.to_string() == name { Ok(member) } else { Err(refused()) }
    }
}

/// Everything but letters, digits, `_` and `-` as `%XX` (RFC 3986); a table without a name
/// as `%` alone, for a path cannot hold an empty part.
fn encode(table: &str) -> String {
    if table.is_empty() {
        return "%".into();
    }
    let mut text = String::new();
    for byte in table.bytes() {
        if byte.is_ascii_alphanumeric() || matches!(byte, b'_' | b'-') {
            text.push(byte as char);
        } else {
            text.push_str(&format!("%{byte:02X}"));
        }
    }
    text
}

fn decode(text: &str) -> Option<String> {
    if text == "%" {
        return Some(String::new());
    }
    let mut bytes = Vec::new();
    let mut rest = text.as_bytes();
    while let Some((&first, after)) = rest.split_first() {
        if first == b'%' {
            let digits = std::str::from_utf8(after.get(..2)?).ok()?;
            bytes.push(u8::from_str_radix(digits, 16).ok()?);
            rest = &after[2..];
        } else {
            bytes.push(first);
            rest = after;
        }
    }
    String::from_utf8(bytes).ok()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn every_table_name_comes_back(table in ".{0,20}", block in 1u32..100_000) {
            let member = Member::Rows { table, block };
            let name = member.to_string();
            prop_assert!(name.is_ascii() && !name.contains(".."));
            prop_assert_eq!(Member::parse(&name).unwrap(), member);
        }
    }

    #[test]
    fn other_names_are_refused() {
        for name in [
            "../fernweh.json",
            "/etc/passwd",
            "database/2-rows/../0001.sql.zst",
            "database/2-rows/%2E%2E/1.sql.zst",
            "database/2-rows/%2e%2e/0001.sql.zst",
            "files/1.tar.zst",
            "files/../0001.tar.zst",
            "files/0001.tar",
            "",
        ] {
            assert!(Member::parse(name).is_err(), "{name}");
        }
        assert_eq!(Member::parse("files/12345.tar.zst"), Ok(Member::Files(12345)));
    }
}
