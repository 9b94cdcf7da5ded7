//! Circuit breakers: an engine that fails again and again is not called for a
//! while, then by one call that finds out whether it works again.
//!
//! Times are since any fixed moment, and are given to each call.

use std::collections::VecDeque;
use std::time::Duration;

use serde::Serialize;

use crate::{Backoff, Cause};

/// Failures in a row that open a breaker.
const IN_A_ROW: u32 = 5;
/// Number of calls in the last [`WINDOW`] from which their share counts.
const ENOUGH: usize = 20;
/// More failures than this share of them open it.
const SHARE: f64 = 0.5;
const WINDOW: Duration = Duration::from_secs(60);
/// No more calls than these are remembered.
const REMEMBERED: usize = 200;
/// A probe that has not ended after this is forgotten, and another may be made.
const PROBE: Duration = Duration::from_secs(60);
/// How long it stays open, from the first time to the longest.
const REST: Backoff =
    Backoff { first: Duration::from_secs(5), factor: 2, longest: Duration::from_secs(120), jitter: 0.2 };
/// Where an engine says itself when to come back, no longer than this.
const LONGEST_ASKED: Duration = Duration::from_secs(600);

/// Whether calls pass.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum BreakerState {
    /// They do.
    Closed,
    /// None does.
    Open,
    /// One does, to find out.
    HalfOpen,
}

impl BreakerState {
    /// The name used in records, metrics and answers.
    pub fn name(self) -> &'static str {
        match self {
            BreakerState::Closed => "closed",
            BreakerState::Open => "open",
            BreakerState::HalfOpen => "half-open",
        }
    }
}

/// Whether a call may be made.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Passage {
    /// It may.
    Pass,
    /// It may not before this time has passed.
    Wait(Duration),
}

/// What a call says of its engine.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Health {
    /// It works.
    Well,
    /// It does not; with the time after which it says that it will.
    Ill(Cause, Option<Duration>),
    /// The call says nothing: the request was at fault, or nobody waited.
    Unknown,
}

impl Health {
    /// What a failure with this cause says.
    pub fn of(cause: Cause, retry_after: Option<Duration>) -> Health {
        match cause {
            Cause::NoSpeech => Health::Well,
            Cause::Refused
            | Cause::Unsupported
            | Cause::Malformed
            | Cause::Absent
            | Cause::BreakerOpen
            | Cause::Abandoned
            | Cause::Unusable
            | Cause::Internal => Health::Unknown,
            Cause::Unauthorized
            | Cause::NotActiveYet
            | Cause::WrongRegion
            | Cause::MissingRole
            | Cause::Unpaid
            | Cause::Quota
            | Cause::Throttled
            | Cause::Unavailable
            | Cause::TimedOut
            | Cause::Broken => Health::Ill(cause, retry_after),
        }
    }
}

/// The breaker of one engine with one credential.
#[derive(Debug, Clone, Default)]
pub struct Breaker {
    /// When the last calls ended, and whether well.
    calls: VecDeque<(Duration, bool)>,
    in_a_row: u32,
    /// How often it opened without a good call since.
    opened: u32,
    /// No call passes before this.
    until: Option<Duration>,
    /// When the probe under way began.
    probe: Option<Duration>,
    /// Of the failure that opened it.
    cause: Option<Cause>,
}

impl Breaker {
    /// Whether a call may be made now. Where the breaker is half-open, the
    /// call that passes is its probe.
    pub fn pass(&mut self, now: Duration) -> Passage {
        let Some(until) = self.until else { return Passage::Pass };
        if now < until {
            return Passage::Wait(until - now);
        }
        if let Some(left) = self.probe.and_then(|begun| (begun + PROBE).checked_sub(now)).filter(|left| !left.is_zero())
        {
            return Passage::Wait(left.min(REST.first));
        }
        self.probe = Some(now);
        Passage::Pass
    }

