//! Engines: their state, their sheets, their lists of voices, their check.

use dispatcher_core::{Files, NoFiles, Sheet, draft};
use dispatcher_gateway::{CheckDepth, Gateway};
use rocket::http::{ContentType, Status};
use rocket::serde::json::Json;
use rocket::{State, delete, get, post, put};
use secrecy::ExposeSecret as _;

use super::SMALL_BODY;
use crate::access::Allowed;
use crate::body::{RequestBody, read_small};
use crate::headers::Meta;
use crate::parameters::Parameters;
use crate::problem::Problem;
use crate::problem_kind::ProblemKind;
use crate::wire::{
    CatalogueAnswer, CheckAnswer, DraftAnswer, DraftRequest, EngineAnswer, List, RefreshAnswer, SheetAnswer,
    SheetVersion,
};

/// Changes of a catalogue that are returned.
const CHANGES: i64 = 200;

/// List engines
#[utoipa::path(
    operation_id = "listEngines",
    context_path = "/api/v1",
    tag = "catalogue",
    responses((status = 200, description = "Engines with their state", body = List<EngineAnswer>)),
    security(("key" = []))
)]
#[get("/engines")]
pub(crate) async fn engines(_allowed: Allowed, gateway: &State<Gateway>) -> Result<Json<List<EngineAnswer>>, Problem> {
    Ok(Json(List::whole(all_engines(gateway).await?)))
}

pub(super) async fn all_engines(gateway: &Gateway) -> Result<Vec<EngineAnswer>, Problem> {
    let registry = gateway.registry();
    let states = gateway.engine_states().await?;
    let catalogues = gateway.catalogue_states().await?;
    let answer = |engine: &std::sync::Arc<dispatcher_engines::Engine>| {
        let name = &engine.sheet().name;
        let sheet = registry.sheet(name).unwrap_or(engine.sheet());
        Some(EngineAnswer::new(sheet, states.get(name)?, catalogues.get(name), gateway.load(sheet)))
    };
    Ok(registry.engines().filter_map(answer).collect())
}

async fn one_engine(gateway: &Gateway, name: &str) -> Result<EngineAnswer, Problem> {
    gateway.registry().engine(name)?;
    let all = all_engines(gateway).await?;
    all.into_iter()
        .find(|engine| engine.name == name)
        .ok_or_else(|| Problem::new(ProblemKind::NoSuchEngine, name.to_owned()))
}

/// Read an engine
#[utoipa::path(
    operation_id = "readEngine",
    context_path = "/api/v1",
    tag = "catalogue",
    responses(
        (status = 200, description = "The engine", body = EngineAnswer),
        (status = 404, description = "Unknown engine; similar names are given", body = Problem, content_type = "application/problem+json"),
    ),
    security(("key" = []))
)]
#[get("/engines/<name>")]
pub(crate) async fn engine(
    _allowed: Allowed,
    name: &str,
    gateway: &State<Gateway>,
) -> Result<Json<EngineAnswer>, Problem> {
    let answer = one_engine(gateway, name).await?;
    let registry = gateway.registry();
    let sheet = registry.engine(name)?.sheet();
    let newest = gateway.sheet_versions(name).await?.into_iter().next();
    let written = newest.and_then(|row| Sheet::parse(&row.document, row.origin.name()).ok());
    Ok(Json(answer.with_details(sheet, written.as_ref())))
}

/// Check an engine
///
/// Compares the claims of the sheet with the engine, by real calls that are charged to the caller's
/// app. `quick=true` skips the limits; `voice` speaks the test audio for a recogniser.
#[utoipa::path(
    operation_id = "checkEngine",
    context_path = "/api/v1",
    tag = "catalogue",
    params(("quick" = Option<bool>, Query), ("voice" = Option<String>, Query)),
    responses(
        (status = 200, description = "What was found", body = CheckAnswer),
        (status = 404, description = "No such engine", body = Problem, content_type = "application/problem+json"),
    ),
    security(("key" = []))
)]
#[post("/engines/<name>/check")]
pub(crate) async fn check_engine(
    allowed: Allowed,
    name: &str,
    meta: Meta,
    gateway: &State<Gateway>,
) -> Result<Json<CheckAnswer>, Problem> {
    let mut given = Parameters::of_query(&meta.query)?;
    let depth = if given.flag("quick")? == Some(true) { CheckDepth::Quick } else { CheckDepth::Whole };
    let voice = given.text("voice");
    given.finish()?;
    let checked = Box::pin(gateway.check_engine(&allowed.0, name, depth, voice.as_deref())).await?;
    Ok(Json(checked.into()))
}

