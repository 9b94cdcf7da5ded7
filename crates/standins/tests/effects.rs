//! Tone speech proves by content what effects leave of speech.
#![allow(clippy::unwrap_used, reason = "a test that cannot set up its case has failed")]

use bytes::Bytes;
use dispatcher_audio::{Codec, Effects, Format, Options, Transcoder, decode_all};
use dispatcher_standins::tone::{Heard, Manner, hear, pcm_bytes, speak};

const TEXT: &str = "The 06:15 to Gullsay is delayed by twenty minutes.";
const RATE: u32 = 24_000;

fn after(effects: Effects) -> Vec<Heard> {
    let format = Format::new(Codec::Pcm, RATE);
    let samples = speak(TEXT, Manner { pitch: 1.0, rate: 1.0 }, RATE);
    let bytes: Vec<u8> = pcm_bytes(&samples);
    let mut transcoder = Transcoder::with(format, format, Options { effects, ..Options::default() }).unwrap();
    let mut out = Vec::new();
    for piece in bytes.chunks(3_000) {
        out.extend(transcoder.push(&Bytes::copy_from_slice(piece)).unwrap());
    }
    out.extend(transcoder.finish().unwrap());
    let (samples, layout) = decode_all(&out, format).unwrap();
    hear(&samples, layout.rate)
}

#[test]
fn words_survive_every_tempo_and_the_pitch_stays() {
    let plain = after(Effects { gain: Some(0.0), ..Effects::default() });
    for speed in [0.7, 0.85, 1.2, 1.4] {
        let heard = after(Effects { speed: Some(speed), ..Effects::default() });
        assert_eq!(heard.len(), 1, "{speed}");
        assert!(heard[0].complete && heard[0].text == TEXT, "{speed}: {}", heard[0].text);
        assert!((heard[0].pitch / plain[0].pitch - 1.0).abs() < 0.01, "{speed}: pitch {}", heard[0].pitch);
        let (long, short) = (plain[0].words.last().unwrap().end, heard[0].words.last().unwrap().end);
        assert!((long / short / speed - 1.0).abs() < 0.03, "{speed}: {long} s became {short} s");
    }
}

#[test]
fn words_survive_a_change_of_pitch_and_the_tempo_stays() {
    let plain = after(Effects { gain: Some(0.0), ..Effects::default() });
    for semitones in [-3.0, 2.0, 3.5] {
        let heard = after(Effects { pitch: Some(semitones), ..Effects::default() });
        assert!(heard[0].complete && heard[0].text == TEXT, "{semitones}: {}", heard[0].text);
        let factor = 2f64.powf(semitones / 12.0);
        assert!((heard[0].pitch / plain[0].pitch / factor - 1.0).abs() < 0.01, "{semitones}: pitch {}", heard[0].pitch);
        let (before, now) = (plain[0].words.last().unwrap().end, heard[0].words.last().unwrap().end);
        assert!((before / now - 1.0).abs() < 0.03, "{semitones}: {before} s became {now} s");
    }
}
