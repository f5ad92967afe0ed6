//! What a scan tells.

use super::endless::Endless;
use fernweh_core::finding::{Code, Finding, Severity};
use serde::{Deserialize, Serialize};
use std::borrow::Cow;
use std::collections::BTreeMap;

/// Something at which the scan stopped before everything was read.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Limit {
    /// Which limit: `pages`, `depth`, `minutes`, `size`, `addresses`, `imports`,
    /// `silence`, `links`.
    pub limit: Cow<'static, str>,
    /// The first address at which it cut.
    pub at: String,
    /// How many addresses were left out because of it.
    pub left: u64,
}

/// How much there is of something.
#[derive(
    Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema,
)]
pub struct Total {
    /// Different problems.
    pub findings: u64,
    /// Places at which they show.
    pub occurrences: u64,
}

/// Pages below one folder of the site.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, schemars::JsonSchema)]
pub struct Folder {
    /// Its path.
    pub path: String,
    /// Pages in it that were read.
    pub pages: u64,
    /// Of these, how many show something broken, …
    pub broken: u64,
    /// … nothing broken, but something insecure, …
    pub insecure: u64,
    /// … or no more than a warning, as far as places are shown.
    pub warnings: u64,
}

/// What a scan found.
#[derive(Clone, Debug, Default, Serialize, schemars::JsonSchema)]
pub struct ScanReport {
    /// The first page.
    pub start: String,
    /// Pages read.
    pub pages: u64,
    /// Pictures, styles, scripts and the like that were asked for.
    pub resources: u64,
    /// Addresses on other hosts that were asked for.
    pub external: u64,
    /// Addresses on other hosts that were not asked for.
    pub external_skipped: u64,
    /// Addresses that the site's `robots.txt` closes to robots, and that were not asked for.
    pub robots_skipped: u64,
    /// Links that were not followed because they log out or delete: the first of them.
    pub not_followed: Vec<String>,
    /// How many these are.
    pub not_followed_total: u64,
    /// Pages without end that were cut off.
    pub endless: Vec<Endless>,
    /// Whether a limit ended the scan before everything was read.
    pub bounded: bool,
    /// These limits.
    pub limits: Vec<Limit>,
    /// Whether it was stopped by the user.
    pub interrupted: bool,
    /// The folders of the site.
    pub folders: Vec<Folder>,
    /// Some of the pages that were read, as paths on their host.
    #[serde(skip)]
    pub sample: Vec<String>,
    /// How long it took, in seconds.
    pub seconds: f64,
    /// How much was found, by code.
    pub counts: BTreeMap<String, Total>,
    /// How much was found, by severity.
    pub totals: BTreeMap<String, Total>,
    /// The findings, by weight.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub findings: Vec<Finding>,
}

impl ScanReport {
    /// How much was found of a weight.
    pub fn of(&self, severity: Severity) -> Total {
        self.totals.get(severity.name()).copied().unwrap_or_default()
    }

    /// How much was found of a kind.
    pub fn of_code(&self, code: Code) -> Total {
        self.counts.get(code.name()).copied().unwrap_or_default()
    }

    /// Whether there is nothing to look at: everything was read, and nothing weighs as much as a
    /// weight that is not tolerated.
    pub fn is_fine(&self, tolerated: Option<Severity>) -> bool {
        let weighs = |severity: &Severity| {
            *severity != Severity::Note && tolerated.is_none_or(|tolerated| *severity < tolerated)
        };
        let heavy = Severity::ALL.iter().filter(|severity| weighs(severity));
        let found: u64 = heavy.map(|severity| self.of(*severity).findings).sum();
        found == 0 && !self.bounded && !self.interrupted
    }
}
