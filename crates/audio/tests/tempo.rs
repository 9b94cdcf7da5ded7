//! The tempo of speech: it follows how fast somebody speaks, whatever the
//! format, and is not told of what is no speech.

use dispatcher_audio::{Codec, Effects, Format, Options, TempoMeter, Transcoder, encode_all};

const RATE: u32 = 16_000;

fn wav() -> Format {
    Format::new(Codec::Wav, RATE)
}

/// Syllables that each glide from one of four vowels to the next, softer where
/// they meet: so many a second, for so many seconds.
fn syllables(a_second: f64, seconds: f64) -> Vec<f32> {
    const VOWELS: [[f64; 2]; 5] =
        [[300.0, 2_300.0], [700.0, 1_200.0], [400.0, 800.0], [550.0, 1_800.0], [300.0, 2_300.0]];
    let rate = f64::from(RATE);
    let mut phases = [0.0; 30];
    let sample = |n: usize| {
        let place = n as f64 / rate * a_second;
        let (from, to) = (VOWELS[place as usize % 4], VOWELS[place as usize % 4 + 1]);
        let along = place.fract();
        let level = 0.05 + (std::f64::consts::PI * along).sin().powi(2);
        let mut sum = 0.0;
        for (k, phase) in phases.iter_mut().enumerate() {
            let hertz = 120.0 * (k + 1) as f64;
            *phase += std::f64::consts::TAU * hertz / rate;
            for (from, to) in from.iter().zip(to) {
                let away = (hertz - (from + (to - from) * along)) / 100.0;
                sum += phase.sin() / (1.0 + away * away);
            }
        }
        (0.1 * level * sum) as f32
    };
    (0..(seconds * rate) as usize).map(sample).collect()
}

fn tempo_of(audio: &[u8], format: Format) -> Option<f64> {
    let mut meter = TempoMeter::new(format).unwrap();
    // In pieces that fit nothing.
    for piece in audio.chunks(1_021) {
        meter.push(piece).unwrap();
    }
    meter.finish().unwrap()
}

fn tempo(samples: &[f32]) -> Option<f64> {
    tempo_of(&encode_all(samples, wav()).unwrap(), wav())
}

fn converted(samples: &[f32], to: Format, speed: Option<f64>) -> Vec<u8> {
    let effects = Effects { speed, ..Effects::default() };
    let mut transcoder = Transcoder::with(wav(), to, Options { effects, ..Options::default() }).unwrap();
    let mut made = transcoder.push(&encode_all(samples, wav()).unwrap().into()).unwrap().to_vec();
    made.extend_from_slice(&transcoder.finish().unwrap());
    made
}

#[test]
fn who_speaks_twice_as_fast_has_about_twice_the_tempo() {
    let ordinary = tempo(&syllables(4.5, 8.0)).unwrap();
    for (a_second, wanted) in [(2.25, 0.5), (3.0, 0.667), (6.0, 1.333), (9.0, 2.0)] {
        let found = tempo(&syllables(a_second, 8.0)).unwrap() / ordinary;
        assert!((found / wanted).ln().abs() < 0.2, "{a_second} syllables a second: {found}, for {wanted}");
    }
}

#[test]
fn a_stretch_changes_the_tempo_by_as_much() {
    let sound = syllables(4.5, 8.0);
    let ordinary = tempo(&sound).unwrap();
    for speed in [0.7, 1.4] {
        let found = tempo_of(&converted(&sound, wav(), Some(speed)), wav()).unwrap() / ordinary;
        assert!((found / speed).ln().abs() < 0.15, "speed {speed}: {found}");
    }
}

#[test]
fn the_tempo_is_the_same_in_every_format_and_with_pauses() {
    let sound = syllables(4.5, 6.0);
    let ordinary = tempo(&sound).unwrap();
    let stereo = Format { channels: 2, ..Format::new(Codec::Flac, 44_100) };
    for format in [Format::new(Codec::Mulaw, 8_000), stereo, Format::new(Codec::OggOpus, 48_000)] {
        let found = tempo_of(&converted(&sound, format, None), format).unwrap();
        assert!((found / ordinary).ln().abs() < 0.1, "{format:?}: {found}, for {ordinary}");
    }
    let silence = vec![0.0; RATE as usize * 3];
    let found = tempo(&[&silence, &sound[..], &silence, &sound, &silence].concat()).unwrap();
    assert!((found / ordinary).ln().abs() < 0.1, "with pauses: {found}, for {ordinary}");
}

#[test]
fn what_is_no_speech_has_no_tempo() {
    let seconds = 5 * RATE as usize;
    let tone: Vec<f32> = (0..seconds).map(|n| 0.3 * (n as f32 * 0.1).sin()).collect();
    let mut state = 1_u32;
    let noise = std::iter::repeat_with(|| {
        state = state.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
        (state >> 8) as f32 / (1 << 23) as f32 - 1.0
    });
    let noise: Vec<f32> = noise.take(seconds).collect();
    for (what, sound) in [("silence", &vec![0.0; seconds]), ("a tone", &tone), ("noise", &noise)] {
        assert_eq!(tempo(sound), None, "{what}");
    }
    assert_eq!(tempo(&syllables(4.5, 0.5)), None, "two syllables");
    assert!(TempoMeter::new(wav()).unwrap().finish().is_err(), "nothing is no audio");
}

#[test]
fn two_minutes_settle_it() {
    let minute = encode_all(&syllables(4.5, 60.0), Format::new(Codec::Pcm, RATE)).unwrap();
    let mut meter = TempoMeter::new(Format::new(Codec::Pcm, RATE)).unwrap();
    let more: Vec<bool> = (0..4).map(|_| meter.push(&minute).unwrap()).collect();
    assert_eq!(more, [true, true, true, false]);
    assert!(meter.finish().unwrap().is_some());
}
