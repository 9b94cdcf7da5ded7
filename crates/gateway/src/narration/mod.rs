//! Text that is spoken while it is written: it comes in fragments, as a
//! language model writes them, and each sentence is spoken as soon as it is
//! whole, by a dispatch of its own. The next one is called for while one sounds.

mod heard;

use std::collections::VecDeque;
use std::sync::Arc;
use std::time::Duration;

use bytes::Bytes;
use dispatcher_audio::Format;
use dispatcher_core::Costs;
use dispatcher_markup::GrowingText;
use tokio::sync::mpsc;
use tokio::task::JoinHandle;

use heard::SpokenText;

use crate::{Caller, Gateway, GatewayError, SynthesisRequest, TextInput, Utterance};

/// Orders that wait to be handled, and events that wait to be sent.
const WAITING: usize = 64;
/// Bytes of text that wait to be spoken.
const MOST_WAITING: usize = 256 << 10;
/// A session without text or audio ends after this.
const IDLE: Duration = Duration::from_secs(120);
/// Seconds by which the audio is ahead of what a caller has confirmed to be heard.
const MOST_UNHEARD: f64 = 20.0;
/// What an engine charges for a stopped sentence is known within this time.
const SETTLED_WITHIN: Duration = Duration::from_secs(3);

/// What a caller orders.
#[derive(Debug, Clone, PartialEq)]
pub enum NarrationOrder {
    /// More text.
    Text(String),
    /// What is there is spoken, whether its sentence has ended or not.
    SpeakNow,
    /// What has not become a sentence yet is not spoken.
    Drop,
    /// Seconds that were heard.
    Heard(f64),
    /// Stops speaking the text received so far; seconds that were heard,
    /// or everything that was sent.
    Stop(Option<f64>),
    /// No more text comes.
    End,
}

/// Events, in order. Times are seconds of the session.
#[derive(Debug, Clone, PartialEq)]
pub enum NarrationEvent {
    /// The audio of a sentence begins.
    Sentence {
        number: u64,
        text: String,
        from: f64,
        dispatch: String,
        voice: String,
    },
    Audio(Bytes),
    Word {
        text: String,
        start: f64,
        end: Option<f64>,
    },
    /// The text that was heard up to what a caller confirmed, since the session
    /// began or was last stopped.
    Heard {
        position: f64,
        text: String,
    },
    /// It is silent, and ready for more text.
    Stopped {
        position: f64,
        text: String,
    },
    /// All events were sent.
    Ended {
        duration: f64,
        costs: Costs,
        dispatches: u64,
    },
}

/// A text that is spoken while it is written: orders go in, events come out. It
/// ends where either is dropped.
pub struct NarrationSession {
    pub format: Format,
    pub orders: mpsc::Sender<NarrationOrder>,
    pub events: mpsc::Receiver<Result<NarrationEvent, GatewayError>>,
}

impl Gateway {
    /// Begins to speak a text that is still to be written, as `request` asks
    /// for; its own text is not looked at.
    ///
    /// # Errors
    /// Where its format needs to be whole, and where nobody could speak it.
    pub async fn narrate(&self, caller: &Caller, request: SynthesisRequest) -> Result<NarrationSession, GatewayError> {
        let format = request.format;
        self.check_narration(caller, &request).await?;
        let (orders, taken) = mpsc::channel(WAITING);
        let (told, events) = mpsc::channel(WAITING);
        let narration = Narration {
            gateway: self.clone(),
            caller: caller.clone(),
            request,
            told,
            text: GrowingText::default(),
            open: true,
            ended: false,
            sentences: VecDeque::new(),
            notice: caller.app.notice.clone(),
            call: None,
            sounding: None,
            number: 0,
            position: 0.0,
            heard: None,
            spoken: SpokenText::default(),
            dispatches: Vec::new(),
        };
        self.inner.running.spawn(narration.run(taken));
        Ok(NarrationSession { format, orders, events })
    }

    /// Finds out who could speak, before the first word is written.
    pub(crate) async fn check_narration(
        &self,
        caller: &Caller,
        request: &SynthesisRequest,
    ) -> Result<(), GatewayError> {
        if bytes_a_second(request.format).is_none() {
            return Err(GatewayError::NotStreamable(request.format.media_type()));
        }
        let trial = SynthesisRequest { text: TextInput::Plain(".".into()), ..request.clone() };
        self.estimate_speech(caller, &trial).await.map(drop)
    }
}

/// Bytes of a second of audio that has no head and no frames, so that pieces of
/// it can follow one another.
fn bytes_a_second(format: Format) -> Option<f64> {
    use dispatcher_audio::Codec;
    let bytes = match format.codec {
        Codec::Pcm | Codec::L16 => 2,
        Codec::Mulaw | Codec::Alaw => 1,
        _ => return None,
    };
    Some(f64::from(format.rate) * f64::from(format.channels) * f64::from(bytes))
}

/// Why a session ends before its time.
enum NarrationEnd {
    Left,
    Failed(GatewayError),
}

impl From<GatewayError> for NarrationEnd {
    fn from(error: GatewayError) -> Self {
        NarrationEnd::Failed(error)
    }
}

