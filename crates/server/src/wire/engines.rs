//! Engines and voices.

use dispatcher_core::{Entry, FormatSpec, Sheet, Tariff, Work};
use dispatcher_gateway::{EngineState, day_of, now_micros};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::engine_details::WorkDetails;
use super::{Amount, rfc3339};

/// Criteria for a voice.
#[derive(ToSchema)]
#[expect(dead_code, reason = "describes the JSON for the API document alone")]
pub(crate) struct CriteriaSchema {
    /// Language ranges (RFC 4647), best first.
    languages: Option<String>,
    gender: Option<String>,
    style: Option<String>,
    name: Option<String>,
    /// `local` or `cloud`: where its engine must run. It binds the whole request.
    site: Option<String>,
}

/// A voice of the catalogue.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub(crate) struct VoiceAnswer {
    /// `engine/voice`.
    #[schema(example = "heron/pellin")]
    pub(crate) id: String,
    pub(crate) name: String,
    pub(crate) engine: String,
    pub(crate) site: String,
    pub(crate) languages: Vec<String>,
    pub(crate) gender: Option<String>,
    /// Approximate age in years.
    pub(crate) age: Option<u8>,
    pub(crate) styles: Vec<String>,
    /// Intended uses.
    pub(crate) uses: Vec<String>,
    pub(crate) models: Vec<String>,
    pub(crate) character: String,
    /// Formats that the engine produces, with their sample rates in hertz.
    pub(crate) formats: Vec<FormatAnswer>,
    /// `ssml` if its engine takes SSML, else `none`.
    pub(crate) markup: String,
    /// List price of 1,000 characters with the default model.
    pub(crate) price: Amount,
    /// `stock` or `custom`.
    pub(crate) origin: String,
    /// `ready`, `absent`, `refused` or `unavailable`.
    pub(crate) availability: String,
    pub(crate) reason: Option<String>,
    pub(crate) favourite: bool,
    /// The engine did not answer when it was last asked for its voices.
    pub(crate) stale: bool,
}

/// A format of an engine.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub(crate) struct FormatAnswer {
    #[serde(rename = "type")]
    pub(crate) kind: String,
    pub(crate) sample_rates: Vec<u32>,
    pub(crate) bitrate: Option<u32>,
}

impl From<&FormatSpec> for FormatAnswer {
    fn from(spec: &FormatSpec) -> Self {
        FormatAnswer { kind: spec.media_type.clone(), sample_rates: spec.sample_rates.clone(), bitrate: spec.bitrate }
    }
}

/// `0.000016 EUR per character`, as it is today.
pub(super) fn list_price(tariff: &Tariff) -> String {
    format!("{} {} per {}", tariff.price_on(&day_of(now_micros())), tariff.currency, tariff.per.name())
}

/// List prices in words: of each kind of work where they differ.
fn price_of(sheet: &Sheet) -> String {
    let mut prices: Vec<(Work, String)> = Vec::new();
    for (work, has) in [(Work::Synthesis, sheet.synthesis.is_some()), (Work::Recognition, sheet.recognition.is_some())]
    {
        prices.extend(has.then(|| (work, list_price(sheet.tariff_of(work)))));
    }
    match &prices[..] {
        [(_, one), (_, other)] if one != other => {
            prices.iter().map(|(work, price)| format!("{}: {price}", work.name())).collect::<Vec<_>>().join("; ")
        }
        [(_, one), ..] => one.clone(),
        [] => String::new(),
    }
}

impl VoiceAnswer {
    pub(crate) fn new(entry: &Entry, state: Option<&EngineState>, favourite: bool, stale: bool) -> Self {
        let (sheet, voice) = (&entry.sheet, entry.voice());
        let models = match voice.models.is_empty() {
            true => sheet.model_names(Work::Synthesis).into_iter().map(str::to_owned).collect(),
            false => voice.models.clone(),
        };
        let price = dispatcher_core::Money {
            nanos: entry.nanos,
            currency: sheet.tariff_of(dispatcher_core::Work::Synthesis).currency,
        };
        let (availability, reason) = match (&voice.unavailable, state) {
            (Some(why), _) => ("unavailable", Some(why.clone())),
            (None, Some(state)) => (state.name(), state.reason().map(str::to_owned)),
            (None, None) => ("absent", None),
        };
        let synthesis = sheet.synthesis.as_ref();
        let formats = synthesis.into_iter().flat_map(|it| it.formats.values());
        let ssml = synthesis.and_then(|it| it.content_type.as_deref()).is_some_and(|kind| kind.contains("ssml"));
        VoiceAnswer {
            id: entry.id(),
            name: voice.name.clone(),
            engine: sheet.name.clone(),
            site: sheet.site.name().to_owned(),
            languages: voice.languages.clone(),
            gender: voice.gender.map(|gender| gender.name().to_owned()),
            age: voice.age,
            styles: voice.styles.clone(),
            uses: voice.uses.clone(),
            models,
            character: voice.character.clone(),
            formats: formats.map(FormatAnswer::from).collect(),
            markup: if ssml { "ssml" } else { "none" }.into(),
            price: price.into(),
            origin: voice.origin.name().to_owned(),
            availability: availability.into(),
            reason,
            favourite,
            stale,
        }
    }
}

