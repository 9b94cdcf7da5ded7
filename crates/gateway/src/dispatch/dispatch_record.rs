//! The record of a dispatch and of its attempts, as states that follow one
//! another: a [`DispatchRecord`] begins [`OpenAttempt`]s, each becomes an
//! [`EndedAttempt`], and the record is settled with the last of them. What is
//! dropped before it has an end is written as `uncertain`.

mod attempts;

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::Instant;

use dispatcher_core::{Consumption, Costs, Currency, Money, MoneyError, RequestShare, Usage, Work};
use dispatcher_store::{DispatchState, HealthScope, LedgerKind, StoredAttempt, StoredDispatch, StoredJobPiece};
use parking_lot::{Mutex, MutexGuard};

use crate::dispatch::health::Sample;
use crate::dispatch::limiter::Priority;
use crate::dispatch::spending::SpendHold;
use crate::{Caller, Event, Gateway, GatewayError, PlannedCall, now_micros, today};

use attempts::VolumeHold;
pub(crate) use attempts::{EndedAttempt, OpenAttempt};

/// Microseconds from the beginning of an attempt.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct SinceAttempt(i64);

/// Microseconds from the beginning of a dispatch.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(crate) struct SinceDispatch(i64);

impl SinceAttempt {
    /// The time since an engine was called.
    pub(crate) fn since(called: Instant) -> SinceAttempt {
        SinceAttempt(micros(called))
    }
}

impl SinceDispatch {
    pub(crate) fn micros(self) -> i64 {
        self.0
    }
}

fn micros(since: Instant) -> i64 {
    i64::try_from(since.elapsed().as_micros()).unwrap_or(i64::MAX)
}

pub(crate) fn to_i64(value: u64) -> i64 {
    i64::try_from(value).unwrap_or(i64::MAX)
}

/// An id that sorts by time (UUID version 7, RFC 9562).
pub(crate) fn new_id() -> String {
    uuid::Uuid::now_v7().simple().to_string()
}

/// What is known of a dispatch when it begins.
pub(crate) struct NewDispatch<'a> {
    /// A route, a voice, an engine or criteria, in words.
    pub(crate) requested: &'a str,
    pub(crate) media_type: String,
    pub(crate) language: Option<String>,
    pub(crate) characters: u64,
    pub(crate) audio_ms: u64,
    pub(crate) trace: Option<String>,
    pub(crate) rehearsal: bool,
    /// The job that it is a part of.
    pub(crate) job: Option<String>,
    /// What it holds of the token and allowances of its caller.
    pub(crate) hold: Option<SpendHold>,
}

/// How a dispatch ended.
pub(crate) struct DispatchOutcome {
    state: DispatchState,
    audio_ms: u64,
    first: Option<SinceDispatch>,
    problem: Option<String>,
    /// What kept audio saved, where it is the answer.
    saved: Option<Money>,
}

impl DispatchOutcome {
    /// Answered with kept audio.
    pub(crate) fn recalled(audio_ms: u64, first: SinceDispatch, saved: Money) -> Self {
        DispatchOutcome { saved: Some(saved), ..DispatchOutcome::done(audio_ms, Some(first)) }
    }

    pub(crate) fn done(audio_ms: u64, first: Option<SinceDispatch>) -> Self {
        DispatchOutcome { state: DispatchState::Done, audio_ms, first, problem: None, saved: None }
    }

    pub(crate) fn failed(audio_ms: u64, first: Option<SinceDispatch>, problem: String) -> Self {
        DispatchOutcome { state: DispatchState::Failed, audio_ms, first, problem: Some(problem), saved: None }
    }

    pub(crate) fn abandoned(audio_ms: u64, first: Option<SinceDispatch>, why: &str) -> Self {
        DispatchOutcome { state: DispatchState::Abandoned, audio_ms, first, problem: Some(why.to_owned()), saved: None }
    }
}

/// What a dispatch uses of a token and allowances, its money aside.
struct DispatchEnd {
    requests: u64,
    share: RequestShare,
}

impl DispatchEnd {
    fn of(row: &StoredDispatch) -> DispatchEnd {
        DispatchEnd { requests: u64::from(row.state != DispatchState::Failed), share: row.request_share() }
    }
}

/// What all parts of a dispatch share.
struct Shared {
    gateway: Gateway,
    /// Before an engine that others want too.
    priority: Priority,
    begun: Instant,
    attempts: AtomicU64,
    costs: Mutex<Costs>,
    /// The dispatch as it began.
    row: StoredDispatch,
    /// Whether that is written, with the first attempt.
    written: AtomicBool,
    settled: AtomicBool,
    /// An engine has failed, or was not called since it fails.
    passed_over: AtomicBool,
    /// Its first call waits for a person, which says nothing of the service.
    waits_for_speech: AtomicBool,
    /// Attempts that have ended, if traces are sent.
    traced: Mutex<Vec<StoredAttempt>>,
    /// What it holds of the token and allowances of its caller.
    hold: Option<Mutex<SpendHold>>,
}

