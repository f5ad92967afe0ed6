//! Reading an archive. It is complete and unchanged, or nothing is taken from it: the
//! seal is compared with the members before anything else, and every member's digest is
//! compared before its bytes are used.

use super::member_index::{Expected, MemberIndex, StoredMember};
use super::unfinished::partial_of;
use fernweh_core::archive::{Manifest, Member, Seal};
use fernweh_core::digest::{Sha256, sha256};
use fernweh_core::limits;
use fernweh_ports::{Progress, Result, Silent, Trouble};
use std::collections::HashSet;
use std::fs::File;
use std::io::{Cursor, Read};
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// An archive that is complete, or that is followed while it is written.
pub struct ArchiveReader {
    path: PathBuf,
    file: File,
    member_index: Arc<MemberIndex>,
    /// What it says of itself.
    pub manifest: Manifest,
    /// Its size in bytes; 0 if it is still being written.
    pub size: u64,
    /// The digest of its seal, which holds the digests of all members: what is packed twice has
    /// another, and what is changed too. `None` while it is being written.
    pub digest: Option<String>,
}

impl ArchiveReader {
    /// Opens an archive and compares its members with its seal.
    pub fn open(path: &Path) -> Result<Self> {
        let what = "cannot read the archive";
        let file = File::open(path).map_err(|error| Trouble::file(what, path, &error))?;
        let about = file.metadata().map_err(|error| Trouble::file(what, path, &error))?;
        if about.is_dir() {
            let is_folder = std::io::ErrorKind::IsADirectory.into();
            return Err(Trouble::file(what, path, &is_folder));
        }
        let size = about.len();
        let damaged = |because: String| {
            Trouble::damaged("the archive is incomplete or damaged")
                .at(path.display().to_string())
                .because(because)
                .hint("pack the site again, or copy the archive again from where it was made")
        };
        let mut stored = list(&file, size).map_err(&damaged)?;
        let seal = match stored.pop() {
            Some(last) if last.member == Member::Seal => last,
            _ => return Err(damaged("it has no seal, so it was never completed".into())),
        };
        let mut reader = Self {
            path: path.to_owned(),
            file,
            member_index: Arc::default(),
            manifest: empty_manifest(),
            size,
            digest: None,
        };
        let bytes = reader.bytes_of(&seal, limits::MANIFEST)?;
        reader.digest = Some(sha256(&bytes));
        let seal = Seal::parse(&bytes).map_err(|error| damaged(error.to_string()))?;
        let names = stored.iter().map(|stored| (stored.name.as_str(), stored.size));
        seal.check(names).map_err(|error| damaged(error.to_string()))?;
        if stored.first().is_none_or(|first| first.member != Member::Manifest) {
            return Err(damaged("it does not begin with its manifest".into()));
        }
        for one in &mut stored {
            one.sha256 = seal.digest_of(&one.name).map(str::to_owned);
        }
        reader.member_index = Arc::new(MemberIndex::sealed(stored, seal));
        reader.read_manifest()
    }

    /// Follows an archive of this name while it is written: whatever is asked for is waited
    /// for.
    pub fn follow(path: &Path, member_index: Arc<MemberIndex>) -> Result<Self> {
        member_index.named(&Member::Manifest.to_string())?;
        let what = "cannot read the archive that is being written";
        let file = File::open(partial_of(path)).or_else(|_| File::open(path));
        let file = file.map_err(|error| Trouble::file(what, path, &error))?;
        let (path, manifest) = (path.to_owned(), empty_manifest());
        Self { path, file, member_index, manifest, size: 0, digest: None }.read_manifest()
    }

    fn read_manifest(mut self) -> Result<Self> {
        let bytes = self.read(&Member::Manifest)?;
        self.manifest = Manifest::parse(&bytes).map_err(|error| self.damaged(error.to_string()))?;
        Ok(self)
    }

    /// What proves it complete.
    pub fn seal(&self) -> Result<Arc<Seal>> {
        self.member_index.the_seal()
    }

    /// Whether it is followed, and not complete yet.
    pub fn is_growing(&self) -> bool {
        !self.member_index.is_sealed()
    }

    /// How much it holds, as far as that is known.
    pub(crate) fn expected(&self) -> Expected {
        self.member_index.expected()
    }

    fn damaged(&self, because: String) -> Trouble {
        Trouble::damaged("the archive is damaged")
            .at(self.path.display().to_string())
            .because(because)
            .hint("copy the archive again from where it was made, or pack the site again")
    }

    /// The members, in order, without the seal.
    pub fn members(&self) -> Result<Vec<Member>> {
        Ok(self.stored()?.into_iter().map(|stored| stored.member.clone()).collect())
    }

    fn stored(&self) -> Result<Vec<Arc<StoredMember>>> {
        let mut from = 0;
        std::iter::from_fn(|| self.member_index.next(&mut from, &|_| true, None).transpose())
            .collect()
    }

