//! One stretch of a live recognition, heard by the first candidate that can.

use std::sync::Arc;
use std::time::Duration;

use bytes::Bytes;
use dispatcher_audio::{Format, Transcoder};
use dispatcher_core::{Backoff, Cause, Remedy, Usage};
use dispatcher_engines::{AudioSource, EngineError, Hear, LiveResult};
use dispatcher_store::App;
use dispatcher_vault::Parts;
use futures::{Stream, StreamExt as _};
use tokio::sync::mpsc;

use super::stretch::{RATE, Stretch, samples_format};
use super::{LiveRequest, OVERLAP};
use crate::dispatch::dispatch_record::{AttemptFacts, DispatchRecord};
use crate::dispatch::hear::transcode_to_file;
use crate::dispatch::rehearse;
use crate::planning::hearers::Over;
use crate::{FailedAttempt, Gateway, GatewayError, PlannedCall};

/// Number of rounds over all candidates for one stretch.
const ROUNDS: u32 = 3;
const AGAIN: Backoff =
    Backoff { first: Duration::from_millis(300), factor: 3, longest: Duration::from_secs(2), jitter: 0.5 };

/// What a call of a session says.
pub(super) enum StretchEvent {
    /// Times are those of the session.
    Heard(LiveResult),
    /// Another call goes on with what is not settled.
    Again {
        engine: String,
    },
    /// All of it is heard.
    Done(AttemptFacts),
    Failed(GatewayError),
}

/// What all calls of a session share.
pub(super) struct LiveCall {
    pub(super) gateway: Gateway,
    pub(super) app: App,
    pub(super) record: DispatchRecord,
    pub(super) plan: Vec<PlannedCall>,
    pub(super) request: LiveRequest,
}

impl LiveCall {
    /// Has a stretch heard, to its end.
    pub(super) async fn hear(self: Arc<Self>, stretch: Arc<Stretch>, told: mpsc::UnboundedSender<StretchEvent>) {
        let last = match self.record.is_rehearsal() {
            true => self.rehearse(&stretch, &told).await,
            false => self.try_candidates(&stretch, &told).await,
        };
        // A session that has ended needs no answer.
        let _ = told.send(last.unwrap_or_else(StretchEvent::Failed));
    }

    async fn rehearse(
        &self,
        stretch: &Arc<Stretch>,
        told: &mpsc::UnboundedSender<StretchEvent>,
    ) -> Result<StretchEvent, GatewayError> {
        stretch.ended().await;
        let planned = self.plan.first().ok_or(GatewayError::Contradiction("an empty plan"))?;
        let transcript = rehearse::transcript(stretch.seconds(), self.request.hearer.language.clone());
        let heard = shifted(LiveResult { key: None, transcript, settled: true }, stretch.from);
        // A session that has ended needs no answer.
        let _ = told.send(StretchEvent::Heard(heard));
        Ok(StretchEvent::Done(AttemptFacts::of_kept(planned)))
    }

    async fn try_candidates(
        &self,
        stretch: &Arc<Stretch>,
        told: &mpsc::UnboundedSender<StretchEvent>,
    ) -> Result<StretchEvent, GatewayError> {
        let mut failures: Vec<FailedAttempt> = Vec::new();
        // Seconds of the stretch that are settled: what was said is not asked for again.
        let mut from = 0.0;
        for round in 1..=ROUNDS {
            for planned in &self.plan {
                if let Err(shut) = self.gateway.check_breaker(planned).await {
                    failures.push(shut);
                    continue;
                }
                if !failures.is_empty() {
                    // A session that has ended needs no answer.
                    let _ = told.send(StretchEvent::Again { engine: planned.engine_name().to_owned() });
                }
                match self.attempt(planned, stretch, &mut from, told).await? {
                    Ok(facts) => return Ok(StretchEvent::Done(facts)),
                    Err(failed) => {
                        tracing::info!(dispatch = self.record.id(), engine = %failed.engine, cause = %failed.cause, "a live call failed");
                        failures.push(failed);
                    }
                }
            }
            let hopeless = failures.iter().all(|failed| failed.cause.remedy() == Remedy::Nobody);
            if hopeless || told.is_closed() || round == ROUNDS {
                break;
            }
            tokio::time::sleep(AGAIN.wait(round, rand::random())).await;
        }
        Err(GatewayError::AllFailed { dispatch: self.record.id().to_owned(), attempts: failures })
    }