/// A dispatch in work. All its times are of one clock.
pub(crate) struct DispatchRecord(Arc<Shared>);

/// Who was called by an attempt.
#[derive(Debug, Clone)]
pub(crate) struct AttemptFacts {
    pub(crate) engine: String,
    voice: Option<String>,
    model: Option<String>,
    currency: Currency,
}

/// The attempt that a dispatch is settled with.
#[derive(Default)]
pub(crate) enum LastAttempt {
    /// No engine was called.
    #[default]
    None,
    /// Its end is not written yet.
    Ended(Box<EndedAttempt>),
    Written(AttemptFacts),
}

impl AttemptFacts {
    /// Those of a call that was not made, since its audio is kept.
    pub(crate) fn of_kept(planned: &PlannedCall) -> AttemptFacts {
        AttemptFacts {
            engine: planned.engine_name().into(),
            voice: planned.candidate.voice.as_ref().map(|voice| voice.id.clone()),
            model: planned.candidate.model.clone(),
            currency: planned.estimate.currency,
        }
    }
}

impl From<EndedAttempt> for LastAttempt {
    fn from(ended: EndedAttempt) -> Self {
        LastAttempt::Ended(Box::new(ended))
    }
}

impl Shared {
    fn costs(&self) -> MutexGuard<'_, Costs> {
        self.costs.lock()
    }

    fn add(&self, cost: Option<Money>) -> Result<(), MoneyError> {
        cost.map_or(Ok(()), |cost| self.costs().add(cost))
    }

    /// Counts what was used of a token and allowances, in place of what was held.
    fn settle_hold(&self, end: &DispatchEnd) {
        let Some(hold) = &self.hold else { return };
        let mut used = Consumption::default();
        used.add(end.requests, RequestShare { cost: Money::zero(Currency::EUR), ..end.share });
        for cost in self.costs().amounts() {
            used.add(0, RequestShare::of_audio(0, *cost));
        }
        hold.lock().settle(&used);
    }

    /// An attempt has ended: what it may still cost is what it was charged.
    fn release_hold(&self, hold: Money, charged: Option<Money>) {
        if let Some(spend) = &self.hold {
            spend.lock().release(hold, charged.unwrap_or(Money::zero(hold.currency)));
        }
    }

    /// Takes what became of the dispatch into the health of its route, if it
    /// was asked for by one.
    fn note_route(&self, state: DispatchState, first: Option<SinceDispatch>) {
        let route = &self.row.requested;
        let known = self.gateway.registry().routes().contains_key(route);
        let failed = match state {
            DispatchState::Done => false,
            DispatchState::Failed => true,
            DispatchState::Running | DispatchState::Abandoned | DispatchState::Uncertain => return,
        };
        if !known || self.row.rehearsal {
            return;
        }
        let sample = Sample {
            scope: HealthScope::Route,
            name: route,
            work: self.row.work,
            failed,
            fallback: !failed && self.passed_over.load(Ordering::Relaxed),
            first: first.map(SinceDispatch::micros),
            total: Some(micros(self.begun)),
        };
        self.gateway.inner.health.note(now_micros(), &sample);
    }

    /// The dispatch as it ended, and what it cost in the currency of its last
    /// attempt.
    fn end(&self, outcome: DispatchOutcome, facts: Option<AttemptFacts>) -> (StoredDispatch, Money) {
        let currency = facts.as_ref().map_or(Currency::EUR, |facts| facts.currency);
        let cost = self.costs().of(currency);
        let (engine, voice, model) = match facts {
            Some(facts) => (Some(facts.engine), facts.voice, facts.model),
            None => (None, None, None),
        };
        let end = StoredDispatch {
            state: outcome.state,
            engine,
            voice,
            model,
            audio_ms: to_i64(outcome.audio_ms),
            first_us: outcome.first.map(SinceDispatch::micros),
            total_us: Some(micros(self.begun)),
            cost_nanos: cost.nanos,
            currency,
            problem: outcome.problem,
            recalled: outcome.saved.is_some(),
            saved_nanos: outcome.saved.map_or(0, |saved| saved.nanos),
            ..self.row.clone()
        };
        (end, cost)
    }
}

