//! `/api/v1/transcripts`: kept transcripts, and transcripts held against one
//! another.

use dispatcher_core::{Money, Transcript, align, compare_texts, consensus, normalise_words};
use dispatcher_gateway::Gateway;
use rocket::http::{ContentType, Status};
use rocket::serde::json::Json;
use rocket::{Either, State, delete, get, post, put};

use super::comparison_report;
use super::comparisons::Attachment;
use super::transcript_form::{TranscriptForm, WrittenTranscript, form_of};
use crate::access::Allowed;
use crate::body::{RequestBody, read_json};
use crate::headers::Meta;
use crate::parameters::Parameters;
use crate::problem::Problem;
use crate::problem_kind::ProblemKind;
use crate::wire::{
    AgainstReference, AgreementAnswer, ComparedEntry, ComparisonAnswer, ComparisonRequest, CorrectionRequest,
    KeptTranscriptAnswer, List, TranscriptLine,
};

/// Default and maximum number of transcripts in a list.
const LISTED: u32 = 50;
const MOST_LISTED: u32 = 500;
/// Bytes of a corrected transcript.
const CORRECTION_BODY: u64 = 8 << 20;
/// Transcripts that are compared at once.
const MOST_COMPARED: usize = 8;
const MOST_CHARACTERS: usize = 10_000;
const NORMALISATION: &str =
    "small letters; only letters, digits and apostrophes; words separated at white space; numbers as they are written";

/// List kept transcripts
///
/// An app's transcripts are kept for `transcript_days` days; see the app.
#[utoipa::path(
    operation_id = "listTranscripts",
    context_path = "/api/v1", tag = "transcripts",
    params(
        ("app" = Option<String>, Query, description = "For operators: transcripts of one app"),
        ("limit" = Option<u32>, Query, description = "1 to 500 (default: 50)"),
        ("cursor" = Option<String>, Query, description = "`next` of the page before"),
    ),
    responses((status = 200, description = "The newest first", body = List<TranscriptLine>), (status = "4XX", body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[get("/transcripts")]
pub(crate) async fn list(
    allowed: Allowed,
    meta: Meta,
    gateway: &State<Gateway>,
) -> Result<Json<List<TranscriptLine>>, Problem> {
    let mut given = Parameters::of_query(&meta.query)?;
    let (app, limit) = (given.text("app"), given.limit(LISTED, MOST_LISTED)?);
    let cursor = given.text("cursor");
    given.finish()?;
    let behind = cursor.as_deref().map(|cursor| {
        let parts = cursor.split_once('.').and_then(|(at, id)| Some((at.parse().ok()?, id.to_owned())));
        parts.ok_or_else(|| Problem::new(ProblemKind::Invalid, format!("'{cursor}' is not the cursor of a list")))
    });
    let mut rows = gateway.kept_transcripts(&allowed.0, app, behind.transpose()?, i64::from(limit) + 1).await?;
    let more = rows.len() > limit as usize;
    rows.truncate(limit as usize);
    let next = rows.last().filter(|_| more).map(|row| format!("{}.{}", row.made_at, row.id));
    Ok(Json(List { items: rows.into_iter().map(TranscriptLine::from).collect(), next }))
}

/// Read a kept transcript
///
/// By its id or the beginning of the id. The answer is JSON or, by `Accept`, one of the forms of
/// `POST /transcripts`.
#[utoipa::path(
    operation_id = "readTranscript",
    context_path = "/api/v1", tag = "transcripts",
    params(
        ("id" = String, Path),
        ("version" = Option<i64>, Query, description = "A version (default: the newest)"),
        ("Accept" = Option<String>, Header, description = "application/json, text/plain, text/vtt, application/x-subrip, text/csv, text/x-ctm or text/x-rttm"),
    ),
    responses(
        (status = 200, description = "The transcript", content(
            (KeptTranscriptAnswer = "application/json"), (String = "text/plain"), (String = "text/vtt"), (String = "application/x-subrip"),
            (String = "text/csv"), (String = "text/x-ctm"), (String = "text/x-rttm"),
        )),
        (status = "4XX", body = Problem, content_type = "application/problem+json")
    ),
    security(("key" = []))
)]
#[get("/transcripts/<id>")]
pub(crate) async fn read(
    allowed: Allowed,
    id: &str,
    meta: Meta,
    gateway: &State<Gateway>,
) -> Result<WrittenTranscript, Problem> {
    let form = form_of(&meta.accept)?;
    let mut given = Parameters::of_query(&meta.query)?;
    let version = given.number("version")?;
    given.finish()?;
    let kept = gateway.kept_transcript(&allowed.0, id, version).await?;
    let length = kept.row.audio_ms as f64 / 1_000.0;
    let body = match form {
        TranscriptForm::Json => written(&KeptTranscriptAnswer::from(kept))?,
        form => form.text_of(&kept.revised.transcript, length).into_bytes(),
    };
    Ok(WrittenTranscript::new(form, vec![("Vary", "Accept".into())], body))
}

fn written(answer: &KeptTranscriptAnswer) -> Result<Vec<u8>, Problem> {
    serde_json::to_vec(answer).map_err(|error| Problem::new(ProblemKind::Internal, error.to_string()))
}

