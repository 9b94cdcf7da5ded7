//! Tone speech to text. Works at the recording's own rate, from 8 kHz.

use std::collections::HashMap;
use std::f64::consts::TAU;
use std::sync::Arc;

use realfft::{RealFftPlanner, RealToComplex};

use super::probe::{Energies, Probe};
use super::{END, PAUSE, PILOT, PREAMBLE, REPEAT, SYMBOL, check_sum, high_tone, low_tone};

/// A word and its position.
#[derive(Debug, Clone, PartialEq)]
pub struct HeardWord {
    pub text: String,
    /// Seconds from the beginning of the recording.
    pub start: f64,
    pub end: f64,
    /// 0 to 1.
    pub confidence: f64,
}

/// One utterance of a recording.
#[derive(Debug, Clone, PartialEq)]
pub struct Heard {
    pub text: String,
    /// Nothing was lost and nothing altered.
    pub complete: bool,
    pub words: Vec<HeardWord>,
    pub pitch: f64,
    pub rate: f64,
}

/// Hears every utterance of a mono recording.
pub fn hear(samples: &[f32], rate: u32) -> Vec<Heard> {
    if samples.is_empty() || rate < 8_000 {
        return Vec::new();
    }
    let mean = samples.iter().map(|s| f64::from(*s)).sum::<f64>() / samples.len() as f64;
    let samples: Vec<f32> = samples.iter().map(|s| s - mean as f32).collect();
    let preambles = find_preambles(&samples, f64::from(rate));
    (0..preambles.len())
        .map(|at| {
            let from = preambles[at].data_start;
            let to = preambles.get(at + 1).map_or(samples.len(), |next| next.start).max(from);
            let ear = Ear::new(&samples[from..to], f64::from(rate), &preambles[at]);
            ear.utterance(from)
        })
        .collect()
}

struct Preamble {
    /// First sample of tone A.
    start: usize,
    /// First sample behind tone C.
    data_start: usize,
    pitch: f64,
    rate: f64,
}

/// A stretch of one single tone.
#[derive(Debug, Clone)]
struct Group {
    hertz: f64,
    level: f64,
    /// Seconds of audio, gaps left out.
    duration: f64,
    /// Seconds.
    start: f64,
    end: f64,
    longest: (f64, f64),
}

const HOP: f64 = 0.004;
const FRAME: f64 = 0.025;

struct Spectra {
    fft: Arc<dyn RealToComplex<f32>>,
    window: Vec<f32>,
    bin: f64,
}

impl Spectra {
    fn new(rate: f64) -> Self {
        let length = (FRAME * rate).round() as usize;
        let size = (length * 4).next_power_of_two();
        let window = (0..length).map(|n| (0.5 - 0.5 * (TAU * (n as f64 + 0.5) / length as f64).cos()) as f32).collect();
        Spectra { fft: RealFftPlanner::new().plan_fft_forward(size), window, bin: rate / size as f64 }
    }

    /// Power of the bins from 200 to 3,800 Hz of the frame centred at a sample.
    fn at(&self, samples: &[f32], centre: usize, scratch: &mut Vec<f32>) -> Vec<f64> {
        let half = self.window.len() / 2;
        scratch.clear();
        scratch.extend(self.window.iter().enumerate().map(|(n, w)| {
            let at = (centre + n).checked_sub(half);
            w * at.and_then(|at| samples.get(at)).copied().unwrap_or(0.0)
        }));
        scratch.resize(self.fft.len(), 0.0);
        let mut spectrum = self.fft.make_output_vec();
        if self.fft.process(scratch, &mut spectrum).is_err() {
            return Vec::new();
        }
        let (from, to) = ((200.0 / self.bin) as usize, (3_800.0 / self.bin) as usize);
        spectrum[from..=to.min(spectrum.len() - 1)].iter().map(|c| f64::from(c.norm_sqr())).collect()
    }

    fn lobe(&self, power: &[f64], hertz: f64) -> f64 {
        let first = (200.0 / self.bin) as usize;
        let index = |hertz: f64| ((hertz / self.bin).round() as usize).saturating_sub(first).min(power.len());
        power[index(hertz - 90.0)..index(hertz + 90.0)].iter().sum()
    }
}

