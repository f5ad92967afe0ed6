//! Progress and the wish to stop: how a long operation and its surroundings talk.

use crate::{Result, Trouble};

/// What a stage counts.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Unit {
    /// Bytes.
    Bytes,
    /// Records.
    Records,
    /// Files, folders and links.
    Entries,
    /// Pages.
    Pages,
    /// Keys of tables.
    Keys,
    /// Checks.
    Checks,
    /// Servers.
    Servers,
}

/// Where tests stop the program.
pub trait Failpoints {
    /// A named step of a journal has been reached.
    fn reached(&self, step: &str) {
        let _ = step;
    }
}

/// What an operation reports to, and asks whether it should stop.
pub trait Progress: Failpoints + Sync {
    /// A new stage begins; the total is an estimate if it is known.
    fn stage(&self, name: &str, total: Option<u64>, unit: Unit);
    /// The stage got on by so much.
    fn advance(&self, by: u64);
    /// The stage is over; the line stays.
    fn done(&self, summary: &str);
    /// A line for the user that does not belong to the result.
    fn note(&self, line: &str);
    /// Whether the user wants to stop.
    fn stopping(&self) -> bool;

    /// An error if the user wants to stop.
    fn go_on(&self) -> Result<()> {
        if self.stopping() {
            return Err(Trouble::interrupted("interrupted").because(
                "stopped with Ctrl-C or a \
                             signal",
            ));
        }
        Ok(())
    }
}

/// Progress that nobody sees, and that never stops.
pub struct Silent;

impl Failpoints for Silent {}

impl Progress for Silent {
    fn stage(&self, _: &str, _: Option<u64>, _: Unit) {}
    fn advance(&self, _: u64) {}
    fn done(&self, _: &str) {}
    fn note(&self, _: &str) {}
    fn stopping(&self) -> bool {
        false
    }
}
