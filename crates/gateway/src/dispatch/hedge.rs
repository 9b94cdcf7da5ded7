//! Hedging: where an engine takes longer than it usually does, the next one is
//! called beside it, and who gives audio first is heard. The other call ends,
//! and the dispatch shows what it cost.

use std::collections::HashMap;
use std::time::Duration;

use dispatcher_core::Cause;
use dispatcher_engines::EngineError;
use futures::future::{BoxFuture, select_all};
use parking_lot::Mutex;
use tokio::time::Instant;

use crate::dispatch::dispatch_record::{DispatchRecord, OpenAttempt};
use crate::{FailedAttempt, Gateway, GatewayError, PlannedCall};

/// The share of its first audio that an engine gives within its usual time.
const USUAL: f64 = 0.95;
/// What one request adds to what its route may hedge: where every call of an
/// engine has become slow, most of them are still waited for, so that its
/// usual time is learnt anew and not everything is bought twice.
const EARNED: f64 = 0.1;
/// What a route may save up.
const MOST_SAVED: f64 = 5.0;

/// Hedges that routes may still make.
#[derive(Default)]
pub(crate) struct HedgeBudgets(Mutex<HashMap<String, f64>>);

impl HedgeBudgets {
    /// A request by a route that hedges.
    fn earn(&self, route: &str) {
        let mut budgets = self.0.lock();
        match budgets.get_mut(route) {
            Some(left) => *left = (*left + EARNED).min(MOST_SAVED),
            None => drop(budgets.insert(route.to_owned(), MOST_SAVED)),
        }
    }

    /// Whether one more call may be made beside another.
    fn spend(&self, route: &str) -> bool {
        let mut budgets = self.0.lock();
        let Some(left) = budgets.get_mut(route).filter(|left| **left >= 1.0) else { return false };
        *left -= 1.0;
        true
    }
}

/// The candidate to call beside another.
pub(crate) struct Hedge<'r> {
    /// After so long without audio.
    after: Duration,
    planned: &'r PlannedCall,
    route: &'r str,
}

/// A call that is under way.
pub(crate) struct Racer<'r, T> {
    pub(crate) planned: &'r PlannedCall,
    pub(crate) attempt: OpenAttempt,
    pub(crate) call: BoxFuture<'r, Result<T, EngineError>>,
}

/// How calls beside one another ended. All but one attempt are written.
pub(crate) struct RaceEnd<'r, T> {
    pub(crate) planned: &'r PlannedCall,
    pub(crate) attempt: OpenAttempt,
    pub(crate) end: CallEnd<T>,
    /// What became of the other candidate, where there was one.
    pub(crate) other: Option<FailedAttempt>,
}

/// How one call ended.
pub(crate) enum CallEnd<T> {
    Answered(T),
    Failed(EngineError),
    /// Nobody waits for it any more.
    Left,
}

impl Gateway {
    /// The candidate behind one of a plan, to be called beside it once it takes
    /// longer than usual. `None` if too little is known, or the next engine
    /// is not called at all for now.
    pub(crate) async fn hedge<'r>(
        &self,
        route: &'r str,
        plan: &'r [PlannedCall],
        planned: &PlannedCall,
    ) -> Option<Hedge<'r>> {
        self.inner.hedge_budgets.earn(route);
        let next = plan.iter().skip_while(|other| !std::ptr::eq(*other, planned)).nth(1)?;
        let after = self.usual_first(planned, USUAL)?;
        // A script may begin with a pause or a sound for this engine alone.
        let callable = next.render_plan.single().is_some() || next.render_plan.opening_call(next).is_some();
        let other = callable && next.engine_name() != planned.engine_name() && self.not_called(next).await.is_none();
        other.then_some(Hedge { after, planned: next, route })
    }
}

/// Waits for a call, and for another beside it where it takes too long.
///
/// # Errors
/// When the records cannot be written.
pub(crate) async fn race<'r, T, Begun>(
    record: &DispatchRecord,
    first: Racer<'r, T>,
    hedge: Option<Hedge<'r>>,
    begin: impl FnOnce(&'r PlannedCall) -> Begun,
    left: impl Future<Output = ()>,
) -> Result<RaceEnd<'r, T>, GatewayError>
where
    Begun: Future<Output = Result<Racer<'r, T>, GatewayError>>,
{
    let started = Instant::now();
    let mut left = std::pin::pin!(left);
    let mut racers = vec![first];
    let mut hedge = hedge.map(|hedge| (hedge, begin));
    let mut other = None;
    loop {
        let after = hedge.as_ref().map_or(Duration::MAX, |(hedge, _)| hedge.after);
        tokio::select! {
            (ended, index, _) = select_all(racers.iter_mut().map(|racer| &mut racer.call)) => {
                let Racer { planned, attempt, .. } = racers.swap_remove(index);
                let end = match ended {
                    Err(error) if !racers.is_empty() => {
                        let failed = FailedAttempt::of(planned, error);
                        drop(record.write(attempt.failed(&failed, None)).await?);
                        other = Some(failed);
                        continue;
                    }
                    Err(error) => CallEnd::Failed(error),
                    Ok(answered) => CallEnd::Answered(answered),
                };
                if let Some(slower) = racers.pop() {
                    other = Some(give_up(record, slower, "another engine was faster").await?);
                }
                return Ok(RaceEnd { planned, attempt, end, other });
            }
            () = tokio::time::sleep(after.saturating_sub(started.elapsed())), if hedge.is_some() => {
                let Some((hedge, begin)) = hedge.take() else { continue };
                if record.gateway().inner.hedge_budgets.spend(hedge.route) {
                    let slow = racers.first().map(|racer| racer.planned.engine_name());
                    tracing::info!(dispatch = record.id(), slow, next = hedge.planned.engine_name(), "hedged");
                    racers.push(begin(hedge.planned).await?);
                }
            }
            () = &mut left => {
                let first = racers.swap_remove(0);
                if let Some(slower) = racers.pop() {
                    other = Some(give_up(record, slower, "the caller left").await?);
                }
                return Ok(RaceEnd { planned: first.planned, attempt: first.attempt, end: CallEnd::Left, other });
            }
        }
    }
}

/// Ends a call whose audio is not needed any more.
async fn give_up<T>(record: &DispatchRecord, slower: Racer<'_, T>, why: &str) -> Result<FailedAttempt, GatewayError> {
    let Racer { planned, attempt, call } = slower;
    drop(call);
    let (usage, engine) = (attempt.usage(), planned.engine_name().to_owned());
    let detail = format!("no audio within {} ms; {why}", attempt.milliseconds());
    drop(record.write(attempt.abandoned(&detail, usage, usage.milliseconds, None)).await?);
    Ok(FailedAttempt { engine, cause: Cause::Abandoned, detail, retry_after: None })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn where_every_call_is_slow_one_in_ten_is_hedged() {
        let budgets = HedgeBudgets::default();
        assert!(!budgets.spend("quayside"), "no request was made");
        let hedged = (0..1_000).filter(|_| {
            budgets.earn("quayside");
            budgets.spend("quayside")
        });
        assert!((100..=105).contains(&hedged.count()));
        for _ in 0..1_000 {
            budgets.earn("quayside");
        }
        assert_eq!((0..100).filter(|_| budgets.spend("quayside")).count(), 5, "no more is saved up");
        budgets.earn("captions");
        assert!(budgets.spend("captions"), "each route has its own");
    }
}