    /// The blocks of a table's rows, in order, as they come.
    pub(crate) fn blocks<'a>(
        &'a self,
        table: &'a str,
    ) -> impl Iterator<Item = Result<Member>> + 'a {
        let of_table =
            move |member: &Member| matches!(member, Member::Rows { table: of, .. } if of == table);
        let mut from = 0;
        std::iter::from_fn(move || {
            let next = self.member_index.next(&mut from, &of_table, Some(table)).transpose()?;
            Some(next.map(|stored| stored.member.clone()))
        })
    }

    /// The pieces of the files from this one on, in order, as they come.
    pub(crate) fn pieces(&self, first: u32) -> impl Iterator<Item = Result<Member>> + '_ {
        let is_piece = move |member: &Member| matches!(member, Member::Files(n) if *n >= first);
        let mut from = 0;
        std::iter::from_fn(move || {
            let next = self.member_index.next(&mut from, &is_piece, None).transpose()?;
            Some(next.map(|stored| stored.member.clone()))
        })
    }

    fn bytes_of(&self, found: &StoredMember, limit: u64) -> Result<Vec<u8>> {
        if found.size > limit {
            return Err(self.damaged(format!(
                "member {} is larger than Fernweh accepts ({} bytes)",
                found.name, found.size
            )));
        }
        // The archive is as large as it says: its members lie inside it.
        let mut bytes = vec![0; usize::try_from(found.size).unwrap_or(0)];
        match self.file.read_exact_at(&mut bytes, found.offset) {
            Ok(()) => Ok(bytes),
            Err(error) if error.kind() == std::io::ErrorKind::UnexpectedEof => {
                Err(self.damaged(format!("member {} is cut off", found.name)))
            }
            Err(error) => Err(Trouble::file("cannot read the archive", &self.path, &error)),
        }
    }

    /// Bytes of a member as it is stored.
    pub fn size_of(&self, member: &Member) -> Result<u64> {
        Ok(self.member_index.named(&member.to_string())?.map_or(0, |found| found.size))
    }

    /// The bytes of a member as they are stored, compared with the seal.
    pub fn read(&self, member: &Member) -> Result<Vec<u8>> {
        let Some(found) = self.member_index.named(&member.to_string())? else {
            return Err(self.damaged(format!("member {member} is missing")));
        };
        let bytes = self.bytes_of(&found, limits::MEMBER)?;
        if found.sha256.as_deref() != Some(sha256(&bytes).as_str()) {
            return Err(self.damaged(format!("member {} is not what was written", found.name)));
        }
        Ok(bytes)
    }

    /// The same as a stream. A very large member is not held: it is read once to be compared,
    /// and once more.
    pub fn stream(&self, member: &Member) -> Result<Box<dyn Read + '_>> {
        let found = self.member_index.named(&member.to_string())?;
        let Some(found) = found.filter(|found| found.size > LARGE) else {
            return Ok(Box::new(Cursor::new(self.read(member)?)));
        };
        if found.sha256 != Some(self.digest(&found, &Silent)?) {
            return Err(self.damaged(format!("member {} is not what was written", found.name)));
        }
        Ok(Box::new(self.bytes_from(&found)))
    }

    fn bytes_from(&self, found: &StoredMember) -> Stretch<'_> {
        Stretch { file: &self.file, at: found.offset, end: found.offset + found.size }
    }

    fn digest(&self, found: &StoredMember, progress: &dyn Progress) -> Result<String> {
        let wrong = |error| Trouble::file("cannot read the archive", &self.path, &error);
        let mut buffer = vec![0; 1 << 20];
        let mut digest = Sha256::default();
        let mut rest = self.bytes_from(found);
        loop {
            let length = rest.read(&mut buffer).map_err(wrong)?;
            if length == 0 {
                return Ok(digest.finish());
            }
            digest.update(&buffer[..length]);
            progress.advance(length as u64);
        }
    }

    /// Compares every member with the seal; gives the names of those that differ.
    pub fn verify(&self, progress: &dyn Progress) -> Result<Vec<String>> {
        let mut different = Vec::new();
        for found in self.stored()? {
            progress.go_on()?;
            if found.sha256 != Some(self.digest(&found, progress)?) {
                different.push(found.name.clone());
            }
        }
        Ok(different)
    }
}

/// Bytes of a member above which it is not held whole where it can be streamed.
const LARGE: u64 = if cfg!(test) { 16 } else { 16 << 20 };

/// A stretch of the archive.
struct Stretch<'a> {
    file: &'a File,
    at: u64,
    end: u64,
}

impl Read for Stretch<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> std::io::Result<usize> {
        let room = usize::try_from(self.end - self.at).unwrap_or(usize::MAX).min(buffer.len());
        let length = self.file.read_at(&mut buffer[..room], self.at)?;
        self.at += length as u64;
        Ok(length)
    }
}

pub(super) fn list(file: &File, size: u64) -> std::result::Result<Vec<StoredMember>, String> {
    let mut tar = tar::Archive::new(file);
    // The words of the tar reader repeat what stands in the file, which may be anybody's.
    let no_tar = "it is not a tar that can be read";
    let entries = tar.entries_with_seek().map_err(|_| no_tar.to_owned())?;
    let mut found: Vec<StoredMember> = Vec::new();
    let mut names = HashSet::new();
    for entry in entries {
        let entry = entry.map_err(|_| match found.len() {
            0 => no_tar.to_owned(),
            number => format!("{no_tar}, from behind its member number {number} on"),
        })?;
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
            return Err(format!("it ends in the middle of member {name}"));
        }
        found.push(StoredMember { name, member, offset, size: length, sha256: None });
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
