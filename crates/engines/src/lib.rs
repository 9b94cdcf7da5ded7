//! What a sheet says, done: the http and process drivers, the templates and
//! paths of a sheet compiled, and the one module that opens connections.
//!
//! What does not live here: routes, fallback, metering, records.

mod access;
mod answer_place;
mod base64_json;
mod call;
mod catalogue;
mod claims;
mod engine;
mod error;
mod errors;
mod fetch;
mod flow;
mod http;
mod process;
mod request;
mod socket;
mod sound;
mod template;
mod transcript;
mod wire;

pub use access::{WebhookAnswer, WebhookClient};
pub use base64_json::{AudioSplitter, ScanError};
pub use call::{AudioSource, EngineFormat, Hear, Speak};
pub use catalogue::{Turn, Turns};
pub use engine::{AudioStream, Engine, SpokenAudio, Words};
pub use error::{EngineError, KeyFileError};
pub use fetch::{FetchedBody, Fetcher};
pub use socket::LiveResult;
