//! Where a transcript lies in an engine's answer.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// The unit of times.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum TimeUnit {
    #[default]
    Seconds,
    Milliseconds,
    Microseconds,
    /// 100 ns.
    #[serde(rename = "100-nanoseconds")]
    HundredNanoseconds,
}

impl TimeUnit {
    /// Seconds in one unit.
    pub fn seconds(self) -> f64 {
        match self {
            TimeUnit::Seconds => 1.0,
            TimeUnit::Milliseconds => 1e-3,
            TimeUnit::Microseconds => 1e-6,
            TimeUnit::HundredNanoseconds => 1e-7,
        }
    }
}

/// Where timed words lie in a JSON document (JSONPath, RFC 9535). All but
/// `words` are relative to each node that `words` finds.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct WordPaths {
    pub words: String,
    pub word: String,
    #[serde(default)]
    pub start: Option<String>,
    #[serde(default)]
    pub end: Option<String>,
    /// In place of `end`: how long the word lasts.
    #[serde(default)]
    pub duration: Option<String>,
    #[serde(default)]
    pub unit: TimeUnit,
}

/// `[recognition.transcript]`: where a transcript lies in a JSON answer
/// (JSONPath, RFC 9535).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct TranscriptPaths {
    /// Every text that is found, joined.
    pub text: String,
    /// What stands between joined texts.
    #[serde(default = "space")]
    pub join: String,
    #[serde(default)]
    pub language: Option<String>,
    /// Where the language and its region stand apart: the region.
    #[serde(default)]
    pub region: Option<String>,
    /// Stretches of speech to which words and `segment_speaker` are relative;
    /// the whole answer where it is missing.
    #[serde(default)]
    pub segments: Option<String>,
    #[serde(default)]
    pub segment_speaker: Option<String>,
    /// One node a word; the members below are relative to each.
    #[serde(default)]
    pub words: Option<String>,
    #[serde(default)]
    pub word: Option<String>,
    #[serde(default)]
    pub start: Option<String>,
    #[serde(default)]
    pub end: Option<String>,
    /// In place of `end`: how long the word lasts.
    #[serde(default)]
    pub duration: Option<String>,
    #[serde(default)]
    pub confidence: Option<String>,
    #[serde(default)]
    pub speaker: Option<String>,
    #[serde(default)]
    pub unit: TimeUnit,
    /// Confidences run to 100 rather than to 1.
    #[serde(default)]
    pub percent: bool,
    /// One node for each other reading of the whole.
    #[serde(default)]
    pub alternatives: Option<String>,
    /// Relative to each of these.
    #[serde(default)]
    pub alternative: Option<String>,
    #[serde(default)]
    pub alternative_confidence: Option<String>,
}

fn space() -> String {
    " ".into()
}

/// A program that prints a line for each word: `text start end confidence`.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
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
