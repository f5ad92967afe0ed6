//! The files of an archive, rewritten on their way.

use super::still_named::OldNames;
use super::{UnpackOptions, UnpackReport};
use crate::archive::{ArchiveReader, PieceReader, broken_stream, each_entry};
use crate::patterns::Patterns;
use fernweh_core::archive::{Located, Member, read_index_line};
use fernweh_core::limits;
use fernweh_core::placed::{RULE_FILE, rule_file};
use fernweh_core::record::{Entry, EntryKind, Extra};
use fernweh_core::rewrite::Rewriter;
use fernweh_core::settings::{self, Role, Setting};
use fernweh_ports::{FileTarget, LeftOut, Progress, Result, Trouble, Unit, counted};
use std::collections::BTreeMap;
use std::io::{BufRead, BufReader, Read};

/// Lines that are named of those that still name the old site.
const NAMED: usize = 50;

/// As many files as the archive promises must have been written.
pub(super) fn check_files(archive: &ArchiveReader, report: &UnpackReport) -> Result<()> {
    let seal = archive.seal()?;
    let sealed = seal.files + seal.links;
    let found = report.files + report.links + report.left_out.len() as u64;
    if found != sealed {
        return Err(Trouble::damaged("the new files are not complete")
            .because(format!("{found} were written, the archive holds {sealed}"))
            .hint("pack the site again"));
    }
    Ok(())
}

/// Reads every file that is wanted, and writes it if there is a target.
pub(super) fn read_files(
    options: &UnpackOptions<'_>,
    archive: &ArchiveReader,
    mut target: Option<&mut dyn FileTarget>,
    report: &mut UnpackReport,
    progress: &dyn Progress,
) -> Result<()> {
    if let Some(patterns) = &options.part.files {
        return some_files(options, archive, patterns, target, report, progress);
    }
    progress.stage("files", archive.expected().file_bytes, Unit::Bytes);
    let mut pieces = PieceReader::new(archive);
    let mut has_rules = false;
    let result = each_entry(&mut pieces, &mut |entry, content| {
        progress.go_on()?;
        has_rules |= is_rule_file(&entry);
        one_entry(options, archive, entry, content, &mut target, report, progress)?;
        Ok(true)
    });
    let trouble = pieces.trouble.take();
    result.map_err(|error| trouble.unwrap_or(error))?;
    each_located(archive, &mut drop)?;
    if let (Some(true), false, Some(target)) = (options.hidden, has_rules, &mut target) {
        let content = rule_file(b"", true);
        let entry = Entry {
            path: RULE_FILE.into(),
            kind: EntryKind::File(content.len() as u64),
            mode: 0o644,
            mtime: 0,
            nanos: 0,
            owner: (0, 0),
            extra: Extra::default(),
        };
        target.put_file(&changed_now(&entry), &mut content.as_slice())?;
    }
    progress.done(&counted(report.files, "file", "files"));
    Ok(())
}

/// Whether it is the file with the rules of the web server for the whole site.
fn is_rule_file(entry: &Entry) -> bool {
    entry.path == RULE_FILE.as_bytes() && entry.kind.is_file()
}

