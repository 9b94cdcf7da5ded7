//! Keeping the colour of a voice whose pitch is moved: its formants are put
//! back where they were, by linear prediction (J. Makhoul, "Linear
//! prediction: a tutorial review", Proceedings of the IEEE 63, 1975).

/// Blocks in which the envelope is taken to stand still, in seconds.
const BLOCK: f64 = 0.010;
/// Envelopes are smoothed to this width in hertz, so that they follow
/// formants and not the harmonics between them.
const SMOOTH: f64 = 80.0;
/// Below the loudest part by so much (−40 dB), nothing is modelled.
const FLOOR: f64 = 1e-4;
/// Silence, which has no formants.
const SILENCE: f64 = 1e-5;
/// How much a block may be made louder or softer to keep its level.
const MOST_GAIN: f64 = 8.0;

/// The prediction of a block of audio.
struct Envelope {
    /// From the first to the last before.
    weights: Vec<f64>,
}

impl Envelope {
    fn flat(order: usize) -> Envelope {
        Envelope { weights: vec![0.0; order] }
    }

    /// By the autocorrelation of the windowed sound (Levinson and Durbin).
    fn of(sound: &[f64], window: &[f64], lags: &[f64]) -> Envelope {
        let order = lags.len() - 1;
        let windowed: Vec<f64> = sound.iter().zip(window).map(|(sample, weight)| sample * weight).collect();
        let correlation: Vec<f64> = lags
            .iter()
            .enumerate()
            .map(|(lag, weight)| weight * windowed.iter().zip(&windowed[lag..]).map(|(a, b)| a * b).sum::<f64>())
            .collect();
        let mut error = correlation[0] * (1.0 + FLOOR);
        let mut weights = vec![0.0; order];
        if error < SILENCE * SILENCE {
            return Envelope { weights };
        }
        for step in 0..order {
            let known: f64 = (0..step).map(|n| weights[n] * correlation[step - n]).sum();
            let reflection = (correlation[step + 1] - known) / error;
            let before = weights.clone();
            weights[step] = reflection;
            for n in 0..step {
                weights[n] = before[n] - reflection * before[step - 1 - n];
            }
            error *= 1.0 - reflection * reflection;
        }
        Envelope { weights }
    }

    /// What the samples before, the newest last, foretell.
    fn foretell(&self, before: &[f64]) -> f64 {
        self.weights.iter().zip(before.iter().rev()).map(|(weight, sample)| weight * sample).sum()
    }
}

/// The two envelopes of a block: as it sounds, and as it should.
struct Pair {
    moved: Envelope,
    original: Envelope,
}

impl Pair {
    /// Takes one envelope off the audio and puts the other on. `moved` and
    /// `made` hold what came before, and of `moved` the block itself.
    fn apply(&self, moved: &[f64], made: &[f64], block: usize) -> Vec<f64> {
        let order = self.moved.weights.len();
        let mut out = made[made.len() - order..].to_vec();
        let begin = moved.len() - block;
        for n in begin..moved.len() {
            let excitation = moved[n] - self.moved.foretell(&moved[n - order..n]);
            let sample = excitation + self.original.foretell(&out[out.len() - order..]);
            out.push(sample);
        }
        out.split_off(order)
    }
}

/// Gives one channel of moved sound the formants of the original.
pub(crate) struct Formants {
    block: usize,
    window: Vec<f64>,
    lags: Vec<f64>,
    original: Vec<f64>,
    moved: Vec<f64>,
    /// The end of what was given, before its level was kept.
    made: Vec<f64>,
    before: Pair,
    gain: f64,
}

impl Formants {
    pub(crate) fn new(rate: u32) -> Self {
        let rate = f64::from(rate);
        let block = (rate * BLOCK).round() as usize;
        // A pair of poles for each formant, one to a kilohertz, and some for
        // the slope.
        let order = (rate / 1_000.0).round() as usize + 4;
        let length = 3 * block;
        let lag = |n: usize| (-0.5 * (std::f64::consts::TAU * SMOOTH * n as f64 / rate).powi(2)).exp();
        Formants {
            block,
            window: (0..length)
                .map(|n| 0.5 - 0.5 * (std::f64::consts::TAU * (n as f64 + 0.5) / length as f64).cos())
                .collect(),
            lags: (0..=order).map(lag).collect(),
            // The first block is in the middle of its window.
            original: vec![0.0; block],
            moved: vec![0.0; block.max(order)],
            made: vec![0.0; order],
            before: Pair { moved: Envelope::flat(order), original: Envelope::flat(order) },
            gain: 1.0,
        }
    }

    /// Takes the original and the moved sound, of one length in the end.
    pub(crate) fn push(&mut self, original: &[f32], moved: &[f32], out: &mut Vec<f32>) {
        self.original.extend(original.iter().map(|sample| f64::from(*sample)));
        self.moved.extend(moved.iter().map(|sample| f64::from(*sample)));
        let lead = self.moved_lead();
        while self.original.len() >= 3 * self.block && self.moved.len() >= lead + 2 * self.block {
            self.advance(lead, out);
        }
    }

    /// Samples of moved sound that are kept from before the block at hand.
    fn moved_lead(&self) -> usize {
        self.block.max(self.lags.len() - 1)
    }

    fn advance(&mut self, lead: usize, out: &mut Vec<f32>) {
        let block = self.block;
        let pair = Pair {
            moved: Envelope::of(&self.moved[lead - block..lead + 2 * block], &self.window, &self.lags),
            original: Envelope::of(&self.original[..3 * block], &self.window, &self.lags),
        };
        let sound = &self.moved[..lead + block];
        let level = |samples: &[f64]| (samples.iter().map(|s| s * s).sum::<f64>() / block as f64).sqrt();
        // From the last block's envelopes to this one's, without a step.
        let (old, new) = (self.before.apply(sound, &self.made, block), pair.apply(sound, &self.made, block));
        let made: Vec<f64> = old
            .iter()
            .zip(&new)
            .enumerate()
            .map(|(n, (old, new))| old + (new - old) * (n as f64 + 0.5) / block as f64)
            .collect();
        let (wanted, given) = (level(&sound[lead..]), level(&made));
        let gain =
            if wanted > SILENCE && given > SILENCE { (wanted / given).clamp(1.0 / MOST_GAIN, MOST_GAIN) } else { 1.0 };
        out.extend(made.iter().enumerate().map(|(n, sample)| {
            let share = (n as f64 + 0.5) / block as f64;
            (sample * (self.gain + (gain - self.gain) * share)) as f32
        }));
        self.gain = gain;
        self.before = pair;
        let order = self.lags.len() - 1;
        self.made.extend(made);
        self.made.drain(..self.made.len() - order);
        self.original.drain(..block);
        self.moved.drain(..block);
    }

    /// The rest; as much in all as moved sound went in.
    pub(crate) fn finish(&mut self, out: &mut Vec<f32>) {
        let left = self.moved.len() - self.moved_lead();
        let silence = vec![0.0; left + 3 * self.block];
        let before = out.len();
        self.push(&silence, &silence, out);
        out.truncate(before + left);
    }
}
