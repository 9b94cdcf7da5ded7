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
    /// Headers beside those of the access.
    pub headers: &'a Templates,
    /// Query parameters beside those of the access.
    pub query: &'a Templates,
    /// What is sent.
    pub body: Body<'a>,
}

/// The body of a call.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Body<'a> {
    /// Nothing.
    Empty,
    /// The template of a JSON document.
    Json(&'a str),
    /// The template of a text of any media type.
    Text {
        /// The template.
        text: &'a str,
        /// Its media type; plain text unless given.
        content_type: Option<&'a str>,
    },
    /// Fields of a form (`application/x-www-form-urlencoded`).
    Form(&'a Templates),
    /// Parts by template; `audio` names the part that carries the audio.
    Multipart {
        /// Parts of text (RFC 7578).
        parts: &'a Templates,
        /// The name of the part that holds the audio.
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
            /// Header fields by template; empty ones are omitted.
            #[serde(default)]
            pub headers: $crate::sheet::Templates,
            /// Query parameters by template; empty ones are omitted.
            #[serde(default)]
            pub query: $crate::sheet::Templates,
            /// The body, as JSON by template.
            #[serde(default)]
            pub json: Option<String>,
            /// The body, as text by template.
            #[serde(default)]
            pub text: Option<String>,
            /// Media type of `text` (default: plain text).
            #[serde(default)]
            pub content_type: Option<String>,
            /// The body, as a form; empty fields are omitted.
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

/// How long the values of a step are kept.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Remember {
    /// For this request only.
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
        /// Values for later templates, as `kept.NAME`: a JSONPath into the answer, or
        /// `header:NAME`.
        #[serde(default)]
        pub keep: Templates,
        /// How long values are kept; remembered values are requested once.
        #[serde(default)]
        pub remember: Remember,
    }
}

request! {
    /// A call for each numbered part of the audio.
    pub struct Pieces {
        /// Bytes of a part; the last one may be shorter.
        #[serde(default = "quarter_megabyte")]
        pub bytes: u64,
    }
}

request! {
    /// A call that is repeated until the work is done.
    pub struct Poll {
        /// Place of the state (JSONPath). If missing, status 200 means done and 202 not yet.
        #[serde(default)]
        pub state: Option<String>,
        /// States of success.
        #[serde(default)]
        pub done: Vec<Scalar>,
        /// States of failure; `[[errors]]` give their causes.
        #[serde(default)]
        pub failed: Vec<Scalar>,
        /// As in a step.
        #[serde(default)]
        pub keep: Templates,
        /// Seconds before the first poll; each later pause is 1.5 times as long.
        #[serde(default = "quarter")]
        pub first: f64,
        /// Longest pause between two polls, in seconds.
        #[serde(default = "five")]
        pub longest: f64,
        /// Seconds after which the request has timed out.
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

/// Place of the result in the last answer.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(untagged)]
pub enum Answer {
    /// `"audio"`: the body is the audio, streamed.
    Plain(PlainAnswer),
    /// `{ base64 = "$.path" }`: base64 in JSON, decoded as it is received.
    Base64 {
        /// JSONPath (RFC 9535) of the audio in the answer.
        base64: String,
    },
    /// `{ link = "$.path" }`: URL of the download.
    Link {
        /// JSONPath (RFC 9535) of the URL in the answer.
        link: String,
        /// Send the credential there too; only at the origin of the endpoint.
        #[serde(default)]
        access: bool,
    },
}

/// The only plain form of an answer.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum PlainAnswer {
    /// The body is the audio.
    Audio,
}

/// Identifies a message: any value at a place, or a certain value.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Sign {
    /// A JSONPath.
    pub at: String,
    /// The value that is found there; any value unless given.
    #[serde(default)]
    pub equals: Option<Scalar>,
}

/// How messages carry audio.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(untagged)]
pub enum SocketAudio {
    /// `"binary"`: binary messages are audio.
    Plain(PlainSocketAudio),
    /// `{ base64 = "$.path" }`: base64 in JSON messages.
    Base64 {
        /// JSONPath (RFC 9535) of the audio in a message.
        base64: String,
    },
}

/// The only plain form.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum PlainSocketAudio {
    /// Binary messages are the audio.
    Binary,
}

/// `[synthesis.socket]`: the call is a WebSocket (RFC 6455) that delivers audio.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct SpeakingSocket {
    /// `Sec-WebSocket-Protocol`.
    #[serde(default)]
    pub protocol: Option<String>,
    /// JSON messages by template, sent first.
    #[serde(default)]
    pub opening: Vec<String>,
    /// Message to wait for before the text is sent.
    #[serde(default)]
    pub ready: Option<Sign>,
    /// JSON messages by template that carry the text.
    #[serde(default)]
    pub send: Vec<String>,
    /// How messages carry the audio.
    pub audio: SocketAudio,
    /// The last message (default: the engine closes).
    #[serde(default)]
    pub done: Option<Sign>,
    /// Word times in messages.
    #[serde(default)]
    pub words: Option<super::WordPaths>,
}

/// `[recognition.socket]`: the call is a WebSocket that takes audio.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct HearingSocket {
    /// The requested subprotocol (RFC 6455, section 1.9).
    #[serde(default)]
    pub protocol: Option<String>,
    /// JSON messages by template, sent first.
    #[serde(default)]
    pub opening: Vec<String>,
    /// Message to wait for before audio is sent.
    #[serde(default)]
    pub ready: Option<Sign>,
    /// A JSON message by template for each piece of audio, with `audio.base64` (default: binary
    /// messages).
    #[serde(default)]
    pub piece: Option<String>,
    /// Bytes of audio in a message.
    #[serde(default = "four_kilobytes")]
    pub bytes: u64,
    /// How many times faster than real time audio may be sent (default: as fast as it is accepted).
    #[serde(default)]
    pub realtime_factor: Option<f64>,
    /// JSON messages by template, sent after the audio.
    #[serde(default)]
    pub close: Vec<String>,
    /// Messages that hold a result, read by `[recognition.transcript]`.
    pub result: Sign,
    /// Results that will not change (default: all).
    #[serde(default)]
    pub settled: Option<Sign>,
    /// Identifies a stretch of speech (JSONPath): a later result replaces an earlier one with the
    /// same value.
    #[serde(default)]
    pub line: Option<String>,
    /// The last message (default: the engine closes).
    #[serde(default)]
    pub done: Option<Sign>,
}

fn four_kilobytes() -> u64 {
    4 << 10
}
