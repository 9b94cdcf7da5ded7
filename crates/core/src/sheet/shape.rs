//! The shape of a sheet: every table and key, with its default.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use super::Access;
use crate::{Cause, Tariff, Voice};

/// Where an engine runs.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Site {
    Cloud,
    Local,
}

/// Which addresses it may be called at.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Network {
    /// Private and loopback addresses are refused.
    #[default]
    Public,
    Private,
}

/// How it is reached.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Driver {
    #[default]
    Http,
    Process,
}

/// How one gets access, for people.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Guide {
    #[serde(default)]
    pub steps: Vec<String>,
}

/// `[process]`: a local program. Never a shell.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
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
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct FormatSpec {
    /// The media type, without `rate`.
    #[serde(rename = "type")]
    pub media_type: String,
    /// Hertz, the best first.
    pub rates: Vec<u32>,
    /// Bits a second, where the engine has a fixed one.
    #[serde(default)]
    pub bitrate: Option<u32>,
    /// What the engine calls it, where that is not the key.
    #[serde(default)]
    pub tag: Option<String>,
}

/// What an engine accepts at once.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
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
}

/// A model of an engine.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Model {
    pub name: String,
    /// What it is for, in a few words.
    #[serde(default)]
    pub note: String,
}

/// Where the audio lies in the answer.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(untagged)]
pub enum Answer {
    /// `"audio"`: the body is the audio, streamed.
    Plain(PlainAnswer),
    /// `{ base64 = "$.path" }`: text in JSON, decoded as it streams in.
    Base64 { base64: String },
}

/// The one plain form of an answer.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum PlainAnswer {
    Audio,
}

/// How a program is given its text.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum ArgumentText {
    #[default]
    Stdin,
    /// As the last argument, after `--`.
    Argument,
}

/// How a program hands over or takes audio.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum LocalAudio {
    /// Standard output (synthesis) or input (recognition).
    #[default]
    Stream,
    /// A temporary file, whose path the arguments name as `{{ file }}`.
    File,
}

/// The request of one call, as templates.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CallTemplate<'a> {
    /// `METHOD /path`.
    pub call: &'a str,
    pub headers: &'a BTreeMap<String, String>,
    pub query: &'a BTreeMap<String, String>,
    pub body: Body<'a>,
}

/// The body of a call.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Body<'a> {
    Empty,
    Json(&'a str),
    Text {
        text: &'a str,
        content_type: Option<&'a str>,
    },
    Form(&'a BTreeMap<String, String>),
    /// Parts by template; `audio` names the part that carries the audio.
    Multipart {
        parts: &'a BTreeMap<String, String>,
        audio: Option<&'a str>,
    },
    /// The audio itself.
    Audio,
}

macro_rules! call_members {
    ($(#[$meta:meta])* pub struct $name:ident { $($rest:tt)* }) => {
        $(#[$meta])*
        #[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
        #[serde(deny_unknown_fields)]
        pub struct $name {
            /// `METHOD /path` by template (http driver).
            #[serde(default)]
            pub call: Option<String>,
            #[serde(default)]
            pub headers: BTreeMap<String, String>,
            #[serde(default)]
            pub query: BTreeMap<String, String>,
            #[serde(default)]
            pub json: Option<String>,
            #[serde(default)]
            pub text: Option<String>,
            /// The media type of `text`; plain text unless said.
            #[serde(default)]
            pub content_type: Option<String>,
            #[serde(default)]
            pub form: Option<BTreeMap<String, String>>,
            #[serde(default)]
            pub multipart: Option<BTreeMap<String, String>>,
            /// Arguments by template (process driver).
            #[serde(default)]
            pub arguments: Vec<String>,
            #[serde(default)]
            pub limit: Limits,
            #[serde(default)]
            pub models: Vec<Model>,
            #[serde(default)]
            pub formats: BTreeMap<String, FormatSpec>,
            $($rest)*
        }

        impl $name {
            pub(super) fn bodies(&self) -> usize {
                [self.json.is_some(), self.text.is_some(), self.form.is_some(), self.multipart.is_some()]
                    .into_iter()
                    .filter(|present| *present)
                    .count()
            }

            fn written_body(&self) -> Body<'_> {
                match (&self.json, &self.text, &self.form) {
                    (Some(json), ..) => Body::Json(json),
                    (_, Some(text), _) => Body::Text { text, content_type: self.content_type.as_deref() },
                    (.., Some(form)) => Body::Form(form),
                    _ => Body::Empty,
                }
            }
        }
    };
}

call_members! {
    /// `[synthesis]`.
    pub struct Synthesis {
        #[serde(default)]
        pub answer: Option<Answer>,
        /// How a program is given its text.
        #[serde(default)]
        pub input: ArgumentText,
        /// How a program hands over its audio.
        #[serde(default)]
        pub output: LocalAudio,
        pub voices: Vec<Voice>,
    }
}

call_members! {
    /// `[recognition]`.
    pub struct Recognition {
        /// The body is the audio itself.
        #[serde(default)]
        pub raw: bool,
        /// The multipart part that carries the audio.
        #[serde(default)]
        pub audio: Option<String>,
        /// How a program is given the audio.
        #[serde(default)]
        pub input: LocalAudio,
        /// Tags it understands; empty: any.
        #[serde(default)]
        pub languages: Vec<String>,
        #[serde(default)]
        pub transcript: Option<TranscriptPaths>,
        #[serde(default)]
        pub lines: Option<LineWords>,
    }
}

impl Synthesis {
    /// The request of the http driver.
    pub fn call_template(&self) -> CallTemplate<'_> {
        let body = match &self.multipart {
            Some(parts) => Body::Multipart { parts, audio: None },
            None => self.written_body(),
        };
        CallTemplate {
            call: self.call.as_deref().unwrap_or_default(),
            headers: &self.headers,
            query: &self.query,
            body,
        }
    }
}

impl Recognition {
    /// The request of the http driver.
    pub fn call_template(&self) -> CallTemplate<'_> {
        let body = match &self.multipart {
            _ if self.raw => Body::Audio,
            Some(parts) => Body::Multipart { parts, audio: self.audio.as_deref() },
            None => self.written_body(),
        };
        CallTemplate {
            call: self.call.as_deref().unwrap_or_default(),
            headers: &self.headers,
            query: &self.query,
            body,
        }
    }
}

