//! Sites of very many files are packed, unpacked, searched and rewritten in bounded memory.
//!
//! The files are those of a host in memory, which makes them up as they are asked for. The test
//! is a program of its own, since it looks at the memory of its whole process.
//! `FERNWEH_TEST_FILES=1000000 cargo test --release -p fernweh --test many_files -- --nocapture`
//! prints what each run needs.

use bytes::Bytes;
use fernweh_connect::remote::{
    Carries, Doing, FoundKind, Metadata, RemoteEntry, RemoteSource, RemoteTarget, Tree,
};
use fernweh_core::address::WebAddress;
use fernweh_core::settings::Setting;
use fernweh_flow::archive::ArchiveReader;
use fernweh_flow::incoming::Incoming;
use fernweh_flow::journal::Records;
use fernweh_flow::patterns::Patterns;
use fernweh_flow::run::{Pack, Rewrite, Surroundings, Survey, Trace, Undo, Unpack, pair, ready};
use fernweh_flow::unpack::Part;
use fernweh_ports::{
    CommandOutput, DatabaseSource, Editors, FileEditor, FileSource, Halves, PageSource, Result,
    SiteAccess, Targets, Trouble,
};
use fernweh_testkit::Watcher;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex};
use tokio::sync::mpsc;

const OLD: &str = "http://glimmerpoint.example";
const NEW: &str = "https://www.glimmer-point.example";
const IN_A_FOLDER: u64 = 1_000;

/// A host with one site of many files; what is written there is counted and forgotten, but for
/// the list of a part and the token of a run.
struct Host {
    files: u64,
    written: AtomicU64,
    folders: Mutex<BTreeSet<Vec<u8>>>,
    kept: Mutex<BTreeMap<Vec<u8>, Vec<u8>>>,
}

fn is_kept(path: &[u8]) -> bool {
    let name = path.rsplit(|byte| *byte == b'/').next().unwrap_or_default();
    name.starts_with(b"part-") || name == b"token"
}

fn content(number: u64) -> String {
    match number % 100 {
        0 => format!("<a href=\"{OLD}/observations/{number}\">{number}</a>"),
        _ => format!("observation {number}"),
    }
}

fn entry(name: String, kind: FoundKind) -> RemoteEntry {
    RemoteEntry {
        name: name.into_bytes(),
        kind,
        mode: Some(0o644),
        mtime: Some(7),
        owner: (33, 33),
    }
}

/// The number in the last part of a path such as `/site/0012/observation-0012345.html`.
fn number(path: &[u8]) -> Option<u64> {
    let digits: Vec<u8> = path.rsplit(|byte| *byte == b'/').next()?.to_vec();
    let digits: String = digits.iter().filter(|b| b.is_ascii_digit()).map(|b| *b as char).collect();
    digits.parse().ok()
}

impl Tree for Host {
    fn shown(&self) -> String {
        "memory://host".into()
    }

    fn connections(&self) -> usize {
        4
    }

    fn carries(&self) -> Carries {
        Carries { links: true, modes: true, times: true, exact_times: true }
    }

    fn list<'a>(&'a self, folder: &'a [u8]) -> Doing<'a, Vec<RemoteEntry>> {
        Box::pin(async move {
            if folder == b"/site" {
                let folders = 0..self.files / IN_A_FOLDER;
                return Ok(folders.map(|n| entry(format!("{n:04}"), FoundKind::Folder)).collect());
            }
            if !folder.starts_with(b"/site/") {
                return Ok(Vec::new());
            }
            let first = number(folder).unwrap_or_default() * IN_A_FOLDER;
            let file = |n| {
                let size = content(n).len() as u64;
                entry(format!("observation-{n:07}.html"), FoundKind::File(size))
            };
            Ok((first..first + IN_A_FOLDER).map(file).collect())
        })
    }

    fn look<'a>(&'a self, path: &'a [u8]) -> Doing<'a, Option<RemoteEntry>> {
        Box::pin(async move {
            let path = path.strip_suffix(b"/.").unwrap_or(path);
            if is_kept(path) {
                let size = self.kept.lock().unwrap().get(path).map(|kept| kept.len() as u64);
                return Ok(size.map(|size| entry(String::new(), FoundKind::File(size))));
            }
            let folder = path.starts_with(b"/site") || self.folders.lock().unwrap().contains(path);
            Ok(folder.then(|| entry(String::new(), FoundKind::Folder)))
        })
    }

    fn fetch<'a>(&'a self, path: &'a [u8], _: u64, to: mpsc::Sender<Bytes>) -> Doing<'a, ()> {
        Box::pin(async move {
            let content = match is_kept(path) {
                true => self.kept.lock().unwrap().get(path).cloned().unwrap_or_default(),
                false => content(number(path).unwrap_or_default()).into(),
            };
            let _ = to.send(content.into()).await;
            Ok(())
        })
    }

