//! The shape of a sheet: every table and key, with its default.

use std::collections::BTreeMap;

use dispatcher_markup::Dialect;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::call::request;
use super::{
    Access, Answer, Catalogue, DeadlineSpec, HearingControls, HearingSocket, LineWords, Pieces, Poll, SpeakingControls,
    SpeakingSocket, Step, Templates, TranscriptPaths,
};
use crate::{Cause, Tariff, Voice};

/// Where an engine runs.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Site {
    Cloud,
    Local,
}

/// Which addresses it may be called at.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Network {
    /// Private and loopback addresses are refused.
    #[default]
    Public,
    Private,
}

/// How it is reached.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Driver {
    #[default]
    Http,
    Process,
}

/// How one gets access, for people.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Guide {
    #[serde(default)]
    pub steps: Vec<String>,
}

/// `[process]`: a local program. Never a shell.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ProcessSpec {
    /// A name looked up in `PATH`, or an absolute path.
    pub program: String,
    /// Wall-clock limit for one call.
    #[serde(default = "sixty")]
    pub seconds: u64,
    /// Address space limit, in MiB.
    #[serde(default = "half_gigabyte")]
    pub memory: u64,
    /// What to install where it is absent.
    #[serde(default)]
    pub install: String,
}

fn sixty() -> u64 {
    60
}

fn half_gigabyte() -> u64 {
    1_024
}

/// A format that an engine makes or takes.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct FormatSpec {
    /// The media type, without its `rate` parameter.
    #[serde(rename = "type")]
    pub media_type: String,
    /// Hertz, the best first.
    pub sample_rates: Vec<u32>,
    /// Bits a second, where the engine has a fixed one.
    #[serde(default)]
    pub bitrate: Option<u32>,
    /// What the engine calls it, where that is not the key.
    #[serde(default)]
    pub tag: Option<String>,
    /// Recognition: the most channels that it takes; 1 unless given.
    #[serde(default = "mono")]
    pub channels: u8,
    /// Recognition: bits of a plain sample that it takes; 16 alone unless
    /// given. Of WAV and FLAC.
    #[serde(default = "sixteen")]
    pub bits: Vec<u16>,
    /// Recognition: it takes floating-point samples in WAV, of 32 bits.
    #[serde(default)]
    pub float: bool,
}

fn mono() -> u8 {
    1
}

fn sixteen() -> Vec<u16> {
    vec![16]
}

/// What an engine accepts at once.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Limits {
    #[serde(default)]
    pub characters: Option<u64>,
    #[serde(default)]
    pub bytes: Option<u64>,
    #[serde(default)]
    pub seconds: Option<u64>,
    #[serde(default)]
    pub megabytes: Option<u64>,
    /// Characters and bytes are counted of the whole document that is sent,
    /// its markup included, and not of its text alone.
    #[serde(default)]
    pub tags: bool,
}

/// A model of an engine.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Model {
    pub name: String,
    /// What it is for, in a few words.
    #[serde(default)]
    pub note: String,
}

/// How a program is given its text.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum ArgumentText {
    #[default]
    Stdin,
    /// As the last argument, after `--`.
    Argument,
}

/// How a program hands over or takes audio.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum LocalAudio {
    /// Standard output (synthesis) or input (recognition).
    #[default]
    Stream,
    /// A temporary file, whose path the arguments name as `{{ file }}`.
    File,
}

