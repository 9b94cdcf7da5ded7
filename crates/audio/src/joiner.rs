//! Pieces of sound, one behind the other, as one stream.

use bytes::Bytes;

use crate::encode::Encoder;
use crate::front::Front;
use crate::{AudioError, Effects, Format, Layout, Length, Tags};

/// Joins pieces of whatever formats, to the sample: each is as long in the
/// whole as it is alone. Memory is bounded whatever the lengths.
///
/// Levels are the caller's: measure a piece with
/// [`LoudnessMeter`](crate::LoudnessMeter) and give its gain among the effects.
pub struct Joiner {
    output: Format,
    encoder: Encoder,
    piece: Option<Front>,
    frames: u64,
    /// Frames before the piece at hand.
    before: u64,
}

impl Joiner {
    /// # Errors
    /// As [`Format::check_output`].
    pub fn new(output: Format, tags: Tags) -> Result<Self, AudioError> {
        Ok(Joiner { output, encoder: Encoder::new(output, tags)?, piece: None, frames: 0, before: 0 })
    }

    /// How much sound there is so far.
    pub fn length(&self) -> Length {
        Length { frames: self.frames, rate: self.output.rate }
    }

    /// A piece begins; its bytes follow. With `any_length` few bytes may
    /// become any length of sound.
    ///
    /// # Errors
    /// [`Effects::check`], or an input that is not read.
    pub fn begin(&mut self, input: Format, effects: Effects, any_length: bool) -> Result<(), AudioError> {
        effects.check()?;
        let layout = Layout { rate: self.output.rate, channels: self.output.channels };
        self.piece = Some(Front::new(input, layout, effects, any_length)?);
        self.before = self.frames;
        Ok(())
    }

    /// Takes bytes of the piece at hand.
    ///
    /// # Errors
    /// When they are not of its format.
    pub fn push(&mut self, bytes: &Bytes) -> Result<Bytes, AudioError> {
        self.run(bytes, false)
    }

    /// The piece is whole.
    ///
    /// # Errors
    /// When it is torn or holds no sound.
    pub fn end(&mut self) -> Result<Bytes, AudioError> {
        let out = self.run(&[], true)?;
        self.piece = None;
        if self.frames == self.before { Err(AudioError::Empty) } else { Ok(out) }
    }

    fn run(&mut self, bytes: &[u8], last: bool) -> Result<Bytes, AudioError> {
        let Some(piece) = self.piece.as_mut() else { return Ok(Bytes::new()) };
        if piece.push(bytes, last)? {
            self.encoder.dither();
        }
        let samples = piece.samples();
        self.frames += samples.len() as u64 / u64::from(self.output.channels);
        let mut out = Vec::new();
        self.encoder.encode(samples, &mut out)?;
        Ok(out.into())
    }

    /// Silence between pieces, to the nearest frame.
    ///
    /// # Errors
    /// When the encoder fails.
    pub fn silence(&mut self, seconds: f64) -> Result<Bytes, AudioError> {
        let frames = (seconds.max(0.0) * f64::from(self.output.rate)).round() as u64;
        let mut out = Vec::new();
        let second = vec![0.0; self.output.rate as usize * usize::from(self.output.channels)];
        let mut left = frames as usize * usize::from(self.output.channels);
        while left > 0 {
            let some = left.min(second.len());
            self.encoder.encode(&second[..some], &mut out)?;
            left -= some;
        }
        self.frames += frames;
        Ok(out.into())
    }

    /// There are no more pieces.
    ///
    /// # Errors
    /// When there was no sound at all.
    pub fn finish(&mut self) -> Result<Bytes, AudioError> {
        if self.frames == 0 {
            return Err(AudioError::Empty);
        }
        let mut out = Vec::new();
        self.encoder.finish(&mut out)?;
        Ok(out.into())
    }

    /// As [`Transcoder::start`](crate::Transcoder::start).
    pub fn start(&self) -> Option<Bytes> {
        self.encoder.start().map(Bytes::from)
    }
}
