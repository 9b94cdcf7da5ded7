//! What is done to samples: rate, level, pitch, tempo, fades.

pub(crate) mod effects;
pub(crate) mod expansion;
pub(crate) mod fade;
pub(crate) mod formants;
pub(crate) mod level;
pub(crate) mod pitch;
pub(crate) mod resample;
pub(crate) mod stretch;
