//! Sites that live while they are read: files change, and go.

use super::Desk;
use crate::archive::ArchiveReader;
use crate::incoming::Incoming;
use crate::pack::PackReport;
use crate::patterns::Patterns;
use crate::run::{Pack, Rewrite, Unpack, pair, ready};
use crate::unpack::{Part, UnpackReport};
use fernweh_core::limits;
use fernweh_core::record::Value;
use fernweh_ports::{Halves, Result};
use fernweh_testkit::{Fault, SiteState, Watcher};

/// Packs the old site's files; before the n-th calls of this name a visitor writes.
fn packed(call: &str, nth: &[usize], write: fn(&mut SiteState, usize)) -> (Desk, PackReport) {
    packed_after(|_| {}, call, nth, write)
}

/// The same of a site that was made over first.
fn packed_after(
    prepare: impl Fn(&mut SiteState),
    call: &str,
    nth: &[usize],
    write: fn(&mut SiteState, usize),
) -> (Desk, PackReport) {
    let prepared = || {
        let desk = Desk::new();
        desk.old.write(&prepare);
        desk
    };
    let calls = {
        let desk = prepared();
        desk.packed("a.tar");
        desk.old.faults().calls()
    };
    let desk = prepared();
    let mut places = calls.iter().enumerate().filter(|(_, name)| **name == call);
    // The first look is whether the site's own program is there.
    let looks = usize::from(call == "look at a file later");
    let first = places.nth(looks).map(|(at, _)| at).unwrap();
    for n in nth {
        let n = *n;
        desk.old.faults().set(first + n, Fault::Written(Box::new(move |state| write(state, n))));
    }
    let archive = desk.folder.path().join("b.tar");
    let pack = Pack::whole(archive, Halves::BOTH);
    let report = pack.run(&desk.old, desk.around(&Watcher::default())).unwrap();
    (desk, report)
}

fn page(state: &mut SiteState, version: usize) {
    let content = format!("<p>version {version}</p>").into_bytes();
    state.files.0.insert(b"index.html".to_vec(), content);
}

/// What the archive holds of the page.
fn unpacked_page(desk: &Desk) -> Option<String> {
    desk.unpack(&desk.folder.path().join("b.tar"), &Watcher::default()).unwrap();
    let live = desk.new.live();
    live.files.content("index.html").map(|page| String::from_utf8_lossy(page).into_owned())
}

#[test]
fn a_file_that_changes_while_it_is_packed_is_read_again() {
    let (desk, report) = packed("look at a file again", &[0], page);
    assert_eq!(report.changed, Vec::<String>::new());
    assert_eq!(unpacked_page(&desk).unwrap(), "<p>version 0</p>");
}

#[test]
fn a_file_that_changes_each_time_it_is_read_is_named() {
    // Opened and looked at again, three times.
    let (_, report) = packed("look at a file again", &[0, 2, 4], page);
    assert_eq!(report.changed, ["index.html"]);
    assert_eq!(report.files, 2);
}

#[test]
fn a_file_whose_writer_is_halted_half_way_is_named() {
    let emptied = |state: &mut SiteState| {
        state.files.0.insert(b"index.html".to_vec(), Vec::new());
    };
    let (_, report) = packed_after(emptied, "look at a file later", &[0], page);
    assert_eq!(report.changed, ["index.html"]);
    // And one that was meant to be empty is not.
    let (_, report) = packed_after(emptied, "look at a file later", &[0], upload);
    assert_eq!((report.files, report.changed.len()), (2, 0));
}

#[test]
fn a_file_that_goes_before_it_is_packed_is_named_and_the_rest_is_packed() {
    let (desk, report) = packed("open a file", &[0], |state, _| {
        state.files.0.remove(&b"index.html"[..]);
    });
    assert_eq!(report.left_out.len(), 1);
    assert_eq!(report.left_out[0].path, "index.html");
    assert_eq!(report.files, 1);
    assert_eq!(unpacked_page(&desk), None);
}

fn upload(state: &mut SiteState, n: usize) {
    state.files.0.insert(format!("uploads/{n}.jpg").into_bytes(), b"a visitor's".to_vec());
}

