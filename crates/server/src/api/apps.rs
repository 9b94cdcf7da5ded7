//! Apps and their keys.

use dispatcher_core::is_record_name;
use dispatcher_gateway::{
    App, Disclosure, ErasureMode, ErasureScope, Gateway, KeyLimits, NewKey, RecallPolicy, now_micros,
};
use rocket::serde::json::Json;
use rocket::{State, delete, get, http::Status, post, put};
use secrecy::ExposeSecret as _;

use super::SMALL_BODY;
use crate::access::Allowed;
use crate::answers::Answers;
use crate::body::{RequestBody, read_json};
use crate::headers::{Meta, one_of};
use crate::idempotency::Idempotency;
use crate::origins::check_origin;
use crate::parameters::Parameters;
use crate::problem::Problem;
use crate::problem_kind::ProblemKind;
use crate::uploads::Uploads;
use crate::wire::{AppAnswer, AppRequest, ErasureAnswer, KeyAnswer, KeyRequest, List};

/// Seconds until a key expires, if it does.
const SHORTEST_KEY: u64 = 10;
const LONGEST_KEY: u64 = 10 * 366 * 86_400;

fn app_of(name: String, request: AppRequest, created_at: i64) -> Result<App, Problem> {
    let site = request.site.map(|word| super::speech_parameters::site(&word)).transpose()?;
    let recall = request.recall.map(|word| recall(&word)).transpose()?.unwrap_or(RecallPolicy::Off);
    Ok(App {
        title: request.title.unwrap_or_else(|| name.clone()),
        name,
        rehearsal: request.rehearsal,
        default_voice: request.default_voice,
        default_recognition: request.default_recognition,
        default_format: request.default_format,
        custom_voices: (!request.custom_voices.is_empty()).then(|| request.custom_voices.join("\n")),
        created_at,
        site,
        recall,
        region: request.region,
        per_minute: within(request.per_minute, "per_minute", 1_000_000)?,
        at_once: within(request.at_once, "at_once", 10_000)?,
        transcript_days: within(request.transcript_days, "transcript_days", 3_650)?,
        language: language(request.language)?,
        origins: origins(&request.origins)?,
        reply_hook: request.reply_hook,
        apology: spoken(request.apology, "an apology", "/apology")?,
        disclosure: disclosure(request.disclosure)?,
        notice: spoken(request.notice, "a notice", "/notice")?,
    })
}

fn language(given: Option<String>) -> Result<Option<String>, Problem> {
    given.as_ref().map_or(Ok(()), |tag| super::transcript_request::check_language("/language", tag))?;
    Ok(given)
}

/// Characters of a text that is spoken for the app.
const MOST_SPOKEN: usize = 300;

/// A text that is spoken for the app; none where it is empty.
fn spoken(given: Option<String>, what: &str, pointer: &str) -> Result<Option<String>, Problem> {
    let given = given.map(|text| text.trim().to_owned()).filter(|text| !text.is_empty());
    match given.as_ref().is_some_and(|text| text.chars().count() > MOST_SPOKEN) {
        true => {
            let detail = format!("{what} has at most {MOST_SPOKEN} characters");
            Err(Problem::at(ProblemKind::Invalid, pointer, detail))
        }
        false => Ok(given),
    }
}

/// Where answers say that they are synthetic; nothing is kept for everywhere.
fn disclosure(given: Option<Vec<String>>) -> Result<Option<String>, Problem> {
    let Some(given) = given else { return Ok(None) };
    let places = given.iter().map(|word| one_of("disclosure", word, Disclosure::ALL, Disclosure::name));
    let places = places.collect::<Result<Vec<_>, _>>()?;
    let everywhere = Disclosure::ALL.iter().all(|place| places.contains(place));
    Ok((!everywhere).then(|| places.iter().map(|place| place.name()).collect::<Vec<_>>().join("\n")))
}

/// Origins that an app may have.
const MOST_ORIGINS: usize = 20;

fn origins(given: &[String]) -> Result<Option<String>, Problem> {
    if given.len() > MOST_ORIGINS {
        return Err(Problem::at(
            ProblemKind::Invalid,
            "/origins",
            format!("an app has at most {MOST_ORIGINS} origins"),
        ));
    }
    for (number, origin) in given.iter().enumerate() {
        check_origin(origin)
            .map_err(|detail| Problem::at(ProblemKind::Invalid, &format!("/origins/{number}"), detail))?;
    }
    Ok((!given.is_empty()).then(|| given.join("\n")))
}