/// Correct a kept transcript
///
/// The text becomes the next version. Words that did not change keep their times; new words share
/// the time between their neighbours. The masks of the app are applied.
#[utoipa::path(
    operation_id = "correctTranscript",
    context_path = "/api/v1", tag = "transcripts",
    params(("id" = String, Path)),
    request_body = CorrectionRequest,
    responses((status = 200, description = "The new version", body = KeptTranscriptAnswer), (status = "4XX", body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[put("/transcripts/<id>", data = "<data>")]
pub(crate) async fn correct(
    allowed: Allowed,
    id: &str,
    data: RequestBody<'_>,
    gateway: &State<Gateway>,
) -> Result<Json<KeptTranscriptAnswer>, Problem> {
    let CorrectionRequest { text, version } = read_json(data, CORRECTION_BODY).await?;
    Ok(Json(gateway.correct_transcript(&allowed.0, id, version, text).await?.into()))
}

/// Remove a kept transcript
///
/// With all its versions.
#[utoipa::path(
    operation_id = "deleteTranscript",
    context_path = "/api/v1", tag = "transcripts",
    params(("id" = String, Path)),
    responses((status = 204, description = "It is removed"), (status = "4XX", body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[delete("/transcripts/<id>")]
pub(crate) async fn remove(allowed: Allowed, id: &str, gateway: &State<Gateway>) -> Result<Status, Problem> {
    gateway.delete_transcript(&allowed.0, id).await?;
    Ok(Status::NoContent)
}

/// Compare transcripts
///
/// Word and character error rates against a reference, agreement of the transcripts with one another, and a
/// consensus: words are aligned and each transcript votes, weighted by confidence. Nothing is kept. With
/// `Accept: text/html` the answer is a report to hand on, one HTML file with coloured alignments.
#[utoipa::path(
    operation_id = "compareTranscripts",
    context_path = "/api/v1", tag = "transcripts",
    request_body = ComparisonRequest,
    responses((status = 200, description = "The comparison", content((ComparisonAnswer = "application/json"), (String = "text/html"))), (status = "4XX", body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[post("/transcripts/compare", data = "<data>")]
pub(crate) async fn compare(
    _allowed: Allowed,
    meta: Meta,
    data: RequestBody<'_>,
    gateway: &State<Gateway>,
) -> Result<Either<Json<ComparisonAnswer>, Attachment>, Problem> {
    let request: ComparisonRequest = read_json(data, CORRECTION_BODY).await?;
    check(&request)?;
    let texts: Vec<_> = request.transcripts.iter().map(|entry| (entry.name.clone(), entry.text.clone())).collect();
    // Its memory and time grow with the product of two texts.
    let compared = gateway.in_turn(move || comparison(request)).await?;
    let too_long = || Problem::new(ProblemKind::Invalid, "the transcripts are too long to be compared");
    let compared = compared.ok_or_else(too_long)?;
    Ok(match meta.prefers_type("text/html") {
        true => Either::Right(Attachment {
            kind: ContentType::HTML,
            name: "comparison.html".into(),
            body: comparison_report::transcripts_html(&compared, &texts),
        }),
        false => Either::Left(Json(compared)),
    })
}

fn check(request: &ComparisonRequest) -> Result<(), Problem> {
    let count = request.transcripts.len();
    if !(1..=MOST_COMPARED).contains(&count) {
        let detail = format!("transcripts has 1 to {MOST_COMPARED} entries, not {count}");
        return Err(Problem::at(ProblemKind::Invalid, "/transcripts", detail));
    }
    let long = |text: &str| text.chars().count() > MOST_CHARACTERS;
    let too_long = || format!("a text has at most {MOST_CHARACTERS} characters");
    if request.reference.as_deref().is_some_and(long) {
        return Err(Problem::at(ProblemKind::Invalid, "/reference", too_long()));
    }
    for (index, entry) in request.transcripts.iter().enumerate() {
        let words: usize = entry.words.iter().map(|word| word.text.chars().count()).sum();
        if long(&entry.text) || words > MOST_CHARACTERS {
            return Err(Problem::at(ProblemKind::Invalid, &format!("/transcripts/{index}/text"), too_long()));
        }
    }
    Ok(())
}

fn comparison(request: ComparisonRequest) -> Option<ComparisonAnswer> {
    let named = request.transcripts.into_iter().map(|entry| {
        let ComparedEntry { name, text, words, cost } = entry;
        ((name, cost), Transcript { text, words, ..Transcript::default() })
    });
    let (names, transcripts): (Vec<(String, Option<Money>)>, Vec<Transcript>) = named.unzip();
    let agreed = if transcripts.len() > 1 { Some(consensus(&transcripts)?) } else { None };
    let mut against = Vec::new();
    if let Some(reference) = &request.reference {
        let texts = names.iter().zip(&transcripts).map(|((name, cost), it)| (name.as_str(), *cost, it.text.as_str()));
        let agreed = agreed.iter().map(|agreed| ("consensus", None, agreed.text.as_str()));
        for (name, cost, text) in texts.chain(agreed) {
            against.push(AgainstReference::of(name, cost, compare_texts(reference, text)?));
        }
    }
    let mut agreement = Vec::new();
    for first in 0..transcripts.len() {
        for second in first + 1..transcripts.len() {
            agreement.push(AgreementAnswer {
                first: names[first].0.clone(),
                second: names[second].0.clone(),
                agreement: agreement_of(&transcripts[first].text, &transcripts[second].text)?,
            });
        }
    }
    Some(ComparisonAnswer {
        normalisation: NORMALISATION,
        reference: request.reference.map(|text| normalise_words(&text).join(" ")),
        transcripts: against,
        agreement,
        consensus: agreed.map(Into::into),
    })
}

/// Of all places of two texts laid beside one another, the share in which both
/// have the same word.
fn agreement_of(one: &str, other: &str) -> Option<f64> {
    let steps = align(&normalise_words(one), &normalise_words(other))?;
    let same = steps.iter().filter(|step| matches!(step, dispatcher_core::Aligned::Same(..))).count();
    Some(if steps.is_empty() { 1.0 } else { (same as f64 / steps.len() as f64 * 1e3).round() / 1e3 })
}
