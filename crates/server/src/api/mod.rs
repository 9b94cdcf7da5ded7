//! The calls below `/api/v1`, a module for each kind of thing.

pub(crate) mod alerts;
pub(crate) mod apps;
pub(crate) mod credentials;
pub(crate) mod document_job;
pub(crate) mod engines;
pub(crate) mod estimates;
pub(crate) mod health;
pub(crate) mod jobs;
mod json_audio;
pub(crate) mod kept_transcripts;
pub(crate) mod lexicons;
pub(crate) mod live;
pub(crate) mod presets;
pub(crate) mod prompts;
pub(crate) mod records;
pub(crate) mod routing;
pub(crate) mod service;
pub(crate) mod session;
mod speech_request;
mod transcript_form;
mod transcript_request;
pub(crate) mod transcript_rules;
pub(crate) mod transcripts;
pub(crate) mod uploads;
pub(crate) mod utterances;
pub(crate) mod voices;

/// Small JSON bodies: records and texts. 2 MiB of text is hours of speech.
pub(crate) const SMALL_BODY: u64 = 2 << 20;
