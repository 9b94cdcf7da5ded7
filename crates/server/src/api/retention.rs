//! `/retention`: how long records are kept.

use dispatcher_gateway::{ErasureMode, Gateway, RetentionKind};
use rocket::serde::json::Json;
use rocket::{State, delete, get, post, put};

use super::{Meta, SMALL_BODY};
use crate::access::Allowed;
use crate::body::{RequestBody, read_json};
use crate::headers::one_of;
use crate::parameters::Parameters;
use crate::problem::Problem;
use crate::problem_kind::ProblemKind;
use crate::uploads::Uploads;
use crate::wire::{List, RemovalAnswer, RetentionAnswer, RetentionRequest};

fn kind_of(word: &str) -> Result<RetentionKind, Problem> {
    one_of("kind", word, RetentionKind::ALL, RetentionKind::name)
}

/// List how long records are kept
///
/// Every kind of records that may have a rule. Entries of the ledger and sums of the usage always stay.
#[utoipa::path(
    operation_id = "listRetention",
    context_path = "/api/v1", tag = "records",
    responses((status = 200, description = "Kinds of records", body = List<RetentionAnswer>)),
    security(("key" = []))
)]
#[get("/retention")]
pub(crate) async fn list(_allowed: Allowed, gateway: &State<Gateway>) -> Result<Json<List<RetentionAnswer>>, Problem> {
    let kinds = gateway.retention().await?;
    Ok(Json(List::whole(kinds.into_iter().map(RetentionAnswer::from).collect())))
}

/// Set how long records of a kind are kept
///
/// Older ones are removed within the hour. What removed dispatches used stays counted in allowances, and what
/// they cost stays in the ledger and the usage.
#[utoipa::path(
    operation_id = "setRetention",
    context_path = "/api/v1", tag = "records",
    params(("kind" = String, Path)),
    request_body = RetentionRequest,
    responses((status = 200, description = "The rule", body = RetentionAnswer), (status = "4XX", body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[put("/retention/<kind>", data = "<data>")]
pub(crate) async fn set(
    allowed: Allowed,
    kind: &str,
    data: RequestBody<'_>,
    gateway: &State<Gateway>,
) -> Result<Json<RetentionAnswer>, Problem> {
    let kind = kind_of(kind)?;
    let request: RetentionRequest = read_json(data, SMALL_BODY).await?;
    gateway.set_retention(kind, Some(request.days), &allowed.0.who).await?;
    let set = gateway.retention().await?.into_iter().find(|retention| retention.kind == kind);
    let missing = || Problem::new(ProblemKind::NoSuchRecord, format!("there is no rule for {kind}"));
    Ok(Json(set.ok_or_else(missing)?.into()))
}

/// End the rule of a kind of records
#[utoipa::path(
    operation_id = "endRetention",
    context_path = "/api/v1", tag = "records",
    params(("kind" = String, Path)),
    responses((status = 204, description = "The rule is ended: its records stay"), (status = 404, body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[delete("/retention/<kind>")]
pub(crate) async fn end(
    allowed: Allowed,
    kind: &str,
    gateway: &State<Gateway>,
) -> Result<rocket::http::Status, Problem> {
    gateway.set_retention(kind_of(kind)?, None, &allowed.0.who).await?;
    Ok(rocket::http::Status::NoContent)
}

/// Remove old records now
///
/// What is done every hour anyway. With `dry_run` nothing is removed, and the answer says what would be.
#[utoipa::path(
    operation_id = "removeOldRecords",
    context_path = "/api/v1", tag = "records",
    params(("dry_run" = Option<bool>, Query)),
    responses((status = 200, description = "Number of records by kind, of those kinds that have a rule", body = List<RemovalAnswer>)),
    security(("key" = []))
)]
#[post("/retention/removal")]
pub(crate) async fn remove(
    _allowed: Allowed,
    meta: Meta,
    gateway: &State<Gateway>,
    uploads: &State<Uploads>,
) -> Result<Json<List<RemovalAnswer>>, Problem> {
    let mut given = Parameters::of_query(&meta.query)?;
    let dry_run = given.flag("dry_run")?.unwrap_or(false);
    given.finish()?;
    let mode = if dry_run { ErasureMode::Count } else { ErasureMode::Erase };
    let mut runs = if dry_run { gateway.preview_retention().await? } else { gateway.run_retention().await? };
    if let Some(run) = runs.iter_mut().find(|run| run.kind == RetentionKind::Uploads)
        && let Ok(days) = u32::try_from(run.days)
    {
        let removed = uploads.remove_older(days, mode).await;
        run.records = i64::try_from(removed).unwrap_or(i64::MAX);
    }
    Ok(Json(List::whole(runs.into_iter().map(RemovalAnswer::from).collect())))
}
