//! From floating samples to 16 bits.

use crate::pcm::{nearest, to_i16};

/// Rounds to 16 bits, where asked for with triangular dither of two steps'
/// width (Lipshitz, Wannamaker and Vanderkooy, "Quantization and dither",
/// JAES 40, 1992), so that what is lost is noise and not distortion.
///
/// Sound that had 16 bits all along must not be dithered: it comes out as it
/// went in. Digital silence stays silent.
pub(crate) struct Quantiser {
    /// State of a xorshift generator (Marsaglia, 2003). It always begins the
    /// same, so that equal sound gives equal bytes.
    state: u32,
    dithers: bool,
}

impl Quantiser {
    pub(crate) fn new() -> Self {
        Quantiser { state: 0x9E37_79B9, dithers: false }
    }

    pub(crate) fn dither(&mut self) {
        self.dithers = true;
    }

    /// Appends the samples as 16 bits, each in two bytes by `order`.
    pub(crate) fn bytes(&mut self, samples: &[f32], order: fn(i16) -> [u8; 2], out: &mut Vec<u8>) {
        let begin = out.len();
        out.resize(begin + samples.len() * 2, 0);
        let pairs = out[begin..].as_chunks_mut::<2>().0.iter_mut().zip(samples);
        // Two loops, so that the plain one is as fast as it can be.
        if self.dithers {
            pairs.for_each(|(pair, sample)| *pair = order(self.dithered(*sample)));
        } else {
            pairs.for_each(|(pair, sample)| *pair = order(to_i16(*sample)));
        }
    }

    pub(crate) fn quantise(&mut self, sample: f32) -> i16 {
        if self.dithers { self.dithered(sample) } else { to_i16(sample) }
    }

    fn dithered(&mut self, sample: f32) -> i16 {
        if sample == 0.0 {
            return 0;
        }
        self.state ^= self.state << 13;
        self.state ^= self.state >> 17;
        self.state ^= self.state << 5;
        let [a, b, c, d] = self.state.to_le_bytes();
        let first = i32::from(u16::from_le_bytes([a, b]));
        let second = i32::from(u16::from_le_bytes([c, d]));
        let noise = (first - second) as f32 / 65_536.0;
        nearest(sample * 32_768.0 + noise)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Below half a step, sound is lost without dither and kept with it.
    #[test]
    fn what_is_smaller_than_a_step_survives() {
        let tone = |n: usize| 0.4 / 32_768.0 * (n as f32 * 0.05).sin();
        let mut plain = Quantiser::new();
        assert!((0..50_000).all(|n| plain.quantise(tone(n)) == 0));
        let mut dithered = Quantiser::new();
        dithered.dither();
        let (mut match_sum, mut power, mut error_sum) = (0.0f64, 0.0f64, 0.0f64);
        for n in 0..50_000 {
            let wanted = f64::from(tone(n)) * 32_768.0;
            let given = f64::from(dithered.quantise(tone(n)));
            match_sum += wanted * given;
            power += wanted * wanted;
            error_sum += given - wanted;
        }
        assert!((match_sum / power - 1.0).abs() < 0.05, "level {}", match_sum / power);
        assert!((error_sum / 50_000.0).abs() < 0.02, "no offset: {}", error_sum / 50_000.0);
        assert_eq!(dithered.quantise(0.0), 0, "silence stays silent");
    }
}
