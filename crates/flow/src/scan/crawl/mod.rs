//! What is asked for, and in which order.
//!
//! One thread decides; the answers are read on every core (`read`). Each host has a lane of its own
//! (`pace`). What refers to an address waits in the store until it is known what came of it.

mod answers;
mod links;
mod pages;
mod resume;

use super::ScanOptions;
use super::acting::does_something;
use super::endless::Shapes;
use super::folders::Folders;
use super::groups::Groups;
use super::joined::Memory;
use super::judge::{self, Fault, Outcome, class_of};
use super::pace::{CEILING, Ended, GENTLE, Lane};
use super::read::{Found, Read, User, Wanted, read};
use super::report::Limit;
use super::resume::Start;
use super::site::{Site, key_of, path_of};
use super::store::{Class, Id, NONE, Reference, State, Store, Text};
use super::titles::Titles;
use fernweh_core::finding::Code;
use fernweh_core::limits;
use fernweh_core::page::mixed::{Request, over_https};
use fernweh_core::page::{LinkKind, Place, Robots, Usage, Words};
use fernweh_core::rewrite::Rewriter;
use fernweh_ports::{
    Fetched, PageProblem, PageRequest, PageResponse, PageSource, Progress, Result, Trouble,
};
use std::borrow::Cow;
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::io;
use std::sync::mpsc::{Receiver, RecvTimeoutError, Sender, channel};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};
use url::Url;

/// Redirects that are followed from one address.
const HOPS: usize = 10;
/// Requests at once to all other hosts together.
const FOREIGN_AT_ONCE: usize = 16;
/// Requests to the site in a row without an answer, after which it is left alone.
const SILENT: usize = 20;
/// Requests in a row to another host without an answer, after which it is left alone.
const FOREIGN_SILENT: usize = 2;
/// How deep lists of the site may name each other.
const LISTS: usize = 4;
/// Names of links that act which are shown.
const NOT_FOLLOWED: usize = 200;

/// Something to ask for.
#[derive(Clone, Debug)]
struct Task {
    /// The address that is referred to, whatever it leads to.
    id: Id,
    url: Url,
    wanted: Wanted,
    depth: usize,
    /// Pages of its own shape through which it was found, one after the other.
    generation: u32,
    /// The addresses that redirects have passed, from the first on.
    way: Vec<String>,
    tries: u8,
    /// The head alone is asked for.
    head: bool,
}

impl Task {
    /// Asks for an address for the first time.
    fn new(id: Id, url: Url, wanted: Wanted) -> Self {
        let head = matches!(wanted, Wanted::Existence | Wanted::Offer);
        Self { id, url, wanted, depth: 0, generation: 0, way: Vec::new(), tries: 0, head }
    }

    /// Whether it counts as one more page or sheet: redirects and further tries do not.
    fn is_first(&self) -> bool {
        self.way.is_empty() && self.tries == 0
    }
}

/// Something to ask the site for. There may be hundreds of thousands of these: what the store knows is
/// not kept twice.
enum Queued {
    /// An address of the store: a page to read, or only to look up.
    Known { id: Id, depth: u32, generation: u32, page: bool },
    /// Whatever else.
    Task(Box<Task>),
}

/// What came of a request, and what it says.
struct Answer {
    task: Task,
    fetched: std::result::Result<PageResponse, PageProblem>,
    read: Read,
}

/// Everything collected.
pub(super) struct Crawl {
    pub store: Store,
    pub groups: Groups,
    pub shapes: Shapes,
    pub folders: Folders,
    pub pages: u64,
    pub resources: u64,
    pub external: u64,
    pub external_skipped: u64,
    pub robots_skipped: u64,
    pub not_followed: BTreeSet<String>,
    pub not_followed_total: u64,
    pub limits: BTreeMap<Cow<'static, str>, Limit>,
    pub interrupted: bool,
    /// Whether a list of the site named pages.
    pub listed: bool,
    /// What came of the first page: why there is nothing to scan.
    pub start: Start,
}

/// A link to a place in a page, and how often.
struct Fragment {
    reference: Reference,
    occurrences: u64,
    address: u64,
}

struct Crawler<'a> {
    options: &'a ScanOptions<'a>,
    site: Site<'a>,
    progress: &'a dyn Progress,
    crawl: Crawl,
    own: Lane<Queued>,
    others: HashMap<String, Foreign>,
    /// Hosts that wait, by when they may be asked.
    waiting: BTreeSet<(Instant, String)>,
    foreign_at_work: usize,
    at_work: usize,
    outcomes: Vec<Outcome>,
    robots: Option<Robots>,
    nonsense: Option<Words>,
    /// Names of places in pages, as kept texts, and links to such places.
    places: HashMap<Id, Text>,
    fragments: HashMap<(Id, u64), Fragment>,
    offers: BTreeSet<String>,
    titles: Titles,
    /// That of the page that is being taken.
    generation: u32,
    /// Pages and style sheets that were asked for.
    fetched: (usize, usize),
    began: Instant,
    /// What was under way when the scan was interrupted.
    broken_off: Vec<Task>,
    /// Pages that were read, by the addresses at which they were at last.
    landed: BTreeSet<u64>,
    /// Lists of the site that were asked for beside the usual ones.
    lists: BTreeSet<u64>,
}

