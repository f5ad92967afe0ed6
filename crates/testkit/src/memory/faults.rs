//! What can go wrong at a call of a connector.

use super::SiteState;
use fernweh_ports::{Result, Trouble};
use std::panic::{AssertUnwindSafe, catch_unwind, resume_unwind};
use std::sync::{Mutex, PoisonError};

/// A change by somebody else, in between.
pub type ByOthers = Box<dyn FnOnce(&mut SiteState) + Send>;

/// What happens at a call.
pub enum Fault {
    /// The connection is lost; it may come back.
    Lost,
    /// There is no room.
    Full,
    /// There is no right.
    Refused,
    /// The program is killed before the call does anything.
    Killed,
    /// A visitor writes before the call does anything.
    Written(ByOthers),
}

/// What a kill unwinds with.
pub struct Killed;

/// Does `work`; `None` if it was killed on the way.
pub fn killed_or<T>(work: impl FnOnce() -> T) -> Option<T> {
    match catch_unwind(AssertUnwindSafe(work)) {
        Ok(done) => Some(done),
        Err(reason) if reason.is::<Killed>() => None,
        Err(reason) => resume_unwind(reason),
    }
}

/// Kills the program here, as far as a test can: nothing after this is done.
pub(crate) fn kill() -> ! {
    // No message: nothing has gone wrong.
    resume_unwind(Box::new(Killed))
}

/// The faults that are still to happen, and the calls that were made.
#[derive(Default)]
pub struct Faults {
    inner: Mutex<Inner>,
}

#[derive(Default)]
struct Inner {
    calls: Vec<&'static str>,
    set: Vec<(usize, Fault)>,
}

impl Faults {
    /// Lets something happen at the call that is so many calls away; 0 is the next one.
    pub fn set(&self, in_calls: usize, fault: Fault) {
        let mut inner = self.inner.lock().unwrap_or_else(PoisonError::into_inner);
        let at = inner.calls.len() + in_calls;
        inner.set.push((at, fault));
    }

    /// Forgets what has not happened yet.
    pub fn clear(&self) {
        self.inner.lock().unwrap_or_else(PoisonError::into_inner).set.clear();
    }

    /// The names of the calls that were made.
    pub fn calls(&self) -> Vec<&'static str> {
        self.inner.lock().unwrap_or_else(PoisonError::into_inner).calls.clone()
    }

    /// Counts a call; gives what somebody writes before it.
    pub(super) fn meet(&self, name: &'static str) -> Result<Option<ByOthers>> {
        let mut inner = self.inner.lock().unwrap_or_else(PoisonError::into_inner);
        let at = inner.calls.len();
        inner.calls.push(name);
        let Some(found) = inner.set.iter().position(|(when, _)| *when == at) else {
            return Ok(None);
        };
        let (_, fault) = inner.set.remove(found);
        drop(inner);
        match fault {
            Fault::Lost => Err(Trouble::outside("the connection was lost").at(name).lost(true)),
            Fault::Full => Err(Trouble::outside("there is no room").at(name)),
            Fault::Refused => Err(Trouble::outside("there is no right").at(name)),
            Fault::Killed => kill(),
            Fault::Written(write) => Ok(Some(write)),
        }
    }
}
