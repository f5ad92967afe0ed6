//! The pages of two sites, address by address.
//!
//! Each page is fetched from both. Where they differ, both are fetched once more, a little later:
//! what differs between two visits of one site (counters, clocks, tokens) is no difference between
//! the sites.

mod addresses;
mod seen;
mod wording;

use super::EXAMPLES;
use crate::scan::path_of;
use fernweh_core::digest::sha256;
use fernweh_core::limits;
use fernweh_core::rewrite::Rewriter;
use fernweh_ports::{
    Fetched, PageProblem, PageRequest, PageSource, Progress, Result, SiteAccess, TroubleKind, Unit,
    counted,
};
use seen::{Difference, Seen, Visits, compared, seen};
use serde::Serialize;
use std::collections::{BTreeMap, HashSet};
use std::fmt;
use std::sync::Mutex;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};
use url::Url;

/// Pages that are looked at at once.
const AT_ONCE: usize = 8;
/// Clocks that show seconds have moved on by the second visit.
const SECOND_VISIT: Duration = Duration::from_millis(1100);
/// How often a server is asked that is overloaded or does not answer.
const TRIES: u32 = 3;
/// The longest wait that a server may ask for.
const LONGEST_WAIT: Duration = Duration::from_secs(30);
/// Kinds of differences that are told apart; what is beyond them is counted.
const KINDS: usize = 5000;
/// Pages that are named because they are slower.
const SLOWER: usize = 5;
/// A page is slower if its answer begins this much later, and takes twice as long.
const LATER: Duration = Duration::from_millis(200);

/// Something that differs, on all pages on which it does.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, schemars::JsonSchema)]
pub struct PageDifference {
    /// `status`, `redirect`, `type`, `header`, `title`, `heading`, `text`, `link`, `picture` or
    /// `content`.
    pub what: &'static str,
    /// What the first site has, with the rules followed.
    pub expected: String,
    /// What the second site has.
    pub there: String,
    /// Pages on which it is so.
    pub pages: u64,
    /// Some of them, by their paths.
    pub examples: Vec<String>,
}

/// A page whose answer begins later.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, schemars::JsonSchema)]
pub struct SlowerPage {
    /// Its path.
    pub page: String,
    /// Milliseconds until the answer of the first site began.
    pub first: u64,
    /// The same of the second site.
    pub second: u64,
}

/// What differs between the pages of two sites.
#[derive(Clone, Debug, Default, Serialize, schemars::JsonSchema)]
pub struct PageDifferences {
    /// Addresses that were fetched from both.
    pub pages: u64,
    /// Pages that differ.
    pub differing: u64,
    /// Pages of which parts change at every visit; these parts are no difference.
    pub changing: u64,
    /// Pictures of the pages that were compared byte by byte.
    pub pictures: u64,
    /// What differs, each once however many pages it is on.
    pub differences: Vec<PageDifference>,
    /// Differences beyond those.
    pub more: u64,
    /// Milliseconds until an answer of the first site begins, in the middle of all pages.
    pub first_byte: u64,
    /// The same of the second site.
    pub second_byte: u64,
    /// Pages that are much slower on the second site.
    pub slower: Vec<SlowerPage>,
    /// What could not be compared, and why.
    pub not_compared: Vec<(String, String)>,
}

impl PageDifferences {
    /// Whether nothing differs.
    pub fn is_empty(&self) -> bool {
        self.differences.is_empty() && self.more == 0 && self.not_compared.is_empty()
    }
}

/// Which pages are compared, and how.
#[derive(Clone, Debug)]
pub struct Pages {
    /// These addresses and paths of the first site; without them, every page that its scan finds.
    pub listed: Option<Vec<String>>,
    /// The largest number of pages.
    pub most: usize,
    /// Look at one page after the other.
    pub gently: bool,
    /// Where they cannot be opened, nothing is compared; otherwise this is said in the report.
    pub required: bool,
}

