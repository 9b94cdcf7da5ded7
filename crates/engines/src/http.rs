//! The http driver: one call, its answer streamed.

use std::collections::BTreeMap;
use std::time::Duration;

use bytes::Bytes;
use dispatcher_core::{
    Access, Answer, Body, CallTemplate, Cause, ErrorRule, Network, Scheme, Sheet, SheetError, Transcript,
};
use dispatcher_vault::{Parts, Redactor};
use futures::{Stream, StreamExt as _, TryStreamExt as _};
use minijinja::context;
use minijinja::value::Value;
use reqwest::header::{AUTHORIZATION, CONTENT_LENGTH, CONTENT_TYPE, HeaderMap, HeaderName, HeaderValue, RETRY_AFTER};
use reqwest::multipart::{Form, Part};
use reqwest::{Method, RequestBuilder, Response, Url};
use secrecy::ExposeSecret as _;

use crate::base64_json::{Path, Scanner};
use crate::engine::{AudioSource, AudioStream, Hear, Speak};
use crate::template::{Place, Template, UNRESERVED};
use crate::transcript::Paths;
use crate::{EngineError, Fetcher};

/// An error text is read so far.
const MAX_ERROR_BODY: usize = 64 << 10;
/// A transcript is read so far: hours of words.
const MAX_TRANSCRIPT: usize = 32 << 20;

type Named = Vec<(String, Template)>;

/// A call, compiled.
struct Call {
    method: Method,
    path: Template,
    headers: Named,
    query: Named,
    body: Compiled,
}

enum Compiled {
    Empty,
    Json(Template),
    Text(Template),
    Form(Named),
    Multipart { parts: Named, audio: Option<String> },
    Audio,
}

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
    errors: Vec<ErrorRule>,
    fetcher: Fetcher,
}

struct CompiledAccess {
    scheme: Scheme,
    parts: Vec<String>,
    headers: Named,
    query: Named,
}

type Source<'a> = (&'a str, &'a str);

fn compile_named(
    templates: &BTreeMap<String, String>,
    probe: &Value,
    sheet: Source<'_>,
    key: &[&str],
) -> Result<Named, SheetError> {
    let compile = |(name, template): (&String, &String)| {
        let path: Vec<&str> = key.iter().copied().chain([name.as_str()]).collect();
        Ok((name.clone(), Template::checked(template, Place::Plain, probe, sheet, &path)?))
    };
    templates.iter().map(compile).collect()
}

impl Call {
    fn compile(
        template: &CallTemplate<'_>,
        probe: &Value,
        sheet: Source<'_>,
        section: &str,
    ) -> Result<Call, SheetError> {
        let (method, path) = template.call.split_once(' ').unwrap_or(("POST", template.call));
        let method = Method::from_bytes(method.as_bytes()).unwrap_or(Method::POST);
        let named = |templates, key| compile_named(templates, probe, sheet, &[section, key]);
        let one = |source, place, key| Template::checked(source, place, probe, sheet, &[section, key]);
        let body = match &template.body {
            Body::Empty => Compiled::Empty,
            Body::Json(json) => Compiled::Json(one(json, Place::Json, "json")?),
            Body::Text(text) => Compiled::Text(one(text, Place::Plain, "text")?),
            Body::Form(form) => Compiled::Form(named(form, "form")?),
            Body::Multipart { parts, audio } => {
                Compiled::Multipart { parts: named(parts, "multipart")?, audio: audio.map(str::to_owned) }
            }
            Body::Audio => Compiled::Audio,
        };
        Ok(Call {
            method,
            path: one(path.trim(), Place::Path, "call")?,
            headers: named(template.headers, "headers")?,
            query: named(template.query, "query")?,
            body,
        })
    }
}

impl CompiledAccess {
    fn compile(access: &Access, sheet: Source<'_>) -> Result<Self, SheetError> {
        let probe: BTreeMap<&str, &str> = access.parts.iter().map(|part| (part.as_str(), "probe")).collect();
        let probe = context! { credential => probe };
        Ok(CompiledAccess {
            scheme: access.scheme,
            parts: access.parts.clone(),
            headers: compile_named(&access.headers, &probe, sheet, &["access", "headers"])?,
            query: compile_named(&access.query, &probe, sheet, &["access", "query"])?,
        })
    }

