//! What is found out about sound and leaves it as it is: length, loudness,
//! silence, outline, tempo of speech, pitch of a voice.

pub(crate) mod loudness;
pub(crate) mod meter;
pub(crate) mod peaks;
pub(crate) mod silence;
pub(crate) mod spans;
pub(crate) mod tempo;
pub(crate) mod voice_pitch;