/// Unpacks one file into the new site; a visitor uploads something before every call.
fn with_uploads(desk: &Desk) -> usize {
    let archive = desk.packed("a.tar");
    for n in 0..100 {
        desk.new.faults().set(n, Fault::Written(Box::new(move |state| upload(state, n))));
    }
    let unpack = Unpack {
        part: Part {
            files: Some(Patterns::of_paths(&["index.html".to_owned()]).unwrap()),
            ..Part::default()
        },
        input: archive.display().to_string(),
        halves: Halves::FILES,
        overwrite: true,
        ..Unpack::default()
    };
    let before = desk.new.faults().calls().len();
    let incoming = Incoming::own(ArchiveReader::open(&archive).unwrap());
    unpack.run(&desk.new, &incoming, desk.around(&Watcher::default())).unwrap();
    desk.new.faults().clear();
    desk.new.faults().calls().len() - before
}

#[test]
fn what_visitors_upload_while_a_part_of_the_files_is_put_in_place_is_there_afterwards() {
    let desk = Desk::new();
    let calls = with_uploads(&desk);
    assert!(calls > 4, "{calls} calls");
    let uploads = |desk: &Desk| {
        let live = desk.new.live();
        (0..calls).filter(|n| live.files.content(&format!("uploads/{n}.jpg")).is_some()).count()
    };
    assert_eq!(uploads(&desk), calls);
    let live = desk.new.live();
    assert!(live.files.content("index.html").unwrap().starts_with(b"<a href"));
    assert_eq!(live.files.content("notes.txt"), Some(&b"kept?"[..]));
    desk.undo(&Watcher::default()).unwrap();
    assert_eq!(uploads(&desk), calls, "after an undo");
    assert_eq!(desk.new.live().files.content("index.html"), Some(&b"under construction"[..]));
    desk.undo(&Watcher::default()).unwrap();
    assert!(desk.new.live().files.content("index.html").unwrap().starts_with(b"<a href"));
    assert_eq!(uploads(&desk), calls, "and forward again");
    desk.let_go();
    assert_eq!(desk.new.aside(), Vec::<String>::new());
}

/// Unpacks everything and carries notes over, while a visitor writes a note before these calls.
fn keeping_notes(at: impl Iterator<Item = usize>) -> (Desk, Result<UnpackReport>) {
    let desk = Desk::new();
    let archive = desk.packed("a.tar");
    for n in at {
        let write = move |state: &mut SiteState| {
            let note = |name: &str| format!("notes/{name}.txt").into_bytes();
            state.files.0.insert(note("latest"), n.to_string().into_bytes());
            state.files.0.insert(note(&n.to_string()), b"a note".to_vec());
            state.files.0.remove(&note(&(n - 1).to_string()));
        };
        desk.new.faults().set(n, Fault::Written(Box::new(write)));
    }
    let unpack = Unpack {
        keep: Patterns::of_paths(&["notes/**".to_owned()]).unwrap(),
        input: archive.display().to_string(),
        halves: Halves::BOTH,
        overwrite: true,
        ..Unpack::default()
    };
    let incoming = Incoming::own(ArchiveReader::open(&archive).unwrap());
    let done = unpack.run(&desk.new, &incoming, desk.around(&Watcher::default()));
    desk.new.faults().clear();
    (desk, done)
}

