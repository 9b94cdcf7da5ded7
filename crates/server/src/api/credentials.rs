//! Credentials: in, listed without secrets, revoked.

use std::time::Duration;

use dispatcher_gateway::{CredentialView, Gateway};
use rocket::serde::json::Json;
use rocket::{State, delete, get, http::Status, post};
use secrecy::ExposeSecret as _;
use time::Date;
use time::macros::format_description;

use crate::access::Allowed;
use crate::body::{RequestBody, read_small};
use crate::problem::Problem;
use crate::problem_kind::ProblemKind;
use crate::wire::{CredentialAnswer, CredentialRequest, List, RootAnswer, TrialAnswer};

/// Key files are a few KiB.
const MAX_BODY: u64 = 256 << 10;

/// List credentials
#[utoipa::path(
    operation_id = "listCredentials",
    context_path = "/api/v1", tag = "credentials",
    responses((status = 200, description = "Credentials, without their secrets", body = List<CredentialAnswer>)),
    security(("key" = []))
)]
#[get("/credentials")]
pub(crate) async fn list(_allowed: Allowed, gateway: &State<Gateway>) -> Result<Json<List<CredentialAnswer>>, Problem> {
    let views = gateway.credentials().await?;
    Ok(Json(List::whole(views.into_iter().map(CredentialAnswer::from).collect())))
}

/// Add a credential
///
/// The secret is sealed at once. An existing name gets a new version.
#[utoipa::path(
    operation_id = "addCredential",
    context_path = "/api/v1", tag = "credentials",
    request_body = CredentialRequest,
    responses((status = 201, description = "The credential", body = CredentialAnswer), (status = "4XX", body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[post("/credentials", data = "<data>")]
pub(crate) async fn add(
    allowed: Allowed,
    data: RequestBody<'_>,
    gateway: &State<Gateway>,
) -> Result<(Status, Json<CredentialAnswer>), Problem> {
    let body = secrecy::zeroize::Zeroizing::new(read_small(data, MAX_BODY).await?);
    let request: CredentialRequest = serde_json::from_slice(&body).map_err(|error| {
        // The text of the error may quote what it stumbled over.
        let mut problem = Problem::new(ProblemKind::BadRequest, "send {\"engine\": …, \"parts\": {name: secret, …}}");
        problem.errors.push(serde_json::json!({"line": error.line(), "column": error.column()}));
        problem
    })?;
    let ends = request.ends.as_deref().map(end_of).transpose()?;
    let parts = match (request.parts, request.key_file) {
        (Some(parts), None) => parts,
        (None, Some(file)) => gateway.parts_of_file(&request.engine, file.expose_secret())?,
        _ => return Err(Problem::new(ProblemKind::Invalid, "send either parts or key_file")),
    };
    let view = gateway.add_credential(&request.engine, request.name.as_deref(), parts, &allowed.0.who).await?;
    let view = match ends {
        Some(at) => gateway.note_credential_end(view, at).await?,
        None => view,
    };
    let next = next_step(gateway, &view).await;
    Ok((Status::Created, Json(CredentialAnswer { next: Some(next), ..view.into() })))
}

/// The end of a day, in microseconds.
fn end_of(day: &str) -> Result<i64, Problem> {
    let wrong = || Problem::at(ProblemKind::Invalid, "/ends", format!("ends is a day as 2027-03-31, not '{day}'"));
    let read = Date::parse(day, format_description!("[year]-[month]-[day]")).map_err(|_| wrong())?;
    let next = read.next_day().ok_or_else(wrong)?.midnight().assume_utc().unix_timestamp();
    Ok(next * 1_000_000)
}

/// How long the voices of a new credential are waited for.
const VOICES_WITHIN: Duration = Duration::from_secs(10);

/// What to do once a credential is there; its engine's voices are fetched first.
async fn next_step(gateway: &Gateway, view: &CredentialView) -> String {
    let engine = &view.engine;
    if !view.state.serves() {
        return format!("see what it lacks: dispatcher credential check {}", view.name);
    }
    let registry = gateway.registry();
    let lists = registry.engine(engine).is_ok_and(|engine| engine.sheet().catalogue.is_some());
    if !lists {
        return format!("try the engine: dispatcher engine check {engine}");
    }
    // It goes on where nobody waits for it any longer.
    let (fetching, name) = (gateway.clone(), engine.clone());
    let fetched = tokio::spawn(async move { fetching.refresh_catalogue(&name).await });
    match tokio::time::timeout(VOICES_WITHIN, fetched).await {
        Ok(Ok(Ok(changes))) => {
            format!("{} voices are listed; choose one: dispatcher voices --engine {engine}", changes.voices)
        }
        Ok(Ok(Err(error))) => format!("{error}; try again: dispatcher engine refresh {engine}"),
        _ => format!("its voices are still being fetched; they appear in: dispatcher voices --engine {engine}"),
    }
}

/// Revoke a credential
///
/// The stored secret is erased.
#[utoipa::path(
    operation_id = "revokeCredential",
    context_path = "/api/v1", tag = "credentials",
    responses((status = 204, description = "It is revoked"), (status = 404, body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[delete("/credentials/<name>")]
pub(crate) async fn revoke(allowed: Allowed, name: &str, gateway: &State<Gateway>) -> Result<Status, Problem> {
    gateway.revoke_credential(name, &allowed.0.who).await?;
    Ok(Status::NoContent)
}

/// Check a credential
///
/// Checks whether the engine accepts the credential and which rights it has, by a call without cost
/// if the sheet has one.
#[utoipa::path(
    operation_id = "checkCredential",
    context_path = "/api/v1", tag = "credentials",
    responses((status = 200, description = "What was found", body = TrialAnswer), (status = 404, body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[post("/credentials/<name>/check")]
pub(crate) async fn check(
    allowed: Allowed,
    name: &str,
    gateway: &State<Gateway>,
) -> Result<Json<TrialAnswer>, Problem> {
    Ok(Json(gateway.check_credential(name, &allowed.0.who).await?.into()))
}

/// Confirm where a credential is sent
///
/// A credential is bound to hosts. If the endpoint of its engine has changed, the credential is not
/// sent until it is confirmed.
#[utoipa::path(
    operation_id = "confirmCredential",
    context_path = "/api/v1", tag = "credentials",
    responses((status = 200, description = "The credential", body = CredentialAnswer), (status = 404, body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[post("/credentials/<name>/confirm")]
pub(crate) async fn confirm(
    allowed: Allowed,
    name: &str,
    gateway: &State<Gateway>,
) -> Result<Json<CredentialAnswer>, Problem> {
    Ok(Json(gateway.confirm_credential(name, &allowed.0.who).await?.into()))
}

/// Change the root key
///
/// Creates a new root key and seals all credentials under it, at run time. After a crash, the
/// change is completed at the next start.
#[utoipa::path(
    operation_id = "changeRootKey",
    context_path = "/api/v1", tag = "credentials",
    responses((status = 200, description = "It is changed", body = RootAnswer), (status = "4XX", body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[post("/root-key")]
pub(crate) async fn change_root(allowed: Allowed, gateway: &State<Gateway>) -> Result<Json<RootAnswer>, Problem> {
    Ok(Json(RootAnswer { credentials: gateway.change_root_key(&allowed.0.who).await? }))
}