/// An engine with its state.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct EngineAnswer {
    pub(crate) name: String,
    pub(crate) title: String,
    pub(crate) site: String,
    pub(crate) driver: String,
    /// Address of the engine, with the host's override.
    pub(crate) endpoint: Option<String>,
    pub(crate) state: String,
    pub(crate) reason: Option<String>,
    pub(crate) synthesis: bool,
    pub(crate) recognition: bool,
    pub(crate) voices: usize,
    pub(crate) models: Vec<String>,
    pub(crate) formats: Vec<String>,
    /// Parts of its credential.
    pub(crate) parts: Vec<String>,
    pub(crate) guide: Vec<String>,
    pub(crate) price: String,
    /// Access scheme: `bearer`, `basic` and so on.
    pub(crate) access: String,
    /// Calls per minute and at once.
    pub(crate) pace: PaceAnswer,
    /// For engines that list their voices.
    pub(crate) catalogue: Option<CatalogueState>,
    /// Address in the sheet, if the host overrides it. Only for a single engine.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) sheet_endpoint: Option<String>,
    /// Only for a single engine that synthesises.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) synthesis_details: Option<WorkDetails>,
    /// Only for a single engine that recognises.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) recognition_details: Option<WorkDetails>,
}

/// Pace of calls that the gateway keeps to.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct PaceAnswer {
    pub(crate) per_minute: Option<u32>,
    pub(crate) at_once: Option<u32>,
    /// Calls that can start now.
    pub(crate) left: Option<u32>,
    /// Calls that are running, and calls that wait.
    pub(crate) running: Option<u32>,
    pub(crate) waiting: Option<u32>,
}

/// State of an engine's list of voices.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct CatalogueState {
    pub(crate) voices: usize,
    /// When the list was last read; null if the voices of the sheet are used.
    pub(crate) read: Option<String>,
    pub(crate) tried: Option<String>,
    /// Reason why the list could not be read last time; it is out of date.
    pub(crate) problem: Option<String>,
}

impl From<&dispatcher_gateway::CatalogueState> for CatalogueState {
    fn from(state: &dispatcher_gateway::CatalogueState) -> Self {
        CatalogueState {
            voices: state.voices,
            read: state.read_at.map(rfc3339),
            tried: state.tried_at.map(rfc3339),
            problem: state.problem.clone(),
        }
    }
}

/// State of an engine's list of voices, and its changes.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct CatalogueAnswer {
    pub(crate) engine: String,
    pub(crate) state: Option<CatalogueState>,
    /// The newest first.
    pub(crate) changes: Vec<ChangeAnswer>,
}

/// One change of a list.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct ChangeAnswer {
    pub(crate) at: String,
    pub(crate) voice: String,
    /// `added`, `changed` or `removed`.
    pub(crate) kind: String,
    /// The members that changed.
    pub(crate) detail: String,
}

impl CatalogueAnswer {
    pub(crate) fn new(
        engine: &str,
        state: Option<&dispatcher_gateway::CatalogueState>,
        changes: Vec<dispatcher_gateway::CatalogueChange>,
    ) -> Self {
        let change = |row: dispatcher_gateway::CatalogueChange| ChangeAnswer {
            at: rfc3339(row.at),
            voice: row.voice,
            kind: row.kind.to_string(),
            detail: row.detail,
        };
        let changes = changes.into_iter().map(change).collect();
        CatalogueAnswer { engine: engine.into(), state: state.map(CatalogueState::from), changes }
    }
}

/// Changes in a list of voices.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct RefreshAnswer {
    pub(crate) voices: usize,
    pub(crate) added: Vec<String>,
    pub(crate) changed: Vec<ChangedVoice>,
    pub(crate) removed: Vec<String>,
}

/// A voice that changed.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct ChangedVoice {
    pub(crate) voice: String,
    pub(crate) members: String,
}

impl From<dispatcher_gateway::Changes> for RefreshAnswer {
    fn from(changes: dispatcher_gateway::Changes) -> Self {
        let changed = changes.changed.into_iter().map(|(voice, members)| ChangedVoice { voice, members }).collect();
        RefreshAnswer { voices: changes.voices, added: changes.added, changed, removed: changes.removed }
    }
}

