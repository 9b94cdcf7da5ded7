//! Lexicons, and the clips that scripts insert.

use dispatcher_core::{is_known_language, is_record_name};
use dispatcher_gateway::{Gateway, MOST_SOUND, NewLexicon, StoredLexicon};
use dispatcher_markup::Pronunciation;
use rocket::http::Status;
use rocket::serde::json::Json;
use rocket::{State, delete, get, post, put};

use super::SMALL_BODY;
use crate::access::Allowed;
use crate::body::{RequestBody, read_json, read_small};
use crate::headers::{Meta, text_of_body};
use crate::parameters::Parameters;
use crate::problem::Problem;
use crate::problem_kind::ProblemKind;
use crate::ranged::ImmutableFile;
use crate::wire::{ClipAnswer, LexiconAnswer, LexiconWordRequest, List, Version};

/// List lexicons
///
/// Lexicons that the caller may use; operators see all.
#[utoipa::path(
    operation_id = "listLexicons",
    context_path = "/api/v1", tag = "lexicons and clips",
    responses((status = 200, description = "By name", body = List<LexiconAnswer>)),
    security(("key" = []))
)]
#[get("/lexicons")]
pub(crate) fn list(allowed: Allowed, gateway: &State<Gateway>) -> Json<List<LexiconAnswer>> {
    let registry = gateway.registry();
    let seen = registry.lexicons().all().filter(|lexicon| visible(&allowed, lexicon));
    Json(List::whole(seen.map(LexiconAnswer::from).collect()))
}

fn visible(allowed: &Allowed, lexicon: &StoredLexicon) -> bool {
    allowed.0.reads_all() || lexicon.is_for(&allowed.0.app.name)
}

