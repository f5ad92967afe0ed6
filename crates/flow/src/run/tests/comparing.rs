//! Comparing sites in memory.

use super::*;
use crate::compare::CompareReport;
use crate::run::Compare;
use fernweh_ports::{Failpoints, Unit};

fn compared(desk: &Desk) -> CompareReport {
    let how = Compare { pages: None, ..Compare::everything(Vec::new()) };
    how.run(&desk.old, &desk.new, desk.around(&Watcher::default())).unwrap()
}

/// Two sites of which one was moved, and how often a file of the second was read by a comparison.
fn moved_desk(old_has_shell: bool, new_has_shell: bool) -> Desk {
    let mut desk = Desk::new();
    desk.new.write(|state| *state = moved());
    desk.new.write(|state| drop(state.tables.remove("guests")));
    if old_has_shell {
        desk.old.give_shell();
    }
    if new_has_shell {
        desk.new.give_shell();
    }
    desk
}

fn read_at(site: &MemorySite) -> usize {
    site.faults().calls().iter().filter(|call| **call == "open a file").count()
}

#[test]
fn files_are_compared_by_the_digests_of_their_hosts() {
    for (old, new) in [(false, false), (false, true), (true, false), (true, true)] {
        let desk = moved_desk(old, new);
        let before = (read_at(&desk.old), read_at(&desk.new));
        let report = compared(&desk);
        assert!(report.identical, "{old} {new}: {report:?}");
        let reads = (read_at(&desk.old) - before.0, read_at(&desk.new) - before.1);
        // One of the two files holds an address of the site, so it is another one on each side.
        let expected = match (old, new) {
            (false, false) => (2, 2),
            (_, true) => (2, 0),
            (true, false) => (1, 3),
        };
        assert_eq!(reads, expected, "{old} {new}");
    }
}

#[test]
fn whatever_digests_say_a_file_with_an_old_address_is_another_one() {
    for (old, new) in [(false, false), (false, true), (true, false), (true, true)] {
        let desk = moved_desk(old, new);
        // The same bytes on both sides: the addresses in it were not rewritten.
        let same = old_state().files;
        desk.new.write(|state| state.files = same);
        let report = compared(&desk);
        let files = report.files.unwrap();
        assert_eq!((files.content, files.missing, files.extra), (1, 0, 0), "{old} {new}");
        assert_eq!(files.examples[0].path, "index.html");
    }
}

/// Stops once it has been told of some progress.
#[derive(Default)]
struct Stops(std::sync::atomic::AtomicBool);

impl Failpoints for Stops {}

impl Progress for Stops {
    fn stage(&self, _: &str, _: Option<u64>, _: Unit) {}
    fn advance(&self, _: u64) {
        self.0.store(true, std::sync::atomic::Ordering::Relaxed);
    }
    fn done(&self, _: &str) {}
    fn note(&self, _: &str) {}
    fn stopping(&self) -> bool {
        self.0.load(std::sync::atomic::Ordering::Relaxed)
    }
}

#[test]
fn a_comparison_that_is_interrupted_ends_however_much_is_left() {
    let desk = Desk::new();
    for site in [&desk.old, &desk.new] {
        let table = rows((0..20_000).map(|number| (number, "dark sky")));
        site.write(|state| drop(state.tables.insert("articles".to_owned(), table)));
    }
    let how = Compare { pages: None, files: false, ..Compare::everything(Vec::new()) };
    let trouble = how.run(&desk.old, &desk.new, desk.around(&Stops::default())).unwrap_err();
    assert_eq!(trouble.kind, TroubleKind::Interrupted);
}
