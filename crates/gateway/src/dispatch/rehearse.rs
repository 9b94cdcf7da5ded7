//! Rehearsal: the same checks and answers in form, one soft tone a word.

use bytes::Bytes;
use dispatcher_audio::{AudioError, Codec, Format, Options, Tags, encode_all};
use dispatcher_core::{Cause, Transcript, Word};
use dispatcher_engines::Words;

use crate::dispatch::deliver::{CodecError, Converter};
use crate::dispatch::dispatch_record::{DispatchOutcome, LastAttempt, SinceDispatch};
use crate::dispatch::speak::{CALLER_LEFT, FirstAudio, LONGEST_UTTERANCE, Responder, Run};
use crate::{BodyError, FailedAttempt, GatewayError};

const RATE: u32 = 24_000;
/// Milliseconds that a character takes to say.
const MILLISECONDS_A_CHARACTER: usize = 65;

/// One soft tone for a word, of the length that saying it would need, and the
/// pause behind it.
fn tone(word: &str) -> Vec<f32> {
    let length = word.chars().count().clamp(2, 40) * MILLISECONDS_A_CHARACTER * RATE as usize / 1_000;
    let edge = RATE as usize / 50;
    let mut samples: Vec<f32> = (0..length)
        .map(|n| {
            let fade = (n.min(length - n) as f32 / edge as f32).min(1.0);
            0.08 * fade * (std::f32::consts::TAU * 330.0 * n as f32 / RATE as f32).sin()
        })
        .collect();
    samples.resize(length + RATE as usize * MILLISECONDS_A_CHARACTER / 1_000, 0.0);
    samples
}

/// Why a rehearsal ended before its end.
enum RehearsalStop {
    Left,
    Failed(CodecError),
}

fn failed(error: AudioError) -> RehearsalStop {
    RehearsalStop::Failed(error.into())
}

/// A rehearsal on its way to its caller.
struct Tones<'r> {
    run: &'r Run,
    converter: Converter,
    responder: Option<Responder>,
    first_at: Option<SinceDispatch>,
}

impl Tones<'_> {
    async fn play(&mut self) -> Result<(), RehearsalStop> {
        for word in self.run.text.split_whitespace() {
            let pcm = encode_all(&tone(word), Format::new(Codec::Pcm, RATE)).map_err(failed)?;
            let made = self.converter.push(pcm.into()).await.map_err(RehearsalStop::Failed)?;
            if self.converter.length().seconds() > LONGEST_UTTERANCE {
                return Err(failed(AudioError::Empty));
            }
            self.give(made).await?;
        }
        let rest = self.converter.finish().await.map_err(RehearsalStop::Failed)?;
        if let Some(start) = self.converter.start() {
            // Nobody else sets it.
            self.run.completion.set_start(start);
        }
        self.give(rest).await
    }

    async fn give(&mut self, bytes: Bytes) -> Result<(), RehearsalStop> {
        if bytes.is_empty() {
            return Ok(());
        }
        let Some(responder) = self.responder.take() else {
            return self.run.audio.send(Ok(bytes)).await.map_err(|_| RehearsalStop::Left);
        };
        let Some(planned) = self.run.plan.first().cloned() else { return Err(failed(AudioError::Empty)) };
        let first_at = self.run.record.elapsed();
        self.first_at = Some(first_at);
        let (fallbacks, words) = (Vec::new(), Words::default());
        let first_audio = FirstAudio { planned, first: bytes, first_at, fallbacks, words, tempo: 1.0 };
        responder.send(Ok(first_audio)).map_err(|_| RehearsalStop::Left)
    }
}

impl Run {
    /// Answers with tones; no engine is called and nothing is charged.
    pub(crate) async fn rehearse(self, responder: Responder) {
        let tags = Tags { title: Some("Rehearsal".into()), synthetic: self.tagged, ..Tags::default() };
        let options = Options { tags, ..Options::default() };
        let codecs = self.record.gateway().inner.codecs.clone();
        let converter = match Converter::new(Format::new(Codec::Pcm, RATE), self.format, options, codecs) {
            Ok(converter) => converter,
            Err(error) => return drop(responder.send(Err(GatewayError::Format(error)))),
        };
        let mut tones = Tones { run: &self, converter, responder: Some(responder), first_at: None };
        let outcome = tones.play().await;
        let (milliseconds, first_at) = (tones.converter.length().milliseconds(), tones.first_at);
        let ended = match &outcome {
            Ok(()) => DispatchOutcome::done(milliseconds, first_at),
            Err(RehearsalStop::Left) => DispatchOutcome::abandoned(milliseconds, first_at, CALLER_LEFT),
            Err(RehearsalStop::Failed(error)) => DispatchOutcome::failed(milliseconds, first_at, error.to_string()),
        };
        let settled = self.record.settle(LastAttempt::None, ended).await;
        let error = match (outcome, settled) {
            (Ok(()) | Err(RehearsalStop::Left), Ok(_)) => return,
            (Err(RehearsalStop::Failed(CodecError::Audio(error))), Ok(_)) => GatewayError::Format(error),
            (Err(RehearsalStop::Failed(error)), Ok(_)) => GatewayError::Rehearsal(error.to_string()),
            (_, Err(error)) => error,
        };
        match tones.responder.take() {
            Some(responder) => drop(responder.send(Err(error))),
            None => {
                let failed = FailedAttempt {
                    engine: "rehearsal".into(),
                    cause: Cause::Broken,
                    detail: error.to_string(),
                    retry_after: None,
                };
                drop(self.audio.send(Err(BodyError(failed))).await);
            }
        }
    }
}

/// A transcript of the right form for audio of a length in seconds.
pub(crate) fn transcript(length: f64, language: Option<String>) -> Transcript {
    let words = ["this", "is", "a", "rehearsal"];
    let step = length / words.len() as f64;
    let word = |(at, text): (usize, &&str)| Word {
        text: (*text).to_owned(),
        start: Some(at as f64 * step),
        end: Some((at + 1) as f64 * step),
        confidence: Some(1.0),
        speaker: None,
    };
    Transcript {
        text: words.join(" "),
        language,
        words: words.iter().enumerate().map(word).collect(),
        ..Transcript::default()
    }
}
