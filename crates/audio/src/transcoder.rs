//! Bytes in, bytes out: any format that is read to any that is written.

use bytes::Bytes;

use crate::chunk::Chunk;
use crate::codec::decode::Decoder;
use crate::codec::encode::Encoder;
use crate::container::rewrap::{Rewrap, Rewrapped};
use crate::dsp::effects::Effects;
use crate::pipeline::Pipeline;
use crate::{AudioError, Format, Layout, Length, Meter, Tags};

/// What is wanted beside the format; nothing unless said.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Options {
    /// Done to the audio; then it is always decoded.
    pub effects: Effects,
    /// What the output says of itself, where its format can. The input's own
    /// tags are not carried over.
    pub tags: Tags,
    /// Let few bytes become any length of audio.
    pub any_length: bool,
    /// Decode even where the coded sound could be moved as it is: chains of
    /// streams need it.
    pub decode: bool,
}

impl Options {
    fn leaves_sound(&self) -> bool {
        self.effects.is_none() && !self.decode
    }
}

/// Turns a stream of one format into a stream of another.
///
/// Where the two agree the bytes pass untouched and are only counted and
/// checked. Where only the container or its tags differ, the coded sound is
/// moved as it is. Otherwise it is decoded, remixed, resampled and encoded.
/// After an error the transcoder is of no more use.
pub struct Transcoder {
    way: ConversionPath,
    output: Format,
    finished: bool,
}

enum ConversionPath {
    Pass(Box<Meter>),
    /// And what to do where the audio turns out to need it.
    Rewrap(Box<(Rewrap, Format, Options)>),
    Convert(Box<Conversion>),
}

/// Decodes, and then encodes.
struct Conversion {
    front: Pipeline,
    encoder: Encoder,
    frames: u64,
}

fn passes(input: Format, output: Format, options: &Options) -> bool {
    let tagless = !output.codec.carries_tags() || options.tags.is_empty();
    options.leaves_sound() && tagless && input.satisfies(&output)
}

fn rewrap(input: Format, output: Format, options: &Options) -> Option<Rewrap> {
    let none = Tags::default();
    let tags = if output.codec.carries_tags() { &options.tags } else { &none };
    options.leaves_sound().then(|| Rewrap::between(input, output, tags)).flatten()
}

impl Transcoder {
    /// A transcoder from `input` to `output`. `input` is taken at its word
    /// for raw codings; the others state their own rate and channels.
    ///
    /// # Errors
    /// As [`Format::check_output`].
    pub fn new(input: Format, output: Format) -> Result<Self, AudioError> {
        Transcoder::with(input, output, Options::default())
    }

    /// As [`Transcoder::new`], with more that is wanted.
    ///
    /// # Errors
    /// As [`Transcoder::new`], and [`Effects::check`].
    pub fn with(input: Format, output: Format, options: Options) -> Result<Self, AudioError> {
        options.effects.check()?;
        let way = if passes(input, output, &options) {
            ConversionPath::Pass(Box::new(Meter::new(input)?))
        } else {
            output.check_output()?;
            match rewrap(input, output, &options) {
                Some(rewrap) => ConversionPath::Rewrap(Box::new((rewrap, input, options))),
                None => ConversionPath::Convert(Box::new(Conversion::new(input, output, options)?)),
            }
        };
        Ok(Transcoder { way, output, finished: false })
    }

    /// Whether a transcoder would move coded sound as it is. If not, the mere
    /// making of one may take a millisecond and more.
    pub fn moves(input: Format, output: Format, options: &Options) -> bool {
        passes(input, output, options) || rewrap(input, output, options).is_some()
    }

    /// Whether the bytes pass untouched.
    pub fn passes_through(&self) -> bool {
        matches!(self.way, ConversionPath::Pass(_))
    }

    /// Whether the audio is decoded, which takes time.
    pub fn decodes(&self) -> bool {
        matches!(self.way, ConversionPath::Convert(_))
    }

    /// The format that comes out.
    pub fn output(&self) -> Format {
        self.output
    }

