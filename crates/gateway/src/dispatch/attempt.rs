//! Attempt: one call of one engine, up to its first audio.

use std::time::{Duration, Instant};

use bytes::Bytes;
use dispatcher_audio::{Effects, Format, Options, Tags, UNSIGNED};
use dispatcher_core::{Cause, Emulation, Usage};
use dispatcher_engines::{AudioStream, EngineError, Speak, SpokenAudio, Words};
use dispatcher_vault::Parts;
use futures::StreamExt as _;

use crate::dispatch::deliver::Converter;
use crate::dispatch::dispatch_record::{DispatchRecord, SinceAttempt};
use crate::dispatch::limiter::{Limiter, Permit, Priority};
use crate::planning::plan::usage_of;
use crate::{Caller, FailedAttempt, Gateway, GatewayError, PlannedCall, clock};

/// An engine that speaks: its first audio in the asked format, and the rest.
pub(crate) struct Speaking {
    pub(crate) first: Bytes,
    pub(crate) stream: AudioStream,
    pub(crate) converter: Converter,
    pub(crate) words: Words,
    /// The call is in work as long as this is held.
    _permit: Option<Permit>,
    /// When its first audio was there.
    pub(crate) first_at: SinceAttempt,
}

/// An engine that has been called and answers.
pub(crate) struct Called {
    pub(crate) stream: AudioStream,
    pub(crate) words: Words,
    pub(crate) begun: Instant,
    /// The call is in work as long as this is held.
    pub(crate) _permit: Option<Permit>,
}

impl Called {
    /// The same once it gives audio, a header not counted.
    ///
    /// # Errors
    /// Where its audio breaks off before that.
    pub(crate) async fn sounding(mut self) -> Result<Called, EngineError> {
        let (mut held, mut bytes) = (Vec::new(), 0);
        while bytes <= LONGEST_HEADER {
            let Some(chunk) = self.stream.next().await else { break };
            let chunk = chunk?;
            bytes += chunk.len();
            held.push(Ok(chunk));
        }
        self.stream = Box::pin(futures::stream::iter(held).chain(self.stream));
        Ok(self)
    }
}

/// Bytes of what an engine may send before its first audio.
const LONGEST_HEADER: usize = 128;

pub(crate) fn broken(error: &dyn std::fmt::Display) -> EngineError {
    EngineError { cause: Cause::Broken, detail: error.to_string(), retry_after: None }
}

impl FailedAttempt {
    pub(crate) fn of(planned: &PlannedCall, error: EngineError) -> Self {
        FailedAttempt {
            engine: planned.engine_name().into(),
            cause: error.cause,
            detail: error.detail,
            retry_after: error.retry_after,
        }
    }
}

/// So much of the text is its title.
const TITLE: usize = 80;

/// What the audio says of itself. The day and not the moment, so that equal
/// requests of a day give equal bytes.
pub(crate) fn tags(planned: &PlannedCall, text: &str, language: Option<&str>) -> Tags {
    let words = text.split_whitespace().collect::<Vec<_>>().join(" ");
    let title = match words.char_indices().nth(TITLE) {
        None => words,
        Some((end, _)) => {
            let cut = words[..end].rfind(' ').unwrap_or(end);
            format!("{}…", &words[..cut])
        }
    };
    Tags {
        title: Some(title),
        track: None,
        language: language.map(str::to_owned),
        engine: Some(planned.engine_name().to_owned()),
        voice: planned.voice_id(),
        date: Some(clock::day_of(clock::now_micros())),
        synthetic: true,
        provenance: Some(UNSIGNED.into()),
    }
}

/// What the engine leaves to us.
pub(crate) fn emulation(rest: Emulation) -> Effects {
    let some = |value: f64, neutral: f64| ((value - neutral).abs() > 1e-9).then_some(value);
    Effects {
        speed: some(rest.rate, 1.0),
        pitch: some(rest.pitch, 0.0),
        gain: some(rest.volume, 0.0),
        ..Effects::default()
    }
}

impl Gateway {
    /// Waits until an engine may be called; `None` if it has no limits.
    pub(crate) async fn turn(&self, planned: &PlannedCall, record: &DispatchRecord) -> Option<Permit> {
        Some(self.limiter(planned)?.enter(record.app(), record.priority()).await)
    }

