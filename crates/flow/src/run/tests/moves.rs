//! Moves: the source and the destination fail at any call.

use super::{Desk, OLD, moved, old_state, there};
use crate::journal::Run;
use crate::notice::Notice;
use crate::patterns::Patterns;
use crate::preflight::Preflight;
use crate::refresh::Refresh;
use crate::run::{Compare, KeptBounds, Move, MoveReport, Scan, Witness};
use fernweh_ports::{Failpoints, Halves, Progress, Result, Trouble, Unit};
use fernweh_testkit::{Fault, MemorySite, Watcher, killed_or};
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

/// Agrees to everything, and counts what it was told.
#[derive(Default)]
struct Agrees {
    plans: usize,
    went_on: usize,
    failed: usize,
}

impl Witness for Agrees {
    fn goes_on(&mut self, _: &Run) {
        self.went_on += 1;
    }
    fn agree(&mut self, _: &Preflight) -> Result<()> {
        self.plans += 1;
        Ok(())
    }
    fn begun(&mut self, _: &MoveReport) {}
    fn failed(&mut self, _: &Trouble) {
        self.failed += 1;
    }
}

fn options(desk: &Desk) -> Move<'_> {
    Move {
        preview: false,
        from: &desk.old,
        to: &desk.new,
        rehearse: false,
        overwrite: true,
        wanted: Halves::BOTH,
        halves: Halves::BOTH,
        keep_archive: None,
        leave_out: Patterns::default(),
        without_rows: Patterns::default(),
        keep: Patterns::default(),
        kept_bounds: KeptBounds::default(),
        notice: Notice::default(),
        entry_by_entry: false,
        prefix_in: Vec::new(),
        rules: Vec::new(),
        refresh: Refresh::default(),
        scan: None,
        compare: None,
        quiet_source: false,
    }
}

fn run(desk: &Desk, options: &Move<'_>, witness: &mut Agrees) -> Result<MoveReport> {
    options.run(desk.around(&Watcher::default()), witness)
}

#[test]
fn a_site_is_moved_and_its_pages_are_opened() {
    let desk = Desk::new();
    let scan = Scan { pages: 10, time: Duration::from_secs(60), ..Scan::own_pages(None) };
    let options = Move { scan: Some(scan), ..options(&desk) };
    let mut witness = Agrees::default();
    let report = run(&desk, &options, &mut witness).unwrap();
    assert_eq!(desk.new.live(), moved());
    let stages: Vec<&str> = report.stages.iter().map(|(name, _)| name.as_str()).collect();
    assert_eq!(stages, ["packed", "unpacked", "scanned"]);
    assert_eq!(report.scanned.unwrap().pages, 1);
    assert_eq!((witness.plans, witness.went_on, witness.failed), (1, 0, 0));
    desk.undo(&Watcher::default()).unwrap();
    assert_eq!(desk.new.live(), there());
}

#[test]
fn a_site_is_moved_and_compared_with_its_source() {
    let desk = Desk::new();
    let compare = || Some(Compare { pages: None, ..Compare::everything(Vec::new()) });
    let report = run(&desk, &Move { compare: compare(), ..options(&desk) }, &mut Agrees::default());
    let report = report.unwrap();
    let stages: Vec<&str> = report.stages.iter().map(|(name, _)| name.as_str()).collect();
    assert_eq!(stages, ["packed", "unpacked", "compared"]);
    // The table that the destination alone has is named.
    let objects = report.compared.unwrap().database.unwrap().objects;
    let extra: Vec<&str> = objects.iter().map(|it| it.object.as_str()).collect();
    assert_eq!(extra, ["table guests"]);
    // The pages, too.
    let all = Compare::everything(Vec::new());
    let report = run(&desk, &Move { compare: Some(all), ..options(&desk) }, &mut Agrees::default());
    let pages = report.unwrap().compared.unwrap().pages.unwrap();
    assert_eq!((pages.pages, pages.differing), (1, 0));
}

#[test]
fn a_rehearsal_writes_nothing() {
    let desk = Desk::new();
    let options = Move { rehearse: true, ..options(&desk) };
    let report = run(&desk, &options, &mut Agrees::default()).unwrap();
    assert_eq!(report.unpacked.rewriting.replaced(), 3);
    assert_eq!(desk.new.live(), there());
    assert_eq!(desk.new.aside(), Vec::<String>::new());
}

#[test]
fn a_test_that_fails_keeps_the_move_from_beginning() {
    let desk = Desk::new();
    desk.new.faults().set(0, Fault::Refused);
    let mut witness = Agrees::default();
    let report = run(&desk, &options(&desk), &mut witness).unwrap();
    assert!(report.preflight.has_failed() && report.run.is_empty());
    assert_eq!(witness.plans, 0, "there is nothing to agree to");
    assert_eq!(desk.new.live(), there());
}

