//! Engines, voices, routes and credentials.

use dispatcher_gateway::{CredentialView, EngineState};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::{Amount, rfc3339};

/// What a voice must be like.
#[derive(ToSchema)]
#[expect(dead_code, reason = "describes the JSON for the API document alone")]
pub(crate) struct CriteriaSchema {
    /// Language ranges (RFC 4647), best first.
    languages: Option<String>,
    gender: Option<String>,
    style: Option<String>,
    name: Option<String>,
}

/// A named, ordered plan.
#[derive(ToSchema)]
#[expect(dead_code, reason = "describes the JSON for the API document alone")]
pub(crate) struct RouteSchema {
    name: Option<String>,
    /// `synthesis` or `recognition`.
    work: String,
    note: Option<String>,
    legs: Vec<LegSchema>,
}

/// One engine of a route.
#[derive(ToSchema)]
#[expect(dead_code, reason = "describes the JSON for the API document alone")]
pub(crate) struct LegSchema {
    engine: String,
    voice: Option<String>,
    criteria: Option<CriteriaSchema>,
    model: Option<String>,
    /// Milliseconds until the first audio or the answer.
    deadline: Option<u64>,
    conditions: Option<ConditionsSchema>,
}

/// When a leg may be used.
#[derive(ToSchema)]
#[expect(dead_code, reason = "describes the JSON for the API document alone")]
pub(crate) struct ConditionsSchema {
    languages: Option<Vec<String>>,
}

/// A voice of the catalogue.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub(crate) struct VoiceAnswer {
    /// `engine/voice`.
    #[schema(example = "heron/marin")]
    pub(crate) id: String,
    pub(crate) name: String,
    pub(crate) engine: String,
    pub(crate) site: String,
    pub(crate) languages: Vec<String>,
    pub(crate) gender: Option<String>,
    pub(crate) styles: Vec<String>,
    pub(crate) models: Vec<String>,
    pub(crate) character: String,
    /// List price of a thousand characters with the ordinary model.
    pub(crate) price: Amount,
    /// `ready`, `absent` or `refused`.
    pub(crate) availability: String,
    pub(crate) reason: Option<String>,
}

/// An engine, as its sheet and its state have it.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct EngineAnswer {
    pub(crate) name: String,
    pub(crate) title: String,
    pub(crate) site: String,
    pub(crate) driver: String,
    /// Where it is called, with the host's override.
    pub(crate) endpoint: Option<String>,
    pub(crate) state: String,
    pub(crate) reason: Option<String>,
    pub(crate) speaks: bool,
    pub(crate) listens: bool,
    pub(crate) voices: usize,
    pub(crate) models: Vec<String>,
    pub(crate) formats: Vec<String>,
    /// Parts of its credential.
    pub(crate) parts: Vec<String>,
    pub(crate) guide: Vec<String>,
    pub(crate) price: String,
}

impl EngineAnswer {
    pub(crate) fn new(sheet: &dispatcher_core::Sheet, state: &EngineState) -> Self {
        let word = |value: &dyn std::fmt::Debug| format!("{value:?}").to_lowercase();
        let formats = |map: &std::collections::BTreeMap<String, dispatcher_core::FormatSpec>| -> Vec<String> {
            map.values().map(|format| format.media_type.clone()).collect()
        };
        let models: Vec<String> = [dispatcher_core::Work::Synthesis, dispatcher_core::Work::Recognition]
            .into_iter()
            .flat_map(|work| sheet.model_names(work))
            .map(str::to_owned)
            .collect();
        EngineAnswer {
            name: sheet.name.clone(),
            title: sheet.title().to_owned(),
            site: word(&sheet.site),
            driver: word(&sheet.driver),
            endpoint: sheet.endpoint.clone(),
            state: state.name().into(),
            reason: state.reason().map(str::to_owned),
            speaks: sheet.synthesis.is_some(),
            listens: sheet.recognition.is_some(),
            voices: sheet.synthesis.as_ref().map_or(0, |synthesis| synthesis.voices.len()),
            models,
            formats: sheet
                .synthesis
                .iter()
                .flat_map(|s| formats(&s.formats))
                .chain(sheet.recognition.iter().flat_map(|r| formats(&r.formats)))
                .collect(),
            parts: sheet.access.parts.clone(),
            guide: sheet.guide.steps.clone(),
            price: format!("{} {} per {}", sheet.tariff.price, sheet.tariff.currency, word(&sheet.tariff.per)),
        }
    }
}

/// A new credential.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct CredentialRequest {
    pub(crate) engine: String,
    /// The engine's name unless given.
    pub(crate) name: Option<String>,
    /// The parts that the engine's sheet names.
    #[schema(value_type = Object)]
    pub(crate) parts: dispatcher_vault::Parts,
}

/// A credential; never a secret.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct CredentialAnswer {
    pub(crate) name: String,
    pub(crate) engine: String,
    pub(crate) version: i64,
    pub(crate) state: String,
    pub(crate) cause: Option<String>,
    pub(crate) parts: Vec<String>,
    pub(crate) host: String,
    pub(crate) created: String,
    pub(crate) created_by: String,
    pub(crate) last_used: Option<String>,
}

impl From<CredentialView> for CredentialAnswer {
    fn from(view: CredentialView) -> Self {
        CredentialAnswer {
            name: view.name,
            engine: view.engine,
            version: view.version,
            state: view.state,
            cause: view.cause,
            parts: view.parts,
            host: view.host,
            created: rfc3339(view.created_at),
            created_by: view.created_by,
            last_used: view.last_used_at.map(rfc3339),
        }
    }
}
