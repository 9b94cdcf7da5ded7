//! Fades at the ends of a stream, and silence before and behind it.

/// Half a cosine: 0 at the edge, 1 at `length` frames from it.
fn level(inside: u64, length: u64) -> f32 {
    let share = (inside as f64 + 0.5) / length as f64;
    (0.5 - 0.5 * (std::f64::consts::PI * share.min(1.0)).cos()) as f32
}

/// Fades in, and fades out however long the stream turns out to be: the last
/// frames are held back until it is clear whether they are the last.
pub(crate) struct Fade {
    channels: usize,
    fade_in: u64,
    fade_out: usize,
    at: u64,
    held: Vec<f32>,
}

impl Fade {
    /// Lengths in frames.
    pub(crate) fn new(channels: u8, fade_in: u64, fade_out: u64) -> Self {
        Fade { channels: channels.into(), fade_in, fade_out: fade_out as usize, at: 0, held: Vec::new() }
    }

    pub(crate) fn push(&mut self, samples: &[f32], out: &mut Vec<f32>) {
        for frame in samples.chunks_exact(self.channels) {
            let level = if self.at < self.fade_in { level(self.at, self.fade_in) } else { 1.0 };
            self.at += 1;
            self.held.extend(frame.iter().map(|sample| sample * level));
        }
        let ready = self.held.len().saturating_sub(self.fade_out * self.channels);
        out.extend(self.held.drain(..ready));
    }

    pub(crate) fn finish(&mut self, out: &mut Vec<f32>) {
        let frames = self.held.len() / self.channels;
        for (index, frame) in self.held.chunks_exact(self.channels).enumerate() {
            let level = level((frames - 1 - index) as u64, self.fade_out as u64);
            out.extend(frame.iter().map(|sample| sample * level));
        }
        self.held.clear();
    }
}

/// Silence before the first audio and behind the last.
pub(crate) struct Pad {
    /// In samples.
    before: usize,
    behind: usize,
}

impl Pad {
    pub(crate) fn new(before: usize, behind: usize) -> Self {
        Pad { before, behind }
    }

    pub(crate) fn push(&mut self, samples: &[f32], out: &mut Vec<f32>) {
        if !samples.is_empty() {
            out.resize(out.len() + std::mem::take(&mut self.before), 0.0);
        }
        out.extend_from_slice(samples);
    }

    pub(crate) fn finish(&mut self, out: &mut Vec<f32>) {
        out.resize(out.len() + std::mem::take(&mut self.behind), 0.0);
    }
}
