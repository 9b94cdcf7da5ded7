//! One synthesis, from the request to its settled record.

use std::sync::{Arc, Mutex};

use bytes::Bytes;
use dispatcher_audio::Format;
use dispatcher_core::{Cause, Money, Shaping, Usage, Wanted, Word, Work};
use dispatcher_engines::{EngineError, Words};
use dispatcher_markup::{Fidelity, Outcome, Script};
use futures::StreamExt as _;
use serde::{Deserialize, Serialize};
use tokio::sync::{mpsc, oneshot};

use crate::attempt::{Speaking, broken, tags};
use crate::compose::Composed;
use crate::deliver::{Start, WAITING};
use crate::jobs::Keeper;
use crate::plan::{plan_synthesis, wanted};
use crate::recall::fingerprint;
use crate::settle::{Docket, Ending, Entry, Opening, micros};
use crate::texts::TextRoom;
use crate::{AudioBody, BodyError, Caller, FailedAttempt, Gateway, GatewayError, Planned, TextInput, Unsupported};

/// What is asked for.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct SynthesisRequest {
    pub text: TextInput,
    pub wanted: Option<Wanted>,
    pub model: Option<String>,
    /// Of the text.
    pub language: Option<String>,
    pub unsupported: Unsupported,
    /// What is asked for beyond the text.
    pub shaping: Shaping,
    pub format: Format,
    /// Milliseconds until the first audio, in place of each candidate's own.
    #[serde(default)]
    pub deadline: Option<u64>,
    /// The credential to call with, in place of the engine's usual one.
    #[serde(default)]
    pub credential: Option<String>,
    /// `traceparent` of the caller (W3C Trace Context).
    pub trace: Option<String>,
    /// What was assumed about it, to be told with the answer.
    #[serde(default)]
    pub notes: Vec<String>,
}

/// An utterance whose first audio is there.
pub struct Utterance {
    pub dispatch: String,
    pub engine: String,
    /// `engine/voice`.
    pub voice: String,
    pub model: Option<String>,
    pub format: Format,
    /// The top of what it may cost; exact for tariffs by text.
    pub estimate: Money,
    pub fidelity: Vec<Fidelity>,
    pub worst: Outcome,
    pub fingerprint: String,
    pub warnings: Vec<String>,
    pub rehearsal: bool,
    /// Microseconds from the request to the first audio.
    pub first_us: i64,
    /// Attempts that failed before this one.
    pub fallbacks: Vec<FailedAttempt>,
    pub body: AudioBody,
    words: Words,
    /// How much faster the audio was made than the engine spoke it.
    tempo: f64,
    marks: Marks,
    cues: Cues,
}

impl Utterance {
    /// What is said when, part by part, where it was made of parts; whole
    /// once the body has ended.
    pub fn cues(&self) -> Vec<Cue> {
        self.cues.lock().unwrap_or_else(std::sync::PoisonError::into_inner).clone()
    }

    /// Marks of the script and the seconds at which they come; whole once the
    /// body has ended.
    pub fn marks(&self) -> Vec<(String, f64)> {
        self.marks.lock().unwrap_or_else(std::sync::PoisonError::into_inner).clone()
    }

    /// Words and their times, as far as the engine tells them; whole once the
    /// body has ended.
    pub fn words(&self) -> Vec<Word> {
        let words = self.words.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        let moved = |time: Option<f64>| time.map(|time| time / self.tempo);
        words.iter().map(|word| Word { start: moved(word.start), end: moved(word.end), ..word.clone() }).collect()
    }
}

/// What the running dispatch tells its caller once there is audio.
pub(crate) struct Opened {
    pub(crate) planned: Planned,
    pub(crate) first: Bytes,
    pub(crate) first_us: i64,
    pub(crate) fallbacks: Vec<FailedAttempt>,
    pub(crate) words: Words,
    /// How much faster the audio was made than the engine told the words.
    pub(crate) tempo: f64,
}

/// Seconds of audio of one utterance: what a WAV file of 24 kHz can hold.
pub(crate) const LONGEST_UTTERANCE: f64 = 86_400.0;

/// An utterance that has become longer than any may be.
pub(crate) fn too_long() -> EngineError {
    let detail = format!("the audio is longer than {LONGEST_UTTERANCE} s");
    EngineError { cause: Cause::Broken, detail, retry_after: None }
}

/// What is said from one second of an utterance to another.
#[derive(Debug, Clone, PartialEq)]
pub struct Cue {
    pub start: f64,
    pub end: f64,
    pub text: String,
}

pub(crate) type Cues = Arc<Mutex<Vec<Cue>>>;

/// Marks of a script, with the seconds at which they come.
pub(crate) type Marks = Arc<Mutex<Vec<(String, f64)>>>;

