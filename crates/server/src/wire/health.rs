//! What is measured of engines and routes, and how breakers stand, as JSON.

use dispatcher_core::{BreakerState, Cause};
use dispatcher_gateway::{BreakerView, MeasuredHealth, Percentiles};
use serde::Serialize;
use utoipa::ToSchema;

use super::milliseconds;

/// Times of many calls, in milliseconds.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct PercentilesAnswer {
    /// Half of the calls took no longer.
    pub(crate) median: f64,
    /// 95 of 100 calls took no longer.
    pub(crate) p95: f64,
    /// 99 of 100 calls took no longer.
    pub(crate) p99: f64,
}

/// What was measured of an engine, a voice, a model or a route.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct MeasuredAnswer {
    /// `engine`, `voice`, `model` or `route`.
    pub(crate) scope: String,
    /// An engine, `engine/voice`, `engine/model` or a route.
    pub(crate) name: String,
    /// `synthesis` or `recognition`.
    pub(crate) work: String,
    /// Calls of engines; for a route, its requests. Calls that say nothing of
    /// the engine, as those of callers who left, are not counted.
    pub(crate) calls: u64,
    /// Calls that failed for a reason of the engine's own; for a route, requests that no leg answered.
    pub(crate) failures: u64,
    /// Answers that were given after another engine had failed.
    pub(crate) fallbacks: u64,
    /// From the call to the first audio or the transcript, of calls that did not fail.
    pub(crate) first_audio: Option<PercentilesAnswer>,
    /// From the call to the end, of calls that did not fail.
    pub(crate) total: Option<PercentilesAnswer>,
}

/// The circuit breaker of an engine with one credential.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct BreakerAnswer {
    pub(crate) engine: String,
    /// The credential and its version.
    pub(crate) credential: Option<String>,
    /// `closed`: calls are made. `open`: no calls are made. `half-open`: one trial call is made.
    pub(crate) state: String,
    /// Seconds until the next call is made, if it is open.
    pub(crate) retry_after: Option<f64>,
    /// Cause of the failure that opened it.
    pub(crate) cause: Option<String>,
    /// Consecutive failures.
    pub(crate) failures: u32,
}

impl From<Percentiles> for PercentilesAnswer {
    fn from(times: Percentiles) -> Self {
        let of = |time: std::time::Duration| milliseconds(i64::try_from(time.as_micros()).unwrap_or(i64::MAX));
        PercentilesAnswer { median: of(times.median), p95: of(times.p95), p99: of(times.p99) }
    }
}

impl From<MeasuredHealth> for MeasuredAnswer {
    fn from(measured: MeasuredHealth) -> Self {
        MeasuredAnswer {
            scope: measured.scope.name().into(),
            name: measured.name,
            work: measured.work.name().into(),
            calls: measured.calls,
            failures: measured.failures,
            fallbacks: measured.fallbacks,
            first_audio: measured.first.map(PercentilesAnswer::from),
            total: measured.total.map(PercentilesAnswer::from),
        }
    }
}

impl From<BreakerView> for BreakerAnswer {
    fn from(view: BreakerView) -> Self {
        let open = view.state == BreakerState::Open;
        let seconds = view.opens_in.filter(|_| open).map(|wait| (wait.as_secs_f64() * 10.0).ceil() / 10.0);
        BreakerAnswer {
            engine: view.engine,
            credential: view.credential,
            state: view.state.name().into(),
            retry_after: seconds,
            cause: view.cause.map(|cause: Cause| cause.name().into()),
            failures: view.failures,
        }
    }
}
