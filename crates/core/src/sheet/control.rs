//! What a request may ask of an engine beyond text and voice, model by model.

use std::collections::BTreeMap;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// A number within a range.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct RangeControl {
    /// The least value.
    pub least: f64,
    /// The greatest value.
    pub most: f64,
    /// Sent if the request has no value.
    #[serde(default)]
    pub neutral: Option<f64>,
    /// Models that support it (default: all).
    #[serde(default)]
    pub models: Vec<String>,
}

/// A manner of speaking, by name.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct StyleControl {
    /// Supported names (default: those of each voice).
    #[serde(default)]
    pub names: Vec<String>,
    /// Possible strengths, from 0 to 1; any if missing and `graded` is set.
    #[serde(default)]
    pub strengths: Vec<f64>,
    /// A strength can be set.
    #[serde(default)]
    pub graded: bool,
    /// Emotions (EmotionML 1.0) and the style for each: a category, or a dimension with its
    /// direction, such as `valence+` or `arousal-`.
    #[serde(default)]
    pub emotions: BTreeMap<String, String>,
    /// The models that have the control; all unless given.
    #[serde(default)]
    pub models: Vec<String>,
}

/// A text of limited length.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct TextControl {
    /// Maximum number of characters.
    #[serde(default = "thousand")]
    pub characters: u64,
    /// The models that have the control; all unless given.
    #[serde(default)]
    pub models: Vec<String>,
}

/// A maximum number.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct CountControl {
    /// The maximum number.
    pub most: u64,
    /// The models that have the control; all unless given.
    #[serde(default)]
    pub models: Vec<String>,
}

/// An option that can be switched on.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct SwitchControl {
    /// The models that have the control; all unless given.
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
    /// Factor of the default rate.
    #[serde(default)]
    pub rate: Option<RangeControl>,
    /// Semitones from the default pitch.
    #[serde(default)]
    pub pitch: Option<RangeControl>,
    /// Decibels from the default level.
    #[serde(default)]
    pub volume: Option<RangeControl>,
    /// Ways of speaking, with a strength.
    #[serde(default)]
    pub style: Option<StyleControl>,
    /// Words about how to speak.
    #[serde(default)]
    pub direction: Option<TextControl>,
    /// 0 to 1: how much repeated takes may vary.
    #[serde(default)]
    pub variation: Option<RangeControl>,
    /// A number that gives the same audio each time.
    #[serde(default)]
    pub seed: Option<RangeControl>,
}

/// `[recognition.controls]`.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct HearingControls {
    /// Likely words.
    #[serde(default)]
    pub hints: Option<CountControl>,
    /// Preceding text.
    #[serde(default)]
    pub context: Option<TextControl>,
    /// 0 to 1: how far it may deviate from the most likely words.
    #[serde(default)]
    pub variation: Option<RangeControl>,
    /// Labels of speakers.
    #[serde(default)]
    pub speakers: Option<SwitchControl>,
    /// Alternative transcripts.
    #[serde(default)]
    pub alternatives: Option<CountControl>,
}

/// Whether a control whose models are these is there with a model.
pub(crate) fn takes(models: &[String], model: Option<&str>) -> bool {
    models.is_empty() || model.is_some_and(|model| models.iter().any(|has| has == model))
}
