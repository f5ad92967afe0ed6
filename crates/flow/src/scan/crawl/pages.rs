//! What a page says of itself, and the places in it.

use super::super::titles::Title;
use super::*;
use fernweh_ports::counted;

impl Crawler<'_> {
    /// Takes what a page, a sheet, a script says.
    pub(super) fn read_on(
        &mut self,
        task: &Task,
        answer: &PageResponse,
        read: Read,
        inside: bool,
    ) -> io::Result<()> {
        let (page, sheet) = match &task.wanted {
            Wanted::Page => {
                if !inside || !self.landed.insert(key_of(task.url.as_str())) {
                    return Ok(());
                }
                let id = self.id_of_landing(task)?;
                if let Some(visited) = self.options.visited {
                    visited(&task.url);
                }
                (id, NONE)
            }
            Wanted::Sheet(user) | Wanted::Module(user) | Wanted::Manifest(user) => {
                (user.page, task.id)
            }
            _ => return Ok(()),
        };
        if answer.is_cut {
            self.limit("size", &task.url, 0);
        }
        if sheet == NONE && !read.is_page {
            // A paper, an archive, a feed.
            self.crawl.resources += 1;
        } else if sheet == NONE {
            self.crawl.pages += 1;
            self.progress.advance(1);
            self.page_itself(task, answer, &read, page)?;
        }
        self.old_addresses(&read, (page, sheet))?;
        self.generation = task.generation;
        for found in &read.links {
            self.refer(&read, found, (page, sheet), task.depth + 1)?;
        }
        Ok(())
    }

    pub(super) fn old_addresses(&mut self, read: &Read, places: (Id, Id)) -> io::Result<()> {
        for old in &read.old {
            let (kind, usage) = (LinkKind::Page, Usage::Followed);
            let reference = self.crawl.store.reference(
                kind,
                usage,
                &old.element,
                places,
                old.at,
                &old.address,
                &old.markup,
            )?;
            let (code, address) = (Code::OldAddress, old.address.as_str());
            let fault = Fault { code, address, cause: "", detail: String::new() };
            self.crawl.groups.add(fault, Some(reference));
        }
        Ok(())
    }

    /// The number of the page that was read, which may lie behind redirects.
    pub(super) fn id_of_landing(&mut self, task: &Task) -> io::Result<Id> {
        if task.way.is_empty() {
            return Ok(task.id);
        }
        let (address, key) = (task.url.to_string(), key_of(task.url.as_str()));
        match self.crawl.store.find(key) {
            Some(id) => Ok(id),
            None => self.crawl.store.add(key, &address, State::Good(Class::Page)),
        }
    }

    /// What is to be said of a page itself, whoever refers to it.
    pub(super) fn page_itself(
        &mut self,
        task: &Task,
        answer: &PageResponse,
        read: &Read,
        page: Id,
    ) -> io::Result<()> {
        self.crawl.shapes.read(&task.url, &read.words);
        self.crawl.folders.read(&task.url);
        if !read.places.is_empty() {
            let names: Vec<u8> = read.places.iter().flat_map(|name| name.to_le_bytes()).collect();
            let kept = self.crawl.store.texts.keep(&names)?;
            self.places.insert(page, kept);
        }
        let (address, start) = (task.url.as_str(), self.options.start.as_str());
        let path = path_of(&task.url);
        let is_empty = read.words.count == 0 && read.links.is_empty();
        if !is_empty {
            self.titles.read(&read.title, page);
        }
        let mut say = |fault: Fault<'_>, written: &str| {
            let (kind, usage, at) = (LinkKind::Page, Usage::Followed, Place { line: 1, column: 1 });
            let store = &mut self.crawl.store;
            let place = store.reference(kind, usage, "page", (page, NONE), at, written, "")?;
            self.crawl.groups.add(fault, Some(place));
            Ok::<(), io::Error>(())
        };
        let fault = |code, address, detail| Fault { code, address, cause: "", detail };
        if let Some(complaint) = &read.words.complaint {
            say(fault(Code::ServerError, address, complaint.clone()), &path)?;
        } else if read.is_page && is_empty {
            let detail = "it holds neither text nor links".into();
            say(fault(Code::EmptyPage, address, detail), &path)?;
        }
        if answer.waited > self.options.slow {
            say(judge::slow(address, answer.waited.as_millis() as u64), &path)?;
        }
        let bytes = answer.body.len() as u64;
        if judge::is_heavy(Class::Page, bytes) {
            say(judge::heavy(address, bytes), &path)?;
        }
        // One setting of the site hides one page or all.
        if read.hidden {
            say(fault(Code::HiddenPage, start, "pages say noindex".into()), "noindex")?;
        }
        Ok(())
    }

    /// Judges what can only be judged when every page has been read.
    pub(super) fn finish(&mut self) -> io::Result<()> {
        if let Start::Page { leads_on: false, .. } = self.crawl.start
            && !self.crawl.listed
        {
            self.limit("links", &self.options.start.clone(), 0);
        }
        self.of_titles()?;
        let top = [key_of("top"), key_of("")];
        let mut fragments: Vec<_> = std::mem::take(&mut self.fragments).into_iter().collect();
        fragments.sort_by_key(|((id, fragment), place)| (*id, *fragment, place.address));
        let mut known: (Id, Vec<u8>) = (NONE, Vec::new());
        for ((id, fragment), place) in fragments {
            let is_page = self.crawl.store.state(id) == State::Good(Class::Page);
            if !is_page || top.contains(&fragment) {
                continue;
            }
            if known.0 != id {
                let names = self.places.get(&id).copied();
                let names = names.map(|names| self.crawl.store.texts.bytes(names)).transpose()?;
                known = (id, names.unwrap_or_default());
            }
            let wanted = fragment.to_le_bytes();
            if known.1.chunks_exact(8).any(|name| name == wanted) {
                continue;
            }
            let written = self.crawl.store.texts.text(place.reference.written);
            let name = written.split_once('#').map_or("", |(_, name)| name).to_owned();
            // Scripts show other pages by what stands behind the `#`.
            if name.starts_with(['/', '!']) || name.contains('=') {
                continue;
            }
            let page = self.crawl.store.address(id);
            let address = format!("{page}#{name}");
            let detail = format!("no element of that page has the id {name}");
            let fault = Fault { code: Code::MissingPlace, address: &address, cause: "", detail };
            self.crawl.groups.add(fault, Some(place.reference));
            if place.occurrences > 1 {
                let detail = String::new();
                let fault =
                    Fault { code: Code::MissingPlace, address: &address, cause: "", detail };
                self.crawl.groups.add_more(fault, place.occurrences - 1, 0);
            }
        }
        Ok(())
    }

    /// Titles that do not tell pages apart.
    fn of_titles(&mut self) -> io::Result<()> {
        for title in std::mem::take(&mut self.titles).wrong(self.crawl.pages) {
            let Title { text, pages, first } = title;
            let detail = match text.is_empty() {
                true => format!("{} without a title", counted(pages, "page is", "pages are")),
                false => format!("{} this title", counted(pages, "page has", "pages have")),
            };
            let (kind, usage, at) = (LinkKind::Page, Usage::Followed, Place { line: 1, column: 1 });
            let store = &mut self.crawl.store;
            let place = store.reference(kind, usage, "title", (first, NONE), at, &text, "")?;
            // What it is about is the title; without one, the site.
            let address = if text.is_empty() { self.options.start.as_str() } else { &text };
            let fault = |detail| Fault { code: Code::SameTitle, address, cause: "", detail };
            self.crawl.groups.add(fault(detail), Some(place));
            self.crawl.groups.add_more(fault(String::new()), pages - 1, pages - 1);
        }
        Ok(())
    }

    /// Takes note of a link to a place in a page.
    pub(super) fn of_fragment(
        &mut self,
        read: &Read,
        found: &Found,
        places: (Id, Id),
        id: Id,
    ) -> io::Result<()> {
        let Some(fragment) = found.to.fragment.filter(|_| found.to.inside) else { return Ok(()) };
        if found.link.usage != Usage::Followed {
            return Ok(());
        }
        if let Some(known) = self.fragments.get_mut(&(id, fragment)) {
            known.occurrences += 1;
            return Ok(());
        }
        if self.fragments.len() < limits::SCAN_FRAGMENTS {
            let reference = self.reference(read, found, places)?;
            let place = Fragment { reference, occurrences: 1, address: found.to.key };
            self.fragments.insert((id, fragment), place);
        }
        Ok(())
    }
}
