//! `POST /transcripts`: audio to text.

use std::collections::HashSet;

use dispatcher_audio::{Format, by_weight};
use dispatcher_core::{HearingWish, is_language_tag};
use dispatcher_engines::{AudioSource, AudioSplitter, ScanError};
use dispatcher_gateway::{
    Dictation, Gateway, GatewayError, GivenAudio, JobWork, NewJob, Recognised, RecognitionRequest,
};
use rocket::http::Header;
use rocket::request::Request;
use rocket::response::{self, Responder, Response};
use rocket::{State, post};
use tokio::io::AsyncReadExt as _;
use tokio_util::io::ReaderStream;

use super::speech_request::{deadline, unsupported};
use super::utterances::keep;
use crate::access::Allowed;
use crate::body::{RequestBody, unread};
use crate::headers::{Meta, query_pairs, warning_header};
use crate::idempotency::{Idempotency, Replay, StoredAnswer};
use crate::problem::Problem;
use crate::problem_kind::ProblemKind;
use crate::spool::{Sink, Spool};
use crate::uploads::{Claimed, Uploads};
use crate::wire::{JobAnswer, TranscriptAnswer, TranscriptRequest};

/// What a JSON request may hold beside its audio, and a little more.
const MAX_BESIDE: u64 = 2 << 20;
const MAX_HINTS: usize = 1_000;
const MAX_HINT: usize = 200;
const MAX_TITLE: usize = 200;
/// A text part of a form.
const MAX_PART: usize = 64 << 10;

