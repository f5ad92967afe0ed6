//! The steps that no program can take, in their order, with what is known filled in. What can be
//! seen to be done is ticked by itself.

use super::answers::time_of;
use super::leads::{Whose, whose};
use super::{Found, Looking, Topic};
use crate::journal::Run;
use fernweh_core::finding::Verdict;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// How far a step is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum StepState {
    /// Not done.
    Open,
    /// Somebody has called it done.
    Done,
    /// It was seen to be done.
    Seen,
}

/// A step.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Step {
    /// Its name, for `--done`.
    pub step: String,
    /// What to do.
    pub what: String,
    /// How far it is.
    pub state: StepState,
    /// Since when it is done (RFC 3339, UTC).
    pub since: Option<String>,
}

struct List<'a> {
    at: &'a Looking<'a>,
    steps: Vec<Step>,
}

impl List<'_> {
    /// Adds a step that may have been seen to be done: what is to be done, and what was.
    fn add(&mut self, step: &str, seen: bool, to_do: impl Into<String>, was: impl Into<String>) {
        let kept = self.at.kept;
        let (state, since) = match (seen, kept.done.get(step)) {
            (true, _) => {
                let first = kept.seen.get(step).cloned();
                let now =
                    || jiff::Timestamp::from_second(self.at.now).ok().map(|at| at.to_string());
                (StepState::Seen, first.or_else(now))
            }
            (false, Some(at)) => (StepState::Done, Some(at.clone())),
            (false, None) => (StepState::Open, None),
        };
        let what = if state == StepState::Open { to_do.into() } else { was.into() };
        self.steps.push(Step { step: step.into(), what, state, since });
    }

    fn own(&mut self, own: &[String]) {
        for what in own {
            self.add(&name_of(what), false, what, what);
        }
    }
}

/// Steps that may be on the list, beside those of the user's own.
const NAMES: [&str; 12] = [
    "transfer",
    "time-to-live",
    "certificate",
    "records",
    "name-servers",
    "mail",
    "senders",
    "redirect-old",
    "analytics",
    "search-consoles",
    "old-site",
    "safekeeping",
];

/// The names of all steps that there can be.
pub fn step_names(own: &[String]) -> Vec<String> {
    let known = NAMES.iter().map(|name| (*name).to_owned());
    known.chain(own.iter().map(|what| name_of(what))).collect()
}

/// Whether there can be a step of this name.
pub fn is_step(name: &str, own: &[String]) -> bool {
    step_names(own).iter().any(|known| known == name)
}

/// The name of a step that is only said in words: its first words.
fn name_of(what: &str) -> String {
    let words = what.to_lowercase();
    let words = words.split(|ch: char| !ch.is_alphanumeric()).filter(|word| !word.is_empty());
    words.take(4).collect::<Vec<_>>().join("-")
}

/// The user's own steps alone: a copy for trials takes nobody's place.
pub(super) fn own_alone(at: &Looking<'_>, own: &[String]) -> Vec<Step> {
    let mut list = List { at, steps: Vec::new() };
    list.own(own);
    list.steps
}