/// Pages that are compared unless somebody says otherwise.
const MOST: usize = 20_000;

impl Default for Pages {
    fn default() -> Self {
        Self { listed: None, most: MOST, gently: false, required: false }
    }
}

/// One side: where its pages are fetched.
struct Side {
    first: Box<dyn PageSource>,
    /// Another visitor, who has no cookies of the first one.
    second: Box<dyn PageSource>,
}

impl Side {
    fn of(site: &dyn SiteAccess) -> Result<Self> {
        Ok(Self { first: site.pages()?, second: site.pages()? })
    }
}

/// The comparison at work.
struct Comparing<'a> {
    one: &'a Side,
    other: &'a Side,
    rules: &'a Rewriter,
    progress: &'a dyn Progress,
    found: Mutex<Found>,
}

#[derive(Default)]
struct Found {
    report: PageDifferences,
    kinds: BTreeMap<Difference, (u64, Vec<String>)>,
    /// Milliseconds until the answers began, of both sides.
    waited: Vec<(u64, u64)>,
    pictures: HashSet<(String, String)>,
}

/// Compares the pages of the first site with their counterparts.
pub(super) fn compare(
    from: &dyn SiteAccess,
    to: &dyn SiteAccess,
    how: &Pages,
    rules: &Rewriter,
    progress: &dyn Progress,
) -> Result<PageDifferences> {
    let (one, other) = (Side::of(from)?, Side::of(to)?);
    let (addresses, not_compared) = match addresses::of(from, &*one.first, how, progress) {
        Err(trouble) if !how.required && trouble.kind == TroubleKind::Outside => {
            let because = format!("{trouble}");
            let not_compared = vec![("all pages".to_owned(), because)];
            return Ok(PageDifferences { not_compared, ..PageDifferences::default() });
        }
        found => found?,
    };
    progress.stage("pages", Some(addresses.len() as u64), Unit::Pages);
    let at_once = if how.gently { 1 } else { AT_ONCE };
    let mut report = side_by_side(&addresses, (&one, &other), rules, at_once, progress)?;
    report.not_compared.extend(not_compared);
    progress.done(&counted(report.pages, "page", "pages"));
    Ok(report)
}

/// Compares these pages, so many at once.
fn side_by_side(
    addresses: &[Url],
    (one, other): (&Side, &Side),
    rules: &Rewriter,
    at_once: usize,
    progress: &dyn Progress,
) -> Result<PageDifferences> {
    let comparing = Comparing { one, other, rules, progress, found: Mutex::default() };
    let next = AtomicUsize::new(0);
    std::thread::scope(|scope| {
        for _ in 0..at_once {
            scope.spawn(|| {
                while !progress.stopping()
                    && let Some(url) = addresses.get(next.fetch_add(1, Ordering::Relaxed))
                {
                    comparing.page(url);
                    progress.advance(1);
                }
            });
        }
    });
    progress.go_on()?;
    Ok(comparing.finish())
}

