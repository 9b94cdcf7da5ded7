//! Where a long recording is best cut: in silence while there is some, with
//! an overlap where there is none.

use crate::measure::silence::THRESHOLD;

/// Levels are taken of blocks so long, in seconds.
const BLOCK: f64 = 0.010;
/// Silence shorter than this is a pause within a sentence, in blocks.
const SHORTEST: usize = 25;
/// Longer silence is no better to cut in, in blocks.
const LONGEST: usize = 200;
/// A cut is looked for in the last part of what there is room for.
const EARLIEST: f64 = 0.5;

/// A part of a recording, in seconds; it may overlap its neighbours.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Span {
    /// Seconds from the start at which it begins.
    pub from: f64,
    /// Seconds from the start at which it ends.
    pub to: f64,
}

/// The levels of a recording, pushed as it is read: 400 bytes a second.
#[derive(Debug, Clone)]
pub struct Levels {
    block: usize,
    sum: f32,
    count: usize,
    blocks: Vec<f32>,
    samples: u64,
    rate: u32,
}

impl Levels {
    /// Of mono audio at a rate in hertz.
    pub fn new(rate: u32) -> Self {
        let block = ((f64::from(rate) * BLOCK) as usize).max(1);
        Levels { block, sum: 0.0, count: 0, blocks: Vec::new(), samples: 0, rate: rate.max(1) }
    }

    /// Takes samples, full scale at 1.
    pub fn push(&mut self, samples: &[f32]) {
        self.samples += samples.len() as u64;
        for sample in samples {
            self.sum += sample * sample;
            self.count += 1;
            if self.count == self.block {
                self.blocks.push((self.sum / self.block as f32).sqrt());
                (self.sum, self.count) = (0.0, 0);
            }
        }
    }

    /// Seconds of all that was pushed.
    pub fn length(&self) -> f64 {
        self.samples as f64 / f64::from(self.rate)
    }

    /// What is quieter is silence: −50 dB, or where there is noise, twice its
    /// level while speech exceeds it.
    fn threshold(&self) -> f32 {
        let mut sorted = self.blocks.clone();
        sorted.sort_by(f32::total_cmp);
        let at = |share: f64| sorted.get((sorted.len() as f64 * share) as usize).copied().unwrap_or(0.0);
        (2.0 * at(0.1)).min(0.25 * at(0.9)).max(THRESHOLD)
    }

    /// Seconds of audio between two times.
    pub fn sounding(&self, from: f64, to: f64) -> f64 {
        let threshold = self.threshold();
        let at = |seconds: f64| ((seconds.max(0.0) / BLOCK) as usize).min(self.blocks.len());
        let range = at(from)..at(to).max(at(from));
        self.blocks[range].iter().filter(|level| **level >= threshold).count() as f64 * BLOCK
    }

    /// Parts of at most `most` seconds, that cover the recording. Cuts lie in
    /// the longest silence at hand; where there is none, parts share
    /// `overlap` seconds on either side of the cut.
    pub fn spans(&self, most: f64, overlap: f64) -> Vec<Span> {
        let length = self.length();
        let overlap = overlap.min(most / 8.0);
        if length <= most {
            return vec![Span { from: 0.0, to: length }];
        }
        let silences = self.silences();
        let mut spans = Vec::new();
        let (mut start, mut before) = (0.0, 0.0);
        while length - (start - before) > most {
            let latest = start + most - before - overlap;
            let (cut, shared) = match best(&silences, start + EARLIEST * (latest - start), latest) {
                Some((from, to)) => (f64::midpoint(from, to), overlap.min((to - from) / 2.0)),
                None => (latest, overlap),
            };
            spans.push(Span { from: start - before, to: cut + shared });
            (start, before) = (cut, shared);
        }
        spans.push(Span { from: start - before, to: length });
        spans
    }