/// The unit of word times.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum TimeUnit {
    #[default]
    Seconds,
    Milliseconds,
}

impl TimeUnit {
    /// Seconds in one unit.
    pub fn seconds(self) -> f64 {
        match self {
            TimeUnit::Seconds => 1.0,
            TimeUnit::Milliseconds => 0.001,
        }
    }
}

/// Where a transcript lies in a JSON answer (JSONPath, RFC 9535). The word
/// members are relative to each node that `words` finds.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct TranscriptPaths {
    pub text: String,
    #[serde(default)]
    pub language: Option<String>,
    #[serde(default)]
    pub words: Option<String>,
    #[serde(default)]
    pub word: Option<String>,
    #[serde(default)]
    pub start: Option<String>,
    #[serde(default)]
    pub end: Option<String>,
    #[serde(default)]
    pub confidence: Option<String>,
    #[serde(default)]
    pub unit: TimeUnit,
    /// Confidences run to 100 rather than to 1.
    #[serde(default)]
    pub percent: bool,
}

/// A program that prints a line for each word: `text start end confidence`.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct LineWords {
    /// Words that stand for silence and noise.
    #[serde(default)]
    pub ignore: Vec<String>,
    /// `that(2)` is a way of saying `that`.
    #[serde(default)]
    pub variants: bool,
    #[serde(default)]
    pub unit: TimeUnit,
}

/// One rule that turns an engine's error into a cause.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
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
}

/// A text, a number or a truth value.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
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

/// An engine, described.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
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
    #[serde(default)]
    pub driver: Driver,
    #[serde(default)]
    pub guide: Guide,
    #[serde(default)]
    pub access: Access,
    #[serde(default)]
    pub process: Option<ProcessSpec>,
    #[serde(default)]
    pub synthesis: Option<Synthesis>,
    #[serde(default)]
    pub recognition: Option<Recognition>,
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

    /// Models of one kind of work, by name.
    pub fn model_names(&self, work: crate::Work) -> Vec<&str> {
        let models = match work {
            crate::Work::Synthesis => self.synthesis.as_ref().map(|s| &s.models),
            crate::Work::Recognition => self.recognition.as_ref().map(|r| &r.models),
        };
        models.into_iter().flatten().map(|model| model.name.as_str()).collect()
    }
}
