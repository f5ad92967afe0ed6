//! The runs: what a command asks for, from the first look to the last note in the journal.
//!
//! A run is given a site, typed options and its surroundings, and gives one report. Locks, the
//! settling of an earlier run, the journal, going on and taking back belong here; how rows and
//! files are read and written belongs to the modules that a run calls. Nothing here knows a
//! connector, a configuration file or a terminal.

mod branch;
mod close;
mod compare;
mod hidden;
mod journey;
mod moving;
mod overlap;
mod pack;
mod placing;
mod redirects;
mod rewrite;
mod rules;
mod scan;
mod survey;
mod trace;
mod undo;
mod unpack;

pub use branch::KeptBounds;
pub use close::Close;
pub use compare::Compare;
pub use journey::{MoveReport, Stage, Witness};
pub use moving::Move;
pub use pack::Pack;
pub use placing::PlacedReport;
pub use redirects::{PlaceRedirects, redirects_of};
pub use rewrite::Rewrite;
pub use rules::{pair, ready, warn_of_shadowed};
pub use scan::{SLOW, Scan};
pub use survey::Survey;
pub use trace::{Known, Trace};
pub use undo::{Undo, Undone, discard_run, kept_runs, take_over};
pub use unpack::{Preview, Unpack};

use crate::journal::Records;
use fernweh_ports::{Progress, Result, SiteAccess};

/// What every run needs beside its site and its options.
#[derive(Clone, Copy)]
pub struct Surroundings<'a> {
    /// The records of runs.
    pub records: &'a Records,
    /// Progress, and the wish to stop.
    pub progress: &'a dyn Progress,
    /// The version of the program, as archives name it.
    pub program: &'a str,
}

impl Surroundings<'_> {
    /// Says what an earlier run has left of a site.
    pub fn warn_of_earlier(&self, site: &dyn SiteAccess) -> Result<()> {
        if let Some(warning) = crate::runs::warning(self.records, site.name())? {
            self.progress.note(&format!("{warning}\n"));
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests;
