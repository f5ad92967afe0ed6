//! One fault at every call, one after the other.

use super::{Desk, Undone, Unpack, moved, there};
use crate::archive::ArchiveReader;
use crate::incoming::Incoming;
use crate::run::Preview;
use fernweh_ports::{Halves, TroubleKind};
use fernweh_testkit::{Fault, SiteState, Watcher, killed_or, rows};

const QUIET: fn() -> Watcher = Watcher::default;

/// How many calls `work` makes of the new site's connectors.
fn calls(work: impl FnOnce(&Desk)) -> usize {
    let desk = Desk::new();
    work(&desk);
    desk.new.faults().calls().len()
}

/// A desk on which the old site is packed, and where so many calls away something happens.
fn faulty(in_calls: usize, fault: Fault) -> (Desk, std::path::PathBuf) {
    let desk = Desk::new();
    let archive = desk.packed("a.tar");
    desk.new.faults().set(in_calls, fault);
    (desk, archive)
}

fn calls_of_unpack() -> usize {
    calls(|desk| drop(desk.unpack(&desk.packed("a.tar"), &QUIET()).unwrap()))
}

#[test]
fn an_unpacking_that_is_killed_at_any_call_is_completed_by_the_same_command() {
    for at in 0..calls_of_unpack() {
        let (desk, archive) = faulty(at, Fault::Killed);
        killed_or(|| desk.unpack(&archive, &QUIET()));
        let in_place = desk.new.live() == moved();
        desk.unpack(&archive, &QUIET()).unwrap();
        assert_eq!(desk.new.live(), moved(), "killed at call {at}");
        desk.undo(&QUIET()).unwrap();
        // Behind its end the same command is another run, over what the first has put in place.
        if !in_place {
            assert_eq!(desk.new.live(), there(), "killed at call {at}, taken back");
        }
        desk.let_go();
        assert_eq!(desk.new.aside(), Vec::<String>::new(), "killed at call {at}");
    }
}

#[test]
fn an_unpacking_that_is_killed_in_its_switch_can_be_taken_back() {
    let mut switched = 0;
    for at in 0..calls_of_unpack() {
        let (desk, archive) = faulty(at, Fault::Killed);
        killed_or(|| desk.unpack(&archive, &QUIET()));
        let half = desk.new.live() != there();
        if desk.undo(&QUIET()).is_ok() {
            switched += 1;
            assert_eq!(desk.new.live(), there(), "killed at call {at}, taken back");
        } else {
            assert!(!half, "killed at call {at}: nothing to take back, and something changed");
        }
    }
    assert!(switched > 1, "some calls are in the switch");
}

#[test]
fn what_is_refused_before_the_switch_changes_nothing_and_leaves_nothing() {
    for fault in [|| Fault::Full, || Fault::Refused] {
        for at in 0..calls_of_unpack() {
            let (desk, archive) = faulty(at, fault());
            let Err(trouble) = desk.unpack(&archive, &QUIET()) else {
                assert_eq!(desk.new.live(), moved(), "call {at}: no error, so it is done");
                continue;
            };
            let what = desk.new.faults().calls()[at];
            if trouble.kind == TroubleKind::Interrupted {
                // In the middle of the switch: it says so, and both ways are open.
                desk.unpack(&archive, &QUIET()).unwrap();
                assert_eq!(desk.new.live(), moved(), "{what}");
                continue;
            }
            assert_eq!(desk.new.live(), there(), "{what}");
            // What could not be discarded then is discarded by the next run.
            if what != "discard the tables" && what != "discard the tree" {
                assert_eq!(desk.new.aside(), Vec::<String>::new(), "{what}");
            }
            desk.unpack(&archive, &QUIET()).unwrap();
            assert_eq!(desk.new.live(), moved(), "{what}");
        }
    }
}

#[test]
fn a_connection_that_is_lost_at_any_call_loses_nothing() {
    for at in 0..calls_of_unpack() {
        let (desk, archive) = faulty(at, Fault::Lost);
        if let Err(trouble) = desk.unpack(&archive, &QUIET()) {
            let half = trouble.kind == TroubleKind::Interrupted && trouble.changed.is_some();
            assert!(half || desk.new.live() == there(), "call {at}");
            desk.unpack(&archive, &QUIET()).unwrap();
        }
        assert_eq!(desk.new.live(), moved(), "call {at}");
        desk.undo(&QUIET()).unwrap();
        assert_eq!(desk.new.live(), there(), "call {at}");
    }
}