impl DispatchRecord {
    /// A dispatch begins. Its row is written with its first attempt, before
    /// any engine is called.
    pub(crate) fn open(gateway: &Gateway, caller: &Caller, work: Work, new: NewDispatch<'_>) -> DispatchRecord {
        let row = StoredDispatch {
            requested: new.requested.into(),
            rehearsal: new.rehearsal,
            media_type: new.media_type,
            language: new.language,
            characters: to_i64(new.characters),
            audio_ms: to_i64(new.audio_ms),
            trace: new.trace,
            job: new.job,
            token: new.hold.as_ref().and_then(SpendHold::token).map(str::to_owned),
            caller: caller.who.clone(),
            principal: caller.principal().to_owned(),
            end_user: caller.end_user(),
            ..StoredDispatch::begun(new_id(), &caller.app.name, work, now_micros())
        };
        gateway.inner.metrics.enter();
        DispatchRecord(Arc::new(Shared {
            gateway: gateway.clone(),
            priority: if row.job.is_some() { Priority::Batch } else { Priority::Interactive },
            begun: Instant::now(),
            attempts: AtomicU64::new(0),
            costs: Mutex::default(),
            row,
            written: AtomicBool::new(false),
            settled: AtomicBool::new(false),
            passed_over: AtomicBool::new(false),
            waits_for_speech: AtomicBool::new(false),
            traced: Mutex::default(),
            hold: new.hold.map(Mutex::new),
        }))
    }

    pub(crate) fn id(&self) -> &str {
        &self.0.row.id
    }

    pub(crate) fn app(&self) -> &str {
        &self.0.row.app
    }

    /// For whom it is.
    pub(crate) fn end_user(&self) -> Option<String> {
        self.0.row.end_user.clone()
    }

    pub(crate) fn is_rehearsal(&self) -> bool {
        self.0.row.rehearsal
    }

    pub(crate) fn priority(&self) -> Priority {
        self.0.priority
    }

    pub(crate) fn gateway(&self) -> &Gateway {
        &self.0.gateway
    }

    /// Its first call is made once somebody speaks: how long that takes does not
    /// count as the pace of the service.
    pub(crate) fn wait_for_speech(&self) {
        self.0.waits_for_speech.store(true, Ordering::Relaxed);
    }

    /// Holds more of the token and allowances of its caller.
    ///
    /// # Errors
    /// [`GatewayError::Token`] or [`GatewayError::Allowance`] where not as much is left.
    pub(crate) fn hold_more(&self, more: RequestShare) -> Result<(), GatewayError> {
        self.0.hold.as_ref().map_or(Ok(()), |hold| hold.lock().extend(more))
    }

    /// An engine was not called, since it fails.
    pub(crate) fn note_passed_over(&self) {
        self.0.passed_over.store(true, Ordering::Relaxed);
    }

    /// The time since the dispatch began.
    pub(crate) fn elapsed(&self) -> SinceDispatch {
        SinceDispatch(micros(self.0.begun))
    }

    /// Writes the intent of an attempt, with its hold, before the engine is called.
    ///
    /// # Errors
    /// When the records cannot be written; so with all of these.
    pub(crate) async fn begin(&self, planned: &PlannedCall, usage: Usage) -> Result<OpenAttempt, GatewayError> {
        let shared = &self.0;
        let day = today();
        let volume = VolumeHold::begin(&shared.gateway, planned, day, usage);
        let price = shared.gateway.price_of(planned, &volume.day, volume.used).await?;
        let hold = price.cost(usage)?;
        if let Some(spend) = &shared.hold {
            spend.lock().commit(hold)?;
        }
        let number = to_i64(shared.attempts.fetch_add(1, Ordering::Relaxed)) + 1;
        let facts = AttemptFacts {
            engine: planned.engine_name().into(),
            voice: planned.candidate.voice.as_ref().map(|voice| voice.id.clone()),
            model: planned.candidate.model.clone(),
            currency: hold.currency,
        };
        let credential = shared.gateway.credential_name(planned).await;
        let row = StoredAttempt {
            voice: facts.voice.clone(),
            model: facts.model.clone(),
            offset_us: micros(shared.begun),
            credential,
            ..StoredAttempt::begun(shared.row.id.clone(), number, facts.engine.clone())
        };
        // Once its intent is written nothing may be lost of it: its end is
        // written even where this future is dropped meanwhile.
        let mut attempt = OpenAttempt {
            shared: shared.clone(),
            row,
            begun: Instant::now(),
            facts,
            price,
            hold,
            usage,
            volume,
            written: false,
        };
        let hold = attempt.line(LedgerKind::Hold, usage, hold);
        let first = !shared.written.swap(true, Ordering::Relaxed);
        let dispatch = first.then(|| shared.row.clone());
        let begun = shared.gateway.inner.store.begin_attempt(dispatch, attempt.row.clone(), hold).await;
        attempt.written = begun.is_err();
        begun?;
        let timed = !shared.waits_for_speech.load(Ordering::Relaxed);
        if number == 1 && timed && shared.priority == Priority::Interactive {
            shared.gateway.inner.congestion.note(shared.begun.elapsed());
        }
        Ok(attempt)
    }