/// Transcribe audio
///
/// Transcribes audio: the raw body with its media type, a part `audio` of a form, or base64 inside
/// JSON. The answer is JSON or, by `Accept`, `text/plain`, `text/vtt` or `application/x-subrip`.
/// Options are query parameters for raw bodies, and parts for forms.
#[utoipa::path(
    operation_id = "recognise",
    context_path = "/api/v1",
    tag = "synthesis and recognition",
    request_body(content(
        (Vec<u8> = "audio/wav"), (Vec<u8> = "audio/mpeg"), (Vec<u8> = "audio/ogg;codecs=opus"), (Vec<u8> = "audio/pcm"),
        (Vec<u8> = "audio/webm;codecs=opus"), (Vec<u8> = "audio/mp4"), (Vec<u8> = "audio/flac"), (Vec<u8> = "audio/aac"),
        (Vec<u8> = "audio/aiff"),
        (TranscriptRequest = "multipart/form-data"),
        (TranscriptRequest = "application/json"),
    )),
    params(
        ("engine" = Option<String>, Query, description = "An engine; or a route"),
        ("route" = Option<String>, Query, description = "A route"),
        ("language" = Option<String>, Query, description = "BCP 47 tag of the language of the audio"),
        ("model" = Option<String>, Query, description = "Model of the engine"),
        ("context" = Option<String>, Query, description = "Earlier lines"),
        ("variation" = Option<f64>, Query, description = "0 to 1"),
        ("hints" = Option<String>, Query, description = "Likely words, separated by commas"),
        ("speakers" = Option<bool>, Query, description = "Label the speakers"),
        ("alternatives" = Option<u64>, Query, description = "Number of alternative transcripts"),
        ("unsupported" = Option<String>, Query, description = "refuse, adapt or omit what the engine does not support"),
        ("title" = Option<String>, Query, description = "Title of the job"),
        ("deadline" = Option<f64>, Query, description = "Seconds until the transcript, in addition to those that grow with the audio"),
        ("webhook" = Option<String>, Query, description = "URL to notify when the job ends; for Prefer: respond-async"),
        ("upload" = Option<String>, Query, description = "The id of a complete upload, in place of a body"),
        ("Prefer" = Option<String>, Header, description = "respond-async: answer 202 with a job, for recordings of any duration"),
        ("Accept" = Option<String>, Header, description = "application/json, text/plain, text/vtt or application/x-subrip"),
        ("Idempotency-Key" = Option<String>, Header, description = "Requests with the same key are carried out once"),
    ),
    responses(
        (status = 200, description = "The transcript", content(
            (TranscriptAnswer = "application/json"), (String = "text/plain"), (String = "text/vtt"), (String = "application/x-subrip"),
        )),
        (status = 202, description = "A job, if the request prefers `respond-async`", body = JobAnswer),
        (status = "4XX", description = "Fault in the request", body = Problem, content_type = "application/problem+json"),
        (status = "5XX", description = "All engines failed", body = Problem, content_type = "application/problem+json"),
    ),
    security(("key" = []))
)]
#[post("/transcripts", data = "<data>")]
pub(crate) async fn recognise(
    allowed: Allowed,
    meta: Meta,
    data: RequestBody<'_>,
    gateway: &State<Gateway>,
    idempotency: &State<Idempotency>,
    spool: &State<Spool>,
    uploads: &State<Uploads>,
) -> Result<WrittenTranscript, Problem> {
    let form = form_of(&meta.accept)?;
    let (audio, wish, claimed) = match uploaded(&meta.query) {
        None => {
            let (audio, wish) = read(&meta, data, spool).await?;
            (audio, wish, None)
        }
        Some(id) => from_upload(&meta, &id, &allowed.0.app.name, uploads).await?,
    };
    let digest = digest(&audio).await?;
    let told: [&[u8]; 4] = [b"transcripts", meta.query.as_bytes(), meta.accept.as_bytes(), digest.as_bytes()];
    let claim = match idempotency.begin(&allowed.0.app.name, meta.idempotency_key.as_deref(), &told)? {
        Replay::Answer(kept) => return WrittenTranscript::of_kept(&kept).await,
        Replay::Do(claim) => claim,
    };
    if meta.respond_async {
        let job = dictation(audio, wish, &meta)?;
        let answer = JobAnswer::from(gateway.submit(&allowed.0, job).await?);
        consume(claimed).await;
        let written = WrittenTranscript::of_job(&answer)?;
        if let Some(claim) = claim {
            keep(claim, spool, 202, &written.headers, written.content_type, &written.body).await;
        }
        return Ok(written);
    }
    no_webhook(wish.webhook.as_ref())?;
    let request = RecognitionRequest {
        audio,
        wanted: wish.route.or(wish.engine),
        model: wish.model,
        language: wish.language,
        unsupported: unsupported(wish.unsupported.as_deref(), &meta)?,
        wish: hearing_wish(wish.hints, wish.context, wish.variation, wish.speakers, wish.alternatives),
        deadline: deadline(wish.deadline)?,
        credential: wish.credential.clone(),
        trace: meta.trace.clone(),
    };
    let heard = tokio::select! {
        outcome = gateway.recognise(&allowed.0, request) => outcome?,
        () = meta.connection.gone() => return Err(GatewayError::Abandoned.into()),
    };
    consume(claimed).await;
    let written = write(heard, form)?;
    if let Some(claim) = claim {
        keep(claim, spool, 200, &written.headers, written.content_type, &written.body).await;
    }
    Ok(written)
}

fn hearing_wish(
    hints: Vec<String>,
    context: Option<String>,
    variation: Option<f64>,
    speakers: bool,
    alternatives: Option<u64>,
) -> HearingWish {
    HearingWish { hints, context, variation, speakers, alternatives }
}

/// A recording as long work.
fn dictation(audio: GivenAudio, wish: TranscriptRequest, meta: &Meta) -> Result<NewJob, Problem> {
    let title = wish.title.map(|title| title.trim().to_owned()).filter(|title| !title.is_empty());
    if title.as_ref().is_some_and(|title| title.chars().count() > MAX_TITLE) {
        return Err(Problem::at(ProblemKind::Invalid, "/title", format!("a title has at most {MAX_TITLE} characters")));
    }
    let work = JobWork::Hearing(Dictation {
        told: audio.told,
        wanted: wish.route.or(wish.engine),
        model: wish.model,
        language: wish.language,
        unsupported: unsupported(wish.unsupported.as_deref(), meta)?,
        deadline: deadline(wish.deadline)?,
        credential: wish.credential.clone(),
        wish: hearing_wish(wish.hints, wish.context, wish.variation, wish.speakers, wish.alternatives),
    });
    Ok(NewJob {
        title: title.unwrap_or_else(|| "Recording".into()),
        work,
        audio: Some(audio.source),
        webhook: wish.webhook,
        warnings: Vec::new(),
    })
}

