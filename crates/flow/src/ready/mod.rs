//! Whether a site's domain can be switched to its new host, and whether the switch has arrived:
//! small checks, each with what was asked, of whom, and what came back.

mod answers;
mod certificate;
mod found;
mod heard;
mod kept;
mod landing;
mod leads;
mod leftovers;
mod lives;
mod mail;
mod names;
mod redirects;
mod search;
mod security;
mod steps;
mod time;
mod watch;
mod web;
mod zone;

pub use answers::{HostAnswer, ResolverHeard, ServerHeard};
pub use found::{Found, Question, ReadyReport, Topic};
pub use heard::Names;
pub use kept::{KeptReady, set_step};
pub use steps::{Step, StepState, is_step, step_names};
pub use watch::{Answer, Patience, WatchReport, watch};

use crate::journal::{Records, Run};
use crate::outcome::{Of, Outcome, outcome};
use fernweh_core::address::{Scheme, WebAddress};
use fernweh_core::finding::Verdict;
use fernweh_ports::{
    HostAddress, NameSource, Progress, Result, SiteAccess, Trouble, Unit, counted,
};
use std::collections::BTreeSet;
use std::net::IpAddr;
use std::time::Instant;
use web::Web;

/// What is asked.
#[derive(Clone, Debug, Default)]
pub struct Ready {
    /// What the checks are about; all without it.
    pub topics: Vec<Topic>,
    /// The question; the one that fits what the names say without it.
    pub question: Option<Question>,
    /// Steps of the user's own.
    pub steps: Vec<String>,
    /// Whether search engines are to be kept out.
    pub hidden: bool,
    /// Whether the public is to find the site here.
    pub is_final: bool,
}

/// What checks are about, and what they share.
pub(crate) struct Looking<'a> {
    site: &'a dyn SiteAccess,
    from: Option<&'a dyn SiteAccess>,
    /// What is remembered; nothing without a configuration.
    records: Option<&'a Records>,
    url: WebAddress,
    /// Who stands for the names.
    names: &'a Names,
    /// The addresses of the new host, if they are known, …
    new: BTreeSet<IpAddr>,
    /// … and of the old one.
    old: BTreeSet<IpAddr>,
    question: Question,
    hidden: bool,
    /// The pages of the host, where it is known where to ask.
    web: Option<Web<'a>>,
    /// The moment, in seconds since 1970.
    now: i64,
    kept: &'a KeptReady,
}

impl Looking<'_> {
    /// The hosts that are the site's, its own first.
    fn hosts(&self) -> &[String] {
        &self.names.hosts
    }

    /// The runs of the site, the newest first.
    fn runs(&self) -> Vec<Run> {
        let runs = self.records.map(|records| records.runs_of(self.site.name()));
        runs.and_then(Result::ok).unwrap_or_default()
    }

    /// How the last look of a kind at the site ended.
    fn outcome(&self, of: Of<'_>) -> Option<Outcome> {
        outcome(self.records?, self.site.name(), of)
    }

    /// The host for people, as `203.0.113.9`.
    fn shown(addresses: &BTreeSet<IpAddr>) -> String {
        addresses.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ")
    }

    /// The hosts for people.
    fn hosts_shown(&self) -> String {
        let own = &self.url.host;
        match self.hosts().len() {
            1 => own.clone(),
            _ if own.starts_with("www.") => format!("{own} (with and without www)"),
            _ => format!("{own} (without and with www)"),
        }
    }

    /// The address of the old site, where it is another one.
    fn old_url(&self) -> Option<&WebAddress> {
        self.from?.url().filter(|url| !self.names.hosts.contains(&url.host))
    }

    fn is_secure(&self) -> bool {
        self.url.scheme == Scheme::Https
    }
}

/// A check.
trait Looks: Sync {
    fn look(&self, at: &Looking<'_>) -> Vec<Found>;
}

/// The checks by their topics.
fn check_of(topic: Topic) -> &'static dyn Looks {
    match topic {
        Topic::Name => &names::Name,
        Topic::Certificate => &certificate::Certificates,
        Topic::Redirects => &redirects::Redirects,
        Topic::Search => &search::Search,
        Topic::Leftovers => &leftovers::Leftovers,
        Topic::Security => &security::Security,
        Topic::Mail => &mail::Mail,
        Topic::Time => &time::Time,
    }
}