#[test]
fn what_visitors_write_into_what_is_carried_over_is_there_whenever_they_write() {
    let calls = {
        let (desk, done) = keeping_notes(std::iter::empty());
        done.unwrap();
        desk.new.faults().calls()
    };
    let switched = calls.iter().position(|name| *name == "switch the trees").unwrap();
    assert!(calls[..switched].contains(&"carry files over"));
    for n in 1..switched {
        let (desk, done) = keeping_notes(std::iter::once(n));
        done.unwrap();
        let live = desk.new.live();
        let latest = live.files.content("notes/latest.txt");
        assert_eq!(latest, Some(n.to_string().as_bytes()), "written before call {n}");
        assert_eq!(live.files.content(&format!("notes/{n}.txt")), Some(&b"a note"[..]));
        assert!(live.files.content("notes.txt").is_none(), "no part of what is carried over");
    }
    // What comes and goes again, all the time, ends the run, and changes nothing.
    let looks = calls.iter().enumerate();
    let looks = looks.filter(|(_, name)| **name == "look again at what is carried over");
    let first = looks.map(|(at, _)| at).next().unwrap();
    let (desk, done) = keeping_notes(first..first + 3);
    let trouble = done.unwrap_err();
    assert!(trouble.to_string().contains("change all the time"), "{trouble}");
    assert_eq!(desk.new.live().tables, super::there().tables);
    assert_eq!(desk.new.live().files.content("index.html"), Some(&b"under construction"[..]));
    assert_eq!(desk.new.aside(), Vec::<String>::new());
}

#[test]
fn a_rewriting_that_changes_nothing_hides_no_earlier_change() {
    let desk = Desk::new();
    let archive = desk.packed("a.tar");
    desk.unpack(&archive, &Watcher::default()).unwrap();
    let rules = ready(
        pair("http://nowhere.example", "https://nowhere.example").unwrap().into_iter().collect(),
    );
    let rewrite = Rewrite { rewriter: rules.unwrap(), halves: Halves::BOTH, apply: true };
    let report = rewrite.run(&desk.new, desk.around(&Watcher::default())).unwrap();
    assert_eq!((report.run, report.rewriting.replaced()), (None, 0));
    desk.undo(&Watcher::default()).unwrap();
    assert_eq!(desk.new.live(), super::there());
}

#[test]
fn what_visitors_write_while_a_site_is_packed_to_make_room_comes_back_or_is_named() {
    let cleared = {
        let desk = Desk::new();
        desk.unpack_in_place(&desk.packed("a.tar"), &Watcher::default()).unwrap();
        let calls = desk.new.faults().calls();
        calls.iter().position(|name| *name == "clear the files").unwrap()
    };
    for n in 0..=cleared {
        let desk = Desk::new();
        let archive = desk.packed("a.tar");
        let write = move |state: &mut SiteState| {
            upload(state, n);
            // Where the tables are gone, nobody is told that his record is in.
            let Some(table) = state.tables.get_mut("articles") else { return };
            table.push(vec![Value::Integer(77), Value::Text(b"a visitor's".to_vec())]);
        };
        desk.new.faults().set(n, Fault::Written(Box::new(write)));
        let report = desk.unpack_in_place(&archive, &Watcher::default()).unwrap();
        let named = report.came_in_files.contains(&format!("uploads/{n}.jpg"));
        desk.undo(&Watcher::default()).unwrap();
        let live = desk.new.live();
        let upload = format!("uploads/{n}.jpg");
        assert!(named || live.files.content(&upload).is_some(), "written before call {n}");
        let taken =
            n == cleared || live.tables["articles"].iter().any(|row| row[0] == Value::Integer(77));
        assert!(taken, "{n}");
    }
}

#[test]
fn a_site_that_is_written_to_all_the_time_is_not_emptied() {
    let desk = Desk::new();
    let archive = desk.packed("a.tar");
    for n in 0..3000 {
        desk.new.faults().set(n, Fault::Written(Box::new(move |state| upload(state, n))));
    }
    let trouble = desk.unpack_in_place(&archive, &Watcher::default()).unwrap_err();
    assert!(trouble.to_string().contains("keeps changing"), "{trouble}");
    desk.new.faults().clear();
    let live = desk.new.live();
    assert_eq!(live.tables, super::there().tables);
    assert!(live.files.content("uploads/0.jpg").is_some());
}

#[test]
fn a_file_that_becomes_very_large_before_it_is_packed_is_not_held() {
    let (desk, report) = packed("open a file", &[0], |state, _| {
        let large = vec![b'x'; limits::HELD_FILE as usize + 1];
        state.files.0.insert(b"index.html".to_vec(), large);
    });
    assert_eq!((report.files, report.changed.len()), (2, 0));
    assert_eq!(unpacked_page(&desk).unwrap().len() as u64, limits::HELD_FILE + 1);
}
