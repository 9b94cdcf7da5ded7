//! Why a request was not served.

use std::time::Duration;

use dispatcher_audio::AudioError;
use dispatcher_core::{
    Adjustment, Cause, Currency, GrantRefusal, MoneyError, PlanError, SheetError, StatementError, TokenRefusal, Work,
};
use dispatcher_engines::KeyFileError;
use dispatcher_markup::{Fidelity, MarkupError};
use dispatcher_store::{RetentionKind, StoreError};
use dispatcher_vault::VaultError;

/// An attempt that came to nothing.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FailedAttempt {
    pub engine: String,
    pub cause: Cause,
    /// What the engine said, with its secrets removed. For operators: an engine
    /// may repeat what it was sent in a form that nobody has thought of.
    pub detail: String,
    pub retry_after: Option<Duration>,
}

impl FailedAttempt {
    /// The cause, with the gateway's own words where it never came to the
    /// engine or gave it up: anybody may be shown them.
    fn reason(&self) -> String {
        match self.cause {
            Cause::Absent | Cause::TimedOut | Cause::BreakerOpen | Cause::Abandoned => {
                format!("{} ({})", self.cause, self.detail)
            }
            cause => cause.to_string(),
        }
    }

    /// What anybody may be shown.
    pub fn for_anybody(&self) -> String {
        format!("{}: {}", self.engine, self.reason())
    }

    /// The same, with what the engine said.
    pub fn for_operators(&self) -> String {
        format!("{}: {} ({})", self.engine, self.cause, self.detail)
    }

    /// The warning of an answer that another engine gave.
    pub(crate) fn passed_over(&self) -> String {
        format!("{} was skipped: {}", self.engine, self.reason())
    }
}

/// What is counted in a unit.
fn subject(unit: &str) -> &'static str {
    match unit {
        "characters" | "bytes" => "text",
        _ => "audio",
    }
}

