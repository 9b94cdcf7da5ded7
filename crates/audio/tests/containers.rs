//! Files as other programs write them: every sample coding of WAV, chunks in
//! odd places, lengths that lie, tags before and after.

use bytes::Bytes;
use dispatcher_audio::{
    AudioError, Codec, Format, Layout, Meter, Transcoder, decode_all, encode_all, measure, mend_wav_lengths, sniff,
    wav_header,
};

/// Values that every coding can carry, near enough.
const VALUES: [f32; 8] = [0.0, 0.5, -0.5, 0.25, -0.25, 0.75, -0.75, 0.125];

fn chunk(id: &[u8; 4], body: &[u8]) -> Vec<u8> {
    let mut out = [id.as_slice(), &(body.len() as u32).to_le_bytes(), body].concat();
    if body.len() % 2 == 1 {
        out.push(0);
    }
    out
}

fn fmt(tag: u16, bits: u16, channels: u16, rate: u32) -> Vec<u8> {
    let frame = channels * bits / 8;
    [
        tag.to_le_bytes().as_slice(),
        &channels.to_le_bytes(),
        &rate.to_le_bytes(),
        &(rate * u32::from(frame)).to_le_bytes(),
        &frame.to_le_bytes(),
        &bits.to_le_bytes(),
    ]
    .concat()
}

fn wav(chunks: &[Vec<u8>]) -> Vec<u8> {
    let body = [b"WAVE".to_vec(), chunks.concat()].concat();
    chunk(b"RIFF", &body)
}

/// The values in a coding of WAV: format tag, bits, bytes.
fn codings() -> Vec<(&'static str, u16, u16, Vec<u8>, f32)> {
    let each = |code: &dyn Fn(f32) -> Vec<u8>| VALUES.iter().flat_map(|value| code(*value)).collect::<Vec<u8>>();
    let mulaw = |value: f32| {
        let bias = (value.abs() * 32_635.0) as i32 + 132;
        let exponent = 31 - bias.leading_zeros() as i32 - 7;
        let mantissa = (bias >> (exponent + 3)) & 15;
        let sign = if value < 0.0 { 0x80 } else { 0 };
        vec![!(sign | (exponent << 4) as u8 | mantissa as u8)]
    };
    vec![
        ("8 bits", 1, 8, each(&|v| vec![(v * 128.0 + 128.0) as u8]), 0.01),
        ("16 bits", 1, 16, each(&|v| ((v * 32_768.0) as i16).to_le_bytes().to_vec()), 1e-4),
        ("24 bits", 1, 24, each(&|v| ((v * 8_388_608.0) as i32).to_le_bytes()[..3].to_vec()), 1e-4),
        ("32 bits", 1, 32, each(&|v| ((f64::from(v) * 2_147_483_648.0) as i32).to_le_bytes().to_vec()), 1e-4),
        ("float", 3, 32, each(&|v| v.to_le_bytes().to_vec()), 1e-4),
        ("double", 3, 64, each(&|v| f64::from(v).to_le_bytes().to_vec()), 1e-4),
        ("µ-law", 7, 8, each(&mulaw), 0.02),
    ]
}

fn close(samples: &[f32], slack: f32, case: &str) {
    assert_eq!(samples.len(), VALUES.len(), "{case}");
    for (sample, value) in samples.iter().zip(VALUES) {
        assert!((sample - value).abs() <= slack, "{case}: {sample} is not {value}");
    }
}

fn samples(audio: &[u8]) -> Result<(Vec<f32>, Layout), AudioError> {
    decode_all(audio, Format::new(Codec::Wav, 16_000))
}

#[test]
fn every_sample_coding_is_read_in_its_plain_and_its_extensible_form() {
    for (name, tag, bits, data, slack) in codings() {
        let plain = wav(&[chunk(b"fmt ", &fmt(tag, bits, 1, 11_025)), chunk(b"data", &data)]);
        let (read, layout) = samples(&plain).unwrap_or_else(|error| panic!("{name}: {error}"));
        assert_eq!(layout, Layout { rate: 11_025, channels: 1 }, "{name}");
        close(&read, slack, name);
        let guid_tail = b"\x00\x00\x00\x00\x10\x00\x80\x00\x00\xaa\x00\x38\x9b\x71";
        let extension =
            [&22u16.to_le_bytes()[..], &bits.to_le_bytes(), &4u32.to_le_bytes(), &tag.to_le_bytes(), guid_tail]
                .concat();
        let extensible = [fmt(0xFFFE, bits, 1, 11_025), extension].concat();
        let extensible = wav(&[chunk(b"fmt ", &extensible), chunk(b"data", &data)]);
        let (read, _) = samples(&extensible).unwrap_or_else(|error| panic!("extensible {name}: {error}"));
        close(&read, slack, name);
    }
}

