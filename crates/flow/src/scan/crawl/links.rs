//! What a page refers to: what browsers make of it, and whether it is asked for.

use super::*;

impl Crawler<'_> {
    /// Takes note of an address of a page, and asks for it once.
    pub(super) fn refer(
        &mut self,
        read: &Read,
        found: &Found,
        (page, sheet): (Id, Id),
        depth: usize,
    ) -> io::Result<()> {
        let link = &found.link;
        let of_script = link.element.ends_with(" text") || link.element.contains(" on");
        if !of_script {
            self.of_browser(read, found, (page, sheet))?;
        }
        if matches!(link.kind, LinkKind::Form | LinkKind::Service) || of_script {
            return Ok(());
        }
        let id = match self.crawl.store.find(found.to.key) {
            Some(id) => id,
            None => match self.discover(read, found, depth)? {
                Some(id) => id,
                None => return Ok(()),
            },
        };
        match self.crawl.store.state(id) {
            State::Skipped => return Ok(()),
            State::Waiting => {
                if self.crawl.store.wants_reference(id, page, link.kind) {
                    let reference = self.reference(read, found, (page, sheet))?;
                    self.crawl.store.refer(id, reference);
                }
            }
            state @ (State::Wrong(_) | State::Good(_)) => {
                let fits = match state {
                    State::Good(class) => judge::misfit(link.kind, class).is_none(),
                    _ => false,
                };
                if !fits {
                    let reference = self.reference(read, found, (page, sheet))?;
                    self.judge(found.to.target(), state, reference);
                }
            }
        }
        self.of_fragment(read, found, (page, sheet), id)
    }

    pub(super) fn reference(
        &mut self,
        read: &Read,
        found: &Found,
        places: (Id, Id),
    ) -> io::Result<Reference> {
        let link = &found.link;
        let (element, markup) = (&link.element, read.markup(link));
        let (written, store) = (&link.address, &mut self.crawl.store);
        store.reference(link.kind, link.usage, element, places, link.at, written, markup)
    }

    /// What a browser makes of an address, whether it is there or not.
    pub(super) fn of_browser(
        &mut self,
        read: &Read,
        found: &Found,
        (page, sheet): (Id, Id),
    ) -> io::Result<()> {
        let link = &found.link;
        let secure = read.user.as_ref().is_some_and(|user| user.url.scheme() == "https");
        let plain = found.to.target().starts_with("http:");
        let target = found.to.target();
        let quiet = String::new;
        let fault = |code, cause, detail| Some(Fault { code, address: target, cause, detail });
        let shown = matches!(link.usage, Usage::Loaded | Usage::Styled);
        let fault = match link.kind {
            LinkKind::Form if secure && plain => fault(Code::InsecureForm, "", quiet()),
            LinkKind::Page if secure && plain && is_download(target) => {
                fault(Code::InsecureDownload, "", quiet())
            }
            LinkKind::Alternate
                if (link.element == "link canonical" || link.element == "meta og:url")
                    && elsewhere(&self.options.start, target) =>
            {
                fault(Code::ElsewhereAddress, "", quiet())
            }
            // The same page in another language may stand on another site, but not at another
            // spelling of this one.
            LinkKind::Alternate
                if link.element == "link hreflang" && respelled(&self.options.start, target) =>
            {
                fault(Code::ElsewhereAddress, "", quiet())
            }
            _ if found.refused.is_some() => {
                let directive = found.refused.clone().unwrap_or_default();
                fault(
                    Code::PolicyBlocked,
                    "",
                    format!("its {directive} does not allow this address"),
                )
            }
            _ if found.request == Request::Blocked && !plain && shown => {
                fault(Code::PolicyBlocked, "", "browsers take it from the same site only".into())
            }
            _ if found.request == Request::Blocked && plain => {
                fault(Code::MixedBlocked, "", quiet())
            }
            _ if found.request == Request::Upgraded => fault(Code::MixedUpgraded, "", quiet()),
            _ => None,
        };
        let Some(fault) = fault else { return Ok(()) };
        let code = fault.code;
        let reference = self.reference(read, found, (page, sheet))?;
        self.crawl.groups.add(fault, Some(reference));
        let offers = [Code::MixedBlocked, Code::MixedUpgraded, Code::InsecureDownload];
        if offers.contains(&code) && self.options.external && self.offers.insert(target.to_owned())
        {
            self.offer(&found.to.url);
        }
        Ok(())
    }

    /// Asks once whether a server offers over https what pages fetch over http.
    pub(super) fn offer(&mut self, written: &Url) {
        let url = over_https(written);
        if self.others.get(&origin(&url)).is_some_and(|foreign| foreign.failing.is_some()) {
            self.crawl.groups.offered(written.as_str(), false);
            return;
        }
        self.push(Task::new(NONE, url, Wanted::Offer), false);
    }

    /// An address that is seen for the first time: whether it is asked for, and what for.
    pub(super) fn discover(
        &mut self,
        read: &Read,
        found: &Found,
        depth: usize,
    ) -> io::Result<Option<Id>> {
        let url = &found.to.url;
        if self.crawl.store.len() >= limits::SCAN_ADDRESSES {
            self.limit("addresses", url, 1);
            return Ok(None);
        }
        let add = |this: &mut Self, state| {
            this.crawl.store.add(found.to.key, found.to.target(), state).map(Some)
        };
        if found.to.acts {
            self.not_followed(found.to.target());
            return add(self, State::Skipped);
        }
        let own = self.is_own(url);
        if !own && !self.options.external {
            self.crawl.external_skipped += 1;
            return add(self, State::Skipped);
        }
        if own
            && !self.options.whole
            && self.robots.as_ref().is_some_and(|it| !it.allows(&path_of(url)))
        {
            self.crawl.robots_skipped += 1;
            return add(self, State::Skipped);
        }
        let foreign = if own { None } else { self.others.get(&origin(url)) };
        if let Some(problem) = foreign.and_then(|foreign| foreign.failing.clone()) {
            self.outcomes.push(Outcome::Host(host_of(url), problem));
            self.crawl.external += 1;
            let state = State::Wrong(self.outcomes.len() as u32 - 1);
            return add(self, state);
        }
        let kind = found.link.kind;
        let wanted = match (kind, &read.user) {
            (LinkKind::Page | LinkKind::Frame | LinkKind::Embedded | LinkKind::Alternate, _)
                if found.to.inside =>
            {
                Wanted::Page
            }
            (LinkKind::Style, Some(user)) => Wanted::Sheet(user.clone()),
            (LinkKind::Module, Some(user)) if own => Wanted::Module(user.clone()),
            (LinkKind::Manifest, Some(user)) if own => Wanted::Manifest(user.clone()),
            _ => Wanted::Existence,
        };
        // Of a sheet it counts how many have imported it.
        let imported = matches!(wanted, Wanted::Sheet(_) | Wanted::Module(_));
        let depth = if imported && read.is_page { 0 } else { depth };
        let (too_deep, limit) = match wanted {
            Wanted::Page => (depth > self.options.depth, "depth"),
            Wanted::Sheet(_) | Wanted::Module(_) => (depth > limits::SCAN_IMPORTS, "imports"),
            _ => (false, ""),
        };
        if too_deep {
            self.limit(limit, url, 1);
            return add(self, State::Skipped);
        }
        let generation = match (&wanted, &read.user) {
            (Wanted::Page, Some(user)) => {
                self.crawl.shapes.generation(&user.url, self.generation, url)
            }
            _ => 0,
        };
        if matches!(wanted, Wanted::Page) && self.crawl.shapes.is_endless(url, generation) {
            return add(self, State::Skipped);
        }
        let id = self.crawl.store.add(found.to.key, found.to.target(), State::Waiting)?;
        self.push(Task { depth, generation, ..Task::new(id, url.clone(), wanted) }, false);
        Ok(Some(id))
    }

    pub(super) fn not_followed(&mut self, address: &str) {
        self.crawl.not_followed_total += 1;
        if self.crawl.not_followed.len() < NOT_FOLLOWED {
            self.crawl.not_followed.insert(address.to_owned());
        }
    }
}
