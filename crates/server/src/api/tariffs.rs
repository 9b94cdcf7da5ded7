//! `/tariffs`: how engines charge, and what an operator agreed with them instead.

use dispatcher_core::{Tariff, Work};
use dispatcher_gateway::Gateway;
use rocket::http::Status;
use rocket::serde::json::Json;
use rocket::{State, delete, get, put};

use super::SMALL_BODY;
use crate::access::Allowed;
use crate::body::{RequestBody, read_json};
use crate::headers::{Meta, one_of};
use crate::parameters::Parameters;
use crate::problem::Problem;
use crate::problem_kind::ProblemKind;
use crate::wire::{List, TariffAnswer, TariffSchema, TariffVersion};

fn work_of(word: &str) -> Result<Work, Problem> {
    one_of("work", word, &Work::ALL, Work::name)
}

/// List tariffs
///
/// How each engine charges each kind of work at present: by its sheet, or as an operator set it.
#[utoipa::path(
    operation_id = "listTariffs",
    context_path = "/api/v1", tag = "engines",
    params(("engine" = Option<String>, Query, description = "Tariffs of one engine")),
    responses((status = 200, description = "Tariffs, by engine", body = List<TariffAnswer>)),
    security(("key" = []))
)]
#[get("/tariffs")]
pub(crate) fn list(
    _allowed: Allowed,
    meta: Meta,
    gateway: &State<Gateway>,
) -> Result<Json<List<TariffAnswer>>, Problem> {
    let mut given = Parameters::of_query(&meta.query)?;
    let engine = given.text("engine");
    given.finish()?;
    let tariffs = gateway.tariffs(engine.as_deref())?;
    Ok(Json(List::whole(tariffs.into_iter().map(TariffAnswer::from).collect())))
}

/// Set a tariff
///
/// In place of the one of the engine's sheet, for calls that begin from now on. Earlier charges stay as they
/// are; a price change takes effect at midnight UTC of its day.
#[utoipa::path(
    operation_id = "putTariff",
    context_path = "/api/v1", tag = "engines",
    params(("engine" = String, Path), ("work" = String, Path, description = "`synthesis` or `recognition`")),
    request_body = TariffSchema,
    responses((status = 200, description = "The tariff", body = TariffAnswer), (status = "4XX", body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[put("/tariffs/<engine>/<work>", data = "<data>")]
pub(crate) async fn put_tariff(
    allowed: Allowed,
    engine: &str,
    work: &str,
    data: RequestBody<'_>,
    gateway: &State<Gateway>,
) -> Result<Json<TariffAnswer>, Problem> {
    let work = work_of(work)?;
    let tariff: Tariff = read_json(data, SMALL_BODY).await?;
    gateway.put_tariff(engine, work, tariff, &allowed.0.who).await?;
    let in_force = gateway.tariffs(Some(engine))?.into_iter().find(|it| it.work == work);
    let missing = || Problem::new(ProblemKind::NoSuchRecord, format!("{engine} has no tariff for {}", work.name()));
    Ok(Json(in_force.ok_or_else(missing)?.into()))
}

/// Retire a tariff
///
/// The one of the engine's sheet applies again, from the next call on.
#[utoipa::path(
    operation_id = "retireTariff",
    context_path = "/api/v1", tag = "engines",
    params(("engine" = String, Path), ("work" = String, Path)),
    responses((status = 204, description = "The tariff is retired"), (status = 404, body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[delete("/tariffs/<engine>/<work>")]
pub(crate) async fn retire(
    allowed: Allowed,
    engine: &str,
    work: &str,
    gateway: &State<Gateway>,
) -> Result<Status, Problem> {
    gateway.retire_tariff(engine, work_of(work)?, &allowed.0.who).await?;
    Ok(Status::NoContent)
}

/// List a tariff's versions
///
/// Those that operators set, the newest first; empty if none was ever set.
#[utoipa::path(
    operation_id = "listTariffVersions",
    context_path = "/api/v1", tag = "engines",
    params(("engine" = String, Path), ("work" = String, Path)),
    responses((status = 200, description = "The newest first", body = List<TariffVersion>), (status = 404, body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[get("/tariffs/<engine>/<work>/versions")]
pub(crate) async fn versions(
    _allowed: Allowed,
    engine: &str,
    work: &str,
    gateway: &State<Gateway>,
) -> Result<Json<List<TariffVersion>>, Problem> {
    let rows = gateway.tariff_versions(engine, work_of(work)?).await?;
    Ok(Json(List::whole(rows.into_iter().map(TariffVersion::from).collect())))
}