#[test]
fn an_undo_that_is_killed_at_any_call_is_completed_by_the_next() {
    let unpacking = calls_of_unpack();
    let all = calls(|desk| {
        desk.unpack(&desk.packed("a.tar"), &QUIET()).unwrap();
        desk.undo(&QUIET()).unwrap();
    });
    for at in 0..all - unpacking {
        let desk = Desk::new();
        desk.unpack(&desk.packed("a.tar"), &QUIET()).unwrap();
        desk.new.faults().set(at, Fault::Killed);
        assert!(killed_or(|| desk.undo(&QUIET())).is_none(), "call {at}");
        desk.undo(&QUIET()).unwrap();
        let live = desk.new.live();
        // Before the journal knew of it nothing had begun: the next is the first. Behind its end
        // the next one is the second.
        assert!(live == there() || live == moved(), "call {at}: neither state stands");
    }
}

/// How many places an undo has left alone.
fn refused(undone: &Undone) -> usize {
    match undone {
        Undone::Turned(reports) => {
            reports[0].taken_back.as_ref().map_or(0, |taken| taken.refused.len())
        }
        _ => 0,
    }
}

/// A site with addresses that can be rewritten.
fn unrewritten() -> (Desk, SiteState) {
    let desk = Desk::new();
    desk.new.write(|state| *state = moved());
    let before = desk.new.live();
    (desk, before)
}

#[test]
fn a_rewriting_that_is_killed_at_any_call_goes_on_or_is_taken_back() {
    let after = {
        let (desk, _) = unrewritten();
        desk.rewrite(&QUIET()).unwrap();
        desk.new.live()
    };
    let nights = rows([(1, "s:20:\"https://dome.example\";"), (2, "")]);
    assert_eq!(after.tables["nights"], nights);
    let all = {
        let (desk, _) = unrewritten();
        desk.rewrite(&QUIET()).unwrap();
        desk.new.faults().calls().len()
    };
    for at in 0..all {
        for goes_on in [true, false] {
            let (desk, before) = unrewritten();
            desk.new.faults().set(at, Fault::Killed);
            assert!(killed_or(|| desk.rewrite(&QUIET())).is_none(), "call {at}");
            if goes_on {
                desk.rewrite(&QUIET()).unwrap();
                assert_eq!(desk.new.live(), after, "call {at}");
                let undone = desk.undo(&QUIET()).unwrap();
                assert_eq!(desk.new.live(), before, "call {at}, gone on with, then taken back");
                assert_eq!(refused(&undone), 0, "call {at}");
                let redone = desk.undo(&QUIET()).unwrap();
                assert_eq!(desk.new.live(), after, "call {at}, and forward again");
                assert_eq!(refused(&redone), 0, "call {at}");
            } else {
                // At the first call nothing is begun yet.
                assert_eq!(desk.undo(&QUIET()).is_ok(), at > 0, "call {at}");
                assert_eq!(desk.new.live(), before, "call {at}, taken back");
            }
        }
    }
}

#[test]
fn a_preview_that_is_killed_does_not_hide_a_rewriting_that_was_broken_off() {
    let (desk, before) = unrewritten();
    let archive = desk.packed("a.tar");
    let half = desk.new.faults().calls().len() + 6;
    desk.new.faults().set(half, Fault::Killed);
    killed_or(|| desk.rewrite(&QUIET()));
    let unpack = Unpack {
        preview: Some(Preview::Tried),
        input: archive.display().to_string(),
        halves: Halves::BOTH,
        overwrite: true,
        ..Unpack::default()
    };
    let incoming = Incoming::own(ArchiveReader::open(&archive).unwrap());
    let killing = Watcher::killing_at("started");
    assert!(killed_or(|| unpack.run(&desk.new, &incoming, desk.around(&killing))).is_none());
    desk.rewrite(&QUIET()).unwrap();
    let rewritings = desk.records.runs_of("new").unwrap();
    assert_eq!(rewritings.iter().filter(|run| run.is_edit()).count(), 1);
    desk.undo(&QUIET()).unwrap();
    assert_eq!(desk.new.live(), before);
}

#[test]
fn a_rewriting_that_reaches_nothing_leaves_nothing_to_take_back() {
    let (desk, before) = unrewritten();
    desk.new.faults().set(0, Fault::Refused);
    let trouble = desk.rewrite(&QUIET()).unwrap_err();
    assert_eq!(trouble.kind, TroubleKind::Outside);
    assert_eq!(desk.new.live(), before);
    assert!(desk.undo(&QUIET()).is_err(), "nothing was begun");
}

#[test]
fn an_undo_of_a_rewriting_that_fails_halfway_says_so() {
    let (desk, before) = unrewritten();
    desk.rewrite(&QUIET()).unwrap();
    let after = desk.new.live();
    // The cells are taken back, and then a file cannot be read.
    let done = desk.new.faults().calls().len();
    desk.undo(&QUIET()).unwrap();
    let calls = desk.new.faults().calls();
    let file = calls[done..].iter().position(|call| *call == "open a file").unwrap();
    desk.undo(&QUIET()).unwrap();
    assert_eq!(desk.new.live(), after);
    desk.new.faults().set(file, Fault::Refused);
    let trouble = desk.undo(&QUIET()).unwrap_err();
    assert_eq!(trouble.kind, TroubleKind::Interrupted, "something has changed");
    assert!(trouble.changed.as_deref().unwrap().contains("type fernweh undo new again"));
    desk.undo(&QUIET()).unwrap();
    assert_eq!(desk.new.live(), before);
}