/// Reads the files that match, and of the archive only the pieces in which they lie.
fn some_files(
    options: &UnpackOptions<'_>,
    archive: &ArchiveReader,
    patterns: &Patterns,
    mut target: Option<&mut dyn FileTarget>,
    report: &mut UnpackReport,
    progress: &dyn Progress,
) -> Result<()> {
    let stretches = stretches(archive, patterns)?;
    if stretches.is_empty() {
        return Err(Trouble::usage("the archive holds no file of this name")
            .because(format!("nothing matches {}", patterns.texts().join(", ")))
            .hint("name it from the site's folder on, as in uploads/report.pdf or pictures/**"));
    }
    progress.stage("files", None, Unit::Bytes);
    // Wanted names of files whose first name is not wanted.
    let mut alone: BTreeMap<Vec<u8>, Vec<Entry>> = BTreeMap::new();
    for stretch in stretches {
        let mut left = stretch.wanted;
        let mut pieces = PieceReader::from(archive, &stretch.first);
        let result = each_entry(&mut pieces, &mut |entry, content| {
            progress.go_on()?;
            if left == stretch.wanted && entry.path != stretch.first.path {
                return Err(contradiction());
            }
            if !patterns.hold(&entry.path) {
                return Ok(true);
            }
            left -= 1;
            if let EntryKind::HardLink(first) = &entry.kind
                && !patterns.hold(first)
            {
                alone.entry(first.clone()).or_default().push(entry);
                return Ok(left > 0);
            }
            one_entry(options, archive, entry, content, &mut target, report, progress)?;
            Ok(left > 0)
        });
        let trouble = pieces.trouble.take();
        result.map_err(|error| trouble.unwrap_or(error))?;
        if left > 0 {
            return Err(contradiction());
        }
    }
    let mut firsts = Vec::new();
    each_located(archive, &mut |located| {
        if alone.contains_key(&located.path) {
            firsts.push(located);
        }
    })?;
    if firsts.len() != alone.len() {
        return Err(contradiction());
    }
    for located in firsts {
        let mut pieces = PieceReader::from(archive, &located);
        let result = each_entry(&mut pieces, &mut |first, content| {
            if first.path != located.path || !first.kind.is_file() {
                return Err(contradiction());
            }
            let mut names = alone.remove(&first.path).unwrap_or_default().into_iter();
            let Some(name) = names.next() else { return Ok(false) };
            let file = Entry { path: name.path.clone(), ..first };
            one_entry(options, archive, file, content, &mut target, report, progress)?;
            for further in names {
                let further = Entry { kind: EntryKind::HardLink(name.path.clone()), ..further };
                let none = &mut std::io::empty();
                one_entry(options, archive, further, none, &mut target, report, progress)?;
            }
            Ok(false)
        });
        let trouble = pieces.trouble.take();
        result.map_err(|error| trouble.unwrap_or(error))?;
    }
    progress.done(&counted(report.files, "file", "files"));
    Ok(())
}

/// The wanted entries that begin in one piece: it is read once, however many they are.
struct Stretch {
    first: Located,
    wanted: u64,
}

/// Where the entries lie that match. The whole index is read, so it is known to be good before
/// anything is written.
fn stretches(archive: &ArchiveReader, patterns: &Patterns) -> Result<Vec<Stretch>> {
    let mut found: Vec<Stretch> = Vec::new();
    each_located(archive, &mut |located| {
        if !patterns.hold(&located.path) {
            return;
        }
        match found.last_mut() {
            Some(stretch) if stretch.first.piece == located.piece => stretch.wanted += 1,
            _ => found.push(Stretch { first: located, wanted: 1 }),
        }
    })?;
    Ok(found)
}

fn contradiction() -> Trouble {
    Trouble::damaged("the archive contradicts itself")
        .because("its index of files does not match its files")
        .hint("do not use this archive; pack the site again")
}

fn one_entry(
    options: &UnpackOptions<'_>,
    archive: &ArchiveReader,
    entry: Entry,
    content: &mut dyn Read,
    target: &mut Option<&mut dyn FileTarget>,
    report: &mut UnpackReport,
    progress: &dyn Progress,
) -> Result<()> {
    match &entry.kind {
        EntryKind::Folder => match target {
            Some(target) => target.put(&entry),
            None => Ok(()),
        },
        EntryKind::Link(to) => {
            if !options.outside_links && crate::pack::leads_out(&entry.path, to) {
                report.left_out.push(LeftOut {
                    path: entry.shown(),
                    because: "a link that points out of the site".into(),
                });
                return Ok(());
            }
            report.links += 1;
            match target {
                Some(target) => target.put(&entry),
                None => Ok(()),
            }
        }
        EntryKind::HardLink(_) => {
            report.links += 1;
            match target {
                Some(target) => target.put(&entry),
                None => Ok(()),
            }
        }
        EntryKind::File(size) => {
            progress.advance(*size);
            report.files += 1;
            file(options, archive, &entry, content, target, report)
        }
    }
}

