//! Prompt sets.

use std::collections::BTreeMap;

use bytes::Bytes;
use dispatcher_audio::{AudioError, Format, Transcoder};
use dispatcher_core::{Prompt, PromptTable, check_prompts, is_record_name, read_prompts};
use dispatcher_gateway::{Approval, Gateway, StoredPromptFile};
use rocket::http::Status;
use rocket::serde::json::Json;
use rocket::{State, delete, get, post, put};
use serde::Deserialize;
use utoipa::ToSchema;

use super::SMALL_BODY;
use super::jobs::pack;
use crate::access::Allowed;
use crate::body::{RequestBody, read_json, read_small};
use crate::headers::{Meta, text_of_body};
use crate::parameters::Parameters;
use crate::problem::Problem;
use crate::problem_kind::ProblemKind;
use crate::ranged::{ImmutableFile, Sent};
use crate::spool::Spool;
use crate::wire::{List, PromptSetAnswer, PromptSetRequest, PromptSetSummary};

/// List prompt sets
#[utoipa::path(
    operation_id = "listPromptSets",
    context_path = "/api/v1", tag = "prompt sets",
    responses((status = 200, description = "By name", body = List<PromptSetSummary>)),
    security(("key" = []))
)]
#[get("/prompt-sets")]
pub(crate) async fn list(allowed: Allowed, gateway: &State<Gateway>) -> Result<Json<List<PromptSetSummary>>, Problem> {
    let rows = gateway.prompt_sets(&allowed.0).await?;
    Ok(Json(List::whole(rows.into_iter().map(PromptSetSummary::from).collect())))
}

