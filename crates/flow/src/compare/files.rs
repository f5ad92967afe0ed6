//! Two trees of files, entry by entry.

use super::{CompareOptions, EXAMPLES};
use crate::report::RewriteReport;
use fernweh_core::digest::sha256;
use fernweh_core::entries::EntryList;
use fernweh_core::limits;
use fernweh_core::placed::{RULE_FILE, without_placed};
use fernweh_core::record::{Entry, EntryKind};
use fernweh_core::settings;
use fernweh_ports::{
    FileSource, Held, Progress, Result, SiteAccess, Trouble, Unit, counted, read_whole,
};
use serde::Serialize;
use std::cmp::Ordering;
use std::collections::HashMap;
use std::io::Read;

/// A file, folder or link that differs.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, schemars::JsonSchema)]
pub struct FileDifference {
    /// Its path.
    pub path: String,
    /// `missing`: only the first site has it; `extra`: only the second; `content`, `kind`, `link`,
    /// `mode`.
    pub what: &'static str,
    /// More about it.
    pub detail: String,
}

/// What differs between two trees.
#[derive(Clone, Debug, Default, Serialize, schemars::JsonSchema)]
pub struct FileDifferences {
    /// Files, folders and links that both have.
    pub entries: u64,
    /// Bytes of the first site's files that were compared.
    pub bytes: u64,
    /// Entries that only the first site has.
    pub missing: u64,
    /// Entries that only the second site has.
    pub extra: u64,
    /// Files whose content differs.
    pub content: u64,
    /// Entries of another kind, links that lead elsewhere, other permissions.
    pub others: u64,
    /// Entries with another time; that alone is no difference of the sites.
    pub times: u64,
    /// Entries with another owner; that alone is no difference of the sites.
    pub owners: u64,
    /// Some of the differences.
    pub examples: Vec<FileDifference>,
    /// Files that differ in the settings of the connection to the database alone.
    pub settings: Vec<String>,
    /// What could not be compared, and why.
    pub not_compared: Vec<(String, String)>,
}

impl FileDifferences {
    /// Whether nothing differs.
    pub fn is_empty(&self) -> bool {
        self.missing + self.extra + self.content + self.others == 0 && self.not_compared.is_empty()
    }

    fn add(&mut self, path: &[u8], what: &'static str, detail: String) {
        match what {
            "missing" => self.missing += 1,
            "extra" => self.extra += 1,
            "content" => self.content += 1,
            _ => self.others += 1,
        }
        let shown = self.examples.iter().filter(|example| example.what == what).count();
        if shown < EXAMPLES {
            let path = String::from_utf8_lossy(path).into_owned();
            self.examples.push(FileDifference { path, what, detail });
        }
    }
}

type Half<'a> = (&'a dyn SiteAccess, Box<dyn FileSource>);

pub(super) fn compare(
    (from, mut one): Half<'_>,
    (to, mut other): Half<'_>,
    options: &CompareOptions<'_>,
    progress: &dyn Progress,
) -> Result<FileDifferences> {
    let mut report = FileDifferences::default();
    let firsts = listed(&mut *one, from.inside_files().as_deref(), options, &mut report)?;
    let seconds = listed(&mut *other, to.inside_files().as_deref(), options, &mut report)?;
    progress.stage("files", Some(firsts.len() as u64), Unit::Entries);
    let digests = [digests_of(from, &firsts, progress)?, digests_of(to, &seconds, progress)?];
    let (mut left, mut right) = (firsts.iter().peekable(), seconds.iter().peekable());
    loop {
        progress.go_on()?;
        let order = match (left.peek(), right.peek()) {
            (None, None) => break,
            (Some(_), None) => Ordering::Less,
            (None, Some(_)) => Ordering::Greater,
            (Some(a), Some(b)) => in_tree(&a.path, &b.path),
        };
        match order {
            Ordering::Less => {
                let entry = left.next().map(|entry| entry.path).unwrap_or_default();
                report.add(&entry, "missing", String::new());
            }
            Ordering::Greater => {
                let entry = right.next().map(|entry| entry.path).unwrap_or_default();
                report.add(&entry, "extra", String::new());
            }
            Ordering::Equal => {
                if let (Some(a), Some(b)) = (left.next(), right.next()) {
                    report.entries += 1;
                    let known = [&digests[0], &digests[1]].map(|all| all.get(&a.path));
                    let sides = Sides { one: &mut *one, other: &mut *other, known };
                    pair(&a, &b, sides, options, &mut report)?;
                }
            }
        }
        progress.advance(1);
    }
    progress.done(&counted(report.entries, "entry", "entries"));
    Ok(report)
}