/// Where every entry begins, one at a time. It is compared with the seal even where it is not
/// needed: an archive is whole or it is not.
fn each_located(archive: &ArchiveReader, visit: &mut dyn FnMut(Located)) -> Result<()> {
    let seal = archive.seal()?;
    let sealed = seal.files + seal.folders + seal.links;
    let stream = zstd::Decoder::new(archive.stream(&Member::Index)?).map_err(broken_stream)?;
    let mut lines = BufReader::new(stream);
    let (mut found, mut line) = (0, Vec::new());
    loop {
        line.clear();
        let limit = limits::INDEX_LINE;
        let read = (&mut lines).take(limit).read_until(b'\n', &mut line).map_err(broken_stream)?;
        if read == 0 {
            break;
        }
        found += 1;
        let located = line.strip_suffix(b"\n").and_then(read_index_line);
        match located.filter(|_| found <= sealed) {
            Some(located) => visit(located),
            None => return Err(contradiction()),
        }
    }
    if found == sealed { Ok(()) } else { Err(contradiction()) }
}

fn file(
    options: &UnpackOptions<'_>,
    archive: &ArchiveReader,
    entry: &Entry,
    content: &mut dyn Read,
    target: &mut Option<&mut dyn FileTarget>,
    report: &mut UnpackReport,
) -> Result<()> {
    let EntryKind::File(size) = entry.kind else { return Ok(()) };
    let path = entry.shown();
    if size > limits::TEXT_FILE {
        let mut searching =
            Searching { inner: content, rewriter: options.rewriter, tail: Vec::new(), hits: 0 };
        report.file_bytes += size;
        match target {
            Some(target) => target.put_file(entry, &mut searching)?,
            None => {
                std::io::copy(&mut searching, &mut std::io::sink()).map_err(broken_stream)?;
            }
        }
        let hits = searching.hits;
        report.rewriting.large_file(&path, hits);
        return Ok(());
    }
    let mut bytes = Vec::new();
    content.read_to_end(&mut bytes).map_err(broken_stream)?;
    let holds_settings = crate::pack::holds_settings(&bytes);
    let mut is_changed = false;
    if let Some(new) = report.rewriting.file(options.rewriter, &path, &bytes) {
        (bytes, is_changed) = (new, true);
    }
    if let (Some(hidden), true) = (options.hidden, is_rule_file(entry)) {
        let new = rule_file(&bytes, hidden);
        is_changed |= new != bytes;
        bytes = new;
    }
    if holds_settings && let Some(new) = with_settings(options, archive, &bytes)? {
        report.settings_found = true;
        if new != bytes {
            report.settings.push(path.clone());
            report.notes.extend(without_socket(options, &path, &bytes));
            (bytes, is_changed) = (new, true);
        }
    }
    report.file_bytes += bytes.len() as u64;
    if report.still_named.len() < NAMED && !bytes.contains(&0) {
        OldNames::of(options, archive).look(&path, &bytes, &mut report.still_named);
        report.still_named.truncate(NAMED);
    }
    let Some(target) = target else { return Ok(()) };
    match is_changed {
        true => target.put_file(&changed_now(entry), &mut bytes.as_slice()),
        false => target.put_file(entry, &mut bytes.as_slice()),
    }
}

/// A file whose content is another than in the archive: what compares times sees that.
fn changed_now(entry: &Entry) -> Entry {
    let now =
        std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap_or_default();
    let (mtime, nanos) = (i64::try_from(now.as_secs()).unwrap_or(0), now.subsec_nanos());
    Entry { mtime, nanos, ..entry.clone() }
}

