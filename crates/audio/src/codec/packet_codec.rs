//! Which codec decodes the packets of a track, as far as it is built in.

use crate::container::packets::Coding;
use crate::{AudioError, Codec, Layout};

/// Decodes packets of one coding.
pub(crate) trait PacketCodec: Send {
    /// Decodes one packet into `frame`, interleaved; gives its frames.
    ///
    /// # Errors
    /// When the packet is damaged.
    fn decode(&mut self, packet: &[u8], frame: &mut Vec<f32>) -> Result<u64, AudioError>;

    /// Rate and channels of what comes out.
    ///
    /// # Errors
    /// When there are more channels than can be.
    fn layout(&self) -> Result<Layout, AudioError>;
}

/// The codec of a track.
///
/// # Errors
/// When what the track says of its coding is damaged or not read, or the codec
/// is not built in.
pub(crate) fn packet_codec(coding: &Coding) -> Result<Box<dyn PacketCodec>, AudioError> {
    match coding {
        #[cfg(feature = "opus")]
        Coding::Opus(head) => Ok(Box::new(crate::codec::opus_decode::OpusDecoder::new(head)?)),
        #[cfg(not(feature = "opus"))]
        Coding::Opus(_) => Err(AudioError::NotBuilt(Codec::OggOpus)),
        #[cfg(any(feature = "aac", feature = "flac", feature = "vorbis"))]
        other => Ok(Box::new(crate::codec::symphonia_decode::SymphoniaDecoder::new(other)?)),
        #[cfg(not(any(feature = "aac", feature = "flac", feature = "vorbis")))]
        Coding::Flac(_) => Err(AudioError::NotBuilt(Codec::Flac)),
        #[cfg(not(any(feature = "aac", feature = "flac", feature = "vorbis")))]
        Coding::Vorbis(_) => Err(AudioError::NotBuilt(Codec::OggVorbis)),
        #[cfg(not(any(feature = "aac", feature = "flac", feature = "vorbis")))]
        Coding::Aac(_) => Err(AudioError::NotBuilt(Codec::Aac)),
    }
}

#[cfg(feature = "opus")]
pub(crate) fn opus_failed(error: &opus::Error) -> AudioError {
    AudioError::Codec { codec: Codec::OggOpus, what: error.to_string() }
}
