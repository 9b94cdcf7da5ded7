//! The transcoder as a stream would use it: every way in to every way out,
//! checked by numbers.
#![allow(clippy::unwrap_used, reason = "a test that cannot set up its case has failed")]

use bytes::Bytes;
use dispatcher_audio::{AudioError, Codec, Format, Transcoder, decode_all, encode_all, measure, sniff};
use proptest::prelude::*;

/// Two seconds of a voice-like sound: harmonics that come and go.
fn sound(rate: u32) -> Vec<f32> {
    (0..rate * 2)
        .map(|n| {
            let t = n as f32 / rate as f32;
            let swell = 0.5 + 0.5 * (std::f32::consts::TAU * 1.5 * t).sin();
            let voice: f32 = (1..=5).map(|k| (std::f32::consts::TAU * 180.0 * k as f32 * t).sin() / k as f32).sum();
            0.2 * swell * voice
        })
        .collect()
}

fn transcode(audio: &[u8], from: Format, to: Format, piece: usize) -> Result<Vec<u8>, AudioError> {
    let mut transcoder = Transcoder::new(from, to)?;
    let mut out = Vec::new();
    for piece in audio.chunks(piece) {
        out.extend(transcoder.push(&Bytes::copy_from_slice(piece))?);
    }
    out.extend(transcoder.finish()?);
    Ok(out)
}

/// The highest correlation within `reach` milliseconds over the third quarter
/// of the sound, and the shift in samples where it lies.
fn correlation(a: &[f32], b: &[f32], rate: u32, reach: i64) -> (f32, i64) {
    let reach = i64::from(rate) * reach / 1_000;
    let middle = (a.len() / 2..a.len() * 3 / 4).step_by(7);
    let norm = |v: &mut dyn Iterator<Item = f32>| v.map(|s| s * s).sum::<f32>().sqrt();
    let energy = norm(&mut middle.clone().map(|n| a[n]));
    (-reach..=reach)
        .map(|shift| {
            let other =
                |n: usize| usize::try_from(n as i64 + shift).ok().and_then(|n| b.get(n)).copied().unwrap_or(0.0);
            let dot: f32 = middle.clone().map(|n| a[n] * other(n)).sum();
            (dot / (energy * norm(&mut middle.clone().map(other)) + 1e-9), shift)
        })
        .max_by(|x, y| x.0.total_cmp(&y.0))
        .unwrap()
}

const ALL: [Codec; 11] = Codec::WRITTEN;

fn is_opus(codec: Codec) -> bool {
    matches!(codec, Codec::OggOpus | Codec::WebmOpus)
}

#[test]
fn every_way_in_comes_out_as_the_same_sound_in_every_way_out() {
    for from in ALL {
        for to in ALL {
            for (rate_in, rate_out) in [(24_000, 24_000), (24_000, 8_000), (16_000, 48_000), (8_000, 16_000)] {
                let input = Format::new(from, rate_in);
                let output = Format::new(to, rate_out);
                let case = format!("{from} {rate_in} to {to} {rate_out}");
                let audio = encode_all(&sound(rate_in), input).unwrap();
                let made = transcode(&audio, input, output, 1_000).unwrap_or_else(|error| panic!("{case}: {error}"));
                let (mut samples, layout) = decode_all(&made, output).unwrap();
                // Opus always decodes at 48 kHz.
                let wanted = sound(layout.rate);
                let coded = [from, to].iter().filter(|codec| matches!(codec, Codec::Mp3)).count();
                // MP3 without a tag keeps its encoder's delay and padding.
                let surplus = samples.len() as i64 - wanted.len() as i64;
                let padding = i64::from(layout.rate) * 220 / 1_000 * coded as i64;
                assert!((-2..=padding + 2).contains(&surplus), "{case}: {surplus} samples too many");
                samples.resize(wanted.len(), 0.0);
                let (likeness, shift) = correlation(&wanted, &samples, layout.rate, 5 + 215 * coded as i64);
                // Opus keeps what is heard rather than the wave.
                let alike = if is_opus(from) || is_opus(to) { 0.7 } else { 0.97 };
                assert!(likeness > alike, "{case}: correlation {likeness}");
                if coded == 0 {
                    let opus = is_opus(from) || is_opus(to);
                    let allowed = i64::from(layout.rate / if opus { 1_000 } else { 8_000 }) + 1;
                    assert!(shift.abs() <= allowed, "{case}: {shift} samples off");
                }
            }
        }
    }
}