/// A text of what was wanted, for the record.
pub(crate) fn describe(wanted: &Wanted) -> String {
    match wanted {
        Wanted::Named(name) => name.clone(),
        Wanted::Like(criteria) => criteria.to_string(),
    }
}

/// Characters of text that are spoken in a second, at the least.
const CHARACTERS_A_SECOND: f64 = 20.0;

/// Refuses a text that no utterance can hold, before anything is called.
fn check_length(head: &Planned, shaping: &Shaping) -> Result<(), GatewayError> {
    let seconds = head.usage.characters as f64 / CHARACTERS_A_SECOND / shaping.rate.unwrap_or(1.0).clamp(0.25, 4.0);
    if seconds <= LONGEST_UTTERANCE {
        return Ok(());
    }
    Err(GatewayError::LongUtterance { given: seconds, limit: LONGEST_UTTERANCE })
}

impl Gateway {
    /// Speaks. Answers once there is audio from the first engine that gives any.
    ///
    /// # Errors
    /// Before anything was called: faults of the request. After: all that was
    /// tried and why it failed.
    pub async fn speak(&self, caller: &Caller, request: SynthesisRequest) -> Result<Utterance, GatewayError> {
        self.speak_for(caller, request, None).await
    }

    /// The same, for a track of a job where there is a keeper: pieces that it
    /// has are not called for again.
    pub(crate) async fn speak_for(
        &self,
        caller: &Caller,
        request: SynthesisRequest,
        keeper: Option<Arc<Keeper>>,
    ) -> Result<Utterance, GatewayError> {
        request.format.check_output().map_err(GatewayError::Format)?;
        let length = request.text.source().len();
        let room = self.inner.texts.room(length).await?;
        let script = request.text.parse()?;
        let wish = wanted(caller, request.wanted.as_ref(), request.language.as_deref().or(script.language.as_deref()))?;
        let registry = self.registry();
        let resources = self.resources(caller, &script).await;
        let mut plan = self
            .inner
            .texts
            .unhurried(length, || plan_synthesis(&registry, caller, &request, &wish, &script, &resources))
            .await?;
        if let Some(lead) = keeper.as_ref().and_then(|keeper| keeper.lead()) {
            // Who has made pieces of it goes on with it.
            plan.sort_by_key(|planned| planned.voice_id().as_deref() != Some(lead));
        }
        if keeper.is_none() && caller.app.rehearsal == 0 {
            plan = self.uncrowded(caller, plan)?;
        }
        let Some(head) = plan.first().cloned() else {
            return Err(GatewayError::Internal("an empty plan".into()));
        };
        check_length(&head, &request.shaping)?;
        let rehearsal = caller.app.rehearsal == 1;
        let language = request.language.clone().or_else(|| script.language.clone());
        let opening = Opening {
            wanted: &describe(&wish),
            media_type: request.format.media_type(),
            language: language.clone(),
            characters: head.usage.characters,
            audio_ms: 0,
            trace: request.trace.clone(),
            rehearsal,
            job: keeper.as_ref().map(|keeper| keeper.job.clone()),
        };
        let docket = Docket::open(self, caller, Work::Synthesis, opening);
        let dispatch = docket.id.clone();
        let (audio, receiver) = mpsc::channel(WAITING);
        let (opened, open) = oneshot::channel();
        let text = script.plain_text();
        let start = Start::default();
        let marks = Marks::default();
        let cues = Cues::default();
        let run = Run {
            docket,
            plan,
            text: text.clone(),
            language: language.clone(),
            marks: marks.clone(),
            cues: cues.clone(),
            format: request.format,
            audio,
            start: start.clone(),
            keeper,
            _room: room,
        };
        let work = if rehearsal { Manner::Rehearsal } else { Manner::Real };
        // The records must be written whatever becomes of the caller.
        self.inner.running.spawn(async move {
            match work {
                Manner::Rehearsal => run.rehearse(opened).await,
                Manner::Real => run.speak(opened).await,
            }
        });
        let opened =
            open.await.map_err(|_| GatewayError::Internal("the dispatch ended without an answer".into()))??;
        let body = AudioBody { receiver, first: Some(opened.first.clone()), start };
        let utterance = self.utterance(
            dispatch,
            opened,
            body,
            &script,
            request.text.source(),
            marks,
            language.as_deref(),
            request.format,
            rehearsal,
        );
        let warnings = request.notes.into_iter().chain(resources.missing).chain(utterance.warnings).collect();
        Ok(Utterance { cues, warnings, ..utterance })
    }

