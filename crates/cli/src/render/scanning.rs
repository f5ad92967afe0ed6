//! What a scan comes to, in a few words.

use super::counts;
use fernweh_core::finding::Severity;
use fernweh_flow::scan::ScanReport;

/// The verdict in a few words.
pub fn scan_in_short(report: &ScanReport) -> String {
    let of = |severity| report.of(severity).findings;
    let found = counts(&[
        (of(Severity::Broken), "broken thing", "broken things"),
        (of(Severity::Insecure), "insecure thing", "insecure things"),
        (of(Severity::Warning), "warning", "warnings"),
    ]);
    match (found.is_empty(), report.bounded || report.interrupted) {
        (true, true) => "nothing wrong so far, and not everything was read".into(),
        (true, false) => "nothing wrong was found".into(),
        (false, _) => found.join(", "),
    }
}