/// Refuses a webhook where there is no job whose end it could report.
pub(super) fn no_webhook(webhook: Option<&String>) -> Result<(), Problem> {
    match webhook {
        None => Ok(()),
        Some(_) => {
            Err(Problem::at(ProblemKind::Invalid, "/webhook", "a webhook needs a job; send Prefer: respond-async"))
        }
    }
}

/// What the answer is written as.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum TranscriptForm {
    Json,
    Text,
    Vtt,
    Srt,
}

/// The form that is liked best; JSON where anything will do.
fn form_of(accept: &str) -> Result<TranscriptForm, Problem> {
    if accept.trim().is_empty() {
        return Ok(TranscriptForm::Json);
    }
    for range in by_weight(accept) {
        let essence = range.split(';').next().unwrap_or_default().trim().to_ascii_lowercase();
        match essence.as_str() {
            "*/*" | "application/*" | "application/json" => return Ok(TranscriptForm::Json),
            "text/plain" | "text/*" => return Ok(TranscriptForm::Text),
            "text/vtt" => return Ok(TranscriptForm::Vtt),
            "application/x-subrip" => return Ok(TranscriptForm::Srt),
            _ => {}
        }
    }
    let detail =
        format!("'{accept}' cannot be made; ask for application/json, text/plain, text/vtt or application/x-subrip");
    Err(Problem::new(ProblemKind::NotAcceptable, detail))
}

/// An answer, written.
pub(crate) struct WrittenTranscript {
    status: u16,
    headers: Vec<(String, String)>,
    content_type: &'static str,
    body: Vec<u8>,
}

impl WrittenTranscript {
    fn of_job(job: &JobAnswer) -> Result<WrittenTranscript, Problem> {
        let body = serde_json::to_vec(job).map_err(|error| Problem::new(ProblemKind::Internal, error.to_string()))?;
        let headers = vec![
            ("Location".to_owned(), format!("/api/v1/jobs/{}", job.id)),
            ("Preference-Applied".into(), "respond-async".into()),
            ("Vary".into(), "Accept, Prefer".into()),
        ];
        Ok(WrittenTranscript { status: 202, headers, content_type: "application/json", body })
    }

    async fn of_kept(kept: &StoredAnswer) -> Result<WrittenTranscript, Problem> {
        let body = tokio::fs::read(&**kept.body)
            .await
            .map_err(|error| Problem::new(ProblemKind::Internal, error.to_string()))?;
        let known =
            ["application/json", "text/plain; charset=utf-8", "text/vtt; charset=utf-8", "application/x-subrip"];
        let content_type = known.into_iter().find(|known| *known == kept.content_type).unwrap_or(known[0]);
        Ok(WrittenTranscript { status: kept.status, headers: kept.headers.clone(), content_type, body })
    }
}

impl<'r> Responder<'r, 'static> for WrittenTranscript {
    fn respond_to(self, _: &'r Request<'_>) -> response::Result<'static> {
        let mut response = Response::build();
        response.status(rocket::http::Status::new(self.status));
        response.raw_header("Content-Type", self.content_type);
        for (name, value) in self.headers {
            response.header(Header::new(name, value));
        }
        response.sized_body(self.body.len(), std::io::Cursor::new(self.body)).ok()
    }
}

