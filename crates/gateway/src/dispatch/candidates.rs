//! One way of trying the candidates of a plan: in their order, until one
//! delivers, or the cause of a failure says that no other can.

use std::time::Duration;

use dispatcher_core::{Backoff, Cause, Remedy};

use crate::dispatch::dispatch_record::{DispatchRecord, LastAttempt};
use crate::dispatch::limiter::Priority;
use crate::{FailedAttempt, Gateway, GatewayError, PlannedCall};

/// What became of one candidate.
pub(crate) enum Tried<T> {
    /// The dispatch is over: it was delivered, or nobody waits for it.
    Over(T),
    /// Its attempt failed before anything was delivered.
    Failed {
        last: LastAttempt,
        /// Candidates behind it that were tried beside it; their ends are written.
        others: Vec<FailedAttempt>,
        failed: FailedAttempt,
    },
}

/// What became of all of them.
pub(crate) enum Outcome<T> {
    Over(T),
    /// Each that was tried failed. The end of the last attempt is not written
    /// yet: the dispatch is settled with it.
    Exhausted(LastAttempt, Vec<FailedAttempt>),
}

/// How one candidate is tried.
pub(crate) trait Attempt<T> {
    /// Calls the engine of a candidate; `failures` are those of the ones before it.
    fn attempt(
        &mut self,
        planned: &PlannedCall,
        failures: &[FailedAttempt],
    ) -> impl Future<Output = Result<Tried<T>, GatewayError>> + Send;

    /// Ends once nobody waits for the dispatch.
    fn left(&mut self) -> impl Future<Output = ()> + Send;
}

/// Number of repeated calls of the last candidate, if it fails temporarily
/// and nobody else is left.
const REPEATS: u32 = 2;
const REPEAT: Backoff =
    Backoff { first: Duration::from_millis(200), factor: 3, longest: Duration::from_secs(2), jitter: 0.5 };
/// An engine that wants to be left alone for longer is not waited for.
const LONGEST: Duration = Duration::from_secs(2);

/// How long to wait before the same engine is called again. Only where it has
/// refused the call as a whole: what may have been worked on, and charged, is
/// not asked for twice.
fn repeat_after(failed: &FailedAttempt, repeats: u32) -> Option<Duration> {
    let refused = matches!(failed.cause, Cause::Throttled | Cause::Unavailable);
    let wait = failed.retry_after.unwrap_or_default().max(REPEAT.wait(repeats + 1, rand::random()));
    (refused && repeats < REPEATS && wait <= LONGEST).then_some(wait)
}

/// Tries the candidates of a plan. Engines whose breaker is open are passed over.
///
/// # Errors
/// When the records cannot be written.
pub(crate) async fn run<T>(
    record: &DispatchRecord,
    plan: &[PlannedCall],
    engine: &mut impl Attempt<T>,
) -> Result<Outcome<T>, GatewayError> {
    let mut failures = Vec::new();
    let mut last = LastAttempt::None;
    let mut left = plan.iter();
    while let Some(planned) = left.next() {
        let repeats = if left.len() == 0 && record.priority() == Priority::Interactive { 0 } else { REPEATS };
        for repeats in repeats.. {
            if let Err(shut) = record.gateway().check_breaker(planned).await {
                record.note_passed_over();
                failures.push(shut);
                break;
            }
            record.write_last(std::mem::take(&mut last)).await?;
            let failed = match engine.attempt(planned, &failures).await? {
                Tried::Over(done) => return Ok(Outcome::Over(done)),
                Tried::Failed { last: ended, others, failed } => {
                    last = ended;
                    left.by_ref().take(others.len()).for_each(drop);
                    failures.extend(others);
                    failed
                }
            };
            tracing::info!(dispatch = record.id(), engine = %failed.engine, cause = %failed.cause, "attempt failed");
            let wait = repeat_after(&failed, repeats);
            let hopeless = failed.cause.remedy() == Remedy::Nobody;
            failures.push(failed);
            if hopeless {
                return Ok(Outcome::Exhausted(last, failures));
            }
            let Some(wait) = wait else { break };
            last = record.write_last(last).await?;
            tokio::select! {
                () = tokio::time::sleep(wait) => {}
                () = engine.left() => return Ok(Outcome::Exhausted(last, failures)),
            }
        }
    }
    Ok(Outcome::Exhausted(last, failures))
}

/// The next of some candidates whose breaker lets a call through.
pub(crate) async fn next_callable<'p>(
    record: &DispatchRecord,
    candidates: &mut (impl Iterator<Item = &'p PlannedCall> + Send),
) -> Option<&'p PlannedCall> {
    for planned in candidates {
        match record.gateway().check_breaker(planned).await {
            Ok(()) => return Some(planned),
            Err(_) => record.note_passed_over(),
        }
    }
    None
}

impl Gateway {
    /// Whether the breaker of a candidate's engine lets a call through.
    pub(crate) async fn check_breaker(&self, planned: &PlannedCall) -> Result<(), FailedAttempt> {
        let engine = planned.engine_name();
        if self.inner.breakers.is_clear(engine) {
            return Ok(());
        }
        let credential = self.credential_name(planned).await;
        self.inner.breakers.pass(engine, credential.as_deref()).map_err(|(detail, wait)| FailedAttempt {
            engine: engine.to_owned(),
            cause: Cause::BreakerOpen,
            detail,
            retry_after: Some(wait),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn failed(cause: Cause, seconds: Option<u64>) -> FailedAttempt {
        let retry_after = seconds.map(Duration::from_secs);
        FailedAttempt { engine: "heron".into(), cause, detail: String::new(), retry_after }
    }

    #[test]
    fn only_what_was_refused_as_a_whole_is_asked_for_again() {
        for cause in [Cause::Throttled, Cause::Unavailable] {
            let (first, second) = (repeat_after(&failed(cause, None), 0), repeat_after(&failed(cause, None), 1));
            let within = |wait: Option<Duration>, longest: u64| {
                wait.is_some_and(|wait| (longest / 2..=longest).contains(&(wait.as_millis() as u64)))
            };
            assert!(within(first, 200) && within(second, 600), "{first:?} {second:?}");
            assert_eq!(repeat_after(&failed(cause, None), 2), None);
            assert_eq!(repeat_after(&failed(cause, Some(2)), 0), Some(Duration::from_secs(2)));
            assert_eq!(repeat_after(&failed(cause, Some(3)), 0), None);
        }
        for cause in [Cause::Broken, Cause::TimedOut, Cause::Refused, Cause::Unauthorized, Cause::NotActiveYet] {
            assert_eq!(repeat_after(&failed(cause, Some(0)), 0), None, "{cause}");
        }
    }
}
