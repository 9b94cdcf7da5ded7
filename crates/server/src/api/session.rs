//! The console's session.

use dispatcher_gateway::{Gateway, now_micros};
use dispatcher_vault::{hash_key, hash_password};
use rocket::http::{CookieJar, Status};
use rocket::serde::json::Json;
use rocket::{Data, State, delete, get, post, put};
use secrecy::ExposeSecret as _;

use crate::access::{Allowed, COOKIE};
use crate::problem::Problem;
use crate::sign_in::{SignIn, begin_session, end_session};
use crate::spool::read_small;
use crate::wire::{PersonRequest, SessionAnswer, SignInRequest};

/// A name, a password, a key.
const MAX_BODY: u64 = 4 << 10;
const SHORTEST_PASSWORD: usize = 12;

fn answer(person: Option<String>) -> Json<SessionAnswer> {
    Json(SessionAnswer { person, version: env!("CARGO_PKG_VERSION").into() })
}

/// Secrets stand in these bodies: errors never quote them.
async fn read_secret<T: serde::de::DeserializeOwned>(data: Data<'_>) -> Result<T, Problem> {
    let body = secrecy::zeroize::Zeroizing::new(read_small(data, MAX_BODY).await?);
    serde_json::from_slice(&body)
        .map_err(|_| Problem::new("bad-request", "the members are not those of the API reference"))
}

/// Sign in
///
/// With person and password, or with an operator key. Answers with a cookie
/// for the console; five failures in a minute make a pause.
#[utoipa::path(
    operation_id = "signIn",
    context_path = "/api/v1", tag = "session",
    request_body = SignInRequest,
    responses((status = 200, description = "Signed in", body = SessionAnswer), (status = "4XX", body = Problem, content_type = "application/problem+json"))
)]
#[post("/session", data = "<data>")]
pub(crate) async fn sign_in(
    data: Data<'_>,
    sign_in: &State<SignIn>,
    gateway: &State<Gateway>,
    cookies: &CookieJar<'_>,
) -> Result<Json<SessionAnswer>, Problem> {
    let request: SignInRequest = read_secret(data).await?;
    let person = sign_in.person(gateway, request).await?;
    begin_session(gateway, person.clone(), cookies).await?;
    Ok(answer(Some(person)))
}

/// Tell who is signed in
#[utoipa::path(
    operation_id = "readSession",
    context_path = "/api/v1", tag = "session",
    responses((status = 200, description = "The person, or null", body = SessionAnswer))
)]
#[get("/session")]
pub(crate) async fn read(gateway: &State<Gateway>, cookies: &CookieJar<'_>) -> Result<Json<SessionAnswer>, Problem> {
    let Some(token) = cookies.get(COOKIE).map(|cookie| cookie.value().to_owned()) else { return Ok(answer(None)) };
    Ok(answer(gateway.store().session(hash_key(&token), now_micros()).await?))
}

/// Sign out
#[utoipa::path(
    operation_id = "signOut",
    context_path = "/api/v1", tag = "session",
    responses((status = 204, description = "Signed out")),
    security(("key" = []))
)]
#[delete("/session")]
pub(crate) async fn sign_out(
    _allowed: Allowed,
    gateway: &State<Gateway>,
    cookies: &CookieJar<'_>,
) -> Result<Status, Problem> {
    end_session(gateway, cookies).await?;
    Ok(Status::NoContent)
}

/// Set a person's password
///
/// Adds the person where there is none.
#[utoipa::path(
    operation_id = "putPerson",
    context_path = "/api/v1", tag = "session",
    request_body = PersonRequest,
    responses((status = 204, description = "It is set"), (status = "4XX", body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[put("/people/<name>", data = "<data>")]
pub(crate) async fn put_person(
    _allowed: Allowed,
    name: &str,
    data: Data<'_>,
    gateway: &State<Gateway>,
) -> Result<Status, Problem> {
    let request: PersonRequest = read_secret(data).await?;
    if request.password.expose_secret().chars().count() < SHORTEST_PASSWORD {
        return Err(Problem::at(
            "invalid",
            "/password",
            format!("a password has at least {SHORTEST_PASSWORD} characters"),
        ));
    }
    let hash =
        tokio::task::spawn_blocking(move || hash_password(request.password.expose_secret(), &mut rand::rng())).await;
    let hash = hash.map_err(|error| Problem::new("internal", error.to_string()))?;
    let hash = hash.map_err(|error| Problem::new("internal", error.to_string()))?;
    gateway.store().put_person(name.into(), hash, now_micros()).await?;
    Ok(Status::NoContent)
}
