//! What a crawl has found: what came back for every address, and who refers to it.

use super::ScanOptions;
use fernweh_core::finding::Finding;
use fernweh_core::page::{Link, LinkKind};
use fernweh_ports::PageProblem;
use std::collections::{BTreeMap, BTreeSet};

/// What came back for an address.
#[derive(Clone, Debug)]
pub(super) enum Outcome {
    /// A status, and the way that redirects led, from the first address to the last.
    Status(u16, Vec<String>),
    /// Redirects that lead back to one of themselves.
    Loop(Vec<String>),
    /// Nothing came back.
    Problem(PageProblem),
}

/// Who refers to an address.
#[derive(Clone, Debug)]
pub(super) struct Reference {
    pub kind: LinkKind,
    pub page: String,
    pub sheet: Option<String>,
    pub link: Link,
}

/// Everything collected.
#[derive(Default)]
pub(super) struct Crawl {
    pub outcomes: BTreeMap<String, Outcome>,
    pub references: BTreeMap<String, Vec<Reference>>,
    pub findings: BTreeSet<Finding>,
    pub not_followed: BTreeSet<String>,
    pub pages: u64,
    pub resources: u64,
    pub external: u64,
    pub external_skipped: u64,
    pub bounded: bool,
}

impl Crawl {
    /// Status and words if the first page gave nothing to scan.
    pub fn start_failed(&self, options: &ScanOptions<'_>) -> Option<(u16, String)> {
        let Some(outcome) = self.outcomes.get(options.start.as_str()) else {
            return Some((0, "a limit of the scan was reached before the first page".into()));
        };
        match outcome {
            Outcome::Status(200, way) if way.len() > 1 && self.pages == 0 => {
                let end = way.last().cloned().unwrap_or_default();
                Some((0, format!("it redirects to {end}, which is another site")))
            }
            Outcome::Status(200, _) => None,
            Outcome::Status(status, _) => Some((*status, words(*status))),
            Outcome::Loop(_) => Some((0, "its redirects form a loop".into())),
            Outcome::Problem(problem) => Some((0, problem.to_string())),
        }
    }
}

/// A status in words.
pub(super) fn words(status: u16) -> String {
    let meaning = match status {
        401 => "a password is required",
        403 => "access is refused",
        404 => "not found",
        410 => "gone",
        429 => "too many requests",
        500 => "the site's program reports an error",
        502..=504 => "the server is not ready",
        _ => "",
    };
    if meaning.is_empty() {
        format!("status {status}")
    } else {
        format!("status {status}, {meaning}")
    }
}
