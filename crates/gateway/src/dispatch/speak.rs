//! One synthesis, from the request to its settled record.

use std::sync::Arc;
use std::sync::atomic::AtomicBool;

use bytes::Bytes;
use dispatcher_audio::Format;
use dispatcher_core::{Cause, Money, RequestShare, Shaping, Usage, Wanted, Work};
use dispatcher_engines::{EngineError, Words};
use dispatcher_markup::Script;
use dispatcher_store::Disclosure;
use futures::StreamExt as _;
use serde::{Deserialize, Serialize};
use tokio::sync::{mpsc, oneshot};

use crate::dispatch::attempt::Speaking;
use crate::dispatch::caller_limits::InWork;
use crate::dispatch::candidates::{self, Outcome as Ran};
use crate::dispatch::completion::Completion;
use crate::dispatch::deliver::WAITING;
use crate::dispatch::dispatch_record::{
    DispatchOutcome, DispatchRecord, EndedAttempt, NewDispatch, OpenAttempt, SinceAttempt, SinceDispatch,
};
use crate::dispatch::fingerprint;
use crate::dispatch::recalled::{Recall, RecallKey};
use crate::dispatch::speaker::Speaker;
use crate::dispatch::utterance::{Cues, Marks, Utterance};
use crate::intake::texts::TextRoom;
use crate::jobs::PieceStore;
use crate::planning::order::Purpose;
use crate::planning::plan::{TextLanguage, wanted};
use crate::{
    AudioBody, BodyError, CacheOutcome, CacheWish, Caller, FailedAttempt, Gateway, GatewayError, PlannedCall,
    TextInput, Unsupported,
};

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
    /// The region in which its engine is called.
    #[serde(default)]
    pub region: Option<String>,
    /// `traceparent` of the caller (W3C Trace Context).
    pub trace: Option<String>,
    /// What it says about kept audio.
    #[serde(default)]
    pub cache: CacheWish,
    /// Assumptions about it, to be reported with the answer.
    #[serde(default)]
    pub notes: Vec<String>,
}

/// What the running dispatch returns to its caller once audio exists.
pub(crate) struct FirstAudio {
    pub(crate) planned: PlannedCall,
    pub(crate) first: Bytes,
    pub(crate) first_at: SinceDispatch,
    pub(crate) fallbacks: Vec<FailedAttempt>,
    pub(crate) words: Words,
    /// Factor by which the audio is faster than the word times of the engine.
    pub(crate) tempo: f64,
}

/// Seconds of audio of one utterance: what a WAV file of 24 kHz can hold.
pub(crate) const LONGEST_UTTERANCE: f64 = 86_400.0;

/// An utterance that has become longer than any may be.
pub(crate) fn too_long() -> EngineError {
    let detail = format!("the audio is longer than {LONGEST_UTTERANCE} s");
    EngineError { cause: Cause::Broken, detail, retry_after: None }
}

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
fn check_length(head: &PlannedCall, shaping: &Shaping) -> Result<(), GatewayError> {
    let seconds = head.usage.characters as f64 / CHARACTERS_A_SECOND / shaping.rate.unwrap_or(1.0).clamp(0.25, 4.0);
    if seconds <= LONGEST_UTTERANCE {
        return Ok(());
    }
    Err(GatewayError::LongUtterance { given: seconds, limit: LONGEST_UTTERANCE })
}

