//! The console's files, embedded in the binary, and the pages of problems.

use std::borrow::Cow;
use std::io::Cursor;
use std::path::PathBuf;

use rocket::http::{ContentType, Status};
use rocket::request::Request;
use rocket::response::content::RawHtml;
use rocket::response::{self, Redirect, Responder, Response};
use rocket::{State, get, http::CookieJar};
use rust_embed::RustEmbed;

use crate::access::OwnHost;
use crate::problem::Problem;
use crate::problem_kind::{KindFacts, ProblemKind};
use crate::public_url::PublicUrl;
use crate::sign_in::{SessionOwner, SignIn, begin_session};

#[derive(RustEmbed)]
#[folder = "../../console/dist"]
#[allow_missing = true]
struct Files;

/// A file of the console, and the same compressed where that was built.
pub(crate) struct File {
    kind: ContentType,
    plain: Cow<'static, [u8]>,
    gzip: Option<Cow<'static, [u8]>>,
    /// Its name changes with its content.
    named_by_content: bool,
}

fn file(path: &str) -> Option<File> {
    let extension = path.rsplit('.').next().unwrap_or_default();
    Some(File {
        kind: ContentType::from_extension(extension).unwrap_or(ContentType::Binary),
        plain: Files::get(path)?.data,
        gzip: Files::get(&format!("{path}.gz")).map(|found| found.data),
        named_by_content: path.starts_with("assets/"),
    })
}

/// Whether a client takes gzip (RFC 9110, section 12.5.3).
fn takes_gzip(accept_encoding: &str) -> bool {
    let refused = |parameters: &str| {
        let weight = parameters.split(';').filter_map(|one| one.trim().strip_prefix("q=")).next();
        weight.is_some_and(|weight| weight.trim().parse::<f32>().is_ok_and(|weight| weight <= 0.0))
    };
    accept_encoding.split(',').any(|coding| {
        let (name, parameters) = coding.split_once(';').unwrap_or((coding, ""));
        name.trim().eq_ignore_ascii_case("gzip") && !refused(parameters)
    })
}

impl<'r> Responder<'r, 'static> for File {
    fn respond_to(self, request: &'r Request<'_>) -> response::Result<'static> {
        let mut response = Response::build();
        response.header(self.kind);
        if self.named_by_content {
            response.raw_header("Cache-Control", "public, max-age=31536000, immutable");
        }
        let taken = takes_gzip(&request.headers().get("Accept-Encoding").collect::<Vec<_>>().join(","));
        if self.gzip.is_some() {
            response.raw_header("Vary", "Accept-Encoding");
        }
        let body = match self.gzip.filter(|_| taken) {
            Some(gzip) => {
                response.raw_header("Content-Encoding", "gzip");
                gzip
            }
            None => self.plain,
        };
        response.sized_body(body.len(), Cursor::new(body)).ok()
    }
}

fn index() -> Result<File, Problem> {
    file("index.html").ok_or_else(|| {
        Problem::new(ProblemKind::NotFound, "the console was not built into this binary; run: make console")
    })
}

#[get("/")]
pub(crate) fn root() -> Result<File, Problem> {
    index()
}

/// Files by their path; every other path is a page of the console.
#[get("/<path..>", rank = 20)]
pub(crate) fn any(path: PathBuf) -> Result<File, Problem> {
    let path = path.to_string_lossy().into_owned();
    if path.starts_with("api/") || path == "api" {
        return Err(Problem::new(ProblemKind::NotFound, format!("there is no GET /{path}")));
    }
    if path.contains('.') {
        return file(&path).ok_or_else(|| Problem::new(ProblemKind::NotFound, format!("there is no /{path}")));
    }
    index()
}

/// A one-time link: signs in and goes to the console.
#[get("/sign-in/<token>")]
pub(crate) async fn link(
    token: &str,
    sign_in: &State<SignIn>,
    gateway: &State<dispatcher_gateway::Gateway>,
    cookies: &CookieJar<'_>,
    url: &State<PublicUrl>,
    _host: OwnHost,
) -> Result<Redirect, Problem> {
    if !sign_in.use_link(token) {
        return Err(Problem::new(
            ProblemKind::SignedOut,
            "this link was used, or is of an earlier start; sign in, or start again for a new one",
        ));
    }
    let owner = SessionOwner { name: "operator".into(), key: None };
    begin_session(gateway, owner, cookies, url).await?;
    Ok(Redirect::to("/"))
}

fn page(title: &str, body: &str) -> RawHtml<String> {
    RawHtml(format!(
        "<!doctype html><html lang=\"en\"><meta charset=\"utf-8\"><title>{title} · Dispatcher</title>\
         <meta name=\"viewport\" content=\"width=device-width\">\
         <style>body{{font:17px/1.55 system-ui,sans-serif;max-width:44rem;margin:3rem auto;padding:0 1rem;\
         color:#1D2B2A;background:#EDF2EF}}a{{color:#1F6F6B}}code{{background:#FBFDFB;padding:.1em .3em}}</style>\
         <h1>{title}</h1>{body}</html>"
    ))
}

#[get("/problems")]
pub(crate) fn problems() -> RawHtml<String> {
    let row = |kind: &ProblemKind| {
        let KindFacts { slug, status, title, .. } = kind.facts();
        format!("<li>{status} <a href=\"/problems/{slug}\">{title}</a></li>")
    };
    let rows: String = ProblemKind::ALL.iter().map(row).collect();
    page("Problems", &format!("<p>Every kind of problem that the API answers with.</p><ul>{rows}</ul>"))
}

#[get("/problems/<slug>")]
pub(crate) fn problem(slug: &str) -> (Status, RawHtml<String>) {
    match ProblemKind::ALL.iter().map(|kind| kind.facts()).find(|facts| facts.slug == slug) {
        Some(KindFacts { slug, status, title, help }) => {
            let body = format!(
                "<p>Status {status}, <code>{slug}</code>.</p><p>{help}</p><p><a href=\"/problems\">All problems</a></p>"
            );
            (Status::Ok, page(title, &body))
        }
        None => (Status::NotFound, page("No such problem", "<p><a href=\"/problems\">All problems</a></p>")),
    }
}

/// The reference page, which can try calls; its script comes from the
/// console's files.
#[get("/api/reference")]
pub(crate) fn reference() -> Result<File, Problem> {
    file("index.html")
        .ok_or_else(|| Problem::new(ProblemKind::NotFound, "the reference page was not built in; run: make console"))
}

#[cfg(test)]
mod tests {
    use super::takes_gzip;

    #[test]
    fn gzip_is_sent_to_those_who_take_it() {
        for taken in ["gzip", "br, gzip;q=0.5", "deflate, GZIP", "gzip; q=1.0, *;q=0"] {
            assert!(takes_gzip(taken), "{taken}");
        }
        for refused in ["", "identity", "gzip;q=0", "br, gzip;q=0.0", "gzippy", "*;q=0"] {
            assert!(!takes_gzip(refused), "{refused}");
        }
    }
}
