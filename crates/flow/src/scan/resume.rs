//! A scan that was interrupted goes on where it stopped: what it knew is written down, and read again
//! when the same scan is typed once more.
//!
//! Pages that were read are not read again; what waited still waits. What the site asks of robots, and
//! what its "not found" looks like, is asked anew.

use super::endless::Shapes;
use super::folders::Folders;
use super::judge::Outcome;
use super::report::{Limit, Total};
use super::store::{Id, NONE, Reference, State, Store};
use super::titles::Titles;
use fernweh_core::finding::{Code, Finding};
use fernweh_core::page::policy::Policies;
use fernweh_core::page::{ImportMap, LinkKind, Place, Usage};
use fernweh_ports::{PageProblem, Result};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use std::io;
use url::Url;

/// Where the state of an interrupted scan is kept.
pub trait ScanState {
    /// What is kept, if it is not too old.
    fn load(&self) -> Option<Vec<u8>>;
    /// Keeps it.
    fn save(&self, state: &[u8]) -> Result<()>;
    /// Forgets it: the scan is complete.
    fn forget(&self);
}

/// The form of the state; another one is not read.
const FORM: u32 = 2;

/// What an interrupted scan knew.
#[derive(Default, Serialize, Deserialize)]
pub(super) struct Saved {
    form: u32,
    /// The first page, and the options by which a scan is the same.
    pub scan: String,
    pub addresses: Vec<(String, State)>,
    pub outcomes: Vec<Outcome>,
    /// References to addresses that wait.
    pub references: Vec<(Id, SavedReference)>,
    /// References that were only counted: how many, and on how many pages.
    pub more: Vec<(Id, u32, u32)>,
    pub groups: SavedGroups,
    pub pending: Vec<Pending>,
    pub places: Vec<(Id, Vec<u64>)>,
    pub fragments: Vec<SavedFragment>,
    pub shapes: Shapes,
    pub folders: Folders,
    pub landed: BTreeSet<u64>,
    pub lists: BTreeSet<u64>,
    pub offers: BTreeSet<String>,
    pub titles: Titles,
    pub limits: Vec<Limit>,
    pub not_followed: BTreeSet<String>,
    pub start: Start,
    pub listed: bool,
    /// Pages, parts, other hosts: asked, skipped; closed to robots; links that act; pages and sheets
    /// that were asked for.
    pub counts: [u64; 8],
}

/// Something that still has to be asked for.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub(super) struct Pending {
    pub id: Id,
    pub url: String,
    pub wanted: PendingKind,
    pub depth: u32,
    pub generation: u32,
}

#[derive(Clone, Debug, Serialize, Deserialize)]
pub(super) enum PendingKind {
    Page,
    /// A style sheet, a script or a description, and the page that uses it.
    Sheet(SavedUser),
    Module(SavedUser),
    Manifest(SavedUser),
    Sitemap,
    Existence,
    Offer,
}

/// The page that uses a sheet or a script, and what it allows.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub(super) struct SavedUser {
    pub page: Id,
    pub policies: Policies,
    pub imports: Option<ImportMap>,
}

impl Pending {
    /// Whether the addresses that it names are there.
    pub fn is_sound(&self, addresses: usize) -> bool {
        let known = |id: Id| (id as usize) < addresses;
        let user = match &self.wanted {
            PendingKind::Sheet(user) | PendingKind::Module(user) | PendingKind::Manifest(user) => {
                known(user.page)
            }
            _ => true,
        };
        user && (self.id == NONE || known(self.id)) && Url::parse(&self.url).is_ok()
    }
}

/// What came of the first page.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub(super) enum Start {
    /// A limit was reached before it.
    #[default]
    Unasked,
    /// It is a page: with so many addresses, of which some lead on to other pages of the site, and
    /// perhaps behind a redirect to a login.
    Page {
        links: usize,
        leads_on: bool,
        asks_password: bool,
        moved: bool,
    },
    /// It is something else.
    NoPage(String),
    Status(u16),
    Elsewhere(String),
    Loop,
    Problem(PageProblem),
}

/// A link to a place in a page.
#[derive(Serialize, Deserialize)]
pub(super) struct SavedFragment {
    pub page: Id,
    pub name: u64,
    pub reference: SavedReference,
    pub occurrences: u64,
    pub address: u64,
}

/// The findings so far.
#[derive(Default, Serialize, Deserialize)]
pub(super) struct SavedGroups {
    pub groups: Vec<(Finding, Vec<SavedReference>)>,
    /// Keys of those of which only the number is known, and these numbers.
    pub beyond: Vec<(Code, u64)>,
    pub more: BTreeMap<Code, Total>,
}

/// A reference with its texts.
#[derive(Serialize, Deserialize)]
pub(super) struct SavedReference {
    kind: LinkKind,
    usage: Usage,
    element: String,
    page: Id,
    sheet: Id,
    at: Place,
    written: String,
    markup: String,
}

impl SavedReference {
    pub fn of(store: &mut Store, reference: &Reference) -> Self {
        Self {
            kind: reference.kind,
            usage: reference.usage,
            element: store.element(reference),
            page: reference.page,
            sheet: reference.sheet,
            at: reference.at,
            written: store.texts.text(reference.written),
            markup: store.texts.text(reference.markup),
        }
    }

    pub fn restore(&self, store: &mut Store) -> io::Result<Reference> {
        let places = (self.page, self.sheet);
        let (element, written, markup) = (&self.element, &self.written, &self.markup);
        store.reference(self.kind, self.usage, element, places, self.at, written, markup)
    }

    /// Whether the addresses that it names are there.
    fn is_sound(&self, addresses: usize) -> bool {
        let known = |id: Id| id == NONE || (id as usize) < addresses;
        known(self.page) && known(self.sheet)
    }
}

impl Saved {
    /// Reads a state of the same scan; whatever does not fit together is left.
    pub fn read(bytes: &[u8], scan: &str) -> Option<Self> {
        let saved: Self = serde_json::from_slice(bytes).ok()?;
        let addresses = saved.addresses.len();
        let known = |id: &Id| (*id as usize) < addresses;
        let outcome = |state: &State| match state {
            State::Wrong(number) => (*number as usize) < saved.outcomes.len(),
            _ => true,
        };
        let sound = saved.form == FORM
            && saved.scan == scan
            && addresses > 0
            && saved.addresses.iter().all(|(_, state)| outcome(state))
            && saved.references.iter().all(|(id, it)| known(id) && it.is_sound(addresses))
            && saved.more.iter().all(|(id, ..)| known(id))
            && saved
                .groups
                .groups
                .iter()
                .all(|(_, all)| all.iter().all(|it| it.is_sound(addresses)))
            && saved.places.iter().all(|(id, _)| known(id))
            && saved.fragments.iter().all(|it| known(&it.page) && it.reference.is_sound(addresses))
            && saved.pending.iter().all(|it| it.is_sound(addresses));
        sound.then_some(saved)
    }

    /// A state of nothing yet.
    pub fn new(scan: String) -> Self {
        Self { form: FORM, scan, ..Self::default() }
    }

    /// The state as it is kept.
    pub fn bytes(&self) -> Vec<u8> {
        serde_json::to_vec(self).unwrap_or_default()
    }
}
