//! How fast somebody speaks, by how soon the spectrum is another one: the
//! mouth goes from sound to sound at the tempo of the speech, whatever is said
//! and whoever says it. Counting syllables (P. Mermelstein, Journal of the
//! Acoustical Society of America 58, 1975) tells less of a short sentence, where one
//! more or less is a tenth of them.

use std::collections::VecDeque;
use std::f32::consts::PI;
use std::sync::Arc;

use realfft::num_complex::Complex;
use realfft::{RealFftPlanner, RealToComplex};

use crate::chunk::Chunk;
use crate::codec::decode::Decoder;
use crate::{AudioError, Format, Layout};

/// Interval and length of the frames of spectra, in seconds.
const STEP: f64 = 0.010;
const FRAME: f64 = 0.025;
/// Bands of equal width on the mel scale between two frequencies in hertz.
const BANDS: usize = 20;
const REACH: (f64, f64) = (150.0, 4_000.0);
/// Decibels below the loudest parts (all but a twentieth is softer), under
/// which nobody speaks, and under which nothing is told apart.
const SPEECH: f32 = 30.0;
const FLOOR: f32 = 45.0;
/// Less speech is not measured, in steps.
const FEWEST: usize = 80;
/// Steps after which the spectrum of speech is another one at the latest.
const LATEST: usize = 15;
/// How often in a second the spectrum of ordinary speech is another one, and
/// the power of the tempo by which that grows: of four voices of a local
/// engine at 0.7 to 1.4 of their speed, which a recogniser hears best so.
const ORDINARY: f64 = 25.0;
const POWER: f64 = 0.92;
/// A spectrum that changes by less, in decibels, is constant.
const LEAST: f64 = 3.0;
/// What is another one more often is noise.
const MOST: f64 = 85.0;
/// Seconds of audio after which the tempo is final.
const HEARD: f64 = 120.0;

/// Decibels in bands.
type Shape = [f32; BANDS];

/// Measures the tempo of speech as its bytes pass by, in two megabytes at most.
pub struct TempoMeter {
    decoder: Decoder,
    samples: Vec<f32>,
    spectra: Option<Spectra>,
}

impl TempoMeter {
    /// A meter for bytes of the format; rate and channels count only for
    /// codings that do not state them.
    ///
    /// # Errors
    /// Where the format is not read here.
    pub fn new(format: Format) -> Result<Self, AudioError> {
        Ok(TempoMeter { decoder: Decoder::new(format)?, samples: Vec::new(), spectra: None })
    }

    /// Takes bytes; `false` once the tempo is settled.
    ///
    /// # Errors
    /// When the bytes are not of the format.
    pub fn push(&mut self, bytes: &[u8]) -> Result<bool, AudioError> {
        self.advance(bytes, Chunk::More)
    }

    /// The tempo, 1 being ordinary, pauses apart; right to about a tenth for a
    /// sentence. `None` where the audio is too short to tell, or is no speech.
    ///
    /// # Errors
    /// When the bytes ended inside something that must be whole.
    pub fn finish(mut self) -> Result<Option<f64>, AudioError> {
        self.advance(&[], Chunk::Last)?;
        Ok(self.spectra.and_then(|spectra| spectra.tempo()))
    }

    fn advance(&mut self, bytes: &[u8], chunk: Chunk) -> Result<bool, AudioError> {
        if self.spectra.as_ref().is_some_and(Spectra::is_settled) {
            return Ok(false);
        }
        self.samples.clear();
        self.decoder.push(bytes, chunk, &mut self.samples)?;
        if let Some(layout) = self.decoder.layout() {
            self.spectra.get_or_insert_with(|| Spectra::new(layout)).push(&self.samples);
        }
        Ok(true)
    }
}

/// Powers in bands, step by step.
struct Spectra {
    channels: usize,
    window: Vec<f32>,
    step: usize,
    /// Seconds of a step.
    seconds: f64,
    transform: Arc<dyn RealToComplex<f32>>,
    input: Vec<f32>,
    output: Vec<Complex<f32>>,
    /// Hertz of a bin of the transform.
    bin: f64,
    waiting: VecDeque<f32>,
    bands: Vec<[f32; BANDS]>,
}

fn mel(hertz: f64) -> f64 {
    1_127.0 * (1.0 + hertz / 700.0).ln()
}

impl Spectra {
    fn new(layout: Layout) -> Self {
        let rate = f64::from(layout.rate.max(1));
        let length = (rate * FRAME).round().max(2.0) as usize;
        let step = (rate * STEP).round().max(1.0) as usize;
        let transform = RealFftPlanner::new().plan_fft_forward(length.next_power_of_two());
        let angle = |n: usize| 2.0 * PI * n as f32 / length as f32;
        Spectra {
            channels: layout.channels.max(1).into(),
            window: (0..length).map(|n| 0.5 - 0.5 * angle(n).cos()).collect(),
            step,
            seconds: step as f64 / rate,
            input: transform.make_input_vec(),
            output: transform.make_output_vec(),
            bin: rate / length.next_power_of_two() as f64,
            transform,
            waiting: VecDeque::new(),
            bands: Vec::new(),
        }
    }

