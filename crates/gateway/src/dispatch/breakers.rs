//! The circuit breakers of all engines, one for each credential that an engine
//! is called with: a refused credential does not stop calls with another.

use std::collections::HashMap;
use std::time::Duration;

use dispatcher_core::{Breaker, BreakerState, Cause, Health, Passage};
use parking_lot::Mutex;
use tokio::time::Instant;

/// Breakers that are kept for one engine; credentials change over time.
const MOST_OF_ONE: usize = 32;

/// Breakers by engine and credential.
pub(crate) struct Breakers {
    begun: Instant,
    by_engine: Mutex<HashMap<String, Vec<OwnBreaker>>>,
}

struct OwnBreaker {
    credential: Option<String>,
    breaker: Breaker,
}

/// State of the breaker of an engine with one credential.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BreakerView {
    pub engine: String,
    /// Its name and version, where the engine needs one.
    pub credential: Option<String>,
    pub state: BreakerState,
    /// After how long the next call is made, where it is open.
    pub opens_in: Option<Duration>,
    /// Why the last calls failed, where it is not closed.
    pub cause: Option<Cause>,
    /// Consecutive failures.
    pub failures: u32,
}

impl Default for Breakers {
    fn default() -> Self {
        Breakers { begun: Instant::now(), by_engine: Mutex::default() }
    }
}

impl Breakers {
    /// Whether a call may be made. Where it may not: why, in words, and after
    /// how long it may.
    pub(crate) fn pass(&self, engine: &str, credential: Option<&str>) -> Result<(), (String, Duration)> {
        let now = self.begun.elapsed();
        let mut by_engine = self.by_engine.lock();
        let own = by_engine.get_mut(engine).into_iter().flatten().find(|own| own.credential.as_deref() == credential);
        own.map_or(Ok(()), |own| passage(&mut own.breaker, now))
    }

    /// Whether a call would be made now; it is not taken for a probe.
    pub(crate) fn would_pass(&self, engine: &str, credential: Option<&str>) -> Result<(), (String, Duration)> {
        let mut looked = {
            let by_engine = self.by_engine.lock();
            let own = by_engine.get(engine).into_iter().flatten().find(|own| own.credential.as_deref() == credential);
            own.map(|own| own.breaker.clone()).unwrap_or_default()
        };
        passage(&mut looked, self.begun.elapsed())
    }

    /// Whether no call of an engine has failed yet.
    pub(crate) fn is_clear(&self, engine: &str) -> bool {
        !self.by_engine.lock().contains_key(engine)
    }

    /// Takes in what a call says of its engine. Gives the state where that changes it.
    pub(crate) fn note(&self, engine: &str, credential: Option<&str>, health: Health) -> Option<BreakerState> {
        let now = self.begun.elapsed();
        let mut by_engine = self.by_engine.lock();
        let known =
            by_engine.get(engine).is_some_and(|all| all.iter().any(|own| own.credential.as_deref() == credential));
        // Only failures begin a breaker.
        if !known && !matches!(health, Health::Ill(..)) {
            return None;
        }
        let all = by_engine.entry(engine.to_owned()).or_default();
        if !known {
            if all.len() >= MOST_OF_ONE {
                all.remove(0);
            }
            all.push(OwnBreaker { credential: credential.map(str::to_owned), breaker: Breaker::default() });
        }
        let own = all.iter_mut().find(|own| own.credential.as_deref() == credential)?;
        let changed = own.breaker.note(now, health, rand::random());
        match changed {
            Some(BreakerState::Open) => {
                let cause = own.breaker.cause().map_or("failures", Cause::name);
                tracing::warn!(engine, credential, cause, "an engine is not called for a while: its breaker is open");
            }
            Some(state) => tracing::info!(engine, credential, state = state.name(), "the breaker of an engine"),
            None => {}
        }
        changed
    }

    /// Forgets all failures of an engine: the next call is made.
    pub(crate) fn reset(&self, engine: &str) {
        self.by_engine.lock().remove(engine);
    }

    /// How they stand, by engine and credential; those that saw no failure
    /// are not among them.
    pub(crate) fn views(&self) -> Vec<BreakerView> {
        let now = self.begun.elapsed();
        let by_engine = self.by_engine.lock();
        let mut views: Vec<BreakerView> = by_engine
            .iter()
            .flat_map(|(engine, all)| all.iter().map(move |own| (engine, own)))
            .map(|(engine, own)| {
                let (state, opens_in) = own.breaker.state(now);
                let open = state != BreakerState::Closed;
                BreakerView {
                    engine: engine.clone(),
                    credential: own.credential.clone(),
                    state,
                    opens_in,
                    cause: own.breaker.cause().filter(|_| open),
                    failures: own.breaker.in_a_row(),
                }
            })
            .collect();
        views.sort_by(|one, other| (&one.engine, &one.credential).cmp(&(&other.engine, &other.credential)));
        views
    }
}

/// Whether a breaker lets a call through; why not, in words, and for how long.
fn passage(breaker: &mut Breaker, now: Duration) -> Result<(), (String, Duration)> {
    match breaker.pass(now) {
        Passage::Pass => Ok(()),
        Passage::Wait(wait) => {
            let cause = breaker.cause().map_or("failures", Cause::name);
            let seconds = wait.as_secs_f64().ceil();
            Err((format!("not called after repeated failures ({cause}); tried again in {seconds} s"), wait))
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const DOWN: Health = Health::Ill(Cause::Unavailable, None);

    #[tokio::test(start_paused = true)]
    async fn a_credential_has_a_breaker_of_its_own() {
        let breakers = Breakers::default();
        for _ in 0..5 {
            breakers.note("heron", Some("heron version 1"), Health::Ill(Cause::Unauthorized, None));
        }
        let (why, wait) = breakers.pass("heron", Some("heron version 1")).expect_err("it is open");
        assert!(why.starts_with("not called after repeated failures (unauthorized); tried again in "), "{why}");
        assert!((Duration::from_secs(4)..=Duration::from_secs(5)).contains(&wait), "{wait:?}");
        assert_eq!(breakers.pass("heron", Some("heron version 2")), Ok(()));
        assert_eq!(breakers.pass("bittern", None), Ok(()));
        tokio::time::advance(Duration::from_secs(5)).await;
        assert_eq!(breakers.pass("heron", Some("heron version 1")), Ok(()), "the probe");
        assert!(breakers.pass("heron", Some("heron version 1")).is_err(), "beside the probe");
        breakers.note("heron", Some("heron version 1"), Health::Well);
        assert_eq!(breakers.views()[0].state, BreakerState::Closed);
    }

    #[tokio::test(start_paused = true)]
    async fn it_is_told_why_it_is_open_and_can_be_closed_by_hand() {
        let breakers = Breakers::default();
        breakers.note("heron", None, Health::Well);
        assert_eq!(breakers.views(), [], "an engine that works needs none");
        for _ in 0..5 {
            breakers.note("heron", None, DOWN);
        }
        let view = breakers.views().remove(0);
        assert_eq!((view.state, view.cause, view.failures), (BreakerState::Open, Some(Cause::Unavailable), 5));
        assert!(view.opens_in.is_some());
        breakers.reset("heron");
        assert_eq!((breakers.pass("heron", None), breakers.views()), (Ok(()), vec![]));
    }
}
