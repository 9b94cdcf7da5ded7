//! `/utterances`: text or SSML to audio, streamed; by `POST`, or by `GET` for
//! callers that can only give an address.

use std::io;
use std::pin::Pin;
use std::sync::Arc;

use bytes::Bytes;
use dispatcher_audio::Format;
use dispatcher_gateway::{
    AudioBody, CacheOutcome, CacheWish, Caller, Disclosure, Gateway, GatewayError, JobWork, NewJob, StorageRoom, Track,
    Utterance,
};
use futures::Stream;
use rocket::request::Request;
use rocket::response::{self, Responder, Response};
use rocket::{State, get, post};
use tokio::io::AsyncWriteExt as _;
use tokio_util::io::StreamReader;

use super::jobs::Accepted;
use super::json_audio;
use super::links::Outlet;
use super::speech_request::{self, Formats, SpeechRequest};
use super::spoken_sequence::{self, SpokenSequence};
use crate::access::Allowed;
use crate::body::RequestBody;
use crate::connection::Connection;
use crate::drain::{Drain, Leaving};
use crate::headers::{Meta, ToldHeader, warning_headers};
use crate::idempotency::{Claim, Idempotency, LARGEST_KEPT, Replay, StoredAnswer};
use crate::problem::Problem;
use crate::problem_kind::ProblemKind;
use crate::public_url::PublicUrl;
use crate::spool::Spool;
use crate::wire::{JobAnswer, UtteranceAnswer, UtteranceRequest};

/// Bytes handed to the socket at once.
const CHUNK: usize = 64 << 10;

/// Speak a text
///
/// Speaks text or SSML; the audio is streamed. Its format is given by the `audio` member or by
/// `Accept`; the default is WAV at 24 kHz, mono. With `Accept: application/json` the audio is
/// inside a JSON answer; with `application/json-seq` (RFC 7464) it comes in pieces, with words and
/// marks between them as they become known. For bodies of `text/plain` and `application/ssml+xml`, options are query
/// parameters.
#[utoipa::path(
    operation_id = "speak",
    context_path = "/api/v1",
    tag = "synthesis and recognition",
    request_body(content(
        (UtteranceRequest = "application/json"),
        (String = "text/plain"),
        (String = "application/ssml+xml"),
    )),
    params(
        ("Accept" = Option<String>, Header, description = "audio/mpeg, audio/ogg;codecs=opus, audio/webm;codecs=opus, audio/flac, audio/wav, audio/vnd.wave;codec=7, audio/L16;rate=…, audio/basic, audio/PCMA;rate=…, audio/pcm;rate=…, application/json, or application/json-seq"),
        ("Idempotency-Key" = Option<String>, Header, description = "Requests with the same key are carried out once"),
        ("End-User" = Option<String>, Header, description = "For whom it is, in the words of the app; see eraseApp"),
        ("Cache-Control" = Option<String>, Header, description = "no-cache: make the audio anew; no-store: neither use kept audio nor keep it. For apps that keep audio"),
        ("Prefer" = Option<String>, Header, description = "handling=strict: refuse what is not supported; respond-async: answer 202 with a job"),
        ("traceparent" = Option<String>, Header, description = "W3C Trace Context; recorded with the dispatch"),
    ),
    responses(
        (status = 200, description = "The audio", content(
            (Vec<u8> = "audio/wav"), (Vec<u8> = "audio/mpeg"), (Vec<u8> = "audio/ogg;codecs=opus"),
            (Vec<u8> = "audio/webm;codecs=opus"), (Vec<u8> = "audio/flac"),
            (Vec<u8> = "audio/L16"), (Vec<u8> = "audio/basic"), (UtteranceAnswer = "application/json"),
            (String = "application/json-seq"),
        ), headers(
            ("Dispatch-Id" = String, description = "Id of the dispatch"),
            ("Dispatch-Engine" = String), ("Dispatch-Voice" = String),
            ("Dispatch-Cost" = String, description = "Maximum cost"),
            ("Dispatch-Fidelity" = String, description = "Worst outcome of all elements"),
            ("Dispatch-Fingerprint" = String, description = "Equal for equal requested audio"),
            ("Dispatch-Synthetic" = String, description = "?1"),
            ("Server-Timing" = String, description = "Time until the first audio"),
            ("ETag" = String, description = "The fingerprint, as a weak validator"),
            ("Cache-Status" = String, description = "Whether the audio was recalled (RFC 9211)"),
        )),
        (status = 202, description = "A job, if the request prefers `respond-async`", body = JobAnswer),
        (status = "4XX", description = "Fault in the request", body = Problem, content_type = "application/problem+json"),
        (status = "5XX", description = "All engines failed", body = Problem, content_type = "application/problem+json"),
    ),
    security(("key" = []))
)]
#[post("/utterances", data = "<data>")]
pub(crate) async fn speak(
    allowed: Allowed,
    meta: Meta,
    data: RequestBody<'_>,
    gateway: &State<Gateway>,
    idempotency: &State<Idempotency>,
    outlet: Outlet<'_>,
    drain: &State<Drain>,
) -> Result<SpokenAnswer, Problem> {
    let leaving = drain.enter();
    let read = speech_request::read(&meta, data, &Formats::of(gateway, &allowed.0)).await?;
    let told: [&[u8]; 4] = [b"utterances", meta.query.as_bytes(), meta.accept.as_bytes(), &read.body];
    let claim = match idempotency.begin(allowed.0.replay_scope(), meta.idempotency_key.as_deref(), &told)? {
        Replay::Answer(kept) => return Ok(SpokenAnswer::StoredAnswer(kept)),
        Replay::Do(claim) => claim,
    };
    answer((gateway, outlet), &allowed.0, meta, read, claim, leaving).await
}