impl Ready {
    /// Looks.
    pub fn run(
        &self,
        site: &dyn SiteAccess,
        from: Option<&dyn SiteAccess>,
        source: &dyn NameSource,
        records: Option<&Records>,
        progress: &dyn Progress,
    ) -> Result<ReadyReport> {
        let began = Instant::now();
        let name = site.name();
        let url = site.needed_url()?.clone();
        if url.host.parse::<IpAddr>().is_ok() || url.host.starts_with('[') {
            return Err(Trouble::usage(format!("site {name} has no name, only an address"))
                .because(format!("its url is {url}"))
                .hint("ready looks where names lead; set the url that visitors will type"));
        }
        let topics = if self.topics.is_empty() { &Topic::ALL[..] } else { &self.topics };
        progress.stage("asking", Some(topics.len() as u64 + 1), Unit::Checks);
        let names = Names::gather(source, &url, from.and_then(SiteAccess::url));
        progress.go_on()?;
        progress.advance(1);
        let place = site.host_address()?;
        let new: BTreeSet<IpAddr> = place.iter().map(|place| place.https.ip()).collect();
        let old = old_addresses(from, &names)?;
        let question = self.question.unwrap_or_else(|| names.question(&new, &old));
        let now = jiff::Timestamp::now().as_second();
        let mut kept = records.map(|kept| KeptReady::load(kept, name)).unwrap_or_default();
        kept.note(&names, &new, now);
        let looking = Looking {
            web: place_of(question, place, [&new, &old], &names)
                .map(|place| Web::open(site, place, &names.hosts))
                .transpose()?,
            hidden: self.hidden,
            site,
            from,
            records,
            url: url.clone(),
            names: &names,
            new,
            old,
            question,
            now,
            kept: &kept,
        };
        let checks: Vec<Found> = std::thread::scope(|scope| {
            let look = |topic: &Topic| {
                let check = check_of(*topic);
                scope.spawn(|| {
                    let found = check.look(&looking);
                    progress.advance(1);
                    found
                })
            };
            let looks: Vec<_> = topics.iter().map(look).collect();
            looks.into_iter().flat_map(|look| look.join().unwrap_or_default()).collect()
        });
        progress.done(&counted(topics.len() as u64, "check", "checks"));
        progress.go_on()?;
        let steps = match self.is_final && !self.hidden {
            true => steps::steps(&looking, &checks, &self.steps),
            false => steps::own_alone(&looking, &self.steps),
        };
        let was_unjudged = looking.web.as_ref().is_some_and(Web::was_unjudged);
        let notes = was_unjudged.then(|| {
            "pages were read although the certificate is not accepted; no login was sent".to_owned()
        });
        drop(looking);
        kept.see(&steps, now);
        if let Some(records) = records {
            // Somebody may have called a step done while others were asked.
            kept.done = KeptReady::load(records, name).done;
            kept.save(records, name)?;
        }
        Ok(ReadyReport {
            site: name.to_owned(),
            url: url.to_string(),
            from: from.map(|from| from.name().to_owned()),
            question,
            ready: checks.iter().all(|found| found.verdict != Verdict::Failed),
            hidden: self.hidden,
            checks,
            notes: notes.into_iter().collect(),
            steps,
            seconds: began.elapsed().as_secs_f64(),
        })
    }
}

/// Where the old host is: as configured, or where its name leads, if that is another one.
fn old_addresses(from: Option<&dyn SiteAccess>, names: &Names) -> Result<BTreeSet<IpAddr>> {
    let Some(from) = from else { return Ok(BTreeSet::new()) };
    match from.host_address()? {
        Some(place) => Ok([place.http.ip(), place.https.ip()].into()),
        None => Ok(names.old.as_ref().map(|old| old.addresses.clone()).unwrap_or_default()),
    }
}

/// Where the site's pages are asked: of the new host before the switch; where the names lead
/// afterwards, as visitors do.
fn place_of(
    question: Question,
    place: Option<HostAddress>,
    [new, old]: [&BTreeSet<IpAddr>; 2],
    names: &Names,
) -> Option<HostAddress> {
    let led = names.own().map(|own| own.addresses.clone()).unwrap_or_default();
    // That they lead to the old host says all about the switch, and nothing about the new one.
    let leads_there = led.iter().any(|address| new.contains(address) || old.contains(address));
    match (question, place) {
        (Question::Before, Some(place)) => Some(place),
        (Question::After, Some(place)) if leads_there || led.is_empty() => Some(place),
        (Question::Before, None) => None,
        (Question::After, _) => {
            let first = led.iter().find(|address| address.is_ipv4()).or(led.first())?;
            Some(HostAddress::usual(*first))
        }
    }
}

#[cfg(test)]
mod tests;
