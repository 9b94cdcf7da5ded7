//! The http driver: calls, and WebSockets that begin as one.

use std::sync::Arc;

use bytes::Bytes;
use dispatcher_audio::Format;
use dispatcher_core::{Answer, Cause, Request, Sheet, SheetError, Transcript, Voice};
use dispatcher_vault::{Parts, Redactor};
use futures::{Stream, StreamExt as _, TryStreamExt as _};
use minijinja::context;
use minijinja::value::Value;
use reqwest::Response;
use reqwest::header::{CONTENT_TYPE, HeaderMap};
use serde_json_path::JsonPath;

use crate::access::CompiledAccess;
use crate::base64_json::{Path, Scanner};
use crate::call::{Hear, Speak};
use crate::catalogue::{Listing, Turns};
use crate::claims::{ClaimTally, CompiledClaims, checked};
use crate::engine::{AudioStream, SpokenAudio, Words};
use crate::flow::{Flow, FlowOutcome, FlowParts, Job, Last, parse};
use crate::request::{Call, SheetSource, connection_error, read_start};
use crate::socket::{HearingLine, LiveResult, SpeakingLine};
use crate::sound::RequestAudio;
use crate::transcript::Paths;
use crate::wire::Wire;
use crate::{EngineError, Fetcher};

/// Position of the audio in the answer.
enum Answered {
    Body,
    Base64(Path),
    Socket(Arc<SpeakingLine>),
}

struct Listener {
    flow: Flow,
    paths: Paths,
    line: Option<HearingLine>,
}

pub(crate) struct HttpDriver {
    wire: Arc<Wire>,
    speak: Option<(Flow, Answered)>,
    hear: Option<Listener>,
    claims: Option<Arc<CompiledClaims>>,
    listing: Option<Listing>,
    check: Option<(Call, Option<JsonPath>)>,
}

impl HttpDriver {
    pub(crate) fn compile(sheet: &Sheet, source: SheetSource<'_>, fetcher: Fetcher) -> Result<Self, SheetError> {
        let open = context! {
            access => CompiledAccess::probe(&sheet.access),
            credential => CompiledAccess::probe_named(&sheet.access),
        };
        let listing = sheet.catalogue.as_ref().map(|spec| Listing::compile_call(spec, &open, source)).transpose()?;
        Ok(HttpDriver {
            wire: Arc::new(Wire::compile(sheet, source, fetcher)?),
            speak: compile_speak(sheet, &open, source)?,
            hear: compile_hear(sheet, &open, source)?,
            claims: match &sheet.synthesis {
                Some(synthesis) => CompiledClaims::compile(&synthesis.claims, source)?.map(Arc::new),
                None => None,
            },
            listing,
            check: compile_check(sheet, &open, source)?,
        })
    }

    pub(crate) async fn speak(&self, call: Speak, credential: &Parts) -> Result<SpokenAudio, EngineError> {
        let unable = || EngineError::new(Cause::Unsupported, "this engine has no synthesis");
        let (flow, answered) = self.speak.as_ref().ok_or_else(unable)?;
        let job = Job { context: call.context(), sound: None, credential, voice: &call.voice.id };
        let words = Words::default();
        if let Answered::Socket(line) = answered {
            let audio = line.clone().speak(flow, &self.wire, &job, words.clone()).await?;
            return Ok(SpokenAudio { audio, words });
        }
        let FlowOutcome { last, before, redactor } = flow.run(&self.wire, &job).await?;
        let format = call.format.format;
        let response = match last {
            Last::Response(response) => response,
            Last::Read(body) => return Ok(SpokenAudio { audio: self.read_audio(&body, answered, format)?, words }),
        };
        let response = self.refuse_text(response, answered, &redactor).await?;
        let (declared, headers) = (response.content_length(), response.headers().clone());
        let tally = self.claims.as_ref().map(|claims| ClaimTally::new(claims, format));
        let redactor = Arc::new(redactor);
        if let Answered::Base64(path) = answered {
            let scanner = Scanner::with_rest(path.clone());
            let end = AnswerEnd {
                wire: self.wire.clone(),
                claims: self.claims.clone(),
                status: response.status().as_u16(),
                headers,
                redactor: redactor.clone(),
            };
            let body = response.bytes_stream().map_err(move |error| connection_error(&error, &redactor));
            return Ok(SpokenAudio { audio: Box::pin(decode_base64(body, scanner, tally, end)), words });
        }
        let body = response.bytes_stream().map_err(move |error| connection_error(&error, &redactor));
        let audio: AudioStream = Box::pin(guard_length(body, declared));
        let audio = match (tally, &self.claims) {
            (Some(tally), Some(claims)) => {
                let json = before.as_deref().and_then(|body| serde_json::from_slice(body).ok());
                Box::pin(checked(audio, tally, claims.read(&headers, json.as_ref())))
            }
            _ => audio,
        };
        Ok(SpokenAudio { audio, words })
    }