/// Lets something happen at every call of one of the sites, and types the command again.
fn at_every_call(of: fn(&Desk) -> &MemorySite, fault: fn() -> Fault) {
    let calls = {
        let desk = Desk::new();
        run(&desk, &options(&desk), &mut Agrees::default()).unwrap();
        of(&desk).faults().calls().len()
    };
    for at in 0..calls {
        let desk = Desk::new();
        of(&desk).faults().set(at, fault());
        let mut witness = Agrees::default();
        let ended = killed_or(|| run(&desk, &options(&desk), &mut witness));
        let live = desk.new.live();
        if !matches!(&ended, Some(Ok(report)) if !report.run.is_empty()) {
            let again = run(&desk, &options(&desk), &mut witness);
            again.unwrap_or_else(|trouble| panic!("call {at}: {trouble}"));
        }
        let what = of(&desk).faults().calls()[at];
        assert_eq!(desk.new.live(), moved(), "{what}, call {at}; it was {live:?}");
        assert_eq!(desk.old.live(), old_state(), "{what}, call {at}");
        desk.undo(&Watcher::default()).unwrap();
        assert_eq!(desk.new.live(), there(), "{what}, call {at}, taken back");
    }
}

#[test]
fn a_move_whose_destination_fails_at_any_call_is_completed_by_the_same_command() {
    at_every_call(|desk| &desk.new, || Fault::Refused);
    at_every_call(|desk| &desk.new, || Fault::Lost);
    at_every_call(|desk| &desk.new, || Fault::Killed);
}

#[test]
fn a_move_whose_source_fails_at_any_call_is_completed_by_the_same_command() {
    at_every_call(|desk| &desk.old, || Fault::Refused);
    at_every_call(|desk| &desk.old, || Fault::Lost);
}

#[test]
fn a_step_that_cannot_be_taken_brings_the_old_state_back() {
    let desk = Desk::new();
    let refresh = Refresh { sql: vec!["nonsense".into()], ..Refresh::default() };
    let options = Move { refresh, ..options(&desk) };
    let mut witness = Agrees::default();
    let trouble = run(&desk, &options, &mut witness).err().unwrap();
    assert!(trouble.changed.as_deref().unwrap().contains("is in its old state again"));
    assert_eq!((desk.new.live(), witness.failed), (there(), 1));
    let refresh = Refresh { empty: vec![("nights".into(), None)], ..Refresh::default() };
    let options = Move { refresh, ..options };
    run(&desk, &options, &mut witness).unwrap();
    assert!(desk.new.live().tables["nights"].is_empty());
    assert_eq!(witness.went_on, 0, "what was taken back begins anew");
}

#[test]
fn a_site_does_not_move_to_itself() {
    let desk = Desk::new();
    let options = Move { to: &desk.old, ..options(&desk) };
    assert!(run(&desk, &options, &mut Agrees::default()).is_err());
    assert_eq!(desk.old.live(), old_state());
    assert_eq!(desk.old.faults().calls().len(), 0, "{OLD} was not asked");
}

#[test]
fn a_move_that_was_broken_off_taken_back_and_given_up_begins_anew() {
    let scan = || Scan { pages: 10, time: Duration::from_secs(60), ..Scan::own_pages(None) };
    let steps = ["packed", "unpacked", "scanned", "stage", "done", "switching", "files-switched"];
    for step in steps {
        for let_go in [false, true] {
            let desk = Desk::new();
            let options = Move { scan: Some(scan()), ..options(&desk) };
            let mut witness = Agrees::default();
            let killing = Watcher::killing_at(step);
            let killed = killed_or(|| options.run(desk.around(&killing), &mut witness));
            if desk.undo(&Watcher::default()).is_ok() {
                assert_eq!(desk.new.live(), there(), "{step}, taken back");
            }
            if let_go {
                desk.let_go();
            }
            let again = run(&desk, &options, &mut witness);
            let report = again.unwrap_or_else(|trouble| panic!("{step}, {let_go}: {trouble}"));
            assert_eq!(desk.new.live(), moved(), "{step}, {let_go}, {}", killed.is_none());
            assert!(report.scanned.is_some(), "{step}");
            desk.undo(&Watcher::default()).unwrap();
            assert_eq!(desk.new.live(), there(), "{step}, {let_go}, taken back once more");
        }
    }
}

/// The user stops the program as soon as a stage of this name begins.
struct Stopping(&'static str, AtomicBool);

impl Failpoints for Stopping {}

impl Progress for Stopping {
    fn stage(&self, name: &str, _: Option<u64>, _: Unit) {
        self.1.fetch_or(name == self.0, Ordering::Relaxed);
    }
    fn advance(&self, _: u64) {}
    fn done(&self, _: &str) {}
    fn note(&self, _: &str) {}
    fn stopping(&self) -> bool {
        self.1.load(Ordering::Relaxed)
    }
}

#[test]
fn a_move_that_is_stopped_says_whether_the_new_state_is_in_place() {
    let scan = || Scan { pages: 10, time: Duration::from_secs(60), ..Scan::own_pages(None) };
    for (stage, says, live) in [
        ("pages", "the new state is in place", moved()),
        ("database", "nothing was changed", there()),
    ] {
        let desk = Desk::new();
        let options = Move { scan: Some(scan()), ..options(&desk) };
        let stopping = Stopping(stage, AtomicBool::new(false));
        let stopped = options.run(desk.around(&stopping), &mut Agrees::default());
        let trouble = stopped.err().unwrap();
        assert!(
            trouble.changed.as_deref().unwrap().contains(says),
            "{stage}: {:?}",
            trouble.changed
        );
        assert_eq!(desk.new.live(), live, "{stage}");
    }
}
