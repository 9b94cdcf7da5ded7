//! Changing tempo without pitch: waveform similarity overlap-add (W. Verhelst
//! and M. Roelands, ICASSP 1993), streamed.

/// How speech is cut, in seconds.
struct Cut {
    /// Length of a piece. Most of it is laid as it is.
    piece: f64,
    /// So long a piece passes into the next: a period of a voice and more.
    overlap: f64,
    /// How far a piece may be moved to fit its neighbour, either way.
    reach: f64,
}

/// For slower speech, where a part of each piece is heard twice: the fewer the
/// better, and no consonant is so long. Of lengths from 25 to 80 ms it is the
/// one that a recogniser of speech loses the fewest words by.
const SLOWER: Cut = Cut { piece: 0.080, overlap: 0.014, reach: 0.015 };
/// For faster speech, where a part between two pieces is left out: the shorter
/// each, the less of a sound is gone. Likewise.
const FASTER: Cut = Cut { piece: 0.025, overlap: 0.010, reach: 0.010 };

/// Speaks faster or slower at the same pitch.
pub(crate) struct Stretch {
    channels: usize,
    /// Input frames for each output frame.
    speed: f64,
    /// Frames from one piece to the next, and over which two overlap.
    step: usize,
    overlap: usize,
    reach: usize,
    /// Rises from 0 to 1 over the overlap.
    shape: Vec<f32>,
    /// Input from `start` on, interleaved, and its mono sum.
    input: Vec<f32>,
    mono: Vec<f32>,
    start: usize,
    /// Pieces laid so far.
    pieces: u64,
    /// Where the last piece was taken from.
    last: usize,
    /// The end of the last piece, falling, which the next one overlaps.
    tail: Vec<f32>,
    taken: u64,
    given: u64,
}

impl Stretch {
    /// `speed` is 0.5 to 2; 2 is twice as fast.
    pub(crate) fn new(rate: u32, channels: u8, speed: f64) -> Self {
        let frames = |seconds: f64| (f64::from(rate) * seconds).round().max(2.0) as usize;
        let cut = if speed < 1.0 { SLOWER } else { FASTER };
        let overlap = frames(cut.overlap);
        let rising = |n| (0.5 - 0.5 * (std::f64::consts::PI * (f64::from(n) + 0.5) / overlap as f64).cos()) as f32;
        let channels = usize::from(channels);
        Stretch {
            channels,
            speed,
            step: frames(cut.piece) - overlap,
            overlap,
            reach: frames(cut.reach),
            shape: (0..overlap as u32).map(rising).collect(),
            // Silence before the beginning, so that the first piece fades in
            // on nothing that is heard.
            input: vec![0.0; overlap * channels],
            mono: vec![0.0; overlap],
            start: 0,
            pieces: 0,
            last: 0,
            tail: vec![0.0; overlap * channels],
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
        let silence = vec![0.0; self.step * self.channels];
        while self.given < total {
            self.input.extend_from_slice(&silence);
            self.mono.resize(self.mono.len() + self.step, 0.0);
            while self.lay(out) {}
        }
        let surplus = (self.given - total) as usize * self.channels;
        out.truncate(out.len() - surplus.min(out.len()));
    }

    /// Where the next piece would be taken from by the clock alone.
    fn ideal(&self) -> usize {
        (self.pieces as f64 * self.step as f64 * self.speed).round() as usize
    }

    /// Lays the next piece; `false` where its input is still to come.
    fn lay(&mut self, out: &mut Vec<f32>) -> bool {
        let ideal = self.ideal();
        let end = self.start + self.mono.len();
        // What would follow the last piece if nothing were changed.
        let follows = self.last + self.step;
        let piece = self.step + self.overlap;
        if ideal + self.reach + piece > end || follows + piece > end {
            return false;
        }
        let at = if self.pieces == 0 { 0 } else { self.best(ideal, follows) };
        let piece = &self.input[(at - self.start) * self.channels..][..piece * self.channels];
        let (whole, falling) = piece.split_at(self.step * self.channels);
        let (rising, whole) = whole.split_at(self.overlap * self.channels);
        // The first overlap is the silence before the beginning.
        if self.pieces > 0 {
            let rising = rising.iter().enumerate();
            out.extend(rising.map(|(n, sample)| self.tail[n] + sample * self.shape[n / self.channels]));
            self.given += self.overlap as u64;
        }
        out.extend_from_slice(whole);
        self.given += (self.step - self.overlap) as u64;
        let falling = falling.iter().enumerate();
        self.tail = falling.map(|(n, sample)| sample * (1.0 - self.shape[n / self.channels])).collect();
        self.last = at;
        self.pieces += 1;
        true
    }

    /// The place near the ideal one whose wave fits best on what follows.
    fn best(&self, ideal: usize, follows: usize) -> usize {
        let wanted = &self.mono[follows - self.start..][..self.overlap];
        let low = ideal.saturating_sub(self.reach).max(self.start);
        let fit = |at: usize| {
            let piece = &self.mono[at - self.start..][..self.overlap];
            -wanted.iter().zip(piece).map(|(a, b)| (a - b) * (a - b)).sum::<f32>()
        };
        // Coarsely at first, then around the best.
        let coarse = (low..=ideal + self.reach).step_by(4).map(|at| (fit(at), at));
        let (_, near) = coarse.max_by(|a, b| a.0.total_cmp(&b.0)).unwrap_or((0.0, ideal));
        let fine = (near.saturating_sub(3).max(low)..=(near + 3).min(ideal + self.reach)).map(|at| (fit(at), at));
        fine.max_by(|a, b| a.0.total_cmp(&b.0)).map_or(near, |(_, at)| at)
    }

    /// Drops input that no piece will be taken from any more.
    fn forget(&mut self) {
        let needed = self.ideal().saturating_sub(self.reach).min(self.last + self.step);
        let used = needed.saturating_sub(self.start).min(self.mono.len());
        self.input.drain(..used * self.channels);
        self.mono.drain(..used);
        self.start += used;
    }
}
