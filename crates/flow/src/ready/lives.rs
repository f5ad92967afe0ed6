//! For how long answers are remembered, and who still remembers old ones.

use super::answers::{HostAnswer, time_of};
use super::leads::{Whose, failed, passed, warned, whose};
use super::{Found, Looking};
use fernweh_ports::named;
use std::collections::BTreeSet;
use std::net::IpAddr;

/// A time to live of more than an hour lets visitors reach the old host for longer than anybody
/// wants to wait.
const LONG: u32 = 3600;

/// For how long answers are remembered, which is how long some visitors reach the old host.
pub(super) fn lives(at: &Looking<'_>) -> Vec<Found> {
    let Some(own) = at.names.own() else { return Vec::new() };
    let answers = at.names.answers();
    let Some((host, seconds)) = answers
        .iter()
        .filter_map(|answer| Some((&answer.host, answer.seconds?)))
        .max_by_key(|(_, seconds)| *seconds)
    else {
        return Vec::new();
    };
    if matches!(whose(at, &own.addresses), Whose::New) {
        return Vec::new();
    }
    let evidence = answers.iter().map(HostAnswer::shown);
    vec![long_or_not(at, host, seconds).seen(evidence)]
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

/// Whether what a resolver says was true before the switch, and is not any more. Names of large
/// providers lead elsewhere at every question: that alone says nothing.
fn is_stale(at: &Looking<'_>, heard: &BTreeSet<IpAddr>, said: &BTreeSet<IpAddr>) -> bool {
    let gone = heard.difference(said);
    let is_old = |address: &&IpAddr| at.old.contains(address) || at.kept.before.contains(address);
    let new = |all: &BTreeSet<IpAddr>| !all.is_disjoint(&at.new);
    gone.clone().any(|address| is_old(&address)) || (gone.count() > 0 && new(said) && !new(heard))
}

/// Resolvers that still remember the old host.
pub(super) fn remembered(at: &Looking<'_>) -> Vec<Found> {
    let mut found = Vec::new();
    let own = at.names.own().unwrap_or_default();
    for resolver in &at.names.resolvers {
        let Ok(hosts) = &resolver.hosts else { continue };
        let stale = hosts.iter().enumerate().find(|(number, heard)| {
            let said = at.names.of_host(*number).unwrap_or_default().addresses;
            is_stale(at, &heard.addresses, &said)
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
        let what = format!("resolvers do not remember the old host any more: {}", named(&asked, 4));
        let said = at.names.resolvers.iter().flat_map(|resolver| {
            let hosts = resolver.hosts.iter().flatten();
            hosts.map(|heard| format!("{}: {}", resolver.name, heard.shown()))
        });
        found.push(passed("resolvers", what).seen(said));
    }
    found
}