#[test]
fn the_cutting_of_the_input_changes_nothing() {
    for codec in ALL {
        let input = Format::new(codec, 24_000);
        let audio = encode_all(&sound(24_000)[..6_000], input).unwrap();
        let output = Format::new(Codec::L16, 8_000);
        let whole = transcode(&audio, input, output, usize::MAX).unwrap();
        for piece in [1, 3, 61, 1_024] {
            assert_eq!(transcode(&audio, input, output, piece).unwrap(), whole, "{codec} in {piece}s");
        }
    }
}

#[test]
fn bytes_pass_untouched_where_the_formats_agree() {
    for codec in ALL {
        let format = Format::new(codec, 24_000);
        let audio = encode_all(&sound(24_000), format).unwrap();
        let transcoder = Transcoder::new(format, format).unwrap();
        assert!(transcoder.passes_through());
        assert_eq!(transcode(&audio, format, format, 500).unwrap(), audio, "{codec}");
    }
}

#[test]
fn sound_comes_out_before_the_input_is_over() {
    // Milliseconds of sound that must suffice for the first bytes.
    for (from, to, enough) in [
        (Codec::Wav, Codec::L16, 40),
        (Codec::Pcm, Codec::Mulaw, 40),
        (Codec::Mp3, Codec::OggOpus, 240),
        (Codec::Wav, Codec::OggOpus, 100),
        (Codec::OggOpus, Codec::WebmOpus, 240),
        (Codec::WebmOpus, Codec::Wav, 120),
        (Codec::Wav, Codec::Flac, 140),
        (Codec::Flac, Codec::Alaw, 240),
        (Codec::Pcm, Codec::Mp3, 150),
    ] {
        let input = Format::new(from, 24_000);
        let audio = encode_all(&sound(24_000), input).unwrap();
        let share = audio.len() * enough / 2_000;
        let mut transcoder = Transcoder::new(input, Format::new(to, 16_000)).unwrap();
        let out = transcoder.push(&Bytes::copy_from_slice(&audio[..share])).unwrap();
        assert!(!out.is_empty(), "{from} to {to}: nothing after {enough} ms");
        assert!(transcoder.length().frames > 0);
    }
}

#[test]
fn a_torn_stream_is_an_error_not_a_short_answer() {
    for codec in [Codec::Wav, Codec::WavAlaw, Codec::Mp3, Codec::OggOpus, Codec::WebmOpus, Codec::Flac, Codec::Pcm] {
        let format = Format::new(codec, 24_000);
        let audio = encode_all(&sound(24_000), format).unwrap();
        let torn = &audio[..audio.len() / 2 - 31];
        for output in [format, Format::new(Codec::Mulaw, 8_000)] {
            let result = transcode(torn, format, output, 999);
            if codec == Codec::Pcm && output == format {
                continue; // raw bytes that pass have no end to miss
            }
            assert!(matches!(result, Err(AudioError::Truncated { .. })), "{codec}: {result:?}");
        }
    }
}

