//! Opening every page of a site and judging what it refers to.
//!
//! The crawl collects, for every address, what came back and who refers to it; the
//! findings follow from both at the end. A few threads fetch at once; what is kept per
//! address is bounded.

mod acting;
mod crawl;
mod found;
mod judge;
#[cfg(test)]
mod tests;

use fernweh_core::finding::{Code, Finding};
use fernweh_core::rewrite::Rewriter;
use fernweh_ports::{PageSource, Progress, Result, Trouble, Unit, counted};
use serde::Serialize;
use std::collections::BTreeMap;
use std::time::Duration;
use url::Url;

/// What to scan, and its bounds.
pub struct ScanOptions<'a> {
    /// The first page; the scan stays on its host and below its folder.
    pub start: Url,
    /// Finds addresses of the site's old places.
    pub old: Option<&'a Rewriter>,
    /// Ask other hosts whether their addresses exist, once each.
    pub external: bool,
    /// The largest number of pages.
    pub pages: usize,
    /// The largest number of links from the first page.
    pub depth: usize,
    /// After this time nothing more is asked for.
    pub time: Duration,
}

/// What a scan found.
#[derive(Clone, Debug, Default, Serialize, schemars::JsonSchema)]
pub struct ScanReport {
    /// The first page.
    pub start: String,
    /// Pages read.
    pub pages: u64,
    /// Pictures, styles, scripts and the like that were asked for.
    pub resources: u64,
    /// Addresses on other hosts that were asked for.
    pub external: u64,
    /// Addresses on other hosts that were not asked for.
    pub external_skipped: u64,
    /// Links that were not followed because they log out or delete.
    pub not_followed: Vec<String>,
    /// Whether a bound ended the scan before everything was read.
    pub bounded: bool,
    /// Number of findings by code.
    pub counts: BTreeMap<String, u64>,
    /// The findings, by weight, then by page.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub findings: Vec<Finding>,
}

/// Scans a site.
pub fn scan(
    options: &ScanOptions<'_>,
    source: &dyn PageSource,
    progress: &dyn Progress,
) -> Result<ScanReport> {
    progress.stage("pages", None, Unit::Pages);
    let crawl = crawl::crawl(options, source, progress)?;
    if let Some((status, detail)) = crawl.start_failed(options) {
        let hint = match status {
            401 => "set login and password.login of the site",
            403 => "a proxy or firewall blocks programs; allow your address there",
            503 => "the site is in maintenance, or a proxy or firewall blocks programs",
            _ if detail.contains("certificate") => {
                "if the certificate is the host's own, ask its provider for the SHA-256 and set \
                 trust = \"sha256:…\" for this site; or name who has signed it: authority"
            }
            _ => "open the address in a browser; check url and connect-to of the site",
        };
        return Err(Trouble::outside("the first page cannot be read")
            .at(options.start.as_str())
            .because(detail)
            .hint(hint));
    }
    let mut report = ScanReport {
        start: options.start.to_string(),
        pages: crawl.pages,
        resources: crawl.resources,
        external: crawl.external,
        external_skipped: crawl.external_skipped,
        not_followed: crawl.not_followed.iter().cloned().collect(),
        bounded: crawl.bounded,
        ..ScanReport::default()
    };
    report.findings = judge::findings(crawl);
    for code in Code::ALL {
        let count = report.findings.iter().filter(|finding| finding.code == code).count();
        if count > 0 {
            report.counts.insert(code.name().into(), count as u64);
        }
    }
    progress.done(&counted(report.pages, "page", "pages"));
    Ok(report)
}
