//! Live recognition: audio is heard while it comes in. It is cut into stretches,
//! one call of an engine each: in pauses, before the limit of an engine, and
//! anew where an engine fails. A stretch is heard by the first candidate that
//! can; what it has settled stays, and the rest is sent to the next one.

mod call;
pub(crate) mod pauses;
mod results;
mod stretch;

use std::collections::VecDeque;
use std::sync::Arc;
use std::time::Duration;

use bytes::Bytes;
use dispatcher_audio::{Format, START_BYTES, Transcoder, recognise};
use dispatcher_core::{
    Currency, HearingWish, Money, RequestShare, Revised, SpokenCommand, Transcript, TranscriptChange, Work,
};
use tokio::sync::mpsc;

use call::{Cut, LiveCall, StretchEvent};
use pauses::PauseFinder;
use results::{LiveResults, Seams};
use stretch::{RATE, Stretch, samples_format};

use crate::dispatch::caller_limits::InWork;
use crate::dispatch::deliver::Offload;
use crate::dispatch::dispatch_record::{DispatchOutcome, DispatchRecord, LastAttempt, NewDispatch};
use crate::dispatch::speak::{CALLER_LEFT, summary};
use crate::intake::recording::AudioInfo;
use crate::library::transcripts::NewTranscript;
use crate::{Caller, Gateway, GatewayError, HearerWish};

/// Pieces of audio that wait to be taken in.
const WAITING: usize = 16;
/// Events that wait to be taken by the caller.
const UNTOLD: usize = 64;
/// Nobody sends no audio for longer than this.
const IDLE: Duration = Duration::from_secs(60);
/// Seconds that one session may last.
const LONGEST: f64 = 8.0 * 3_600.0;
/// Calls of one session at once: audio that comes faster than it is heard waits.
const AT_ONCE: usize = 4;
/// Seconds before speech that are heard with it.
const BEFORE: f64 = 0.3;
/// Seconds that two calls share where no pause was found to part them in.
const OVERLAP: f64 = 1.5;

/// What is asked for.
#[derive(Debug, Clone)]
pub struct LiveRequest {
    pub hearer: HearerWish,
    /// Format stated by the caller; formats other than raw audio are detected.
    pub told: Option<Format>,
    pub wish: HearingWish,
    /// The credential to call with, in place of the engine's usual one.
    pub credential: Option<String>,
    pub trace: Option<String>,
}

/// Events of a live recognition, in order. Times are seconds of the session.
#[derive(Debug, Clone, PartialEq)]
pub enum LiveEvent {
    /// Somebody begins to speak.
    Speech { at: f64 },
    /// What is heard of a segment. A later one of the same number takes its
    /// place, until it is settled.
    Result {
        segment: u64,
        settled: bool,
        transcript: Transcript,
        /// What the rules of the app changed.
        changes: Vec<TranscriptChange>,
        /// The command that it is, once it is settled.
        command: Option<SpokenCommand>,
    },
    /// A further call goes on, before the engine's limit or after a failure.
    Renewed { engine: String },
    /// All events were sent.
    Ended {
        text: String,
        length: f64,
        cost: Money,
        /// It is kept, under the id of the dispatch.
        kept: bool,
    },
}

/// A live recognition: audio goes in, events come out. It ends where either is
/// dropped.
pub struct LiveSession {
    pub dispatch: String,
    /// The engine that is called first.
    pub engine: String,
    pub audio: mpsc::Sender<Bytes>,
    pub events: mpsc::Receiver<Result<LiveEvent, GatewayError>>,
}

impl Gateway {
    /// Begins to listen.
    ///
    /// # Errors
    /// Where nobody can hear it, before anything is called.
    pub async fn listen(&self, caller: &Caller, mut request: LiveRequest) -> Result<LiveSession, GatewayError> {
        request.hearer.state_language(caller);
        let in_work = self.enter(caller)?;
        // Its audio goes through files.
        self.check_room()?;
        let (wanted, mut plan) = self.plan_recognition(caller, &request.hearer, &AudioInfo::of_samples(RATE, 1.0))?;
        caller.check_route(&wanted, request.credential.as_deref())?;
        self.arrange(&wanted, crate::planning::order::Purpose::Answer, &mut plan, |planned| planned);
        for planned in &mut plan {
            if request.credential.is_some() {
                planned.candidate.credential.clone_from(&request.credential);
            }
        }
        // The rest is held as the audio comes in.
        let nothing = |cost: Money| RequestShare::of_audio(0, Money::zero(cost.currency));
        let hold = if caller.app.rehearsal { None } else { self.hold_for_plan(caller, &mut plan, nothing)? };
        let new = NewDispatch {
            hold,
            requested: &wanted,
            media_type: request.told.map_or_else(|| "audio".to_owned(), |format| format.media_type()),
            language: request.hearer.language.clone(),
            characters: 0,
            audio_ms: 0,
            trace: request.trace.clone(),
            rehearsal: caller.app.rehearsal,
            job: None,
        };
        let record = DispatchRecord::open(self, caller, Work::Recognition, new);
        record.wait_for_speech();
        let dispatch = record.id().to_owned();
        let (audio, pieces) = mpsc::channel(WAITING);
        let (told, events) = mpsc::channel(UNTOLD);
        let app = caller.app.clone();
        let call = Arc::new(LiveCall { gateway: self.clone(), app, record, plan, request });
        let engine = call.first_engine();
        let session = Session::new(call, told, in_work);
        self.inner.running.spawn(session.run(pieces));
        Ok(LiveSession { dispatch, engine, audio, events })
    }
}

