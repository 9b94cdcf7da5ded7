//! Voices and engines.

use dispatcher_core::{Criteria, Gender, Measure, Usage, Voice, nearest};
use dispatcher_gateway::{EngineState, Gateway, GatewayError, SynthesisRequest, TextInput, Unsupported};
use rocket::serde::json::Json;
use rocket::{State, get, post};
use serde::Serialize;
use utoipa::ToSchema;

use crate::access::Allowed;
use crate::headers::{Meta, known_pairs, number};
use crate::problem::Problem;
use crate::wire::{EngineAnswer, List, VoiceAnswer};

/// Voices in one page unless asked otherwise.
const PAGE: usize = 100;
const MAX_PAGE: usize = 1_000;

async fn all_voices(gateway: &Gateway) -> Result<Vec<(VoiceAnswer, Voice)>, Problem> {
    let registry = gateway.registry();
    let mut voices = Vec::new();
    for engine in registry.engines() {
        let sheet = engine.sheet();
        let Some(synthesis) = &sheet.synthesis else { continue };
        let state = gateway.engine_state(engine).await?;
        for voice in &synthesis.voices {
            let models: Vec<String> = synthesis.models.iter().map(|model| model.name.clone()).collect();
            let models = if voice.models.is_empty() { models } else { voice.models.clone() };
            let thousand = Usage { characters: 1_000, bytes: 1_000, milliseconds: 65_000 };
            let price = match sheet.tariff.per {
                Measure::Request => Usage::default(),
                _ => thousand,
            };
            let price = sheet.tariff.cost(price, models.first().map(String::as_str)).map_err(GatewayError::Money)?;
            let answer = VoiceAnswer {
                id: format!("{}/{}", sheet.name, voice.id),
                name: voice.name.clone(),
                engine: sheet.name.clone(),
                site: format!("{:?}", sheet.site).to_lowercase(),
                languages: voice.languages.clone(),
                gender: voice.gender.map(|gender| gender.name().to_owned()),
                styles: voice.styles.clone(),
                models,
                character: voice.character.clone(),
                price: price.into(),
                availability: state.name().into(),
                reason: state.reason().map(str::to_owned),
            };
            voices.push((answer, voice.clone()));
        }
    }
    Ok(voices)
}

/// List voices
///
/// Filters: `languages` (RFC 4647 ranges: `pt` finds pt-PT and pt-BR, an exact
/// region first), `gender`, `style`, `engine`, `model`, `site`, and `search`
/// over names, ids and characters.
#[utoipa::path(
    operation_id = "listVoices",
    context_path = "/api/v1",
    tag = "catalogue",
    params(
        ("languages" = Option<String>, Query), ("gender" = Option<String>, Query), ("style" = Option<String>, Query),
        ("engine" = Option<String>, Query), ("model" = Option<String>, Query), ("site" = Option<String>, Query),
        ("search" = Option<String>, Query), ("limit" = Option<usize>, Query), ("cursor" = Option<String>, Query),
    ),
    responses(
        (status = 200, description = "Voices", body = List<VoiceAnswer>),
        (status = "4XX", description = "A fault of the request", body = Problem, content_type = "application/problem+json"),
    ),
    security(("key" = []))
)]
#[get("/voices")]
pub(crate) async fn voices(
    _allowed: Allowed,
    meta: Meta,
    gateway: &State<Gateway>,
) -> Result<Json<List<VoiceAnswer>>, Problem> {
    let known = ["languages", "gender", "style", "engine", "model", "site", "search", "limit", "cursor"];
    let mut given = known_pairs(&meta.query, &known)?;
    let gender = given.remove("gender").map(|name| {
        let genders = [Gender::Female, Gender::Male, Gender::Neutral];
        let found = genders.into_iter().find(|gender| gender.name() == name);
        found.ok_or_else(|| Problem::new("invalid", "gender is female, male or neutral"))
    });
    let criteria = Criteria {
        languages: given.remove("languages"),
        gender: gender.transpose()?,
        style: given.remove("style"),
        name: None,
    };
    let limit = given.get("limit").map(|limit| number("limit", limit)).transpose()?;
    let limit: usize = limit.unwrap_or(PAGE).clamp(1, MAX_PAGE);
    let cursor: usize = given.get("cursor").map(|cursor| number("cursor", cursor)).transpose()?.unwrap_or(0);
    let (engine, model, site) = (given.remove("engine"), given.remove("model"), given.remove("site"));
    let search = given.remove("search").map(|text| text.to_lowercase());
    let fits = |answer: &VoiceAnswer| {
        let found = |text: &String| {
            let all = format!("{} {} {} {}", answer.id, answer.name, answer.character, answer.languages.join(" "))
                .to_lowercase();
            text.split_whitespace().all(|word| all.contains(word))
        };
        engine.as_ref().is_none_or(|name| *name == answer.engine)
            && model.as_ref().is_none_or(|name| answer.models.contains(name))
            && site.as_ref().is_none_or(|name| *name == answer.site)
            && search.as_ref().is_none_or(found)
    };
    let mut ranked: Vec<(usize, VoiceAnswer)> = all_voices(gateway)
        .await?
        .into_iter()
        .filter(|(answer, _)| fits(answer))
        .filter_map(|(answer, voice)| Some((criteria.rank(&voice)?, answer)))
        .collect();
    ranked.sort_by(|a, b| a.0.cmp(&b.0).then_with(|| a.1.id.cmp(&b.1.id)));
    let next = (cursor + limit < ranked.len()).then(|| (cursor + limit).to_string());
    let items = ranked.into_iter().skip(cursor).take(limit).map(|(_, answer)| answer).collect();
    Ok(Json(List { items, next }))
}

