//! Progress that kills the program at a step of the journal, and remembers what was said.

use super::faults::kill;
use fernweh_ports::{Failpoints, Progress, Unit};
use std::sync::{Mutex, PoisonError};

/// Progress of a run in a test.
#[derive(Default)]
pub struct Watcher {
    kill_at: Option<String>,
    notes: Mutex<Vec<String>>,
}

impl Watcher {
    /// One that kills the program when this step is reached.
    pub fn killing_at(step: &str) -> Self {
        Self { kill_at: Some(step.into()), notes: Mutex::default() }
    }

    /// What was said.
    pub fn notes(&self) -> Vec<String> {
        self.notes.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }
}

impl Failpoints for Watcher {
    fn reached(&self, step: &str) {
        if self.kill_at.as_deref() == Some(step) {
            kill();
        }
    }
}

impl Progress for Watcher {
    fn stage(&self, _: &str, _: Option<u64>, _: Unit) {}
    fn advance(&self, _: u64) {}
    fn done(&self, _: &str) {}
    fn note(&self, line: &str) {
        self.notes.lock().unwrap_or_else(PoisonError::into_inner).push(line.into());
    }
    fn stopping(&self) -> bool {
        false
    }
}
