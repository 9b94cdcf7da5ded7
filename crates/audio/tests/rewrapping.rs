//! Metadata, and audio that only changes its container.

use bytes::Bytes;
use dispatcher_audio::{AudioError, Codec, Format, Meter, Options, Tags, Transcoder, decode_all, encode_all};

fn sound(rate: u32) -> Vec<f32> {
    let tone = |n: u32| (n as f32 * 440.0 * std::f32::consts::TAU / rate as f32).sin();
    (0..rate).map(|n| 0.3 * tone(n) * (n as f32 / rate as f32)).collect()
}

fn tags() -> Tags {
    Tags {
        title: Some("A partida das 06:15 – Gullsay".into()),
        track: Some("3/12".into()),
        language: Some("pt-PT".into()),
        engine: Some("heron".into()),
        voice: Some("heron/marisol".into()),
        date: Some("2026-11-25T14:40:00Z".into()),
        synthetic: true,
        provenance: None,
    }
}

/// Runs bytes through, in pieces, and writes the beginning again.
fn run(audio: &[u8], from: Format, to: Format, options: Options) -> (Vec<u8>, bool) {
    let mut transcoder = Transcoder::with(from, to, options).unwrap();
    let mut out = Vec::new();
    for piece in audio.chunks(333) {
        out.extend(transcoder.push(&Bytes::copy_from_slice(piece)).unwrap());
    }
    out.extend(transcoder.finish().unwrap());
    let length = transcoder.length();
    if let Some(start) = transcoder.start() {
        assert!(out.len() > start.len());
        out[..start.len()].copy_from_slice(&start);
    }
    let mut meter = Meter::new(to).unwrap();
    meter.push(&out).unwrap();
    let measured = meter.finish().unwrap();
    let off = (measured.seconds() - length.seconds()).abs();
    assert!(off < 1e-4, "{from:?} to {to:?}: {} and {}", measured.seconds(), length.seconds());
    (out, transcoder.decodes())
}

fn tags_of(audio: &[u8], format: Format) -> Tags {
    let mut meter = Meter::new(format).unwrap();
    audio.chunks(100).for_each(|piece| meter.push(piece).unwrap());
    meter.finish().unwrap();
    meter.tags()
}

#[test]
fn every_format_that_can_say_what_it_is_says_it() {
    let source = Format::new(Codec::Pcm, 24_000);
    let pcm = encode_all(&sound(24_000), source).unwrap();
    for codec in Codec::WRITTEN {
        let format = Format::new(codec, 24_000);
        let (audio, _) = run(&pcm, source, format, Options { tags: tags(), ..Options::default() });
        let expected = if codec.carries_tags() { tags() } else { Tags::default() };
        assert_eq!(tags_of(&audio, format), expected, "{codec}");
        let (plain, _) = run(&pcm, source, format, Options::default());
        assert_eq!(tags_of(&plain, format), Tags::default(), "{codec} says nothing that nobody told it");
        assert_eq!(decode_all(&audio, format).unwrap(), decode_all(&plain, format).unwrap(), "{codec}: the same sound");
    }
}

#[test]
fn sound_changes_its_container_without_being_decoded() {
    for (from, to) in [
        (Codec::OggOpus, Codec::WebmOpus),
        (Codec::WebmOpus, Codec::OggOpus),
        (Codec::Wav, Codec::Pcm),
        (Codec::WavMulaw, Codec::Mulaw),
        (Codec::WavAlaw, Codec::Alaw),
    ] {
        let (input, output) = (Format::new(from, 24_000), Format::new(to, 24_000));
        let audio = encode_all(&sound(24_000), input).unwrap();
        let (moved, decoded) = run(&audio, input, output, Options::default());
        assert!(!decoded, "{from} to {to} needs no decoder");
        assert_eq!(decode_all(&moved, output).unwrap(), decode_all(&audio, input).unwrap(), "{from} to {to}");
        let (back, _) = run(&moved, output, input, Options::default());
        assert_eq!(decode_all(&back, input).unwrap(), decode_all(&audio, input).unwrap(), "{to} back to {from}");
        assert_eq!(back.len(), audio.len(), "{to} back to {from}: not a byte more");
    }
}

#[test]
fn every_code_of_a_telephone_survives_its_container() {
    let codes: Vec<u8> = (0..=255).cycle().take(2_560).collect();
    for (raw, wav) in [(Codec::Mulaw, Codec::WavMulaw), (Codec::Alaw, Codec::WavAlaw)] {
        let (raw, wav) = (Format::new(raw, 8_000), Format::new(wav, 8_000));
        let (in_wav, _) = run(&codes, raw, wav, Options::default());
        assert_eq!(in_wav[in_wav.len() - codes.len()..], codes[..], "{}", wav.codec);
        assert_eq!(run(&in_wav, wav, raw, Options::default()).0, codes, "{}", raw.codec);
    }
}

