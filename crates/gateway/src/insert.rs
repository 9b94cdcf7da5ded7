//! Inserts: a sound of the script's own in place of a call (SSML 1.1, section
//! 3.3.1): cut, repeated, faster or slower, louder or softer.

use bytes::Bytes;
use dispatcher_audio::{AudioError, Codec, Effects, Format, Options, Tags, Transcoder};
use dispatcher_markup::Sound;

use crate::InsertedSound;

/// Seconds of one clip, and of all its repeats.
const LONGEST: f64 = 600.0;
/// How much faster or slower a sound may be.
const SPEEDS: std::ops::RangeInclusive<f64> = 0.5..=2.0;
/// Bytes that go on at once.
const CHUNK: usize = 64 << 10;

/// A clip as it is heard: samples, and how many bytes of them.
pub(crate) struct Insert {
    pub(crate) format: Format,
    clip: Bytes,
    /// Bytes in all, repeats included.
    whole: usize,
    pub(crate) effects: Effects,
}

impl Insert {
    /// Cuts the clip out of its sound; nothing where nothing is left of it.
    /// This is codec work, and takes its time.
    ///
    /// # Errors
    /// When the sound cannot be decoded.
    pub(crate) fn new(wish: &Sound, sound: &InsertedSound) -> Result<Option<Insert>, AudioError> {
        let begin = wish.begin.unwrap_or(0.0);
        let end = wish.end.unwrap_or(sound.seconds).min(sound.seconds).min(begin + LONGEST);
        if end - begin <= 0.0 {
            return Ok(None);
        }
        let speed = wish.speed.clamp(*SPEEDS.start(), *SPEEDS.end());
        let format = Format { codec: Codec::Pcm, channels: sound.format.channels.clamp(1, 2), ..sound.format };
        let format = Format { bitrate: None, vbr: false, ..format };
        let effects = Effects {
            start: wish.begin.filter(|begin| *begin > 0.0),
            end: Some(end).filter(|end| *end < sound.seconds),
            ..Effects::default()
        };
        let options = Options { tags: Tags::default(), effects, ..Options::default() };
        let mut transcoder = Transcoder::with(sound.format, format, options)?;
        // Little coded sound may be long: what lies behind the clip is not decoded.
        let most = ((end - begin) * f64::from(format.rate)).ceil() as usize * 2 * usize::from(format.channels);
        let mut clip = Vec::new();
        for at in (0..sound.audio.len()).step_by(CHUNK) {
            clip.extend_from_slice(&transcoder.push(&sound.audio.slice(at..sound.audio.len().min(at + CHUNK)))?);
            if clip.len() >= most {
                break;
            }
        }
        if clip.len() < most {
            clip.extend_from_slice(&transcoder.finish()?);
        }
        clip.truncate(most);
        let frame = 2 * usize::from(format.channels);
        let frames = clip.len() / frame;
        let rate = f64::from(format.rate);
        let asked = frames as f64 * wish.count.max(0.0);
        let most = wish.duration.unwrap_or(f64::INFINITY).min(LONGEST) * speed * rate;
        let whole = asked.min(most).round() as usize * frame;
        let some = |value: f64, neutral: f64| ((value - neutral).abs() > 1e-9).then_some(value);
        let effects =
            Effects { speed: some(speed, 1.0), gain: some(wish.level.clamp(-60.0, 40.0), 0.0), ..Effects::default() };
        Ok((whole > 0).then_some(Insert { format, clip: clip.into(), whole, effects }))
    }

    /// Its bytes, in order.
    pub(crate) fn chunks(&self) -> impl Iterator<Item = Bytes> + '_ {
        let mut given = 0;
        std::iter::from_fn(move || {
            let at = given % self.clip.len();
            let some = CHUNK.min(self.clip.len() - at).min(self.whole - given);
            given += some;
            (some > 0).then(|| self.clip.slice(at..at + some))
        })
    }
}

#[cfg(test)]
mod tests {
    use dispatcher_audio::encode_all;

    use super::*;

    /// A second of a ramp at 16 kHz.
    fn ramp() -> InsertedSound {
        let samples: Vec<f32> = (0..16_000).map(|n| n as f32 / 32_000.0).collect();
        InsertedSound::new(encode_all(&samples, Format::new(Codec::Wav, 16_000)).expect("a file").into())
            .expect("a sound")
    }

    fn wish() -> Sound {
        let src = "gong.wav".into();
        Sound { src, begin: None, end: None, count: 1.0, duration: None, level: 0.0, speed: 1.0 }
    }

    fn frames(wish: &Sound) -> Option<usize> {
        let insert = Insert::new(wish, &ramp()).expect("decoded")?;
        let bytes: Vec<u8> = insert.chunks().flatten().collect();
        assert_eq!(bytes.len(), insert.whole);
        Some(bytes.len() / 2)
    }

    #[test]
    fn a_clip_is_cut_and_repeated_to_the_frame() {
        assert_eq!(frames(&wish()), Some(16_000));
        assert_eq!(frames(&Sound { begin: Some(0.25), end: Some(0.75), ..wish() }), Some(8_000));
        assert_eq!(frames(&Sound { end: Some(9.0), count: 2.5, ..wish() }), Some(40_000));
        assert_eq!(frames(&Sound { count: f64::INFINITY, duration: Some(3.5), ..wish() }), Some(56_000));
        assert_eq!(frames(&Sound { count: 2.0, duration: Some(9.0), ..wish() }), Some(32_000), "the shorter holds");
        let faster = Sound { count: f64::INFINITY, duration: Some(1.0), speed: 2.0, ..wish() };
        assert_eq!(frames(&faster), Some(32_000), "at twice the speed a second takes two");
        assert_eq!(frames(&Sound { count: 1e12, ..wish() }), Some(600 * 16_000), "and no more than ten minutes");
        assert_eq!(frames(&Sound { begin: Some(1.0), ..wish() }), None);
        assert_eq!(frames(&Sound { begin: Some(0.5), end: Some(0.5), ..wish() }), None);
    }
}