    /// Takes in how a call ended. `chance` is a random number from 0 to 1.
    /// Answers whether the breaker opened by it, or closed.
    pub fn note(&mut self, now: Duration, health: Health, chance: f64) -> Option<BreakerState> {
        let (cause, asked) = match health {
            Health::Unknown => {
                self.probe = None;
                return None;
            }
            Health::Well => {
                self.remember(now, true);
                self.in_a_row = 0;
                // A call from before it opened is no proof that it works again.
                let proven = self.until.is_some_and(|until| now >= until);
                if proven {
                    *self = Breaker::default();
                }
                return proven.then_some(BreakerState::Closed);
            }
            Health::Ill(cause, asked) => (cause, asked),
        };
        self.remember(now, false);
        self.in_a_row = self.in_a_row.saturating_add(1);
        let was_open = self.until.is_some_and(|until| now < until);
        let probed = self.until.is_some() && !was_open;
        if was_open || !(probed || self.in_a_row >= IN_A_ROW || self.fails_often()) {
            return None;
        }
        self.opened += 1;
        self.probe = None;
        self.cause = Some(cause);
        let rest = REST.wait(self.opened, chance).max(asked.unwrap_or_default().min(LONGEST_ASKED));
        self.until = Some(now + rest);
        Some(BreakerState::Open)
    }

    fn remember(&mut self, now: Duration, well: bool) {
        self.calls.push_back((now, well));
        while self.calls.len() > REMEMBERED || self.calls.front().is_some_and(|(at, _)| *at + WINDOW < now) {
            self.calls.pop_front();
        }
    }

    fn fails_often(&self) -> bool {
        let failed = self.calls.iter().filter(|(_, well)| !well).count();
        self.calls.len() >= ENOUGH && failed as f64 > SHARE * self.calls.len() as f64
    }

    /// Whether calls pass now, and after how long the next may be tried.
    pub fn state(&self, now: Duration) -> (BreakerState, Option<Duration>) {
        match self.until {
            None => (BreakerState::Closed, None),
            Some(until) if now < until => (BreakerState::Open, Some(until - now)),
            Some(_) => (BreakerState::HalfOpen, None),
        }
    }

    /// The cause of the failure that opened it.
    pub fn cause(&self) -> Option<Cause> {
        self.cause
    }

