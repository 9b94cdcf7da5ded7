//! From floating samples to 16 bits.

use crate::codec::pcm::{nearest, to_i16};

/// Rounds to 16 bits, where asked for with triangular dither of two steps'
/// width (Lipshitz, Wannamaker and Vanderkooy, "Quantization and dither",
/// JAES 40, 1992), so that what is lost is noise and not distortion.
///
/// Audio that had 16 bits all along must not be dithered: it comes out as it
/// went in. Digital silence stays silent.
pub(crate) struct Quantiser {
    /// States of xorshift generators (Marsaglia, 2003), one sample each in
    /// turn, so that many samples are dithered at once. They always begin the
    /// same: equal sound gives equal bytes, however it is cut into pieces.
    states: [u32; LANES],
    /// Whose turn it is.
    turn: usize,
    dithers: bool,
}

const LANES: usize = 8;
const SEED: u32 = 0x9E37_79B9;

impl Quantiser {
    pub(crate) fn new() -> Self {
        let states = std::array::from_fn(|lane| SEED.wrapping_mul(2 * lane as u32 + 1));
        Quantiser { states, turn: 0, dithers: false }
    }

    pub(crate) fn dither(&mut self) {
        self.dithers = true;
    }

    /// Appends the samples as 16 bits, each in two bytes by `order`.
    pub(crate) fn bytes(&mut self, samples: &[f32], order: impl Fn(i16) -> [u8; 2], out: &mut Vec<u8>) {
        let begin = out.len();
        out.resize(begin + samples.len() * 2, 0);
        let pairs = out[begin..].as_chunks_mut::<2>().0;
        if !self.dithers {
            return pairs.iter_mut().zip(samples).for_each(|(pair, sample)| *pair = order(to_i16(*sample)));
        }
        let single = ((LANES - self.turn) % LANES).min(samples.len());
        let (first, rest) = samples.split_at(single);
        let (first_pairs, rest_pairs) = pairs.split_at_mut(single);
        let (groups, last) = rest.as_chunks::<LANES>();
        let (pair_groups, last_pairs) = rest_pairs.as_chunks_mut::<LANES>();
        first_pairs.iter_mut().zip(first).for_each(|(pair, sample)| *pair = order(self.dithered(*sample)));
        for (pairs, samples) in pair_groups.iter_mut().zip(groups) {
            // In steps of one kind of operation each, which then is done for
            // all lanes at once.
            self.states = self.states.map(following);
            let noise = self.states.map(noise);
            let values: [f32; LANES] = std::array::from_fn(|lane| with_noise(samples[lane], noise[lane]));
            *pairs = values.map(nearest).map(&order);
        }
        last_pairs.iter_mut().zip(last).for_each(|(pair, sample)| *pair = order(self.dithered(*sample)));
    }

    pub(crate) fn quantise(&mut self, sample: f32) -> i16 {
        if self.dithers { self.dithered(sample) } else { to_i16(sample) }
    }

    fn dithered(&mut self, sample: f32) -> i16 {
        let lane = self.turn;
        self.turn = (lane + 1) % LANES;
        self.states[lane] = following(self.states[lane]);
        nearest(with_noise(sample, noise(self.states[lane])))
    }
}

#[inline]
fn following(state: u32) -> u32 {
    let state = state ^ (state << 13);
    let state = state ^ (state >> 17);
    state ^ (state << 5)
}

/// Triangular noise, in steps of 16 bits: the difference of two even ones.
#[inline]
fn noise(state: u32) -> f32 {
    ((state & 0xFFFF) as i32 - (state >> 16) as i32) as f32 / 65_536.0
}

/// The sample in steps of 16 bits, with noise; silence without.
#[inline]
fn with_noise(sample: f32, noise: f32) -> f32 {
    if sample == 0.0 { 0.0 } else { sample * 32_768.0 + noise }
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

    #[test]
    fn dithered_bytes_are_the_same_however_the_sound_is_cut() {
        let sound: Vec<f32> =
            (0..1_003).map(|n| if n % 50 < 9 { 0.0 } else { (n as f32 * 0.11).sin() * 1.2 }).collect();
        let mut whole = Vec::new();
        let mut quantiser = Quantiser::new();
        quantiser.dither();
        quantiser.bytes(&sound, i16::to_le_bytes, &mut whole);
        for piece in [1, 3, 8, 13, 500] {
            let mut quantiser = Quantiser::new();
            quantiser.dither();
            let mut cut = Vec::new();
            for part in sound.chunks(piece) {
                quantiser.bytes(part, i16::to_le_bytes, &mut cut);
            }
            assert!(cut == whole, "in pieces of {piece}");
        }
        let mut single = Quantiser::new();
        single.dither();
        let one_by_one: Vec<u8> = sound.iter().flat_map(|sample| single.quantise(*sample).to_le_bytes()).collect();
        assert!(one_by_one == whole, "sample by sample");
        let wanted = |sample: &f32| (sample * 32_768.0).clamp(-32_768.0, 32_767.0);
        let far = whole.as_chunks().0.iter().zip(&sound).any(|(pair, sample)| {
            let given = f32::from(i16::from_le_bytes(*pair));
            (given - wanted(sample)).abs() > 1.5 || (*sample == 0.0 && given != 0.0)
        });
        assert!(!far, "never further than a step and a half from the sound, and silence is silent");
    }
}