    fn limiter(&self, planned: &PlannedCall) -> Option<std::sync::Arc<Limiter>> {
        self.inner.limiters.of(planned.engine_name(), &planned.candidate.sheet.pace)
    }

    /// Leaves out the candidates for which too many calls wait already.
    ///
    /// # Errors
    /// [`GatewayError::Crowded`] with the shortest wait, where none is left:
    /// nothing is recorded or charged for a call that would wait in vain.
    pub(crate) fn uncrowded(&self, caller: &Caller, plan: Vec<PlannedCall>) -> Result<Vec<PlannedCall>, GatewayError> {
        let mut shortest: Option<Duration> = None;
        let mut free = plan;
        free.retain(|planned| {
            let wait = self.limiter(planned).and_then(|limiter| limiter.crowded(&caller.app.name));
            shortest = shortest.into_iter().chain(wait).min();
            wait.is_none()
        });
        match shortest {
            Some(retry_after) if free.is_empty() => {
                let what = "too many calls are waiting for every suitable engine".into();
                Err(GatewayError::Crowded { what, retry_after })
            }
            _ => Ok(free),
        }
    }

    /// Calls the engine, until the candidate's deadline. For a piece of a job
    /// it begins with its turn: nobody waits for it, and the queue may be long.
    pub(crate) async fn open_call(
        &self,
        planned: &PlannedCall,
        record: &DispatchRecord,
        call: Speak,
    ) -> Result<Called, EngineError> {
        let permit = match record.priority() {
            Priority::Batch => self.turn(planned, record).await,
            Priority::Interactive => None,
        };
        let usage = usage_of(&call.text);
        within(planned, usage, Box::pin(self.begin_call(planned, record, call, permit))).await
    }

    /// Calls the engine and waits for its first audio, a bare header not
    /// counted, until the candidate's deadline.
    pub(crate) async fn attempt_speech(
        &self,
        planned: &PlannedCall,
        record: &DispatchRecord,
        call: Speak,
        format: Format,
        tags: Tags,
    ) -> Result<Speaking, EngineError> {
        let usage = usage_of(&call.text);
        // On the heap: it is large, and is moved from hand to hand.
        within(planned, usage, Box::pin(self.call_until_sound(planned, record, call, format, tags))).await
    }

    /// Calls the engine; waits for its turn where it has none yet.
    async fn begin_call(
        &self,
        planned: &PlannedCall,
        record: &DispatchRecord,
        call: Speak,
        permit: Option<Permit>,
    ) -> Result<Called, EngineError> {
        if let Some(reason) = planned.engine.absent() {
            return Err(EngineError { cause: Cause::Absent, detail: reason, retry_after: None });
        }
        if planned.candidate.voice.is_none() {
            return Err(EngineError { cause: Cause::Unsupported, detail: "no voice".into(), retry_after: None });
        }
        let permit = match permit {
            Some(permit) => Some(permit),
            None => self.turn(planned, record).await,
        };
        let begun = Instant::now();
        let called = self.with_credential(&planned.engine, planned.candidate.credential.as_deref(), |opened| {
            let (permit, call) = (permit.as_ref(), &call);
            async move {
                let none = Parts::new();
                let parts = opened.as_ref().map_or(&none, |opened| &opened.parts);
                let parts = planned.parts_in_region(parts);
                again(permit, || planned.engine.speak(call.clone(), &parts)).await
            }
        });
        let SpokenAudio { audio, words } = called.await?;
        let whole = planned.candidate.whole_deadline(usage_of(&call.text));
        let stream = patient(audio, whole, planned.candidate.silence());
        Ok(Called { stream, words, begun, _permit: permit })
    }

