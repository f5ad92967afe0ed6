//! Commands and faults in any order, against a model of what the site must be.
//!
//! The model knows states and the last change, nothing of journals, switches or places. What it
//! says is what the guide promises.

use super::{Desk, NEW, OLD, THIRD};
use crate::run::Undo;
use crate::undo::Stack;
use fernweh_core::record::Value;
use fernweh_ports::{Trouble, TroubleKind};
use fernweh_testkit::{Fault, Files, SiteState, Watcher, killed_or, rows};
use proptest::prelude::*;
use proptest::test_runner::RngSeed;
use std::collections::BTreeSet;
use std::path::PathBuf;
use std::sync::OnceLock;

/// What somebody types, or what visitors do.
#[derive(Clone, Debug)]
enum Act {
    /// Unpacks one of the archives over what is there.
    Unpack(usize),
    /// The same, where both states do not fit side by side.
    InPlace(usize),
    /// Rewrites the site's own address into a third one.
    Rewrite,
    Undo,
    /// To the state that one of the kept changes has left, by its place among them.
    UndoTo(usize),
    LetGo,
    /// What is kept of the oldest change.
    LetGoOldest,
    /// A visitor writes into a table that every state has.
    Visit,
}

#[derive(Clone, Copy, Debug)]
enum Mishap {
    None,
    Refused,
    Lost,
    Killed,
}

fn act() -> impl Strategy<Value = Act> {
    prop_oneof![
        3 => (0..2_usize).prop_map(Act::Unpack),
        2 => (0..2_usize).prop_map(Act::InPlace),
        2 => Just(Act::Rewrite),
        4 => Just(Act::Undo),
        1 => (0..4_usize).prop_map(Act::UndoTo),
        1 => Just(Act::LetGo),
        1 => Just(Act::LetGoOldest),
        2 => Just(Act::Visit),
    ]
}

fn mishap() -> impl Strategy<Value = (Mishap, usize)> {
    let kinds = prop_oneof![4 => Just(Mishap::None), 1 => Just(Mishap::Refused), 1 => Just(Mishap::Lost),
                    2 => Just(Mishap::Killed)];
    (kinds, 0..30_usize)
}

/// The states that archives hold, as they are once they are unpacked.
fn states() -> [(SiteState, SiteState); 2] {
    let state = |number: i64, url: &str| SiteState {
        tables: [("articles".to_owned(), rows([(number, url), (number + 1, "no address")]))].into(),
        files: Files::of([("index.html", url), ("number", &number.to_string())]),
    };
    [(state(10, OLD), state(10, NEW)), (state(20, OLD), state(20, NEW))]
}

/// What the site must be, and what taking back leads to.
#[derive(Clone)]
struct Model {
    live: SiteState,
    /// The changes that stand, the oldest first.
    standing: Vec<Change>,
    /// Those that were taken back, in the order in which they come again.
    undone: Vec<Change>,
}

/// A change, and what is on its other side.
#[derive(Clone)]
enum Change {
    /// Unpacking: both states are kept whole.
    Whole(SiteState),
    /// The same, where the old state is kept as an archive: taking it back is a change anew.
    InPlace(SiteState),
    /// Rewriting: these places held the old address, and they alone change again.
    Places(BTreeSet<Place>),
}

/// A cell, by its table and number, or a file.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
enum Place {
    Cell(String, String),
    File(Vec<u8>),
}

/// Where an address stands.
fn places_of(state: &SiteState, address: &str) -> BTreeSet<Place> {
    let cells = state.tables.iter().flat_map(|(table, rows)| {
        let rows = rows.iter().filter(|row| row[1] == Value::Text(address.into()));
        rows.map(|row| Place::Cell(table.clone(), row[0].shown()))
    });
    let files = state.files.0.iter().filter(|(_, content)| **content == address.as_bytes());
    cells.chain(files.map(|(path, _)| Place::File(path.clone()))).collect()
}

/// These places with one address instead of the other, where that stands there still.
fn readdressed(state: &SiteState, places: &BTreeSet<Place>, from: &str, to: &str) -> SiteState {
    let mut state = state.clone();
    for (table, rows) in &mut state.tables {
        for row in rows {
            let place = Place::Cell(table.clone(), row[0].shown());
            if row[1] == Value::Text(from.into()) && places.contains(&place) {
                row[1] = Value::Text(to.into());
            }
        }
    }
    for (path, content) in &mut state.files.0 {
        if content == from.as_bytes() && places.contains(&Place::File(path.clone())) {
            *content = to.into();
        }
    }
    state
}

