//! `fernweh ready`: a table of situations, each with exactly the verdicts that belong to it, and
//! what happens around it.

mod around;
mod situations;
mod world;

use serde_json::Value;
use situations::situations;
use std::sync::Mutex;
use world::{Situation, World, not_passed};

#[test]
fn every_situation_gets_exactly_the_verdicts_that_belong_to_it() {
    let all = situations();
    let world = World::start(&all);
    let only = std::env::var("SITUATION").ok();
    let wanted = all.iter().filter(|one| only.as_ref().is_none_or(|only| one.name == only));
    let left = Mutex::new(wanted.collect::<Vec<_>>());
    let wrong = Mutex::new(Vec::new());
    // What waits for a silent server holds nobody else up.
    std::thread::scope(|scope| {
        for _ in 0..6 {
            scope.spawn(|| {
                while let Some(situation) = { left.lock().unwrap().pop() } {
                    let report = world.looked(situation);
                    if only.is_some() {
                        println!("{report:#}");
                    }
                    wrong.lock().unwrap().extend(differs(situation, &report));
                }
            });
        }
    });
    let wrong = wrong.into_inner().unwrap();
    assert!(wrong.is_empty(), "{} of {}:\n{}", wrong.len(), all.len(), wrong.join("\n"));
    assert!(all.len() >= 60, "{}", all.len());
}

fn differs(situation: &Situation, report: &Value) -> Option<String> {
    let found = not_passed(report);
    let mut expected: Vec<String> =
        situation.expected.iter().map(|one| (*one).to_owned()).collect();
    expected.sort();
    let same = found == expected && report["question"] == situation.question;
    (!same).then(|| {
        format!(
            "{}: expected {} {expected:?}, found {} {found:?}",
            situation.name, situation.question, report["question"]
        )
    })
}