/// How a session ends before its time.
enum SessionEnd {
    Left,
    Failed(GatewayError),
}

/// A call under way.
struct RunningStretch {
    stretch: Arc<Stretch>,
    events: mpsc::UnboundedReceiver<StretchEvent>,
}

/// A session in work.
struct Session {
    call: Arc<LiveCall>,
    told: mpsc::Sender<Result<LiveEvent, GatewayError>>,
    /// Until the format is known.
    start: Vec<u8>,
    decoder: Option<Offload<Transcoder>>,
    finder: PauseFinder,
    /// The first half of a sample.
    torn: Vec<u8>,
    /// The last samples while nobody speaks, and the seconds of all that came.
    before: Vec<u8>,
    seconds: f64,
    /// Milliseconds that were taken from a token.
    held: u64,
    /// The stretch that audio goes into.
    open: Option<Arc<Stretch>>,
    running: VecDeque<RunningStretch>,
    results: LiveResults,
    last: LastAttempt,
    _in_work: Option<InWork>,
}

impl Session {
    fn new(
        call: Arc<LiveCall>,
        told: mpsc::Sender<Result<LiveEvent, GatewayError>>,
        in_work: Option<InWork>,
    ) -> Session {
        Session {
            call,
            told,
            start: Vec::new(),
            decoder: None,
            finder: PauseFinder::new(RATE),
            torn: Vec::new(),
            before: Vec::new(),
            seconds: 0.0,
            held: 0,
            open: None,
            running: VecDeque::new(),
            results: LiveResults::default(),
            last: LastAttempt::None,
            _in_work: in_work,
        }
    }

    async fn run(mut self, mut pieces: mpsc::Receiver<Bytes>) {
        let end = self.listen(&mut pieces).await;
        drop(pieces);
        if let Some(open) = self.open.take() {
            open.end();
        }
        let audio_ms = (self.seconds * 1_000.0) as u64;
        let outcome = match &end {
            Ok(()) => DispatchOutcome::done(audio_ms, self.results.first_at()),
            Err(SessionEnd::Left) => DispatchOutcome::abandoned(audio_ms, self.results.first_at(), CALLER_LEFT),
            Err(SessionEnd::Failed(error)) => {
                let problem = match error {
                    GatewayError::AllFailed { attempts, .. } => summary(attempts),
                    other => other.to_string(),
                };
                DispatchOutcome::failed(audio_ms, self.results.first_at(), problem)
            }
        };
        // Calls that are under way end with their stretches, and say what they cost.
        for running in self.running.drain(..) {
            running.stretch.end();
            running.finish(&mut self.last).await;
        }
        let settled = self.call.record.settle(std::mem::take(&mut self.last), outcome).await;
        let last = match (end, settled) {
            (Ok(()), Ok(cost)) => {
                let kept = self.keep().await;
                Ok(LiveEvent::Ended { text: self.results.text(), length: self.seconds, cost, kept })
            }
            (Err(SessionEnd::Left), _) => return,
            (Err(SessionEnd::Failed(error)), _) | (Ok(()), Err(error)) => Err(error),
        };
        // A caller who has left meanwhile misses nothing.
        let _ = self.told.send(last).await;
    }

    /// Keeps the transcript where the app wants that; says whether it is kept.
    async fn keep(&mut self) -> bool {
        let (call, length) = (self.call.clone(), self.seconds);
        if call.record.is_rehearsal() {
            return false;
        }
        let whole = self.results.whole(call.request.hearer.language.clone());
        let engine = call.first_engine();
        let end_user = call.record.end_user();
        let new = NewTranscript { id: call.record.id(), title: "", engine: &engine, length, end_user };
        let kept = call.gateway.keep_transcript(&call.app, new, &whole).await;
        kept.unwrap_or_else(|error| {
            tracing::error!(%error, dispatch = call.record.id(), "a transcript was not kept");
            false
        })
    }

