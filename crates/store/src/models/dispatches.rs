//! Rows of dispatches, their attempts, and the ledger.

use diesel::prelude::*;
use dispatcher_core::{Currency, Money, Work};

use crate::schema::{attempts, dispatches, ledger};
use crate::states::{AttemptState, DispatchState, LedgerKind};
use crate::words::Word;

/// One request and all that was done for it.
#[derive(Debug, Clone, Queryable, Selectable, Insertable, PartialEq, Eq)]
#[diesel(table_name = dispatches, treat_none_as_default_value = false)]
pub struct StoredDispatch {
    pub id: String,
    pub app: String,
    #[diesel(serialize_as = Word<Work>, deserialize_as = Word<Work>)]
    pub work: Work,
    /// What was asked for: a route, a voice, an engine or criteria.
    pub requested: String,
    pub rehearsal: bool,
    pub state: DispatchState,
    pub engine: Option<String>,
    pub voice: Option<String>,
    pub model: Option<String>,
    pub media_type: String,
    pub language: Option<String>,
    pub characters: i64,
    pub audio_ms: i64,
    pub first_us: Option<i64>,
    pub total_us: Option<i64>,
    pub cost_nanos: i64,
    #[diesel(serialize_as = Word<Currency>, deserialize_as = Word<Currency>)]
    pub currency: Currency,
    pub problem: Option<String>,
    pub trace: Option<String>,
    pub started_at: i64,
    /// The job that it is a part of.
    pub job: Option<String>,
    /// Sample data of the demo; no engine was called.
    pub sample: bool,
    /// It was answered with kept audio.
    pub recalled: bool,
    /// What the audio would have cost, in the currency of the dispatch.
    pub saved_nanos: i64,
    /// The token that it was asked for with.
    pub token: Option<String>,
    /// The key, token or person that made the request.
    pub caller: String,
    /// The key or person that made the request or its token.
    pub principal: String,
    /// For whom it was, in the words of the app.
    pub end_user: Option<String>,
}

impl StoredDispatch {
    /// A dispatch of an app that has begun, of which no more is known.
    pub fn begun(id: impl Into<String>, app: impl Into<String>, work: Work, started_at: i64) -> StoredDispatch {
        StoredDispatch {
            id: id.into(),
            app: app.into(),
            work,
            requested: String::new(),
            rehearsal: false,
            state: DispatchState::Running,
            engine: None,
            voice: None,
            model: None,
            media_type: String::new(),
            language: None,
            characters: 0,
            audio_ms: 0,
            first_us: None,
            total_us: None,
            cost_nanos: 0,
            currency: Currency::EUR,
            problem: None,
            trace: None,
            started_at,
            job: None,
            sample: false,
            recalled: false,
            saved_nanos: 0,
            token: None,
            caller: String::new(),
            principal: String::new(),
            end_user: None,
        }
    }

    /// What it would have cost, had its audio not been kept.
    pub fn saved(&self) -> Money {
        Money { nanos: self.saved_nanos, currency: self.currency }
    }

    /// What it cost in the currency of its last attempt.
    pub fn cost(&self) -> Money {
        Money { nanos: self.cost_nanos, currency: self.currency }
    }
}

/// A made-up dispatch of the demo, with all that belongs to it.
#[derive(Debug, Clone)]
pub struct SampleDispatch {
    pub dispatch: StoredDispatch,
    pub attempts: Vec<StoredAttempt>,
    pub ledger: Vec<LedgerEntry>,
}

/// One call of one engine inside a dispatch.
#[derive(Debug, Clone, Queryable, Selectable, Insertable, PartialEq, Eq)]
#[diesel(table_name = attempts, treat_none_as_default_value = false)]
pub struct StoredAttempt {
    pub dispatch: String,
    pub number: i64,
    pub engine: String,
    pub voice: Option<String>,
    pub model: Option<String>,
    pub state: AttemptState,
    pub cause: Option<String>,
    pub detail: Option<String>,
    /// Since the dispatch began.
    pub offset_us: i64,
    pub first_us: Option<i64>,
    pub total_us: Option<i64>,
    /// Its name and version.
    pub credential: Option<String>,
}

impl StoredAttempt {
    /// An attempt at an engine that has begun, of which no more is known.
    pub fn begun(dispatch: impl Into<String>, number: i64, engine: impl Into<String>) -> StoredAttempt {
        StoredAttempt {
            dispatch: dispatch.into(),
            number,
            engine: engine.into(),
            voice: None,
            model: None,
            state: AttemptState::Running,
            cause: None,
            detail: None,
            offset_us: 0,
            first_us: None,
            total_us: None,
            credential: None,
        }
    }
}

/// One entry of the ledger; entries are only ever added.
#[derive(Debug, Clone, Queryable, Selectable, Insertable, PartialEq, Eq)]
#[diesel(table_name = ledger, treat_none_as_default_value = false)]
pub struct LedgerEntry {
    pub dispatch: String,
    pub attempt: i64,
    pub kind: LedgerKind,
    pub app: String,
    pub engine: String,
    pub model: Option<String>,
    #[diesel(serialize_as = Word<Work>, deserialize_as = Word<Work>)]
    pub work: Work,
    /// `YYYY-MM-DD` in UTC.
    pub day: String,
    pub characters: i64,
    pub audio_ms: i64,
    pub nanos: i64,
    #[diesel(serialize_as = Word<Currency>, deserialize_as = Word<Currency>)]
    pub currency: Currency,
    pub at: i64,
}

impl LedgerEntry {
    /// What it adds to the ledger.
    pub fn cost(&self) -> Money {
        Money { nanos: self.nanos, currency: self.currency }
    }
}
