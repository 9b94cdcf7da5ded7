//! Packets of Opus to samples (RFC 6716), of one stream or of several.

use opus::{Channels, Decoder, MSDecoder};

use crate::codec::opus_encode::opus_failed;
use crate::codec::packet_codec::PacketCodec;
use crate::container::opus_head::{Mapping, OpusHead};
use crate::container::packets::OPUS_RATE;
use crate::{AudioError, Layout};

/// The longest packet of Opus is 120 ms (RFC 6716, section 2.1.4).
const MAX_FRAMES: usize = 5_760;

/// A decoder of one stream, or of several that belong together.
enum Streams {
    One(Box<Decoder>),
    Many(Box<MSDecoder>),
}

pub(crate) struct OpusDecoder {
    streams: Streams,
    channels: usize,
}

impl OpusDecoder {
    /// # Errors
    /// When the library refuses the header.
    pub(crate) fn new(head: &OpusHead) -> Result<OpusDecoder, AudioError> {
        let gain = i32::from(head.gain);
        let made = match &head.mapping {
            None => {
                let channels = if head.channels == 1 { Channels::Mono } else { Channels::Stereo };
                Decoder::new(OPUS_RATE, channels)
                    .and_then(|mut one| one.set_gain(gain).map(|()| Streams::One(Box::new(one))))
            }
            Some(Mapping { streams, coupled, order }) => MSDecoder::new(OPUS_RATE, *streams, *coupled, order)
                .and_then(|mut many| many.set_gain(gain).map(|()| Streams::Many(Box::new(many)))),
        };
        let streams = made.map_err(opus_failed)?;
        Ok(OpusDecoder { streams, channels: usize::from(head.channels) })
    }
}

impl PacketCodec for OpusDecoder {
    fn decode(&mut self, packet: &[u8], frame: &mut Vec<f32>) -> Result<u64, AudioError> {
        frame.resize(MAX_FRAMES * self.channels, 0.0);
        let frames = match &mut self.streams {
            Streams::One(decoder) => decoder.decode_float(packet, frame, false),
            Streams::Many(decoder) => decoder.decode_float(packet, frame, false),
        };
        frames.map(|frames| frames as u64).map_err(opus_failed)
    }

    fn layout(&self) -> Result<Layout, AudioError> {
        let channels = u8::try_from(self.channels).map_err(|_| AudioError::Channels(u16::MAX))?;
        Ok(Layout { rate: OPUS_RATE, channels })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn several_streams_become_the_channels_of_one() {
        let table = [b"OpusHead\x01\x06\0\0\x80\xBB\0\0\0\0\x01".as_slice(), &[4, 2, 0, 4, 1, 2, 3, 5]].concat();
        let decoder = OpusDecoder::new(&OpusHead::read(&table).expect("5.1")).expect("a decoder");
        assert_eq!(decoder.layout().expect("known"), Layout { rate: 48_000, channels: 6 });
    }
}
