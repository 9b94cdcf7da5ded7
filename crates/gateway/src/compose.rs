//! Compose: a score of several parts becomes one utterance. Parts are called
//! in order, the next one while the present one sounds, and joined with what
//! lies between them.

use std::sync::PoisonError;

use bytes::Bytes;
use dispatcher_audio::{AudioError, Effects, Joiner, decode_all};
use dispatcher_core::{Usage, Word};
use dispatcher_engines::{EngineError, Words};
use dispatcher_markup::MarkAt;
use futures::StreamExt as _;
use futures::future::{BoxFuture, FutureExt as _};

use crate::attempt::{Called, broken, made_good, tags};
use crate::deliver::Offload;
use crate::score::Part;
use crate::settle::{Ending, Entry, micros};
use crate::speak::{Opened, Opener, Run, ending_of, summary};
use crate::{BodyError, FailedAttempt, GatewayError, Planned};

/// The longest sound of a part that is held whole, to learn its length.
const MOST_HELD: usize = 64 << 20;
/// How far a part may be stretched to the length that is asked for.
const TEMPO: std::ops::RangeInclusive<f64> = 0.5..=2.0;

/// How a candidate's performance ended.
pub(crate) enum Composed {
    /// All is said, for better or worse.
    Over,
    /// It failed before any sound: the next candidate may try.
    Next(Opener, Vec<FailedAttempt>),
}

/// Why a performance stopped.
enum Stop {
    Left,
    Failed(FailedAttempt),
    Records(GatewayError),
}

/// A call under way.
struct Calling<'r> {
    entry: Entry,
    call: BoxFuture<'r, Result<Called, EngineError>>,
    called: Option<Result<Called, EngineError>>,
}

/// A candidate that performs its score.
struct Performance<'r> {
    run: &'r Run,
    planned: &'r Planned,
    joiner: Offload<Joiner>,
    opener: Option<Opener>,
    failures: Vec<FailedAttempt>,
    /// Sound that waits until there is enough to open with.
    waiting: Vec<u8>,
    words: Words,
    first_us: Option<i64>,
    /// The part that sounds, and the one behind it.
    calling: Option<Calling<'r>>,
    ahead: Option<Calling<'r>>,
    /// The last attempt, not yet written.
    last: Option<(Entry, Ending)>,
}

impl Run {
    /// Performs a candidate's score. `only`: no other candidate is left.
    pub(crate) async fn compose(
        &self,
        opener: Opener,
        planned: &Planned,
        failures: Vec<FailedAttempt>,
        only: bool,
    ) -> Composed {
        let tags = tags(planned, &self.text, self.language.as_deref());
        let joiner = match Joiner::new(self.format, tags) {
            Ok(joiner) => Offload::new(joiner, self.docket.gateway.inner.codecs.clone()),
            Err(error) => {
                let _ = opener.send(Err(GatewayError::Format(error)));
                return Composed::Over;
            }
        };
        let mut performance = Performance {
            run: self,
            planned,
            joiner,
            opener: Some(opener),
            failures,
            waiting: Vec::new(),
            words: Words::default(),
            first_us: None,
            calling: None,
            ahead: None,
            last: None,
        };
        let outcome = performance.play().await;
        performance.end(outcome, only).await
    }
}

