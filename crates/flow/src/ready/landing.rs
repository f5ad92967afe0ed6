//! One address that should lead to the site: it is followed, step by step.

use super::Looking;
use super::web::{Web, told};
use fernweh_core::address::WebAddress;
use std::collections::BTreeSet;
use url::Url;

/// Steps that are followed.
const STEPS: usize = 6;

/// What one address came to.
pub(super) struct Landing {
    /// What is wrong with it.
    pub faults: BTreeSet<Fault>,
    /// Each step.
    pub evidence: Vec<String>,
}

/// What is wrong with a redirect, the worst first.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum Fault {
    Unreachable,
    Loop,
    Missing,
    Elsewhere,
    Path,
    Query,
    Temporary,
    Chain,
}

impl Fault {
    pub fn code(self) -> &'static str {
        match self {
            Fault::Unreachable => "unreachable",
            Fault::Loop => "redirect-loop",
            Fault::Missing => "redirect-missing",
            Fault::Elsewhere => "redirect-elsewhere",
            Fault::Path => "path-lost",
            Fault::Query => "query-lost",
            Fault::Temporary => "redirect-temporary",
            Fault::Chain => "redirect-chain",
        }
    }

    pub fn is_grave(self) -> bool {
        !matches!(self, Fault::Temporary | Fault::Chain)
    }

    pub fn words(self, start: &str, to: &str) -> String {
        match self {
            Fault::Unreachable => format!("{start} does not answer"),
            Fault::Loop => format!("{start} leads back to itself"),
            Fault::Missing => format!("{start} does not lead to {to}"),
            Fault::Elsewhere => format!("{start} leads to another place than {to}"),
            Fault::Path => format!("{start} leads to {to}, but loses the path"),
            Fault::Query => format!("{start} leads to {to}, but loses what follows `?`"),
            Fault::Temporary => format!("{start} leads to {to}, but only for the time being"),
            Fault::Chain => format!("{start} leads to {to} over more than one step"),
        }
    }

    pub fn hint(self, at: &Looking<'_>, is_old: bool) -> String {
        if let (true, Some(from)) = (is_old, at.from) {
            let (from, site) = (from.name(), at.site.name());
            return format!(
                "fernweh close {from} --to {site}, or correct the rules at the old host"
            );
        }
        let (site, from) = (at.site.name(), at.from.map(|from| from.name()));
        let rules = match from {
            Some(from) => format!("fernweh redirects {site} --from {from}"),
            None => format!("fernweh redirects {site}"),
        };
        match self {
            Fault::Unreachable => {
                "let the web server answer there, or visitors see an error".into()
            }
            Fault::Temporary => format!("use status 301 or 308: {rules}"),
            Fault::Chain => format!("lead there at once: {rules}"),
            _ => format!("correct the rules of the web server: {rules}"),
        }
    }
}

/// Where the address of a site begins, and what its pages are below.
pub(super) struct Goal<'a> {
    url: &'a WebAddress,
    origin: url::Origin,
    /// Hosts on the way that are the site's, …
    hosts: &'a [String],
    /// … and where they are asked.
    web: Option<&'a Web<'a>>,
}

impl<'a> Goal<'a> {
    pub fn of(at: &'a Looking<'_>) -> Option<Self> {
        let origin = Url::parse(&at.url.to_string()).ok()?.origin();
        Some(Self { url: &at.url, origin, hosts: at.hosts(), web: at.web.as_ref() })
    }
}

/// Follows an address to the site.
pub(super) fn follow(web: &Web<'_>, goal: &Goal<'_>, start: &Url, path: &str) -> Landing {
    let mut landing = Landing { faults: BTreeSet::new(), evidence: Vec::new() };
    let mut here = start.clone();
    let mut before = vec![here.clone()];
    let (mut steps, mut temporary) = (0, false);
    loop {
        let is_own = goal.hosts.iter().any(|host| here.host_str() == Some(host));
        let fetched = goal.web.filter(|_| is_own).unwrap_or(web).head(&here);
        landing.evidence.push(told(&here, &fetched));
        let answer = match fetched {
            Ok(answer) => answer,
            Err(_) => {
                landing.faults.insert(Fault::Unreachable);
                return landing;
            }
        };
        let next = match (answer.status, &answer.location) {
            (301 | 302 | 303 | 307 | 308, Some(to)) => here.join(to).ok(),
            _ => None,
        };
        let Some(next) = next else {
            landing.faults.insert(Fault::Missing);
            return landing;
        };
        steps += 1;
        temporary |= !matches!(answer.status, 301 | 308);
        if next.origin() == goal.origin {
            landing.arrived(goal, &next, path, steps, temporary);
            return landing;
        }
        if before.contains(&next) || steps >= STEPS {
            landing.faults.insert(Fault::Loop);
            return landing;
        }
        let host = next.host_str().unwrap_or_default();
        let is_ours = goal.hosts.iter().any(|known| known == host);
        if !is_ours && !before.iter().any(|one| one.host_str() == Some(host)) {
            landing.faults.insert(Fault::Elsewhere);
            return landing;
        }
        before.push(next.clone());
        here = next;
    }
}

impl Landing {
    fn arrived(&mut self, goal: &Goal<'_>, to: &Url, path: &str, steps: usize, temporary: bool) {
        let (path, query) = match path.split_once('?') {
            Some((path, query)) => (path, Some(query)),
            None => (path, None),
        };
        if to.path() != format!("{}{path}", goal.url.path) {
            self.faults.insert(Fault::Path);
        } else if to.query() != query {
            self.faults.insert(Fault::Query);
        }
        if steps > 1 {
            self.faults.insert(Fault::Chain);
        }
        if temporary {
            self.faults.insert(Fault::Temporary);
        }
    }
}
