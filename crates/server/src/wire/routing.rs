//! Routes, their versions, and what they would do.

use dispatcher_core::Route;
use dispatcher_gateway::{DocumentVersion, LegPreview, PlannedCall, RoutePreview};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::{Amount, AudioWish, CriteriaSchema, UtteranceRequest, Version, milliseconds};

/// A named, ordered plan.
#[derive(ToSchema)]
#[expect(dead_code, reason = "describes the JSON for the API document alone")]
pub(crate) struct RouteSchema {
    name: Option<String>,
    /// `synthesis` or `recognition`.
    work: String,
    note: Option<String>,
    /// Order in which legs are tried: `listed` (default), `cheapest`, `fastest` (as measured), or
    /// `faithful` (the leg that loses the least of the script first).
    order: Option<String>,
    /// Also call the next leg if one takes longer than 95 % of its calls of the last two hours; the first
    /// one to return audio is used (default: false). Synthesis only.
    hedge: Option<bool>,
    legs: Vec<LegSchema>,
}

/// One engine of a route.
#[derive(ToSchema)]
#[expect(dead_code, reason = "describes the JSON for the API document alone")]
pub(crate) struct LegSchema {
    engine: String,
    /// The engine's own voice id. If the voice is no longer available, a similar one is used:
    /// one that matches `criteria`, or one with the same language, gender and style.
    voice: Option<String>,
    criteria: Option<CriteriaSchema>,
    model: Option<String>,
    /// Milliseconds until the first audio or the answer.
    deadline: Option<u64>,
    /// Credential for the call, instead of the engine's default one.
    credential: Option<String>,
    /// 1 to 1000: how often the leg is tried first, compared with other legs that have a weight.
    weight: Option<u32>,
    conditions: Option<ConditionsSchema>,
}

/// Conditions for the use of a leg.
#[derive(ToSchema)]
#[expect(dead_code, reason = "describes the JSON for the API document alone")]
pub(crate) struct ConditionsSchema {
    languages: Option<Vec<String>>,
    /// `local` or `cloud`: where the engine must run for the leg to be used.
    site: Option<String>,
    /// The region in which the engine is called.
    region: Option<String>,
    /// Audio formats of requests: file extensions or media types.
    formats: Option<Vec<String>>,
    /// The apps that may use the leg.
    apps: Option<Vec<String>>,
    /// The part of the day in UTC, as `22:00-06:00`.
    hours: Option<String>,
}

/// What a route is tried with: a text, or seconds of audio.
#[derive(Debug, Clone, Default, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct RouteTry {
    /// Plain text; or `ssml` (default: a sentence in the language).
    pub(crate) text: Option<String>,
    /// A document of SSML 1.1.
    pub(crate) ssml: Option<String>,
    /// Seconds of audio, of a route for recognition (default: 60).
    pub(crate) seconds: Option<f64>,
    /// BCP 47 tag of the text or the audio.
    #[schema(example = "en-GB")]
    pub(crate) language: Option<String>,
    /// Model of the engine.
    pub(crate) model: Option<String>,
    pub(crate) audio: Option<AudioWish>,
    /// The app to try it for (default: that of the key).
    pub(crate) app: Option<String>,
}

/// One version of a route.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct RouteVersion {
    #[serde(flatten)]
    pub(crate) version: Version,
    /// The route in this version; null if it can no longer be read.
    #[schema(value_type = Option<RouteSchema>)]
    pub(crate) route: Option<Route>,
}

/// What one leg would do.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct LegAnswer {
    /// From 1, as the route lists it.
    pub(crate) leg: usize,
    pub(crate) engine: String,
    /// `engine/voice`.
    pub(crate) voice: Option<String>,
    /// The voice that the leg names, if it is no longer available; `voice` is used instead.
    pub(crate) in_place_of: Option<String>,
    pub(crate) model: Option<String>,
    /// Position in which it would be tried, from 1; null if it is passed over.
    pub(crate) place: Option<usize>,
    /// Reason why it is passed over.
    pub(crate) passed_over: Option<String>,
    /// Highest cost.
    pub(crate) cost: Option<Amount>,
    /// Format requested from the engine.
    pub(crate) engine_format: Option<String>,
    /// The worst outcome of any element of the script: `native`, `rewritten`, `emulated`, `plain` or `omitted`.
    pub(crate) fidelity: Option<String>,
    /// Deadline in milliseconds.
    pub(crate) deadline: Option<f64>,
    /// Milliseconds until its first audio or transcript: the median of the last two hours, if it is known.
    pub(crate) usual_first: Option<f64>,
}

/// What a route would do with a request.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct RoutePreviewAnswer {
    pub(crate) app: String,
    pub(crate) order: String,
    /// As the route lists them.
    pub(crate) legs: Vec<LegAnswer>,
}

impl RouteTry {
    /// As the request of a synthesis.
    pub(crate) fn into_utterance(self) -> UtteranceRequest {
        let RouteTry { text, ssml, language, model, audio, .. } = self;
        UtteranceRequest { text, ssml, language, model, audio, ..UtteranceRequest::default() }
    }
}

impl From<DocumentVersion> for RouteVersion {
    fn from(row: DocumentVersion) -> Self {
        let route = serde_json::from_str(&row.document).ok();
        RouteVersion { version: row.into(), route }
    }
}

fn micros(time: std::time::Duration) -> f64 {
    milliseconds(i64::try_from(time.as_micros()).unwrap_or(i64::MAX))
}

impl From<LegPreview> for LegAnswer {
    fn from(preview: LegPreview) -> Self {
        let planned = preview.planned.as_ref();
        LegAnswer {
            leg: preview.leg + 1,
            engine: preview.engine,
            voice: planned.and_then(PlannedCall::voice_id),
            in_place_of: planned.and_then(|planned| planned.candidate.in_place_of.clone()),
            model: planned.and_then(|planned| planned.candidate.model.clone()),
            place: preview.place,
            passed_over: preview.passed_over,
            cost: planned.map(|planned| planned.estimate.into()),
            engine_format: planned.map(|planned| planned.format.format.media_type()),
            fidelity: preview.worst.map(|worst| worst.name().into()),
            deadline: planned.map(|planned| micros(planned.candidate.first_deadline(planned.usage))),
            usual_first: preview.usual_first.map(micros),
        }
    }
}

impl From<RoutePreview> for RoutePreviewAnswer {
    fn from(preview: RoutePreview) -> Self {
        RoutePreviewAnswer {
            app: preview.app,
            order: preview.order.name().into(),
            legs: preview.legs.into_iter().map(LegAnswer::from).collect(),
        }
    }
}
