//! The rules that follow from the addresses of sites, and those of the configuration.

use crate::config::Config;
use fernweh_core::rewrite::{Rewriter, Rule};
use fernweh_ports::{Result, Trouble};

fn wrong(error: impl std::fmt::Display, place: String) -> Trouble {
    Trouble::usage("a rule cannot be used").at(place).because(error)
}

/// The rules of the configuration that apply to a site.
pub fn configured(config: &Config, site: &str) -> Result<Vec<Rule>> {
    let mut rules = Vec::new();
    for section in &config.content.rule {
        if section.into.is_empty() || section.into.iter().any(|name| name == site) {
            let rule = Rule::new(&section.from, &section.to)
                .map_err(|error| wrong(error, format!("[[rule]] of {}", config.shown())))?;
            rules.push(Rule { exact: section.exact, bare_host: section.bare_host, ..rule });
        }
    }
    Ok(rules)
}

/// A rule from two addresses, unless they are the same.
pub fn pair(from: &str, to: &str) -> Result<Option<Rule>> {
    if from.trim_end_matches('/') == to.trim_end_matches('/') {
        return Ok(None);
    }
    Rule::new(from, to).map(Some).map_err(|error| wrong(error, format!("{from} → {to}")))
}

/// Rules from every other site's address to this one's.
pub fn from_other_sites(config: &Config, site: &str, url: &str) -> Result<Vec<Rule>> {
    let others = config.content.site.iter().filter(|(name, _)| *name != site);
    let addresses = others.filter_map(|(_, section)| section.url.as_deref());
    addresses.filter_map(|other| pair(other, url).transpose()).collect()
}

/// Makes rules ready; refuses contradictions.
pub fn ready(rules: Vec<Rule>) -> Result<Rewriter> {
    Rewriter::new(rules).map_err(|error| {
        Trouble::usage("the rules contradict each other")
            .because(error)
            .hint("keep one rule for each address")
    })
}