fn within(given: Option<i64>, name: &str, most: i64) -> Result<Option<i64>, Problem> {
    match given.filter(|given| !(1..=most).contains(given)) {
        Some(given) => {
            let detail = format!("{name} is 1 to {most}, not {given}");
            Err(Problem::at(ProblemKind::Invalid, &format!("/{name}"), detail))
        }
        None => Ok(given),
    }
}

fn recall(word: &str) -> Result<RecallPolicy, Problem> {
    let wrong = || format!("recall is off, private or shared, not '{word}'");
    RecallPolicy::from_name(word).ok_or_else(|| Problem::at(ProblemKind::Invalid, "/recall", wrong()))
}

/// Refuses a default format that nothing could be made in.
fn check_format(gateway: &Gateway, request: &AppRequest) -> Result<(), Problem> {
    let Some(name) = &request.default_format else { return Ok(()) };
    let format = gateway.registry().presets().format(name).and_then(|format| format.check_output());
    format.map_err(|error| Problem::at(ProblemKind::Invalid, "/default_format", error.to_string()))
}

/// Refuses an app that the caller does not see, as if it were not there.
fn own(allowed: &Allowed, name: &str) -> Result<(), Problem> {
    match allowed.0.may_see(name) {
        true => Ok(()),
        false => Err(Problem::new(ProblemKind::NoSuchRecord, format!("there is no app '{name}'"))),
    }
}

/// List apps
///
/// App owners see their own.
#[utoipa::path(
    operation_id = "listApps",
    context_path = "/api/v1", tag = "apps",
    responses((status = 200, description = "Apps", body = List<AppAnswer>)),
    security(("key" = []))
)]
#[get("/apps")]
pub(crate) async fn list(allowed: Allowed, gateway: &State<Gateway>) -> Result<Json<List<AppAnswer>>, Problem> {
    let mut apps = gateway.apps().await?;
    apps.retain(|app| allowed.0.may_see(&app.name));
    Ok(Json(List::whole(apps.into_iter().map(AppAnswer::from).collect())))
}

/// Add an app
#[utoipa::path(
    operation_id = "addApp",
    context_path = "/api/v1", tag = "apps",
    request_body = AppRequest,
    responses(
        (status = 201, description = "The app", body = AppAnswer),
        (status = "4XX", description = "Fault in the request", body = Problem, content_type = "application/problem+json"),
    ),
    security(("key" = []))
)]
#[post("/apps", data = "<data>")]
pub(crate) async fn add(
    allowed: Allowed,
    data: RequestBody<'_>,
    gateway: &State<Gateway>,
) -> Result<(Status, Json<AppAnswer>), Problem> {
    let request: AppRequest = read_json(data, SMALL_BODY).await?;
    let name = request.name.clone().filter(|name| is_record_name(name));
    let name = name.ok_or_else(|| {
        Problem::at(ProblemKind::Invalid, "/name", "a name is 1 to 40 small letters, digits and hyphens")
    })?;
    check_format(gateway, &request)?;
    let app = gateway.add_app(app_of(name, request, now_micros())?, &allowed.0.who).await?;
    Ok((Status::Created, Json(app.into())))
}

