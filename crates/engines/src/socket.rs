//! WebSocket calls (RFC 6455): text in and audio out, audio in and text out.

mod hearing;

pub(crate) use hearing::HearingLine;
pub use hearing::LiveResult;

use std::sync::Arc;
use std::time::Duration;

use bytes::Bytes;
use dispatcher_core::{Cause, SheetError, Sign, SocketAudio, SpeakingSocket, Word};
use dispatcher_vault::Redactor;
use futures::stream::{SplitSink, SplitStream};
use futures::{SinkExt as _, StreamExt as _};
use minijinja::context;
use minijinja::value::Value;
use parking_lot::Mutex;
use reqwest::header::{
    CONNECTION, HeaderName, HeaderValue, SEC_WEBSOCKET_ACCEPT, SEC_WEBSOCKET_KEY, SEC_WEBSOCKET_PROTOCOL,
    SEC_WEBSOCKET_VERSION, UPGRADE,
};
use reqwest::{Response, StatusCode, Upgraded};
use serde_json_path::JsonPath;
use tokio_tungstenite::WebSocketStream;
use tokio_tungstenite::tungstenite::Message;
use tokio_tungstenite::tungstenite::handshake::client::generate_key;
use tokio_tungstenite::tungstenite::handshake::derive_accept_key;
use tokio_tungstenite::tungstenite::protocol::{CloseFrame, Role, WebSocketConfig};

use crate::EngineError;
use crate::engine::{AudioStream, Words};
use crate::flow::{Flow, Job, parse};
use crate::request::{Payload, SheetSource, connection_error, render};
use crate::template::{OutputPlace, Template};
use crate::transcript::WordList;
use crate::wire::{Shown, Wire};

/// Silence on an open call after which it counts as broken.
const IDLE: Duration = Duration::from_secs(60);
/// Longer messages are refused.
const MAX_MESSAGE: usize = 16 << 20;
const READ_BUFFER: usize = 8 << 10;

type OpenSocket = WebSocketStream<Upgraded>;
type Answers = SplitStream<OpenSocket>;
type Questions = SplitSink<OpenSocket, Message>;

/// A [`Sign`], compiled.
struct Seen {
    path: JsonPath,
    sign: Sign,
}

impl Seen {
    fn compile(sign: &Sign, sheet: SheetSource<'_>, key: &[&str]) -> Result<Seen, SheetError> {
        let path = JsonPath::parse(&sign.at)
            .map_err(|error| SheetError::at_key(sheet.0, sheet.1, key, format!("not a JSONPath: {error}")))?;
        Ok(Seen { path, sign: sign.clone() })
    }

    fn in_message(&self, message: &serde_json::Value) -> bool {
        let found = self.path.query(message).all();
        found.iter().any(|value| self.sign.equals.as_ref().is_none_or(|wanted| wanted.is(value)))
    }
}

fn messages(
    texts: &[String],
    probe: &Value,
    sheet: SheetSource<'_>,
    key: &[&str],
) -> Result<Vec<Template>, SheetError> {
    texts.iter().map(|text| Template::checked(text, OutputPlace::Json, probe, sheet, key)).collect()
}

/// What both directions have.
struct Common {
    protocol: Option<String>,
    open: Vec<Template>,
    ready: Option<Seen>,
    done: Option<Seen>,
}

/// An open call, and what its errors are read with.
struct SocketCall<'a> {
    wire: &'a Wire,
    redactor: Arc<Redactor>,
}

/// What a message is to the one who waits for it.
enum Heard {
    Json(serde_json::Value),
    Binary(Bytes),
    /// The engine has closed, and all was well with it.
    Closed,
}

