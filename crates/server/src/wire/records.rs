//! What was done, what it cost, and who changed what.

use dispatcher_gateway::{AuditEntry, DispatchDetails, LedgerEntry, StoredAttempt, StoredDispatch, UsageTotal};
use serde::Serialize;
use utoipa::ToSchema;

use super::{Amount, EngineAnswer, milliseconds, rfc3339};
use crate::problem::Problem;
use crate::problem_kind::ProblemKind;

/// One request and its outcome. Times are in milliseconds.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct DispatchAnswer {
    pub(crate) id: String,
    pub(crate) app: String,
    pub(crate) work: String,
    /// Route, voice, engine or criteria of the request.
    pub(crate) requested: String,
    pub(crate) rehearsal: bool,
    /// `running`, `done`, `failed`, `abandoned` or `uncertain`.
    pub(crate) state: String,
    pub(crate) engine: Option<String>,
    pub(crate) voice: Option<String>,
    pub(crate) model: Option<String>,
    pub(crate) media_type: String,
    pub(crate) language: Option<String>,
    pub(crate) characters: i64,
    /// Seconds of audio.
    pub(crate) duration: f64,
    pub(crate) first_audio: Option<f64>,
    pub(crate) total: Option<f64>,
    pub(crate) cost: Amount,
    /// What its audio would have cost, if it was kept and no engine was called. Absent otherwise.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) saved: Option<Amount>,
    pub(crate) problem: Option<String>,
    pub(crate) started: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) trace: Option<String>,
    /// Job of the dispatch.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) job: Option<String>,
    /// For whom it was, in the words of the app.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) end_user: Option<String>,
    /// Sample data of the demo; no engine was called. Absent otherwise.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub(crate) sample: bool,
    /// Only for a single dispatch.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) attempts: Option<Vec<AttemptAnswer>>,
    /// Only for a single dispatch.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) ledger: Option<Vec<LedgerAnswer>>,
}

impl From<StoredDispatch> for DispatchAnswer {
    fn from(row: StoredDispatch) -> Self {
        DispatchAnswer {
            cost: row.cost().into(),
            saved: row.recalled.then(|| row.saved().into()),
            id: row.id,
            app: row.app,
            work: row.work.name().to_owned(),
            requested: row.requested,
            rehearsal: row.rehearsal,
            state: row.state.to_string(),
            engine: row.engine,
            voice: row.voice,
            model: row.model,
            media_type: row.media_type,
            language: row.language,
            characters: row.characters,
            duration: row.audio_ms as f64 / 1_000.0,
            first_audio: row.first_us.map(milliseconds),
            total: row.total_us.map(milliseconds),
            problem: row.problem,
            started: rfc3339(row.started_at),
            trace: row.trace,
            job: row.job,
            end_user: row.end_user,
            sample: row.sample,
            attempts: None,
            ledger: None,
        }
    }
}

impl From<DispatchDetails> for DispatchAnswer {
    fn from(details: DispatchDetails) -> Self {
        DispatchAnswer {
            attempts: Some(details.attempts.into_iter().map(AttemptAnswer::from).collect()),
            ledger: Some(details.ledger.into_iter().map(LedgerAnswer::from).collect()),
            ..details.dispatch.into()
        }
    }
}

/// One call of one engine. Times are in milliseconds.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct AttemptAnswer {
    pub(crate) number: i64,
    pub(crate) engine: String,
    pub(crate) voice: Option<String>,
    pub(crate) model: Option<String>,
    pub(crate) state: String,
    pub(crate) cause: Option<String>,
    pub(crate) detail: Option<String>,
    /// Time since the dispatch began.
    pub(crate) offset: f64,
    pub(crate) first_audio: Option<f64>,
    pub(crate) total: Option<f64>,
    /// Credential of the call, and its version.
    pub(crate) credential: Option<String>,
}

impl From<StoredAttempt> for AttemptAnswer {
    fn from(row: StoredAttempt) -> Self {
        AttemptAnswer {
            number: row.number,
            engine: row.engine,
            voice: row.voice,
            model: row.model,
            state: row.state.to_string(),
            cause: row.cause,
            detail: row.detail,
            offset: milliseconds(row.offset_us),
            first_audio: row.first_us.map(milliseconds),
            total: row.total_us.map(milliseconds),
            credential: row.credential,
        }
    }
}

/// One entry of the ledger.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct LedgerAnswer {
    /// `hold`, `release`, `settle` or `adjust`.
    pub(crate) kind: String,
    pub(crate) attempt: i64,
    pub(crate) engine: String,
    pub(crate) model: Option<String>,
    pub(crate) characters: i64,
    /// Seconds.
    pub(crate) duration: f64,
    pub(crate) cost: Amount,
    pub(crate) at: String,
}

