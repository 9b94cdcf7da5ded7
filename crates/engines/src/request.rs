//! A call of a sheet, compiled, and the request that it becomes.

use bytes::Bytes;
use dispatcher_core::{Body, Cause, Request, SheetError, Templates};
use dispatcher_vault::Redactor;
use futures::StreamExt as _;
use minijinja::value::Value;
use reqwest::header::{CONTENT_LENGTH, CONTENT_TYPE, HeaderMap, HeaderName, HeaderValue};
use reqwest::multipart::{Form, Part};
use reqwest::{Method, RequestBuilder, Response, Url};

use crate::EngineError;
use crate::access::Outgoing;
use crate::sound::RequestAudio;
use crate::template::{OutputPlace, Template, UNRESERVED};

/// So much of a body is shown.
const MAX_PREVIEW: usize = 600;
/// An error text is read so far.
const MAX_ERROR_BODY: usize = 64 << 10;

pub(crate) type Named = Vec<(String, Template)>;

/// The text of a sheet and the name of its file.
pub(crate) type SheetSource<'a> = (&'a str, &'a str);

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
    templates: &Templates,
    probe: &Value,
    sheet: SheetSource<'_>,
    key: &[&str],
) -> Result<Named, SheetError> {
    let compile = |(name, template): (&String, &String)| {
        let path: Vec<&str> = key.iter().copied().chain([name.as_str()]).collect();
        Ok((name.clone(), Template::checked(template, OutputPlace::Plain, probe, sheet, &path)?))
    };
    templates.iter().map(compile).collect()
}