/// Every entry; a database among the files is compared as a database.
fn listed(
    source: &mut dyn FileSource,
    inside: Option<&str>,
    options: &CompareOptions<'_>,
    report: &mut FileDifferences,
) -> Result<EntryList> {
    let mut list = EntryList::default();
    let of_database = |path: &[u8]| {
        let rest = inside.and_then(|inside| path.strip_prefix(inside.as_bytes()));
        rest.is_some_and(|rest| matches!(rest, b"" | b"-wal" | b"-shm" | b"-journal"))
    };
    let enter = |path: &[u8]| {
        let own = path.split(|byte| *byte == b'/').any(|name| name.starts_with(b".fernweh"));
        !own && !of_database(path) && !options.leave_out.hold(path)
    };
    let left = source.walk(&enter, &mut |entry| {
        list.push(entry);
        Ok(())
    })?;
    let left = left.into_iter().map(|left| (left.path, left.because));
    report.not_compared.extend(left);
    Ok(list)
}

/// The order in which trees are walked: folders before what they hold, names in byte order.
fn in_tree(a: &[u8], b: &[u8]) -> Ordering {
    a.split(|byte| *byte == b'/').cmp(b.split(|byte| *byte == b'/'))
}

/// Digests of files that their host computes itself.
type Digests = HashMap<Vec<u8>, String>;

/// Files whose digests a host is asked for together, …
const ASKED: usize = 300;
/// … as long as they hold no more than so many bytes.
const ASKED_BYTES: u64 = 256 << 20;

fn digests_of(site: &dyn SiteAccess, list: &EntryList, progress: &dyn Progress) -> Result<Digests> {
    let (mut digests, mut batch, mut bytes) = (Digests::new(), Vec::new(), 0);
    let mut ask = |batch: &mut Vec<Vec<u8>>| {
        let paths: Vec<&[u8]> = batch.iter().map(Vec::as_slice).collect();
        let told = site.digests(&paths);
        batch.clear();
        told.map(|told| digests.extend(told)).is_some()
    };
    for entry in list.iter() {
        let EntryKind::File(size) = entry.kind else { continue };
        batch.push(entry.path);
        bytes += size;
        if batch.len() >= ASKED || bytes >= ASKED_BYTES {
            progress.go_on()?;
            bytes = 0;
            if !ask(&mut batch) {
                return Ok(digests);
            }
        }
    }
    if !batch.is_empty() {
        ask(&mut batch);
    }
    Ok(digests)
}

/// Where one entry is read on both sides, and the digests that are known of it.
struct Sides<'a> {
    one: &'a mut dyn FileSource,
    other: &'a mut dyn FileSource,
    known: [Option<&'a String>; 2],
}

fn pair(
    a: &Entry,
    b: &Entry,
    sides: Sides<'_>,
    options: &CompareOptions<'_>,
    report: &mut FileDifferences,
) -> Result<()> {
    let path = &a.path;
    match (&a.kind, &b.kind) {
        (EntryKind::Folder, EntryKind::Folder) => {}
        (
            EntryKind::File(_) | EntryKind::HardLink(_),
            EntryKind::File(_) | EntryKind::HardLink(_),
        ) => {
            content(path, sides, options, report)?;
            report.times += u64::from(a.mtime != b.mtime);
        }
        (EntryKind::Link(to), EntryKind::Link(there)) => {
            if to != there {
                let shown = |to: &[u8]| String::from_utf8_lossy(to).into_owned();
                report.add(path, "link", format!("{} → {}", shown(to), shown(there)));
            }
            return Ok(());
        }
        _ => {
            report.add(path, "kind", "a file, folder or link in place of another".into());
            return Ok(());
        }
    }
    report.owners += u64::from(a.owner != b.owner);
    if a.mode != b.mode {
        report.add(path, "mode", format!("{:o} → {:o}", a.mode, b.mode));
    }
    Ok(())
}