/// Add or replace a prompt set
///
/// The body is a table of prompts: TOML (`application/toml`), CSV (`text/csv`) or JSON. Files of
/// unchanged rows are kept.
#[utoipa::path(
    operation_id = "putPromptSet",
    context_path = "/api/v1", tag = "prompt sets",
    request_body = PromptSetRequest,
    responses((status = 200, description = "The set", body = PromptSetAnswer), (status = "4XX", body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[put("/prompt-sets/<name>", data = "<data>")]
pub(crate) async fn put_set(
    allowed: Allowed,
    name: &str,
    meta: Meta,
    data: RequestBody<'_>,
    gateway: &State<Gateway>,
) -> Result<Json<PromptSetAnswer>, Problem> {
    if !is_record_name(name) {
        return Err(Problem::new(ProblemKind::Invalid, "a name is 1 to 40 small letters, digits and hyphens"));
    }
    let rows = rows_of(&meta, data).await?;
    gateway.put_prompt_set(&allowed.0, name, rows).await?;
    Ok(Json(PromptSetAnswer::from(gateway.prompt_set(&allowed.0, name).await?)))
}

async fn rows_of(meta: &Meta, data: RequestBody<'_>) -> Result<Vec<Prompt>, Problem> {
    let table = match meta.essence.as_str() {
        "application/toml" => PromptTable::Toml,
        "text/csv" => PromptTable::Csv,
        "application/json" | "" => {
            let request: PromptSetRequest = read_json(data, SMALL_BODY).await?;
            let rows = request.prompts.into_iter().map(Prompt::from).collect();
            return check_prompts(rows).map_err(|fault| Problem::new(ProblemKind::Invalid, fault));
        }
        other => {
            let known = "application/toml, text/csv or application/json";
            return Err(Problem::new(ProblemKind::Invalid, format!("a table is {known}, not '{other}'")));
        }
    };
    let text = text_of_body(&read_small(data, SMALL_BODY).await?, meta.charset.as_deref())?;
    read_prompts(&text, table).map_err(|fault| Problem::new(ProblemKind::Invalid, fault))
}

/// Read a prompt set
///
/// Each row in each of its formats, compared with its file.
#[utoipa::path(
    operation_id = "readPromptSet",
    context_path = "/api/v1", tag = "prompt sets",
    responses((status = 200, description = "The set", body = PromptSetAnswer), (status = 404, body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[get("/prompt-sets/<name>")]
pub(crate) async fn read(
    allowed: Allowed,
    name: &str,
    gateway: &State<Gateway>,
) -> Result<Json<PromptSetAnswer>, Problem> {
    Ok(Json(PromptSetAnswer::from(gateway.prompt_set(&allowed.0, name).await?)))
}

/// Remove a prompt set
///
/// Its files are removed too.
#[utoipa::path(
    operation_id = "removePromptSet",
    context_path = "/api/v1", tag = "prompt sets",
    responses((status = 204, description = "It is gone"), (status = 404, body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[delete("/prompt-sets/<name>")]
pub(crate) async fn remove(allowed: Allowed, name: &str, gateway: &State<Gateway>) -> Result<Status, Problem> {
    gateway.remove_prompt_set(&allowed.0, name).await?;
    Ok(Status::NoContent)
}

/// Which prompts to make.
#[derive(Debug, Default, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct MakeRequest {
    /// Ids of the prompts (default: all that do not match their rows).
    #[serde(default)]
    ids: Vec<String>,
}

/// Make prompts
///
/// Makes new and changed files, at most 100, and answers with the set.
#[utoipa::path(
    operation_id = "makePrompts",
    context_path = "/api/v1", tag = "prompt sets",
    request_body = MakeRequest,
    responses((status = 200, description = "The set", body = PromptSetAnswer), (status = "4XX", body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[post("/prompt-sets/<name>/make", data = "<data>")]
pub(crate) async fn make(
    allowed: Allowed,
    name: &str,
    data: RequestBody<'_>,
    gateway: &State<Gateway>,
) -> Result<Json<PromptSetAnswer>, Problem> {
    let request: MakeRequest = read_json(data, SMALL_BODY).await?;
    gateway.make_prompts(&allowed.0, name, &request.ids).await?;
    Ok(Json(PromptSetAnswer::from(gateway.prompt_set(&allowed.0, name).await?)))
}

/// Approval of a prompt.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct ApprovalRequest {
    approved: bool,
}

/// Approve a prompt
///
/// Applies to all formats; 409 if a file does not match its row.
#[utoipa::path(
    operation_id = "approvePrompt",
    context_path = "/api/v1", tag = "prompt sets",
    request_body = ApprovalRequest,
    responses((status = 200, description = "The set", body = PromptSetAnswer), (status = "4XX", body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[put("/prompt-sets/<name>/prompts/<id>/approval", data = "<data>")]
pub(crate) async fn approve(
    allowed: Allowed,
    name: &str,
    id: &str,
    data: RequestBody<'_>,
    gateway: &State<Gateway>,
) -> Result<Json<PromptSetAnswer>, Problem> {
    let request: ApprovalRequest = read_json(data, SMALL_BODY).await?;
    let approval = if request.approved { Approval::Given } else { Approval::Withdrawn };
    gateway.approve_prompt(&allowed.0, name, id, approval).await?;
    Ok(Json(PromptSetAnswer::from(gateway.prompt_set(&allowed.0, name).await?)))
}

/// Fetch a prompt's file
///
/// The file as it was made, or converted for playback, such as with `type=audio/wav`.
#[utoipa::path(
    operation_id = "fetchPromptFile",
    context_path = "/api/v1", tag = "prompt sets",
    params(("type" = Option<String>, Query, description = "Media type of the answer (default: that of the file)")),
    responses((status = 200, description = "The file", body = Vec<u8>, content_type = "audio/*"), (status = 404, body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[get("/prompt-sets/<name>/files/<file>")]
pub(crate) async fn file(
    allowed: Allowed,
    name: &str,
    file: &str,
    meta: Meta,
    gateway: &State<Gateway>,
) -> Result<Result<Sent, ImmutableFile>, Problem> {
    let mut given = Parameters::of_query(&meta.query)?;
    let wanted = given.text("type");
    given.finish()?;
    let gone = || Problem::new(ProblemKind::NoSuchRecord, format!("there is no file '{file}' in {name}"));
    let (row, path) = gateway.prompt_files(&allowed.0, name, Some(file)).await?.into_iter().next().ok_or_else(gone)?;
    let Some(wanted) = wanted else {
        let opened = tokio::fs::File::open(path).await.map_err(|_| gone())?;
        return Ok(Ok(Sent::of(opened, row.media_type, row.file, true).await.with_ranges()));
    };
    let unreadable = |error: AudioError| Problem::at(ProblemKind::Invalid, "/type", error.to_string());
    let (from, to) = (Format::parse(&row.media_type).map_err(unreadable)?, Format::parse(&wanted).map_err(unreadable)?);
    let to = if to.codec.describes_itself() { Format { rate: from.rate, channels: from.channels, ..to } } else { to };
    if !path.is_file() {
        return Err(gone());
    }
    let made = tokio::task::spawn_blocking(move || converted(&path, from, to)).await;
    let bytes = made.map_err(|error| Problem::new(ProblemKind::Internal, error.to_string()))?.map_err(unreadable)?;
    let name = format!("{}.{}", row.prompt, to.codec.extension());
    let tag = format!("{}-{}", row.fingerprint, to.codec.extension());
    Ok(Err(ImmutableFile { bytes, content_type: to.media_type(), name, tag }))
}

/// Audio to be listened to in a browser; longer ones are fetched as they are.
const MOST_CONVERTED: usize = 24 << 20;

fn converted(path: &std::path::Path, from: Format, to: Format) -> Result<Bytes, AudioError> {
    use std::io::Read as _;
    let mut transcoder = Transcoder::new(from, to)?;
    let mut file = std::fs::File::open(path).map_err(|_| AudioError::Empty)?;
    let (mut chunk, mut out) = (vec![0; 64 << 10], Vec::new());
    loop {
        match file.read(&mut chunk).map_err(|_| AudioError::Empty)? {
            0 => break,
            count => out.extend_from_slice(&transcoder.push(&Bytes::copy_from_slice(&chunk[..count]))?),
        }
        if out.len() > MOST_CONVERTED {
            return Err(AudioError::TooLong {
                bytes: MOST_CONVERTED as u64,
                seconds: transcoder.length().seconds() as u64,
            });
        }
    }
    out.extend_from_slice(&transcoder.finish()?);
    if let Some(start) = transcoder.start() {
        out[..start.len()].copy_from_slice(&start);
    }
    Ok(out.into())
}

/// Fetch all files of a prompt set
///
/// In a ZIP archive; with `approved=true` only where each was approved.
#[utoipa::path(
    operation_id = "fetchPromptArchive",
    context_path = "/api/v1", tag = "prompt sets",
    params(("approved" = Option<bool>, Query, description = "Refuse files that nobody has approved")),
    responses((status = 200, description = "The archive", body = Vec<u8>, content_type = "application/zip"), (status = "4XX", body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[get("/prompt-sets/<name>/archive")]
pub(crate) async fn archive(
    allowed: Allowed,
    name: &str,
    meta: Meta,
    gateway: &State<Gateway>,
    spool: &State<Spool>,
) -> Result<Sent, Problem> {
    let mut given = Parameters::of_query(&meta.query)?;
    let approved = given.flag("approved")?.unwrap_or(false);
    given.finish()?;
    let answer = PromptSetAnswer::from(gateway.prompt_set(&allowed.0, name).await?);
    let unfit: Vec<String> = answer.unfit(approved);
    if !unfit.is_empty() {
        let what = if approved { "not made, or not approved" } else { "not made as their rows say" };
        return Err(Problem::new(ProblemKind::NotReady, format!("these are {what}: {}", unfit.join(", "))));
    }
    let files: BTreeMap<String, _> =
        gateway.prompt_files(&allowed.0, name, None).await?.into_iter().map(named).collect();
    let files: Vec<_> = files.into_iter().collect();
    spool.check_room_for(&files)?;
    let folder = spool.folder.clone();
    let packed = tokio::task::spawn_blocking(move || pack(&files, &folder)).await;
    let packed = packed.map_err(|error| error.to_string()).and_then(|packed| packed.map_err(|error| error.to_string()));
    let file = packed.map_err(|error| Problem::new(ProblemKind::Internal, format!("the archive: {error}")))?;
    let (file, name) = (tokio::fs::File::from_std(file), format!("{name}.zip"));
    Ok(Sent::of(file, "application/zip".into(), name, true).await)
}

fn named((row, path): (StoredPromptFile, std::path::PathBuf)) -> (String, std::path::PathBuf) {
    (row.file, path)
}
