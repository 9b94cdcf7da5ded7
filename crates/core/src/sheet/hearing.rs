//! Position of a transcript in an engine's answer.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// The unit of times.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum TimeUnit {
    /// Seconds.
    #[default]
    Seconds,
    /// Thousandths of a second.
    Milliseconds,
    /// Millionths of a second.
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

/// Places of timed words in a JSON document (JSONPath, RFC 9535). All but `words` are relative to
/// each node of `words`.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct WordPaths {
    /// JSONPath of the words of an alternative.
    pub words: String,
    /// JSONPath of the text within a word.
    pub word: String,
    /// JSONPath of the start within a word.
    #[serde(default)]
    pub start: Option<String>,
    /// JSONPath of the end within a word.
    #[serde(default)]
    pub end: Option<String>,
    /// Instead of `end`: duration of the word.
    #[serde(default)]
    pub duration: Option<String>,
    /// The unit of times.
    #[serde(default)]
    pub unit: TimeUnit,
}

/// `[recognition.transcript]`: places of a transcript in a JSON answer (JSONPath, RFC 9535).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct TranscriptPaths {
    /// All texts at the path, joined.
    pub text: String,
    /// Separator of joined texts.
    #[serde(default = "space")]
    pub join: String,
    /// JSONPath of the language.
    #[serde(default)]
    pub language: Option<String>,
    /// The region, if it is separate from the language.
    #[serde(default)]
    pub region: Option<String>,
    /// Stretches of speech, to which words and `segment_speaker` are relative (default: the whole
    /// answer).
    #[serde(default)]
    pub segments: Option<String>,
    /// JSONPath of the speaker within a segment.
    #[serde(default)]
    pub segment_speaker: Option<String>,
    /// One node per word; the paths below are relative to each.
    #[serde(default)]
    pub words: Option<String>,
    /// JSONPath of the text within a word.
    #[serde(default)]
    pub word: Option<String>,
    /// JSONPath of the start within a word.
    #[serde(default)]
    pub start: Option<String>,
    /// JSONPath of the end within a word.
    #[serde(default)]
    pub end: Option<String>,
    /// Instead of `end`: duration of the word.
    #[serde(default)]
    pub duration: Option<String>,
    /// JSONPath of the confidence within a word, from 0 to 1.
    #[serde(default)]
    pub confidence: Option<String>,
    /// JSONPath of the speaker within a word.
    #[serde(default)]
    pub speaker: Option<String>,
    /// The unit of times.
    #[serde(default)]
    pub unit: TimeUnit,
    /// Confidences are 0 to 100 instead of 0 to 1.
    #[serde(default)]
    pub percent: bool,
    /// One node for each alternative transcript.
    #[serde(default)]
    pub alternatives: Option<String>,
    /// Relative to each of these.
    #[serde(default)]
    pub alternative: Option<String>,
    /// JSONPath of the confidence within an alternative.
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
    /// Words that mean silence and noise.
    #[serde(default)]
    pub ignore: Vec<String>,
    /// `that(2)` is a variant of `that`.
    #[serde(default)]
    pub variants: bool,
    /// The unit of times.
    #[serde(default)]
    pub unit: TimeUnit,
}