/// Errors of the gateway. The front turns each into a status in one place.
#[derive(Debug, thiserror::Error)]
pub enum GatewayError {
    #[error("the key is missing")]
    NoKey,
    #[error("the key is not valid{0}")]
    BadKey(&'static str),
    #[error("the token is not valid: {0}")]
    BadToken(&'static str),
    #[error(transparent)]
    Token(#[from] TokenRefusal),
    #[error(transparent)]
    Grant(#[from] GrantRefusal),
    #[error(
        "the name of an end user has 1 to 100 characters, no control characters, and no space at its beginning or end"
    )]
    BadEndUser,
    #[error("the token is for requests of another end user")]
    ForeignEndUser,
    #[error("{0} are kept for {1} to {2} days")]
    RetentionDays(RetentionKind, i64, i64),
    #[error("the person of this session was removed")]
    NoPerson,
    #[error("{detail}")]
    Allowance { detail: String, retry_after: Option<Duration> },
    #[error("the app {app} has no origin '{origin}'; add it with: dispatcher app change {app} --origins {origin}")]
    ForeignOrigin { app: String, origin: String },
    #[error("there is no route '{0}'")]
    NoSuchRoute(String),
    #[error(transparent)]
    Markup(#[from] MarkupError),
    #[error(transparent)]
    Plan(#[from] PlanError),
    #[error("'{name}' is a format already; give the {what} another name")]
    NameTaken { what: &'static str, name: String },
    #[error("the {} has {given} {unit}, and {engine} accepts at most {limit} per call", subject(unit))]
    TooLong { engine: String, given: u64, limit: u64, unit: &'static str },
    #[error("the text takes at least {given:.0} s to speak, and the limit of an utterance is {limit} s")]
    LongUtterance { given: f64, limit: f64 },
    #[error("the script needs {given} engine calls, and the limit is {limit}; split the script")]
    TooManyParts { given: usize, limit: usize },
    #[error("{0}")]
    NotAudio(AudioError),
    #[error("the format cannot be made: {0}")]
    Format(AudioError),
    #[error("no engine supports all of the markup")]
    Unsupported(Vec<Fidelity>),
    #[error("{engine} does not support everything in the request")]
    Uncontrolled { engine: String, adjustments: Vec<Adjustment> },
    #[error("no voice was given, and the app '{0}' has no default voice")]
    NothingWanted(String),
    #[error("all engines failed")]
    AllFailed { dispatch: String, attempts: Vec<FailedAttempt> },
    #[error(transparent)]
    Sheet(#[from] SheetError),
    #[error("the {what} {name} is used by {by}; change {by} first")]
    InUse { what: &'static str, name: String, by: String },
    #[error("{0} has no list of voices: its sheet has no [catalogue]")]
    NoCatalogue(String),
    #[error("{engine} did not list its voices ({cause}: {detail}); the previous list is kept")]
    CatalogueUnread { engine: String, cause: Cause, detail: String },
    #[error(transparent)]
    Statement(#[from] StatementError),
    #[error(
        "the statements of {0} have no mapping; set it: dispatcher statement map {0} --time COLUMN --amount COLUMN"
    )]
    NoMapping(String),
    #[error("a credit is named by 1 to 40 small letters, digits and hyphens, not '{0}'")]
    CreditName(String),
    #[error("{0} is the operator's own currency")]
    OwnCurrency(Currency),
    #[error("a currency has at most {limit} rates, not {given}")]
    ManyRates { given: usize, limit: usize },
    #[error("the text of a comparison has 1 to {limit} characters, not {given}")]
    ComparedText { given: usize, limit: usize },
    #[error("a comparison has 2 to {limit} voices, not {given}")]
    ComparedVoices { given: usize, limit: usize },
    #[error("{0}")]
    Rating(String),
    #[error("the statement has no lines")]
    EmptyStatement,
    #[error("{engine} does no {}", .work.name())]
    NoSuchWork { engine: String, work: Work },
    #[error("recognition is charged per second, minute or request, not per {}", .0.name())]
    TextTariff(dispatcher_core::Measure),
    #[error("a tariff has at most {limit} price changes and factors, not {given}")]
    LongTariff { given: usize, limit: usize },
    #[error("there is no engine '{wanted}'")]
    NoSuchEngine { wanted: String, nearest: Vec<String> },
    #[error(transparent)]
    Credential(#[from] CredentialFault),
    #[error("{0}")]
    Webhook(String),
    #[error("{0}")]
    Lexicon(MarkupError),
    #[error("the prompt '{prompt}' is {state}; make it and listen to it first")]
    Stale { prompt: String, state: &'static str },
    #[error("the clip cannot be added: {0}")]
    Sound(String),
    #[error("{0}")]
    Route(#[from] dispatcher_core::RouteError),
    #[error("{0}")]
    Alert(#[from] dispatcher_core::AlertRuleError),
    #[error("{0}")]
    Canary(#[from] dispatcher_core::CanaryError),
    #[error("a service has at most {limit} canaries; retire one first")]
    ManyCanaries { limit: usize },
    #[error("the canary has no run to accept: its last run failed, or it has not run yet")]
    NothingToAccept,
    #[error("the audio at {address} cannot be fetched: {fault}")]
    Fetch { address: String, fault: String },
    #[error(transparent)]
    TranscriptRule(#[from] dispatcher_core::RuleError),
    #[error("this service sends no mail; set [mail] in dispatcher.toml")]
    NoMail,
    #[error("mail cannot be sent: {0}")]
    Mail(String),
    #[error("the live recognition ended: {0}")]
    Live(String),
    #[error("the audio has one channel, and 'channels' needs two")]
    OneChannel,
    #[error("the app {0} has no reply hook; an operator sets it: dispatcher app change {0} --reply-hook URL")]
    NoReplyHook(String),
    #[error("the reply hook is not on this machine, and the exchange must stay on it")]
    ReplyHookElsewhere,
    #[error("the engines of this app are {}, not {}", .of_app.name(), .wanted.name())]
    OtherSite { of_app: dispatcher_core::Site, wanted: dispatcher_core::Site },
    #[error("turns by silence need audio/pcm of one channel; give that format, or use turns by push")]
    TurnsBySilence,
    #[error("no speech was recognised")]
    NothingSaid,
    #[error("the narration ended: {0}")]
    Narration(String),
    #[error("{0} cannot be sent sentence by sentence; ask for audio/pcm, audio/L16, audio/basic or audio/PCMA")]
    NotStreamable(String),
    #[error("traces cannot be sent to {0}")]
    Traces(String),
    #[error(transparent)]
    Store(#[from] StoreError),
    #[error(transparent)]
    Vault(#[from] VaultError),
    #[error(transparent)]
    Money(#[from] MoneyError),
    #[error(
        "the voices of this text are charged in {0} and in {1}; \
         choose voices whose engines charge in one currency"
    )]
    MixedCurrencies(Currency, Currency),
    #[error("the job cannot be resumed: {0}")]
    JobState(String),
    #[error("the caller left")]
    Abandoned,
    #[error("{free} bytes are free on the disk of the data folder; {reserve} bytes must stay free")]
    NoRoom { free: u64, reserve: u64 },
    #[error("the limit for the {what} of an app is {most} bytes; remove some first")]
    Quota { what: &'static str, most: u64 },
    #[error("{what}")]
    Crowded { what: String, retry_after: Duration },
    #[error("{what} cannot be read or written: {source}")]
    Files { what: &'static str, source: std::io::Error },
    #[error("the record of {what} cannot be read or written: {source}")]
    Document { what: String, source: serde_json::Error },
    #[error("this gateway has no folder for {0}")]
    NoFolder(&'static str),
    #[error("a worker ended before its work: {0}")]
    Worker(#[from] tokio::task::JoinError),
    #[error("the audio of a rehearsal cannot be made: {0}")]
    Rehearsal(String),
    #[error("the audio of a check ended early: {0}")]
    CheckAudio(String),
    #[error("an engine of the plan accepts no format: {0}")]
    NoEngineFormat(String),
    /// What the code rules out; said rather than panicked.
    #[error("internal error of the gateway: {0}")]
    Contradiction(&'static str),
}

impl GatewayError {
    /// A failure to read or write files, by what they hold.
    pub(crate) fn files(what: &'static str) -> impl Fn(std::io::Error) -> GatewayError + Copy {
        move |source| GatewayError::Files { what, source }
    }

    /// A failure to read or write a record's document, by what it is of.
    pub(crate) fn document(what: impl Into<String>) -> impl FnOnce(serde_json::Error) -> GatewayError {
        let what = what.into();
        move |source| GatewayError::Document { what, source }
    }
}

/// What is wrong with a credential that somebody gives, or with a change of
/// the root key.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum CredentialFault {
    #[error("{0} needs no credential")]
    NotNeeded(String),
    #[error("{engine} needs the parts {}, not {}", wanted.join(", "), list(given))]
    WrongParts { engine: String, wanted: Vec<String>, given: Vec<String> },
    #[error("the part '{part}' is empty or longer than {most} bytes")]
    PartSize { part: String, most: usize },
    #[error(transparent)]
    KeyFile(#[from] KeyFileError),
    #[error("the host provides the root key; set the variable of the next key, and start the service")]
    KeyOfHost,
}

fn list(names: &[String]) -> String {
    match names.is_empty() {
        true => "none".into(),
        false => names.join(", "),
    }
}