impl Call {
    /// Compiles a request of the sheet; `key` is the path to its table.
    pub(crate) fn compile(
        request: &dyn Request,
        probe: &Value,
        sheet: SheetSource<'_>,
        key: &[&str],
    ) -> Result<Call, SheetError> {
        let template = request.call_template();
        let (method, path) = template.call.split_once(' ').unwrap_or(("POST", template.call));
        let method = Method::from_bytes(method.as_bytes()).unwrap_or(Method::POST);
        let under = |last| key.iter().copied().chain([last]).collect::<Vec<&str>>();
        let named = |templates, last| compile_named(templates, probe, sheet, &under(last));
        let one = |source, place, last| Template::checked(source, place, probe, sheet, &under(last));
        let body = match &template.body {
            Body::Empty => Compiled::Empty,
            Body::Json(json) => Compiled::Json(one(json, OutputPlace::Json, "json")?),
            Body::Text { text, content_type } => Compiled::Text {
                template: one(text, OutputPlace::Plain, "text")?,
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
            path: one(path.trim(), OutputPlace::Path, "call")?,
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
        sound: Option<&RequestAudio>,
    ) -> Result<(Outgoing, Payload), EngineError> {
        let path = render(&self.path, context)?;
        // An engine may give whole addresses; whether they are allowed is
        // looked at where they are called.
        let whole = path.starts_with("http://") || path.starts_with("https://");
        let address = if whole { path } else { format!("{endpoint}{path}") };
        let mut url =
            Url::parse(&address).map_err(|_| EngineError::new(Cause::Malformed, "the endpoint is not a URL"))?;
        for (name, template) in &self.query {
            let value = render(template, context)?;
            if !value.is_empty() {
                url.query_pairs_mut().append_pair(name, &value);
            }
        }
        let mut headers = HeaderMap::new();
        for (name, template) in &self.headers {
            let value = render(template, context)?;
            if value.is_empty() {
                continue;
            }
            let value = HeaderValue::from_str(&value).map_err(|_| {
                EngineError::new(Cause::Malformed, format!("the value of the header {name} is not ASCII"))
            })?;
            headers.append(header_name(name)?, value);
        }
        let payload = payload(&self.body, context, sound).await?;
        if let Some(kind) = payload.content_type() {
            headers.entry(CONTENT_TYPE).or_insert(kind);
        }
        let body = payload.bytes();
        Ok((Outgoing { method: self.method.clone(), url, headers, body }, payload))
    }
}

impl Call {
    /// The request as text; dots replace what cannot be rendered.
    pub(crate) fn preview(&self, context: &Value) -> String {
        let shown = |template: &Template| template.render(context).unwrap_or_else(|_| "…".into());
        let mut text = format!("{} {}", self.method, shown(&self.path));
        let query: Vec<String> = self.query.iter().map(|(name, it)| format!("{name}={}", shown(it))).collect();
        if !query.is_empty() {
            text.push_str(&format!("?{}", query.join("&")));
        }
        for (name, template) in &self.headers {
            text.push_str(&format!("\n{name}: {}", shown(template)));
        }
        let body = self.document(context);
        let body: String = body.chars().take(MAX_PREVIEW).collect();
        if body.is_empty() { text } else { format!("{text}\n\n{body}") }
    }

    /// The body as text.
    pub(crate) fn document(&self, context: &Value) -> String {
        let shown = |template: &Template| template.render(context).unwrap_or_else(|_| "…".into());
        match &self.body {
            Compiled::Json(template) | Compiled::Text { template, .. } => shown(template),
            Compiled::Form(fields) | Compiled::Multipart { parts: fields, .. } => {
                fields.iter().map(|(name, it)| format!("{name}: {}", shown(it))).collect::<Vec<_>>().join("\n")
            }
            Compiled::Empty | Compiled::Audio => String::new(),
        }
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
            // The form has its own, with its boundary.
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

async fn payload(body: &Compiled, context: &Value, sound: Option<&RequestAudio>) -> Result<Payload, EngineError> {
    let written = |kind: &str, text: String| Payload::Bytes { kind: kind.to_owned(), bytes: text.into() };
    Ok(match body {
        Compiled::Empty => Payload::Empty,
        Compiled::Json(template) => {
            let json = render(template, context)?;
            match sound {
                Some(sound) => sound.spliced("application/json", json).await?,
                None => written("application/json", json),
            }
        }
        Compiled::Text { template, content_type } => written(content_type, render(template, context)?),
        Compiled::Form(fields) => {
            let mut pairs = Vec::new();
            for (name, template) in fields {
                let encode = |text: &str| percent_encoding::utf8_percent_encode(text, UNRESERVED).to_string();
                let value = render(template, context)?;
                if !value.is_empty() {
                    pairs.push(format!("{}={}", encode(name), encode(&value)));
                }
            }
            written("application/x-www-form-urlencoded", pairs.join("&"))
        }
        Compiled::Multipart { parts, audio } => {
            let mut form = Form::new();
            let mut placed = false;
            for (name, template) in parts {
                // The part with the audio's own name keeps its position.
                form = match (audio.as_ref() == Some(name), sound) {
                    (true, Some(sound)) => {
                        placed = true;
                        form.part(name.clone(), audio_part(sound).await?)
                    }
                    _ => form.text(name.clone(), render(template, context)?),
                };
            }
            if let (Some(name), Some(sound), false) = (audio, sound, placed) {
                form = form.part(name.clone(), audio_part(sound).await?);
            }
            Payload::Multipart(form)
        }
        Compiled::Audio => match sound {
            None => Payload::Empty,
            Some(sound) => sound.payload().await?,
        },
    })
}

async fn audio_part(sound: &RequestAudio) -> Result<Part, EngineError> {
    let (body, length) = sound.body().await?;
    let format = sound.format.format;
    Part::stream_with_length(body, length)
        .file_name(format!("audio.{}", format.codec.extension()))
        .mime_str(&format.media_type())
        .map_err(|error| EngineError::new(Cause::Malformed, error.to_string()))
}

pub(crate) fn header_name(name: &str) -> Result<HeaderName, EngineError> {
    HeaderName::from_bytes(name.as_bytes())
        .map_err(|_| EngineError::new(Cause::Malformed, format!("'{name}' is not a header name")))
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
        Cause::TimedOut => "no answer before the deadline",
        Cause::Broken => "the answer was cut off",
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
            return Err(EngineError::new(Cause::Broken, format!("the answer has more than {limit} bytes")));
        }
        body.extend_from_slice(&chunk);
    }
    Ok(body)
}
