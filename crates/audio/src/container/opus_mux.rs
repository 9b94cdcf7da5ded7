//! Packets of Opus on their way into a container, wherever they come from:
//! fresh from the encoder, or out of another container.

use crate::container::ogg_opus::OggMuxer;
#[cfg(feature = "webm")]
use crate::container::webm::WebmMuxer;
use crate::{AudioError, Codec, Tags};

/// A packet of Opus. Frames are those at 48 kHz.
pub(crate) struct Coded {
    pub(crate) data: Vec<u8>,
    /// Its length.
    pub(crate) frames: u64,
    /// Frames up to its end, pre-skip included.
    pub(crate) end: u64,
}

/// What a container must know of the stream.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct OpusStream {
    pub(crate) channels: u8,
    /// Frames at 48 kHz before the audio begins.
    pub(crate) pre_skip: u64,
    /// Of the audio before it was coded; for information alone.
    pub(crate) rate: u32,
    /// To be put on what is decoded, in 256ths of a decibel.
    pub(crate) gain: i16,
}

impl OpusStream {
    /// `OpusHead` (RFC 7845, section 5.1).
    pub(crate) fn head(&self) -> Vec<u8> {
        let mut head = b"OpusHead\x01".to_vec();
        head.push(self.channels);
        head.extend_from_slice(&(self.pre_skip as u16).to_le_bytes());
        head.extend_from_slice(&self.rate.to_le_bytes());
        head.extend_from_slice(&self.gain.to_le_bytes());
        head.push(0);
        head
    }
}

/// Writes packets into a container.
pub(crate) trait OpusMuxer: Send {
    fn packet(&mut self, packet: Coded, out: &mut Vec<u8>) -> Result<(), AudioError>;

    /// `total` is the true number of frames, pre-skip included.
    fn finish(&mut self, total: u64, out: &mut Vec<u8>) -> Result<(), AudioError>;

    /// The first bytes as they would be, had the length been known before;
    /// `None` where they would be the same, or before the end.
    fn start(&self) -> Option<Vec<u8>>;
}

/// The muxer for a codec of Opus in a container.
///
/// # Errors
/// When the container is not built in.
pub(crate) fn muxer(codec: Codec, stream: OpusStream, tags: Tags) -> Result<Box<dyn OpusMuxer>, AudioError> {
    match codec {
        #[cfg(feature = "webm")]
        Codec::WebmOpus => Ok(Box::new(WebmMuxer::new(stream, tags))),
        Codec::OggOpus => Ok(Box::new(OggMuxer::new(stream, tags))),
        other => Err(AudioError::NotBuilt(other)),
    }
}
