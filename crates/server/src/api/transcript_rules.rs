//! `/api/v1/vocabulary`, `/phrases` and `/masks`: what an app has done with its
//! transcripts. An app key reads and changes its own app's; masks are for
//! operators.

use dispatcher_core::Transcript;
use dispatcher_gateway::{AppRules, Gateway, VersionedKind};
use rocket::serde::json::Json;
use rocket::{State, get, post, put};

use super::SMALL_BODY;
use crate::access::Allowed;
use crate::body::{RequestBody, read_json};
use crate::headers::Meta;
use crate::problem::Problem;
use crate::problem_kind::ProblemKind;
use crate::wire::{
    CommandAnswer, List, MasksAnswer, MasksRequest, PhrasesAnswer, PhrasesRequest, RevisionAnswer, RevisionRequest,
    TranscriptChangeAnswer, Version, VocabularyAnswer, VocabularyEntry, VocabularyRequest,
};

/// Bytes of a vocabulary or phrase table.
const RULES_BODY: u64 = 4 << 20;
/// Characters of a text that rules are tried on.
const MOST_TRIED: usize = 20_000;

async fn versions_of(
    kind: VersionedKind,
    allowed: &Allowed,
    meta: &Meta,
    gateway: &Gateway,
) -> Result<Json<List<Version>>, Problem> {
    let app = super::app_of(&allowed.0, meta, gateway).await?;
    let rows = gateway.rule_versions(kind, &app).await?;
    Ok(Json(List::whole(rows.into_iter().map(Version::from).collect())))
}

