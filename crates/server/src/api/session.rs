//! The console's session.

use dispatcher_gateway::{CallerRole, Gateway, PersonChange, PersonRole, Session};
use dispatcher_vault::hash_password;
use rocket::http::{CookieJar, Status};
use rocket::serde::json::Json;
use rocket::{State, delete, get, post, put};
use secrecy::{ExposeSecret as _, SecretString};

use crate::body::{RequestBody, read_small};
use std::net::SocketAddr;

use crate::access::{Allowed, COOKIE, OwnPage};
use crate::problem::Problem;
use crate::problem_kind::ProblemKind;
use crate::public_url::PublicUrl;
use crate::sign_in::{SignIn, begin_session, end_session};
use crate::wire::{List, PersonAnswer, PersonRequest, SessionAnswer, SignInRequest};

/// A name, a password, a key.
const MAX_BODY: u64 = 4 << 10;
const SHORTEST_PASSWORD: usize = 12;
const LONGEST_NAME: usize = 80;

async fn answer(gateway: &Gateway, session: Option<Session>) -> Result<Json<SessionAnswer>, Problem> {
    let version = env!("CARGO_PKG_VERSION").into();
    let caller = match &session {
        Some(session) => gateway.admit_session(session).await.ok(),
        None => None,
    };
    let (role, apps) = match caller.as_ref().map(|caller| &caller.role) {
        Some(CallerRole::AppOwner(apps)) => (Some(PersonRole::AppOwner), apps.to_vec()),
        Some(CallerRole::Auditor) => (Some(PersonRole::Auditor), Vec::new()),
        Some(_) => (Some(PersonRole::Operator), Vec::new()),
        None => (None, Vec::new()),
    };
    let person = session.filter(|_| caller.is_some()).map(|session| session.person);
    Ok(Json(SessionAnswer { person, role: role.map(PersonRole::name), apps, version }))
}

/// Secrets stand in these bodies: errors never quote them.
async fn read_secret<T: serde::de::DeserializeOwned>(data: RequestBody<'_>) -> Result<T, Problem> {
    let body = secrecy::zeroize::Zeroizing::new(read_small(data, MAX_BODY).await?);
    serde_json::from_slice(&body)
        .map_err(|_| Problem::new(ProblemKind::BadRequest, "the members are not those of the API reference"))
}

/// Sign in
///
/// Signs in with person and password, or with an operator key. The answer sets a cookie for the
/// console; after five failures in a minute, sign-in pauses.
#[utoipa::path(
    operation_id = "signIn",
    context_path = "/api/v1", tag = "session",
    request_body = SignInRequest,
    responses((status = 200, description = "Signed in", body = SessionAnswer), (status = "4XX", body = Problem, content_type = "application/problem+json"))
)]
#[post("/session", data = "<data>")]
pub(crate) async fn sign_in(
    data: RequestBody<'_>,
    sign_in: &State<SignIn>,
    gateway: &State<Gateway>,
    cookies: &CookieJar<'_>,
    url: &State<PublicUrl>,
    peer: Option<SocketAddr>,
    _page: OwnPage,
) -> Result<Json<SessionAnswer>, Problem> {
    let request: SignInRequest = read_secret(data).await?;
    let owner = sign_in.owner(gateway, request, peer.map(|peer| peer.ip())).await?;
    let session = begin_session(gateway, owner, cookies, url).await?;
    answer(gateway, Some(session)).await
}

/// Read the session
#[utoipa::path(
    operation_id = "readSession",
    context_path = "/api/v1", tag = "session",
    responses((status = 200, description = "The person, or null", body = SessionAnswer))
)]
#[get("/session")]
pub(crate) async fn read(gateway: &State<Gateway>, cookies: &CookieJar<'_>) -> Result<Json<SessionAnswer>, Problem> {
    let session = match cookies.get(COOKIE) {
        Some(cookie) => gateway.session(cookie.value()).await?,
        None => None,
    };
    answer(gateway, session).await
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

/// Add or change a person
///
/// Sets the password, the role or both; adds the person if there is none. All other sessions of the person
/// end. People who are not operators may change their own password.
#[utoipa::path(
    operation_id = "putPerson",
    context_path = "/api/v1", tag = "session",
    request_body = PersonRequest,
    responses((status = 204, description = "The person is added or changed"), (status = "4XX", body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[put("/people/<name>", data = "<data>")]
pub(crate) async fn put_person(
    allowed: Allowed,
    name: &str,
    data: RequestBody<'_>,
    gateway: &State<Gateway>,
    sign_in: &State<SignIn>,
    cookies: &CookieJar<'_>,
) -> Result<Status, Problem> {
    if !(1..=LONGEST_NAME).contains(&name.chars().count()) || name.chars().any(char::is_control) {
        return Err(Problem::new(ProblemKind::Invalid, format!("a name has 1 to {LONGEST_NAME} characters")));
    }
    let request: PersonRequest = read_secret(data).await?;
    let role = request.role()?;
    let oneself = allowed.0.who == name;
    let own_password = oneself && role.is_none();
    if !allowed.0.is_operator() && !own_password {
        let detail = "your role may change your own password only";
        return Err(Problem::new(ProblemKind::NotAllowed, detail));
    }
    if oneself && role.as_ref().is_some_and(|(role, _)| *role != PersonRole::Operator) {
        return Err(Problem::at(ProblemKind::Invalid, "/role", "another operator changes your role"));
    }
    let password_hash = match request.password {
        Some(password) => Some(hashed(password, sign_in).await?),
        None if role.is_none() => return Err(Problem::new(ProblemKind::Invalid, "give a password, a role or both")),
        None => None,
    };
    let own = cookies.get(COOKIE).map(|cookie| cookie.value());
    let change = PersonChange { password_hash, role };
    gateway.put_person(name, change, own, &allowed.0.who).await?;
    Ok(Status::NoContent)
}

async fn hashed(password: SecretString, sign_in: &SignIn) -> Result<String, Problem> {
    if password.expose_secret().chars().count() < SHORTEST_PASSWORD {
        let detail = format!("a password has at least {SHORTEST_PASSWORD} characters");
        return Err(Problem::at(ProblemKind::Invalid, "/password", detail));
    }
    let hash = sign_in.hash(move || hash_password(password.expose_secret(), &mut rand::rng())).await?;
    hash.map_err(|error| Problem::new(ProblemKind::Internal, error.to_string()))
}

/// List people
///
/// People who can sign in with a password.
#[utoipa::path(
    operation_id = "listPeople",
    context_path = "/api/v1", tag = "session",
    responses((status = 200, description = "People by name", body = List<PersonAnswer>)),
    security(("key" = []))
)]
#[get("/people")]
pub(crate) async fn people(_allowed: Allowed, gateway: &State<Gateway>) -> Result<Json<List<PersonAnswer>>, Problem> {
    let people = gateway.people().await?;
    Ok(Json(List::whole(people.into_iter().map(PersonAnswer::from).collect())))
}

/// Remove a person
///
/// The person's sessions end.
#[utoipa::path(
    operation_id = "removePerson",
    context_path = "/api/v1", tag = "session",
    responses((status = 204, description = "Removed"), (status = 404, body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[delete("/people/<name>")]
pub(crate) async fn remove_person(allowed: Allowed, name: &str, gateway: &State<Gateway>) -> Result<Status, Problem> {
    gateway.remove_person(name, &allowed.0.who).await?;
    Ok(Status::NoContent)
}
