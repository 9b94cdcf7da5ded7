//! Tone speech: an audible code that proves which text a recording holds.
//!
//! A UTF-8 byte is a pair of simultaneous tones; two consecutive pairs are
//! never equal, so that the listener needs no clock. A third tone, the pilot,
//! begins each word. A preamble of single tones gives pitch and rate, and a
//! check sum at the end tells whether anything was lost.

mod hear;
mod probe;
mod speak;

pub use hear::{Heard, HeardWord, hear};
pub use speak::{Manner, Speaker, speak};

/// Preamble tones in hertz at pitch 1.
const PREAMBLE: [f64; 3] = [800.0, 2_300.0, 1_300.0];
/// The tone that begins a word, in hertz at pitch 1.
const PILOT: f64 = 1_492.0;
/// Seconds of a symbol at rate 1.
const SYMBOL: f64 = 0.060;
/// Seconds of a preamble tone at rate 1.
const PREAMBLE_TONE: f64 = 0.080;
/// Seconds of a pause between words at rate 1.
const PAUSE: f64 = 0.080;
/// Seconds of silence behind the preamble at rate 1.
const AFTER_PREAMBLE: f64 = 0.040;
/// Stands for "the same byte again"; never a byte of UTF-8.
const REPEAT: u8 = 0xFF;
/// Ends the text; never a byte of UTF-8.
const END: u8 = 0xFE;

/// The tone of a high nibble, in hertz at pitch 1.
fn low_tone(nibble: u8) -> f64 {
    385.0 + 66.0 * f64::from(nibble)
}

/// The tone of a low nibble, in hertz at pitch 1.
fn high_tone(nibble: u8) -> f64 {
    1_610.0 + 66.0 * f64::from(nibble)
}

/// Samples between -1 and 1 as 16-bit little-endian PCM.
///
/// Apart from the async functions that send it: those are compiled in the
/// program that runs them, which for tests is without optimisation.
pub fn pcm_bytes(samples: &[f32]) -> Vec<u8> {
    samples.iter().flat_map(|sample| ((sample * 32_767.0) as i16).to_le_bytes()).collect()
}

/// CRC-16/CCITT-FALSE.
fn check_sum(data: &[u8]) -> u16 {
    data.iter().fold(0xFFFF, |crc, byte| {
        (0..8).fold(
            crc ^ (u16::from(*byte) << 8),
            |crc, _| if crc & 0x8000 != 0 { (crc << 1) ^ 0x1021 } else { crc << 1 },
        )
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    const TEXTS: [&str; 7] = [
        "The 06:15 to Gullsay is delayed by twenty minutes.",
        "A partida das 6h15 para Gullsay está atrasada vinte minutos.",
        "تأخرت عبارة السادسة والربع عشرين دقيقة",
        "六時十五分の便は二十分遅れています",
        "aaaa bookkeeper  double  space ",
        "⛴ 12 °C",
        "x",
    ];

    fn manner(pitch: f64, rate: f64) -> Manner {
        Manner { pitch, rate }
    }

    #[test]
    fn every_text_comes_back_exactly_at_every_pitch_and_rate() {
        for text in TEXTS {
            for (pitch, rate) in [(1.0, 1.0), (0.8, 1.0), (1.25, 1.5), (0.88, 2.0), (1.0, 0.5)] {
                let samples = speak(text, manner(pitch, rate), 24_000);
                let heard = hear(&samples, 24_000);
                assert_eq!(heard.len(), 1, "{text} at {pitch}, {rate}");
                assert_eq!(heard[0].text, text, "at {pitch}, {rate}");
                assert!(heard[0].complete, "{text} at {pitch}, {rate}");
                assert!((heard[0].pitch / pitch - 1.0).abs() < 0.005, "pitch {} for {pitch}", heard[0].pitch);
            }
        }
    }

    #[test]
    fn every_sample_rate_will_do() {
        for rate in [8_000, 11_025, 16_000, 22_050, 44_100, 48_000] {
            let heard = hear(&speak(TEXTS[0], manner(1.0, 1.5), rate), rate);
            assert_eq!((heard[0].text.as_str(), heard[0].complete), (TEXTS[0], true), "{rate} Hz");
        }
    }

    #[test]
    fn codecs_on_the_way_do_no_harm() {
        use dispatcher_audio::{Codec, Format, decode_all, encode_all};
        for (codec, rate) in
            [(Codec::Mp3, 24_000), (Codec::OggOpus, 24_000), (Codec::Mulaw, 8_000), (Codec::Wav, 16_000)]
        {
            for text in TEXTS {
                let format = Format::new(codec, rate);
                let coded = encode_all(&speak(text, manner(1.06, 1.5), rate), format).expect("encodes");
                let (samples, layout) = decode_all(&coded, format).expect("decodes");
                let heard = hear(&samples, layout.rate);
                assert_eq!((heard[0].text.as_str(), heard[0].complete), (text, true), "{codec}");
            }
        }
    }

    #[test]
    fn silence_cut_in_anywhere_changes_nothing_and_loss_is_noticed() {
        let samples = speak(TEXTS[0], manner(1.0, 1.0), 16_000);
        for share in [3, 5, 7] {
            let at = samples.len() * share / 9;
            let gap = [&samples[..at], &vec![0.0; 12_000], &samples[at..]].concat();
            let heard = hear(&gap, 16_000);
            assert_eq!((heard[0].text.as_str(), heard[0].complete), (TEXTS[0], true), "gap at {share}/9");
            let lost = [&samples[..at], &samples[at + 2_400..]].concat();
            assert!(!hear(&lost, 16_000)[0].complete, "150 ms lost at {share}/9");
            let cut = hear(&samples[..at], 16_000);
            assert!(TEXTS[0].starts_with(cut[0].text.trim_end_matches('\u{FFFD}')) && !cut[0].complete);
        }
    }

    #[test]
    fn two_voices_in_one_recording_are_two_utterances() {
        let both = [speak("Left", manner(0.9, 1.0), 24_000), speak("Right", manner(1.1, 1.5), 24_000)].concat();
        let heard = hear(&both, 24_000);
        assert_eq!(heard.iter().map(|h| h.text.as_str()).collect::<Vec<_>>(), ["Left", "Right"]);
        assert!(heard[0].pitch < 0.95 && heard[1].pitch > 1.05);
    }

    #[test]
    fn words_have_their_times() {
        let heard = hear(&speak("ab cd", manner(1.0, 1.0), 24_000), 24_000);
        let words = &heard[0].words;
        // Preamble 240 ms, silence 40 ms, two symbols, pause, two symbols.
        let times: Vec<f64> = words.iter().flat_map(|w| [w.start, w.end]).collect();
        for (found, wanted) in times.iter().zip([0.28, 0.40, 0.48, 0.60]) {
            assert!((found - wanted).abs() < 0.01, "{times:?}");
        }
        assert!(words.iter().all(|word| word.confidence > 0.9));
    }

    #[test]
    fn ordinary_sound_is_not_taken_for_speech() {
        let hum: Vec<f32> = (0..24_000).map(|n| (n as f32 * 0.05).sin() * 0.3).collect();
        assert!(hear(&hum, 24_000).is_empty());
        assert!(hear(&[0.0; 24_000], 24_000).is_empty() && hear(&[], 24_000).is_empty());
    }
}
