//! Runs on sites in memory: whatever goes wrong at whatever call, the site is what was promised.

mod comparing;
mod faults;
mod living;
mod model;
mod moves;

use super::{KeptBounds, Pack, Rewrite, Surroundings, Undo, Undone, Unpack, pair, ready};
use crate::archive::ArchiveReader;
use crate::incoming::Incoming;
use crate::journal::Records;
use crate::unpack::UnpackReport;
use fernweh_ports::{Halves, Progress, Result, SiteAccess, TroubleKind};
use fernweh_testkit::{Files, MemorySite, SiteState, Watcher, rows};
use std::path::{Path, PathBuf};

const OLD: &str = "http://glimmerpoint.example";
const NEW: &str = "https://www.glimmer-point.example";

const THIRD: &str = "https://dome.example";

/// Two sites, and a working folder.
struct Desk {
    folder: tempfile::TempDir,
    records: Records,
    old: MemorySite,
    new: MemorySite,
}

/// What the old site holds.
fn old_state() -> SiteState {
    SiteState {
        tables: [
            ("articles".to_owned(), rows([(1, "http://glimmerpoint.example/a"), (2, "dark sky")])),
            ("nights".to_owned(), rows([(1, "s:27:\"http://glimmerpoint.example\";"), (2, "")])),
        ]
        .into(),
        files: Files::of([
            ("index.html", "<a href='http://glimmerpoint.example/'>home</a>"),
            ("pictures/comet.svg", "<svg/>"),
        ]),
    }
}

/// What stands at the new site before.
fn there() -> SiteState {
    SiteState {
        tables: [
            ("articles".to_owned(), rows([(7, "was here before"), (8, "so was this")])),
            ("guests".to_owned(), rows([(1, "of the new site alone")])),
        ]
        .into(),
        files: Files::of([("index.html", "under construction"), ("notes.txt", "kept?")]),
    }
}

impl Desk {
    fn new() -> Self {
        // In memory where that is possible: every step of a journal is written through to disk.
        let folder = tempfile::Builder::new();
        let folder = folder.tempdir_in("/dev/shm").or_else(|_| folder.tempdir()).unwrap();
        let records = Records::beside(folder.path());
        let (old, new) = (MemorySite::new("old", OLD), MemorySite::new("new", NEW));
        old.write(|state| *state = old_state());
        new.write(|state| *state = there());
        Self { folder, records, old, new }
    }

    fn around<'a>(&'a self, progress: &'a dyn Progress) -> Surroundings<'a> {
        Surroundings { records: &self.records, progress, program: "test" }
    }

    /// Packs the old site.
    fn packed(&self, name: &str) -> PathBuf {
        let archive = self.folder.path().join(name);
        let pack = Pack::whole(archive.clone(), Halves::BOTH);
        pack.run(&self.old, self.around(&Watcher::default())).unwrap();
        archive
    }

    /// Unpacks into the new site.
    fn unpack(&self, archive: &Path, progress: &dyn Progress) -> Result<UnpackReport> {
        self.unpack_so(archive, false, progress)
    }

    /// The same, where both states do not fit side by side.
    fn unpack_in_place(&self, archive: &Path, progress: &dyn Progress) -> Result<UnpackReport> {
        self.unpack_so(archive, true, progress)
    }

    fn unpack_so(
        &self,
        archive: &Path,
        in_place: bool,
        progress: &dyn Progress,
    ) -> Result<UnpackReport> {
        let unpack = Unpack {
            in_place,
            input: archive.display().to_string(),
            halves: Halves::BOTH,
            overwrite: true,
            kept_bounds: KeptBounds { states: 10, bytes: None },
            ..Unpack::default()
        };
        let incoming = Incoming::own(ArchiveReader::open(archive)?);
        unpack.run(&self.new, &incoming, self.around(progress))
    }

    fn rewrite(&self, progress: &dyn Progress) -> Result<()> {
        let rules = ready(pair(NEW, THIRD)?.into_iter().collect())?;
        let rewrite = Rewrite { rewriter: rules, halves: Halves::BOTH, apply: true };
        rewrite.run(&self.new, self.around(progress)).map(drop)
    }

