//! `GET /api/v1/exchanges/live`: spoken exchanges turn by turn, over a
//! WebSocket (RFC 6455). The messages are described in docs/asyncapi.json.

use dispatcher_audio::{Codec, Format};
use dispatcher_gateway::{
    Caller, ConversationOrder, ConversationRequest, ConversationSession, Gateway, LiveRequest, TurnTaking,
};
use rocket::{State, get};
use rocket_ws as ws;

use super::exchange_request::{attachment_of, reply_of};
use super::socket::{Close, PING, Sent, Socket, Talk, Upgrade, room_for};
use super::speech_parameters;
use super::speech_request::{self, Formats};
use super::transcript_request::refuse_beyond_live;
use super::transcripts::{hearer, hearing_wish};
use crate::access::Allowed;
use crate::headers::Meta;
use crate::problem::Problem;
use crate::problem_kind::ProblemKind;
use crate::wire::{AttachmentWish, ConversationAnswer, ConversationMessage, ConversationNote, ConversationOpening};

/// Hertz of the replies, where a caller names no format.
const REPLY_RATE: u32 = 24_000;
/// Hertz of the caller's audio, where its format is not named.
const EAR_RATE: u32 = 16_000;
/// Seconds of silence that end a turn.
const SILENCE: f64 = 0.8;

/// Run a live exchange
///
/// A WebSocket (RFC 6455). The first message is JSON: `{"type": "open"}` with the members of
/// `ExchangeWish` without audio, text and attachment, and with `turns` (`silence` or `push`),
/// `silence`, `barge_in`, `interim` and `format`. Audio of the caller follows in binary messages; a turn ends with a
/// silence, or with `{"type": "end-of-turn"}`. The reply comes as text and as raw samples in binary
/// messages. All messages are described in `/api/asyncapi.json`.
#[utoipa::path(
    operation_id = "exchangeLive",
    context_path = "/api/v1", tag = "exchanges",
    responses((status = 101, description = "The connection is open")),
    security(("key" = []))
)]
#[get("/exchanges/live")]
pub(crate) fn converse(
    allowed: Allowed,
    meta: Meta,
    upgrade: Upgrade,
    gateway: &State<Gateway>,
) -> ws::Channel<'static> {
    let (caller, connection) = (allowed.0.clone(), meta.connection);
    upgrade.open(&caller, &connection, Partner { caller: allowed.0, gateway: gateway.inner().clone(), meta })
}

struct Partner {
    caller: Caller,
    gateway: Gateway,
    meta: Meta,
}

impl Talk for Partner {
    async fn talk(&mut self, socket: &mut Socket) -> Result<(), Close> {
        match socket.first(ConversationMessage::read).await? {
            Some(ConversationMessage::Open(opening)) => self.converse(socket, *opening).await,
            Some(_) => Err(Close::unopened()),
            None => Ok(()),
        }
    }
}

impl Partner {
    async fn converse(&mut self, socket: &mut Socket, opening: ConversationOpening) -> Result<(), Close> {
        let interim = opening.interim.unwrap_or(true);
        let request = self.request_of(opening)?;
        let ConversationSession { format, orders, mut events } = self.gateway.converse(&self.caller, request).await?;
        let open = ConversationNote::Open { audio: format.media_type() };
        socket.say(&ConversationAnswer::Note(open)).await?;
        let mut orders = Some(orders);
        // An order that the session has no room for yet: nothing more is read until it has.
        let mut waiting: Option<ConversationOrder> = None;
        let mut ping = tokio::time::interval(PING);
        loop {
            tokio::select! {
                // A stop of the caller takes precedence over further events.
                biased;
                room = room_for(orders.clone()), if waiting.is_some() => match (room, waiting.take()) {
                    (Some(room), Some(order)) => drop(room.send(order)),
                    // A session that has ended says why.
                    _ => orders = None,
                },
                sent = socket.next(ConversationMessage::read), if waiting.is_none() => match (sent?, &orders) {
                    (Sent::Audio(_), None) | (Sent::Order(ConversationMessage::EndOfInput), None) => {
                        return Err(Close::wrong("end-of-input was sent already"));
                    }
                    (Sent::Audio(bytes), Some(_)) => waiting = Some(ConversationOrder::Audio(bytes.into())),
                    (Sent::Order(ConversationMessage::EndOfInput), Some(_)) => orders = None,
                    (Sent::Order(ConversationMessage::Open(_)), _) => {
                        return Err(Close::wrong("the session is open already"));
                    }
                    (Sent::Order(ConversationMessage::Close) | Sent::Left, _) => return Ok(()),
                    (Sent::Order(message), _) => waiting = order_of(message)?,
                },
                event = events.recv() => match event {
                    Some(Ok(event)) => match ConversationAnswer::of(event) {
                        Ok(ConversationAnswer::Ear(message)) if message.is_interim() && !interim => {}
                        Ok(answer) => socket.say(&answer).await?,
                        Err(audio) => socket.send(ws::Message::Binary(audio.into())).await?,
                    },
                    Some(Err(error)) => return Err(error.into()),
                    None => return Ok(()),
                },
                _ = ping.tick() => if !socket.ping().await {
                    return Ok(());
                },
            }
        }
    }