fn write(heard: Recognised, form: TranscriptForm) -> Result<WrittenTranscript, Problem> {
    let mut headers = vec![
        ("Dispatch-Id".to_owned(), heard.dispatch.clone()),
        ("Dispatch-Engine".into(), heard.engine.clone()),
        ("Dispatch-Cost".into(), heard.cost.to_string()),
        ("Vary".into(), "Accept".into()),
    ];
    headers.extend(heard.warnings.iter().map(|warning| warning_header(warning)));
    let (content_type, body) = match form {
        TranscriptForm::Text => ("text/plain; charset=utf-8", format!("{}\n", heard.transcript.text).into_bytes()),
        TranscriptForm::Vtt => ("text/vtt; charset=utf-8", heard.transcript.to_vtt(heard.length).into_bytes()),
        TranscriptForm::Srt => ("application/x-subrip", heard.transcript.to_srt(heard.length).into_bytes()),
        TranscriptForm::Json => {
            let answer = serde_json::to_vec(&TranscriptAnswer::from(heard));
            ("application/json", answer.map_err(|error| Problem::new(ProblemKind::Internal, error.to_string()))?)
        }
    };
    Ok(WrittenTranscript { status: 200, headers, content_type, body })
}

/// The upload that the audio is, where one is named.
pub(super) fn uploaded(query: &str) -> Option<String> {
    query_pairs(query).into_iter().find(|(name, _)| name == "upload").map(|(_, id)| id)
}

pub(super) async fn from_upload(
    meta: &Meta,
    id: &str,
    app: &str,
    uploads: &Uploads,
) -> Result<(GivenAudio, TranscriptRequest, Option<Claimed>), Problem> {
    let pairs = query_pairs(&meta.query).into_iter().filter(|(name, _)| name != "upload").collect();
    let wish = from_pairs(pairs)?;
    check(&wish)?;
    let claimed = uploads.claim(id, app).await?;
    let audio = GivenAudio { source: claimed.source.clone(), told: told(&claimed.upload.media_type) };
    Ok((audio, wish, Some(claimed)))
}

/// The upload of a request that was carried out is used up.
async fn consume(claimed: Option<Claimed>) {
    if let Some(claimed) = claimed {
        claimed.consume().await;
    }
}

/// Reads audio and wishes by the media type of the body.
pub(super) async fn read(
    meta: &Meta,
    data: RequestBody<'_>,
    spool: &Spool,
) -> Result<(GivenAudio, TranscriptRequest), Problem> {
    let (given, wish) = match meta.essence.as_str() {
        "application/json" => {
            let (rest, audio) = split_json(data, spool).await?;
            of_split(&rest, audio)?
        }
        "multipart/form-data" => from_form(meta, data, spool).await?,
        essence
            if essence.starts_with("audio/")
                || matches!(
                    essence,
                    "" | "application/octet-stream" | "application/ogg" | "video/webm" | "video/mp4"
                ) =>
        {
            let wish = from_query(&meta.query)?;
            let told = told(&meta.content_type);
            (GivenAudio { source: spool.take(data).await?, told }, wish)
        }
        other => {
            let detail = format!("'{other}' is no audio; send audio/…, multipart/form-data with a part audio, or JSON");
            return Err(Problem::new(ProblemKind::NotAudio, detail));
        }
    };
    check(&wish)?;
    Ok((given, wish))
}

/// Refuses members that make no sense.
pub(super) fn check(wish: &TranscriptRequest) -> Result<(), Problem> {
    if let Some(tag) = wish.language.as_ref().filter(|tag| !is_language_tag(tag)) {
        return Err(Problem::at(
            ProblemKind::Invalid,
            "/language",
            format!("'{tag}' is not a BCP 47 tag, such as en-GB"),
        ));
    }
    if wish.variation.is_some_and(|variation| !(0.0..=1.0).contains(&variation)) {
        return Err(Problem::at(ProblemKind::Invalid, "/variation", "variation is 0 to 1"));
    }
    if wish.hints.len() > MAX_HINTS || wish.hints.iter().any(|hint| hint.len() > MAX_HINT) {
        let detail = format!("at most {MAX_HINTS} hints of {MAX_HINT} bytes each");
        return Err(Problem::at(ProblemKind::Invalid, "/hints", detail));
    }
    Ok(())
}

/// What a media type says of raw audio; others tell it themselves.
fn told(content_type: &str) -> Option<Format> {
    Format::parse(content_type).ok()
}

/// Where the audio lies in a JSON request.
const AUDIO_PATH: &str = "$.audio.base64";

