//! The pages of the host, as the checks ask for them.

use crate::effect;
use fernweh_core::address::WebAddress;
use fernweh_core::page::{Page, TextKind, decode, read_html};
use fernweh_ports::{
    Fetched, HostAddress, PageProblem, PageRequest, PageSource, Result, SiteAccess,
};
use std::collections::HashSet;
use std::sync::atomic::{AtomicBool, Ordering::Relaxed};
use std::sync::{Mutex, OnceLock, PoisonError};
use url::Url;

/// The pages of one host, under every name of the site.
pub(super) struct Web<'a> {
    site: &'a dyn SiteAccess,
    hosts: Vec<String>,
    /// Where it is asked.
    pub place: HostAddress,
    judged: Box<dyn PageSource>,
    /// The same with any certificate: that one is not accepted is for one check to say, and the
    /// others are wanted all the same.
    unjudged: OnceLock<Option<Box<dyn PageSource>>>,
    /// Whether something was read so.
    was_unjudged: AtomicBool,
    /// Places that did not answer: each costs its time once.
    silent: Mutex<HashSet<(String, Option<u16>)>>,
    front: OnceLock<Fetched>,
    front_page: OnceLock<Option<(Url, Page)>>,
}

/// The largest page that is read.
const PAGE: usize = 2 << 20;
/// As much of a file as shows what it is.
const BEGINNING: usize = 16 << 10;

impl<'a> Web<'a> {
    pub fn open(site: &'a dyn SiteAccess, place: HostAddress, hosts: &[String]) -> Result<Self> {
        Ok(Self {
            judged: site.pages_at(place, hosts, true)?,
            site,
            hosts: hosts.to_vec(),
            place,
            unjudged: OnceLock::new(),
            was_unjudged: AtomicBool::new(false),
            silent: Mutex::default(),
            front: OnceLock::new(),
            front_page: OnceLock::new(),
        })
    }

    /// The head of an answer.
    pub fn head(&self, url: &Url) -> Fetched {
        self.get(url, 0)
    }

    /// An answer with its body.
    pub fn page(&self, url: &Url) -> Fetched {
        self.get(url, PAGE)
    }

    /// The beginning of an answer, whatever it is.
    pub fn beginning(&self, url: &Url) -> Fetched {
        self.fetch(url, BEGINNING, false)
    }

    /// The first page of the site.
    pub fn front(&self, url: &WebAddress) -> &Fetched {
        self.front.get_or_init(|| match Url::parse(&format!("{url}/")) {
            Ok(url) => self.page(&url),
            Err(error) => Err(PageProblem::Other(error.to_string())),
        })
    }

    /// The same as it is read, with its address: several checks look at it.
    pub fn front_page(&self, url: &WebAddress) -> Option<&(Url, Page)> {
        let read = || {
            let front = self.front(url).as_ref().ok()?;
            let text = decode(&front.body, front.charset.as_deref(), TextKind::Html);
            Some((Url::parse(&format!("{url}/")).ok()?, read_html(&text.text, false)))
        };
        self.front_page.get_or_init(read).as_ref()
    }

    /// Whether the certificate was not accepted, and pages were read all the same.
    pub fn was_unjudged(&self) -> bool {
        self.was_unjudged.load(Relaxed)
    }

    fn get(&self, url: &Url, most: usize) -> Fetched {
        self.fetch(url, most, true)
    }

    fn fetch(&self, url: &Url, most: usize, texts_only: bool) -> Fetched {
        let place = (url.scheme().to_owned(), url.port());
        let silent = || self.silent.lock().unwrap_or_else(PoisonError::into_inner);
        if silent().contains(&place) {
            return Err(PageProblem::Time);
        }
        let request = PageRequest { url: url.to_string(), body: Some(most), texts_only };
        let mut fetched = self.judged.fetch(&request);
        if let Err(PageProblem::Certificate(_)) = &fetched {
            let open = || self.site.pages_at(self.place, &self.hosts, false).ok();
            if let Some(unjudged) = self.unjudged.get_or_init(open) {
                self.was_unjudged.store(true, Relaxed);
                fetched = unjudged.fetch(&request);
            }
        }
        if let Err(PageProblem::Time) = &fetched {
            silent().insert(place);
        }
        fetched
    }
}

/// What came back, for people: `http://… → 301 to https://…`.
pub(super) fn told(url: &Url, fetched: &Fetched) -> String {
    format!("{url} → {}", effect::told(fetched))
}
