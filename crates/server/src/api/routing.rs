//! Routes: what they are, who changed them, and what they would do.

use dispatcher_core::{Route, Work, is_language_tag, sample_sentence};
use dispatcher_gateway::{Gateway, PreviewedRequest};
use rocket::http::Status;
use rocket::serde::json::Json;
use rocket::{State, delete, get, post, put};

use super::SMALL_BODY;
use super::speech_request::{self, Formats};
use crate::access::Allowed;
use crate::body::{RequestBody, read_json};
use crate::headers::Meta;
use crate::problem::Problem;
use crate::problem_kind::ProblemKind;
use crate::wire::{List, RoutePreviewAnswer, RouteSchema, RouteTry, RouteVersion};

/// Seconds of audio that a route of recognition is tried with unless given.
const SECONDS: f64 = 60.0;
/// No recording is longer.
const MOST_SECONDS: f64 = 360_000.0;

/// List routes
#[utoipa::path(
    operation_id = "listRoutes",
    context_path = "/api/v1", tag = "routes",
    responses((status = 200, description = "Routes with their legs in order", body = List<RouteSchema>)),
    security(("key" = []))
)]
#[get("/routes")]
pub(crate) fn list(_allowed: Allowed, gateway: &State<Gateway>) -> Json<List<Route>> {
    Json(List::whole(gateway.registry().routes().values().cloned().collect()))
}

/// Read a route
#[utoipa::path(
    operation_id = "readRoute",
    context_path = "/api/v1", tag = "routes",
    responses((status = 200, description = "The route", body = RouteSchema), (status = 404, body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[get("/routes/<name>")]
pub(crate) fn read(_allowed: Allowed, name: &str, gateway: &State<Gateway>) -> Result<Json<Route>, Problem> {
    let registry = gateway.registry();
    if let Some(route) = registry.routes().get(name) {
        return Ok(Json(route.clone()));
    }
    let mut problem = Problem::new(ProblemKind::NoSuchRecord, format!("there is no route '{name}'"));
    problem.nearest = dispatcher_core::nearest(name, registry.routes().keys().map(String::as_str), 3);
    Err(problem)
}

/// Create or replace a route
///
/// A route that is replaced keeps its earlier versions.
#[utoipa::path(
    operation_id = "putRoute",
    context_path = "/api/v1", tag = "routes",
    request_body = RouteSchema,
    responses((status = 200, description = "The route", body = RouteSchema), (status = "4XX", body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[put("/routes/<name>", data = "<data>")]
pub(crate) async fn put(
    allowed: Allowed,
    name: &str,
    data: RequestBody<'_>,
    gateway: &State<Gateway>,
) -> Result<Json<Route>, Problem> {
    let mut document: serde_json::Value = read_json(data, SMALL_BODY).await?;
    if let Some(members) = document.as_object_mut() {
        let given = members.insert("name".into(), name.into());
        if given.is_some_and(|given| given != name) {
            return Err(Problem::at(ProblemKind::Invalid, "/name", "a route keeps its name"));
        }
    }
    let route: Route = serde_json::from_value(document).map_err(|error| Problem::of_json(&error))?;
    gateway.put_route(route.clone(), &allowed.0.who).await?;
    Ok(Json(route))
}

/// Retire a route
///
/// Requests that name it are refused from then on.
#[utoipa::path(
    operation_id = "retireRoute",
    context_path = "/api/v1", tag = "routes",
    responses((status = 204, description = "The route is retired"), (status = 404, body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[delete("/routes/<name>")]
pub(crate) async fn retire(allowed: Allowed, name: &str, gateway: &State<Gateway>) -> Result<Status, Problem> {
    gateway.retire_route(name, &allowed.0.who).await?;
    Ok(Status::NoContent)
}

/// List a route's versions
///
/// Who changed it, when, and what it was, the newest first.
#[utoipa::path(
    operation_id = "listRouteVersions",
    context_path = "/api/v1", tag = "routes",
    responses((status = 200, description = "The newest first", body = List<RouteVersion>), (status = 404, body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[get("/routes/<name>/versions")]
pub(crate) async fn versions(
    _allowed: Allowed,
    name: &str,
    gateway: &State<Gateway>,
) -> Result<Json<List<RouteVersion>>, Problem> {
    let rows = gateway.route_versions(name).await?;
    if rows.is_empty() {
        return Err(Problem::new(ProblemKind::NoSuchRecord, format!("there is no route '{name}'")));
    }
    Ok(Json(List::whole(rows.into_iter().map(RouteVersion::from).collect())))
}

/// Try a route
///
/// Shows what each leg would do with a request, in which position it would be tried, and why others
/// are passed over. Nothing is sent, recorded or charged.
#[utoipa::path(
    operation_id = "tryRoute",
    context_path = "/api/v1", tag = "routes",
    request_body = RouteTry,
    responses((status = 200, description = "What each leg would do", body = RoutePreviewAnswer), (status = "4XX", body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[post("/routes/<name>/try", data = "<data>")]
pub(crate) async fn try_route(
    allowed: Allowed,
    name: &str,
    meta: Meta,
    data: RequestBody<'_>,
    gateway: &State<Gateway>,
) -> Result<Json<RoutePreviewAnswer>, Problem> {
    let wish: RouteTry = read_json(data, SMALL_BODY).await?;
    let app = wish.app.clone();
    let registry = gateway.registry();
    let work = registry.routes().get(name).map(|route| route.work);
    let given = match (work, wish.seconds) {
        (Some(Work::Recognition), _) | (None, Some(_)) => of_audio(wish)?,
        _ => of_text(wish, &meta, &Formats::of(gateway, &allowed.0))?,
    };
    Ok(Json(gateway.preview_route(&allowed.0, name, app.as_deref(), given).await?.into()))
}

fn of_audio(wish: RouteTry) -> Result<PreviewedRequest, Problem> {
    if wish.text.is_some() || wish.ssml.is_some() {
        return Err(Problem::new(ProblemKind::Invalid, "a route for recognition is tried with seconds of audio"));
    }
    let seconds = wish.seconds.unwrap_or(SECONDS);
    if !(0.0..=MOST_SECONDS).contains(&seconds) {
        let detail = format!("seconds is 0 to {MOST_SECONDS}, not {seconds}");
        return Err(Problem::at(ProblemKind::Invalid, "/seconds", detail));
    }
    let language = wish.language;
    if let Some(tag) = language.as_ref().filter(|tag| !is_language_tag(tag)) {
        let detail = format!("'{tag}' is not a BCP 47 tag, such as en-GB");
        return Err(Problem::at(ProblemKind::Invalid, "/language", detail));
    }
    Ok(PreviewedRequest::Recognition { seconds, language })
}

fn of_text(wish: RouteTry, meta: &Meta, formats: &Formats) -> Result<PreviewedRequest, Problem> {
    if wish.seconds.is_some() {
        return Err(Problem::at(ProblemKind::Invalid, "/seconds", "a route for synthesis is tried with a text"));
    }
    let mut utterance = wish.into_utterance();
    if utterance.text.is_none() && utterance.ssml.is_none() {
        let language = utterance.language.clone().unwrap_or_else(|| "en-GB".into());
        utterance.text = Some(sample_sentence(&[language]).to_owned());
    }
    let (request, _) = speech_request::of_wish(utterance, meta, formats)?;
    Ok(PreviewedRequest::Synthesis(Box::new(request)))
}