    /// A result by the rules of the app.
    async fn revise(&mut self, event: LiveEvent) -> Result<LiveEvent, SessionEnd> {
        let LiveEvent::Result { segment, settled, transcript, .. } = event else { return Ok(event) };
        let app = &self.call.app;
        let revised = self.call.gateway.revise(&app.name, transcript).await.map_err(SessionEnd::Failed)?;
        let Revised { transcript, changes, command } = revised;
        if settled {
            let keeps = app.transcript_days.is_some();
            self.results.settle(segment, &transcript, if keeps { Some(&changes) } else { None });
        }
        // What can still change is no command yet.
        let command = command.filter(|_| settled);
        Ok(LiveEvent::Result { segment, settled, transcript, changes, command })
    }

    async fn listen(&mut self, pieces: &mut mpsc::Receiver<Bytes>) -> Result<(), SessionEnd> {
        let mut open = true;
        while open || !self.running.is_empty() {
            let piece = tokio::select! {
                biased;
                () = self.told.closed() => return Err(SessionEnd::Left),
                event = next_event(&mut self.running) => {
                    self.take(event).await?;
                    continue;
                }
                piece = tokio::time::timeout(IDLE, pieces.recv()), if open && self.running.len() < AT_ONCE => piece,
            };
            match piece {
                Ok(Some(bytes)) => self.hear(bytes).await?,
                Ok(None) => {
                    open = false;
                    self.finish_input().await?;
                }
                Err(_) => {
                    let detail = format!("no audio for {} s", IDLE.as_secs());
                    return Err(SessionEnd::Failed(GatewayError::Live(detail)));
                }
            }
        }
        Ok(())
    }

    /// Takes in audio as it was sent.
    async fn hear(&mut self, bytes: Bytes) -> Result<(), SessionEnd> {
        if self.decoder.is_none() {
            self.start.extend_from_slice(&bytes);
            let raw = self.call.request.told.is_some_and(|told| !told.codec.describes_itself());
            if self.start.len() < START_BYTES && !raw {
                return Ok(());
            }
            return self.begin_decoding().await;
        }
        self.decode(bytes).await
    }

    async fn begin_decoding(&mut self) -> Result<(), SessionEnd> {
        let not_audio = |error| SessionEnd::Failed(GatewayError::NotAudio(error));
        let format = recognise(&self.start, self.call.request.told).map_err(not_audio)?;
        let decoder = Transcoder::new(format, samples_format()).map_err(not_audio)?;
        self.decoder = Some(Offload::new(decoder, self.call.gateway.inner.codecs.clone()));
        let start = Bytes::from(std::mem::take(&mut self.start));
        self.decode(start).await
    }

    async fn decode(&mut self, bytes: Bytes) -> Result<(), SessionEnd> {
        let Some(decoder) = &mut self.decoder else { return Ok(()) };
        let made = decoder.run(move |decoder| decoder.push(&bytes)).await;
        let made = made.map_err(|error| SessionEnd::Failed(GatewayError::Live(error.to_string())))?;
        self.samples(&made).await
    }

    async fn finish_input(&mut self) -> Result<(), SessionEnd> {
        if self.decoder.is_none() && !self.start.is_empty() {
            self.begin_decoding().await?;
        }
        if let Some(decoder) = &mut self.decoder {
            let rest = decoder.run(Transcoder::finish).await;
            let rest = rest.map_err(|error| SessionEnd::Failed(GatewayError::Live(error.to_string())))?;
            self.samples(&rest).await?;
        }
        if let Some(open) = self.open.take() {
            open.end();
        }
        Ok(())
    }

    /// Takes in samples: a twentieth of a second at a time, so that cuts lie
    /// where they belong in audio that comes all at once.
    async fn samples(&mut self, made: &[u8]) -> Result<(), SessionEnd> {
        // A piece may end in the middle of a sample.
        let mut samples = std::mem::take(&mut self.torn);
        samples.extend_from_slice(made);
        self.torn = samples.split_off(samples.len() / 2 * 2);
        for block in samples.chunks(RATE as usize / 20 * 2) {
            let values: Vec<i16> = block.as_chunks::<2>().0.iter().map(|pair| i16::from_le_bytes(*pair)).collect();
            self.finder.push(&values);
            self.seconds += values.len() as f64 / f64::from(RATE);
            self.hold_audio()?;
            if self.seconds > LONGEST {
                let detail = format!("the limit of a session is {LONGEST} s");
                return Err(SessionEnd::Failed(GatewayError::Live(detail)));
            }
            self.block(block).await?;
        }
        Ok(())
    }

