//! Pieces that overlap, and speakers of different loudness.

use bytes::Bytes;
use dispatcher_audio::{Codec, Format, Joiner, Joint, Layout, LoudnessMeter, Tags};

const RATE: u32 = 16_000;

fn tone(hertz: f32, seconds: f32, level: f32) -> Vec<f32> {
    let frames = (RATE as f32 * seconds) as usize;
    (0..frames).map(|n| level * (std::f32::consts::TAU * hertz * n as f32 / RATE as f32).sin()).collect()
}

fn bytes(samples: &[f32]) -> Bytes {
    samples.iter().flat_map(|sample| ((sample * 32_767.0).round() as i16).to_le_bytes()).collect::<Vec<u8>>().into()
}

fn samples(bytes: &[u8]) -> Vec<f32> {
    bytes.chunks_exact(2).map(|pair| f32::from(i16::from_le_bytes([pair[0], pair[1]])) / 32_767.0).collect()
}

/// The pieces joined, each pushed in small parts.
fn joined(pieces: &[(Vec<f32>, Joint)]) -> Vec<f32> {
    let format = Format::new(Codec::Pcm, RATE);
    let mut joiner = Joiner::new(format, Tags::default()).unwrap();
    let mut out = Vec::new();
    for (piece, joint) in pieces {
        joiner.begin(format, *joint).unwrap();
        for part in bytes(piece).chunks(700) {
            out.extend(joiner.push(&Bytes::copy_from_slice(part)).unwrap());
        }
        out.extend(joiner.end().unwrap());
    }
    out.extend(joiner.finish().unwrap());
    assert_eq!(joiner.length().frames as usize * 2, out.len());
    samples(&out)
}

fn loudness(samples: &[f32]) -> f64 {
    let mut meter = LoudnessMeter::new(Layout { rate: RATE, channels: 1 }).unwrap();
    meter.push(samples).unwrap();
    meter.finish().unwrap().integrated
}

#[test]
fn pieces_overlap_to_the_sample() {
    let (first, second) = (tone(400.0, 1.0, 0.3), tone(700.0, 0.5, 0.2));
    let hold = Joint { hold: 0.25, ..Joint::default() };
    let over = Joint { overlap: 0.25, ..Joint::default() };
    let out = joined(&[(first.clone(), hold), (second.clone(), over)]);
    assert_eq!(out.len(), first.len() + second.len() - 4_000);
    for (at, sample) in out.iter().enumerate() {
        let one = first.get(at).copied().unwrap_or(0.0);
        let other = at.checked_sub(12_000).and_then(|at| second.get(at)).copied().unwrap_or(0.0);
        assert!((sample - one - other).abs() < 2e-4, "sample {at}: {sample} is not {one} and {other}");
    }
}

#[test]
fn a_short_piece_lies_within_the_long_one_and_a_short_one_is_overlapped_whole() {
    let (long, short) = (tone(400.0, 1.0, 0.3), tone(700.0, 0.1, 0.2));
    let hold = Joint { hold: 0.5, ..Joint::default() };
    let over = Joint { overlap: 0.5, ..Joint::default() };
    let out = joined(&[(long.clone(), hold), (short.clone(), over), (short.clone(), Joint::default())]);
    assert_eq!(out.len(), long.len() + short.len(), "the short one ends before the long one");
    assert!((out[8_100] - long[8_100] - short[100]).abs() < 2e-4);
    assert!((out[12_000] - long[12_000]).abs() < 2e-4);
    let out = joined(&[(short.clone(), hold), (long.clone(), over)]);
    assert_eq!(out.len(), long.len(), "no more than all of it overlaps");
}

