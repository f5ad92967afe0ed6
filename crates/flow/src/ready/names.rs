//! Where the names of the site lead, and whether all who are asked agree.

use super::answers::{HostAnswer, ServerHeard};
use super::leads::{all_lead, failed, passed, warned};
use super::lives::{lives, remembered};
use super::zone::{Server, Zone};
use super::{Found, Looking, Looks, Question};
use fernweh_ports::{NameStatus, named};
use std::collections::{BTreeMap, BTreeSet};

pub(super) struct Name;

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
        // With one state of the zone they have different answers on purpose, as large providers do.
        let serials: BTreeSet<Option<u32>> =
            sides.values().flatten().map(|server| serial_of(server)).collect();
        if serials.len() == 1 {
            found.push(
                warned(
                    "answers-vary",
                    format!("the name servers give different answers about {host}"),
                    "if that is not on purpose, raise the serial number of the zone, or ask its \
                     provider",
                )
                .seen(said.collect::<Vec<_>>()),
            );
            continue;
        }
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