/// Speak a text by address
///
/// The same by `GET`, for players and devices that can only fetch an address. All options are
/// query parameters, as for bodies of `text/plain`; the answer has its length. A token may be
/// sent as the parameter `access_token`; a key is refused there.
#[utoipa::path(
    operation_id = "speakByAddress",
    context_path = "/api/v1",
    tag = "synthesis and recognition",
    params(
        ("text" = Option<String>, Query, description = "The text"),
        ("ssml" = Option<String>, Query, description = "SSML, in place of a text"),
        ("voice" = Option<String>, Query, description = "A voice or route"),
        ("type" = Option<String>, Query, description = "Audio format: media type, extension or preset"),
        ("language" = Option<String>, Query, description = "BCP 47 tag of the text, or auto"),
        ("rate" = Option<String>, Query, description = "Pace, as in SSML"),
        ("whole" = Option<bool>, Query, description = "false: stream the answer (default: true)"),
        ("access_token" = Option<String>, Query, description = "A token, in place of the header Authorization (RFC 6750, section 2.3)"),
    ),
    responses(
        (status = 200, description = "The audio", content((Vec<u8> = "audio/wav"), (Vec<u8> = "audio/mpeg"))),
        (status = "4XX", description = "Fault in the request", body = Problem, content_type = "application/problem+json"),
        (status = "5XX", description = "All engines failed", body = Problem, content_type = "application/problem+json"),
    ),
    security(("key" = []))
)]
#[get("/utterances")]
pub(crate) async fn speak_address(
    allowed: Allowed,
    meta: Meta,
    gateway: &State<Gateway>,
    outlet: Outlet<'_>,
    drain: &State<Drain>,
) -> Result<SpokenAnswer, Problem> {
    let leaving = drain.enter();
    let read = speech_request::of_address(&meta, &Formats::of(gateway, &allowed.0))?;
    answer((gateway, outlet), &allowed.0, Meta { respond_async: false, ..meta }, read, None, leaving).await
}

/// What `GET` would answer with, but for the audio: nothing is spoken.
#[rocket::head("/utterances")]
pub(crate) fn head(allowed: Allowed, meta: Meta, gateway: &State<Gateway>) -> Result<SpokenAnswer, Problem> {
    let read = speech_request::of_address(&meta, &Formats::of(gateway, &allowed.0))?;
    Ok(SpokenAnswer::Head(read.request.format))
}