    fn undo(&self, progress: &dyn Progress) -> Result<Undone> {
        Undo::LastChange.run(&self.new, self.around(progress))
    }

    fn let_go(&self) {
        Undo::LetGo { oldest: false }.run(&self.new, self.around(&Watcher::default())).unwrap();
    }
}

/// What the new site is once the old one is unpacked there: extra tables stay, files go.
fn moved() -> SiteState {
    SiteState {
        tables: [
            (
                "articles".to_owned(),
                rows([(1, "https://www.glimmer-point.example/a"), (2, "dark sky")]),
            ),
            ("guests".to_owned(), rows([(1, "of the new site alone")])),
            (
                "nights".to_owned(),
                rows([(1, "s:33:\"https://www.glimmer-point.example\";"), (2, "")]),
            ),
        ]
        .into(),
        files: Files::of([
            ("index.html", "<a href='https://www.glimmer-point.example/'>home</a>"),
            ("pictures/comet.svg", "<svg/>"),
        ]),
    }
}

#[test]
fn no_more_states_are_kept_than_there_may_be_and_none_goes_in_silence() {
    let desk = Desk::new();
    let (archive, quiet) = (desk.packed("a.tar"), Watcher::default());
    let unpack = |states, bytes| {
        let unpack = Unpack {
            input: "a.tar".into(),
            halves: Halves::BOTH,
            overwrite: true,
            kept_bounds: KeptBounds { states, bytes },
            ..Unpack::default()
        };
        let incoming = Incoming::own(ArchiveReader::open(&archive).unwrap());
        unpack.run(&desk.new, &incoming, desk.around(&quiet))
    };
    unpack(2, None).unwrap();
    unpack(2, None).unwrap();
    let kept = desk.new.aside();
    let refused = unpack(2, None).unwrap_err();
    assert_eq!(refused.kind, TroubleKind::Usage);
    assert!(refused.because.as_deref().is_some_and(|words| words.contains("keep-states")));
    assert_eq!(desk.new.aside(), kept, "nothing goes in silence");
    // What was taken back goes with the next change, so there is room for that.
    desk.undo(&quiet).unwrap();
    unpack(2, None).unwrap();
    Undo::LetGo { oldest: true }.run(&desk.new, desk.around(&quiet)).unwrap();
    unpack(2, Some(1 << 30)).unwrap();
    unpack(0, None).unwrap();
}

#[test]
fn a_site_is_packed_unpacked_and_taken_back() {
    let desk = Desk::new();
    let archive = desk.packed("a.tar");
    let quiet = Watcher::default();
    let report = desk.unpack(&archive, &quiet).unwrap();
    assert_eq!((report.tables, report.records, report.files), (2, 4, 2));
    assert_eq!(desk.new.live(), moved());
    assert_eq!(desk.old.live(), old_state(), "the source is only read");
    desk.undo(&quiet).unwrap();
    assert_eq!(desk.new.live(), there());
    desk.undo(&quiet).unwrap();
    assert_eq!(desk.new.live(), moved(), "an undo is taken back by the next");
    desk.let_go();
    assert_eq!(desk.new.aside(), Vec::<String>::new());
    assert!(desk.undo(&quiet).is_err(), "nothing is kept any more");
    assert_eq!(desk.new.live(), moved());
}

#[test]
fn secrets_and_connections_are_asked_for_when_they_are_needed() {
    let desk = Desk::new();
    let archive = desk.packed("a.tar");
    let preview =
        Unpack { halves: Halves::BOTH, preview: Some(super::Preview::Read), ..Unpack::default() };
    let incoming = Incoming::own(ArchiveReader::open(&archive).unwrap());
    preview.run(&desk.new, &incoming, desk.around(&Watcher::default())).unwrap();
    assert_eq!(desk.new.faults().calls(), Vec::<&str>::new(), "reading needs no destination");
    assert!(desk.new.has() == Halves::BOTH);
}
