//! Where speech begins and pauses in audio that is still coming in.

/// Levels are taken of blocks so long: hundredths of a second.
const BLOCKS_A_SECOND: u32 = 100;
/// Audio below this level is silence in any case: −50 dB.
const SILENCE: f32 = 0.003_16;
/// Speech is at least so loud, as long as none was heard: −26 dB.
const EXPECTED: f32 = 0.05;
/// Number of blocks that are speech; fewer are a click.
const SPEECH: u32 = 3;
/// How much the level of noise may grow from one block to the next, and the
/// level of speech fade: both double or halve in some seconds.
const GROWTH: f32 = 1.002;
const FADING: f32 = 0.999;

/// Listens for pauses. Samples are mono, 16 bits.
pub(crate) struct PauseFinder {
    block: usize,
    sum: f32,
    count: usize,
    /// The levels of noise and of speech.
    noise: f32,
    speech: f32,
    /// Blocks of audio, or of silence, in a row.
    sounding: u32,
    quiet: u32,
}

impl PauseFinder {
    pub(crate) fn new(rate: u32) -> Self {
        let block = (rate / BLOCKS_A_SECOND).max(1) as usize;
        PauseFinder { block, sum: 0.0, count: 0, noise: 1.0, speech: EXPECTED, sounding: 0, quiet: 0 }
    }

    pub(crate) fn push(&mut self, samples: &[i16]) {
        for sample in samples {
            self.sum += (f32::from(*sample) / 32_768.0).powi(2);
            self.count += 1;
            if self.count == self.block {
                let level = (self.sum / self.block as f32).sqrt();
                (self.sum, self.count) = (0.0, 0);
                self.take(level);
            }
        }
    }

    fn take(&mut self, level: f32) {
        self.noise = level.min(self.noise * GROWTH).max(SILENCE / 4.0);
        self.speech = level.max(self.speech * FADING).max(EXPECTED);
        // Twice the noise level, while speech exceeds it.
        let threshold = (2.0 * self.noise).min(0.25 * self.speech).max(SILENCE);
        match level >= threshold {
            true => self.sounding += 1,
            false => (self.sounding, self.quiet) = (0, self.quiet + 1),
        }
        if self.sounding >= SPEECH {
            self.quiet = 0;
        }
    }

    /// Whether somebody speaks at this moment.
    pub(crate) fn is_speech(&self) -> bool {
        self.sounding >= SPEECH
    }

    /// Seconds since anybody spoke.
    pub(crate) fn silence(&self) -> f64 {
        f64::from(self.quiet) / f64::from(BLOCKS_A_SECOND)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const RATE: u32 = 16_000;

    /// Seconds of a tone or of noise of a level.
    fn sound(seconds: f64, level: f32) -> Vec<i16> {
        let samples = (seconds * f64::from(RATE)) as usize;
        (0..samples).map(|at| ((at as f32 * 0.7).sin() * level * 32_767.0) as i16).collect()
    }

    #[test]
    fn a_pause_is_told_from_speech_and_from_the_noise_behind_it() {
        for (speech, noise) in [(0.3, 0.0), (0.3, 0.01), (0.02, 0.0005)] {
            let mut finder = PauseFinder::new(RATE);
            finder.push(&sound(2.0, noise));
            assert!(!finder.is_speech(), "noise of {noise}");
            finder.push(&sound(1.0, speech));
            assert!(finder.is_speech() && finder.silence() == 0.0, "speech of {speech}");
            finder.push(&sound(0.6, noise));
            assert!((0.55..=0.61).contains(&finder.silence()), "{} after speech of {speech}", finder.silence());
        }
    }

    #[test]
    fn a_click_is_no_speech() {
        let mut finder = PauseFinder::new(RATE);
        finder.push(&sound(1.0, 0.3));
        finder.push(&sound(0.5, 0.0));
        finder.push(&sound(0.02, 0.3));
        finder.push(&sound(0.3, 0.0));
        assert!(!finder.is_speech() && finder.silence() > 0.75, "{}", finder.silence());
    }

    #[test]
    fn speech_that_goes_on_for_long_stays_speech() {
        let mut finder = PauseFinder::new(RATE);
        finder.push(&sound(0.5, 0.0));
        for _ in 0..60 {
            finder.push(&sound(0.9, 0.2));
            assert!(finder.is_speech());
            finder.push(&sound(0.1, 0.0));
        }
    }
}