    fn request_of(&self, opening: ConversationOpening) -> Result<ConversationRequest, Problem> {
        let ConversationOpening { format, turns, silence, barge_in, ear, reply, voice, site, .. } = opening;
        refuse_beyond_live(&ear, "an exchange").map_err(|problem| problem.under("/ear"))?;
        let turns = match (turns.as_deref(), silence) {
            (None | Some("silence"), silence) => {
                let silence = silence.unwrap_or(SILENCE);
                if !(0.3..=3.0).contains(&silence) {
                    return Err(Problem::at(ProblemKind::Invalid, "/silence", "silence is 0.3 to 3 seconds"));
                }
                TurnTaking::Silence(silence)
            }
            (Some("push"), None) => TurnTaking::Push,
            (Some("push"), Some(_)) => {
                return Err(Problem::at(ProblemKind::Invalid, "/silence", "turns by push end with end-of-turn"));
            }
            (Some(other), _) => {
                let detail = format!("turns is silence or push, not '{other}'");
                return Err(Problem::at(ProblemKind::Invalid, "/turns", detail));
            }
        };
        let told = match (format.as_deref(), turns) {
            (Some(format), _) => {
                let read = Format::parse(format);
                Some(read.map_err(|error| Problem::at(ProblemKind::Invalid, "/format", error.to_string()))?)
            }
            (None, TurnTaking::Silence(_)) => Some(Format::new(Codec::Pcm, EAR_RATE)),
            (None, TurnTaking::Push) => None,
        };
        let formats = Formats::of(&self.gateway, &self.caller).with_default(Format::new(Codec::Pcm, REPLY_RATE));
        let voice = speech_request::of_opening(voice, &self.meta, &formats);
        Ok(ConversationRequest {
            ear: LiveRequest {
                hearer: hearer(&ear).map_err(|problem| problem.under("/ear"))?,
                told,
                credential: ear.credential.clone(),
                wish: hearing_wish(ear.hints, ear.context, ear.variation, false, None),
                trace: self.meta.trace.clone(),
            },
            turns,
            barge_in: barge_in.unwrap_or(true),
            voice: voice.map_err(|problem| problem.under("/voice"))?,
            reply: reply_of(reply)?,
            site: site.as_deref().map(speech_parameters::site).transpose()?,
        })
    }
}

/// Characters of a turn that is typed.
const MOST_TEXT: usize = 4_000;

fn order_of(message: ConversationMessage) -> Result<Option<ConversationOrder>, Problem> {
    Ok(Some(match message {
        ConversationMessage::EndOfTurn => ConversationOrder::EndOfTurn,
        ConversationMessage::Text { text } if text.chars().count() > MOST_TEXT => {
            return Err(Problem::at(ProblemKind::Invalid, "/text", format!("text has at most {MOST_TEXT} characters")));
        }
        ConversationMessage::Text { text } => ConversationOrder::Text(text),
        ConversationMessage::Attachment { kind, base64 } => {
            ConversationOrder::Attachment(attachment_of(AttachmentWish { kind, base64 })?)
        }
        ConversationMessage::Heard { position } => ConversationOrder::Heard(position),
        ConversationMessage::Stop { position } => ConversationOrder::Stop(position),
        ConversationMessage::Open(_) | ConversationMessage::EndOfInput | ConversationMessage::Close => return Ok(None),
    }))
}