/// Splits JSON as it comes in: the audio, where there is any, goes to the
/// spool; the rest is small.
pub(super) async fn split_json(
    data: RequestBody<'_>,
    spool: &Spool,
) -> Result<(Vec<u8>, Option<AudioSource>), Problem> {
    let mut splitter =
        AudioSplitter::new(AUDIO_PATH).ok_or_else(|| Problem::new(ProblemKind::Internal, "the path of the audio"))?;
    let unreadable = |error: ScanError| match error {
        ScanError::NotBase64 => Problem::at(ProblemKind::BadRequest, "/audio/base64", error.to_string()),
        ScanError::TooLong => Problem::new(ProblemKind::TooLarge, error.to_string()),
        _ => Problem::new(ProblemKind::BadRequest, format!("the body cannot be read: {error}")),
    };
    // Base64 is a third longer than what it carries.
    let mut reader = data.open(spool.limit / 3 * 4 + MAX_BESIDE)?;
    let mut sink = Sink::new(spool.clone());
    let mut chunk = bytes::BytesMut::new();
    loop {
        chunk.reserve(64 << 10);
        if reader.read_buf(&mut chunk).await.map_err(|error| unread(&error))? == 0 {
            break;
        }
        sink.push(&splitter.push(&chunk.split()).map_err(unreadable)?).await?;
    }
    let (rest, found) = splitter.finish().map_err(unreadable)?;
    Ok((rest, if found { Some(sink.finish().await?) } else { None }))
}

/// A recognition request whose audio was split off.
pub(super) fn of_split(rest: &[u8], audio: Option<AudioSource>) -> Result<(GivenAudio, TranscriptRequest), Problem> {
    let mut wish: TranscriptRequest = serde_json::from_slice(rest).map_err(|error| Problem::of_json(&error))?;
    match (wish.audio.take(), audio) {
        (Some(told_of), Some(source)) => {
            let told = told_of.kind.as_deref().and_then(told);
            Ok((GivenAudio { source, told }, wish))
        }
        _ => Err(Problem::at(ProblemKind::Invalid, "/audio", "there is no audio")),
    }
}

/// A form that cannot be read, or whose body cannot.
fn form_fault(error: multer::Error) -> Problem {
    match &error {
        multer::Error::StreamReadFailed(source) => match source.downcast_ref::<std::io::Error>() {
            Some(source) => unread(source),
            None => Problem::new(ProblemKind::BadRequest, format!("the body is not complete: {source}")),
        },
        _ => Problem::new(ProblemKind::BadRequest, format!("the form cannot be read: {error}")),
    }
}

async fn from_form(
    meta: &Meta,
    data: RequestBody<'_>,
    spool: &Spool,
) -> Result<(GivenAudio, TranscriptRequest), Problem> {
    let boundary = multer::parse_boundary(&meta.content_type).map_err(form_fault)?;
    let reader = data.open(spool.limit + (1 << 20))?;
    let mut parts = multer::Multipart::new(ReaderStream::with_capacity(reader, 64 << 10), boundary);
    let mut given = None;
    let mut pairs = Vec::new();
    while let Some(mut part) = parts.next_field().await.map_err(form_fault)? {
        let name = part.name().unwrap_or_default().to_owned();
        if name == "audio" {
            let kind = part.content_type().map(ToString::to_string).unwrap_or_default();
            let mut sink = Sink::new(spool.clone());
            while let Some(chunk) = part.chunk().await.map_err(form_fault)? {
                sink.push(&chunk).await?;
            }
            given = Some(GivenAudio { source: sink.finish().await?, told: told(&kind) });
            continue;
        }
        if part.file_name().is_some() {
            let detail = format!("the form has a file in the part '{name}'; name the part of the recording 'audio'");
            return Err(Problem::new(ProblemKind::Invalid, detail));
        }
        let mut text = Vec::new();
        while let Some(chunk) = part.chunk().await.map_err(form_fault)? {
            if text.len() + chunk.len() > MAX_PART {
                let detail =
                    format!("the part '{name}' is longer than {MAX_PART} bytes; a recording goes in the part 'audio'");
                return Err(Problem::new(ProblemKind::TooLarge, detail));
            }
            text.extend_from_slice(&chunk);
        }
        pairs.push((name, String::from_utf8_lossy(&text).into_owned()));
    }
    let given = given.ok_or_else(|| Problem::new(ProblemKind::Invalid, "the form has no part 'audio'"))?;
    Ok((given, from_pairs(pairs)?))
}