/// What was requested, as an utterance reports it.
struct Asked<'a> {
    script: &'a Script<'a>,
    source: &'a str,
    language: TextLanguage<'a>,
    format: Format,
    rehearsal: bool,
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

    /// The same, for a track of a job where there is a piece store: pieces that it
    /// has are not called for again.
    pub(crate) async fn speak_for(
        &self,
        caller: &Caller,
        request: SynthesisRequest,
        piece_store: Option<Arc<PieceStore>>,
    ) -> Result<Utterance, GatewayError> {
        request.format.check_output().map_err(GatewayError::Format)?;
        // Pieces of jobs were let in with their job.
        let in_work = if piece_store.is_none() { self.enter(caller)? } else { None };
        let length = request.text.source().len();
        let room = self.inner.texts.room(length).await?;
        let script = request.text.parse()?;
        let wish = wanted(caller, request.wanted.as_ref(), request.language.as_deref().or(script.language.as_deref()))?;
        caller.check_route(&describe(&wish), request.credential.as_deref())?;
        let resources = self.resources(caller, &script).await;
        let purpose = if piece_store.is_some() { Purpose::Job } else { Purpose::Answer };
        let mut plan = self.plan_speech(caller, &request, &wish, (&script, &resources), purpose).await?;
        if let Some(lead) = piece_store.as_ref().and_then(|piece_store| piece_store.lead()) {
            // Who has made pieces of it goes on with it.
            plan.sort_by_key(|planned| planned.voice_id().as_deref() != Some(lead));
        }
        let Some(head) = plan.first().cloned() else {
            return Err(GatewayError::Contradiction("an empty plan"));
        };
        check_length(&head, &request.shaping)?;
        caller.check_voices(plan.iter().any(|planned| planned.render_plan.has_other_voices(planned)))?;
        let rehearsal = caller.app.rehearsal;
        let language = request.language.clone().or_else(|| script.language.clone());
        let owner = caller.recall_owner().filter(|_| piece_store.is_none());
        let mut flight = None;
        if let Some(owner) = owner {
            let fingerprint =
                fingerprint::of_request(&head, request.text.source(), language.as_deref(), request.format);
            match self.recall(RecallKey { fingerprint, owner }, request.cache).await {
                Recall::Kept(kept) => {
                    let asked = describe(&wish);
                    return self.answer_recalled(caller, &request, (&head, &asked, language.as_deref()), kept).await;
                }
                Recall::ToMake(to_make) => flight = Some(to_make.of_end_user(caller.end_user())),
                Recall::NotKept => {}
            }
        }
        if piece_store.is_none() && !rehearsal {
            plan = self.uncrowded(caller, plan)?;
        }
        let share = |cost| RequestShare::of_text(head.usage, cost);
        let hold = if rehearsal { None } else { self.hold_for_plan(caller, &mut plan, share)? };
        let new = NewDispatch {
            hold,
            requested: &describe(&wish),
            media_type: request.format.media_type(),
            language: language.clone(),
            characters: head.usage.characters,
            audio_ms: 0,
            trace: request.trace.clone(),
            rehearsal,
            job: piece_store.as_ref().map(|piece_store| piece_store.job.clone()),
        };
        let record = DispatchRecord::open(self, caller, Work::Synthesis, new);
        let dispatch = record.id().to_owned();
        let (audio, receiver) = mpsc::channel(WAITING);
        let (responder, answer) = oneshot::channel();
        let text = script.plain_text();
        let completion = Completion::new(self.inner.host.signer.clone());
        let marks = Marks::default();
        let cues = Cues::default();
        let mixed = Arc::new(AtomicBool::new(false));
        let run = Run {
            mixed: mixed.clone(),
            record,
            hedging: self.hedging_route(&wish).filter(|_| piece_store.is_none() && !rehearsal),
            plan,
            text: text.clone(),
            language: language.clone(),
            marks: marks.clone(),
            cues: cues.clone(),
            format: request.format,
            audio,
            tagged: caller.app.discloses_in(Disclosure::Tag),
            completion: completion.clone(),
            piece_store,
            _room: room,
            _in_work: in_work,
        };
        let work = if rehearsal { Manner::Rehearsal } else { Manner::Real };
        // The records must be written whatever becomes of the caller.
        self.inner.running.spawn(async move {
            match work {
                Manner::Rehearsal => run.rehearse(responder).await,
                Manner::Real => run.speak(responder).await,
            }
        });
        // While the engine works; its voice is known later.
        let text_language = TextLanguage::of(language.as_deref(), &text);
        let first_audio = answer.await.map_err(|_| GatewayError::Abandoned)??;
        let body = AudioBody { receiver, first: Some(first_audio.first.clone()), completion };
        let source = request.text.source();
        let asked = Asked { script: &script, source, language: text_language, format: request.format, rehearsal };
        let utterance = self.utterance(dispatch, first_audio, body, marks, asked);
        let warnings = request.notes.into_iter().chain(resources.missing).chain(utterance.warnings).collect();
        let utterance = Utterance { cues, warnings, ..utterance };
        let Some(flight) = flight else { return Ok(utterance) };
        Ok(self.keep_passing(utterance, flight, mixed))
    }

    /// What the stages have made, put together.
    fn utterance(
        &self,
        dispatch: String,
        first_audio: FirstAudio,
        body: AudioBody,
        marks: Marks,
        asked: Asked<'_>,
    ) -> Utterance {
        let Asked { script, source, language, format, rehearsal } = asked;
        let mut warnings = self.warnings(&first_audio.planned, language);
        warnings.extend(script.notes.iter().cloned());
        for failed in &first_audio.fallbacks {
            warnings.push(failed.passed_over());
        }
        if rehearsal {
            warnings.push("this is a rehearsal: no engine was called and nothing is charged".into());
        }
        let estimate =
            if rehearsal { Money::zero(first_audio.planned.estimate.currency) } else { first_audio.planned.estimate };
        Utterance {
            dispatch,
            engine: first_audio.planned.engine_name().into(),
            voice: first_audio.planned.voice_id().unwrap_or_default(),
            model: first_audio.planned.candidate.model.clone(),
            format,
            estimate,
            fidelity: first_audio.planned.fidelity(),
            worst: first_audio.planned.worst(),
            fingerprint: fingerprint::of_request(&first_audio.planned, source, language.declared(), format),
            warnings,
            rehearsal,
            first_us: first_audio.first_at.micros(),
            fallbacks: first_audio.fallbacks,
            body,
            cache: CacheOutcome::Bypassed,
            tempo: first_audio.tempo,
            marks,
            cues: Cues::default(),
            words: first_audio.words,
        }
    }
}

