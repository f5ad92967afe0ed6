//! Trees of other hosts: what a host that means no good lists, and what becomes of it.

use bytes::Bytes;
use fernweh_connect::remote::{
    Carries, Doing, FoundKind, Metadata, RemoteEntry, RemoteSource, RemoteTarget, Tree,
};
use fernweh_core::entries::EntryList;
use fernweh_core::record::{Entry, EntryKind, Extra};
use fernweh_ports::{
    FileSource, FileTarget, Held, Result, Stamp, Trouble, TroubleKind, in_turn, read_whole,
};
use std::collections::BTreeMap;
use std::io::Read;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex};
use tokio::sync::mpsc;

/// What a host has at a path.
#[derive(Clone)]
enum Thing {
    Folder,
    File(Vec<u8>),
    Link(Vec<u8>),
}

/// What a host lists in a folder, beyond what it has.
type Lists = fn(&[u8]) -> Vec<RemoteEntry>;

/// A host in memory. What it lists beyond what it has is added by `lists`.
struct Host {
    things: Mutex<BTreeMap<Vec<u8>, Thing>>,
    lists: Lists,
    /// How many more renames it lets through.
    renames: AtomicUsize,
}

fn found(name: &[u8], kind: FoundKind) -> RemoteEntry {
    RemoteEntry { name: name.to_vec(), kind, mode: Some(0o755), mtime: Some(1), owner: (0, 0) }
}

fn kind(thing: &Thing) -> FoundKind {
    match thing {
        Thing::Folder => FoundKind::Folder,
        Thing::File(content) => FoundKind::File(content.len() as u64),
        Thing::Link(_) => FoundKind::Link,
    }
}

impl Host {
    fn with(things: &[(&str, Thing)], lists: Lists) -> Arc<Self> {
        let things = things.iter().map(|(path, thing)| (path.as_bytes().to_vec(), thing.clone()));
        let renames = AtomicUsize::new(usize::MAX);
        Arc::new(Self { things: Mutex::new(things.collect()), lists, renames })
    }

    fn paths(&self) -> Vec<String> {
        let things = self.things.lock().unwrap();
        things.keys().map(|path| String::from_utf8_lossy(path).into_owned()).collect()
    }