/// Read a lexicon
///
/// As PLS 1.0 (`application/pls+xml`, RFC 4267).
#[utoipa::path(
    operation_id = "readLexicon",
    context_path = "/api/v1", tag = "lexicons and clips",
    responses((status = 200, description = "The document", body = String, content_type = "application/pls+xml"), (status = 404, body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[get("/lexicons/<name>")]
pub(crate) fn read(allowed: Allowed, name: &str, gateway: &State<Gateway>) -> Result<ImmutableFile, Problem> {
    let registry = gateway.registry();
    let stem = name.strip_suffix(".pls").unwrap_or(name);
    let all = || registry.lexicons().all().filter(|lexicon| visible(&allowed, lexicon));
    let Some(lexicon) = all().find(|lexicon| lexicon.name == stem) else {
        let mut problem = Problem::new(ProblemKind::NoSuchRecord, format!("there is no lexicon '{name}'"));
        problem.nearest = dispatcher_core::nearest(stem, all().map(|lexicon| lexicon.name.as_str()), 3);
        return Err(problem);
    };
    Ok(ImmutableFile {
        bytes: lexicon.document.clone().into(),
        content_type: "application/pls+xml; charset=utf-8".into(),
        name: format!("{stem}.pls"),
        tag: format!("{stem}-{}", lexicon.version),
    })
}

/// List a lexicon's versions
#[utoipa::path(
    operation_id = "listLexiconVersions",
    context_path = "/api/v1", tag = "lexicons and clips",
    responses((status = 200, description = "The newest first", body = List<Version>), (status = 404, body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[get("/lexicons/<name>/versions")]
pub(crate) async fn versions(
    _allowed: Allowed,
    name: &str,
    gateway: &State<Gateway>,
) -> Result<Json<List<Version>>, Problem> {
    let rows = gateway.lexicon_versions(name).await?;
    if rows.is_empty() {
        return Err(Problem::new(ProblemKind::NoSuchRecord, format!("there is no lexicon '{name}'")));
    }
    Ok(Json(List::whole(rows.into_iter().map(Version::from).collect())))
}

/// Add or replace a lexicon
///
/// The body is a PLS 1.0 document, which becomes the next version. `app` restricts the lexicon to
/// one app; with `always=false` it is used only for scripts that name it.
#[utoipa::path(
    operation_id = "putLexicon",
    context_path = "/api/v1", tag = "lexicons and clips",
    params(
        ("app" = Option<String>, Query, description = "App that may use it (default: all apps)"),
        ("always" = Option<bool>, Query, description = "Whether it is used for all text in its language (default: true)"),
    ),
    request_body(content((String = "application/pls+xml"))),
    responses((status = 200, description = "The lexicon", body = LexiconAnswer), (status = "4XX", body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[put("/lexicons/<name>", data = "<data>")]
pub(crate) async fn put_lexicon(
    allowed: Allowed,
    name: &str,
    meta: Meta,
    data: RequestBody<'_>,
    gateway: &State<Gateway>,
) -> Result<Json<LexiconAnswer>, Problem> {
    if !is_record_name(name) {
        return Err(Problem::new(ProblemKind::Invalid, "a name is 1 to 40 small letters, digits and hyphens"));
    }
    let mut given = Parameters::of_query(&meta.query)?;
    let app = given.text("app");
    let always = given.flag("always")?.unwrap_or(true);
    given.finish()?;
    let document = text_of_body(&read_small(data, SMALL_BODY).await?, meta.charset.as_deref())?;
    let new = NewLexicon { name: name.into(), app, always, document };
    let kept = gateway.put_lexicon(new, &allowed.0.who).await?;
    Ok(Json(LexiconAnswer::from(&kept)))
}

/// Add a word to a lexicon
///
/// The word is spoken as `alias` or `phoneme` says, from the next request on. A word with the same
/// spelling is replaced; the rest of the document stays as it is. A lexicon that does not exist yet is
/// added if `language` is given.
#[utoipa::path(
    operation_id = "addLexiconWord",
    context_path = "/api/v1", tag = "lexicons and clips",
    request_body = LexiconWordRequest,
    responses((status = 200, description = "The lexicon", body = LexiconAnswer), (status = "4XX", body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[post("/lexicons/<name>/words", data = "<data>")]
pub(crate) async fn add_lexicon_word(
    allowed: Allowed,
    name: &str,
    data: RequestBody<'_>,
    gateway: &State<Gateway>,
) -> Result<Json<LexiconAnswer>, Problem> {
    if !is_record_name(name) {
        return Err(Problem::new(ProblemKind::Invalid, "a name is 1 to 40 small letters, digits and hyphens"));
    }
    let LexiconWordRequest { grapheme, alias, phoneme, alphabet, language } = read_json(data, SMALL_BODY).await?;
    let said = match (alias, phoneme) {
        (Some(alias), None) => Pronunciation::Alias(alias),
        (None, Some(symbols)) => {
            Pronunciation::Phoneme { symbols, alphabet: alphabet.unwrap_or_else(|| "ipa".to_owned()) }
        }
        _ => return Err(Problem::at(ProblemKind::Invalid, "/alias", "send alias or phoneme")),
    };
    if let Some(tag) = language.as_ref().filter(|tag| !is_known_language(tag)) {
        let detail = format!("'{tag}' is not the BCP 47 tag of a known language, such as en-GB");
        return Err(Problem::at(ProblemKind::Invalid, "/language", detail));
    }
    let word = (grapheme.trim(), &said);
    let kept = gateway.add_lexicon_word(name, word, language.as_deref(), &allowed.0.who).await?;
    Ok(Json(LexiconAnswer::from(&kept)))
}

/// Retire a lexicon
#[utoipa::path(
    operation_id = "retireLexicon",
    context_path = "/api/v1", tag = "lexicons and clips",
    responses((status = 204, description = "It is retired"), (status = 404, body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[delete("/lexicons/<name>")]
pub(crate) async fn retire(allowed: Allowed, name: &str, gateway: &State<Gateway>) -> Result<Status, Problem> {
    gateway.retire_lexicon(name, &allowed.0.who).await?;
    Ok(Status::NoContent)
}

/// List clips
///
/// Clips that the caller's scripts may insert, newest first.
#[utoipa::path(
    operation_id = "listClips",
    context_path = "/api/v1", tag = "lexicons and clips",
    responses((status = 200, description = "The newest first", body = List<ClipAnswer>)),
    security(("key" = []))
)]
#[get("/clips")]
pub(crate) async fn clips(allowed: Allowed, gateway: &State<Gateway>) -> Result<Json<List<ClipAnswer>>, Problem> {
    let rows = gateway.clips(&allowed.0).await?;
    Ok(Json(List::whole(rows.into_iter().map(ClipAnswer::from).collect())))
}

/// Add a clip
///
/// Scripts insert a clip as `<audio src="clip:ID"/>`. The id is derived from the content: the same
/// audio is kept once.
#[utoipa::path(
    operation_id = "keepClip",
    context_path = "/api/v1", tag = "lexicons and clips",
    params(("title" = Option<String>, Query, description = "Title")),
    request_body(content((Vec<u8> = "audio/*"))),
    responses((status = 201, description = "The clip", body = ClipAnswer), (status = "4XX", body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[post("/clips", data = "<data>")]
pub(crate) async fn keep_clip(
    allowed: Allowed,
    meta: Meta,
    data: RequestBody<'_>,
    gateway: &State<Gateway>,
) -> Result<(Status, Json<ClipAnswer>), Problem> {
    let mut given = Parameters::of_query(&meta.query)?;
    let title = given.text("title").unwrap_or_default();
    given.finish()?;
    let audio = read_small(data, MOST_SOUND as u64).await?;
    let (row, warnings) = gateway.keep_clip(&allowed.0, &title, audio.into()).await?;
    Ok((Status::Created, Json(ClipAnswer { warnings, ..ClipAnswer::from(row) })))
}

/// Fetch a clip
///
/// With `Range` and `If-None-Match`.
#[utoipa::path(
    operation_id = "fetchClip",
    context_path = "/api/v1", tag = "lexicons and clips",
    responses((status = 200, description = "The audio", body = Vec<u8>, content_type = "audio/*"), (status = 404, body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[get("/clips/<id>")]
pub(crate) async fn clip(allowed: Allowed, id: &str, gateway: &State<Gateway>) -> Result<ImmutableFile, Problem> {
    let (row, bytes) = gateway.clip(&allowed.0, id).await?;
    let extension = dispatcher_audio::Format::parse(&row.media_type).map_or("bin", |format| format.codec.extension());
    Ok(ImmutableFile { bytes, name: format!("{}.{extension}", row.id), content_type: row.media_type, tag: row.id })
}

/// Remove a clip
///
/// Scripts that name it speak its fallback text from then on.
#[utoipa::path(
    operation_id = "removeClip",
    context_path = "/api/v1", tag = "lexicons and clips",
    responses((status = 204, description = "It is gone"), (status = 404, body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[delete("/clips/<id>")]
pub(crate) async fn remove_clip(allowed: Allowed, id: &str, gateway: &State<Gateway>) -> Result<Status, Problem> {
    gateway.remove_clip(&allowed.0, id).await?;
    Ok(Status::NoContent)
}