impl Comparing<'_> {
    /// The address that a page has on the second site.
    fn counterpart(&self, url: &Url) -> Option<Url> {
        let written = url.as_str().as_bytes();
        let new = self.rules.look(written).apply(written);
        std::str::from_utf8(&new).ok()?.parse().ok()
    }

    fn page(&self, url: &Url) {
        let path = path_of(url);
        let Some(there) = self.counterpart(url) else {
            let because = "the rules make no address of it".to_owned();
            return self.lock().report.not_compared.push((path, because));
        };
        let visit = |again: bool| {
            let of = |side: &Side, url| match again {
                true => self.fetch(&*side.second, url),
                false => self.fetch(&*side.first, url),
            };
            (of(self.one, url), of(self.other, &there))
        };
        let began = Instant::now();
        let (a, b) = visit(false);
        let a = match a {
            Ok(answer) => answer,
            Err(problem) => {
                let because = format!("the first site: {problem}");
                return self.lock().report.not_compared.push((path, because));
            }
        };
        if let Ok(b) = &b {
            let waited = [a.waited, b.waited].map(|it| it.as_millis() as u64);
            self.note_pace(&path, waited);
        }
        let of_first =
            |fetched: &fernweh_ports::PageResponse| seen(url, &there, fetched, Some(self.rules));
        let of_second = |fetched: Fetched| match fetched {
            Ok(answer) => seen(&there, &there, &answer, None),
            Err(problem) => Seen::without(&problem),
        };
        let (a, b) = (of_first(&a), of_second(b));
        let (mut differences, mut moved) =
            compared(Visits { first: &a, again: None }, Visits { first: &b, again: None });
        if !self.knows(&differences) {
            std::thread::sleep(SECOND_VISIT.saturating_sub(began.elapsed()));
            let (a2, b2) = visit(true);
            let a2 = a2.ok().map(|answer| of_first(&answer));
            let b2 = of_second(b2);
            let visits =
                (Visits { first: &a, again: a2.as_ref() }, Visits { first: &b, again: Some(&b2) });
            (differences, moved) = compared(visits.0, visits.1);
        }
        differences.extend(self.pictures(&a, &b));
        if a.is_cut || b.is_cut {
            let because = "it is longer than what is read of a page".to_owned();
            self.lock().report.not_compared.push((path.clone(), because));
        }
        self.lock().add(&path, differences, moved);
    }

    /// Whether these differences were confirmed on other pages.
    fn knows(&self, differences: &[Difference]) -> bool {
        let found = self.lock();
        differences.iter().all(|difference| found.kinds.contains_key(difference))
    }

    /// Pictures of a page that are other ones at the second site. Each is fetched once.
    fn pictures(&self, a: &Seen, b: &Seen) -> Vec<Difference> {
        let mut differing = Vec::new();
        let there: HashSet<&str> = b.pictures.iter().map(|(_, to)| to.as_str()).collect();
        for (from, to) in &a.pictures {
            // One that the second page does not have is a link that is missing.
            if !there.contains(to.as_str()) || self.progress.stopping() {
                continue;
            }
            if !self.lock().pictures.insert((from.clone(), to.clone())) {
                continue;
            }
            let (Ok(from), Ok(to)) = (from.parse::<Url>(), to.parse::<Url>()) else { continue };
            let of_both =
                (self.fetch(&*self.one.first, &from), self.fetch(&*self.other.first, &to));
            let (first, second) = (Picture::of(of_both.0), Picture::of(of_both.1));
            // A page in the place of a picture is compared as the page that it is.
            if first == Picture::Other && second == Picture::Other {
                continue;
            }
            if first == Picture::Cut || second == Picture::Cut {
                let because = "the picture is longer than what is read".to_owned();
                self.lock().report.not_compared.push((path_of(&from), because));
                continue;
            }
            self.lock().report.pictures += 1;
            if first != second {
                let path = path_of(&to);
                let shown = |picture: &Picture| format!("{path} ({picture})");
                differing.push(Difference::new("picture", shown(&first), shown(&second)));
            }
        }
        differing
    }

    /// Fetches a page; a server that is overloaded is asked again after the time that it names.
    fn fetch(&self, source: &dyn PageSource, url: &Url) -> Fetched {
        let request =
            PageRequest { url: url.to_string(), body: Some(limits::PAGE), texts_only: false };
        let mut tried = 0;
        loop {
            tried += 1;
            let fetched = source.fetch(&request);
            let wait = match &fetched {
                Ok(answer) if matches!(answer.status, 429 | 503) => {
                    let asked = answer.header("retry-after").next().and_then(|it| it.parse().ok());
                    asked.map_or(Duration::from_secs(1), Duration::from_secs)
                }
                Err(PageProblem::Time | PageProblem::Broken(_) | PageProblem::Reach(_)) => {
                    Duration::from_millis(300)
                }
                _ => return fetched,
            };
            if tried >= TRIES || wait > LONGEST_WAIT || self.progress.stopping() {
                return fetched;
            }
            std::thread::sleep(wait);
        }
    }

    fn note_pace(&self, path: &str, [first, second]: [u64; 2]) {
        let mut found = self.lock();
        found.waited.push((first, second));
        if second > 2 * first && second - first > LATER.as_millis() as u64 {
            found.report.slower.push(SlowerPage { page: path.to_owned(), first, second });
        }
    }

    fn lock(&self) -> std::sync::MutexGuard<'_, Found> {
        self.found.lock().unwrap_or_else(|poisoned| poisoned.into_inner())
    }

    fn finish(self) -> PageDifferences {
        let mut found = self.found.into_inner().unwrap_or_else(|poisoned| poisoned.into_inner());
        let mut report = std::mem::take(&mut found.report);
        let each = std::mem::take(&mut found.kinds).into_iter();
        report.differences = each
            .map(|(difference, (pages, mut examples))| {
                examples.sort_by(|a, b| fernweh_ports::natural(a, b));
                let Difference { what, expected, there } = difference;
                PageDifference { what, expected, there, pages, examples }
            })
            .collect();
        // What is on most pages first; the sort keeps the order of equals.
        report.differences.sort_by_key(|it| (weight(it.what), std::cmp::Reverse(it.pages)));
        report.slower.sort_by_key(|it| std::cmp::Reverse(it.second - it.first));
        report.slower.truncate(SLOWER);
        report.not_compared.sort_by(|a, b| fernweh_ports::natural(&a.0, &b.0));
        let middle = |mut all: Vec<u64>| {
            all.sort_unstable();
            all.get(all.len() / 2).copied().unwrap_or_default()
        };
        report.first_byte = middle(found.waited.iter().map(|it| it.0).collect());
        report.second_byte = middle(found.waited.iter().map(|it| it.1).collect());
        report
    }
}

