//! Voices: searched, read, marked, heard.

use std::collections::{BTreeMap, HashMap, HashSet};

use dispatcher_core::{Origin, Sort, VoiceId, VoiceQuery, Wanted, nearest_by, sample_sentence};
use dispatcher_gateway::{
    CacheWish, Caller, EngineState, Gateway, RecalledAudio, SynthesisRequest, TextInput, Unsupported,
};
use rocket::http::{ContentType, Header, Status};
use rocket::response::{self, Responder, Response};
use rocket::serde::json::Json;
use rocket::{Request, State, delete, get, put};
use serde::Serialize;
use utoipa::ToSchema;

use super::speech_parameters::{gender, site};
use crate::access::Allowed;
use crate::headers::Meta;
use crate::parameters::Parameters;
use crate::problem::Problem;
use crate::problem_kind::ProblemKind;
use crate::wire::VoiceAnswer;

/// Voices in one page unless asked otherwise.
const PAGE: usize = 100;
const MAX_PAGE: usize = 1_000;
/// An audition is a sentence or two.
const MAX_SAMPLE: usize = 500;

/// A page of voices.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct VoiceList {
    pub(crate) items: Vec<VoiceAnswer>,
    /// Send it as `cursor` for the next page; null at the end.
    pub(crate) next: Option<String>,
    /// All matching voices.
    pub(crate) total: usize,
    /// Number of matching voices with each value; only with `facets=true`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) facets: Option<FacetCounts>,
}

/// Number of matching voices with each value.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct FacetCounts {
    pub(crate) languages: BTreeMap<String, usize>,
    pub(crate) genders: BTreeMap<String, usize>,
    pub(crate) engines: BTreeMap<String, usize>,
    pub(crate) styles: BTreeMap<String, usize>,
}

/// What is known of engines when voices are listed.
struct Around {
    states: HashMap<String, EngineState>,
    stale: HashSet<String>,
    favourites: HashSet<String>,
}

impl Around {
    async fn of(gateway: &Gateway) -> Result<Around, Problem> {
        let favourites = gateway.favourites().await?.into_iter().collect();
        let stale = gateway.catalogue_states().await?.into_values();
        let stale = stale.filter(|state| state.problem.is_some()).map(|state| state.engine).collect();
        Ok(Around { states: gateway.engine_states().await?, stale, favourites })
    }

    fn answer(&self, entry: &dispatcher_core::Entry) -> VoiceAnswer {
        let state = self.states.get(&entry.sheet.name);
        let favourite = self.favourites.contains(&entry.id());
        VoiceAnswer::new(entry, state, favourite, self.stale.contains(&entry.sheet.name))
    }
}

fn query_of(given: &mut Parameters, caller: &Caller) -> Result<VoiceQuery, Problem> {
    let wrong = |what: &str| Problem::new(ProblemKind::Invalid, what.to_owned());
    let gender = given.text("gender").map(|word| gender(&word));
    let site = given.text("site").map(|word| site(&word));
    let origin = given.text("origin").map(|origin| match origin.as_str() {
        "stock" => Ok(Origin::Stock),
        "custom" => Ok(Origin::Custom),
        _ => Err(wrong("origin is stock or custom")),
    });
    let sort = match given.text("sort").as_deref() {
        None | Some("best") => Sort::Best,
        Some("name") => Sort::Name,
        Some("language") => Sort::Language,
        Some("price") => Sort::Price,
        Some(_) => return Err(wrong("sort is best, name, language or price")),
    };
    let most_nanos = given.number::<f64>("max_price")?.map(|price| (price * 1e9).clamp(0.0, 9e18) as i64);
    let limit = given.number("limit")?;
    let offset = given.number("cursor")?;
    let ids = given.text("id").map(|ids| ids.split(',').map(|id| id.trim().to_owned()).collect());
    Ok(VoiceQuery {
        text: given.text("search"),
        languages: given.text("languages"),
        gender: gender.transpose()?,
        style: given.text("style"),
        purpose: given.text("use"),
        engine: given.text("engine"),
        model: given.text("model"),
        format: given.text("format"),
        site: site.transpose()?,
        origin: origin.transpose()?,
        // Apps see what was made for the account only where it is granted to them.
        granted: caller.granted(),
        most_nanos,
        among: ids,
        sort,
        offset: offset.unwrap_or(0),
        limit: limit.unwrap_or(PAGE).clamp(1, MAX_PAGE),
    })
}

