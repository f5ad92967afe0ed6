//! What one server says of the names of a site.

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