impl From<LedgerEntry> for LedgerAnswer {
    fn from(row: LedgerEntry) -> Self {
        LedgerAnswer {
            cost: row.cost().into(),
            kind: row.kind.to_string(),
            attempt: row.attempt,
            engine: row.engine,
            model: row.model,
            characters: row.characters,
            duration: row.audio_ms as f64 / 1_000.0,
            at: rfc3339(row.at),
        }
    }
}

/// Usage of one group in one currency.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct UsageAnswer {
    /// Values of the columns grouped by, in their order.
    pub(crate) group: Vec<String>,
    /// Requests that were charged; each counts for the engine that was charged first.
    pub(crate) requests: i64,
    /// Attempts that failed.
    pub(crate) failures: i64,
    /// Requests that another engine failed before.
    pub(crate) fallbacks: i64,
    /// Requests that were answered with kept audio, and cost nothing.
    pub(crate) recalled: i64,
    pub(crate) characters: i64,
    /// Seconds of audio.
    pub(crate) duration: f64,
    pub(crate) cost: Amount,
    /// What the recalled requests would have cost.
    pub(crate) saved: Amount,
    /// Milliseconds until the first audio, or until the transcript: half of the calls took no longer.
    /// To a twentieth; null where no call gave audio.
    pub(crate) latency_median: Option<f64>,
    /// The same of 95 calls of 100.
    pub(crate) latency_p95: Option<f64>,
}

impl From<UsageTotal> for UsageAnswer {
    fn from(row: UsageTotal) -> Self {
        UsageAnswer {
            cost: row.cost().into(),
            saved: row.saved().into(),
            failures: row.failures,
            fallbacks: row.fallbacks,
            recalled: row.recalled,
            latency_median: row.median_us.map(milliseconds),
            latency_p95: row.p95_us.map(milliseconds),
            group: std::iter::once(row.first).chain(row.second).collect(),
            requests: row.requests,
            characters: row.characters,
            duration: row.audio_ms as f64 / 1_000.0,
        }
    }
}

impl UsageList {
    /// Rows of CSV (RFC 4180), the first of which names the columns.
    pub(crate) fn to_csv(&self) -> Result<String, Problem> {
        let failed = |error: String| Problem::new(ProblemKind::Internal, error);
        let mut rows = csv::WriterBuilder::new().terminator(csv::Terminator::CRLF).from_writer(Vec::new());
        let columns = [
            "requests",
            "failures",
            "fallbacks",
            "recalled",
            "characters",
            "duration",
            "amount",
            "saved",
            "currency",
            "latency_median",
            "latency_p95",
        ];
        let head = self.by.iter().map(String::as_str).chain(columns);
        rows.write_record(head).map_err(|error| failed(error.to_string()))?;
        for item in &self.items {
            let counts = [item.requests, item.failures, item.fallbacks, item.recalled, item.characters];
            let counts = counts.map(|count| count.to_string()).into_iter().chain([item.duration.to_string()]);
            let cost = [item.cost.amount.clone(), item.saved.amount.clone(), item.cost.currency.clone()];
            let latency = [item.latency_median, item.latency_p95];
            let latency = latency.map(|told| told.map(|told| told.to_string()).unwrap_or_default());
            let row = item.group.iter().cloned().chain(counts).chain(cost).chain(latency);
            rows.write_record(row).map_err(|error| failed(error.to_string()))?;
        }
        let bytes = rows.into_inner().map_err(|error| failed(error.to_string()))?;
        String::from_utf8(bytes).map_err(|error| failed(error.to_string()))
    }
}

/// Usage of a range of days.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct UsageList {
    pub(crate) by: Vec<String>,
    pub(crate) from: String,
    pub(crate) to: String,
    pub(crate) items: Vec<UsageAnswer>,
    pub(crate) next: Option<String>,
    /// One amount per currency.
    pub(crate) total: Vec<Amount>,
    /// The total in the operator's currency, by the rates of the days; null if a rate is missing.
    pub(crate) converted: Option<Amount>,
    /// The records hold sample data of the demo. Absent otherwise.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub(crate) sample: bool,
}

/// One entry of the audit log.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct AuditAnswer {
    pub(crate) at: String,
    pub(crate) who: String,
    pub(crate) action: String,
    pub(crate) subject: String,
}

impl From<AuditEntry> for AuditAnswer {
    fn from(entry: AuditEntry) -> Self {
        AuditAnswer { at: rfc3339(entry.at), who: entry.who, action: entry.action, subject: entry.subject }
    }
}

/// Current state, and usage of today.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct OverviewAnswer {
    pub(crate) engines: Vec<EngineAnswer>,
    /// The newest dispatches.
    pub(crate) dispatches: Vec<DispatchAnswer>,
    /// Today's usage by engine.
    pub(crate) usage: Vec<UsageAnswer>,
    /// Among the newest 500 dispatches.
    pub(crate) requests: usize,
    pub(crate) failed: usize,
    /// Answered by a leg after the first.
    pub(crate) fallbacks: usize,
}