impl SocketCall<'_> {
    fn broken(&self, what: impl std::fmt::Display) -> EngineError {
        EngineError::new(Cause::Broken, self.redactor.redact(&what.to_string()))
    }

    fn closed(&self, frame: Option<CloseFrame>) -> Result<Heard, EngineError> {
        let Some(frame) = frame else { return Ok(Heard::Closed) };
        let code = u16::from(frame.code);
        if matches!(code, 1000 | 1001 | 1005) {
            return Ok(Heard::Closed);
        }
        let cause = self.wire.errors.cause_of(code, &frame.reason).unwrap_or(Cause::Broken);
        let detail = format!("the engine closed with {code}: {}", frame.reason);
        Err(EngineError::new(cause, self.redactor.redact(&detail)))
    }

    /// The next message that says something.
    async fn next(&self, answers: &mut Answers) -> Result<Heard, EngineError> {
        loop {
            let message = match tokio::time::timeout(IDLE, answers.next()).await {
                Err(_) => return Err(EngineError::new(Cause::TimedOut, "the engine stopped sending")),
                Ok(None) => return Err(self.broken("the connection was lost")),
                Ok(Some(Err(error))) => return Err(self.broken(format!("the connection was lost: {error}"))),
                Ok(Some(Ok(message))) => message,
            };
            match message {
                Message::Text(text) => {
                    // 101 is the status with which the call was opened.
                    if let Some(cause) = self.wire.errors.named(101, &text) {
                        return Err(EngineError::new(cause, self.redactor.redact(&text)));
                    }
                    return Ok(Heard::Json(parse(text.as_bytes(), &self.redactor)?));
                }
                Message::Binary(bytes) => return Ok(Heard::Binary(bytes)),
                Message::Close(frame) => return self.closed(frame),
                Message::Ping(_) | Message::Pong(_) | Message::Frame(_) => {}
            }
        }
    }

    /// Waits for a message; audio before it is out of place.
    async fn wait_for(&self, sign: &Seen, answers: &mut Answers) -> Result<(), EngineError> {
        loop {
            match self.next(answers).await? {
                Heard::Json(message) if sign.in_message(&message) => return Ok(()),
                Heard::Json(_) => {}
                Heard::Binary(_) => {
                    return Err(self.broken("the engine sent audio before it reported that it was ready"));
                }
                Heard::Closed => return Err(self.broken("the engine closed before it was ready")),
            }
        }
    }

    async fn say(&self, questions: &mut Questions, message: Message) -> Result<(), EngineError> {
        match tokio::time::timeout(IDLE, questions.send(message)).await {
            Err(_) => Err(EngineError::new(Cause::TimedOut, "the engine accepts no more messages")),
            Ok(Err(error)) => Err(self.broken(format!("the connection was lost: {error}"))),
            Ok(Ok(())) => Ok(()),
        }
    }

    async fn say_all(
        &self,
        questions: &mut Questions,
        templates: &[Template],
        context: &Value,
    ) -> Result<(), EngineError> {
        for template in templates {
            self.say(questions, Message::text(render(template, context)?)).await?;
        }
        Ok(())
    }
}

impl Common {
    /// Opens the call, says what is said first and waits until it is ready.
    async fn open<'a>(
        &self,
        flow: &Flow,
        wire: &'a Wire,
        job: &Job<'_>,
    ) -> Result<(SocketCall<'a>, Questions, Answers, Value), EngineError> {
        let (call, context) = flow.opened(wire, job).await?;
        let context = context! { credential => wire.access.named(job.credential), ..context };
        let mut again = true;
        let (socket, redactor) = loop {
            let shown = wire.show(call, &context, job.sound, job.credential).await?;
            match self.connect(wire, shown).await? {
                Ok(open) => break open,
                Err((response, redactor)) => {
                    let refused = response.status() == StatusCode::UNAUTHORIZED;
                    if refused && std::mem::take(&mut again) && wire.access.forget(job.credential).await {
                        continue;
                    }
                    return Err(wire.failure(response, &redactor).await);
                }
            }
        };
        let (mut questions, mut answers) = socket.split();
        let line = SocketCall { wire, redactor: Arc::new(redactor) };
        line.say_all(&mut questions, &self.open, &context).await?;
        if let Some(ready) = &self.ready {
            line.wait_for(ready, &mut answers).await?;
        }
        Ok((line, questions, answers, context))
    }

    /// Opens the socket by the opening handshake (RFC 6455, section 4.1); an
    /// answer that is none is given back.
    async fn connect(
        &self,
        wire: &Wire,
        shown: Shown,
    ) -> Result<Result<(OpenSocket, Redactor), (Response, Redactor)>, EngineError> {
        let Shown { mut outgoing, redactor, identity, .. } = shown;
        let key = generate_key();
        let mut put = |name: HeaderName, value: &str| {
            if let Ok(value) = HeaderValue::from_str(value) {
                outgoing.headers.insert(name, value);
            }
        };
        put(CONNECTION, "Upgrade");
        put(UPGRADE, "websocket");
        put(SEC_WEBSOCKET_VERSION, "13");
        put(SEC_WEBSOCKET_KEY, &key);
        if let Some(protocol) = &self.protocol {
            put(SEC_WEBSOCKET_PROTOCOL, protocol);
        }
        let response = wire.dispatch(outgoing, Payload::Empty, identity.as_ref(), &redactor).await?;
        if response.status() != StatusCode::SWITCHING_PROTOCOLS {
            return Ok(Err((response, redactor)));
        }
        let accept = response.headers().get(SEC_WEBSOCKET_ACCEPT).map(HeaderValue::as_bytes);
        if accept != Some(derive_accept_key(key.as_bytes()).as_bytes()) {
            return Err(EngineError::new(Cause::Broken, "the engine's answer does not open the WebSocket"));
        }
        let upgraded = response.upgrade().await.map_err(|error| connection_error(&error, &redactor))?;
        let config = WebSocketConfig::default()
            .read_buffer_size(READ_BUFFER)
            .max_message_size(Some(MAX_MESSAGE))
            .max_frame_size(Some(MAX_MESSAGE));
        Ok(Ok((WebSocketStream::from_raw_socket(upgraded, Role::Client, Some(config)).await, redactor)))
    }
}

