//! How loud each of the tones of tone speech is in a stretch of samples.

use std::f64::consts::{PI, TAU};

/// Energies of the 33 tones over one stretch.
pub(super) struct Energies {
    pub(super) tones: [f64; 33],
    total: f64,
}

impl Energies {
    pub(super) fn best(&self, from: usize) -> (u8, f64, f64) {
        let mut ranked: Vec<(usize, f64)> = self.tones[from..from + 16].iter().copied().enumerate().collect();
        ranked.sort_by(|a, b| b.1.total_cmp(&a.1));
        (ranked[0].0 as u8, ranked[0].1, ranked[1].1)
    }

    pub(super) fn level(&self) -> f64 {
        self.best(0).1 + self.best(16).1
    }

    pub(super) fn tonality(&self) -> f64 {
        if self.total > 0.0 { (self.level() + self.tones[32]) / self.total } else { 0.0 }
    }
}

/// Real and imaginary parts of the tones, padded to whole vectors of four.
const PARTS: usize = 68;

/// Windowed waves of the 33 tones over a stretch of one length. The waves of a
/// sample lie side by side, so that all tones are correlated at once: most of
/// the time of a test is spent here.
pub(super) struct Probe {
    pub(super) weights: Vec<[f32; PARTS]>,
    window: Vec<f32>,
    sum: f64,
    squares: f64,
}

impl Probe {
    pub(super) fn new(length: usize, cycles: &[f64; 33]) -> Probe {
        let window: Vec<f64> = (0..length).map(|n| (PI * (n as f64 + 0.5) / length as f64).sin()).collect();
        let mut weights = vec![[0.0; PARTS]; length];
        for (tone, cycles) in cycles.iter().enumerate() {
            for (n, row) in weights.iter_mut().enumerate() {
                let (sin, cos) = (TAU * (cycles * n as f64).fract()).sin_cos();
                (row[2 * tone], row[2 * tone + 1]) = ((window[n] * cos) as f32, (window[n] * sin) as f32);
            }
        }
        Probe {
            sum: window.iter().sum(),
            squares: window.iter().map(|w| w * w).sum(),
            window: window.iter().map(|w| *w as f32).collect(),
            weights,
        }
    }

    pub(super) fn energies(&self, part: impl Iterator<Item = f32>) -> Energies {
        let mut sums = [0.0_f32; PARTS];
        let mut total = 0.0;
        for ((sample, row), window) in part.zip(&self.weights).zip(&self.window) {
            for (sum, weight) in sums.iter_mut().zip(row) {
                *sum += sample * weight;
            }
            total += f64::from(window * sample).powi(2);
        }
        let mut tones = [0.0; 33];
        for (tone, parts) in tones.iter_mut().zip(sums.chunks_exact(2)) {
            let power = f64::from(parts[0]).powi(2) + f64::from(parts[1]).powi(2);
            *tone = 2.0 * power / (self.sum * self.sum);
        }
        Energies { tones, total: total / self.squares }
    }
}