fn find_preambles(samples: &[f32], rate: f64) -> Vec<Preamble> {
    let spectra = Spectra::new(rate);
    let mut scratch = Vec::new();
    let frames: Vec<Vec<f64>> = (0..)
        .map(|n| (f64::from(n) * HOP * rate) as usize)
        .take_while(|centre| *centre < samples.len())
        .map(|centre| spectra.at(samples, centre, &mut scratch))
        .collect();
    let groups = merge(find_groups(&spectra, &frames));
    let mut found = Vec::new();
    for triple in groups.windows(3) {
        let [x, y, z] = triple else { continue };
        let near = |value: f64, wanted: f64| (value / wanted - 1.0).abs() <= 0.03;
        let level = triple.iter().map(|group| group.level).fold(0.0, f64::max);
        if (0.70..1.45).contains(&(x.hertz / PREAMBLE[0]))
            && near(y.hertz / x.hertz, PREAMBLE[1] / PREAMBLE[0])
            && near(z.hertz / y.hertz, PREAMBLE[2] / PREAMBLE[1])
            && y.start - x.end < 2.5
            && z.start - y.end < 2.5
            && triple.iter().all(|group| group.level > 0.02 * level)
        {
            let refined: Vec<f64> = triple.iter().map(|group| refine(samples, rate, group)).collect();
            let dot: f64 = refined.iter().zip(PREAMBLE).map(|(f, wanted)| f * wanted).sum();
            let norm: f64 = PREAMBLE.iter().map(|wanted| wanted * wanted).sum();
            let sound: f64 = triple.iter().map(|group| group.duration).sum();
            found.push(Preamble {
                start: (x.start * rate) as usize,
                data_start: ((z.end * rate) as usize).min(samples.len()),
                pitch: dot / norm,
                rate: (3.0 * (0.080 - 0.002) / sound).clamp(0.35, 3.0),
            });
        }
    }
    found
}

fn find_groups(spectra: &Spectra, frames: &[Vec<f64>]) -> Vec<Group> {
    let measured: Vec<(f64, f64, f64)> = frames
        .iter()
        .map(|power| {
            let total: f64 = power.iter().sum();
            let peak = power.iter().enumerate().max_by(|a, b| a.1.total_cmp(b.1)).map_or(0, |(index, _)| index);
            let hertz = (peak as f64 + (200.0 / spectra.bin).floor()) * spectra.bin;
            let lobe = spectra.lobe(power, hertz);
            (hertz, lobe, if total > 0.0 { lobe / total } else { 0.0 })
        })
        .collect();
    let loudest = measured.iter().map(|(_, lobe, _)| *lobe).fold(0.0, f64::max);
    let core = |n: usize| measured[n].2 >= 0.80 && measured[n].1 >= 1e-4 * loudest && loudest > 0.0;
    let mut groups = Vec::new();
    let mut n = 0;
    while n < measured.len() {
        if !core(n) {
            n += 1;
            continue;
        }
        let first = n;
        while n < measured.len() && core(n) && (measured[n].0 / measured[first].0 - 1.0).abs() <= 0.03 {
            n += 1;
        }
        if n - first >= 3 {
            groups.push(measure_group(spectra, frames, first, n, &measured));
        }
    }
    groups
}