enum Manner {
    Real,
    Rehearsal,
}

/// A dispatch in work.
pub(crate) struct Run {
    pub(crate) record: DispatchRecord,
    pub(crate) plan: Vec<PlannedCall>,
    /// The route, where its legs may be called beside one another.
    pub(super) hedging: Option<String>,
    pub(crate) text: String,
    pub(crate) language: Option<String>,
    /// Marks of the script and when they come, as they are reached.
    pub(crate) marks: Marks,
    pub(crate) cues: Cues,
    pub(crate) format: Format,
    pub(crate) audio: mpsc::Sender<Result<Bytes, BodyError>>,
    /// Its tags say that it is synthetic.
    pub(crate) tagged: bool,
    pub(crate) completion: Completion,
    /// More than one engine speaks.
    pub(crate) mixed: Arc<AtomicBool>,
    /// Keeps its pieces, where it is a track of a job.
    pub(crate) piece_store: Option<Arc<PieceStore>>,
    _room: TextRoom,
    _in_work: Option<InWork>,
}

pub(crate) type Responder = oneshot::Sender<Result<FirstAudio, GatewayError>>;

/// The caller is gone.
pub(crate) async fn left(audio: &mpsc::Sender<Result<Bytes, BodyError>>, responder: &mut Option<Responder>) {
    match responder {
        Some(responder) => responder.closed().await,
        None => audio.closed().await,
    }
}

impl Run {
    /// Tries each candidate until one gives audio, then streams it to its end.
    async fn speak(self, responder: Responder) {
        let mut speaker = Speaker { run: &self, responder: Some(responder) };
        let error = match candidates::run(&self.record, &self.plan, &mut speaker).await {
            Ok(Ran::Over(())) => return,
            Ok(Ran::Exhausted(last, attempts)) => {
                let outcome = DispatchOutcome::failed(0, None, summary(&attempts));
                match self.record.settle(last, outcome).await {
                    Ok(_) => GatewayError::AllFailed { dispatch: self.record.id().to_owned(), attempts },
                    Err(error) => error,
                }
            }
            Err(error) => error,
        };
        if let Some(responder) = speaker.responder.take() {
            drop(responder.send(Err(error)));
        }
    }