    fn store<'a>(
        &'a self,
        path: &'a [u8],
        _: u64,
        mut from: mpsc::Receiver<Bytes>,
        _: Metadata,
    ) -> Doing<'a, ()> {
        Box::pin(async move {
            let mut content = Vec::new();
            while let Some(bytes) = from.recv().await {
                content.extend_from_slice(&bytes);
            }
            if is_kept(path) {
                self.kept.lock().unwrap().insert(path.to_vec(), content);
            }
            self.written.fetch_add(1, Ordering::Relaxed);
            Ok(())
        })
    }

    fn set_metadata<'a>(&'a self, _: &'a [u8], _: Metadata) -> Doing<'a, ()> {
        Box::pin(async { Ok(()) })
    }

    fn make_folder<'a>(&'a self, path: &'a [u8]) -> Doing<'a, ()> {
        Box::pin(async move {
            self.folders.lock().unwrap().insert(path.to_vec());
            Ok(())
        })
    }

    fn make_link<'a>(&'a self, _: &'a [u8], _: &'a [u8], _: Option<i64>) -> Doing<'a, ()> {
        Box::pin(async { Ok(()) })
    }

    fn read_link<'a>(&'a self, _: &'a [u8]) -> Doing<'a, Vec<u8>> {
        Box::pin(async { Err(Trouble::outside("no link")) })
    }

    fn rename<'a>(&'a self, from: &'a [u8], to: &'a [u8], _: bool) -> Doing<'a, ()> {
        Box::pin(async move {
            let mut folders = self.folders.lock().unwrap();
            folders.remove(from);
            folders.insert(to.to_vec());
            // What is kept in a folder moves with it.
            let within = [from, b"/"].concat();
            let mut kept = self.kept.lock().unwrap();
            let moved: Vec<_> = kept.keys().filter(|it| it.starts_with(&within)).cloned().collect();
            for path in moved {
                let content = kept.remove(&path).unwrap_or_default();
                kept.insert([to, &path[from.len()..]].concat(), content);
            }
            Ok(())
        })
    }

    fn remove_file<'a>(&'a self, path: &'a [u8]) -> Doing<'a, ()> {
        Box::pin(async move {
            if is_kept(path) {
                self.kept.lock().unwrap().remove(path);
            }
            Ok(())
        })
    }

    fn remove_folder<'a>(&'a self, path: &'a [u8]) -> Doing<'a, ()> {
        Box::pin(async move {
            self.folders.lock().unwrap().remove(path);
            Ok(())
        })
    }

    fn resolve<'a>(&'a self, path: &'a [u8]) -> Doing<'a, Vec<u8>> {
        Box::pin(async move { Ok(path.to_vec()) })
    }

    fn free<'a>(&'a self, _: &'a [u8]) -> Doing<'a, Option<u64>> {
        Box::pin(async { Ok(None) })
    }
}

/// Counts the files that are replaced.
struct Replaced(Arc<Host>);

impl FileEditor for Replaced {
    fn replace(&mut self, _: &[u8], _: &[u8], _: &str) -> Result<()> {
        self.0.written.fetch_add(1, Ordering::Relaxed);
        Ok(())
    }

    fn make(&mut self, _: &[u8], _: &[u8], _: &str) -> Result<()> {
        Ok(())
    }

    fn remove_left(&mut self, _: &[u8]) -> Result<()> {
        Ok(())
    }

    fn remove(&mut self, _: &[u8]) -> Result<()> {
        Ok(())
    }
}

/// A site of files alone.
struct ManyFiles {
    name: &'static str,
    url: Option<WebAddress>,
    root: &'static [u8],
    host: Arc<Host>,
}

impl SiteAccess for ManyFiles {
    fn name(&self) -> &str {
        self.name
    }
    fn url(&self) -> Option<&WebAddress> {
        self.url.as_ref()
    }
    fn has(&self) -> Halves {
        Halves::FILES
    }
    fn holds_table(&self, _: &str) -> bool {
        false
    }
    fn bounds_tables(&self) -> bool {
        false
    }
    fn database_name(&self) -> String {
        String::new()
    }
    fn database_identity(&self) -> Option<String> {
        None
    }
    fn inside_files(&self) -> Option<String> {
        None
    }
    fn folder_on_host(&self) -> Option<String> {
        None
    }
    fn names_host(&self) -> bool {
        false
    }
    fn has_login(&self) -> bool {
        false
    }
    fn setting(&self, _: &Setting, _: &[Setting]) -> Result<Option<String>> {
        Ok(None)
    }
    fn database(&self) -> Result<Option<Box<dyn DatabaseSource>>> {
        Ok(None)
    }
    fn files(&self) -> Result<Option<Box<dyn FileSource>>> {
        Ok(Some(Box::new(RemoteSource::open(self.host.clone(), self.root)?)))
    }
    fn targets(&self, run: &str, _: Halves) -> Result<Targets> {
        let files = RemoteTarget::new(self.host.clone(), self.root, run);
        Ok(Targets { files: Some(Box::new(files)), ..Targets::default() })
    }
    fn editors(&self, _: Halves) -> Result<Editors> {
        let editor: Box<dyn FileEditor> = Box::new(Replaced(self.host.clone()));
        Ok(Editors { database: None, files: self.files()?, editor: Some(editor) })
    }
    fn pages(&self) -> Result<Box<dyn PageSource>> {
        Err(Trouble::usage("no pages here"))
    }
    fn run_command(&self, _: &str) -> Result<CommandOutput> {
        Err(Trouble::usage("no shell here"))
    }
}