/// List voices
///
/// Filters: `languages` (RFC 4647 ranges: `pt` finds pt-PT and pt-BR, an exact region first),
/// `gender`, `style`, `use`, `engine`, `model`, `site`, `format` (a media type), `origin`,
/// `max_price` (maximum list price of 1,000 characters), `favourite=true`, and `search` in names,
/// ids, languages, characters, styles and uses. `sort` is best, name, language or price.
#[utoipa::path(
    operation_id = "listVoices",
    context_path = "/api/v1",
    tag = "catalogue",
    params(
        ("languages" = Option<String>, Query), ("gender" = Option<String>, Query), ("style" = Option<String>, Query),
        ("use" = Option<String>, Query), ("engine" = Option<String>, Query), ("model" = Option<String>, Query),
        ("site" = Option<String>, Query), ("format" = Option<String>, Query), ("origin" = Option<String>, Query),
        ("max_price" = Option<f64>, Query), ("favourite" = Option<bool>, Query), ("search" = Option<String>, Query),
        ("id" = Option<String>, Query, description = "Only these, separated by commas"),
        ("sort" = Option<String>, Query), ("facets" = Option<bool>, Query),
        ("limit" = Option<usize>, Query), ("cursor" = Option<String>, Query),
    ),
    responses(
        (status = 200, description = "Voices", body = VoiceList),
        (status = "4XX", description = "Fault in the request", body = Problem, content_type = "application/problem+json"),
    ),
    security(("key" = []))
)]
#[get("/voices")]
pub(crate) async fn voices(allowed: Allowed, meta: Meta, gateway: &State<Gateway>) -> Result<Json<VoiceList>, Problem> {
    let mut given = Parameters::of_query(&meta.query)?;
    let facets = given.flag("facets")?.unwrap_or(false);
    let favourite = given.flag("favourite")?.unwrap_or(false);
    let around = Around::of(gateway).await?;
    let mut query = query_of(&mut given, &allowed.0)?;
    given.finish()?;
    if favourite {
        query.among = Some(around.favourites.iter().cloned().collect());
    }
    let registry = gateway.registry();
    let index = registry.voices();
    let found = index.find(&query);
    let items = found.page.iter().map(|at| around.answer(index.entry(*at))).collect();
    let end = query.offset + query.limit;
    let facets = facets.then(|| {
        let dispatcher_core::Facets { languages, genders, engines, styles } = index.facets(&query);
        FacetCounts { languages, genders, engines, styles }
    });
    let next = (end < found.total).then(|| end.to_string());
    Ok(Json(VoiceList { items, next, total: found.total, facets }))
}

/// Read a voice
#[utoipa::path(
    operation_id = "readVoice",
    context_path = "/api/v1",
    tag = "catalogue",
    responses(
        (status = 200, description = "The voice", body = VoiceAnswer),
        (status = 404, description = "Unknown voice; similar names are given", body = Problem, content_type = "application/problem+json"),
    ),
    security(("key" = []))
)]
#[get("/voices/<engine>/<voice>")]
pub(crate) async fn voice(
    allowed: Allowed,
    engine: &str,
    voice: &str,
    gateway: &State<Gateway>,
) -> Result<Json<VoiceAnswer>, Problem> {
    find_voice(gateway, &allowed.0, &format!("{engine}/{voice}")).await
}

