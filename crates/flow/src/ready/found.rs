//! What the checks tell.

use super::steps::Step;
use fernweh_core::finding::Verdict;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// What a check is about.
#[derive(
    Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema,
)]
#[serde(rename_all = "kebab-case")]
pub enum Topic {
    /// Where the names lead, and who says so.
    Name,
    /// The certificate that the host shows.
    Certificate,
    /// Other spellings of the address, and the old one.
    Redirects,
    /// What search engines are told.
    Search,
    /// What the last rewriting, scan and comparison have left.
    Leftovers,
    /// What the web server hands out, and how.
    Security,
    /// Where mail goes.
    Mail,
    /// The clock of the host.
    Time,
}

impl Topic {
    /// Every topic, in the order of the report.
    pub const ALL: [Topic; 8] = [
        Topic::Name,
        Topic::Certificate,
        Topic::Redirects,
        Topic::Search,
        Topic::Leftovers,
        Topic::Security,
        Topic::Mail,
        Topic::Time,
    ];

    /// The stable name.
    pub fn name(self) -> &'static str {
        match self {
            Topic::Name => "name",
            Topic::Certificate => "certificate",
            Topic::Redirects => "redirects",
            Topic::Search => "search",
            Topic::Leftovers => "leftovers",
            Topic::Security => "security",
            Topic::Mail => "mail",
            Topic::Time => "time",
        }
    }
}

/// Which question is answered.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Question {
    /// Can the domain be switched?
    Before,
    /// Has the switch arrived?
    After,
}

/// What one check came to.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Found {
    /// What it is about.
    pub check: Topic,
    /// A stable word for what was found.
    pub code: String,
    /// How it ended.
    pub verdict: Verdict,
    /// What was found, as a statement.
    pub what: String,
    /// What was asked, of whom, and what came back.
    pub evidence: Vec<String>,
    /// What to do, if something is to be done.
    #[serde(rename = "try")]
    pub hint: Option<String>,
}

impl Found {
    fn new(verdict: Verdict, check: Topic, code: &str, what: impl Into<String>) -> Self {
        let (code, what) = (code.into(), what.into());
        Self { check, code, verdict, what, evidence: Vec::new(), hint: None }
    }

    pub(super) fn passed(check: Topic, code: &str, what: impl Into<String>) -> Self {
        Self::new(Verdict::Passed, check, code, what)
    }

    pub(super) fn warned(
        check: Topic,
        code: &str,
        what: impl Into<String>,
        hint: impl Into<String>,
    ) -> Self {
        Self { hint: Some(hint.into()), ..Self::new(Verdict::Warned, check, code, what) }
    }

    pub(super) fn failed(
        check: Topic,
        code: &str,
        what: impl Into<String>,
        hint: impl Into<String>,
    ) -> Self {
        Self { hint: Some(hint.into()), ..Self::new(Verdict::Failed, check, code, what) }
    }

    pub(super) fn seen(mut self, evidence: impl IntoIterator<Item = String>) -> Self {
        self.evidence.extend(evidence);
        self
    }
}

/// What was found, all in all.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct ReadyReport {
    /// The site.
    pub site: String,
    /// Its address.
    pub url: String,
    /// The site that it takes the place of.
    pub from: Option<String>,
    /// The question that was answered.
    pub question: Question,
    /// Whether nothing failed.
    pub ready: bool,
    /// Whether search engines are kept out on purpose.
    pub hidden: bool,
    /// What was found.
    pub checks: Vec<Found>,
    /// What else is to be said of how it was looked.
    pub notes: Vec<String>,
    /// What only people can do, in order.
    pub steps: Vec<Step>,
    /// How long it took, in seconds.
    pub seconds: f64,
}

impl ReadyReport {
    /// How many checks ended so.
    pub fn count(&self, verdict: Verdict) -> u64 {
        self.checks.iter().filter(|found| found.verdict == verdict).count() as u64
    }
}
