//! `GET /api/v1/utterances/live`: text that is spoken while it is written, over
//! a WebSocket (RFC 6455). The messages are described in docs/asyncapi.json.

use dispatcher_audio::{Codec, Format};
use dispatcher_gateway::{Caller, Gateway, GatewayError, NarrationEvent, NarrationOrder, NarrationSession};
use rocket::{State, get};
use rocket_ws as ws;

use super::socket::{Close, PING, Sent, Socket, Talk, Upgrade, room_for};
use super::speech_request::{self, Formats};
use crate::access::Allowed;
use crate::headers::Meta;
use crate::problem::Problem;
use crate::problem_kind::ProblemKind;
use crate::wire::{NarrationAnswer, NarrationMessage, UtteranceRequest};

/// The audio, where a caller names none.
const RATE: u32 = 24_000;

/// Speak text while it is written
///
/// A WebSocket (RFC 6455). The first message is JSON: `{"type": "open"}` with the members of
/// `UtteranceRequest`, without a text. Fragments of the text follow: `{"type": "text", "text": "…"}`,
/// then `{"type": "end-of-text"}`. Each sentence is spoken as soon as it is complete; its audio comes
/// in binary messages, as raw samples. `{"type": "stop"}` ends the speech at once, and the answer says
/// how much of the text was heard. All messages are described in `/api/asyncapi.json`.
#[utoipa::path(
    operation_id = "speakLive",
    context_path = "/api/v1", tag = "synthesis and recognition",
    responses((status = 101, description = "The connection is open")),
    security(("key" = []))
)]
#[get("/utterances/live")]
pub(crate) fn narrate(
    allowed: Allowed,
    meta: Meta,
    upgrade: Upgrade,
    gateway: &State<Gateway>,
) -> ws::Channel<'static> {
    let (caller, connection) = (allowed.0.clone(), meta.connection);
    upgrade.open(&caller, &connection, Narrator { caller: allowed.0, gateway: gateway.inner().clone(), meta })
}

struct Narrator {
    caller: Caller,
    gateway: Gateway,
    meta: Meta,
}

impl Talk for Narrator {
    async fn talk(&mut self, socket: &mut Socket) -> Result<(), Close> {
        match socket.first(NarrationMessage::read).await? {
            Some(NarrationMessage::Open(opening)) => self.narrate(socket, *opening).await,
            Some(_) => Err(Close::unopened()),
            None => Ok(()),
        }
    }
}

impl Narrator {
    async fn narrate(&mut self, socket: &mut Socket, opening: UtteranceRequest) -> Result<(), Close> {
        let formats = Formats::of(&self.gateway, &self.caller).with_default(Format::new(Codec::Pcm, RATE));
        let request = speech_request::of_opening(opening, &self.meta, &formats)?;
        let session = self.gateway.narrate(&self.caller, request).await?;
        let NarrationSession { format, orders, mut events } = session;
        socket.say(&NarrationAnswer::Open { audio: format.media_type() }).await?;
        let mut ended = false;
        // An order that the session has no room for yet.
        let mut waiting: Option<NarrationOrder> = None;
        let mut ping = tokio::time::interval(PING);
        loop {
            tokio::select! {
                // A stop of the caller takes precedence over further events.
                biased;
                room = room_for(Some(orders.clone())), if waiting.is_some() => {
                    // A session that has ended says why.
                    if let Some((room, order)) = room.zip(waiting.take()) {
                        drop(room.send(order));
                    }
                }
                sent = socket.next(NarrationMessage::read), if waiting.is_none() => match sent? {
                    Sent::Order(NarrationMessage::Order(order)) => {
                        if ended && matches!(order, NarrationOrder::Text(_) | NarrationOrder::SpeakNow | NarrationOrder::End) {
                            return Err(Close::wrong("text was sent after end-of-text"));
                        }
                        ended |= order == NarrationOrder::End;
                        waiting = Some(order);
                    }
                    Sent::Order(NarrationMessage::Open(_)) => return Err(Close::wrong("the session is open already")),
                    Sent::Audio(_) => return Err(Close::wrong("a binary message is not expected")),
                    Sent::Order(NarrationMessage::Close) | Sent::Left => return Ok(()),
                },
                event = events.recv() => match event {
                    Some(Ok(event)) => {
                        let last = matches!(event, NarrationEvent::Ended { .. });
                        match NarrationAnswer::of(event) {
                            Ok(answer) => socket.say(&answer).await?,
                            Err(audio) => socket.send(ws::Message::Binary(audio.into())).await?,
                        }
                        if last {
                            return Ok(());
                        }
                    }
                    Some(Err(error)) => return Err(error.into()),
                    None => return Err(GatewayError::Abandoned.into()),
                },
                _ = ping.tick() => if !socket.ping().await {
                    return Ok(());
                },
            }
        }
    }
}

/// Refuses members that have no meaning where the text is still to come.
pub(super) fn check_opening(opening: &UtteranceRequest) -> Result<(), Problem> {
    let whole = opening.audio.as_ref().is_some_and(|audio| audio.whole);
    for (name, given) in [
        ("text", opening.text.is_some()),
        ("ssml", opening.ssml.is_some()),
        ("lines", opening.lines.is_some()),
        ("webhook", opening.webhook.is_some()),
        ("deliver", opening.deliver.is_some()),
        ("expires_in", opening.expires_in.is_some()),
        ("audio/whole", whole),
    ] {
        if given {
            let detail = format!("{name} is not available in a live session");
            return Err(Problem::at(ProblemKind::Invalid, &format!("/{name}"), detail));
        }
    }
    Ok(())
}
