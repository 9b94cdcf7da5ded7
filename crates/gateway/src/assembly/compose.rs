//! Compose: a render plan of several segments becomes one utterance. They are called
//! in order, the next one while the present one sounds, and joined with what
//! is between them.

mod calls;
mod ending;
mod sounding;

use std::sync::atomic::Ordering;

use bytes::Bytes;
use dispatcher_audio::{Effects, Joiner, Joint};
use dispatcher_core::{Cause, Emulation, Usage, Word};
use dispatcher_engines::{EngineError, Words};
use dispatcher_markup::MarkAt;
use futures::future::BoxFuture;
use tokio::time::Instant;

use sounding::sounding;

use crate::assembly::insert::Insert;
use crate::dispatch::attempt::{Called, emulation};
use crate::dispatch::candidates::{self, Tried};
use crate::dispatch::deliver::{CodecError, Offload};
use crate::dispatch::dispatch_record::{EndedAttempt, LastAttempt, OpenAttempt, SinceAttempt, SinceDispatch};
use crate::dispatch::fingerprint;
use crate::dispatch::speak::{FirstAudio, LONGEST_UTTERANCE, Responder, Run, too_long};
use crate::dispatch::utterance::Cue;
use crate::jobs::StoredPiece;
use crate::planning::render_plan::Segment;
use crate::{FailedAttempt, GatewayError, PlannedCall};

/// The longest audio of a segment that is held whole, to learn its length.
const MOST_HELD: usize = 16 << 20;
/// Milliseconds of silence that are made at once.
const SILENCE_AT_ONCE: f64 = 1_000.0;
/// Milliseconds between what an engine broke off and the same sentence by another.
const RESUMED: f64 = 300.0;
/// How far a segment may be stretched to the length that is asked for.
const TEMPO: std::ops::RangeInclusive<f64> = 0.5..=2.0;

/// Why a performance stopped.
enum PerformanceStop {
    Left,
    /// The service ends; a job goes on later.
    Paused,
    Failed(FailedAttempt),
    Records(GatewayError),
}

/// Where the audio of a segment comes from.
enum SegmentSource<'r> {
    Call(Box<Calling<'r>>),
    /// It was made in an earlier run of a job.
    StoredPiece(StoredPiece),
    /// It is the script's own.
    Given,
}

/// A call under way.
struct Calling<'r> {
    /// What is left to do of what was asked for.
    emulated: Emulation,
    attempt: OpenAttempt,
    call: BoxFuture<'r, Result<Called, EngineError>>,
    called: Option<Result<Called, EngineError>>,
}

impl<'r> Calling<'r> {
    /// The first call of a script, which was made for the candidate alone.
    fn opening(planned: &PlannedCall, attempt: OpenAttempt, called: Called) -> SegmentSource<'r> {
        let emulated = planned.render_plan.opening_call(planned).map(|segment| segment.call.shaped.emulated);
        let (emulated, call) = (emulated.unwrap_or_default(), Box::pin(std::future::pending()));
        SegmentSource::Call(Box::new(Calling { emulated, attempt, call, called: Some(Ok(called)) }))
    }
}

/// A candidate that performs its render plan.
struct Performance<'r> {
    run: &'r Run,
    planned: &'r PlannedCall,
    joiner: Offload<Joiner>,
    responder: &'r mut Option<Responder>,
    failures: Vec<FailedAttempt>,
    /// Audio that waits until there is enough to open with.
    waiting: Vec<u8>,
    words: Words,
    first_at: Option<SinceDispatch>,
    /// The segment that sounds, and the one behind it.
    calling: Option<SegmentSource<'r>>,
    ahead: Option<SegmentSource<'r>>,
    last: LastAttempt,
    /// Engines that were heard, in order.
    heard: Vec<String>,
    /// The candidate that goes on since the one that is performed failed.
    standing_in: Option<&'r PlannedCall>,
    /// Candidates that have failed in the middle.
    lost: Vec<&'r PlannedCall>,
    /// When the first audio was given.
    sounding_since: Option<Instant>,
}

