//! The zone of a site: found from the parent on, and each of its name servers asked.

use super::answers::{HostAnswer, ServerHeard, host_at};
use fernweh_ports::{
    NameProblem, NameServer, NameSource, NameStatus, NameWay, RecordData, RecordKind,
};
use std::collections::BTreeSet;

/// A zone and its name servers.
#[derive(Clone, Debug, Default)]
pub struct Zone {
    /// The name at its top.
    pub apex: String,
    /// The name servers to which the zone above leads; none where it could not be asked.
    pub delegated: Option<BTreeSet<String>>,
    /// Who was asked for that.
    pub parent: String,
    /// Every name server, and what it says.
    pub servers: Vec<Server>,
}

/// A name server of the zone.
#[derive(Clone, Debug)]
pub struct Server {
    /// Its name and addresses.
    pub server: NameServer,
    /// What it says.
    pub heard: Result<ServerHeard, NameProblem>,
}

impl Zone {
    /// What those servers say that speak for the zone.
    pub fn speakers(&self) -> impl Iterator<Item = &ServerHeard> {
        let heard = self.servers.iter().filter_map(|server| server.heard.as_ref().ok());
        heard.filter(|heard| heard.authoritative && heard.status == NameStatus::Fine)
    }

    /// What the first of them says.
    pub fn speaker(&self) -> Option<&ServerHeard> {
        self.speakers().next()
    }

    /// The names of all servers.
    pub fn server_names(&self) -> Vec<&str> {
        self.servers.iter().map(|server| server.server.name.as_str()).collect()
    }
}

/// Resolvers; the first that answers is asked.
struct Resolvers<'a> {
    source: &'a dyn NameSource,
    all: &'a [NameServer],
}

impl Resolvers<'_> {
    fn records(&self, name: &str, kind: RecordKind) -> Vec<fernweh_ports::NameRecord> {
        let ask = |resolver| self.source.ask(resolver, name, kind, true, NameWay::Usual).ok();
        let fine = |answer: &fernweh_ports::NameAnswer| {
            !matches!(answer.status, NameStatus::Refused | NameStatus::ServerFailure)
        };
        let answer = self.all.iter().filter_map(ask).find(fine);
        answer.map(|answer| answer.records).unwrap_or_default()
    }

    /// The name servers of the smallest zone in which a name lies.
    fn zone_above(&self, name: &str) -> Option<(String, BTreeSet<String>)> {
        let mut name = name;
        loop {
            let records = self.records(name, RecordKind::Ns);
            let servers = servers_of(&records, name);
            if !servers.is_empty() {
                return Some((name.to_owned(), servers));
            }
            name = name.split_once('.')?.1;
        }
    }

    fn server(&self, name: &str) -> NameServer {
        let mut addresses = Vec::new();
        if !self.source.knows(name) {
            for kind in [RecordKind::A, RecordKind::Aaaa] {
                addresses.extend(self.records(name, kind).iter().filter_map(|record| {
                    match record.data {
                        RecordData::Address(address) => Some(address),
                        _ => None,
                    }
                }));
            }
        }
        NameServer { name: name.to_owned(), addresses }
    }
}

fn servers_of(records: &[fernweh_ports::NameRecord], zone: &str) -> BTreeSet<String> {
    let of = |record: &fernweh_ports::NameRecord| match &record.data {
        RecordData::Ns(server) if record.owner == zone => Some(server.clone()),
        _ => None,
    };
    records.iter().filter_map(of).collect()
}

