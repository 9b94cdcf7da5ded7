//! The way of one request: admit → parse → plan → recall → attempt →
//! deliver → settle. One module each; nothing goes back.
//!
//! There is no HTTP type here: fronts turn their requests into
//! [`SynthesisRequest`] and [`RecognitionRequest`] and deliver what comes out.
//! Attempts and their records run in a task of the gateway that outlives the
//! request; a caller that leaves is noticed by what it dropped.

mod alerts;
mod assembly;
mod clock;
mod content_hash;
mod desk;
mod dispatch;
mod engines;
mod error;
mod events;
mod exchange;
mod intake;
mod jobs;
mod library;
mod live;
mod metrics;
mod narration;
mod planning;
mod provenance;
mod storage;
mod traces;

use std::sync::Arc;

pub use alerts::{Mail, MailSecurity};
pub(crate) use clock::today;
pub use clock::{day_of, micros_of_day, now_micros, rfc3339};
pub use content_hash::{content_hash, content_hash_of_file};
pub use desk::{
    Credit, CreditView, DispatchDetails, Erasure, NewKey, NewSession, Overview, ReconciledStatement, Retention,
    RetentionRun, UsageReport, new_access_key,
};
pub use dispatch::admit::{Caller, CallerRole, KeyLimits};
pub use dispatch::allowances::AllowanceView;
pub use dispatch::breakers::BreakerView;
pub use dispatch::caller_limits::RequestsLeft;
pub use dispatch::channels::RecognisedChannel;
pub use dispatch::completion::Completion;
pub use dispatch::deliver::{AudioBody, BodyError};
pub use dispatch::health::{HOURS_KEPT, MeasuredHealth, Percentiles};
pub use dispatch::hear::{LanguageSource, Recognised, RecognitionRequest};
pub use dispatch::limiter::Load;
pub use dispatch::recalled::{CacheOutcome, CacheWish, RecalledAudio};
pub use dispatch::speak::SynthesisRequest;
pub use dispatch::tokens::{Page, ReplayScope, Token, TokenView};
pub use dispatch::utterance::{Cue, Utterance};
pub use engines::catalogue::{CatalogueState, Changes};
pub use engines::check::{CheckDepth, Claim, Matrix, Verdict};
pub use engines::credentials::{CredentialCheck, CredentialView, RootKeySource, RootKeys};
pub use engines::registry::{EngineState, Registry};
pub use engines::sheets::Host;
pub use engines::tariffs::{TariffInForce, TariffSource};
pub use error::{CredentialFault, FailedAttempt, GatewayError};
pub use events::{Event, Events};
pub use exchange::{
    APOLOGY, Attachment, ConversationEvent, ConversationOrder, ConversationRequest, ConversationSession, ExchangeEnd,
    ExchangeEvent, ExchangeOrder, ExchangeRequest, ExchangeSession, ReplyWish, Said, TurnTaking,
};
pub use intake::hosts::check_host;
pub use intake::parse::TextInput;
pub use intake::recording::{GivenAudio, SalvagedAudio, salvage};
pub use intake::resources::{InsertedSound, MOST_SOUND, Resources};
pub use jobs::{Dictation, JobEstimate, JobView, JobWork, JobsPlace, NewJob, Track, Webhooks};
pub use library::canaries::CanaryView;
pub use library::comparisons::ComparisonView;
pub use library::lexicons::{Lexicons, NewLexicon, StoredLexicon};
pub use library::presets::{OwnPreset, Presets};
pub use library::prompts::{PromptLine, PromptSet, PromptState};
pub use library::transcript_rules::AppRules;
pub use library::transcripts::KeptTranscript;
pub use live::{LiveEvent, LiveRequest, LiveSession};
use metrics::Metrics;
pub use narration::{NarrationEvent, NarrationOrder, NarrationSession};
pub use planning::estimate::Estimate;
pub use planning::hearers::HearerWish;
pub use planning::languages::ComparedLanguage;
pub use planning::lint::{Lint, lint};
pub use planning::plan::{PlannedCall, Unsupported};
pub use planning::preview::{LegPreview, PreviewedRequest, RoutePreview};
pub use planning::render_plan::RenderPlan;
pub use provenance::{Provenance, ProvenanceSignature, read_provenance};
pub use storage::StorageRoom;
pub use traces::Traces;

