//! What may be done to audio between decoding and encoding, streamed.

use crate::chunk::Chunk;
use crate::dsp::fade::{Fade, Pad};
use crate::dsp::pitch::PitchShift;
use crate::dsp::stretch::Stretch;
use crate::measure::silence::{Edge, Trim};
use crate::{AudioError, Layout};

/// Duration of the fades at cut edges in seconds, against clicks.
const EDGE: f64 = 0.005;

/// What is to be done; nothing unless said. The parts are done in the order
/// in which they stand here.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Effects {
    /// Seconds of the input at which to begin.
    pub start: Option<f64>,
    /// Seconds of the input at which to end.
    pub end: Option<f64>,
    /// What becomes of silence at the beginning and at the end.
    pub edges: (Edge, Edge),
    /// Tempo without change of pitch: 0.5 to 2.
    pub speed: Option<f64>,
    /// Semitones up or down without change of tempo: −12 to 12.
    pub pitch: Option<f64>,
    /// Keep the colour of the voice where its pitch is moved: for speech, and
    /// not for tones.
    pub keep_formants: bool,
    /// Decibels: −60 to 60.
    pub gain: Option<f64>,
    /// Seconds over which the audio rises at its beginning.
    pub fade_in: Option<f64>,
    /// Seconds over which it falls at its end; so much is held in memory.
    pub fade_out: Option<f64>,
    /// Seconds of silence put before it.
    pub pad_start: Option<f64>,
    /// Seconds of silence put behind it.
    pub pad_end: Option<f64>,
}

/// The longest fade and the longest silence, in seconds.
const MAX_EDGE: f64 = 60.0;

impl Effects {
    /// Whether anything is to be done at all.
    pub fn is_none(&self) -> bool {
        *self == Effects::default()
    }

    /// Refuses values outside their ranges.
    ///
    /// # Errors
    /// [`AudioError::Effect`], with the range.
    pub fn check(&self) -> Result<(), AudioError> {
        let range = |name, value: Option<f64>, low: f64, high: f64| match value {
            Some(value) if !(low..=high).contains(&value) => {
                Err(AudioError::Effect { name, given: value.to_string(), allowed: format!("{low} to {high}") })
            }
            _ => Ok(()),
        };
        range("rate", self.speed, 0.5, 2.0)?;
        range("pitch", self.pitch, -12.0, 12.0)?;
        range("gain", self.gain, -60.0, 60.0)?;
        range("fade-in", self.fade_in, 0.0, MAX_EDGE)?;
        range("fade-out", self.fade_out, 0.0, MAX_EDGE)?;
        range("pad-start", self.pad_start, 0.0, MAX_EDGE)?;
        range("pad-end", self.pad_end, 0.0, MAX_EDGE)?;
        range("start", self.start, 0.0, f64::from(u32::MAX))?;
        range("end", self.end, self.start.unwrap_or(0.0), f64::from(u32::MAX))
    }
}

enum Stage {
    Cut(Cut),
    Trim(Trim),
    Stretch(Box<Stretch>),
    Pitch(Box<PitchShift>),
    Gain(f32),
    Fade(Fade),
    Pad(Pad),
}

/// The stages that effects ask for, in a row.
pub(crate) struct Chain {
    stages: Vec<Stage>,
    from: Vec<f32>,
    to: Vec<f32>,
}