/// Read a voice by its id in one segment
#[utoipa::path(
    operation_id = "readVoiceById",
    context_path = "/api/v1",
    tag = "catalogue",
    responses(
        (status = 200, description = "The voice", body = VoiceAnswer),
        (status = 404, description = "Unknown voice; similar names are given", body = Problem, content_type = "application/problem+json"),
    ),
    security(("key" = []))
)]
#[get("/voices/<id>")]
pub(crate) async fn voice_by_id(
    allowed: Allowed,
    id: &str,
    gateway: &State<Gateway>,
) -> Result<Json<VoiceAnswer>, Problem> {
    find_voice(gateway, &allowed.0, id).await
}

async fn find_voice(gateway: &Gateway, caller: &Caller, id: &str) -> Result<Json<VoiceAnswer>, Problem> {
    let registry = gateway.registry();
    let index = registry.voices();
    let found = index.find(&VoiceQuery { among: Some(vec![id.to_owned()]), limit: 1, ..VoiceQuery::default() });
    let granted = caller.granted();
    let open = |at: &&usize| {
        let stock = index.entry(**at).voice().origin == Origin::Stock;
        stock || granted.as_ref().is_none_or(|granted| granted.iter().any(|voice| voice == id))
    };
    match found.page.iter().find(open) {
        Some(at) => Ok(Json(Around::of(gateway).await?.answer(index.entry(*at)))),
        None => {
            let mut problem = Problem::new(ProblemKind::NoSuchVoice, format!("there is no voice '{id}'"));
            let open = |entry: &&dispatcher_core::Entry| {
                let stock = entry.voice().origin == Origin::Stock;
                stock || granted.as_ref().is_none_or(|granted| granted.contains(&entry.id()))
            };
            let known: Vec<(String, &str)> = (0..index.len())
                .map(|at| index.entry(at))
                .filter(open)
                .map(|entry| (entry.id(), entry.voice().name.as_str()))
                .collect();
            problem.nearest = nearest_by(id, known.iter().map(|(id, name)| (id.as_str(), Some(*name))), 3);
            Err(problem)
        }
    }
}

/// Mark a voice
///
/// `favourite=true` lists favourites.
#[utoipa::path(
    operation_id = "markVoice", context_path = "/api/v1", tag = "catalogue",
    responses((status = 204, description = "It is marked"), (status = 404, body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[put("/voices/<engine>/<voice>/favourite")]
pub(crate) async fn mark(
    allowed: Allowed,
    engine: &str,
    voice: &str,
    gateway: &State<Gateway>,
) -> Result<Status, Problem> {
    let id = format!("{engine}/{voice}");
    find_voice(gateway, &allowed.0, &id).await?;
    gateway.mark_voice(&id, &allowed.0.who).await?;
    Ok(Status::NoContent)
}

/// Remove a voice from the favourites
#[utoipa::path(
    operation_id = "unmarkVoice", context_path = "/api/v1", tag = "catalogue",
    responses((status = 204, description = "It is not a favourite")),
    security(("key" = []))
)]
#[delete("/voices/<engine>/<voice>/favourite")]
pub(crate) async fn unmark(
    allowed: Allowed,
    engine: &str,
    voice: &str,
    gateway: &State<Gateway>,
) -> Result<Status, Problem> {
    let id = format!("{engine}/{voice}");
    gateway.unmark_voice(&id, &allowed.0.who).await?;
    Ok(Status::NoContent)
}

/// An audition.
pub(crate) struct Audition {
    audio: RecalledAudio,
    /// It was kept, and nothing was bought.
    kept: bool,
    fingerprint: String,
}

