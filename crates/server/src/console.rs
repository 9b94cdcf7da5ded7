//! The console's files, embedded in the binary, and the pages of problems.

use std::path::PathBuf;

use rocket::http::{ContentType, Status};
use rocket::response::Redirect;
use rocket::response::content::RawHtml;
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

type File = (ContentType, Vec<u8>);

fn file(path: &str) -> Option<File> {
    let found = Files::get(path)?;
    let extension = path.rsplit('.').next().unwrap_or_default();
    let kind = ContentType::from_extension(extension).unwrap_or(ContentType::Binary);
    Some((kind, found.data.into_owned()))
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
