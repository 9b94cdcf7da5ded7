//! One way of trying the candidates of a plan: in their order, until one
//! delivers, or the cause of a failure says that no other can.

use dispatcher_core::Remedy;

use crate::dispatch::dispatch_record::{DispatchRecord, LastAttempt};
use crate::{FailedAttempt, GatewayError, PlannedCall};

/// What became of one candidate.
pub(crate) enum Tried<T> {
    /// The dispatch is over: it was delivered, or nobody waits for it.
    Over(T),
    /// Its attempt failed before anything was delivered.
    Failed(LastAttempt, FailedAttempt),
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
}

/// Tries the candidates of a plan.
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
    for (index, planned) in plan.iter().enumerate() {
        match engine.attempt(planned, &failures).await? {
            Tried::Over(done) => return Ok(Outcome::Over(done)),
            Tried::Failed(ended, failed) => {
                tracing::info!(dispatch = record.id(), engine = %failed.engine, cause = %failed.cause, "attempt failed");
                last = ended;
                let hopeless = failed.cause.remedy() == Remedy::Nobody;
                failures.push(failed);
                if hopeless || index + 1 == plan.len() {
                    break;
                }
                if let LastAttempt::Ended(ended) = std::mem::take(&mut last) {
                    last = LastAttempt::Written(record.write(*ended).await?);
                }
            }
        }
    }
    Ok(Outcome::Exhausted(last, failures))
}
