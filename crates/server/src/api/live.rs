//! `GET /api/v1/transcripts/live`: recognition while somebody speaks, over a
//! WebSocket (RFC 6455). The messages are described in docs/asyncapi.json.

use std::time::Duration;

use bytes::Bytes;
use dispatcher_gateway::{Caller, Gateway, GatewayError, LiveEvent, LiveRequest, LiveSession};
use futures::{SinkExt as _, StreamExt as _};
use rocket::{Shutdown, State, get};
use rocket_ws as ws;
use rocket_ws::frame::{CloseCode, CloseFrame};
use tokio::sync::mpsc;

use super::transcript_request::check;
use super::transcripts::{hearer, hearing_wish};
use crate::access::Allowed;
use crate::connections::Connections;
use crate::headers::Meta;
use crate::problem::Problem;
use crate::problem_kind::ProblemKind;
use crate::public_url::PublicUrl;
use crate::wire::{LiveMessage, LiveOpening, LiveOrder};

/// Bytes of a message, and of a frame of one.
const MOST_MESSAGE: usize = 1 << 20;
const MOST_FRAME: usize = 256 << 10;
/// A session begins with a message within this time.
const OPENS_WITHIN: Duration = Duration::from_secs(10);
/// A caller takes a message within this time.
const TAKEN_WITHIN: Duration = Duration::from_secs(20);
/// What is still on its way from a caller is read for so long after the end.
const DRAINED_WITHIN: Duration = Duration::from_secs(2);
/// So often a connection is asked for a sign of life.
const PING: Duration = Duration::from_secs(20);

/// Recognise live
///
/// A WebSocket (RFC 6455). The first message is JSON: `{"type": "open"}` with the members of
/// `TranscriptRequest`, and `format`. Audio follows in binary messages, then `{"type": "end-of-input"}`.
/// The service answers with `interim` and `final` results; a later result replaces an earlier one of the
/// same segment. All messages are described in `/api/asyncapi.json`.
#[utoipa::path(
    operation_id = "recogniseLive",
    context_path = "/api/v1", tag = "synthesis and recognition",
    responses((status = 101, description = "The connection is open")),
    security(("key" = []))
)]
#[get("/transcripts/live")]
pub(crate) fn live(
    allowed: Allowed,
    meta: Meta,
    socket: ws::WebSocket,
    gateway: &State<Gateway>,
    connections: &State<Connections>,
    url: &State<PublicUrl>,
    end: Shutdown,
) -> ws::Channel<'static> {
    let (gateway, base) = (gateway.inner().clone(), url.0.clone());
    // A connection without a request in work would be closed.
    let held = meta.connection.peer().map(|peer| connections.begin(peer));
    let config = ws::Config {
        max_message_size: Some(MOST_MESSAGE),
        max_frame_size: Some(MOST_FRAME),
        write_buffer_size: 0,
        max_write_buffer_size: MOST_MESSAGE,
        ..ws::Config::default()
    };
    socket.config(config).channel(move |stream| {
        Box::pin(async move {
            let _held = held;
            let mut conversation = Conversation { stream, base, caller: allowed.0, gateway };
            let close = tokio::select! {
                close = conversation.run(meta.trace) => close,
                () = end => Close::of(CloseCode::Restart, "the service is ending"),
            };
            conversation.close(close).await;
            Ok(())
        })
    })
}

/// Why a connection is closed.
struct Close {
    code: CloseCode,
    reason: String,
    /// What is said before.
    problem: Option<Problem>,
}

impl Close {
    fn of(code: CloseCode, reason: &str) -> Close {
        Close { code, reason: reason.to_owned(), problem: None }
    }

    /// The caller does not keep to the messages.
    fn wrong(detail: impl Into<String>) -> Close {
        let problem = Problem::new(ProblemKind::BadRequest, detail.into());
        Close { problem: Some(problem), ..Close::of(CloseCode::Policy, "not a message of this interface") }
    }
}

