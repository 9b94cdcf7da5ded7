//! The transcoder as a stream would use it: every way in to every way out,
//! checked by numbers.

use bytes::Bytes;
use dispatcher_audio::{AudioError, Codec, Format, STANDARD_RATES, Transcoder, decode_all, encode_all, measure, sniff};
use proptest::prelude::*;

/// Half a second of a voice-like sound: harmonics that come and go.
fn sound(rate: u32) -> Vec<f32> {
    (0..rate / 2)
        .map(|n| {
            let t = n as f32 / rate as f32;
            let swell = 0.5 + 0.5 * (std::f32::consts::TAU * 1.5 * t).sin();
            let voice: f32 = (1..=5).map(|k| (std::f32::consts::TAU * 180.0 * k as f32 * t).sin() / k as f32).sum();
            0.2 * swell * voice
        })
        .collect()
}

/// As a file would be made: its beginning is written again at the end.
fn transcode(audio: &[u8], from: Format, to: Format, piece: usize) -> Result<Vec<u8>, AudioError> {
    let mut transcoder = Transcoder::new(from, to)?;
    let mut out = Vec::new();
    for piece in audio.chunks(piece) {
        out.extend(transcoder.push(&Bytes::copy_from_slice(piece))?);
    }
    out.extend(transcoder.finish()?);
    if let Some(start) = transcoder.start() {
        out[..start.len()].copy_from_slice(&start);
    }
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

/// Signal to noise in decibels, with no shift allowed.
fn snr(wanted: &[f32], got: &[f32]) -> f32 {
    let inner = wanted.len() / 10..wanted.len() * 9 / 10;
    let noise: f32 = inner.clone().map(|n| (wanted[n] - got.get(n).copied().unwrap_or(0.0)).powi(2)).sum();
    let signal: f32 = inner.map(|n| wanted[n].powi(2)).sum();
    10.0 * (signal / noise.max(1e-12)).log10()
}

/// So much a coding must keep of the wave itself, in decibels; Opus keeps
/// what is heard rather than the wave and is judged by its likeness.
fn kept(codec: Codec, rate: u32) -> f32 {
    match codec {
        Codec::Mp3 if rate < 16_000 => 8.0,
        Codec::Mp3 => 12.0,
        Codec::Mulaw | Codec::Alaw | Codec::WavMulaw | Codec::WavAlaw => 30.0,
        _ => 70.0,
    }
}

fn check(from: Format, to: Format) {
    let case = format!(
        "{} of {} Hz × {} to {} of {} Hz × {}",
        from.codec, from.rate, from.channels, to.codec, to.rate, to.channels
    );
    let spread = |mono: Vec<f32>, channels: u8| -> Vec<f32> {
        mono.into_iter().flat_map(|sample| std::iter::repeat_n(sample, channels.into())).collect()
    };
    let audio = encode_all(&spread(sound(from.rate), from.channels), from).unwrap();
    let made = transcode(&audio, from, to, 1_000).unwrap_or_else(|error| panic!("{case}: {error}"));
    let (samples, layout) = decode_all(&made, to).unwrap();
    assert_eq!(layout.channels, to.channels, "{case}");
    // Opus always decodes at 48 kHz.
    assert_eq!(layout.rate, if is_opus(to.codec) { 48_000 } else { to.rate }, "{case}");
    // Both channels are the same sound: the first is looked at.
    let samples: Vec<f32> = samples.into_iter().step_by(to.channels.into()).collect();
    let wanted = sound(layout.rate);
    // To the frame; a part of one at the end becomes a whole one, twice where
    // Opus has a rate of its own.
    let frames = u64::from(from.rate / 2) * u64::from(layout.rate);
    let exact = frames.div_ceil(from.rate.into()) as i64;
    let surplus = samples.len() as i64 - exact;
    assert!((0..=i64::from(is_opus(to.codec)) * 6).contains(&surplus), "{case}: {surplus} samples too many");
    if is_opus(from.codec) || is_opus(to.codec) {
        let (likeness, shift) = correlation(&wanted, &samples, layout.rate, 3);
        assert!(likeness > 0.7, "{case}: correlation {likeness}");
        assert!(shift.abs() <= i64::from(layout.rate) / 1_000, "{case}: {shift} samples off");
    } else {
        let least = kept(from.codec, from.rate).min(kept(to.codec, to.rate)) - 3.0;
        let ratio = snr(&wanted, &samples);
        assert!(ratio > least, "{case}: {ratio} dB, at least {least} wanted");
    }
}

#[test]
fn every_way_in_comes_out_as_the_same_sound_in_every_way_out() {
    for from in ALL {
        for to in ALL {
            for (rate_in, rate_out) in [(24_000, 24_000), (24_000, 8_000), (16_000, 48_000)] {
                for (channels_in, channels_out) in [(1, 1), (2, 1), (1, 2), (2, 2)] {
                    check(
                        Format { channels: channels_in, ..Format::new(from, rate_in) },
                        Format { channels: channels_out, ..Format::new(to, rate_out) },
                    );
                }
            }
        }
    }
}

#[test]
fn every_rate_comes_out_of_every_rate_in_every_coding() {
    for codec in ALL {
        for rate in STANDARD_RATES {
            for other in STANDARD_RATES {
                if codec.rates().contains(&rate) {
                    check(Format::new(codec, rate), Format::new(Codec::Pcm, other));
                }
                if codec.rates().contains(&other) {
                    check(Format::new(Codec::Pcm, rate), Format::new(codec, other));
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

/// Milliseconds of sound that go in before the first bytes come out.
fn first_bytes(from: Format, to: Format) -> u64 {
    let seconds = 0.5;
    let audio = encode_all(&sound(from.rate), from).unwrap();
    let mut transcoder = Transcoder::new(from, to).unwrap();
    for millisecond in 1..500 {
        let at = |ms: usize| audio.len() * ms / (seconds * 1_000.0) as usize;
        let out = transcoder.push(&Bytes::copy_from_slice(&audio[at(millisecond - 1)..at(millisecond)])).unwrap();
        if !out.is_empty() {
            assert!(transcoder.length().frames > 0, "nothing is given that is not sound");
            return millisecond as u64;
        }
    }
    panic!("{from:?} to {to:?}: nothing after half a second");
}

#[test]
fn the_first_bytes_come_out_soon() {
    let pcm = Format::new(Codec::Pcm, 24_000);
    for (to, enough) in [
        (Codec::L16, 20),
        (Codec::Wav, 20),
        (Codec::Mulaw, 20),
        (Codec::OggOpus, 60),
        (Codec::WebmOpus, 60),
        (Codec::Mp3, 120),
        (Codec::Flac, 100),
    ] {
        let waited = first_bytes(pcm, Format::new(to, 24_000));
        assert!(waited <= enough, "{to}: {waited} ms");
        // A change of rate adds the filter's delay, within the same bounds.
        let other = if to == Codec::Mulaw { 8_000 } else { 16_000 };
        let waited = first_bytes(pcm, Format::new(to, other));
        assert!(waited <= enough, "{to} at {other} Hz: {waited} ms");
    }
    // What comes in coded comes in whole packets, pages or frames.
    for (from, enough) in [(Codec::Mp3, 120), (Codec::OggOpus, 200), (Codec::WebmOpus, 120), (Codec::Flac, 220)] {
        let waited = first_bytes(Format::new(from, 24_000), Format::new(Codec::L16, 24_000));
        assert!(waited <= enough, "{from} to L16: {waited} ms");
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
    for (codec, slack) in [(Codec::Wav, 0), (Codec::Pcm, 0), (Codec::Mulaw, 0), (Codec::OggOpus, 1), (Codec::Mp3, 0)] {
        let format = Format::new(codec, 16_000);
        let audio = encode_all(&sound(16_000), format).unwrap();
        let (found, length) = measure(&audio, Some(format)).unwrap();
        assert_eq!(found.codec, codec);
        assert!((500..=500 + slack).contains(&length.milliseconds()), "{codec}: {} ms", length.milliseconds());
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
