//! Sites that live while they are read: files change, and go.

use super::Desk;
use crate::pack::PackReport;
use crate::run::Pack;
use fernweh_ports::Halves;
use fernweh_testkit::{Fault, SiteState, Watcher};

/// Packs the old site's files; before the n-th calls of this name a visitor writes.
fn packed(call: &str, nth: &[usize], write: fn(&mut SiteState, usize)) -> (Desk, PackReport) {
    let calls = {
        let desk = Desk::new();
        desk.packed("a.tar");
        desk.old.faults().calls()
    };
    let desk = Desk::new();
    let places = calls.iter().enumerate().filter(|(_, name)| **name == call);
    let first = places.map(|(at, _)| at).next().unwrap();
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
fn a_file_that_goes_before_it_is_packed_is_named_and_the_rest_is_packed() {
    let (desk, report) = packed("open a file", &[0], |state, _| {
        state.files.0.remove(&b"index.html"[..]);
    });
    assert_eq!(report.left_out.len(), 1);
    assert_eq!(report.left_out[0].path, "index.html");
    assert_eq!(report.files, 1);
    assert_eq!(unpacked_page(&desk), None);
}
