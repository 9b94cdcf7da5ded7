//! What stand-ins that listen have in common.

use dispatcher_audio::{AudioError, Format, decode_all, measure};

use crate::tone::{Heard, hear};

/// The utterances of a recording, its rate, and its length in seconds.
pub(crate) struct Listened {
    pub(crate) utterances: Vec<Heard>,
    pub(crate) rate: u32,
    pub(crate) seconds: f64,
}

/// Hears a recording; `told` where the bytes do not say themselves what they are.
pub(crate) fn listen(sound: &[u8], told: Option<Format>) -> Result<Listened, AudioError> {
    let (format, length) = measure(sound, told)?;
    let (samples, layout) = decode_all(sound, format)?;
    let mono: Vec<f32> = samples
        .chunks_exact(usize::from(layout.channels))
        .map(|frame| frame.iter().sum::<f32>() / f32::from(layout.channels))
        .collect();
    Ok(Listened { utterances: hear(&mono, layout.rate), rate: layout.rate, seconds: length.seconds() })
}

/// All that was said, one utterance after the other.
pub(crate) fn line(utterances: &[Heard]) -> String {
    utterances.iter().map(|heard| heard.text.as_str()).collect::<Vec<_>>().join(" ")
}