impl From<Problem> for Close {
    fn from(problem: Problem) -> Close {
        let code = if problem.status < 500 { CloseCode::Policy } else { CloseCode::Error };
        Close { problem: Some(problem), ..Close::of(code, "see the problem") }
    }
}

impl From<GatewayError> for Close {
    fn from(error: GatewayError) -> Close {
        Problem::from(error).into()
    }
}

/// What a caller has sent.
enum Sent {
    Order(LiveOrder),
    Audio(Vec<u8>),
    Left,
}

struct Conversation {
    stream: ws::stream::DuplexStream,
    /// What the types of problems begin with.
    base: String,
    caller: Caller,
    gateway: Gateway,
}

impl Conversation {
    async fn run(&mut self, trace: Option<String>) -> Close {
        let opening = match tokio::time::timeout(OPENS_WITHIN, self.next()).await {
            Err(_) => return Close::wrong("the first message must have the type open"),
            Ok(Err(close)) => return close,
            Ok(Ok(Sent::Left)) => return Close::of(CloseCode::Normal, ""),
            Ok(Ok(Sent::Order(LiveOrder::Open(opening)))) => opening,
            Ok(Ok(_)) => return Close::wrong("the first message must have the type open"),
        };
        match self.converse(*opening, trace).await {
            Ok(()) => Close::of(CloseCode::Normal, ""),
            Err(close) => close,
        }
    }

    async fn converse(&mut self, opening: LiveOpening, trace: Option<String>) -> Result<(), Close> {
        let interim = opening.interim;
        let session = self.gateway.listen(&self.caller, request_of(opening, trace)?).await?;
        let LiveSession { dispatch, engine, audio, mut events } = session;
        self.say(&LiveMessage::Open { dispatch: dispatch.clone(), engine }).await?;
        let mut audio = Some(audio);
        // Audio that the session has no room for yet: nothing more is read until it has.
        let mut waiting: Option<Vec<u8>> = None;
        let mut ping = tokio::time::interval(PING);
        loop {
            tokio::select! {
                event = events.recv() => match event {
                    Some(Ok(LiveEvent::Result { settled: false, .. })) if !interim => {}
                    Some(Ok(event)) => {
                        let last = matches!(event, LiveEvent::Ended { .. });
                        self.say(&LiveMessage::of(event, &dispatch)).await?;
                        if last {
                            return Ok(());
                        }
                    }
                    Some(Err(error)) => return Err(error.into()),
                    None => return Err(GatewayError::Abandoned.into()),
                },
                room = room_for(audio.clone()), if waiting.is_some() => match (room, waiting.take()) {
                    (Some(room), Some(bytes)) => drop(room.send(bytes.into())),
                    // The session ends, and says why.
                    _ => audio = None,
                },
                sent = next_of(&mut self.stream), if waiting.is_none() => match (sent?, &audio) {
                    (Sent::Audio(bytes), Some(_)) => waiting = Some(bytes),
                    (Sent::Order(LiveOrder::EndOfInput), Some(_)) => audio = None,
                    (Sent::Audio(_), None) => return Err(Close::wrong("audio was sent after end-of-input")),
                    (Sent::Order(LiveOrder::EndOfInput), None) => return Err(Close::wrong("end-of-input was sent already")),
                    (Sent::Order(LiveOrder::Open(_)), _) => return Err(Close::wrong("the session is open already")),
                    (Sent::Order(LiveOrder::Close) | Sent::Left, _) => return Ok(()),
                },
                _ = ping.tick() => {
                    let sent = self.stream.send(ws::Message::Ping(Vec::new()));
                    if !matches!(tokio::time::timeout(TAKEN_WITHIN, sent).await, Ok(Ok(()))) {
                        return Ok(());
                    }
                }
            }
        }
    }

    async fn next(&mut self) -> Result<Sent, Close> {
        next_of(&mut self.stream).await
    }

