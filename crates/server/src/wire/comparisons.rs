//! Comparisons of voices.

use dispatcher_core::Preference;
use dispatcher_gateway::{ComparedVoice, ComparisonView, StoredComparison};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::{Amount, milliseconds, rfc3339};

/// A text for several voices.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct VoiceComparisonRequest {
    /// 1 to 500 characters.
    pub(crate) text: String,
    /// 2 to 6 voices, as `engine/voice`, or routes.
    pub(crate) voices: Vec<String>,
    /// BCP 47 tag of the text.
    pub(crate) language: Option<String>,
}

/// A rating of two voices (ITU-T P.800, annex E).
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct RatingRequest {
    /// Number of the voice that was heard first.
    pub(crate) first: i64,
    /// Number of the voice that was heard after it.
    pub(crate) second: i64,
    /// The second against the first: -3 (much worse) to 3 (much better); 0 is about the same.
    pub(crate) score: i64,
}

/// A comparison in a list.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct VoiceComparisonSummary {
    pub(crate) id: String,
    pub(crate) app: String,
    pub(crate) text: String,
    pub(crate) created: String,
}

/// A comparison, and what its ratings say.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct VoiceComparison {
    #[serde(flatten)]
    pub(crate) summary: VoiceComparisonSummary,
    pub(crate) voices: Vec<ComparedVoiceAnswer>,
    /// Number of ratings.
    pub(crate) ratings: usize,
    pub(crate) preferences: Vec<PreferenceAnswer>,
}

/// A voice of a comparison.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct ComparedVoiceAnswer {
    /// From 1.
    pub(crate) number: i64,
    /// `engine/voice`.
    pub(crate) voice: String,
    pub(crate) model: Option<String>,
    /// Id of the dispatch.
    pub(crate) dispatch: Option<String>,
    pub(crate) cost: Amount,
    /// Milliseconds until the first audio.
    pub(crate) first: Option<f64>,
    /// Milliseconds until the last audio.
    pub(crate) total: Option<f64>,
    /// Seconds of audio.
    pub(crate) duration: f64,
    /// Integrated loudness in LUFS (ITU-R BS.1770).
    pub(crate) loudness: Option<f64>,
    /// Path of the audio, as WAV; null if it did not speak.
    pub(crate) audio: Option<String>,
    /// Why it did not speak.
    pub(crate) fault: Option<String>,
}

/// What the ratings of two voices say.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct PreferenceAnswer {
    /// Number of a voice.
    pub(crate) one: i64,
    /// Number of the other.
    pub(crate) other: i64,
    /// Number of ratings.
    pub(crate) count: usize,
    /// Mean score of the other against the one; above 0, the other is preferred.
    pub(crate) mean: f64,
    /// The confidence interval of 95 % is the mean, less and more this; null below two ratings.
    pub(crate) interval: Option<f64>,
    /// Number of the voice that is preferred with a confidence of 95 %; null if neither is.
    pub(crate) preferred: Option<i64>,
    /// How many times as much the other costs as the one; null if that cannot be said.
    pub(crate) price_ratio: Option<f64>,
}

impl From<StoredComparison> for VoiceComparisonSummary {
    fn from(row: StoredComparison) -> Self {
        VoiceComparisonSummary { id: row.id, app: row.app, text: row.text, created: rfc3339(row.made_at) }
    }
}

impl From<&ComparedVoice> for ComparedVoiceAnswer {
    fn from(voice: &ComparedVoice) -> Self {
        let path = || format!("/api/v1/comparisons/{}/audio/{}", voice.comparison, voice.number);
        ComparedVoiceAnswer {
            number: voice.number,
            voice: voice.voice.clone(),
            model: voice.model.clone(),
            dispatch: voice.dispatch.clone(),
            cost: voice.cost().into(),
            first: voice.first_us.map(milliseconds),
            total: voice.total_us.map(milliseconds),
            duration: voice.audio_ms as f64 / 1_000.0,
            loudness: voice.loudness.map(|loudness| (loudness * 10.0).round() / 10.0),
            audio: voice.fault.is_none().then(path),
            fault: voice.fault.clone(),
        }
    }
}

fn hundredths(number: f64) -> f64 {
    (number * 100.0).round() / 100.0
}

impl From<ComparisonView> for VoiceComparison {
    fn from(view: ComparisonView) -> Self {
        let told = |preference: &Preference| PreferenceAnswer {
            one: preference.one,
            other: preference.other,
            count: preference.count,
            mean: hundredths(preference.mean),
            interval: preference.interval.map(hundredths),
            preferred: preference.preferred(),
            price_ratio: view.price_ratio(preference.one, preference.other).map(hundredths),
        };
        VoiceComparison {
            preferences: view.preferences.iter().map(told).collect(),
            voices: view.voices.iter().map(ComparedVoiceAnswer::from).collect(),
            ratings: view.ratings.len(),
            summary: view.row.into(),
        }
    }
}
