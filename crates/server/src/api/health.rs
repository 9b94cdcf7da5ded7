//! `/api/v1/health` and `/api/v1/breakers`: what is measured of engines and
//! routes, and which engines are not called for a while.

use dispatcher_gateway::{Gateway, HOURS_KEPT, HealthScope};
use rocket::http::Status;
use rocket::serde::json::Json;
use rocket::{State, delete, get};

use crate::access::Allowed;
use crate::headers::Meta;
use crate::parameters::Parameters;
use crate::problem::Problem;
use crate::problem_kind::ProblemKind;
use crate::wire::{BreakerAnswer, List, MeasuredAnswer};

/// Hours that are shown unless given.
const HOURS: u32 = 24;

/// Read measured health
///
/// Calls, failures, fallbacks and times of the last hours, of every engine, voice, model or route
/// that was used. What was measured is kept for 7 days.
#[utoipa::path(
    operation_id = "readHealth",
    context_path = "/api/v1", tag = "records",
    params(
        ("scope" = Option<String>, Query, description = "engine (default), voice, model or route"),
        ("hours" = Option<u32>, Query, description = "1 to 168 (default: 24); the present hour is the last"),
    ),
    responses((status = 200, description = "What was measured, by name", body = List<MeasuredAnswer>)),
    security(("key" = []))
)]
#[get("/health")]
pub(crate) async fn measured(
    _allowed: Allowed,
    meta: Meta,
    gateway: &State<Gateway>,
) -> Result<Json<List<MeasuredAnswer>>, Problem> {
    let mut given = Parameters::of_query(&meta.query)?;
    let scope = given.text("scope").unwrap_or_else(|| HealthScope::Engine.name().into());
    let hours = given.number("hours")?.unwrap_or(HOURS);
    given.finish()?;
    let wrong = || format!("scope is engine, voice, model or route, not '{scope}'");
    let of = HealthScope::from_name(&scope).ok_or_else(|| Problem::new(ProblemKind::Invalid, wrong()))?;
    if !(1..=HOURS_KEPT).contains(&i64::from(hours)) {
        return Err(Problem::new(ProblemKind::Invalid, format!("hours is 1 to {HOURS_KEPT}, not {hours}")));
    }
    let measured = gateway.health(of, hours).await?;
    Ok(Json(List::whole(measured.into_iter().map(MeasuredAnswer::from).collect())))
}

/// List circuit breakers
///
/// Of engines that have failed since the service started, one for each credential. Routes skip an
/// engine whose breaker is open, and requests for this engine alone are refused at once.
#[utoipa::path(
    operation_id = "listBreakers",
    context_path = "/api/v1", tag = "records",
    responses((status = 200, description = "The breakers, by engine", body = List<BreakerAnswer>)),
    security(("key" = []))
)]
#[get("/breakers")]
pub(crate) fn breakers(_allowed: Allowed, gateway: &State<Gateway>) -> Json<List<BreakerAnswer>> {
    Json(List::whole(gateway.breakers().into_iter().map(BreakerAnswer::from).collect()))
}

/// Close the breakers of an engine
///
/// Its failures are forgotten, and it is called again at once.
#[utoipa::path(
    operation_id = "closeBreakers",
    params(("engine" = String, Path)),
    context_path = "/api/v1", tag = "records",
    responses((status = 204, description = "They are closed"), (status = 404, body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[delete("/breakers/<engine>")]
pub(crate) async fn close(allowed: Allowed, engine: &str, gateway: &State<Gateway>) -> Result<Status, Problem> {
    gateway.reset_breakers(engine, &allowed.0.who).await?;
    Ok(Status::NoContent)
}
