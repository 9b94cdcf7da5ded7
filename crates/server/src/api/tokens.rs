//! `/tokens`: what pages and programs without a key call with.

use dispatcher_core::{GrantRefusal, TokenCall, TokenTerms};
use dispatcher_gateway::{Gateway, GatewayError, now_micros};
use rocket::serde::json::Json;
use rocket::{State, delete, get, http::Status, post};
use secrecy::ExposeSecret as _;

use super::{SMALL_BODY, app_of};
use crate::access::Allowed;
use crate::body::{RequestBody, read_json};
use crate::headers::Meta;
use crate::problem::Problem;
use crate::problem_kind::ProblemKind;
use crate::wire::{List, TokenAnswer, TokenRequest};

/// Seconds until a token ends, where nothing is said.
const SOON: u64 = 900;
const SHORTEST: u64 = 10;
const LONGEST: u64 = 30 * 86_400;
/// Routes of one token.
const MOST_ROUTES: usize = 50;

fn terms_of(request: &TokenRequest) -> Result<TokenTerms, Problem> {
    let invalid = |pointer: &str, detail: String| Problem::at(ProblemKind::Invalid, pointer, detail);
    let mut calls = Vec::new();
    for (number, name) in request.calls.iter().enumerate() {
        let known = TokenCall::ALL.map(TokenCall::name).join(", ");
        let call = TokenCall::of_name(name)
            .ok_or_else(|| invalid(&format!("/calls/{number}"), format!("a call is one of {known}, not '{name}'")))?;
        if !calls.contains(&call) {
            calls.push(call);
        }
    }
    if calls.is_empty() {
        return Err(invalid("/calls", "name the calls that the token is for".into()));
    }
    if request.routes.len() > MOST_ROUTES {
        return Err(invalid("/routes", format!("a token is for at most {MOST_ROUTES} routes")));
    }
    let milliseconds = match request.seconds {
        None => None,
        Some(seconds) if (0.0..=1e9).contains(&seconds) => Some((seconds * 1_000.0).round() as u64),
        Some(seconds) => return Err(invalid("/seconds", format!("seconds are 0 to 1000000000, not {seconds}"))),
    };
    if let Some(cost) = request.cost.filter(|cost| cost.nanos < 0) {
        return Err(invalid("/cost", format!("the amount is less than nothing: {cost}")));
    }
    Ok(TokenTerms {
        calls,
        routes: request.routes.clone(),
        origin: request.origin.clone(),
        characters: request.characters,
        milliseconds,
        cost: request.cost,
        end_user: request.end_user.clone(),
    })
}

/// Add a token
///
/// A token allows some calls for an app until it expires, within its amounts: for pages and programs
/// that must not have a key. It is shown in this answer only. Send it as `Authorization: Bearer TOKEN`,
/// or as the query parameter `access_token`.
#[utoipa::path(
    operation_id = "addToken",
    context_path = "/api/v1", tag = "apps",
    params(("app" = Option<String>, Query, description = "For operators: the app (default: the caller's own)")),
    request_body = TokenRequest,
    responses((status = 201, description = "The token", body = TokenAnswer), (status = "4XX", body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[post("/tokens", data = "<data>")]
pub(crate) async fn add(
    allowed: Allowed,
    meta: Meta,
    data: RequestBody<'_>,
    gateway: &State<Gateway>,
) -> Result<(Status, Json<TokenAnswer>), Problem> {
    let app = gateway.app(&app_of(&allowed.0, &meta, gateway).await?).await?;
    let request: TokenRequest = read_json(data, SMALL_BODY).await?;
    if allowed.0.grants.is_some() {
        return Err(GatewayError::from(GrantRefusal::Token).into());
    }
    let terms = terms_of(&request)?;
    let seconds = request.expires_in.unwrap_or(SOON);
    if !(SHORTEST..=LONGEST).contains(&seconds) {
        let detail = format!("expires_in is {SHORTEST} to {LONGEST} seconds, not {seconds}");
        return Err(Problem::at(ProblemKind::Invalid, "/expires_in", detail));
    }
    let expires_at = now_micros() + i64::try_from(seconds).unwrap_or_default() * 1_000_000;
    let (view, secret) = gateway.add_token(&app, (&request.label, terms, expires_at), &allowed.0.who).await?;
    let answer = TokenAnswer { token: Some(secret.expose_secret().to_owned()), ..view.into() };
    Ok((Status::Created, Json(answer)))
}

/// List tokens
///
/// The newest 500 tokens of an app, without the tokens themselves, and what was used with each. A token
/// is listed until 7 days after its end.
#[utoipa::path(
    operation_id = "listTokens",
    context_path = "/api/v1", tag = "apps",
    params(("app" = Option<String>, Query, description = "For operators: the app (default: the caller's own)")),
    responses((status = 200, description = "Tokens", body = List<TokenAnswer>)),
    security(("key" = []))
)]
#[get("/tokens")]
pub(crate) async fn list(
    allowed: Allowed,
    meta: Meta,
    gateway: &State<Gateway>,
) -> Result<Json<List<TokenAnswer>>, Problem> {
    let app = app_of(&allowed.0, &meta, gateway).await?;
    let tokens = gateway.tokens(&app).await?;
    Ok(Json(List::whole(tokens.into_iter().map(TokenAnswer::from).collect())))
}

/// Revoke a token
///
/// From the next request on it is refused; running requests continue.
#[utoipa::path(
    operation_id = "revokeToken",
    context_path = "/api/v1", tag = "apps",
    params(
        ("id" = String, Path),
        ("app" = Option<String>, Query, description = "For operators: the app (default: the caller's own)"),
    ),
    responses((status = 204, description = "It is revoked"), (status = 404, body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[delete("/tokens/<id>")]
pub(crate) async fn revoke(
    allowed: Allowed,
    meta: Meta,
    id: &str,
    gateway: &State<Gateway>,
) -> Result<Status, Problem> {
    let app = app_of(&allowed.0, &meta, gateway).await?;
    gateway.revoke_token(&app, id, &allowed.0.who).await?;
    Ok(Status::NoContent)
}