/// Files that rules may change are held; of the others only a portion is. A file whose digest its
/// own host tells is read only where it differs.
fn content(
    path: &[u8],
    sides: Sides<'_>,
    options: &CompareOptions<'_>,
    report: &mut FileDifferences,
) -> Result<()> {
    let Sides { one, other, known } = sides;
    let most = limits::TEXT_FILE;
    let shown = String::from_utf8_lossy(path).into_owned();
    let gone = || (shown.clone(), "it was removed while it was compared".to_owned());
    // What Fernweh has placed there belongs to one side alone.
    let own = |bytes: Vec<u8>| match path == RULE_FILE.as_bytes() {
        true => without_placed(&bytes),
        false => bytes,
    };
    let expected = |bytes: Vec<u8>| {
        let bytes = own(bytes);
        let mut rules = RewriteReport::of(options.rewriter);
        rules.file(options.rewriter, &shown, &bytes).unwrap_or(bytes)
    };
    // The first file has the bytes of the second if its digest says so.
    if let [Some(here), None] = known
        && let Held::Whole(there) = read_whole(other, path, most)?
        && sha256(&there.bytes) == *here
    {
        report.bytes += there.bytes.len() as u64;
        if let Some(at) = first_difference(&expected(there.bytes.clone()), &own(there.bytes)) {
            report.add(path, "content", format!("from byte {at} on"));
        }
        return Ok(());
    }
    let difference = match read_whole(one, path, most)? {
        Held::Gone => {
            report.not_compared.push(gone());
            return Ok(());
        }
        Held::Whole(file) => {
            report.bytes += file.bytes.len() as u64;
            let expected = expected(file.bytes);
            if known[1].is_some_and(|there| sha256(&expected) == *there) {
                return Ok(());
            }
            match read_whole(other, path, most)? {
                Held::Whole(there) if is_other_connection(&expected, &there.bytes) => {
                    report.settings.push(shown);
                    return Ok(());
                }
                Held::Whole(there) => first_difference(&expected, &own(there.bytes)),
                Held::Gone => {
                    report.not_compared.push(gone());
                    return Ok(());
                }
                Held::TooLarge => Some(0),
            }
        }
        Held::TooLarge => {
            if let [Some(here), Some(there)] = known
                && here == there
            {
                return Ok(());
            }
            let (Some(mut a), Some(mut b)) = (one.open(path)?, other.open(path)?) else {
                report.not_compared.push(gone());
                return Ok(());
            };
            report.bytes += a.opened().size;
            streams(&mut *a, &mut *b).map_err(|error| {
                Trouble::outside("cannot read a file of the site").at(shown.clone()).because(error)
            })?
        }
    };
    if let Some(at) = difference {
        report.add(path, "content", format!("from byte {at} on"));
    }
    Ok(())
}

/// Whether two files are the same but for the connection settings in them.
fn is_other_connection(a: &[u8], b: &[u8]) -> bool {
    let most = limits::SETTINGS_FILE as usize;
    if a == b || a.len() > most || b.len() > most {
        return false;
    }
    let rest = |text: &[u8]| {
        let mut ranges: Vec<_> = settings::find(text)
            .into_iter()
            .flat_map(|connection| connection.settings)
            .map(|setting| setting.range)
            .collect();
        ranges.sort_by_key(|range| range.start);
        let (mut out, mut at) = (Vec::new(), 0);
        for range in &ranges {
            out.extend_from_slice(text.get(at..range.start).unwrap_or_default());
            out.push(0);
            at = range.end.max(at);
        }
        out.extend_from_slice(text.get(at..).unwrap_or_default());
        (!ranges.is_empty()).then_some(out)
    };
    matches!((rest(a), rest(b)), (Some(a), Some(b)) if a == b)
}

fn first_difference(a: &[u8], b: &[u8]) -> Option<u64> {
    if a == b {
        return None;
    }
    Some(a.iter().zip(b).take_while(|(a, b)| a == b).count() as u64)
}

/// The first byte in which two streams differ.
fn streams(a: &mut dyn Read, b: &mut dyn Read) -> std::io::Result<Option<u64>> {
    let (mut one, mut other) = (vec![0; 1 << 18], vec![0; 1 << 18]);
    let mut at = 0;
    loop {
        let (first, second) = (fill(a, &mut one)?, fill(b, &mut other)?);
        if let Some(within) = first_difference(&one[..first], &other[..second]) {
            return Ok(Some(at + within));
        }
        if first == 0 {
            return Ok(None);
        }
        at += first as u64;
    }
}

fn fill(from: &mut dyn Read, to: &mut [u8]) -> std::io::Result<usize> {
    let mut filled = 0;
    while filled < to.len() {
        match from.read(&mut to[filled..])? {
            0 => break,
            read => filled += read,
        }
    }
    Ok(filled)
}