    /// Audio out of an answer that was read as a whole.
    fn read_audio(&self, body: &[u8], answered: &Answered, format: Format) -> Result<AudioStream, EngineError> {
        let Answered::Base64(path) = answered else {
            return Err(EngineError::new(
                Cause::Broken,
                "the last answer is not audio; the sheet needs fetch or a link",
            ));
        };
        let broken = |error| EngineError::new(Cause::Broken, format!("the answer cannot be read: {error}"));
        let mut scanner = Scanner::new(path.clone());
        let audio = Bytes::from(scanner.push(body).map_err(broken)?);
        scanner.finish().map_err(broken)?;
        if let Some(claims) = &self.claims {
            let json = serde_json::from_slice(body).ok();
            let mut tally = ClaimTally::new(claims, format);
            tally.push(&audio);
            tally.check(&claims.read(&HeaderMap::new(), json.as_ref()))?;
        }
        Ok(Box::pin(futures::stream::once(async move { Ok(audio) })))
    }

    /// The main request of a call; what earlier calls would have left stands
    /// in it by name.
    pub(crate) fn preview(&self, call: &Speak) -> String {
        self.speak.as_ref().map(|(flow, _)| flow.preview(&call.context())).unwrap_or_default()
    }

    pub(crate) fn document(&self, call: &Speak) -> String {
        self.speak.as_ref().map(|(flow, _)| flow.document(&call.context())).unwrap_or_default()
    }

    pub(crate) async fn hear(&self, call: Hear, credential: &Parts) -> Result<Transcript, EngineError> {
        let unable = || EngineError::new(Cause::Unsupported, "this engine has no recognition");
        let Listener { flow, paths, line } = self.hear.as_ref().ok_or_else(unable)?;
        let sound = RequestAudio::whole(&call.audio, &call.format).await?;
        let context = context! { audio => sound.context(), ..call.context() };
        let job = Job { context, sound: Some(&sound), credential, voice: "" };
        if let Some(line) = line {
            return heard(line.hear(flow, &self.wire, &job, &sound, call.seconds, paths).await);
        }
        let answer = async {
            let FlowOutcome { last, redactor, .. } = flow.run(&self.wire, &job).await?;
            let body = last.read(&self.wire, &redactor).await?;
            paths.read(&parse(&body, &redactor)?)
        };
        heard(answer.await)
    }

    /// Whether it listens while audio is still sent.
    pub(crate) fn is_live(&self) -> bool {
        self.hear.as_ref().is_some_and(|listener| listener.line.is_some())
    }

    pub(crate) async fn hear_live(
        &self,
        call: Hear,
        audio: impl Stream<Item = Bytes> + Send,
        told: impl FnMut(LiveResult) + Send,
        credential: &Parts,
    ) -> Result<(), EngineError> {
        let unable = || EngineError::new(Cause::Unsupported, "this engine does not listen live");
        let Listener { flow, paths, line } = self.hear.as_ref().ok_or_else(unable)?;
        let line = line.as_ref().ok_or_else(unable)?;
        let sound = RequestAudio::whole(&call.audio, &call.format).await?;
        let context = context! { audio => sound.context(), ..call.context() };
        let job = Job { context, sound: Some(&sound), credential, voice: "" };
        line.hear_live(flow, &self.wire, &job, audio, paths, told).await
    }

    /// Asks what a credential may do: by `[access.check]`, else by having a
    /// token, else by the list of voices.
    pub(crate) async fn try_credential(&self, credential: &Parts) -> Option<Result<Vec<String>, EngineError>> {
        if let Some((call, roles)) = &self.check {
            return Some(self.roles(call, roles.as_ref(), credential).await);
        }
        if self.wire.access.has_tokens() {
            return Some(self.wire.fresh_token(credential).await.map(|()| Vec::new()));
        }
        Some(self.listing.as_ref()?.first_page(&self.wire, credential).await.map(|()| Vec::new()))
    }