impl Model {
    /// The site once the act is done to its end.
    fn after(&self, act: &Act, visits: i64) -> Self {
        let mut model = self.clone();
        match act {
            Act::Unpack(number) | Act::InPlace(number) => {
                let before = std::mem::replace(&mut model.live, states()[*number].1.clone());
                model.undone.clear();
                model.standing.push(match act {
                    Act::Unpack(_) => Change::Whole(before),
                    _ => Change::InPlace(before),
                });
            }
            Act::Rewrite => {
                let places = places_of(&self.live, NEW);
                // What has changed nothing is no change.
                if !places.is_empty() {
                    model.live = readdressed(&self.live, &places, NEW, THIRD);
                    model.undone.clear();
                    model.standing.push(Change::Places(places));
                }
            }
            Act::Undo if model.standing.is_empty() => model.redo(),
            Act::Undo => model.undo(),
            Act::UndoTo(place) => match self.way_to(*place) {
                Some(Way::Back(steps)) => (0..steps).for_each(|_| model.undo()),
                Some(Way::Forward(steps)) => (0..steps).for_each(|_| model.redo()),
                None => {}
            },
            Act::LetGo => {
                model.standing.clear();
                model.undone.clear();
            }
            // Where nothing stands, the farthest goes: those before it can still come again.
            Act::LetGoOldest if model.standing.is_empty() => drop(model.undone.pop()),
            Act::LetGoOldest => drop(model.standing.remove(0)),
            Act::Visit => {
                let row = vec![Value::Integer(1000 + visits), Value::Text("visitor".into())];
                model.live.tables.entry("articles".into()).or_default().push(row);
            }
        }
        model
    }

    /// Whether the act has nothing to do, or cannot be done.
    fn is_refused(&self, act: &Act) -> bool {
        match act {
            Act::Undo => self.standing.is_empty() && self.undone.is_empty(),
            Act::UndoTo(place) => self.way_to(*place).is_none(),
            _ => false,
        }
    }

    /// How the site comes to stand as the kept change at this place has left it.
    fn way_to(&self, place: usize) -> Option<Way> {
        let all: Vec<&Change> = self.standing.iter().chain(&self.undone).collect();
        let stands = self.standing.len();
        if place + 1 == stands || place >= all.len() {
            return None;
        }
        let (steps, way) = match place < stands {
            true => (&all[place + 1..stands], Way::Back(stands - place - 1)),
            false => (&all[stands..=place], Way::Forward(place + 1 - stands)),
        };
        let archived = steps.iter().any(|change| matches!(change, Change::InPlace(_)));
        (!archived).then_some(way)
    }

    fn undo(&mut self) {
        match self.standing.pop() {
            Some(Change::Whole(state)) => {
                let newer = std::mem::replace(&mut self.live, state);
                self.undone.insert(0, Change::Whole(newer));
            }
            Some(Change::InPlace(state)) => {
                let newer = std::mem::replace(&mut self.live, state);
                self.undone.clear();
                self.standing.push(Change::InPlace(newer));
            }
            Some(Change::Places(places)) => {
                self.live = readdressed(&self.live, &places, THIRD, NEW);
                self.undone.insert(0, Change::Places(places));
            }
            None => {}
        }
    }

    fn redo(&mut self) {
        if self.undone.is_empty() {
            return;
        }
        match self.undone.remove(0) {
            Change::Whole(state) | Change::InPlace(state) => {
                let older = std::mem::replace(&mut self.live, state);
                self.standing.push(Change::Whole(older));
            }
            Change::Places(places) => {
                self.live = readdressed(&self.live, &places, NEW, THIRD);
                self.standing.push(Change::Places(places));
            }
        }
    }
}

/// Steps on the stack.
enum Way {
    Back(usize),
    Forward(usize),
}

/// What came of it.
enum Ended {
    Done,
    Failed(Trouble),
    Killed,
}

/// Does it; `run` is the one up to which to go.
fn take(desk: &Desk, act: &Act, run: &Option<String>, archives: &[PathBuf], visits: i64) -> Ended {
    let quiet = Watcher::default();
    let ended = killed_or(|| match act {
        Act::Unpack(number) => desk.unpack(&archives[*number], &quiet).map(drop),
        Act::InPlace(number) => desk.unpack_in_place(&archives[*number], &quiet).map(drop),
        Act::Rewrite => desk.rewrite(&quiet),
        Act::Undo => desk.undo(&quiet).map(drop),
        Act::UndoTo(_) => {
            let run = run.clone().unwrap_or_default();
            Undo::ToRun(run).run(&desk.new, desk.around(&quiet)).map(drop)
        }
        Act::LetGo => {
            desk.let_go();
            Ok(())
        }
        Act::LetGoOldest => {
            let oldest = Undo::LetGo { oldest: true };
            oldest.run(&desk.new, desk.around(&quiet)).map(drop)
        }
        Act::Visit => {
            desk.new.write(|state| {
                let row = vec![Value::Integer(1000 + visits), Value::Text("visitor".into())];
                state.tables.entry("articles".into()).or_default().push(row);
            });
            Ok(())
        }
    });
    match ended {
        Some(Ok(())) => Ended::Done,
        Some(Err(trouble)) => Ended::Failed(trouble),
        None => Ended::Killed,
    }
}

fn stack(desk: &Desk) -> Stack {
    Stack::of(&desk.records, "new").unwrap()
}