    /// Holds the audio that came in.
    fn hold_audio(&mut self) -> Result<(), SessionEnd> {
        let come = (self.seconds * 1_000.0) as u64;
        let more = RequestShare::of_audio(come - self.held, Money::zero(Currency::EUR));
        self.held = come;
        self.call.record.hold_more(more).map_err(SessionEnd::Failed)
    }

    async fn block(&mut self, block: &[u8]) -> Result<(), SessionEnd> {
        let files = |error: std::io::Error| SessionEnd::Failed(GatewayError::files("live audio")(error));
        let Some(open) = self.open.clone() else {
            self.before.extend_from_slice(block);
            if self.finder.is_speech() {
                let at = self.seconds - seconds_of(&self.before);
                let before = std::mem::take(&mut self.before);
                self.tell(LiveEvent::Speech { at: self.seconds }).await?;
                let stretch = self.open_stretch(at, false).map_err(files)?;
                stretch.append(&before).map_err(files)?;
            }
            let keep = (BEFORE * f64::from(RATE)) as usize * 2;
            let over = self.before.len().saturating_sub(keep);
            self.before.drain(..over - over % 2);
            return Ok(());
        };
        open.append(block).map_err(files)?;
        let (length, silence) = (open.seconds(), self.finder.silence());
        let Cut { pause, late, longest } = self.call.cut();
        let paused = silence >= pause || length > late && silence >= 0.25;
        if !paused && length < longest {
            return Ok(());
        }
        open.end();
        self.open = None;
        if !paused {
            // In the middle of speech: both calls hear some of it.
            let from = self.seconds - OVERLAP;
            let stretch = self.open_stretch(from, true).map_err(files)?;
            let shared = open.read_from(length - OVERLAP).map_err(files)?;
            stretch.append(&shared).map_err(files)?;
        }
        Ok(())
    }

    /// Begins a call for the audio from here on.
    fn open_stretch(&mut self, from: f64, overlaps: bool) -> std::io::Result<Arc<Stretch>> {
        let stretch = Arc::new(Stretch::begin(from, overlaps)?);
        let (told, events) = mpsc::unbounded_channel();
        self.call.gateway.inner.running.spawn(self.call.clone().hear(stretch.clone(), told));
        self.running.push_back(RunningStretch { stretch: stretch.clone(), events });
        self.open = Some(stretch.clone());
        Ok(stretch)
    }

    /// What the oldest call says.
    async fn take(&mut self, event: Option<StretchEvent>) -> Result<(), SessionEnd> {
        let Some(running) = self.running.front() else { return Ok(()) };
        let next = self.running.get(1).filter(|next| next.stretch.overlaps);
        let breaks_off = next.map(|next| next.stretch.from + OVERLAP);
        let seams = Seams { begins_within: running.stretch.overlaps, breaks_off };
        match event {
            Some(StretchEvent::Heard(result)) => {
                let elapsed = self.call.record.elapsed();
                let told = self.results.take(result, &seams, elapsed);
                if let Some(told) = told {
                    let told = self.revise(told).await?;
                    self.tell(told).await?;
                }
            }
            Some(StretchEvent::Again { engine }) => {
                self.results.again();
                self.tell(LiveEvent::Renewed { engine }).await?;
            }
            Some(StretchEvent::Done(facts)) => {
                self.last = LastAttempt::Written(facts);
                self.running.pop_front();
                self.results.again();
                if self.running.front().is_some_and(|next| next.stretch.overlaps) {
                    let engine = self.call.first_engine();
                    self.tell(LiveEvent::Renewed { engine }).await?;
                }
            }
            Some(StretchEvent::Failed(error)) => {
                self.running.pop_front();
                return Err(SessionEnd::Failed(error));
            }
            None => {
                self.running.pop_front();
                return Err(SessionEnd::Failed(GatewayError::Contradiction("a call without an end")));
            }
        }
        Ok(())
    }

    async fn tell(&mut self, event: LiveEvent) -> Result<(), SessionEnd> {
        self.told.send(Ok(event)).await.map_err(|_| SessionEnd::Left)
    }
}

fn seconds_of(samples: &[u8]) -> f64 {
    samples.len() as f64 / 2.0 / f64::from(RATE)
}

/// The next event of the oldest call; rests where there is none.
async fn next_event(running: &mut VecDeque<RunningStretch>) -> Option<StretchEvent> {
    match running.front_mut() {
        Some(oldest) => oldest.events.recv().await,
        None => std::future::pending().await,
    }
}

impl RunningStretch {
    /// Waits for the end of its call, whose results nobody needs.
    async fn finish(mut self, last: &mut LastAttempt) {
        while let Some(event) = self.events.recv().await {
            if let StretchEvent::Done(facts) = event {
                *last = LastAttempt::Written(facts);
            }
        }
    }
}
