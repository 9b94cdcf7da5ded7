//! Pieces of audio, one behind the other, as one stream.

use bytes::Bytes;

use crate::buffers::release;
use crate::chunk::Chunk;
use crate::codec::encode::Encoder;
use crate::dsp::level::Leveller;
use crate::pipeline::Pipeline;
use crate::{AudioError, Effects, Format, Layout, Length, Tags};

/// Seconds in which a piece that is cut off fades out.
const FADE: f64 = 0.005;

/// How a piece joins those before it and behind it; on its own unless said.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Joint {
    /// What is done to its audio.
    pub effects: Effects,
    /// Few bytes may become any length of audio.
    pub any_length: bool,
    /// Seconds by which it begins before the piece ahead of it ends; as that
    /// one's `hold`.
    pub overlap: f64,
    /// Seconds by which the piece behind it will overlap: so much of its end
    /// is held.
    pub hold: f64,
    /// Who speaks: each is brought to the loudness of the first. Sound that is
    /// of nobody stays as it is.
    pub speaker: Option<usize>,
    /// Decibels of the piece that are asked for, and no part of how loud its
    /// speaker is.
    pub asked: f64,
}

/// Joins pieces of whatever formats, to the sample: each is as long in the
/// whole as it is alone. Memory is bounded whatever the lengths.
pub struct Joiner {
    output: Format,
    encoder: Encoder,
    piece: Option<Pipeline>,
    leveller: Leveller,
    levelled: Vec<f32>,
    /// The end of the piece before the one at hand, which it overlaps.
    over: Vec<f32>,
    /// How much of it is mixed in.
    mixed: usize,
    /// The end of the piece at hand, as long as `hold`.
    held: Vec<f32>,
    /// Samples that are held back.
    hold: usize,
    /// Samples that went to the encoder.
    encoded: u64,
    /// Samples of the piece at hand.
    own: u64,
    /// The last frame that went to the encoder.
    last: [f32; 2],
}

impl Joiner {
    /// # Errors
    /// As [`Format::check_output`].
    pub fn new(output: Format, tags: Tags) -> Result<Self, AudioError> {
        let layout = Layout { rate: output.rate, channels: output.channels };
        Ok(Joiner {
            output,
            encoder: Encoder::new(output, tags)?,
            piece: None,
            leveller: Leveller::new(layout),
            levelled: Vec::new(),
            over: Vec::new(),
            mixed: 0,
            held: Vec::new(),
            hold: 0,
            encoded: 0,
            own: 0,
            last: [0.0; 2],
        })
    }

    /// How much audio there is so far, what is held included.
    pub fn length(&self) -> Length {
        let held = (self.held.len() + self.over.len() - self.mixed) as u64;
        Length { frames: (self.encoded + held) / u64::from(self.output.channels), rate: self.output.rate }
    }

    fn samples_in(&self, seconds: f64) -> usize {
        (seconds.max(0.0) * f64::from(self.output.rate)).round() as usize * usize::from(self.output.channels)
    }

    /// Whether something of the piece at hand stands in the stream. Until it
    /// does, another may [begin](Joiner::begin) in its place.
    pub fn has_begun(&self) -> bool {
        self.own > 0
    }

    /// A piece begins; its bytes follow.
    ///
    /// # Errors
    /// [`Effects::check`], or an input that is not read.
    pub fn begin(&mut self, input: Format, joint: Joint) -> Result<(), AudioError> {
        joint.effects.check()?;
        let layout = Layout { rate: self.output.rate, channels: self.output.channels };
        self.piece = Some(Pipeline::new(input, layout, joint.effects, joint.any_length)?);
        self.leveller.begin(joint.speaker, joint.asked);
        if self.own == 0 {
            // In place of one that came to nothing.
            self.held.append(&mut self.over);
        }
        // Of a piece that turned out shorter there is less to overlap.
        let overlap = self.samples_in(joint.overlap).min(self.held.len());
        self.over = self.held.split_off(self.held.len() - overlap);
        self.mixed = 0;
        self.hold = self.samples_in(joint.hold);
        self.own = 0;
        Ok(())
    }

    /// Takes bytes of the piece at hand.
    ///
    /// # Errors
    /// When they are not of its format.
    pub fn push(&mut self, bytes: &Bytes) -> Result<Bytes, AudioError> {
        let mut out = Vec::new();
        self.run(bytes, Chunk::More, &mut out)?;
        Ok(out.into())
    }

