//! The shape of a sheet: every table and key, with its default.

use std::collections::BTreeMap;

use dispatcher_markup::Dialect;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::call::request;
use super::pace::Pace;
use super::regions::Regions;
use super::{
    Access, Answer, Catalogue, DeadlineSpec, HearingControls, HearingSocket, LineWords, Pieces, Poll, SpeakingControls,
    SpeakingSocket, Step, Templates, TranscriptPaths,
};
use crate::{Cause, Tariff, Voice};

/// Where an engine runs.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Site {
    /// On machines of its provider.
    Cloud,
    /// On this machine or in this network.
    Local,
}

impl Site {
    /// The site of a word of sheets and of the API.
    pub fn of_name(name: &str) -> Option<Site> {
        [Site::Cloud, Site::Local].into_iter().find(|site| site.name() == name)
    }

    /// The word in sheets and in the API.
    pub fn name(self) -> &'static str {
        match self {
            Site::Cloud => "cloud",
            Site::Local => "local",
        }
    }
}

/// Addresses at which it may be called.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Network {
    /// Private and loopback addresses are refused.
    #[default]
    Public,
    /// Addresses of private networks may be called.
    Private,
}

/// How it is reached.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Driver {
    /// By HTTP, or by WebSocket.
    #[default]
    Http,
    /// A program on this machine.
    Process,
}

impl Driver {
    /// The word in sheets and in the API.
    pub fn name(self) -> &'static str {
        match self {
            Driver::Http => "http",
            Driver::Process => "process",
        }
    }
}

/// How to get access, for people.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Guide {
    /// What the operator does to get a credential, in order.
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
    /// What to install if it is missing.
    #[serde(default)]
    pub install: String,
}

fn sixty() -> u64 {
    60
}

fn half_gigabyte() -> u64 {
    1_024
}

/// A format that an engine delivers or accepts.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct FormatSpec {
    /// The media type, without its `rate` parameter.
    #[serde(rename = "type")]
    pub media_type: String,
    /// Hertz, the best first.
    pub sample_rates: Vec<u32>,
    /// Bits per second, if the engine has a fixed bit rate.
    #[serde(default)]
    pub bitrate: Option<u32>,
    /// The engine's name for it (default: the key).
    #[serde(default)]
    pub tag: Option<String>,
    /// Recognition: maximum number of channels (default: 1).
    #[serde(default = "mono")]
    pub channels: u8,
    /// Recognition: accepted bits per sample in WAV and FLAC (default: 16).
    #[serde(default = "sixteen")]
    pub bits: Vec<u16>,
    /// Recognition: accepts floating-point samples of 32 bits in WAV.
    #[serde(default)]
    pub float: bool,
}

fn mono() -> u8 {
    1
}

fn sixteen() -> Vec<u16> {
    vec![16]
}

/// Limits of one call.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Limits {
    /// Characters of a text.
    #[serde(default)]
    pub characters: Option<u64>,
    /// Bytes of a text in UTF-8.
    #[serde(default)]
    pub bytes: Option<u64>,
    /// Seconds of audio.
    #[serde(default)]
    pub seconds: Option<u64>,
    /// Megabytes of audio, each of 1,000,000 bytes.
    #[serde(default)]
    pub megabytes: Option<u64>,
    /// Characters and bytes count the whole document with its markup, not only its text.
    #[serde(default)]
    pub tags: bool,
}

/// A model of an engine.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Model {
    /// The name by which the engine knows it.
    pub name: String,
    /// Its purpose, in a few words.
    #[serde(default)]
    pub note: String,
}

/// How a program gets its text.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum ArgumentText {
    /// On standard input.
    #[default]
    Stdin,
    /// As the last argument, after `--`.
    Argument,
}

/// How audio is exchanged with a program.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum LocalAudio {
    /// Standard output (synthesis) or input (recognition).
    #[default]
    Stream,
    /// A temporary file, `{{ file }}` in the arguments.
    File,
}

request! {
    /// `[synthesis]`.
    pub struct Synthesis {
        /// Calls made before the main call, in order.
        #[serde(default)]
        pub before: Vec<Step>,
        /// Values kept from the answer, as in a step.
        #[serde(default)]
        pub keep: Templates,
        /// A call that is repeated until the audio is made.
        #[serde(default)]
        pub poll: Option<Poll>,
        /// A last call, whose answer is the result.
        #[serde(default)]
        pub fetch: Option<Step>,
        /// A WebSocket, in place of a call.
        #[serde(default)]
        pub socket: Option<SpeakingSocket>,
        /// Place of the audio in the answer.
        #[serde(default)]
        pub answer: Option<Answer>,
        /// Arguments by template (process driver).
        #[serde(default)]
        pub arguments: Vec<String>,
        /// How a program gets its text.
        #[serde(default)]
        pub input: ArgumentText,
        /// How a program returns its audio.
        #[serde(default)]
        pub output: LocalAudio,
        /// Limits of one call.
        #[serde(default)]
        pub limit: Limits,
        /// Supported markup; plain text if missing.
        #[serde(default)]
        pub markup: Option<Dialect>,
        /// Options of the speech.
        #[serde(default)]
        pub controls: SpeakingControls,
        /// The models, the default first.
        #[serde(default)]
        pub models: Vec<Model>,
        /// The formats, by the names that the engine has for them.
        #[serde(default)]
        pub formats: BTreeMap<String, FormatSpec>,
        /// The voices that the sheet itself lists.
        #[serde(default)]
        pub voices: Vec<Voice>,
        /// Instead of the sheet's `[tariff]`.
        #[serde(default)]
        pub tariff: Option<Tariff>,
        /// Deadlines.
        #[serde(default)]
        pub deadline: DeadlineSpec,
        /// Statements of the answer about its audio, to be checked.
        #[serde(default)]
        pub claims: Claims,
    }
}

