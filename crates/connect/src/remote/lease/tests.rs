//! A program that is killed at any step of taking a place or giving it back.

use super::*;
use crate::remote::patient::tests::{Host, Things, When};
use std::sync::Mutex;

const SHOP: &[u8] = b"/shop";

/// A host, whose program dies after so many steps.
fn host(things: &Arc<Mutex<Things>>, steps: Option<usize>) -> Arc<dyn Tree> {
    let lost = Arc::new(Mutex::new(steps.map(|steps| (steps, When::Forever))));
    Arc::new(Host { things: things.clone(), lost })
}

fn take(tree: &Arc<dyn Tree>, run: &str) -> Result<Lease> {
    runtime().block_on(Lease::take(tree, SHOP, run))
}

#[test]
fn one_that_is_killed_while_it_takes_a_place_keeps_its_own_run_away_at_no_step() {
    let mut killed = 0;
    for steps in 0.. {
        let things: Arc<Mutex<Things>> =
            Arc::new(Mutex::new(Things::from([(SHOP.to_vec(), None)])));
        match take(&host(&things, Some(steps)), "run") {
            // What it does when it is dropped is no step of a program that was killed.
            Ok(lease) if steps > 40 => {
                drop(lease);
                break;
            }
            Ok(_) => {}
            Err(_) => killed += 1,
        }
        let alive = host(&things, None);
        let lease = take(&alive, "run").unwrap_or_else(|told| panic!("step {steps}: {told}"));
        assert!(take(&alive, "another").is_err(), "step {steps}");
        drop(lease);
        // Nothing of it is left, and the place itself is closed.
        assert!(things.lock().unwrap().is_empty(), "step {steps}: {:?}", things.lock().unwrap());
    }
    assert!(killed >= 4, "{killed}");
}

#[test]
fn a_place_that_is_taken_has_a_token_at_every_step_of_giving_it_back() {
    for steps in 0..12 {
        let things: Arc<Mutex<Things>> =
            Arc::new(Mutex::new(Things::from([(SHOP.to_vec(), None)])));
        let lost = Arc::new(Mutex::new(None));
        let dying: Arc<dyn Tree> = Arc::new(Host { things: things.clone(), lost: lost.clone() });
        let lease = take(&dying, "run").unwrap();
        *lost.lock().unwrap() = Some((steps, When::Forever));
        drop(lease);
        let left = things.lock().unwrap().clone();
        let (folder, token) = (folder_in(SHOP), token_in(SHOP));
        assert_eq!(left.contains_key(&folder), left.contains_key(&token), "step {steps}: {left:?}");
        // Its own run goes on; another one too, once the name is free.
        things.lock().unwrap().entry(SHOP.to_vec()).or_insert(None);
        let alive = host(&things, None);
        let next = if left.contains_key(&folder) { "run" } else { "another" };
        drop(take(&alive, next).unwrap_or_else(|told| panic!("step {steps}: {told}")));
        assert!(things.lock().unwrap().is_empty(), "step {steps}");
    }
}