fn measure_group(
    spectra: &Spectra,
    frames: &[Vec<f64>],
    first: usize,
    end: usize,
    measured: &[(f64, f64, f64)],
) -> Group {
    let mut hertz: Vec<f64> = measured[first..end].iter().map(|m| m.0).collect();
    hertz.sort_by(f64::total_cmp);
    let hertz = hertz[hertz.len() / 2];
    let energy = |n: usize| frames.get(n).map_or(0.0, |power| spectra.lobe(power, hertz));
    let mut levels: Vec<f64> = (first..end).map(energy).collect();
    levels.sort_by(f64::total_cmp);
    let reference = levels[levels.len() * 3 / 4];
    let (mut from, mut to) = (first, end - 1);
    while from > 0 && first - from < 10 && energy(from - 1) >= 0.25 * reference {
        from -= 1;
    }
    while to + 1 < frames.len() && to + 1 - end < 10 && energy(to + 1) >= 0.25 * reference {
        to += 1;
    }
    // Crossings of half the amplitude, between the last frame above it and
    // the first below it.
    let half = 0.5 * reference.sqrt();
    let cross = |inside: usize, outside: Option<usize>| {
        let (a, b) = (energy(inside).sqrt(), outside.map_or(0.0, |n| energy(n).sqrt()));
        if a > b { ((a - half) / (a - b)).clamp(0.0, 1.0) * HOP } else { 0.0 }
    };
    let start = (from as f64 * HOP - cross(from, from.checked_sub(1))).max(0.0);
    let stop = to as f64 * HOP + cross(to, Some(to + 1));
    Group { hertz, level: reference, duration: stop - start, start, end: stop, longest: (start, stop) }
}

/// Joins neighbours of one tone that silence was cut into.
fn merge(groups: Vec<Group>) -> Vec<Group> {
    let mut merged: Vec<Group> = Vec::new();
    for group in groups {
        match merged.last_mut() {
            Some(last) if (group.hertz / last.hertz - 1.0).abs() <= 0.02 && group.start - last.end < 2.5 => {
                last.duration += group.duration;
                last.end = group.end;
                last.level = last.level.max(group.level);
                if group.longest.1 - group.longest.0 > last.longest.1 - last.longest.0 {
                    last.longest = group.longest;
                }
            }
            _ => merged.push(group),
        }
    }
    merged
}

/// The frequency of a tone, to a fraction of a hertz.
fn refine(samples: &[f32], rate: f64, group: &Group) -> f64 {
    let (start, end) = group.longest;
    let trim = 0.12 * (end - start);
    let from = ((start + trim) * rate) as usize;
    let to = (((end - trim) * rate) as usize).min(samples.len());
    let Some(part) = samples.get(from..to).filter(|part| part.len() > 8) else { return group.hertz };
    let window = |n: usize| 0.5 - 0.5 * (TAU * (n as f64 + 0.5) / part.len() as f64).cos();
    let power: Vec<f64> = (-30..=30).map(|d| correlate(part, window, (group.hertz + f64::from(d)) / rate)).collect();
    let best = power.iter().enumerate().max_by(|a, b| a.1.total_cmp(b.1)).map_or(30, |(index, _)| index);
    let peak = group.hertz + best as f64 - 30.0;
    match (best.checked_sub(1).and_then(|n| power.get(n)), power.get(best + 1)) {
        (Some(before), Some(after)) if *before > 0.0 && *after > 0.0 => {
            let (a, b, c) = (before.ln(), power[best].ln(), after.ln());
            let bend = a - 2.0 * b + c;
            if bend.abs() > 1e-12 { peak + 0.5 * (a - c) / bend } else { peak }
        }
        _ => peak,
    }
}

/// |Σ w·x·e^{−jωn}|² for a frequency in cycles a sample.
fn correlate(samples: &[f32], window: impl Fn(usize) -> f64, cycles: f64) -> f64 {
    let (step_cos, step_sin) = ((TAU * cycles).cos(), (TAU * cycles).sin());
    let (mut cos, mut sin, mut re, mut im) = (1.0, 0.0, 0.0, 0.0);
    for (n, sample) in samples.iter().enumerate() {
        let value = window(n) * f64::from(*sample);
        re += value * cos;
        im -= value * sin;
        (cos, sin) = (cos * step_cos - sin * step_sin, sin * step_cos + cos * step_sin);
    }
    re * re + im * im
}

/// A stretch of frames that all show one symbol.
#[derive(Debug, Clone, Copy)]
struct SymbolRun {
    label: u8,
    /// In frames.
    from: usize,
    to: usize,
}

#[derive(Debug, Clone)]
struct ToneSymbol {
    value: u8,
    margin: f64,
    pilot: f64,
    frames: usize,
    /// In frames.
    t0: usize,
    t1: usize,
}