impl<'r> Performance<'r> {
    fn parts(&self) -> &'r [Part] {
        &self.planned.score.parts
    }

    async fn play(&mut self) -> Result<(), Stop> {
        self.calling = self.call(0).await?;
        for (index, part) in self.parts().iter().enumerate() {
            if index > 0 {
                self.calling = self.ahead.take();
            }
            self.ahead = self.call(index + 1).await?;
            self.rest(self.planned.score.gap(index)).await?;
            self.silence(part.piece.silence, &part.piece.marks).await?;
            self.part(index, part).await?;
        }
        self.silence(self.planned.score.silence, &self.planned.score.marks).await?;
        let rest = self.joiner.run(Joiner::finish).await.map_err(|error| self.broken(&error))?;
        self.give(rest).await?;
        self.open().await
    }

    /// Begins the call of a part; its intent is written first.
    async fn call(&mut self, index: usize) -> Result<Option<Calling<'r>>, Stop> {
        let Some(part) = self.parts().get(index) else { return Ok(None) };
        self.call_with(part.speaker(self.planned), part, part.call.clone()).await.map(Some)
    }

    async fn call_with(
        &mut self,
        speaker: &'r Planned,
        part: &Part,
        call: dispatcher_engines::Speak,
    ) -> Result<Calling<'r>, Stop> {
        let docket: &'r crate::settle::Docket = &self.run.docket;
        let estimate = speaker.candidate.sheet.tariff.cost(part.usage, speaker.candidate.model.as_deref());
        let estimate = estimate.unwrap_or(part.estimate);
        let entry = docket.begin(speaker, part.usage, estimate).await.map_err(Stop::Records)?;
        let call = docket.gateway.open_call(speaker, &docket.app, call).boxed();
        Ok(Calling { entry, call, called: None })
    }

    /// One part, to its end; by another candidate where its own fails before
    /// it has sounded.
    async fn part(&mut self, index: usize, part: &'r Part) -> Result<(), Stop> {
        let own = part.speaker(self.planned);
        let mut speaker = own;
        let mut others = self.run.plan.iter().filter(|other| other.voice_id() != own.voice_id());
        loop {
            match self.sound(speaker, index, part).await {
                Ok(()) => return Ok(()),
                Err((Stop::Failed(failed), false)) if index > 0 => {
                    let next = others.next();
                    let Some(next) = next else { return Err(Stop::Failed(failed)) };
                    self.close(ending_of(&failed, None)).await?;
                    self.failures.push(failed);
                    speaker = next;
                    self.calling = Some(self.call_with(next, part, part.call_of(next)).await?);
                }
                Err((stop, _)) => return Err(stop),
            }
        }
    }

    /// Writes the end of the attempt at hand.
    async fn close(&mut self, ending: Ending) -> Result<(), Stop> {
        if let Some((entry, ending)) = self.last.take() {
            self.run.docket.end(&entry, ending).await.map_err(Stop::Records)?;
        }
        if let Some(calling) = self.calling.take() {
            self.last = Some((calling.entry, ending));
        }
        Ok(())
    }

    /// The sound of a part; with the error, whether some of it was given.
    async fn sound(&mut self, speaker: &'r Planned, index: usize, part: &'r Part) -> Result<(), (Stop, bool)> {
        let failed = |error: EngineError| Stop::Failed(FailedAttempt::of(speaker, error));
        let called = self.called().await.map_err(|stop| (stop, false))?;
        let Called { mut stream, words, begun, .. } = called.map_err(|error| (failed(error), false))?;
        let first_us = micros(begun);
        let before = self.seconds();
        let edges = self.planned.score.edges(index);
        let mut effects = Effects { edges, ..made_good(part.call.shaped.made_good) };
        let format = speaker.format.format;
        if let Some(milliseconds) = part.piece.treatment.duration {
            let held = self.hold(&mut stream).await.map_err(|stop| (stop.unwrap_or_else(failed), false))?;
            let decoded = held.clone();
            let length = tokio::task::spawn_blocking(move || sounding(&decoded, format)).await;
            let length = length.ok().and_then(Result::ok).unwrap_or(0.0);
            if length > 0.0 {
                let speed = length * 1_000.0 / milliseconds;
                effects.speed = Some(speed.clamp(*TEMPO.start(), *TEMPO.end()));
            }
            stream = Box::pin(futures::stream::once(async move { Ok(held) }));
        }
        let begin = move |joiner: &mut Joiner| joiner.begin(format, effects, false);
        self.joiner.run(begin).await.map_err(|error| (failed(broken(&error)), false))?;
        let mut given = false;
        while let Some(chunk) = self.chunk(&mut stream).await.map_err(|stop| (stop, given))? {
            let chunk = chunk.map_err(|error| (failed(error), given))?;
            let made = self.joiner.run(move |joiner| joiner.push(&chunk)).await;
            let made = made.map_err(|error| (failed(broken(&error)), given))?;
            given |= !made.is_empty();
            self.give(made).await.map_err(|stop| (stop, true))?;
        }
        let rest = self.joiner.run(Joiner::end).await.map_err(|error| (failed(broken(&error)), given))?;
        self.give(rest).await.map_err(|stop| (stop, true))?;
        self.keep_words(&words, before, effects.speed.unwrap_or(1.0));
        let milliseconds = ((self.seconds() - before).max(0.0) * 1_000.0) as u64;
        let charged = Some(Usage { milliseconds, ..part.usage });
        let ending = Ending { state: "done", cause: None, detail: None, first_us: Some(first_us), charged };
        self.close(ending).await.map_err(|stop| (stop, true))
    }

    /// What the call at hand answers, while the next is already made.
    async fn called(&mut self) -> Result<Result<Called, EngineError>, Stop> {
        let Some(calling) = self.calling.as_mut() else {
            return Err(Stop::Records(GatewayError::Internal("a part without a call".into())));
        };
        if let Some(called) = calling.called.take() {
            return Ok(called);
        }
        loop {
            tokio::select! {
                called = &mut calling.call => return Ok(called),
                () = next_call(&mut self.ahead) => {}
                () = left(&self.run.audio, &mut self.opener) => return Err(Stop::Left),
            }
        }
    }

    async fn chunk(
        &mut self,
        stream: &mut dispatcher_engines::AudioStream,
    ) -> Result<Option<Result<Bytes, EngineError>>, Stop> {
        loop {
            tokio::select! {
                chunk = stream.next() => return Ok(chunk),
                () = next_call(&mut self.ahead) => {}
                () = left(&self.run.audio, &mut self.opener) => return Err(Stop::Left),
            }
        }
    }

    /// All of a part's bytes; the inner error is the engine's.
    async fn hold(&mut self, stream: &mut dispatcher_engines::AudioStream) -> Result<Bytes, Result<Stop, EngineError>> {
        let mut held = Vec::new();
        while let Some(chunk) = self.chunk(stream).await.map_err(Ok)? {
            held.extend_from_slice(&chunk.map_err(Err)?);
            if held.len() > MOST_HELD {
                return Err(Err(broken(&"a part too long to be fitted to a length")));
            }
        }
        Ok(held.into())
    }

    /// Silence, and the marks that lie in it.
    async fn silence(&mut self, milliseconds: f64, marks: &[MarkAt]) -> Result<(), Stop> {
        let mut so_far = 0.0;
        for mark in marks {
            self.rest(mark.behind - so_far).await?;
            so_far = so_far.max(mark.behind);
            let at = self.seconds();
            self.run.marks.lock().unwrap_or_else(PoisonError::into_inner).push((mark.name.clone(), at));
        }
        self.rest(milliseconds - so_far).await
    }

    async fn rest(&mut self, milliseconds: f64) -> Result<(), Stop> {
        if milliseconds <= 0.0 {
            return Ok(());
        }
        let made = self.joiner.run(move |joiner| joiner.silence(milliseconds / 1_000.0)).await;
        let made = made.map_err(|error| self.broken(&error))?;
        self.give(made).await
    }

    fn broken(&self, error: &AudioError) -> Stop {
        Stop::Failed(FailedAttempt::of(self.planned, broken(error)))
    }

    fn seconds(&self) -> f64 {
        self.joiner.get().map_or(0.0, |joiner| joiner.length().seconds())
    }

    fn keep_words(&self, words: &Words, before: f64, speed: f64) {
        let words = words.lock().unwrap_or_else(PoisonError::into_inner);
        let moved = |time: Option<f64>| time.map(|time| before + time / speed);
        let moved = words.iter().map(|word| Word { start: moved(word.start), end: moved(word.end), ..word.clone() });
        self.words.lock().unwrap_or_else(PoisonError::into_inner).extend(moved);
    }

    /// Hands audio on; the first of it opens the answer.
    async fn give(&mut self, bytes: Bytes) -> Result<(), Stop> {
        if self.opener.is_some() {
            self.waiting.extend_from_slice(&bytes);
            return if self.seconds() > 0.0 && !self.waiting.is_empty() { self.open().await } else { Ok(()) };
        }
        match bytes.is_empty() || self.run.audio.send(Ok(bytes)).await.is_ok() {
            true => Ok(()),
            false => Err(Stop::Left),
        }
    }

    async fn open(&mut self) -> Result<(), Stop> {
        let Some(opener) = self.opener.take() else { return Ok(()) };
        let first_us = micros(self.run.docket.begun);
        self.first_us = Some(first_us);
        let opened = Opened {
            planned: self.planned.clone(),
            first: std::mem::take(&mut self.waiting).into(),
            first_us,
            fallbacks: self.failures.clone(),
            words: self.words.clone(),
            tempo: 1.0,
        };
        opener.send(Ok(opened)).map_err(|_| Stop::Left)
    }

    async fn end(mut self, outcome: Result<(), Stop>, only: bool) -> Composed {
        let made_ms = self.joiner.get().map_or(0, |joiner| joiner.length().milliseconds());
        let result = match outcome {
            Ok(()) => self.whole(made_ms).await,
            Err(Stop::Records(error)) => Err(error),
            Err(Stop::Left) => self.abandoned(made_ms).await,
            Err(Stop::Failed(failed)) => {
                if self.opener.is_some() && !only {
                    return self.give_way(failed).await;
                }
                return self.failed(failed, made_ms).await;
            }
        };
        if let Err(error) = result {
            tracing::error!(dispatch = %self.run.docket.id, %error, "a dispatch was not settled");
            match self.opener.take() {
                Some(opener) => drop(opener.send(Err(error))),
                None => {
                    let detail = "the settlement could not be written";
                    let failed = FailedAttempt::of(self.planned, broken(&detail));
                    let _ = self.run.audio.send(Err(BodyError(failed))).await;
                }
            }
        }
        Composed::Over
    }

    async fn whole(&mut self, made_ms: u64) -> Result<(), GatewayError> {
        if let Some(start) = self.joiner.get().and_then(Joiner::start) {
            let _ = self.run.start.set(start);
        }
        let last = self.last.take();
        let last = last.as_ref().map(|(entry, ending)| (entry, ending.clone()));
        self.run.docket.settle(last, "done", made_ms, self.first_us, None).await.map(drop)
    }

    /// Attempts under way are over: their engines have the text.
    async fn drop_calls(&mut self) -> Result<(), GatewayError> {
        let calls = [self.calling.take(), self.ahead.take()];
        for calling in calls.into_iter().flatten() {
            if let Some((entry, ending)) = self.last.take() {
                self.run.docket.end(&entry, ending).await?;
            }
            let ending = Ending {
                state: "abandoned",
                cause: Some(dispatcher_core::Cause::Abandoned),
                detail: Some("the utterance ended before it".into()),
                first_us: None,
                charged: Some(calling.entry.usage()),
            };
            self.last = Some((calling.entry, ending));
        }
        Ok(())
    }

    async fn abandoned(&mut self, made_ms: u64) -> Result<(), GatewayError> {
        self.drop_calls().await?;
        let last = self.last.take();
        let last = last.as_ref().map(|(entry, ending)| (entry, ending.clone()));
        let problem = Some("the caller left before the end".into());
        self.run.docket.settle(last, "abandoned", made_ms, self.first_us, problem).await.map(drop)
    }

    /// Nothing has sounded: another candidate tries.
    async fn give_way(mut self, failed: FailedAttempt) -> Composed {
        let closed = self.close(ending_of(&failed, None)).await.is_ok() && self.drop_calls().await.is_ok();
        let last = self.last.take();
        let written = match last {
            Some((entry, ending)) => self.run.docket.end(&entry, ending).await.is_ok(),
            None => true,
        };
        self.failures.push(failed);
        match self.opener.take() {
            Some(opener) if closed && written => Composed::Next(opener, self.failures),
            Some(opener) => {
                let _ = opener.send(Err(GatewayError::Internal("an attempt could not be written".into())));
                Composed::Over
            }
            None => Composed::Over,
        }
    }

    async fn failed(mut self, failed: FailedAttempt, made_ms: u64) -> Composed {
        let ended = self.close(ending_of(&failed, None)).await.is_ok() && self.drop_calls().await.is_ok();
        let last = self.last.take();
        let last = last.as_ref().map(|(entry, ending)| (entry, ending.clone()));
        self.failures.push(failed.clone());
        let problem = match self.opener.is_some() {
            true => summary(&self.failures),
            false => format!("broke off after {made_ms} ms of audio: {}", failed.detail),
        };
        let settled = self.run.docket.settle(last, "failed", made_ms, self.first_us, Some(problem)).await;
        if settled.is_err() || !ended {
            tracing::error!(dispatch = %self.run.docket.id, "a broken dispatch was not settled");
        }
        match self.opener.take() {
            Some(opener) => {
                let dispatch = self.run.docket.id.clone();
                let error = settled.err().unwrap_or(GatewayError::AllFailed { dispatch, attempts: self.failures });
                let _ = opener.send(Err(error));
            }
            None => drop(self.run.audio.send(Err(BodyError(failed))).await),
        }
        Composed::Over
    }
}

