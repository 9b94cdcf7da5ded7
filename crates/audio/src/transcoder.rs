//! Bytes in, bytes out: any format that is read to any that is written.

use bytes::Bytes;

use crate::decode::Decoder;
use crate::effects::{Chain, Effects};
use crate::encode::Encoder;
use crate::resample::{Resampler, remix};
use crate::{AudioError, Format, Layout, Length, Meter};

/// Turns a stream of one format into a stream of another.
///
/// Where the two agree the bytes pass untouched and are only counted and
/// checked. Otherwise they are decoded, remixed, resampled and encoded. After
/// an error the transcoder is of no more use.
pub struct Transcoder {
    way: Way,
    output: Format,
}

enum Way {
    Pass(Meter),
    Convert(Box<Conversion>),
}

struct Conversion {
    decoder: Decoder,
    resampler: Option<Resampler>,
    effects: Effects,
    chain: Option<Chain>,
    encoder: Encoder,
    input: Option<Layout>,
    output: Layout,
    decoded: Vec<f32>,
    resampled: Vec<f32>,
    frames: u64,
}

impl Transcoder {
    /// A transcoder from `input` to `output`. `input` is taken at its word
    /// for raw codings; the others tell their own rate and channels.
    ///
    /// # Errors
    /// As [`Format::check`] for the output.
    pub fn new(input: Format, output: Format) -> Result<Self, AudioError> {
        Transcoder::with_effects(input, output, Effects::default())
    }

    /// As [`Transcoder::new`], with something done to the sound on its way;
    /// then it is always decoded.
    ///
    /// # Errors
    /// As [`Transcoder::new`], and [`Effects::check`].
    pub fn with_effects(input: Format, output: Format, effects: Effects) -> Result<Self, AudioError> {
        effects.check()?;
        let way = if effects.is_none() && input.satisfies(&output) {
            Way::Pass(Meter::new(input)?)
        } else {
            Way::Convert(Box::new(Conversion {
                decoder: Decoder::new(input)?,
                resampler: None,
                effects,
                chain: None,
                encoder: Encoder::new(output)?,
                input: None,
                output: Layout { rate: output.rate, channels: output.channels },
                decoded: Vec::new(),
                resampled: Vec::new(),
                frames: 0,
            }))
        };
        Ok(Transcoder { way, output })
    }

    /// Whether the bytes pass untouched.
    pub fn passes_through(&self) -> bool {
        matches!(self.way, Way::Pass(_))
    }

    /// The format that comes out.
    pub fn output(&self) -> Format {
        self.output
    }

    /// How much sound has come out so far.
    pub fn length(&self) -> Length {
        match &self.way {
            Way::Pass(meter) => meter.length(),
            Way::Convert(conversion) => Length { frames: conversion.frames, rate: self.output.rate },
        }
    }

    /// Takes bytes as they come and gives those that are ready, which may be none.
    ///
    /// # Errors
    /// When the bytes are not the input format.
    pub fn push(&mut self, bytes: &Bytes) -> Result<Bytes, AudioError> {
        match &mut self.way {
            Way::Pass(meter) => meter.push(bytes).map(|()| bytes.clone()),
            Way::Convert(conversion) => conversion.push(bytes, false),
        }
    }

    /// The input is over: gives the rest.
    ///
    /// # Errors
    /// When the input ended too early, or held no sound.
    pub fn finish(&mut self) -> Result<Bytes, AudioError> {
        match &mut self.way {
            Way::Pass(meter) => meter.finish().map(|_| Bytes::new()),
            Way::Convert(conversion) => conversion.push(&[], true),
        }
    }
}

impl Conversion {
    fn push(&mut self, bytes: &[u8], last: bool) -> Result<Bytes, AudioError> {
        let mut out = Vec::new();
        self.decoded.clear();
        self.decoder.push(bytes, last, &mut self.decoded)?;
        if self.input.is_none() {
            self.input = self.decoder.layout();
            if let Some(input) = self.input.filter(|input| input.rate != self.output.rate) {
                let remixed = Layout { channels: self.output.channels, ..input };
                self.resampler = Some(Resampler::new(remixed, self.output.rate)?);
            }
            if let Some(input) = self.input.filter(|_| !self.effects.is_none()) {
                let remixed = Layout { channels: self.output.channels, ..input };
                self.chain = Some(Chain::new(&self.effects, remixed)?);
            }
        }
        let Some(input) = self.input else { return Ok(Bytes::new()) };
        remix(&mut self.decoded, input.channels, self.output.channels);
        if let Some(chain) = self.chain.as_mut() {
            chain.run(&mut self.decoded, last)?;
        }
        let samples = match self.resampler.as_mut() {
            None => &self.decoded,
            Some(resampler) => {
                self.resampled.clear();
                resampler.push(&self.decoded, &mut self.resampled)?;
                if last {
                    resampler.finish(&mut self.resampled)?;
                }
                &self.resampled
            }
        };
        self.frames += samples.len() as u64 / u64::from(self.output.channels);
        self.encoder.encode(samples, &mut out)?;
        if last {
            if self.frames == 0 {
                return Err(AudioError::Empty);
            }
            self.encoder.finish(&mut out)?;
        }
        Ok(out.into())
    }
}

/// Decodes whole audio to samples; for tests and small files.
///
/// # Errors
/// As [`Transcoder::push`].
pub fn decode_all(audio: &[u8], told: Format) -> Result<(Vec<f32>, Layout), AudioError> {
    let mut decoder = Decoder::new(told)?;
    let mut samples = Vec::new();
    decoder.push(audio, true, &mut samples)?;
    let layout = decoder.layout().ok_or(AudioError::Empty)?;
    Ok((samples, layout))
}

/// Encodes whole samples at the format's own rate and channels.
///
/// # Errors
/// As [`Format::check`].
pub fn encode_all(samples: &[f32], format: Format) -> Result<Vec<u8>, AudioError> {
    let mut encoder = Encoder::new(format)?;
    let mut out = Vec::new();
    encoder.encode(samples, &mut out)?;
    encoder.finish(&mut out)?;
    if format.codec.is_wav() {
        let length = out.len() as u64;
        crate::mend_wav_lengths(&mut out, length);
    }
    Ok(out)
}