struct Ear<'a> {
    samples: &'a [f32],
    rate: f64,
    pitch: f64,
    speed: f64,
    /// Samples in a symbol.
    symbol: f64,
    /// Table of tones as cycles a sample.
    cycles: [f64; 33],
}

impl<'a> Ear<'a> {
    fn new(samples: &'a [f32], rate: f64, preamble: &Preamble) -> Self {
        let mut cycles = [0.0; 33];
        for nibble in 0..16u8 {
            cycles[usize::from(nibble)] = low_tone(nibble) * preamble.pitch / rate;
            cycles[usize::from(nibble) + 16] = high_tone(nibble) * preamble.pitch / rate;
        }
        cycles[32] = PILOT * preamble.pitch / rate;
        let symbol = SYMBOL / preamble.rate * rate;
        Ear { samples, rate, pitch: preamble.pitch, speed: preamble.rate, symbol, cycles }
    }

    fn hop(&self) -> f64 {
        self.symbol / 20.0
    }

    fn probe(&self, length: usize) -> Probe {
        Probe::new(length, &self.cycles)
    }

    /// Energies of the stretch of a probe around a centre.
    fn energies(&self, centre: f64, probe: &Probe) -> Energies {
        let from = (centre - probe.weights.len() as f64 / 2.0).round();
        let part = (0..probe.weights.len()).map(|n| {
            let at = from + n as f64;
            if at < 0.0 { 0.0 } else { self.samples.get(at as usize).copied().unwrap_or(0.0) }
        });
        probe.energies(part)
    }

    fn runs(&self) -> Vec<SymbolRun> {
        let probe = self.probe((0.60 * self.symbol).round() as usize);
        let count = (self.samples.len() as f64 / self.hop()) as usize;
        let frames: Vec<Energies> = (0..count).map(|n| self.energies(n as f64 * self.hop(), &probe)).collect();
        let levels: Vec<f64> = frames.iter().map(Energies::level).collect();
        let loudest = levels.iter().copied().fold(0.0, f64::max);
        let mut tonal: Vec<f64> = (0..count)
            .filter(|n| frames[*n].tonality() >= 0.45 && levels[*n] > 0.01 * loudest)
            .map(|n| levels[n])
            .collect();
        tonal.sort_by(f64::total_cmp);
        let Some(reference) = tonal.get(tonal.len() * 3 / 4).copied() else { return Vec::new() };
        let mut runs: Vec<SymbolRun> = Vec::new();
        for (n, frame) in frames.iter().enumerate() {
            if frame.tonality() < 0.45 || levels[n] < 0.06 * reference {
                continue;
            }
            let label = frame.best(0).0 * 16 + frame.best(16).0;
            match runs.last_mut() {
                Some(run) if run.label == label && run.to == n => run.to = n + 1,
                _ => runs.push(SymbolRun { label, from: n, to: n + 1 }),
            }
        }
        runs
    }

    /// Groups of runs of one label that are long enough to be a symbol.
    fn candidates(runs: &[SymbolRun]) -> Vec<Vec<SymbolRun>> {
        let mut found = Vec::new();
        let mut at = 0;
        while at < runs.len() {
            let mut group = vec![runs[at]];
            let mut next = at + 1;
            loop {
                match (runs.get(next), runs.get(next + 1)) {
                    (Some(run), _) if run.label == runs[at].label => {
                        group.push(*run);
                        next += 1;
                    }
                    // One short run of junk, if the label comes back right behind it.
                    (Some(junk), Some(run)) if junk.to - junk.from <= 3 && run.label == runs[at].label => {
                        group.push(*run);
                        next += 2;
                    }
                    _ => break,
                }
            }
            let frames: usize = group.iter().map(|run| run.to - run.from).sum();
            if frames >= 6 {
                found.push(group);
                at = next;
            } else {
                at += 1;
            }
        }
        found
    }

