//! Damaged audio, read as far as it goes: a file that ends too early, or has
//! bytes in it that are not its format. For what people send; what engines
//! send is read strictly.

use crate::chunk::Chunk;
use crate::codec::decode::Decoder;
use crate::codec::encode::Encoder;
use crate::dsp::expansion::Expansion;
use crate::dsp::resample::remix;
use crate::{AudioError, Codec, Format, Layout, Length, Tags};

/// Writes what can be read of damaged audio as 16-bit WAV, at its own rate and
/// in at most two channels.
pub struct Salvager {
    decoder: Decoder,
    encoder: Option<Encoder>,
    input: Option<Layout>,
    samples: Vec<f32>,
    frames: u64,
    fault: Option<AudioError>,
    expansion: Expansion,
}

/// What was read of damaged audio.
#[derive(Debug, Clone, PartialEq)]
pub struct Salvaged {
    /// Of the WAV.
    pub format: Format,
    /// What was read.
    pub length: Length,
    /// What is wrong with the rest; `None` where nothing is.
    pub fault: Option<AudioError>,
    /// Seconds that the file promises and does not hold, where it says so.
    pub missing: Option<f64>,
    /// The first bytes of the WAV, with its true length.
    pub start: Vec<u8>,
}

impl Salvager {
    /// A salvager for bytes of the format; rate and channels count only for
    /// codings that do not state them.
    ///
    /// # Errors
    /// When the format is not read here.
    pub fn new(format: Format) -> Result<Self, AudioError> {
        Ok(Salvager {
            decoder: Decoder::new(format)?,
            encoder: None,
            input: None,
            samples: Vec::new(),
            frames: 0,
            fault: None,
            expansion: Expansion::default(),
        })
    }

    /// Takes bytes and appends those of the WAV. `false` once nothing further
    /// can be read.
    ///
    /// # Errors
    /// When the audio has a shape that is not written, or becomes far longer
    /// than its bytes could hold.
    pub fn push(&mut self, bytes: &[u8], out: &mut Vec<u8>) -> Result<bool, AudioError> {
        self.advance(bytes, Chunk::More, out)?;
        Ok(self.fault.is_none())
    }

    /// The bytes are over.
    ///
    /// # Errors
    /// The fault of the audio where nothing of it can be read.
    pub fn finish(mut self, out: &mut Vec<u8>) -> Result<Salvaged, AudioError> {
        if self.fault.is_none() {
            self.advance(&[], Chunk::Last, out)?;
        }
        let (Some(input), Some(mut encoder), 1..) = (self.input, self.encoder.take(), self.frames) else {
            return Err(self.fault.unwrap_or(AudioError::Empty));
        };
        encoder.finish(out)?;
        let missing = self.decoder.missing().filter(|missing| *missing > 0.0);
        let length = Length { frames: self.frames, rate: input.rate };
        let start = encoder.start().unwrap_or_default();
        Ok(Salvaged { format: written(input), length, fault: self.fault, missing, start })
    }

    fn advance(&mut self, bytes: &[u8], chunk: Chunk, out: &mut Vec<u8>) -> Result<(), AudioError> {
        self.samples.clear();
        // Samples that came before a fault count.
        self.fault = self.decoder.push(bytes, chunk, &mut self.samples).err();
        let Some(layout) = self.decoder.layout() else { return Ok(()) };
        let input = *self.input.get_or_insert(layout);
        self.expansion.check(bytes.len(), self.samples.len(), input)?;
        let format = written(input);
        remix(&mut self.samples, input.channels, format.channels);
        let whole = self.samples.len() / usize::from(format.channels) * usize::from(format.channels);
        self.samples.truncate(whole);
        self.frames += (whole / usize::from(format.channels)) as u64;
        let encoder = match &mut self.encoder {
            Some(encoder) => encoder,
            None => self.encoder.insert(Encoder::new(format, Tags::default())?),
        };
        if !self.decoder.fits_sixteen_bits() {
            encoder.dither();
        }
        if !self.samples.is_empty() {
            encoder.encode(&self.samples, out)?;
        }
        Ok(())
    }
}

fn written(input: Layout) -> Format {
    Format { channels: input.channels.min(2), ..Format::new(Codec::Wav, input.rate) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{encode_all, measure, wav_header};

    /// A second of a tone at 16 kHz.
    fn tone() -> Vec<f32> {
        (0..16_000).map(|n| 0.4 * (n as f32 * 0.17).sin()).collect()
    }

    fn salvaged(bytes: &[u8], format: Format) -> Result<(Salvaged, Vec<u8>), AudioError> {
        let mut salvager = Salvager::new(format)?;
        let mut out = Vec::new();
        for chunk in bytes.chunks(1_000) {
            if !salvager.push(chunk, &mut out)? {
                break;
            }
        }
        let found = salvager.finish(&mut out)?;
        out[..found.start.len()].copy_from_slice(&found.start);
        Ok((found, out))
    }

    #[test]
    fn a_wav_that_promises_more_than_it_holds_gives_what_it_holds() {
        let whole = encode_all(&tone(), Format::new(Codec::Wav, 16_000)).expect("a tone");
        let cut = &whole[..44 + 16_001];
        let (found, wav) = salvaged(cut, Format::new(Codec::Wav, 16_000)).expect("half a tone");
        assert_eq!(found.length, Length { frames: 8_000, rate: 16_000 });
        assert!(matches!(found.fault, Some(AudioError::Truncated { format: "WAV", .. })), "{:?}", found.fault);
        assert!((found.missing.expect("it says how long it is") - 0.5).abs() < 0.001, "{:?}", found.missing);
        assert_eq!(wav[..44], wav_header(Layout { rate: 16_000, channels: 1 }, Some(16_000))[..]);
        assert_eq!(wav[44..], cut[44..44 + 16_000], "sample for sample");
        assert_eq!(measure(&wav, None).expect("whole").1, found.length);
    }

    #[test]
    fn cut_and_broken_files_of_packets_give_what_comes_before() {
        for codec in [Codec::Mp3, Codec::OggOpus, Codec::Flac] {
            let format = Format::new(codec, 16_000);
            let mut whole = encode_all(&tone().repeat(4), format).expect("a tone");
            whole.truncate(whole.len() * 6 / 10);
            let (found, wav) = salvaged(&whole, format).expect("the beginning");
            let seconds = found.length.seconds();
            assert!((1.0..3.0).contains(&seconds), "{codec}: {seconds} s");
            assert_eq!(measure(&wav, None).expect("whole").1, found.length, "{codec}");
        }
        let nothing = salvaged(b"no audio at all", Format::new(Codec::Wav, 16_000));
        assert!(matches!(nothing, Err(AudioError::NotThis { .. })), "{nothing:?}");
    }
}