/// Read an app
#[utoipa::path(
    operation_id = "readApp",
    params(("name" = String, Path)),
    context_path = "/api/v1", tag = "apps",
    responses((status = 200, description = "The app", body = AppAnswer), (status = 404, body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[get("/apps/<name>")]
pub(crate) async fn read(allowed: Allowed, name: &str, gateway: &State<Gateway>) -> Result<Json<AppAnswer>, Problem> {
    own(&allowed, name)?;
    Ok(Json(gateway.app(name).await?.into()))
}

/// Change an app
#[utoipa::path(
    operation_id = "changeApp",
    context_path = "/api/v1", tag = "apps",
    request_body = AppRequest,
    responses((status = 200, description = "The app", body = AppAnswer), (status = "4XX", body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[put("/apps/<name>", data = "<data>")]
pub(crate) async fn change(
    allowed: Allowed,
    name: &str,
    data: RequestBody<'_>,
    gateway: &State<Gateway>,
) -> Result<Json<AppAnswer>, Problem> {
    let request: AppRequest = read_json(data, SMALL_BODY).await?;
    if request.name.as_ref().is_some_and(|given| given != name) {
        return Err(Problem::at(ProblemKind::Invalid, "/name", "an app keeps its name"));
    }
    check_format(gateway, &request)?;
    let before = gateway.app(name).await?;
    let changed = app_of(before.name, request, before.created_at)?;
    let app = gateway.change_app(changed, &allowed.0.who).await?;
    Ok(Json(app.into()))
}

/// Erase what an app said and heard
///
/// Its transcripts, exchanges, comparisons, kept and linked answers, unused uploads, and finished jobs with their files. Dispatches, the
/// ledger and usage have no words, and stay. With `end_user`, those alone that were made for this end user (the
/// field `End-User` of a request, or `end_user` of a token). With `dry_run` nothing is erased, and the answer says what would be.
#[utoipa::path(
    operation_id = "eraseApp",
    context_path = "/api/v1", tag = "apps",
    params(("name" = String, Path), ("end_user" = Option<String>, Query), ("dry_run" = Option<bool>, Query)),
    responses((status = 200, description = "What was erased", body = ErasureAnswer), (status = 404, body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[post("/apps/<name>/erasure")]
pub(crate) async fn erase(
    allowed: Allowed,
    name: &str,
    meta: Meta,
    gateway: &State<Gateway>,
    answers: &State<Answers>,
    idempotency: &State<Idempotency>,
    uploads: &State<Uploads>,
) -> Result<Json<ErasureAnswer>, Problem> {
    let mut given = Parameters::of_query(&meta.query)?;
    let dry_run = given.flag("dry_run")?.unwrap_or(false);
    let end_user = given.text("end_user");
    given.finish()?;
    let scope = ErasureScope { app: name.to_owned(), end_user };
    let mode = if dry_run { ErasureMode::Count } else { ErasureMode::Erase };
    let mut erased = gateway.erase(scope.clone(), mode, &allowed.0.who).await?;
    erased.kept_answers += idempotency.erase(&scope, mode);
    let uploads = uploads.erase(&scope, mode).await;
    let linked_answers = answers.erase(scope, mode).await?;
    Ok(Json(ErasureAnswer { linked_answers, uploads, ..ErasureAnswer::of(erased, mode) }))
}

/// List an app's keys
#[utoipa::path(
    operation_id = "listKeys",
    context_path = "/api/v1", tag = "apps",
    responses((status = 200, description = "Keys, without their secrets", body = List<KeyAnswer>)),
    security(("key" = []))
)]
#[get("/apps/<name>/keys")]
pub(crate) async fn keys(
    allowed: Allowed,
    name: &str,
    gateway: &State<Gateway>,
) -> Result<Json<List<KeyAnswer>>, Problem> {
    own(&allowed, name)?;
    let keys = gateway.app_keys(name).await?;
    Ok(Json(List::whole(keys.into_iter().map(KeyAnswer::from).collect())))
}

/// Add a key to an app
///
/// The key is shown in this answer only. Keys of the app `console` are operator keys. A key without grants
/// may do what its app may.
#[utoipa::path(
    operation_id = "addKey",
    context_path = "/api/v1", tag = "apps",
    request_body = KeyRequest,
    responses((status = 201, description = "The key", body = KeyAnswer), (status = "4XX", body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[post("/apps/<name>/keys", data = "<data>")]
pub(crate) async fn add_key(
    allowed: Allowed,
    name: &str,
    data: RequestBody<'_>,
    gateway: &State<Gateway>,
) -> Result<(Status, Json<KeyAnswer>), Problem> {
    own(&allowed, name)?;
    let request: KeyRequest = read_json(data, SMALL_BODY).await?;
    let per_minute = within(request.per_minute, "per_minute", 1_000_000)?;
    let limits = KeyLimits { per_minute, at_once: within(request.at_once, "at_once", 10_000)? };
    let lives = request.expires_in.is_none_or(|seconds| (SHORTEST_KEY..=LONGEST_KEY).contains(&seconds));
    if !lives {
        let detail = format!("expires_in is {SHORTEST_KEY} to {LONGEST_KEY} seconds");
        return Err(Problem::at(ProblemKind::Invalid, "/expires_in", detail));
    }
    let (grants, networks) = request.grants()?;
    let KeyRequest { label, expires_in, .. } = request;
    let new = NewKey { label, limits, expires_in, grants, networks };
    let (key, secret) = gateway.add_app_key(name, new, &allowed.0.who).await?;
    let answer = KeyAnswer { key: Some(secret.expose_secret().to_owned()), ..key.into() };
    Ok((Status::Created, Json(answer)))
}

/// Revoke a key
#[utoipa::path(
    operation_id = "revokeKey",
    context_path = "/api/v1", tag = "apps",
    responses((status = 204, description = "It is revoked"), (status = 404, body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[delete("/apps/<name>/keys/<id>")]
pub(crate) async fn revoke_key(
    allowed: Allowed,
    name: &str,
    id: &str,
    gateway: &State<Gateway>,
) -> Result<Status, Problem> {
    own(&allowed, name)?;
    gateway.revoke_app_key(name, id, &allowed.0.who).await?;
    Ok(Status::NoContent)
}
