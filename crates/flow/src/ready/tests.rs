//! What is remembered between one look and the next, and waiting for a switch to arrive.

use super::*;
use fernweh_ports::{
    Failpoints, NameAnswer, NameProblem, NameRecord, NameServer, NameStatus, NameWay, RecordData,
    RecordKind, Silent,
};
use fernweh_testkit::MemorySite;
use std::sync::Mutex;
use std::sync::atomic::{AtomicU32, Ordering};
use std::time::Duration;

const HOST: &str = "www.glimmer.example";
const APEX: &str = "glimmer.example";
const OLD: &str = "192.0.2.2";
const NEW: &str = "192.0.2.1";
/// Another version of the protocol.
const OLD_SIX: &str = "2001:db8::2";

/// Two name servers and a resolver, each with what it says of the hosts.
struct World(Mutex<[Said; 3]>);

#[derive(Clone)]
struct Said {
    addresses: Vec<&'static str>,
    seconds: u32,
    silent: bool,
}

fn said(addresses: &[&'static str], seconds: u32) -> Said {
    Said { addresses: addresses.to_vec(), seconds, silent: false }
}

const SERVERS: [&str; 3] = ["ns1.hosting.example", "ns2.hosting.example", "192.0.2.53"];

impl World {
    fn of(all: [Said; 3]) -> Self {
        Self(Mutex::new(all))
    }

    fn set(&self, at: usize, what: Said) {
        self.0.lock().unwrap()[at] = what;
    }
}

impl NameSource for World {
    fn resolvers(&self) -> Vec<NameServer> {
        vec![NameServer { name: SERVERS[2].into(), addresses: Vec::new() }]
    }

    fn knows(&self, _: &str) -> bool {
        true
    }

    fn ask(
        &self,
        server: &NameServer,
        name: &str,
        kind: RecordKind,
        _: bool,
        _: NameWay,
    ) -> std::result::Result<NameAnswer, NameProblem> {
        let at = SERVERS.iter().position(|known| *known == server.name).unwrap();
        let said = self.0.lock().unwrap()[at].clone();
        if said.silent {
            return Err(NameProblem::Time);
        }
        let record = |data| NameRecord { owner: name.into(), seconds: said.seconds, data };
        let addresses = || said.addresses.iter().map(|text| text.parse::<IpAddr>().unwrap());
        let is_host = name == HOST || name == APEX;
        let records = match kind {
            RecordKind::A if is_host => addresses()
                .filter(IpAddr::is_ipv4)
                .map(|a| record(RecordData::Address(a)))
                .collect(),
            RecordKind::Aaaa if is_host => addresses()
                .filter(IpAddr::is_ipv6)
                .map(|a| record(RecordData::Address(a)))
                .collect(),
            RecordKind::Ns if name == APEX => {
                SERVERS[..2].iter().map(|one| record(RecordData::Ns((*one).into()))).collect()
            }
            RecordKind::Ns if name == "example" => vec![record(RecordData::Ns(SERVERS[0].into()))],
            RecordKind::Soa if name == APEX => vec![record(RecordData::Soa(7))],
            _ => Vec::new(),
        };
        let (status, referral) = (NameStatus::Fine, Vec::new());
        Ok(NameAnswer { status, authoritative: at < 2, records, referral })
    }
}

/// The site on its new host.
fn site(url: &str) -> MemorySite {
    let mut site = MemorySite::new("new", url);
    site.stand_at(NEW.parse().unwrap());
    site
}

fn old_site() -> MemorySite {
    let mut site = MemorySite::new("old", &format!("http://{HOST}"));
    site.stand_at(OLD.parse().unwrap());
    site
}

fn look(world: &World, records: &Records) -> ReadyReport {
    let site = site(&format!("https://{HOST}"));
    let ready = Ready { topics: vec![Topic::Name], is_final: true, ..Ready::default() };
    ready.run(&site, Some(&old_site()), world, Some(records), &Silent).unwrap()
}

fn codes(report: &ReadyReport) -> Vec<&str> {
    let bad = report.checks.iter().filter(|found| found.verdict != Verdict::Passed);
    bad.map(|found| found.code.as_str()).collect()
}

fn records() -> (tempfile::TempDir, Records) {
    let folder = tempfile::tempdir().unwrap();
    let records = Records::beside(folder.path());
    (folder, records)
}

fn all(what: Said) -> [Said; 3] {
    [what.clone(), what.clone(), what]
}

#[test]
fn a_lowered_time_to_live_counts_once_the_longer_one_is_over() {
    let (_folder, records) = records();
    let world = World::of(all(said(&[OLD], 86_400)));
    assert_eq!(codes(&look(&world, &records)), ["time-to-live-long"]);
    for at in 0..3 {
        world.set(at, said(&[OLD], 300));
    }
    let recent = look(&world, &records);
    assert_eq!(codes(&recent), ["time-to-live-recent"]);
    let hint = recent.checks.iter().find_map(|found| found.hint.as_deref()).unwrap();
    assert!(hint.starts_with("wait 2"), "{hint}");
    let step = |report: &ReadyReport| {
        report.steps.iter().find(|step| step.step == "time-to-live").unwrap().state
    };
    assert_eq!(step(&recent), StepState::Open);
    // A day and a half later.
    let mut kept = KeptReady::load(&records, "new");
    kept.lives.iter_mut().for_each(|(at, _)| *at -= 130_000);
    kept.save(&records, "new").unwrap();
    let later = look(&world, &records);
    assert_eq!(codes(&later), [""; 0]);
    assert_eq!(step(&later), StepState::Seen);
}

#[test]
fn an_address_that_was_there_before_the_switch_is_the_old_host() {
    let (_folder, records) = records();
    let world = World::of(all(said(&[OLD, OLD_SIX], 300)));
    assert_eq!(codes(&look(&world, &records)), [""; 0]);
    for at in 0..3 {
        world.set(at, said(&[NEW, OLD_SIX], 300));
    }
    let after = look(&world, &records);
    assert_eq!((after.question, after.ready), (Question::After, false));
    assert_eq!(codes(&after), ["leads-partly-old", "leads-partly-old"]);
    // What was seen of another host says nothing about this one.
    let other = site(&format!("https://{APEX}"));
    let ready = Ready { topics: vec![Topic::Name], ..Ready::default() };
    let report = ready.run(&other, None, &world, Some(&records), &Silent).unwrap();
    assert_eq!(codes(&report), ["leads-partly-elsewhere", "leads-partly-elsewhere"]);
}

#[test]
fn a_step_stays_done_and_is_ticked_by_what_is_seen() {
    let (_folder, records) = records();
    let world = World::of(all(said(&[OLD], 300)));
    let of = |report: &ReadyReport, name: &str| {
        let step = report.steps.iter().find(|step| step.step == name);
        step.map(|step| (step.state, step.since.clone())).unwrap()
    };
    let first = look(&world, &records);
    assert_eq!(of(&first, "records").0, StepState::Open);
    assert_eq!(of(&first, "transfer").0, StepState::Open);
    set_step(&records, "new", "transfer", true).unwrap();
    for at in 0..3 {
        world.set(at, said(&[NEW], 300));
    }
    let second = look(&world, &records);
    assert_eq!(of(&second, "transfer").0, StepState::Done);
    let seen = of(&second, "records");
    assert_eq!(seen.0, StepState::Seen);
    let third = look(&world, &records);
    assert_eq!(of(&third, "records"), seen);
    // Back again: what was seen is not so any more.
    for at in 0..3 {
        world.set(at, said(&[OLD], 300));
    }
    set_step(&records, "new", "transfer", false).unwrap();
    let fourth = look(&world, &records);
    assert_eq!(of(&fourth, "records").0, StepState::Open);
    assert_eq!(of(&fourth, "transfer").0, StepState::Open);
}

/// Somebody else calls a step done once the first check is over.
struct Meanwhile<'a>(&'a Records, AtomicU32);

