//! `/links` and `/answers`: signed links, and the audio of answers with
//! `"deliver": "link"`.

use dispatcher_audio::Format;
use dispatcher_gateway::{Caller, Gateway, now_micros};
use rocket::request::{FromRequest, Outcome, Request};
use rocket::serde::json::Json;
use rocket::{State, get, http::Status, post};

use super::{SMALL_BODY, json_audio::JsonFile};
use crate::access::Allowed;
use crate::answers::{AnswerFacts, Answers};
use crate::body::{RequestBody, read_json};
use crate::headers::Meta;
use crate::links::LinkSigner;
use crate::parameters::Parameters;
use crate::problem::Problem;
use crate::problem_kind::ProblemKind;
use crate::public_url::PublicUrl;
use crate::ranged::Sent;
use crate::routes;
use crate::spool::Spool;
use crate::wire::{AudioAnswer, LinkAnswer, LinkRequest, rfc3339, thousandths};

/// Lifetime of a link in seconds: default, minimum and maximum.
const USUAL: u32 = 3_600;
const LEAST: u32 = 60;
const MOST: u32 = 30 * 86_400;
/// Bytes of a path.
const MOST_PATH: usize = 500;

/// Expiry of a link, in seconds since 1970.
fn end_of(expires_in: Option<u32>) -> Result<i64, Problem> {
    let seconds = expires_in.unwrap_or(USUAL);
    match (LEAST..=MOST).contains(&seconds) {
        true => Ok(now_micros() / 1_000_000 + i64::from(seconds)),
        false => {
            let detail = format!("expires_in is {LEAST} to {MOST} seconds");
            Err(Problem::at(ProblemKind::Invalid, "/expires_in", detail))
        }
    }
}

/// Expiry of the link of an answer; `None` if none was requested.
pub(super) fn delivery(deliver: Option<&str>, expires_in: Option<u32>) -> Result<Option<i64>, Problem> {
    match (deliver, expires_in) {
        (Some("link"), expires_in) => end_of(expires_in).map(Some),
        (None, None) => Ok(None),
        (None, Some(_)) => Err(Problem::at(ProblemKind::Invalid, "/expires_in", "expires_in goes with deliver")),
        (Some(other), _) => {
            Err(Problem::at(ProblemKind::Invalid, "/deliver", format!("deliver is link, not '{other}'")))
        }
    }
}

/// Refuses `deliver` for jobs.
pub(super) fn no_link(deliver: Option<&String>) -> Result<(), Problem> {
    match deliver {
        None => Ok(()),
        Some(_) => {
            let detail = "a job has no link yet; when it is done, link its files with POST /api/v1/links";
            Err(Problem::at(ProblemKind::Invalid, "/deliver", detail))
        }
    }
}

/// Where complete answers are written, with the parts that links need.
#[derive(Clone, Copy)]
pub(crate) struct Outlet<'r> {
    pub(super) spool: &'r Spool,
    answers: &'r Answers,
    signer: &'r LinkSigner,
    url: &'r PublicUrl,
}

#[rocket::async_trait]
impl<'r> FromRequest<'r> for Outlet<'r> {
    type Error = ();

    async fn from_request(request: &'r Request<'_>) -> Outcome<Self, ()> {
        let rocket = request.rocket();
        let parts = (rocket.state(), rocket.state(), rocket.state(), rocket.state());
        match parts {
            (Some(spool), Some(answers), Some(signer), Some(url)) => {
                Outcome::Success(Outlet { spool, answers, signer, url })
            }
            _ => Outcome::Error((Status::InternalServerError, ())),
        }
    }
}

impl Outlet<'_> {
    fn link(&self, app: &str, path: &str, expires: i64) -> LinkAnswer {
        let link = format!("{}{}", self.url.0, self.signer.link(app, path, expires));
        LinkAnswer { link, expires: rfc3339(expires * 1_000_000) }
    }

    /// Stores audio and returns its description with the link.
    pub(super) async fn link_to(
        &self,
        file: JsonFile,
        (format, seconds): (Format, f64),
        (caller, name, expires): (&Caller, String, i64),
    ) -> Result<AudioAnswer, Problem> {
        let kind = format.media_type();
        let name = format!("{name}.{}", format.codec.extension());
        let app = caller.app.name.as_str();
        let facts = AnswerFacts {
            app: app.to_owned(),
            end_user: caller.end_user.as_deref().map(str::to_owned),
            media_type: kind.clone(),
            name,
            bytes: file.bytes,
            expires,
        };
        let id = self.answers.keep(file.path, facts).await?;
        let LinkAnswer { link, expires } = self.link(app, &format!("/api/v1/answers/{id}"), expires);
        let duration = thousandths(seconds);
        Ok(AudioAnswer { kind, base64: None, data_uri: None, link: Some(link), expires: Some(expires), duration })
    }
}

/// Make a link
///
/// For a file of a job or prompt set, an archive, or a clip: anyone with the link can fetch it without
/// a key until it expires. A link cannot be revoked.
#[utoipa::path(
    operation_id = "makeLink",
    context_path = "/api/v1", tag = "long work",
    params(("app" = Option<String>, Query, description = "For operators: the app to which the file belongs")),
    request_body = LinkRequest,
    responses((status = 201, description = "The link", body = LinkAnswer), (status = "4XX", body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[post("/links", data = "<data>")]
pub(crate) async fn make(
    allowed: Allowed,
    meta: Meta,
    data: RequestBody<'_>,
    gateway: &State<Gateway>,
    outlet: Outlet<'_>,
) -> Result<(Status, Json<LinkAnswer>), Problem> {
    let request: LinkRequest = read_json(data, SMALL_BODY).await?;
    let mut given = Parameters::of_query(&meta.query)?;
    let app = given.text("app");
    given.finish()?;
    let app = match app.filter(|app| allowed.0.may_see(app)) {
        Some(app) => gateway.app(&app).await?.name,
        None => allowed.0.app.name.clone(),
    };
    let path = request.path;
    if path.len() > MOST_PATH || !routes::is_linkable(&path) {
        let detail = "only files of jobs and prompt sets, archives and clips can be linked";
        return Err(Problem::at(ProblemKind::Invalid, "/path", detail));
    }
    let expires = end_of(request.expires_in)?;
    Ok((Status::Created, Json(outlet.link(&app, &path, expires))))
}

/// Fetch a linked answer
///
/// Audio of a request with `"deliver": "link"`, until it expires; with `Range`, a part of it.
#[utoipa::path(
    operation_id = "fetchAnswer",
    context_path = "/api/v1", tag = "synthesis and recognition",
    responses((status = 200, description = "The audio", body = Vec<u8>, content_type = "audio/*"), (status = "4XX", body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[get("/answers/<id>")]
pub(crate) async fn answer(allowed: Allowed, id: &str, answers: &State<Answers>) -> Result<Sent, Problem> {
    let found = answers.open(&allowed.0.app.name, id, now_micros() / 1_000_000).await;
    let gone = || Problem::new(ProblemKind::NoSuchRecord, format!("there is no answer '{id}', or it has expired"));
    let (file, facts) = found.ok_or_else(gone)?;
    Ok(Sent::of(file, facts.media_type, facts.name, true).await.with_ranges())
}