/// What stands once the old state was removed and the new one came: tables that the archive does
/// not hold stay, files go.
fn calls_in_place() -> usize {
    calls(|desk| drop(desk.unpack_in_place(&desk.packed("a.tar"), &QUIET()).unwrap()))
}

#[test]
fn an_unpacking_in_place_that_is_killed_at_any_call_goes_on() {
    for at in 0..calls_in_place() {
        let (desk, archive) = faulty(at, Fault::Killed);
        killed_or(|| desk.unpack_in_place(&archive, &QUIET()));
        let in_place = desk.new.live() == moved();
        desk.unpack_in_place(&archive, &QUIET())
            .unwrap_or_else(|trouble| panic!("killed at call {at}: {trouble}"));
        assert_eq!(desk.new.live(), moved(), "killed at call {at}");
        desk.undo(&QUIET()).unwrap();
        if !in_place {
            assert_eq!(desk.new.live(), there(), "killed at call {at}, taken back");
        }
    }
}

#[test]
fn an_unpacking_in_place_that_is_killed_at_any_call_can_be_taken_back() {
    for at in 0..calls_in_place() {
        let (desk, archive) = faulty(at, Fault::Killed);
        killed_or(|| desk.unpack_in_place(&archive, &QUIET()));
        let changed = desk.new.live() != there();
        match desk.undo(&QUIET()) {
            Ok(_) => assert_eq!(desk.new.live(), there(), "killed at call {at}, taken back"),
            Err(trouble) => assert!(!changed, "killed at call {at}: {trouble}"),
        }
    }
}

#[test]
fn an_unpacking_in_place_that_is_refused_anything_loses_nothing() {
    for at in 0..calls_in_place() {
        let (desk, archive) = faulty(at, Fault::Refused);
        let Err(trouble) = desk.unpack_in_place(&archive, &QUIET()) else { continue };
        let what = desk.new.faults().calls()[at];
        if trouble.kind != TroubleKind::Interrupted {
            assert_eq!(desk.new.live(), there(), "{what}: it says that nothing has changed");
        }
        desk.unpack_in_place(&archive, &QUIET())
            .unwrap_or_else(|trouble| panic!("{what}: {trouble}"));
        assert_eq!(desk.new.live(), moved(), "{what}");
        desk.undo(&QUIET()).unwrap();
        assert_eq!(desk.new.live(), there(), "{what}, taken back");
    }
}

#[test]
fn an_undo_in_place_that_fails_at_any_call_leads_to_one_state_and_the_other() {
    let all = calls(|desk| {
        desk.unpack_in_place(&desk.packed("a.tar"), &QUIET()).unwrap();
        desk.undo(&QUIET()).unwrap();
    }) - calls_in_place();
    for (name, fault) in FAULTS {
        for at in 0..all {
            let desk = Desk::new();
            desk.unpack_in_place(&desk.packed("a.tar"), &QUIET()).unwrap();
            desk.new.faults().set(at, fault());
            let mut states = Vec::new();
            if killed_or(|| desk.undo(&QUIET())).is_some_and(|undone| undone.is_ok()) {
                states.push(desk.new.live());
            }
            while states.len() < 2 {
                desk.undo(&QUIET()).unwrap();
                states.push(desk.new.live());
            }
            let both = states.contains(&moved()) && states.contains(&there());
            assert!(both, "{name} at call {at}: {states:?}");
        }
    }
}

/// What makes a fault.
type Make = fn() -> Fault;

/// What can happen, by name.
const FAULTS: [(&str, Make); 3] =
    [("killed", || Fault::Killed), ("refused", || Fault::Refused), ("lost", || Fault::Lost)];

#[test]
fn another_unpacking_that_was_broken_off_is_completed_and_the_new_one_is_not_taken_for_it() {
    let desk = Desk::new();
    let archive = desk.packed("a.tar");
    let killing = Watcher::killing_at("database-switched");
    assert!(killed_or(|| desk.unpack(&archive, &killing)).is_none());
    desk.old.write(|state| drop(state.files.0.remove(&b"index.html"[..])));
    let other = desk.packed("b.tar");
    let trouble = desk.unpack(&other, &QUIET()).unwrap_err();
    assert_eq!(trouble.kind, TroubleKind::Interrupted);
    assert!(trouble.changed.as_deref().unwrap().contains("a.tar) is in place now"), "{trouble}");
    assert_eq!(desk.new.live(), moved(), "the one that was broken off");
    desk.unpack(&other, &QUIET()).unwrap();
    assert!(desk.new.live().files.content("index.html").is_none(), "and now the new one");
    desk.undo(&QUIET()).unwrap();
    assert_eq!(desk.new.live(), moved());
}
