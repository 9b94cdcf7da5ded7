//! What is done to sound on its way, by numbers.
#![allow(clippy::unwrap_used, reason = "a test that cannot set up its case has failed")]

use bytes::Bytes;
use dispatcher_audio::{AudioError, Codec, Effects, Format, Layout, LoudnessMeter, Options, Transcoder};

const RATE: u32 = 24_000;

fn tone(hertz: f32, seconds: f32, level: f32) -> Vec<f32> {
    let frames = (RATE as f32 * seconds) as usize;
    (0..frames).map(|n| level * (std::f32::consts::TAU * hertz * n as f32 / RATE as f32).sin()).collect()
}

fn run(samples: &[f32], channels: u8, effects: Effects, piece: usize) -> Vec<f32> {
    let format = Format { channels, ..Format::new(Codec::Pcm, RATE) };
    let bytes: Vec<u8> = samples.iter().flat_map(|sample| ((sample * 32_767.0) as i16).to_le_bytes()).collect();
    let mut transcoder = Transcoder::with(format, format, Options { effects: effects, ..Options::default() }).unwrap();
    let mut out = Vec::new();
    for piece in bytes.chunks(piece) {
        out.extend(transcoder.push(&Bytes::copy_from_slice(piece)).unwrap());
    }
    out.extend(transcoder.finish().unwrap());
    out.chunks_exact(2).map(|pair| f32::from(i16::from_le_bytes([pair[0], pair[1]])) / 32_767.0).collect()
}

/// The frequency of a tone, from its zero crossings in the middle half.
fn pitch(samples: &[f32]) -> f32 {
    let middle = &samples[samples.len() / 4..samples.len() * 3 / 4];
    let crossings: Vec<f32> = middle
        .windows(2)
        .enumerate()
        .filter(|(_, pair)| pair[0] < 0.0 && pair[1] >= 0.0)
        .map(|(at, pair)| at as f32 + pair[0] / (pair[0] - pair[1]))
        .collect();
    (crossings.len() - 1) as f32 * RATE as f32 / (crossings[crossings.len() - 1] - crossings[0])
}

fn level(samples: &[f32]) -> f32 {
    let middle = &samples[samples.len() / 4..samples.len() * 3 / 4];
    (middle.iter().map(|sample| sample * sample).sum::<f32>() / middle.len() as f32).sqrt()
}

fn steepest(samples: &[f32]) -> f32 {
    samples.windows(2).map(|pair| (pair[1] - pair[0]).abs()).fold(0.0, f32::max)
}

#[test]
fn tempo_changes_length_to_the_frame_and_leaves_pitch_level_and_smoothness() {
    let sound = tone(220.0, 2.0, 0.4);
    for speed in [0.5, 0.7, 0.93, 1.4, 2.0] {
        let effects = Effects { speed: Some(speed), ..Effects::default() };
        let made = run(&sound, 1, effects, 999);
        assert_eq!(made.len(), (sound.len() as f64 / speed).round() as usize, "{speed}");
        assert!((pitch(&made) / 220.0 - 1.0).abs() < 0.01, "{speed}: {} Hz", pitch(&made));
        let decibels = 20.0 * (level(&made) / level(&sound)).log10();
        assert!(decibels.abs() < 0.5, "{speed}: {decibels} dB");
        assert!(steepest(&made) < steepest(&sound) * 1.3, "{speed}: a click of {}", steepest(&made));
        assert_eq!(run(&sound, 1, effects, 77_777), made, "{speed}: however it is cut");
    }
}

#[test]
fn pitch_moves_by_semitones_and_length_stays() {
    let sound = tone(220.0, 2.0, 0.4);
    for semitones in [-12.0, -5.0, -0.5, 0.5, 4.0, 12.0] {
        let made = run(&sound, 1, Effects { pitch: Some(semitones), ..Effects::default() }, 1_500);
        assert!(made.len().abs_diff(sound.len()) <= 2, "{semitones}: {} frames", made.len());
        let wanted = 220.0 * 2f32.powf(semitones as f32 / 12.0);
        assert!((pitch(&made) / wanted - 1.0).abs() < 0.01, "{semitones}: {} Hz, not {wanted}", pitch(&made));
        let decibels = 20.0 * (level(&made) / level(&sound)).log10();
        assert!(decibels.abs() < 0.7, "{semitones}: {decibels} dB");
    }
}

#[test]
fn both_channels_move_together() {
    let (left, right) = (tone(220.0, 1.0, 0.3), tone(330.0, 1.0, 0.3));
    let both: Vec<f32> = left.iter().zip(&right).flat_map(|(l, r)| [*l, *r]).collect();
    let made = run(&both, 2, Effects { speed: Some(1.25), ..Effects::default() }, 4_096);
    let side = |offset: usize| -> Vec<f32> { made.iter().skip(offset).step_by(2).copied().collect() };
    assert_eq!(made.len(), 38_400);
    assert!((pitch(&side(0)) / 220.0 - 1.0).abs() < 0.01 && (pitch(&side(1)) / 330.0 - 1.0).abs() < 0.01);
}

