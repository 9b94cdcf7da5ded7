//! One turn: recognition, request to the hook, and synthesis of the reply.

use std::collections::VecDeque;

use dispatcher_core::{Costs, Money};
use dispatcher_store::{ExchangeState, StoredExchange};
use dispatcher_vault::random_token;
use tokio::sync::mpsc;
use tokio::time::Instant;

use super::hook::{HookAnswer, Question};
use super::{APOLOGY, Attachment, ExchangeEnd, ExchangeEvent, ExchangeOrder, ExchangeRequest, ReplyWish, Said};
use crate::{
    Caller, Gateway, GatewayError, NarrationEvent, NarrationOrder, NarrationSession, RecognitionRequest,
    SynthesisRequest, now_micros,
};

/// A turn in progress.
pub(super) struct Turn {
    pub(super) gateway: Gateway,
    /// Its app is bound to the site of the request.
    pub(super) caller: Caller,
    /// URL of the hook.
    pub(super) hook: String,
    pub(super) told: mpsc::Sender<Result<ExchangeEvent, GatewayError>>,
    pub(super) record: StoredExchange,
    /// End of what was said; the times of all stages count from here.
    pub(super) since: Instant,
    pub(super) costs: Costs,
}

/// Why a turn ends early.
enum TurnEnd {
    Left,
    Failed(GatewayError),
}

impl From<GatewayError> for TurnEnd {
    fn from(error: GatewayError) -> Self {
        TurnEnd::Failed(error)
    }
}

/// Recognised or typed text.
pub(super) struct SaidText {
    pub(super) text: String,
    pub(super) language: Option<String>,
}

/// Options of the reply.
#[derive(Clone)]
pub(super) struct AnswerWish {
    pub(super) voice: SynthesisRequest,
    pub(super) reply: ReplyWish,
    pub(super) attachment: Option<Attachment>,
}

/// Next event of a turn.
enum Step {
    Ordered(Option<ExchangeOrder>),
    Voice(Option<Result<NarrationEvent, GatewayError>>),
    Hook(Option<Result<String, super::hook::HookFault>>),
    Sent,
}

/// State of a reply.
struct Answer {
    hook: Option<HookAnswer>,
    voice: NarrationSession,
    /// Orders that the narration has no room for yet.
    waiting: VecDeque<NarrationOrder>,
    state: ExchangeState,
}

impl Turn {
    pub(super) fn new(
        gateway: Gateway,
        caller: Caller,
        hook: String,
        told: mpsc::Sender<Result<ExchangeEvent, GatewayError>>,
        since: Instant,
    ) -> Turn {
        let record = StoredExchange {
            id: format!("{:016x}{}", now_micros(), &random_token(&mut rand::rng())[..16]),
            app: caller.app.name.clone(),
            who: caller.who.clone(),
            end_user: caller.end_user(),
            state: ExchangeState::Abandoned,
            fault: None,
            begun_at: now_micros(),
            ear_dispatch: None,
            ear_ms: None,
            said_characters: 0,
            reply_first_ms: None,
            reply_ms: None,
            reply_characters: 0,
            voice_first_ms: None,
            voice_ms: None,
            audio_ms: 0,
            voice_dispatches: String::new(),
        };
        Turn { gateway, caller, hook, told, record, since, costs: Costs::default() }
    }

    /// Answers what a live recognition heard; its cost is part of the turn.
    pub(super) async fn run_heard(
        mut self,
        (said, dispatch, cost): (SaidText, String, Money),
        wish: AnswerWish,
        mut orders: mpsc::Receiver<ExchangeOrder>,
    ) {
        self.record.ear_dispatch = Some(dispatch).filter(|dispatch| !dispatch.is_empty());
        self.record.ear_ms = self.record.ear_dispatch.as_ref().and(self.elapsed());
        let told = ExchangeEvent::Said { exchange: self.record.id.clone(), text: said.text.clone(), recognised: None };
        let end =
            match self.costs.add(cost).map_err(|error| GatewayError::from(error).into()).and(self.tell(told).await) {
                Ok(()) => self.answer(said, wish, &mut orders).await,
                Err(end) => Err(end),
            };
        self.end(end).await;
    }