/// A sheet and its versions.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct SheetAnswer {
    pub(crate) engine: String,
    pub(crate) version: i64,
    /// TOML.
    pub(crate) document: String,
    /// The newest first.
    pub(crate) versions: Vec<SheetVersion>,
}

/// A version of a sheet.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct SheetVersion {
    pub(crate) version: i64,
    /// A file, or `by NAME`.
    pub(crate) origin: String,
    pub(crate) created: String,
}

impl From<&dispatcher_gateway::DocumentVersion> for SheetVersion {
    fn from(row: &dispatcher_gateway::DocumentVersion) -> Self {
        SheetVersion { version: row.version, origin: row.origin.to_string(), created: rfc3339(row.created_at) }
    }
}

/// A pasted command.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct DraftRequest {
    /// A call of the curl command, of one or several lines.
    #[schema(value_type = String)]
    pub(crate) command: secrecy::SecretString,
    /// Name of the engine (default: from the address).
    pub(crate) name: Option<String>,
}

/// A drafted sheet.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct DraftAnswer {
    /// TOML, with comments.
    pub(crate) sheet: String,
    /// Parts of the credential that took the place of secrets.
    pub(crate) parts: Vec<String>,
    pub(crate) remarks: Vec<String>,
}

/// Result of a check of an engine.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct CheckAnswer {
    pub(crate) engine: String,
    /// Whether no claim differs.
    pub(crate) good: bool,
    pub(crate) claims: Vec<ClaimAnswer>,
    pub(crate) cost: Amount,
}

/// One claim of a sheet.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct ClaimAnswer {
    /// `access`, `voice`, `model`, `format`, `control`, `limit`, `error`,
    /// `catalogue` or `transcript`.
    pub(crate) kind: String,
    pub(crate) subject: String,
    pub(crate) claimed: String,
    pub(crate) seen: String,
    /// `holds`, `differs` or `untested`.
    pub(crate) verdict: String,
    /// The request, without the credential; for claims that differ.
    pub(crate) request: Option<String>,
    /// The answer.
    pub(crate) answer: Option<String>,
}

impl From<dispatcher_gateway::Matrix> for CheckAnswer {
    fn from(matrix: dispatcher_gateway::Matrix) -> Self {
        let good = matrix.good();
        let claim = |claim: dispatcher_gateway::Claim| ClaimAnswer {
            kind: claim.kind.into(),
            subject: claim.subject,
            claimed: claim.claimed,
            seen: claim.seen,
            verdict: claim.verdict.name().into(),
            request: claim.request,
            answer: claim.answer,
        };
        let claims = matrix.claims.into_iter().map(claim).collect();
        CheckAnswer { engine: matrix.engine, good, claims, cost: matrix.cost.into() }
    }
}

impl EngineAnswer {
    pub(crate) fn new(
        sheet: &dispatcher_core::Sheet,
        state: &EngineState,
        catalogue: Option<&dispatcher_gateway::CatalogueState>,
        load: Option<dispatcher_gateway::Load>,
    ) -> Self {
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
            site: sheet.site.name().to_owned(),
            driver: sheet.driver.name().to_owned(),
            endpoint: sheet.endpoint.clone(),
            state: state.name().into(),
            reason: state.reason().map(str::to_owned),
            synthesis: sheet.synthesis.is_some(),
            recognition: sheet.recognition.is_some(),
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
            access: serde_json::to_value(sheet.access.scheme)
                .ok()
                .and_then(|scheme| scheme.as_str().map(str::to_owned))
                .unwrap_or_default(),
            pace: PaceAnswer {
                per_minute: sheet.pace.per_minute,
                at_once: sheet.pace.at_once,
                left: load.map(|load| load.left),
                running: load.map(|load| load.running),
                waiting: load.map(|load| load.waiting),
            },
            catalogue: catalogue.map(CatalogueState::from),
            price: price_of(sheet),
            sheet_endpoint: None,
            synthesis_details: None,
            recognition_details: None,
        }
    }

    /// The same with what a single engine has; `written` is its sheet without
    /// the settings of the host.
    pub(crate) fn with_details(self, sheet: &Sheet, written: Option<&Sheet>) -> Self {
        let endpoint = written.and_then(|written| written.endpoint.clone());
        EngineAnswer {
            sheet_endpoint: endpoint.filter(|endpoint| Some(endpoint) != sheet.endpoint.as_ref()),
            synthesis_details: WorkDetails::of_synthesis(sheet),
            recognition_details: WorkDetails::of_recognition(sheet),
            ..self
        }
    }
}
