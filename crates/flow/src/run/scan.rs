//! Opening the pages of a site.

use super::Surroundings;
use crate::journal::Records;
use crate::scan::{ScanOptions, ScanReport, ScanState, scan};
use fernweh_core::rewrite::Rewriter;
use fernweh_ports::{Result, SiteAccess, Trouble};
use std::cell::RefCell;
use std::time::Duration;
use url::Url;

/// How the pages of a site are scanned, and its bounds.
pub struct Scan {
    /// Finds addresses of the site's old places.
    pub old: Option<Rewriter>,
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
}

/// The state of an interrupted scan, in the records.
struct Kept<'a> {
    records: &'a Records,
    site: &'a str,
}

impl ScanState for Kept<'_> {
    fn load(&self) -> Option<Vec<u8>> {
        self.records.kept_scan(self.site)
    }

    fn save(&self, state: &[u8]) -> Result<()> {
        self.records.keep_scan(self.site, state)
    }

    fn forget(&self) {
        self.records.forget_scan(self.site);
    }
}

/// How many pages are remembered of a scan.
const SAMPLE: usize = 3;

/// Remembers some of the pages: not the first, which every site has, and none with a query.
fn sample(pages: &RefCell<Vec<String>>, url: &Url) {
    let mut pages = pages.borrow_mut();
    if pages.len() < SAMPLE && url.query().is_none() && !url.path().ends_with('/') {
        pages.push(url.path().to_owned());
    }
}

/// A visitor waits this long and no longer.
pub const SLOW: Duration = Duration::from_secs(3);

impl Scan {
    /// The site's own pages, within the usual bounds; other hosts are asked slowly, and that is
    /// for a scan of its own.
    pub fn own_pages(old: Option<Rewriter>) -> Self {
        let time = Duration::from_secs(4 * 60 * 60);
        Self {
            old,
            external: false,
            whole: false,
            gently: false,
            pages: 20_000,
            depth: 100,
            time,
            slow: SLOW,
        }
    }

    /// Scans the site.
    pub fn run(&self, site: &dyn SiteAccess, around: Surroundings<'_>) -> Result<ScanReport> {
        let name = site.name();
        let url = site.url().ok_or_else(|| {
            Trouble::usage(format!("site {name} has no url")).hint(format!(
                "set url in [site.{name}], or name the address: fernweh scan https://…"
            ))
        })?;
        around.warn_of_earlier(site)?;
        let start = Url::parse(&format!("{url}/"))
            .map_err(|error| Trouble::usage("the site's url cannot be used").because(error))?;
        let pages = RefCell::default();
        let options = ScanOptions {
            start,
            old: self.old.as_ref(),
            external: self.external,
            whole: self.whole,
            gently: self.gently,
            pages: self.pages,
            depth: self.depth,
            time: self.time,
            slow: self.slow,
            state: Some(&Kept { records: around.records, site: name }),
            visited: Some(&|url| sample(&pages, url)),
        };
        let mut report = scan(&options, &*site.pages()?, around.progress)
            .map_err(|trouble| trouble.doing(format!("scanning {url}")))?;
        report.sample = pages.take();
        Ok(report)
    }
}