    pub(super) async fn run(mut self, request: ExchangeRequest, mut orders: mpsc::Receiver<ExchangeOrder>) {
        let ExchangeRequest { said, voice, reply, attachment, .. } = request;
        let wish = AnswerWish { voice, reply, attachment };
        let end = match self.hear(said).await {
            Ok(said) => self.answer(said, wish, &mut orders).await,
            Err(end) => Err(end),
        };
        self.end(end).await;
    }

    /// Milliseconds since what is said ended.
    fn elapsed(&self) -> Option<i64> {
        i64::try_from(self.since.elapsed().as_millis()).ok()
    }

    /// Stores the record and reports the end.
    async fn end(mut self, end: Result<ExchangeState, TurnEnd>) {
        let failed = match end {
            Ok(state) => {
                self.record.state = state;
                None
            }
            Err(TurnEnd::Left) => {
                self.record.state = ExchangeState::Abandoned;
                None
            }
            Err(TurnEnd::Failed(error)) => {
                self.record.state = ExchangeState::Failed;
                self.record.fault = Some(error.to_string());
                Some(error)
            }
        };
        if let Err(error) = self.gateway.inner.store.put_exchange(self.record.clone()).await {
            tracing::error!(%error, exchange = %self.record.id, "an exchange was not recorded");
        }
        let end = ExchangeEnd { record: self.record, costs: self.costs };
        let last = failed.map_or(Ok(ExchangeEvent::Ended(Box::new(end))), Err);
        // A caller who has left meanwhile misses nothing.
        let _ = self.told.send(last).await;
    }

    async fn tell(&self, event: ExchangeEvent) -> Result<(), TurnEnd> {
        self.told.send(Ok(event)).await.map_err(|_| TurnEnd::Left)
    }

    async fn hear(&mut self, said: Said) -> Result<SaidText, TurnEnd> {
        let (text, language, recognised) = match said {
            Said::Text { text, language } => (text, language, None),
            Said::Audio(request) => {
                let recognised = self.recognise(*request).await?;
                self.record.ear_dispatch = Some(recognised.dispatch.clone());
                self.record.ear_ms = self.elapsed();
                self.costs.add(recognised.cost).map_err(GatewayError::from)?;
                let transcript = &recognised.revised.transcript;
                (transcript.text.clone(), transcript.language.clone(), Some(Box::new(recognised)))
            }
        };
        self.tell(ExchangeEvent::Said { exchange: self.record.id.clone(), text: text.clone(), recognised }).await?;
        Ok(SaidText { text, language })
    }

    async fn recognise(&self, request: RecognitionRequest) -> Result<crate::Recognised, TurnEnd> {
        tokio::select! {
            recognised = self.gateway.recognise(&self.caller, request) => Ok(recognised?),
            () = self.told.closed() => Err(TurnEnd::Left),
        }
    }

    /// Sends the text to the hook and speaks its reply.
    async fn answer(
        &mut self,
        said: SaidText,
        wish: AnswerWish,
        orders: &mut mpsc::Receiver<ExchangeOrder>,
    ) -> Result<ExchangeState, TurnEnd> {
        self.record.said_characters = count(&said.text);
        if said.text.trim().is_empty() {
            return Err(GatewayError::NothingSaid.into());
        }
        let question = Question {
            exchange: &self.record.id,
            app: &self.caller.app.name,
            text: &said.text,
            language: said.language.as_deref(),
            attachment: wish.attachment.as_ref(),
        };
        let hook = Some(self.gateway.ask_hook(&self.hook, &question, &wish.reply));
        let voice = self.gateway.narrate(&self.caller, wish.voice).await?;
        let mut answer = Answer { hook, voice, waiting: VecDeque::new(), state: ExchangeState::Answered };
        let mut open = true;
        loop {
            let told = self.told.clone();
            let (to_voice, from_voice) = (&answer.voice.orders, &mut answer.voice.events);
            let step = tokio::select! {
                biased;
                () = told.closed() => return Err(TurnEnd::Left),
                order = orders.recv(), if open => Step::Ordered(order),
                room = to_voice.reserve(), if !answer.waiting.is_empty() => {
                    // A narration that has ended reports why.
                    if let Some((room, order)) = room.ok().zip(answer.waiting.pop_front()) {
                        room.send(order);
                    }
                    Step::Sent
                }
                event = from_voice.recv() => Step::Voice(event),
                text = next_text(&mut answer.hook), if answer.waiting.is_empty() => Step::Hook(text),
            };
            match step {
                Step::Ordered(None) => open = false,
                Step::Ordered(Some(ExchangeOrder::Heard(position))) => {
                    answer.waiting.push_back(NarrationOrder::Heard(position));
                }
                Step::Ordered(Some(ExchangeOrder::Stop(position))) => {
                    answer.hook = None;
                    answer.state = ExchangeState::Stopped;
                    answer.waiting = VecDeque::from([NarrationOrder::Stop(position), NarrationOrder::End]);
                }
                Step::Sent => {
                    if let Some(hook) = answer.hook.as_mut().filter(|_| answer.waiting.is_empty()) {
                        hook.resume();
                    }
                }
                Step::Hook(text) => self.reply(text, &mut answer).await?,
                Step::Voice(event) => {
                    if let Some(state) = self.voice(event, answer.state).await? {
                        return Ok(state);
                    }
                }
            }
        }
    }

