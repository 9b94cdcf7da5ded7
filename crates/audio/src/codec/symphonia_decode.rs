//! Packets of FLAC, Vorbis and AAC to samples, by the symphonia crates.

use symphonia::core::codecs::audio::{AudioCodecParameters, AudioDecoder, AudioDecoderOptions, well_known as ids};
use symphonia::core::packet::PacketRef;
use symphonia::core::units::{Duration, Timestamp};
use symphonia::default::codecs;

use crate::catch_panic::guarded;
use crate::codec::packet_codec::PacketCodec;
use crate::container::packets::Coding;
use crate::{AudioError, Codec, Layout};

pub(crate) struct SymphoniaDecoder {
    decoder: Box<dyn AudioDecoder>,
    codec: Codec,
    layout: Layout,
}

impl SymphoniaDecoder {
    /// # Errors
    /// When the headers are damaged, of a kind that is not read, or of a codec
    /// that is not built in.
    pub(crate) fn new(coding: &Coding) -> Result<SymphoniaDecoder, AudioError> {
        let codec = coding.codec();
        let made = guarded(|| decoder(coding)).ok_or_else(|| malformed(codec))?;
        let decoder = made?;
        let spec = decoder.last_decoded();
        let spec = spec.spec();
        let layout = Layout {
            rate: spec.rate(),
            channels: u8::try_from(spec.channels().count()).map_err(|_| AudioError::Channels(u16::MAX))?,
        };
        Ok(SymphoniaDecoder { decoder, codec, layout })
    }
}

/// The decoder of a track by its headers.
fn decoder(coding: &Coding) -> Result<Box<dyn AudioDecoder>, AudioError> {
    let options = AudioDecoderOptions::default();
    let of = |codec, headers: &[u8]| {
        let mut parameters = AudioCodecParameters::new();
        parameters.for_codec(codec).with_extra_data(headers.into());
        parameters
    };
    let made: Result<Box<dyn AudioDecoder>, _> = match coding {
        #[cfg(feature = "flac")]
        Coding::Flac(info) => {
            codecs::FlacDecoder::try_new(&of(ids::CODEC_ID_FLAC, info), &options).map(|made| Box::new(made) as _)
        }
        #[cfg(feature = "vorbis")]
        Coding::Vorbis(headers) => {
            codecs::VorbisDecoder::try_new(&of(ids::CODEC_ID_VORBIS, headers), &options).map(|made| Box::new(made) as _)
        }
        #[cfg(feature = "aac")]
        Coding::Aac(config) => {
            codecs::AacDecoder::try_new(&of(ids::CODEC_ID_AAC, config), &options).map(|made| Box::new(made) as _)
        }
        other => return Err(AudioError::NotBuilt(other.codec())),
    };
    made.map_err(|error| match coding {
        Coding::Aac(config) if let Some(what) = aac_kind(config) => AudioError::Unsupported { format: "AAC", what },
        _ => AudioError::Codec { codec: coding.codec(), what: error.to_string() },
    })
}

impl PacketCodec for SymphoniaDecoder {
    fn decode(&mut self, packet: &[u8], frame: &mut Vec<f32>) -> Result<u64, AudioError> {
        let (decoder, codec, layout) = (self.decoder.as_mut(), self.codec, self.layout);
        guarded(|| decode(decoder, packet, codec, layout, frame)).ok_or_else(|| malformed(codec))?
    }

    fn layout(&self) -> Result<Layout, AudioError> {
        Ok(self.layout)
    }
}

fn decode(
    decoder: &mut dyn AudioDecoder,
    data: &[u8],
    codec: Codec,
    layout: Layout,
    frame: &mut Vec<f32>,
) -> Result<u64, AudioError> {
    let packet = PacketRef::new(0, Timestamp::ZERO, Duration::ZERO, data);
    let failed = |what: String| AudioError::Codec { codec, what };
    let decoded = decoder.decode_ref(&packet).map_err(|error| failed(error.to_string()))?;
    let channels = decoded.spec().channels().count();
    if decoded.spec().rate() != layout.rate || channels != usize::from(layout.channels) {
        return Err(failed("a change of rate or channels in the middle".into()));
    }
    decoded.copy_to_vec_interleaved(frame);
    Ok(decoded.frames() as u64)
}

/// Why a kind of AAC is not read, from its object type and channels (ISO/IEC
/// 14496-3, section 1.6.2.1); `None` for the kind that is.
fn aac_kind(config: &[u8]) -> Option<String> {
    let [first, second] = *config.first_chunk::<2>()?;
    match (first >> 3, (second >> 3) & 0x0F) {
        (2 | 5 | 29, 1 | 2) => None,
        (2 | 5 | 29, 0) => Some("channels of its own order".into()),
        (2 | 5 | 29, channels) => Some(format!("{} channels", if channels == 7 { 8 } else { channels })),
        (1, _) => Some("the Main profile".into()),
        (4, _) => Some("long-term prediction".into()),
        (other, _) => Some(format!("object type {other}")),
    }
}

fn malformed(codec: Codec) -> AudioError {
    AudioError::Codec { codec, what: "the stream is malformed".into() }
}

#[cfg(all(test, feature = "vorbis"))]
mod tests {
    use super::*;

    /// A code book whose lengths rise above 32 bits (Vorbis I, section 3.2.1),
    /// at which the decoder panics; found by fuzzing.
    #[test]
    fn vorbis_whose_code_book_cannot_be_is_an_error() {
        let mut headers = b"\x01vorbis\0\0\0\0\x01".to_vec();
        headers.extend(16_000u32.to_le_bytes());
        headers.extend([0; 12]);
        headers.extend(b"\xB8\x01\x05vorbis\0BCV");
        // One dimension, three entries; in order, from 32 bits: one such, two of 33.
        let fields = [(1u64, 16), (3, 24), (1, 1), (31, 5), (1, 2), (2, 2), (0, 4)];
        let (bits, count) = fields.iter().fold((0, 0), |(bits, at), (value, width)| (bits | value << at, at + width));
        headers.extend(&bits.to_le_bytes()[..usize::div_ceil(count, 8)]);
        headers.extend([0; 64]);
        let error = SymphoniaDecoder::new(&Coding::Vorbis(headers)).err().expect("no decoder");
        assert!(matches!(error, AudioError::Codec { codec: Codec::OggVorbis, .. }), "{error}");
    }
}
