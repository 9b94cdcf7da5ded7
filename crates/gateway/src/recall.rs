//! Recall: the key by which equal sound is known.
//!
//! No clips are kept yet, so that every request makes its own; the key is
//! what clients compare to see that their audio is stale.

use dispatcher_audio::Format;
use dispatcher_core::Shaped;
use sha2::{Digest as _, Sha256};

use crate::Planned;
use crate::score::Part;

/// Equal for equal calls: who speaks, with whom it is cast, and all that is sent.
pub(crate) fn part_key(lead: &Planned, part: &Part) -> String {
    let speaker = part.speaker(lead);
    let mut hash = Sha256::new();
    let call = &part.call;
    let voices = [lead.voice_id().unwrap_or_default(), speaker.voice_id().unwrap_or_default()];
    let model = call.model.clone().unwrap_or_default();
    let markup = call.markup.clone().unwrap_or_default();
    let language = call.language.clone().unwrap_or_default();
    let shaped = format!("{:?}", call.shaped);
    if let Some(sound) = &part.sound {
        add(&mut hash, &sound.content);
        add(&mut hash, &format!("{:?}", part.piece.sound));
    }
    let [lead, voice] = &voices;
    for part in [lead, voice, &model, &call.text, &markup, &language, &shaped, &call.format.format.media_type()] {
        add(&mut hash, part);
    }
    short(hash)
}

/// Lengths keep neighbouring parts apart.
fn add(hash: &mut Sha256, part: &str) {
    hash.update((part.len() as u64).to_be_bytes());
    hash.update(part.as_bytes());
}

fn short(hash: Sha256) -> String {
    hash.finalize().iter().take(16).map(|byte| format!("{byte:02x}")).collect()
}

/// Equal for equal requested audio: engine, voice, model, text and format.
///
/// What is asked for beyond the text counts as the engine and we carry it out.
pub(crate) fn fingerprint(planned: &Planned, text: &str, format: Format) -> String {
    let mut hash = Sha256::new();
    let voice = planned.voice_id().unwrap_or_default();
    let model = planned.candidate.model.as_deref().unwrap_or_default();
    let bitrate = format.effective_bitrate().unwrap_or(0).to_string();
    for part in [voice.as_str(), model, text, &format.media_type(), &format.rate.to_string(), &bitrate] {
        add(&mut hash, part);
    }
    if !planned.score.mark.is_empty() {
        add(&mut hash, &planned.score.mark);
    }
    let shaped = &planned.shaped;
    if !shaped.adjustments.is_empty() {
        let Shaped { rate, pitch, volume, style, direction, variation, seed, emulated, .. } = shaped;
        let told = format!("{:?}", (rate, pitch, volume, style, direction, variation, seed, emulated));
        add(&mut hash, &told);
    }
    short(hash)
}
