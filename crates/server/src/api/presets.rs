//! Audio formats, and named ones.

use dispatcher_audio::{Codec, Format};
use dispatcher_core::is_record_name;
use dispatcher_gateway::{Gateway, OwnPreset};
use rocket::serde::json::Json;
use rocket::{State, delete, get, http::Status, put};

use super::SMALL_BODY;
use crate::access::Allowed;
use crate::body::{RequestBody, read_json};
use crate::problem::Problem;
use crate::problem_kind::ProblemKind;
use crate::wire::{AudioFormatAnswer, List, PresetAnswer, PresetRequest};

/// List audio formats
///
/// Formats in which the service delivers audio, with their sample rates and sizes.
#[utoipa::path(
    operation_id = "listFormats",
    context_path = "/api/v1", tag = "presets",
    responses((status = 200, description = "The formats", body = List<AudioFormatAnswer>)),
    security(("key" = []))
)]
#[get("/formats")]
pub(crate) fn formats(_allowed: Allowed) -> Json<List<AudioFormatAnswer>> {
    Json(List::whole(Codec::WRITTEN.into_iter().map(AudioFormatAnswer::of).collect()))
}

/// List audio presets
///
/// The name of a preset can be given wherever an audio type is expected.
#[utoipa::path(
    operation_id = "listPresets",
    context_path = "/api/v1", tag = "presets",
    responses((status = 200, description = "Built in first, then the operator's own", body = List<PresetAnswer>)),
    security(("key" = []))
)]
#[get("/presets")]
pub(crate) fn list(_allowed: Allowed, gateway: &State<Gateway>) -> Json<List<PresetAnswer>> {
    let all = gateway.registry().presets().all();
    Json(List::whole(all.into_iter().map(|(preset, built_in)| PresetAnswer::of(preset, built_in)).collect()))
}

/// Read an audio preset
#[utoipa::path(
    operation_id = "readPreset",
    params(("name" = String, Path)),
    context_path = "/api/v1", tag = "presets",
    responses((status = 200, description = "The preset", body = PresetAnswer), (status = 404, body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[get("/presets/<name>")]
pub(crate) fn read(_allowed: Allowed, name: &str, gateway: &State<Gateway>) -> Result<Json<PresetAnswer>, Problem> {
    let all = gateway.registry().presets().all();
    if let Some((preset, built_in)) = all.iter().find(|(preset, _)| preset.name == name) {
        return Ok(Json(PresetAnswer::of(preset.clone(), *built_in)));
    }
    let mut problem = Problem::new(ProblemKind::NoSuchRecord, format!("there is no preset '{name}'"));
    problem.nearest = dispatcher_core::nearest(name, all.iter().map(|(preset, _)| preset.name.as_str()), 3);
    Err(problem)
}

/// Create or replace an audio preset
#[utoipa::path(
    operation_id = "putPreset",
    params(("name" = String, Path)),
    context_path = "/api/v1", tag = "presets",
    request_body = PresetRequest,
    responses((status = 200, description = "The preset", body = PresetAnswer), (status = "4XX", body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[put("/presets/<name>", data = "<data>")]
pub(crate) async fn put_preset(
    allowed: Allowed,
    name: &str,
    data: RequestBody<'_>,
    gateway: &State<Gateway>,
) -> Result<Json<PresetAnswer>, Problem> {
    let request: PresetRequest = read_json(data, SMALL_BODY).await?;
    if !is_record_name(name) {
        return Err(Problem::new(ProblemKind::Invalid, "a name is 1 to 40 small letters, digits and hyphens"));
    }
    let preset = preset_of(name, request)?;
    gateway.put_preset(preset.clone(), &allowed.0.who).await?;
    Ok(Json(PresetAnswer::of(preset, false)))
}

fn preset_of(name: &str, request: PresetRequest) -> Result<OwnPreset, Problem> {
    let named =
        Format::named(&request.kind).map_err(|error| Problem::at(ProblemKind::Invalid, "/type", error.to_string()))?;
    let format = Format {
        rate: request.sample_rate.unwrap_or(named.rate),
        channels: request.channels.unwrap_or(named.channels),
        bitrate: if request.vbr { None } else { request.bitrate.or(named.bitrate) },
        vbr: request.vbr || named.vbr,
        ..named
    };
    format.check_output().map_err(|error| Problem::new(ProblemKind::Invalid, error.to_string()))?;
    Ok(OwnPreset { name: name.into(), format, purpose: request.purpose.chars().take(120).collect() })
}

/// Retire an audio preset
///
/// Requests that name it are refused from then on.
#[utoipa::path(
    operation_id = "retirePreset",
    params(("name" = String, Path)),
    context_path = "/api/v1", tag = "presets",
    responses((status = 204, description = "It is retired"), (status = 404, body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[delete("/presets/<name>")]
pub(crate) async fn retire(allowed: Allowed, name: &str, gateway: &State<Gateway>) -> Result<Status, Problem> {
    gateway.retire_preset(name, &allowed.0.who).await?;
    Ok(Status::NoContent)
}
