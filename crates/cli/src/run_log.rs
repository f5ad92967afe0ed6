//! A short record of what only reads, or reads and writes an archive, for `fernweh runs`: runs
//! that change a site have journals of their own.

use crate::config::Config;
use fernweh_flow::journal::Records;
use fernweh_flow::looks::{Look, add_look};

/// A look that has begun.
pub struct RunLog<'a> {
    records: Option<&'a Records>,
    look: Look,
}

impl<'a> RunLog<'a> {
    /// Notes the beginning. Where there is no configuration nothing is written: its folder is
    /// where records are kept.
    pub fn begin(config: &Config, records: &'a Records, command: &str, site: &str) -> Self {
        let look = Look::begin(records, command, site);
        Self { records: config.path.as_ref().map(|_| records), look }
    }

    /// Notes what came of it. A look that cannot be noted is no error.
    pub fn end(self, what: &str, outcome: &str) {
        if let Some(records) = self.records {
            let mut look = self.look;
            (look.what, look.outcome) = (what.into(), outcome.into());
            look.ended = fernweh_flow::now();
            let _ = add_look(records, &look);
        }
    }
}
