//! What has changed since an earlier scan.

use super::report::ScanReport;
use fernweh_core::finding::Finding;
use serde::Serialize;
use std::collections::BTreeSet;

/// An earlier scan and this one, side by side.
#[derive(Clone, Debug, Default, PartialEq, Serialize, schemars::JsonSchema)]
pub struct Since {
    /// Names of findings that the earlier scan does not have.
    pub new: Vec<String>,
    /// How many findings both have.
    pub still: u64,
    /// Findings that this scan does not have any more.
    pub repaired: Vec<Finding>,
}

impl Since {
    /// Compares with the findings of an earlier scan of the same site.
    pub fn of(report: &ScanReport, earlier: Vec<Finding>) -> Self {
        let before: BTreeSet<&str> = earlier.iter().map(|finding| finding.id.as_str()).collect();
        let now: BTreeSet<&str> =
            report.findings.iter().map(|finding| finding.id.as_str()).collect();
        let new = report.findings.iter().filter(|finding| !before.contains(&*finding.id));
        let new = new.map(|finding| finding.id.clone()).collect();
        let still = now.intersection(&before).count() as u64;
        let gone: Vec<bool> = earlier.iter().map(|finding| !now.contains(&*finding.id)).collect();
        let repaired = earlier.into_iter().zip(gone).filter_map(|(it, gone)| gone.then_some(it));
        Self { new, still, repaired: repaired.collect() }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use fernweh_core::finding::Code;

    #[test]
    fn findings_are_known_again_by_what_they_are_about() {
        let of = |address: &str| Finding::new(Code::BrokenLink, address, "404");
        let report = ScanReport { findings: vec![of("/a"), of("/b")], ..ScanReport::default() };
        let since = Since::of(&report, vec![of("/b"), of("/c")]);
        assert_eq!(since.new, [of("/a").id]);
        assert_eq!((since.still, since.repaired), (1, vec![of("/c")]));
    }
}
