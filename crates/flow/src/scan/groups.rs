//! Findings as they come: one fault is one finding, however often it shows.

use super::judge::Fault;
use super::report::{ScanReport, Total};
use super::resume::{SavedGroups, SavedReference};
use super::store::{Id, NONE, Reference, Store};
use fernweh_core::finding::{Code, Finding, Severity, Spot};
use fernweh_core::limits;
use fernweh_core::page::fragment_key;
use fernweh_ports::natural;
use std::collections::{BTreeMap, HashMap};
use std::io;

/// One fault.
struct Group {
    finding: Finding,
    places: Vec<Reference>,
    last_page: Id,
}

/// All faults.
#[derive(Default)]
pub(super) struct Groups {
    /// The place of each fault in the list; of those beyond the bound none.
    numbers: HashMap<(Code, u64), Option<usize>>,
    groups: Vec<Group>,
    /// Faults of which only the number is known: there are too many different ones.
    more: BTreeMap<Code, Total>,
}

impl Groups {
    /// Takes note of a fault at a place.
    pub fn add(&mut self, fault: Fault<'_>, place: Option<Reference>) {
        let page = place.map_or(NONE, |place| place.page);
        let Some(group) = self.group(fault, 1) else { return };
        group.finding.occurrences += 1;
        group.finding.pages += u64::from(group.last_page != page || page == NONE);
        group.last_page = page;
        if let Some(place) = place.filter(|_| group.places.len() < limits::SCAN_PLACES) {
            group.places.push(place);
        }
    }

    /// Counts places of a fault that nobody has kept.
    pub fn add_more(&mut self, fault: Fault<'_>, occurrences: u64, pages: u64) {
        let Some(group) = self.group(fault, occurrences) else { return };
        group.finding.occurrences += occurrences;
        group.finding.pages += pages;
    }

    /// The group of a fault; of one beyond the bound only so many occurrences are counted.
    fn group(&mut self, fault: Fault<'_>, occurrences: u64) -> Option<&mut Group> {
        let key = (fault.code, key(fault.address, fault.cause));
        let is_new = !self.numbers.contains_key(&key);
        if is_new && self.groups.len() < limits::SCAN_FINDINGS {
            let mut finding = Finding::new(fault.code, fault.address, fault.cause);
            finding.detail = fault.detail;
            self.numbers.insert(key, Some(self.groups.len()));
            self.groups.push(Group { finding, places: Vec::new(), last_page: NONE });
        }
        let Some(number) = *self.numbers.entry(key).or_default() else {
            let more = self.more.entry(fault.code).or_default();
            more.findings += u64::from(is_new);
            more.occurrences += occurrences;
            return None;
        };
        self.groups.get_mut(number)
    }

    /// Says of faults about http addresses what the server offers over https.
    pub fn offered(&mut self, address: &str, offered: bool) {
        let codes = [Code::MixedBlocked, Code::MixedUpgraded, Code::InsecureDownload];
        for code in codes {
            let number = self.numbers.get(&(code, key(address, ""))).copied().flatten();
            let Some(number) = number else { continue };
            let finding = &mut self.groups[number].finding;
            finding.detail = match offered {
                true => "its server offers the same over https: an s will do".into(),
                false => "its server does not offer it over https: keep a copy on the site".into(),
            };
            // What is asked for over https, and is not there, does not show.
            if finding.code == Code::MixedUpgraded && !offered {
                finding.severity = Severity::Insecure;
            }
        }
    }

    /// The findings as they are written down.
    pub fn saved(&self, store: &mut Store) -> SavedGroups {
        let beyond = self.numbers.iter().filter(|(_, number)| number.is_none());
        SavedGroups {
            groups: self
                .groups
                .iter()
                .map(|group| {
                    let places = group.places.iter().map(|place| SavedReference::of(store, place));
                    (group.finding.clone(), places.collect())
                })
                .collect(),
            beyond: beyond.map(|(key, _)| *key).collect(),
            more: self.more.clone(),
        }
    }

    /// Takes findings that were written down.
    pub fn restore(saved: SavedGroups, store: &mut Store) -> io::Result<Self> {
        let SavedGroups { groups, beyond, more } = saved;
        let beyond = beyond.into_iter().map(|key| (key, None));
        let mut all = Self { numbers: beyond.collect(), groups: Vec::new(), more };
        for (finding, places) in groups {
            let key = (finding.code, key(&finding.address, &finding.cause));
            let places = places.iter().map(|place| place.restore(store));
            let places = places.collect::<io::Result<Vec<_>>>()?;
            all.numbers.insert(key, Some(all.groups.len()));
            all.groups.push(Group { finding, places, last_page: NONE });
        }
        Ok(all)
    }

    /// The findings, by weight and then in the natural order of their addresses, with their totals.
    pub fn finish(self, store: &mut Store, report: &mut ScanReport) {
        let mut add = |severity: Severity, code: Code, total: Total| {
            for entry in [
                report.counts.entry(code.name().into()).or_default(),
                report.totals.entry(severity.name().into()).or_default(),
            ] {
                entry.findings += total.findings;
                entry.occurrences += total.occurrences;
            }
        };
        for (code, total) in self.more {
            add(code.severity(), code, total);
        }
        let mut findings = Vec::with_capacity(self.groups.len());
        for Group { mut finding, places, .. } in self.groups {
            let occurrences = finding.occurrences;
            add(finding.severity, finding.code, Total { findings: 1, occurrences });
            finding.places = places.iter().map(|place| spot(store, place)).collect();
            findings.push(finding);
        }
        let first_page = |finding: &Finding| {
            finding.places.first().map(|spot| (spot.page.clone(), spot.line)).unwrap_or_default()
        };
        findings.sort_by(|a, b| {
            (a.severity, a.code)
                .cmp(&(b.severity, b.code))
                .then_with(|| b.pages.cmp(&a.pages))
                .then_with(|| natural(&a.address, &b.address))
                .then_with(|| first_page(a).cmp(&first_page(b)))
        });
        report.findings = findings;
    }
}

fn key(address: &str, cause: &str) -> u64 {
    fragment_key(address) ^ fragment_key(cause).rotate_left(17)
}

fn spot(store: &mut Store, place: &Reference) -> Spot {
    Spot {
        page: store.address(place.page),
        sheet: (place.sheet != NONE).then(|| store.address(place.sheet)),
        line: place.at.line,
        column: place.at.column,
        element: store.element(place),
        address: store.texts.text(place.written),
        markup: store.texts.text(place.markup),
    }
}
