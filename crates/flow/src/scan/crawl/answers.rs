//! What came of a request: answers, redirects, and no answer at all.

use super::*;

impl Crawler<'_> {
    /// Takes an answer.
    pub(super) fn take(&mut self, answer: Answer) -> io::Result<()> {
        let Answer { mut task, fetched, read } = answer;
        let now = Instant::now();
        self.at_work -= 1;
        let own = self.is_own(&task.url);
        let ended = match &fetched {
            Ok(answer) if matches!(answer.status, 429 | 503) => {
                let asked = answer.header("retry-after").next().and_then(seconds);
                Ended::Busy(asked)
            }
            Ok(answer) => Ended::Answered(answer.waited),
            Err(PageProblem::Time | PageProblem::Broken(_)) => Ended::Lost,
            // A host that has answered before may be back in a moment.
            Err(PageProblem::Reach(_)) if own && self.own.has_answered() => Ended::Lost,
            Err(_) => Ended::Nothing,
        };
        let retry = self.lane_ended(&task.url, own, ended, task.tries, now);
        if retry.is_some() && !self.progress.stopping() {
            task.tries += 1;
            self.push(task, true);
            return Ok(());
        }
        // Some servers know no HEAD, or answer it otherwise.
        if task.head && fetched.as_ref().is_ok_and(|a| a.status >= 400 && !matches!(a.status, 429))
        {
            task.head = false;
            self.push(task, true);
            return Ok(());
        }
        if own && self.own.silent >= SILENT {
            let left = self.own.drain().len() as u64;
            self.limit("silence", &task.url, left + 1);
        }
        match task.wanted {
            Wanted::Robots => self.take_robots(&task, &fetched, read, own),
            Wanted::Sitemap => self.take_sitemap(&task, &fetched, read),
            Wanted::Nonsense => {
                // Whatever its status: a page that shows the same with 200 is no page.
                let shown = read.is_page && read.words.count > 2;
                self.nonsense = shown.then_some(read.words);
                self.own.held = false;
                Ok(())
            }
            Wanted::Offer => {
                let offered = fetched.as_ref().is_ok_and(|answer| answer.status < 400);
                let written = with_scheme(&task.url, "http");
                self.crawl.groups.offered(&written, offered);
                Ok(())
            }
            _ => self.take_target(task, fetched, read),
        }
    }

    pub(super) fn take_robots(
        &mut self,
        task: &Task,
        fetched: &Fetched,
        read: Read,
        own: bool,
    ) -> io::Result<()> {
        if own {
            let robots = read.robots.unwrap_or_default();
            for address in &robots.sitemaps {
                let named = self.options.start.join(address).ok();
                if let Some(url) = named.filter(|url| self.is_own(url)) {
                    self.sitemap(url, 1);
                }
            }
            self.robots = Some(robots);
            return Ok(());
        }
        let host = origin(&task.url);
        if let Err(problem) = fetched {
            return self.give_up(&host, problem.clone());
        }
        if let Some(foreign) = self.others.get_mut(&host) {
            foreign.robots = read.robots;
        }
        Ok(())
    }

    /// Asks for a list of the site, once.
    pub(super) fn sitemap(&mut self, url: Url, depth: usize) {
        if depth <= LISTS && self.lists.insert(key_of(url.as_str())) {
            self.push(Task { depth, ..Task::new(NONE, url, Wanted::Sitemap) }, false);
        }
    }

    /// That there is no list of the site is no finding.
    pub(super) fn take_sitemap(
        &mut self,
        task: &Task,
        fetched: &Fetched,
        read: Read,
    ) -> io::Result<()> {
        // Many sites lead from the usual name to another one.
        if let Ok(answer) = fetched
            && (300..400).contains(&answer.status)
        {
            let target = self.redirect(task, answer).ok().filter(|target| self.is_own(target));
            if let Some(target) = target {
                self.sitemap(target, task.depth + 1);
            }
            return Ok(());
        }
        if !fetched.as_ref().is_ok_and(|answer| answer.status == 200) || read.links.is_empty() {
            return Ok(());
        }
        let listed = |url: &str| {
            let path = url.split('?').next().unwrap_or_default();
            path.ends_with(".xml") || path.ends_with(".xml.gz")
        };
        let address = task.url.to_string();
        let key = key_of(&address);
        let id = match self.crawl.store.find(key) {
            Some(id) => id,
            None => self.crawl.store.add(key, &address, State::Good(Class::Other))?,
        };
        self.crawl.listed = true;
        self.old_addresses(&read, (id, NONE))?;
        for found in &read.links {
            // A list of lists.
            if found.to.inside && listed(found.to.target()) {
                self.sitemap(found.to.url.clone(), task.depth + 1);
                continue;
            }
            self.refer(&read, found, (id, NONE), 1)?;
        }
        Ok(())
    }

    /// Takes what came of an address that something refers to.
    pub(super) fn take_target(
        &mut self,
        task: Task,
        fetched: Fetched,
        read: Read,
    ) -> io::Result<()> {
        let answer = match fetched {
            Ok(answer) => answer,
            Err(problem) => return self.lost(&task, problem),
        };
        if (300..400).contains(&answer.status) && answer.status != 304 {
            return match self.redirect(&task, &answer) {
                Ok(target) => self.lead_on(task, target),
                Err(why) => self.lost(&task, PageProblem::Other(why)),
            };
        }
        if task.id == 0 {
            self.crawl.start = self.start_of(&task, &answer, &read);
        }
        self.count(&task);
        let inside = self.site.holds(&task.url);
        let walls = matches!(answer.status, 401 | 403 | 429 | 503 | 999);
        if !self.is_own(&task.url) && walls {
            let host = host_of(&task.url);
            return self.settle(
                task.id,
                State::Waiting,
                Some(Outcome::Turned(answer.status, host)),
            );
        }
        if answer.status >= 400 {
            return self.settle(task.id, State::Waiting, Some(Outcome::Status(answer.status)));
        }
        let class = class_of(&answer);
        let mut outcome = self.of_way(&task);
        if inside && read.is_page {
            let like = |nonsense: &Words| {
                nonsense.digest == read.words.digest
                    || (nonsense.sketch ^ read.words.sketch).count_ones() <= 2
                        && nonsense.count.abs_diff(read.words.count) <= nonsense.count / 20
            };
            if task.id != 0 && self.nonsense.as_ref().is_some_and(like) {
                outcome = Some(Outcome::SoftMissing);
            } else if read.asks_password && !task.way.is_empty() {
                outcome = Some(Outcome::Login(self.short(&task.url)));
            }
        }
        if inside && !read.is_page && outcome.is_none() {
            outcome = self.of_weight(&answer, class);
        }
        let soft = matches!(outcome, Some(Outcome::SoftMissing));
        self.settle(task.id, State::Good(class), outcome)?;
        if answer.status == 200 && !soft {
            self.read_on(&task, &answer, read, inside)?;
        }
        Ok(())
    }

    /// What is to be said of a part of a page that is there.
    fn of_weight(&self, answer: &PageResponse, class: Class) -> Option<Outcome> {
        let said = answer.header("content-length").next().and_then(|bytes| bytes.parse().ok());
        let bytes = said.unwrap_or(0).max(answer.body.len() as u64);
        match judge::is_heavy(class, bytes) {
            true => Some(Outcome::Heavy(bytes)),
            false => (answer.waited > self.options.slow)
                .then_some(Outcome::Slow(answer.waited.as_millis() as u64)),
        }
    }

    pub(super) fn count(&mut self, task: &Task) {
        match task.wanted {
            Wanted::Page => {}
            _ if self.site.holds(&task.url) => self.crawl.resources += 1,
            _ => self.crawl.external += 1,
        }
    }

    pub(super) fn short(&self, url: &Url) -> String {
        match self.is_own(url) {
            true => url.path().to_owned(),
            false => url.to_string(),
        }
    }

    /// Where a redirect leads.
    pub(super) fn redirect(
        &self,
        task: &Task,
        answer: &PageResponse,
    ) -> std::result::Result<Url, String> {
        let target = answer.location.as_ref().and_then(|target| task.url.join(target).ok());
        let nowhere = "it answers with a redirect that does not say where to";
        let mut target = target.ok_or_else(|| nowhere.to_owned())?;
        target.set_fragment(None);
        match target.scheme() {
            "http" | "https" => Ok(target),
            _ => Err(format!("it redirects to {target}, which is no web address")),
        }
    }

    pub(super) fn lead_on(&mut self, mut task: Task, target: Url) -> io::Result<()> {
        task.way.push(task.url.to_string());
        let here_inside = self.is_own(&task.url);
        let target_own = self.is_own(&target);
        let is_old = |old: &Rewriter| !old.look(target.as_str().as_bytes()).edits.is_empty();
        if task.id != 0 && self.site.old.is_some_and(is_old) {
            self.count(&task);
            let outcome = Outcome::Old(target.to_string());
            return self.settle(task.id, State::Waiting, Some(outcome));
        }
        if task.way.contains(&target.to_string()) || task.way.len() > HOPS {
            task.way.push(target.to_string());
            if task.id == 0 {
                self.crawl.start = Start::Loop;
            }
            self.count(&task);
            return self.settle(task.id, State::Waiting, Some(Outcome::Loop(task.way)));
        }
        let secure = task.way[0].starts_with("https:");
        if secure && target.scheme() == "http" {
            task.way.push(target.to_string());
            if task.id == 0 {
                self.crawl.start = Start::Elsewhere(target.to_string());
            }
            self.count(&task);
            return self.settle(task.id, State::Waiting, Some(Outcome::Insecure(task.way)));
        }
        if task.id == 0 && !self.site.holds(&target) {
            self.crawl.start = Start::Elsewhere(target.to_string());
            return self.settle(0, State::Good(Class::Unknown), None);
        }
        // Where another host leads on is its own affair.
        if !here_inside || (!target_own && !self.options.external) {
            self.count(&task);
            task.way.push(target.to_string());
            let outcome = if here_inside { self.of_way(&task) } else { None };
            return self.settle(task.id, State::Good(Class::Unknown), outcome);
        }
        if does_something(&target) {
            self.not_followed(target.as_str());
            return self.settle(task.id, State::Skipped, None);
        }
        if !target_own {
            // The other host is only asked whether it is there.
            task.wanted = Wanted::Existence;
            task.head = true;
        }
        task.url = target;
        self.push(task, true);
        Ok(())
    }

    /// What is to be said of the redirects that led to an address.
    pub(super) fn of_way(&self, task: &Task) -> Option<Outcome> {
        let mut way = task.way.clone();
        if way.last().is_some_and(|last| *last != task.url.as_str()) {
            way.push(task.url.to_string());
        }
        (way.len() > 2).then_some(Outcome::Chain(way))
    }

    /// An address from which nothing came.
    pub(super) fn lost(&mut self, task: &Task, problem: PageProblem) -> io::Result<()> {
        if task.id == 0 {
            self.crawl.start = Start::Problem(problem.clone());
        }
        self.count(task);
        let host = origin(&task.url);
        let whole = match &problem {
            PageProblem::Name(_) | PageProblem::Certificate(_) | PageProblem::Reach(_) => true,
            PageProblem::Time => {
                self.others.get(&host).is_some_and(|it| it.lane.silent >= FOREIGN_SILENT)
            }
            _ => false,
        };
        if whole && !self.is_own(&task.url) {
            let outcome = Outcome::Host(host_of(&task.url), problem.clone());
            self.settle(task.id, State::Waiting, Some(outcome))?;
            return self.give_up(&host, problem);
        }
        self.settle(task.id, State::Waiting, Some(Outcome::Problem(problem)))
    }

    /// Asks a host for nothing more: its trouble is one finding.
    pub(super) fn give_up(&mut self, host: &str, problem: PageProblem) -> io::Result<()> {
        let Some(foreign) = self.others.get_mut(host) else { return Ok(()) };
        foreign.failing = Some(problem.clone());
        let left = foreign.lane.drain();
        self.waiting.retain(|(_, waiting)| waiting != host);
        for task in left {
            match task.wanted {
                Wanted::Offer => {
                    let written = with_scheme(&task.url, "http");
                    self.crawl.groups.offered(&written, false);
                }
                Wanted::Robots => {}
                _ => {
                    self.crawl.external += 1;
                    let outcome = Outcome::Host(host_of(&task.url), problem.clone());
                    self.settle(task.id, State::Waiting, Some(outcome))?;
                }
            }
        }
        Ok(())
    }

    /// Another host asks robots to leave this alone.
    pub(super) fn leave_out(&mut self, task: &Task) -> io::Result<()> {
        if matches!(task.wanted, Wanted::Offer) {
            return Ok(());
        }
        self.crawl.external_skipped += 1;
        self.settle(task.id, State::Skipped, None)
    }

    /// It is known what came of an address: whoever refers to it is judged.
    pub(super) fn settle(
        &mut self,
        id: Id,
        good: State,
        outcome: Option<Outcome>,
    ) -> io::Result<()> {
        if id == NONE {
            return Ok(());
        }
        let state = match outcome {
            Some(outcome) => {
                self.outcomes.push(outcome);
                State::Wrong(self.outcomes.len() as u32 - 1)
            }
            None => good,
        };
        self.crawl.store.set_state(id, state);
        let (references, more, more_pages) = self.crawl.store.take_references(id);
        if references.is_empty() {
            return Ok(());
        }
        let address = self.crawl.store.address(id);
        for reference in &references {
            self.judge(&address, state, *reference);
        }
        if more > 0
            && let (State::Wrong(number), Some(last)) = (state, references.last())
            && let Some(fault) = judge::fault(&address, &self.outcomes[number as usize], last)
        {
            self.crawl.groups.add_more(fault, more, more_pages);
        }
        Ok(())
    }

    /// Judges a reference to an address of which it is known what came of it.
    pub(super) fn judge(&mut self, address: &str, state: State, reference: Reference) {
        let fault = match state {
            State::Wrong(number) => {
                judge::fault(address, &self.outcomes[number as usize], &reference)
            }
            State::Good(class) => judge::misfit(reference.kind, class).map(|is| Fault {
                code: Code::WrongContent,
                address,
                cause: "type",
                detail: format!("{is} where {} is expected", judge::expected(reference.kind)),
            }),
            State::Waiting | State::Skipped => None,
        };
        if let Some(fault) = fault {
            self.crawl.groups.add(fault, Some(reference));
        }
    }

    pub(super) fn start_of(&self, task: &Task, answer: &PageResponse, read: &Read) -> Start {
        if answer.status != 200 {
            return Start::Status(answer.status);
        }
        if !read.is_page {
            return Start::NoPage(match answer.media_type.as_str() {
                "" => "its server does not say what it is".into(),
                media => format!("it is {media}"),
            });
        }
        let (asks_password, moved) = (read.asks_password, !task.way.is_empty());
        let onward = |found: &Found| found.to.inside && !found.link.kind.is_resource();
        let links = read.links.len();
        Start::Page { links, leads_on: read.links.iter().any(onward), asks_password, moved }
    }
}