    fn put(&self, path: &[u8], thing: Thing) -> Result<()> {
        let mut things = self.things.lock().unwrap();
        let slash = path.iter().rposition(|byte| *byte == b'/').unwrap();
        let parent = if slash == 0 { &b"/"[..] } else { &path[..slash] };
        if !matches!(things.get(parent), Some(Thing::Folder)) {
            return Err(Trouble::outside("no such folder"));
        }
        if things.contains_key(path) {
            return Err(Trouble::outside("it is there already"));
        }
        things.insert(path.to_vec(), thing);
        Ok(())
    }
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
            let prefix = [folder.strip_suffix(b"/").unwrap_or(folder), b"/"].concat();
            let things = self.things.lock().unwrap();
            let own = things.iter().filter_map(|(path, thing)| {
                let name = path.strip_prefix(&prefix[..])?;
                (!name.is_empty() && !name.contains(&b'/')).then(|| found(name, kind(thing)))
            });
            Ok(own.chain((self.lists)(folder)).collect())
        })
    }

    fn look<'a>(&'a self, path: &'a [u8]) -> Doing<'a, Option<RemoteEntry>> {
        Box::pin(async move {
            let path = path.strip_suffix(b"/.").unwrap_or(path);
            let things = self.things.lock().unwrap();
            Ok(things.get(path).map(|thing| found(b"", kind(thing))))
        })
    }

    fn fetch<'a>(&'a self, path: &'a [u8], size: u64, to: mpsc::Sender<Bytes>) -> Doing<'a, ()> {
        Box::pin(async move {
            let thing = self.things.lock().unwrap().get(path).cloned();
            let Some(Thing::File(content)) = thing else {
                return Err(Trouble::outside("there is no such file"));
            };
            let wanted = content.len().min(usize::try_from(size).unwrap());
            for portion in content[..wanted].chunks(7) {
                let _ = to.send(Bytes::copy_from_slice(portion)).await;
            }
            Ok(())
        })
    }

    fn store<'a>(
        &'a self,
        path: &'a [u8],
        at: u64,
        mut from: mpsc::Receiver<Bytes>,
        _dress: Metadata,
    ) -> Doing<'a, ()> {
        Box::pin(async move {
            let mut content = Vec::new();
            if at > 0
                && let Some(Thing::File(there)) = self.things.lock().unwrap().remove(path)
            {
                content.extend_from_slice(&there[..usize::try_from(at).unwrap()]);
            }
            while let Some(portion) = from.recv().await {
                content.extend_from_slice(&portion);
            }
            self.put(path, Thing::File(content))
        })
    }

    fn set_metadata<'a>(&'a self, _path: &'a [u8], _metadata: Metadata) -> Doing<'a, ()> {
        Box::pin(async { Ok(()) })
    }

    fn make_folder<'a>(&'a self, path: &'a [u8]) -> Doing<'a, ()> {
        Box::pin(async move { self.put(path, Thing::Folder) })
    }

    fn make_link<'a>(&'a self, path: &'a [u8], to: &'a [u8], _: Option<i64>) -> Doing<'a, ()> {
        Box::pin(async move { self.put(path, Thing::Link(to.to_vec())) })
    }

    fn read_link<'a>(&'a self, path: &'a [u8]) -> Doing<'a, Vec<u8>> {
        Box::pin(async move {
            match self.things.lock().unwrap().get(path) {
                Some(Thing::Link(to)) => Ok(to.clone()),
                _ => Err(Trouble::outside("no link")),
            }
        })
    }

    fn rename<'a>(&'a self, from: &'a [u8], to: &'a [u8], _over: bool) -> Doing<'a, ()> {
        Box::pin(async move {
            let left = self.renames.load(Ordering::Relaxed);
            self.renames.store(left.saturating_sub(1), Ordering::Relaxed);
            if left == 0 {
                return Err(Trouble::outside("the connection is lost").lost(true));
            }
            let mut things = self.things.lock().unwrap();
            let below = [from, b"/"].concat();
            let all = std::mem::take(&mut *things);
            *things = all
                .into_iter()
                .map(|(path, thing)| match path == from || path.starts_with(&below) {
                    true => ([to, &path[from.len()..]].concat(), thing),
                    false => (path, thing),
                })
                .collect();
            Ok(())
        })
    }

    fn remove_file<'a>(&'a self, path: &'a [u8]) -> Doing<'a, ()> {
        Box::pin(async move {
            self.things.lock().unwrap().remove(path);
            Ok(())
        })
    }

    fn remove_folder<'a>(&'a self, path: &'a [u8]) -> Doing<'a, ()> {
        self.remove_file(path)
    }

    fn resolve<'a>(&'a self, path: &'a [u8]) -> Doing<'a, Vec<u8>> {
        Box::pin(async move { Ok(path.to_vec()) })
    }

    fn free<'a>(&'a self, _path: &'a [u8]) -> Doing<'a, Option<u64>> {
        Box::pin(async { Ok(None) })
    }
}

fn walked(host: Arc<Host>) -> Result<Vec<Entry>> {
    let mut entries = Vec::new();
    RemoteSource::open(host, b"/site")?.walk(&|_| true, &mut |entry| {
        entries.push(entry);
        Ok(())
    })?;
    Ok(entries)
}

const ROOT: (&str, Thing) = ("/site", Thing::Folder);