/// Speaks what was read, and answers as it asks for.
async fn answer(
    (gateway, outlet): (&Gateway, Outlet<'_>),
    caller: &Caller,
    meta: Meta,
    read: SpeechRequest,
    claim: Option<Claim>,
    leaving: Leaving,
) -> Result<SpokenAnswer, Problem> {
    let SpeechRequest { mut request, json, sequence, whole, webhook, link_until, .. } = read;
    let spool = outlet.spool;
    let title = file_title(&request.text);
    if meta.respond_async {
        super::links::no_link(link_until.map(|_| "link".to_owned()).as_ref())?;
        let told = spoken_title(&request.text);
        let request = speech_request::announced(request, caller);
        let tracks = vec![Track { name: Some(title), title: told.clone(), request }];
        let job = NewJob { title: told, work: JobWork::Speech { tracks }, audio: None, webhook, warnings: Vec::new() };
        return accept(gateway, caller, job, claim, spool).await;
    }
    super::transcripts::no_webhook(webhook.as_ref())?;
    if json || link_until.is_some() {
        // Its words and marks are not kept.
        request.cache = CacheWish::Off;
    }
    let request = speech_request::announced(request, caller);
    let utterance = tokio::select! {
        outcome = gateway.speak(caller, request) => outcome?,
        () = meta.connection.gone() => return Err(GatewayError::Abandoned.into()),
    };
    let headers = headers_of(caller, &utterance, &title);
    if sequence && link_until.is_none() {
        let (gateway, connection) = (gateway.clone(), meta.connection);
        let sequence = SpokenSequence { gateway, utterance, connection, _leaving: leaving };
        return Ok(SpokenAnswer::Sequence { headers, sequence: Box::new(sequence) });
    }
    if json || whole || link_until.is_some() {
        let in_json = json || link_until.is_some();
        let content_type = if in_json { "application/json".to_owned() } else { utterance.format.media_type() };
        let made = async {
            if let Some(expires) = link_until {
                json_audio::linked(gateway, utterance, &outlet, (caller, title, expires)).await
            } else if json {
                json_audio::answer(gateway, utterance, spool).await
            } else {
                json_audio::whole(utterance, spool).await
            }
        };
        let file = tokio::select! {
            file = made => file?,
            () = meta.connection.gone() => return Err(GatewayError::Abandoned.into()),
        };
        let kept = StoredAnswer { status: 200, headers, content_type, body: Arc::new(file.path), bytes: file.bytes };
        if let Some(claim) = claim.filter(|_| kept.bytes <= LARGEST_KEPT) {
            claim.finish(kept.clone());
        }
        return Ok(SpokenAnswer::StoredAnswer(kept));
    }
    let tee = claim.and_then(|claim| Tee::new(claim, spool, &headers, utterance.format));
    let format = utterance.format;
    Ok(SpokenAnswer::Stream {
        headers,
        format,
        body: Box::new(AnswerStream { body: utterance.body, connection: meta.connection, tee, _leaving: leaving }),
    })
}

/// An answer of this call.
pub(crate) enum SpokenAnswer {
    Stream { headers: Vec<ToldHeader>, format: Format, body: Box<AnswerStream> },
    Sequence { headers: Vec<ToldHeader>, sequence: Box<SpokenSequence> },
    Job(Accepted),
    StoredAnswer(StoredAnswer),
    Head(Format),
}

/// Takes a job in hand, once for each Idempotency-Key.
pub(super) async fn accept(
    gateway: &Gateway,
    caller: &Caller,
    job: NewJob,
    claim: Option<Claim>,
    spool: &Spool,
) -> Result<SpokenAnswer, Problem> {
    let answer = JobAnswer::from(gateway.submit(caller, job).await?);
    if let Some(claim) = claim {
        let text =
            serde_json::to_vec(&answer).map_err(|error| Problem::new(ProblemKind::Internal, error.to_string()))?;
        let headers = [("Location", format!("/api/v1/jobs/{}", answer.id))];
        keep(claim, spool, 202, &headers, "application/json", &text).await;
    }
    Ok(SpokenAnswer::Job(Accepted(Box::new(answer))))
}

/// Audio on its way to a caller.
pub(crate) struct AnswerStream {
    body: AudioBody,
    connection: Connection,
    tee: Option<Tee>,
    _leaving: Leaving,
}

impl<'r> Responder<'r, 'static> for SpokenAnswer {
    fn respond_to(self, request: &'r Request<'_>) -> response::Result<'static> {
        let mut response = Response::build();
        match self {
            SpokenAnswer::Job(accepted) => return accepted.respond_to(request),
            SpokenAnswer::Head(format) => {
                response.raw_header("Content-Type", format.media_type());
            }
            SpokenAnswer::Stream { headers, format, body } => {
                set(&mut response, headers, format.media_type());
                response.max_chunk_size(CHUNK).streamed_body(StreamReader::new(body.into_stream()));
            }
            SpokenAnswer::Sequence { headers, sequence } => {
                set(&mut response, headers, spoken_sequence::MEDIA_TYPE.to_owned());
                let base = request.rocket().state::<PublicUrl>().map(|url| url.0.clone()).unwrap_or_default();
                response.max_chunk_size(CHUNK).streamed_body(StreamReader::new(sequence.into_stream(base)));
            }
            SpokenAnswer::StoredAnswer(kept) => {
                response.status(rocket::http::Status::new(kept.status));
                set(&mut response, kept.headers, kept.content_type);
                let file = std::fs::File::open(&**kept.body).map_err(|_| rocket::http::Status::InternalServerError)?;
                response.max_chunk_size(CHUNK).sized_body(None, tokio::fs::File::from_std(file));
            }
        }
        response.ok()
    }
}

