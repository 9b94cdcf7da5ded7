//! Settle: what really happened becomes records.

use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Instant;

use dispatcher_core::{Cause, Money, Tariff, Usage, Work};
use dispatcher_store::{AttemptEnd, AttemptRow, DispatchEnd, DispatchRow, JobPieceRow, LedgerRow};

use crate::gate::Priority;
use crate::{Caller, Gateway, GatewayError, Planned, day_of, now_micros};

/// A dispatch in work: its record, and the clock that all its times are of.
pub(crate) struct Docket {
    pub(crate) gateway: Gateway,
    pub(crate) id: String,
    pub(crate) app: String,
    pub(crate) work: Work,
    /// Before an engine that others want too.
    pub(crate) priority: Priority,
    pub(crate) begun: Instant,
    number: AtomicU64,
    pub(crate) tail: std::sync::Mutex<Tail>,
    /// The record of the dispatch, until it is written with its first attempt.
    unwritten: std::sync::Mutex<Option<DispatchRow>>,
}

/// What adds up over the attempts.
#[derive(Default)]
pub(crate) struct Tail {
    pub(crate) cost_nanos: i64,
}

/// What is known of a dispatch when it begins.
pub(crate) struct Opening<'a> {
    pub(crate) wanted: &'a str,
    pub(crate) media_type: String,
    pub(crate) language: Option<String>,
    pub(crate) characters: u64,
    pub(crate) audio_ms: u64,
    pub(crate) trace: Option<String>,
    pub(crate) rehearsal: bool,
    /// The job that it is a part of.
    pub(crate) job: Option<String>,
}

/// An attempt in work.
pub(crate) struct Entry {
    pub(crate) number: i64,
    pub(crate) begun: Instant,
    pub(crate) engine: String,
    pub(crate) voice: Option<String>,
    pub(crate) model: Option<String>,
    tariff: Tariff,
    hold: Money,
    usage: Usage,
}

impl Entry {
    /// What it was to use.
    pub(crate) fn usage(&self) -> Usage {
        self.usage
    }

    /// How it ends where its caller does not wait for it any more: charged by
    /// its tariff, and the record says why. `usage` is that of the whole call,
    /// whose audio `worked_ms` may have been worked on.
    pub(crate) fn cancelled(&self, detail: &str, usage: Usage, worked_ms: u64) -> Ending {
        let (charged, why) = self.tariff.of_cancelled(usage, worked_ms);
        Ending {
            state: "abandoned",
            cause: Some(Cause::Abandoned),
            detail: Some(format!("{detail}; {why}")),
            first_us: None,
            charged,
        }
    }
}

/// How an attempt ended.
#[derive(Clone)]
pub(crate) struct Ending {
    pub(crate) state: &'static str,
    pub(crate) cause: Option<Cause>,
    pub(crate) detail: Option<String>,
    pub(crate) first_us: Option<i64>,
    /// What is charged; nothing where the engine did not deliver.
    pub(crate) charged: Option<Usage>,
}

/// An id that sorts by time (UUID version 7, RFC 9562).
pub(crate) fn new_id() -> String {
    uuid::Uuid::now_v7().simple().to_string()
}

pub(crate) fn micros(since: Instant) -> i64 {
    i64::try_from(since.elapsed().as_micros()).unwrap_or(i64::MAX)
}

impl Docket {
    /// A dispatch begins. Its record is written with its first attempt, before
    /// any engine is called.
    pub(crate) fn open(gateway: &Gateway, caller: &Caller, work: Work, opening: Opening<'_>) -> Docket {
        let id = new_id();
        let row = DispatchRow {
            id: id.clone(),
            app: caller.app.name.clone(),
            work: work.name().into(),
            wanted: opening.wanted.into(),
            rehearsal: i64::from(opening.rehearsal),
            state: "running".into(),
            engine: None,
            voice: None,
            model: None,
            media_type: opening.media_type,
            language: opening.language,
            characters: to_i64(opening.characters),
            audio_ms: to_i64(opening.audio_ms),
            first_us: None,
            total_us: None,
            cost_nanos: 0,
            currency: "EUR".into(),
            problem: None,
            trace: opening.trace,
            started_at: now_micros(),
            job: opening.job,
            sample: 0,
        };
        let priority = if row.job.is_some() { Priority::Batch } else { Priority::Interactive };
        gateway.inner.metrics.enter();
        Docket {
            gateway: gateway.clone(),
            id,
            app: caller.app.name.clone(),
            work,
            priority,
            begun: Instant::now(),
            number: AtomicU64::new(0),
            tail: std::sync::Mutex::default(),
            unwritten: std::sync::Mutex::new(Some(row)),
        }
    }

    fn unwritten(&self) -> Option<DispatchRow> {
        self.unwritten.lock().unwrap_or_else(std::sync::PoisonError::into_inner).take()
    }

