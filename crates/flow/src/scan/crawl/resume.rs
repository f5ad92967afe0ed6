//! The crawl as it is written down when it is interrupted, and read again.

use super::*;
use crate::scan::resume::{Pending, PendingKind, Saved, SavedFragment, SavedReference, SavedUser};

/// `None`: it is asked for in any case.
fn pending_of(task: &Task) -> Option<Pending> {
    let wanted = match &task.wanted {
        Wanted::Page => PendingKind::Page,
        Wanted::Sheet(user) => PendingKind::Sheet(saved_user(user)),
        Wanted::Module(user) => PendingKind::Module(saved_user(user)),
        Wanted::Manifest(user) => PendingKind::Manifest(saved_user(user)),
        Wanted::Sitemap => PendingKind::Sitemap,
        Wanted::Existence => PendingKind::Existence,
        Wanted::Offer => PendingKind::Offer,
        Wanted::Robots | Wanted::Nonsense => return None,
    };
    // Redirects are followed from their beginning again.
    let url = task.way.first().cloned().unwrap_or_else(|| task.url.to_string());
    let depth = u32::try_from(task.depth).unwrap_or(u32::MAX);
    Some(Pending { id: task.id, url, wanted, depth, generation: task.generation })
}

fn saved_user(user: &User) -> SavedUser {
    SavedUser { page: user.page, policies: user.policies.clone(), imports: user.imports.clone() }
}