/// Drives the call of the part behind the present one; rests where there is
/// none, or it has answered.
async fn next_call(ahead: &mut Option<Calling<'_>>) {
    match ahead {
        Some(calling) if calling.called.is_none() => calling.called = Some((&mut calling.call).await),
        _ => std::future::pending().await,
    }
}

/// The caller is gone.
async fn left(audio: &tokio::sync::mpsc::Sender<Result<Bytes, BodyError>>, opener: &mut Option<Opener>) {
    match opener {
        Some(opener) => opener.closed().await,
        None => audio.closed().await,
    }
}

/// Seconds of sound in a part, the silence at its ends left out.
fn sounding(audio: &[u8], format: dispatcher_audio::Format) -> Result<f64, AudioError> {
    let (samples, layout) = decode_all(audio, format)?;
    let channels = usize::from(layout.channels).max(1);
    let block = (layout.rate as usize / 100).max(1) * channels;
    let loud = |block: &[f32]| block.iter().map(|s| s * s).sum::<f32>() / block.len() as f32 >= 1e-5;
    let blocks: Vec<&[f32]> = samples.chunks(block).collect();
    let from = blocks.iter().position(|block| loud(block)).unwrap_or(0);
    let to = blocks.iter().rposition(|block| loud(block)).map_or(0, |at| at + 1);
    let sounding: usize = blocks[from.min(to)..to].iter().map(|block| block.len()).sum();
    Ok(sounding as f64 / channels as f64 / f64::from(layout.rate))
}
