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

/// A text with the addresses of the site shown by their paths; those of a host whose name only begins
/// like the site's stay whole.
pub fn within_site(text: &str, origin: &str) -> String {
    text.replace(&format!("{origin}/"), "/")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_addresses_of_the_site_itself_are_shortened() {
        let shown = |text| within_site(text, "https://a.example");
        assert_eq!(shown("https://a.example/x → https://a.example/"), "/x → /");
        assert_eq!(shown("https://a.example.evil.test/x"), "https://a.example.evil.test/x");
        assert_eq!(shown("https://a.example:8443/x"), "https://a.example:8443/x");
    }
}