    /// The piece is whole.
    ///
    /// # Errors
    /// When it is torn or holds no audio.
    pub fn end(&mut self) -> Result<Bytes, AudioError> {
        let mut out = Vec::new();
        self.run(&[], Chunk::Last, &mut out)?;
        self.piece = None;
        // The piece before it may last longer than this one.
        let rest = self.over.split_off(self.mixed.min(self.over.len()));
        self.over.clear();
        self.mixed = 0;
        self.hold_back(&rest, &mut out)?;
        if self.own == 0 { Err(AudioError::Empty) } else { Ok(out.into()) }
    }

    /// The piece at hand ends where it is, since no more of it comes: its last
    /// frame fades out, and what is not in the stream yet is left out.
    ///
    /// # Errors
    /// When the encoder fails.
    pub fn cut(&mut self) -> Result<Bytes, AudioError> {
        let mut out = Vec::new();
        self.piece = None;
        self.over.clear();
        self.mixed = 0;
        self.release(&mut out)?;
        let channels = usize::from(self.output.channels);
        let frames = (FADE * f64::from(self.output.rate)).round() as usize;
        let last = self.last;
        let fading: Vec<f32> = (0..frames)
            .flat_map(|frame| {
                let left = 1.0 - (frame + 1) as f32 / frames as f32;
                (0..channels).map(move |channel| last[channel.min(1)] * left)
            })
            .collect();
        self.encode(&fading, &mut out)?;
        self.own = 0;
        Ok(out.into())
    }

    fn encode(&mut self, samples: &[f32], out: &mut Vec<u8>) -> Result<(), AudioError> {
        let channels = usize::from(self.output.channels);
        if let Some(frame) = samples.len().checked_sub(channels).and_then(|at| samples.get(at..)) {
            for (last, sample) in self.last.iter_mut().zip(frame) {
                *last = *sample;
            }
        }
        self.encoded += samples.len() as u64;
        self.encoder.encode(samples, out)
    }

    fn run(&mut self, bytes: &[u8], chunk: Chunk, out: &mut Vec<u8>) -> Result<(), AudioError> {
        let Some(piece) = self.piece.as_mut() else { return Ok(()) };
        if piece.push(bytes, chunk)? {
            self.encoder.dither();
        }
        let mut levelled = std::mem::take(&mut self.levelled);
        self.leveller.push(piece.samples(), chunk, &mut levelled)?;
        piece.done();
        self.own += levelled.len() as u64;
        for (sample, over) in levelled.iter_mut().zip(&self.over[self.mixed..]) {
            *sample = (*sample + over).clamp(-1.0, 1.0);
        }
        self.mixed = self.over.len().min(self.mixed + levelled.len());
        let held = self.hold_back(&levelled, out);
        release(&mut levelled);
        self.levelled = levelled;
        held
    }

    /// Encodes samples, but for as many as are held back.
    fn hold_back(&mut self, samples: &[f32], out: &mut Vec<u8>) -> Result<(), AudioError> {
        if self.hold == 0 && self.held.is_empty() {
            return self.encode(samples, out);
        }
        self.held.extend_from_slice(samples);
        let rest = self.held.split_off(self.held.len().saturating_sub(self.hold));
        let ready = std::mem::replace(&mut self.held, rest);
        self.encode(&ready, out)
    }

    /// Nothing overlaps what is held.
    fn release(&mut self, out: &mut Vec<u8>) -> Result<(), AudioError> {
        self.hold = 0;
        let held = std::mem::take(&mut self.held);
        self.encode(&held, out)
    }

    /// Silence between pieces, to the nearest frame.
    ///
    /// # Errors
    /// When the encoder fails.
    pub fn silence(&mut self, seconds: f64) -> Result<Bytes, AudioError> {
        let mut out = Vec::new();
        self.release(&mut out)?;
        let mut left = self.samples_in(seconds);
        let second = vec![0.0; self.output.rate as usize * usize::from(self.output.channels)];
        while left > 0 {
            let some = left.min(second.len());
            self.encode(&second[..some], &mut out)?;
            left -= some;
        }
        Ok(out.into())
    }

    /// There are no more pieces.
    ///
    /// # Errors
    /// When there was no audio at all.
    pub fn finish(&mut self) -> Result<Bytes, AudioError> {
        let mut out = Vec::new();
        self.release(&mut out)?;
        if self.encoded == 0 {
            return Err(AudioError::Empty);
        }
        self.encoder.finish(&mut out)?;
        Ok(out.into())
    }

    /// As [`Transcoder::start`](crate::Transcoder::start).
    pub fn start(&self) -> Option<Bytes> {
        self.encoder.start().map(Bytes::from)
    }
}
