//! `POST /transcripts`: audio to text.

use dispatcher_core::{HearingWish, TranscriptChange};
use dispatcher_engines::AudioSource;
use dispatcher_gateway::{
    Dictation, Gateway, GatewayError, GivenAudio, HearerWish, JobWork, NewJob, Recognised, RecognitionRequest,
    content_hash, content_hash_of_file,
};
use rocket::{State, post};

use super::speech_request::{deadline, unsupported};
use super::transcript_form::{TranscriptForm, WrittenTranscript, form_of};
use super::transcript_request::{from_address, from_upload, read};
use super::utterances::keep;
use crate::access::Allowed;
use crate::body::RequestBody;
use crate::headers::{Meta, warning_headers};
use crate::idempotency::{Idempotency, Replay};
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
        ("language" = Option<String>, Query, description = "BCP 47 tag of the language of the audio, or auto (default: the app's)"),
        ("languages" = Option<String>, Query, description = "2 to 4 BCP 47 tags, separated by commas, if the language is not known: the first 8 seconds are recognised in each, and charged"),
        ("model" = Option<String>, Query, description = "Model of the engine"),
        ("region" = Option<String>, Query, description = "Region in which the engine is called, if it has several"),
        ("site" = Option<String>, Query, description = "local or cloud: where the engine must run"),
        ("context" = Option<String>, Query, description = "Earlier lines"),
        ("variation" = Option<f64>, Query, description = "0 to 1"),
        ("hints" = Option<String>, Query, description = "Likely words, separated by commas"),
        ("speakers" = Option<bool>, Query, description = "Label the speakers"),
        ("channels" = Option<bool>, Query, description = "Recognise each of two channels by itself, as a speaker of its own; each is charged"),
        ("alternatives" = Option<u64>, Query, description = "Number of alternative transcripts"),
        ("unsupported" = Option<String>, Query, description = "refuse, adapt or omit what the engine does not support"),
        ("title" = Option<String>, Query, description = "Title of the job"),
        ("deadline" = Option<f64>, Query, description = "Seconds until the transcript, in addition to those that grow with the audio"),
        ("webhook" = Option<String>, Query, description = "URL to notify when the job ends; for Prefer: respond-async"),
        ("upload" = Option<String>, Query, description = "The id of a complete upload, in place of a body"),
        ("url" = Option<String>, Query, description = "URL of the audio, in place of a body; its host must be in fetch_hosts"),
        ("Prefer" = Option<String>, Header, description = "respond-async: answer 202 with a job, for recordings of any duration"),
        ("Accept" = Option<String>, Header, description = "application/json, text/plain, text/vtt, application/x-subrip, text/csv, text/x-ctm or text/x-rttm"),
        ("End-User" = Option<String>, Header, description = "For whom it is, in the words of the app; see eraseApp"),
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
            let fetched = tokio::select! {
                fetched = from_address(&meta, gateway, spool) => fetched?,
                () = meta.connection.gone() => return Err(GatewayError::Abandoned.into()),
            };
            let (audio, wish) = match fetched {
                Some(fetched) => fetched,
                None => tokio::select! {
                    read = read(&meta, data, gateway, spool) => read?,
                    () = meta.connection.gone() => return Err(GatewayError::Abandoned.into()),
                },
            };
            (audio, wish, None)
        }
    };
    let digest = digest(&audio).await?;
    let told: [&[u8]; 4] = [b"transcripts", meta.query.as_bytes(), meta.accept.as_bytes(), digest.as_bytes()];
    let claim = match idempotency.begin(allowed.0.replay_scope(), meta.idempotency_key.as_deref(), &told)? {
        Replay::Answer(kept) => return WrittenTranscript::of_kept(&kept).await,
        Replay::Do(claim) => claim,
    };
    if meta.respond_async {
        only_short(&wish)?;
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
        languages: wish.languages.clone(),
        channels: wish.channels,
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
        site: wish.site.as_deref().map(super::speech_parameters::site).transpose()?,
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

/// Refuses languages to choose from, where nothing compares them.
pub(super) fn only_short(wish: &TranscriptRequest) -> Result<(), Problem> {
    if wish.channels {
        let detail = "channels are recognised one by one for short recordings only";
        return Err(Problem::at(ProblemKind::Invalid, "/channels", detail));
    }
    match wish.languages.is_empty() {
        true => Ok(()),
        false => {
            Err(Problem::at(ProblemKind::Invalid, "/languages", "languages are compared for short recordings only"))
        }
    }
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

fn write(heard: Recognised, form: TranscriptForm) -> Result<WrittenTranscript, Problem> {
    let mut headers = vec![
        ("Dispatch-Id", heard.dispatch.clone()),
        ("Dispatch-Engine", heard.engine.clone()),
        ("Dispatch-Cost", heard.cost.to_string()),
        ("Vary", "Accept".into()),
    ];
    headers.extend(warning_headers(&heard.warnings));
    if form != TranscriptForm::Json {
        headers.extend(warning_headers(&changes_told(&heard.revised.changes)));
    }
    let body = match form {
        TranscriptForm::Json => {
            let answer = serde_json::to_vec(&TranscriptAnswer::from(heard));
            answer.map_err(|error| Problem::new(ProblemKind::Internal, error.to_string()))?
        }
        form => form.text_of(&heard.revised.transcript, heard.length).into_bytes(),
    };
    Ok(WrittenTranscript::new(form, headers, body))
}

/// Changes that are sent one by one if there is no room for all.
const CHANGES_TOLD: usize = 20;

/// What the vocabulary and the masks changed, for people.
fn changes_told(changes: &[TranscriptChange]) -> Vec<String> {
    let told = changes.iter().take(CHANGES_TOLD).map(|change| match &change.heard {
        Some(heard) => format!("the vocabulary changed '{heard}' to '{}'", change.written),
        None => format!("{} was masked", change.written),
    });
    let more = changes.len().saturating_sub(CHANGES_TOLD);
    told.chain((more > 0).then(|| format!("{more} more words were changed"))).collect()
}

/// The upload of a request that was carried out is used up.
async fn consume(claimed: Option<Claimed>) {
    if let Some(claimed) = claimed {
        claimed.consume().await;
    }
}

/// Tells one recording from another.
pub(super) async fn digest(audio: &GivenAudio) -> Result<String, Problem> {
    let source = audio.source.clone();
    let work = tokio::task::spawn_blocking(move || match source {
        AudioSource::Memory(bytes) => Ok(content_hash(&bytes)),
        AudioSource::File(path) => content_hash_of_file(&path),
    });
    let result = work.await.map_err(|error| Problem::new(ProblemKind::Internal, error.to_string()))?;
    result.map_err(|error| Problem::new(ProblemKind::Internal, error.to_string()))
}