/// A file whose settings name the database that was packed, with those of the destination. What
/// else it names stays: another database, a copy on a developer's machine.
fn with_settings(
    options: &UnpackOptions<'_>,
    archive: &ArchiveReader,
    bytes: &[u8],
) -> Result<Option<Vec<u8>>> {
    let mut found = settings::find(bytes);
    match &archive.manifest.database {
        Some(database) => {
            let names = [Some(database.name.as_str()), database.inside_files.as_deref()];
            found.retain(|connection| {
                connection.settings.iter().any(|setting| {
                    matches!(setting.role, Role::Name | Role::File)
                        && names.iter().flatten().any(|name| same_name(name, &setting.value))
                })
            });
        }
        // Which of several it is that the site uses is not known.
        None if found.len() > 1 => return Ok(None),
        None => {}
    }
    if found.is_empty() {
        return Ok(None);
    }
    let mut new = Vec::new();
    for connection in &found {
        for setting in &connection.settings {
            new.push((setting, (options.settings)(setting, &connection.settings)?));
        }
    }
    new.sort_by_key(|(setting, _)| setting.range.start);
    let all: Vec<Setting> = new.iter().map(|(setting, _)| (*setting).clone()).collect();
    let mut values = new.into_iter().map(|(_, value)| value);
    Ok(Some(settings::write(bytes, &all, |_| values.next().flatten())))
}

/// Settings that have no place for the socket of the new server.
fn without_socket(options: &UnpackOptions<'_>, path: &str, old: &[u8]) -> Option<String> {
    let socket = options.socket.as_ref()?;
    let found = settings::find(old);
    let lacks = |role| found.iter().all(|connection| connection.value(role).is_none());
    lacks(Role::Socket).then(|| {
        format!(
            "{path} has no setting for a socket: add {socket} there, or check that the site \
             finds it by itself"
        )
    })
}

/// A database file may be written relative to the site's folder.
fn same_name(name: &str, value: &str) -> bool {
    let value = value.trim_start_matches("./");
    !value.is_empty()
        && (name == value || name.ends_with(&format!("/{}", value.trim_start_matches('/'))))
}

/// Searches what passes for old names; a hit across two portions counts too.
struct Searching<'a> {
    inner: &'a mut dyn Read,
    rewriter: &'a Rewriter,
    tail: Vec<u8>,
    hits: u64,
}

impl Read for Searching<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> std::io::Result<usize> {
        let length = self.inner.read(buffer)?;
        let before = self.rewriter.hits(&self.tail) as u64;
        let mut window = std::mem::take(&mut self.tail);
        window.extend_from_slice(&buffer[..length]);
        self.hits += self.rewriter.hits(&window) as u64 - before;
        let from = window.len().saturating_sub(256);
        self.tail = window.split_off(from);
        Ok(length)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use fernweh_core::rewrite::Rule;

    #[test]
    fn hits_in_large_files_are_counted_across_every_boundary() {
        let rewriter =
            Rewriter::new(vec![Rule::new("http://old.example", "http://new.example").unwrap()])
                .unwrap();
        let text = format!("{}http://old.example{}OLD.example", "x".repeat(500), "y".repeat(700));
        for piece in [1, 2, 3, 5, 8, 16, 4096] {
            let mut rest = text.as_bytes();
            let mut hits = 0;
            let mut tail = Vec::new();
            while !rest.is_empty() {
                let (now, later) = rest.split_at(piece.min(rest.len()));
                let mut inner: &[u8] = now;
                let mut searching =
                    Searching { inner: &mut inner, rewriter: &rewriter, tail, hits };
                let mut buffer = vec![0; piece];
                searching.read_exact(&mut buffer[..now.len()]).unwrap();
                (hits, tail) = (searching.hits, std::mem::take(&mut searching.tail));
                rest = later;
            }
            assert_eq!(hits, 2, "pieces of {piece}");
        }
    }

    #[test]
    fn a_database_file_is_known_by_its_path_in_the_site() {
        assert!(same_name("data/site.db", "data/site.db"));
        assert!(same_name("/srv/www/data/site.db", "data/site.db"));
        assert!(same_name("glimmer", "glimmer"));
        assert!(!same_name("glimmer", "immer") && !same_name("x", ""));
    }
}