async fn source(data: RequestBody<'_>) -> Result<String, Problem> {
    let body = read_small(data, SMALL_BODY).await?;
    String::from_utf8(body).map_err(|_| Problem::new(ProblemKind::BadRequest, "the sheet is not UTF-8"))
}

/// Add an engine
///
/// The body is a sheet in TOML. It is checked, and becomes the next version of its engine. With
/// `dry_run=true` it is only checked. Faults have line and column. Sheets with the process driver
/// are accepted only from the sheet folders of the host.
#[utoipa::path(
    operation_id = "putEngine", context_path = "/api/v1", tag = "catalogue",
    params(("dry_run" = Option<bool>, Query)),
    request_body(content((String = "application/toml"))),
    responses(
        (status = 200, description = "The engine", body = EngineAnswer),
        (status = 422, description = "Fault in the sheet", body = Problem, content_type = "application/problem+json"),
    ),
    security(("key" = []))
)]
#[post("/engines", data = "<data>")]
pub(crate) async fn put_engine(
    allowed: Allowed,
    meta: Meta,
    data: RequestBody<'_>,
    gateway: &State<Gateway>,
) -> Result<Json<EngineAnswer>, Problem> {
    let mut given = Parameters::of_query(&meta.query)?;
    let dry_run = given.flag("dry_run")?.unwrap_or(false);
    given.finish()?;
    let source = source(data).await?;
    let sheet = gateway.try_sheet(&source)?;
    if dry_run {
        let state = dispatcher_gateway::EngineState::Ready;
        return Ok(Json(EngineAnswer::new(&sheet, &state, None, None)));
    }
    gateway.put_sheet(&source, &allowed.0.who).await?;
    Ok(Json(one_engine(gateway, &sheet.name).await?))
}

/// Retire an engine
///
/// The engine is no longer called; its sheet is kept.
#[utoipa::path(
    operation_id = "retireEngine", context_path = "/api/v1", tag = "catalogue",
    responses(
        (status = 204, description = "It is retired"),
        (status = 409, description = "A route uses the engine", body = Problem, content_type = "application/problem+json"),
    ),
    security(("key" = []))
)]
#[delete("/engines/<name>")]
pub(crate) async fn retire_engine(allowed: Allowed, name: &str, gateway: &State<Gateway>) -> Result<Status, Problem> {
    gateway.retire_engine(name, &allowed.0.who).await?;
    Ok(Status::NoContent)
}

/// Read an engine's sheet
///
/// The newest version in TOML, and who added each version.
#[utoipa::path(
    operation_id = "readSheet", context_path = "/api/v1", tag = "catalogue",
    responses((status = 200, description = "The sheet", body = SheetAnswer), (status = 404, body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[get("/engines/<name>/sheet")]
pub(crate) async fn sheet(
    _allowed: Allowed,
    name: &str,
    gateway: &State<Gateway>,
) -> Result<Json<SheetAnswer>, Problem> {
    let versions = gateway.sheet_versions(name).await?;
    let newest = versions
        .first()
        .ok_or_else(|| Problem::new(ProblemKind::NoSuchRecord, format!("{name} has no sheet on record")))?;
    let (engine, version, document) = (newest.name.clone(), newest.version, newest.document.clone());
    let versions = versions.iter().map(SheetVersion::from).collect();
    Ok(Json(SheetAnswer { engine, version, document, versions }))
}

/// Replace an engine's sheet
///
/// Like adding an engine; the name in the sheet must be the name in the path.
#[utoipa::path(
    operation_id = "putSheet", context_path = "/api/v1", tag = "catalogue",
    request_body(content((String = "application/toml"))),
    responses(
        (status = 200, description = "The engine", body = EngineAnswer),
        (status = 422, description = "Fault in the sheet", body = Problem, content_type = "application/problem+json"),
    ),
    security(("key" = []))
)]
#[put("/engines/<name>/sheet", data = "<data>")]
pub(crate) async fn put_sheet(
    allowed: Allowed,
    name: &str,
    data: RequestBody<'_>,
    gateway: &State<Gateway>,
) -> Result<Json<EngineAnswer>, Problem> {
    gateway.registry().engine(name)?;
    let source = source(data).await?;
    let sheet = gateway.try_sheet(&source)?;
    if sheet.name != name {
        let detail = format!("the sheet is of '{}', and the path of '{name}'", sheet.name);
        return Err(Problem::new(ProblemKind::Invalid, detail));
    }
    gateway.put_sheet(&source, &allowed.0.who).await?;
    Ok(Json(one_engine(gateway, name).await?))
}

