//! A sequence of turns in one session: each turn is recognised while it is
//! spoken, then answered. A turn ends with a silence, or with an order of the
//! caller (push to talk).

use std::time::Duration;

use bytes::Bytes;
use dispatcher_audio::{Codec, Format};
use dispatcher_core::{Currency, Money, Site};
use tokio::sync::mpsc;
use tokio::time::Instant;

use super::turn::{AnswerWish, SaidText, Turn};
use super::{Attachment, ExchangeEvent, ExchangeOrder, ReplyWish, WAITING};
use crate::live::pauses::PauseFinder;
use crate::{Caller, Gateway, GatewayError, LiveEvent, LiveRequest, LiveSession, SynthesisRequest};

/// Seconds of audio before the detected start of speech that belong to the turn.
const BEFORE: f64 = 0.5;
/// A session without a turn ends after this time.
const IDLE: Duration = Duration::from_secs(300);

/// How the end of a turn is detected.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum TurnTaking {
    /// Seconds of silence. The audio is raw, with one channel.
    Silence(f64),
    /// By [`ConversationOrder::EndOfTurn`].
    Push,
}

/// Options of a session.
#[derive(Debug, Clone)]
pub struct ConversationRequest {
    /// Recognition of each turn.
    pub ear: LiveRequest,
    pub turns: TurnTaking,
    /// Speech during a reply ends the reply; otherwise audio is ignored until it is over.
    pub barge_in: bool,
    /// Synthesis of each sentence of a reply; raw audio.
    pub voice: SynthesisRequest,
    pub reply: ReplyWish,
    pub site: Option<Site>,
}

/// Input of a session.
#[derive(Debug, Clone)]
pub enum ConversationOrder {
    Audio(Bytes),
    /// The turn is over.
    EndOfTurn,
    /// A typed turn.
    Text(String),
    /// Sent to the hook with the next turn.
    Attachment(Attachment),
    /// Playback position in the reply, in seconds.
    Heard(f64),
    /// Ends the reply, at a playback position if it is known.
    Stop(Option<f64>),
}

/// Output of a session, in order.
#[derive(Debug, Clone)]
pub enum ConversationEvent {
    /// Recognition of the current turn.
    Ear(LiveEvent),
    /// A turn without recognised speech.
    NothingSaid,
    /// Reply to the last turn.
    Exchange(ExchangeEvent),
}

/// A session. It ends when either channel is dropped; after the last order, the
/// turn that is complete is still answered.
pub struct ConversationSession {
    /// Format of the replies.
    pub format: Format,
    pub orders: mpsc::Sender<ConversationOrder>,
    pub events: mpsc::Receiver<Result<ConversationEvent, GatewayError>>,
}

impl Gateway {
    /// Begins a session.
    ///
    /// # Errors
    /// If the app has no hook, no engine can speak, or silence cannot be detected
    /// in the format; before any engine is called.
    pub async fn converse(
        &self,
        caller: &Caller,
        request: ConversationRequest,
    ) -> Result<ConversationSession, GatewayError> {
        let (caller, hook) = self.answerer(caller, request.site, &request.voice).await?;
        let finder = match (request.turns, request.ear.told) {
            (TurnTaking::Push, _) => None,
            (TurnTaking::Silence(_), Some(Format { codec: Codec::Pcm, channels: 1, rate, .. })) => {
                Some(TurnFinder { finder: PauseFinder::new(rate), rate, before: Vec::new(), torn: None })
            }
            (TurnTaking::Silence(_), _) => return Err(GatewayError::TurnsBySilence),
        };
        let format = request.voice.format;
        let (orders, taken) = mpsc::channel(WAITING);
        let (told, events) = mpsc::channel(WAITING);
        let wish = AnswerWish { voice: request.voice.clone(), reply: request.reply.clone(), attachment: None };
        let conversation = Conversation {
            gateway: self.clone(),
            caller,
            hook,
            wish,
            request,
            told,
            finder,
            hearing: None,
            settling: None,
            said: None,
            answering: None,
            attachment: None,
            quiet_since: Instant::now(),
        };
        self.inner.running.spawn(conversation.run(taken));
        Ok(ConversationSession { format, orders, events })
    }
}

