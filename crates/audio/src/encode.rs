//! Samples to bytes of any format that is written here.

use crate::flac::FlacEncoder;
use crate::mp3::Mp3Encoder;
use crate::ogg_opus::OggOpusEncoder;
use crate::pcm::{alaw_encode, mulaw_encode, to_i16};
use crate::wav::g711_header;
use crate::webm::WebmOpusEncoder;
use crate::{AudioError, Codec, Format, Layout, wav_header};

/// One encoder, whatever the format. Nothing is written before the first
/// sample, so that a bare header never passes for sound.
pub(crate) enum Encoder {
    /// Plain samples, and the header that is still to be written before them.
    Plain {
        coding: Plain,
        header: Vec<u8>,
    },
    Mp3(Box<Mp3Encoder>),
    OggOpus(Box<OggOpusEncoder>),
    WebmOpus(Box<WebmOpusEncoder>),
    Flac(Box<FlacEncoder>),
}

/// How plain samples are written.
#[derive(Clone, Copy)]
pub(crate) enum Plain {
    LittleEndian,
    BigEndian,
    Mulaw,
    Alaw,
}

impl Encoder {
    /// # Errors
    /// As [`Format::check`], or when the codec's library refuses.
    pub(crate) fn new(format: Format) -> Result<Self, AudioError> {
        format.check_output()?;
        let layout = Layout { rate: format.rate, channels: format.channels };
        let plain = |coding, header: &[u8]| Encoder::Plain { coding, header: header.to_vec() };
        Ok(match format.codec {
            Codec::Wav => plain(Plain::LittleEndian, &wav_header(layout, None)),
            Codec::WavMulaw => plain(Plain::Mulaw, &g711_header(layout, true, None)),
            Codec::WavAlaw => plain(Plain::Alaw, &g711_header(layout, false, None)),
            Codec::Pcm => plain(Plain::LittleEndian, &[]),
            Codec::L16 => plain(Plain::BigEndian, &[]),
            Codec::Mulaw => plain(Plain::Mulaw, &[]),
            Codec::Alaw => plain(Plain::Alaw, &[]),
            Codec::Mp3 => Encoder::Mp3(Box::new(Mp3Encoder::new(format)?)),
            Codec::OggOpus => Encoder::OggOpus(Box::new(OggOpusEncoder::new(format)?)),
            Codec::WebmOpus => Encoder::WebmOpus(Box::new(WebmOpusEncoder::new(format)?)),
            Codec::Flac => Encoder::Flac(Box::new(FlacEncoder::new(format))),
            codec => return Err(AudioError::ReadOnly(codec)),
        })
    }

    pub(crate) fn encode(&mut self, samples: &[f32], out: &mut Vec<u8>) -> Result<(), AudioError> {
        if samples.is_empty() {
            return Ok(());
        }
        match self {
            Encoder::Plain { coding, header } => {
                out.append(header);
                let samples = samples.iter().map(|sample| to_i16(*sample));
                match coding {
                    Plain::LittleEndian => out.extend(samples.flat_map(i16::to_le_bytes)),
                    Plain::BigEndian => out.extend(samples.flat_map(i16::to_be_bytes)),
                    Plain::Mulaw => out.extend(samples.map(mulaw_encode)),
                    Plain::Alaw => out.extend(samples.map(alaw_encode)),
                }
            }
            Encoder::Mp3(mp3) => mp3.encode(samples, out)?,
            Encoder::OggOpus(opus) => opus.encode(samples, out)?,
            Encoder::WebmOpus(opus) => opus.encode(samples, out)?,
            Encoder::Flac(flac) => flac.encode(samples, out)?,
        }
        Ok(())
    }

    pub(crate) fn finish(&mut self, out: &mut Vec<u8>) -> Result<(), AudioError> {
        match self {
            Encoder::Mp3(mp3) => mp3.finish(out),
            Encoder::OggOpus(opus) => opus.finish(out),
            Encoder::WebmOpus(opus) => opus.finish(out),
            Encoder::Flac(flac) => flac.finish(out),
            Encoder::Plain { .. } => Ok(()),
        }
    }
}