    /// Writes the intent of an attempt, with its hold, before the engine is called.
    pub(crate) async fn begin(&self, planned: &Planned, usage: Usage, hold: Money) -> Result<Entry, GatewayError> {
        let number = to_i64(self.number.fetch_add(1, Ordering::Relaxed)) + 1;
        let entry = Entry {
            number,
            begun: Instant::now(),
            engine: planned.engine_name().into(),
            voice: planned.candidate.voice.as_ref().map(|voice| voice.id.clone()),
            model: planned.candidate.model.clone(),
            tariff: planned.candidate.tariff().clone(),
            hold,
            usage,
        };
        let row = AttemptRow {
            dispatch: self.id.clone(),
            number,
            engine: entry.engine.clone(),
            voice: entry.voice.clone(),
            model: entry.model.clone(),
            state: "running".into(),
            cause: None,
            detail: None,
            offset_us: micros(self.begun),
            first_us: None,
            total_us: None,
            credential: self.gateway.credential_name(&planned.engine, planned.candidate.credential.as_deref()).await,
        };
        let hold = self.line(&entry, "hold", usage, hold.nanos);
        self.gateway.inner.store.begin_attempt(self.unwritten(), row, hold).await?;
        Ok(entry)
    }

    fn line(&self, entry: &Entry, kind: &str, usage: Usage, nanos: i64) -> LedgerRow {
        let now = now_micros();
        let sign = if kind == "release" { -1 } else { 1 };
        LedgerRow {
            id: None,
            dispatch: self.id.clone(),
            attempt: entry.number,
            kind: kind.into(),
            app: self.app.clone(),
            engine: entry.engine.clone(),
            model: entry.model.clone(),
            work: self.work.name().into(),
            day: day_of(now),
            characters: sign * to_i64(usage.characters),
            audio_ms: sign * to_i64(usage.milliseconds),
            nanos,
            currency: entry.hold.currency.code().into(),
            at: now,
        }
    }

    /// The records of an attempt that is over: its hold released, and what is
    /// charged settled.
    fn close(&self, entry: &Entry, ending: &Ending) -> Result<(AttemptEnd, Vec<LedgerRow>), GatewayError> {
        let mut lines = vec![self.line(entry, "release", entry.usage, -entry.hold.nanos)];
        if let Some(usage) = ending.charged {
            let cost = entry.tariff.cost(usage, entry.model.as_deref())?;
            self.tail.lock().unwrap_or_else(std::sync::PoisonError::into_inner).cost_nanos += cost.nanos;
            lines.push(self.line(entry, "settle", usage, cost.nanos));
        }
        let outcome = ending.cause.map_or(ending.state, Cause::name);
        self.gateway.inner.metrics.attempt(&entry.engine, outcome);
        let end = AttemptEnd {
            dispatch: self.id.clone(),
            number: entry.number,
            state: ending.state,
            cause: ending.cause.map(|cause| cause.name().into()),
            detail: ending.detail.clone(),
            first_us: ending.first_us,
            total_us: micros(entry.begun),
        };
        Ok((end, lines))
    }

    /// Writes an attempt that is over while others may still be made.
    pub(crate) async fn end(&self, entry: &Entry, ending: Ending) -> Result<(), GatewayError> {
        let (end, lines) = self.close(entry, &ending)?;
        Ok(self.gateway.inner.store.end_attempt(end, lines).await?)
    }

    /// Writes a piece of a job that is whole, and the attempt that made it.
    pub(crate) async fn end_piece(
        &self,
        last: Option<(&Entry, &Ending)>,
        piece: JobPieceRow,
    ) -> Result<(), GatewayError> {
        let attempt = last.map(|(entry, ending)| self.close(entry, ending)).transpose()?;
        Ok(self.gateway.inner.store.end_piece(attempt, piece).await?)
    }

    /// Settles the dispatch with its last attempt, synced to the disk; the
    /// attempt has no ending where that is written already. Gives what it
    /// cost in all.
    pub(crate) async fn settle(
        &self,
        last: Option<(&Entry, Option<Ending>)>,
        state: &'static str,
        audio_ms: u64,
        first_us: Option<i64>,
        problem: Option<String>,
    ) -> Result<Money, GatewayError> {
        if let Some(row) = self.unwritten() {
            self.gateway.inner.store.begin_dispatch(row).await?;
        }
        let close = |(entry, ending): &(&Entry, Option<Ending>)| Some(self.close(entry, ending.as_ref()?));
        let attempt = last.as_ref().and_then(close).transpose()?;
        let currency = last.as_ref().map_or(dispatcher_core::Currency::EUR, |(entry, _)| entry.hold.currency);
        let nanos = self.tail.lock().unwrap_or_else(std::sync::PoisonError::into_inner).cost_nanos;
        let entry = last.map(|(entry, _)| entry);
        let end = DispatchEnd {
            id: self.id.clone(),
            state,
            engine: entry.map(|entry| entry.engine.clone()),
            voice: entry.and_then(|entry| entry.voice.clone()),
            model: entry.and_then(|entry| entry.model.clone()),
            audio_ms: to_i64(audio_ms),
            first_us,
            total_us: micros(self.begun),
            cost_nanos: nanos,
            currency: currency.code().into(),
            problem,
        };
        self.gateway.inner.store.settle(attempt, end).await?;
        self.gateway.inner.metrics.dispatch(self.work.name(), state);
        Ok(Money { nanos, currency })
    }
}

impl Drop for Docket {
    fn drop(&mut self) {
        self.gateway.inner.metrics.leave();
    }
}

pub(crate) fn to_i64(value: u64) -> i64 {
    i64::try_from(value).unwrap_or(i64::MAX)
}
