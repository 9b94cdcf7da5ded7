//! What is on record, as plain structs; each is a row of its table. Rows that
//! every request writes have their missing columns written as NULL, so that
//! their statement is the same each time and stays prepared. Times are microseconds since 1970 in UTC.

mod access;
mod dispatches;

use diesel::prelude::*;
use dispatcher_core::{Currency, Watched, Work};

use crate::schema::{
    audit, catalogue_changes, catalogues, clips, credentials, exchanges, favourites, health_hours, job_files,
    job_pieces, jobs, notices, prompt_files, recalled, retention_rules, transcript_versions, transcripts,
};
use crate::states::{ChangeKind, CredentialState, ExchangeState, HealthScope, JobState, RetentionKind};
use crate::words::Word;

pub use access::{AccessKey, App, Person, PersonChange, Session, StoredAllowance, StoredToken};
pub use dispatches::{LedgerEntry, SampleDispatch, StoredAttempt, StoredDispatch};

/// The last good list of an engine's voices, as JSON.
#[derive(Debug, Clone, Queryable, Selectable, Insertable, AsChangeset)]
#[diesel(table_name = catalogues, treat_none_as_null = true)]
pub struct StoredCatalogue {
    pub engine: String,
    /// Empty where none was read yet.
    pub document: String,
    pub read_at: Option<i64>,
    pub tried_at: i64,
    /// Why the last look failed.
    pub problem: Option<String>,
}

/// When an engine's list was read, without the list.
#[derive(Debug, Clone, Queryable, Selectable)]
#[diesel(table_name = catalogues)]
pub struct CatalogueAge {
    pub engine: String,
    pub read_at: Option<i64>,
    pub tried_at: i64,
    pub problem: Option<String>,
}

/// One change of an engine's list.
#[derive(Debug, Clone, Queryable, Selectable)]
#[diesel(table_name = catalogue_changes)]
pub struct CatalogueChange {
    pub engine: String,
    pub at: i64,
    pub voice: String,
    pub kind: ChangeKind,
    pub detail: String,
}

/// A voice that people marked.
#[derive(Debug, Clone, Queryable, Selectable, Insertable)]
#[diesel(table_name = favourites)]
pub struct Favourite {
    pub voice: String,
    pub by: String,
    pub at: i64,
}

/// What was measured of an engine, a voice, a model or a route in one hour.
#[derive(Debug, Clone, PartialEq, Eq, Queryable, Selectable, Insertable)]
#[diesel(table_name = health_hours)]
pub struct HealthHour {
    pub scope: HealthScope,
    pub name: String,
    #[diesel(serialize_as = Word<Work>, deserialize_as = Word<Work>)]
    pub work: Work,
    /// Hours since 1970 in UTC.
    pub hour: i64,
    pub calls: i64,
    /// Calls that failed for a reason of the engine's own.
    pub failures: i64,
    /// Answers that were given after another attempt had failed.
    pub fallbacks: i64,
    /// Microseconds until the first audio, or the transcript: an HDR histogram.
    pub first: Vec<u8>,
    /// Microseconds until the end.
    pub total: Vec<u8>,
}

/// After how many days the records of a kind are removed.
#[derive(Debug, Clone, PartialEq, Eq, Queryable, Selectable, Insertable)]
#[diesel(table_name = retention_rules)]
pub struct RetentionRule {
    pub kind: RetentionKind,
    pub days: i64,
    /// A key's id, or a person.
    pub made_by: String,
    /// Microseconds since 1970.
    pub made_at: i64,
}

/// Kept audio: its fingerprint and the hash of its content.
#[derive(Debug, Clone, Queryable, Selectable, Insertable, AsChangeset)]
#[diesel(table_name = recalled)]
pub struct StoredRecall {
    pub fingerprint: String,
    /// Who keeps it; empty where it is for all.
    pub app: String,
    pub content: String,
    pub media_type: String,
    pub bytes: i64,
    /// Milliseconds; 0 where it was not counted.
    pub audio_ms: i64,
    pub engine: String,
    pub voice: String,
    pub made_at: i64,
    pub used_at: i64,
    /// For whom it was, in the words of the app.
    pub end_user: Option<String>,
}

/// A notice of an alert. Times in microseconds.
#[derive(Debug, Clone, PartialEq, Eq, Queryable, Selectable, Insertable)]
#[diesel(table_name = notices)]
pub struct StoredNotice {
    pub id: String,
    pub rule: String,
    #[diesel(serialize_as = Word<Watched>, deserialize_as = Word<Watched>)]
    pub watched: Watched,
    /// What it is about: an engine, a credential, a voice, the disk.
    pub subject: String,
    pub detail: String,
    /// When it began, and when the message was sent.
    pub since: i64,
    pub told_at: i64,
    /// When it was over; nothing while it lasts.
    pub over_at: Option<i64>,
    /// Why it could not be sent.
    pub problem: Option<String>,
}

/// Audio that scripts insert.
#[derive(Debug, Clone, PartialEq, Eq, Queryable, Selectable, Insertable)]
#[diesel(table_name = clips)]
pub struct StoredClip {
    /// The name of its file, by its content.
    pub id: String,
    pub app: String,
    pub title: String,
    pub media_type: String,
    pub bytes: i64,
    pub audio_ms: i64,
    pub created_by: String,
    pub created_at: i64,
}

/// A file that was made of a prompt, in one of its formats.
#[derive(Debug, Clone, PartialEq, Eq, Queryable, Selectable, Insertable)]
#[diesel(table_name = prompt_files)]
pub struct StoredPromptFile {
    pub prompt_set: String,
    pub prompt: String,
    pub format: String,
    /// `Dispatch-Fingerprint` of the audio.
    pub fingerprint: String,
    pub file: String,
    pub media_type: String,
    pub bytes: i64,
    pub audio_ms: i64,
    pub dispatch: String,
    pub made_at: i64,
    pub approved_by: Option<String>,
    pub approved_at: Option<i64>,
}

