//! Reading an archive. It is complete and unchanged, or nothing is taken from it: the
//! seal is compared with the members before anything else, and every member's digest is
//! compared before its bytes are used.

use fernweh_core::archive::{Manifest, Member, Seal};
use fernweh_core::digest::{Sha256, sha256};
use fernweh_core::limits;
use fernweh_ports::{Result, Trouble, Watch};
use std::collections::HashSet;
use std::fs::File;
use std::io::{Read, Seek, SeekFrom};
use std::path::{Path, PathBuf};

pub(super) struct Found {
    pub name: String,
    pub member: Member,
    pub offset: u64,
    pub size: u64,
}

/// A complete archive.
pub struct ArchiveReader {
    path: PathBuf,
    file: File,
    found: Vec<Found>,
    /// What it says of itself.
    pub manifest: Manifest,
    /// What proves it complete.
    pub seal: Seal,
    /// Its size in bytes.
    pub size: u64,
}

impl ArchiveReader {
    /// Opens an archive and compares its members with its seal.
    pub fn open(path: &Path) -> Result<Self> {
        let what = "cannot read the archive";
        let file = File::open(path).map_err(|error| Trouble::file(what, path, &error))?;
        let size = file.metadata().map_err(|error| Trouble::file(what, path, &error))?.len();
        let damaged = |because: String| {
            Trouble::damaged("the archive is incomplete or damaged")
                .at(path.display().to_string())
                .because(because)
                .hint("pack the site again, or copy the archive again from where it was made")
        };
        let found = list(&file, size).map_err(&damaged)?;
        let mut reader = Self {
            path: path.to_owned(),
            file,
            found,
            manifest: empty_manifest(),
            seal: Seal::default(),
            size,
        };
        let seal = match reader.found.pop() {
            Some(last) if last.member == Member::Seal => last,
            _ => return Err(damaged("it has no seal, so it was not written to its end".into())),
        };
        let bytes = reader.bytes_of(&seal, limits::MANIFEST)?;
        reader.seal = Seal::parse(&bytes).map_err(|error| damaged(error.to_string()))?;
        let names = reader.found.iter().map(|found| (found.name.as_str(), found.size));
        reader.seal.check(names).map_err(|error| damaged(error.to_string()))?;
        if reader.found.first().is_none_or(|first| first.member != Member::Manifest) {
            return Err(damaged("it does not begin with its manifest".into()));
        }
        let bytes = reader.read(&Member::Manifest)?;
        reader.manifest = Manifest::parse(&bytes).map_err(|error| damaged(error.to_string()))?;
        Ok(reader)
    }

    fn damaged(&self, because: String) -> Trouble {
        Trouble::damaged("the archive is damaged")
            .at(self.path.display().to_string())
            .because(because)
            .hint("copy the archive again from where it was made, or pack the site again")
    }

    /// The members, in order, without the seal.
    pub fn members(&self) -> impl Iterator<Item = &Member> {
        self.found.iter().map(|found| &found.member)
    }

    /// Name and size of every member, in order, without the seal.
    pub fn sizes(&self) -> impl Iterator<Item = (&str, u64)> {
        self.found.iter().map(|found| (found.name.as_str(), found.size))
    }

    fn bytes_of(&self, found: &Found, limit: u64) -> Result<Vec<u8>> {
        if found.size > limit {
            return Err(self.damaged(format!(
                "member {} is larger than Fernweh accepts ({} bytes)",
                found.name, found.size
            )));
        }
        let mut bytes = Vec::new();
        let read = (&self.file)
            .seek(SeekFrom::Start(found.offset))
            .and_then(|_| (&self.file).take(found.size).read_to_end(&mut bytes));
        match read {
            Ok(length) if length as u64 == found.size => Ok(bytes),
            Ok(_) => Err(self.damaged(format!("member {} breaks off", found.name))),
            Err(error) => Err(Trouble::file("cannot read the archive", &self.path, &error)),
        }
    }

    /// The bytes of a member as they are stored, compared with the seal.
    pub fn read(&self, member: &Member) -> Result<Vec<u8>> {
        let Some(found) = self.found.iter().find(|found| found.member == *member) else {
            return Err(self.damaged(format!("member {member} is missing")));
        };
        let bytes = self.bytes_of(found, limits::MEMBER)?;
        if self.seal.digest_of(&found.name) != Some(sha256(&bytes).as_str()) {
            return Err(self.damaged(format!("member {} is not what was written", found.name)));
        }
        Ok(bytes)
    }

    /// Compares every member with the seal; gives the names of those that differ.
    pub fn verify(&self, watch: &dyn Watch) -> Result<Vec<String>> {
        let mut different = Vec::new();
        let mut buffer = vec![0; 1 << 20];
        for found in &self.found {
            watch.go_on()?;
            let wrong = |error| Trouble::file("cannot read the archive", &self.path, &error);
            (&self.file).seek(SeekFrom::Start(found.offset)).map_err(wrong)?;
            let mut rest = (&self.file).take(found.size);
            let mut digest = Sha256::default();
            loop {
                let length = rest.read(&mut buffer).map_err(wrong)?;
                if length == 0 {
                    break;
                }
                digest.update(&buffer[..length]);
                watch.advance(length as u64);
            }
            if self.seal.digest_of(&found.name) != Some(digest.finish().as_str()) {
                different.push(found.name.clone());
            }
        }
        Ok(different)
    }
}

pub(super) fn list(file: &File, size: u64) -> std::result::Result<Vec<Found>, String> {
    let mut tar = tar::Archive::new(file);
    let entries = tar.entries_with_seek().map_err(|error| error.to_string())?;
    let mut found: Vec<Found> = Vec::new();
    let mut names = HashSet::new();
    for entry in entries {
        let entry = entry.map_err(|error| format!("it is not a tar that can be read ({error})"))?;
        let name = String::from_utf8_lossy(&entry.path_bytes()).into_owned();
        if entry.header().entry_type() != tar::EntryType::Regular {
            return Err(format!("member {name} is not a plain file"));
        }
        let member = Member::parse(&name).map_err(|error| format!("it holds {error}"))?;
        if !names.insert(name.clone()) {
            return Err(format!("member {name} occurs twice"));
        }
        let (offset, length) = (entry.raw_file_position(), entry.size());
        if offset.checked_add(length).is_none_or(|end| end > size) {
            return Err(format!("it breaks off in member {name}"));
        }
        found.push(Found { name, member, offset, size: length });
    }
    Ok(found)
}

fn empty_manifest() -> Manifest {
    Manifest {
        format: 0,
        program: String::new(),
        site: String::new(),
        url: None,
        root: None,
        created: String::new(),
        database: None,
        files: None,
    }
}