    /// Failures in a row up to now.
    pub fn in_a_row(&self) -> u32 {
        self.in_a_row
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const DOWN: Health = Health::Ill(Cause::Unavailable, None);

    fn at(seconds: u64) -> Duration {
        Duration::from_secs(seconds)
    }

    fn opened(at_second: u64) -> Breaker {
        let mut breaker = Breaker::default();
        for failures in 1..=5 {
            assert_eq!(breaker.pass(at(at_second)), Passage::Pass, "after {} failures", failures - 1);
            let turned = breaker.note(at(at_second), DOWN, 0.0);
            assert_eq!(turned, (failures == 5).then_some(BreakerState::Open));
        }
        breaker
    }

    #[test]
    fn five_failures_in_a_row_open_it_and_one_good_call_before_does_not_count() {
        let mut breaker = Breaker::default();
        for health in [DOWN, DOWN, DOWN, DOWN, Health::Well, DOWN, DOWN, DOWN, DOWN] {
            assert_eq!(breaker.note(at(1), health, 0.0), None);
        }
        assert_eq!((breaker.state(at(1)).0, breaker.in_a_row()), (BreakerState::Closed, 4));
        assert_eq!(breaker.note(at(1), DOWN, 0.0), Some(BreakerState::Open));
        assert_eq!(breaker.cause(), Some(Cause::Unavailable));
        assert_eq!(breaker.pass(at(2)), Passage::Wait(at(4)));
        assert_eq!(breaker.state(at(2)), (BreakerState::Open, Some(at(4))));
    }

    #[test]
    fn one_probe_finds_out_and_each_failed_one_doubles_the_wait() {
        let mut breaker = opened(0);
        assert_eq!(breaker.state(at(5)), (BreakerState::HalfOpen, None));
        assert_eq!(breaker.pass(at(5)), Passage::Pass);
        assert!(matches!(breaker.pass(at(5)), Passage::Wait(_)), "a second call beside the probe");
        assert_eq!(breaker.note(at(6), DOWN, 0.0), Some(BreakerState::Open));
        assert_eq!(breaker.pass(at(6)), Passage::Wait(at(10)));
        assert_eq!(breaker.pass(at(16)), Passage::Pass);
        assert_eq!(breaker.note(at(16), Health::Well, 0.0), Some(BreakerState::Closed));
        assert_eq!((breaker.state(at(16)), breaker.pass(at(16))), ((BreakerState::Closed, None), Passage::Pass));
        // It begins anew: five failures, and the first wait.
        for _ in 0..4 {
            assert_eq!(breaker.note(at(17), DOWN, 0.0), None);
        }
        assert_eq!(breaker.note(at(17), DOWN, 0.0), Some(BreakerState::Open));
        assert_eq!(breaker.pass(at(17)), Passage::Wait(at(5)));
    }

    #[test]
    fn a_call_that_began_before_it_opened_neither_closes_it_nor_prolongs_it() {
        let mut breaker = opened(0);
        assert_eq!(breaker.note(at(1), Health::Well, 0.0), None);
        assert_eq!(breaker.note(at(1), DOWN, 0.0), None);
        assert_eq!(breaker.pass(at(1)), Passage::Wait(at(4)));
    }

    #[test]
    fn a_probe_that_says_nothing_or_is_lost_makes_room_for_another() {
        let mut breaker = opened(0);
        assert_eq!(breaker.pass(at(5)), Passage::Pass);
        assert_eq!(breaker.note(at(5), Health::Unknown, 0.0), None);
        assert_eq!(breaker.pass(at(5)), Passage::Pass);
        assert!(matches!(breaker.pass(at(64)), Passage::Wait(_)));
        assert_eq!(breaker.pass(at(65)), Passage::Pass);
    }

    #[test]
    fn what_the_engine_asks_for_is_kept_and_chance_shortens_only_our_own_wait() {
        let mut breaker = Breaker::default();
        for _ in 0..5 {
            breaker.note(at(0), Health::Ill(Cause::Throttled, Some(at(30))), 1.0);
        }
        assert_eq!(breaker.pass(at(0)), Passage::Wait(at(30)));
        let mut breaker = Breaker::default();
        for _ in 0..5 {
            breaker.note(at(0), Health::Ill(Cause::Throttled, Some(at(86_400))), 1.0);
        }
        assert_eq!(breaker.pass(at(0)), Passage::Wait(at(600)));
        let mut breaker = Breaker::default();
        for _ in 0..5 {
            breaker.note(at(0), DOWN, 1.0);
        }
        assert_eq!(breaker.pass(at(0)), Passage::Wait(at(4)));
    }

    #[test]
    fn an_engine_that_fails_every_other_call_is_judged_by_its_share() {
        let mut breaker = Breaker::default();
        let mut turned = None;
        for call in 0..30_u64 {
            turned = turned.or(breaker.note(at(call), if call % 5 < 2 { Health::Well } else { DOWN }, 0.0));
        }
        assert_eq!(turned, Some(BreakerState::Open));
        // The same share, but calls of long ago.
        let mut breaker = Breaker::default();
        for call in 0..30_u64 {
            let health = if call % 5 < 2 { Health::Well } else { DOWN };
            assert_eq!(breaker.note(at(call * 10), health, 0.0), None);
        }
        // Half of them is not more than half.
        let mut breaker = Breaker::default();
        for call in 0..60_u64 {
            assert_eq!(breaker.note(at(call), if call % 2 < 1 { Health::Well } else { DOWN }, 0.0), None);
        }
    }

    #[test]
    fn faults_of_requests_say_nothing_of_the_engine() {
        for cause in [Cause::Refused, Cause::Malformed, Cause::Unsupported, Cause::Internal, Cause::Abandoned] {
            assert_eq!(Health::of(cause, None), Health::Unknown, "{cause}");
        }
        assert_eq!(Health::of(Cause::NoSpeech, None), Health::Well);
        for cause in [Cause::Unauthorized, Cause::TimedOut, Cause::Broken, Cause::Quota, Cause::Throttled] {
            assert_eq!(Health::of(cause, Some(at(3))), Health::Ill(cause, Some(at(3))), "{cause}");
        }
    }
}
