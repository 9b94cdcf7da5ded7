//! Text to tone speech.

use std::f64::consts::{PI, TAU};

use super::{
    AFTER_PREAMBLE, END, PAUSE, PILOT, PREAMBLE, PREAMBLE_TONE, REPEAT, SYMBOL, check_sum, high_tone, low_tone,
};

/// How a voice speaks: factors on pitch (0.8–1.25) and rate (0.5–2).
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Manner {
    pub pitch: f64,
    pub rate: f64,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Symbol {
    value: u8,
    begins_word: bool,
}

/// The symbols of a text, trailer included.
fn symbols(text: &str) -> Vec<Symbol> {
    let data = text.as_bytes();
    let lead = data.iter().take_while(|byte| **byte == b' ').count();
    let trail = data.iter().rposition(|byte| *byte != b' ').map_or(0, |last| last + 1);
    let mut out = Vec::with_capacity(data.len() + 3);
    let mut previous = None;
    let mut put = |byte: u8, begins_word: bool| {
        let value = if previous == Some(byte) { REPEAT } else { byte };
        out.push(Symbol { value, begins_word });
        previous = Some(value);
    };
    let mut start = true;
    for (at, byte) in data.iter().enumerate() {
        // The first space of an inner run is the pause itself.
        if *byte == b' ' && (lead..trail).contains(&at) && at > 0 && data[at - 1] != b' ' {
            start = true;
            continue;
        }
        put(*byte, start);
        start = false;
    }
    let sum = check_sum(data);
    put(END, false);
    put(((sum >> 7) & 0x7F) as u8, false);
    put((sum & 0x7F) as u8, false);
    out
}

/// Speaks piece by piece, so that a server can stream.
pub struct Speaker {
    symbols: std::vec::IntoIter<Symbol>,
    manner: Manner,
    rate: u32,
    begun: bool,
    spoken: usize,
}

impl Speaker {
    /// A speaker of the text at a sample rate in hertz.
    pub fn new(text: &str, manner: Manner, rate: u32) -> Self {
        Speaker { symbols: symbols(text).into_iter(), manner, rate, begun: false, spoken: 0 }
    }

    fn samples(&self, seconds: f64) -> usize {
        (seconds / self.manner.rate * f64::from(self.rate)).round() as usize
    }

    /// Tones with raised-cosine edges of 5 ms.
    fn tones(&self, seconds: f64, tones: &[(f64, f64)], out: &mut Vec<f32>) {
        let count = self.samples(seconds);
        let edge = self.samples(0.005).max(1);
        let rate = f64::from(self.rate);
        for n in 0..count {
            let from_end = n.min(count - 1 - n);
            let fade =
                if from_end < edge { 0.5 - 0.5 * (PI * (from_end as f64 + 0.5) / edge as f64).cos() } else { 1.0 };
            let sum: f64 = tones
                .iter()
                .enumerate()
                .map(|(k, (hertz, level))| {
                    level * (TAU * hertz * self.manner.pitch * n as f64 / rate + 1.3 * k as f64).sin()
                })
                .sum();
            out.push((sum * fade) as f32);
        }
    }
}

impl Iterator for Speaker {
    type Item = Vec<f32>;

    /// The samples of the preamble, and then of each symbol.
    fn next(&mut self) -> Option<Vec<f32>> {
        let mut out = Vec::new();
        if !std::mem::replace(&mut self.begun, true) {
            for hertz in PREAMBLE {
                self.tones(PREAMBLE_TONE, &[(hertz, 0.24)], &mut out);
            }
            out.resize(out.len() + self.samples(AFTER_PREAMBLE), 0.0);
            return Some(out);
        }
        let symbol = self.symbols.next()?;
        if symbol.begins_word && self.spoken > 0 {
            out.resize(self.samples(PAUSE), 0.0);
        }
        self.spoken += 1;
        let pair = [(low_tone(symbol.value >> 4), 0.16), (high_tone(symbol.value & 15), 0.16), (PILOT, 0.18)];
        self.tones(SYMBOL, &pair[..if symbol.begins_word { 3 } else { 2 }], &mut out);
        Some(out)
    }
}

/// The whole utterance.
pub fn speak(text: &str, manner: Manner, rate: u32) -> Vec<f32> {
    Speaker::new(text, manner, rate).flatten().collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn equal_bytes_never_follow_one_another() {
        let values: Vec<u8> = symbols("aaaa").iter().map(|symbol| symbol.value).collect();
        assert_eq!(values[..5], [b'a', REPEAT, b'a', REPEAT, END]);
        for text in ["aaaa", "  ", "", "\u{7f}\u{7f}", "a  b"] {
            let values: Vec<u8> = symbols(text).iter().map(|symbol| symbol.value).collect();
            assert!(values.windows(2).all(|pair| pair[0] != pair[1]), "{text:?}: {values:?}");
        }
    }

    #[test]
    fn the_length_is_as_laid_down() {
        // Preamble and silence 280 ms, "ab cd" 4 × 60 + 80 ms, trailer 180 ms.
        assert_eq!(speak("ab cd", Manner { pitch: 1.0, rate: 1.0 }, 24_000).len(), 24 * (280 + 320 + 180));
        let peak =
            speak("peak", Manner { pitch: 1.0, rate: 1.0 }, 24_000).into_iter().fold(0.0, |a: f32, b| a.max(b.abs()));
        assert!(peak <= 0.5, "{peak}");
    }
}
