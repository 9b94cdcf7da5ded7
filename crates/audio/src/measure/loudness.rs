//! Loudness by EBU R 128 (ITU-R BS.1770), and the gain to a target.

use ebur128::{EbuR128, Mode};

use crate::{AudioError, Codec, Layout};

/// Shorter sound has no gated loudness: it is judged by its level alone.
const SHORTEST: f64 = 0.4;
/// What mono and stereo are brought to unless said otherwise, in LUFS.
pub const TARGET_LOUDNESS: f64 = -18.0;
/// No peak between the samples may be above this, in dBTP.
pub const PEAK_LIMIT: f64 = -1.0;

/// How loud sound is.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Loudness {
    /// Integrated, in LUFS; minus infinity for silence. Mono counts as one
    /// channel.
    pub integrated: f64,
    /// The highest true peak, in dBTP.
    pub peak: f64,
}

impl Loudness {
    /// The gain in decibels that brings it to the target, as far as the peak
    /// allows; 0 for silence.
    pub fn gain_to(self, target: f64) -> f64 {
        if self.integrated.is_finite() { (target - self.integrated).min(PEAK_LIMIT - self.peak) } else { 0.0 }
    }
}

/// Measures loudness as audio passes by.
pub struct LoudnessMeter {
    inner: EbuR128,
    layout: Layout,
    frames: u64,
    squares: f64,
    peaks: bool,
}

impl LoudnessMeter {
    /// # Errors
    /// Where rate or channels cannot be measured.
    pub fn new(layout: Layout) -> Result<Self, AudioError> {
        Self::in_mode(layout, true)
    }

    /// A meter that looks at no peaks, which is most of the work.
    pub(crate) fn without_peaks(layout: Layout) -> Result<Self, AudioError> {
        Self::in_mode(layout, false)
    }

    fn in_mode(layout: Layout, peaks: bool) -> Result<Self, AudioError> {
        let mode = if peaks { Mode::I | Mode::TRUE_PEAK } else { Mode::I };
        let inner = EbuR128::new(layout.channels.into(), layout.rate, mode).map_err(|error| failed(&error))?;
        Ok(LoudnessMeter { inner, layout, frames: 0, squares: 0.0, peaks })
    }

    /// Takes interleaved samples.
    ///
    /// # Errors
    /// When the meter's library refuses.
    pub fn push(&mut self, samples: &[f32]) -> Result<(), AudioError> {
        self.frames += samples.len() as u64 / u64::from(self.layout.channels);
        self.squares += samples.iter().map(|sample| f64::from(*sample).powi(2)).sum::<f64>();
        self.inner.add_frames_f32(samples).map_err(|error| failed(&error))
    }

    /// What was measured.
    ///
    /// # Errors
    /// When the meter's library refuses.
    pub fn finish(&self) -> Result<Loudness, AudioError> {
        let seconds = self.frames as f64 / f64::from(self.layout.rate);
        let integrated = if seconds < SHORTEST {
            let power = self.squares / (self.frames.max(1) as f64);
            10.0 * power.log10() - 0.691
        } else {
            self.inner.loudness_global().map_err(|error| failed(&error))?
        };
        let mut peak = 0.0f64;
        for channel in 0..u32::from(self.layout.channels) * u32::from(self.peaks) {
            peak = peak.max(self.inner.true_peak(channel).map_err(|error| failed(&error))?);
        }
        Ok(Loudness { integrated, peak: 20.0 * peak.log10() })
    }
}

fn failed(error: &ebur128::Error) -> AudioError {
    AudioError::Codec { codec: Codec::Pcm, what: format!("loudness: {error}") }
}
