//! One sound behind another in a stream, brought to the rate and channels of
//! the first. Joining of pieces that were asked for lives in [`crate::joiner`].

use crate::dsp::resample::{Resampler, remix};
use crate::{AudioError, Layout, STANDARD_RATES};

/// The way of a later sound to the layout of the first.
pub(crate) struct Conform {
    from: u8,
    to: u8,
    resampler: Option<Resampler>,
    remixed: Vec<f32>,
}

impl Conform {
    /// `None` where nothing is to be done.
    ///
    /// # Errors
    /// Between rates that are not in use, whose filters would be vast, and to
    /// more channels than two.
    pub(crate) fn new(from: Layout, to: Layout) -> Result<Option<Self>, AudioError> {
        if from == to {
            return Ok(None);
        }
        let usual = |rate| STANDARD_RATES.contains(&rate);
        if to.channels > 2 || (from.rate != to.rate && !(usual(from.rate) && usual(to.rate))) {
            let what = format!(
                "a sound of {} Hz and {} channel(s) behind one of {} Hz and {}",
                from.rate, from.channels, to.rate, to.channels
            );
            return Err(AudioError::Unsupported { format: "a chain of streams", what });
        }
        let remixed = Layout { channels: to.channels, ..from };
        let resampler = (from.rate != to.rate).then(|| Resampler::new(remixed, to.rate)).transpose()?;
        Ok(Some(Conform { from: from.channels, to: to.channels, resampler, remixed: Vec::new() }))
    }

    /// Takes whole frames and appends what is ready of them.
    pub(crate) fn push(&mut self, samples: &[f32], out: &mut Vec<f32>) -> Result<(), AudioError> {
        self.remixed.clear();
        self.remixed.extend_from_slice(samples);
        remix(&mut self.remixed, self.from, self.to);
        match self.resampler.as_mut() {
            Some(resampler) => resampler.push(&self.remixed, out),
            None => {
                out.append(&mut self.remixed);
                Ok(())
            }
        }
    }

    /// The audio is over: appends the rest.
    pub(crate) fn finish(mut self, out: &mut Vec<f32>) -> Result<(), AudioError> {
        self.resampler.as_mut().map_or(Ok(()), |resampler| resampler.finish(out))
    }
}
