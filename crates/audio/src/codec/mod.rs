//! Codecs: samples out of packets, and packets out of samples.

pub(crate) mod decode;
pub(crate) mod dither;
pub(crate) mod encode;
pub(crate) mod flac_encode;
#[cfg(feature = "mp3")]
pub(crate) mod mp3_decode;
#[cfg(feature = "mp3")]
pub(crate) mod mp3_encode;
#[cfg(feature = "opus")]
pub(crate) mod opus_decode;
#[cfg(feature = "opus")]
pub(crate) mod opus_encode;
pub(crate) mod packet_codec;
pub(crate) mod pcm;
#[cfg(any(feature = "aac", feature = "flac", feature = "vorbis"))]
pub(crate) mod symphonia_decode;
