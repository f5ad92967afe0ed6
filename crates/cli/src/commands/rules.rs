//! The rules that follow from the addresses of sites, and those of the configuration.

use crate::config::{Config, RuleKind, RuleSection};
use crate::context::Context;
use fernweh_core::rewrite::{Rewriter, Rule, shadowed};
use fernweh_flow::patterns::Patterns;
use fernweh_ports::{Result, Trouble, Watch};

fn wrong(error: impl std::fmt::Display, place: String) -> Trouble {
    Trouble::usage("a rule cannot be used").at(place).because(error)
}

/// The rules of the configuration that apply to a site.
pub fn configured(config: &Config, site: &str) -> Result<Vec<Rule>> {
    let mut rules = Vec::new();
    for section in &config.content.rule {
        if section.into.is_empty() || section.into.iter().any(|name| name == site) {
            let rule = one(section)
                .map_err(|error| wrong(error, format!("[[rule]] of {}", config.shown())))?;
            let exact = section.exact || section.https;
            let (only, not) = (section.only.clone(), section.not.clone());
            for patterns in [&only, &not] {
                Patterns::of_paths(patterns)?;
            }
            rules.push(Rule { exact, bare_host: section.bare_host, only, not, ..rule });
        }
    }
    Ok(rules)
}

/// The rule that a section of the configuration means.
fn one(section: &RuleSection) -> std::result::Result<Rule, String> {
    let RuleSection { from, to, kind, https, .. } = section;
    let rule = match (kind, https, to.is_empty()) {
        (RuleKind::Address, true, true) => Rule::to_https(from),
        (_, true, _) => return Err(format!("`{from}` has https = true, so it needs no `to`")),
        (RuleKind::Text, ..) => Rule::words(from, to),
        (RuleKind::Address, false, true) => return Err(format!("`{from}` has no `to`")),
        (RuleKind::Address, ..) => Rule::new(from, to),
    };
    rule.map_err(|error| error.to_string())
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

/// Says which rules never apply.
pub fn warn(context: &Context, rules: &[Rule]) {
    for (earlier, later) in shadowed(rules) {
        let (by, rule) = (&rules[earlier], &rules[later]);
        context.watch.note(&format!(
            "the rule {} → {} never applies: {} → {} takes the same addresses before it\n",
            rule.from, rule.to, by.from, by.to
        ));
    }
}

/// Makes rules ready; refuses contradictions.
pub fn ready(rules: Vec<Rule>) -> Result<Rewriter> {
    Rewriter::new(rules).map_err(|error| {
        Trouble::usage("the rules contradict each other")
            .because(error)
            .hint("keep one rule for each address")
    })
}