/// Draft a sheet
///
/// Drafts a sheet from a curl command. Its secrets are not in the answer: add them as a credential.
#[utoipa::path(
    operation_id = "draftSheet", context_path = "/api/v1", tag = "catalogue",
    request_body = DraftRequest,
    responses((status = 200, description = "The draft", body = DraftAnswer), (status = "4XX", body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[post("/engines/draft", data = "<data>")]
pub(crate) async fn draft_engine(_allowed: Allowed, data: RequestBody<'_>) -> Result<Json<DraftAnswer>, Problem> {
    let body = secrecy::zeroize::Zeroizing::new(read_small(data, SMALL_BODY).await?);
    let request: DraftRequest = serde_json::from_slice(&body).map_err(|error| Problem::of_json(&error))?;
    // Files of a command lie at its author's, and not here.
    let files: &dyn Files = &NoFiles;
    let made = draft(request.command.expose_secret(), request.name.as_deref(), files)
        .map_err(|error| Problem::at(ProblemKind::Invalid, "/command", error.to_string()))?;
    let parts = made.parts.into_iter().map(|(name, _)| name).collect();
    Ok(Json(DraftAnswer { sheet: made.sheet, parts, remarks: made.remarks }))
}

/// Read the state of an engine's list of voices
#[utoipa::path(
    operation_id = "readCatalogue", context_path = "/api/v1", tag = "catalogue",
    responses((status = 200, description = "When it was read, and what changed", body = CatalogueAnswer), (status = 404, body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[get("/engines/<name>/catalogue")]
pub(crate) async fn catalogue(
    _allowed: Allowed,
    name: &str,
    gateway: &State<Gateway>,
) -> Result<Json<CatalogueAnswer>, Problem> {
    gateway.registry().engine(name)?;
    let states = gateway.catalogue_states().await?;
    let changes = gateway.catalogue_changes(name, CHANGES).await?;
    Ok(Json(CatalogueAnswer::new(name, states.get(name), changes)))
}

/// Fetch the list of voices from an engine
///
/// If the engine does not answer, the previous list is kept.
#[utoipa::path(
    operation_id = "refreshCatalogue", context_path = "/api/v1", tag = "catalogue",
    responses((status = 200, description = "What changed", body = RefreshAnswer), (status = "4XX", body = Problem, content_type = "application/problem+json"), (status = 502, body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[post("/engines/<name>/catalogue")]
pub(crate) async fn refresh(
    _allowed: Allowed,
    name: &str,
    gateway: &State<Gateway>,
) -> Result<Json<RefreshAnswer>, Problem> {
    Ok(Json(gateway.refresh_catalogue(name).await?.into()))
}

/// The schema of sheets
///
/// JSON Schema for editors.
#[utoipa::path(
    operation_id = "readSheetSchema", context_path = "/api/v1", tag = "catalogue",
    responses((status = 200, description = "JSON Schema, 2020-12", body = Object)),
    security(("key" = []))
)]
#[get("/engines/schema")]
pub(crate) fn schema(_allowed: Allowed) -> (ContentType, String) {
    (ContentType::JSON, dispatcher_core::sheet_schema())
}
