//! Changing the sample rate of a stream, and its channel count.

use rubato::audioadapter_buffers::direct::InterleavedSlice;
use rubato::{Async, Fft, FixedAsync, FixedSync, SincInterpolationParameters, WindowFunction};

use crate::buffers::release_beyond;
use crate::{AudioError, Codec, Layout};

/// Averages to mono or copies to stereo; the input is untouched where nothing
/// changes. More channels, in the order of WAV, become two first (ITU-R BS.775,
/// annex 4), no louder than full scale.
pub(crate) fn remix(samples: &mut Vec<f32>, from: u8, to: u8) {
    match (from, to) {
        (from, to) if from == to => {}
        (1, _) => *samples = samples.iter().flat_map(|sample| [*sample, *sample]).collect(),
        (2, 1) => {
            let frames = samples.len() / 2;
            for frame in 0..frames {
                samples[frame] = (samples[2 * frame] + samples[2 * frame + 1]) / 2.0;
            }
            samples.truncate(frames);
        }
        (from, to) => {
            let shares = shares(from);
            let heard = |frame: &[f32], side: usize| -> f32 {
                frame.iter().zip(&shares).map(|(sample, share)| sample * share[side]).sum()
            };
            let frames = samples.chunks_exact(usize::from(from));
            *samples = frames.flat_map(|frame| [heard(frame, 0), heard(frame, 1)]).collect();
            remix(samples, 2, to);
        }
    }
}

/// How much of each channel is heard left and right.
fn shares(channels: u8) -> Vec<[f32; 2]> {
    const LESS: f32 = std::f32::consts::FRAC_1_SQRT_2;
    // Left, right, centre; behind left, right and centre; low tones, left out.
    let places = ["LRC", "LRlr", "LRClr", "LRC.lr", "LRC.clr", "LRC.lrlr"];
    let places = places.iter().find(|places| places.len() == usize::from(channels)).unwrap_or(&"LR");
    let share = |place: char| match place {
        'L' => [1.0, 0.0],
        'R' => [0.0, 1.0],
        'C' => [LESS, LESS],
        'l' => [LESS, 0.0],
        'r' => [0.0, LESS],
        'c' => [0.5, 0.5],
        _ => [0.0, 0.0],
    };
    let whole: f32 = places.chars().map(|place| share(place)[0]).sum();
    places.chars().map(|place| share(place).map(|share| share / whole)).collect()
}

/// Changes the rate of a stream in blocks of 20 ms at most. The filter's delay
/// is taken off, so that audio stays where it was, to the sample.
pub(crate) struct Resampler {
    inner: Box<dyn rubato::Resampler<f32> + Send>,
    channels: usize,
    ratio: Ratio,
    pending: Vec<f32>,
    block: Vec<f32>,
    /// Output frames of the filter's delay still to throw away.
    skip: usize,
    taken: u64,
    given: u64,
}

/// How many frames come out for those that go in.
#[derive(Clone, Copy)]
enum Ratio {
    Rates { from: u32, to: u32 },
    Factor(f64),
}

impl Ratio {
    /// The whole output for a number of input frames, rounded up to a frame.
    fn total(self, taken: u64) -> u64 {
        match self {
            Ratio::Rates { from, to } => (taken * u64::from(to)).div_ceil(u64::from(from)),
            Ratio::Factor(factor) => (taken as f64 * factor).round() as u64,
        }
    }
}

/// Frames in a block on the side of the lower rate: the filter is as long, and
/// so many give a pass band to nine tenths of what that rate carries. They
/// are 20 ms at 8 kHz and 3.6 ms at 44.1 kHz.
const BLOCK: u32 = 160;

/// Input frames in a block: such that the blocks on both sides are even, since
/// the filter's delay is half of them and must be whole.
fn block_frames(from: u32, to: u32) -> usize {
    let mut divisor = (from, to);
    while divisor.1 != 0 {
        divisor = (divisor.1, divisor.0 % divisor.1);
    }
    let (unit_in, unit_out) = (from / divisor.0, to / divisor.0);
    let mut units = BLOCK.div_ceil(unit_in.min(unit_out));
    if (unit_in * units) % 2 == 1 || (unit_out * units) % 2 == 1 {
        units += 1;
    }
    (unit_in * units) as usize
}

impl Resampler {
    pub(crate) fn new(from: Layout, to: u32) -> Result<Self, AudioError> {
        let chunk = block_frames(from.rate, to);
        let (input, output, channels) = (from.rate as usize, to as usize, usize::from(from.channels));
        // Its side lobes are 92 dB down, and its main lobe is narrow enough for
        // a pass band to nine tenths of what the lower rate carries.
        let window = WindowFunction::BlackmanHarris;
        let inner = Fft::new_custom(input, output, chunk, 1, channels, window, FixedSync::Both)
            .map_err(|error| failed(&error))?;
        Ok(Resampler::over(Box::new(inner), channels, Ratio::Rates { from: from.rate, to }))
    }