/// Finds the zone of hosts and asks its servers; `None` where no resolver knows one.
pub(super) fn find_zone(
    source: &dyn NameSource,
    resolvers: &[NameServer],
    hosts: &[String],
) -> Option<Zone> {
    let resolvers = Resolvers { source, all: resolvers };
    // The shorter host: it may be the top of the zone.
    let host = hosts.iter().min_by_key(|host| host.len())?;
    let (apex, known) = resolvers.zone_above(host)?;
    let mut zone = Zone { apex, ..Zone::default() };
    let parent = zone.apex.split_once('.').and_then(|(_, above)| resolvers.zone_above(above));
    if let Some((above, servers)) = parent {
        zone.parent = above;
        // The zone above is served by many; two of them are enough to be sure.
        zone.delegated = servers.iter().take(2).find_map(|name| {
            let server = resolvers.server(name);
            let answer =
                source.ask(&server, &zone.apex, RecordKind::Ns, false, NameWay::Usual).ok()?;
            let all = [answer.referral, answer.records].concat();
            let found = servers_of(&all, &zone.apex);
            (!found.is_empty()).then_some(found)
        });
    }
    let mut all = known;
    all.extend(zone.delegated.iter().flatten().cloned());
    zone.servers = asked(&resolvers, &zone.apex, all, hosts);
    // Servers that only the zone itself names.
    let names: BTreeSet<String> = zone.server_names().into_iter().map(str::to_owned).collect();
    let more: BTreeSet<String> = zone.speakers().flat_map(|heard| heard.servers.clone()).collect();
    let more = more.difference(&names).cloned().collect();
    zone.servers.extend(asked(&resolvers, &zone.apex, more, hosts));
    complete(&resolvers, &mut zone);
    Some(zone)
}

fn asked(
    resolvers: &Resolvers<'_>,
    apex: &str,
    servers: BTreeSet<String>,
    hosts: &[String],
) -> Vec<Server> {
    std::thread::scope(|scope| {
        let ask = |name: String| {
            scope.spawn(move || {
                let server = resolvers.server(&name);
                let heard = heard_of(resolvers.source, &server, apex, hosts);
                Server { server, heard }
            })
        };
        let asked: Vec<_> = servers.into_iter().map(ask).collect();
        asked.into_iter().filter_map(|asked| asked.join().ok()).collect()
    })
}

fn heard_of(
    source: &dyn NameSource,
    server: &NameServer,
    apex: &str,
    hosts: &[String],
) -> Result<ServerHeard, NameProblem> {
    let ask = |name: &str, kind| source.ask(server, name, kind, false, NameWay::Usual);
    let start = ask(apex, RecordKind::Soa)?;
    let serial = start.records.iter().find_map(|record| match record.data {
        RecordData::Soa(serial) => Some(serial),
        _ => None,
    });
    let mut heard = ServerHeard {
        authoritative: start.authoritative && serial.is_some(),
        status: start.status,
        serial,
        servers: BTreeSet::new(),
        hosts: Vec::new(),
        mail: BTreeSet::new(),
        texts: BTreeSet::new(),
        issuers: BTreeSet::new(),
        over_tcp: Ok(()),
    };
    if !heard.authoritative {
        return Ok(heard);
    }
    heard.servers = servers_of(&ask(apex, RecordKind::Ns)?.records, apex);
    for host in hosts {
        heard.hosts.push(host_at(source, server, host, false)?);
    }
    for record in ask(apex, RecordKind::Mx)?.records {
        if let RecordData::Mx(preference, name) = record.data {
            heard.mail.insert((preference, name));
        }
    }
    for record in ask(apex, RecordKind::Txt)?.records {
        if let RecordData::Txt(text) = record.data {
            heard.texts.insert(text);
        }
    }
    for record in ask(apex, RecordKind::Caa)?.records {
        if let RecordData::Caa(tag, value) = record.data {
            heard.issuers.insert((tag, value));
        }
    }
    heard.over_tcp = source.ask(server, apex, RecordKind::Soa, false, NameWay::Tcp).map(drop);
    Ok(heard)
}

/// Where names of the zone lead out of it, a resolver says where they end.
fn complete(resolvers: &Resolvers<'_>, zone: &mut Zone) {
    let servers = zone.servers.iter_mut().filter_map(|server| server.heard.as_mut().ok());
    let answers = servers.flat_map(|heard| &mut heard.hosts);
    let open = |answer: &&mut HostAnswer| {
        answer.addresses.is_empty() && !answer.chain.is_empty() && !answer.is_loop
    };
    for answer in answers.filter(open) {
        let Some(last) = answer.chain.last() else { continue };
        let found = resolvers
            .all
            .iter()
            .find_map(|resolver| host_at(resolvers.source, resolver, last, true).ok());
        if let Some(found) = found {
            answer.addresses = found.addresses;
            answer.is_loop = found.is_loop;
            answer.chain.extend(found.chain);
        }
    }
}
