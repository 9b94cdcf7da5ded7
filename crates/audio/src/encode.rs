//! Samples to bytes of any format that is written here.

use crate::mp3::Mp3Encoder;
use crate::ogg_opus::OggOpusEncoder;
use crate::pcm::{mulaw_encode, to_i16};
use crate::{AudioError, Codec, Format, Layout, wav_header};

/// One encoder, whatever the format. Nothing is written before the first
/// sample, so that a bare header never passes for sound.
pub(crate) enum Encoder {
    Wav { layout: Layout, begun: bool },
    Pcm,
    L16,
    Mulaw,
    Mp3(Box<Mp3Encoder>),
    OggOpus(Box<OggOpusEncoder>),
}

impl Encoder {
    /// # Errors
    /// As [`Format::check`], or when the codec's library refuses.
    pub(crate) fn new(format: Format) -> Result<Self, AudioError> {
        format.check()?;
        Ok(match format.codec {
            Codec::Wav => {
                Encoder::Wav { layout: Layout { rate: format.rate, channels: format.channels }, begun: false }
            }
            Codec::Pcm => Encoder::Pcm,
            Codec::L16 => Encoder::L16,
            Codec::Mulaw => Encoder::Mulaw,
            Codec::Mp3 => Encoder::Mp3(Box::new(Mp3Encoder::new(format)?)),
            Codec::OggOpus => Encoder::OggOpus(Box::new(OggOpusEncoder::new(format)?)),
        })
    }

    pub(crate) fn encode(&mut self, samples: &[f32], out: &mut Vec<u8>) -> Result<(), AudioError> {
        if samples.is_empty() {
            return Ok(());
        }
        match self {
            Encoder::Wav { layout, begun } => {
                if !std::mem::replace(begun, true) {
                    out.extend_from_slice(&wav_header(*layout, None));
                }
                out.extend(samples.iter().flat_map(|sample| to_i16(*sample).to_le_bytes()));
            }
            Encoder::Pcm => out.extend(samples.iter().flat_map(|sample| to_i16(*sample).to_le_bytes())),
            Encoder::L16 => out.extend(samples.iter().flat_map(|sample| to_i16(*sample).to_be_bytes())),
            Encoder::Mulaw => out.extend(samples.iter().map(|sample| mulaw_encode(to_i16(*sample)))),
            Encoder::Mp3(mp3) => mp3.encode(samples, out)?,
            Encoder::OggOpus(opus) => opus.encode(samples, out)?,
        }
        Ok(())
    }

    pub(crate) fn finish(&mut self, out: &mut Vec<u8>) -> Result<(), AudioError> {
        match self {
            Encoder::Mp3(mp3) => mp3.finish(out),
            Encoder::OggOpus(opus) => opus.finish(out),
            _ => Ok(()),
        }
    }
}