#[test]
fn a_host_that_lists_names_that_lead_elsewhere_is_not_believed() {
    let lists: [Lists; 4] = [
        |_| vec![found(b"../../etc/passwd", FoundKind::File(1))],
        |_| vec![found(b"/etc/passwd", FoundKind::File(1))],
        |_| vec![found(b"", FoundKind::Folder)],
        |_| vec![found(b"a\0b", FoundKind::File(1))],
    ];
    for list in lists {
        let trouble = walked(Host::with(&[ROOT], list)).unwrap_err();
        assert_eq!(trouble.kind, TroubleKind::Damaged);
        assert!(trouble.what.contains("cannot be a file name"), "{trouble}");
    }
    // The folder itself and the one above it are listed by every host.
    let usual = |_: &[u8]| vec![found(b".", FoundKind::Folder), found(b"..", FoundKind::Folder)];
    assert!(walked(Host::with(&[ROOT], usual)).unwrap().is_empty());
}

#[test]
fn a_host_whose_folders_never_end_is_left() {
    let host = Host::with(&[ROOT], |_| vec![found(b"deeper", FoundKind::Folder)]);
    let trouble = walked(host).unwrap_err();
    assert!(trouble.to_string().contains("deep"), "{trouble}");
}

#[test]
fn links_are_listed_and_not_followed() {
    let host =
        Host::with(&[ROOT, ("/site/circle", Thing::Link(b"/site".to_vec()))], |_| Vec::new());
    let entries = walked(host).unwrap();
    assert_eq!(entries.len(), 1);
    assert_eq!(entries[0].kind, EntryKind::Link(b"/site".to_vec()));
}

fn listed(size: u64) -> Stamp {
    Stamp { size, mtime: Some((1, 0)), change: None }
}

#[test]
fn a_file_gives_no_more_bytes_than_were_listed() {
    let host =
        Host::with(&[ROOT, ("/site/grown.txt", Thing::File(vec![b'x'; 100]))], |_| Vec::new());
    let mut source = RemoteSource::open(host, b"/site").unwrap();
    source.announce(vec![(b"grown.txt".to_vec(), listed(40))]);
    let mut content = Vec::new();
    {
        let mut file = source.open(b"grown.txt").unwrap().unwrap();
        file.read_to_end(&mut content).unwrap();
        assert_eq!(content.len(), 40);
        assert!(!file.now().unwrap().unwrap().is_same(&file.opened()), "it has grown");
    }
    let held = read_whole(&mut source, b"grown.txt", 100).unwrap();
    let Held::Whole(whole) = held else { panic!("{held:?}") };
    assert_eq!((whole.bytes.len(), whole.changed), (100, false));
    assert!(source.open(b"gone.txt").unwrap().is_none());
    assert_eq!(read_whole(&mut source, b"grown.txt", 99).unwrap(), Held::TooLarge);
}

#[test]
fn files_come_in_any_order_whatever_was_announced() {
    let things: Vec<(String, Thing)> = (0..50)
        .map(|n| (format!("/site/{n:02}"), Thing::File(format!("content {n}").into_bytes())))
        .collect();
    let mut all: Vec<(&str, Thing)> =
        things.iter().map(|(path, thing)| (path.as_str(), thing.clone())).collect();
    all.push(ROOT);
    let host = Host::with(&all, |_| Vec::new());
    let entries = walked(host.clone()).unwrap();
    let mut source = RemoteSource::open(host, b"/site").unwrap();
    source.announce(entries.iter().map(|entry| (entry.path.clone(), listed(10))).collect());
    // In order, with some left out, and then backwards.
    let order = (0..50).step_by(3).chain((0..50).rev());
    for number in order {
        let mut content = String::new();
        let path = format!("{number:02}");
        source.open(path.as_bytes()).unwrap().unwrap().read_to_string(&mut content).unwrap();
        assert_eq!(content, format!("content {number}"));
    }
}

#[test]
fn many_files_come_in_turn_each_with_its_own_content() {
    let name = |n: usize| format!("/site/{n:04}");
    let things: Vec<(String, Thing)> =
        (0..1_500).map(|n| (name(n), Thing::File(format!("{n}").into_bytes()))).collect();
    let mut all: Vec<(&str, Thing)> =
        things.iter().map(|(path, thing)| (path.as_str(), thing.clone())).collect();
    all.push(ROOT);
    let mut source = RemoteSource::open(Host::with(&all, |_| Vec::new()), b"/site").unwrap();
    let mut entries = EntryList::default();
    source
        .walk(&|_| true, &mut |entry| {
            entries.push(entry);
            Ok(())
        })
        .unwrap();
    let mut next = 0;
    in_turn(&mut source, &entries, |source, entry| {
        let mut content = String::new();
        source.open(&entry.path)?.unwrap().read_to_string(&mut content).unwrap();
        assert_eq!(content, next.to_string());
        next += 1;
        Ok(())
    })
    .unwrap();
    assert_eq!(next, 1_500);
}