    fn is_settled(&self) -> bool {
        self.bands.len() as f64 * self.seconds >= HEARD
    }

    fn push(&mut self, samples: &[f32]) {
        let mono = samples.chunks_exact(self.channels).map(|frame| frame.iter().sum::<f32>());
        self.waiting.extend(mono.map(|sample| if sample.is_finite() { sample } else { 0.0 }));
        while self.waiting.len() >= self.window.len().max(self.step) && !self.is_settled() {
            self.take();
            self.waiting.drain(..self.step);
        }
    }

    /// Takes the spectrum of the next frame.
    fn take(&mut self) {
        let windowed = self.waiting.iter().zip(&self.window).map(|(sample, weight)| sample * weight);
        self.input.fill(0.0);
        self.input.iter_mut().zip(windowed).for_each(|(place, sample)| *place = sample);
        if self.transform.process(&mut self.input, &mut self.output).is_err() {
            return;
        }
        let width = (mel(REACH.1) - mel(REACH.0)) / (BANDS + 1) as f64;
        let mut bands = [0.0; BANDS];
        for (n, power) in self.output.iter().map(Complex::norm_sqr).enumerate() {
            let hertz = n as f64 * self.bin;
            // Triangles, of which two overlap everywhere.
            let place = (mel(hertz) - mel(REACH.0)) / width;
            let (below, share) = (place.floor(), place.fract() as f32);
            for (band, share) in [(below, share), (below - 1.0, 1.0 - share)] {
                if band >= 0.0 && band < BANDS as f64 {
                    bands[band as usize] += share * power;
                }
            }
        }
        self.bands.push(bands);
    }

    fn tempo(&self) -> Option<f64> {
        let changes = self.changes().filter(|changes| *changes < MOST)?;
        Some((changes / ORDINARY).powf(1.0 / POWER))
    }

    /// The shapes of the spectrum where there is speech: decibels over their
    /// mean.
    fn shapes(&self) -> Option<Vec<Option<Shape>>> {
        let whole: Vec<f32> = self.bands.iter().map(|bands| decibels(bands.iter().sum())).collect();
        let loudest = loudest(&whole)?;
        let floor = 10f32.powf((loudest - FLOOR) / 10.0) / BANDS as f32;
        let level = |at: usize, band: usize| decibels(self.bands[at][band] + floor);
        let smooth = |at: usize| -> Shape {
            let (before, after) = (at.saturating_sub(1), (at + 1).min(self.bands.len() - 1));
            std::array::from_fn(|band| 0.25 * (level(before, band) + 2.0 * level(at, band) + level(after, band)))
        };
        let speech = |(at, level): (usize, &f32)| (*level > loudest - SPEECH).then(|| smooth(at));
        let mut shapes: Vec<Option<Shape>> = whole.iter().enumerate().map(speech).collect();
        let count = Some(shapes.iter().flatten().count()).filter(|count| *count >= FEWEST)? as f32;
        let sum = |band: usize| shapes.iter().flatten().map(|shape| shape[band]).sum::<f32>();
        let mean: Shape = std::array::from_fn(|band| sum(band) / count);
        for shape in shapes.iter_mut().flatten() {
            shape.iter_mut().zip(mean).for_each(|(level, mean)| *level -= mean);
        }
        Some(shapes)
    }

    /// How often in a second the spectrum of speech is another one: the
    /// correlation of its shape with what it was is halved.
    fn changes(&self) -> Option<f64> {
        let shapes = self.shapes()?;
        let half = 0.5 * correlation(&shapes, 0).filter(|power| *power > LEAST * LEAST * BANDS as f64)?;
        let mut before = 2.0 * half;
        for lag in 1..=LATEST {
            let now = correlation(&shapes, lag)?;
            if now < half {
                let place = (lag - 1) as f64 + (before - half) / (before - now);
                return Some(1.0 / (place * self.seconds));
            }
            before = now;
        }
        None
    }
}

/// The mean product of shapes at a distance in steps, where both are of speech.
fn correlation(shapes: &[Option<Shape>], lag: usize) -> Option<f64> {
    let pairs = shapes.iter().zip(shapes.get(lag..)?).filter_map(|(one, other)| one.as_ref().zip(other.as_ref()));
    let product = |one: &Shape, other: &Shape| one.iter().zip(other).map(|(a, b)| f64::from(a * b)).sum::<f64>();
    let add = |(count, sum): (u32, f64), (one, other)| (count + 1, sum + product(one, other));
    let (count, sum) = pairs.fold((0, 0.0), add);
    (count > 0).then(|| sum / f64::from(count))
}

fn decibels(power: f32) -> f32 {
    10.0 * (power + 1e-12).log10()
}

/// The level that all but a twentieth is softer than.
fn loudest(levels: &[f32]) -> Option<f32> {
    let mut sorted = levels.to_vec();
    sorted.sort_by(f32::total_cmp);
    sorted.get(sorted.len() * 19 / 20).copied()
}
