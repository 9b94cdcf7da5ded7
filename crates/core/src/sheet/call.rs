//! Requests as a sheet writes them: the main call of a kind of work, and the
//! calls around it.

use indexmap::IndexMap;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::Scalar;

/// Templates by name, in the order of the sheet.
pub type Templates = IndexMap<String, String>;

/// The request of one call, as templates.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CallTemplate<'a> {
    /// `METHOD /path`.
    pub call: &'a str,
    pub headers: &'a Templates,
    pub query: &'a Templates,
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
    Form(&'a Templates),
    /// Parts by template; `audio` names the part that carries the audio.
    Multipart {
        parts: &'a Templates,
        audio: Option<&'a str>,
    },
    /// The audio itself.
    Audio,
}

/// Anything that a sheet describes as one request.
pub trait Request {
    /// The request as templates.
    fn call_template(&self) -> CallTemplate<'_>;
    /// How many bodies are given; one at most makes sense.
    fn bodies(&self) -> usize;
}

macro_rules! request {
    ($(#[$meta:meta])* pub struct $name:ident { $($rest:tt)* }) => {
        $(#[$meta])*
        #[derive(Debug, Clone, PartialEq, serde::Serialize, serde::Deserialize, schemars::JsonSchema)]
        #[serde(deny_unknown_fields)]
        pub struct $name {
            /// `METHOD /path` by template (http driver).
            #[serde(default)]
            pub call: Option<String>,
            /// Header fields by template; one that comes out empty is left out.
            #[serde(default)]
            pub headers: $crate::sheet::Templates,
            /// Query parameters by template; one that comes out empty is left out.
            #[serde(default)]
            pub query: $crate::sheet::Templates,
            /// The body, as JSON by template.
            #[serde(default)]
            pub json: Option<String>,
            /// The body, as text by template.
            #[serde(default)]
            pub text: Option<String>,
            /// The media type of `text`; plain text unless said.
            #[serde(default)]
            pub content_type: Option<String>,
            /// The body, as a form; a field that comes out empty is left out.
            #[serde(default)]
            pub form: Option<$crate::sheet::Templates>,
            /// The body, in parts by template.
            #[serde(default)]
            pub multipart: Option<$crate::sheet::Templates>,
            /// The part of `multipart` that carries the audio.
            #[serde(default)]
            pub audio: Option<String>,
            /// The body is the audio itself.
            #[serde(default)]
            pub raw: bool,
            $($rest)*
        }

        impl $crate::sheet::Request for $name {
            fn bodies(&self) -> usize {
                [self.json.is_some(), self.text.is_some(), self.form.is_some(), self.multipart.is_some(), self.raw]
                    .into_iter()
                    .filter(|present| *present)
                    .count()
            }

            fn call_template(&self) -> $crate::sheet::CallTemplate<'_> {
                use $crate::sheet::Body;
                let body = match (&self.json, &self.text, &self.form, &self.multipart) {
                    _ if self.raw => Body::Audio,
                    (Some(json), ..) => Body::Json(json),
                    (_, Some(text), ..) => Body::Text { text, content_type: self.content_type.as_deref() },
                    (_, _, Some(form), _) => Body::Form(form),
                    (.., Some(parts)) => Body::Multipart { parts, audio: self.audio.as_deref() },
                    _ => Body::Empty,
                };
                $crate::sheet::CallTemplate {
                    call: self.call.as_deref().unwrap_or_default(),
                    headers: &self.headers,
                    query: &self.query,
                    body,
                }
            }
        }
    };
}
pub(super) use request;

/// For how long what a step keeps is good.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Remember {
    /// For this one piece of work.
    #[default]
    Call,
    /// For every later call with the same voice.
    Voice,
    /// For every later call.
    Engine,
}

request! {
    /// A call before the main one.
    pub struct Step {
        /// What later templates name as `kept.NAME`: a JSONPath into the
        /// answer, or `header:NAME`.
        #[serde(default)]
        pub keep: Templates,
        /// For how long; what is remembered is asked for once.
        #[serde(default)]
        pub remember: Remember,
    }
}

request! {
    /// One of several numbered parts in which audio is handed over.
    pub struct Pieces {
        /// Bytes of a part; the last one may be shorter.
        #[serde(default = "quarter_megabyte")]
        pub bytes: u64,
    }
}