    /// A resampler by any factor from 0.25 to 4, which says nothing of rates.
    pub(crate) fn by_factor(channels: u8, factor: f64) -> Result<Self, AudioError> {
        let channels = usize::from(channels);
        let parameters = SincInterpolationParameters { sinc_len: 96, oversampling_factor: 256, ..Default::default() };
        let inner = Async::new_sinc(factor, 1.0, &parameters, 512, channels, FixedAsync::Input)
            .map_err(|error| failed(&error))?;
        Ok(Resampler::over(Box::new(inner), channels, Ratio::Factor(factor)))
    }

    fn over(inner: Box<dyn rubato::Resampler<f32> + Send>, channels: usize, ratio: Ratio) -> Self {
        let block = vec![0.0; inner.output_frames_max() * channels];
        let skip = inner.output_delay();
        Resampler { inner, channels, ratio, pending: Vec::new(), block, skip, taken: 0, given: 0 }
    }

    pub(crate) fn push(&mut self, samples: &[f32], out: &mut Vec<f32>) -> Result<(), AudioError> {
        self.taken += (samples.len() / self.channels) as u64;
        self.pending.extend_from_slice(samples);
        self.run(out)
    }

    fn run(&mut self, out: &mut Vec<f32>) -> Result<(), AudioError> {
        let channels = self.channels;
        let mut at = 0;
        loop {
            let frames = self.inner.input_frames_next();
            let Some(input) = self.pending.get(at..at + frames * channels) else { break };
            let input = InterleavedSlice::new(input, channels, frames).map_err(|error| failed(&error))?;
            let room = self.block.len() / channels;
            let mut output =
                InterleavedSlice::new_mut(&mut self.block, channels, room).map_err(|error| failed(&error))?;
            let (_, made) =
                self.inner.process_into_buffer(&input, &mut output, None).map_err(|error| failed(&error))?;
            at += frames * channels;
            let skipped = self.skip.min(made);
            self.skip -= skipped;
            out.extend_from_slice(&self.block[skipped * channels..made * channels]);
            self.given += (made - skipped) as u64;
        }
        self.pending.drain(..at);
        release_beyond(&mut self.pending);
        Ok(())
    }

    /// Pushes the rest through; the whole output is as long as the whole
    /// input, to the nearest frame.
    pub(crate) fn finish(&mut self, out: &mut Vec<f32>) -> Result<(), AudioError> {
        let channels = self.channels;
        let total = self.ratio.total(self.taken);
        while self.given < total {
            let frames = self.inner.input_frames_next();
            let missing = frames * channels - self.pending.len().min(frames * channels);
            self.pending.resize(self.pending.len() + missing.max(1), 0.0);
            self.run(out)?;
        }
        let surplus = (self.given - total) as usize * channels;
        out.truncate(out.len() - surplus.min(out.len()));
        Ok(())
    }
}