/// A sentence that was called for; its call ends where this is dropped.
struct Call {
    text: String,
    speaking: JoinHandle<Result<Utterance, GatewayError>>,
}

impl Drop for Call {
    fn drop(&mut self) {
        self.speaking.abort();
    }
}

/// The sentence that sounds.
struct Sounding {
    utterance: Utterance,
    from: f64,
    bytes: u64,
    words: usize,
}

struct Narration {
    gateway: Gateway,
    caller: Caller,
    request: SynthesisRequest,
    told: mpsc::Sender<Result<NarrationEvent, GatewayError>>,
    text: GrowingText,
    /// Orders may still come, and text as well.
    open: bool,
    ended: bool,
    /// Sentences that are not called for yet.
    sentences: VecDeque<String>,
    /// The notice of the app, until it was spoken.
    notice: Option<String>,
    call: Option<Call>,
    sounding: Option<Sounding>,
    number: u64,
    /// Seconds of audio that were sent.
    position: f64,
    /// Seconds that a caller has confirmed.
    heard: Option<f64>,
    spoken: SpokenText,
    dispatches: Vec<Arc<str>>,
}

/// What comes next.
enum Step {
    Order(Option<NarrationOrder>),
    Called(Box<Result<Utterance, GatewayError>>),
    Audio(Option<Result<Bytes, crate::BodyError>>),
}

impl Narration {
    async fn run(mut self, mut orders: mpsc::Receiver<NarrationOrder>) {
        let end = self.narrate(&mut orders).await;
        drop(orders);
        let last = match end {
            Ok(()) => self.costs().await.map(|costs| NarrationEvent::Ended {
                duration: self.position,
                costs,
                dispatches: self.dispatches.len() as u64,
            }),
            Err(NarrationEnd::Left) => return,
            Err(NarrationEnd::Failed(error)) => Err(error),
        };
        // A caller who has left meanwhile misses nothing.
        let _ = self.told.send(last).await;
    }

    async fn narrate(&mut self, orders: &mut mpsc::Receiver<NarrationOrder>) -> Result<(), NarrationEnd> {
        loop {
            self.call_ahead();
            if self.ended && self.sounding.is_none() && self.call.is_none() && self.sentences.is_empty() {
                return Ok(());
            }
            let told = self.told.clone();
            let step = tokio::select! {
                biased;
                () = told.closed() => return Err(NarrationEnd::Left),
                // What was ordered last is done first: a caller may want silence.
                order = orders.recv(), if self.open => Step::Order(order),
                piece = next_piece(&mut self.sounding) => Step::Audio(piece),
                called = called(&mut self.call), if self.sounding.is_none() => Step::Called(Box::new(called)),
                () = tokio::time::sleep(IDLE), if self.sounding.is_none() && self.call.is_none() => {
                    let what = if self.sentences.is_empty() { "no text came" } else { "nothing more was confirmed to be heard" };
                    let detail = format!("{what} for {} s", IDLE.as_secs());
                    return Err(GatewayError::Narration(detail).into());
                }
            };
            match step {
                Step::Order(order) => self.order(order).await?,
                Step::Called(called) => self.begin((*called)?).await?,
                Step::Audio(piece) => self.sound(piece).await?,
            }
        }
    }

    /// Bytes of text that are not spoken yet.
    fn waiting(&self) -> usize {
        self.text.len() + self.sentences.iter().map(String::len).sum::<usize>()
    }

    /// Calls for the next sentence while one sounds, unless the caller has enough
    /// to hear. One call is made after the other, so that what is left of a token
    /// is for the sentence that comes first.
    fn call_ahead(&mut self) {
        let enough = self.heard.is_some_and(|heard| self.position - heard > MOST_UNHEARD);
        if enough || self.call.is_some() {
            return;
        }
        let Some(text) = self.sentences.pop_front() else { return };
        let (gateway, caller) = (self.gateway.clone(), self.caller.clone());
        let input = TextInput::Plain(text.trim().to_owned());
        let request = SynthesisRequest { text: input, ..self.request.clone() };
        let speaking = tokio::spawn(async move { gateway.speak(&caller, request).await });
        self.call = Some(Call { text, speaking });
    }

    async fn order(&mut self, order: Option<NarrationOrder>) -> Result<(), NarrationEnd> {
        match order {
            Some(NarrationOrder::Text(text)) => {
                if self.ended {
                    return Err(GatewayError::Narration("text was sent after its end".into()).into());
                }
                if self.waiting() + text.len() > MOST_WAITING {
                    let detail = format!("more than {MOST_WAITING} bytes of text are waiting to be spoken");
                    return Err(GatewayError::Narration(detail).into());
                }
                self.text.push(&text);
                while let Some(sentence) = self.text.next_sentence() {
                    self.sentence(sentence);
                }
            }
            Some(NarrationOrder::SpeakNow) => self.speak_now(),
            Some(NarrationOrder::Drop) => self.text = GrowingText::default(),
            Some(NarrationOrder::Heard(position)) => {
                let position = position.clamp(0.0, self.position);
                self.heard = Some(position);
                let text = self.spoken.until(position);
                self.tell(NarrationEvent::Heard { position, text }).await?;
            }
            Some(NarrationOrder::Stop(position)) => self.stop(position).await?,
            Some(NarrationOrder::End) => self.end(),
            None => {
                self.open = false;
                self.end();
            }
        }
        Ok(())
    }