    /// Puts the credential into a request.
    fn apply(&self, credential: &Parts, headers: &mut HeaderMap, url: &mut Url) -> Result<(), EngineError> {
        if let Some(missing) = self.parts.iter().find(|part| !credential.contains_key(*part)) {
            return Err(EngineError::new(Cause::Unauthorized, format!("the credential has no part '{missing}'")));
        }
        let exposed: BTreeMap<String, String> =
            credential.iter().map(|(name, part)| (name.clone(), part.expose_secret().to_owned())).collect();
        let context = context! { credential => &exposed };
        let secret = |text: String| {
            let mut value = HeaderValue::from_str(&text).map_err(|_| {
                EngineError::new(Cause::Unauthorized, "a part of the credential cannot stand in a header")
            })?;
            value.set_sensitive(true);
            Ok::<_, EngineError>(value)
        };
        match self.scheme {
            Scheme::None => {}
            Scheme::Bearer => {
                let token =
                    self.parts.first().and_then(|part| exposed.get(part)).map(String::as_str).unwrap_or_default();
                headers.insert(AUTHORIZATION, secret(format!("Bearer {token}"))?);
            }
            Scheme::Headers => {
                for (name, template) in &self.headers {
                    headers.insert(header_name(name)?, secret(render(template, &context)?)?);
                }
            }
            Scheme::Query => {
                for (name, template) in &self.query {
                    url.query_pairs_mut().append_pair(name, &render(template, &context)?);
                }
            }
        }
        Ok(())
    }
}

fn header_name(name: &str) -> Result<HeaderName, EngineError> {
    HeaderName::from_bytes(name.as_bytes())
        .map_err(|_| EngineError::new(Cause::Malformed, format!("'{name}' is no header")))
}

fn render(template: &Template, context: &Value) -> Result<String, EngineError> {
    template
        .render(context)
        .map_err(|error| EngineError::new(Cause::Malformed, format!("the sheet's template failed: {error}")))
}

impl HttpDriver {
    pub(crate) fn compile(sheet: &Sheet, source: Source<'_>, fetcher: Fetcher) -> Result<Self, SheetError> {
        let fault = |path: &[&str], message: &str| SheetError::at_key(source.0, source.1, path, message);
        let speak = match (&sheet.synthesis, Speak::probe(sheet)) {
            (Some(synthesis), Some(probe)) => {
                let sound = match &synthesis.answer {
                    Some(Answer::Base64 { base64 }) => Sound::Base64(Path::parse(base64).ok_or_else(|| {
                        fault(&["synthesis", "answer"], "the path must name one place, like $.sound or $.a[0].b")
                    })?),
                    _ => Sound::Body,
                };
                Some((Call::compile(&synthesis.call_template(), &probe.context(), source, "synthesis")?, sound))
            }
            _ => None,
        };
        let hear = match (&sheet.recognition, Hear::probe(sheet)) {
            (Some(recognition), Some(probe)) => {
                let call = Call::compile(&recognition.call_template(), &probe.context(), source, "recognition")?;
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
            errors: sheet.errors.clone(),
            fetcher,
        })
    }

    pub(crate) async fn speak(&self, job: Speak, credential: &Parts) -> Result<AudioStream, EngineError> {
        let unable = || EngineError::new(Cause::Unsupported, "this engine does not speak");
        let (call, sound) = self.speak.as_ref().ok_or_else(unable)?;
        let redactor = redactor(credential);
        let response = self.send(call, &job.context(), None, credential, &redactor).await?;
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
        let redactor = redactor(credential);
        let response = self.send(call, &job.context(), Some(&job), credential, &redactor).await?;
        let body = read_up_to(response, MAX_TRANSCRIPT, &redactor).await?;
        let answer: serde_json::Value = serde_json::from_slice(&body).map_err(|_| {
            let start = String::from_utf8_lossy(&body[..body.len().min(200)]).into_owned();
            EngineError::new(Cause::Broken, redactor.redact(&format!("the answer is not JSON: {start}")))
        })?;
        paths.read(&answer)
    }

    async fn send(
        &self,
        call: &Call,
        context: &Value,
        hear: Option<&Hear>,
        credential: &Parts,
        redactor: &Redactor,
    ) -> Result<Response, EngineError> {
        let address = format!("{}{}", self.endpoint, render(&call.path, context)?);
        let mut url =
            Url::parse(&address).map_err(|_| EngineError::new(Cause::Malformed, "the endpoint is no address"))?;
        for (name, template) in &call.query {
            url.query_pairs_mut().append_pair(name, &render(template, context)?);
        }
        let mut headers = HeaderMap::new();
        for (name, template) in &call.headers {
            let value = HeaderValue::from_str(&render(template, context)?).map_err(|_| {
                EngineError::new(Cause::Malformed, format!("the value of the header {name} is not ASCII"))
            })?;
            headers.insert(header_name(name)?, value);
        }
        self.access.apply(credential, &mut headers, &mut url)?;
        let request = self.fetcher.client(self.network, &url)?.request(call.method.clone(), url).headers(headers);
        let request = body_of(request, &call.body, context, hear).await?;
        let response = request.send().await.map_err(|error| connection_error(&error, redactor))?;
        if response.status().is_success() { Ok(response) } else { Err(self.failure(response, redactor).await) }
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
        let cause = self.cause_of(status, &text).unwrap_or_else(|| Cause::of_status(status));
        EngineError { retry_after, ..EngineError::new(cause, redactor.redact(&format!("status {status}: {text}"))) }
    }