    async fn roles(
        &self,
        call: &Call,
        roles: Option<&JsonPath>,
        credential: &Parts,
    ) -> Result<Vec<String>, EngineError> {
        let (response, redactor) = self.wire.send(call, &context! {}, None, credential).await?;
        let body = Last::Response(response).read(&self.wire, &redactor).await?;
        let Some(roles) = roles else { return Ok(Vec::new()) };
        let answer = parse(&body, &redactor)?;
        Ok(roles.query(&answer).all().into_iter().filter_map(|role| role.as_str().map(str::to_owned)).collect())
    }

    /// The call that lists the voices, as text.
    pub(crate) fn catalogue_preview(&self) -> Option<String> {
        self.listing.as_ref().map(Listing::preview)
    }

    /// The engine's list of voices; `None` if the sheet names no list.
    pub(crate) async fn voices(&self, credential: &Parts, turns: Turns<'_>) -> Option<Result<Vec<Voice>, EngineError>> {
        Some(self.listing.as_ref()?.read(&self.wire, credential, turns).await)
    }

    /// Text where audio was promised is an error in disguise.
    async fn refuse_text(
        &self,
        response: Response,
        answered: &Answered,
        redactor: &Redactor,
    ) -> Result<Response, EngineError> {
        let told = response.headers().get(CONTENT_TYPE).and_then(|value| value.to_str().ok()).unwrap_or_default();
        let told = told.to_ascii_lowercase();
        let json = told.starts_with("application/json") && matches!(answered, Answered::Body);
        if !told.starts_with("text/") && !json {
            return Ok(response);
        }
        let status = response.status().as_u16();
        let body = read_start(response).await;
        let body = String::from_utf8_lossy(&body);
        let cause = self.wire.errors.named(status, &body).unwrap_or(Cause::Broken);
        Err(EngineError::new(cause, redactor.redact(&format!("{told} instead of audio: {body}"))))
    }
}

fn compile_check(
    sheet: &Sheet,
    open: &Value,
    source: SheetSource<'_>,
) -> Result<Option<(Call, Option<JsonPath>)>, SheetError> {
    let Some(spec) = &sheet.access.check else { return Ok(None) };
    let key = ["access", "check"];
    let roles = spec.roles.as_deref().map(JsonPath::parse).transpose();
    let roles = roles.map_err(|error| SheetError::at_key(source.0, source.1, &key, format!("roles: {error}")))?;
    Ok(Some((Call::compile(spec, open, source, &key)?, roles)))
}

fn compile_speak(sheet: &Sheet, open: &Value, source: SheetSource<'_>) -> Result<Option<(Flow, Answered)>, SheetError> {
    let (Some(synthesis), Some(probe)) = (&sheet.synthesis, Speak::probe(sheet)) else { return Ok(None) };
    let probe = context! { ..open.clone(), ..probe.context() };
    let flow = Flow::compile(
        &FlowParts {
            section: "synthesis",
            main: synthesis as &dyn Request,
            before: &synthesis.before,
            keep: &synthesis.keep,
            pieces: None,
            poll: synthesis.poll.as_ref(),
            fetch: synthesis.fetch.as_ref(),
            answer: synthesis.answer.as_ref(),
        },
        &probe,
        source,
    )?;
    let answered = match (&synthesis.socket, &synthesis.answer) {
        (Some(socket), _) => {
            let kept = synthesis.before.iter().flat_map(|step| step.keep.keys()).map(|name| (name.clone(), "probe"));
            let probe = context! { kept => Value::from_pairs(kept), ..probe };
            Answered::Socket(Arc::new(SpeakingLine::compile(socket, &probe, source)?))
        }
        (None, Some(Answer::Base64 { base64 })) => Answered::Base64(Path::parse(base64).ok_or_else(|| {
            let message = "the path must name one place, like $.sound or $.a[0].b";
            SheetError::at_key(source.0, source.1, &["synthesis", "answer"], message)
        })?),
        _ => Answered::Body,
    };
    Ok(Some((flow, answered)))
}