/// One version of a credential, sealed.
#[derive(Clone, Queryable, Selectable, Insertable)]
#[diesel(table_name = credentials)]
pub struct SealedCredential {
    pub name: String,
    pub version: i64,
    pub engine: String,
    pub state: CredentialState,
    pub cause: Option<String>,
    /// Names of the parts, comma-separated.
    pub part_names: String,
    /// The host it may be sent to.
    pub hosts: String,
    pub wrapped_key: Vec<u8>,
    pub ciphertext: Vec<u8>,
    pub created_by: String,
    pub created_at: i64,
    pub last_used_at: Option<i64>,
    /// When it ends, as its owner says.
    pub ends_at: Option<i64>,
}

impl std::fmt::Debug for SealedCredential {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "SealedCredential({} version {}, {})", self.name, self.version, self.state)
    }
}

/// An exchange that is over. Milliseconds of the stages are from the end of
/// what the caller said.
#[derive(Debug, Clone, PartialEq, Eq, Queryable, Selectable, Insertable)]
#[diesel(table_name = exchanges)]
pub struct StoredExchange {
    pub id: String,
    pub app: String,
    /// Key, token or person.
    pub who: String,
    pub state: ExchangeState,
    /// What was wrong with the hook or an engine.
    pub fault: Option<String>,
    /// Microseconds since 1970.
    pub begun_at: i64,
    /// `None` if the caller sent text.
    pub ear_dispatch: Option<String>,
    /// Until the transcript.
    pub ear_ms: Option<i64>,
    pub said_characters: i64,
    /// Until the first text of the reply, and its last.
    pub reply_first_ms: Option<i64>,
    pub reply_ms: Option<i64>,
    pub reply_characters: i64,
    /// Until the first audio, and its last.
    pub voice_first_ms: Option<i64>,
    pub voice_ms: Option<i64>,
    pub audio_ms: i64,
    /// Ids, one a line.
    pub voice_dispatches: String,
    /// For whom it was, in the words of the app.
    pub end_user: Option<String>,
}

/// A transcript that is kept. Times in microseconds.
#[derive(Debug, Clone, PartialEq, Eq, Queryable, Selectable, Insertable)]
#[diesel(table_name = transcripts)]
pub struct StoredTranscript {
    /// That of the dispatch or job that made it.
    pub id: String,
    pub app: String,
    /// Empty where it has none.
    pub title: String,
    pub engine: String,
    pub language: Option<String>,
    pub audio_ms: i64,
    pub made_at: i64,
    pub expires_at: i64,
    /// For whom it was, in the words of the app.
    pub end_user: Option<String>,
}

/// A version of a kept transcript; the first is what was recognised.
#[derive(Debug, Clone, PartialEq, Eq, Queryable, Selectable, Insertable)]
#[diesel(table_name = transcript_versions)]
pub struct TranscriptVersion {
    pub transcript: String,
    pub version: i64,
    /// JSON.
    pub document: String,
    pub made_by: String,
    pub made_at: i64,
}

/// Long work that outlives its call.
#[derive(Debug, Clone, Queryable, Selectable, Insertable, PartialEq, Eq)]
#[diesel(table_name = jobs)]
pub struct StoredJob {
    pub id: String,
    pub app: String,
    /// Who asked for it: a key's id, or a person.
    pub by: String,
    #[diesel(serialize_as = Word<Work>, deserialize_as = Word<Work>)]
    pub work: Work,
    pub title: String,
    pub state: JobState,
    /// Why it waits or failed.
    pub reason: Option<String>,
    /// What is to be done, as JSON.
    pub request: String,
    pub pieces: i64,
    pub estimate_nanos: i64,
    #[diesel(serialize_as = Word<Currency>, deserialize_as = Word<Currency>)]
    pub currency: Currency,
    /// URL to notify of its end.
    pub webhook: Option<String>,
    /// When its webhook was notified of its end.
    pub notified_at: Option<i64>,
    /// When its webhook, which did not answer, was given up.
    pub given_up_at: Option<i64>,
    pub created_at: i64,
    pub started_at: Option<i64>,
    pub ended_at: Option<i64>,
    /// When its results go.
    pub expires_at: Option<i64>,
    /// What its reader is warned of: a JSON array of texts.
    pub warnings: String,
    /// The estimate in each currency: a JSON array of currency and billionths.
    pub estimates: String,
    /// For whom it was, in the words of the app.
    pub end_user: Option<String>,
}

/// A piece of a job that is made and kept.
#[derive(Debug, Clone, Queryable, Selectable, Insertable, PartialEq, Eq)]
#[diesel(table_name = job_pieces)]
pub struct StoredJobPiece {
    pub job: String,
    pub track: i64,
    pub piece: i64,
    /// Equal for equal calls.
    pub fingerprint: String,
    pub engine: String,
    pub dispatch: String,
    pub audio_ms: i64,
    pub made_at: i64,
}

/// A result of a job.
#[derive(Debug, Clone, Queryable, Selectable, Insertable, PartialEq, Eq)]
#[diesel(table_name = job_files)]
pub struct StoredJobFile {
    pub job: String,
    pub number: i64,
    pub name: String,
    pub title: String,
    pub media_type: String,
    pub bytes: i64,
    pub audio_ms: i64,
}

/// Who changed or used what.
#[derive(Debug, Clone, Queryable, Selectable)]
#[diesel(table_name = audit)]
pub struct AuditEntry {
    pub id: i64,
    pub at: i64,
    pub who: String,
    pub action: String,
    pub subject: String,
}
