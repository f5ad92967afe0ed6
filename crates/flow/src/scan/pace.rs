//! How fast each host is asked.
//!
//! The site itself is asked with more and more requests at once as long as its answers stay quick,
//! and with half as many as soon as it is overloaded. Other hosts are asked one at a time, slowly.

use std::collections::VecDeque;
use std::time::{Duration, Instant};

/// Requests at once with which a site is asked first.
const START: f64 = 4.0;
/// The most requests at once to the site.
pub(super) const CEILING: usize = 32;
/// The most with `--gently`.
pub(super) const GENTLE: usize = 2;
/// The shortest time between two requests to one foreign host.
const FOREIGN_PAUSE: Duration = Duration::from_millis(250);
/// How often one request is tried.
const TRIES: u8 = 3;
/// The longest wait that a server may ask for; one that asks for more is not waited for.
const LONGEST_WAIT: Duration = Duration::from_secs(60);

/// How a request ended, as far as the next ones are concerned.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) enum Ended {
    /// An answer, after this time.
    Answered(Duration),
    /// The server has too much to do: it says for how long, or not.
    Busy(Option<Duration>),
    /// No answer in time, or a connection that broke off.
    Lost,
    /// Nothing that says anything of the host's pace.
    Nothing,
}

/// The requests to one host.
pub(super) struct Lane<T> {
    queue: VecDeque<T>,
    at_work: usize,
    allowed: f64,
    ceiling: usize,
    pause: Duration,
    next: Instant,
    /// The quickest answer so far, slowly forgotten.
    quickest: Option<Duration>,
    /// Doubling, until the first sign of trouble.
    careless: bool,
    /// One request is sent after the other.
    pub held: bool,
    /// Requests in a row without an answer.
    pub silent: usize,
}

impl<T> Lane<T> {
    /// The lane of the site itself.
    pub fn own(ceiling: usize, now: Instant) -> Self {
        let allowed = START.min(ceiling as f64);
        Self::new(allowed, ceiling, Duration::ZERO, now)
    }

    /// The lane of another host.
    pub fn foreign(now: Instant) -> Self {
        Self::new(1.0, 1, FOREIGN_PAUSE, now)
    }

    fn new(allowed: f64, ceiling: usize, pause: Duration, now: Instant) -> Self {
        Self {
            queue: VecDeque::new(),
            at_work: 0,
            allowed,
            ceiling,
            pause,
            next: now,
            quickest: None,
            careless: true,
            held: false,
            silent: 0,
        }
    }

    pub fn push(&mut self, task: T) {
        self.queue.push_back(task);
    }

    /// Puts a task before the others: a redirect that is followed, one that is tried again.
    pub fn push_first(&mut self, task: T) {
        self.queue.push_front(task);
    }

    pub fn has_answered(&self) -> bool {
        self.quickest.is_some()
    }

    pub fn is_idle(&self) -> bool {
        self.queue.is_empty() && self.at_work == 0
    }

    /// Takes whatever waits.
    pub fn drain(&mut self) -> Vec<T> {
        self.queue.drain(..).collect()
    }

    /// When the next request may be sent, if one waits and there is room for it.
    pub fn due(&self) -> Option<Instant> {
        let room = self.at_work < self.allowed as usize && !(self.held && self.at_work > 0);
        (room && !self.queue.is_empty()).then_some(self.next)
    }

    /// The next request that may be sent now.
    pub fn take(&mut self, now: Instant) -> Option<T> {
        if self.due()? > now {
            return None;
        }
        self.at_work += 1;
        self.next = now + self.pause;
        self.queue.pop_front()
    }