impl Failpoints for Meanwhile<'_> {}

impl Progress for Meanwhile<'_> {
    fn stage(&self, _: &str, _: Option<u64>, _: Unit) {}
    fn advance(&self, _: u64) {
        // The first is that the names were asked for.
        if self.1.fetch_add(1, Ordering::SeqCst) == 1 {
            set_step(self.0, "new", "transfer", true).unwrap();
        }
    }
    fn done(&self, _: &str) {}
    fn note(&self, _: &str) {}
    fn stopping(&self) -> bool {
        false
    }
}

#[test]
fn a_step_that_is_called_done_meanwhile_stays_done() {
    let (_folder, records) = records();
    let world = World::of(all(said(&[OLD], 300)));
    let site = site(&format!("https://{HOST}"));
    let ready = Ready { topics: vec![Topic::Name], is_final: true, ..Ready::default() };
    let meanwhile = Meanwhile(&records, AtomicU32::new(0));
    ready.run(&site, Some(&old_site()), &world, Some(&records), &meanwhile).unwrap();
    assert!(KeptReady::load(&records, "new").done.contains_key("transfer"));
}

#[test]
fn without_a_configuration_nothing_is_remembered() {
    let world = World::of(all(said(&[NEW], 300)));
    let site = site(&format!("https://{HOST}"));
    let ready = Ready { topics: vec![Topic::Name, Topic::Leftovers], ..Ready::default() };
    let report = ready.run(&site, None, &world, None, &Silent).unwrap();
    assert_eq!(codes(&report), ["never-scanned"]);
    assert!(report.ready && report.steps.is_empty());
}

