//! `/api/v1/canaries`: sentences that voices speak at intervals, and what was
//! measured of them.

use dispatcher_gateway::Gateway;
use rocket::http::Status;
use rocket::serde::json::Json;
use rocket::{State, delete, get, post, put};

use super::SMALL_BODY;
use crate::access::Allowed;
use crate::body::{RequestBody, read_json};
use crate::headers::Meta;
use crate::parameters::Parameters;
use crate::problem::Problem;
use crate::wire::{CanaryAnswer, CanaryRequest, CanaryRunAnswer, List};

/// List canaries
#[utoipa::path(
    operation_id = "listCanaries",
    context_path = "/api/v1", tag = "canaries",
    responses((status = 200, description = "The canaries, by name", body = List<CanaryAnswer>)),
    security(("key" = []))
)]
#[get("/canaries")]
pub(crate) async fn list(_allowed: Allowed, gateway: &State<Gateway>) -> Result<Json<List<CanaryAnswer>>, Problem> {
    Ok(Json(List::whole(gateway.canaries().await?.into_iter().map(CanaryAnswer::from).collect())))
}

/// Read a canary
#[utoipa::path(
    operation_id = "readCanary",
    params(("name" = String, Path)),
    context_path = "/api/v1", tag = "canaries",
    responses((status = 200, description = "The canary", body = CanaryAnswer), (status = 404, body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[get("/canaries/<name>")]
pub(crate) async fn read(
    _allowed: Allowed,
    name: &str,
    gateway: &State<Gateway>,
) -> Result<Json<CanaryAnswer>, Problem> {
    Ok(Json(gateway.canary(name).await?.into()))
}

/// Create or replace a canary
///
/// It runs within half a minute, and then at its interval. The first successful run is the reference; a new
/// version of the canary begins with a new one. Each run is charged to the app.
#[utoipa::path(
    operation_id = "putCanary",
    params(("name" = String, Path)),
    context_path = "/api/v1", tag = "canaries",
    request_body = CanaryRequest,
    responses((status = 200, description = "The canary", body = CanaryAnswer), (status = "4XX", body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[put("/canaries/<name>", data = "<data>")]
pub(crate) async fn put_canary(
    allowed: Allowed,
    name: &str,
    data: RequestBody<'_>,
    gateway: &State<Gateway>,
) -> Result<Json<CanaryAnswer>, Problem> {
    let request: CanaryRequest = read_json(data, SMALL_BODY).await?;
    Ok(Json(gateway.put_canary(request.into_canary(name), &allowed.0.who).await?.into()))
}

/// Retire a canary
#[utoipa::path(
    operation_id = "retireCanary",
    params(("name" = String, Path)),
    context_path = "/api/v1", tag = "canaries",
    responses((status = 204, description = "It is retired"), (status = 404, body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[delete("/canaries/<name>")]
pub(crate) async fn retire(allowed: Allowed, name: &str, gateway: &State<Gateway>) -> Result<Status, Problem> {
    gateway.retire_canary(name, &allowed.0.who).await?;
    Ok(Status::NoContent)
}

/// Default and maximum number of runs.
const RUNS: u32 = 20;
const MOST_RUNS: u32 = 500;

/// List the runs of a canary
///
/// The last 500 runs are kept, and the reference.
#[utoipa::path(
    operation_id = "listCanaryRuns",
    context_path = "/api/v1", tag = "canaries",
    params(("name" = String, Path), ("limit" = Option<u32>, Query, description = "1 to 500 (default: 20)")),
    responses((status = 200, description = "The runs, newest first", body = List<CanaryRunAnswer>), (status = 404, body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[get("/canaries/<name>/runs")]
pub(crate) async fn runs(
    _allowed: Allowed,
    name: &str,
    meta: Meta,
    gateway: &State<Gateway>,
) -> Result<Json<List<CanaryRunAnswer>>, Problem> {
    let mut given = Parameters::of_query(&meta.query)?;
    let limit = given.limit(RUNS, MOST_RUNS)?;
    given.finish()?;
    let view = gateway.canary(name).await?;
    let runs = gateway.canary_runs(name, i64::from(limit)).await?;
    Ok(Json(List::whole(runs.into_iter().map(|run| CanaryRunAnswer::of(&view, run)).collect())))
}

/// Run a canary now
#[utoipa::path(
    operation_id = "runCanary",
    params(("name" = String, Path)),
    context_path = "/api/v1", tag = "canaries",
    responses((status = 200, description = "The canary, with this run as the last one", body = CanaryAnswer), (status = 404, body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[post("/canaries/<name>/runs")]
pub(crate) async fn run(allowed: Allowed, name: &str, gateway: &State<Gateway>) -> Result<Json<CanaryAnswer>, Problem> {
    Ok(Json(gateway.run_canary(name, &allowed.0.who).await?.into()))
}

/// Accept the last run of a canary
///
/// Later runs are compared with it: the voice sounds as it should. Open alerts about the canary end.
#[utoipa::path(
    operation_id = "acceptCanary",
    params(("name" = String, Path)),
    context_path = "/api/v1", tag = "canaries",
    responses((status = 200, description = "The canary", body = CanaryAnswer), (status = "4XX", body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[post("/canaries/<name>/accept")]
pub(crate) async fn accept(
    allowed: Allowed,
    name: &str,
    gateway: &State<Gateway>,
) -> Result<Json<CanaryAnswer>, Problem> {
    Ok(Json(gateway.accept_canary(name, &allowed.0.who).await?.into()))
}