    fn cause_of(&self, status: u16, text: &str) -> Option<Cause> {
        let fits = |rule: &&ErrorRule| {
            rule.status.is_none_or(|wanted| wanted == status)
                && rule.contains.as_ref().is_none_or(|part| text.contains(part.as_str()))
        };
        self.errors.iter().find(fits).map(|rule| rule.means)
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
        let cause = self.errors.iter().find(|rule| {
            rule.contains.as_ref().is_some_and(|part| body.contains(part.as_str()))
                && rule.status.is_none_or(|wanted| wanted == status)
        });
        let cause = cause.map_or(Cause::Broken, |rule| rule.means);
        Err(EngineError::new(cause, redactor.redact(&format!("{told} in place of audio: {body}"))))
    }
}

fn redactor(credential: &Parts) -> Redactor {
    Redactor::new(credential.values().map(|part| part.expose_secret()))
}

fn connection_error(error: &reqwest::Error, redactor: &Redactor) -> EngineError {
    let cause = if error.is_timeout() {
        Cause::TimedOut
    } else if error.is_decode() || error.is_body() {
        Cause::Broken
    } else {
        Cause::Unavailable
    };
    // Only the innermost text: the outer ones repeat the address with its query.
    let mut inner: &dyn std::error::Error = error;
    while let Some(source) = inner.source() {
        inner = source;
    }
    let what = match cause {
        Cause::TimedOut => "no answer in time",
        Cause::Broken => "the answer broke off",
        _ => "no connection",
    };
    EngineError::new(cause, redactor.redact(&format!("{what}: {inner}")))
}

async fn read_start(response: Response) -> Vec<u8> {
    let mut stream = response.bytes_stream();
    let mut body = Vec::new();
    while let Some(Ok(chunk)) = stream.next().await {
        body.extend_from_slice(&chunk[..chunk.len().min(MAX_ERROR_BODY - body.len())]);
        if body.len() >= MAX_ERROR_BODY {
            break;
        }
    }
    body
}

async fn read_up_to(response: Response, limit: usize, redactor: &Redactor) -> Result<Vec<u8>, EngineError> {
    let mut stream = response.bytes_stream();
    let mut body = Vec::new();
    while let Some(chunk) = stream.next().await {
        let chunk = chunk.map_err(|error| connection_error(&error, redactor))?;
        if body.len() + chunk.len() > limit {
            return Err(EngineError::new(Cause::Broken, format!("an answer of more than {limit} bytes")));
        }
        body.extend_from_slice(&chunk);
    }
    Ok(body)
}

async fn body_of(
    request: RequestBuilder,
    body: &Compiled,
    context: &Value,
    hear: Option<&Hear>,
) -> Result<RequestBuilder, EngineError> {
    Ok(match body {
        Compiled::Empty => request,
        Compiled::Json(template) => request.header(CONTENT_TYPE, "application/json").body(render(template, context)?),
        Compiled::Text(template) => {
            request.header(CONTENT_TYPE, "text/plain; charset=utf-8").body(render(template, context)?)
        }
        Compiled::Form(fields) => {
            let mut pairs = Vec::new();
            for (name, template) in fields {
                let encode = |text: &str| percent_encoding::utf8_percent_encode(text, UNRESERVED).to_string();
                pairs.push(format!("{}={}", encode(name), encode(&render(template, context)?)));
            }
            request.header(CONTENT_TYPE, "application/x-www-form-urlencoded").body(pairs.join("&"))
        }
        Compiled::Multipart { parts, audio } => {
            let mut form = Form::new();
            for (name, template) in parts {
                form = form.text(name.clone(), render(template, context)?);
            }
            if let (Some(name), Some(hear)) = (audio, hear) {
                let (body, length) = audio_body(&hear.audio).await?;
                let file = format!("audio.{}", hear.format.format.codec.extension());
                let part = Part::stream_with_length(body, length)
                    .file_name(file)
                    .mime_str(&hear.format.format.media_type())
                    .map_err(|error| EngineError::new(Cause::Malformed, error.to_string()))?;
                form = form.part(name.clone(), part);
            }
            request.multipart(form)
        }
        Compiled::Audio => match hear {
            None => request,
            Some(hear) => {
                let (body, length) = audio_body(&hear.audio).await?;
                request.header(CONTENT_TYPE, hear.format.format.media_type()).header(CONTENT_LENGTH, length).body(body)
            }
        },
    })
}

async fn audio_body(audio: &AudioSource) -> Result<(reqwest::Body, u64), EngineError> {
    match audio {
        AudioSource::Memory(bytes) => Ok((bytes.clone().into(), bytes.len() as u64)),
        AudioSource::File(path) => {
            let failed =
                |error: std::io::Error| EngineError::new(Cause::Unavailable, format!("the spooled audio: {error}"));
            let file = tokio::fs::File::open(&***path).await.map_err(failed)?;
            let length = file.metadata().await.map_err(failed)?.len();
            Ok((file.into(), length))
        }
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