// Records are returned as the store has them.
pub use dispatcher_store::{
    AccessKey, App, Approval, AuditEntry, AuditFilter, CatalogueChange, ComparedVoice, Disclosure, DispatchFilter,
    DispatchState, DocumentVersion, ErasureMode, ErasureScope, ExchangeState, GroupBy, HealthScope, JobFilter,
    JobState, LedgerCheck, LedgerEntry, LedgerFault, LedgerRule, Person, PersonChange, PersonRole, RecallPolicy,
    RetentionKind, SampleDispatch, Session, StoredAttempt, StoredCanaryRun, StoredClip, StoredComparison,
    StoredDispatch, StoredExchange, StoredJobFile, StoredNotice, StoredPromptFile, StoredToken, StoredTranscript,
    TranscriptVersion, UsageTotal, VersionedKind,
};

use dispatcher_store::Store;

/// The gateway. Cheap to clone.
#[derive(Clone)]
pub struct Gateway {
    pub(crate) inner: Arc<Inner>,
}

pub(crate) struct Inner {
    pub(crate) store: Store,
    pub(crate) roots: RootKeys,
    pub(crate) host: Host,
    pub(crate) registry: parking_lot::RwLock<Arc<Registry>>,
    pub(crate) alerts: alerts::Alerts,
    pub(crate) events: events::Announcer,
    pub(crate) grants: dispatch::admit::GrantCache,
    pub(crate) credentials: engines::credentials::Cache,
    pub(crate) metrics: Metrics,
    pub(crate) limiters: dispatch::limiter::Limiters,
    pub(crate) breakers: dispatch::breakers::Breakers,
    pub(crate) hedge_budgets: dispatch::hedge::HedgeBudgets,
    pub(crate) health: dispatch::health::HealthBook,
    pub(crate) flights: dispatch::recalled::Flights,
    pub(crate) tokens: dispatch::tokens::TokenBook,
    pub(crate) allowances: dispatch::allowances::AllowanceBook,
    pub(crate) caller_limits: dispatch::caller_limits::CallerLimits,
    pub(crate) congestion: dispatch::congestion::Congestion,
    pub(crate) texts: intake::texts::Texts,
    /// Files of clips and their records change together.
    pub(crate) clip_changes: tokio::sync::Mutex<()>,
    /// Held while a word is added to the current version of a lexicon.
    pub(crate) lexicon_changes: tokio::sync::Mutex<()>,
    /// Held while a canary runs.
    pub(crate) canary_turn: tokio::sync::Mutex<()>,
    pub(crate) clips_in_use: library::clips::ClipsInUse,
    pub(crate) rule_book: library::transcript_rules::RuleBook,
    pub(crate) jobs: jobs::Jobs,
    /// Codec work at once: as many as there are cores.
    pub(crate) codecs: Arc<tokio::sync::Semaphore>,
    /// Requests in work, so that a shutdown can wait for them.
    pub(crate) running: tokio_util::task::TaskTracker,
}