/// Every step that applies.
pub(super) fn steps(at: &Looking<'_>, checks: &[Found], own: &[String]) -> Vec<Step> {
    let mut list = List { at, steps: Vec::new() };
    let Some(from) = at.from else {
        list.own(own);
        return list.steps;
    };
    let site = at.site.name();
    let led = at.names.own().unwrap_or_default();
    let is_new = whose(at, &led.addresses) == Whose::New;
    let apex = at.names.zone.as_ref().map_or(at.url.stem_host(), |zone| zone.apex.as_str());
    let moves = from.url().is_some_and(|old| at.names.hosts.contains(&old.host));
    let hosts = at.hosts_shown();
    if moves {
        list.add(
            "transfer",
            false,
            format!(
                "if {apex} goes to another registrar, too: unlock it and ask for its transfer \
                 code; a domain stays put for 60 days after it was bought or transferred"
            ),
            format!("{apex} is at its registrar"),
        );
    }
    let lived = led.seconds.unwrap_or(0);
    if !is_new {
        let fine = !checks.iter().any(|found| found.code.starts_with("time-to-live-"));
        let now = time_of(lived);
        list.add(
            "time-to-live",
            fine && lived > 0,
            format!("lower the time to live of {hosts} to 300 s (now {now}), at its name servers"),
            format!("the time to live of {hosts} is {now}"),
        );
    }
    if at.is_secure() {
        let about = |found: &&Found| found.check == Topic::Certificate;
        let looked = checks.iter().any(|found| about(&found));
        let fine = !checks.iter().filter(about).any(|found| found.verdict == Verdict::Failed);
        list.add(
            "certificate",
            looked && fine,
            format!("order a certificate for {hosts} at the new host"),
            format!("the new host has a certificate for {hosts}"),
        );
    }
    let new = match at.new.is_empty() {
        true => "the new host".to_owned(),
        false => format!("the new host ({})", super::Looking::shown(&at.new)),
    };
    list.add("records", is_new, records(at), format!("{hosts} leads to {new}"));
    if let Some(zone) = &at.names.zone {
        let now: Vec<String> = zone.server_names().into_iter().map(str::to_owned).collect();
        if !at.kept.servers.is_empty() && at.kept.servers != now {
            let what = format!("the name servers are {} now", now.join(", "));
            list.add("name-servers", true, what.clone(), what);
        }
    }
    mail(at, checks, &mut list);
    if let Some(old) = at.old_url() {
        let redirected = checks.iter().any(|found| found.code == "old-redirect");
        let broken = checks.iter().any(|found| {
            found.check == Topic::Redirects
                && found.verdict == Verdict::Failed
                && found.what.contains(&old.host)
        });
        list.add(
            "redirect-old",
            redirected && !broken,
            format!("let {old} lead to {}: fernweh close {} --to {site}", at.url, from.name()),
            format!("{old} leads to {}", at.url),
        );
    }
    let changes = from.url().is_some_and(|old| *old != at.url);
    if changes {
        list.add(
            "analytics",
            false,
            format!("tell analytics that the site is at {}", at.url),
            format!("analytics know {}", at.url),
        );
        list.add(
            "search-consoles",
            false,
            format!("add {} to the consoles of search engines, and hand in its sitemap", at.url),
            format!("the consoles of search engines know {}", at.url),
        );
    }
    let old = from.url().map_or_else(|| from.name().to_owned(), ToString::to_string);
    list.add(
        "old-site",
        false,
        match at.old_url() {
            Some(_) => format!(
                "once nobody asks the old host any more: keep {old} for its redirects, and end the \
                 rest of the contract"
            ),
            None => "once nobody asks the old host any more: take the site down there".to_owned(),
        },
        "the old site is taken down",
    );
    if at.runs().iter().any(Run::is_kept) {
        list.add(
            "safekeeping",
            false,
            format!("once all is well, give up the kept state: fernweh undo {site} --let-go"),
            "the kept state stays for now",
        );
    }
    list.own(own);
    list.steps
}

/// The records to change.
fn records(at: &Looking<'_>) -> String {
    let servers = at.names.zone.as_ref().map(|zone| zone.server_names().join(" and "));
    let servers = servers.filter(|names| !names.is_empty());
    let place = servers.map(|names| format!(" at {names}")).unwrap_or_default();
    let to = match at.new.is_empty() {
        true => "the new host".to_owned(),
        false => super::Looking::shown(&at.new),
    };
    let mut what = format!("let {} lead to {to}{place}", at.hosts_shown());
    let led = at.names.own().unwrap_or_default().addresses;
    let six = led.iter().any(|address| address.is_ipv6() && at.old.contains(address));
    if six && !at.new.iter().any(|address| address.is_ipv6()) {
        what.push_str("; remove the AAAA records, which lead to the old host");
    }
    what.push_str("; or, if the new host brings its own name servers, name them at the registrar");
    what
}

fn mail(at: &Looking<'_>, checks: &[Found], list: &mut List<'_>) {
    let of = |code: &str| checks.iter().any(|found| found.code == code);
    if of("mail-moves") || of("mail-moved") {
        list.add(
            "mail",
            false,
            "decide where mail goes: it moves with the name unless MX leads to a name of its own",
            "it is decided where mail goes",
        );
    }
    if of("senders-old") {
        let new = super::Looking::shown(&at.new);
        list.add(
            "senders",
            false,
            format!("add {new} to the rule for senders (SPF)"),
            "the rule for senders (SPF) is right",
        );
    } else if of("senders-left") {
        let old = super::Looking::shown(&at.old);
        list.add(
            "senders",
            false,
            format!("take {old} out of the rule for senders (SPF)"),
            "the rule for senders (SPF) is right",
        );
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_step_in_words_is_named_by_the_first_of_them() {
        assert_eq!(name_of("Tell the printers, please, in Ünna!"), "tell-the-printers-please");
        assert_eq!(name_of("¡¿?!"), "");
    }
}
