//! `POST /transcripts`: audio to text.

use dispatcher_audio::by_weight;
use dispatcher_core::HearingWish;
use dispatcher_engines::AudioSource;
use dispatcher_gateway::{
    Dictation, Gateway, GatewayError, GivenAudio, HearerWish, JobWork, NewJob, Recognised, RecognitionRequest,
    content_hash, content_hash_of_file,
};
use rocket::request::Request;
use rocket::response::{self, Responder, Response};
use rocket::{State, post};

use super::speech_request::{deadline, unsupported};
use super::transcript_request::{from_upload, read};
use super::utterances::keep;
use crate::access::Allowed;
use crate::body::RequestBody;
use crate::headers::{Meta, ToldHeader, warning_headers};
use crate::idempotency::{Idempotency, Replay, StoredAnswer};
use crate::problem::Problem;
use crate::problem_kind::ProblemKind;
use crate::spool::Spool;
use crate::uploads::{Claimed, Uploads};
use crate::wire::{JobAnswer, TranscriptAnswer, TranscriptRequest};

const MAX_TITLE: usize = 200;

/// Transcribe audio
///
/// Transcribes audio: the raw body with its media type, a part `audio` of a form, or base64 inside
/// JSON. The answer is JSON or, by `Accept`, `text/plain`, `text/vtt`,
/// `application/x-subrip`, `text/csv`, `text/x-ctm` or `text/x-rttm`.
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
        ("region" = Option<String>, Query, description = "Region in which the engine is called, if it has several"),
        ("site" = Option<String>, Query, description = "local or cloud: where the engine must run"),
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
        ("Accept" = Option<String>, Header, description = "application/json, text/plain, text/vtt, application/x-subrip, text/csv, text/x-ctm or text/x-rttm"),
        ("Idempotency-Key" = Option<String>, Header, description = "Requests with the same key are carried out once"),
    ),
    responses(
        (status = 200, description = "The transcript", content(
            (TranscriptAnswer = "application/json"), (String = "text/plain"), (String = "text/vtt"), (String = "application/x-subrip"),
            (String = "text/csv"), (String = "text/x-ctm"), (String = "text/x-rttm"),
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
    let (audio, wish, claimed) = match from_upload(&meta, &allowed.0.app.name, uploads).await? {
        Some((audio, wish, claimed)) => (audio, wish, Some(claimed)),
        None => {
            let (audio, wish) = read(&meta, data, spool).await?;
            (audio, wish, None)
        }
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
        hearer: hearer(&wish)?,
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

/// Who is to recognise it, and where.
pub(super) fn hearer(wish: &TranscriptRequest) -> Result<HearerWish, Problem> {
    Ok(HearerWish {
        wanted: wish.route.clone().or_else(|| wish.engine.clone()),
        model: wish.model.clone(),
        language: wish.language.clone(),
        site: wish.site.as_deref().map(super::speech_request::site).transpose()?,
        region: wish.region.clone(),
    })
}

pub(super) fn hearing_wish(
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
    let title = wish.title.as_deref().map(|title| title.trim().to_owned()).filter(|title| !title.is_empty());
    if title.as_ref().is_some_and(|title| title.chars().count() > MAX_TITLE) {
        return Err(Problem::at(ProblemKind::Invalid, "/title", format!("a title has at most {MAX_TITLE} characters")));
    }
    let work = JobWork::Hearing(Box::new(Dictation {
        told: audio.told,
        hearer: hearer(&wish)?,
        unsupported: unsupported(wish.unsupported.as_deref(), meta)?,
        deadline: deadline(wish.deadline)?,
        credential: wish.credential.clone(),
        wish: hearing_wish(wish.hints, wish.context, wish.variation, wish.speakers, wish.alternatives),
    }));
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
    Csv,
    Ctm,
    Rttm,
}

impl TranscriptForm {
    const ALL: [TranscriptForm; 7] = [
        TranscriptForm::Json,
        TranscriptForm::Text,
        TranscriptForm::Vtt,
        TranscriptForm::Srt,
        TranscriptForm::Csv,
        TranscriptForm::Ctm,
        TranscriptForm::Rttm,
    ];

    fn content_type(self) -> &'static str {
        match self {
            TranscriptForm::Json => "application/json",
            TranscriptForm::Text => "text/plain; charset=utf-8",
            TranscriptForm::Vtt => "text/vtt; charset=utf-8",
            TranscriptForm::Srt => "application/x-subrip",
            TranscriptForm::Csv => "text/csv; charset=utf-8",
            TranscriptForm::Ctm => "text/x-ctm; charset=utf-8",
            TranscriptForm::Rttm => "text/x-rttm; charset=utf-8",
        }
    }

    /// Its media type without parameters.
    fn essence(self) -> &'static str {
        self.content_type().split(';').next().unwrap_or_default()
    }
}

/// The form that is liked best; JSON where anything will do.
fn form_of(accept: &str) -> Result<TranscriptForm, Problem> {
    if accept.trim().is_empty() {
        return Ok(TranscriptForm::Json);
    }
    for range in by_weight(accept) {
        let essence = range.split(';').next().unwrap_or_default().trim().to_ascii_lowercase();
        let form = match essence.as_str() {
            "*/*" | "application/*" => Some(TranscriptForm::Json),
            "text/*" => Some(TranscriptForm::Text),
            essence => TranscriptForm::ALL.into_iter().find(|form| form.essence() == essence),
        };
        if let Some(form) = form {
            return Ok(form);
        }
    }
    let known = TranscriptForm::ALL.map(TranscriptForm::essence).join(", ");
    Err(Problem::new(ProblemKind::NotAcceptable, format!("'{accept}' cannot be made; ask for one of {known}")))
}

/// An answer, written.
pub(crate) struct WrittenTranscript {
    status: u16,
    headers: Vec<ToldHeader>,
    content_type: &'static str,
    body: Vec<u8>,
}

impl WrittenTranscript {
    fn of_job(job: &JobAnswer) -> Result<WrittenTranscript, Problem> {
        let body = serde_json::to_vec(job).map_err(|error| Problem::new(ProblemKind::Internal, error.to_string()))?;
        let headers = vec![
            ("Location", format!("/api/v1/jobs/{}", job.id)),
            ("Preference-Applied", "respond-async".into()),
            ("Vary", "Accept, Prefer".into()),
        ];
        Ok(WrittenTranscript { status: 202, headers, content_type: "application/json", body })
    }

    async fn of_kept(kept: &StoredAnswer) -> Result<WrittenTranscript, Problem> {
        let body = tokio::fs::read(&**kept.body)
            .await
            .map_err(|error| Problem::new(ProblemKind::Internal, error.to_string()))?;
        let known = TranscriptForm::ALL.map(TranscriptForm::content_type);
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
            response.raw_header_adjoin(name, value);
        }
        response.sized_body(self.body.len(), std::io::Cursor::new(self.body)).ok()
    }
}

fn write(heard: Recognised, form: TranscriptForm) -> Result<WrittenTranscript, Problem> {
    let mut headers = vec![
        ("Dispatch-Id", heard.dispatch.clone()),
        ("Dispatch-Engine", heard.engine.clone()),
        ("Dispatch-Cost", heard.cost.to_string()),
        ("Vary", "Accept".into()),
    ];
    headers.extend(warning_headers(&heard.warnings));
    let (transcript, length) = (&heard.transcript, heard.length);
    let body = match form {
        TranscriptForm::Text => format!("{}\n", transcript.text).into_bytes(),
        TranscriptForm::Vtt => transcript.to_vtt(length).into_bytes(),
        TranscriptForm::Srt => transcript.to_srt(length).into_bytes(),
        TranscriptForm::Csv => transcript.to_csv(length).into_bytes(),
        TranscriptForm::Ctm => transcript.to_ctm(length).into_bytes(),
        TranscriptForm::Rttm => transcript.to_rttm(length).into_bytes(),
        TranscriptForm::Json => {
            let answer = serde_json::to_vec(&TranscriptAnswer::from(heard));
            answer.map_err(|error| Problem::new(ProblemKind::Internal, error.to_string()))?
        }
    };
    let content_type = form.content_type();
    Ok(WrittenTranscript { status: 200, headers, content_type, body })
}

/// The upload of a request that was carried out is used up.
async fn consume(claimed: Option<Claimed>) {
    if let Some(claimed) = claimed {
        claimed.consume().await;
    }
}

/// Tells one recording from another.
async fn digest(audio: &GivenAudio) -> Result<String, Problem> {
    let source = audio.source.clone();
    let work = tokio::task::spawn_blocking(move || match source {
        AudioSource::Memory(bytes) => Ok(content_hash(&bytes)),
        AudioSource::File(path) => content_hash_of_file(&path),
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
            ("text/csv, text/plain;q=0.5", "Csv"),
            ("text/x-rttm;q=0.9, text/x-ctm", "Ctm"),
        ] {
            let made = form_of(accept).ok().map(|form| format!("{form:?}"));
            assert_eq!(made.as_deref(), Some(form), "{accept}");
        }
        assert!(form_of("image/png, application/json;q=0").is_err(), "nothing that can be made is liked");
    }
}
