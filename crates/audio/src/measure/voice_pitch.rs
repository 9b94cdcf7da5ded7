//! How high a voice is: the median of its fundamental frequency over what is
//! voiced, found by the difference function of YIN (A. de Cheveigné and H.
//! Kawahara, Journal of the Acoustical Society of America 111, 2002).

use crate::Layout;

/// Hertz between which the fundamental frequency of speech is looked for.
const REACH: (f64, f64) = (60.0, 500.0);
/// Length and interval of the frames, in seconds. Two periods of the lowest
/// voice are in one frame and the lag behind it.
const FRAME: f64 = 0.025;
const STEP: f64 = 0.010;
/// The normalised difference below which a frame is periodic (the paper's
/// section II.D uses 0.1; compressed speech seldom comes that low).
const PERIODIC: f64 = 0.15;
/// A frame with less than this share of the loudest frame's power is a pause.
const PAUSE: f64 = 1e-3;
/// Fewer voiced frames are chance, not a voice.
const FEWEST: usize = 10;
/// Only the first seconds are looked at.
const LONGEST: f64 = 60.0;

/// Median fundamental frequency in hertz of interleaved samples; `None` where
/// too little of it is voiced, as in noise, tones above 500 Hz, or silence.
pub fn voice_pitch(samples: &[f32], layout: Layout) -> Option<f64> {
    let rate = f64::from(layout.rate);
    let channels = usize::from(layout.channels).max(1);
    let frames = samples.chunks_exact(channels).take((LONGEST * rate) as usize);
    let mono: Vec<f32> = frames.map(|frame| frame.iter().sum::<f32>() / channels as f32).collect();
    let (shortest, longest) = ((rate / REACH.1) as usize, (rate / REACH.0) as usize);
    let (window, step) = ((FRAME * rate) as usize, (STEP * rate) as usize);
    if shortest < 2 || step == 0 {
        return None;
    }
    let starts = (0..mono.len().saturating_sub(window + longest)).step_by(step);
    let framed: Vec<(&[f32], f64)> = starts
        .map(|start| {
            let frame = &mono[start..start + window + longest];
            (frame, frame[..window].iter().map(|sample| f64::from(*sample).powi(2)).sum())
        })
        .collect();
    let loudest = framed.iter().map(|(_, power)| *power).fold(0.0, f64::max);
    let spoken = framed.iter().filter(|(_, power)| *power > 0.0 && *power >= PAUSE * loudest);
    let mut found: Vec<f64> =
        spoken.filter_map(|(frame, _)| period(frame, window, shortest, longest)).map(|period| rate / period).collect();
    if found.len() < FEWEST {
        return None;
    }
    found.sort_by(f64::total_cmp);
    Some(found[found.len() / 2])
}

/// The period of a frame in samples, between two of them; `None` where it has none.
fn period(frame: &[f32], window: usize, shortest: usize, longest: usize) -> Option<f64> {
    let difference = |lag: usize| -> f64 {
        let pairs = frame[..window].iter().zip(&frame[lag..lag + window]);
        f64::from(pairs.map(|(here, there)| (here - there) * (here - there)).sum::<f32>())
    };
    // Over the mean of those before it, so that small lags are no periods.
    let (mut sum, mut normal) = (0.0, vec![1.0; longest]);
    for (lag, value) in normal.iter_mut().enumerate().skip(1) {
        let own = difference(lag);
        sum += own;
        *value = if sum > 0.0 { own * lag as f64 / sum } else { 1.0 };
    }
    let mut lag = (shortest..longest).find(|lag| normal[*lag] < PERIODIC)?;
    while lag + 1 < longest && normal[lag + 1] < normal[lag] {
        lag += 1;
    }
    let (Some(before), Some(after)) = (normal.get(lag - 1), normal.get(lag + 1)) else { return None };
    // The lowest point of the parabola through three of them.
    let bend = before - 2.0 * normal[lag] + after;
    let off = if bend > 0.0 { (before - after) / (2.0 * bend) } else { 0.0 };
    Some(lag as f64 + off)
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A buzz with all of its overtones below 4 kHz, as of vocal folds.
    fn buzz(rate: u32, hertz: f64, seconds: f64) -> Vec<f32> {
        let overtones = (4_000.0 / hertz) as u32;
        let sample = |at: u32| {
            let turn = f64::from(at) / f64::from(rate) * hertz * std::f64::consts::TAU;
            (1..=overtones).map(|n| (turn * f64::from(n)).sin() / f64::from(n)).sum::<f64>() as f32 * 0.3
        };
        (0..(seconds * f64::from(rate)) as u32).map(sample).collect()
    }

    #[test]
    fn the_pitch_of_low_and_high_voices_is_found_at_every_rate() {
        for rate in [8_000, 16_000, 24_000, 48_000] {
            for hertz in [82.0, 110.0, 205.0, 391.0] {
                let found = voice_pitch(&buzz(rate, hertz, 0.5), Layout { rate, channels: 1 }).expect("a pitch");
                assert!((found / hertz - 1.0).abs() < 0.01, "{hertz} Hz at {rate}: {found}");
            }
        }
    }

    #[test]
    fn pauses_do_not_count_and_channels_are_one_voice() {
        let mut samples: Vec<f32> = buzz(16_000, 130.0, 0.5).into_iter().flat_map(|sample| [sample, sample]).collect();
        samples.splice(0..0, vec![0.0; 64_000]);
        let found = voice_pitch(&samples, Layout { rate: 16_000, channels: 2 }).expect("a pitch");
        assert!((found - 130.0).abs() < 1.3, "{found}");
    }

    #[test]
    fn silence_noise_and_a_click_have_none() {
        let layout = Layout { rate: 16_000, channels: 1 };
        let mut seed = 7_u32;
        let mut noise = || {
            seed = seed.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
            (seed >> 8) as f32 / (1 << 23) as f32 - 1.0
        };
        let noise: Vec<f32> = (0..16_000).map(|_| noise()).collect();
        assert_eq!(voice_pitch(&noise, layout), None);
        assert_eq!(voice_pitch(&vec![0.0; 16_000], layout), None);
        assert_eq!(voice_pitch(&buzz(16_000, 120.0, 0.1), layout), None, "too short to say");
        assert_eq!(voice_pitch(&[], layout), None);
    }
}
