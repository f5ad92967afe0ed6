//! Where the names of the site lead, and whether all who are asked agree.

use super::answers::{HostAnswer, ServerHeard, time_of};
use super::zone::{Server, Zone};
use super::{Found, Looking, Looks, Question, Topic};
use fernweh_core::finding::Verdict;
use fernweh_ports::{NameStatus, named};
use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;

pub(super) struct Name;

/// A time to live of more than an hour lets visitors reach the old host for longer than anybody
/// wants to wait.
const LONG: u32 = 3600;

impl Looks for Name {
    fn look(&self, at: &Looking<'_>) -> Vec<Found> {
        let mut found = resolvers(at);
        let Some(zone) = &at.names.zone else {
            let silent = at.names.resolvers.iter().all(|resolver| resolver.hosts.is_err());
            found.push(match silent {
                true => failed(
                    "not-looked-up",
                    format!("nothing is known of {}: no resolver answered", at.url.host),
                    "check the connection of this machine, or name another resolver: [ready] \
                     resolvers = [\"192.0.2.53\"]",
                ),
                false => no_such_name(&at.url.host),
            });
            return found;
        };
        found.extend(servers(zone));
        if zone.speaker().is_none() {
            return found;
        }
        found.extend(agreement(at, zone));
        found.extend(all_lead(at));
        if at.question == Question::Before {
            found.extend(lives(at));
        } else {
            found.extend(remembered(at));
        }
        found
    }
}

fn failed(code: &str, what: impl Into<String>, hint: impl Into<String>) -> Found {
    Found::failed(Topic::Name, code, what, hint)
}

fn warned(code: &str, what: impl Into<String>, hint: impl Into<String>) -> Found {
    Found::warned(Topic::Name, code, what, hint)
}

fn passed(code: &str, what: impl Into<String>) -> Found {
    Found::passed(Topic::Name, code, what)
}

fn no_such_name(host: &str) -> Found {
    failed(
        "name-unknown",
        format!("there is no name {host}"),
        "check how it is written, and whether the domain is registered and not expired",
    )
}

/// Resolvers that do not answer.
fn resolvers(at: &Looking<'_>) -> Vec<Found> {
    let silent = at.names.resolvers.iter().filter_map(|resolver| {
        let problem = resolver.hosts.as_ref().err()?;
        Some(
            failed(
                "resolver-silent",
                format!("the resolver {} gives no answer", resolver.name),
                "check its address, or take it out of [ready] resolvers",
            )
            .seen([format!("{}: {} A → {problem}", resolver.name, at.url.host)]),
        )
    });
    silent.collect()
}

/// Name servers that do not do what they are named for.
fn servers(zone: &Zone) -> Vec<Found> {
    let mut found = Vec::new();
    let mut speaking = Vec::new();
    for Server { server, heard } in &zone.servers {
        let asked = format!("{}: {} SOA", server.name, zone.apex);
        let ask_provider = "ask the provider of the domain's names to repair it or to take it out";
        match heard {
            Err(problem) => found.push(
                failed(
                    "server-silent",
                    format!("the name server {} does not answer", server.name),
                    ask_provider,
                )
                .seen([format!("{asked} → {problem}")]),
            ),
            Ok(heard) if !heard.authoritative || heard.status != NameStatus::Fine => found.push(
                failed(
                    "server-lame",
                    format!("the name server {} does not know {}", server.name, zone.apex),
                    ask_provider,
                )
                .seen([format!("{asked} → {}", heard.status.words())]),
            ),
            Ok(heard) => {
                if let Err(problem) = &heard.over_tcp {
                    found.push(
                        warned(
                            "server-without-tcp",
                            format!("the name server {} does not answer over TCP", server.name),
                            "long answers are lost there; tell the provider of the domain's names",
                        )
                        .seen([format!("{asked} over TCP → {problem}")]),
                    );
                }
                speaking.push(server.name.clone());
            }
        }
    }
    if let (Some(delegated), Some(heard)) = (&zone.delegated, zone.speaker())
        && *delegated != heard.servers
    {
        let list = |names: &BTreeSet<String>| {
            names.iter().map(String::as_str).collect::<Vec<_>>().join(", ")
        };
        found.push(
            warned(
                "delegation-differs",
                format!("{} and its own name servers name different servers", zone.parent),
                "set the same name servers at the registrar and in the zone",
            )
            .seen([
                format!("{}: {} NS → {}", zone.parent, zone.apex, list(delegated)),
                format!("the zone: {} NS → {}", zone.apex, list(&heard.servers)),
            ]),
        );
    }
    if zone.delegated.is_none() {
        found.push(warned(
            "above-silent",
            format!("whom the zone above {} names could not be asked", zone.apex),
            "look again later: fernweh ready --check name",
        ));
    }
    if speaking.is_empty() {
        found.push(failed(
            "no-server",
            format!("no name server answers for {}", zone.apex),
            "set name servers at the registrar that know the domain",
        ));
    } else {
        let which = named(&speaking, 6);
        let said = zone.servers.iter().filter_map(|server| {
            let serial = serial_of(server)?;
            Some(format!("{}: {} SOA → serial number {serial}", server.server.name, zone.apex))
        });
        let what = format!("the name servers of {} answer: {which}", zone.apex);
        found.push(passed("servers", what).seen(said));
    }
    found
}

