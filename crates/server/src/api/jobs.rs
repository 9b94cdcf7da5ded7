//! Jobs: long work, how far it is, and its results.

use dispatcher_gateway::{Disclosure, Gateway, JobFilter, JobState, JobView};
use rocket::http::{Header, Status};
use rocket::request::Request;
use rocket::response::stream::{Event, EventStream};
use rocket::response::{self, Responder, Response};
use rocket::serde::json::Json;
use rocket::{Shutdown, State, delete, get, post};
use tokio::sync::broadcast::error::RecvError;

use crate::access::Allowed;
use crate::headers::{Meta, one_of};
use crate::parameters::Parameters;
use crate::problem::Problem;
use crate::problem_kind::ProblemKind;
use crate::ranged::Sent;
use crate::spool::Spool;
use crate::wire::{JobAnswer, List, PublicKey};

/// A job, where the caller may see it: an app key sees its own app's alone.
async fn seen(allowed: &Allowed, gateway: &Gateway, id: &str) -> Result<JobView, Problem> {
    Ok(gateway.job_of(&allowed.0, id).await?)
}

/// A job that was taken in hand: 202 with where it is.
pub(crate) struct Accepted(pub(super) Box<JobAnswer>);

impl<'r> Responder<'r, 'static> for Accepted {
    fn respond_to(self, request: &'r Request<'_>) -> response::Result<'static> {
        let place = format!("/api/v1/jobs/{}", self.0.id);
        Response::build_from(Json(*self.0).respond_to(request)?)
            .status(Status::Accepted)
            .header(Header::new("Location", place))
            .header(Header::new("Preference-Applied", "respond-async"))
            .header(Header::new("Vary", "Accept, Prefer"))
            .ok()
    }
}

/// List jobs
///
/// Newest first. App keys see their own app only.
#[utoipa::path(
    operation_id = "listJobs",
    context_path = "/api/v1", tag = "long work",
    params(
        ("app" = Option<String>, Query),
        ("state" = Option<String>, Query, description = "queued, running, waiting, done, failed or cancelled"),
        ("limit" = Option<i64>, Query), ("cursor" = Option<String>, Query),
    ),
    responses((status = 200, description = "Jobs", body = List<JobAnswer>)),
    security(("key" = []))
)]
#[get("/jobs")]
pub(crate) async fn jobs(
    allowed: Allowed,
    meta: Meta,
    gateway: &State<Gateway>,
) -> Result<Json<List<JobAnswer>>, Problem> {
    let mut given = Parameters::of_query(&meta.query)?;
    let limit: i64 = given.number("limit")?.unwrap_or(50).clamp(1, 500);
    let app = given.text("app");
    let query = JobFilter {
        apps: allowed.0.visible(app),
        state: given.text("state").map(|word| one_of("state", &word, JobState::ALL, JobState::name)).transpose()?,
        before: given.text("cursor"),
        limit: limit + 1,
    };
    given.finish()?;
    let mut views = gateway.jobs(query).await?;
    let more = views.len() > usize::try_from(limit).unwrap_or(0);
    views.truncate(usize::try_from(limit).unwrap_or(0));
    let next = views.last().filter(|_| more).map(|view| view.row.id.clone());
    Ok(Json(List { items: views.into_iter().map(JobAnswer::from).collect(), next }))
}

/// Read a job
#[utoipa::path(
    operation_id = "readJob",
    context_path = "/api/v1", tag = "long work",
    responses((status = 200, description = "The job", body = JobAnswer), (status = 404, body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[get("/jobs/<id>")]
pub(crate) async fn job(allowed: Allowed, id: &str, gateway: &State<Gateway>) -> Result<Json<JobAnswer>, Problem> {
    Ok(Json(seen(&allowed, gateway, id).await?.into()))
}

/// The key of webhooks
///
/// Public key for the signatures of webhooks (RFC 9421, label `dispatcher`): a JSON Web Key of
/// Ed25519 (RFC 8037).
#[utoipa::path(
    operation_id = "readWebhookKey",
    context_path = "/api/v1", tag = "long work",
    responses((status = 200, description = "The public key", body = PublicKey)),
    security(("key" = []))
)]
#[get("/webhook-key")]
pub(crate) fn webhook_key(_allowed: Allowed, gateway: &State<Gateway>) -> Result<Json<PublicKey>, Problem> {
    let missing = || Problem::new(ProblemKind::NoSuchRecord, "this gateway sends no webhooks");
    let (x, kid) = gateway.webhook_key().ok_or_else(missing)?;
    Ok(Json(PublicKey::ed25519(x, kid)))
}

