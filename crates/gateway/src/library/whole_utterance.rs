//! An utterance taken whole, and measured: for those that compare voices, with
//! each other or with what they were.

use std::time::Instant;

use dispatcher_audio::{Format, LoudnessMeter, decode_all, voice_pitch};
use dispatcher_core::{Money, Shaping, Wanted};

use crate::{CacheWish, Caller, Gateway, GatewayError, SynthesisRequest, TextInput, Unsupported};

/// What a voice gave.
pub(super) struct WholeUtterance {
    /// `None` where nobody spoke.
    pub(super) spoken: Option<Spoken>,
    pub(super) dispatch: String,
    /// Why it did not speak, or not to the end; it has no audio then.
    pub(super) fault: Option<String>,
}

/// An utterance, as far as it came.
pub(super) struct Spoken {
    pub(super) voice: String,
    pub(super) model: Option<String>,
    pub(super) cost: Money,
    /// Microseconds until the first audio, and until the last.
    pub(super) first_us: i64,
    pub(super) total_us: i64,
    pub(super) audio: Vec<u8>,
    pub(super) measured: Measured,
}

/// What was measured of audio.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Measured {
    pub(super) milliseconds: i64,
    /// Integrated, in LUFS; `None` for silence.
    pub(super) loudness: Option<f64>,
    /// Median fundamental frequency in hertz; `None` where nothing is voiced.
    pub(super) pitch: Option<f64>,
}

/// A plain request that no kept answer is given for: what is measured is the engine.
pub(super) fn fresh_request(text: &str, voice: &str, language: Option<&str>, format: Format) -> SynthesisRequest {
    SynthesisRequest {
        text: TextInput::Plain(text.to_owned()),
        wanted: Some(Wanted::Named(voice.to_owned())),
        model: None,
        language: language.map(str::to_owned),
        unsupported: Unsupported::Adapt,
        shaping: Shaping::default(),
        format,
        deadline: None,
        credential: None,
        region: None,
        trace: None,
        cache: CacheWish::Off,
        notes: Vec::new(),
    }
}

impl Gateway {
    /// Speaks and takes all of the audio, up to `most` bytes.
    ///
    /// # Errors
    /// Faults of the request; that a voice failed is in what comes back.
    pub(super) async fn speak_whole(
        &self,
        caller: &Caller,
        request: SynthesisRequest,
        most: usize,
    ) -> Result<WholeUtterance, GatewayError> {
        let begun = Instant::now();
        let utterance = match self.speak(caller, request).await {
            Ok(utterance) => utterance,
            Err(GatewayError::AllFailed { dispatch, attempts }) => {
                let fault = attempts.iter().map(crate::FailedAttempt::for_anybody).collect::<Vec<_>>().join("; ");
                return Ok(WholeUtterance { spoken: None, dispatch, fault: Some(fault) });
            }
            Err(error) => return Err(error),
        };
        let (format, mut body) = (utterance.format, utterance.body);
        let (mut audio, mut fault) = (Vec::new(), None);
        while let Some(piece) = body.next().await {
            match piece {
                Ok(piece) if audio.len() + piece.len() > most => {
                    fault = Some(format!("the audio is longer than {} s", most / (2 * format.rate as usize)));
                    break;
                }
                Ok(piece) => audio.extend_from_slice(&piece),
                Err(broken) => fault = Some(broken.0.for_anybody()),
            }
        }
        if fault.is_some() {
            audio.clear();
        }
        body.completion().complete_bytes(&mut audio);
        // What an engine still sends is not waited for.
        drop(body);
        let total_us = i64::try_from(begun.elapsed().as_micros()).unwrap_or(i64::MAX);
        let cost = self.cost_of(&utterance.dispatch).await?;
        let (audio, measured) = self
            .in_turn(move || {
                let measured = measure(&audio, format);
                (audio, measured)
            })
            .await?;
        let (voice, model, first_us) = (utterance.voice, utterance.model, utterance.first_us);
        let spoken = Spoken { voice, model, cost, first_us, total_us, audio, measured };
        Ok(WholeUtterance { spoken: Some(spoken), dispatch: utterance.dispatch, fault })
    }
}

/// Nothing, where there is no audio.
fn measure(audio: &[u8], format: Format) -> Measured {
    let Ok((samples, layout)) = decode_all(audio, format) else { return Measured::default() };
    let frames = samples.len() as u64 / u64::from(layout.channels).max(1);
    let loudness = LoudnessMeter::new(layout).and_then(|mut meter| {
        meter.push(&samples)?;
        meter.finish()
    });
    Measured {
        milliseconds: i64::try_from(frames * 1_000 / u64::from(layout.rate).max(1)).unwrap_or(i64::MAX),
        loudness: loudness.ok().map(|loudness| loudness.integrated).filter(|it| it.is_finite()),
        pitch: voice_pitch(&samples, layout),
    }
}