    /// How much audio has come out so far.
    pub fn length(&self) -> Length {
        match &self.way {
            ConversionPath::Pass(meter) => meter.length(),
            ConversionPath::Rewrap(rewrap) => rewrap.0.length(),
            ConversionPath::Convert(conversion) => Length { frames: conversion.frames, rate: self.output.rate },
        }
    }

    /// Takes bytes as they come and gives those that are ready, which may be none.
    ///
    /// # Errors
    /// When the bytes are not the input format.
    pub fn push(&mut self, bytes: &Bytes) -> Result<Bytes, AudioError> {
        match &mut self.way {
            ConversionPath::Pass(meter) => meter.push(bytes).map(|()| bytes.clone()),
            ConversionPath::Rewrap(_) => self.rewrap(bytes, Chunk::More),
            ConversionPath::Convert(conversion) => conversion.push(bytes, Chunk::More),
        }
    }

    /// The input is over: gives the rest, once.
    ///
    /// # Errors
    /// When the input ended too early, or held no audio.
    pub fn finish(&mut self) -> Result<Bytes, AudioError> {
        if std::mem::replace(&mut self.finished, true) {
            return Ok(Bytes::new());
        }
        match &mut self.way {
            ConversionPath::Pass(meter) => meter.finish().map(|_| Bytes::new()),
            ConversionPath::Rewrap(_) => self.rewrap(&[], Chunk::Last),
            ConversionPath::Convert(conversion) => conversion.push(&[], Chunk::Last),
        }
    }

    /// After [`Transcoder::finish`]: the first bytes of the output as they
    /// would have been, had the length been known before. They are as many as
    /// those that were given, so that a file can have its beginning written
    /// again. `None` where they would be the same.
    pub fn start(&self) -> Option<Bytes> {
        let start = match &self.way {
            ConversionPath::Pass(_) => None,
            ConversionPath::Rewrap(rewrap) => rewrap.0.start(),
            ConversionPath::Convert(conversion) => conversion.encoder.start(),
        };
        start.map(Bytes::from)
    }

    fn rewrap(&mut self, bytes: &[u8], chunk: Chunk) -> Result<Bytes, AudioError> {
        let ConversionPath::Rewrap(rewrap) = &mut self.way else { return Ok(Bytes::new()) };
        let (rewrap, input, options) = rewrap.as_mut();
        match rewrap.push(bytes, chunk)? {
            Rewrapped::Bytes(bytes) => Ok(bytes.into()),
            Rewrapped::Refused(seen) => {
                let mut conversion = Conversion::new(*input, self.output, std::mem::take(options))?;
                let out = conversion.push(&seen, chunk);
                self.way = ConversionPath::Convert(Box::new(conversion));
                out
            }
        }
    }
}

impl Conversion {
    fn new(input: Format, output: Format, options: Options) -> Result<Self, AudioError> {
        let layout = Layout { rate: output.rate, channels: output.channels };
        Ok(Conversion {
            front: Pipeline::new(input, layout, options.effects, options.any_length)?,
            encoder: Encoder::new(output, options.tags)?,
            frames: 0,
        })
    }

    fn push(&mut self, bytes: &[u8], chunk: Chunk) -> Result<Bytes, AudioError> {
        let mut out = Vec::new();
        let computes = self.front.push(bytes, chunk)?;
        let samples = self.front.samples();
        self.frames += samples.len() as u64 / u64::from(self.front.output().channels);
        if computes {
            self.encoder.dither();
        }
        self.encoder.encode(samples, &mut out)?;
        self.front.done();
        if chunk.is_last() {
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
    decoder.push(audio, Chunk::Last, &mut samples)?;
    let layout = decoder.layout().ok_or(AudioError::Empty)?;
    Ok((samples, layout))
}

/// Encodes whole samples at the format's own rate and channels.
///
/// # Errors
/// As [`Format::check`].
pub fn encode_all(samples: &[f32], format: Format) -> Result<Vec<u8>, AudioError> {
    let mut encoder = Encoder::new(format, Tags::default())?;
    let mut out = Vec::new();
    encoder.encode(samples, &mut out)?;
    encoder.finish(&mut out)?;
    if let Some(start) = encoder.start().filter(|start| start.len() <= out.len()) {
        out[..start.len()].copy_from_slice(&start);
    }
    Ok(out)
}