impl Run {
    /// Performs a candidate's render plan; its first call may be `opening` already.
    ///
    /// # Errors
    /// When the records cannot be written, and the caller has no audio yet.
    pub(crate) async fn compose<'r>(
        &'r self,
        responder: &'r mut Option<Responder>,
        planned: &'r PlannedCall,
        failures: &[FailedAttempt],
        opening: Option<(OpenAttempt, Called)>,
    ) -> Result<Tried<()>, GatewayError> {
        let mut tags = self.tags(planned);
        if let Some(piece_store) = &self.piece_store {
            tags.title = piece_store.tags.title.clone().or(tags.title);
            tags.track = piece_store.tags.track.clone();
        }
        let format = self.format;
        format.check_output().map_err(GatewayError::Format)?;
        let joiner = Offload::making(move || Joiner::new(format, tags), self.record.gateway().inner.codecs.clone());
        let mut performance = Performance {
            run: self,
            planned,
            joiner,
            responder,
            failures: failures.to_vec(),
            waiting: Vec::new(),
            words: Words::default(),
            first_at: None,
            calling: opening.map(|(attempt, called)| Calling::opening(planned, attempt, called)),
            ahead: None,
            last: LastAttempt::None,
            heard: Vec::new(),
            standing_in: None,
            // Those before it have failed already.
            lost: self.plan.iter().take_while(|other| !std::ptr::eq(*other, planned)).collect(),
            sounding_since: None,
        };
        let outcome = performance.play().await;
        Box::pin(performance.end(outcome)).await
    }
}

