//! The way of samples before they are encoded: decoded, remixed, worked on,
//! resampled.

use crate::buffers::release;
use crate::chunk::Chunk;
use crate::codec::decode::Decoder;
use crate::dsp::effects::{Chain, Effects};
use crate::dsp::expansion::Expansion;
use crate::dsp::resample::{Resampler, remix};
use crate::{AudioError, Format, Layout};

/// Bytes of any format to samples of one layout.
pub(crate) struct Pipeline {
    decoder: Decoder,
    resampler: Option<Resampler>,
    effects: Effects,
    chain: Option<Chain>,
    input: Option<Layout>,
    output: Layout,
    decoded: Vec<f32>,
    resampled: Vec<f32>,
    expansion: Option<Expansion>,
}

impl Pipeline {
    pub(crate) fn new(input: Format, output: Layout, effects: Effects, any_length: bool) -> Result<Self, AudioError> {
        Ok(Pipeline {
            decoder: Decoder::new(input)?,
            resampler: None,
            effects,
            chain: None,
            input: None,
            output,
            decoded: Vec::new(),
            resampled: Vec::new(),
            expansion: (!any_length).then(Expansion::default),
        })
    }

    pub(crate) fn output(&self) -> Layout {
        self.output
    }

    /// The layout is known: what is to be done with the samples.
    fn begin(&mut self, input: Layout) -> Result<(), AudioError> {
        self.input = Some(input);
        let remixed = Layout { channels: self.output.channels, ..input };
        if input.rate != self.output.rate {
            self.resampler = Some(Resampler::new(remixed, self.output.rate)?);
        }
        if !self.effects.is_none() {
            self.chain = Some(Chain::new(&self.effects, remixed)?);
        }
        Ok(())
    }

    /// Makes the samples that [`Pipeline::samples`] then gives. Answers whether
    /// they have values that 16 bits cannot hold.
    pub(crate) fn push(&mut self, bytes: &[u8], chunk: Chunk) -> Result<bool, AudioError> {
        self.decoded.clear();
        self.resampled.clear();
        self.decoder.push(bytes, chunk, &mut self.decoded)?;
        if let (None, Some(layout)) = (self.input, self.decoder.layout()) {
            self.begin(layout)?;
        }
        let Some(input) = self.input else { return Ok(false) };
        if let Some(expansion) = self.expansion.as_mut() {
            expansion.check(bytes.len(), self.decoded.len(), input)?;
        }
        remix(&mut self.decoded, input.channels, self.output.channels);
        if let Some(chain) = self.chain.as_mut() {
            chain.run(&mut self.decoded, chunk)?;
        }
        if let Some(resampler) = self.resampler.as_mut() {
            resampler.push(&self.decoded, &mut self.resampled)?;
            if chunk.is_last() {
                resampler.finish(&mut self.resampled)?;
            }
        }
        Ok(self.resampler.is_some() || self.chain.is_some() || !self.decoder.fits_sixteen_bits())
    }

    /// What the last [`Pipeline::push`] made is no longer needed, nor its room.
    pub(crate) fn done(&mut self) {
        release(&mut self.decoded);
        release(&mut self.resampled);
    }

    /// What the last [`Pipeline::push`] made, interleaved.
    pub(crate) fn samples(&self) -> &[f32] {
        if self.resampler.is_some() { &self.resampled } else { &self.decoded }
    }
}
