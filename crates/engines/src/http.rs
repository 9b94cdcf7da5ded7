//! The http driver: one call, its answer streamed.

use std::time::Duration;

use bytes::Bytes;
use dispatcher_core::{Answer, Cause, Network, Sheet, SheetError, Transcript};
use dispatcher_vault::{Parts, Redactor};
use futures::{Stream, StreamExt as _, TryStreamExt as _};
use minijinja::context;
use minijinja::value::Value;
use reqwest::header::{CONTENT_TYPE, RETRY_AFTER};
use reqwest::{Response, StatusCode};
use secrecy::ExposeSecret as _;

use crate::access::{CompiledAccess, Outgoing, Reach};
use crate::base64_json::{Path, Scanner};
use crate::engine::{AudioStream, Hear, Speak};
use crate::errors::Errors;
use crate::request::{Call, Source, connection_error, read_start, read_up_to};
use crate::transcript::Paths;
use crate::{EngineError, Fetcher};

/// A transcript is read so far: hours of words.
const MAX_TRANSCRIPT: usize = 32 << 20;

/// Where the audio lies in the answer.
enum Sound {
    Body,
    Base64(Path),
}

pub(crate) struct HttpDriver {
    endpoint: String,
    network: Network,
    access: CompiledAccess,
    speak: Option<(Call, Sound)>,
    hear: Option<(Call, Paths)>,
    errors: Errors,
    fetcher: Fetcher,
}

impl HttpDriver {
    pub(crate) fn compile(sheet: &Sheet, source: Source<'_>, fetcher: Fetcher) -> Result<Self, SheetError> {
        let fault = |path: &[&str], message: &str| SheetError::at_key(source.0, source.1, path, message);
        let speak = match (&sheet.synthesis, Speak::probe(sheet)) {
            (Some(synthesis), Some(probe)) => {
                let probe = context! { access => CompiledAccess::probe(&sheet.access), ..probe.context() };
                let sound = match &synthesis.answer {
                    Some(Answer::Base64 { base64 }) => Sound::Base64(Path::parse(base64).ok_or_else(|| {
                        fault(&["synthesis", "answer"], "the path must name one place, like $.sound or $.a[0].b")
                    })?),
                    _ => Sound::Body,
                };
                Some((Call::compile(&synthesis.call_template(), &probe, source, "synthesis")?, sound))
            }
            _ => None,
        };
        let hear = match (&sheet.recognition, Hear::probe(sheet)) {
            (Some(recognition), Some(probe)) => {
                let probe = context! { access => CompiledAccess::probe(&sheet.access), ..probe.context() };
                let call = Call::compile(&recognition.call_template(), &probe, source, "recognition")?;
                let paths = recognition.transcript.as_ref();
                let paths = paths.ok_or_else(|| fault(&["recognition"], "[recognition.transcript] is missing"))?;
                Some((call, Paths::compile(paths, source)?))
            }
            _ => None,
        };
        Ok(HttpDriver {
            endpoint: sheet.endpoint.clone().unwrap_or_default().trim_end_matches('/').to_owned(),
            network: sheet.network,
            access: CompiledAccess::compile(&sheet.access, source)?,
            speak,
            hear,
            errors: Errors::compile(&sheet.errors, source)?,
            fetcher,
        })
    }

    pub(crate) async fn speak(&self, job: Speak, credential: &Parts) -> Result<AudioStream, EngineError> {
        let unable = || EngineError::new(Cause::Unsupported, "this engine does not speak");
        let (call, sound) = self.speak.as_ref().ok_or_else(unable)?;
        let (response, redactor) = self.send(call, &job.context(), None, credential).await?;
        let response = self.refuse_text(response, sound, &redactor).await?;
        let declared = response.content_length();
        let body = response.bytes_stream().map_err(move |error| connection_error(&error, &redactor));
        Ok(match sound {
            Sound::Body => Box::pin(guard_length(body, declared)),
            Sound::Base64(path) => Box::pin(decode_base64(body, Scanner::new(path.clone()))),
        })
    }

    pub(crate) async fn hear(&self, job: Hear, credential: &Parts) -> Result<Transcript, EngineError> {
        let unable = || EngineError::new(Cause::Unsupported, "this engine does not listen");
        let (call, paths) = self.hear.as_ref().ok_or_else(unable)?;
        let (response, redactor) = self.send(call, &job.context(), Some(&job), credential).await?;
        let body = read_up_to(response, MAX_TRANSCRIPT, &redactor).await?;
        let answer: serde_json::Value = serde_json::from_slice(&body).map_err(|_| {
            let start = String::from_utf8_lossy(&body[..body.len().min(200)]).into_owned();
            EngineError::new(Cause::Broken, redactor.redact(&format!("the answer is not JSON: {start}")))
        })?;
        paths.read(&answer)
    }

