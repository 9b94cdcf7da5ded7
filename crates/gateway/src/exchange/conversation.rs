//! Turns one after the other over one connection: while somebody speaks, what
//! they say is recognised; when they have spoken, it is answered. A turn ends
//! with a silence, or where the caller says so (push to talk).

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

/// Seconds before speech that are heard with it.
const BEFORE: f64 = 0.5;
/// A conversation in which nothing is said ends after this.
const IDLE: Duration = Duration::from_secs(300);

/// When a turn is over.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum TurnTaking {
    /// After so many seconds of silence. The audio is raw, of one channel.
    Silence(f64),
    /// When the caller says so.
    Push,
}

/// What is asked for.
#[derive(Debug, Clone)]
pub struct ConversationRequest {
    /// How each turn is heard.
    pub ear: LiveRequest,
    pub turns: TurnTaking,
    /// Whoever speaks into a reply ends it; else they are not heard until it is over.
    pub barge_in: bool,
    /// The request that each sentence of a reply is spoken by; raw audio.
    pub voice: SynthesisRequest,
    pub reply: ReplyWish,
    pub site: Option<Site>,
}

/// What a caller sends.
#[derive(Debug, Clone)]
pub enum ConversationOrder {
    Audio(Bytes),
    /// The turn is over.
    EndOfTurn,
    /// A turn that is typed.
    Text(String),
    /// Goes to the hook with the next turn.
    Attachment(Attachment),
    /// So many seconds of the reply were heard.
    Heard(f64),
    /// Nothing more of the reply is spoken.
    Stop(Option<f64>),
}

/// What is told, in order.
#[derive(Debug, Clone)]
pub enum ConversationEvent {
    /// Of the turn that is being said.
    Ear(LiveEvent),
    /// A turn in which nothing was understood.
    NothingSaid,
    /// Of the answer.
    Exchange(ExchangeEvent),
}

/// A conversation: orders go in, events come out. It ends where either is
/// dropped, and once a turn that is over when the orders end was answered.
pub struct ConversationSession {
    /// Of the replies.
    pub format: Format,
    pub orders: mpsc::Sender<ConversationOrder>,
    pub events: mpsc::Receiver<Result<ConversationEvent, GatewayError>>,
}

impl Gateway {
    /// Begins a conversation.
    ///
    /// # Errors
    /// Where the app has no hook, nobody could speak, or the audio is not such
    /// that a silence can be found in it; before anything is called.
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

/// Finds out when somebody speaks.
struct TurnFinder {
    finder: PauseFinder,
    rate: u32,
    /// The last audio while nobody speaks.
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

    /// Keeps audio that may turn out to be the beginning of a turn.
    fn keep(&mut self, bytes: &[u8]) {
        self.before.extend_from_slice(bytes);
        let most = (BEFORE * f64::from(self.rate)) as usize * 2;
        let over = self.before.len().saturating_sub(most);
        self.before.drain(..over + over % 2);
    }
}

/// A turn whose last words are still being recognised.
struct Settling {
    ear: LiveSession,
    /// It was over then.
    since: Instant,
    language: Option<String>,
}

/// A turn that is said.
struct Hearing {
    ear: LiveSession,
    language: Option<String>,
}

/// A turn that waits for the answer before it to end.
struct SaidTurn {
    said: SaidText,
    dispatch: String,
    cost: Money,
    since: Instant,
}

/// An answer in work.
struct Answering {
    orders: mpsc::Sender<ExchangeOrder>,
    events: mpsc::Receiver<Result<ExchangeEvent, GatewayError>>,
    /// Seconds of it that were confirmed to be heard.
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
    /// Where turns end with a silence.
    finder: Option<TurnFinder>,
    hearing: Option<Hearing>,
    settling: Option<Settling>,
    said: Option<SaidTurn>,
    answering: Option<Answering>,
    attachment: Option<Attachment>,
    /// The last turn, or its answer, was over then.
    quiet_since: Instant,
}

/// Why a conversation ends before its time.
enum ConversationEnd {
    Left,
    Failed(GatewayError),
}

impl From<GatewayError> for ConversationEnd {
    fn from(error: GatewayError) -> Self {
        ConversationEnd::Failed(error)
    }
}

/// What comes next.
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
                    // One that has no room for it is told of a later one.
                    let _ = answering.orders.try_send(ExchangeOrder::Heard(position));
                }
            }
            ConversationOrder::Stop(position) => self.stop(position),
        }
        Ok(())
    }

    /// Ends the answer that sounds.
    fn stop(&mut self, position: Option<f64>) {
        let stopped = self
            .answering
            .as_ref()
            .map(|answering| answering.orders.try_send(ExchangeOrder::Stop(position.or(answering.heard))));
        if let Some(Err(mpsc::error::TrySendError::Full(_))) = stopped {
            // It takes no orders: it ends where nobody listens.
            self.answering = None;
        }
    }

    /// Takes in audio in which turns are parted by silence.
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

    /// Somebody begins to speak, unless they do already.
    async fn begin_turn(&mut self) -> Result<(), ConversationEnd> {
        if self.hearing.is_some() {
            return Ok(());
        }
        self.stop(None);
        let ear = self.gateway.listen(&self.caller, self.request.ear.clone()).await?;
        self.hearing = Some(Hearing { ear, language: None });
        Ok(())
    }

    /// Audio of the turn. What the ear tells meanwhile is told at once, so that
    /// neither waits for the other; one that has ended says why.
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

    /// The turn is over since so many seconds: its last words are waited for.
    fn end_turn(&mut self, silence: f64) {
        let Some(Hearing { ear, language }) = self.hearing.take() else { return };
        let LiveSession { dispatch, engine, events, .. } = ear;
        // Its audio ends with the sender.
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

    /// Answers the turn that was said, once the answer before it has ended.
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

/// The next event of an ear; rests where there is none.
async fn next_heard(ear: Option<&mut LiveSession>) -> Option<Result<LiveEvent, GatewayError>> {
    match ear {
        Some(ear) => ear.events.recv().await,
        None => std::future::pending().await,
    }
}

/// The next event of an answer; rests where there is none.
async fn next_answer(answering: &mut Option<Answering>) -> Option<Result<ExchangeEvent, GatewayError>> {
    match answering {
        Some(answering) => answering.events.recv().await,
        None => std::future::pending().await,
    }
}
