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
    /// Browsers refuse it, or warn visitors.
    Insecure,
    /// It works, but not as it should.
    Warning,
    /// Worth knowing.
    Note,
}

impl Severity {
    /// Every weight, the heaviest first.
    pub const ALL: [Severity; 4] =
        [Severity::Broken, Severity::Insecure, Severity::Warning, Severity::Note];

    /// The stable name.
    pub fn name(self) -> &'static str {
        match self {
            Severity::Broken => "broken",
            Severity::Insecure => "insecure",
            Severity::Warning => "warning",
            Severity::Note => "note",
        }
    }
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
    /// A host that pages refer to cannot be asked at all.
    HostUnreachable,
    /// Redirects that lead back to themselves.
    RedirectLoop,
    /// A page says with status 200 what it says to any made-up address.
    SoftMissing,
    /// A program of the server reports an error in the page.
    ServerError,
    /// A page without any content.
    EmptyPage,
    /// Something else came than the element expects: a page for a picture.
    WrongContent,
    /// The page's own security policy refuses one of its parts.
    PolicyBlocked,
    /// A redirect to the site's old place.
    OldRedirect,
    /// A http: script, style, frame or font on a https page: browsers refuse it.
    MixedBlocked,
    /// A https address that leads on to a http one.
    InsecureRedirect,
    /// A form on a https page that is sent over http.
    InsecureForm,
    /// A http: download on a https page: browsers refuse or warn.
    InsecureDownload,
    /// A http: picture, sound or film on a https page: fetched over https or not at all.
    MixedUpgraded,
    /// An address of the site's old place.
    OldAddress,
    /// A page names another site as its own address (canonical, hreflang, Open Graph).
    ElsewhereAddress,
    /// Two or more redirects one after the other.
    RedirectChain,
    /// A page asks search engines not to list it.
    HiddenPage,
    /// A link leads to a page that asks for a login.
    LoginNeeded,
    /// A link names a place in a page that the page does not have.
    MissingPlace,
    /// Many pages have one title, or one that says nothing.
    SameTitle,
    /// A page, or a part of one, for which the server needs long.
    SlowAnswer,
    /// A page, or a part of one, that is far larger than visitors should have to wait for.
    HeavyFile,
    /// Another host turns programs away, so that nothing is known.
    NotChecked,
}

impl Code {
    /// Every code, by weight.
    pub const ALL: [Code; 25] = [
        Code::BrokenLink,
        Code::BrokenResource,
        Code::HostUnreachable,
        Code::RedirectLoop,
        Code::SoftMissing,
        Code::ServerError,
        Code::EmptyPage,
        Code::WrongContent,
        Code::PolicyBlocked,
        Code::OldRedirect,
        Code::MixedBlocked,
        Code::InsecureRedirect,
        Code::InsecureForm,
        Code::InsecureDownload,
        Code::MixedUpgraded,
        Code::OldAddress,
        Code::ElsewhereAddress,
        Code::RedirectChain,
        Code::HiddenPage,
        Code::LoginNeeded,
        Code::MissingPlace,
        Code::SameTitle,
        Code::SlowAnswer,
        Code::HeavyFile,
        Code::NotChecked,
    ];