    async fn call_until_sound(
        &self,
        planned: &PlannedCall,
        record: &DispatchRecord,
        call: Speak,
        format: Format,
        tags: Tags,
    ) -> Result<Speaking, EngineError> {
        let effects = emulation(call.shaped.emulated);
        let options = Options { tags, effects, ..Options::default() };
        // Made while the engine makes its first audio.
        let mut converter = Converter::new(planned.format.format, format, options, self.inner.codecs.clone())
            .map_err(|error| broken(&error))?;
        let Called { mut stream, words, begun, _permit: permit } = self.begin_call(planned, record, call, None).await?;
        let mut first = Vec::new();
        loop {
            match stream.next().await {
                Some(chunk) => first.extend_from_slice(&converter.push(chunk?).await?),
                None => {
                    // Everything came before the first audio was ready.
                    first.extend_from_slice(&converter.finish().await?);
                    stream = Box::pin(futures::stream::empty());
                    break;
                }
            }
            if converter.length().frames > 0 && !first.is_empty() {
                break;
            }
        }
        let first_at = SinceAttempt::since(begun);
        self.inner.metrics.first_audio(planned.engine_name(), begun.elapsed());
        Ok(Speaking { first: first.into(), stream, converter, words, _permit: permit, first_at })
    }
}

/// Makes a call, and makes it again where its engine is full for a moment.
pub(crate) async fn again<T, F>(permit: Option<&Permit>, mut call: impl FnMut() -> F) -> Result<T, EngineError>
where
    F: Future<Output = Result<T, EngineError>>,
{
    let mut times = 0;
    loop {
        let error = match (call().await, permit) {
            (Err(error), Some(permit)) if permit.wait_again(&error, times).await => error,
            (outcome, _) => return outcome,
        };
        tracing::info!(detail = %error.detail, "an engine was full for a moment");
        times += 1;
    }
}

/// Work for a candidate, until its deadline for work of this size.
async fn within<T>(
    planned: &PlannedCall,
    usage: Usage,
    work: impl Future<Output = Result<T, EngineError>>,
) -> Result<T, EngineError> {
    let deadline = planned.candidate.first_deadline(usage);
    match tokio::time::timeout(deadline, work).await {
        Ok(result) => result,
        Err(_) => Err(EngineError {
            cause: Cause::TimedOut,
            detail: format!("no audio within {} ms", deadline.as_millis()),
            retry_after: None,
        }),
    }
}

/// Audio that is waited for no longer than this in all, and between any two
/// parts no longer than `silence`; what its taker needs for it does not count.
fn patient(audio: AudioStream, left: Duration, silence: Duration) -> AudioStream {
    Box::pin(futures::stream::unfold((audio, Some(left)), move |(mut audio, left)| async move {
        let left = left?;
        let begun = Instant::now();
        match tokio::time::timeout(left.min(silence), audio.next()).await {
            Ok(item) => item.map(|item| (item, (audio, Some(left.saturating_sub(begun.elapsed()))))),
            Err(_) => {
                let detail = match left > silence {
                    true => format!("nothing came of its audio for {} ms", silence.as_millis()),
                    false => "its audio was not complete before the deadline".to_owned(),
                };
                let error = EngineError { cause: Cause::TimedOut, detail, retry_after: None };
                Some((Err(error), (audio, None)))
            }
        }
    }))
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Parts of audio, each after a number of milliseconds.
    fn paused(pauses: Vec<u64>) -> AudioStream {
        Box::pin(futures::stream::unfold(pauses.into_iter(), |mut pauses| async move {
            tokio::time::sleep(Duration::from_millis(pauses.next()?)).await;
            Some((Ok(Bytes::from_static(b"part")), pauses))
        }))
    }

    async fn taken(mut audio: AudioStream) -> (usize, Option<String>) {
        let mut parts = 0;
        while let Some(part) = audio.next().await {
            match part {
                Ok(_) => parts += 1,
                Err(error) => return (parts, Some(format!("{}: {}", error.cause, error.detail))),
            }
        }
        (parts, None)
    }

    #[tokio::test(start_paused = true)]
    async fn a_pause_is_waited_for_as_long_as_the_sheet_says_and_no_longer() {
        let (whole, silence) = (Duration::from_secs(60), Duration::from_secs(2));
        assert_eq!(taken(patient(paused(vec![1_900, 1_900, 1_900]), whole, silence)).await, (3, None));
        let silent = Some("timed-out: nothing came of its audio for 2000 ms".to_owned());
        assert_eq!(taken(patient(paused(vec![100, 2_100, 100]), whole, silence)).await, (1, silent));
    }
}