    /// Writes an attempt that has ended while others may still be made.
    pub(crate) async fn write(&self, ended: EndedAttempt) -> Result<AttemptFacts, GatewayError> {
        let (end, lines, cost) = ended.rows()?;
        self.0.gateway.inner.store.end_attempt(end, lines).await?;
        self.0.add(cost)?;
        Ok(ended.into_facts())
    }

    /// Writes the end of the last attempt, where that was put off.
    pub(crate) async fn write_last(&self, last: LastAttempt) -> Result<LastAttempt, GatewayError> {
        Ok(match last {
            LastAttempt::Ended(ended) => LastAttempt::Written(self.write(*ended).await?),
            other => other,
        })
    }

    /// Writes a piece of a job that is whole, with the attempt that made it.
    pub(crate) async fn write_piece(
        &self,
        ended: Option<EndedAttempt>,
        piece: StoredJobPiece,
    ) -> Result<Option<AttemptFacts>, GatewayError> {
        let rows = ended.as_ref().map(EndedAttempt::rows).transpose()?;
        let cost = rows.as_ref().and_then(|rows| rows.2);
        self.0.gateway.inner.store.end_piece(rows.map(|(end, lines, _)| (end, lines)), piece).await?;
        self.0.add(cost)?;
        Ok(ended.map(EndedAttempt::into_facts))
    }

    /// Settles the dispatch with its last attempt, synced to the disk. Gives
    /// what it cost in the currency of that attempt.
    pub(crate) async fn settle(&self, last: LastAttempt, outcome: DispatchOutcome) -> Result<Money, GatewayError> {
        let shared = &self.0;
        let (rows, ended, facts) = match last {
            LastAttempt::None => (None, None, None),
            LastAttempt::Written(facts) => (None, None, Some(facts)),
            LastAttempt::Ended(ended) => {
                let (end, lines, cost) = ended.rows()?;
                shared.add(cost)?;
                let facts = ended.attempt.facts.clone();
                (Some((end, lines)), Some(ended), Some(facts))
            }
        };
        let (state, first) = (outcome.state, outcome.first);
        let engine = facts.as_ref().map(|facts| facts.engine.clone());
        let (end, cost) = shared.end(outcome, facts);
        let traces = shared.gateway.inner.host.traces.as_ref();
        let traced = traces.map(|traces| (traces, end.clone()));
        let ended_as = DispatchEnd::of(&end);
        shared.gateway.inner.store.settle(rows, end).await?;
        shared.settle_hold(&ended_as);
        shared.settled.store(true, Ordering::Relaxed);
        if let Some(ended) = ended {
            (*ended).into_facts();
        }
        if let Some((traces, dispatch)) = traced {
            traces.tell(&dispatch, &shared.traced.lock());
        }
        shared.gateway.inner.metrics.dispatch(shared.row.work.name(), state.name());
        shared.note_route(state, first);
        shared.gateway.inner.events.tell(|| Event::Dispatch {
            id: shared.row.id.clone(),
            app: shared.row.app.clone(),
            work: shared.row.work,
            engine,
            state,
            requested: shared.row.requested.clone(),
        });
        Ok(cost)
    }
}

impl Drop for Shared {
    /// A dispatch that was begun and never settled is uncertain.
    fn drop(&mut self) {
        self.gateway.inner.metrics.leave();
        if self.settled.load(Ordering::Relaxed) || !self.written.load(Ordering::Relaxed) {
            return;
        }
        let Ok(runtime) = tokio::runtime::Handle::try_current() else { return };
        let outcome =
            DispatchOutcome { state: DispatchState::Uncertain, audio_ms: 0, first: None, problem: None, saved: None };
        let currency = self.costs().amounts().first().map(|money| money.currency);
        let (mut end, _) = self.end(outcome, None);
        if let Some(currency) = currency {
            (end.currency, end.cost_nanos) = (currency, self.costs().of(currency).nanos);
        }
        self.settle_hold(&DispatchEnd::of(&end));
        let gateway = self.gateway.clone();
        let work = async move {
            let id = end.id.clone();
            if let Err(error) = gateway.inner.store.settle(None, end).await {
                tracing::error!(dispatch = %id, %error, "a dispatch without an end was not written");
            }
        };
        self.gateway.inner.running.spawn_on(work, &runtime);
    }
}

#[cfg(test)]
mod tests;