fn failed(error: &dyn std::error::Error) -> AudioError {
    AudioError::Codec { codec: Codec::Pcm, what: format!("resampling: {error}") }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn tone(rate: u32, hertz: f32, frames: usize) -> Vec<f32> {
        (0..frames)
            .map(|n| (0.5 * (std::f64::consts::TAU * f64::from(hertz) * n as f64 / f64::from(rate)).sin()) as f32)
            .collect()
    }

    fn run(from: u32, to: u32, input: &[f32], piece: usize) -> Vec<f32> {
        let mut resampler = Resampler::new(Layout { rate: from, channels: 1 }, to).expect("rates");
        let mut out = Vec::new();
        for piece in input.chunks(piece) {
            resampler.push(piece, &mut out).expect("push");
        }
        resampler.finish(&mut out).expect("finish");
        out
    }

    /// Signal to noise against the tone as it would be at the new rate.
    fn snr(from: u32, to: u32, hertz: f32) -> f32 {
        let out = run(from, to, &tone(from, hertz, from as usize), 777);
        let wanted = tone(to, hertz, out.len());
        let inner = out.len() / 10..out.len() * 9 / 10;
        let noise: f32 = inner.clone().map(|n| (out[n] - wanted[n]).powi(2)).sum();
        let signal: f32 = inner.map(|n| wanted[n].powi(2)).sum();
        10.0 * (signal / noise).log10()
    }

    #[test]
    fn keeps_a_tone_in_place_and_level_between_all_rates() {
        for from in crate::STANDARD_RATES {
            for to in crate::STANDARD_RATES.into_iter().filter(|to| *to != from) {
                let ratio = snr(from, to, 1_000.0);
                assert!(ratio > 85.0, "{from} to {to} Hz: {ratio} dB");
            }
        }
    }

    #[test]
    fn length_is_right_to_the_frame_however_it_is_cut() {
        for (from, to, frames, wanted) in
            [(24_000, 8_000, 10_000, 3_334), (22_050, 24_000, 22_050, 24_000), (16_000, 48_000, 1, 3)]
        {
            for piece in [1, 7, 480, 100_000] {
                assert_eq!(
                    run(from, to, &tone(from, 440.0, frames), piece).len(),
                    wanted,
                    "{from} to {to} in {piece}s"
                );
            }
        }
    }

    /// Level in decibels of what comes out, against what went in.
    fn level(from: u32, to: u32, hertz: f32) -> f32 {
        let out = run(from, to, &tone(from, hertz, from as usize), 960);
        let inner = &out[out.len() / 5..out.len() * 4 / 5];
        let power = inner.iter().map(|sample| f64::from(*sample).powi(2)).sum::<f64>() / inner.len() as f64;
        10.0 * (power / 0.125).max(1e-20).log10() as f32
    }

    #[test]
    fn the_pass_band_is_flat_to_nine_tenths_of_what_both_rates_carry() {
        for from in crate::STANDARD_RATES {
            for to in crate::STANDARD_RATES.into_iter().filter(|to| *to != from) {
                let carried = from.min(to) as f32 / 2.0;
                let levels = [0.01, 0.1, 0.3, 0.5, 0.7, 0.8, 0.85, 0.9].map(|share| level(from, to, carried * share));
                let (low, high) = levels.iter().fold((0.0f32, 0.0f32), |(low, high), l| (low.min(*l), high.max(*l)));
                assert!(high - low < 0.1, "{from} to {to} Hz: {levels:?} dB");
            }
        }
    }

    #[test]
    fn the_stop_band_lets_nothing_through() {
        for from in crate::STANDARD_RATES {
            for to in crate::STANDARD_RATES.into_iter().filter(|to| *to < from) {
                let (carried, source) = (to as f32 / 2.0, from as f32 / 2.0);
                for share in [0.0, 0.05, 0.2, 0.5, 0.9] {
                    let hertz = carried + (source - carried) * share + 1.0;
                    let level = level(from, to, hertz);
                    assert!(level < -90.0, "{from} to {to} Hz: {hertz} Hz came through at {level} dB");
                }
            }
        }
    }

    #[test]
    fn nothing_appears_above_what_the_old_rate_carried() {
        for (from, to) in [(8_000, 24_000), (16_000, 48_000), (22_050, 44_100), (11_025, 48_000), (24_000, 44_100)] {
            for share in [0.3, 0.6, 0.85] {
                let ratio = snr(from, to, from as f32 / 2.0 * share);
                assert!(ratio > 85.0, "{from} to {to} Hz at {share}: {ratio} dB");
            }
        }
    }

    #[test]
    fn remixing_averages_and_copies() {
        let mut stereo = vec![0.5, 0.1, -0.2, 0.2];
        remix(&mut stereo, 2, 1);
        assert_eq!(stereo, [0.3, 0.0]);
        remix(&mut stereo, 1, 2);
        assert_eq!(stereo, [0.3, 0.3, 0.0, 0.0]);
    }

    #[test]
    fn every_channel_but_the_low_one_is_heard_at_its_side() {
        for channels in 3..=8_u8 {
            let mut loudest = [0.0_f32; 2];
            for at in 0..channels {
                let mut one: Vec<f32> = (0..channels).map(|n| if n == at { 1.0 } else { 0.0 }).collect();
                let mut mono = one.clone();
                remix(&mut one, channels, 2);
                remix(&mut mono, channels, 1);
                let low = channels >= 6 && at == 3;
                assert_eq!(one.iter().all(|sample| *sample == 0.0), low, "{at} of {channels}: {one:?}");
                assert_eq!(mono, [(one[0] + one[1]) / 2.0], "{at} of {channels}");
                assert!(at > 1 || one[usize::from(1 - at)] == 0.0, "the first are left and right");
                loudest = [loudest[0] + one[0], loudest[1] + one[1]];
            }
            assert!(loudest.iter().all(|sum| (sum - 1.0).abs() < 1e-6), "{channels}: full scale stays so");
        }
        let mut speech = vec![0.0, 0.0, 0.5, 0.0, 0.0, 0.0];
        remix(&mut speech, 6, 2);
        assert!((speech[0] - 0.5 * 0.292_9).abs() < 1e-3 && speech[0] == speech[1], "the centre on both sides");
    }
}
