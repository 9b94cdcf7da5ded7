//! Moving the pitch without changing the tempo.

use crate::AudioError;
use crate::chunk::Chunk;
use crate::dsp::formants::Formants;
use crate::dsp::resample::Resampler;
use crate::dsp::stretch::Stretch;

/// A higher pitch is the same sound played faster: it is made slower before,
/// and resampled after. Its formants move along unless they are kept.
pub(crate) struct PitchShift {
    channels: usize,
    stretch: Stretch,
    resampler: Resampler,
    /// One for each channel, where formants are kept.
    formants: Vec<Formants>,
    stretched: Vec<f32>,
    moved: Vec<f32>,
    /// Samples that came in, and that went out.
    taken: usize,
    given: usize,
}

impl PitchShift {
    pub(crate) fn new(rate: u32, channels: u8, semitones: f64, keep_formants: bool) -> Result<Self, AudioError> {
        let factor = (semitones / 12.0).exp2();
        let kept = if keep_formants { usize::from(channels) } else { 0 };
        Ok(PitchShift {
            channels: channels.into(),
            stretch: Stretch::new(rate, channels, 1.0 / factor),
            resampler: Resampler::by_factor(channels, 1.0 / factor)?,
            formants: (0..kept).map(|_| Formants::new(rate)).collect(),
            stretched: Vec::new(),
            moved: Vec::new(),
            taken: 0,
            given: 0,
        })
    }

    pub(crate) fn push(&mut self, samples: &[f32], chunk: Chunk, out: &mut Vec<f32>) -> Result<(), AudioError> {
        let before = out.len();
        self.taken += samples.len();
        self.run(samples, chunk, out)?;
        if chunk.is_last() {
            // Two roundings of the length may differ by a frame.
            out.resize(before + self.taken.saturating_sub(self.given), 0.0);
        }
        self.given += out.len() - before;
        Ok(())
    }

    fn run(&mut self, samples: &[f32], chunk: Chunk, out: &mut Vec<f32>) -> Result<(), AudioError> {
        self.stretched.clear();
        self.moved.clear();
        self.stretch.push(samples, &mut self.stretched);
        if chunk.is_last() {
            self.stretch.finish(&mut self.stretched);
        }
        self.resampler.push(&self.stretched, &mut self.moved)?;
        if chunk.is_last() {
            self.resampler.finish(&mut self.moved)?;
        }
        if self.formants.is_empty() {
            out.extend_from_slice(&self.moved);
            return Ok(());
        }
        let one = |samples: &[f32], channel: usize| -> Vec<f32> {
            samples.iter().skip(channel).step_by(self.channels).copied().collect()
        };
        let mut made: Vec<Vec<f32>> = vec![Vec::new(); self.channels];
        for (channel, (formants, made)) in self.formants.iter_mut().zip(&mut made).enumerate() {
            formants.push(&one(samples, channel), &one(&self.moved, channel), made);
            if chunk.is_last() {
                formants.finish(made);
            }
        }
        let frames = made.iter().map(Vec::len).min().unwrap_or(0);
        out.extend((0..frames).flat_map(|frame| made.iter().map(move |channel| channel[frame])));
        Ok(())
    }
}
