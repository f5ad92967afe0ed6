//! The rules that follow from the addresses of sites, and those of the configuration.

use crate::config::{Config, RuleKind, RuleSection};
use fernweh_core::address::WebAddress;
use fernweh_core::rewrite::{Rewriter, Rule};
use fernweh_flow::patterns::Patterns;
use fernweh_flow::run::{Known, pair, ready};
use fernweh_ports::{Result, Trouble};

/// The rules of the configuration that apply to a site.
pub fn configured(config: &Config, site: &str) -> Result<Vec<Rule>> {
    let mut rules = Vec::new();
    for section in &config.content.rule {
        if section.into.is_empty() || section.into.iter().any(|name| name == site) {
            let rule = one(section).map_err(|error| {
                Trouble::usage("a rule is not usable")
                    .at(format!("[[rule]] of {}", config.shown()))
                    .because(error)
            })?;
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

/// What is known of addresses where rules are proposed for a site.
pub fn known(config: &Config, site: &str) -> Result<Known> {
    let others = config.content.site.iter().filter(|(name, _)| *name != site);
    let others = others.filter_map(|(_, section)| section.url.as_deref());
    let addresses = others.filter_map(|url| WebAddress::parse(url).ok()).collect();
    Ok(Known { rules: configured(config, site)?, addresses })
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

/// Rules from every other site's address to this one's.
pub fn from_other_sites(config: &Config, site: &str, url: &str) -> Result<Vec<Rule>> {
    let others = config.content.site.iter().filter(|(name, _)| *name != site);
    let addresses = others.filter_map(|(_, section)| section.url.as_deref());
    addresses.filter_map(|other| pair(other, url).transpose()).collect()
}

/// What finds addresses of a site's old places: every other site's address is an old one here,
/// and so is what rules rewrite.
pub fn old_addresses(config: &Config, site: &str, url: Option<&str>) -> Result<Option<Rewriter>> {
    let Some(url) = url else { return Ok(None) };
    let mut found = configured(config, site)?;
    found.extend(from_other_sites(config, site, url)?);
    // The address of the site that this one was made from; not of one made from it.
    let is_old = config.content.site.len() > 1 && !found.is_empty();
    if is_old { ready(found).map(Some) } else { Ok(None) }
}

/// The address that was meant: one that was typed, or that of a site whose name was typed.
pub fn address_of(config: &Config, text: &str) -> Result<String> {
    if let Some(section) = config.content.site.get(text) {
        return section.url.clone().ok_or_else(|| {
            Trouble::usage(format!("site {text} has no web address"))
                .at(config.shown())
                .hint(format!("set url in [site.{text}], or type the address itself"))
        });
    }
    // Addresses have slashes, and so do paths; words of a configured rule do not come this way.
    if text.contains('/') {
        return Ok(text.to_owned());
    }
    Err(Trouble::usage(format!("`{text}` is neither an address nor the name of a site"))
        .hint(format!("type it with its scheme, as in https://{text}; {}", config.known_sites())))
}