    /// The stable name.
    pub fn name(self) -> &'static str {
        match self {
            Code::BrokenLink => "broken-link",
            Code::BrokenResource => "broken-resource",
            Code::HostUnreachable => "host-unreachable",
            Code::RedirectLoop => "redirect-loop",
            Code::SoftMissing => "soft-missing",
            Code::ServerError => "server-error",
            Code::EmptyPage => "empty-page",
            Code::WrongContent => "wrong-content",
            Code::MixedBlocked => "mixed-blocked",
            Code::MixedUpgraded => "mixed-upgraded",
            Code::InsecureRedirect => "insecure-redirect",
            Code::InsecureForm => "insecure-form",
            Code::InsecureDownload => "insecure-download",
            Code::PolicyBlocked => "policy-blocked",
            Code::OldAddress => "old-address",
            Code::OldRedirect => "old-redirect",
            Code::ElsewhereAddress => "elsewhere-address",
            Code::HiddenPage => "hidden-page",
            Code::LoginNeeded => "login-needed",
            Code::RedirectChain => "redirect-chain",
            Code::MissingPlace => "missing-place",
            Code::SameTitle => "same-title",
            Code::SlowAnswer => "slow-answer",
            Code::HeavyFile => "heavy-file",
            Code::NotChecked => "not-checked",
        }
    }

    /// What it means, in a few words.
    pub fn words(self) -> &'static str {
        match self {
            Code::BrokenLink => "links that lead nowhere",
            Code::BrokenResource => "parts of pages that are missing",
            Code::HostUnreachable => "hosts that do not answer",
            Code::RedirectLoop => "redirects that never end",
            Code::SoftMissing => "pages that look like \"not found\" but do not say so",
            Code::ServerError => "error messages of the server in pages",
            Code::EmptyPage => "empty pages",
            Code::WrongContent => "parts of pages that are something else",
            Code::MixedBlocked => "http: parts that browsers refuse on https pages",
            Code::MixedUpgraded => "http: pictures that browsers fetch over https or not at all",
            Code::InsecureRedirect => "redirects from https to http",
            Code::InsecureForm => "forms that are sent unencrypted",
            Code::InsecureDownload => "http: downloads on https pages",
            Code::PolicyBlocked => "parts that the page's own security policy refuses",
            Code::OldAddress => "addresses of the old site",
            Code::OldRedirect => "redirects to the old site",
            Code::ElsewhereAddress => "pages that name another site as their own address",
            Code::HiddenPage => "pages that search engines are asked not to list",
            Code::LoginNeeded => "links that lead to a login",
            Code::RedirectChain => "several redirects in a row",
            Code::MissingPlace => "links to a place in a page that is not there",
            Code::SameTitle => "pages whose titles do not tell them apart",
            Code::SlowAnswer => "answers for which the server needs long",
            Code::HeavyFile => "files that are too large for visitors",
            Code::NotChecked => "links to hosts that turn programs away: not checked",
        }
    }

    /// What to do about it.
    pub fn remedy(self) -> &'static str {
        match self {
            Code::BrokenLink => "correct or remove the link, or bring the page back",
            Code::BrokenResource => "put the file back, or correct the address in the page",
            Code::HostUnreachable => {
                "check the name of the host; if it is gone, remove what refers to it"
            }
            Code::RedirectLoop => "correct the redirect rule of the server or of the page",
            Code::SoftMissing => "bring the page back, or let the server answer 404",
            Code::ServerError => "read the server's error log; correct the program or its settings",
            Code::EmptyPage => "read the server's error log: a program may have stopped",
            Code::WrongContent => "put the right file at this address, or correct the address",
            Code::MixedBlocked => {
                "write https: if that server offers it, or keep a copy on the site"
            }
            Code::MixedUpgraded => {
                "write https: if that server offers it, or keep a copy on the site"
            }
            Code::InsecureRedirect => {
                "correct the redirect rule of the server, so that it stays on https"
            }
            Code::InsecureForm => "write the form's target with https:",
            Code::InsecureDownload => {
                "write https: if that server offers it, or keep a copy on the site"
            }
            Code::PolicyBlocked => {
                "allow the address in the Content-Security-Policy, or remove the part"
            }
            Code::OldAddress => "run fernweh rewrite on this site, or correct them by hand",
            Code::OldRedirect => {
                "correct the redirect rule or the site's own setting of its address"
            }
            Code::ElsewhereAddress => "correct the site's own setting of its address",
            Code::HiddenPage => "remove noindex where the page is to be found",
            Code::LoginNeeded => "nothing, if these pages are for members",
            Code::RedirectChain => "link to the last address directly",
            Code::MissingPlace => "correct the part behind # in the link",
            Code::SameTitle => "give each page a title of its own",
            Code::SlowAnswer => "find out what the server does for so long",
            Code::HeavyFile => "make it smaller: pictures in the size in which they are shown",
            Code::NotChecked => "open them in a browser",
        }
    }

    /// How much it weighs.
    pub fn severity(self) -> Severity {
        match self {
            Code::MixedBlocked
            | Code::InsecureRedirect
            | Code::InsecureForm
            | Code::InsecureDownload => Severity::Insecure,
            Code::MixedUpgraded
            | Code::OldAddress
            | Code::ElsewhereAddress
            | Code::SameTitle
            | Code::RedirectChain => Severity::Warning,
            Code::HiddenPage
            | Code::LoginNeeded
            | Code::MissingPlace
            | Code::SlowAnswer
            | Code::HeavyFile
            | Code::NotChecked => Severity::Note,
            _ => Severity::Broken,
        }
    }
}

/// A place at which something was found.
#[derive(
    Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, schemars::JsonSchema,
)]
pub struct Spot {
    /// The page.
    pub page: String,
    /// The style sheet or script of the page, if the address stands in one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sheet: Option<String>,
    /// The line of the page, counted from 1; of the sheet if there is one.
    pub line: usize,
    /// The character of the line, counted from 1.
    pub column: usize,
    /// The element and attribute, as `img src` or `style url()`.
    pub element: String,
    /// The address as written.
    pub address: String,
    /// The element as written, cut where it is long.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub markup: String,
}

/// One problem, wherever it shows: a fault of a template on four hundred pages is one.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Finding {
    /// The kind.
    pub code: Code,
    /// How much it weighs.
    pub severity: Severity,
    /// A name that stays the same from scan to scan.
    pub id: String,
    /// What it is about: a whole address, or the name of a host.
    pub address: String,
    /// Why, in one stable word: a status, `name-unknown`, `time-out`, …
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub cause: String,
    /// What happened, in words: a status, a chain of addresses, an error.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub detail: String,
    /// How often it shows.
    pub occurrences: u64,
    /// On how many pages.
    pub pages: u64,
    /// The first of these places.
    pub places: Vec<Spot>,
}

impl Finding {
    /// A finding of which no place is known yet.
    pub fn new(code: Code, address: impl Into<String>, cause: &str) -> Self {
        let address = address.into();
        let key = format!("{} {address} {cause}", code.name());
        let id = format!("{:016x}", crate::page::fragment_key(&key));
        Self {
            code,
            severity: code.severity(),
            id,
            address,
            cause: cause.to_owned(),
            detail: String::new(),
            occurrences: 0,
            pages: 0,
            places: Vec::new(),
        }
    }

    /// Whether something that is stored can be its cause: an address, and not how the server makes
    /// the page.
    pub fn is_of_content(&self) -> bool {
        let of_server = [
            Code::ServerError,
            Code::EmptyPage,
            Code::HiddenPage,
            Code::SameTitle,
            Code::SlowAnswer,
            Code::HeavyFile,
        ];
        !of_server.contains(&self.code)
    }

    /// The address as its places write it: by these it is found in the site's content.
    pub fn spellings(&self) -> Vec<String> {
        let written = self.places.iter().map(|spot| spot.address.clone());
        let mut all: Vec<String> = written.collect();
        if all.is_empty() {
            all.push(self.address.clone());
        }
        all.sort();
        all.dedup();
        all
    }

    /// The address as the first place writes it: by this it is found in the site's content.
    pub fn written(&self) -> &str {
        self.places.first().map_or(&self.address, |spot| &spot.address)
    }
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