impl<'r> Responder<'r, 'static> for Audition {
    fn respond_to(self, _: &'r Request<'_>) -> response::Result<'static> {
        let kind = self.audio.media_type.parse().unwrap_or(ContentType::Binary);
        let status = if self.kept { "dispatcher; hit" } else { "dispatcher; fwd=miss; stored" };
        Response::build()
            .header(kind)
            .header(Header::new("Cache-Status", status))
            .header(Header::new("Dispatch-Fingerprint", self.fingerprint))
            .header(Header::new("Dispatch-Synthetic", "?1"))
            .header(Header::new("Cache-Control", "private, max-age=86400"))
            .sized_body(self.audio.audio.len(), std::io::Cursor::new(self.audio.audio))
            .ok()
    }
}

/// Audition a voice
///
/// Speaks a sample sentence in the language of the voice, or `text`, as MP3. The audio is kept: it
/// is charged to the caller's app the first time only.
#[utoipa::path(
    operation_id = "hearVoice", context_path = "/api/v1", tag = "catalogue",
    params(("text" = Option<String>, Query, description = "At most 500 characters")),
    responses(
        (status = 200, description = "The audio", content((Vec<u8> = "audio/mpeg")), headers(
            ("Cache-Status" = String, description = "Whether the audio was recalled (RFC 9211)"),
            ("Dispatch-Fingerprint" = String, description = "Equal for equal requested audio"),
        )),
        (status = "4XX", body = Problem, content_type = "application/problem+json"),
        (status = "5XX", body = Problem, content_type = "application/problem+json"),
    ),
    security(("key" = []))
)]
#[get("/voices/<engine>/<voice>/sample")]
pub(crate) async fn sample(
    allowed: Allowed,
    engine: &str,
    voice: &str,
    meta: Meta,
    gateway: &State<Gateway>,
) -> Result<Audition, Problem> {
    let mut given = Parameters::of_query(&meta.query)?;
    let text = given.text("text").filter(|text| !text.trim().is_empty());
    given.finish()?;
    let id = format!("{engine}/{voice}");
    let answer = find_voice(gateway, &allowed.0, &id).await?;
    if text.as_ref().is_some_and(|text| text.chars().count() > MAX_SAMPLE) {
        return Err(Problem::new(ProblemKind::Invalid, format!("an audition has at most {MAX_SAMPLE} characters")));
    }
    let text = text.unwrap_or_else(|| sample_sentence(&answer.languages).to_owned());
    let format = dispatcher_audio::Format::new(dispatcher_audio::Codec::Mp3, 24_000);
    let request = SynthesisRequest {
        deadline: None,
        credential: None,
        text: TextInput::Plain(text),
        wanted: Some(Wanted::Named(id.parse::<VoiceId>().map_or(id.clone(), |id| id.to_string()))),
        model: None,
        language: None,
        unsupported: Unsupported::Adapt,
        shaping: dispatcher_core::Shaping::default(),
        format,
        region: None,
        trace: meta.trace.clone(),
        notes: Vec::new(),
        cache: CacheWish::Off,
    };
    let rehearsal = allowed.0.app.rehearsal;
    let fingerprint = gateway.estimate_speech(&allowed.0, &request).await?.fingerprint.unwrap_or_default();
    if let Some(audio) = gateway.recall_audio(&fingerprint).await.filter(|_| !rehearsal) {
        return Ok(Audition { audio, kept: true, fingerprint });
    }
    let mut utterance = gateway.speak(&allowed.0, request).await?;
    let mut audio = Vec::new();
    while let Some(piece) = utterance.body.next().await {
        let piece = piece.map_err(|error| {
            let (dispatch, attempts) = (utterance.dispatch.clone(), vec![error.0]);
            Problem::from(dispatcher_gateway::GatewayError::AllFailed { dispatch, attempts })
        })?;
        audio.extend_from_slice(&piece);
    }
    utterance.body.completion().complete_bytes(&mut audio);
    let audio = RecalledAudio {
        media_type: format.media_type(),
        audio: audio.into(),
        audio_ms: 0,
        engine: engine.to_owned(),
        voice: id,
    };
    if !rehearsal {
        gateway.keep_audio(&fingerprint, &audio).await?;
    }
    Ok(Audition { audio, kept: false, fingerprint })
}