#[test]
fn chunks_of_others_before_and_after_the_sound_are_passed_over() {
    let (_, tag, bits, data, slack) = codings().remove(1);
    let (format, sound) = (chunk(b"fmt ", &fmt(tag, bits, 1, 16_000)), chunk(b"data", &data));
    let list = chunk(b"LIST", b"INFOISFT\x07\0\0\0a title");
    let forgotten = chunk(b"JUNK", b"odd")[..11].to_vec();
    for chunks in [
        vec![forgotten.clone(), format.clone(), forgotten, sound.clone()],
        vec![list.clone(), format.clone(), sound.clone()],
        vec![format.clone(), chunk(b"fact", &[8, 0, 0, 0]), list.clone(), sound.clone()],
        vec![format.clone(), sound.clone(), list.clone(), chunk(b"id3 ", &[7; 99])],
    ] {
        let file = wav(&chunks);
        close(&samples(&file).unwrap().0, slack, "with other chunks");
        assert_eq!(measure(&file, None).unwrap().1.frames, VALUES.len() as u64, "measured as decoded");
    }
}

#[test]
fn a_length_that_cannot_be_true_means_until_the_end() {
    let (_, tag, bits, data, slack) = codings().remove(1);
    let whole = wav(&[chunk(b"fmt ", &fmt(tag, bits, 1, 16_000)), chunk(b"data", &data)]);
    for length in [0, u32::MAX] {
        let mut streamed = whole.clone();
        streamed[40..44].copy_from_slice(&u32::to_le_bytes(length));
        close(&samples(&streamed).unwrap().0, slack, &format!("length {length}"));
    }
    let mut lying = whole;
    lying[40..44].copy_from_slice(&9_000u32.to_le_bytes());
    assert!(matches!(samples(&lying), Err(AudioError::Truncated { .. })), "it promises more than it holds");
}

#[test]
fn every_cut_of_a_header_is_told_as_torn_and_never_as_sound() {
    let (_, tag, bits, data, _) = codings().remove(1);
    let file = wav(&[chunk(b"fmt ", &fmt(tag, bits, 1, 16_000)), chunk(b"data", &data)]);
    for cut in 0..44 {
        assert!(samples(&file[..cut]).is_err(), "{cut} bytes of header");
        assert!(measure(&file[..cut], Some(Format::new(Codec::Wav, 16_000))).is_err(), "{cut} bytes measured");
    }
}

#[test]
fn odd_numbers_of_bits_stand_at_the_top_of_whole_bytes() {
    for (bits, frame, step) in [(12_u16, 2_u16, 16_i32), (20, 3, 16), (9, 2, 128)] {
        let mut format = fmt(1, bits, 1, 16_000);
        format[8..12].copy_from_slice(&(16_000 * u32::from(frame)).to_le_bytes());
        format[12..14].copy_from_slice(&frame.to_le_bytes());
        let full = 1_i32 << (8 * frame - 1);
        let body: Vec<u8> = VALUES
            .iter()
            .flat_map(|value| {
                (((value * full as f32) as i32) / step * step).to_le_bytes()[..usize::from(frame)].to_vec()
            })
            .collect();
        let (read, _) = samples(&wav(&[chunk(b"fmt ", &format), chunk(b"data", &body)])).unwrap();
        close(&read, 0.004, &format!("{bits} bits"));
    }
}

#[test]
fn absurd_headers_are_refused_in_words() {
    let sound = chunk(b"data", &[0; 16]);
    for (name, format, said) in [
        ("no channels", fmt(1, 16, 0, 16_000), "0 channels"),
        ("a rate of nothing", fmt(1, 16, 1, 0), "0 Hz"),
        ("twelve bits", fmt(1, 12, 1, 16_000), "coding 1 of 12 bits"),
        ("a coding of its own", fmt(0x0055, 16, 1, 16_000), "coding 85"),
        ("half a format", fmt(1, 16, 1, 16_000)[..10].to_vec(), "fmt chunk is too short"),
    ] {
        let error = samples(&wav(&[chunk(b"fmt ", &format), sound.clone()])).unwrap_err();
        assert!(error.to_string().contains(said), "{name}: {error}");
    }
    assert!(samples(&wav(&[sound])).is_err(), "data before any format");
}

#[test]
fn not_a_number_and_beyond_full_scale_come_out_within_it() {
    let odd = [f32::NAN, f32::INFINITY, f32::NEG_INFINITY, 7.5, -7.5, 0.5];
    let data: Vec<u8> = odd.iter().flat_map(|value| value.to_le_bytes()).collect();
    let file = wav(&[chunk(b"fmt ", &fmt(3, 32, 1, 16_000)), chunk(b"data", &data)]);
    let mut transcoder = Transcoder::new(Format::new(Codec::Wav, 16_000), Format::new(Codec::Pcm, 16_000)).unwrap();
    let mut out = transcoder.push(&Bytes::from(file)).unwrap().to_vec();
    out.extend(transcoder.finish().unwrap());
    let values: Vec<i16> = out.chunks_exact(2).map(|pair| i16::from_le_bytes([pair[0], pair[1]])).collect();
    assert_eq!(values[..3], [0, 0, 0], "what is no number is silence");
    assert!(values[3] >= 32_766 && values[4] <= -32_767, "{values:?}");
    assert!((i32::from(values[5]) - 16_384).abs() <= 1);
}