/// Another host.
struct Foreign {
    lane: Lane<Task>,
    robots: Option<Robots>,
    failing: Option<PageProblem>,
}

impl Foreign {
    /// Whether the host lets robots ask for this.
    fn allows(&self, task: &Task) -> bool {
        let asks_that = matches!(task.wanted, Wanted::Robots);
        asks_that || self.robots.as_ref().is_none_or(|robots| robots.allows(&path_of(&task.url)))
    }
}

pub(super) fn crawl(
    options: &ScanOptions<'_>,
    source: &dyn PageSource,
    progress: &dyn Progress,
) -> Result<Crawl> {
    let now = Instant::now();
    let ceiling = if options.gently { GENTLE } else { CEILING };
    let crawl = Crawl {
        store: Store::new(),
        groups: Groups::default(),
        shapes: Shapes::default(),
        folders: Folders::default(),
        pages: 0,
        resources: 0,
        external: 0,
        external_skipped: 0,
        robots_skipped: 0,
        not_followed: BTreeSet::new(),
        not_followed_total: 0,
        limits: BTreeMap::new(),
        interrupted: false,
        listed: false,
        start: Start::Unasked,
    };
    let mut crawler = Crawler {
        options,
        site: Site { start: &options.start, old: options.old },
        progress,
        crawl,
        own: Lane::own(ceiling, now),
        others: HashMap::new(),
        waiting: BTreeSet::new(),
        foreign_at_work: 0,
        at_work: 0,
        outcomes: Vec::new(),
        robots: None,
        nonsense: None,
        places: HashMap::new(),
        fragments: HashMap::new(),
        offers: BTreeSet::new(),
        titles: Titles::default(),
        generation: 0,
        fetched: (0, 0),
        began: now,
        broken_off: Vec::new(),
        landed: BTreeSet::new(),
        lists: BTreeSet::new(),
    };
    crawler.begin().map_err(full)?;
    let (answers, answered) = channel();
    let (came, coming) = channel::<(Task, Fetched)>();
    let coming = Mutex::new(coming);
    let readers = std::thread::available_parallelism().map_or(2, usize::from).min(8);
    let site = Site { start: &options.start, old: options.old };
    std::thread::scope(|scope| {
        for _ in 0..readers {
            let answers = answers.clone();
            scope.spawn(|| read_answers(&site, &coming, answers));
        }
        drop(answers);
        let ended = crawler.run(source, came, &answered);
        ended.map_err(full)
    })?;
    crawler.finish().map_err(full)?;
    Ok(crawler.crawl)
}

/// Reads answers as they come, until nobody sends any more.
fn read_answers(site: &Site<'_>, coming: &Mutex<Receiver<(Task, Fetched)>>, to: Sender<Answer>) {
    let mut memory = Memory::default();
    loop {
        let next = coming.lock().unwrap_or_else(|poisoned| poisoned.into_inner()).recv();
        let Ok((task, fetched)) = next else { return };
        let read = match &fetched {
            Ok(answer) if answer.status == 200 || matches!(task.wanted, Wanted::Nonsense) => {
                read(&mut memory, site, &task.url, task.id, &task.wanted, answer)
            }
            _ => Read::default(),
        };
        if to.send(Answer { task, fetched, read }).is_err() {
            return;
        }
    }
}

fn full(error: io::Error) -> Trouble {
    Trouble::outside("the scan cannot keep its notes")
        .because(error)
        .hint("make room in the folder for temporary files, or name another one in TMPDIR")
}