    fn spoken(&self) -> Vec<ToneSymbol> {
        let mut symbols: Vec<ToneSymbol> = Vec::new();
        let mut probes: HashMap<usize, Probe> = HashMap::new();
        for group in Self::candidates(&self.runs()) {
            let frames: usize = group.iter().map(|run| run.to - run.from).sum();
            let Some(longest) = group.iter().max_by_key(|run| run.to - run.from) else { continue };
            let centre = (longest.from + longest.to - 1) as f64 / 2.0 * self.hop();
            let width = (longest.to - longest.from) as f64 * self.hop();
            let length = width.min(0.85 * self.symbol).max(0.30 * self.symbol).round() as usize;
            let probe = probes.entry(length).or_insert_with(|| self.probe(length));
            let energies = self.energies(centre, probe);
            let (low, low_energy, low_next) = energies.best(0);
            let (high, high_energy, high_next) = energies.best(16);
            let margin = (low_energy / low_next.max(1e-30)).min(high_energy / high_next.max(1e-30));
            let pilot = energies.tones[32] / ((low_energy + high_energy) / 2.0).max(1e-30);
            if group.len() == 1 && frames < 9 && margin < 1.5 {
                continue;
            }
            let part = longest.to - longest.from;
            let (t0, t1) = (group[0].from, group[group.len() - 1].to);
            let value = low * 16 + high;
            match symbols.last_mut() {
                Some(last) if last.value == value => {
                    last.t1 = t1;
                    if part > last.frames {
                        (last.frames, last.margin, last.pilot) = (part, margin, pilot);
                    }
                }
                _ => symbols.push(ToneSymbol { value, margin, pilot, frames: part, t0, t1 }),
            }
        }
        symbols
    }

    fn utterance(&self, offset: usize) -> Heard {
        let seconds = |frame: usize| (offset as f64 + frame as f64 * self.hop()) / self.rate;
        let mut bytes: Vec<(u8, ToneSymbol)> = Vec::new();
        let mut trailer: Option<Vec<u8>> = None;
        let mut previous = 0;
        let symbols = self.spoken();
        for (at, symbol) in symbols.iter().enumerate() {
            let gap = at.checked_sub(1).map_or(f64::MAX, |before| {
                symbol.t0.saturating_sub(symbols[before].t1) as f64 * self.hop() / self.rate
            });
            let begins_word = symbol.pilot > if gap >= 0.5 * PAUSE / self.speed { 0.10 } else { 0.35 };
            let value = match (symbol.value, &mut trailer) {
                (END, None) => {
                    trailer = Some(Vec::new());
                    previous = END;
                    continue;
                }
                (REPEAT, _) => previous,
                (value, _) => value,
            };
            previous = value;
            match &mut trailer {
                Some(sum) if sum.len() < 2 => sum.push(value),
                Some(_) => break,
                None => {
                    if begins_word && !bytes.is_empty() {
                        bytes.push((b' ', ToneSymbol { t0: symbol.t0, t1: symbol.t0, ..symbol.clone() }));
                    }
                    bytes.push((value, symbol.clone()));
                }
            }
        }
        let data: Vec<u8> = bytes.iter().map(|(byte, _)| *byte).collect();
        let sum = check_sum(&data);
        let complete = trailer.is_some_and(|t| t == [((sum >> 7) & 0x7F) as u8, (sum & 0x7F) as u8]);
        let words = bytes
            .split(|(byte, _)| byte.is_ascii_whitespace())
            .filter(|word| !word.is_empty())
            .map(|word| {
                let margin = word.iter().map(|(_, symbol)| symbol.margin).fold(f64::MAX, f64::min);
                let letters: Vec<u8> = word.iter().map(|(byte, _)| *byte).collect();
                HeardWord {
                    text: String::from_utf8_lossy(&letters).into_owned(),
                    start: seconds(word[0].1.t0),
                    end: seconds(word[word.len() - 1].1.t1),
                    confidence: (1.0 - 1.0 / margin.max(1.0)).clamp(0.0, 1.0),
                }
            })
            .collect();
        let text = String::from_utf8_lossy(&data).into_owned();
        Heard { text, complete, words, pitch: self.pitch, rate: self.speed }
    }
}
