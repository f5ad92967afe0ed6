//! Where mail of the domain goes, and from where it may come (RFC 5321, RFC 7208).

use super::leads::{Whose, whose};
use super::{Found, Looking, Looks, Topic};
use std::collections::BTreeSet;
use std::net::IpAddr;

pub(super) struct Mail;

impl Looks for Mail {
    fn look(&self, at: &Looking<'_>) -> Vec<Found> {
        let Some((apex, heard)) =
            at.names.zone.as_ref().and_then(|zone| Some((&zone.apex, zone.speaker()?)))
        else {
            return vec![Found::failed(
                Topic::Mail,
                "not-looked-up",
                "where mail goes is not known: no name server answered",
                "see what is said of the name",
            )];
        };
        let mut found = vec![servers(at, apex, &heard.mail)];
        found.extend(senders(at, apex, &heard.texts));
        found
    }
}

/// Whether mail moves with the site.
fn servers(at: &Looking<'_>, apex: &str, mail: &BTreeSet<(u16, String)>) -> Found {
    let shown: Vec<String> = mail.iter().map(|(_, host)| host.clone()).collect();
    let evidence = match shown.is_empty() {
        true => format!("{apex} MX → no such record"),
        false => format!("{apex} MX → {}", shown.join(", ")),
    };
    let moved = mail.iter().find(|(_, host)| at.hosts().contains(host));
    let found = match moved {
        Some((_, host)) if at.is_before() => Found::warned(
            Topic::Mail,
            "mail-moves",
            format!("mail for {apex} goes to {host}, which changes its address: mail moves, too"),
            "if mailboxes stay where they are, give mail a name of its own first (mail.…) and let \
             MX lead there",
        ),
        Some((_, host)) if whose(at, &addresses(at, host)) == Whose::New => Found::warned(
            Topic::Mail,
            "mail-moved",
            format!("mail for {apex} goes to {host}, and so to the new host"),
            "check that the mailboxes are there; if not, let MX lead to the old mail server",
        ),
        _ if shown.is_empty() => {
            Found::passed(Topic::Mail, "mail-none", format!("{apex} names no mail server"))
        }
        _ => Found::passed(
            Topic::Mail,
            "mail-apart",
            format!("mail for {apex} goes to {}, whatever becomes of the site", shown.join(", ")),
        ),
    };
    found.seen([evidence])
}

fn addresses(at: &Looking<'_>, host: &str) -> BTreeSet<IpAddr> {
    let number = at.hosts().iter().position(|known| known == host);
    number.and_then(|number| at.names.of_host(number)).unwrap_or_default().addresses
}

/// Who may send mail for the domain.
fn senders(at: &Looking<'_>, apex: &str, texts: &BTreeSet<String>) -> Vec<Found> {
    let is_rule = |text: &&String| {
        let text = text.to_ascii_lowercase();
        text == "v=spf1" || text.starts_with("v=spf1 ")
    };
    let rules: Vec<&String> = texts.iter().filter(is_rule).collect();
    let evidence =
        || rules.iter().map(|rule| format!("{apex} TXT → \"{rule}\"")).collect::<Vec<_>>();
    let rule = match rules[..] {
        [] => return Vec::new(),
        [rule] => rule,
        _ => {
            return vec![
                Found::failed(
                    Topic::Mail,
                    "senders-twice",
                    format!(
                        "{apex} has {} rules for senders (SPF), and so none counts",
                        rules.len()
                    ),
                    "join them into one TXT record",
                )
                .seen(evidence()),
            ];
        }
    };
    let allowed = |whose: &BTreeSet<IpAddr>| {
        let is_named = |address: &&IpAddr| rule.split(' ').any(|word| names_address(word, address));
        whose.iter().find(is_named).copied()
    };
    // Another site on the same host sends as before.
    if !at.new.is_disjoint(&at.old) {
        return Vec::new();
    }
    match (allowed(&at.old), allowed(&at.new)) {
        (Some(old), None) => vec![
            Found::warned(
                Topic::Mail,
                "senders-old",
                format!(
                    "the rule for senders (SPF) names the old host ({old}), and not the new one"
                ),
                match at.new.first() {
                    Some(new) => {
                        format!("add {} to it before the site sends mail from there", word(new))
                    }
                    None => "add the address of the new host to it".into(),
                },
            )
            .seen(evidence()),
        ],
        (Some(old), Some(_)) if !at.is_before() => vec![
            Found::warned(
                Topic::Mail,
                "senders-left",
                format!("the rule for senders (SPF) still names the old host ({old})"),
                format!("take {} out once nothing sends mail from there", word(&old)),
            )
            .seen(evidence()),
        ],
        _ => vec![
            Found::passed(Topic::Mail, "senders", "the rule for senders (SPF) can stay as it is")
                .seen(evidence()),
        ],
    }
}

fn word(address: &IpAddr) -> String {
    match address {
        IpAddr::V4(address) => format!("ip4:{address}"),
        IpAddr::V6(address) => format!("ip6:{address}"),
    }
}

/// Whether a word of the rule names an address or a network around it (RFC 7208, 5.6).
fn names_address(word: &str, address: &IpAddr) -> bool {
    let word = word.trim_start_matches(['+', '?', '~']).to_ascii_lowercase();
    let network = match address {
        IpAddr::V4(_) => word.strip_prefix("ip4:"),
        IpAddr::V6(_) => word.strip_prefix("ip6:"),
    };
    let Some(network) = network else { return false };
    let (base, bits) = match network.split_once('/') {
        Some((base, bits)) => (base, bits.parse().ok()),
        None => (network, None),
    };
    let of = |address: &IpAddr| match address {
        IpAddr::V4(address) => u128::from(u32::from(*address)) << 96,
        IpAddr::V6(address) => u128::from(*address),
    };
    let full = if address.is_ipv4() { 32 } else { 128 };
    let bits: u32 = bits.unwrap_or(full).min(full);
    let mask = if bits == 0 { 0 } else { u128::MAX << (128 - bits) };
    base.parse::<IpAddr>().is_ok_and(|base| {
        base.is_ipv4() == address.is_ipv4() && of(&base) & mask == of(address) & mask
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_rule_for_senders_names_addresses_and_networks() {
        for (word, address, expected) in [
            ("ip4:192.0.2.9", "192.0.2.9", true),
            ("+ip4:192.0.2.0/24", "192.0.2.9", true),
            ("ip4:192.0.2.0/29", "192.0.2.9", false),
            ("ip4:0.0.0.0/0", "192.0.2.9", true),
            ("ip6:2001:db8::/32", "2001:db8::9", true),
            ("ip6:2001:db8::9", "2001:db8::8", false),
            ("-ip4:192.0.2.9", "192.0.2.9", false),
            ("ip4:0.0.0.0/0", "2001:db8::9", false),
            ("mx", "192.0.2.9", false),
            ("ip4:", "192.0.2.9", false),
        ] {
            let address = address.parse().unwrap();
            assert_eq!(names_address(word, &address), expected, "{word} {address}");
        }
    }
}
