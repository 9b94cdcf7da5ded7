//! `GET /api/v1/transcripts/live`: recognition while somebody speaks, over a
//! WebSocket (RFC 6455). The messages are described in docs/asyncapi.json.

use dispatcher_gateway::{Caller, Gateway, GatewayError, LiveEvent, LiveRequest, LiveSession};
use rocket::{State, get};
use rocket_ws as ws;

use super::socket::{Close, PING, Sent, Socket, Talk, Upgrade, room_for};
use super::transcript_request::refuse_beyond_live;
use super::transcripts::{hearer, hearing_wish};
use crate::access::Allowed;
use crate::headers::Meta;
use crate::problem::Problem;
use crate::problem_kind::ProblemKind;
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
pub(crate) fn live(allowed: Allowed, meta: Meta, upgrade: Upgrade, gateway: &State<Gateway>) -> ws::Channel<'static> {
    let caller = allowed.0.clone();
    let conversation = Conversation { caller: allowed.0, gateway: gateway.inner().clone(), trace: meta.trace };
    upgrade.open(&caller, &meta.connection, conversation)
}

struct Conversation {
    caller: Caller,
    gateway: Gateway,
    trace: Option<String>,
}

impl Talk for Conversation {
    async fn talk(&mut self, socket: &mut Socket) -> Result<(), Close> {
        match socket.first(LiveOrder::read).await? {
            Some(LiveOrder::Open(opening)) => self.converse(socket, *opening).await,
            Some(_) => Err(Close::unopened()),
            None => Ok(()),
        }
    }
}

impl Conversation {
    async fn converse(&mut self, socket: &mut Socket, opening: LiveOpening) -> Result<(), Close> {
        let interim = opening.interim;
        let session = self.gateway.listen(&self.caller, request_of(opening, self.trace.take())?).await?;
        let LiveSession { dispatch, engine, audio, mut events } = session;
        socket.say(&LiveMessage::Open { dispatch: dispatch.clone(), engine }).await?;
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
                        socket.say(&LiveMessage::of(event, &dispatch)).await?;
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
                sent = socket.next(LiveOrder::read), if waiting.is_none() => match (sent?, &audio) {
                    (Sent::Audio(bytes), Some(_)) => waiting = Some(bytes),
                    (Sent::Order(LiveOrder::EndOfInput), Some(_)) => audio = None,
                    (Sent::Audio(_), None) => return Err(Close::wrong("audio was sent after end-of-input")),
                    (Sent::Order(LiveOrder::EndOfInput), None) => return Err(Close::wrong("end-of-input was sent already")),
                    (Sent::Order(LiveOrder::Open(_)), _) => return Err(Close::wrong("the session is open already")),
                    (Sent::Order(LiveOrder::Close) | Sent::Left, _) => return Ok(()),
                },
                _ = ping.tick() => if !socket.ping().await {
                    return Ok(());
                },
            }
        }
    }
}

fn request_of(opening: LiveOpening, trace: Option<String>) -> Result<LiveRequest, Problem> {
    let LiveOpening { format, request, .. } = opening;
    refuse_beyond_live(&request, "a live session")?;
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
