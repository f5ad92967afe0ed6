//! Which files still name what belongs to the old site: its database, the login of that, its folder.
//! A site whose settings stand in a form that nobody reads goes on using the old database without a
//! word.

use super::UnpackOptions;
use crate::archive::ArchiveReader;
use serde::Serialize;

/// A line that names something of the old site.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, schemars::JsonSchema)]
pub struct StillNamed {
    /// The file.
    pub file: String,
    /// The line, counted from 1.
    pub line: usize,
    /// What it names, in words.
    pub what: String,
}

/// Names that are worth being looked for: shorter ones occur everywhere.
const SHORTEST: usize = 4;
/// Words beside which a name is one of a database; elsewhere it may be a word of the site.
const BESIDE: [&str; 9] =
    ["db", "database", "sql", "maria", "postgres", "user", "host", "login", "dsn"];
/// Bytes of a line that are looked at.
const LINE: usize = 4096;

/// What is looked for.
#[derive(Default)]
pub(super) struct OldNames {
    /// Names, and what they are.
    words: Vec<(String, &'static str)>,
    folder: Option<String>,
}

impl OldNames {
    /// What the archive's site had that the destination does not have.
    pub fn of(options: &UnpackOptions<'_>, archive: &ArchiveReader) -> Self {
        let Some(now) = &options.names_now else { return Self::default() };
        let is_old = |name: &String| name.len() >= SHORTEST && !now.contains(name);
        let mut words = Vec::new();
        if let Some(about) = &archive.manifest.database {
            words.push((about.name.clone(), "database"));
            if let Some(login) = &about.login {
                words.push((login.user.clone(), "user"));
                words.push((login.host.clone(), "host"));
            }
        }
        words.retain(|(name, _)| is_old(name) && !is_of_every_machine(name) && !name.contains('/'));
        words.dedup_by(|a, b| a.0 == b.0);
        let folder = archive.manifest.root.clone();
        Self { words, folder: folder.filter(is_old) }
    }

    /// Adds what a file names.
    pub fn look(&self, file: &str, bytes: &[u8], found: &mut Vec<StillNamed>) {
        let folder = self.folder.iter().map(|name| (name.as_str(), "folder"));
        let words = self.words.iter().map(|(name, kind)| (name.as_str(), *kind));
        for (name, kind) in words.chain(folder) {
            for at in memchr::memmem::find_iter(bytes, name) {
                let after = bytes.get(at + name.len());
                let before = at.checked_sub(1).and_then(|at| bytes.get(at));
                if [before, after].into_iter().flatten().any(|byte| is_of_name(*byte)) {
                    continue;
                }
                if kind != "folder" && !is_beside(bytes, at, name.len()) {
                    continue;
                }
                let line = memchr::memchr_iter(b'\n', &bytes[..at]).count() + 1;
                let one = StillNamed { file: file.into(), line, what: format!("{kind} {name}") };
                if found.last() != Some(&one) {
                    found.push(one);
                }
            }
        }
    }
}

fn is_of_every_machine(name: &str) -> bool {
    ["localhost", "127.0.0.1", "root", "admin", "user", "site", "test"].contains(&name)
}

fn is_of_name(byte: u8) -> bool {
    byte.is_ascii_alphanumeric() || b"_-.".contains(&byte) || byte >= 0x80
}

/// Whether the line says something about a database, besides the name.
fn is_beside(bytes: &[u8], at: usize, length: usize) -> bool {
    let start =
        memchr::memrchr(b'\n', &bytes[..at]).map_or(0, |end| end + 1).max(at.saturating_sub(LINE));
    let rest = &bytes[at + length..];
    let end = memchr::memchr(b'\n', rest).unwrap_or(rest.len()).min(LINE);
    let sides = [&bytes[start..at], &rest[..end]].concat().to_ascii_lowercase();
    BESIDE.iter().any(|word| memchr::memmem::find(&sides, word.as_bytes()).is_some())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn named(text: &str) -> Vec<(usize, String)> {
        let names = OldNames {
            words: vec![("glimmer".into(), "database"), ("keeper".into(), "user")],
            folder: Some("/srv/old/htdocs".into()),
        };
        let mut found = Vec::new();
        names.look("a", text.as_bytes(), &mut found);
        found.into_iter().map(|one| (one.line, one.what)).collect()
    }

    #[test]
    fn names_of_the_old_site_are_found_where_they_are_about_a_database() {
        let text = "#!/bin/sh\nmysql -u keeper glimmer < nights.sql\ncd /srv/old/htdocs\n";
        let expected = [(2, "database glimmer"), (2, "user keeper"), (3, "folder /srv/old/htdocs")];
        assert_eq!(named(text), expected.map(|(line, what)| (line, what.to_owned())));
    }

    #[test]
    fn words_of_the_site_are_no_names() {
        assert!(named("the glimmer of the bay, says the keeper\n").is_empty());
        assert!(named("db = 'glimmer_2'; db_glimmer = 1; /srv/old/htdocs2").is_empty());
        assert_eq!(named("x\n\n$db = 'glimmer';").len(), 1);
    }
}
