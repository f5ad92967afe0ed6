//! Waiting for a switch to arrive: the same questions again and again, until everybody who is
//! asked gives the new answer.

use super::{HostAnswer, Looking, Names, old_addresses};
use fernweh_ports::{NameSource, Progress, Result, SiteAccess, Trouble, Unit, counted};
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::BTreeSet;
use std::net::IpAddr;
use std::time::Duration;

/// Nobody is asked more often than this.
const SOONEST: Duration = Duration::from_secs(30);
/// However long an answer may be remembered, it is looked at again after this time.
const LATEST: Duration = Duration::from_secs(600);

/// What a watch came to.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct WatchReport {
    /// The site.
    pub site: String,
    /// Whether everybody gave the new answer at last.
    pub arrived: bool,
    /// How often all were asked.
    pub looks: u64,
    /// How long it took, in seconds.
    pub seconds: u64,
    /// Whoever was asked last, and what came back.
    pub answers: Vec<Answer>,
}

/// What one server said last.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Answer {
    /// The server.
    pub server: String,
    /// Whether it gives the new answer.
    pub new: bool,
    /// What it said.
    pub said: String,
    /// For how many seconds it may still say so.
    pub seconds: Option<u32>,
}

/// Time as a watch sees it.
pub trait Patience {
    /// Waits; whether to go on.
    fn wait(&mut self, time: Duration) -> bool;
    /// How long it has waited.
    fn waited(&self) -> Duration;
}

/// Watches until the switch has arrived, or for so long.
///
/// # Errors
///
/// Where it is not known what the new answer is, or where the user stops.
pub fn watch(
    site: &dyn SiteAccess,
    from: Option<&dyn SiteAccess>,
    source: &dyn NameSource,
    most: Duration,
    patience: &mut dyn Patience,
    progress: &dyn Progress,
) -> Result<WatchReport> {
    let name = site.name();
    let url = site.needed_url()?;
    let place = site.host_address()?;
    let new: BTreeSet<IpAddr> = place.iter().map(|place| place.https.ip()).collect();
    let mut report = WatchReport {
        site: name.to_owned(),
        arrived: false,
        looks: 0,
        seconds: 0,
        answers: Vec::new(),
    };
    let mut shown = 0;
    loop {
        let names = Names::gather(source, url, from.and_then(SiteAccess::url));
        let old = old_addresses(from, &names)?;
        if new.is_empty() && old.is_empty() {
            return Err(Trouble::usage("it is not known which answer is the new one").hint(format!(
                "set connect-to in [site.{name}] to the new host, or name the old site with --from"
            )));
        }
        let is_new = |heard: &HostAnswer| match new.is_empty() {
            false => heard.addresses.is_subset(&new),
            true => heard.addresses.is_disjoint(&old),
        };
        report.answers = answers(&names, &is_new);
        report.looks += 1;
        let there = report.answers.iter().filter(|answer| answer.new).count() as u64;
        if report.looks == 1 || there < shown {
            progress.stage("watching", Some(report.answers.len() as u64), Unit::Servers);
            shown = 0;
        }
        progress.advance(there - shown);
        shown = there;
        report.arrived = there > 0 && there == report.answers.len() as u64;
        report.seconds = patience.waited().as_secs();
        let left = most.saturating_sub(patience.waited());
        if report.arrived || left.is_zero() {
            progress.done(&counted(report.answers.len() as u64, "server", "servers"));
            return Ok(report);
        }
        let remembered = report.answers.iter().filter(|answer| !answer.new);
        let soonest = remembered.filter_map(|answer| answer.seconds).min().unwrap_or(0);
        let pause = Duration::from_secs(soonest.into()).clamp(SOONEST, LATEST).min(left);
        if !patience.wait(pause) {
            progress.go_on()?;
            return Ok(report);
        }
    }
}

/// What each server says: of every host of the site at once.
fn answers(names: &Names, is_new: &dyn Fn(&HostAnswer) -> bool) -> Vec<Answer> {
    let of = |server: &str, hosts: std::result::Result<&[HostAnswer], String>| match hosts {
        Err(problem) => {
            Answer { server: server.to_owned(), new: false, said: problem, seconds: None }
        }
        Ok(hosts) => {
            // A second name that leads nowhere has nothing to arrive at.
            let there: Vec<&HostAnswer> = hosts
                .iter()
                .enumerate()
                .filter(|(number, heard)| *number == 0 || !heard.addresses.is_empty())
                .map(|(_, heard)| heard)
                .collect();
            let old = there.iter().find(|heard| heard.addresses.is_empty() || !is_new(heard));
            let told = old.or(there.first());
            Answer {
                server: server.to_owned(),
                new: old.is_none() && !there.is_empty(),
                said: told.map(|heard| said(heard)).unwrap_or_default(),
                seconds: told.and_then(|heard| heard.seconds),
            }
        }
    };
    let servers = names.zone.iter().flat_map(|zone| &zone.servers).map(|server| {
        let heard = server.heard.as_ref().map_err(ToString::to_string);
        of(&server.server.name, heard.map(|heard| heard.hosts.as_slice()))
    });
    let resolvers = names.resolvers.iter().map(|resolver| {
        let heard = resolver.hosts.as_ref().map_err(ToString::to_string);
        of(&resolver.name, heard.map(Vec::as_slice))
    });
    servers.chain(resolvers).collect()
}

fn said(heard: &HostAnswer) -> String {
    match heard.addresses.is_empty() {
        true => format!("{}: no address", heard.host),
        false => format!("{} → {}", heard.host, Looking::shown(&heard.addresses)),
    }
}