request! {
    /// A call that is repeated until the work is done.
    pub struct Poll {
        /// Where the state lies (JSONPath). Where this is missing, status 200
        /// is done and 202 is not yet.
        #[serde(default)]
        pub state: Option<String>,
        /// States that are good ends.
        #[serde(default)]
        pub done: Vec<Scalar>,
        /// States that are bad ends; `[[errors]]` says what they mean.
        #[serde(default)]
        pub failed: Vec<Scalar>,
        /// As in a step.
        #[serde(default)]
        pub keep: Templates,
        /// Seconds before the first look; each later one is half as long again.
        #[serde(default = "quarter")]
        pub first: f64,
        /// The longest wait between two looks, in seconds.
        #[serde(default = "five")]
        pub longest: f64,
        /// Seconds after which the work is given up.
        #[serde(default = "ten_minutes")]
        pub seconds: u64,
    }
}

fn quarter_megabyte() -> u64 {
    256 << 10
}

fn quarter() -> f64 {
    0.25
}

fn five() -> f64 {
    5.0
}

fn ten_minutes() -> u64 {
    600
}

/// Where the result lies in the last answer.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(untagged)]
pub enum Answer {
    /// `"audio"`: the body is the audio, streamed.
    Plain(PlainAnswer),
    /// `{ base64 = "$.path" }`: text in JSON, decoded as it streams in.
    Base64 { base64: String },
    /// `{ link = "$.path" }`: an address to download it from.
    Link {
        link: String,
        /// Show the credential there too; only at the endpoint's own origin.
        #[serde(default)]
        access: bool,
    },
}

/// The one plain form of an answer.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum PlainAnswer {
    Audio,
}

/// What tells one message from another: something at a place, or a certain
/// value there.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Sign {
    /// A JSONPath.
    pub at: String,
    #[serde(default)]
    pub equals: Option<Scalar>,
}

/// How audio comes in messages.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(untagged)]
pub enum SocketAudio {
    /// `"binary"`: binary messages are audio.
    Plain(PlainSocketAudio),
    /// `{ base64 = "$.path" }`: text in JSON messages that have it.
    Base64 { base64: String },
}

/// The one plain form.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum PlainSocketAudio {
    Binary,
}

/// `[synthesis.socket]`: the call is a WebSocket (RFC 6455) that speaks.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct SpeakingSocket {
    /// `Sec-WebSocket-Protocol`.
    #[serde(default)]
    pub protocol: Option<String>,
    /// JSON messages by template, sent first.
    #[serde(default)]
    pub opening: Vec<String>,
    /// What is waited for before the text is sent.
    #[serde(default)]
    pub ready: Option<Sign>,
    /// JSON messages by template that carry the text.
    #[serde(default)]
    pub send: Vec<String>,
    pub audio: SocketAudio,
    /// The last message; where it is missing, the engine's close.
    #[serde(default)]
    pub done: Option<Sign>,
    /// Where messages tell which word begins when.
    #[serde(default)]
    pub words: Option<super::WordPaths>,
}

/// `[recognition.socket]`: the call is a WebSocket that listens.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct HearingSocket {
    #[serde(default)]
    pub protocol: Option<String>,
    /// JSON messages by template, sent first.
    #[serde(default)]
    pub opening: Vec<String>,
    /// What is waited for before audio is sent.
    #[serde(default)]
    pub ready: Option<Sign>,
    /// A JSON message by template for each piece of audio, with
    /// `audio.base64`; binary messages where it is missing.
    #[serde(default)]
    pub piece: Option<String>,
    /// Bytes of audio in a message.
    #[serde(default = "four_kilobytes")]
    pub bytes: u64,
    /// How many times faster than it sounds audio may be sent; as fast as it
    /// is taken where this is missing.
    #[serde(default)]
    pub realtime_factor: Option<f64>,
    /// JSON messages by template, sent after the audio.
    #[serde(default)]
    pub close: Vec<String>,
    /// Messages that hold a result, read by `[recognition.transcript]`.
    pub result: Sign,
    /// Results that will not change again; all of them where it is missing.
    #[serde(default)]
    pub settled: Option<Sign>,
    /// What results of the same stretch of speech have in common (JSONPath):
    /// a later one takes the place of an earlier one.
    #[serde(default)]
    pub line: Option<String>,
    /// The last message; where it is missing, the engine's close.
    #[serde(default)]
    pub done: Option<Sign>,
}

fn four_kilobytes() -> u64 {
    4 << 10
}