impl Chain {
    pub(crate) fn new(effects: &Effects, layout: Layout) -> Result<Self, AudioError> {
        effects.check()?;
        let Layout { rate, channels } = layout;
        let mut stages = Vec::new();
        if effects.start.is_some() || effects.end.is_some() {
            stages.push(Stage::Cut(Cut::new(effects, layout)));
        }
        let (first, last) = effects.edges;
        if first != Edge::Keep || last != Edge::Keep {
            stages.push(Stage::Trim(Trim::new(rate, channels, first, last)));
        }
        if let Some(speed) = effects.speed.filter(|speed| (speed - 1.0).abs() > 1e-9) {
            stages.push(Stage::Stretch(Box::new(Stretch::new(rate, channels, speed))));
        }
        if let Some(semitones) = effects.pitch.filter(|semitones| semitones.abs() > 1e-9) {
            let shift = PitchShift::new(rate, channels, semitones, effects.keep_formants)?;
            stages.push(Stage::Pitch(Box::new(shift)));
        }
        if let Some(decibels) = effects.gain {
            stages.push(Stage::Gain(10f64.powf(decibels / 20.0) as f32));
        }
        let frames = |seconds: Option<f64>| (seconds.unwrap_or(0.0) * f64::from(rate)).round() as u64;
        let (fade_in, fade_out) = (frames(effects.fade_in), frames(effects.fade_out));
        if fade_in + fade_out > 0 {
            stages.push(Stage::Fade(Fade::new(channels, fade_in, fade_out)));
        }
        let (before, behind) = (frames(effects.pad_start), frames(effects.pad_end));
        if before + behind > 0 {
            let samples = |frames: u64| frames as usize * usize::from(channels);
            stages.push(Stage::Pad(Pad::new(samples(before), samples(behind))));
        }
        Ok(Chain { stages, from: Vec::new(), to: Vec::new() })
    }

    /// Runs samples through all stages, in place.
    pub(crate) fn run(&mut self, samples: &mut Vec<f32>, chunk: Chunk) -> Result<(), AudioError> {
        for stage in &mut self.stages {
            std::mem::swap(&mut self.from, samples);
            self.to.clear();
            stage.push(&self.from, chunk, &mut self.to)?;
            std::mem::swap(&mut self.to, samples);
        }
        Ok(())
    }
}

impl Stage {
    fn push(&mut self, samples: &[f32], chunk: Chunk, out: &mut Vec<f32>) -> Result<(), AudioError> {
        match self {
            Stage::Cut(cut) => cut.push(samples, out),
            Stage::Gain(factor) => out.extend(samples.iter().map(|sample| sample * *factor)),
            Stage::Fade(fade) => {
                fade.push(samples, out);
                if chunk.is_last() {
                    fade.finish(out);
                }
            }
            Stage::Pad(pad) => {
                pad.push(samples, out);
                if chunk.is_last() {
                    pad.finish(out);
                }
            }
            Stage::Trim(trim) => {
                trim.push(samples, out);
                if chunk.is_last() {
                    trim.finish(out);
                }
            }
            Stage::Stretch(stretch) => {
                stretch.push(samples, out);
                if chunk.is_last() {
                    stretch.finish(out);
                }
            }
            Stage::Pitch(shift) => shift.push(samples, chunk, out)?,
        }
        Ok(())
    }
}

/// Keeps a stretch of the input, its cut edges faded.
struct Cut {
    channels: usize,
    from: u64,
    to: u64,
    edge: u64,
    at: u64,
    fades_in: bool,
    fades_out: bool,
}

impl Cut {
    fn new(effects: &Effects, layout: Layout) -> Self {
        let frames = |seconds: f64| (seconds * f64::from(layout.rate)).round() as u64;
        Cut {
            channels: usize::from(layout.channels),
            from: effects.start.map_or(0, frames),
            to: effects.end.map_or(u64::MAX, frames),
            edge: frames(EDGE).max(1),
            at: 0,
            fades_in: effects.start.is_some_and(|start| start > 0.0),
            fades_out: effects.end.is_some(),
        }
    }

    fn push(&mut self, samples: &[f32], out: &mut Vec<f32>) {
        for frame in samples.chunks_exact(self.channels) {
            let at = self.at;
            self.at += 1;
            if !(self.from..self.to).contains(&at) {
                continue;
            }
            let inside = if self.fades_in { at - self.from } else { u64::MAX };
            let left = if self.fades_out { self.to - 1 - at } else { u64::MAX };
            let nearest = inside.min(left);
            let level = if nearest < self.edge { (nearest as f32 + 0.5) / self.edge as f32 } else { 1.0 };
            out.extend(frame.iter().map(|sample| sample * level));
        }
    }
}
