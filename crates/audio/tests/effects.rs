//! What is done to sound on its way, by numbers.

use bytes::Bytes;
use dispatcher_audio::{
    AudioError, Codec, Edge, Effects, Format, Joiner, Joint, Layout, LoudnessMeter, Options, Tags, Transcoder,
    decode_all, encode_all,
};

const RATE: u32 = 24_000;

fn tone(hertz: f32, seconds: f32, level: f32) -> Vec<f32> {
    let frames = (RATE as f32 * seconds) as usize;
    (0..frames).map(|n| level * (std::f32::consts::TAU * hertz * n as f32 / RATE as f32).sin()).collect()
}

fn run(samples: &[f32], channels: u8, effects: Effects, piece: usize) -> Vec<f32> {
    let format = Format { channels, ..Format::new(Codec::Pcm, RATE) };
    let bytes: Vec<u8> = samples.iter().flat_map(|sample| ((sample * 32_767.0) as i16).to_le_bytes()).collect();
    let mut transcoder = Transcoder::with(format, format, Options { effects, ..Options::default() }).unwrap();
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
    let made = run(&sound, 1, Effects { edges: (Edge::Trim, Edge::Trim), ..Effects::default() }, 777);
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
        (Effects { speed: Some(2.5), ..Effects::default() }, "rate 2.5 is outside 0.5 to 2"),
        (Effects { pitch: Some(-13.0), ..Effects::default() }, "pitch -13 is outside -12 to 12"),
        (Effects { gain: Some(f64::NAN), ..Effects::default() }, "gain NaN is outside -60 to 60"),
        (Effects { start: Some(2.0), end: Some(1.0), ..Effects::default() }, "end 1 is outside 2"),
    ] {
        let error = Transcoder::with(format, format, Options { effects, ..Options::default() }).err().unwrap();
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

#[test]
fn fades_and_silence_are_as_long_as_they_are_asked() {
    let sound = vec![0.5f32; RATE as usize];
    let effects = Effects {
        fade_in: Some(0.1),
        fade_out: Some(0.25),
        pad_start: Some(0.5),
        pad_end: Some(0.125),
        ..Effects::default()
    };
    for piece in [77, 5_000, 100_000] {
        let made = run(&sound, 1, effects, piece);
        assert_eq!(made.len(), 12_000 + 24_000 + 3_000);
        assert!(made[..12_000].iter().chain(&made[36_000..]).all(|sample| *sample == 0.0), "silence is silent");
        let body = &made[12_000..36_000];
        assert!((body[1_200] - 0.25).abs() < 1e-3, "half way up: {}", body[1_200]);
        assert!((body[24_000 - 3_000] - 0.25).abs() < 1e-3, "half way down: {}", body[21_000]);
        assert!(body[2_400..18_000].iter().all(|sample| (sample - 0.5).abs() < 1e-4), "between them as it was");
        assert!(body[0] < 1e-3 && body[23_999] < 1e-3, "the edges are silent");
    }
    let error = Effects { fade_in: Some(61.0), ..Effects::default() }.check().unwrap_err();
    assert_eq!(error.to_string(), "fade-in 61 is outside 0 to 60");
}

#[test]
fn pieces_of_any_format_join_to_the_sample_and_at_one_loudness() {
    let output = Format::new(Codec::Pcm, RATE);
    let mut joiner = Joiner::new(output, Tags::default()).unwrap();
    let mut out = Vec::new();
    let mut expected = 0;
    for (index, codec) in [Codec::Wav, Codec::Mp3, Codec::OggOpus, Codec::Flac, Codec::Mulaw].into_iter().enumerate() {
        let rate = if codec == Codec::Mulaw { 8_000 } else { RATE };
        let level = 0.05 * (index + 1) as f32;
        let piece: Vec<f32> = (0..rate + 17).map(|n| level * (n as f32 * 0.3).sin()).collect();
        let format = Format::new(codec, rate);
        let audio = Bytes::from(encode_all(&piece, format).unwrap());
        let (decoded, layout) = decode_all(&audio, format).unwrap();
        let mut meter = LoudnessMeter::new(layout).unwrap();
        meter.push(&decoded).unwrap();
        let gain = Some(meter.finish().unwrap().gain_to(-24.0));
        let effects = Effects { gain, ..Effects::default() };
        joiner.begin(format, Joint { effects, ..Joint::default() }).unwrap();
        let before = out.len();
        out.extend(joiner.push(&audio).unwrap());
        out.extend(joiner.end().unwrap());
        // Opus decodes at 48 kHz, the telephone at 8.
        let frames = (decoded.len() as u64 * u64::from(RATE)).div_ceil(u64::from(layout.rate)) as usize;
        assert_eq!(out.len() - before, frames * 2, "{codec}");
        let samples: Vec<f32> = out[before..]
            .chunks_exact(2)
            .map(|pair| f32::from(i16::from_le_bytes([pair[0], pair[1]])) / 32_768.0)
            .collect();
        let mut meter = LoudnessMeter::new(Layout { rate: RATE, channels: 1 }).unwrap();
        meter.push(&samples).unwrap();
        let loudness = meter.finish().unwrap().integrated;
        assert!((loudness + 24.0).abs() < 0.3, "{codec}: {loudness} LUFS");
        out.extend(joiner.silence(0.2501).unwrap());
        expected += frames + 6_002;
    }
    out.extend(joiner.finish().unwrap());
    assert_eq!(out.len(), expected * 2);
    assert_eq!(joiner.length().frames as usize, expected);
    joiner.begin(output, Joint::default()).unwrap();
    assert_eq!(joiner.end(), Err(AudioError::Empty), "an empty piece is not passed over in silence");
}

/// A vowel: pulses at a pitch through resonances.
fn vowel(pitch: f64, formants: &[f64], seconds: f64) -> Vec<f32> {
    let frames = (f64::from(RATE) * seconds) as usize;
    let period = f64::from(RATE) / pitch;
    let mut sound = vec![0.0f64; frames];
    let mut next = 0.0;
    while (next as usize) < frames {
        sound[next as usize] = 1.0;
        next += period;
    }
    for hertz in formants {
        let radius = (-std::f64::consts::PI * 90.0 / f64::from(RATE)).exp();
        let (a, b) = (2.0 * radius * (std::f64::consts::TAU * hertz / f64::from(RATE)).cos(), -radius * radius);
        for n in 2..frames {
            sound[n] += a * sound[n - 1] + b * sound[n - 2];
        }
    }
    let most = sound.iter().fold(0.0f64, |most, sample| most.max(sample.abs()));
    sound.iter().map(|sample| (0.3 * sample / most) as f32).collect()
}

/// Decibels of each harmonic of a pitch.
fn harmonics(sound: &[f32], pitch: f64) -> Vec<(f64, f64)> {
    let middle = &sound[sound.len() / 4..sound.len() * 3 / 4];
    let window = |n: usize| 0.5 - 0.5 * (std::f64::consts::TAU * n as f64 / middle.len() as f64).cos();
    (1..)
        .map(|k| f64::from(k) * pitch)
        .take_while(|hertz| *hertz < 3_600.0)
        .map(|hertz| {
            let turn = std::f64::consts::TAU * hertz / f64::from(RATE);
            let (mut re, mut im) = (0.0, 0.0);
            for (n, sample) in middle.iter().enumerate() {
                let sample = f64::from(*sample) * window(n);
                re += sample * (turn * n as f64).cos();
                im += sample * (turn * n as f64).sin();
            }
            (hertz, 10.0 * (re * re + im * im).log10())
        })
        .collect()
}

/// Where the envelope of harmonics has its peak between two frequencies, by
/// the centre of gravity of the strongest.
fn formant(sound: &[f32], pitch: f64, low: f64, high: f64) -> f64 {
    let inside: Vec<(f64, f64)> =
        harmonics(sound, pitch).into_iter().filter(|(hertz, _)| (low..high).contains(hertz)).collect();
    let weight = |level: f64| 10f64.powf(level / 10.0);
    let all: f64 = inside.iter().map(|(_, level)| weight(*level)).sum();
    inside.iter().map(|(hertz, level)| hertz * weight(*level)).sum::<f64>() / all
}

#[test]
fn a_moved_pitch_keeps_the_formants_where_that_is_asked() {
    let sound = vowel(110.0, &[650.0, 1_750.0, 2_900.0], 1.5);
    let bands = [(300.0, 1_100.0), (1_250.0, 2_250.0), (2_400.0, 3_500.0)];
    for semitones in [-5.0, -2.0, 3.0, 6.0] {
        let factor = (semitones / 12.0f64).exp2();
        let kept = run(&sound, 1, Effects { pitch: Some(semitones), keep_formants: true, ..Effects::default() }, 1_000);
        assert_eq!(kept.len(), sound.len(), "{semitones} st");
        // The pitch: harmonics stand out against what is between them.
        let on = harmonics(&kept, 110.0 * factor)[3].1;
        let between = harmonics(&kept, 110.0 * factor * 0.875)[3].1;
        assert!(on > between + 12.0, "{semitones} st: {on} dB on the harmonic, {between} dB beside it");
        let plain = run(&sound, 1, Effects { pitch: Some(semitones), ..Effects::default() }, 1_000);
        for (low, high) in bands {
            let was = formant(&sound, 110.0, low, high);
            let is = formant(&kept, 110.0 * factor, low, high);
            assert!((is / was - 1.0).abs() < 0.06, "{semitones} st: a formant at {was} Hz went to {is} Hz");
        }
        let first = formant(&plain, 110.0 * factor, 300.0 * factor, 1_100.0 * factor);
        let wanted = formant(&sound, 110.0, 300.0, 1_100.0) * factor;
        assert!((first / wanted - 1.0).abs() < 0.06, "{semitones} st: moved along to {first} Hz, not {wanted}");
        let level = |sound: &[f32]| 10.0 * (sound.iter().map(|s| s * s).sum::<f32>()).log10();
        let change = level(&kept) - level(&sound);
        assert!(change.abs() < 1.0, "{semitones} st: louder by {change} dB");
    }
}

#[test]
fn a_changed_tempo_leaves_pitch_and_formants_alone() {
    let sound = vowel(110.0, &[650.0, 1_750.0, 2_900.0], 2.0);
    for speed in [0.5, 0.7, 1.4, 2.0] {
        let made = run(&sound, 1, Effects { speed: Some(speed), ..Effects::default() }, 1_000);
        for (low, high) in [(300.0, 1_100.0), (1_250.0, 2_250.0), (2_400.0, 3_500.0)] {
            let (was, is) = (formant(&sound, 110.0, low, high), formant(&made, 110.0, low, high));
            assert!((is / was - 1.0).abs() < 0.03, "{speed}: a formant at {was} Hz went to {is} Hz");
        }
        let (on, beside) = (harmonics(&made, 110.0)[5].1, harmonics(&made, 112.0)[5].1);
        assert!(on > beside + 6.0, "{speed}: the pitch is within a hundredth: {on} and {beside} dB");
    }
}