    /// Silences that one may cut in, in seconds.
    fn silences(&self) -> Vec<(f64, f64)> {
        let threshold = self.threshold();
        let mut found = Vec::new();
        let mut from = None;
        let loud_end = std::iter::once(&f32::INFINITY);
        for (at, level) in self.blocks.iter().chain(loud_end).enumerate() {
            match (*level < threshold, from) {
                (true, None) => from = Some(at),
                (false, Some(start)) => {
                    if at - start >= SHORTEST {
                        found.push((start as f64 * BLOCK, at as f64 * BLOCK));
                    }
                    from = None;
                }
                _ => {}
            }
        }
        found
    }
}

/// The silence to cut in: long, and late.
fn best(silences: &[(f64, f64)], earliest: f64, latest: f64) -> Option<(f64, f64)> {
    let first = silences.partition_point(|(from, to)| f64::midpoint(*from, *to) < earliest);
    let within = silences[first..].iter().take_while(|(from, to)| f64::midpoint(*from, *to) <= latest);
    let worth = |(from, to): &(f64, f64)| {
        let late = (from - earliest) / (latest - earliest).max(BLOCK);
        (to - from).min(LONGEST as f64 * BLOCK) * (0.5 + 0.5 * late)
    };
    within.max_by(|a, b| worth(a).total_cmp(&worth(b))).copied()
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Seconds of tone and of silence, in turns.
    fn levels(turns: &[f64]) -> Levels {
        let mut levels = Levels::new(8_000);
        for (turn, seconds) in turns.iter().enumerate() {
            let gain = if turn % 2 == 0 { 0.3 } else { 0.0005 };
            let samples: Vec<f32> = (0..(seconds * 8_000.0) as usize).map(|n| gain * (n as f32 * 0.7).sin()).collect();
            levels.push(&samples);
        }
        levels
    }

    #[test]
    fn cuts_lie_in_the_longest_late_silence() {
        let levels = levels(&[20.0, 0.4, 20.0, 1.0, 12.0, 0.3, 30.0]);
        let spans = levels.spans(60.0, 5.0);
        assert_eq!(spans.len(), 2, "{spans:?}");
        let cut = f64::midpoint(spans[0].to, spans[1].from);
        assert!((40.4..41.4).contains(&cut), "{spans:?}");
        assert!(spans[0].to - spans[1].from <= 1.01, "they share silence alone: {spans:?}");
        assert_eq!((spans[0].from, spans[1].to), (0.0, levels.length()));
    }

    #[test]
    fn without_silence_parts_overlap_and_none_is_too_long() {
        let levels = levels(&[200.0]);
        let spans = levels.spans(60.0, 5.0);
        assert!(spans.iter().all(|span| span.to - span.from <= 60.0 + 1e-9), "{spans:?}");
        assert!(spans.windows(2).all(|pair| (pair[0].to - pair[1].from - 10.0).abs() < 1e-9), "{spans:?}");
        assert_eq!(levels.spans(300.0, 5.0), [Span { from: 0.0, to: 200.0 }]);
        assert!(levels.spans(2.0, 5.0).len() > 100, "short parts share less");
    }

    #[test]
    fn sound_is_counted_and_noise_is_no_sound() {
        let levels = levels(&[2.0, 1.0, 3.0]);
        assert!((levels.sounding(0.0, 6.0) - 5.0).abs() < 0.03);
        assert!((levels.sounding(1.5, 3.5) - 1.0).abs() < 0.03);
        let mut noisy = Levels::new(8_000);
        let noise = |seconds: usize, gain: f32| -> Vec<f32> {
            (0..seconds * 8_000).map(|n| gain * (((n * 7_919) % 1_000) as f32 / 500.0 - 1.0)).collect()
        };
        noisy.push(&noise(4, 0.3));
        noisy.push(&noise(2, 0.02));
        noisy.push(&noise(4, 0.3));
        assert_eq!(noisy.silences().len(), 1, "a hum of −40 dB is silence beside speech");
    }
}