/// What keeps visitors from the page comes first.
fn weight(what: &str) -> usize {
    let order = ["status", "redirect", "type", "title", "heading", "text", "picture", "link"];
    order.iter().position(|is| *is == what).unwrap_or(order.len())
}

impl Found {
    fn add(&mut self, path: &str, differences: Vec<Difference>, moved: bool) {
        self.report.pages += 1;
        self.report.changing += u64::from(moved);
        self.report.differing += u64::from(!differences.is_empty());
        for difference in differences {
            if self.kinds.len() >= KINDS && !self.kinds.contains_key(&difference) {
                self.report.more += 1;
                continue;
            }
            let (pages, examples) = self.kinds.entry(difference).or_default();
            *pages += 1;
            if examples.len() < EXAMPLES && !examples.iter().any(|known| known == path) {
                examples.push(path.to_owned());
            }
        }
    }
}

/// What came for a picture.
#[derive(PartialEq)]
enum Picture {
    /// A picture, by its digest.
    Whole(String),
    /// One that is longer than what was read.
    Cut,
    /// Something that is no picture.
    Other,
    /// Nothing: a status, or why.
    Missing(String),
}

impl Picture {
    fn of(fetched: Fetched) -> Self {
        match fetched {
            Err(problem) => Self::Missing(problem.to_string()),
            Ok(answer) if answer.status != 200 => {
                Self::Missing(format!("status {}", answer.status))
            }
            Ok(answer) if !answer.media_type.starts_with("image/") => Self::Other,
            Ok(answer) if answer.is_cut => Self::Cut,
            Ok(answer) => Self::Whole(sha256(&answer.body)),
        }
    }
}

impl fmt::Display for Picture {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Whole(digest) => write!(f, "SHA-256 {}…", &digest[..12]),
            Self::Cut => f.write_str("longer than what is read"),
            Self::Other => f.write_str("not a picture"),
            Self::Missing(why) => f.write_str(why),
        }
    }
}

#[cfg(test)]
mod tests;
