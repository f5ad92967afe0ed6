//! Opening every page of a site and judging what it refers to.
//!
//! The crawl keeps, for every address, what came back, and until then who refers to it; findings
//! come as soon as both are known. What is kept per address is small, and lies on disk beyond a
//! size.

mod acting;
mod crawl;
mod endless;
mod folders;
mod groups;
mod joined;
mod judge;
mod pace;
mod read;
mod report;
mod resume;
mod since;
mod site;
mod store;
#[cfg(test)]
mod tests;
mod titles;

pub use endless::Endless;
pub use report::{Folder, Limit, ScanReport, Total};
pub use resume::ScanState;
pub use since::Since;
pub(crate) use site::path_of;

use crawl::{Crawl, crawl};
use fernweh_core::rewrite::Rewriter;
use fernweh_ports::{PageProblem, PageSource, Progress, Result, Trouble, Unit, counted};
use resume::Start;
use std::time::{Duration, Instant};
use url::Url;

/// What to scan, and its bounds.
pub struct ScanOptions<'a> {
    /// The first page; the scan stays on its host and below its folder.
    pub start: Url,
    /// Finds addresses of the site's old places.
    pub old: Option<&'a Rewriter>,
    /// Ask other hosts whether their addresses exist, once each.
    pub external: bool,
    /// Also read what the site's own `robots.txt` closes to robots.
    pub whole: bool,
    /// Never send more than two requests at once.
    pub gently: bool,
    /// The largest number of pages.
    pub pages: usize,
    /// The largest number of links from the first page.
    pub depth: usize,
    /// After this time nothing more is asked for.
    pub time: Duration,
    /// A page whose answer begins later than this is called slow.
    pub slow: Duration,
    /// Where an interrupted scan is kept, to go on from there.
    pub state: Option<&'a dyn ScanState>,
    /// Is told the address of each page and paper of the site that was read.
    pub visited: Option<&'a dyn Fn(&Url)>,
}

/// Scans a site.
pub fn scan(
    options: &ScanOptions<'_>,
    source: &dyn PageSource,
    progress: &dyn Progress,
) -> Result<ScanReport> {
    progress.stage("pages", None, Unit::Pages);
    let began = Instant::now();
    let mut crawl = crawl(options, source, progress)?;
    if crawl.interrupted && crawl.pages == 0 {
        progress.go_on()?;
    }
    if let Some((because, hint)) = nothing_to_scan(&crawl) {
        let trouble = Trouble::outside("the first page cannot be read");
        return Err(trouble.at(options.start.as_str()).because(because).hint(hint));
    }
    let mut report = ScanReport {
        start: options.start.to_string(),
        pages: crawl.pages,
        resources: crawl.resources,
        external: crawl.external,
        external_skipped: crawl.external_skipped,
        robots_skipped: crawl.robots_skipped,
        not_followed: crawl.not_followed.iter().cloned().collect(),
        not_followed_total: crawl.not_followed_total,
        endless: crawl.shapes.cut(),
        bounded: !crawl.limits.is_empty(),
        limits: crawl.limits.into_values().collect(),
        interrupted: crawl.interrupted,
        ..ScanReport::default()
    };
    if let Some(state) = options.state.filter(|_| !report.interrupted) {
        state.forget();
    }
    crawl.groups.finish(&mut crawl.store, &mut report);
    report.folders = crawl.folders.finish(&report.findings);
    report.seconds = (began.elapsed().as_secs_f64() * 1000.0).round() / 1000.0;
    progress.done(&counted(report.pages, "page", "pages"));
    Ok(report)
}

/// Why there is nothing to scan, and what to try.
fn nothing_to_scan(crawl: &Crawl) -> Option<(String, String)> {
    let usual = "open the address in a browser; check url and connect-to of the site";
    let (because, hint) = match &crawl.start {
        Start::Unasked => {
            return Some((
                "a limit of the scan was reached before the first page".into(),
                "give it more time: --max-minutes".into(),
            ));
        }
        Start::Elsewhere(end) => (
            format!("it redirects to {end}, which is another site"),
            format!("scan that one: fernweh scan {end}"),
        ),
        Start::Loop => ("its redirects form a loop".into(), usual.to_owned()),
        Start::NoPage(is) => (
            format!("{is}, not a page"),
            "if this is the source of a program, the web server does not run it; otherwise name \
             the address of a page"
                .into(),
        ),
        Start::Page { asks_password: true, moved: true, .. } if crawl.pages <= 1 => (
            "every address leads to a login".into(),
            "let visitors in for the time of the scan, or put the site behind HTTP basic \
             authentication instead: login and password.login"
                .into(),
        ),
        Start::Page { links: 0, .. } if !crawl.listed => (
            "no link leads on from this page, and no sitemap names others".into(),
            "open the address in a browser; name another first page, if the site has one".into(),
        ),
        Start::Page { .. } => return None,
        Start::Status(status) => {
            let hint = match status {
                401 => "set login and password.login of the site",
                403 => "a proxy or firewall blocks programs; allow your address there",
                429 => "the server asks for fewer requests; wait, then: --gently",
                503 => "the site is in maintenance, or a proxy or firewall blocks programs",
                _ => usual,
            };
            (judge::words(*status), hint.to_owned())
        }
        Start::Problem(problem) => {
            let hint = match problem {
                PageProblem::Certificate(_) => {
                    "if the certificate is the host's own, ask its provider for the SHA-256 and \
                     set trust = \"sha256:…\" for this site; or name who has signed it: authority"
                }
                _ => usual,
            };
            (problem.to_string(), hint.to_owned())
        }
    };
    Some((because, hint))
}
