//! Named audio formats.

use dispatcher_audio::Format;
use dispatcher_gateway::{Gateway, OwnProfile};
use rocket::serde::json::Json;
use rocket::{State, delete, get, http::Status, put};

use super::SMALL_BODY;
use super::apps::good_name;
use crate::access::Allowed;
use crate::body::{RequestBody, read_json};
use crate::problem::Problem;
use crate::wire::{List, ProfileAnswer, ProfileRequest};

/// List audio profiles
///
/// A profile's name stands wherever an audio type is asked.
#[utoipa::path(
    operation_id = "listProfiles",
    context_path = "/api/v1", tag = "profiles",
    responses((status = 200, description = "Built in first, then the operator's own", body = List<ProfileAnswer>)),
    security(("key" = []))
)]
#[get("/profiles")]
pub(crate) fn list(_allowed: Allowed, gateway: &State<Gateway>) -> Json<List<ProfileAnswer>> {
    let all = gateway.registry().profiles().all();
    Json(List::whole(all.into_iter().map(|(profile, built_in)| ProfileAnswer::of(profile, built_in)).collect()))
}

/// Read an audio profile
#[utoipa::path(
    operation_id = "readProfile",
    params(("name" = String, Path)),
    context_path = "/api/v1", tag = "profiles",
    responses((status = 200, description = "The profile", body = ProfileAnswer), (status = 404, body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[get("/profiles/<name>")]
pub(crate) fn read(_allowed: Allowed, name: &str, gateway: &State<Gateway>) -> Result<Json<ProfileAnswer>, Problem> {
    let all = gateway.registry().profiles().all();
    if let Some((profile, built_in)) = all.iter().find(|(profile, _)| profile.name == name) {
        return Ok(Json(ProfileAnswer::of(profile.clone(), *built_in)));
    }
    let mut problem = Problem::new("no-such-record", format!("there is no profile '{name}'"));
    problem.nearest = dispatcher_core::nearest(name, all.iter().map(|(profile, _)| profile.name.as_str()), 3);
    Err(problem)
}

/// Create or replace an audio profile
#[utoipa::path(
    operation_id = "putProfile",
    params(("name" = String, Path)),
    context_path = "/api/v1", tag = "profiles",
    request_body = ProfileRequest,
    responses((status = 200, description = "The profile", body = ProfileAnswer), (status = "4XX", body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[put("/profiles/<name>", data = "<data>")]
pub(crate) async fn put_profile(
    allowed: Allowed,
    name: &str,
    data: RequestBody<'_>,
    gateway: &State<Gateway>,
) -> Result<Json<ProfileAnswer>, Problem> {
    let request: ProfileRequest = read_json(data, SMALL_BODY).await?;
    if !good_name(name) {
        return Err(Problem::new("invalid", "a name is 1 to 40 small letters, digits and hyphens"));
    }
    let profile = profile_of(name, request)?;
    gateway.put_profile(profile.clone(), &allowed.0.who).await?;
    Ok(Json(ProfileAnswer::of(profile, false)))
}

fn profile_of(name: &str, request: ProfileRequest) -> Result<OwnProfile, Problem> {
    let named = Format::named(&request.kind).map_err(|error| Problem::at("invalid", "/type", error.to_string()))?;
    let format = Format {
        rate: request.rate.unwrap_or(named.rate),
        channels: request.channels.unwrap_or(named.channels),
        bitrate: if request.vbr { None } else { request.bitrate.or(named.bitrate) },
        vbr: request.vbr || named.vbr,
        ..named
    };
    format.check_output().map_err(|error| Problem::new("invalid", error.to_string()))?;
    Ok(OwnProfile { name: name.into(), format, purpose: request.purpose.chars().take(120).collect() })
}

/// Retire an audio profile
///
/// Requests that name it are refused from then on.
#[utoipa::path(
    operation_id = "retireProfile",
    params(("name" = String, Path)),
    context_path = "/api/v1", tag = "profiles",
    responses((status = 204, description = "It is retired"), (status = 404, body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[delete("/profiles/<name>")]
pub(crate) async fn retire(allowed: Allowed, name: &str, gateway: &State<Gateway>) -> Result<Status, Problem> {
    gateway.retire_profile(name, &allowed.0.who).await?;
    Ok(Status::NoContent)
}