    /// Sends a call. A token that the engine no longer takes is forgotten,
    /// and the call made once more with a fresh one.
    async fn send(
        &self,
        call: &Call,
        job: &Value,
        hear: Option<&Hear>,
        credential: &Parts,
    ) -> Result<(Response, Redactor), EngineError> {
        let context = context! { access => self.access.context(credential), ..job.clone() };
        let reach = Reach { fetcher: &self.fetcher, network: self.network, endpoint: &self.endpoint };
        let mut again = true;
        loop {
            let token = self.access.token(credential, &reach).await?;
            let secrets = self.access.secrets(credential).chain(token.iter().map(|token| token.expose_secret()));
            let redactor = Redactor::new(secrets);
            let (mut outgoing, payload) = call.request(&self.endpoint, &context, hear).await?;
            self.access.apply(credential, token.as_ref(), &mut outgoing)?;
            let Outgoing { method, url, headers, .. } = outgoing;
            let request = self.fetcher.client(self.network, &url)?.request(method, url).headers(headers);
            let response = payload.put(request).send().await.map_err(|error| connection_error(&error, &redactor))?;
            if response.status().is_success() {
                return Ok((response, redactor));
            }
            let refused = response.status() == StatusCode::UNAUTHORIZED;
            if refused && std::mem::take(&mut again) && self.access.forget(credential).await {
                continue;
            }
            return Err(self.failure(response, &redactor).await);
        }
    }

    /// Turns an answer that is no success into a cause.
    async fn failure(&self, response: Response, redactor: &Redactor) -> EngineError {
        let status = response.status().as_u16();
        let retry_after = response
            .headers()
            .get(RETRY_AFTER)
            .and_then(|value| value.to_str().ok()?.trim().parse().ok())
            .map(|seconds: u64| Duration::from_secs(seconds.min(3_600)));
        let body = read_start(response).await;
        let text = String::from_utf8_lossy(&body);
        let cause = self.errors.cause_of(status, &text).unwrap_or_else(|| Cause::of_status(status));
        EngineError { retry_after, ..EngineError::new(cause, redactor.redact(&format!("status {status}: {text}"))) }
    }

    /// Text where audio was promised is an error in disguise.
    async fn refuse_text(
        &self,
        response: Response,
        sound: &Sound,
        redactor: &Redactor,
    ) -> Result<Response, EngineError> {
        let told = response.headers().get(CONTENT_TYPE).and_then(|value| value.to_str().ok()).unwrap_or_default();
        let told = told.to_ascii_lowercase();
        let text = told.starts_with("text/") || (told.starts_with("application/json") && matches!(sound, Sound::Body));
        if !text {
            return Ok(response);
        }
        let status = response.status().as_u16();
        let body = read_start(response).await;
        let body = String::from_utf8_lossy(&body);
        let cause = self.errors.named(status, &body).unwrap_or(Cause::Broken);
        Err(EngineError::new(cause, redactor.redact(&format!("{told} in place of audio: {body}"))))
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
                Some(Err(EngineError::new(Cause::Broken, "the answer is shorter than it was declared")))
            }
            _ => None,
        }
    });
    counted.chain(check.filter_map(futures::future::ready))
}

fn decode_base64(
    body: impl Stream<Item = Result<Bytes, EngineError>> + Send + 'static,
    scanner: Scanner,
) -> impl Stream<Item = Result<Bytes, EngineError>> + Send {
    let broken = |error: crate::base64_json::ScanError| {
        EngineError::new(Cause::Broken, format!("the answer cannot be read: {error}"))
    };
    let state = (Box::pin(body), scanner, false);
    futures::stream::try_unfold(state, move |(mut body, mut scanner, done)| async move {
        if done {
            return Ok(None);
        }
        match body.next().await.transpose()? {
            Some(chunk) => {
                let audio = scanner.push(&chunk).map_err(broken)?;
                Ok(Some((Bytes::from(audio), (body, scanner, false))))
            }
            None => {
                scanner.finish().map_err(broken)?;
                Ok(Some((Bytes::new(), (body, scanner, true))))
            }
        }
    })
}
