//! The archive's shape: which members there are, what the manifest says, and the
//! seal that proves it complete. The bytes themselves are read and written by the
//! operations.

mod index;
mod member;
mod stored;

pub use index::{Located, read_index_line, write_index_line};
pub use member::{Member, MemberError};
pub use stored::stored;

use crate::limits;
use crate::record::Table;
use crate::sql::Dialect;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use thiserror::Error;

/// The version of the format that is written, and the newest that is read.
pub const FORMAT: u32 = 1;

/// `fernweh.json`, the first member.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Manifest {
    /// Version of the format.
    pub format: u32,
    /// Version of the program that wrote it.
    pub program: String,
    /// The site's name in the configuration.
    pub site: String,
    /// The site's web address, from which rewriting starts.
    pub url: Option<String>,
    /// The site's folder on its host, for rules and for people.
    pub root: Option<String>,
    /// When packing began (RFC 3339, UTC).
    pub created: String,
    /// The database, if it is packed.
    pub database: Option<DatabaseManifest>,
    /// The files, if they are packed.
    pub files: Option<FilesManifest>,
}

/// What the manifest says about the database.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct DatabaseManifest {
    /// Whose SQL it is.
    pub dialect: Dialect,
    /// Name and version of the server.
    pub version: String,
    /// The default character set.
    pub charset: String,
    /// The default collation.
    pub collation: String,
    /// The moment of the snapshot (RFC 3339, UTC).
    pub snapshot: String,
    /// The tables, in the order of packing.
    pub tables: Vec<Table>,
    /// Tables packed without their rows.
    pub without_rows: Vec<String>,
    /// The name of the database, or the path of its file; by it the site's own settings
    /// are known again.
    pub name: String,
    /// Where the database file lies below the site's folder, if it does.
    pub inside_files: Option<String>,
    /// Who logged in to a server, and where.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub login: Option<DatabaseLogin>,
}

/// A login to a database server, without its secret.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct DatabaseLogin {
    /// The user.
    pub user: String,
    /// The host, as the site names it.
    pub host: String,
}

/// What the manifest says about the files.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct FilesManifest {
    /// The patterns that were left out.
    pub left_out: Vec<String>,
}

/// `seal.json`, the last member: what the archive must hold to be complete.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Seal {
    /// Every member before this one.
    pub members: Vec<SealedMember>,
    /// Rows by table.
    pub rows: BTreeMap<String, u64>,
    /// Number of files, links not counted.
    pub files: u64,
    /// Number of folders.
    pub folders: u64,
    /// Number of symbolic links.
    pub links: u64,
    /// Bytes of all files.
    pub file_bytes: u64,
    /// Files that hold connection settings, passwords included.
    pub settings: Vec<String>,
    /// The moments at which reading the database began anew after a break (RFC 3339, UTC);
    /// tables read before and after it are of different moments.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub breaks: Vec<String>,
    /// The largest record of each table that has a very large one, as far as it was read without
    /// a break: some servers bound what they take.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub large: BTreeMap<String, LargeRecord>,
}

/// A record that some servers may find too large.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct LargeRecord {
    /// The record, as people know it.
    pub record: String,
    /// Bytes of its values.
    pub bytes: u64,
}

/// A member as the seal knows it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct SealedMember {
    /// Its name.
    pub name: String,
    /// Its size in bytes.
    pub size: u64,
    /// SHA-256 of its bytes.
    pub sha256: String,
}

/// Why an archive is not what it should be.
#[derive(Debug, Error, PartialEq, Eq)]
pub enum SealError {
    /// Written by a newer version.
    #[error("format {0} is newer than this version of Fernweh can read ({FORMAT})")]
    Newer(u32),
    /// A member that the seal does not name.
    #[error("member {0} is not in the seal")]
    Extra(String),
    /// A member that is not there.
    #[error("member {0} is missing")]
    Missing(String),
    /// Another size than the seal says.
    #[error("member {name} has {found} bytes, the seal says {sealed}")]
    Size {
        /// The member.
        name: String,
        /// Bytes found.
        found: u64,
        /// Bytes according to the seal.
        sealed: u64,
    },
    /// A manifest or a seal that cannot be read.
    #[error("{0} cannot be read: {1}")]
    Unreadable(String, String),
}

impl Manifest {
    /// Reads the manifest; refuses newer formats.
    pub fn parse(bytes: &[u8]) -> Result<Self, SealError> {
        #[derive(Deserialize)]
        struct Version {
            format: u32,
        }
        let unreadable = |error: serde_json::Error| {
            SealError::Unreadable(Member::Manifest.to_string(), error.to_string())
        };
        let version: Version = serde_json::from_slice(bytes).map_err(unreadable)?;
        if version.format > FORMAT {
            return Err(SealError::Newer(version.format));
        }
        serde_json::from_slice(bytes).map_err(unreadable)
    }
}