/// Read a voice
#[utoipa::path(
    operation_id = "readVoice",
    context_path = "/api/v1",
    tag = "catalogue",
    responses(
        (status = 200, description = "The voice", body = VoiceAnswer),
        (status = 404, description = "No such voice; the nearest are named", body = Problem, content_type = "application/problem+json"),
    ),
    security(("key" = []))
)]
#[get("/voices/<engine>/<voice>")]
pub(crate) async fn voice(
    _allowed: Allowed,
    engine: &str,
    voice: &str,
    gateway: &State<Gateway>,
) -> Result<Json<VoiceAnswer>, Problem> {
    find_voice(gateway, &format!("{engine}/{voice}")).await
}

/// Read a voice by its id in one segment
#[utoipa::path(
    operation_id = "readVoiceById",
    context_path = "/api/v1",
    tag = "catalogue",
    responses(
        (status = 200, description = "The voice", body = VoiceAnswer),
        (status = 404, description = "No such voice; the nearest are named", body = Problem, content_type = "application/problem+json"),
    ),
    security(("key" = []))
)]
#[get("/voices/<id>")]
pub(crate) async fn voice_by_id(
    _allowed: Allowed,
    id: &str,
    gateway: &State<Gateway>,
) -> Result<Json<VoiceAnswer>, Problem> {
    find_voice(gateway, id).await
}

async fn find_voice(gateway: &Gateway, id: &str) -> Result<Json<VoiceAnswer>, Problem> {
    let voices = all_voices(gateway).await?;
    if let Some((answer, _)) = voices.iter().find(|(answer, _)| answer.id == id) {
        return Ok(Json(answer.clone()));
    }
    let mut problem = Problem::new("no-such-voice", format!("there is no voice '{id}'"));
    problem.nearest = nearest(id, voices.iter().map(|(answer, _)| answer.id.as_str()), 3);
    Err(problem)
}

/// List engines
#[utoipa::path(
    operation_id = "listEngines",
    context_path = "/api/v1",
    tag = "catalogue",
    responses((status = 200, description = "Engines with their state", body = List<EngineAnswer>)),
    security(("key" = []))
)]
#[get("/engines")]
pub(crate) async fn engines(_allowed: Allowed, gateway: &State<Gateway>) -> Result<Json<List<EngineAnswer>>, Problem> {
    Ok(Json(List::whole(all_engines(gateway).await?)))
}

pub(super) async fn all_engines(gateway: &Gateway) -> Result<Vec<EngineAnswer>, Problem> {
    let registry = gateway.registry();
    let mut answers = Vec::new();
    for engine in registry.engines() {
        answers.push(EngineAnswer::new(engine.sheet(), &gateway.engine_state(engine).await?));
    }
    Ok(answers)
}

