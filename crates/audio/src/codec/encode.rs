//! Samples to bytes of any format that is written here.

use crate::codec::dither::Quantiser;
use crate::codec::flac_encode::FlacEncoder;
#[cfg(feature = "mp3")]
use crate::codec::mp3_encode::Mp3Encoder;
#[cfg(feature = "opus")]
use crate::codec::opus_encode::OpusEncoder;
use crate::codec::pcm::{alaw_encode, mulaw_encode_sample, to_i16};
use crate::container::wav::{self, WavCoding};
use crate::{AudioError, Codec, Format, Layout, Tags};

/// One encoder, whatever the format. Nothing is written before the first
/// sample, so that a bare header never passes for audio.
pub(crate) struct Encoder {
    kind: EncoderKind,
    quantiser: Quantiser,
}

enum EncoderKind {
    Plain(PlainEncoder),
    #[cfg(feature = "mp3")]
    Mp3(Box<Mp3Encoder>),
    #[cfg(feature = "opus")]
    Opus(Box<OpusEncoder>),
    Flac(Box<FlacEncoder>),
}

/// How plain samples are written.
#[derive(Clone, Copy)]
enum Plain {
    LittleEndian,
    BigEndian,
    Mulaw,
    Alaw,
}

/// Plain samples, behind a header where there is one.
struct PlainEncoder {
    coding: Plain,
    wav: Option<(WavCoding, Layout, Tags)>,
    written: u64,
}

impl PlainEncoder {
    fn new(coding: Plain, wav: Option<WavCoding>, layout: Layout, tags: Tags) -> Self {
        PlainEncoder { coding, wav: wav.map(|coding| (coding, layout, tags)), written: 0 }
    }

    fn encode(&mut self, samples: &[f32], quantiser: &mut Quantiser, out: &mut Vec<u8>) {
        if let Some((coding, layout, tags)) = self.wav.as_ref().filter(|_| self.written == 0) {
            out.extend(wav::header(*coding, *layout, tags, None));
        }
        let before = out.len();
        match self.coding {
            Plain::LittleEndian => quantiser.bytes(samples, i16::to_le_bytes, out),
            Plain::BigEndian => quantiser.bytes(samples, i16::to_be_bytes, out),
            Plain::Mulaw => out.extend(samples.iter().map(|sample| mulaw_encode_sample(*sample))),
            Plain::Alaw => out.extend(samples.iter().map(|sample| alaw_encode(to_i16(*sample)))),
        }
        self.written += (out.len() - before) as u64;
    }

    fn start(&self) -> Option<Vec<u8>> {
        let (coding, layout, tags) = self.wav.as_ref()?;
        let length = u32::try_from(self.written).ok()?;
        Some(wav::header(*coding, *layout, tags, Some(length)))
    }
}

impl Encoder {
    /// # Errors
    /// As [`Format::check`], or when the codec's library refuses.
    pub(crate) fn new(format: Format, tags: Tags) -> Result<Self, AudioError> {
        format.check_output()?;
        let layout = Layout { rate: format.rate, channels: format.channels };
        let plain = |coding, wav| EncoderKind::Plain(PlainEncoder::new(coding, wav, layout, tags.clone()));
        let kind = match format.codec {
            Codec::Wav => plain(Plain::LittleEndian, Some(WavCoding::Pcm16)),
            Codec::WavMulaw => plain(Plain::Mulaw, Some(WavCoding::Mulaw)),
            Codec::WavAlaw => plain(Plain::Alaw, Some(WavCoding::Alaw)),
            Codec::Pcm => plain(Plain::LittleEndian, None),
            Codec::L16 => plain(Plain::BigEndian, None),
            Codec::Mulaw => plain(Plain::Mulaw, None),
            Codec::Alaw => plain(Plain::Alaw, None),
            #[cfg(feature = "mp3")]
            Codec::Mp3 => EncoderKind::Mp3(Box::new(Mp3Encoder::new(format, &tags)?)),
            #[cfg(feature = "opus")]
            Codec::OggOpus | Codec::WebmOpus => EncoderKind::Opus(Box::new(OpusEncoder::new(format, tags)?)),
            Codec::Flac => EncoderKind::Flac(Box::new(FlacEncoder::new(format, tags))),
            codec if codec.is_written() => return Err(AudioError::NotBuilt(codec)),
            codec => return Err(AudioError::ReadOnly(codec)),
        };
        Ok(Encoder { kind, quantiser: Quantiser::new() })
    }

    /// From now on what is rounded to 16 bits is dithered.
    pub(crate) fn dither(&mut self) {
        self.quantiser.dither();
    }

    pub(crate) fn encode(&mut self, samples: &[f32], out: &mut Vec<u8>) -> Result<(), AudioError> {
        if samples.is_empty() {
            return Ok(());
        }
        match &mut self.kind {
            EncoderKind::Plain(plain) => plain.encode(samples, &mut self.quantiser, out),
            #[cfg(feature = "mp3")]
            EncoderKind::Mp3(mp3) => mp3.encode(samples, out)?,
            #[cfg(feature = "opus")]
            EncoderKind::Opus(opus) => opus.encode(samples, out)?,
            EncoderKind::Flac(flac) => flac.encode(samples.iter().map(|sample| self.quantiser.quantise(*sample)), out),
        }
        Ok(())
    }

    pub(crate) fn finish(&mut self, out: &mut Vec<u8>) -> Result<(), AudioError> {
        match &mut self.kind {
            #[cfg(feature = "mp3")]
            EncoderKind::Mp3(mp3) => mp3.finish(out),
            #[cfg(feature = "opus")]
            EncoderKind::Opus(opus) => opus.finish(out),
            EncoderKind::Flac(flac) => {
                flac.finish(out);
                Ok(())
            }
            EncoderKind::Plain(_) => Ok(()),
        }
    }

    /// After the end: the first bytes as they would have been, had the length
    /// been known; as many as those that were given. `None` where they would
    /// be the same.
    pub(crate) fn start(&self) -> Option<Vec<u8>> {
        match &self.kind {
            EncoderKind::Plain(plain) => plain.start(),
            #[cfg(feature = "mp3")]
            EncoderKind::Mp3(mp3) => mp3.start(),
            #[cfg(feature = "opus")]
            EncoderKind::Opus(opus) => opus.start(),
            EncoderKind::Flac(flac) => Some(flac.start()),
        }
    }
}
