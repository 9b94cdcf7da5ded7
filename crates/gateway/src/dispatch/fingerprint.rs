//! Fingerprints: values that are equal for equal audio. What shapes audio is
//! serialised as JSON with a version, and hashed. Requests, pieces of jobs,
//! prompts and auditions are compared by it.

use dispatcher_audio::Format;
use dispatcher_core::{Emulation, Shaped, Style};
use dispatcher_markup::Sound;
use serde::Serialize;
use sha2::{Digest as _, Sha256};

use crate::PlannedCall;
use crate::planning::render_plan::Segment;

/// Version of what is serialised below; it changes with it. Fingerprints of
/// other versions say nothing about equality.
const VERSION: u32 = 2;

/// A format by all that shapes its bytes.
#[derive(Serialize)]
struct FormatIdentity {
    coding: &'static str,
    media_type: String,
    rate: u32,
    channels: u8,
    bitrate: Option<u32>,
    vbr: bool,
}

/// What is done with the audio besides, by the engine and by the gateway.
#[derive(Serialize)]
struct ShapedIdentity<'a> {
    rate: Option<f64>,
    pitch: Option<f64>,
    volume: Option<f64>,
    style: Option<&'a Style>,
    direction: Option<&'a str>,
    variation: Option<f64>,
    seed: Option<f64>,
    emulated: [f64; 3],
}

/// The audio of a whole request.
#[derive(Serialize)]
struct RequestIdentity<'a> {
    version: u32,
    voice: String,
    model: Option<&'a str>,
    language: Option<&'a str>,
    text: &'a str,
    /// Clips and looked-up words, which the text only names.
    resources: &'a str,
    format: FormatIdentity,
    shaped: ShapedIdentity<'a>,
}

/// The audio of one call, or of one inserted clip.
#[derive(Serialize)]
struct PartIdentity<'a> {
    version: u32,
    /// The voice of the utterance, and of this part.
    voices: [String; 2],
    model: Option<&'a str>,
    language: Option<&'a str>,
    text: &'a str,
    markup: Option<&'a str>,
    sound: Option<(&'a str, Option<&'a Sound>)>,
    format: FormatIdentity,
    shaped: ShapedIdentity<'a>,
}

impl From<Format> for FormatIdentity {
    fn from(format: Format) -> Self {
        FormatIdentity {
            coding: format.codec.extension(),
            media_type: format.media_type(),
            rate: format.rate,
            channels: format.channels,
            bitrate: format.effective_bitrate(),
            vbr: format.vbr,
        }
    }
}

impl<'a> From<&'a Shaped> for ShapedIdentity<'a> {
    fn from(shaped: &'a Shaped) -> Self {
        let Emulation { rate, pitch, volume } = shaped.emulated;
        ShapedIdentity {
            rate: shaped.rate,
            pitch: shaped.pitch,
            volume: shaped.volume,
            style: shaped.style.as_ref(),
            direction: shaped.direction.as_deref(),
            variation: shaped.variation,
            seed: shaped.seed,
            emulated: [rate, pitch, volume],
        }
    }
}

/// `VERSION-` and 128 bits of SHA-256 in hexadecimal.
fn of(identity: &impl Serialize) -> String {
    let mut hash = Sha256::new();
    // Plain structs of text and numbers are always written.
    hash.update(serde_json::to_vec(identity).unwrap_or_default());
    let digits: String = hash.finalize().iter().take(16).map(|byte| format!("{byte:02x}")).collect();
    format!("{VERSION}-{digits}")
}

/// Equal for equal calls: who speaks, with whom it is cast, and all that is sent.
pub(crate) fn of_segment(lead: &PlannedCall, segment: &Segment) -> String {
    let call = &segment.call;
    of(&PartIdentity {
        version: VERSION,
        voices: [lead.voice_id().unwrap_or_default(), segment.speaker(lead).voice_id().unwrap_or_default()],
        model: call.model.as_deref(),
        language: call.language.as_deref(),
        text: &call.text,
        markup: call.markup.as_deref(),
        sound: segment.sound.as_ref().map(|sound| (sound.content.as_str(), segment.piece.sound.as_deref())),
        format: call.format.format.into(),
        shaped: (&call.shaped).into(),
    })
}

/// Equal for equal requested audio: of a text in a language, by what is planned.
pub(crate) fn of_request(planned: &PlannedCall, text: &str, language: Option<&str>, format: Format) -> String {
    of(&RequestIdentity {
        version: VERSION,
        voice: planned.voice_id().unwrap_or_default(),
        model: planned.candidate.model.as_deref(),
        language,
        text,
        resources: &planned.render_plan.mark,
        format: format.into(),
        shaped: (&planned.shaped).into(),
    })
}

/// Whether a stored fingerprint can be compared with those made now.
pub(crate) fn is_current(stored: &str) -> bool {
    stored.split_once('-').is_some_and(|(version, _)| version.parse() == Ok(VERSION))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_of_other_versions_are_recognised() {
        assert!(is_current(&of(&"anything")));
        // Before there were versions.
        assert!(!is_current("0123456789abcdef0123456789abcdef"));
        assert!(!is_current("1-0123456789abcdef0123456789abcdef"));
    }
}
