//! The addresses that a scan knows, and who refers to those that have not been asked for yet.
//!
//! Half a million addresses must fit into little memory: texts lie one after the other in a
//! temporary file once there are many; an address is a row of numbers.

use fernweh_core::page::{LinkKind, Place, Usage};
use serde::{Deserialize, Serialize};
use std::collections::HashMap;
use std::io::{self, Read, Seek, SeekFrom, Write};
use tempfile::SpooledTempFile;

/// Bytes of texts that are kept in memory.
const IN_MEMORY: usize = 24 << 20;

/// A text in the store.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(super) struct Text {
    at: u64,
    length: u32,
}

/// Texts, one after the other.
pub(super) struct Texts {
    file: SpooledTempFile,
    end: u64,
    /// What was added last, before it is written.
    recent: Vec<u8>,
}

impl Texts {
    fn new() -> Self {
        Self { file: SpooledTempFile::new(IN_MEMORY), end: 0, recent: Vec::new() }
    }

    /// Keeps a text.
    pub fn keep(&mut self, text: &[u8]) -> io::Result<Text> {
        let kept = Text { at: self.end + self.recent.len() as u64, length: text.len() as u32 };
        self.recent.extend_from_slice(text);
        if self.recent.len() > 64 << 10 {
            self.file.seek(SeekFrom::Start(self.end))?;
            self.file.write_all(&self.recent)?;
            self.end += self.recent.len() as u64;
            self.recent.clear();
        }
        Ok(kept)
    }

    /// The bytes of a text.
    pub fn bytes(&mut self, text: Text) -> io::Result<Vec<u8>> {
        if text.at >= self.end {
            let at = (text.at - self.end) as usize;
            return Ok(self.recent[at..at + text.length as usize].to_vec());
        }
        let mut bytes = vec![0; text.length as usize];
        self.file.seek(SeekFrom::Start(text.at))?;
        self.file.read_exact(&mut bytes)?;
        Ok(bytes)
    }

    /// A text; of a file that cannot be read any more an empty one.
    pub fn text(&mut self, text: Text) -> String {
        self.bytes(text).map(|it| String::from_utf8_lossy(&it).into_owned()).unwrap_or_default()
    }
}

/// The number of an address.
pub(super) type Id = u32;

/// No address.
pub(super) const NONE: Id = Id::MAX;

/// What is known of an address.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(super) enum State {
    /// Not asked for yet.
    Waiting,
    /// It is there.
    Good(Class),
    /// Something is wrong with it: the number of what came of it.
    Wrong(u32),
    /// It is not asked for.
    Skipped,
}

/// What kind of thing is at an address, by its media type.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(super) enum Class {
    Page,
    Style,
    Script,
    Picture,
    Media,
    Font,
    Other,
    /// The server does not say.
    Unknown,
}

/// Where an address is referred to.
#[derive(Clone, Copy, Debug)]
pub(super) struct Reference {
    pub kind: LinkKind,
    pub usage: Usage,
    element: u16,
    pub page: Id,
    pub sheet: Id,
    pub at: Place,
    pub written: Text,
    pub markup: Text,
    next: u32,
}

struct Row {
    text: Text,
    state: State,
    first: u32,
    last: u32,
    kept: u16,
    /// The roles of the kept references, a bit for each: what comes is judged by them.
    roles: u32,
    /// References that were only counted, and the pages they are on.
    more: u32,
    more_pages: u32,
    last_page: Id,
}

/// The store.
pub(super) struct Store {
    pub texts: Texts,
    ids: HashMap<u64, Id>,
    rows: Vec<Row>,
    references: Vec<Reference>,
    free: Vec<u32>,
    elements: Vec<String>,
    element_numbers: HashMap<String, u16>,
}

/// References that are kept of one address that has not been asked for yet; the others are counted.
const KEPT: u16 = 20;
/// References that are kept of all of these; beyond, one of each.
const KEPT_IN_ALL: usize = 100_000;

impl Store {
    pub fn new() -> Self {
        Self {
            texts: Texts::new(),
            ids: HashMap::new(),
            rows: Vec::new(),
            references: Vec::new(),
            free: Vec::new(),
            elements: Vec::new(),
            element_numbers: HashMap::new(),
        }
    }

    pub fn len(&self) -> usize {
        self.rows.len()
    }

    /// The address with this key, if it is known.
    pub fn find(&self, key: u64) -> Option<Id> {
        self.ids.get(&key).copied()
    }

    /// A new address.
    pub fn add(&mut self, key: u64, address: &str, state: State) -> io::Result<Id> {
        let id = self.rows.len() as Id;
        let text = self.texts.keep(address.as_bytes())?;
        self.ids.insert(key, id);
        self.rows.push(Row {
            text,
            state,
            first: NONE,
            last: NONE,
            kept: 0,
            roles: 0,
            more: 0,
            more_pages: 0,
            last_page: NONE,
        });
        Ok(id)
    }

    pub fn address(&mut self, id: Id) -> String {
        match self.rows.get(id as usize) {
            Some(row) => {
                let text = row.text;
                self.texts.text(text)
            }
            None => String::new(),
        }
    }