    fn end(&mut self) {
        self.speak_now();
        self.ended = true;
    }

    fn speak_now(&mut self) {
        for rest in self.text.rest() {
            self.sentence(rest);
        }
    }

    /// A sentence to be spoken; one of marks and white space alone belongs to
    /// the one before it.
    fn sentence(&mut self, sentence: String) {
        if !sentence.trim().is_empty() {
            // With the first of the text, and not before there is any.
            self.sentences.extend(self.notice.take());
            self.sentences.push_back(sentence);
        }
    }

    /// Nothing more is spoken of what is there.
    async fn stop(&mut self, position: Option<f64>) -> Result<(), NarrationEnd> {
        self.sounding = None;
        self.call = None;
        self.sentences.clear();
        self.text = GrowingText::default();
        let position = position.unwrap_or(self.position).clamp(0.0, self.position);
        let text = self.spoken.until(position);
        self.spoken = SpokenText::default();
        // What is spoken next follows what was heard.
        self.position = position;
        self.heard = self.heard.map(|_| position);
        self.tell(NarrationEvent::Stopped { position, text }).await
    }

    async fn begin(&mut self, utterance: Utterance) -> Result<(), NarrationEnd> {
        let Some(call) = self.call.take() else { return Ok(()) };
        let (number, from) = (self.number, self.position);
        self.number += 1;
        self.dispatches.push(utterance.dispatch.as_str().into());
        self.spoken.begin(&call.text, from);
        let (dispatch, voice) = (utterance.dispatch.clone(), utterance.voice.clone());
        self.sounding = Some(Sounding { utterance, from, bytes: 0, words: 0 });
        self.tell(NarrationEvent::Sentence { number, text: call.text.clone(), from, dispatch, voice }).await
    }

    async fn sound(&mut self, piece: Option<Result<Bytes, crate::BodyError>>) -> Result<(), NarrationEnd> {
        self.words().await?;
        match piece {
            Some(Ok(bytes)) => {
                let second = bytes_a_second(self.request.format).unwrap_or(1.0);
                if let Some(sounding) = &mut self.sounding {
                    sounding.bytes += bytes.len() as u64;
                    self.position = sounding.from + sounding.bytes as f64 / second;
                }
                self.tell(NarrationEvent::Audio(bytes)).await
            }
            Some(Err(error)) => {
                let dispatch = self.sounding.take().map(|sounding| sounding.utterance.dispatch).unwrap_or_default();
                Err(GatewayError::AllFailed { dispatch, attempts: vec![error.0] }.into())
            }
            None => {
                self.sounding = None;
                self.spoken.end(self.position);
                Ok(())
            }
        }
    }

    /// Tells the words that have become known.
    async fn words(&mut self) -> Result<(), NarrationEnd> {
        let Some(sounding) = &mut self.sounding else { return Ok(()) };
        let from = sounding.from;
        let new = sounding.utterance.words_from(sounding.words);
        sounding.words += new.len();
        for word in new {
            let Some(start) = word.start else { continue };
            self.spoken.word(&word.text, from + start);
            let end = word.end.map(|end| from + end);
            self.tell(NarrationEvent::Word { text: word.text, start: from + start, end }).await?;
        }
        Ok(())
    }

    /// What all sentences cost; those that were stopped are charged a moment later.
    async fn costs(&self) -> Result<Costs, GatewayError> {
        let mut costs = Costs::default();
        for dispatch in &self.dispatches {
            let settled = async {
                loop {
                    let row = self.gateway.inner.store.dispatch(dispatch.to_string()).await?.0;
                    if row.state != crate::DispatchState::Running {
                        return Ok::<_, GatewayError>(row.cost());
                    }
                    tokio::time::sleep(Duration::from_millis(20)).await;
                }
            };
            if let Ok(cost) = tokio::time::timeout(SETTLED_WITHIN, settled).await {
                costs.add(cost?)?;
            }
        }
        Ok(costs)
    }

    async fn tell(&mut self, event: NarrationEvent) -> Result<(), NarrationEnd> {
        self.told.send(Ok(event)).await.map_err(|_| NarrationEnd::Left)
    }
}

/// The next audio of the sentence that sounds; rests where none does.
async fn next_piece(sounding: &mut Option<Sounding>) -> Option<Result<Bytes, crate::BodyError>> {
    match sounding {
        Some(sounding) => sounding.utterance.body.next().await,
        None => std::future::pending().await,
    }
}

/// The utterance that was called for, once it has audio; rests where there is none.
async fn called(call: &mut Option<Call>) -> Result<Utterance, GatewayError> {
    match call {
        Some(call) => (&mut call.speaking).await?,
        None => std::future::pending().await,
    }
}
