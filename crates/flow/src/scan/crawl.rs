//! Fetching pages, and collecting what they refer to.

use super::ScanOptions;
use super::acting::does_something;
use super::found::{Crawl, Outcome, Reference};
use fernweh_core::finding::{Code, Finding};
use fernweh_core::limits;
use fernweh_core::page::{Link, LinkKind, css_links, html_links, xml_links};
use fernweh_ports::{PageProblem, PageRequest, PageResponse, PageSource, Progress, Result};
use std::collections::{BTreeMap, BTreeSet, HashMap, VecDeque};
use std::sync::{Condvar, Mutex, MutexGuard};
use std::time::{Duration, Instant};
use url::Url;

const WORKERS: usize = 4;
const HOPS: usize = 10;
/// The shortest time between two requests to one foreign host.
const FOREIGN_PAUSE: Duration = Duration::from_millis(250);

#[derive(Clone, Debug, PartialEq)]
enum Task {
    /// A page to read.
    Page(usize),
    /// A style sheet to read: the page that uses it, and how many have imported it.
    Sheet(String, usize),
    /// Something that must only exist.
    Exists,
}

struct Shared {
    crawl: Crawl,
    queue: VecDeque<(Url, Task)>,
    known: BTreeSet<String>,
    at_work: usize,
    trouble: Option<fernweh_ports::Trouble>,
    /// Pages and style sheets that were fetched, or are being fetched.
    fetched: (usize, usize),
    /// When a foreign host may be asked again.
    next_turn: BTreeMap<String, Instant>,
}

struct Crawler<'a> {
    options: &'a ScanOptions<'a>,
    source: &'a dyn PageSource,
    progress: &'a dyn Progress,
    shared: Mutex<Shared>,
    changed: Condvar,
    began: Instant,
}

/// Counts one more, if there may be.
fn bump(count: &mut usize, most: usize) -> bool {
    let within = *count < most;
    *count += usize::from(within);
    within
}

pub(super) fn crawl(
    options: &ScanOptions<'_>,
    source: &dyn PageSource,
    progress: &dyn Progress,
) -> Result<Crawl> {
    let mut queue = VecDeque::new();
    let mut known = BTreeSet::new();
    known.insert(options.start.to_string());
    queue.push_back((options.start.clone(), Task::Page(0)));
    // A sitemap, where there is one, names pages that no link leads to.
    if let Ok(sitemap) = options.start.join("/sitemap.xml") {
        queue.push_back((sitemap, Task::Page(1)));
    }
    let shared = Shared {
        crawl: Crawl::default(),
        queue,
        known,
        at_work: 0,
        trouble: None,
        fetched: (0, 0),
        next_turn: BTreeMap::new(),
    };
    let crawler = Crawler {
        options,
        source,
        progress,
        shared: Mutex::new(shared),
        changed: Condvar::new(),
        began: Instant::now(),
    };
    std::thread::scope(|scope| {
        for _ in 0..WORKERS {
            scope.spawn(|| crawler.work());
        }
    });
    let shared = crawler.shared.into_inner().unwrap_or_else(|poisoned| poisoned.into_inner());
    match shared.trouble {
        Some(trouble) => Err(trouble),
        None => Ok(shared.crawl),
    }
}