/// What servers say of one host, by what they say.
fn sides(zone: &Zone, host: usize) -> BTreeMap<String, Vec<&Server>> {
    let mut sides: BTreeMap<String, Vec<&Server>> = BTreeMap::new();
    for server in &zone.servers {
        let Ok(heard) = &server.heard else { continue };
        if let Some(answer) = heard.hosts.get(host) {
            let said = HostAnswer { seconds: None, ..answer.clone() };
            sides.entry(said.shown()).or_default().push(server);
        }
    }
    sides
}

fn serial_of(server: &Server) -> Option<u32> {
    server.heard.as_ref().ok().and_then(|heard| heard.serial)
}

/// Whether the servers say the same.
fn agreement(at: &Looking<'_>, zone: &Zone) -> Vec<Found> {
    let mut found = Vec::new();
    for (number, host) in at.hosts().iter().enumerate() {
        let sides = sides(zone, number);
        if sides.len() < 2 {
            continue;
        }
        let said = sides.iter().flat_map(|(said, servers)| {
            servers.iter().map(move |server| {
                let serial = serial_of(server).map(|serial| format!(" (serial number {serial})"));
                format!("{}: {said}{}", server.server.name, serial.unwrap_or_default())
            })
        });
        found.push(
            failed(
                "servers-disagree",
                format!("the name servers disagree about {host}"),
                "one has not taken over the change yet: wait, then look again; if it stays so, \
                 raise the serial number of the zone or ask its provider",
            )
            .seen(said.collect::<Vec<_>>()),
        );
    }
    type Part = fn(&ServerHeard) -> Vec<String>;
    let parts: [(&str, Part); 2] = [
        ("MX", |heard| heard.mail.iter().map(|(n, host)| format!("{n} {host}")).collect()),
        ("TXT", |heard| heard.texts.iter().cloned().collect()),
    ];
    for (kind, part) in parts {
        let said: BTreeSet<Vec<String>> = zone.speakers().map(part).collect();
        if said.len() > 1 {
            let lines = zone.servers.iter().filter_map(|server| {
                let heard = server.heard.as_ref().ok()?;
                let said = part(heard).join(", ");
                let said = if said.is_empty() { "none".to_owned() } else { said };
                Some(format!("{}: {} {kind} → {said}", server.server.name, zone.apex))
            });
            found.push(
                failed(
                    "servers-disagree",
                    format!("the name servers disagree about the {kind} records of {}", zone.apex),
                    "wait until all have taken over the change, then look again",
                )
                .seen(lines.collect::<Vec<_>>()),
            );
        }
    }
    found
}

/// To whom addresses belong.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Whose {
    Old,
    New,
    Both,
    Neither,
    Unknown,
}

pub(super) fn whose(at: &Looking<'_>, addresses: &BTreeSet<IpAddr>) -> Whose {
    let new = addresses.iter().any(|address| at.new.contains(address));
    let old = addresses.iter().any(|address| at.old.contains(address));
    // One machine may be both: another site on the same host.
    let same = !at.new.is_disjoint(&at.old);
    match (old && !same, new) {
        (true, true) => Whose::Both,
        (true, false) => Whose::Old,
        (false, true) => Whose::New,
        (false, false) if at.new.is_empty() && (at.old.is_empty() || !at.is_before()) => {
            Whose::Unknown
        }
        (false, false) => Whose::Neither,
    }
}

impl Looking<'_> {
    pub(super) fn is_before(&self) -> bool {
        self.question == Question::Before
    }
}