    pub fn state(&self, id: Id) -> State {
        self.rows[id as usize].state
    }

    pub fn set_state(&mut self, id: Id, state: State) {
        self.rows[id as usize].state = state;
    }

    /// The number of an element's name; beyond many different ones they share one.
    fn element_number(&mut self, element: &str) -> u16 {
        if let Some(number) = self.element_numbers.get(element) {
            return *number;
        }
        let element = match self.elements.len() < usize::from(u16::MAX) - 1 {
            true => element.to_owned(),
            false => "…".to_owned(),
        };
        let number = self.elements.len().min(usize::from(u16::MAX) - 1) as u16;
        if self.elements.len() <= usize::from(number) {
            self.elements.push(element.clone());
        }
        self.element_numbers.insert(element, number);
        number
    }

    pub fn element(&self, reference: &Reference) -> String {
        self.elements[usize::from(reference.element)].clone()
    }

    /// Makes a reference, with its texts kept.
    #[allow(clippy::too_many_arguments)]
    pub fn reference(
        &mut self,
        kind: LinkKind,
        usage: Usage,
        element: &str,
        (page, sheet): (Id, Id),
        at: Place,
        written: &str,
        markup: &str,
    ) -> io::Result<Reference> {
        let element = self.element_number(element);
        let written = self.texts.keep(written.as_bytes())?;
        let markup = self.texts.keep(markup.as_bytes())?;
        Ok(Reference { kind, usage, element, page, sheet, at, written, markup, next: NONE })
    }

    /// Whether one more reference to this address would be kept, and counts it if not.
    pub fn wants_reference(&mut self, id: Id, page: Id, kind: LinkKind) -> bool {
        let many = self.references.len() - self.free.len() >= KEPT_IN_ALL;
        let row = &mut self.rows[id as usize];
        // A picture that is a page is a fault, however many links to that page there are.
        let most = if many { 1 } else { KEPT };
        if row.kept < most || row.roles & bit(kind) == 0 {
            return true;
        }
        row.more += 1;
        row.more_pages += u32::from(row.last_page != page);
        row.last_page = page;
        false
    }

    /// Counts references that are not kept.
    pub fn count_more(&mut self, id: Id, more: u32, pages: u32) {
        let row = &mut self.rows[id as usize];
        row.more += more;
        row.more_pages += pages;
    }

    /// Keeps a reference to an address that has not been asked for yet.
    pub fn refer(&mut self, id: Id, reference: Reference) {
        let number = match self.free.pop() {
            Some(number) => {
                self.references[number as usize] = reference;
                number
            }
            None => {
                self.references.push(reference);
                self.references.len() as u32 - 1
            }
        };
        let row = &mut self.rows[id as usize];
        row.last_page = reference.page;
        row.kept += 1;
        row.roles |= bit(reference.kind);
        match row.last {
            NONE => row.first = number,
            last => self.references[last as usize].next = number,
        }
        row.last = number;
    }

    /// Takes the references of an address, with how many more there were and on how many pages.
    pub fn take_references(&mut self, id: Id) -> (Vec<Reference>, u64, u64) {
        let row = &mut self.rows[id as usize];
        let more = (u64::from(row.more), u64::from(row.more_pages));
        let mut next = std::mem::replace(&mut row.first, NONE);
        row.last = NONE;
        (row.kept, row.roles, row.more, row.more_pages) = (0, 0, 0, 0);
        let mut found = Vec::new();
        while next != NONE {
            let reference = self.references[next as usize];
            self.free.push(next);
            next = reference.next;
            found.push(reference);
        }
        (found, more.0, more.1)
    }
}

fn bit(kind: LinkKind) -> u32 {
    1 << kind as u32
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn texts_come_back_from_memory_and_from_the_file() {
        let mut texts = Texts { file: SpooledTempFile::new(100), end: 0, recent: Vec::new() };
        let kept: Vec<Text> =
            (0..20_000).map(|n| texts.keep(format!("text {n}").as_bytes()).unwrap()).collect();
        for n in [0, 1, 9_999, 19_999, 5] {
            assert_eq!(texts.text(kept[n]), format!("text {n}"));
        }
    }

    #[test]
    fn references_are_kept_up_to_a_number_and_counted_beyond() {
        let mut store = Store::new();
        let id = store.add(7, "https://a.example/", State::Waiting).unwrap();
        for page in 0..100 {
            let kind = if page == 60 { LinkKind::Picture } else { LinkKind::Page };
            if store.wants_reference(id, page, kind) {
                let (usage, at) = (Usage::Followed, Place::default());
                let element = "a href";
                let made = store.reference(kind, usage, element, (page, NONE), at, "/", "<a>");
                store.refer(id, made.unwrap());
            }
        }
        let (kept, more, more_pages) = store.take_references(id);
        assert_eq!((kept.len(), more, more_pages), (21, 79, 79));
        assert_eq!(kept[20].kind, LinkKind::Picture);
        assert_eq!(kept[19].page, 19);
        assert_eq!(store.element(&kept[0]), "a href");
        assert!(store.take_references(id).0.is_empty());
        assert_eq!(store.free.len(), 21);
    }
}
