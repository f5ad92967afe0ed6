//! What only looked, or only packed: a short line each, so that the list of what ran has no gaps.
//! Runs that change a site have journals.

use crate::journal::Records;
use fernweh_ports::Result;
use serde::{Deserialize, Serialize};

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
}

/// Adds a look to the records; the oldest go where there are very many.
pub fn add_look(records: &Records, look: &Look) -> Result<()> {
    records.add_line(&serde_json::to_string(look).unwrap_or_default())
}

/// The looks on record, the oldest first; a line that cannot be read is skipped.
pub(crate) fn looks(records: &Records) -> Vec<Look> {
    let lines = records.lines();
    lines.iter().filter_map(|line| serde_json::from_str(line).ok()).collect()
}