/// A line of `/proc/self/status`, in kB.
fn status(line: &str) -> u64 {
    let status = std::fs::read_to_string("/proc/self/status").unwrap();
    let found = status.lines().find_map(|found| found.strip_prefix(line)).unwrap();
    found.trim_matches(|c: char| !c.is_ascii_digit()).parse().unwrap()
}

/// Runs something and holds it to less memory than `most` beyond what was there before (MB).
fn within<T>(what: &str, most: u64, run: impl FnOnce() -> T) -> T {
    // Begins the highest mark anew (proc(5)).
    std::fs::write("/proc/self/clear_refs", "5").unwrap();
    let before = status("VmRSS:");
    let given = run();
    let (peak, beyond) = (status("VmHWM:"), status("VmHWM:").saturating_sub(before) / 1024);
    println!("{what:>10}: {beyond} MB beyond {} MB, {} MB at most", before / 1024, peak / 1024);
    assert!(beyond < most, "{what} took {beyond} MB");
    given
}

#[test]
fn many_files_are_handled_in_bounded_memory() {
    let files = std::env::var("FERNWEH_TEST_FILES").map_or(100_000, |files| files.parse().unwrap());
    let host = |files| {
        let (written, folders, kept) = (AtomicU64::new(0), Mutex::default(), Mutex::default());
        Arc::new(Host { files, written, folders, kept })
    };
    let site = |name, url, root: &'static [u8], host: &Arc<Host>| ManyFiles {
        name,
        url: WebAddress::parse(url).ok(),
        root,
        host: host.clone(),
    };
    let (there, empty) = (host(files), host(0));
    let old = site("old", OLD, b"/site", &there);
    let new = site("new", NEW, b"/new", &empty);
    let desk = tempfile::tempdir().unwrap();
    let records = Records::beside(desk.path());
    let progress = Watcher::default();
    let around = Surroundings { records: &records, progress: &progress, program: "test" };
    let archive = desk.path().join("many.fernweh.tar");
    let rules = || ready(pair(OLD, NEW).unwrap().into_iter().collect()).unwrap();
    let most = 40 + files / 20_000;

    let surveyed = within("survey", most, || {
        Survey { leave_out: Patterns::default() }.run(&old, around).unwrap()
    });
    assert_eq!(surveyed.files.unwrap().files, files);
    let traced = within("trace", most, || {
        let texts = vec![OLD.to_owned()];
        Trace { texts, halves: Halves::FILES, propose: None }.run(&old, around).unwrap()
    });
    assert_eq!(traced.texts[0].found, files / 100);
    let packed = within("pack", most, || {
        Pack::whole(archive.clone(), Halves::FILES).run(&old, around).unwrap()
    });
    assert_eq!(packed.files, files);
    let unpacked = within("unpack", most, || {
        let incoming = Incoming::own(ArchiveReader::open(&archive).unwrap());
        let unpack = Unpack { halves: Halves::FILES, ..Unpack::default() };
        unpack.run(&new, &incoming, around).unwrap()
    });
    assert_eq!(unpacked.files, files);
    assert_eq!(unpacked.rewriting.files_total().changed, files / 100);
    let part = within("part", most, || {
        let incoming = Incoming::own(ArchiveReader::open(&archive).unwrap());
        let files = Some(Patterns::of_paths(&["00*/**".to_owned()]).unwrap());
        let unpack = Unpack {
            halves: Halves::FILES,
            overwrite: true,
            part: Part { files, ..Part::default() },
            ..Unpack::default()
        };
        unpack.run(&new, &incoming, around).unwrap()
    });
    assert_eq!(part.files, 100 * IN_A_FOLDER);
    let rewritten = within("rewrite", most, || {
        let rewrite = Rewrite { rewriter: rules(), halves: Halves::FILES, apply: true };
        rewrite.run(&old, around).unwrap()
    });
    assert_eq!(rewritten.rewriting.files_total().changed, files / 100);
    assert_eq!(there.written.load(Ordering::Relaxed), files / 100);
    within("undo", most, || Undo::LastChange.run(&new, around).unwrap());
}
