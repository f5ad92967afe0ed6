//! Redirect rules, placed before all other rules of a site, or taken out.

use super::Surroundings;
use super::placing::{PlacedReport, Placing};
use crate::effect::{Effect, Host, MADE_UP, twin};
use crate::journal::Operation;
use fernweh_core::address::WebAddress;
use fernweh_core::placed::{Purpose, RULE_FILE, put, take};
use fernweh_core::redirects::{Redirects, Server};
use fernweh_ports::{Result, SiteAccess};

/// Redirects that are placed, or taken out.
pub struct PlaceRedirects<'a> {
    /// The rules.
    pub redirects: &'a Redirects,
    /// Whether they are taken out.
    pub remove: bool,
}

impl PlaceRedirects<'_> {
    /// Places them.
    pub fn run(&self, site: &dyn SiteAccess, around: Surroundings<'_>) -> Result<PlacedReport> {
        let doing = match self.remove {
            true => format!("taking redirects out of site {}", site.name()),
            false => format!("placing redirects in site {}", site.name()),
        };
        self.work(site, around).map_err(|trouble| trouble.doing(doing))
    }

    fn work(&self, site: &dyn SiteAccess, around: Surroundings<'_>) -> Result<PlacedReport> {
        let to = &self.redirects.to;
        let old = self.redirects.old.iter().flat_map(|old| [old.host.clone(), twin(old)]);
        let hosts: Vec<String> = [to.host.clone(), twin(to)].into_iter().chain(old).collect();
        let host = Host::of(site, &hosts)?;
        let lines = self.redirects.lines(Server::Apache);
        let edit = |text: Option<&[u8]>| match self.remove {
            true => without(text, Purpose::Redirects),
            false => Some(put(text.unwrap_or_default(), Purpose::Redirects, &lines)),
        };
        let placing = Placing {
            operation: Operation::Redirects,
            input: match self.remove {
                true => "redirects taken out".into(),
                false => format!("redirects to {to}"),
            },
            removes: self.remove,
            edits: vec![(RULE_FILE, Box::new(edit))],
            then: None,
            host: host.as_ref(),
            front: format!("{to}/"),
        };
        let mut report = placing.run(site, around)?.stands()?;
        if self.remove {
            return Ok(report);
        }
        match &host {
            Some(host) => match host.head(&format!("{to}/")) {
                Err(problem) => {
                    report.not_verified =
                        Some(format!("the host of {to} does not answer: {problem}"));
                }
                Ok(_) => report.effects = self.effects(host),
            },
            None => {
                report.not_verified = Some(format!(
                    "where the host is, is not known; set connect-to in [site.{}]",
                    site.name()
                ));
            }
        }
        Ok(report)
    }

    /// A request for every rule, at the host itself.
    fn effects(&self, host: &Host) -> Vec<Effect> {
        let to = &self.redirects.to;
        let origin = to.origin();
        let mut effects = Vec::new();
        let mut starts = Vec::new();
        if to.port.is_none() {
            let other = twin(to);
            starts.push(format!("http://{other}"));
            if to.scheme.name() == "https" {
                starts.push(format!("http://{}", to.host));
                starts.push(format!("https://{other}"));
            }
        }
        for start in starts.into_iter().filter(|start| *start != origin) {
            effects.push(host.leads(&format!("{start}{MADE_UP}"), &format!("{origin}{MADE_UP}")));
        }
        for old in &self.redirects.old {
            let start = format!("http://{}{}", old.host, old.path);
            effects.push(host.leads(&format!("{start}{MADE_UP}"), &format!("{to}{MADE_UP}")));
        }
        let singles = self.redirects.moved.iter().filter(|moved| !moved.below);
        for moved in singles.take(20) {
            let start = match (moved.old_only, self.redirects.old.first()) {
                (true, Some(old)) => format!("http://{}", old.host),
                _ => origin.clone(),
            };
            let query = moved.query.as_ref().map(|query| format!("?{query}")).unwrap_or_default();
            effects.push(host.leads(&format!("{start}{}{query}", moved.path), &moved.to));
        }
        effects
    }
}

/// A file without the lines of a purpose; none where nothing else was in it.
pub(super) fn without(text: Option<&[u8]>, purpose: Purpose) -> Option<Vec<u8>> {
    let text = text?;
    let rest = take(text, purpose);
    (!rest.is_empty() || rest == text).then_some(rest)
}

/// The redirects between two sites.
///
/// # Errors
///
/// Where the site has no address.
pub fn redirects_of(site: &dyn SiteAccess, from: Option<&WebAddress>) -> Result<Redirects> {
    Ok(Redirects::new(site.needed_url()?, from))
}
