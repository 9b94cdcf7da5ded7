//! Containers: where packets and samples lie in a file, and how a file is
//! written around them. Nothing here decodes sound.

pub(crate) mod adts;
pub(crate) mod aiff;
pub(crate) mod au;
pub(crate) mod flac;
pub(crate) mod mp3_frames;
pub(crate) mod mp3_tag;
#[cfg(feature = "mp4")]
pub(crate) mod mp4;
#[cfg(feature = "mp4")]
pub(crate) mod mp4_index;
pub(crate) mod ogg;
pub(crate) mod ogg_opus;
pub(crate) mod opus_head;
pub(crate) mod opus_mux;
pub(crate) mod packets;
pub(crate) mod rewrap;
pub(crate) mod sample_file;
pub(crate) mod wav;
#[cfg(feature = "webm")]
pub(crate) mod webm;