    /// One call; the inner error is the engine's.
    async fn attempt(
        &self,
        planned: &PlannedCall,
        stretch: &Arc<Stretch>,
        from: &mut f64,
        told: &mpsc::UnboundedSender<StretchEvent>,
    ) -> Result<Result<AttemptFacts, FailedAttempt>, GatewayError> {
        let attempt = self.record.begin(planned, usage_of(LONGEST_CALL)).await?;
        let begun = *from;
        let settled = std::sync::atomic::AtomicU64::new(from.to_bits());
        let heard = self.heard(planned, stretch, begun, |result| {
            if let Some(end) = result.transcript.words.last().and_then(|word| word.end).filter(|_| result.settled) {
                settled.store((begun + end).to_bits(), std::sync::atomic::Ordering::Relaxed);
            }
            // A session that has ended needs no answer.
            let _ = told.send(StretchEvent::Heard(shifted(result, stretch.from + begun)));
        });
        let outcome = heard.await;
        *from = f64::from_bits(settled.load(std::sync::atomic::Ordering::Relaxed));
        let used = usage_of((stretch.seconds() - begun).max(0.0));
        Ok(match outcome {
            Ok(()) => Ok(self.record.write(attempt.delivered(used, None)).await?),
            Err(error) => {
                let failed = FailedAttempt::of(planned, error);
                drop(self.record.write(attempt.failed(&failed, None)).await?);
                Err(failed)
            }
        })
    }

    async fn heard(
        &self,
        planned: &PlannedCall,
        stretch: &Arc<Stretch>,
        from: f64,
        tell: impl Fn(LiveResult) + Send + Sync,
    ) -> Result<(), EngineError> {
        if let Some(reason) = planned.engine.absent() {
            return Err(EngineError { cause: Cause::Absent, detail: reason, retry_after: None });
        }
        let permit = self.gateway.turn(planned, &self.record).await;
        let none = AudioSource::Memory(Bytes::new());
        let language = self.request.hearer.language.as_deref();
        let rules = self.gateway.rules_of(self.record.app()).rules;
        let call = planned.hear(none, LONGEST_CALL, language, &self.request.wish, &rules.vocabulary);
        let live = planned.engine.is_live();
        let named = planned.candidate.credential.as_deref();
        let heard = self.gateway.with_credential(&planned.engine, named, |credential| {
            let (call, tell, permit) = (&call, &tell, &permit);
            async move {
                let none = Parts::new();
                let parts = credential.as_ref().map_or(&none, |credential| &credential.parts);
                let parts = planned.parts_in_region(parts);
                if live {
                    let audio = converted(stretch.tail(from), planned.format.format)?;
                    return planned.engine.hear_live(call.clone(), audio, tell, &parts).await;
                }
                stretch.ended().await;
                let audio = whole(stretch, planned.format.format).await?;
                let call = Hear { audio, seconds: stretch.seconds(), ..call.clone() };
                let again =
                    crate::dispatch::attempt::again(permit.as_ref(), || planned.engine.hear(call.clone(), &parts));
                let transcript = again.await?;
                tell(LiveResult { key: None, transcript, settled: true });
                Ok(())
            }
        });
        // Its deadline begins once it has all.
        let patience = async {
            stretch.ended().await;
            let deadline = planned.candidate.first_deadline(usage_of(stretch.seconds()));
            tokio::time::sleep(deadline).await;
            deadline
        };
        tokio::select! {
            heard = heard => no_speech_is_silence(heard),
            deadline = patience => {
                let detail = format!("no transcript within {} ms", deadline.as_millis());
                Err(EngineError { cause: Cause::TimedOut, detail, retry_after: None })
            }
        }
    }
}

