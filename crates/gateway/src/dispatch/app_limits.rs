//! Limits of apps: how many requests for work an app may make in a minute, and
//! have in work at once. What goes beyond is refused at once; nothing waits.

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

/// What apps with limits have used.
#[derive(Default)]
pub(crate) struct AppLimits(Mutex<HashMap<String, UsedByApp>>);

#[derive(Default)]
struct UsedByApp {
    /// When the whole minute's requests may be made again: a bucket that fills
    /// steadily, as the time until it is full.
    full_at: Option<Instant>,
    in_work: Arc<AtomicU32>,
}

/// A request of an app; it counts as in work until this is dropped.
#[derive(Debug)]
pub(crate) struct InWork(Arc<AtomicU32>);

impl Drop for InWork {
    fn drop(&mut self) {
        self.0.fetch_sub(1, Ordering::AcqRel);
    }
}

/// What an app with a limit may still do.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct AppAllowance {
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

impl UsedByApp {
    fn allowance(&self, per_minute: u32, now: Instant) -> AppAllowance {
        let full_in = self.full_at.map_or(Duration::ZERO, |full| full.saturating_duration_since(now));
        let used = (full_in.as_secs_f64() / MINUTE.as_secs_f64() * f64::from(per_minute)).ceil();
        AppAllowance { per_minute, left: per_minute.saturating_sub(used as u32), full_in }
    }

    /// Takes one request of a minute's; else says after how long there is one.
    fn take(&mut self, per_minute: u32, now: Instant) -> Result<(), Duration> {
        let each = MINUTE / per_minute;
        let full_at = self.full_at.map_or(now, |full| full.max(now)) + each;
        // A bucket that is filled in more than a minute is one that is empty.
        match (full_at - now).checked_sub(MINUTE).filter(|over| *over > Duration::from_nanos(u64::from(per_minute))) {
            Some(over) => Err(over),
            None => {
                self.full_at = Some(full_at);
                Ok(())
            }
        }
    }
}

impl AppLimits {
    /// Lets a request of an app in.
    fn enter(&self, app: &App) -> Result<Option<InWork>, GatewayError> {
        let (per_minute, at_once) = (limit(app.per_minute), limit(app.at_once));
        if per_minute.is_none() && at_once.is_none() {
            return Ok(None);
        }
        let mut used = self.0.lock();
        let used = used.entry(app.name.clone()).or_default();
        if let Some(most) = at_once.filter(|most| used.in_work.load(Ordering::Acquire) >= *most) {
            let what = format!("the app {} has {most} requests in work, and may have no more at once", app.name);
            return Err(GatewayError::Crowded { what, retry_after: SOON });
        }
        if let Some(per_minute) = per_minute {
            used.take(per_minute, Instant::now()).map_err(|retry_after| {
                let what = format!("the app {} has made its {per_minute} requests of a minute", app.name);
                GatewayError::Crowded { what, retry_after }
            })?;
        }
        used.in_work.fetch_add(1, Ordering::AcqRel);
        Ok(Some(InWork(used.in_work.clone())))
    }
}

impl Gateway {
    /// Lets a request for work in, within the limits of its app.
    ///
    /// # Errors
    /// [`GatewayError::Crowded`] beyond them: nothing is recorded or charged.
    pub(crate) fn enter(&self, caller: &Caller) -> Result<Option<InWork>, GatewayError> {
        self.inner.app_limits.enter(&caller.app)
    }

    /// What an app may still do; nothing where it has no limit.
    pub fn allowance(&self, app: &App) -> Option<AppAllowance> {
        let per_minute = limit(app.per_minute)?;
        let used = self.inner.app_limits.0.lock();
        let unused = UsedByApp::default();
        Some(used.get(&app.name).unwrap_or(&unused).allowance(per_minute, Instant::now()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn app(per_minute: Option<i64>, at_once: Option<i64>) -> App {
        App { per_minute, at_once, ..App::new("quay", "", 0) }
    }

    fn refused(outcome: Result<Option<InWork>, GatewayError>) -> (String, Duration) {
        match outcome {
            Err(GatewayError::Crowded { what, retry_after }) => (what, retry_after),
            other => panic!("{other:?}"),
        }
    }

    #[tokio::test(start_paused = true)]
    async fn a_minutes_requests_may_come_at_once_and_then_one_by_one() {
        let limits = AppLimits::default();
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
        let limits = AppLimits::default();
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
    async fn what_is_left_is_told() {
        let limits = AppLimits::default();
        let app = app(Some(60), None);
        let left = |limits: &AppLimits| limits.0.lock()["quay"].allowance(60, Instant::now());
        for _ in 0..20 {
            limits.enter(&app).expect("let in");
        }
        assert_eq!(left(&limits), AppAllowance { per_minute: 60, left: 40, full_in: Duration::from_secs(20) });
        tokio::time::advance(Duration::from_secs(5)).await;
        assert_eq!(left(&limits).left, 45);
        assert!(
            AppLimits::default().enter(&App::new("free", "", 0)).expect("let in").is_none(),
            "nothing is counted without"
        );
    }
}
