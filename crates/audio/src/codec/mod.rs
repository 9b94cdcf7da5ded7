//! Codecs: samples out of packets, and packets out of samples.

pub(crate) mod decode;
pub(crate) mod dither;
pub(crate) mod encode;
pub(crate) mod flac_encode;
pub(crate) mod mp3;
pub(crate) mod mp3_encode;
pub(crate) mod opus_encode;
pub(crate) mod pcm;
