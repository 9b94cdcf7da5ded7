//! What a request may ask of an engine beyond text and voice, model by model.

use std::collections::BTreeMap;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// A number between two ends.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct RangeControl {
    pub least: f64,
    pub most: f64,
    /// Given where the request asks for nothing.
    #[serde(default)]
    pub neutral: Option<f64>,
    /// Models that take it; all of them where none is named.
    #[serde(default)]
    pub models: Vec<String>,
}

/// A manner of speaking, by name.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct StyleControl {
    /// Names it takes; those that each voice lists where none is named.
    #[serde(default)]
    pub names: Vec<String>,
    /// The strengths there are, from 0 to 1; any where this is missing and
    /// `graded` is set.
    #[serde(default)]
    pub strengths: Vec<f64>,
    /// A strength can be told.
    #[serde(default)]
    pub graded: bool,
    /// Emotions (EmotionML 1.0) and the style that says each: a category, or a
    /// dimension with its direction, as `valence+` or `arousal-`.
    #[serde(default)]
    pub emotions: BTreeMap<String, String>,
    #[serde(default)]
    pub models: Vec<String>,
}

/// A text of limited length.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct TextControl {
    #[serde(default = "thousand")]
    pub characters: u64,
    #[serde(default)]
    pub models: Vec<String>,
}

/// So many of something.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct CountControl {
    pub most: u64,
    #[serde(default)]
    pub models: Vec<String>,
}

/// Something that can be switched on.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct SwitchControl {
    #[serde(default)]
    pub models: Vec<String>,
}

fn thousand() -> u64 {
    1_000
}

/// `[synthesis.controls]`.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct SpeakingControls {
    /// Factor of the ordinary speed.
    #[serde(default)]
    pub rate: Option<RangeControl>,
    /// Semitones from the ordinary pitch.
    #[serde(default)]
    pub pitch: Option<RangeControl>,
    /// Decibels from the ordinary level.
    #[serde(default)]
    pub volume: Option<RangeControl>,
    #[serde(default)]
    pub style: Option<StyleControl>,
    #[serde(default)]
    pub direction: Option<TextControl>,
    /// 0 to 1: how much one take differs from another.
    #[serde(default)]
    pub variation: Option<RangeControl>,
    #[serde(default)]
    pub seed: Option<RangeControl>,
}

/// `[recognition.controls]`.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct HearingControls {
    /// Words that are likely.
    #[serde(default)]
    pub hints: Option<CountControl>,
    /// What was said before.
    #[serde(default)]
    pub context: Option<TextControl>,
    /// 0 to 1: how far it may stray from the likeliest words.
    #[serde(default)]
    pub variation: Option<RangeControl>,
    /// Who speaks.
    #[serde(default)]
    pub speakers: Option<SwitchControl>,
    /// Other readings.
    #[serde(default)]
    pub alternatives: Option<CountControl>,
}

/// Whether a control whose models are these is there with a model.
pub(crate) fn takes(models: &[String], model: Option<&str>) -> bool {
    models.is_empty() || model.is_some_and(|model| models.iter().any(|has| has == model))
}
