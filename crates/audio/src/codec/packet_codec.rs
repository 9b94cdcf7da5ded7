//! Which codec decodes the packets of a track, as far as it is built in.

use crate::container::packets::Coding;
use crate::{AudioError, Layout};

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
        Coding::Opus(_) => Err(AudioError::NotBuilt(coding.codec())),
        #[cfg(any(feature = "aac", feature = "flac", feature = "vorbis"))]
        other => Ok(Box::new(crate::codec::symphonia_decode::SymphoniaDecoder::new(other)?)),
        #[cfg(not(any(feature = "aac", feature = "flac", feature = "vorbis")))]
        other => Err(AudioError::NotBuilt(other.codec())),
    }
}
