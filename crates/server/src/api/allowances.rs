//! `/allowances`: how much apps and keys may use in a period.

use dispatcher_gateway::Gateway;
use rocket::serde::json::Json;
use rocket::{State, delete, get, http::Status, post};

use super::SMALL_BODY;
use crate::access::Allowed;
use crate::body::{RequestBody, read_json};
use crate::headers::Meta;
use crate::parameters::Parameters;
use crate::problem::Problem;
use crate::wire::{AllowanceAnswer, AllowanceRequest, List};

/// List allowances
///
/// With what was used of each in its period. App keys see their own app only.
#[utoipa::path(
    operation_id = "listAllowances",
    context_path = "/api/v1", tag = "apps",
    params(("app" = Option<String>, Query, description = "For operators: allowances of one app")),
    responses((status = 200, description = "Allowances, by app", body = List<AllowanceAnswer>)),
    security(("key" = []))
)]
#[get("/allowances")]
pub(crate) async fn list(
    allowed: Allowed,
    meta: Meta,
    gateway: &State<Gateway>,
) -> Result<Json<List<AllowanceAnswer>>, Problem> {
    let mut given = Parameters::of_query(&meta.query)?;
    let named = given.text("app");
    given.finish()?;
    let views = gateway.allowances(&allowed.0, named).await?;
    Ok(Json(List::whole(views.into_iter().map(AllowanceAnswer::from).collect())))
}

/// Add an allowance
///
/// Limits what an app, or one of its keys, may use in each period: money, characters, seconds of
/// recognised audio, or requests. What was used in the current period counts. A request that may exceed
/// an allowance is refused with 429 before any engine is called; the answer says what is left and when
/// it renews. With an allowance of money, only engines that charge in its currency are used.
#[utoipa::path(
    operation_id = "addAllowance",
    context_path = "/api/v1", tag = "apps",
    params(("name" = String, Path)),
    request_body = AllowanceRequest,
    responses(
        (status = 201, description = "The allowance", body = AllowanceAnswer),
        (status = "4XX", body = Problem, content_type = "application/problem+json"),
    ),
    security(("key" = []))
)]
#[post("/apps/<name>/allowances", data = "<data>")]
pub(crate) async fn add(
    allowed: Allowed,
    name: &str,
    data: RequestBody<'_>,
    gateway: &State<Gateway>,
) -> Result<(Status, Json<AllowanceAnswer>), Problem> {
    let request: AllowanceRequest = read_json(data, SMALL_BODY).await?;
    let allowance = request.allowance()?;
    let view = gateway.add_allowance(name, request.key, allowance, &allowed.0.who).await?;
    Ok((Status::Created, Json(view.into())))
}

/// Remove an allowance
///
/// From the next request on it limits nothing.
#[utoipa::path(
    operation_id = "removeAllowance",
    context_path = "/api/v1", tag = "apps",
    params(("name" = String, Path), ("id" = String, Path)),
    responses((status = 204, description = "It was removed"), (status = 404, body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[delete("/apps/<name>/allowances/<id>")]
pub(crate) async fn remove(
    allowed: Allowed,
    name: &str,
    id: &str,
    gateway: &State<Gateway>,
) -> Result<Status, Problem> {
    gateway.remove_allowance(name, id, &allowed.0.who).await?;
    Ok(Status::NoContent)
}
