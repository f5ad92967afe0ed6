//! What name servers and resolvers say of the hosts of a site, all asked at once.

use super::Question;
use super::zone::{Zone, find_zone};
use crate::effect::twin;
use fernweh_core::address::WebAddress;
use fernweh_ports::{
    NameAnswer, NameProblem, NameServer, NameSource, NameStatus, NameWay, RecordData, RecordKind,
};
use std::collections::BTreeSet;
use std::net::IpAddr;

/// What one server says of one host.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct HostAnswer {
    /// The host.
    pub host: String,
    /// Its addresses, of either version.
    pub addresses: BTreeSet<IpAddr>,
    /// The names that it leads over, one after the other.
    pub chain: Vec<String>,
    /// For how many seconds this may be remembered.
    pub seconds: Option<u32>,
    /// Whether there is no such name.
    pub is_missing: bool,
    /// Whether names lead back to themselves.
    pub is_loop: bool,
}

impl HostAnswer {
    /// What came back, for people.
    pub fn shown(&self) -> String {
        let mut words = vec![self.host.clone()];
        words.extend(self.chain.iter().map(|name| format!("→ {name}")));
        let addresses: Vec<String> = self.addresses.iter().map(ToString::to_string).collect();
        words.push(match (addresses.is_empty(), self.is_loop, self.is_missing) {
            (false, ..) => format!("→ {}", addresses.join(", ")),
            (true, true, _) => "leads back to itself".into(),
            (true, false, true) => "no such name".into(),
            (true, false, false) => "no address".into(),
        });
        match self.seconds {
            Some(seconds) => format!("{}, for {}", words.join(" "), time_of(seconds)),
            None => words.join(" "),
        }
    }
}

/// A time to live for people.
pub(super) fn time_of(seconds: u32) -> String {
    match seconds {
        0..120 => format!("{seconds} s"),
        120..7200 => format!("{} min", seconds / 60),
        7200..172_800 => format!("{} h", seconds / 3600),
        _ => format!("{} days", seconds / 86_400),
    }
}

/// What a name server of the zone says.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ServerHeard {
    /// Whether it speaks for the zone.
    pub authoritative: bool,
    /// What it says of the question as a whole.
    pub status: NameStatus,
    /// The serial number of its copy of the zone.
    pub serial: Option<u32>,
    /// The name servers that it names.
    pub servers: BTreeSet<String>,
    /// The hosts, in the order of [`Names::hosts`].
    pub hosts: Vec<HostAnswer>,
    /// Mail servers of the zone.
    pub mail: BTreeSet<(u16, String)>,
    /// Texts of the zone.
    pub texts: BTreeSet<String>,
    /// Who may issue certificates: property and value.
    pub issuers: BTreeSet<(String, String)>,
    /// Whether it answers over TCP, too.
    pub over_tcp: Result<(), NameProblem>,
}

/// What a resolver says.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ResolverHeard {
    /// The resolver.
    pub name: String,
    /// The hosts, in the order of [`Names::hosts`].
    pub hosts: Result<Vec<HostAnswer>, NameProblem>,
}

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
        if !twin_is_usual && !names.of_host(1).is_some_and(|twin| !twin.addresses.is_empty()) {
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

/// What a server says of a host.
pub(super) fn host_at(
    source: &dyn NameSource,
    server: &NameServer,
    host: &str,
    resolve: bool,
) -> Result<HostAnswer, NameProblem> {
    let mut heard = HostAnswer { host: host.to_owned(), ..HostAnswer::default() };
    let mut asked = Vec::new();
    for kind in [RecordKind::A, RecordKind::Aaaa] {
        let answer = source.ask(server, host, kind, resolve, NameWay::Usual)?;
        heard.is_missing |= answer.status == NameStatus::NoName;
        asked.push(answer);
    }
    for answer in &asked {
        heard.follow(answer);
    }
    heard.is_missing &= heard.chain.is_empty();
    Ok(heard)
}

impl HostAnswer {
    /// Takes what an answer says of the host: names one after the other, and then addresses.
    fn follow(&mut self, answer: &NameAnswer) {
        let mut name = self.host.clone();
        let mut chain = Vec::new();
        for _ in 0..=answer.records.len() {
            let of_name = answer.records.iter().filter(|record| record.owner == name);
            let mut next = None;
            for record in of_name {
                match &record.data {
                    RecordData::Address(address) => {
                        self.addresses.insert(*address);
                    }
                    RecordData::Cname(target) => next = Some(target.clone()),
                    _ => continue,
                }
                let seconds = self.seconds.unwrap_or(0).max(record.seconds);
                self.seconds = Some(seconds);
            }
            let Some(target) = next else { break };
            if target == self.host || chain.contains(&target) {
                self.is_loop = true;
                break;
            }
            chain.push(target.clone());
            name = target;
        }
        if chain.len() > self.chain.len() {
            self.chain = chain;
        }
    }
}
