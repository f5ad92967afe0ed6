//! The folders of a site, by size and state.

use super::report::Folder;
use fernweh_core::finding::{Finding, Severity};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use url::Url;

/// Folders that are told apart; pages in others are counted together.
const MOST: usize = 500;

/// How many pages lie below each folder.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub(super) struct Folders(BTreeMap<String, u64>);

impl Folders {
    /// Takes note of a page.
    pub fn read(&mut self, url: &Url) {
        let folder = folder(url);
        let known = self.0.len() < MOST || self.0.contains_key(&folder);
        *self.0.entry(if known { folder } else { "…".into() }).or_default() += 1;
    }

    /// The folders with what was found on their pages.
    pub fn finish(self, findings: &[Finding]) -> Vec<Folder> {
        let mut worst: BTreeMap<&str, Severity> = BTreeMap::new();
        let heavy = findings.iter().filter(|finding| finding.severity != Severity::Note);
        for finding in heavy {
            for spot in &finding.places {
                let severity = worst.entry(&spot.page).or_insert(finding.severity);
                *severity = (*severity).min(finding.severity);
            }
        }
        let mut folders: BTreeMap<String, Folder> = self
            .0
            .into_iter()
            .map(|(path, pages)| (path.clone(), Folder { path, pages, ..Folder::default() }))
            .collect();
        for (page, severity) in worst {
            let Ok(url) = Url::parse(page) else { continue };
            let Some(found) = folders.get_mut(&folder(&url)) else { continue };
            match severity {
                Severity::Broken => found.broken += 1,
                Severity::Insecure => found.insecure += 1,
                Severity::Warning | Severity::Note => found.warnings += 1,
            }
        }
        folders.into_values().collect()
    }
}

/// The first folder of a path; pages at the top are in `/`.
fn folder(url: &Url) -> String {
    let path = url.path();
    match path[1..].find('/') {
        Some(end) => path[..end + 2].to_owned(),
        None => "/".to_owned(),
    }
}
