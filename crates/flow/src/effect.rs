//! Whether what was written into a site does what it says: requests to its host, and what came
//! back.

use fernweh_core::address::WebAddress;
use fernweh_ports::{
    Fetched, PageProblem, PageRequest, PageResponse, PageSource, Result, SiteAccess,
};
use schemars::JsonSchema;
use serde::Serialize;
use url::Url;

/// One request, and whether it was answered as it should be.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Effect {
    /// What was asked for.
    pub asked: String,
    /// What came back.
    pub came: String,
    /// Whether that is what should come.
    pub works: bool,
}

/// The largest page that is read.
const PAGE: usize = 1 << 20;

/// What came back, for people.
pub fn told(fetched: &Fetched) -> String {
    match fetched {
        Ok(PageResponse { status, location: Some(to), .. }) => format!("{status} to {to}"),
        Ok(PageResponse { status, .. }) => status.to_string(),
        Err(problem) => problem.to_string(),
    }
}

/// The host of a site, asked under any of its names.
pub struct Host {
    pages: Box<dyn PageSource>,
}

impl Host {
    /// The host, where it is known where it is.
    ///
    /// # Errors
    ///
    /// Where what is configured cannot be used.
    pub fn of(site: &dyn SiteAccess, hosts: &[String]) -> Result<Option<Self>> {
        let Some(place) = site.host_address()? else { return Ok(None) };
        // Nothing is told to it, and what it says is only looked at.
        Ok(Some(Self { pages: site.pages_at(place, hosts, false)? }))
    }

    /// The host of a site under either spelling of its name; where it is not known where it is, the
    /// one to which the name leads.
    ///
    /// # Errors
    ///
    /// Where what is configured cannot be used.
    pub fn of_or_named(site: &dyn SiteAccess, url: &WebAddress) -> Result<Self> {
        match Self::of(site, &[url.host.clone(), twin(url)])? {
            Some(host) => Ok(host),
            None => Ok(Self { pages: site.pages()? }),
        }
    }

    /// A page.
    pub fn page(&self, url: &str) -> Fetched {
        self.pages.fetch(&PageRequest { url: url.into(), body: Some(PAGE), texts_only: true })
    }

    /// The head of an answer.
    pub fn head(&self, url: &str) -> Fetched {
        self.pages.fetch(&PageRequest { url: url.into(), body: Some(0), texts_only: true })
    }

    /// Whether an address leads for good to another one.
    pub fn leads(&self, asked: &str, to: &str) -> Effect {
        let fetched = self.head(asked);
        let works = matches!(
            &fetched,
            Ok(PageResponse { status: 301 | 308, location: Some(there), .. })
                if Url::parse(there).ok() == Url::parse(to).ok()
        );
        Effect { asked: asked.into(), came: told(&fetched), works }
    }

    /// Whether the web server has given up since: the first page fails now, and did not before.
    pub fn broke(before: &Fetched, after: &Fetched) -> bool {
        let fails = |fetched: &Fetched| match fetched {
            Ok(answer) => answer.status >= 500 && answer.status != 503,
            Err(PageProblem::Broken(_) | PageProblem::Other(_)) => true,
            Err(_) => false,
        };
        fails(after) && !fails(before)
    }
}

/// A path that no site has, with a query.
pub const MADE_UP: &str = "/fernweh-made-up/page?night=7&note=a%20b";

/// The same host with or without `www.`
pub fn twin(url: &WebAddress) -> String {
    match url.host.strip_prefix("www.") {
        Some(stem) => stem.to_owned(),
        None => format!("www.{}", url.host),
    }
}
