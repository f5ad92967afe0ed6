//! Which pages are compared: those that a scan of the first site finds, or a list.

use super::Pages;
use crate::scan::{Limit, ScanOptions, scan};
use fernweh_ports::{PageSource, Progress, Result, SiteAccess, Trouble};
use std::cell::RefCell;
use std::collections::HashSet;
use std::time::Duration;
use url::Url;

/// After this time no more pages are looked for.
const TIME: Duration = Duration::from_secs(4 * 60 * 60);
/// Links from the first page on.
const DEPTH: usize = 100;

/// The pages, and what keeps others from being found.
type Chosen = (Vec<Url>, Vec<(String, String)>);

pub(super) fn of(
    site: &dyn SiteAccess,
    source: &dyn PageSource,
    how: &Pages,
    progress: &dyn Progress,
) -> Result<Chosen> {
    let url = site.url().map(|url| format!("{url}/")).unwrap_or_default();
    let start = Url::parse(&url)
        .map_err(|error| Trouble::usage("the site's url cannot be used").because(error))?;
    match &how.listed {
        Some(list) => Ok((listed(list, &start)?, Vec::new())),
        None => found(start, source, how, progress),
    }
}

/// Addresses of a list, and paths below the site's address; what stands twice counts once.
fn listed(list: &[String], start: &Url) -> Result<Vec<Url>> {
    let (mut addresses, mut known) = (Vec::new(), HashSet::new());
    let lines = list.iter().map(|line| line.trim()).enumerate();
    for (number, line) in lines.filter(|(_, line)| !line.is_empty() && !line.starts_with('#')) {
        // A path that begins with a slash is one of the site, which may lie in a folder.
        let within = line.strip_prefix('/').map(|path| start.join(&format!("./{path}")));
        let url = within.unwrap_or_else(|| start.join(line));
        let own = url.ok().filter(|url| url.host() == start.host());
        let Some(mut url) = own else {
            return Err(Trouble::usage("a page of the list is none of the site")
                .at(format!("line {}", number + 1))
                .because(format!("{line} is not below {start}"))
                .hint("name paths, or addresses of the first site, one a line"));
        };
        url.set_fragment(None);
        if known.insert(url.clone()) {
            addresses.push(url);
        }
    }
    match addresses.is_empty() {
        true => Err(Trouble::usage("the list names no page")
            .hint("name paths, or addresses of the first site, one a line")),
        false => Ok(addresses),
    }
}

fn found(
    start: Url,
    source: &dyn PageSource,
    how: &Pages,
    progress: &dyn Progress,
) -> Result<Chosen> {
    let addresses = RefCell::new(Vec::new());
    let options = ScanOptions {
        start,
        old: None,
        external: false,
        whole: true,
        gently: how.gently,
        pages: how.most,
        depth: DEPTH,
        time: TIME,
        slow: TIME,
        state: None,
        visited: Some(&|url| addresses.borrow_mut().push(url.clone())),
    };
    let report = scan(&options, source, progress)?;
    progress.go_on()?;
    // A page that leads on to none is all of its site.
    let limits = report.limits.into_iter().filter(|limit| limit.limit != "links");
    let cut = |limit: Limit| {
        let because = format!("the scan of {} stopped here (limit: {})", report.start, limit.limit);
        (limit.at, because)
    };
    let left = limits.map(cut).collect();
    let mut addresses = addresses.into_inner();
    addresses.sort_by(|a: &Url, b: &Url| fernweh_ports::natural(a.as_str(), b.as_str()));
    Ok((addresses, left))
}