impl Seal {
    /// Reads the seal. Its numbers stay within [`limits::NUMBER`], their sum included.
    pub fn parse(bytes: &[u8]) -> Result<Self, SealError> {
        let unreadable = |because| SealError::Unreadable(Member::Seal.to_string(), because);
        let seal: Self =
            serde_json::from_slice(bytes).map_err(|error| unreadable(error.to_string()))?;
        let stated = [seal.files, seal.folders, seal.links, seal.file_bytes];
        let sizes = seal.members.iter().map(|member| member.size);
        stated
            .into_iter()
            .chain(sizes)
            .chain(seal.rows.values().copied())
            .try_fold(0u64, |sum, number| sum.checked_add(number))
            .filter(|sum| *sum <= limits::NUMBER)
            .ok_or_else(|| unreadable("it states more than an archive can hold".into()))?;
        Ok(seal)
    }

    /// Compares the members found (name and size, in order) with those sealed.
    pub fn check<'a>(
        &self,
        found: impl IntoIterator<Item = (&'a str, u64)>,
    ) -> Result<(), SealError> {
        let mut sealed = self.members.iter();
        for (name, size) in found {
            let Some(member) = sealed.next() else {
                return Err(SealError::Extra(name.into()));
            };
            if member.name != name {
                let known = self.members.iter().any(|member| member.name == name);
                return Err(match known {
                    true => SealError::Missing(member.name.clone()),
                    false => SealError::Extra(name.into()),
                });
            }
            if member.size != size {
                let name = name.into();
                return Err(SealError::Size { name, found: size, sealed: member.size });
            }
        }
        match sealed.next() {
            Some(member) => Err(SealError::Missing(member.name.clone())),
            None => Ok(()),
        }
    }

    /// The digest that a member must have.
    pub fn digest_of(&self, name: &str) -> Option<&str> {
        self.members.iter().find(|member| member.name == name).map(|member| member.sha256.as_str())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn seal(names: &[(&str, u64)]) -> Seal {
        let members = names.iter().map(|(name, size)| SealedMember {
            name: (*name).into(),
            size: *size,
            sha256: String::new(),
        });
        Seal { members: members.collect(), ..Seal::default() }
    }

    #[test]
    fn a_seal_finds_what_is_missing_extra_or_of_another_size() {
        let seal = seal(&[("a", 1), ("b", 2)]);
        assert_eq!(seal.check([("a", 1), ("b", 2)]), Ok(()));
        assert_eq!(seal.check([("a", 1)]), Err(SealError::Missing("b".into())));
        assert_eq!(seal.check([("b", 2)]), Err(SealError::Missing("a".into())));
        assert_eq!(seal.check([("a", 1), ("x", 1)]), Err(SealError::Extra("x".into())));
        assert_eq!(seal.check([("a", 1), ("b", 2), ("c", 3)]), Err(SealError::Extra("c".into())));
        let size = SealError::Size { name: "b".into(), found: 3, sealed: 2 };
        assert_eq!(seal.check([("a", 1), ("b", 3)]), Err(size));
    }

    #[test]
    fn numbers_of_a_seal_can_be_summed() {
        let whole = Seal { files: 7, rows: [("a".to_owned(), 9)].into(), ..seal(&[("a", 1)]) };
        let parse = |seal: &Seal| Seal::parse(&serde_json::to_vec(seal).unwrap());
        assert_eq!(parse(&whole), Ok(whole.clone()));
        let half = limits::NUMBER / 2 + 1;
        let changes: [fn(&mut Seal, u64); 6] = [
            |seal, number| (seal.files, seal.folders) = (number, number),
            |seal, number| (seal.folders, seal.links) = (number, number),
            |seal, number| seal.file_bytes = 2 * number,
            |seal, number| (seal.links, seal.members[0].size) = (number, number),
            |seal, number| seal.rows = [("a".into(), number), ("b".into(), number)].into(),
            |seal, _| seal.files = u64::MAX,
        ];
        for change in changes {
            let mut absurd = whole.clone();
            change(&mut absurd, half);
            let error = parse(&absurd).unwrap_err();
            assert!(error.to_string().ends_with("more than an archive can hold"), "{error}");
        }
    }

    #[test]
    fn a_newer_format_is_refused_by_its_number() {
        let error = Manifest::parse(br#"{"format":9,"other":1}"#).unwrap_err();
        assert_eq!(
            error.to_string(),
            "format 9 is newer than this version of Fernweh can read (1)"
        );
    }
}