/// A stretch in which an engine recognises no words counts for nothing.
fn no_speech_is_silence(heard: Result<(), EngineError>) -> Result<(), EngineError> {
    match heard {
        Err(error) if error.cause == Cause::NoSpeech => Ok(()),
        other => other,
    }
}

fn usage_of(seconds: f64) -> Usage {
    Usage { characters: 0, bytes: 0, milliseconds: (seconds * 1_000.0).round() as u64 }
}

/// A result with its times moved.
fn shifted(mut result: LiveResult, by: f64) -> LiveResult {
    for word in &mut result.transcript.words {
        word.start = word.start.map(|start| start + by);
        word.end = word.end.map(|end| end + by);
    }
    result
}

/// Samples as they come, in a format.
fn converted(
    samples: impl Stream<Item = std::io::Result<Bytes>> + Send,
    format: Format,
) -> Result<impl Stream<Item = Bytes> + Send, EngineError> {
    let unusable = |error: dispatcher_audio::AudioError| EngineError {
        cause: Cause::Unusable,
        detail: error.to_string(),
        retry_after: None,
    };
    let same = samples_format().satisfies(&format);
    let transcoder = if same { None } else { Some(Transcoder::new(samples_format(), format).map_err(unusable)?) };
    let chunks = samples.map(Some).chain(futures::stream::iter([None]));
    // What cannot be read or converted ends the audio; the engine hears less.
    let made = chunks.scan(transcoder, |transcoder, chunk| {
        let bytes = match (chunk, transcoder.as_mut()) {
            (Some(Ok(chunk)), None) => Some(chunk),
            (Some(Ok(chunk)), Some(transcoder)) => transcoder.push(&chunk).ok(),
            (None, Some(transcoder)) => transcoder.finish().ok(),
            (Some(Err(_)) | None, _) => None,
        };
        std::future::ready(bytes)
    });
    Ok(made.filter(|bytes| std::future::ready(!bytes.is_empty())))
}

/// All of a stretch in a format, in a file.
async fn whole(stretch: &Stretch, format: Format) -> Result<AudioSource, EngineError> {
    let source = stretch.source();
    let from = Format { rate: RATE, ..samples_format() };
    let made = tokio::task::spawn_blocking(move || transcode_to_file(&source, from, format)).await;
    made.map_err(|error| EngineError { cause: Cause::Internal, detail: error.to_string(), retry_after: None })?
}

/// Seconds that one call may last.
const LONGEST_CALL: f64 = 240.0;
/// Seconds of a call of an engine that recognises whole recordings.
const LONGEST_PIECE: f64 = 20.0;

/// Where a stretch ends, in seconds.
pub(super) struct Cut {
    /// After so much silence.
    pub(super) pause: f64,
    /// From this length on, after the shortest pause.
    pub(super) late: f64,
    /// At this length, whatever is heard.
    pub(super) longest: f64,
}

impl LiveCall {
    /// The engine that each call is made to first.
    pub(super) fn first_engine(&self) -> String {
        self.plan.first().map(|planned| planned.engine_name().to_owned()).unwrap_or_default()
    }

    pub(super) fn cut(&self) -> Cut {
        let live = self.plan.first().is_some_and(|planned| planned.engine.is_live());
        let limit =
            |planned: &PlannedCall| Over::of(&planned.candidate).seconds.map_or(LONGEST_CALL, |limit| limit as f64);
        let limit = self.plan.iter().map(limit).fold(LONGEST_CALL, f64::min);
        match live {
            true => Cut { pause: 1.0, late: 0.7 * limit, longest: (limit - 2.0).max(2.0 * OVERLAP) },
            false => {
                let longest = LONGEST_PIECE.min(limit - 1.0).max(2.0 * OVERLAP);
                Cut { pause: 0.6, late: 0.5 * longest, longest }
            }
        }
    }
}
