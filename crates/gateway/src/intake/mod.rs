//! What callers give, made ready for planning: texts, scripts and what is
//! beside them, and recordings.

pub(crate) mod hosts;
pub(crate) mod parse;
pub(crate) mod recording;
pub(crate) mod resources;
pub(crate) mod texts;