#[test]
fn speakers_are_brought_to_the_loudness_of_the_first() {
    let by = |speaker, asked| Joint { speaker: Some(speaker), asked, ..Joint::default() };
    let (loud, quiet) = (tone(600.0, 2.0, 0.25), tone(600.0, 5.0, 0.05));
    let out = joined(&[(loud.clone(), by(0, 0.0)), (quiet.clone(), by(1, 0.0)), (quiet.clone(), by(1, 0.0))]);
    assert_eq!(out.len(), loud.len() + 2 * quiet.len());
    let level = |samples: &[f32]| loudness(samples) - loudness(&loud);
    let (start, rest) = out.split_at(loud.len());
    assert!(level(start).abs() < 0.01, "the first stays as it is");
    // 12 dB at the most, of the 14 that it is too quiet.
    assert!((level(rest) + 1.98).abs() < 0.05, "{} dB beside the first", level(rest));
    let steps = |samples: &[f32]| samples.windows(2).map(|pair| (pair[1] - pair[0]).abs()).fold(0.0, f32::max);
    assert!(steps(rest) < 1.05 * 4.0 * steps(&quiet), "no step where its level becomes known");

    // What is asked for stays: half as loud is half as loud.
    let half = tone(600.0, 4.0, 0.025);
    let out = joined(&[(loud.clone(), by(0, 0.0)), (half, by(1, -6.02)), (quiet, by(1, 0.0))]);
    let part = &out[loud.len()..loud.len() + 64_000];
    assert!((level(part) + 1.98 + 6.02).abs() < 0.1, "{}", level(part));
    // A small difference is left alone, and sound of nobody too.
    let near = tone(600.0, 4.0, 0.24);
    let out = joined(&[(loud.clone(), by(0, 0.0)), (near.clone(), by(1, 0.0))]);
    assert!((loudness(&out[loud.len()..]) - loudness(&near)).abs() < 0.01);
    // A decibel is not: whoever goes on for another is as loud.
    let out = joined(&[(loud.clone(), by(0, 0.0)), (tone(600.0, 4.0, 0.22), by(1, 0.0))]);
    assert!(level(&out[loud.len()..]).abs() < 0.05, "{}", level(&out[loud.len()..]));
}

#[test]
fn a_piece_that_came_to_nothing_leaves_nothing_behind() {
    let format = Format::new(Codec::Pcm, RATE);
    let mut joiner = Joiner::new(format, Tags::default()).unwrap();
    let (first, lost, second) = (tone(400.0, 1.0, 0.3), tone(900.0, 1.0, 0.05), tone(700.0, 4.0, 0.3));
    let mut out = Vec::new();
    joiner.begin(format, Joint { hold: 0.25, speaker: Some(0), ..Joint::default() }).unwrap();
    out.extend(joiner.push(&bytes(&first)).unwrap());
    assert!(joiner.has_begun());
    out.extend(joiner.end().unwrap());
    // Another speaker breaks off while it is still listened to.
    let over = Joint { overlap: 0.25, speaker: Some(1), ..Joint::default() };
    joiner.begin(format, over).unwrap();
    assert!(joiner.push(&bytes(&lost)).unwrap().is_empty() && !joiner.has_begun());
    joiner.begin(format, Joint { speaker: Some(2), ..over }).unwrap();
    out.extend(joiner.push(&bytes(&second)).unwrap());
    out.extend(joiner.end().unwrap());
    out.extend(joiner.finish().unwrap());
    let out = samples(&out);
    assert_eq!(out.len(), first.len() + second.len() - 4_000, "nothing of the one that was lost, all of the others");
    assert!((out[13_000] - first[13_000] - second[1_000]).abs() < 2e-4, "and they overlap as they were to");
    assert!((out[20_000] - second[8_000]).abs() < 2e-4);
}

#[test]
fn a_piece_that_is_cut_off_fades_out_and_another_begins_behind_it() {
    let format = Format::new(Codec::Pcm, RATE);
    let mut joiner = Joiner::new(format, Tags::default()).unwrap();
    let (torn, next) = (vec![0.5_f32; 4_000], tone(700.0, 0.5, 0.2));
    joiner.begin(format, Joint::default()).unwrap();
    let mut out = joiner.push(&bytes(&torn)).unwrap().to_vec();
    assert!(joiner.has_begun());
    out.extend(joiner.cut().unwrap());
    assert!(!joiner.has_begun(), "another may begin");
    let at = out.len() / 2;
    let heard = samples(&out);
    // 5 ms from the last sample to nothing, without a jump.
    assert_eq!(at, 4_000 + 80);
    assert!(heard.windows(2).all(|pair| (pair[1] - pair[0]).abs() < 0.01), "a click");
    assert!(heard[at - 1].abs() < 1e-3);
    joiner.begin(format, Joint::default()).unwrap();
    out.extend(joiner.push(&bytes(&next)).unwrap());
    out.extend(joiner.end().unwrap());
    out.extend(joiner.finish().unwrap());
    let heard = samples(&out);
    assert_eq!(heard.len(), at + next.len());
    assert!(heard[at..].iter().zip(&next).all(|(one, other)| (one - other).abs() < 2e-4), "the next one is whole");
}