/// Follow a job
///
/// Server-sent events: the job, each time it has progressed. The stream ends with the job.
#[utoipa::path(
    operation_id = "followJob",
    context_path = "/api/v1", tag = "long work",
    responses((status = 200, description = "An event `job` for each change, its data a job", body = JobAnswer, content_type = "text/event-stream"), (status = 404, body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[get("/jobs/<id>/events")]
pub(crate) async fn events(
    allowed: Allowed,
    id: String,
    gateway: &State<Gateway>,
    mut end: Shutdown,
) -> Result<EventStream![Event], Problem> {
    let gateway = gateway.inner().clone();
    let mut changes = gateway.job_changes();
    let id = seen(&allowed, &gateway, &id).await?.row.id;
    Ok(EventStream! {
        loop {
            let Ok(view) = gateway.job(&id).await else { return };
            let over = view.is_over();
            yield Event::json(&JobAnswer::from(view)).event("job");
            if over {
                return;
            }
            loop {
                let changed = tokio::select! {
                    changed = changes.recv() => changed,
                    () = &mut end => return,
                };
                match changed {
                    Ok(job) if job == id => break,
                    // Some changes were missed: ours may be among them.
                    Err(RecvError::Lagged(_)) => break,
                    Err(RecvError::Closed) => return,
                    Ok(_) => {}
                }
            }
            // Of several changes at once the last one has all.
            while changes.try_recv().is_ok() {}
        }
    })
}

/// Cancel a job
///
/// Running engine calls end, and nothing more is charged. Finished files are kept until the job is
/// removed. A job that has ended does not change.
#[utoipa::path(
    operation_id = "cancelJob",
    context_path = "/api/v1", tag = "long work",
    responses((status = 200, description = "The job", body = JobAnswer), (status = 404, body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[post("/jobs/<id>/cancel")]
pub(crate) async fn cancel(allowed: Allowed, id: &str, gateway: &State<Gateway>) -> Result<Json<JobAnswer>, Problem> {
    let view = seen(&allowed, gateway, id).await?;
    Ok(Json(gateway.cancel_job(&view.row.id).await?.into()))
}

/// Resume a job
///
/// Continues a job that failed or was cancelled, without paying again for finished pieces.
#[utoipa::path(
    operation_id = "resumeJob",
    context_path = "/api/v1", tag = "long work",
    responses((status = 200, description = "The queued job", body = JobAnswer), (status = 404, body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[post("/jobs/<id>/resume")]
pub(crate) async fn resume(allowed: Allowed, id: &str, gateway: &State<Gateway>) -> Result<Json<JobAnswer>, Problem> {
    let view = seen(&allowed, gateway, id).await?;
    Ok(Json(gateway.resume_job(&view.row.id).await?.into()))
}

/// Remove a job
///
/// Removes the job and its files. A job that has not ended is cancelled first.
#[utoipa::path(
    operation_id = "removeJob",
    context_path = "/api/v1", tag = "long work",
    responses((status = 204, description = "It is gone"), (status = 404, body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[delete("/jobs/<id>")]
pub(crate) async fn remove(allowed: Allowed, id: &str, gateway: &State<Gateway>) -> Result<Status, Problem> {
    let view = seen(&allowed, gateway, id).await?;
    let id = &view.row.id;
    if !view.is_over() {
        gateway.cancel_job(id).await?;
    }
    gateway.remove_job(id).await?;
    Ok(Status::NoContent)
}

/// Fetch a result
///
/// A file of the job, by the name that it lists; with `Range`, a part of it
/// (RFC 9110, section 14).
#[utoipa::path(
    operation_id = "fetchJobFile",
    context_path = "/api/v1", tag = "long work",
    responses((status = 200, description = "The file, in the type that the job lists", content(
        (Vec<u8> = "application/octet-stream"), (Vec<u8> = "audio/*"), (String = "text/vtt"), (String = "text/plain"),
        (String = "application/x-subrip"), (Vec<u8> = "application/json"), (String = "audio/x-mpegurl"),
    )), (status = 404, body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[get("/jobs/<id>/files/<name>")]
pub(crate) async fn file(allowed: Allowed, id: &str, name: &str, gateway: &State<Gateway>) -> Result<Sent, Problem> {
    let view = seen(&allowed, gateway, id).await?;
    let (row, path) = gateway.job_file(id, name).await?;
    let gone = |error: std::io::Error| {
        tracing::error!(job = %id, %name, %error, "a result cannot be read");
        Problem::new(ProblemKind::NoSuchRecord, format!("the file '{name}' is gone"))
    };
    let file = tokio::fs::File::open(path).await.map_err(gone)?;
    let sent = Sent::of(file, row.media_type, row.name, says_synthetic(&view, gateway).await?).await;
    Ok(sent.with_ranges())
}

/// Fetch all results
///
/// The files of a job that is done, in a ZIP archive.
#[utoipa::path(
    operation_id = "fetchJobArchive",
    context_path = "/api/v1", tag = "long work",
    responses((status = 200, description = "The archive", body = Vec<u8>, content_type = "application/zip"), (status = "4XX", body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[get("/jobs/<id>/archive")]
pub(crate) async fn archive(
    allowed: Allowed,
    id: &str,
    gateway: &State<Gateway>,
    spool: &State<Spool>,
) -> Result<Sent, Problem> {
    let view = seen(&allowed, gateway, id).await?;
    if view.row.state != JobState::Done || view.files.is_empty() {
        return Err(Problem::new(ProblemKind::NotReady, format!("the job is {} and has no archive", view.row.state)));
    }
    let mut files = Vec::new();
    for row in &view.files {
        files.push((row.name.clone(), gateway.job_file(id, &row.name).await?.1));
    }
    spool.check_room_for(&files)?;
    let folder = spool.folder.clone();
    let packed = tokio::task::spawn_blocking(move || pack(&files, &folder)).await;
    let packed = packed.map_err(|error| error.to_string()).and_then(|packed| packed.map_err(|error| error.to_string()));
    let file = packed.map_err(|error| Problem::new(ProblemKind::Internal, format!("the archive: {error}")))?;
    let stem = view.files.first().and_then(|file| file.name.split('.').next()).unwrap_or("job");
    let name = format!("{}.zip", stem.trim_start_matches(|c: char| c.is_ascii_digit() || c == '-'));
    let file = tokio::fs::File::from_std(file);
    Ok(Sent::of(file, "application/zip".into(), name, says_synthetic(&view, gateway).await?).await)
}

/// Whether the files of a job are said to be synthetic speech.
async fn says_synthetic(view: &JobView, gateway: &Gateway) -> Result<bool, Problem> {
    Ok(view.is_synthetic() && gateway.app(&view.row.app).await?.discloses_in(Disclosure::Header))
}

/// Audio is packed already: files are stored as they are.
pub(super) fn pack(
    files: &[(String, std::path::PathBuf)],
    folder: &std::path::Path,
) -> Result<std::fs::File, zip::result::ZipError> {
    use std::io::Seek as _;
    let file = tempfile::tempfile_in(folder)?;
    let mut archive = zip::ZipWriter::new(std::io::BufWriter::new(file));
    let options = zip::write::SimpleFileOptions::default().compression_method(zip::CompressionMethod::Stored);
    for (name, path) in files {
        archive.start_file(name.as_str(), options.large_file(path.metadata()?.len() > u64::from(u32::MAX)))?;
        std::io::copy(&mut std::fs::File::open(path)?, &mut archive)?;
    }
    let mut file = archive.finish()?.into_inner().map_err(std::io::IntoInnerError::into_error)?;
    file.rewind()?;
    Ok(file)
}