/// How many changes stand, and how many were taken back, if none is broken off.
fn shape(desk: &Desk) -> Option<(usize, usize)> {
    let stack = stack(desk);
    let whole = stack.standing.last().is_none_or(|run| run.is_kept());
    whole.then_some((stack.standing.len(), stack.undone.len()))
}

/// The archives, packed once for all orders.
fn archives() -> &'static [PathBuf] {
    static PACKED: OnceLock<(Desk, Vec<PathBuf>)> = OnceLock::new();
    let (_, archives) = PACKED.get_or_init(|| {
        let desk = Desk::new();
        let packed = states().into_iter().enumerate().map(|(number, (packed, _))| {
            desk.old.write(|state| *state = packed);
            desk.packed(&format!("{number}.tar"))
        });
        let archives = packed.collect();
        (desk, archives)
    });
    archives
}

fn check(acts: &[(Act, (Mishap, usize))]) -> std::result::Result<(), TestCaseError> {
    let desk = Desk::new();
    let archives = archives();
    // A table that visitors make where a run has noted that there is none is another story.
    let there = SiteState {
        tables: [("articles".to_owned(), Vec::new())].into(),
        files: Files::of([("index.html", "under construction")]),
    };
    desk.new.write(|state| state.clone_from(&there));
    let mut model = Model { live: there, standing: Vec::new(), undone: Vec::new() };
    for (visits, (act, (mishap, at))) in acts.iter().enumerate() {
        let visits = visits as i64;
        let refused = model.is_refused(act);
        let faults = desk.new.faults();
        match mishap {
            _ if matches!(act, Act::Visit | Act::LetGo | Act::LetGoOldest) => {}
            Mishap::None => {}
            Mishap::Refused => faults.set(*at, Fault::Refused),
            Mishap::Lost => faults.set(*at, Fault::Lost),
            Mishap::Killed => faults.set(*at, Fault::Killed),
        }
        let run = match act {
            Act::UndoTo(place) => {
                let stack = stack(&desk);
                let mut all = stack.standing.iter().chain(&stack.undone);
                all.nth(*place).map(|run| run.header.run.clone())
            }
            _ => None,
        };
        let after = model.after(act, visits);
        let ended = take(&desk, act, &run, archives, visits);
        faults.clear();
        match ended {
            Ended::Done => {
                prop_assert!(!refused, "there was nothing to do");
                model = after;
            }
            Ended::Failed(_) if refused => {}
            Ended::Failed(trouble) if trouble.kind != TroubleKind::Interrupted => {
                // With exit codes 2, 3 and 4 nothing has changed.
                prop_assert_eq!(&desk.new.live(), &model.live, "{:?}: {}", act, trouble);
            }
            Ended::Failed(_) | Ended::Killed => {
                let complete = shape(&desk) == Some((after.standing.len(), after.undone.len()));
                if !complete {
                    let again = take(&desk, act, &run, archives, visits);
                    // Half of an undo of one command is completed by the next; whichever way it
                    // went, it is one of the two states.
                    if let Ended::Failed(trouble) = &again {
                        prop_assert!(false, "{act:?} again: {trouble}");
                    }
                }
                let (now, live) = (shape(&desk), desk.new.live());
                let is = |one: &Model| {
                    live == one.live && now == Some((one.standing.len(), one.undone.len()))
                };
                if matches!(act, Act::Undo) && !is(&after) {
                    // Taking back where the old state was an archive is a change anew: broken off
                    // and taken back itself, it has ended what was taken back before.
                    if !is(&model) {
                        model.undone.clear();
                    }
                    prop_assert!(is(&model), "{:?} twice: {:?} {:?}", act, live, now);
                    continue;
                }
                model = after;
            }
        }
        prop_assert_eq!(&desk.new.live(), &model.live, "after {:?} with {:?}", act, mishap);
        let stands = Some((model.standing.len(), model.undone.len()));
        prop_assert_eq!(shape(&desk), stands, "after {:?} with {:?}", act, mishap);
    }
    // Whatever was kept on the way can be given up, and nothing of it remains.
    desk.let_go();
    prop_assert_eq!(&desk.new.live(), &model.live, "after giving up what was kept");
    Ok(())
}

/// The same orders every time, so that a change is judged by what it changes; with
/// `PROPTEST_CASES` other ones, and so many.
fn orders() -> ProptestConfig {
    let usual = ProptestConfig::default();
    match std::env::var_os("PROPTEST_CASES") {
        Some(_) => usual,
        None => {
            let (rng_seed, failure_persistence) = (RngSeed::Fixed(1609), None);
            ProptestConfig { cases: 20_000, rng_seed, failure_persistence, ..usual }
        }
    }
}

proptest! {
    #![proptest_config(orders())]
    #[test]
    fn the_site_is_what_the_model_says_whatever_happens(
        acts in prop::collection::vec((act(), mishap()), 1..7)
    ) {
        check(&acts)?;
    }
}