fn compile_hear(sheet: &Sheet, open: &Value, source: SheetSource<'_>) -> Result<Option<Listener>, SheetError> {
    let (Some(recognition), Some(probe)) = (&sheet.recognition, Hear::probe(sheet)) else { return Ok(None) };
    let audio = context! {
        base64 => Value::from_safe_string("cHJvYmU=".into()),
        base64url => Value::from_safe_string("cHJvYmU".into()),
        bytes => 5,
    };
    let probe = context! {
        audio => audio,
        piece => context! { number => 1 },
        ..context! { ..open.clone(), ..probe.context() }
    };
    let flow = Flow::compile(
        &FlowParts {
            section: "recognition",
            main: recognition as &dyn Request,
            before: &recognition.before,
            keep: &recognition.keep,
            pieces: recognition.pieces.as_ref(),
            poll: recognition.poll.as_ref(),
            fetch: recognition.fetch.as_ref(),
            answer: recognition.answer.as_ref(),
        },
        &probe,
        source,
    )?;
    let fault = || SheetError::at_key(source.0, source.1, &["recognition"], "[recognition.transcript] is missing");
    let paths = Paths::compile(recognition.transcript.as_ref().ok_or_else(fault)?, source)?;
    let kept = recognition.before.iter().flat_map(|step| step.keep.keys()).map(|name| (name.clone(), "probe"));
    let probe = context! { kept => Value::from_pairs(kept), ..probe };
    let line = recognition.socket.as_ref().map(|socket| HearingLine::compile(socket, &probe, source)).transpose()?;
    Ok(Some(Listener { flow, paths, line }))
}

/// That there is no speech in audio is a result.
fn heard(answer: Result<Transcript, EngineError>) -> Result<Transcript, EngineError> {
    match answer {
        Err(error) if error.cause == Cause::NoSpeech => Ok(Transcript::default()),
        answer => answer,
    }
}

/// A body shorter than it was declared ends in an error.
fn guard_length(
    body: impl Stream<Item = Result<Bytes, EngineError>> + Send + 'static,
    declared: Option<u64>,
) -> impl Stream<Item = Result<Bytes, EngineError>> + Send {
    let seen = std::sync::Arc::new(std::sync::atomic::AtomicU64::new(0));
    let count = seen.clone();
    let counted = body.inspect_ok(move |chunk| {
        count.fetch_add(chunk.len() as u64, std::sync::atomic::Ordering::Relaxed);
    });
    let check = futures::stream::once(async move {
        match declared {
            Some(declared) if seen.load(std::sync::atomic::Ordering::Relaxed) < declared => {
                Some(Err(EngineError::new(Cause::Broken, "the answer is shorter than declared")))
            }
            _ => None,
        }
    });
    counted.chain(check.filter_map(futures::future::ready))
}

/// What an answer of JSON is looked at for once its audio is out.
struct AnswerEnd {
    wire: Arc<Wire>,
    claims: Option<Arc<CompiledClaims>>,
    status: u16,
    headers: HeaderMap,
    redactor: Arc<Redactor>,
}

impl AnswerEnd {
    /// Refuses an answer whose JSON tells of an error, or states more audio
    /// than it holds.
    fn check(&self, rest: Option<&[u8]>, tally: Option<ClaimTally>) -> Result<(), EngineError> {
        let Some(rest) = rest else { return Ok(()) };
        let text = String::from_utf8_lossy(rest);
        if let Some(cause) = self.wire.errors.named(self.status, &text) {
            return Err(EngineError::new(cause, self.redactor.redact(&format!("status {}: {text}", self.status))));
        }
        match (tally, &self.claims) {
            (Some(tally), Some(claims)) => {
                tally.check(&claims.read(&self.headers, serde_json::from_slice(rest).ok().as_ref()))
            }
            _ => Ok(()),
        }
    }
}

fn decode_base64(
    body: impl Stream<Item = Result<Bytes, EngineError>> + Send + 'static,
    scanner: Scanner,
    tally: Option<ClaimTally>,
    end: AnswerEnd,
) -> impl Stream<Item = Result<Bytes, EngineError>> + Send {
    let broken = |error: crate::base64_json::ScanError| {
        EngineError::new(Cause::Broken, format!("the answer cannot be read: {error}"))
    };
    let state = (Box::pin(body), scanner, tally, end, false);
    futures::stream::try_unfold(state, move |(mut body, mut scanner, mut tally, end, done)| async move {
        if done {
            return Ok(None);
        }
        match body.next().await.transpose()? {
            Some(chunk) => {
                let audio = scanner.push(&chunk).map_err(broken)?;
                if let Some(tally) = &mut tally {
                    tally.push(&audio);
                }
                Ok(Some((Bytes::from(audio), (body, scanner, tally, end, false))))
            }
            None => {
                let whole = scanner.finish();
                // An error in place of audio says more than its absence.
                end.check(scanner.rest(), tally.take().filter(|_| whole.is_ok()))?;
                whole.map_err(broken)?;
                Ok(Some((Bytes::new(), (body, scanner, None, end, true))))
            }
        }
    })
}