/// Read a vocabulary
///
/// Names and terms of an app. Engines that take hints are given the words; whatever they recognise, words that
/// sound like one of the vocabulary are replaced, and each change is reported.
#[utoipa::path(
    operation_id = "readVocabulary",
    context_path = "/api/v1", tag = "transcripts",
    params(("app" = Option<String>, Query, description = "For operators: the app (default: the caller's own)")),
    responses((status = 200, description = "The vocabulary", body = VocabularyAnswer), (status = "4XX", body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[get("/vocabulary")]
pub(crate) async fn vocabulary(
    allowed: Allowed,
    meta: Meta,
    gateway: &State<Gateway>,
) -> Result<Json<VocabularyAnswer>, Problem> {
    let app = super::app_of(&allowed.0, &meta, gateway).await?;
    Ok(Json(VocabularyAnswer::of(&app, &gateway.rules_of(&app))))
}

/// Replace a vocabulary
///
/// The words become the next version.
#[utoipa::path(
    operation_id = "putVocabulary",
    context_path = "/api/v1", tag = "transcripts",
    params(("app" = Option<String>, Query, description = "For operators: the app (default: the caller's own)")),
    request_body = VocabularyRequest,
    responses((status = 200, description = "The vocabulary", body = VocabularyAnswer), (status = "4XX", body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[put("/vocabulary", data = "<data>")]
pub(crate) async fn put_vocabulary(
    allowed: Allowed,
    meta: Meta,
    data: RequestBody<'_>,
    gateway: &State<Gateway>,
) -> Result<Json<VocabularyAnswer>, Problem> {
    let app = super::app_of(&allowed.0, &meta, gateway).await?;
    let request: VocabularyRequest = read_json(data, RULES_BODY).await?;
    let words = request.words.into_iter().map(Into::into).collect();
    let rules = gateway.put_vocabulary(&app, words, &allowed.0.who).await?;
    Ok(Json(VocabularyAnswer::of(&app, &rules)))
}

/// Add a word to a vocabulary
///
/// Replaces the word with the same first grapheme, if there is one.
#[utoipa::path(
    operation_id = "addVocabularyWord",
    context_path = "/api/v1", tag = "transcripts",
    params(("app" = Option<String>, Query, description = "For operators: the app (default: the caller's own)")),
    request_body = VocabularyEntry,
    responses((status = 200, description = "The vocabulary", body = VocabularyAnswer), (status = "4XX", body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[post("/vocabulary/words", data = "<data>")]
pub(crate) async fn add_word(
    allowed: Allowed,
    meta: Meta,
    data: RequestBody<'_>,
    gateway: &State<Gateway>,
) -> Result<Json<VocabularyAnswer>, Problem> {
    let app = super::app_of(&allowed.0, &meta, gateway).await?;
    let word: VocabularyEntry = read_json(data, SMALL_BODY).await?;
    let rules = gateway.add_vocabulary_word(&app, word.into(), &allowed.0.who).await?;
    Ok(Json(VocabularyAnswer::of(&app, &rules)))
}

/// List a vocabulary's versions
#[utoipa::path(
    operation_id = "listVocabularyVersions",
    context_path = "/api/v1", tag = "transcripts",
    params(("app" = Option<String>, Query, description = "For operators: the app (default: the caller's own)")),
    responses((status = 200, description = "The newest first", body = List<Version>)),
    security(("key" = []))
)]
#[get("/vocabulary/versions")]
pub(crate) async fn vocabulary_versions(
    allowed: Allowed,
    meta: Meta,
    gateway: &State<Gateway>,
) -> Result<Json<List<Version>>, Problem> {
    versions_of(VersionedKind::Vocabulary, &allowed, &meta, gateway).await
}

/// Try the rules on a text
///
/// Applies the masks, vocabulary and phrases of an app to a text; nothing is kept.
#[utoipa::path(
    operation_id = "tryTranscriptRules",
    context_path = "/api/v1", tag = "transcripts",
    params(("app" = Option<String>, Query, description = "For operators: the app (default: the caller's own)")),
    request_body = RevisionRequest,
    responses((status = 200, description = "The text after the rules", body = RevisionAnswer), (status = "4XX", body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[post("/vocabulary/try", data = "<data>")]
pub(crate) async fn try_rules(
    allowed: Allowed,
    meta: Meta,
    data: RequestBody<'_>,
    gateway: &State<Gateway>,
) -> Result<Json<RevisionAnswer>, Problem> {
    let app = super::app_of(&allowed.0, &meta, gateway).await?;
    let RevisionRequest { text } = read_json(data, RULES_BODY).await?;
    if text.chars().count() > MOST_TRIED {
        let detail = format!("the text has more than {MOST_TRIED} characters");
        return Err(Problem::at(ProblemKind::Invalid, "/text", detail));
    }
    let AppRules { rules, .. } = gateway.rules_of(&app);
    let transcript = Transcript { text, ..Transcript::default() };
    let revised = tokio::task::spawn_blocking(move || rules.revise(transcript)).await;
    let revised = revised.map_err(|error| Problem::new(ProblemKind::Internal, error.to_string()))?;
    Ok(Json(RevisionAnswer {
        text: revised.transcript.text,
        changes: revised.changes.into_iter().map(TranscriptChangeAnswer::from).collect(),
        command: revised.command.map(CommandAnswer::from),
    }))
}

/// Read the phrases of an app
///
/// A transcript that matches a phrase as a whole has the phrase's `command` and `slots`.
#[utoipa::path(
    operation_id = "readPhrases",
    context_path = "/api/v1", tag = "transcripts",
    params(("app" = Option<String>, Query, description = "For operators: the app (default: the caller's own)")),
    responses((status = 200, description = "The phrases", body = PhrasesAnswer), (status = "4XX", body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[get("/phrases")]
pub(crate) async fn phrases(
    allowed: Allowed,
    meta: Meta,
    gateway: &State<Gateway>,
) -> Result<Json<PhrasesAnswer>, Problem> {
    let app = super::app_of(&allowed.0, &meta, gateway).await?;
    Ok(Json(PhrasesAnswer::of(&app, &gateway.rules_of(&app))))
}

/// Replace the phrases of an app
///
/// The phrases become the next version.
#[utoipa::path(
    operation_id = "putPhrases",
    context_path = "/api/v1", tag = "transcripts",
    params(("app" = Option<String>, Query, description = "For operators: the app (default: the caller's own)")),
    request_body = PhrasesRequest,
    responses((status = 200, description = "The phrases", body = PhrasesAnswer), (status = "4XX", body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[put("/phrases", data = "<data>")]
pub(crate) async fn put_phrases(
    allowed: Allowed,
    meta: Meta,
    data: RequestBody<'_>,
    gateway: &State<Gateway>,
) -> Result<Json<PhrasesAnswer>, Problem> {
    let app = super::app_of(&allowed.0, &meta, gateway).await?;
    let request: PhrasesRequest = read_json(data, RULES_BODY).await?;
    let phrases = request.phrases.into_iter().map(Into::into).collect();
    let rules = gateway.put_phrases(&app, phrases, &allowed.0.who).await?;
    Ok(Json(PhrasesAnswer::of(&app, &rules)))
}

/// List the versions of an app's phrases
#[utoipa::path(
    operation_id = "listPhrasesVersions",
    context_path = "/api/v1", tag = "transcripts",
    params(("app" = Option<String>, Query, description = "For operators: the app (default: the caller's own)")),
    responses((status = 200, description = "The newest first", body = List<Version>)),
    security(("key" = []))
)]
#[get("/phrases/versions")]
pub(crate) async fn phrases_versions(
    allowed: Allowed,
    meta: Meta,
    gateway: &State<Gateway>,
) -> Result<Json<List<Version>>, Problem> {
    versions_of(VersionedKind::Phrases, &allowed, &meta, gateway).await
}

/// Read the mask rules of an app
///
/// Text that a rule matches is replaced by the rule's name before a transcript is kept or given to the app.
#[utoipa::path(
    operation_id = "readMasks",
    context_path = "/api/v1", tag = "transcripts",
    params(("app" = Option<String>, Query, description = "For operators: the app (default: the caller's own)")),
    responses((status = 200, description = "The rules", body = MasksAnswer), (status = "4XX", body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[get("/masks")]
pub(crate) async fn masks(
    allowed: Allowed,
    meta: Meta,
    gateway: &State<Gateway>,
) -> Result<Json<MasksAnswer>, Problem> {
    let app = super::app_of(&allowed.0, &meta, gateway).await?;
    Ok(Json(MasksAnswer::of(&app, &gateway.rules_of(&app))))
}

/// Replace the mask rules of an app
///
/// The rules become the next version.
#[utoipa::path(
    operation_id = "putMasks",
    context_path = "/api/v1", tag = "transcripts",
    params(("app" = Option<String>, Query, description = "The app (default: the caller's own)")),
    request_body = MasksRequest,
    responses((status = 200, description = "The rules", body = MasksAnswer), (status = "4XX", body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[put("/masks", data = "<data>")]
pub(crate) async fn put_masks(
    allowed: Allowed,
    meta: Meta,
    data: RequestBody<'_>,
    gateway: &State<Gateway>,
) -> Result<Json<MasksAnswer>, Problem> {
    let app = super::app_of(&allowed.0, &meta, gateway).await?;
    let request: MasksRequest = read_json(data, RULES_BODY).await?;
    let masks = request.rules.into_iter().map(Into::into).collect();
    let rules = gateway.put_masks(&app, masks, &allowed.0.who).await?;
    Ok(Json(MasksAnswer::of(&app, &rules)))
}

/// List the versions of an app's mask rules
#[utoipa::path(
    operation_id = "listMasksVersions",
    context_path = "/api/v1", tag = "transcripts",
    params(("app" = Option<String>, Query, description = "For operators: the app (default: the caller's own)")),
    responses((status = 200, description = "The newest first", body = List<Version>)),
    security(("key" = []))
)]
#[get("/masks/versions")]
pub(crate) async fn masks_versions(
    allowed: Allowed,
    meta: Meta,
    gateway: &State<Gateway>,
) -> Result<Json<List<Version>>, Problem> {
    versions_of(VersionedKind::Masks, &allowed, &meta, gateway).await
}