    async fn say(&mut self, message: &LiveMessage) -> Result<(), Close> {
        let text = serde_json::to_string(message).unwrap_or_default();
        match tokio::time::timeout(TAKEN_WITHIN, self.stream.send(ws::Message::Text(text))).await {
            Ok(Ok(())) => Ok(()),
            _ => Err(Close::of(CloseCode::Normal, "")),
        }
    }

    /// Says why, and closes. A caller who has left misses nothing.
    async fn close(&mut self, close: Close) {
        let Close { code, reason, problem } = close;
        if let Some(problem) = problem {
            let problem = if self.caller.operator { problem.for_operator() } else { problem };
            let kind = format!("{}/problems/{}", self.base, problem.kind);
            let message = LiveMessage::Problem { problem: Box::new(Problem { kind, ..problem }) };
            let _ = self.say(&message).await;
        }
        let frame = CloseFrame { code, reason: reason.into() };
        let _ = tokio::time::timeout(TAKEN_WITHIN, self.stream.close(Some(frame))).await;
        // Audio that is still on its way would make the connection break, and
        // take what was said just now with it.
        let rest = async { while let Some(Ok(_)) = self.stream.next().await {} };
        let _ = tokio::time::timeout(DRAINED_WITHIN, rest).await;
    }
}

/// Room for one piece of audio; nothing once no more is taken.
async fn room_for(audio: Option<mpsc::Sender<Bytes>>) -> Option<mpsc::OwnedPermit<Bytes>> {
    audio?.reserve_owned().await.ok()
}

/// The next message that says something.
async fn next_of(stream: &mut ws::stream::DuplexStream) -> Result<Sent, Close> {
    loop {
        match stream.next().await {
            None | Some(Ok(ws::Message::Close(_))) => return Ok(Sent::Left),
            Some(Ok(ws::Message::Binary(bytes))) => return Ok(Sent::Audio(bytes)),
            Some(Ok(ws::Message::Text(text))) => {
                return LiveOrder::read(&text).map(Sent::Order).map_err(Close::wrong);
            }
            Some(Ok(ws::Message::Ping(_) | ws::Message::Pong(_) | ws::Message::Frame(_))) => {}
            Some(Err(ws::result::Error::Capacity(error))) => {
                let problem =
                    Problem::new(ProblemKind::TooLarge, format!("a message has at most {MOST_MESSAGE} bytes: {error}"));
                return Err(Close { problem: Some(problem), ..Close::of(CloseCode::Size, "the message is too large") });
            }
            Some(Err(ws::result::Error::Protocol(_) | ws::result::Error::Utf8)) => {
                return Err(Close::of(CloseCode::Protocol, "not as RFC 6455 says"));
            }
            Some(Err(_)) => return Ok(Sent::Left),
        }
    }
}

fn request_of(opening: LiveOpening, trace: Option<String>) -> Result<LiveRequest, Problem> {
    let LiveOpening { format, request, .. } = opening;
    check(&request)?;
    for (name, given) in [
        ("audio", request.audio.is_some()),
        ("languages", !request.languages.is_empty()),
        ("speakers", request.speakers),
        ("alternatives", request.alternatives.is_some()),
        ("title", request.title.is_some()),
        ("webhook", request.webhook.is_some()),
        ("deadline", request.deadline.is_some()),
        ("unsupported", request.unsupported.is_some()),
    ] {
        if given {
            let detail = format!("{name} is not available in a live session");
            return Err(Problem::at(ProblemKind::Invalid, &format!("/{name}"), detail));
        }
    }
    let told = match format.as_deref() {
        None => None,
        Some(format) => {
            let read = dispatcher_audio::Format::parse(format);
            Some(read.map_err(|error| Problem::at(ProblemKind::Invalid, "/format", error.to_string()))?)
        }
    };
    Ok(LiveRequest {
        hearer: hearer(&request)?,
        told,
        credential: request.credential.clone(),
        wish: hearing_wish(request.hints, request.context, request.variation, false, None),
        trace,
    })
}