    async fn reply(
        &mut self,
        text: Option<Result<String, super::hook::HookFault>>,
        answer: &mut Answer,
    ) -> Result<(), TurnEnd> {
        match text {
            Some(Ok(text)) => {
                self.record.reply_first_ms = self.record.reply_first_ms.or(self.elapsed());
                self.record.reply_characters += count(&text);
                answer.waiting.push_back(NarrationOrder::Text(text.clone()));
                self.tell(ExchangeEvent::Reply(text)).await
            }
            None => {
                self.record.reply_ms = self.elapsed();
                answer.hook = None;
                answer.waiting.push_back(NarrationOrder::End);
                Ok(())
            }
            Some(Err(fault)) => {
                self.record.reply_ms = self.elapsed();
                self.record.fault = Some(fault.to_string());
                answer.hook = None;
                answer.state = ExchangeState::Apologised;
                let apology = self.caller.app.apology.clone().unwrap_or_else(|| APOLOGY.to_owned());
                // An incomplete sentence could state something wrong.
                let orders = [NarrationOrder::Drop, NarrationOrder::Text(apology), NarrationOrder::End];
                answer.waiting.extend(orders);
                self.tell(ExchangeEvent::Fault(fault.to_string())).await
            }
        }
    }

    /// Forwards an event of the narration; returns the state once it has ended.
    async fn voice(
        &mut self,
        event: Option<Result<NarrationEvent, GatewayError>>,
        state: ExchangeState,
    ) -> Result<Option<ExchangeState>, TurnEnd> {
        let event = event.unwrap_or(Err(GatewayError::Contradiction("a voice without an end")))?;
        match &event {
            NarrationEvent::Sentence { dispatch, .. } => {
                if !self.record.voice_dispatches.is_empty() {
                    self.record.voice_dispatches.push('\n');
                }
                self.record.voice_dispatches.push_str(dispatch);
            }
            NarrationEvent::Audio(_) => {
                self.record.voice_first_ms = self.record.voice_first_ms.or(self.elapsed());
                self.record.voice_ms = self.elapsed();
            }
            NarrationEvent::Ended { duration, costs, .. } => {
                self.record.audio_ms = (duration * 1_000.0).round() as i64;
                for cost in costs.amounts() {
                    self.costs.add(*cost).map_err(GatewayError::from)?;
                }
                return Ok(Some(state));
            }
            NarrationEvent::Word { .. } | NarrationEvent::Heard { .. } | NarrationEvent::Stopped { .. } => {}
        }
        self.tell(ExchangeEvent::Voice(event)).await?;
        Ok(None)
    }
}

fn count(text: &str) -> i64 {
    i64::try_from(text.chars().count()).unwrap_or(i64::MAX)
}

/// Next text of the hook; pending if it is no longer read.
async fn next_text(hook: &mut Option<HookAnswer>) -> Option<Result<String, super::hook::HookFault>> {
    match hook {
        Some(hook) => hook.next().await,
        None => std::future::pending().await,
    }
}
