//! What a move tells: its stages, its report, and whoever listens to it.

use crate::compare::CompareReport;
use crate::journal::Run;
use crate::preflight::Preflight;
use crate::refresh::Refreshed;
use crate::scan::ScanReport;
use crate::unpack::UnpackReport;
use fernweh_ports::{Result, Trouble};
use serde::Serialize;

/// A stage of a move.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Stage {
    /// The site is packed.
    Packed,
    /// The archive is in place at the destination.
    Unpacked,
    /// The archive was read with all rewriting, and nothing was written.
    Rehearsed,
    /// What concerns the database is done.
    Emptied,
    /// What concerns files, programs and pages is done.
    Refreshed,
    /// The pages were opened.
    Scanned,
    /// Both sites were compared.
    Compared,
}

impl Stage {
    /// Its name in the journal and in reports.
    pub fn name(self) -> &'static str {
        match self {
            Self::Packed => "packed",
            Self::Unpacked => "unpacked",
            Self::Rehearsed => "rehearsed",
            Self::Emptied => "emptied",
            Self::Refreshed => "refreshed",
            Self::Scanned => "scanned",
            Self::Compared => "compared",
        }
    }
}

/// What a move has done.
#[derive(Default, Serialize, schemars::JsonSchema)]
pub struct MoveReport {
    /// The site that was read.
    pub from: String,
    /// The site that was written.
    pub to: String,
    /// Whether nothing was written.
    pub rehearsed: bool,
    /// The run.
    pub run: String,
    /// Whether an earlier run was gone on with.
    pub went_on: bool,
    /// The tests beforehand; none if an earlier run was gone on with.
    pub preflight: Preflight,
    /// The archive, if it is kept.
    pub archive: Option<String>,
    /// Its size in bytes.
    pub archive_bytes: u64,
    /// The stages that are complete, and how long each took, in seconds.
    pub stages: Vec<(String, f64)>,
    /// What was unpacked.
    pub unpacked: UnpackReport,
    /// What was done afterwards.
    pub refreshed: Vec<Refreshed>,
    /// Whether unpacking began while the site was still being packed.
    pub at_once: bool,
    /// Whether a failed step has brought the old state back.
    #[serde(skip)]
    pub taken_back: bool,
    /// What the scan found.
    pub scanned: Option<ScanReport>,
    /// Why it was not scanned.
    pub not_scanned: Option<String>,
    /// What differs between both sites.
    pub compared: Option<CompareReport>,
    /// Why they were not compared.
    pub not_compared: Option<String>,
}

/// Whoever looks on at a move: agrees to its plan, and passes word of it on.
pub trait Witness {
    /// The move goes on with this earlier run.
    fn goes_on(&mut self, run: &Run);
    /// The tests are done; an error keeps the move from beginning.
    fn agree(&mut self, preflight: &Preflight) -> Result<()>;
    /// It has begun.
    fn begun(&mut self, report: &MoveReport);
    /// It has failed.
    fn failed(&mut self, trouble: &Trouble);
}