/// Read an engine
#[utoipa::path(
    operation_id = "readEngine",
    context_path = "/api/v1",
    tag = "catalogue",
    responses(
        (status = 200, description = "The engine", body = EngineAnswer),
        (status = 404, description = "No such engine; the nearest are named", body = Problem, content_type = "application/problem+json"),
    ),
    security(("key" = []))
)]
#[get("/engines/<name>")]
pub(crate) async fn engine(
    _allowed: Allowed,
    name: &str,
    gateway: &State<Gateway>,
) -> Result<Json<EngineAnswer>, Problem> {
    let registry = gateway.registry();
    let engine = registry.engine(name)?;
    Ok(Json(EngineAnswer::new(engine.sheet(), &gateway.engine_state(engine).await?)))
}

/// What a check of an engine found.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct CheckAnswer {
    pub(crate) engine: String,
    /// Whether every step went well.
    pub(crate) good: bool,
    pub(crate) steps: Vec<CheckStep>,
}

/// One step of a check.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct CheckStep {
    pub(crate) step: String,
    pub(crate) good: bool,
    pub(crate) detail: String,
}

/// Check an engine
///
/// Looks whether it is installed and has a credential and, where it speaks,
/// has it say one word in each of its models. Charged to the app `console`.
#[utoipa::path(
    operation_id = "checkEngine",
    context_path = "/api/v1",
    tag = "catalogue",
    responses(
        (status = 200, description = "What was found", body = CheckAnswer),
        (status = 404, description = "No such engine", body = Problem, content_type = "application/problem+json"),
    ),
    security(("key" = []))
)]
#[post("/engines/<name>/check")]
pub(crate) async fn check_engine(
    allowed: Allowed,
    name: &str,
    gateway: &State<Gateway>,
) -> Result<Json<CheckAnswer>, Problem> {
    let registry = gateway.registry();
    let engine = registry.engine(name)?;
    let sheet = engine.sheet().clone();
    let state = gateway.engine_state(engine).await?;
    // A refused credential may have become good: only absence ends the check.
    let present = !matches!(state, EngineState::Absent(_));
    let mut steps = vec![CheckStep {
        step: "access".into(),
        good: present,
        detail: state.reason().unwrap_or("installed, or has its credential").to_owned(),
    }];
    if let Some(voice) = sheet.synthesis.as_ref().filter(|_| present).and_then(|s| s.voices.first()) {
        let mut models: Vec<Option<String>> =
            sheet.model_names(dispatcher_core::Work::Synthesis).into_iter().map(|m| Some(m.to_owned())).collect();
        if models.is_empty() {
            models.push(None);
        }
        for model in models {
            let step = format!("speak{}", model.as_ref().map(|model| format!(" ({model})")).unwrap_or_default());
            let request = SynthesisRequest {
                text: TextInput::Plain("Hello.".into()),
                wanted: Some(dispatcher_core::Wanted::Named(format!("{name}/{}", voice.id))),
                model,
                language: None,
                unsupported: Unsupported::Adapt,
                shaping: dispatcher_core::Shaping::default(),
                format: dispatcher_audio::Format::default(),
                trace: None,
            };
            steps.push(say(gateway, &allowed, step, request).await);
        }
    }
    let good = steps.iter().all(|step| step.good);
    Ok(Json(CheckAnswer { engine: name.to_owned(), good, steps }))
}

async fn say(gateway: &Gateway, allowed: &Allowed, step: String, request: SynthesisRequest) -> CheckStep {
    let outcome = async {
        let mut utterance = gateway.speak(&allowed.0, request).await.map_err(|error| Problem::from(error).detail)?;
        let mut bytes = 0;
        while let Some(piece) = utterance.body.next().await {
            bytes += piece.map_err(|error| error.to_string())?.len();
        }
        Ok::<_, String>(format!(
            "{bytes} bytes of WAV, first audio after {:.0} ms",
            utterance.first_us as f64 / 1_000.0
        ))
    };
    match outcome.await {
        Ok(detail) => CheckStep { step, good: true, detail },
        Err(detail) => CheckStep { step, good: false, detail },
    }
}