/// Where the hosts lead; where all of them lead to one place, in one line.
fn all_lead(at: &Looking<'_>) -> Vec<Found> {
    let answers: Vec<HostAnswer> =
        at.hosts().iter().enumerate().filter_map(|(number, _)| at.names.of_host(number)).collect();
    let of = |(number, answer): (usize, &HostAnswer)| leads(at, answer, number == 0);
    let mut found: Vec<Vec<Found>> = answers.iter().enumerate().map(of).collect();
    let is_passed = |all: &Vec<Found>| matches!(&all[..], [one] if one.verdict == Verdict::Passed);
    if let [first, second] = &answers[..]
        && first.addresses == second.addresses
        && found.iter().all(is_passed)
    {
        let evidence = found.pop().unwrap_or_default().into_iter().flat_map(|one| one.evidence);
        let evidence: Vec<String> = evidence.collect();
        if let Some(one) = found.first_mut().and_then(|all| all.first_mut()) {
            one.what = one.what.replacen(&first.host, &at.hosts_shown(), 1);
            one.evidence.extend(evidence);
        }
    }
    found.concat()
}

/// Where one host leads.
fn leads(at: &Looking<'_>, answer: &HostAnswer, is_own: bool) -> Vec<Found> {
    let host = &answer.host;
    let evidence = || {
        let servers = at.names.zone.iter().flat_map(Zone::server_names).collect::<Vec<_>>();
        [format!("{}: {}", servers.join(", "), answer.shown())]
    };
    if answer.is_loop {
        return vec![
            failed(
                "name-loop",
                format!("{host} leads back to itself"),
                "let one of the names lead to an address",
            )
            .seen(evidence()),
        ];
    }
    if answer.addresses.is_empty() {
        let end = answer.chain.last();
        return vec![match (end, is_own) {
            (Some(end), _) => failed(
                "name-dangling",
                format!("{host} leads to {end}, which has no address"),
                format!("correct the CNAME record of {host}"),
            )
            .seen(evidence()),
            (None, true) => failed(
                "name-unknown",
                format!("{host} has no address"),
                format!("add an A record for {host}"),
            )
            .seen(evidence()),
            (None, false) => warned(
                "twin-unknown",
                format!("{host} has no address; visitors who type it see an error"),
                format!("add a record for {host} that leads where {} leads", at.url.host),
            )
            .seen(evidence()),
        }];
    }
    let shown = Looking::shown(&answer.addresses);
    let mut found = Vec::new();
    let is = whose(at, &answer.addresses);
    if is == Whose::New && !at.is_before() {
        found.extend(partly(at, answer).map(|one| one.seen(evidence())));
    }
    if !found.is_empty() {
        return found;
    }
    let site = at.site.name();
    found.push(
        match (is, at.is_before()) {
            (Whose::Old, true) => {
                passed("leads-old", format!("{host} still leads to the old host ({shown})"))
            }
            (Whose::Old, false) => failed(
                "leads-old",
                format!("{host} still leads to the old host ({shown})"),
                switch_to(at, host),
            ),
            (Whose::New, _) => {
                passed("leads-new", format!("{host} leads to the new host ({shown})"))
            }
            (Whose::Both, _) => failed(
                "leads-both",
                format!("{host} leads to the old and to the new host ({shown})"),
                format!("remove the addresses of the old host: {}", Looking::shown(&at.old)),
            ),
            (Whose::Neither, _) => warned(
                "leads-elsewhere",
                format!("{host} leads to {shown}, which is neither the old nor the new host"),
                format!(
                    "if it is a protective proxy, set the new host as its origin{}; if it is the \
                 host itself, set connect-to for the site",
                    new_host(at)
                ),
            ),
            (Whose::Unknown, true) => warned(
                "host-unknown",
                format!("{host} leads to {shown}; which host that is cannot be told"),
                format!("set connect-to = \"203.0.113.9\" in [site.{site}]: the new host"),
            ),
            (Whose::Unknown, false) => passed("leads", format!("{host} leads to {shown}")),
        }
        .seen(evidence()),
    );
    found
}

/// Addresses beside that of the new host. Visitors with version 6 go there first.
fn partly(at: &Looking<'_>, answer: &HostAnswer) -> Option<Found> {
    let host = &answer.host;
    let others: BTreeSet<IpAddr> = answer.addresses.difference(&at.new).copied().collect();
    let shown = Looking::shown(&others);
    let kind = if others.first()?.is_ipv6() { "AAAA" } else { "A" };
    Some(match others.is_subset(&at.kept.before) {
        true => failed(
            "leads-partly-old",
            format!("{host} leads to the new host, but also still to {shown}, as before"),
            format!("change or remove the {kind} record of {host}"),
        ),
        false => warned(
            "leads-partly-elsewhere",
            format!("{host} leads to the new host, but also to {shown}, which is not known here"),
            format!("if that is not the new host, change the {kind} record of {host}"),
        ),
    })
}

