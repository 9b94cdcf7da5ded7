//! The outline of audio, to be drawn.

/// The lowest and the highest sample of each of a number of equal parts,
/// found as the audio passes, in memory that does not grow with its length.
///
/// All channels share one outline.
pub struct Peaks {
    channels: usize,
    wanted: usize,
    /// Frames in a part; doubles whenever there are too many parts.
    size: u64,
    parts: Vec<[f32; 2]>,
    /// Frames in the last part.
    inside: u64,
}

impl Peaks {
    /// At most `wanted` parts (two or more, an even number) will be given, and
    /// more than half as many where the audio is long enough.
    pub fn new(channels: u8, wanted: usize) -> Self {
        Peaks { channels: channels.max(1).into(), wanted: wanted.max(2) & !1, size: 1, parts: Vec::new(), inside: 0 }
    }

    /// Takes interleaved samples, whole frames.
    pub fn push(&mut self, samples: &[f32]) {
        for frame in samples.chunks_exact(self.channels) {
            let (low, high) = frame.iter().fold((f32::MAX, f32::MIN), |(low, high), s| (low.min(*s), high.max(*s)));
            if self.parts.is_empty() || self.inside == self.size {
                self.begin_part();
                self.parts.push([low, high]);
                self.inside = 0;
            }
            if let Some([lowest, highest]) = self.parts.last_mut() {
                *lowest = lowest.min(low);
                *highest = highest.max(high);
            }
            self.inside += 1;
        }
    }

    /// Makes room for one more part.
    fn begin_part(&mut self) {
        if self.parts.len() < self.wanted {
            return;
        }
        let joined = |[one, other]: &[[f32; 2]; 2]| [one[0].min(other[0]), one[1].max(other[1])];
        self.parts = self.parts.as_chunks::<2>().0.iter().map(joined).collect();
        self.size *= 2;
    }

    /// The parts, in order, and the frames in each but the last.
    pub fn finish(self) -> (Vec<[f32; 2]>, u64) {
        (self.parts, self.size)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_outline_holds_every_peak_whatever_the_length() {
        for frames in [2usize, 7, 100, 101, 12_345] {
            let mut samples = vec![0.1f32; frames * 2];
            samples[frames] = -0.75;
            samples[frames * 2 - 1] = 0.5;
            let mut peaks = Peaks::new(2, 100);
            samples.chunks(34).for_each(|piece| peaks.push(piece));
            let (parts, size) = peaks.finish();
            assert!(parts.len() <= 100 && (frames < 100 || parts.len() > 50), "{frames}: {} parts", parts.len());
            assert_eq!(parts.len() as u64, (frames as u64).div_ceil(size), "{frames} in parts of {size}");
            let at = frames / 2 / size as usize;
            assert_eq!(parts[at][0], -0.75, "{frames}: in its place");
            assert_eq!(parts[parts.len() - 1][1], 0.5, "{frames}: the last");
        }
    }
}
