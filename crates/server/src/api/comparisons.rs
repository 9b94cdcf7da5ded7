//! `/comparisons`: the same text by several voices, rated by ear.

use dispatcher_core::PreferenceRating;
use dispatcher_gateway::Gateway;
use rocket::http::{ContentType, Status};
use rocket::response::{self, Responder};
use rocket::serde::json::Json;
use rocket::{Request, State, delete, get, post};

use super::{SMALL_BODY, comparison_report};
use crate::access::Allowed;
use crate::body::{RequestBody, read_json};
use crate::problem::Problem;
use crate::wire::{List, RatingRequest, VoiceComparison, VoiceComparisonRequest, VoiceComparisonSummary};

/// Comparisons in one answer: all that an app has.
const LISTED: i64 = 200;

/// Compare voices
///
/// Each voice speaks the text; each call is charged. The answer has cost, latency and loudness side by side, and
/// the audio of each voice for 100 comparisons of an app.
#[utoipa::path(
    operation_id = "compareVoices",
    context_path = "/api/v1", tag = "voices",
    request_body = VoiceComparisonRequest,
    responses((status = 201, description = "The comparison", body = VoiceComparison), (status = "4XX", body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[post("/comparisons", data = "<data>")]
pub(crate) async fn compare(
    allowed: Allowed,
    data: RequestBody<'_>,
    gateway: &State<Gateway>,
) -> Result<(Status, Json<VoiceComparison>), Problem> {
    let VoiceComparisonRequest { text, voices, language } = read_json(data, SMALL_BODY).await?;
    let view = gateway.compare_voices(&allowed.0, &text, &voices, language.as_deref()).await?;
    Ok((Status::Created, Json(view.into())))
}

/// List comparisons
#[utoipa::path(
    operation_id = "listComparisons",
    context_path = "/api/v1", tag = "voices",
    responses((status = 200, description = "The newest 200", body = List<VoiceComparisonSummary>)),
    security(("key" = []))
)]
#[get("/comparisons")]
pub(crate) async fn list(
    allowed: Allowed,
    gateway: &State<Gateway>,
) -> Result<Json<List<VoiceComparisonSummary>>, Problem> {
    let rows = gateway.comparisons(&allowed.0, LISTED).await?;
    Ok(Json(List::whole(rows.into_iter().map(VoiceComparisonSummary::from).collect())))
}

/// Read a comparison
#[utoipa::path(
    operation_id = "readComparison",
    context_path = "/api/v1", tag = "voices",
    params(("id" = String, Path, description = "Id, or a unique beginning of it")),
    responses((status = 200, description = "The comparison", body = VoiceComparison), (status = 404, body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[get("/comparisons/<id>")]
pub(crate) async fn read(
    allowed: Allowed,
    id: &str,
    gateway: &State<Gateway>,
) -> Result<Json<VoiceComparison>, Problem> {
    Ok(Json(gateway.comparison(&allowed.0, id).await?.into()))
}

/// Fetch the audio of a voice of a comparison
#[utoipa::path(
    operation_id = "fetchComparedAudio",
    context_path = "/api/v1", tag = "voices",
    params(("id" = String, Path), ("number" = i64, Path, description = "Number of the voice")),
    responses((status = 200, description = "WAV at 24 kHz", body = [u8], content_type = "audio/wav"), (status = 404, body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[get("/comparisons/<id>/audio/<number>")]
pub(crate) async fn audio(
    allowed: Allowed,
    id: &str,
    number: i64,
    gateway: &State<Gateway>,
) -> Result<(ContentType, Vec<u8>), Problem> {
    Ok((ContentType::new("audio", "wav"), gateway.compared_audio(&allowed.0, id, number).await?))
}

/// Rate two voices of a comparison
///
/// How the second sounds against the first, on the seven steps of ITU-T P.800, annex E.
#[utoipa::path(
    operation_id = "rateComparison",
    context_path = "/api/v1", tag = "voices",
    params(("id" = String, Path)),
    request_body = RatingRequest,
    responses((status = 201, description = "The comparison with the rating", body = VoiceComparison), (status = "4XX", body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[post("/comparisons/<id>/ratings", data = "<data>")]
pub(crate) async fn rate(
    allowed: Allowed,
    id: &str,
    data: RequestBody<'_>,
    gateway: &State<Gateway>,
) -> Result<(Status, Json<VoiceComparison>), Problem> {
    let RatingRequest { first, second, score } = read_json(data, SMALL_BODY).await?;
    let view = gateway.rate(&allowed.0, id, PreferenceRating { first, second, score }).await?;
    Ok((Status::Created, Json(view.into())))
}

/// Fetch the report of a comparison
///
/// One HTML file to hand on, with the audio in it.
#[utoipa::path(
    operation_id = "fetchComparisonReport",
    context_path = "/api/v1", tag = "voices",
    params(("id" = String, Path)),
    responses((status = 200, description = "The report", body = String, content_type = "text/html"), (status = 404, body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[get("/comparisons/<id>/report")]
pub(crate) async fn report(allowed: Allowed, id: &str, gateway: &State<Gateway>) -> Result<Attachment, Problem> {
    let view = gateway.comparison(&allowed.0, id).await?;
    let mut sounds = Vec::new();
    for voice in view.voices.iter().filter(|voice| voice.fault.is_none()) {
        sounds.push((voice.number, gateway.compared_audio(&allowed.0, id, voice.number).await?));
    }
    let name = format!("comparison-{}.html", view.row.id);
    Ok(Attachment { kind: ContentType::HTML, name, body: comparison_report::html(&view.into(), &sounds) })
}

/// A file that a browser saves and does not show: its text is not the service's own.
#[derive(Debug)]
pub(crate) struct Attachment {
    pub(super) kind: ContentType,
    pub(super) name: String,
    pub(super) body: String,
}

impl<'r> Responder<'r, 'static> for Attachment {
    fn respond_to(self, request: &'r Request<'_>) -> response::Result<'static> {
        let mut response = (self.kind, self.body).respond_to(request)?;
        response.set_raw_header("Content-Disposition", format!("attachment; filename=\"{}\"", self.name));
        Ok(response)
    }
}

/// Remove a comparison
///
/// With its audio and ratings.
#[utoipa::path(
    operation_id = "removeComparison",
    context_path = "/api/v1", tag = "voices",
    params(("id" = String, Path)),
    responses((status = 204, description = "It is removed"), (status = 404, body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[delete("/comparisons/<id>")]
pub(crate) async fn remove(allowed: Allowed, id: &str, gateway: &State<Gateway>) -> Result<Status, Problem> {
    gateway.remove_comparison(&allowed.0, id).await?;
    Ok(Status::NoContent)
}
