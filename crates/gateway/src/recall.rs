//! Recall: the key by which equal sound is known.
//!
//! No clips are kept yet, so that every request makes its own; the key is
//! what clients compare to see that their audio is stale.

use dispatcher_audio::Format;
use dispatcher_core::Shaped;
use sha2::{Digest as _, Sha256};

use crate::Planned;

/// Equal for equal requested sound: engine, voice, model, text and format.
///
/// What is asked for beyond the text counts as the engine and we carry it out.
pub(crate) fn sound_key(planned: &Planned, text: &str, format: Format) -> String {
    let mut hash = Sha256::new();
    let voice = planned.voice_id().unwrap_or_default();
    let model = planned.candidate.model.as_deref().unwrap_or_default();
    let bitrate = format.effective_bitrate().unwrap_or(0).to_string();
    for part in [voice.as_str(), model, text, &format.media_type(), &format.rate.to_string(), &bitrate] {
        // Lengths keep neighbouring parts apart.
        hash.update((part.len() as u64).to_be_bytes());
        hash.update(part.as_bytes());
    }
    let shaped = &planned.shaped;
    if !shaped.adjustments.is_empty() {
        let Shaped { rate, pitch, volume, style, direction, variation, seed, made_good, .. } = shaped;
        let told = format!("{:?}", (rate, pitch, volume, style, direction, variation, seed, made_good));
        hash.update((told.len() as u64).to_be_bytes());
        hash.update(told.as_bytes());
    }
    hash.finalize().iter().take(16).map(|byte| format!("{byte:02x}")).collect()
}
