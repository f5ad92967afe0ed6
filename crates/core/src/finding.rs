//! Problems found, with stable codes: the vocabulary of `scan` and of the tests
//! that every command makes before it acts.

use serde::{Deserialize, Serialize};

/// How much a finding weighs.
#[derive(
    Clone,
    Copy,
    Debug,
    PartialEq,
    Eq,
    PartialOrd,
    Ord,
    Hash,
    Serialize,
    Deserialize,
    schemars::JsonSchema,
)]
#[serde(rename_all = "kebab-case")]
pub enum Severity {
    /// Visitors see something broken.
    Broken,
    /// It works, but not as it should.
    Warning,
}

/// The kinds of problems that `scan` finds.
#[derive(
    Clone,
    Copy,
    Debug,
    PartialEq,
    Eq,
    PartialOrd,
    Ord,
    Hash,
    Serialize,
    Deserialize,
    schemars::JsonSchema,
)]
#[serde(rename_all = "kebab-case")]
pub enum Code {
    /// A link leads to a page that is not there.
    BrokenLink,
    /// A picture, style, script or other part of a page is not there.
    BrokenResource,
    /// Redirects that lead back to themselves.
    RedirectLoop,
    /// A http: script, style, frame or font on a https page: browsers refuse it.
    MixedBlocked,
    /// A http: picture, sound or film on a https page: fetched over https or not at all.
    MixedUpgraded,
    /// A form on a https page that is sent over http.
    InsecureForm,
    /// Two or more redirects one after the other.
    RedirectChain,
    /// An address of the site's old place.
    OldAddress,
}

impl Code {
    /// Every code, by weight.
    pub const ALL: [Code; 8] = [
        Code::BrokenLink,
        Code::BrokenResource,
        Code::RedirectLoop,
        Code::MixedBlocked,
        Code::MixedUpgraded,
        Code::InsecureForm,
        Code::RedirectChain,
        Code::OldAddress,
    ];

    /// The stable name.
    pub fn name(self) -> &'static str {
        match self {
            Code::BrokenLink => "broken-link",
            Code::BrokenResource => "broken-resource",
            Code::RedirectLoop => "redirect-loop",
            Code::MixedBlocked => "mixed-blocked",
            Code::MixedUpgraded => "mixed-upgraded",
            Code::InsecureForm => "insecure-form",
            Code::RedirectChain => "redirect-chain",
            Code::OldAddress => "old-address",
        }
    }

    /// What it means, in a few words.
    pub fn words(self) -> &'static str {
        match self {
            Code::BrokenLink => "links that lead nowhere",
            Code::BrokenResource => "parts of pages that are missing",
            Code::RedirectLoop => "redirects that never end",
            Code::MixedBlocked => "http: parts that browsers refuse on https pages",
            Code::MixedUpgraded => "http: pictures that browsers fetch over https or not at all",
            Code::InsecureForm => "forms that are sent unencrypted",
            Code::RedirectChain => "several redirects in a row",
            Code::OldAddress => "addresses of the old site",
        }
    }

    /// What to do about it.
    pub fn remedy(self) -> &'static str {
        match self {
            Code::BrokenLink => "correct or remove the link, or bring the page back",
            Code::BrokenResource => "put the file back, or correct the address in the page",
            Code::RedirectLoop => "correct the redirect rule of the server or of the page",
            Code::MixedBlocked => {
                "write https: if that server offers it, or keep a copy on the site"
            }
            Code::MixedUpgraded => {
                "write https: if that server offers it, or keep a copy on the site"
            }
            Code::InsecureForm => "write the form's target with https:",
            Code::RedirectChain => "link to the last address directly",
            Code::OldAddress => "rewrite what is left with fernweh rewrite SITE",
        }
    }

    /// How much it weighs.
    pub fn severity(self) -> Severity {
        match self {
            Code::RedirectChain | Code::OldAddress | Code::MixedUpgraded => Severity::Warning,
            _ => Severity::Broken,
        }
    }
}

/// One problem found on a page.
#[derive(
    Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, schemars::JsonSchema,
)]
pub struct Finding {
    /// The kind.
    pub code: Code,
    /// The page on which it stands.
    pub page: String,
    /// The element, as `img src` or `style url()`.
    pub element: String,
    /// The line of the page, counted from 1; of the style sheet if `sheet` is set.
    pub line: usize,
    /// The style sheet, if the address stands in one.
    pub sheet: Option<String>,
    /// The address as written.
    pub address: String,
    /// What happened: a status, a chain of addresses, an error.
    pub detail: String,
}

/// How a test before acting ended.
#[derive(
    Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, schemars::JsonSchema,
)]
#[serde(rename_all = "kebab-case")]
pub enum Verdict {
    /// As it should be.
    Passed,
    /// Possible trouble.
    Warned,
    /// It will not work.
    Failed,
}

impl Verdict {
    /// The word of the report.
    pub fn name(self) -> &'static str {
        match self {
            Verdict::Passed => "passed",
            Verdict::Warned => "warned",
            Verdict::Failed => "failed",
        }
    }
}

/// One test before acting.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Check {
    /// How it ended.
    pub verdict: Verdict,
    /// What was tested, as a statement.
    pub what: String,
    /// What to do, if something is to be done.
    #[serde(rename = "try")]
    pub hint: Option<String>,
}

impl Check {
    /// A test that passed.
    pub fn passed(what: impl Into<String>) -> Self {
        Self { verdict: Verdict::Passed, what: what.into(), hint: None }
    }

    /// A test that passed with a doubt.
    pub fn warned(what: impl Into<String>, hint: impl Into<String>) -> Self {
        Self { verdict: Verdict::Warned, what: what.into(), hint: Some(hint.into()) }
    }

    /// A test that failed.
    pub fn failed(what: impl Into<String>, hint: impl Into<String>) -> Self {
        Self { verdict: Verdict::Failed, what: what.into(), hint: Some(hint.into()) }
    }
}
