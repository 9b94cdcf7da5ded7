//! Limits of apps and of their keys: how many requests for work may be made in
//! a minute, and be in work at once. What goes beyond is refused at once;
//! nothing waits.

use std::collections::HashMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicU32, Ordering};
use std::time::Duration;

use dispatcher_store::App;
use parking_lot::Mutex;
use tokio::time::Instant;

use crate::{Caller, Gateway, GatewayError};

const MINUTE: Duration = Duration::from_secs(60);
/// After so long a request is tried again where too many are in work.
const SOON: Duration = Duration::from_secs(1);

/// What apps and keys with limits have used, by `app NAME` and `key ID`.
#[derive(Default)]
pub(crate) struct CallerLimits(Mutex<HashMap<String, UsedOfLimit>>);

/// Whose limits they are, and what they are.
struct Limited<'a> {
    kind: &'static str,
    name: &'a str,
    per_minute: Option<u32>,
    at_once: Option<u32>,
}

#[derive(Default)]
struct UsedOfLimit {
    /// When the whole minute's requests may be made again: a bucket that fills
    /// steadily, as the time until it is full.
    full_at: Option<Instant>,
    in_work: Arc<AtomicU32>,
}

/// A request that is counted as in work until this is dropped.
#[derive(Debug)]
struct Counted(Arc<AtomicU32>);

impl Drop for Counted {
    fn drop(&mut self) {
        self.0.fetch_sub(1, Ordering::AcqRel);
    }
}

/// A request of an app with limits, or with a key that has some.
#[derive(Debug)]
pub(crate) struct InWork {
    _app: Option<Counted>,
    _key: Option<Counted>,
}

/// What an app or a key with a limit may still do.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct RequestsLeft {
    /// `app` or `key`.
    pub of: &'static str,
    /// Requests of a minute.
    pub per_minute: u32,
    /// Those that could be made at once now.
    pub left: u32,
    /// Until all of them could be.
    pub full_in: Duration,
}

fn limit(of: Option<i64>) -> Option<u32> {
    of.and_then(|limit| u32::try_from(limit).ok()).filter(|limit| *limit > 0)
}

impl UsedOfLimit {
    fn requests_left(&self, of: &'static str, per_minute: u32, now: Instant) -> RequestsLeft {
        let full_in = self.full_at.map_or(Duration::ZERO, |full| full.saturating_duration_since(now));
        let used = (full_in.as_secs_f64() / MINUTE.as_secs_f64() * f64::from(per_minute)).ceil();
        RequestsLeft { of, per_minute, left: per_minute.saturating_sub(used as u32), full_in }
    }

    /// When the bucket is full again once one more request is made.
    fn after_one_more(&self, per_minute: u32, now: Instant) -> Instant {
        self.full_at.map_or(now, |full| full.max(now)) + MINUTE / per_minute
    }

    /// Refuses a request beyond the limits, and says after how long there is room.
    fn check(&self, limited: &Limited<'_>, now: Instant) -> Result<(), GatewayError> {
        let Limited { kind, name, per_minute, at_once } = limited;
        if let Some(most) = at_once.filter(|most| self.in_work.load(Ordering::Acquire) >= *most) {
            let what = format!("the {kind} {name} has {most} requests in work, and may have no more at once");
            return Err(GatewayError::Crowded { what, retry_after: SOON });
        }
        let Some(per_minute) = *per_minute else { return Ok(()) };
        let fills_in = self.after_one_more(per_minute, now) - now;
        // A bucket that is filled in more than a minute is one that is empty.
        let over = fills_in.checked_sub(MINUTE).filter(|over| *over > Duration::from_nanos(u64::from(per_minute)));
        over.map_or(Ok(()), |retry_after| {
            let what = format!("the {kind} {name} has made its {per_minute} requests of a minute");
            Err(GatewayError::Crowded { what, retry_after })
        })
    }

    /// Counts a request that was let in.
    fn take(&mut self, limited: &Limited<'_>, now: Instant) -> Counted {
        if let Some(per_minute) = limited.per_minute {
            self.full_at = Some(self.after_one_more(per_minute, now));
        }
        self.in_work.fetch_add(1, Ordering::AcqRel);
        Counted(self.in_work.clone())
    }
}

impl<'a> Limited<'a> {
    /// The limits of a caller: of its app, and of its key.
    fn of(caller: &'a Caller) -> [Limited<'a>; 2] {
        let App { name, per_minute, at_once, .. } = &caller.app;
        let app = Limited { kind: "app", name, per_minute: limit(*per_minute), at_once: limit(*at_once) };
        let per_minute = limit(caller.key.and_then(|key| key.per_minute));
        let at_once = limit(caller.key.and_then(|key| key.at_once));
        [app, Limited { kind: "key", name: &caller.who, per_minute, at_once }]
    }

    fn is_free(&self) -> bool {
        self.per_minute.is_none() && self.at_once.is_none()
    }

    fn id(&self) -> String {
        format!("{} {}", self.kind, self.name)
    }
}

impl CallerLimits {
    /// Lets a request of a caller in.
    fn enter(&self, caller: &Caller) -> Result<Option<InWork>, GatewayError> {
        let limits = Limited::of(caller);
        if limits.iter().all(Limited::is_free) {
            return Ok(None);
        }
        let mut used = self.0.lock();
        // Both before either is counted.
        for limited in limits.iter().filter(|limited| !limited.is_free()) {
            used.entry(limited.id()).or_default().check(limited, Instant::now())?;
        }
        let [app, key] = limits.map(|limited| match limited.is_free() {
            true => None,
            false => Some(used.entry(limited.id()).or_default().take(&limited, Instant::now())),
        });
        Ok(Some(InWork { _app: app, _key: key }))
    }