impl<'r> Performance<'r> {
    fn segments(&self) -> &'r [Segment] {
        &self.planned.render_plan.segments
    }

    async fn play(&mut self) -> Result<(), PerformanceStop> {
        if self.calling.is_none() {
            self.calling = self.call(0).await?;
        }
        for (index, segment) in self.segments().iter().enumerate() {
            if index > 0 {
                self.calling = match self.ahead.take() {
                    Some(ahead) => Some(ahead),
                    None => self.call(index).await?,
                };
            }
            if self.calling.is_none() {
                return Err(PerformanceStop::Paused);
            }
            // A job calls for the next piece once this one is kept and settled:
            // a crash has one piece at most bought again.
            if self.run.piece_store.is_none() {
                self.look_ahead(index + 1).await?;
            }
            self.rest(self.planned.render_plan.gap(index)).await?;
            self.silence(segment.piece.silence, &segment.piece.marks).await?;
            self.segment(index, segment).await?;
        }
        self.silence(self.planned.render_plan.silence, &self.planned.render_plan.marks).await?;
        let rest = self.joiner.run(Joiner::finish).await.map_err(|error| self.broken(error))?;
        self.give(rest).await?;
        self.open().await
    }

    /// One segment, to its end. Where its candidate fails, the next one begins
    /// it anew. It goes on with all that follows, unless the engine was only
    /// full for a moment; the pieces of a job are each a work of their own.
    async fn segment(&mut self, index: usize, segment: &'r Segment) -> Result<(), PerformanceStop> {
        if segment.sound.is_some() {
            return self.insert(index, segment).await;
        }
        let mut speaker = self.speaker_of(segment);
        let mut tried = self.lost.clone();
        loop {
            let (stop, given) = match self.sound(speaker, index, segment).await {
                Ok(()) => return Ok(()),
                Err(stopped) => stopped,
            };
            let failed = match stop {
                // Nothing has sounded: the next candidate performs the script as its own.
                PerformanceStop::Failed(failed) if self.responder.is_some() && !given => {
                    return Err(PerformanceStop::Failed(failed));
                }
                PerformanceStop::Failed(failed) => failed,
                other => return Err(other),
            };
            tried.push(speaker);
            let Some(next) = self.next_speaker(&tried).await else { return Err(PerformanceStop::Failed(failed)) };
            self.run.mixed.store(true, Ordering::Relaxed);
            let lost = failed.cause != Cause::Throttled && self.run.piece_store.is_none();
            tracing::info!(engine = %failed.engine, next = next.engine_name(), cause = %failed.cause, "another engine goes on");
            self.close(|attempt| attempt.failed(&failed, None)).await?;
            if lost {
                self.drop_ahead(&failed.engine).await.map_err(PerformanceStop::Records)?;
                self.lost.push(speaker);
                self.standing_in = Some(next).filter(|_| segment.cast.is_none()).or(self.standing_in);
            }
            if given {
                let made = self.joiner.run(Joiner::cut).await.map_err(|error| self.broken(error))?;
                self.give(made).await?;
                self.rest(RESUMED).await?;
            }
            self.failures.push(failed);
            speaker = next;
            self.calling = Some(SegmentSource::Call(self.call_with(next, segment, segment.call_of(next)).await?));
        }
    }

    /// Who speaks a segment: who stands in for the candidate, unless the script
    /// asks for a voice of its own.
    fn speaker_of(&self, segment: &'r Segment) -> &'r PlannedCall {
        match self.standing_in.filter(|_| segment.cast.is_none()) {
            Some(standing_in) => standing_in,
            None => segment.speaker(self.planned),
        }
    }

    /// The next candidate that was not tried yet and may be called.
    async fn next_speaker(&mut self, tried: &[&PlannedCall]) -> Option<&'r PlannedCall> {
        let run: &'r Run = self.run;
        let tried: Vec<Option<String>> = tried.iter().map(|tried| tried.voice_id()).collect();
        let mut others = run.plan.iter().filter(|other| !tried.contains(&other.voice_id()));
        candidates::next_callable(&run.record, &mut others).await
    }

    /// How a segment joins its neighbours; `speaker` is its engine, or nobody.
    fn joint(&mut self, index: usize, segment: &Segment, effects: Effects, speaker: Option<&str>) -> Joint {
        let speaker = speaker.map(|engine| match self.heard.iter().position(|heard| heard == engine) {
            Some(known) => known,
            None => {
                self.heard.push(engine.to_owned());
                self.heard.len() - 1
            }
        });
        let behind = self.segments().get(index + 1).map_or(0.0, |segment| segment.piece.overlap);
        let (overlap, hold) = (segment.piece.overlap / 1_000.0, behind / 1_000.0);
        Joint { effects, overlap, hold, speaker, asked: segment.piece.treatment.volume, any_length: false }
    }

    /// A sound of the script's own.
    async fn insert(&mut self, index: usize, segment: &'r Segment) -> Result<(), PerformanceStop> {
        let wish = segment.piece.sound.clone().zip(segment.sound.clone());
        let gateway = self.run.record.gateway();
        let made = gateway.in_turn(move || wish.map(|(wish, sound)| Insert::new(&wish, &sound)).transpose());
        let made = made.await.map_err(PerformanceStop::Records)?;
        let before = self.seconds();
        if let Some(insert) = made.map_err(|error| self.broken(error.into()))?.flatten() {
            let (format, joint) = (insert.format, self.joint(index, segment, insert.effects, None));
            let begun = self.joiner.run(move |joiner| joiner.begin(format, joint)).await;
            begun.map_err(|error| self.broken(error))?;
            let mut insert = Offload::new(insert, gateway.inner.codecs.clone());
            while let Some(chunk) = insert.run(Insert::next).await.map_err(|error| self.broken(error))? {
                let made = self.joiner.run(move |joiner| joiner.push(&chunk)).await;
                let made = made.map_err(|error| self.broken(error))?;
                self.give(made).await?;
            }
            let rest = self.joiner.run(Joiner::end).await.map_err(|error| self.broken(error))?;
            self.give(rest).await?;
        }
        self.calling = None;
        let Some(piece_store) = self.run.piece_store.as_ref().filter(|piece_store| !piece_store.is_recorded(index))
        else {
            return Ok(());
        };
        let milliseconds = ((self.seconds() - before).max(0.0) * 1_000.0) as u64;
        let row = piece_store.row(
            index,
            &fingerprint::of_segment(self.planned, segment),
            "",
            self.run.record.id(),
            milliseconds,
        );
        self.write_last().await.map_err(PerformanceStop::Records)?;
        self.run.record.write_piece(None, row).await.map_err(PerformanceStop::Records)?;
        piece_store.tell();
        Ok(())
    }

    /// The attempt at hand ends; its end is written with what follows.
    async fn close(&mut self, end: impl FnOnce(OpenAttempt) -> EndedAttempt) -> Result<(), PerformanceStop> {
        self.write_last().await.map_err(PerformanceStop::Records)?;
        if let Some(SegmentSource::Call(calling)) = self.calling.take() {
            self.last = end(calling.attempt).into();
        }
        Ok(())
    }

    /// Writes the end of the last attempt, where that was put off.
    async fn write_last(&mut self) -> Result<(), GatewayError> {
        self.last = self.run.record.write_last(std::mem::take(&mut self.last)).await?;
        Ok(())
    }

    /// The end of an attempt that delivered, and of the piece of a job that it
    /// made; or of a piece that was made before.
    async fn close_part(
        &mut self,
        index: usize,
        segment: &Segment,
        engine: &str,
        charged: Usage,
        first: SinceAttempt,
    ) -> Result<(), PerformanceStop> {
        let delivered = |attempt: OpenAttempt| attempt.delivered(charged, Some(first));
        let Some(piece_store) = &self.run.piece_store else { return self.close(delivered).await };
        let row = piece_store.row(
            index,
            &fingerprint::of_segment(self.planned, segment),
            engine,
            self.run.record.id(),
            charged.milliseconds,
        );
        self.write_last().await.map_err(PerformanceStop::Records)?;
        match self.calling.take() {
            Some(SegmentSource::Call(calling)) => {
                let written = self.run.record.write_piece(Some(delivered(calling.attempt)), row).await;
                self.last = written.map_err(PerformanceStop::Records)?.map_or(LastAttempt::None, LastAttempt::Written);
            }
            _ if piece_store.is_recorded(index) => {}
            _ => drop(self.run.record.write_piece(None, row).await.map_err(PerformanceStop::Records)?),
        }
        piece_store.tell();
        Ok(())
    }

    /// The audio of a segment; with the error, whether some of it was given.
    async fn sound(
        &mut self,
        speaker: &'r PlannedCall,
        index: usize,
        segment: &'r Segment,
    ) -> Result<(), (PerformanceStop, bool)> {
        let failed = |error: EngineError| PerformanceStop::Failed(FailedAttempt::of(speaker, error));
        let called = self.called().await.map_err(|stop| (stop, false))?;
        let Called { mut stream, words, begun, _permit } = called.map_err(|error| (failed(error), false))?;
        let first = SinceAttempt::since(begun);
        let mut format = speaker.format.format;
        let mut engine = speaker.engine_name().to_owned();
        let run: &'r Run = self.run;
        let made_before = match &self.calling {
            Some(SegmentSource::StoredPiece(stored)) => Some((stored.format, stored.engine.clone())),
            _ => None,
        };
        match (made_before, &run.piece_store) {
            (Some(made), _) => (format, engine) = made,
            // A piece of a job is taken whole before it sounds, so that it
            // can fall back and is never called for twice.
            (None, Some(piece_store)) => {
                let meta =
                    StoredPiece::of(self.planned, speaker, index, fingerprint::of_segment(self.planned, segment));
                let safe = self.commit(piece_store, meta, &mut stream, &words).await;
                stream = safe.map_err(|stop| (stop.unwrap_or_else(failed), false))?;
            }
            (None, None) => {}
        }
        if run.piece_store.is_none() && run.plan.len() > self.lost.len() + 1 {
            stream = self.held_until_whole(stream).await.map_err(|stop| (stop.unwrap_or_else(failed), false))?;
        }
        let before = self.seconds();
        let edges = self.planned.render_plan.edges(index);
        let emulated = match &self.calling {
            Some(SegmentSource::Call(calling)) => calling.emulated,
            _ => segment.call.shaped.emulated,
        };
        let mut effects = Effects { edges, ..emulation(emulated) };
        if let Some(milliseconds) = segment.piece.treatment.duration {
            let held = self.hold(&mut stream).await.map_err(|stop| (stop.unwrap_or_else(failed), false))?;
            let decoded = held.clone();
            let length = self.run.record.gateway().in_turn(move || sounding(&decoded, format)).await;
            let length = length.ok().and_then(Result::ok).unwrap_or(0.0);
            if length > 0.0 {
                let speed = length * 1_000.0 / milliseconds;
                effects.speed = Some(speed.clamp(*TEMPO.start(), *TEMPO.end()));
            }
            stream = Box::pin(futures::stream::once(async move { Ok(held) }));
        }
        let joint = self.joint(index, segment, effects, Some(&engine));
        let before = before - joint.overlap.min(before);
        let begin = move |joiner: &mut Joiner| joiner.begin(format, joint);
        self.joiner.run(begin).await.map_err(|error| (failed(error.into()), false))?;
        let mut given = false;
        while let Some(chunk) = self.chunk(&mut stream).await.map_err(|stop| (stop, given))? {
            let chunk = chunk.map_err(|error| (failed(error), given))?;
            let made = self.joiner.run(move |joiner| joiner.push(&chunk)).await;
            let made = made.map_err(|error| (failed(error.into()), given))?;
            given = self.joiner.get().is_some_and(Joiner::has_begun);
            self.give(made).await.map_err(|stop| (stop, true))?;
        }
        let rest = self.joiner.run(Joiner::end).await.map_err(|error| (failed(error.into()), given))?;
        self.give(rest).await.map_err(|stop| (stop, true))?;
        self.keep_words(&words, before, effects.speed.unwrap_or(1.0));
        self.keep_cue(before, segment);
        let milliseconds = ((self.seconds() - before).max(0.0) * 1_000.0) as u64;
        let charged = Usage { milliseconds, ..segment.usage };
        self.close_part(index, segment, &engine, charged, first).await.map_err(|stop| (stop, true))
    }

    /// Silence, and the marks that lie in it.
    async fn silence(&mut self, milliseconds: f64, marks: &[MarkAt]) -> Result<(), PerformanceStop> {
        let mut so_far = 0.0;
        for mark in marks {
            self.rest(mark.behind - so_far).await?;
            so_far = so_far.max(mark.behind);
            let at = self.seconds();
            self.run.marks.lock().push((mark.name.clone(), at));
        }
        self.rest(milliseconds - so_far).await
    }

    async fn rest(&mut self, milliseconds: f64) -> Result<(), PerformanceStop> {
        // Made as it is taken: a few bytes may ask for minutes of it.
        let mut left = milliseconds;
        while left > 0.0 {
            let some = if left < 2.0 * SILENCE_AT_ONCE { left } else { SILENCE_AT_ONCE };
            let made = self.joiner.run(move |joiner| joiner.silence(some / 1_000.0)).await;
            let made = made.map_err(|error| self.broken(error))?;
            self.give(made).await?;
            left -= some;
        }
        Ok(())
    }

    fn broken(&self, error: CodecError) -> PerformanceStop {
        PerformanceStop::Failed(FailedAttempt::of(self.planned, error.into()))
    }

    fn seconds(&self) -> f64 {
        self.joiner.get().map_or(0.0, |joiner| joiner.length().seconds())
    }

    fn keep_words(&self, words: &Words, before: f64, speed: f64) {
        let words = words.lock();
        let moved = |time: Option<f64>| time.map(|time| before + time / speed);
        let moved = words.iter().map(|word| Word { start: moved(word.start), end: moved(word.end), ..word.clone() });
        self.words.lock().extend(moved);
    }

    fn keep_cue(&self, start: f64, segment: &Segment) {
        let cue = Cue { start, end: self.seconds(), text: segment.piece.plain() };
        self.run.cues.lock().push(cue);
    }

    /// Hands audio on; the first of it opens the answer.
    async fn give(&mut self, bytes: Bytes) -> Result<(), PerformanceStop> {
        if self.seconds() > LONGEST_UTTERANCE {
            return Err(PerformanceStop::Failed(FailedAttempt::of(self.planned, too_long())));
        }
        if self.responder.is_some() {
            self.waiting.extend_from_slice(&bytes);
            return if self.seconds() > 0.0 && !self.waiting.is_empty() { self.open().await } else { Ok(()) };
        }
        match bytes.is_empty() || self.run.audio.send(Ok(bytes)).await.is_ok() {
            true => Ok(()),
            false => Err(PerformanceStop::Left),
        }
    }

    async fn open(&mut self) -> Result<(), PerformanceStop> {
        let Some(responder) = self.responder.take() else { return Ok(()) };
        let first_at = self.run.record.elapsed();
        self.first_at = Some(first_at);
        self.sounding_since = Some(Instant::now());
        let first_audio = FirstAudio {
            planned: self.planned.clone(),
            first: std::mem::take(&mut self.waiting).into(),
            first_at,
            fallbacks: self.failures.clone(),
            words: self.words.clone(),
            tempo: 1.0,
        };
        responder.send(Ok(first_audio)).map_err(|_| PerformanceStop::Left)
    }
}