fn file(path: &str, size: u64) -> Entry {
    Entry {
        path: path.into(),
        kind: EntryKind::File(size),
        mode: 0o644,
        mtime: 1,
        nanos: 0,
        owner: (0, 0),
        extra: Extra::default(),
    }
}

#[test]
fn nothing_is_written_outside_or_through_a_link() {
    let host = Host::with(&[("/", Thing::Folder), ROOT], |_| Vec::new());
    let mut target = RemoteTarget::new(host.clone(), b"/site", "run");
    target.build().unwrap();
    let link = Entry { kind: EntryKind::Link(b"/etc".to_vec()), ..file("way", 0) };
    target.put(&link).unwrap();
    for path in [
        "../out",
        "/etc/out",
        "a/../../out",
        "",
        "way/out",
        "a//b",
        ".",
        ".fernweh-work/old-x/evil",
    ] {
        let refused = target.put_file(&file(path, 1), &mut &b"x"[..]);
        assert!(refused.is_err(), "{path}");
    }
    target.discard().unwrap();
    assert_eq!(host.paths(), ["/", "/site"]);
}

#[test]
fn a_switch_that_stops_after_any_step_is_completed_or_taken_back() {
    // Beside the site's folder, and where the login's root is that folder.
    for root in ["/site", "/"] {
        let at = |name: &str| format!("{}/{name}", root.trim_end_matches('/'));
        let host = Host::with(
            &[
                ("/", Thing::Folder),
                ROOT,
                (&at("both"), Thing::File(b"old".to_vec())),
                (&at("only-old"), Thing::File(b"old".to_vec())),
            ],
            |_| Vec::new(),
        );
        let mut target = RemoteTarget::new(host.clone(), root.as_bytes(), "run");
        target.build().unwrap();
        target.put_file(&file("both", 3), &mut &b"new"[..]).unwrap();
        target.put_file(&file("only-new", 3), &mut &b"new"[..]).unwrap();
        let swap = target.finish().unwrap();
        let content = |name: &str| match host.things.lock().unwrap().get(at(name).as_bytes()) {
            Some(Thing::File(content)) => String::from_utf8(content.clone()).unwrap(),
            _ => String::new(),
        };
        let state = || (content("both"), content("only-old"), content("only-new"));
        let old = ("old".to_owned(), "old".to_owned(), String::new());
        let new = ("new".to_owned(), String::new(), "new".to_owned());
        use fernweh_ports::Direction::{Back, Forward};
        for direction in [Forward, Forward, Back, Back, Forward] {
            target.switch(&swap, direction).unwrap();
            assert_eq!(state(), if direction == Forward { new.clone() } else { old.clone() });
        }
        // The connection is lost after so many renames; then on, or back.
        for lost_after in 0..6 {
            for (direction, then) in
                [(Back, Back), (Forward, Back), (Forward, Forward), (Back, Forward)]
            {
                host.renames.store(lost_after, Ordering::Relaxed);
                let _ = target.switch(&swap, direction);
                host.renames.store(usize::MAX, Ordering::Relaxed);
                target.switch(&swap, then).unwrap();
                let expected = if then == Forward { new.clone() } else { old.clone() };
                assert_eq!(state(), expected, "{root}: {direction:?} then {then:?}, {lost_after}");
            }
        }
        target.let_go(&swap).unwrap();
        assert_eq!(state(), new);
        // With it goes what keeps others away.
        drop(target);
        assert!(host.paths().iter().all(|path| !path.contains(".fernweh")), "{:?}", host.paths());
    }
}