impl Gateway {
    /// A gateway over records, with the engines and routes of a registry.
    /// What a crash left open is marked and charged first.
    ///
    /// # Errors
    /// When the records cannot be read.
    pub async fn start(store: Store, roots: RootKeys, registry: Registry, host: Host) -> Result<Gateway, GatewayError> {
        let now = now_micros();
        let uncertain = store.mark_uncertain(now, day_of(now)).await?;
        if uncertain > 0 {
            tracing::warn!(uncertain, "attempts that an earlier run left open were charged as held");
        }
        let cores = std::thread::available_parallelism().map_or(2, usize::from);
        let gateway = Gateway {
            inner: Arc::new(Inner {
                store,
                roots,
                host,
                registry: parking_lot::RwLock::new(Arc::new(registry)),
                alerts: alerts::Alerts::default(),
                events: events::Announcer::default(),
                grants: dispatch::admit::GrantCache::default(),
                credentials: engines::credentials::Cache::default(),
                metrics: Metrics::default(),
                limiters: dispatch::limiter::Limiters::default(),
                breakers: dispatch::breakers::Breakers::default(),
                hedge_budgets: dispatch::hedge::HedgeBudgets::default(),
                health: dispatch::health::HealthBook::default(),
                flights: dispatch::recalled::Flights::default(),
                tokens: dispatch::tokens::TokenBook::default(),
                allowances: dispatch::allowances::AllowanceBook::default(),
                caller_limits: dispatch::caller_limits::CallerLimits::default(),
                congestion: dispatch::congestion::Congestion::new(cores),
                texts: intake::texts::Texts::default(),
                clip_changes: tokio::sync::Mutex::default(),
                lexicon_changes: tokio::sync::Mutex::default(),
                canary_turn: tokio::sync::Mutex::default(),
                clips_in_use: library::clips::ClipsInUse::default(),
                rule_book: library::transcript_rules::RuleBook::default(),
                jobs: jobs::Jobs::default(),
                codecs: Arc::new(tokio::sync::Semaphore::new(cores)),
                running: tokio_util::task::TaskTracker::new(),
            }),
        };
        gateway.finish_root_change("host").await?;
        gateway.load_sheets().await?;
        gateway.load_tariffs().await?;
        gateway.load_catalogues().await?;
        gateway.load_routes().await?;
        gateway.load_origins().await?;
        gateway.load_allowances().await?;
        gateway.load_presets().await?;
        gateway.load_lexicons().await?;
        gateway.load_transcript_rules().await?;
        gateway.keep_retention();
        gateway.keep_catalogues();
        gateway.keep_health().await?;
        gateway.keep_usage();
        gateway.keep_watch().await?;
        gateway.keep_canaries();
        gateway.resume_checks().await?;
        if !gateway.inner.host.jobs.as_ref().is_some_and(|jobs| jobs.held) {
            gateway.resume_jobs().await?;
        }
        Ok(gateway)
    }

    /// Work that takes a while, as on audio: in its turn, off the async threads.
    ///
    /// # Errors
    /// When the work panicked.
    pub async fn in_turn<T: Send + 'static>(
        &self,
        work: impl FnOnce() -> T + Send + 'static,
    ) -> Result<T, GatewayError> {
        let closed = |_| GatewayError::Contradiction("the turns of codec work are closed");
        let turn = self.inner.codecs.clone().acquire_owned().await.map_err(closed)?;
        let done = tokio::task::spawn_blocking(move || {
            let done = work();
            drop(turn);
            done
        });
        Ok(done.await?)
    }

    /// How busy an engine with limits is; `None` if it has none.
    pub fn load(&self, sheet: &dispatcher_core::Sheet) -> Option<Load> {
        self.inner.limiters.load(&sheet.name, &sheet.pace)
    }

    /// What has been counted, as OpenMetrics text (version 1.0.0).
    ///
    /// # Errors
    /// When it cannot be written as text, which no name of an engine makes happen.
    pub fn metrics(&self) -> Result<String, std::fmt::Error> {
        self.inner.metrics.render(&self.inner.breakers.views())
    }

    /// The engines and routes in force.
    pub fn registry(&self) -> Arc<Registry> {
        self.inner.registry.read().clone()
    }

    pub(crate) fn replace_registry(&self, registry: Registry) {
        *self.inner.registry.write() = Arc::new(registry);
    }

    /// Whether anything is in work.
    pub fn is_busy(&self) -> bool {
        !self.inner.running.is_empty()
    }

    /// Waits for what is in work, settles it and closes the records.
    pub async fn finish(&self) {
        self.inner.running.close();
        self.inner.running.wait().await;
        if let Err(error) = self.write_health().await {
            tracing::warn!(%error, "what was measured of engines was not written");
        }
        if self.inner.host.traces.is_some() {
            let gateway = self.clone();
            // It waits for the endpoint.
            let sent = tokio::task::spawn_blocking(move || gateway.inner.host.traces.as_ref().map(Traces::finish));
            if let Err(error) = sent.await {
                tracing::warn!(%error, "the last traces could not be sent");
            }
        }
        self.inner.store.close();
    }
}
