//! Uploads in parts (resumable uploads for HTTP, the draft of the IETF's HTTP
//! working group): `Upload-Offset`, `Upload-Complete`, `PATCH`.

use rocket::http::{Header, Status};
use rocket::request::{FromRequest, Outcome, Request};
use rocket::response::{self, Responder, Response};
use rocket::serde::json::Json;
use rocket::{State, delete, head, patch, post};

use crate::access::Allowed;
use crate::body::RequestBody;
use crate::headers::Meta;
use crate::parameters::Parameters;
use crate::problem::Problem;
use crate::problem_kind::ProblemKind;
use crate::uploads::{Upload, Uploads};
use crate::wire::UploadAnswer;

/// `Upload-Offset` and `Upload-Complete` of a part.
pub(crate) struct UploadPart {
    offset: Option<u64>,
    complete: Option<bool>,
}

#[rocket::async_trait]
impl<'r> FromRequest<'r> for UploadPart {
    type Error = std::convert::Infallible;

    async fn from_request(request: &'r Request<'_>) -> Outcome<Self, Self::Error> {
        let header = |name: &str| request.headers().get_one(name).map(str::trim);
        // A boolean of structured fields (RFC 9651, section 3.3.6).
        let complete = match header("Upload-Complete") {
            Some("?1") => Some(true),
            Some("?0") => Some(false),
            _ => None,
        };
        Outcome::Success(UploadPart {
            offset: header("Upload-Offset").and_then(|offset| offset.parse().ok()),
            complete,
        })
    }
}

/// How far an upload is, in headers.
pub(crate) struct Progress {
    status: Status,
    offset: u64,
    complete: bool,
    begun: Option<UploadAnswer>,
}

impl<'r> Responder<'r, 'static> for Progress {
    fn respond_to(self, request: &'r Request<'_>) -> response::Result<'static> {
        let mut response = match self.begun {
            None => Response::new(),
            Some(answer) => {
                let place = answer.url.clone();
                let mut response = Json(answer).respond_to(request)?;
                response.set_header(Header::new("Location", place));
                response
            }
        };
        response.set_status(self.status);
        response.set_header(Header::new("Upload-Offset", self.offset.to_string()));
        response.set_header(Header::new("Upload-Complete", if self.complete { "?1" } else { "?0" }));
        response.set_header(Header::new("Cache-Control", "no-store"));
        Ok(response)
    }
}

/// Start an upload
///
/// For recordings and documents larger than the body limit. The body is the first part and may be
/// empty; `Upload-Complete: ?0` says that more parts follow.
#[utoipa::path(
    operation_id = "beginUpload",
    context_path = "/api/v1", tag = "long work",
    params(
        ("name" = Option<String>, Query, description = "The file's name"),
        ("type" = Option<String>, Query, description = "Media type of the complete upload (default: Content-Type)"),
        ("Upload-Complete" = Option<String>, Header, description = "?0: more parts follow; ?1 (default): the upload is complete"),
    ),
    request_body(content((Vec<u8> = "application/octet-stream"))),
    responses((status = 201, description = "It continues at Location", body = UploadAnswer), (status = "4XX", body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[post("/uploads", data = "<data>")]
pub(crate) async fn begin(
    allowed: Allowed,
    meta: Meta,
    part: UploadPart,
    data: RequestBody<'_>,
    uploads: &State<Uploads>,
) -> Result<Progress, Problem> {
    let mut given = Parameters::of_query(&meta.query)?;
    let name = given.text("name").map(|name| name.chars().take(200).collect());
    let media_type = given.text("type").unwrap_or(meta.content_type);
    given.finish()?;
    let end_user = allowed.0.end_user();
    let app = allowed.0.app.name;
    let upload = Upload { app: app.clone(), end_user, media_type, name, complete: false };
    let id = uploads.begin(&upload).await?;
    let complete = part.complete.unwrap_or(true);
    let offset = uploads.append(&id, &app, 0, complete, data.open(uploads.limit)?).await?;
    let url = format!("/api/v1/uploads/{id}");
    let begun = Some(UploadAnswer { id, url, limit: uploads.limit });
    Ok(Progress { status: Status::Created, offset, complete, begun })
}

/// Offset of an upload
///
/// After a broken connection, `Upload-Offset` says where to continue.
#[utoipa::path(
    operation_id = "readUpload",
    context_path = "/api/v1", tag = "long work",
    responses((status = 204, description = "Upload-Offset and Upload-Complete"), (status = 404, body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[head("/uploads/<id>")]
pub(crate) async fn read(allowed: Allowed, id: &str, uploads: &State<Uploads>) -> Result<Progress, Problem> {
    let (upload, offset) = uploads.find(id, &allowed.0.app.name).await?;
    Ok(Progress { status: Status::NoContent, offset, complete: upload.complete, begun: None })
}

/// Send a part
///
/// The part begins at `Upload-Offset`; 409 if the upload has another offset.
#[utoipa::path(
    operation_id = "sendUploadPart",
    context_path = "/api/v1", tag = "long work",
    params(
        ("Upload-Offset" = u64, Header, description = "Offset of the part"),
        ("Upload-Complete" = Option<String>, Header, description = "?1 with the last part"),
    ),
    request_body(content((Vec<u8> = "application/partial-upload"))),
    responses((status = 204, description = "Upload-Offset is the number of bytes received"), (status = "4XX", body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[patch("/uploads/<id>", data = "<data>")]
pub(crate) async fn append(
    allowed: Allowed,
    id: &str,
    part: UploadPart,
    data: RequestBody<'_>,
    uploads: &State<Uploads>,
) -> Result<Progress, Problem> {
    let missing = || Problem::new(ProblemKind::BadRequest, "a part takes Upload-Offset: where it begins, in bytes");
    let offset = part.offset.ok_or_else(missing)?;
    let complete = part.complete.unwrap_or(false);
    let reader = data.open(uploads.limit)?;
    let offset = uploads.append(id, &allowed.0.app.name, offset, complete, reader).await?;
    Ok(Progress { status: Status::NoContent, offset, complete, begun: None })
}

/// Remove an upload
#[utoipa::path(
    operation_id = "dropUpload",
    context_path = "/api/v1", tag = "long work",
    responses((status = 204, description = "It is gone"), (status = 404, body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[delete("/uploads/<id>")]
pub(crate) async fn remove(allowed: Allowed, id: &str, uploads: &State<Uploads>) -> Result<Status, Problem> {
    uploads.remove(id, &allowed.0.app.name).await?;
    Ok(Status::NoContent)
}