#[test]
fn a_header_for_a_stream_is_mended_once_the_length_is_known_and_no_other_is_touched() {
    let layout = Layout { rate: 22_050, channels: 1 };
    let mut streamed = [wav_header(layout, None).to_vec(), vec![0; 100]].concat();
    let length = streamed.len() as u64;
    assert!(mend_wav_lengths(&mut streamed, length));
    assert_eq!(streamed[..44], wav_header(layout, Some(100))[..]);
    assert!(!mend_wav_lengths(&mut streamed, length), "it is right now");
    let mut other = b"RIFF not a wave of ours, but long enough to be looked at".to_vec();
    let before = other.clone();
    assert!(!mend_wav_lengths(&mut other, 56) && other == before);
}

#[test]
fn an_mp3_is_found_behind_its_tag_and_measured_as_it_decodes() {
    let tone: Vec<f32> = (0..24_000).map(|n| 0.3 * (n as f32 * 0.05).sin()).collect();
    let format = Format { bitrate: Some(64_000), ..Format::new(Codec::Mp3, 24_000) };
    let bare = encode_all(&tone, format).unwrap();
    // An ID3v2 tag of 200 bytes (its length is written in sevens), and one of the older kind behind.
    let tag = [b"ID3\x04\0\0\0\0\x01\x48".as_slice(), &[0; 200]].concat();
    let trailer = [b"TAG".as_slice(), &[b' '; 125]].concat();
    let tagged = [tag, bare.clone(), trailer].concat();
    assert_eq!(sniff(&tagged), Some(Codec::Mp3));
    let (plain, _) = decode_all(&bare, format).unwrap();
    let (read, layout) = decode_all(&tagged, format).unwrap();
    assert_eq!((read.len(), layout.rate), (plain.len(), 24_000));
    assert_eq!(measure(&tagged, None).unwrap().1.frames, plain.len() as u64);
    let mut meter = Meter::new(format).unwrap();
    meter.push(&tagged).unwrap();
    meter.finish().unwrap();
    assert_eq!(meter.layout(), Some(layout), "what stands behind the last frame makes it forget nothing");
}

#[test]
fn opus_comes_back_to_the_frame_and_its_level_is_kept() {
    for (rate, frames) in [(8_000, 8_000), (24_000, 24_001), (48_000, 47_999)] {
        let tone: Vec<f32> = (0..frames).map(|n| 0.3 * (n as f32 * 2_000.0 / rate as f32).sin()).collect();
        let format = Format::new(Codec::OggOpus, rate);
        let audio = encode_all(&tone, format).unwrap();
        let (read, layout) = decode_all(&audio, format).unwrap();
        let expected = frames as usize * 48_000 / rate as usize;
        assert!(read.len().abs_diff(expected) <= 6, "{rate}: {} frames, not {expected}", read.len());
        assert_eq!(layout.rate, 48_000, "Opus is decoded at its own rate");
        let level = |samples: &[f32]| (samples.iter().map(|s| s * s).sum::<f32>() / samples.len() as f32).sqrt();
        let (before, after) = (level(&tone), level(&read));
        assert!((20.0 * (after / before).log10()).abs() < 0.5, "{rate}: {before} became {after}");
    }
}

#[test]
fn absurd_floats_are_survived_by_every_filter() {
    let mut wav = b"RIFF\xFF\xFF\xFF\xFFWAVEfmt \x10\0\0\0\x03\0\x01\0".to_vec();
    wav.extend_from_slice(&16_000u32.to_le_bytes());
    wav.extend_from_slice(&64_000u32.to_le_bytes());
    wav.extend_from_slice(b"\x04\0\x20\0data\xFF\xFF\xFF\xFF");
    let absurd = [f32::MAX, f32::MIN, f32::NAN, f32::INFINITY, 1e30, -1e30, 0.5];
    wav.extend(absurd.iter().cycle().take(16_000).flat_map(|sample| sample.to_le_bytes()));
    for to in [Format::new(Codec::Pcm, 24_000), Format::new(Codec::Mp3, 16_000), Format::new(Codec::OggOpus, 48_000)] {
        let mut transcoder = Transcoder::new(Format::new(Codec::Wav, 16_000), to).unwrap();
        let first = transcoder.push(&bytes::Bytes::from(wav.clone())).unwrap();
        let rest = transcoder.finish().unwrap();
        assert!(first.len() + rest.len() > 1_000, "{to:?}");
        assert!((transcoder.length().seconds() - 1.0).abs() < 1e-3, "{to:?}");
    }
}