/// Detects speech in the audio of the caller.
struct TurnFinder {
    finder: PauseFinder,
    rate: u32,
    /// Audio before speech, up to [`BEFORE`].
    before: Vec<u8>,
    /// The first half of a sample.
    torn: Option<u8>,
}

impl TurnFinder {
    fn push(&mut self, bytes: &[u8]) {
        let mut samples = Vec::with_capacity(bytes.len() / 2 + 1);
        let mut rest = bytes;
        if let (Some(low), Some((high, more))) = (self.torn, rest.split_first()) {
            samples.push(i16::from_le_bytes([low, *high]));
            (self.torn, rest) = (None, more);
        }
        let (pairs, last) = rest.as_chunks::<2>();
        samples.extend(pairs.iter().map(|pair| i16::from_le_bytes(*pair)));
        self.torn = last.first().copied().or(self.torn);
        self.finder.push(&samples);
    }

    /// Keeps audio that may belong to the next turn.
    fn keep(&mut self, bytes: &[u8]) {
        self.before.extend_from_slice(bytes);
        let most = (BEFORE * f64::from(self.rate)) as usize * 2;
        let over = self.before.len().saturating_sub(most);
        self.before.drain(..over + over % 2);
    }
}

/// A complete turn whose recognition has not ended.
struct Settling {
    ear: LiveSession,
    /// End of the speech.
    since: Instant,
    language: Option<String>,
}

/// The current turn.
struct Hearing {
    ear: LiveSession,
    language: Option<String>,
}

/// A recognised turn that waits for the end of the previous reply.
struct SaidTurn {
    said: SaidText,
    dispatch: String,
    cost: Money,
    since: Instant,
}

/// A reply in progress.
struct Answering {
    orders: mpsc::Sender<ExchangeOrder>,
    events: mpsc::Receiver<Result<ExchangeEvent, GatewayError>>,
    /// Confirmed playback position, in seconds.
    heard: Option<f64>,
}

struct Conversation {
    gateway: Gateway,
    /// Its app is bound to the site of the request.
    caller: Caller,
    hook: String,
    wish: AnswerWish,
    request: ConversationRequest,
    told: mpsc::Sender<Result<ConversationEvent, GatewayError>>,
    /// `None` with push to talk.
    finder: Option<TurnFinder>,
    hearing: Option<Hearing>,
    settling: Option<Settling>,
    said: Option<SaidTurn>,
    answering: Option<Answering>,
    attachment: Option<Attachment>,
    /// End of the last turn or reply.
    quiet_since: Instant,
}

/// Why a session ends early.
enum ConversationEnd {
    Left,
    Failed(GatewayError),
}

impl From<GatewayError> for ConversationEnd {
    fn from(error: GatewayError) -> Self {
        ConversationEnd::Failed(error)
    }
}

/// Next event of the session.
enum Step {
    Ordered(Option<ConversationOrder>),
    Heard(Option<Result<LiveEvent, GatewayError>>),
    Settled(Option<Result<LiveEvent, GatewayError>>),
    Answered(Option<Result<ExchangeEvent, GatewayError>>),
}

impl Conversation {
    async fn run(mut self, mut orders: mpsc::Receiver<ConversationOrder>) {
        if let Err(ConversationEnd::Failed(error)) = self.converse(&mut orders).await {
            // A caller who has left meanwhile misses nothing.
            let _ = self.told.send(Err(error)).await;
        }
    }