#[test]
fn a_cut_keeps_its_frames_and_does_not_click() {
    let sound = tone(440.0, 2.0, 0.5);
    let effects = Effects { start: Some(0.5), end: Some(1.25), ..Effects::default() };
    let made = run(&sound, 1, effects, 1_001);
    assert_eq!(made.len(), 18_000);
    assert!(made[0].abs() < 0.01 && made[made.len() - 1].abs() < 0.01, "the edges are faded");
    let middle = 9_000;
    assert!((made[middle] - sound[12_000 + middle]).abs() < 1e-3, "the middle is as it was");
    let tail = run(&sound, 1, Effects { start: Some(1.9), ..Effects::default() }, 1_001);
    assert_eq!(tail.len(), 2_400);
    let effects = Effects { start: Some(9.0), ..Effects::default() };
    let format = Format::new(Codec::Pcm, RATE);
    let mut beyond = Transcoder::with(format, format, Options { effects, ..Options::default() }).unwrap();
    beyond.push(&Bytes::from(vec![1; 1_000])).unwrap();
    assert_eq!(beyond.finish(), Err(AudioError::Empty), "a cut behind the end leaves nothing");
}

#[test]
fn silence_goes_from_both_ends_and_stays_in_the_middle() {
    let quiet = vec![0.0; RATE as usize];
    let sound = [quiet.clone(), tone(300.0, 0.5, 0.3), quiet.clone(), tone(300.0, 0.5, 0.3), quiet].concat();
    let made = run(&sound, 1, Effects { trim: true, ..Effects::default() }, 777);
    // Two seconds of sound and pause, and 50 ms on either side.
    let wanted = RATE as usize * 2 + RATE as usize / 10;
    assert!(made.len().abs_diff(wanted) <= RATE as usize / 50, "{} frames, not {wanted}", made.len());
}

#[test]
fn gain_is_exact_and_what_is_beyond_full_scale_is_clipped() {
    let sound = tone(440.0, 0.5, 0.1);
    for decibels in [-20.0, -3.0, 6.0] {
        let made = run(&sound, 1, Effects { gain: Some(decibels), ..Effects::default() }, 512);
        let seen = 20.0 * f64::from(level(&made) / level(&sound)).log10();
        assert!((seen - decibels).abs() < 0.05, "{decibels}: {seen}");
    }
    let loud = run(&sound, 1, Effects { gain: Some(40.0), ..Effects::default() }, 512);
    assert!(loud.iter().all(|sample| sample.abs() <= 1.001));
}

#[test]
fn what_is_out_of_range_is_refused_with_the_range() {
    let format = Format::new(Codec::Wav, RATE);
    for (effects, said) in [
        (Effects { speed: Some(2.5), ..Effects::default() }, "speed 2.5 is outside 0.5 to 2"),
        (Effects { pitch: Some(-13.0), ..Effects::default() }, "pitch -13 is outside -12 to 12"),
        (Effects { gain: Some(f64::NAN), ..Effects::default() }, "gain NaN is outside -60 to 60"),
        (Effects { start: Some(2.0), end: Some(1.0), ..Effects::default() }, "end 1 is outside 2"),
    ] {
        let error = Transcoder::with(format, format, Options { effects: effects, ..Options::default() }).err().unwrap();
        assert!(error.to_string().starts_with(said), "{error}");
    }
}

#[test]
fn loudness_is_that_of_the_recommendation() {
    // EBU Tech 3341, case 1: a stereo sine of 1 kHz at −23 dBFS is −23 LUFS;
    // one channel of it is 3 dB less.
    let level = 10f32.powf(-23.0 / 20.0);
    let sine: Vec<f32> =
        (0..48_000 * 5).map(|n| level * (std::f32::consts::TAU * 1_000.0 * n as f32 / 48_000.0).sin()).collect();
    for (channels, wanted) in [(1u8, -26.0), (2, -23.0)] {
        let mut meter = LoudnessMeter::new(Layout { rate: 48_000, channels }).unwrap();
        let samples: Vec<f32> = sine.iter().flat_map(|sample| vec![*sample; usize::from(channels)]).collect();
        meter.push(&samples).unwrap();
        let loudness = meter.finish().unwrap();
        assert!((loudness.integrated - wanted).abs() < 0.1, "{channels}: {loudness:?}");
        assert!((loudness.peak + 23.0).abs() < 0.1, "{loudness:?}");
        assert!((loudness.gain_to(-18.0) - (-18.0 - wanted)).abs() < 0.1, "the peak leaves room");
        assert!((loudness.gain_to(10.0) - 22.0).abs() < 0.1, "the peak limit holds: {}", loudness.gain_to(10.0));
    }
    let mut silent = LoudnessMeter::new(Layout { rate: 24_000, channels: 1 }).unwrap();
    silent.push(&vec![0.0; 24_000]).unwrap();
    assert_eq!(silent.finish().unwrap().gain_to(-18.0), 0.0, "silence is left as it is");
    let mut short = LoudnessMeter::new(Layout { rate: 48_000, channels: 1 }).unwrap();
    short.push(&sine[..9_600]).unwrap();
    assert!((short.finish().unwrap().integrated + 26.7).abs() < 0.2, "a short clip by its level");
}
