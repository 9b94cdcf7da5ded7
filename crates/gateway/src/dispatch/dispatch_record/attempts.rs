//! Attempts of a dispatch: open until they are consumed by their end.

use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::{Duration, Instant};

use dispatcher_core::{CallPrice, Cause, Health, Money, MoneyError, Usage, Work};
use dispatcher_store::{AttemptState, HealthScope, LedgerEntry, LedgerKind, StoredAttempt};

use super::{AttemptFacts, Shared, SinceAttempt, micros, to_i64};
use crate::dispatch::health::Sample;
use crate::engines::volumes::Volumes;
use crate::{Event, FailedAttempt, Gateway, PlannedCall, day_of, now_micros};

/// An attempt in work, whose intent and hold are on the disk.
#[must_use = "an attempt that is dropped is recorded as uncertain"]
pub(crate) struct OpenAttempt {
    pub(super) shared: Arc<Shared>,
    /// As it began.
    pub(super) row: StoredAttempt,
    pub(super) begun: Instant,
    pub(super) facts: AttemptFacts,
    /// Of the day on which it began.
    pub(super) price: CallPrice,
    pub(super) hold: Money,
    pub(super) usage: Usage,
    pub(super) volume: VolumeHold,
    pub(super) written: bool,
}

/// A call's place in the month of its engine. Given up where it is dropped
/// before the call was made.
pub(super) struct VolumeHold {
    volumes: Arc<Volumes>,
    engine: String,
    work: Work,
    /// On which it began.
    pub(super) day: String,
    held: Usage,
    /// What was used before it.
    pub(super) used: Usage,
    charged: Usage,
}

impl VolumeHold {
    pub(super) fn begin(gateway: &Gateway, planned: &PlannedCall, day: String, held: Usage) -> VolumeHold {
        let (engine, work) = (planned.engine_name().to_owned(), planned.candidate.work);
        let volumes = gateway.registry().volumes.clone();
        let used = volumes.begin(&engine, work, &day, held);
        VolumeHold { volumes, engine, work, day, held, used, charged: Usage::default() }
    }
}

impl Drop for VolumeHold {
    fn drop(&mut self) {
        self.volumes.end(&self.engine, self.work, &self.day, self.held, self.charged);
    }
}

/// An attempt that has ended, to be written.
#[must_use = "the end of an attempt is not written"]
pub(crate) struct EndedAttempt {
    pub(super) attempt: OpenAttempt,
    state: AttemptState,
    cause: Option<Cause>,
    detail: Option<String>,
    first: Option<SinceAttempt>,
    /// How long it took.
    total: SinceAttempt,
    /// After which the engine says that it works again.
    retry_after: Option<Duration>,
    /// What is charged; `None` if the engine did not deliver.
    charged: Option<Usage>,
}

impl OpenAttempt {
    /// The engine of the attempt.
    pub(crate) fn engine(&self) -> &str {
        &self.facts.engine
    }

    /// What it was to use.
    pub(crate) fn usage(&self) -> Usage {
        self.usage
    }

    /// Milliseconds since the engine was to be called.
    pub(crate) fn milliseconds(&self) -> u64 {
        u64::try_from(self.begun.elapsed().as_millis()).unwrap_or(u64::MAX)
    }

    /// The time since it began.
    pub(crate) fn elapsed(&self) -> SinceAttempt {
        SinceAttempt(micros(self.begun))
    }

    /// The engine delivered, and is charged for.
    pub(crate) fn delivered(self, usage: Usage, first: Option<SinceAttempt>) -> EndedAttempt {
        EndedAttempt {
            total: self.elapsed(),
            attempt: self,
            state: AttemptState::Done,
            cause: None,
            detail: None,
            first,
            retry_after: None,
            charged: Some(usage),
        }
    }

    /// The engine failed, and is not charged for.
    pub(crate) fn failed(self, failed: &FailedAttempt, first: Option<SinceAttempt>) -> EndedAttempt {
        EndedAttempt {
            total: self.elapsed(),
            attempt: self,
            state: AttemptState::Failed,
            cause: Some(failed.cause),
            detail: Some(failed.detail.clone()),
            first,
            retry_after: failed.retry_after,
            charged: None,
        }
    }

    /// Its caller does not wait for it any more: charged by its tariff, and
    /// the record says why. `usage` is that of the whole call, whose audio
    /// `worked_ms` may have been worked on.
    pub(crate) fn abandoned(
        self,
        why: &str,
        usage: Usage,
        worked_ms: u64,
        first: Option<SinceAttempt>,
    ) -> EndedAttempt {
        let (charged, terms) = self.price.of_cancelled(usage, worked_ms);
        EndedAttempt {
            total: self.elapsed(),
            attempt: self,
            state: AttemptState::Abandoned,
            cause: Some(Cause::Abandoned),
            detail: Some(format!("{why}; {terms}")),
            first,
            retry_after: None,
            charged,
        }
    }

    pub(super) fn line(&self, kind: LedgerKind, usage: Usage, money: Money) -> LedgerEntry {
        let now = now_micros();
        let sign = if kind == LedgerKind::Release { -1 } else { 1 };
        LedgerEntry {
            dispatch: self.shared.row.id.clone(),
            attempt: self.row.number,
            kind,
            app: self.shared.row.app.clone(),
            engine: self.facts.engine.clone(),
            model: self.facts.model.clone(),
            work: self.shared.row.work,
            day: day_of(now),
            characters: sign * to_i64(usage.characters),
            audio_ms: sign * to_i64(usage.milliseconds),
            nanos: sign * money.nanos,
            currency: money.currency,
            at: now,
        }
    }