enum Sent {
    Binary,
    Base64(JsonPath),
}

/// `[synthesis.socket]`, compiled.
pub(crate) struct SpeakingLine {
    common: Common,
    send: Vec<Template>,
    audio: Sent,
    words: Option<WordList>,
}

impl SpeakingLine {
    pub(crate) fn compile(spec: &SpeakingSocket, probe: &Value, sheet: SheetSource<'_>) -> Result<Self, SheetError> {
        let key = ["synthesis", "socket"];
        let sign = |sign: &Option<Sign>| sign.as_ref().map(|sign| Seen::compile(sign, sheet, &key)).transpose();
        let audio = match &spec.audio {
            SocketAudio::Plain(_) => Sent::Binary,
            SocketAudio::Base64 { base64 } => Sent::Base64(JsonPath::parse(base64).map_err(|error| {
                SheetError::at_key(sheet.0, sheet.1, &key, format!("audio: not a JSONPath: {error}"))
            })?),
        };
        Ok(SpeakingLine {
            common: Common {
                protocol: spec.protocol.clone(),
                open: messages(&spec.opening, probe, sheet, &key)?,
                ready: sign(&spec.ready)?,
                done: sign(&spec.done)?,
            },
            send: messages(&spec.send, probe, sheet, &key)?,
            audio,
            words: spec.words.as_ref().map(|words| WordList::compile(words, sheet, &key)).transpose()?,
        })
    }

    pub(crate) async fn speak(
        self: Arc<Self>,
        flow: &Flow,
        wire: &Arc<Wire>,
        job: &Job<'_>,
        words: Words,
    ) -> Result<AudioStream, EngineError> {
        let (line, mut questions, answers, context) = self.common.open(flow, wire, job).await?;
        line.say_all(&mut questions, &self.send, &context).await?;
        let redactor = line.redactor;
        let state = (self, wire.clone(), redactor, questions, answers, words, false);
        Ok(Box::pin(futures::stream::try_unfold(state, |mut state| async move {
            let (this, wire, redactor, questions, answers, words, over) = &mut state;
            if *over {
                return Ok(None);
            }
            let line = SocketCall { wire, redactor: redactor.clone() };
            let (audio, last) = this.step(&line, answers, words).await?;
            if last {
                *over = true;
                // What was needed is here; the engine may be gone.
                let _ = tokio::time::timeout(Duration::from_secs(1), questions.close()).await;
            }
            Ok(Some((audio, state)))
        })))
    }

    /// The audio of the next message, and whether it was the last one.
    async fn step(
        &self,
        line: &SocketCall<'_>,
        answers: &mut Answers,
        words: &Words,
    ) -> Result<(Bytes, bool), EngineError> {
        use base64::Engine as _;
        match line.next(answers).await? {
            Heard::Binary(bytes) => match self.audio {
                Sent::Binary => Ok((bytes, false)),
                Sent::Base64(_) => Err(line.broken("a binary message, but the sheet expects audio in text messages")),
            },
            Heard::Json(message) => {
                if let Some(list) = &self.words {
                    let found = list.read(&message);
                    lock(words).extend(found);
                }
                let audio = match &self.audio {
                    Sent::Base64(path) => path.query(&message).first().and_then(|node| node.as_str()),
                    Sent::Binary => None,
                };
                let audio = audio
                    .map(|text| base64::engine::general_purpose::STANDARD.decode(text))
                    .transpose()
                    .map_err(|error| line.broken(format!("the audio is not base64: {error}")))?;
                let last = self.common.done.as_ref().is_some_and(|done| done.in_message(&message));
                Ok((audio.unwrap_or_default().into(), last))
            }
            Heard::Closed if self.common.done.is_none() => Ok((Bytes::new(), true)),
            Heard::Closed => Err(line.broken("the engine closed the connection before the end")),
        }
    }
}

fn lock(words: &Mutex<Vec<Word>>) -> parking_lot::MutexGuard<'_, Vec<Word>> {
    words.lock()
}
