//! A short record of what only reads, or reads and writes an archive, for `fernweh runs`: runs
//! that change a site have journals of their own.

use crate::config::Config;
use fernweh_flow::journal::Records;
use fernweh_flow::looks::{Look, add_look};

/// A look that has begun; none where there is no configuration, beside which records are kept.
pub struct RunLog<'a>(Option<(&'a Records, Look)>);

impl<'a> RunLog<'a> {
    /// Notes the beginning.
    pub fn begin(config: &Config, records: &'a Records, command: &str, site: &str) -> Self {
        let begin = || (records, Look::begin(records, command, site));
        Self(config.path.is_some().then(begin))
    }

    /// Notes what came of it. A look that cannot be noted is no error.
    pub fn end(self, what: &str, outcome: &str) {
        if let Some((records, mut look)) = self.0 {
            (look.what, look.outcome) = (what.into(), outcome.into());
            look.ended = fernweh_flow::now();
            let _ = add_look(records, &look);
        }
    }
}