    #[expect(clippy::too_many_arguments, reason = "puts together what the stages have made")]
    fn utterance(
        &self,
        dispatch: String,
        opened: Opened,
        body: AudioBody,
        script: &Script<'_>,
        source: &str,
        marks: Marks,
        language: Option<&str>,
        format: Format,
        rehearsal: bool,
    ) -> Utterance {
        let mut warnings = self.warnings(&opened.planned, language, &script.plain_text());
        warnings.extend(script.notes.iter().cloned());
        for failed in &opened.fallbacks {
            warnings.push(failed.passed_over());
        }
        if rehearsal {
            warnings.push("this is a rehearsal: no engine was called and nothing is charged".into());
        }
        let estimate = if rehearsal { Money::zero(opened.planned.estimate.currency) } else { opened.planned.estimate };
        Utterance {
            dispatch,
            engine: opened.planned.engine_name().into(),
            voice: opened.planned.voice_id().unwrap_or_default(),
            model: opened.planned.candidate.model.clone(),
            format,
            estimate,
            fidelity: opened.planned.fidelity(),
            worst: opened.planned.worst(),
            fingerprint: fingerprint(&opened.planned, source, format),
            warnings,
            rehearsal,
            first_us: opened.first_us,
            fallbacks: opened.fallbacks,
            body,
            tempo: opened.tempo,
            marks,
            cues: Cues::default(),
            words: opened.words,
        }
    }
}

enum Manner {
    Real,
    Rehearsal,
}

/// A dispatch in work.
pub(crate) struct Run {
    pub(crate) docket: Docket,
    pub(crate) plan: Vec<Planned>,
    pub(crate) text: String,
    pub(crate) language: Option<String>,
    /// Marks of the script and when they come, as they are reached.
    pub(crate) marks: Marks,
    pub(crate) cues: Cues,
    pub(crate) format: Format,
    pub(crate) audio: mpsc::Sender<Result<Bytes, BodyError>>,
    pub(crate) start: Start,
    /// Keeps its pieces, where it is a track of a job.
    pub(crate) keeper: Option<Arc<Keeper>>,
    _room: TextRoom,
}

pub(crate) type Opener = oneshot::Sender<Result<Opened, GatewayError>>;

impl Run {
    /// Tries each candidate until one gives audio, then streams it to its end.
    async fn speak(self, mut opener: Opener) {
        let mut failures: Vec<FailedAttempt> = Vec::new();
        for (index, planned) in self.plan.iter().enumerate() {
            // Pieces of jobs are kept, which composing sees to.
            let single = planned.score.single().filter(|_| self.keeper.is_none());
            let Some(part) = single else {
                let last = index + 1 == self.plan.len();
                // On the heap: scripts of one part do without it.
                match Box::pin(self.compose(opener, planned, failures, last)).await {
                    Composed::Over => return,
                    Composed::Next(again, failed) => (opener, failures) = (again, failed),
                }
                continue;
            };
            let entry = match self.docket.begin(planned, planned.usage, planned.estimate).await {
                Ok(entry) => entry,
                Err(error) => return drop(opener.send(Err(error))),
            };
            let attempt = Box::pin(self.docket.gateway.attempt_speech(
                planned,
                &self.docket,
                part.call.clone(),
                self.format,
                tags(planned, &self.text, self.language.as_deref()),
            ));
            let outcome = tokio::select! {
                outcome = attempt => outcome,
                () = opener.closed() => return self.abandon(&entry, planned, None, 0).await,
            };
            match outcome {
                Ok(speaking) => {
                    let first_us = micros(self.docket.begun);
                    let opened = Opened {
                        planned: planned.clone(),
                        first: speaking.first.clone(),
                        first_us,
                        fallbacks: failures,
                        words: speaking.words.clone(),
                        tempo: part.call.shaped.emulated.rate,
                    };
                    if opener.send(Ok(opened)).is_err() {
                        return self
                            .abandon(
                                &entry,
                                planned,
                                Some(speaking.first_us),
                                speaking.converter.length().milliseconds(),
                            )
                            .await;
                    }
                    return self.stream(&entry, planned, speaking, first_us).await;
                }
                Err(error) => {
                    let failed = FailedAttempt::of(planned, error);
                    tracing::info!(dispatch = %self.docket.id, engine = %failed.engine, cause = %failed.cause, "attempt failed");
                    let ending = ending_of(&failed, None);
                    failures.push(failed);
                    if index + 1 < self.plan.len() {
                        if let Err(error) = self.docket.end(&entry, ending).await {
                            return drop(opener.send(Err(error)));
                        }
                        continue;
                    }
                    let problem = summary(&failures);
                    let settled =
                        self.docket.settle(Some((&entry, Some(ending))), "failed", 0, None, Some(problem)).await;
                    let dispatch = self.docket.id.clone();
                    let error = settled.err().unwrap_or(GatewayError::AllFailed { dispatch, attempts: failures });
                    return drop(opener.send(Err(error)));
                }
            }
        }
    }

