//! How far one sound is from another: the log-spectral distance (A. Gray and J. Markel, "Distance measures for speech
//! processing", IEEE Transactions on Acoustics, Speech and Signal Processing
//! 24, 1976).

use realfft::{RealFftPlanner, RealToComplex};

/// Seconds of a frame, half of which is the step to the next: a whole number
/// of samples at every rate that is compared.
const FRAME: f64 = 0.032;
/// Seconds that are compared.
const COMPARED: f64 = 60.0;
/// Frames by which the shift is sought: three seconds.
const SOUGHT: usize = 187;
/// Below full scale by so many decibels, nothing is told apart.
const FLOOR: f64 = -90.0;
/// How far a sound may be late or early, in milliseconds; what is least counts.
const SHIFTS: std::ops::RangeInclusive<i32> = -90..=90;
/// Of the band that both can carry, what filters leave alone.
const BAND: f64 = 0.9;

/// One channel.
pub struct Sound {
    pub samples: Vec<f32>,
    pub rate: u32,
}

struct Spectra<'s> {
    sound: &'s Sound,
    length: usize,
    window: Vec<f32>,
    transform: std::sync::Arc<dyn RealToComplex<f32>>,
}

impl<'s> Spectra<'s> {
    fn new(sound: &'s Sound) -> Self {
        let length = (FRAME * f64::from(sound.rate)).round() as usize;
        let angle = |n| 2.0 * std::f32::consts::PI * n as f32 / length as f32;
        let window = (0..length).map(|n| 0.5 - 0.5 * angle(n).cos()).collect();
        Spectra { sound, length, window, transform: RealFftPlanner::new().plan_fft_forward(length) }
    }

    /// Decibels below full scale in each 31.25 Hz of the frame at so many
    /// seconds; `None` where the sound does not reach.
    fn at(&self, seconds: f64, bands: usize) -> Option<Vec<f64>> {
        let start = (seconds * f64::from(self.sound.rate)).round();
        let samples = (start >= 0.0).then(|| self.sound.samples.get(start as usize..)?.get(..self.length)).flatten()?;
        let mut input: Vec<f32> = samples.iter().zip(&self.window).map(|(sample, weight)| sample * weight).collect();
        let mut output = self.transform.make_output_vec();
        self.transform.process(&mut input, &mut output).ok()?;
        let full = (self.length as f64 / 4.0).powi(2);
        let level =
            |bin: &realfft::num_complex::Complex<f32>| 10.0 * (f64::from(bin.norm_sqr()) / full + 1e-20).log10();
        Some(output[1..=bands].iter().map(|bin| level(bin).max(FLOOR)).collect())
    }
}

/// Root of the mean square difference of two spectra.
fn difference(one: &[f64], other: &[f64]) -> f64 {
    let square: f64 = one.iter().zip(other).map(|(a, b)| (a - b) * (a - b)).sum();
    (square / one.len() as f64).sqrt()
}

/// The mean over frames of the root mean square difference of their spectra,
/// in decibels, at the shift that makes it least. The sounds are longer than a
/// second, which is not compared: codecs begin in it.
pub fn log_spectral_distance(source: &Sound, made: &Sound) -> f64 {
    let lower = f64::from(source.rate.min(made.rate)) / 2.0;
    let bands = (BAND * lower * FRAME) as usize;
    let (source, made) = (Spectra::new(source), Spectra::new(made));
    let times = (0..).map(|n| 1.0 + f64::from(n) * FRAME / 2.0).take_while(|at| *at < 1.0 + COMPARED);
    let wanted: Vec<(f64, Vec<f64>)> = times.map_while(|at| Some((at, source.at(at, bands)?))).collect();
    let mean = |frames: &[(f64, Vec<f64>)], shift: f64| {
        let found = frames.iter().filter_map(|(at, wanted)| Some(difference(wanted, &made.at(at + shift, bands)?)));
        let found: Vec<f64> = found.collect();
        found.iter().sum::<f64>() / found.len() as f64
    };
    let few = &wanted[..wanted.len().min(SOUGHT)];
    let shifts = SHIFTS.map(|shift| f64::from(shift) / 1_000.0).map(|shift| (mean(few, shift), shift));
    let (_, best) = shifts.min_by(|a, b| a.0.total_cmp(&b.0)).unwrap_or_default();
    mean(&wanted, best)
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Two seconds of noise, `late` samples into it.
    fn noise(late: usize, level: f32) -> Sound {
        let mut state = 1_u32;
        let next = |_| {
            state = state.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
            (state >> 8) as f32 / (1 << 23) as f32 - 1.0
        };
        let noise: Vec<f32> = (0..32_000).map(next).map(|sample| sample * level).collect();
        Sound { samples: [vec![0.0; late], noise].concat(), rate: 16_000 }
    }

    #[test]
    fn what_is_twice_as_loud_is_six_decibels_away_however_late() {
        for (late, level, wanted) in [(0, 0.1, 0.0), (0, 0.2, 6.0206), (800, 0.1, 0.0), (1_280, 0.05, 6.0206)] {
            let found = log_spectral_distance(&noise(0, 0.1), &noise(late, level));
            assert!((found - wanted).abs() < 0.01, "{late} samples late, level {level}: {found} dB");
        }
        let other = log_spectral_distance(&noise(0, 0.1), &noise(3_200, 0.1));
        assert!(other > 5.0, "200 ms late is another sound: {other} dB");
    }
}