fn new_host(at: &Looking<'_>) -> String {
    match at.new.is_empty() {
        true => String::new(),
        false => format!(" ({})", Looking::shown(&at.new)),
    }
}

fn switch_to(at: &Looking<'_>, host: &str) -> String {
    match at.new.is_empty() {
        true => format!("change the record of {host} to the new host"),
        false => format!("change the record of {host} to {}", Looking::shown(&at.new)),
    }
}

/// For how long answers are remembered, which is how long some visitors reach the old host.
fn lives(at: &Looking<'_>) -> Vec<Found> {
    let Some(own) = at.names.own() else { return Vec::new() };
    let longest = at.hosts().iter().enumerate().filter_map(|(number, _)| at.names.of_host(number));
    let Some((host, seconds)) = longest
        .filter_map(|answer| Some((answer.host, answer.seconds?)))
        .max_by_key(|(_, seconds)| *seconds)
    else {
        return Vec::new();
    };
    if matches!(whose(at, &own.addresses), Whose::New) {
        return Vec::new();
    }
    let evidence = || {
        let all = at.hosts().iter().enumerate().filter_map(|(number, _)| at.names.of_host(number));
        all.map(|answer| answer.shown()).collect::<Vec<_>>()
    };
    let found = long_or_not(at, &host, seconds);
    vec![found.seen(evidence())]
}

fn long_or_not(at: &Looking<'_>, host: &str, seconds: u32) -> Found {
    let time = time_of(seconds);
    if seconds > LONG {
        return warned(
            "time-to-live-long",
            format!(
                "{host} may be remembered for {time}: for so long visitors reach the old host \
                 after the switch"
            ),
            format!("lower the time to live to 300 s, wait {time}, then switch"),
        );
    }
    // Who asked just before it was lowered still remembers the longer time.
    let before = at.kept.lives.iter().rev().find(|(_, lived)| *lived > LONG);
    let since = at.kept.lives.iter().rev().take_while(|(_, lived)| *lived <= LONG).last();
    match (before, since) {
        (Some((_, lived)), Some((since, _))) if at.now - since < i64::from(*lived) => {
            let left = u32::try_from(i64::from(*lived) - (at.now - since)).unwrap_or(0);
            warned(
                "time-to-live-recent",
                format!(
                    "{host} may be remembered for {time} now, but for {} until {}",
                    time_of(*lived),
                    moment(*since)
                ),
                format!("wait {} more before you switch", time_of(left)),
            )
        }
        (_, since) => {
            let seen = since.map(|(since, _)| format!(", seen since {}", moment(*since)));
            passed(
                "time-to-live",
                format!("{host} is remembered for {time} at most{}", seen.unwrap_or_default()),
            )
        }
    }
}

fn moment(seconds: i64) -> String {
    let at = jiff::Timestamp::from_second(seconds).unwrap_or_default();
    let here = at.to_zoned(jiff::tz::TimeZone::system());
    here.strftime("%Y-%m-%d %H:%M %Z").to_string()
}

/// Resolvers that still remember the old host.
fn remembered(at: &Looking<'_>) -> Vec<Found> {
    let mut found = Vec::new();
    let own = at.names.own().unwrap_or_default();
    for resolver in &at.names.resolvers {
        let Ok(hosts) = &resolver.hosts else { continue };
        let stale = hosts.iter().enumerate().find(|(number, heard)| {
            let said = at.names.of_host(*number).unwrap_or_default();
            !heard.addresses.is_subset(&said.addresses) && !heard.addresses.is_empty()
        });
        if let Some((_, heard)) = stale {
            let left = time_of(heard.seconds.unwrap_or(0));
            found.push(
                failed(
                    "resolver-remembers",
                    format!(
                        "the resolver {} still remembers {} for {}, for {left} at most",
                        resolver.name,
                        Looking::shown(&heard.addresses),
                        heard.host
                    ),
                    format!("wait {left}, then look again"),
                )
                .seen([format!("{}: {}", resolver.name, heard.shown())]),
            );
        }
    }
    let asked: Vec<String> = at
        .names
        .resolvers
        .iter()
        .filter(|resolver| resolver.hosts.is_ok())
        .map(|resolver| resolver.name.clone())
        .collect();
    if found.is_empty() && !asked.is_empty() && !own.addresses.is_empty() {
        let what = format!("what resolvers say is what the name servers say: {}", named(&asked, 4));
        let said = at.names.resolvers.iter().flat_map(|resolver| {
            let hosts = resolver.hosts.iter().flatten();
            hosts.map(|heard| format!("{}: {}", resolver.name, heard.shown()))
        });
        found.push(passed("resolvers", what).seen(said));
    }
    found
}
