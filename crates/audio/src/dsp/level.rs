//! Speakers whose audio is joined: each is brought to the loudness of the
//! first, by what is heard of it at its beginning.

use std::collections::HashMap;

use crate::chunk::Chunk;
use crate::{AudioError, Layout, LoudnessMeter, PEAK_LIMIT};

/// Seconds of a speaker that are held to learn how loud it is.
const HEARD: f64 = 3.0;
/// Decibels of difference that are left alone: nobody hears less.
const LEFT: f64 = 0.5;
/// Decibels by which a speaker is moved at the most.
const MOST: f64 = 12.0;

/// Moves speakers to one loudness, as their audio passes by.
pub(crate) struct Leveller {
    layout: Layout,
    /// Who came first, and how loud it is so far.
    first: Option<(usize, LoudnessMeter)>,
    /// Factors of the others, once they are known.
    gains: HashMap<usize, f32>,
    /// Who speaks, where that matters.
    speaker: Option<usize>,
    /// The factor that is asked for beside, and is no part of the speaker.
    asked: f32,
    /// The beginning of a speaker that is not known yet.
    held: Vec<f32>,
}

impl Leveller {
    pub(crate) fn new(layout: Layout) -> Self {
        Leveller { layout, first: None, gains: HashMap::new(), speaker: None, asked: 1.0, held: Vec::new() }
    }

    /// What follows is of a speaker; `asked` are the decibels that are asked
    /// for and already done.
    pub(crate) fn begin(&mut self, speaker: Option<usize>, asked: f64) {
        self.speaker = speaker;
        // What is left of a piece that never came through.
        self.held.clear();
        self.asked = 10f64.powf(asked / 20.0) as f32;
    }

    /// Samples as they are to be heard; none while a speaker is listened to.
    pub(crate) fn push(&mut self, samples: &[f32], chunk: Chunk, out: &mut Vec<f32>) -> Result<(), AudioError> {
        let Some(speaker) = self.speaker else {
            out.extend_from_slice(samples);
            return Ok(());
        };
        if self.first.is_none() {
            self.first = Some((speaker, LoudnessMeter::without_peaks(self.layout)?));
        }
        let asked = self.asked;
        if let Some((_, meter)) = self.first.as_mut().filter(|(first, _)| *first == speaker) {
            let plain: Vec<f32> = samples.iter().map(|sample| sample / asked).collect();
            meter.push(&plain)?;
            out.extend_from_slice(samples);
            return Ok(());
        }
        if let Some(gain) = self.gains.get(&speaker) {
            out.extend(samples.iter().map(|sample| sample * gain));
            return Ok(());
        }
        self.held.extend_from_slice(samples);
        let enough = (HEARD * f64::from(self.layout.rate)) as usize * usize::from(self.layout.channels);
        if self.held.len() < enough && !chunk.is_last() {
            return Ok(());
        }
        let held = std::mem::take(&mut self.held);
        let gain = self.gain_of(&held)?;
        self.gains.insert(speaker, gain);
        out.extend(held.iter().map(|sample| sample * gain));
        Ok(())
    }

    /// The factor that brings sound to the first speaker's loudness.
    fn gain_of(&self, held: &[f32]) -> Result<f32, AudioError> {
        let mut meter = LoudnessMeter::new(self.layout)?;
        let plain: Vec<f32> = held.iter().map(|sample| sample / self.asked).collect();
        meter.push(&plain)?;
        let own = meter.finish()?;
        let target = match &self.first {
            Some((_, meter)) => meter.finish()?.integrated,
            None => own.integrated,
        };
        let difference = target - own.integrated;
        if !difference.is_finite() || difference.abs() <= LEFT {
            return Ok(1.0);
        }
        let room = PEAK_LIMIT - own.peak - 20.0 * f64::from(self.asked).log10();
        let gain = difference.clamp(-MOST, MOST).min(room.max(0.0));
        Ok(10f64.powf(gain / 20.0) as f32)
    }
}
