//! Records in SQLite through Diesel: one writer that commits in groups, many
//! readers, and the queries of the product.
//!
//! Diesel's types and errors stay inside; callers see rows as plain structs
//! and [`StoreError`].

mod allowances;
mod audit;
mod canaries;
mod catalogue;
mod charges;
mod clips;
mod comparisons;
mod credentials;
mod erasure;
mod error;
mod exchanges;
mod health;
mod ids;
mod jobs;
mod ledger_check;
mod models;
mod notices;
mod people;
mod pool;
mod prompts;
mod recall;
mod retention;
mod schema;
mod states;
mod tokens;
mod transcripts;
mod usage;
mod versions;
mod words;
mod work;
mod writer;

pub use allowances::UsageQuery;
pub use audit::AuditFilter;
pub use canaries::StoredCanaryRun;
pub use comparisons::{ComparedVoice, StoredComparison, StoredRating, WholeComparison};
pub use erasure::{ErasedRecords, ErasureMode, ErasureScope};
pub use error::StoreError;
pub use ids::Identified;
pub use jobs::{JobChange, JobFilter, JobProgress, WebhookResult};
pub use ledger_check::{LedgerCheck, LedgerFault, LedgerRule};
pub use models::{
    AccessKey, App, AuditEntry, CatalogueAge, CatalogueChange, Favourite, HealthHour, LedgerEntry, Person,
    PersonChange, RetentionRule, SampleDispatch, SealedCredential, Session, StoredAllowance, StoredAttempt,
    StoredCatalogue, StoredClip, StoredDispatch, StoredExchange, StoredJob, StoredJobFile, StoredJobPiece,
    StoredNotice, StoredPromptFile, StoredRecall, StoredToken, StoredTranscript, TranscriptVersion,
};
pub use people::Grant;
pub use pool::Store;
pub use prompts::Approval;
pub use retention::RemovedRecords;
pub use states::{
    AllowanceUnit, AttemptState, ChangeKind, CredentialState, Disclosure, DispatchState, ExchangeState, HealthScope,
    JobState, LedgerKind, PersonRole, RecallPolicy, RetentionKind, VersionedKind,
};
pub use usage::{GroupBy, UsageTotal};
pub use versions::{DocumentVersion, NewVersion, VersionOrigin};
pub use work::DispatchFilter;
pub use writer::Durability;
