//! Where the hosts of the site lead: to the old host, to the new one, or somewhere else.

use super::answers::HostAnswer;
use super::zone::Zone;
use super::{Found, Looking, Question, Topic};
use fernweh_core::finding::Verdict;
use std::collections::BTreeSet;
use std::net::IpAddr;

pub(super) fn failed(code: &str, what: impl Into<String>, hint: impl Into<String>) -> Found {
    Found::failed(Topic::Name, code, what, hint)
}

pub(super) fn warned(code: &str, what: impl Into<String>, hint: impl Into<String>) -> Found {
    Found::warned(Topic::Name, code, what, hint)
}

pub(super) fn passed(code: &str, what: impl Into<String>) -> Found {
    Found::passed(Topic::Name, code, what)
}

/// To whom addresses belong.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Whose {
    Old,
    New,
    Both,
    Neither,
    /// Not the new host; where the old one is, is not known.
    NotNew,
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
        (false, false) => match (at.new.is_empty(), at.old.is_empty()) {
            (true, _) => Whose::Unknown,
            (false, true) => Whose::NotNew,
            (false, false) => Whose::Neither,
        },
    }
}

impl Looking<'_> {
    pub(super) fn is_before(&self) -> bool {
        self.question == Question::Before
    }
}

/// Where the hosts lead; where all of them lead to one place, in one line.
pub(super) fn all_lead(at: &Looking<'_>) -> Vec<Found> {
    let answers = at.names.answers();
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
            (Whose::NotNew, true) => {
                passed("not-new", format!("{host} does not lead to the new host yet ({shown})"))
            }
            (Whose::NotNew, false) => failed(
                "not-new",
                format!("{host} does not lead to the new host, but to {shown}"),
                format!(
                    "{}; if {shown} is a protective proxy, set the new host as its origin{}",
                    switch_to(at, host),
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
