//! A short record of what only reads, or reads and writes an archive, for `fernweh runs`: runs
//! that change a site have journals of their own.

use crate::config::Config;
use crate::render::{compare_in_short, scan_in_short};
use fernweh_core::finding::Severity;
use fernweh_flow::compare::CompareReport;
use fernweh_flow::journal::Records;
use fernweh_flow::looks::{Look, add_look};
use fernweh_flow::outcome::{Of, Outcome, note_outcome};
use fernweh_flow::scan::ScanReport;

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

/// Where what a look came to is remembered for `ready`; nowhere without a configuration.
#[derive(Clone, Copy)]
pub struct Memory<'a> {
    /// The records.
    records: Option<&'a Records>,
    /// The site.
    site: &'a str,
}

impl<'a> Memory<'a> {
    /// The memory of a site.
    pub fn of(config: &Config, records: &'a Records, site: &'a str) -> Self {
        Self { records: config.path.is_some().then_some(records), site }
    }

    /// Remembers what a scan found.
    pub fn scanned(self, report: &ScanReport) {
        let (fine, words) = (report.is_fine(None), scan_in_short(report));
        let insecure = report.of(Severity::Insecure).findings;
        let pages = report.sample.clone();
        self.note(Of::Scan, Outcome { fine, words, pages, insecure, ..Outcome::default() });
    }

    /// Remembers what differs from another site.
    pub fn compared(self, report: &CompareReport) {
        let (fine, words) = (report.identical, compare_in_short(report));
        self.note(Of::Comparison(&report.from), Outcome { fine, words, ..Outcome::default() });
    }

    /// Remembers what the preview of a rewriting found.
    pub fn previewed(self, fine: bool, words: String) {
        self.note(Of::Rewriting, Outcome { fine, words, ..Outcome::default() });
    }

    /// What cannot be remembered is no error.
    fn note(self, of: Of<'_>, outcome: Outcome) {
        if let Some(records) = self.records {
            let _ = note_outcome(records, self.site, of, outcome);
        }
    }
}
