//! What only looked, or only packed: a short line each, so that the list of what ran has no gaps.
//! Runs that change a site have journals.

use crate::journal::Records;
use fernweh_ports::Result;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// A packing, a scan, or the preview of a rewriting.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Look {
    /// The command.
    pub command: String,
    /// The site.
    pub site: String,
    /// When it began (RFC 3339, UTC).
    pub started: String,
    /// When it ended (RFC 3339, UTC).
    pub ended: String,
    /// What came of it: an archive, an address.
    pub what: String,
    /// How it ended, in words.
    pub outcome: String,
    /// The number of the last run before it: moments are whole seconds, which do not order them.
    #[serde(default)]
    after: u64,
}

impl Look {
    /// One that begins now.
    pub fn begin(records: &Records, command: &str, site: &str) -> Self {
        let (command, site, started) = (command.into(), site.into(), crate::now());
        let last = records.runs().ok().and_then(|runs| runs.last().map(|run| run.header.number));
        Self { command, site, started, after: last.unwrap_or(0), ..Self::default() }
    }
}

/// Adds a look to the records; the oldest go where there are very many.
pub fn add_look(records: &Records, look: &Look) -> Result<()> {
    records.add_line(&serde_json::to_string(look).unwrap_or_default())
}

/// The looks on record by the number of the run before them, the oldest first; a line that cannot
/// be read is skipped.
pub(crate) fn looks(records: &Records) -> BTreeMap<u64, Vec<Look>> {
    let mut found: BTreeMap<u64, Vec<Look>> = BTreeMap::new();
    let lines = records.lines();
    for look in lines.iter().filter_map(|line| serde_json::from_str::<Look>(line).ok()) {
        found.entry(look.after).or_default().push(look);
    }
    found
}