#[test]
fn tags_are_put_on_coded_sound_without_touching_it() {
    for codec in [Codec::Mp3, Codec::OggOpus, Codec::WebmOpus, Codec::Flac, Codec::Wav] {
        let format = Format::new(codec, 24_000);
        let audio = encode_all(&sound(24_000), format).unwrap();
        let (tagged, decoded) = run(&audio, format, format, Options { tags: tags(), ..Options::default() });
        assert!(!decoded, "{codec}");
        assert_eq!(tags_of(&tagged, format), tags(), "{codec}");
        assert_eq!(decode_all(&tagged, format).unwrap(), decode_all(&audio, format).unwrap(), "{codec}");
        let other = Tags { title: Some("Another".into()), ..Tags::default() };
        let (again, _) = run(&tagged, format, format, Options { tags: other.clone(), ..Options::default() });
        assert_eq!(tags_of(&again, format), other, "{codec}: new tags go in place of old ones");
    }
}

#[test]
fn what_cannot_be_moved_is_decoded() {
    // A WAV of floats is no raw PCM of 16 bits.
    let mut float = encode_all(&[], Format::new(Codec::Wav, 24_000)).unwrap();
    assert!(float.is_empty(), "nothing is written before the first sample");
    float.extend_from_slice(b"RIFF\xFF\xFF\xFF\xFFWAVEfmt \x10\0\0\0\x03\0\x01\0");
    float.extend_from_slice(&24_000u32.to_le_bytes());
    float.extend_from_slice(&96_000u32.to_le_bytes());
    float.extend_from_slice(b"\x04\0\x20\0data\xFF\xFF\xFF\xFF");
    float.extend((0..24_000).flat_map(|n| (n as f32 / 48_000.0).to_le_bytes()));
    let (pcm, decoded) =
        run(&float, Format::new(Codec::Wav, 24_000), Format::new(Codec::Pcm, 24_000), Options::default());
    assert!(decoded);
    let middle = i16::from_le_bytes([pcm[24_000], pcm[24_001]]);
    assert!((i32::from(middle) - 8_192).abs() <= 2, "{middle}");
    // A chain of streams is refused rather than joined wrongly, and decoded when asked.
    let opus = Format::new(Codec::OggOpus, 24_000);
    let one = encode_all(&sound(24_000), opus).unwrap();
    let chain = [one.clone(), one].concat();
    let webm = Format::new(Codec::WebmOpus, 24_000);
    let mut transcoder = Transcoder::new(opus, webm).unwrap();
    let error = transcoder.push(&Bytes::from(chain.clone())).unwrap_err();
    assert!(matches!(error, AudioError::Unsupported { .. }), "{error}");
    let mut meter = Meter::new(opus).unwrap();
    meter.push(&chain).unwrap();
    assert!(meter.is_chained());
    let (joined, _) = run(&chain, opus, webm, Options { decode: true, ..Options::default() });
    assert_eq!(decode_all(&joined, webm).unwrap().0.len(), 96_000);
}

#[test]
fn files_of_every_bit_rate_begin_and_end_where_the_sound_does() {
    for rate in [8_000, 16_000, 24_000, 44_100] {
        let source = Format::new(Codec::Pcm, rate);
        let wanted = sound(rate);
        let pcm = encode_all(&wanted, source).unwrap();
        let mut formats: Vec<Format> = Vec::new();
        for channels in [1, 2] {
            let format = Format { channels, ..Format::new(Codec::Mp3, rate) };
            formats.extend(format.bitrates().into_iter().map(|bits| Format { bitrate: Some(bits), ..format }));
            formats.push(Format { vbr: true, ..format });
        }
        for format in formats {
            let case = format!("{format:?}");
            let (mp3, _) = run(&pcm, source, format, Options::default());
            let (samples, layout) = decode_all(&mp3, format).unwrap();
            let channels = usize::from(layout.channels);
            assert_eq!(samples.len() / channels, wanted.len(), "{case}");
            if format.bitrate.is_some_and(|bits| bits < 32_000 * channels as u32) {
                continue;
            }
            let dot: f32 = samples.iter().step_by(channels).zip(&wanted).map(|(a, b)| a * b).sum();
            let power = |s: &mut dyn Iterator<Item = f32>| s.map(|s| s * s).sum::<f32>();
            let all = power(&mut samples.iter().step_by(channels).copied()) * power(&mut wanted.iter().copied());
            assert!(dot / all.sqrt() > 0.98, "{case}: {}", dot / all.sqrt());
        }
    }
}