    fn requests_left(&self, limits: [Limited<'_>; 2]) -> Option<RequestsLeft> {
        let used = self.0.lock();
        let unused = UsedOfLimit::default();
        let left = limits.into_iter().filter_map(|limited| {
            let used = used.get(&limited.id()).unwrap_or(&unused);
            Some(used.requests_left(limited.kind, limited.per_minute?, Instant::now()))
        });
        left.min_by_key(|left| left.left)
    }
}

impl Gateway {
    /// Lets a request for work in, within the limits of its app and as far as
    /// the service can serve it in time.
    ///
    /// # Errors
    /// [`GatewayError::Crowded`] beyond them: nothing is recorded or charged.
    pub(crate) fn enter(&self, caller: &Caller) -> Result<Option<InWork>, GatewayError> {
        if self.inner.congestion.refuses(self.inner.metrics.in_work(), rand::random()) {
            let what = "the service is overloaded".into();
            return Err(GatewayError::Crowded { what, retry_after: SOON });
        }
        self.inner.caller_limits.enter(caller)
    }

    /// What a caller may still do by its app's limit and by its key's, whichever
    /// leaves less; `None` if neither has one.
    pub fn requests_left(&self, caller: &Caller) -> Option<RequestsLeft> {
        let limits = Limited::of(caller);
        if limits.iter().all(|limited| limited.per_minute.is_none()) {
            return None;
        }
        self.inner.caller_limits.requests_left(limits)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::KeyLimits;

    fn app(per_minute: Option<i64>, at_once: Option<i64>) -> Caller {
        let app = App { per_minute, at_once, ..App::new("quay", "", 0) };
        Caller::of_app(app, "k1")
    }

    fn refused(outcome: Result<Option<InWork>, GatewayError>) -> (String, Duration) {
        match outcome {
            Err(GatewayError::Crowded { what, retry_after }) => (what, retry_after),
            other => panic!("{other:?}"),
        }
    }

    #[tokio::test(start_paused = true)]
    async fn a_minutes_requests_may_come_at_once_and_then_one_by_one() {
        let limits = CallerLimits::default();
        let app = app(Some(6), None);
        for request in 1..=6 {
            assert!(limits.enter(&app).is_ok(), "request {request}");
        }
        let (what, after) = refused(limits.enter(&app));
        assert_eq!(what, "the app quay has made its 6 requests of a minute");
        assert_eq!(after, Duration::from_secs(10));
        tokio::time::advance(Duration::from_secs(4)).await;
        assert_eq!(refused(limits.enter(&app)).1, Duration::from_secs(6), "what was refused is not counted");
        tokio::time::advance(Duration::from_secs(6)).await;
        assert!(limits.enter(&app).is_ok());
        assert!(limits.enter(&app).is_err());
        tokio::time::advance(Duration::from_secs(600)).await;
        let made = (0..20).filter(|_| limits.enter(&app).is_ok()).count();
        assert_eq!(made, 6, "no more than a minute's are saved up");
    }

    #[tokio::test(start_paused = true)]
    async fn those_in_work_are_counted_until_they_end() {
        let limits = CallerLimits::default();
        let app = app(None, Some(2));
        let first = limits.enter(&app).expect("let in");
        let second = limits.enter(&app).expect("let in");
        let (what, after) = refused(limits.enter(&app));
        assert_eq!((what.as_str(), after), ("the app quay has 2 requests in work, and may have no more at once", SOON));
        drop(first);
        let third = limits.enter(&app).expect("let in");
        assert!(third.is_some() && limits.enter(&app).is_err());
        drop((second, third));
        assert!(limits.enter(&app).is_ok());
    }

    #[tokio::test(start_paused = true)]
    async fn a_key_has_limits_of_its_own_and_what_it_is_refused_costs_the_app_nothing() {
        let limits = CallerLimits::default();
        let keyed = |key: &str, per_minute| {
            let limits = KeyLimits { per_minute: Some(per_minute), at_once: Some(5) };
            Caller { who: key.into(), key: Some(limits), ..app(Some(6), None) }
        };
        let (page, game) = (keyed("page", 2), keyed("game", 60));
        let mut held = vec![limits.enter(&page).expect("let in"), limits.enter(&page).expect("let in")];
        let (what, after) = refused(limits.enter(&page));
        assert_eq!((what.as_str(), after.as_secs()), ("the key page has made its 2 requests of a minute", 30));
        for _ in 0..4 {
            held.push(limits.enter(&game).expect("the app has four left"));
        }
        assert_eq!(refused(limits.enter(&game)).0, "the app quay has made its 6 requests of a minute");
        let told = limits.requests_left(Limited::of(&page)).expect("limits");
        assert_eq!((told.of, told.per_minute, told.left), ("app", 6, 0));
        assert_eq!(held.len(), 6);
    }

    #[tokio::test(start_paused = true)]
    async fn what_is_left_is_told() {
        let limits = CallerLimits::default();
        let app = app(Some(60), None);
        let left = |limits: &CallerLimits| limits.requests_left(Limited::of(&app)).expect("a limit");
        for _ in 0..20 {
            limits.enter(&app).expect("let in");
        }
        let full_in = Duration::from_secs(20);
        assert_eq!(left(&limits), RequestsLeft { of: "app", per_minute: 60, left: 40, full_in });
        tokio::time::advance(Duration::from_secs(5)).await;
        assert_eq!(left(&limits).left, 45);
        let free = Caller { app: App::new("free", "", 0), ..app.clone() };
        assert!(CallerLimits::default().enter(&free).expect("let in").is_none(), "nothing is counted without");
    }
}
