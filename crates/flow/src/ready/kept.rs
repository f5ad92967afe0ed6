//! What is remembered of a site between one look and the next: steps that are done, what was first
//! seen when, and for how long answers may have been remembered.

use super::{Names, Step, StepState};
use crate::journal::Records;
use fernweh_ports::{Result, Trouble};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;

/// What is remembered.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct KeptReady {
    /// Steps that somebody has called done, and when (RFC 3339).
    #[serde(default)]
    pub done: BTreeMap<String, String>,
    /// Steps that were seen to be done, and when that was seen first (RFC 3339).
    #[serde(default)]
    pub seen: BTreeMap<String, String>,
    /// Times to live of the site's address as they were seen: from when on (seconds since 1970),
    /// and for how many seconds.
    #[serde(default)]
    pub lives: Vec<(i64, u32)>,
    /// Name servers of the zone when it was first looked at.
    #[serde(default)]
    pub servers: Vec<String>,
    /// The host of the site: what was seen of another one says nothing.
    #[serde(default)]
    pub host: String,
    /// Where its name led before it led to the new host.
    #[serde(default)]
    pub before: BTreeSet<IpAddr>,
}

const READY: &str = "ready";
/// Times to live that are remembered.
const LIVES: usize = 20;

impl KeptReady {
    /// What is remembered of a site; nothing where that cannot be read.
    pub fn load(records: &Records, site: &str) -> Self {
        let kept = records.kept_of(READY, site);
        kept.and_then(|kept| serde_json::from_slice(&kept).ok()).unwrap_or_default()
    }

    /// Remembers it.
    pub fn save(&self, records: &Records, site: &str) -> Result<()> {
        records.keep_of(READY, site, &serde_json::to_vec_pretty(self).unwrap_or_default())
    }

    /// Notes what the names say now.
    pub(super) fn note(&mut self, names: &Names, new: &BTreeSet<IpAddr>, now: i64) {
        let host = names.hosts.first().cloned().unwrap_or_default();
        if self.host != host {
            *self = Self { host, done: std::mem::take(&mut self.done), ..Self::default() };
        }
        let led = names.own().unwrap_or_default().addresses;
        if !led.is_empty() && !new.is_empty() && led.is_disjoint(new) {
            self.before = led;
        }
        let said = names.zone.is_some().then(|| names.own()).flatten();
        if let Some(seconds) = said.and_then(|own| own.seconds)
            && self.lives.last().is_none_or(|(_, last)| *last != seconds)
        {
            self.lives.push((now, seconds));
            let over = self.lives.len().saturating_sub(LIVES);
            self.lives.drain(..over);
        }
        if self.servers.is_empty()
            && let Some(zone) = &names.zone
        {
            self.servers = zone.server_names().into_iter().map(str::to_owned).collect();
        }
    }

    /// Notes which steps were seen to be done, and forgets those that are open again.
    pub(super) fn see(&mut self, steps: &[Step], now: i64) {
        let at =
            jiff::Timestamp::from_second(now).map_or_else(|_| String::new(), |at| at.to_string());
        for step in steps {
            match step.state {
                StepState::Seen => {
                    self.seen.entry(step.step.clone()).or_insert_with(|| at.clone());
                }
                StepState::Open | StepState::Done => {
                    self.seen.remove(&step.step);
                }
            }
        }
    }
}

/// Calls a step done, or open again.
///
/// # Errors
///
/// Where it cannot be remembered.
pub fn set_step(records: &Records, site: &str, step: &str, done: bool) -> Result<()> {
    if step.is_empty() {
        return Err(Trouble::usage("a step without a name"));
    }
    let mut kept = KeptReady::load(records, site);
    match done {
        true => {
            kept.done.insert(step.to_owned(), crate::now());
        }
        false => {
            kept.done.remove(step);
        }
    }
    kept.save(records, site)
}