    async fn converse(&mut self, orders: &mut mpsc::Receiver<ConversationOrder>) -> Result<(), ConversationEnd> {
        let mut open = true;
        loop {
            self.answer_next();
            if !open && self.settling.is_none() && self.answering.is_none() {
                return Ok(());
            }
            let told = self.told.clone();
            let quiet = self.hearing.is_none() && self.settling.is_none() && self.answering.is_none();
            if !quiet {
                self.quiet_since = Instant::now();
            }
            let step = tokio::select! {
                biased;
                () = told.closed() => return Err(ConversationEnd::Left),
                order = orders.recv(), if open && self.settling.is_none() => Step::Ordered(order),
                event = next_heard(self.hearing.as_mut().map(|hearing| &mut hearing.ear)) => Step::Heard(event),
                event = next_heard(self.settling.as_mut().map(|settling| &mut settling.ear)) => Step::Settled(event),
                event = next_answer(&mut self.answering) => Step::Answered(event),
                () = tokio::time::sleep_until(self.quiet_since + IDLE), if quiet => {
                    return Err(GatewayError::Live(format!("no speech for {} s", IDLE.as_secs())).into());
                }
            };
            match step {
                Step::Ordered(Some(order)) => self.order(order).await?,
                Step::Ordered(None) => {
                    open = false;
                    self.end_turn(0.0);
                }
                Step::Heard(event) => self.heard(event).await?,
                Step::Settled(event) => self.settled(event).await?,
                Step::Answered(event) => self.answered(event).await?,
            }
        }
    }

    async fn order(&mut self, order: ConversationOrder) -> Result<(), ConversationEnd> {
        match order {
            ConversationOrder::Audio(bytes) if self.finder.is_some() => self.listen(bytes).await?,
            ConversationOrder::Audio(bytes) => {
                self.begin_turn().await?;
                self.hear(bytes).await?;
            }
            ConversationOrder::EndOfTurn => self.end_turn(0.0),
            ConversationOrder::Text(text) => {
                self.stop(None);
                let said = SaidText { text, language: None };
                let cost = Money::zero(Currency::EUR);
                self.said = Some(SaidTurn { said, dispatch: String::new(), cost, since: Instant::now() });
            }
            ConversationOrder::Attachment(attachment) => self.attachment = Some(attachment),
            ConversationOrder::Heard(position) => {
                if let Some(answering) = &mut self.answering {
                    answering.heard = Some(position);
                    // A full channel drops this position; a later one follows.
                    let _ = answering.orders.try_send(ExchangeOrder::Heard(position));
                }
            }
            ConversationOrder::Stop(position) => self.stop(position),
        }
        Ok(())
    }

    /// Ends the current reply.
    fn stop(&mut self, position: Option<f64>) {
        let stopped = self
            .answering
            .as_ref()
            .map(|answering| answering.orders.try_send(ExchangeOrder::Stop(position.or(answering.heard))));
        if let Some(Err(mpsc::error::TrySendError::Full(_))) = stopped {
            // It is stuck; dropping its channels ends it.
            self.answering = None;
        }
    }

    /// Handles audio in which silence separates the turns.
    async fn listen(&mut self, bytes: Bytes) -> Result<(), ConversationEnd> {
        let deaf = !self.request.barge_in && self.answering.is_some();
        let Some(finder) = self.finder.as_mut().filter(|_| !deaf) else { return Ok(()) };
        finder.push(&bytes);
        let (speech, silence) = (finder.finder.is_speech(), finder.finder.silence());
        if self.hearing.is_none() {
            finder.keep(&bytes);
            if speech {
                let before = std::mem::take(&mut finder.before);
                self.begin_turn().await?;
                self.hear(before.into()).await?;
            }
            return Ok(());
        }
        self.hear(bytes).await?;
        if let TurnTaking::Silence(most) = self.request.turns
            && silence >= most
        {
            self.end_turn(silence);
        }
        Ok(())
    }

    /// Begins a turn, unless one has begun.
    async fn begin_turn(&mut self) -> Result<(), ConversationEnd> {
        if self.hearing.is_some() {
            return Ok(());
        }
        self.stop(None);
        let ear = self.gateway.listen(&self.caller, self.request.ear.clone()).await?;
        self.hearing = Some(Hearing { ear, language: None });
        Ok(())
    }

    /// Sends audio of the turn. Events of the recognition are forwarded meanwhile,
    /// so that neither side blocks the other.
    async fn hear(&mut self, bytes: Bytes) -> Result<(), ConversationEnd> {
        loop {
            let Some(hearing) = &mut self.hearing else { return Ok(()) };
            let event = tokio::select! {
                biased;
                room = hearing.ear.audio.reserve() => {
                    if let Ok(room) = room {
                        room.send(bytes);
                    }
                    return Ok(());
                }
                event = hearing.ear.events.recv() => event,
            };
            self.heard(event).await?;
        }
    }