request! {
    /// `[synthesis]`.
    pub struct Synthesis {
        /// Calls made before, in order.
        #[serde(default)]
        pub before: Vec<Step>,
        /// As in a step: what the answer of the call leaves behind.
        #[serde(default)]
        pub keep: Templates,
        /// A call that is repeated until the audio is made.
        #[serde(default)]
        pub poll: Option<Poll>,
        /// A last call, whose answer is the result.
        #[serde(default)]
        pub fetch: Option<Step>,
        #[serde(default)]
        pub socket: Option<SpeakingSocket>,
        #[serde(default)]
        pub answer: Option<Answer>,
        /// Arguments by template (process driver).
        #[serde(default)]
        pub arguments: Vec<String>,
        /// How a program is given its text.
        #[serde(default)]
        pub input: ArgumentText,
        /// How a program hands over its audio.
        #[serde(default)]
        pub output: LocalAudio,
        #[serde(default)]
        pub limit: Limits,
        /// The markup it takes; plain text alone where this is missing.
        #[serde(default)]
        pub markup: Option<Dialect>,
        #[serde(default)]
        pub controls: SpeakingControls,
        #[serde(default)]
        pub models: Vec<Model>,
        #[serde(default)]
        pub formats: BTreeMap<String, FormatSpec>,
        #[serde(default)]
        pub voices: Vec<Voice>,
        /// In place of the sheet's own `[tariff]`.
        #[serde(default)]
        pub tariff: Option<Tariff>,
        /// How long it is waited for.
        #[serde(default)]
        pub deadline: DeadlineSpec,
        /// Where the answer states what the audio is, to be held against it.
        #[serde(default)]
        pub claims: Claims,
    }
}

request! {
    /// `[recognition]`.
    pub struct Recognition {
        /// Calls made before, in order.
        #[serde(default)]
        pub before: Vec<Step>,
        /// As in a step: what the answer of the call leaves behind.
        #[serde(default)]
        pub keep: Templates,
        /// The audio in numbered parts, between `before` and the call.
        #[serde(default)]
        pub pieces: Option<Pieces>,
        /// A call that is repeated until the transcript is made.
        #[serde(default)]
        pub poll: Option<Poll>,
        /// A last call, whose answer is the result.
        #[serde(default)]
        pub fetch: Option<Step>,
        #[serde(default)]
        pub socket: Option<HearingSocket>,
        /// Where the transcript is to be had from, if not the last answer itself.
        #[serde(default)]
        pub answer: Option<Answer>,
        /// Arguments by template (process driver).
        #[serde(default)]
        pub arguments: Vec<String>,
        /// How a program is given the audio.
        #[serde(default)]
        pub input: LocalAudio,
        #[serde(default)]
        pub limit: Limits,
        #[serde(default)]
        pub controls: HearingControls,
        #[serde(default)]
        pub models: Vec<Model>,
        #[serde(default)]
        pub formats: BTreeMap<String, FormatSpec>,
        /// Tags it understands; empty: any.
        #[serde(default)]
        pub languages: Vec<String>,
        #[serde(default)]
        pub transcript: Option<TranscriptPaths>,
        #[serde(default)]
        pub lines: Option<LineWords>,
        /// In place of the sheet's own `[tariff]`.
        #[serde(default)]
        pub tariff: Option<Tariff>,
        /// How long it is waited for.
        #[serde(default)]
        pub deadline: DeadlineSpec,
    }
}

/// `[synthesis.claims]`: where an answer states what its audio is. Each is a
/// JSONPath (RFC 9535) into the answer of JSON that came last, or
/// `header:NAME` of the answer that holds the audio. Audio that is less than
/// claimed is broken.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Claims {
    /// Bytes of the audio.
    #[serde(default)]
    pub bytes: Option<String>,
    /// How long it lasts.
    #[serde(default)]
    pub milliseconds: Option<String>,
    #[serde(default)]
    pub seconds: Option<String>,
    /// Samples of one channel.
    #[serde(default)]
    pub samples: Option<String>,
    /// SHA-256 of its bytes (FIPS 180-4), in hexadecimal or base64.
    #[serde(default)]
    pub sha256: Option<String>,
}

/// One rule that turns an engine's error into a cause.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ErrorRule {
    #[serde(default)]
    pub status: Option<u16>,
    /// Text that the answer must contain.
    #[serde(default)]
    pub contains: Option<String>,
    /// A place in an answer of JSON (RFC 9535) …
    #[serde(default)]
    pub at: Option<String>,
    /// … and what must stand there; anything at all where this is missing.
    #[serde(default)]
    pub equals: Option<Scalar>,
    pub means: Cause,
    /// When to come again: seconds, where in an answer of JSON they lie
    /// (JSONPath), or `header:NAME`. `Retry-After` is heeded without it.
    #[serde(default)]
    pub retry: Option<RetryHint>,
}