impl Crawler<'_> {
    fn lock(&self) -> MutexGuard<'_, Shared> {
        self.shared.lock().unwrap_or_else(|poisoned| poisoned.into_inner())
    }

    fn work(&self) {
        loop {
            let mut shared = self.lock();
            let (url, task) = loop {
                if shared.trouble.is_some() {
                    return;
                }
                if let Some(next) = shared.queue.pop_front() {
                    break next;
                }
                if shared.at_work == 0 {
                    self.changed.notify_all();
                    return;
                }
                shared = self.changed.wait(shared).unwrap_or_else(|poisoned| poisoned.into_inner());
            };
            shared.at_work += 1;
            drop(shared);
            let mut result = self.progress.go_on();
            if result.is_ok() && self.may_fetch(&task) {
                self.handle(&url, &task);
                result = self.progress.go_on();
            }
            let mut shared = self.lock();
            shared.at_work -= 1;
            if let Err(trouble) = result {
                shared.trouble = Some(trouble);
            }
            self.changed.notify_all();
        }
    }

    /// Whether the bounds allow another request of this kind. What is not fetched any more is
    /// said as a bound; what is at work meanwhile has been counted before.
    fn may_fetch(&self, task: &Task) -> bool {
        let mut shared = self.lock();
        let (pages, sheets) = &mut shared.fetched;
        let within = match task {
            Task::Page(_) => bump(pages, self.options.pages),
            Task::Sheet(..) => bump(sheets, self.options.pages.max(limits::SCAN_SHEETS)),
            Task::Exists => true,
        };
        let within = within && self.began.elapsed() < self.options.time;
        shared.crawl.bounded |= !within;
        within
    }

    fn handle(&self, url: &Url, task: &Task) {
        let inside = self.is_inside(url);
        let body = match task {
            Task::Exists => None,
            _ => Some(limits::PAGE),
        };
        let (outcome, answer) = self.follow(url, body);
        let mut shared = self.lock();
        match task {
            Task::Page(_) => {}
            _ if inside => shared.crawl.resources += 1,
            _ => shared.crawl.external += 1,
        }
        // The sitemap is asked for unbidden: that there is none is no finding.
        let unbidden = !shared.known.contains(url.as_str());
        if !unbidden {
            shared.crawl.outcomes.insert(url.to_string(), outcome);
        }
        drop(shared);
        let Some((end, answer)) = answer.filter(|(_, answer)| answer.status == 200) else { return };
        match task {
            Task::Page(depth) if self.is_inside(&end) => self.read_page(&end, *depth, &answer),
            Task::Sheet(page, imports) => self.read_sheet(&end, page, *imports, &answer),
            _ => {}
        }
    }

    /// Fetches an address and goes where redirects lead, as long as they stay on the site.
    fn follow(&self, url: &Url, body: Option<usize>) -> (Outcome, Option<(Url, PageResponse)>) {
        let mut passed = vec![url.to_string()];
        let mut here = url.clone();
        loop {
            let answer = match self.fetch(&here, body) {
                Ok(answer) => answer,
                Err(problem) => return (Outcome::Problem(problem), None),
            };
            let target = answer.location.as_ref().filter(|_| (300..400).contains(&answer.status));
            let Some(mut target) = target.and_then(|target| here.join(target).ok()) else {
                let way = if passed.len() > 1 { passed } else { Vec::new() };
                return (Outcome::Status(answer.status, way), Some((here, answer)));
            };
            target.set_fragment(None);
            if passed.contains(&target.to_string()) || passed.len() > HOPS {
                passed.push(target.to_string());
                return (Outcome::Loop(passed), None);
            }
            // Where another host leads on is its own affair.
            if !self.is_inside(&here) || (!self.is_inside(&target) && !self.options.external) {
                let led = !self.is_inside(&target) && self.is_inside(&here);
                passed.push(target.to_string());
                return (Outcome::Status(200, if led { passed } else { Vec::new() }), None);
            }
            passed.push(target.to_string());
            here = target;
        }
    }

    fn fetch(
        &self,
        url: &Url,
        body: Option<usize>,
    ) -> std::result::Result<PageResponse, PageProblem> {
        self.take_turn(url);
        let answer = self.source.fetch(&PageRequest { url: url.to_string(), body })?;
        // Some servers know no HEAD; one byte answers the same question.
        if body.is_none() && matches!(answer.status, 400 | 403 | 405 | 500 | 501) {
            return self.source.fetch(&PageRequest { url: url.to_string(), body: Some(1) });
        }
        Ok(answer)
    }

    /// Foreign hosts are asked slowly, each for itself.
    fn take_turn(&self, url: &Url) {
        let Some(host) = url.host_str().filter(|_| !self.is_inside(url)) else { return };
        let now = Instant::now();
        let turn = {
            let mut shared = self.lock();
            let next = shared.next_turn.entry(host.to_owned()).or_insert(now);
            let turn = (*next).max(now);
            *next = turn + FOREIGN_PAUSE;
            turn
        };
        // A wish to stop is not slept over.
        while !self.progress.stopping() && Instant::now() < turn {
            let left = turn.saturating_duration_since(Instant::now());
            std::thread::sleep(left.min(Duration::from_millis(100)));
        }
    }

    fn is_inside(&self, url: &Url) -> bool {
        let start = &self.options.start;
        let folder = start.path().rsplit_once('/').map_or("", |(folder, _)| folder);
        // Another port or scheme of the host is another site, with other passwords.
        url.origin() == start.origin() && url.path().starts_with(folder)
    }

    fn read_page(&self, url: &Url, depth: usize, answer: &PageResponse) {
        let is_html =
            matches!(answer.media_type.as_str(), "text/html" | "application/xhtml+xml" | "");
        let is_xml = answer.media_type.ends_with("xml") && !is_html;
        if !is_html && !is_xml {
            return;
        }
        let links = if is_html { html_links(&answer.body) } else { xml_links(&answer.body) };
        let base = links.iter().find(|link| link.kind == LinkKind::Base);
        let base =
            base.and_then(|link| url.join(&link.address).ok()).unwrap_or_else(|| url.clone());
        self.lock().crawl.pages += 1;
        self.progress.advance(1);
        self.note_old_addresses(url, None, &answer.body, &links);
        for link in links {
            if link.kind != LinkKind::Base {
                self.refer(url, &base, None, link, depth + 1);
            }
        }
    }

    fn read_sheet(&self, url: &Url, page: &str, imports: usize, answer: &PageResponse) {
        if answer.media_type != "text/css" {
            return;
        }
        let links = css_links(&String::from_utf8_lossy(&answer.body));
        let Ok(page) = Url::parse(page) else { return };
        self.note_old_addresses(&page, Some(url), &answer.body, &links);
        for link in links {
            self.refer(&page, url, Some(url), link, imports + 1);
        }
    }

    fn note_old_addresses(&self, page: &Url, sheet: Option<&Url>, body: &[u8], links: &[Link]) {
        let Some(old) = self.options.old else { return };
        let found = old.look(body);
        // The first element of each address: there may be as many of both as fit a page.
        let mut elements: HashMap<&str, usize> = HashMap::new();
        for (number, link) in links.iter().enumerate() {
            elements.entry(&link.address).or_insert(number);
        }
        let (mut line, mut counted) = (1, 0);
        let mut shared = self.lock();
        for edit in found.edits.iter().filter(|edit| edit.replaced.is_some()) {
            let start = edit.range.start;
            line += memchr::memchr_iter(b'\n', &body[counted..start.max(counted)]).count();
            counted = start.max(counted);
            let rest = &body[edit.range.start..];
            let end = rest.iter().take(300).position(|c| b" \t\r\n\"'<>)".contains(c));
            let address = String::from_utf8_lossy(&rest[..end.unwrap_or(rest.len().min(300))]);
            let ends = address.char_indices().map(|(at, _)| at).chain([address.len()]);
            let first = ends.filter_map(|end| elements.get(&address[..end])).min();
            let element = first.map(|number| &links[*number]);
            shared.crawl.findings.insert(Finding {
                code: Code::OldAddress,
                page: page.to_string(),
                element: element.map_or("text".into(), |link| link.element.clone()),
                line,
                sheet: sheet.map(ToString::to_string),
                address: address.into_owned(),
                detail: String::new(),
            });
        }
    }

    /// Notes a reference, its mixed content, and queues its target once.
    fn refer(&self, page: &Url, base: &Url, sheet: Option<&Url>, link: Link, depth: usize) {
        let Ok(mut target) = base.join(&link.address) else { return };
        if !matches!(target.scheme(), "http" | "https") || link.address.is_empty() {
            return;
        }
        target.set_fragment(None);
        let mut shared = self.lock();
        if page.scheme() == "https"
            && target.scheme() == "http"
            && let Some(code) = link.kind.mixed()
        {
            shared.crawl.findings.insert(Finding {
                code,
                page: page.to_string(),
                element: link.element.clone(),
                line: link.line,
                sheet: sheet.map(ToString::to_string),
                address: link.address.clone(),
                detail: String::new(),
            });
        }
        if link.kind == LinkKind::Form {
            return;
        }
        if does_something(&target) {
            shared.crawl.not_followed.insert(target.to_string());
            return;
        }
        let inside = self.is_inside(&target);
        if shared.known.len() >= limits::SCAN_ADDRESSES && !shared.known.contains(target.as_str()) {
            shared.crawl.bounded = true;
            return;
        }
        let new = shared.known.insert(target.to_string());
        if !inside && !self.options.external {
            shared.crawl.external_skipped += u64::from(new);
            return;
        }
        let kind = link.kind;
        let references = shared.crawl.references.entry(target.to_string()).or_default();
        if references.len() < limits::SCAN_REFERENCES {
            let (page, sheet) = (page.to_string(), sheet.map(ToString::to_string));
            references.push(Reference { kind, page, sheet, link });
        }
        if !new {
            return;
        }
        let task = match kind {
            LinkKind::Page | LinkKind::Frame if inside => Task::Page(depth),
            // On a page the depth is that of pages; a sheet of a page is imported by none.
            LinkKind::Style => {
                Task::Sheet(page.to_string(), if sheet.is_some() { depth } else { 0 })
            }
            _ => Task::Exists,
        };
        let too_deep = match task {
            Task::Page(depth) => depth > self.options.depth,
            Task::Sheet(_, imports) => imports > limits::SCAN_IMPORTS,
            Task::Exists => false,
        };
        if too_deep {
            shared.crawl.bounded = true;
            return;
        }
        shared.queue.push_back((target, task));
        drop(shared);
        self.changed.notify_one();
    }
}
