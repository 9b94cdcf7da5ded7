//! Rehearsal: the same checks and answers in form, one soft tone a word.

use dispatcher_audio::{Codec, Format, Options, Tags, Transcoder, encode_all};
use dispatcher_core::{Transcript, Word};

use crate::settle::micros;
use crate::speak::{Opened, Opener, Run};

const RATE: u32 = 24_000;
/// Milliseconds that a character takes to say.
const MILLISECONDS_A_CHARACTER: usize = 65;

/// One soft tone a word, of the length that saying it would need.
fn tones(text: &str) -> Vec<f32> {
    let mut samples = Vec::new();
    for word in text.split_whitespace() {
        let length = word.chars().count().clamp(2, 40) * MILLISECONDS_A_CHARACTER * RATE as usize / 1_000;
        let edge = RATE as usize / 50;
        samples.extend((0..length).map(|n| {
            let fade = (n.min(length - n) as f32 / edge as f32).min(1.0);
            0.08 * fade * (std::f32::consts::TAU * 330.0 * n as f32 / RATE as f32).sin()
        }));
        samples.resize(samples.len() + RATE as usize * MILLISECONDS_A_CHARACTER / 1_000, 0.0);
    }
    samples
}

impl Run {
    /// Answers with tones; no engine is called and nothing is charged.
    pub(crate) async fn rehearse(self, opener: Opener) {
        let samples = tones(&self.text);
        let milliseconds = samples.len() as u64 * 1_000 / u64::from(RATE);
        let format = self.format;
        let made = tokio::task::spawn_blocking(move || render(&samples, format)).await;
        let audio = match made {
            Ok(Ok(audio)) => audio,
            Ok(Err(error)) => return drop(opener.send(Err(crate::GatewayError::Format(error)))),
            Err(error) => return drop(opener.send(Err(crate::GatewayError::Internal(error.to_string())))),
        };
        let first_us = micros(self.docket.begun);
        let settled = self.docket.settle(None, "done", milliseconds, Some(first_us), None).await;
        let planned = self.plan.into_iter().next();
        let answer = match (settled, planned) {
            (Ok(_), Some(planned)) => Ok(Opened {
                planned,
                first: audio.into(),
                first_us,
                fallbacks: Vec::new(),
                words: Default::default(),
                tempo: 1.0,
            }),
            (Err(error), _) => Err(error),
            _ => Err(crate::GatewayError::Internal("an empty plan".into())),
        };
        let _ = opener.send(answer);
    }
}

fn render(samples: &[f32], format: Format) -> Result<Vec<u8>, dispatcher_audio::AudioError> {
    let source = Format::new(Codec::Pcm, RATE);
    let pcm = encode_all(samples, source)?;
    let tags = Tags { title: Some("Rehearsal".into()), synthetic: true, ..Tags::default() };
    let options = Options { tags, ..Options::default() };
    let mut transcoder = Transcoder::with(source, format, options)?;
    let mut out = transcoder.push(&pcm.into())?.to_vec();
    out.extend_from_slice(&transcoder.finish()?);
    if let Some(start) = transcoder.start() {
        out[..start.len()].copy_from_slice(&start);
    }
    Ok(out)
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
        alternatives: Vec::new(),
    }
}