impl Crawler<'_> {
    /// The first requests: what the site asks of robots, then the rest.
    fn begin(&mut self) -> io::Result<()> {
        let start = self.options.start.clone();
        let join = |path: &str| start.join(path).unwrap_or_else(|_| start.clone());
        self.own.held = true;
        let task = |id, url, wanted| Queued::Task(Box::new(Task::new(id, url, wanted)));
        // What is asked of robots, and what a page looks like that is none, is known before anything
        // else is asked for.
        self.own.push(task(NONE, join("/robots.txt"), Wanted::Robots));
        let folder = self.site.folder().to_owned();
        let nonsense =
            format!("{folder}no-page-of-this-name-{:08x}", key_of(start.as_str()) as u32);
        self.own.push(task(NONE, join(&nonsense), Wanted::Nonsense));
        if self.load()? {
            let read = fernweh_ports::counted(self.crawl.pages, "page", "pages");
            self.progress.note(&format!("resumed an interrupted scan; {read} were read before\n"));
            return Ok(());
        }
        let id = self.crawl.store.add(key_of(start.as_str()), start.as_str(), State::Waiting)?;
        self.own.push(task(id, start.clone(), Wanted::Page));
        // A list of the site, where there is one, names pages that no link leads to.
        let list = join(&format!("{folder}sitemap.xml"));
        self.own.push(task(NONE, list, Wanted::Sitemap));
        if folder != "/" {
            self.own.push(task(NONE, join("/sitemap.xml"), Wanted::Sitemap));
        }
        Ok(())
    }

    fn run(
        &mut self,
        source: &dyn PageSource,
        came: Sender<(Task, Fetched)>,
        answered: &Receiver<Answer>,
    ) -> io::Result<()> {
        loop {
            if self.progress.stopping() {
                self.crawl.interrupted = true;
                self.save(answered)?;
                break;
            }
            self.send(source, &came)?;
            if self.at_work == 0 && self.own.is_idle() && self.waiting.is_empty() {
                break;
            }
            match answered.recv_timeout(self.pause()) {
                Ok(answer) => self.receive(answer)?,
                Err(RecvTimeoutError::Timeout) => {}
                Err(RecvTimeoutError::Disconnected) => break,
            }
            // What has come meanwhile is taken before anything more is sent.
            while let Ok(answer) = answered.try_recv() {
                self.receive(answer)?;
                if self.own.due().is_some() {
                    break;
                }
            }
        }
        Ok(())
    }

    /// How long to wait for an answer before something else may be due.
    fn pause(&self) -> Duration {
        let now = Instant::now();
        let first = self.waiting.first().map(|(when, _)| *when);
        let next = [self.own.due(), first].into_iter().flatten().min();
        let longest = Duration::from_millis(100);
        next.map_or(longest, |when| when.saturating_duration_since(now).min(longest))
            .max(Duration::from_millis(1))
    }

    /// Sends what may be sent now.
    fn send(&mut self, source: &dyn PageSource, came: &Sender<(Task, Fetched)>) -> io::Result<()> {
        let now = Instant::now();
        while let Some(queued) = self.own.take(now) {
            let task = self.task_of(queued);
            if self.may_ask(&task) {
                self.ask(task, source, came);
            } else {
                self.own.ended(Ended::Nothing, 0, now);
            }
        }
        while self.foreign_at_work < FOREIGN_AT_ONCE
            && self.waiting.first().is_some_and(|(when, _)| *when <= now)
        {
            let Some((_, host)) = self.waiting.pop_first() else { break };
            let Some(foreign) = self.others.get_mut(&host) else { continue };
            if let Some(task) = foreign.lane.take(now) {
                if !foreign.allows(&task) {
                    foreign.lane.ended(Ended::Nothing, 0, now);
                    let due = foreign.lane.due();
                    self.waiting.extend(due.map(|when| (when, host)));
                    self.leave_out(&task)?;
                } else if self.began.elapsed() < self.options.time {
                    self.foreign_at_work += 1;
                    self.ask(task, source, came);
                } else {
                    foreign.lane.ended(Ended::Nothing, 0, now);
                    let left = 1 + foreign.lane.drain().len() as u64;
                    self.limit("minutes", &task.url, left);
                }
            } else if let Some(when) = foreign.lane.due() {
                self.waiting.insert((when, host));
            }
        }
        Ok(())
    }

    fn task_of(&mut self, queued: Queued) -> Task {
        match queued {
            Queued::Task(task) => *task,
            Queued::Known { id, depth, generation, page } => {
                let address = self.crawl.store.address(id);
                // What is in the store was an address when it was put there.
                let url = Url::parse(&address).unwrap_or_else(|_| self.options.start.clone());
                let wanted = if page { Wanted::Page } else { Wanted::Existence };
                Task { depth: depth as usize, generation, ..Task::new(id, url, wanted) }
            }
        }
    }

    fn ask(&mut self, task: Task, source: &dyn PageSource, came: &Sender<(Task, Fetched)>) {
        self.at_work += 1;
        let exists = matches!(task.wanted, Wanted::Existence | Wanted::Offer);
        let body = match (exists, task.head) {
            (true, true) => None,
            (true, false) => Some(1),
            _ => Some(limits::PAGE),
        };
        let request = PageRequest { url: task.url.to_string(), body, texts_only: !exists };
        let came = came.clone();
        source.begin(request, Box::new(move |fetched| drop(came.send((task, fetched)))));
    }

    /// Whether the bounds allow this request to the site. What is not asked for is said.
    fn may_ask(&mut self, task: &Task) -> bool {
        if self.began.elapsed() >= self.options.time {
            self.limit("minutes", &task.url, 1);
            return false;
        }
        let (pages, sheets) = &mut self.fetched;
        let (count, most, name) = match task.wanted {
            Wanted::Page if task.is_first() => (pages, self.options.pages, "pages"),
            Wanted::Sheet(_) | Wanted::Module(_) if task.is_first() => {
                (sheets, self.options.pages.max(limits::SCAN_SHEETS), "sheets")
            }
            _ => return true,
        };
        if *count < most {
            *count += 1;
            return true;
        }
        self.limit(name, &task.url, 1);
        false
    }

    fn limit(&mut self, limit: &'static str, at: &Url, left: u64) {
        let at = at.to_string();
        let none = Limit { limit: limit.into(), at, left: 0 };
        self.crawl.limits.entry(limit.into()).or_insert(none).left += left;
    }

    fn is_own(&self, url: &Url) -> bool {
        url.origin() == self.options.start.origin()
    }

    fn lane_ended(
        &mut self,
        url: &Url,
        own: bool,
        how: Ended,
        tries: u8,
        now: Instant,
    ) -> Option<Duration> {
        if own {
            return self.own.ended(how, tries, now);
        }
        self.foreign_at_work -= 1;
        let host = origin(url);
        let foreign = self.others.get_mut(&host)?;
        let retry = foreign.lane.ended(how, tries, now);
        if let Some(when) = foreign.lane.due() {
            self.waiting.insert((when, host));
        }
        retry
    }

    fn push(&mut self, task: Task, first: bool) {
        if self.is_own(&task.url) {
            let fresh = task.id != NONE && task.is_first() && !first;
            let queued = match task.wanted {
                Wanted::Page | Wanted::Existence if fresh => Queued::Known {
                    id: task.id,
                    depth: u32::try_from(task.depth).unwrap_or(u32::MAX),
                    generation: task.generation,
                    page: matches!(task.wanted, Wanted::Page),
                },
                _ => Queued::Task(Box::new(task)),
            };
            match first {
                true => self.own.push_first(queued),
                false => self.own.push(queued),
            }
            return;
        }
        let host = origin(&task.url);
        let now = Instant::now();
        let foreign = self.others.entry(host.clone()).or_insert_with(|| {
            let mut lane = Lane::foreign(now);
            let robots = task.url.join("/robots.txt").unwrap_or_else(|_| task.url.clone());
            lane.push(Task::new(NONE, robots, Wanted::Robots));
            Foreign { lane, robots: None, failing: None }
        });
        match first {
            true => foreign.lane.push_first(task),
            false => foreign.lane.push(task),
        }
        if let Some(when) = foreign.lane.due() {
            self.waiting.insert((when, host));
        }
    }
}

