//! `/credits` and `/rates`: what engines include, and what currencies are worth.

use dispatcher_core::Currency;
use dispatcher_gateway::{Gateway, GatewayError};
use rocket::http::Status;
use rocket::serde::json::Json;
use rocket::{State, delete, get, put};

use super::SMALL_BODY;
use crate::access::Allowed;
use crate::body::{RequestBody, read_json};
use crate::problem::Problem;
use crate::problem_kind::ProblemKind;
use crate::wire::{CreditAnswer, CreditRequest, List, RatesAnswer, RatesRequest};

/// List credits
///
/// What each engine includes, what is left of it, and when it will be used at the pace of the last seven days.
#[utoipa::path(
    operation_id = "listCredits",
    context_path = "/api/v1", tag = "engines",
    responses((status = 200, description = "Credits, by engine", body = List<CreditAnswer>)),
    security(("key" = []))
)]
#[get("/credits")]
pub(crate) async fn list(_allowed: Allowed, gateway: &State<Gateway>) -> Result<Json<List<CreditAnswer>>, Problem> {
    let views = gateway.credits().await?;
    Ok(Json(List::whole(views.into_iter().map(CreditAnswer::from).collect())))
}

/// Set a credit
///
/// An amount that an engine includes in each period, or a trial credit until a day.
#[utoipa::path(
    operation_id = "putCredit",
    context_path = "/api/v1", tag = "engines",
    params(("engine" = String, Path), ("name" = String, Path)),
    request_body = CreditRequest,
    responses((status = 200, description = "The credit", body = CreditAnswer), (status = "4XX", body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[put("/credits/<engine>/<name>", data = "<data>")]
pub(crate) async fn put_credit(
    allowed: Allowed,
    engine: &str,
    name: &str,
    data: RequestBody<'_>,
    gateway: &State<Gateway>,
) -> Result<Json<CreditAnswer>, Problem> {
    let request: CreditRequest = read_json(data, SMALL_BODY).await?;
    let credit = request.into_credit(engine, name)?;
    gateway.put_credit(&credit, &allowed.0.who).await?;
    let views = gateway.credits().await?;
    let own = views.into_iter().find(|view| view.credit.engine == engine && view.credit.name == name);
    let missing = || Problem::new(ProblemKind::NoSuchRecord, format!("{engine} has no credit '{name}'"));
    Ok(Json(own.ok_or_else(missing)?.into()))
}

/// Retire a credit
#[utoipa::path(
    operation_id = "retireCredit",
    context_path = "/api/v1", tag = "engines",
    params(("engine" = String, Path), ("name" = String, Path)),
    responses((status = 204, description = "The credit is retired"), (status = 404, body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[delete("/credits/<engine>/<name>")]
pub(crate) async fn retire_credit(
    allowed: Allowed,
    engine: &str,
    name: &str,
    gateway: &State<Gateway>,
) -> Result<Status, Problem> {
    gateway.retire_credit(engine, name, &allowed.0.who).await?;
    Ok(Status::NoContent)
}

/// List rates
///
/// What other currencies are worth in the operator's (`currency` of the configuration).
#[utoipa::path(
    operation_id = "listRates",
    context_path = "/api/v1", tag = "records",
    responses((status = 200, description = "Rates, by currency", body = List<RatesAnswer>)),
    security(("key" = []))
)]
#[get("/rates")]
pub(crate) async fn rates(_allowed: Allowed, gateway: &State<Gateway>) -> Result<Json<List<RatesAnswer>>, Problem> {
    let table = gateway.rates().await?;
    let answer = |(currency, rates): (Currency, _)| RatesAnswer {
        currency: currency.to_string(),
        to: table.to.to_string(),
        rates,
    };
    Ok(Json(List::whole(table.rates.into_iter().map(answer).collect())))
}

/// Set the rates of a currency
///
/// In place of those before. A sum of usage is converted day by day, by the rate of the day.
#[utoipa::path(
    operation_id = "putRates",
    context_path = "/api/v1", tag = "records",
    params(("currency" = String, Path)),
    request_body = RatesRequest,
    responses((status = 200, description = "The rates", body = RatesAnswer), (status = "4XX", body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[put("/rates/<currency>", data = "<data>")]
pub(crate) async fn put_rates(
    allowed: Allowed,
    currency: &str,
    data: RequestBody<'_>,
    gateway: &State<Gateway>,
) -> Result<Json<RatesAnswer>, Problem> {
    let of: Currency = currency.parse().map_err(GatewayError::from)?;
    let RatesRequest { rates } = read_json(data, SMALL_BODY).await?;
    gateway.put_rates(of, rates.clone(), &allowed.0.who).await?;
    Ok(Json(RatesAnswer { currency: of.to_string(), to: gateway.rates().await?.to.to_string(), rates }))
}

/// Retire the rates of a currency
#[utoipa::path(
    operation_id = "retireRates",
    context_path = "/api/v1", tag = "records",
    params(("currency" = String, Path)),
    responses((status = 204, description = "They are retired"), (status = 404, body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[delete("/rates/<currency>")]
pub(crate) async fn retire_rates(
    allowed: Allowed,
    currency: &str,
    gateway: &State<Gateway>,
) -> Result<Status, Problem> {
    let of: Currency = currency.parse().map_err(GatewayError::from)?;
    gateway.retire_rates(of, &allowed.0.who).await?;
    Ok(Status::NoContent)
}
