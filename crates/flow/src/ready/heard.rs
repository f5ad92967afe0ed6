//! What name servers and resolvers say of the hosts of a site, all asked at once.

use super::Question;
use super::answers::{HostAnswer, ResolverHeard, host_at};
use super::zone::{Zone, find_zone};
use crate::effect::twin;
use fernweh_core::address::WebAddress;
use fernweh_ports::{NameServer, NameSource};
use std::collections::BTreeSet;
use std::net::IpAddr;

/// Everything that was heard of the names of a site.
#[derive(Clone, Debug, Default)]
pub struct Names {
    /// The hosts of the site: its own, and the same with or without `www.`
    pub hosts: Vec<String>,
    /// Whether visitors expect the second host to be there.
    pub twin_is_usual: bool,
    /// The zone, where it was found.
    pub zone: Option<Zone>,
    /// The resolvers.
    pub resolvers: Vec<ResolverHeard>,
    /// The host of the old site, where it is another one.
    pub old: Option<HostAnswer>,
}

impl Names {
    /// Asks.
    pub fn gather(source: &dyn NameSource, url: &WebAddress, old: Option<&WebAddress>) -> Self {
        let stem = url.stem_host();
        let hosts = vec![url.host.clone(), twin(url)];
        let resolvers = source.resolvers();
        let old = old.map(|old| &old.host).filter(|host| !hosts.contains(host));
        let (heard, zone, old) = std::thread::scope(|scope| {
            let heard: Vec<_> = resolvers
                .iter()
                .map(|resolver| scope.spawn(|| resolver_heard(source, resolver, &hosts)))
                .collect();
            let old = old.map(|host| {
                let resolvers = &resolvers;
                scope.spawn(move || {
                    let ask = |resolver| host_at(source, resolver, host, true).ok();
                    resolvers.iter().find_map(ask)
                })
            });
            let zone = find_zone(source, &resolvers, &hosts);
            let heard = heard.into_iter().filter_map(|heard| heard.join().ok()).collect();
            (heard, zone, old.and_then(|old| old.join().ok().flatten()))
        });
        // A zone above that knows none of them is not the site's: the domain is not there.
        let knows = |zone: &Zone| {
            let mut said = zone.speakers().flat_map(|heard| &heard.hosts).peekable();
            said.peek().is_none() || !said.all(|answer| answer.is_missing)
        };
        let zone = zone.filter(knows);
        let twin_is_usual = zone.as_ref().is_some_and(|zone| zone.apex == stem) || url.host != stem;
        let mut names = Self { hosts, twin_is_usual, zone, resolvers: heard, old };
        if !twin_is_usual && names.of_host(1).is_none_or(|twin| twin.addresses.is_empty()) {
            names.forget_twin();
        }
        names
    }

    fn forget_twin(&mut self) {
        self.hosts.truncate(1);
        for resolver in &mut self.resolvers {
            if let Ok(hosts) = &mut resolver.hosts {
                hosts.truncate(1);
            }
        }
        let servers = self.zone.iter_mut().flat_map(|zone| &mut zone.servers);
        servers.filter_map(|server| server.heard.as_mut().ok()).for_each(|heard| {
            heard.hosts.truncate(1);
        });
    }

    /// What the name servers say of a host, all taken together; of a resolver where none of them
    /// answers.
    pub fn of_host(&self, at: usize) -> Option<HostAnswer> {
        let servers = self.zone.iter().flat_map(Zone::speakers);
        let said: Vec<&HostAnswer> = servers.filter_map(|heard| heard.hosts.get(at)).collect();
        let resolvers = || {
            let heard = self.resolvers.iter().filter_map(|one| one.hosts.as_ref().ok());
            heard.filter_map(|hosts| hosts.get(at)).collect::<Vec<_>>()
        };
        let said = if said.is_empty() { resolvers() } else { said };
        let mut all = (*said.first()?).clone();
        for one in &said[1..] {
            all.addresses.extend(&one.addresses);
            all.seconds = all.seconds.max(one.seconds);
        }
        Some(all)
    }

    /// What is said of each host.
    pub fn answers(&self) -> Vec<HostAnswer> {
        (0..self.hosts.len()).filter_map(|number| self.of_host(number)).collect()
    }

    /// What is said of the site's own host.
    pub fn own(&self) -> Option<HostAnswer> {
        self.of_host(0)
    }

    /// The question that fits what the names say.
    pub fn question(&self, new: &BTreeSet<IpAddr>, old: &BTreeSet<IpAddr>) -> Question {
        let led = self.own().unwrap_or_default().addresses;
        let leads_to = |whose: &BTreeSet<IpAddr>| led.iter().any(|address| whose.contains(address));
        // A site alone is looked at as it is.
        let stands_alone = new.is_empty() && !led.is_empty() && !leads_to(old);
        match leads_to(new) || stands_alone {
            true => Question::After,
            false => Question::Before,
        }
    }
}

fn resolver_heard(
    source: &dyn NameSource,
    resolver: &NameServer,
    hosts: &[String],
) -> ResolverHeard {
    let heard = hosts.iter().map(|host| host_at(source, resolver, host, true));
    ResolverHeard { name: resolver.name.clone(), hosts: heard.collect() }
}