    /// Streams what follows the first audio. The body ends only once all is
    /// settled, and breaks where it is not whole.
    async fn stream(&self, entry: &Entry, planned: &Planned, mut speaking: Speaking, first_us: i64) {
        let outcome = loop {
            let next = tokio::select! {
                next = speaking.stream.next() => next,
                () = self.audio.closed() => break Err(None),
            };
            let made = match next {
                Some(Ok(chunk)) => speaking.converter.push(chunk).await.map_err(|error| broken(&error)),
                Some(Err(error)) => Err(error),
                None => break self.finish(&mut speaking).await,
            };
            match made {
                Ok(_) if speaking.converter.length().seconds() > LONGEST_UTTERANCE => break Err(Some(too_long())),
                Ok(bytes) if bytes.is_empty() => {}
                Ok(bytes) => {
                    if self.audio.send(Ok(bytes)).await.is_err() {
                        break Err(None);
                    }
                }
                Err(error) => break Err(Some(error)),
            }
        };
        // Ends the engine's call, where it still runs.
        speaking.stream = Box::pin(futures::stream::empty());
        let made_ms = speaking.converter.length().milliseconds();
        match outcome {
            Ok(()) => self.settle_whole(entry, planned, (speaking.first_us, first_us), made_ms).await,
            Err(None) => self.abandon(entry, planned, Some(speaking.first_us), made_ms).await,
            Err(Some(error)) => {
                let failed = FailedAttempt::of(planned, error);
                let ending = ending_of(&failed, Some(speaking.first_us));
                let problem = format!("failed after {made_ms} ms of audio: {}", failed.cause);
                let settled = self
                    .docket
                    .settle(Some((entry, Some(ending))), "failed", made_ms, Some(first_us), Some(problem))
                    .await;
                if let Err(error) = settled {
                    tracing::error!(dispatch = %self.docket.id, %error, "a broken dispatch was not settled");
                }
                let _ = self.audio.send(Err(BodyError(failed))).await;
            }
        }
    }

    async fn finish(&self, speaking: &mut Speaking) -> Result<(), Option<EngineError>> {
        let rest = speaking.converter.finish().await;
        if let Some(start) = speaking.converter.start() {
            let _ = self.start.set(start);
        }
        match rest {
            Ok(rest) if !rest.is_empty() => self.audio.send(Ok(rest)).await.map_err(|_| None),
            Ok(_) => Ok(()),
            Err(error) => Err(Some(broken(&error))),
        }
    }

    /// `first` is the time to the first audio, of the attempt and of the dispatch.
    pub(crate) async fn settle_whole(&self, entry: &Entry, planned: &Planned, first: (i64, i64), milliseconds: u64) {
        let usage = Usage { milliseconds, ..planned.usage };
        let ending = Ending { state: "done", cause: None, detail: None, first_us: Some(first.0), charged: Some(usage) };
        let settled = self.docket.settle(Some((entry, Some(ending))), "done", milliseconds, Some(first.1), None).await;
        if let Err(error) = settled {
            tracing::error!(dispatch = %self.docket.id, %error, "a dispatch was not settled");
            let failed = FailedAttempt {
                engine: entry.engine.clone(),
                cause: Cause::Broken,
                detail: "the settlement could not be written".into(),
                retry_after: None,
            };
            let _ = self.audio.send(Err(BodyError(failed))).await;
        }
    }

    /// The caller left; audio is charged as far as it was made.
    async fn abandon(&self, entry: &Entry, planned: &Planned, first_us: Option<i64>, made_ms: u64) {
        let usage = Usage { milliseconds: made_ms, ..planned.usage };
        let ending = Ending { first_us, ..entry.cancelled("the caller left", usage, made_ms) };
        let problem = Some("the caller left before the end".into());
        if let Err(error) =
            self.docket.settle(Some((entry, Some(ending))), "abandoned", made_ms, first_us, problem).await
        {
            tracing::error!(dispatch = %self.docket.id, %error, "an abandoned dispatch was not settled");
        }
    }
}

pub(crate) fn ending_of(failed: &FailedAttempt, first_us: Option<i64>) -> Ending {
    Ending { state: "failed", cause: Some(failed.cause), detail: Some(failed.detail.clone()), first_us, charged: None }
}

pub(crate) fn summary(failures: &[FailedAttempt]) -> String {
    failures.iter().map(|failed| format!("{}: {}", failed.engine, failed.cause)).collect::<Vec<_>>().join("; ")
}
