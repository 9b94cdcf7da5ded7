//! Finding silence, and taking it off both ends.

/// Blocks are judged by their level: so long, in seconds.
const BLOCK: f64 = 0.010;
/// Quieter than this is silence: −50 dB of full scale.
pub(crate) const THRESHOLD: f32 = 0.003_162;
/// What is left standing before and behind the audio, in blocks.
const MARGIN: usize = 5;
/// Silence that is held at the most until sound follows, in blocks: a minute.
const MAX_HELD: usize = 6_000;

/// What is done with the silence at an end.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Edge {
    /// It stays.
    #[default]
    Keep,
    /// 50 ms of it stay.
    Trim,
    /// Nothing of it stays.
    Close,
}

impl Edge {
    fn margin(self) -> Option<usize> {
        match self {
            Edge::Keep => None,
            Edge::Trim => Some(MARGIN),
            Edge::Close => Some(0),
        }
    }
}

/// Takes silence off the beginning and the end; 50 ms stay.
pub(crate) struct Trim {
    block: usize,
    /// Silence that stays at the beginning and at the end, in blocks; all of
    /// it where this is missing.
    margins: (Option<usize>, Option<usize>),
    pending: Vec<f32>,
    /// Silent blocks that may be the last.
    held: Vec<f32>,
    begun: bool,
}

impl Trim {
    pub(crate) fn new(rate: u32, channels: u8, start: Edge, end: Edge) -> Self {
        let block = ((f64::from(rate) * BLOCK) as usize).max(1) * usize::from(channels);
        Trim { block, margins: (start.margin(), end.margin()), pending: Vec::new(), held: Vec::new(), begun: false }
    }

    pub(crate) fn push(&mut self, samples: &[f32], out: &mut Vec<f32>) {
        self.pending.extend_from_slice(samples);
        let whole = self.pending.len() / self.block * self.block;
        let ready: Vec<f32> = self.pending.drain(..whole).collect();
        ready.chunks_exact(self.block).for_each(|block| self.judge(block, out));
    }

    fn judge(&mut self, block: &[f32], out: &mut Vec<f32>) {
        let level = (block.iter().map(|sample| sample * sample).sum::<f32>() / block.len() as f32).sqrt();
        if level >= THRESHOLD {
            self.begun = true;
            out.append(&mut self.held);
            out.extend_from_slice(block);
            return;
        }
        self.held.extend_from_slice(block);
        let most = if self.begun { MAX_HELD } else { self.margins.0.unwrap_or(MAX_HELD) };
        let surplus = self.held.len().saturating_sub(most * self.block);
        let dropped = self.held.drain(..surplus);
        if self.begun || self.margins.0.is_none() {
            out.extend(dropped);
        }
    }

    pub(crate) fn finish(&mut self, out: &mut Vec<f32>) {
        let rest = std::mem::take(&mut self.pending);
        if !rest.is_empty() {
            self.judge(&rest, out);
        }
        if self.begun {
            if let Some(margin) = self.margins.1 {
                self.held.truncate(margin * self.block);
            }
            out.append(&mut self.held);
        }
    }
}