#[test]
fn an_address_without_a_name_is_refused() {
    let world = World::of(all(said(&[NEW], 300)));
    for url in ["http://192.0.2.1", "http://[2001:db8::1]"] {
        let refused = Ready::default().run(&site(url), None, &world, None, &Silent).unwrap_err();
        assert!(refused.what.contains("has no name"), "{refused}");
    }
}

/// Time that passes only where somebody waits, and lets something happen meanwhile.
struct Waits<'a> {
    pauses: Vec<u64>,
    then: &'a dyn Fn(usize),
}

impl Patience for Waits<'_> {
    fn wait(&mut self, time: Duration) -> bool {
        self.pauses.push(time.as_secs());
        (self.then)(self.pauses.len());
        true
    }

    fn waited(&self) -> Duration {
        Duration::from_secs(self.pauses.iter().sum())
    }
}

#[test]
fn a_watch_ends_when_everybody_gives_the_new_answer() {
    let world = World::of(all(said(&[OLD], 10)));
    let (site, old) = (site(&format!("https://{HOST}")), old_site());
    let then = |looks: usize| match looks {
        1 => world.set(0, said(&[NEW], 10)),
        2 => {
            // The second answers no more; the resolver remembers the old address for long.
            world.set(1, Said { silent: true, ..said(&[], 0) });
            world.set(2, said(&[OLD], 240));
        }
        3 => world.set(1, said(&[NEW], 10)),
        4 => world.set(2, said(&[NEW], 10)),
        _ => panic!("it should have ended"),
    };
    let mut waits = Waits { pauses: Vec::new(), then: &then };
    let most = Duration::from_secs(86_400);
    let report = watch(&site, Some(&old), &world, most, &mut waits, &Silent).unwrap();
    assert!(report.arrived, "{report:?}");
    // Nobody is asked more often than every half minute, nor before an answer has run out.
    assert_eq!(waits.pauses, [30, 30, 240, 240]);
    assert_eq!((report.looks, report.seconds), (5, 540));
    assert_eq!(report.answers.len(), 3);
}

#[test]
fn a_watch_that_is_over_says_who_gives_the_old_answer() {
    let world = World::of([said(&[NEW], 10), said(&[OLD], 3600), said(&[NEW], 10)]);
    let site = site(&format!("https://{HOST}"));
    let mut waits = Waits { pauses: Vec::new(), then: &|_| {} };
    let most = Duration::from_secs(1500);
    let report = watch(&site, None, &world, most, &mut waits, &Silent).unwrap();
    assert!(!report.arrived);
    assert_eq!(waits.pauses, [600, 600, 300]);
    let old: Vec<&str> =
        report.answers.iter().filter(|one| !one.new).map(|one| one.server.as_str()).collect();
    assert_eq!(old, [SERVERS[1]]);
    // Without the address of either host nobody knows what to wait for.
    let unknown = MemorySite::new("new", &format!("https://{HOST}"));
    let refused = watch(&unknown, None, &world, most, &mut waits, &Silent).unwrap_err();
    assert!(refused.what.contains("not known which answer"), "{refused}");
}
