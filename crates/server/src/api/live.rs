//! `GET /api/v1/transcripts/live`: recognition while somebody speaks, over a
//! WebSocket (RFC 6455). The messages are described in docs/asyncapi.json.

use dispatcher_gateway::{Caller, Gateway, GatewayError, LiveEvent, LiveRequest, LiveSession};
use rocket::{Shutdown, State, get};
use rocket_ws as ws;

use super::socket::{self, Close, PING, Sent, Socket, room_for};
use super::transcript_request::check;
use super::transcripts::{hearer, hearing_wish};
use crate::access::Allowed;
use crate::connections::Connections;
use crate::headers::Meta;
use crate::problem::Problem;
use crate::problem_kind::ProblemKind;
use crate::public_url::PublicUrl;
use crate::wire::{LiveMessage, LiveOpening, LiveOrder};

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
    socket.config(socket::config()).channel(move |stream| {
        Box::pin(async move {
            let _held = held;
            let socket = Socket { stream, base, operator: allowed.0.operator };
            let mut conversation = Conversation { socket, caller: allowed.0, gateway };
            let close = tokio::select! {
                close = conversation.run(meta.trace) => close,
                () = end => Close::restart(),
            };
            conversation.socket.close(close).await;
            Ok(())
        })
    })
}

struct Conversation {
    socket: Socket,
    caller: Caller,
    gateway: Gateway,
}

impl Conversation {
    async fn run(&mut self, trace: Option<String>) -> Close {
        let opening = match self.socket.first(LiveOrder::read).await {
            Ok(Some(LiveOrder::Open(opening))) => opening,
            Ok(Some(_)) => return Close::wrong("the first message must have the type open"),
            Ok(None) => return Close::normal(),
            Err(close) => return close,
        };
        match self.converse(*opening, trace).await {
            Ok(()) => Close::normal(),
            Err(close) => close,
        }
    }

    async fn converse(&mut self, opening: LiveOpening, trace: Option<String>) -> Result<(), Close> {
        let interim = opening.interim;
        let session = self.gateway.listen(&self.caller, request_of(opening, trace)?).await?;
        let LiveSession { dispatch, engine, audio, mut events } = session;
        self.socket.say(&LiveMessage::Open { dispatch: dispatch.clone(), engine }).await?;
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
                        self.socket.say(&LiveMessage::of(event, &dispatch)).await?;
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
                sent = self.socket.next(LiveOrder::read), if waiting.is_none() => match (sent?, &audio) {
                    (Sent::Audio(bytes), Some(_)) => waiting = Some(bytes),
                    (Sent::Order(LiveOrder::EndOfInput), Some(_)) => audio = None,
                    (Sent::Audio(_), None) => return Err(Close::wrong("audio was sent after end-of-input")),
                    (Sent::Order(LiveOrder::EndOfInput), None) => return Err(Close::wrong("end-of-input was sent already")),
                    (Sent::Order(LiveOrder::Open(_)), _) => return Err(Close::wrong("the session is open already")),
                    (Sent::Order(LiveOrder::Close) | Sent::Left, _) => return Ok(()),
                },
                _ = ping.tick() => if !self.socket.ping().await {
                    return Ok(());
                },
            }
        }
    }
}

fn request_of(opening: LiveOpening, trace: Option<String>) -> Result<LiveRequest, Problem> {
    let LiveOpening { format, request, .. } = opening;
    check(&request)?;
    for (name, given) in [
        ("audio", request.audio.is_some()),
        ("url", request.url.is_some()),
        ("languages", !request.languages.is_empty()),
        ("speakers", request.speakers),
        ("channels", request.channels),
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