request! {
    /// `[recognition]`.
    pub struct Recognition {
        /// Calls made before the main call, in order.
        #[serde(default)]
        pub before: Vec<Step>,
        /// Values kept from the answer, as in a step.
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
        /// A WebSocket, in place of a call.
        #[serde(default)]
        pub socket: Option<HearingSocket>,
        /// Where to fetch the transcript (default: the last answer).
        #[serde(default)]
        pub answer: Option<Answer>,
        /// Arguments by template (process driver).
        #[serde(default)]
        pub arguments: Vec<String>,
        /// How a program gets the audio.
        #[serde(default)]
        pub input: LocalAudio,
        /// Limits of one call.
        #[serde(default)]
        pub limit: Limits,
        /// Options beside the text.
        #[serde(default)]
        pub controls: HearingControls,
        /// The models, the default first.
        #[serde(default)]
        pub models: Vec<Model>,
        /// The formats, by the names that the engine has for them.
        #[serde(default)]
        pub formats: BTreeMap<String, FormatSpec>,
        /// Supported language tags; empty: any.
        #[serde(default)]
        pub languages: Vec<String>,
        /// Place of the text in a JSON answer.
        #[serde(default)]
        pub transcript: Option<TranscriptPaths>,
        /// How the lines of a program carry the text.
        #[serde(default)]
        pub lines: Option<LineWords>,
        /// Instead of the sheet's `[tariff]`.
        #[serde(default)]
        pub tariff: Option<Tariff>,
        /// Deadlines.
        #[serde(default)]
        pub deadline: DeadlineSpec,
    }
}

/// `[synthesis.claims]`: statements of an answer about its audio. Each is a JSONPath (RFC 9535)
/// into the last JSON answer, or `header:NAME` of the answer with the audio. Audio that is less
/// than claimed is broken.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Claims {
    /// Bytes of the audio.
    #[serde(default)]
    pub bytes: Option<String>,
    /// Its duration.
    #[serde(default)]
    pub milliseconds: Option<String>,
    /// JSONPath of the seconds after which to ask again.
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
    /// Status to which the rule applies (default: any).
    #[serde(default)]
    pub status: Option<u16>,
    /// Text that the answer must contain.
    #[serde(default)]
    pub contains: Option<String>,
    /// A place in a JSON answer (RFC 9535) …
    #[serde(default)]
    pub at: Option<String>,
    /// … and its value (default: any value).
    #[serde(default)]
    pub equals: Option<Scalar>,
    /// Cause of the error.
    pub means: Cause,
    /// When to retry: seconds, their place in a JSON answer (JSONPath), or `header:NAME`.
    /// `Retry-After` is used without it.
    #[serde(default)]
    pub retry: Option<RetryHint>,
}

/// Place of the time to retry.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(untagged)]
pub enum RetryHint {
    /// A number of seconds.
    Seconds(u64),
    /// A JSONPath, or `header:NAME`.
    Place(String),
}

/// A text, number or boolean.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(untagged)]
pub enum Scalar {
    /// `true` or `false`.
    Truth(bool),
    /// A whole number.
    Number(i64),
    /// A text.
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

/// Description of an engine.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Sheet {
    /// Version of the sheet format: 1.
    pub sheet: u32,
    /// The name of the engine in requests, records and voice ids.
    pub name: String,
    /// The name for people; that of the engine unless given.
    #[serde(default)]
    pub title: String,
    /// Where the engine runs.
    pub site: Site,
    /// Which addresses may be called.
    #[serde(default)]
    pub network: Network,
    /// Beginning of the addresses of calls; may contain templates.
    #[serde(default)]
    pub endpoint: Option<String>,
    /// Further hosts that links in its answers may point to.
    #[serde(default)]
    pub hosts: Vec<String>,
    /// How the engine is called.
    #[serde(default)]
    pub driver: Driver,
    /// How to get a credential, for people.
    #[serde(default)]
    pub guide: Guide,
    /// How calls carry the credential.
    #[serde(default)]
    pub access: Access,
    /// Regions in which it can be called; a request can choose one.
    #[serde(default)]
    pub regions: Option<Regions>,
    /// Header fields of every call, templates with `access` and `credential`; a header of the call
    /// itself takes precedence.
    #[serde(default)]
    pub headers: Templates,
    /// With `driver = "process"`: the program.
    #[serde(default)]
    pub process: Option<ProcessSpec>,
    /// Maximum number of calls at once and per minute.
    #[serde(default)]
    pub pace: Pace,
    /// How text becomes audio.
    #[serde(default)]
    pub synthesis: Option<Synthesis>,
    /// How audio becomes text.
    #[serde(default)]
    pub recognition: Option<Recognition>,
    /// Where the engine lists its voices.
    #[serde(default)]
    pub catalogue: Option<Catalogue>,
    /// What the engine charges.
    #[serde(default = "Tariff::free")]
    pub tariff: Tariff,
    /// What errors mean, the first that fits; statuses have their usual meaning
    /// else.
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