    async fn heard(&mut self, event: Option<Result<LiveEvent, GatewayError>>) -> Result<(), ConversationEnd> {
        let event = event.unwrap_or(Err(GatewayError::Contradiction("an ear without an end")))?;
        if let (Some(hearing), Some(language)) = (&mut self.hearing, language_of(&event)) {
            hearing.language = Some(language);
        }
        self.tell(ConversationEvent::Ear(event)).await
    }

    /// Ends the turn, whose speech ended `silence` seconds ago.
    fn end_turn(&mut self, silence: f64) {
        let Some(Hearing { ear, language }) = self.hearing.take() else { return };
        let LiveSession { dispatch, engine, events, .. } = ear;
        // Dropping the sender ends its audio.
        let (closed, _) = mpsc::channel(1);
        let now = Instant::now();
        let since = now.checked_sub(Duration::from_secs_f64(silence)).unwrap_or(now);
        self.settling =
            Some(Settling { ear: LiveSession { dispatch, engine, audio: closed, events }, since, language });
    }

    async fn settled(&mut self, event: Option<Result<LiveEvent, GatewayError>>) -> Result<(), ConversationEnd> {
        let event = event.unwrap_or(Err(GatewayError::Contradiction("an ear without an end")))?;
        let LiveEvent::Ended { text, cost, .. } = event else {
            if let (Some(settling), Some(language)) = (&mut self.settling, language_of(&event)) {
                settling.language = Some(language);
            }
            return self.tell(ConversationEvent::Ear(event)).await;
        };
        let Some(Settling { ear, since, language }) = self.settling.take() else { return Ok(()) };
        if text.trim().is_empty() {
            return self.tell(ConversationEvent::NothingSaid).await;
        }
        let said = SaidText { text, language };
        self.said = Some(SaidTurn { said, dispatch: ear.dispatch, cost, since });
        Ok(())
    }

    /// Starts the reply to the recognised turn after the previous reply has ended.
    fn answer_next(&mut self) {
        if self.answering.is_some() {
            return;
        }
        let Some(SaidTurn { said, dispatch, cost, since }) = self.said.take() else { return };
        let (orders, taken) = mpsc::channel(WAITING);
        let (told, events) = mpsc::channel(WAITING);
        let wish = AnswerWish { attachment: self.attachment.take(), ..self.wish.clone() };
        let turn = Turn::new(self.gateway.clone(), self.caller.clone(), self.hook.clone(), told, since);
        self.gateway.inner.running.spawn(turn.run_heard((said, dispatch, cost), wish, taken));
        // It is spoken once.
        self.caller.app.notice = None;
        self.answering = Some(Answering { orders, events, heard: None });
    }

    async fn answered(&mut self, event: Option<Result<ExchangeEvent, GatewayError>>) -> Result<(), ConversationEnd> {
        let event = event.unwrap_or(Err(GatewayError::Contradiction("an answer without an end")));
        if !matches!(
            event,
            Ok(ExchangeEvent::Said { .. }
                | ExchangeEvent::Reply(_)
                | ExchangeEvent::Fault(_)
                | ExchangeEvent::Voice(_))
        ) {
            self.answering = None;
        }
        self.tell(ConversationEvent::Exchange(event?)).await
    }

    async fn tell(&self, event: ConversationEvent) -> Result<(), ConversationEnd> {
        self.told.send(Ok(event)).await.map_err(|_| ConversationEnd::Left)
    }
}

fn language_of(event: &LiveEvent) -> Option<String> {
    match event {
        LiveEvent::Result { transcript, .. } => transcript.language.clone(),
        _ => None,
    }
}

/// Next event of a recognition; pending if there is none.
async fn next_heard(ear: Option<&mut LiveSession>) -> Option<Result<LiveEvent, GatewayError>> {
    match ear {
        Some(ear) => ear.events.recv().await,
        None => std::future::pending().await,
    }
}

/// Next event of a reply; pending if there is none.
async fn next_answer(answering: &mut Option<Answering>) -> Option<Result<ExchangeEvent, GatewayError>> {
    match answering {
        Some(answering) => answering.events.recv().await,
        None => std::future::pending().await,
    }
}