fn set(response: &mut response::Builder<'_>, headers: Vec<ToldHeader>, content_type: String) {
    response.raw_header("Content-Type", content_type);
    for (name, value) in headers {
        response.raw_header_adjoin(name, value);
    }
}

impl AnswerStream {
    /// The bytes; breaks the connection off where the audio is not whole, and
    /// lets go of the engine once the caller has left.
    fn into_stream(self) -> Pin<Box<dyn Stream<Item = io::Result<Bytes>> + Send>> {
        Box::pin(futures::stream::unfold(Some(self), |flow| async {
            let mut flow = flow?;
            let next = tokio::select! {
                next = flow.body.next() => next,
                () = flow.connection.gone() => return Some((Err(io::ErrorKind::ConnectionAborted.into()), None)),
            };
            match next {
                Some(Ok(bytes)) => {
                    if let Some(tee) = flow.tee.as_mut() {
                        tee.push(&bytes).await;
                    }
                    Some((Ok(bytes), Some(flow)))
                }
                Some(Err(error)) => {
                    flow.connection.break_off().await;
                    Some((Err(io::Error::other(error)), None))
                }
                None => {
                    if let Some(tee) = flow.tee.take() {
                        tee.finish().await;
                    }
                    None
                }
            }
        }))
    }
}

/// Keeps an answer for its Idempotency-Key while it streams by.
struct Tee {
    claim: Claim,
    file: tokio::fs::File,
    kept: StoredAnswer,
    room: StorageRoom,
    whole: bool,
}

impl Tee {
    fn new(claim: Claim, spool: &Spool, headers: &[ToldHeader], format: Format) -> Option<Tee> {
        let (file, path) = tempfile::NamedTempFile::new_in(&spool.folder).ok()?.into_parts();
        let kept = StoredAnswer {
            status: 200,
            headers: headers.to_vec(),
            content_type: format.media_type(),
            body: Arc::new(path),
            bytes: 0,
        };
        let room = spool.room.clone();
        Some(Tee { claim, file: tokio::fs::File::from_std(file), kept, room, whole: true })
    }

    async fn push(&mut self, bytes: &[u8]) {
        self.kept.bytes += bytes.len() as u64;
        self.whole &= self.kept.bytes <= LARGEST_KEPT && self.room.check().is_ok();
        self.whole = self.whole && self.file.write_all(bytes).await.is_ok();
    }

    async fn finish(mut self) {
        if self.whole && self.file.flush().await.is_ok() {
            self.claim.finish(self.kept);
        }
    }
}

/// Keeps a whole answer for its Idempotency-Key.
pub(super) async fn keep(
    claim: Claim,
    spool: &Spool,
    status: u16,
    headers: &[ToldHeader],
    content_type: &str,
    body: &[u8],
) {
    let Ok(file) = tempfile::NamedTempFile::new_in(&spool.folder) else { return };
    let path = file.into_temp_path();
    if tokio::fs::write(&path, body).await.is_ok() {
        let (headers, content_type) = (headers.to_vec(), content_type.into());
        let bytes = body.len() as u64;
        claim.finish(StoredAnswer { status, headers, content_type, body: Arc::new(path), bytes });
    }
}

