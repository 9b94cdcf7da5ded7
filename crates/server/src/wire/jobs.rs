//! Jobs in answers.

use dispatcher_core::Money;
use dispatcher_gateway::{JobView, StoredJobFile};
use serde::Serialize;
use utoipa::ToSchema;

use super::{Amount, rfc3339};

/// A job and its progress.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct JobAnswer {
    pub(crate) id: String,
    pub(crate) app: String,
    /// `synthesis` or `recognition`.
    pub(crate) work: String,
    pub(crate) title: String,
    /// `queued`, `running`, `waiting`, `done`, `failed` or `cancelled`.
    pub(crate) state: String,
    /// Reason of the state `waiting` or `failed`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) reason: Option<String>,
    pub(crate) pieces: Pieces,
    /// Seconds of audio made or transcribed so far.
    pub(crate) duration: f64,
    /// Charged so far, in the currency of `estimate`.
    pub(crate) cost: Amount,
    /// Charged so far, in each currency.
    pub(crate) costs: Vec<Amount>,
    /// Estimate before it began; its first currency.
    pub(crate) estimate: Amount,
    /// Estimate in each currency.
    pub(crate) estimates: Vec<Amount>,
    /// What is missing from the results, or was changed.
    pub(crate) warnings: Vec<String>,
    pub(crate) files: Vec<JobFile>,
    pub(crate) created: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) started: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) ended: Option<String>,
    /// When its files are removed.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) expires: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) webhook: Option<String>,
    /// When the webhook was notified of the end.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) notified: Option<String>,
    /// When the webhook, which did not answer with success, was given up.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) given_up: Option<String>,
}

/// Estimate of a job that is not added.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct JobEstimateAnswer {
    pub(crate) title: String,
    /// Number of audio files that the document becomes.
    pub(crate) files: usize,
    /// Planned number of calls.
    pub(crate) pieces: u64,
    /// Highest cost, in each currency.
    pub(crate) estimates: Vec<Amount>,
    /// Parts of the document that are not read.
    pub(crate) warnings: Vec<String>,
}

/// Pieces, each of which is one call of an engine.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct Pieces {
    pub(crate) done: i64,
    /// Planned number of pieces; it changes if another engine takes over.
    pub(crate) all: i64,
}

/// A result.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct JobFile {
    pub(crate) name: String,
    pub(crate) title: String,
    #[serde(rename = "type")]
    pub(crate) kind: String,
    pub(crate) bytes: i64,
    /// Seconds of audio of the file, or of the audio that it belongs to.
    pub(crate) duration: f64,
    pub(crate) url: String,
}

impl From<JobView> for JobAnswer {
    fn from(view: JobView) -> Self {
        let JobView { row, progress, files, estimates, warnings } = view;
        let file = |file: StoredJobFile| JobFile {
            url: format!("/api/v1/jobs/{}/files/{}", row.id, file.name),
            name: file.name,
            title: file.title,
            kind: file.media_type,
            bytes: file.bytes,
            duration: file.audio_ms as f64 / 1_000.0,
        };
        let cost = progress.costs.iter().find(|cost| cost.currency == row.currency);
        JobAnswer {
            costs: progress.costs.iter().copied().map(Amount::from).collect(),
            estimates: estimates.into_iter().map(Amount::from).collect(),
            warnings,
            files: files.into_iter().map(file).collect(),
            pieces: Pieces { done: progress.pieces, all: row.pieces.max(progress.pieces) },
            duration: progress.audio_ms as f64 / 1_000.0,
            cost: cost.copied().unwrap_or(Money::zero(row.currency)).into(),
            estimate: Money { nanos: row.estimate_nanos, currency: row.currency }.into(),
            created: rfc3339(row.created_at),
            started: row.started_at.map(rfc3339),
            ended: row.ended_at.map(rfc3339),
            expires: row.expires_at.map(rfc3339),
            id: row.id,
            app: row.app,
            work: row.work.name().to_owned(),
            title: row.title,
            state: row.state.to_string(),
            reason: row.reason,
            webhook: row.webhook,
            notified: row.notified_at.map(rfc3339),
            given_up: row.given_up_at.map(rfc3339),
        }
    }
}

/// An upload in progress.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct UploadAnswer {
    pub(crate) id: String,
    pub(crate) url: String,
    /// Maximum size in bytes.
    pub(crate) limit: u64,
}

/// A public key (RFC 7517, RFC 8037).
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct PublicKey {
    pub(crate) kty: &'static str,
    pub(crate) crv: &'static str,
    pub(crate) x: String,
    pub(crate) kid: String,
}

impl PublicKey {
    /// Of Ed25519: the key in base64url, and its name.
    pub(crate) fn ed25519(x: &str, kid: &str) -> PublicKey {
        PublicKey { kty: "OKP", crv: "Ed25519", x: x.to_owned(), kid: kid.to_owned() }
    }
}