impl Crawler<'_> {
    /// By this a scan is the same.
    pub(super) fn name(options: &ScanOptions<'_>) -> String {
        let (external, whole, old) = (options.external, options.whole, options.old.is_some());
        format!("{} {external} {whole} {old}", options.start)
    }

    /// Takes an answer, unless it did not come because everybody was told to stop.
    pub(super) fn receive(&mut self, answer: Answer) -> io::Result<()> {
        if answer.fetched.is_ok() || !self.progress.stopping() {
            return self.take(answer);
        }
        self.at_work -= 1;
        // It is counted when it is asked for again.
        match answer.task.wanted {
            Wanted::Page if answer.task.is_first() => self.fetched.0 -= 1,
            Wanted::Sheet(_) | Wanted::Module(_) if answer.task.is_first() => self.fetched.1 -= 1,
            _ => {}
        }
        self.broken_off.push(answer.task);
        Ok(())
    }

    /// Writes down what is known, so that the next scan goes on from here.
    pub(super) fn save(&mut self, answered: &Receiver<Answer>) -> io::Result<()> {
        let Some(state) = self.options.state else { return Ok(()) };
        // What is under way ends at once, since everybody has been told to stop.
        let until = Instant::now() + Duration::from_secs(5);
        while self.at_work > 0 && Instant::now() < until {
            let Ok(answer) = answered.recv_timeout(Duration::from_millis(100)) else { continue };
            self.receive(answer)?;
        }
        let broken_off = std::mem::take(&mut self.broken_off);
        let mut pending: Vec<Pending> = broken_off.iter().filter_map(pending_of).collect();
        for queued in self.own.drain() {
            let task = self.task_of(queued);
            pending.extend(pending_of(&task));
        }
        for foreign in self.others.values_mut() {
            pending.extend(foreign.lane.drain().iter().filter_map(pending_of));
        }
        let saved = self.saved(pending)?;
        // That it cannot be kept does not make the report less.
        if let Err(trouble) = state.save(&saved.bytes()) {
            self.progress.note(&format!("the scan will begin anew: {trouble}\n"));
        }
        Ok(())
    }

    fn saved(&mut self, pending: Vec<Pending>) -> io::Result<Saved> {
        let crawl = &mut self.crawl;
        let store = &mut crawl.store;
        let ids = 0..store.len() as Id;
        let mut saved = Saved::new(Self::name(self.options));
        for id in ids {
            saved.addresses.push((store.address(id), store.state(id)));
            let (references, more, pages) = store.take_references(id);
            for reference in &references {
                saved.references.push((id, SavedReference::of(store, reference)));
            }
            if more > 0 {
                saved.more.push((id, more as u32, pages as u32));
            }
        }
        for (id, names) in &self.places {
            let bytes = store.texts.bytes(*names)?;
            let each = bytes.chunks_exact(8).filter_map(|name| name.try_into().ok());
            saved.places.push((*id, each.map(u64::from_le_bytes).collect()));
        }
        for ((page, name), fragment) in &self.fragments {
            let reference = SavedReference::of(store, &fragment.reference);
            let (occurrences, address) = (fragment.occurrences, fragment.address);
            let (page, name) = (*page, *name);
            saved.fragments.push(SavedFragment { page, name, reference, occurrences, address });
        }
        saved.groups = crawl.groups.saved(store);
        saved.outcomes.clone_from(&self.outcomes);
        saved.pending = pending;
        saved.shapes = crawl.shapes.clone();
        saved.folders = crawl.folders.clone();
        saved.landed.clone_from(&self.landed);
        saved.lists.clone_from(&self.lists);
        saved.offers.clone_from(&self.offers);
        saved.titles = self.titles.clone();
        saved.limits = crawl.limits.values().cloned().collect();
        saved.not_followed.clone_from(&crawl.not_followed);
        saved.start = crawl.start.clone();
        saved.listed = crawl.listed;
        saved.counts = [
            crawl.pages,
            crawl.resources,
            crawl.external,
            crawl.external_skipped,
            crawl.robots_skipped,
            crawl.not_followed_total,
            self.fetched.0 as u64,
            self.fetched.1 as u64,
        ];
        Ok(saved)
    }

    /// Goes on with what an earlier scan has written down; says whether there was something.
    pub(super) fn load(&mut self) -> io::Result<bool> {
        let bytes = self.options.state.and_then(|state| state.load());
        let saved = bytes.and_then(|bytes| Saved::read(&bytes, &Self::name(self.options)));
        let Some(saved) = saved else { return Ok(false) };
        let store = &mut self.crawl.store;
        for (address, state) in &saved.addresses {
            store.add(key_of(address), address, *state)?;
        }
        for (id, reference) in &saved.references {
            let reference = reference.restore(store)?;
            store.refer(*id, reference);
        }
        for (id, more, pages) in &saved.more {
            store.count_more(*id, *more, *pages);
        }
        self.crawl.groups = Groups::restore(saved.groups, store)?;
        for (id, names) in &saved.places {
            let bytes: Vec<u8> = names.iter().flat_map(|name| name.to_le_bytes()).collect();
            self.places.insert(*id, store.texts.keep(&bytes)?);
        }
        for it in &saved.fragments {
            let reference = it.reference.restore(store)?;
            let (occurrences, address) = (it.occurrences, it.address);
            self.fragments.insert((it.page, it.name), Fragment { reference, occurrences, address });
        }
        self.outcomes = saved.outcomes;
        self.crawl.shapes = saved.shapes;
        self.crawl.folders = saved.folders;
        self.landed = saved.landed;
        self.lists = saved.lists;
        self.offers = saved.offers;
        self.titles = saved.titles;
        let limits = saved.limits.into_iter();
        self.crawl.limits = limits.map(|limit| (limit.limit.clone(), limit)).collect();
        self.crawl.not_followed = saved.not_followed;
        self.crawl.start = saved.start;
        self.crawl.listed = saved.listed;
        let [pages, parts, external, skipped, robots, acting, asked, sheets] = saved.counts;
        self.crawl.pages = pages;
        self.crawl.resources = parts;
        self.crawl.external = external;
        self.crawl.external_skipped = skipped;
        self.crawl.robots_skipped = robots;
        self.crawl.not_followed_total = acting;
        self.fetched = (asked as usize, sheets as usize);
        for pending in saved.pending {
            self.resume(pending);
        }
        Ok(true)
    }

    fn resume(&mut self, pending: Pending) {
        let Ok(url) = Url::parse(&pending.url) else { return };
        let mut user = |saved: SavedUser| {
            let SavedUser { page, policies, imports } = saved;
            let address = self.crawl.store.address(page);
            let url = Url::parse(&address).unwrap_or_else(|_| self.options.start.clone());
            Arc::new(User { page, url, policies, imports })
        };
        let wanted = match pending.wanted {
            PendingKind::Page => Wanted::Page,
            PendingKind::Sheet(saved) => Wanted::Sheet(user(saved)),
            PendingKind::Module(saved) => Wanted::Module(user(saved)),
            PendingKind::Manifest(saved) => Wanted::Manifest(user(saved)),
            PendingKind::Sitemap => Wanted::Sitemap,
            PendingKind::Existence => Wanted::Existence,
            PendingKind::Offer => Wanted::Offer,
        };
        let (depth, generation) = (pending.depth as usize, pending.generation);
        self.push(Task { depth, generation, ..Task::new(pending.id, url, wanted) }, false);
    }
}