    /// Takes note of how a request ended. Gives the time to wait if it should be tried again.
    pub fn ended(&mut self, how: Ended, tries: u8, now: Instant) -> Option<Duration> {
        self.at_work -= 1;
        match how {
            Ended::Answered(time) => {
                self.silent = 0;
                let quickest = self.quickest.map_or(time, |quickest| quickest.min(time));
                self.quickest = Some(quickest + quickest / 200);
                // Time that grows with the number of requests is time spent in a queue.
                let quick = time <= quickest * 3 + Duration::from_millis(30);
                if quick {
                    self.allowed += if self.careless { 1.0 } else { 1.0 / self.allowed };
                } else {
                    self.careless = false;
                    self.allowed -= 0.5 / self.allowed;
                }
                self.allowed = self.allowed.clamp(1.0, self.ceiling as f64);
                None
            }
            Ended::Nothing => None,
            Ended::Busy(asked) => {
                self.slow_down();
                let wait = asked.unwrap_or(Duration::from_secs(1) * 2u32.pow(tries.min(5).into()));
                self.next = self.next.max(now + wait.min(LONGEST_WAIT));
                (tries + 1 < TRIES && wait <= LONGEST_WAIT).then_some(wait)
            }
            Ended::Lost => {
                self.silent += 1;
                self.slow_down();
                let wait = Duration::from_millis(500) * 2u32.pow(tries.min(5).into());
                self.next = self.next.max(now + wait);
                (tries + 1 < TRIES).then_some(wait)
            }
        }
    }

    fn slow_down(&mut self) {
        self.careless = false;
        self.allowed = (self.allowed / 2.0).max(1.0);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn more_is_asked_at_once_while_answers_stay_quick_and_half_when_the_host_is_busy() {
        let mut now = Instant::now();
        let mut lane = Lane::own(CEILING, now);
        (0..1000).for_each(|n| lane.push(n));
        while lane.take(now).is_some() {}
        assert_eq!(lane.at_work, 4);
        for _ in 0..100 {
            assert_eq!(lane.ended(Ended::Answered(Duration::from_millis(10)), 0, now), None);
            while lane.take(now).is_some() {}
        }
        assert_eq!(lane.at_work, CEILING);
        let wait = lane.ended(Ended::Busy(Some(Duration::from_secs(7))), 0, now);
        assert_eq!(wait, Some(Duration::from_secs(7)));
        assert!(lane.take(now).is_none());
        for _ in 0..31 {
            lane.ended(Ended::Answered(Duration::from_millis(10)), 0, now);
        }
        assert!(lane.take(now).is_none(), "the host has asked for a pause");
        now += Duration::from_secs(8);
        let mut again = 0;
        while lane.take(now).is_some() {
            again += 1;
        }
        assert!((16..=20).contains(&again), "{again}");
        // What is asked too often, or is to wait too long, is given up.
        assert_eq!(lane.ended(Ended::Lost, TRIES - 1, now), None);
        assert_eq!(lane.ended(Ended::Busy(Some(Duration::from_secs(3600))), 0, now), None);
    }

    #[test]
    fn answers_that_become_slow_end_the_growth() {
        let now = Instant::now();
        let mut lane = Lane::own(CEILING, now);
        (0..1000).for_each(|n| lane.push(n));
        for round in 1..200 {
            while lane.take(now).is_some() {}
            // Each request at once costs the server as much again.
            let time = Duration::from_millis(10 * lane.at_work as u64 * (1 + u64::from(round > 3)));
            lane.ended(Ended::Answered(time), 0, now);
        }
        assert!(lane.at_work <= CEILING / 2, "{}", lane.at_work);
    }

    #[test]
    fn other_hosts_are_asked_one_at_a_time() {
        let now = Instant::now();
        let mut lane = Lane::foreign(now);
        lane.push(1);
        lane.push(2);
        assert_eq!(lane.take(now), Some(1));
        assert_eq!(lane.take(now + FOREIGN_PAUSE), None);
        lane.ended(Ended::Answered(Duration::from_millis(5)), 0, now);
        assert_eq!(lane.due(), Some(now + FOREIGN_PAUSE));
        assert_eq!(lane.take(now + FOREIGN_PAUSE), Some(2));
    }
}
