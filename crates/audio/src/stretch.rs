//! Changing tempo without pitch: waveform similarity overlap-add (W. Verhelst
//! and M. Roelands, ICASSP 1993), streamed.

/// Length of a piece that is overlapped, in seconds: two or more periods of
/// a low voice.
const WINDOW: f64 = 0.025;
/// How far a piece may be moved to fit its neighbour, in seconds: more than
/// one period of a low voice.
const REACH: f64 = 0.010;

/// Speaks faster or slower at the same pitch.
pub(crate) struct Stretch {
    channels: usize,
    /// Input frames for each output frame.
    speed: f64,
    /// Frames in a piece, even; pieces overlap by half.
    window: usize,
    reach: usize,
    shape: Vec<f32>,
    /// Input from `start` on, interleaved, and its mono sum.
    input: Vec<f32>,
    mono: Vec<f32>,
    start: usize,
    /// Pieces laid so far.
    pieces: u64,
    /// Where the last piece was taken from.
    last: usize,
    /// The half of the last piece that the next one overlaps.
    tail: Vec<f32>,
    taken: u64,
    given: u64,
}

impl Stretch {
    /// `speed` is 0.5 to 2; 2 is twice as fast.
    pub(crate) fn new(rate: u32, channels: u8, speed: f64) -> Self {
        let window = ((f64::from(rate) * WINDOW / 2.0).round() as usize * 2).max(8);
        let reach = (f64::from(rate) * REACH).round() as usize;
        // Two halves of it add up to one.
        let shape =
            (0..window).map(|n| (0.5 - 0.5 * (std::f64::consts::TAU * (n as f64 + 0.5) / window as f64).cos()) as f32);
        let channels = usize::from(channels);
        Stretch {
            channels,
            speed,
            window,
            reach,
            shape: shape.collect(),
            // Silence before the beginning, so that the first piece fades in
            // on nothing that is heard.
            input: vec![0.0; window / 2 * channels],
            mono: vec![0.0; window / 2],
            start: 0,
            pieces: 0,
            last: 0,
            tail: vec![0.0; window / 2 * channels],
            taken: 0,
            given: 0,
        }
    }

    pub(crate) fn push(&mut self, samples: &[f32], out: &mut Vec<f32>) {
        self.taken += (samples.len() / self.channels) as u64;
        self.input.extend_from_slice(samples);
        self.mono.extend(samples.chunks_exact(self.channels).map(|frame| frame.iter().sum::<f32>()));
        while self.lay(out) {}
        self.forget();
    }

    /// The input is over: the output is as long as it should be, to the frame.
    pub(crate) fn finish(&mut self, out: &mut Vec<f32>) {
        let total = (self.taken as f64 / self.speed).round() as u64;
        let silence = vec![0.0; self.window * self.channels];
        while self.given < total {
            self.input.extend_from_slice(&silence);
            self.mono.resize(self.mono.len() + self.window, 0.0);
            while self.lay(out) {}
        }
        let surplus = (self.given - total) as usize * self.channels;
        out.truncate(out.len() - surplus.min(out.len()));
    }

    /// Lays the next piece; `false` where its input is still to come.
    fn lay(&mut self, out: &mut Vec<f32>) -> bool {
        let half = self.window / 2;
        let ideal = (self.pieces as f64 * half as f64 * self.speed).round() as usize;
        let end = self.start + self.mono.len();
        // What would follow the last piece if nothing were changed.
        let follows = self.last + half;
        if ideal + self.reach + self.window > end || follows + self.window > end {
            return false;
        }
        let at = if self.pieces == 0 { 0 } else { self.best(ideal, follows) };
        let piece = &self.input[(at - self.start) * self.channels..][..self.window * self.channels];
        for (index, sample) in piece[..half * self.channels].iter().enumerate() {
            out.push(self.tail[index] + sample * self.shape[index / self.channels]);
        }
        let falling = piece[half * self.channels..].iter().enumerate();
        self.tail = falling.map(|(index, sample)| sample * self.shape[half + index / self.channels]).collect();
        // The first half piece is the silence before the beginning.
        if self.pieces == 0 {
            out.truncate(out.len() - half * self.channels);
        } else {
            self.given += half as u64;
        }
        self.last = at;
        self.pieces += 1;
        true
    }

    /// The place near the ideal one whose wave fits best on what follows.
    fn best(&self, ideal: usize, follows: usize) -> usize {
        let wanted = &self.mono[follows - self.start..][..self.window];
        let low = ideal.saturating_sub(self.reach).max(self.start);
        let fit = |at: usize| {
            let piece = &self.mono[at - self.start..][..self.window];
            let (mut dot, mut energy) = (0.0f32, 1e-9f32);
            for (a, b) in wanted.iter().zip(piece) {
                dot += a * b;
                energy += b * b;
            }
            dot / energy.sqrt()
        };
        // Coarsely at first, then around the best.
        let coarse = (low..=ideal + self.reach).step_by(4).map(|at| (fit(at), at));
        let (_, near) = coarse.max_by(|a, b| a.0.total_cmp(&b.0)).unwrap_or((0.0, ideal));
        let fine = (near.saturating_sub(3).max(low)..=(near + 3).min(ideal + self.reach)).map(|at| (fit(at), at));
        fine.max_by(|a, b| a.0.total_cmp(&b.0)).map_or(near, |(_, at)| at)
    }

    /// Drops input that no piece will be taken from any more.
    fn forget(&mut self) {
        let half = self.window / 2;
        let ideal = (self.pieces as f64 * half as f64 * self.speed).round() as usize;
        let needed = ideal.saturating_sub(self.reach).min(self.last + half);
        let used = needed.saturating_sub(self.start).min(self.mono.len());
        self.input.drain(..used * self.channels);
        self.mono.drain(..used);
        self.start += used;
    }
}