/// Scheme, host and port.
fn origin(url: &Url) -> String {
    url.origin().ascii_serialization()
}

fn host_of(url: &Url) -> String {
    url.host_str().unwrap_or_default().to_owned()
}

fn with_scheme(url: &Url, scheme: &str) -> String {
    let mut url = url.clone();
    let _ = url.set_scheme(scheme);
    url.to_string()
}

/// Whether an address is of another site than this one, with or without `www.`.
fn elsewhere(start: &Url, target: &str) -> bool {
    Url::parse(target).is_ok_and(|target| target.origin() != start.origin())
}

/// Whether an address is one of the site, but for its scheme or its `www.`.
fn respelled(start: &Url, target: &str) -> bool {
    let bare = |url: &Url| {
        let host = url.host_str().unwrap_or_default();
        host.strip_prefix("www.").unwrap_or(host).to_owned()
    };
    Url::parse(target).is_ok_and(|to| bare(&to) == bare(start) && to.origin() != start.origin())
}

/// What browsers save and do not show.
fn is_download(target: &str) -> bool {
    let path = target.split(['?', '#']).next().unwrap_or_default().to_ascii_lowercase();
    let file = path.rsplit('/').next().unwrap_or_default();
    let kinds = [
        "zip", "gz", "tgz", "bz2", "xz", "zst", "7z", "rar", "exe", "msi", "dmg", "pkg", "apk",
        "iso", "deb", "rpm", "jar", "bin", "doc", "docx", "xls", "xlsx", "ppt", "pptx", "odt",
        "ods",
    ];
    file.rsplit_once('.').is_some_and(|(_, kind)| kinds.contains(&kind))
}

/// Seconds of a `Retry-After` (RFC 9110, 10.2.3); a date is taken as one minute.
fn seconds(value: &str) -> Option<Duration> {
    match value.trim().parse() {
        Ok(seconds) => Some(Duration::from_secs(seconds)),
        Err(_) => value.contains("GMT").then_some(Duration::from_secs(60)),
    }
}