    /// Sends what follows the first audio. The body ends only once all is
    /// settled, and breaks where it is not whole.
    pub(super) async fn stream(
        &self,
        attempt: OpenAttempt,
        planned: &PlannedCall,
        mut speaking: Speaking,
        first_at: SinceDispatch,
    ) {
        let outcome = loop {
            let next = tokio::select! {
                next = speaking.stream.next() => next,
                () = self.audio.closed() => break Err(None),
            };
            let made = match next {
                Some(Ok(chunk)) => speaking.converter.push(chunk).await.map_err(EngineError::from),
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
            Ok(()) => self.settle_whole(attempt, planned, speaking.first_at, first_at, made_ms).await,
            Err(None) => self.abandon(attempt, planned, Some(speaking.first_at), Some(first_at), made_ms).await,
            Err(Some(error)) => {
                let failed = FailedAttempt::of(planned, error);
                let problem = format!("failed after {made_ms} ms of audio: {}", failed.cause);
                let ended = attempt.failed(&failed, Some(speaking.first_at));
                self.settle(ended, DispatchOutcome::failed(made_ms, Some(first_at), problem)).await;
                // A caller who left meanwhile misses nothing.
                let _ = self.audio.send(Err(BodyError(failed))).await;
            }
        }
    }

    async fn finish(&self, speaking: &mut Speaking) -> Result<(), Option<EngineError>> {
        let rest = speaking.converter.finish().await;
        if let Some(start) = speaking.converter.start() {
            // Nobody else sets it.
            self.completion.set_start(start);
        }
        match rest {
            Ok(rest) if !rest.is_empty() => self.audio.send(Ok(rest)).await.map_err(|_| None),
            Ok(_) => Ok(()),
            Err(error) => Err(Some(error.into())),
        }
    }

    async fn settle_whole(
        &self,
        attempt: OpenAttempt,
        planned: &PlannedCall,
        attempt_first: SinceAttempt,
        first_at: SinceDispatch,
        milliseconds: u64,
    ) {
        let engine = attempt.engine().to_owned();
        let ended = attempt.delivered(Usage { milliseconds, ..planned.usage }, Some(attempt_first));
        if self.settle(ended, DispatchOutcome::done(milliseconds, Some(first_at))).await {
            return;
        }
        let detail = "the settlement could not be written".into();
        let failed = FailedAttempt { engine, cause: Cause::Internal, detail, retry_after: None };
        // A caller who left meanwhile misses nothing.
        let _ = self.audio.send(Err(BodyError(failed))).await;
    }

    /// The caller left; audio is charged as far as it was made.
    pub(super) async fn abandon(
        &self,
        attempt: OpenAttempt,
        planned: &PlannedCall,
        attempt_first: Option<SinceAttempt>,
        first_at: Option<SinceDispatch>,
        made_ms: u64,
    ) {
        let usage = Usage { milliseconds: made_ms, ..planned.usage };
        let ended = attempt.abandoned("the caller left", usage, made_ms, attempt_first);
        self.settle(ended, DispatchOutcome::abandoned(made_ms, first_at, CALLER_LEFT)).await;
    }

    /// Settles where a failure can only be logged.
    async fn settle(&self, ended: EndedAttempt, outcome: DispatchOutcome) -> bool {
        match self.record.settle(ended.into(), outcome).await {
            Ok(_) => true,
            Err(error) => {
                tracing::error!(dispatch = self.record.id(), %error, "a dispatch was not settled");
                false
            }
        }
    }
}

/// Problem of a dispatch that was abandoned.
pub(crate) const CALLER_LEFT: &str = "the caller left before the end";

pub(crate) fn summary(failures: &[FailedAttempt]) -> String {
    failures.iter().map(|failed| format!("{}: {}", failed.engine, failed.cause)).collect::<Vec<_>>().join("; ")
}