fn from_query(query: &str) -> Result<TranscriptRequest, Problem> {
    from_pairs(query_pairs(query))
}

fn from_pairs(pairs: Vec<(String, String)>) -> Result<TranscriptRequest, Problem> {
    let mut wish = TranscriptRequest::default();
    let mut given = HashSet::new();
    for (name, value) in pairs {
        if !given.insert(name.clone()) {
            return Err(Problem::new(ProblemKind::Invalid, format!("'{name}' is given twice")));
        }
        match name.as_str() {
            "engine" => wish.engine = Some(value),
            "route" => wish.route = Some(value),
            "model" => wish.model = Some(value),
            "language" => wish.language = Some(value),
            "context" => wish.context = Some(value),
            "variation" => {
                let number = value.parse();
                wish.variation = Some(number.map_err(|_| {
                    Problem::new(ProblemKind::Invalid, format!("variation takes a number, not '{value}'"))
                })?);
            }
            "hints" => {
                let hints = value.split(',').map(str::trim).filter(|hint| !hint.is_empty());
                wish.hints = hints.map(str::to_owned).collect();
            }
            "speakers" => {
                let flag =
                    |_| Problem::new(ProblemKind::Invalid, format!("speakers takes true or false, not '{value}'"));
                wish.speakers = value.parse().map_err(flag)?;
            }
            "alternatives" => {
                let number =
                    |_| Problem::new(ProblemKind::Invalid, format!("alternatives takes a number, not '{value}'"));
                wish.alternatives = Some(value.parse().map_err(number)?);
            }
            "unsupported" => wish.unsupported = Some(value),
            "title" => wish.title = Some(value),
            "webhook" => wish.webhook = Some(value),
            "credential" => wish.credential = Some(value),
            "deadline" => {
                let number = |_| Problem::new(ProblemKind::Invalid, format!("deadline takes a number, not '{value}'"));
                wish.deadline = Some(value.parse().map_err(number)?);
            }
            _ => {
                let known = "engine, route, language, model, context, variation, hints, speakers, alternatives, \
                             unsupported, title, deadline, credential, webhook";
                return Err(Problem::new(
                    ProblemKind::UnknownMember,
                    format!("unknown parameter '{name}'; known: {known}"),
                ));
            }
        }
    }
    Ok(wish)
}

/// Tells one recording from another.
async fn digest(audio: &GivenAudio) -> Result<String, Problem> {
    let source = audio.source.clone();
    let work = tokio::task::spawn_blocking(move || match source {
        AudioSource::Memory(bytes) => Ok(dispatcher_vault::hash_bytes(&bytes)),
        AudioSource::File(path) => dispatcher_vault::hash_file(&path),
    });
    let result = work.await.map_err(|error| Problem::new(ProblemKind::Internal, error.to_string()))?;
    result.map_err(|error| Problem::new(ProblemKind::Internal, error.to_string()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn weights_decide_which_form_a_transcript_has() {
        for (accept, form) in [
            ("", "Json"),
            ("*/*", "Json"),
            ("text/vtt;q=0.5, application/x-subrip", "Srt"),
            ("application/json;q=0.1, text/plain", "Text"),
            ("application/json;q=0, text/*;q=0.2", "Text"),
            ("image/png, Text/VTT", "Vtt"),
        ] {
            let made = form_of(accept).ok().map(|form| match form {
                TranscriptForm::Json => "Json",
                TranscriptForm::Text => "Text",
                TranscriptForm::Vtt => "Vtt",
                TranscriptForm::Srt => "Srt",
            });
            assert_eq!(made, Some(form), "{accept}");
        }
        assert!(form_of("image/png, application/json;q=0").is_err(), "nothing that can be made is liked");
    }
}
