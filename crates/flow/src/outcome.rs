//! What the last scan, comparison and preview of a site came to, for checks that ask later.

use crate::journal::Records;
use fernweh_ports::Result;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// How one of them ended.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Outcome {
    /// When it was noted (RFC 3339, UTC).
    pub at: String,
    /// The number of the last run before it: moments are whole seconds, which do not order them.
    #[serde(default)]
    pub after: u64,
    /// Whether there was nothing to look at.
    pub fine: bool,
    /// What was found, in words.
    pub words: String,
    /// Of a scan, some of the pages that were read, as paths on their host.
    #[serde(default)]
    pub pages: Vec<String>,
    /// Of a scan, how many insecure parts of pages were found.
    #[serde(default)]
    pub insecure: u64,
}

/// What ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Of<'a> {
    /// A scan.
    Scan,
    /// The preview of a rewriting.
    Rewriting,
    /// A comparison with this site.
    Comparison(&'a str),
}

impl Of<'_> {
    fn key(self) -> String {
        match self {
            Of::Scan => "scan".into(),
            Of::Rewriting => "rewrite".into(),
            Of::Comparison(from) => format!("compare {from}"),
        }
    }
}

fn all(records: &Records, site: &str) -> BTreeMap<String, Outcome> {
    let kept = records.kept_of(OUTCOMES, site);
    kept.and_then(|kept| serde_json::from_slice(&kept).ok()).unwrap_or_default()
}

const OUTCOMES: &str = "outcomes";

/// Notes how one ended, in place of the last one of its kind.
///
/// # Errors
///
/// Where it cannot be written.
pub fn note_outcome(records: &Records, site: &str, of: Of<'_>, mut outcome: Outcome) -> Result<()> {
    let mut known = all(records, site);
    outcome.at = crate::now();
    outcome.after = records.runs()?.last().map_or(0, |run| run.header.number);
    known.insert(of.key(), outcome);
    records.keep_of(OUTCOMES, site, &serde_json::to_vec_pretty(&known).unwrap_or_default())
}

/// How the last one of a kind ended.
pub fn outcome(records: &Records, site: &str, of: Of<'_>) -> Option<Outcome> {
    all(records, site).remove(&of.key())
}