    /// The attempt as it ended.
    fn end(&self, state: AttemptState, cause: Option<Cause>, detail: Option<String>) -> StoredAttempt {
        StoredAttempt {
            state,
            cause: cause.map(|cause| cause.name().into()),
            detail,
            total_us: Some(self.elapsed().0),
            ..self.row.clone()
        }
    }
}

impl EndedAttempt {
    /// Its rows: the end, the hold released and what is charged; and its cost.
    pub(super) fn rows(&self) -> Result<(StoredAttempt, Vec<LedgerEntry>, Option<Money>), MoneyError> {
        let attempt = &self.attempt;
        let mut lines = vec![attempt.line(LedgerKind::Release, attempt.usage, attempt.hold)];
        let mut charged = None;
        if let Some((usage, cost)) = self.charged.zip(self.cost()?) {
            lines.push(attempt.line(LedgerKind::Settle, usage, cost));
            charged = Some(cost);
        }
        Ok((self.end(), lines, charged))
    }

    /// What it is charged; `None` where the engine did not deliver.
    fn cost(&self) -> Result<Option<Money>, MoneyError> {
        self.charged.map(|usage| self.attempt.price.cost(usage)).transpose()
    }

    fn end(&self) -> StoredAttempt {
        StoredAttempt {
            first_us: self.first.map(|first| first.0),
            total_us: Some(self.total.0),
            ..self.attempt.end(self.state, self.cause, self.detail.clone())
        }
    }

    /// Takes how it ended into its engine's breaker, and into what is measured.
    fn note_health(&self) {
        let OpenAttempt { shared, row, facts, .. } = &self.attempt;
        let health = match (self.state, self.cause) {
            (AttemptState::Done, _) => Health::Well,
            (_, Some(cause)) => Health::of(cause, self.retry_after),
            (_, None) => Health::Unknown,
        };
        let gateway = &shared.gateway.inner;
        if let Some(state) = gateway.breakers.note(&facts.engine, row.credential.as_deref(), health) {
            gateway.events.tell(|| Event::Breaker { engine: facts.engine.clone(), state });
        }
        if health == Health::Unknown {
            return;
        }
        let failed = health != Health::Well;
        shared.passed_over.fetch_or(failed, Ordering::Relaxed);
        let engine = facts.engine.as_str();
        let of_engine = |part: &Option<String>| part.as_ref().map(|part| format!("{engine}/{part}"));
        let (voice, model) = (of_engine(&facts.voice), of_engine(&facts.model));
        let scopes = [
            (HealthScope::Engine, Some(engine)),
            (HealthScope::Voice, voice.as_deref()),
            (HealthScope::Model, model.as_deref()),
        ];
        let now = now_micros();
        for (scope, name) in scopes {
            let Some(name) = name else { continue };
            let sample = Sample {
                scope,
                name,
                work: shared.row.work,
                failed,
                fallback: !failed && shared.passed_over.load(Ordering::Relaxed),
                first: self.first.map(|first| first.0),
                total: Some(self.total.0),
            };
            gateway.health.note(now, &sample);
        }
    }

    /// It is written.
    pub(super) fn into_facts(mut self) -> AttemptFacts {
        self.attempt.written = true;
        self.attempt.volume.charged = self.charged.unwrap_or_default();
        self.attempt.shared.release_hold(self.attempt.hold, self.cost().unwrap_or_default());
        let outcome = self.cause.map_or(self.state.name(), Cause::name);
        let OpenAttempt { shared, facts, .. } = &self.attempt;
        shared.gateway.inner.metrics.attempt(&facts.engine, outcome);
        if shared.gateway.inner.host.traces.is_some() {
            shared.traced.lock().push(self.end());
        }
        self.note_health();
        self.attempt.facts.clone()
    }
}

impl Drop for OpenAttempt {
    /// Nobody wrote how it ended: as after a crash, it is uncertain, and
    /// charged as held.
    fn drop(&mut self) {
        let Some(runtime) = (!self.written).then(|| tokio::runtime::Handle::try_current().ok()).flatten() else {
            return;
        };
        self.volume.charged = self.usage;
        let lines = vec![
            self.line(LedgerKind::Release, self.usage, self.hold),
            self.line(LedgerKind::Settle, self.usage, self.hold),
        ];
        let end = self.end(AttemptState::Uncertain, None, Some("its end was not recorded; charged as held".into()));
        let shared = self.shared.clone();
        if let Err(error) = shared.costs().add(self.hold) {
            tracing::error!(%error, "the cost of an attempt without an end");
        }
        tracing::error!(dispatch = %end.dispatch, engine = %self.facts.engine, "an attempt was dropped without an end");
        let work = async move {
            if let Err(error) = shared.gateway.inner.store.end_attempt(end, lines).await {
                tracing::error!(dispatch = %shared.row.id, %error, "an attempt without an end was not written");
            }
        };
        self.shared.gateway.inner.running.spawn_on(work, &runtime);
    }
}