fn headers_of(caller: &Caller, utterance: &Utterance, title: &str) -> Vec<ToldHeader> {
    let file = format!("{title}.{}", utterance.format.codec.extension());
    let first = utterance.first_us as f64 / 1_000.0;
    let mut headers = vec![
        ("Dispatch-Id", utterance.dispatch.clone()),
        ("Dispatch-Engine", utterance.engine.clone()),
        ("Dispatch-Voice", utterance.voice.clone()),
        ("Dispatch-Cost", utterance.estimate.to_string()),
        ("Dispatch-Fidelity", utterance.worst.name().into()),
        ("Dispatch-Fingerprint", utterance.fingerprint.clone()),
        ("Content-Disposition", format!("inline; filename=\"{file}\"")),
        ("Server-Timing", format!("first-audio;dur={first:.1}")),
        ("Vary", "Accept, Prefer".into()),
        // Equal audio, not equal bytes: engines differ from call to call.
        ("ETag", format!("W/\"{}\"", utterance.fingerprint)),
        ("Cache-Status", cache_status(utterance.cache).into()),
    ];
    headers.extend(synthetic(caller));
    headers.extend(warning_headers(&utterance.warnings));
    if let Some(model) = &utterance.model {
        headers.push(("Dispatch-Model", model.clone()));
    }
    headers
}

/// Says that an answer is synthetic speech, where its app wants that.
pub(super) fn synthetic(caller: &Caller) -> Option<ToldHeader> {
    caller.app.discloses_in(Disclosure::Header).then(|| ("Dispatch-Synthetic", "?1".to_owned()))
}

/// RFC 9211, section 2.
fn cache_status(outcome: CacheOutcome) -> &'static str {
    match outcome {
        CacheOutcome::Hit => "dispatcher; hit",
        CacheOutcome::Stored => "dispatcher; fwd=miss; stored",
        CacheOutcome::Bypassed => "dispatcher; fwd=bypass",
    }
}

/// The first words of the text, for people.
pub(super) fn spoken_title(text: &dispatcher_gateway::TextInput) -> String {
    const LONGEST: usize = 60;
    let spoken = text.plain();
    let words = spoken.split_whitespace().collect::<Vec<_>>().join(" ");
    match words.char_indices().nth(LONGEST) {
        None => words,
        Some((end, _)) => format!("{}…", words[..end].rsplit_once(' ').map_or(&words[..end], |(whole, _)| whole)),
    }
}

/// A few safe words of the text for a file name.
fn file_title(text: &dispatcher_gateway::TextInput) -> String {
    let text = text.source();
    let mut inside = false;
    let spoken = text.chars().filter(|c| {
        inside = (inside || *c == '<') && *c != '>';
        !inside && *c != '>'
    });
    let mut title = String::new();
    for c in spoken {
        if c.is_ascii_alphanumeric() {
            title.push(c.to_ascii_lowercase());
        } else if !title.is_empty() && !title.ends_with('-') {
            title.push('-');
        }
        if title.len() >= 40 {
            break;
        }
    }
    let title = title.trim_end_matches('-');
    if title.len() < 3 { "utterance".into() } else { title.to_owned() }
}

#[cfg(test)]
mod tests {
    use dispatcher_gateway::TextInput;

    use super::*;

    #[test]
    fn every_warning_is_told() {
        let warnings = ["too slow".to_owned(), "too high".to_owned()];
        let headers = warning_headers(&warnings).chain([("Vary", "Accept".to_owned())]).collect();
        let mut response = Response::build();
        set(&mut response, headers, "audio/mpeg".into());
        let response = response.finalize();
        assert_eq!(response.headers().get("Dispatch-Warning").collect::<Vec<_>>(), ["too slow", "too high"]);
        assert_eq!(response.headers().get("Content-Type").collect::<Vec<_>>(), ["audio/mpeg"]);
    }

    #[test]
    fn file_names_are_telling_and_safe() {
        let title = |text: &str| file_title(&TextInput::Plain(text.into()));
        assert_eq!(
            title("The 06:15 to Gullsay is delayed by twenty minutes."),
            "the-06-15-to-gullsay-is-delayed-by-twent"
        );
        assert_eq!(title("../../etc/passwd\"\r\nX: y"), "etc-passwd-x-y");
        assert_eq!(title("六時十五分の便"), "utterance");
        assert_eq!(
            file_title(&TextInput::Ssml("<speak version=\"1.1\">The ramp is closing</speak>".into())),
            "the-ramp-is-closing"
        );
    }
}
