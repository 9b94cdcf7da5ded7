//! What apps and operators keep for later requests.

pub(crate) mod canaries;
pub(crate) mod clips;
pub(crate) mod comparisons;
pub(crate) mod lexicons;
pub(crate) mod presets;
pub(crate) mod prompts;
pub(crate) mod transcript_rules;
pub(crate) mod transcripts;
mod whole_utterance;