#[test]
fn what_is_not_audio_is_refused_with_a_reason() {
    for codec in [
        Codec::Wav,
        Codec::Mp3,
        Codec::OggOpus,
        Codec::WebmOpus,
        Codec::Flac,
        Codec::Aac,
        Codec::Mp4,
        Codec::Aiff,
        Codec::Au,
    ] {
        let format = Format::new(codec, 24_000);
        let error = transcode(b"<html>The tide is out.</html> Please come back.", format, format, 7).unwrap_err();
        assert!(error.to_string().contains("markup"), "{codec}: {error}");
        assert!(transcode(b"", format, format, 1).is_err(), "{codec}: nothing");
    }
}

#[test]
fn length_is_measured_without_decoding() {
    for (codec, slack) in [(Codec::Wav, 0), (Codec::Pcm, 0), (Codec::Mulaw, 0), (Codec::OggOpus, 1), (Codec::Mp3, 130)]
    {
        let format = Format::new(codec, 16_000);
        let audio = encode_all(&sound(16_000), format).unwrap();
        let (found, length) = measure(&audio, Some(format)).unwrap();
        assert_eq!(found.codec, codec);
        assert!((2_000..=2_000 + slack).contains(&length.milliseconds()), "{codec}: {} ms", length.milliseconds());
    }
    assert!(measure(b"The 06:15 to Gullsay", None).is_err());
}

#[test]
fn a_stereo_wav_becomes_mono_at_half_the_sum() {
    let stereo = Format { channels: 2, ..Format::new(Codec::Pcm, 16_000) };
    let audio: Vec<u8> = (0..16_000).flat_map(|_| [8_000i16.to_le_bytes(), 4_000i16.to_le_bytes()].concat()).collect();
    let mono = transcode(&audio, stereo, Format::new(Codec::Pcm, 16_000), 999).unwrap();
    assert_eq!(mono.len(), 32_000);
    assert!(mono.chunks_exact(2).all(|s| i16::from_le_bytes([s[0], s[1]]) == 6_000));
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(300))]

    /// Whatever comes in: an error or audio, never a panic, never more than
    /// the input could hold.
    #[test]
    fn random_bytes_never_panic(start in 0usize..10, bytes in proptest::collection::vec(any::<u8>(), 0..3_000)) {
        let marks: [&[u8]; 10] = [
            b"",
            b"RIFF\0\0\0\0WAVEfmt \x10\0\0\0\x01\0\x01\0",
            &[0xFF, 0xF3, 0x64, 0xC4],
            b"OggS\0\x02",
            b"fLaC\x80\0\0\x22",
            b"FORM\0\0\0\0AIFFCOMM\0\0\0\x12",
            b".snd\0\0\0\x18",
            b"\0\0\0\x08ftyp\0\0\x01\0moov",
            &[0x1A, 0x45, 0xDF, 0xA3, 0x80, 0x18, 0x53, 0x80, 0x67, 0xFF, 0x16, 0x54, 0xAE, 0x6B, 0x90],
            &[0xFF, 0xF1, 0x50, 0x40, 0x02, 0x1F, 0xFC],
        ];
        let audio = [marks[start], &bytes].concat();
        let _ = sniff(&audio);
        let _ = measure(&audio, None);
        for codec in ALL.into_iter().chain([Codec::OggFlac, Codec::OggVorbis, Codec::Aac, Codec::Mp4, Codec::Aiff, Codec::Au]) {
            if let Ok(out) = transcode(&audio, Format::new(codec, 8_000), Format::new(Codec::Pcm, 8_000), 100) {
                prop_assert!(out.len() < 2_000_000);
            }
        }
    }

    /// A bit flipped anywhere in real audio is survived.
    #[test]
    fn damaged_audio_never_panics(codec in 0usize..11, at in any::<prop::sample::Index>(), bit in 0u8..8) {
        let format = Format::new(ALL[codec], 16_000);
        let mut audio = encode_all(&sound(16_000)[..4_000], format).unwrap();
        let at = at.index(audio.len());
        audio[at] ^= 1 << bit;
        let _ = transcode(&audio, format, Format::new(Codec::Mulaw, 8_000), 333);
    }
}