/// Where it is told when to come again.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(untagged)]
pub enum RetryHint {
    Seconds(u64),
    /// A JSONPath, or `header:NAME`.
    Place(String),
}

/// A text, a number or a truth value.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(untagged)]
pub enum Scalar {
    Truth(bool),
    Number(i64),
    Text(String),
}

impl Scalar {
    /// Whether JSON says the same; a number may also stand as text.
    pub fn is(&self, value: &serde_json::Value) -> bool {
        match self {
            Scalar::Truth(truth) => value.as_bool() == Some(*truth),
            Scalar::Number(number) => {
                value.as_i64() == Some(*number) || value.as_str() == Some(number.to_string().as_str())
            }
            Scalar::Text(text) => value.as_str() == Some(text),
        }
    }
}

/// How often an engine may be called; kept here, so that its own limit is not
/// run into.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Pace {
    /// Calls a minute, spread evenly.
    #[serde(default)]
    pub per_minute: Option<u32>,
    /// Calls that may come at once after a pause; 1 unless said.
    #[serde(default)]
    pub burst: Option<u32>,
    /// Calls in work at the same time.
    #[serde(default)]
    pub at_once: Option<u32>,
}

/// An engine, described.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Sheet {
    pub sheet: u32,
    pub name: String,
    #[serde(default)]
    pub title: String,
    pub site: Site,
    #[serde(default)]
    pub network: Network,
    #[serde(default)]
    pub endpoint: Option<String>,
    /// Further hosts that addresses in its answers may lead to.
    #[serde(default)]
    pub hosts: Vec<String>,
    #[serde(default)]
    pub driver: Driver,
    #[serde(default)]
    pub guide: Guide,
    #[serde(default)]
    pub access: Access,
    /// Header fields of every call, by template of `access` and `credential`;
    /// a call's own of the same name goes before.
    #[serde(default)]
    pub headers: Templates,
    #[serde(default)]
    pub process: Option<ProcessSpec>,
    #[serde(default)]
    pub pace: Pace,
    #[serde(default)]
    pub synthesis: Option<Synthesis>,
    #[serde(default)]
    pub recognition: Option<Recognition>,
    #[serde(default)]
    pub catalogue: Option<Catalogue>,
    #[serde(default = "Tariff::free")]
    pub tariff: Tariff,
    #[serde(default)]
    pub errors: Vec<ErrorRule>,
}

impl Sheet {
    /// A title for people: the sheet's, or the name.
    pub fn title(&self) -> &str {
        if self.title.is_empty() { &self.name } else { &self.title }
    }

    /// How one kind of work is charged.
    pub fn tariff_of(&self, work: crate::Work) -> &Tariff {
        let own = match work {
            crate::Work::Synthesis => self.synthesis.as_ref().and_then(|it| it.tariff.as_ref()),
            crate::Work::Recognition => self.recognition.as_ref().and_then(|it| it.tariff.as_ref()),
        };
        own.unwrap_or(&self.tariff)
    }

    /// How long one kind of work is waited for.
    pub fn deadline_of(&self, work: crate::Work) -> DeadlineSpec {
        let own = match work {
            crate::Work::Synthesis => self.synthesis.as_ref().map(|it| &it.deadline),
            crate::Work::Recognition => self.recognition.as_ref().map(|it| &it.deadline),
        };
        own.cloned().unwrap_or_default()
    }

    /// Models of one kind of work, by name.
    pub fn model_names(&self, work: crate::Work) -> Vec<&str> {
        let models = match work {
            crate::Work::Synthesis => self.synthesis.as_ref().map(|s| &s.models),
            crate::Work::Recognition => self.recognition.as_ref().map(|r| &r.models),
        };
        models.into_iter().flatten().map(|model| model.name.as_str()).collect()
    }
}
