//! A call of a sheet, compiled, and the request that it becomes.

use std::collections::BTreeMap;

use bytes::Bytes;
use dispatcher_core::{Body, CallTemplate, Cause, SheetError};
use dispatcher_vault::Redactor;
use futures::StreamExt as _;
use minijinja::value::Value;
use reqwest::header::{CONTENT_LENGTH, CONTENT_TYPE, HeaderMap, HeaderName, HeaderValue};
use reqwest::multipart::{Form, Part};
use reqwest::{Method, RequestBuilder, Response, Url};

use crate::EngineError;
use crate::access::Outgoing;
use crate::engine::{AudioSource, Hear};
use crate::template::{Place, Template, UNRESERVED};

/// An error text is read so far.
const MAX_ERROR_BODY: usize = 64 << 10;

pub(crate) type Named = Vec<(String, Template)>;

/// The text of a sheet and the name of its file.
pub(crate) type Source<'a> = (&'a str, &'a str);

/// A call, compiled.
pub(crate) struct Call {
    method: Method,
    path: Template,
    headers: Named,
    query: Named,
    body: Compiled,
}

enum Compiled {
    Empty,
    Json(Template),
    Text { template: Template, content_type: String },
    Form(Named),
    Multipart { parts: Named, audio: Option<String> },
    Audio,
}

pub(crate) fn compile_named(
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
    pub(crate) fn compile(
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
            Body::Text { text, content_type } => Compiled::Text {
                template: one(text, Place::Plain, "text")?,
                content_type: content_type.unwrap_or("text/plain; charset=utf-8").to_owned(),
            },
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

    /// The request without its access, and what is sent in it.
    pub(crate) async fn request(
        &self,
        endpoint: &str,
        context: &Value,
        hear: Option<&Hear>,
    ) -> Result<(Outgoing, Payload), EngineError> {
        let address = format!("{endpoint}{}", render(&self.path, context)?);
        let mut url =
            Url::parse(&address).map_err(|_| EngineError::new(Cause::Malformed, "the endpoint is no address"))?;
        for (name, template) in &self.query {
            url.query_pairs_mut().append_pair(name, &render(template, context)?);
        }
        let mut headers = HeaderMap::new();
        for (name, template) in &self.headers {
            let value = HeaderValue::from_str(&render(template, context)?).map_err(|_| {
                EngineError::new(Cause::Malformed, format!("the value of the header {name} is not ASCII"))
            })?;
            headers.insert(header_name(name)?, value);
        }
        let payload = payload(&self.body, context, hear).await?;
        if let Some(kind) = payload.content_type() {
            headers.entry(CONTENT_TYPE).or_insert(kind);
        }
        let body = payload.bytes();
        Ok((Outgoing { method: self.method.clone(), url, headers, body }, payload))
    }
}

/// What is sent in a request.
pub(crate) enum Payload {
    Empty,
    Bytes { kind: String, bytes: Bytes },
    Multipart(Form),
    Stream { kind: String, length: u64, body: reqwest::Body },
}

impl Payload {
    fn content_type(&self) -> Option<HeaderValue> {
        match self {
            Payload::Bytes { kind, .. } | Payload::Stream { kind, .. } => HeaderValue::from_str(kind).ok(),
            // The form tells its own, with its boundary.
            Payload::Empty | Payload::Multipart(_) => None,
        }
    }

    /// The body, where it is there as a whole.
    fn bytes(&self) -> Option<Bytes> {
        match self {
            Payload::Empty => Some(Bytes::new()),
            Payload::Bytes { bytes, .. } => Some(bytes.clone()),
            Payload::Multipart(_) | Payload::Stream { .. } => None,
        }
    }

    pub(crate) fn put(self, request: RequestBuilder) -> RequestBuilder {
        match self {
            Payload::Empty => request,
            Payload::Bytes { bytes, .. } => request.body(bytes),
            Payload::Multipart(form) => request.multipart(form),
            Payload::Stream { length, body, .. } => request.header(CONTENT_LENGTH, length).body(body),
        }
    }
}

async fn payload(body: &Compiled, context: &Value, hear: Option<&Hear>) -> Result<Payload, EngineError> {
    let written = |kind: &str, text: String| Payload::Bytes { kind: kind.to_owned(), bytes: text.into() };
    Ok(match body {
        Compiled::Empty => Payload::Empty,
        Compiled::Json(template) => written("application/json", render(template, context)?),
        Compiled::Text { template, content_type } => written(content_type, render(template, context)?),
        Compiled::Form(fields) => {
            let mut pairs = Vec::new();
            for (name, template) in fields {
                let encode = |text: &str| percent_encoding::utf8_percent_encode(text, UNRESERVED).to_string();
                pairs.push(format!("{}={}", encode(name), encode(&render(template, context)?)));
            }
            written("application/x-www-form-urlencoded", pairs.join("&"))
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
            Payload::Multipart(form)
        }
        Compiled::Audio => match hear {
            None => Payload::Empty,
            Some(Hear { audio: AudioSource::Memory(bytes), format, .. }) => {
                Payload::Bytes { kind: format.format.media_type(), bytes: bytes.clone() }
            }
            Some(hear) => {
                let (body, length) = audio_body(&hear.audio).await?;
                Payload::Stream { kind: hear.format.format.media_type(), length, body }
            }
        },
    })
}

pub(crate) fn header_name(name: &str) -> Result<HeaderName, EngineError> {
    HeaderName::from_bytes(name.as_bytes())
        .map_err(|_| EngineError::new(Cause::Malformed, format!("'{name}' is no header")))
}

pub(crate) fn render(template: &Template, context: &Value) -> Result<String, EngineError> {
    template
        .render(context)
        .map_err(|error| EngineError::new(Cause::Malformed, format!("the sheet's template failed: {error}")))
}

pub(crate) fn connection_error(error: &reqwest::Error, redactor: &Redactor) -> EngineError {
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

pub(crate) async fn read_start(response: Response) -> Vec<u8> {
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

pub(crate) async fn read_up_to(response: Response, limit: usize, redactor: &Redactor) -> Result<Vec<u8>, EngineError> {
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
