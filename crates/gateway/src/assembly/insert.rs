//! Inserts: a sound of the script's own in place of a call (SSML 1.1, section
//! 3.3.1): cut, repeated, faster or slower, louder or softer.

use std::sync::Arc;

use bytes::Bytes;
use dispatcher_audio::{AudioError, Codec, Effects, Format, Options, Tags, Transcoder};
use dispatcher_markup::Sound;

use crate::InsertedSound;

/// Seconds of one clip, and of all its repeats.
const LONGEST: f64 = 600.0;
/// How much faster or slower a sound may be.
const SPEEDS: std::ops::RangeInclusive<f64> = 0.5..=2.0;
/// Bytes of a sound that are decoded at once: few may become many.
const STEP: usize = 4 << 10;
/// Bytes of a decoded clip that are held for its repeats.
const SHORT: usize = 512 << 10;

/// A clip as it is played, decoded as it is needed.
pub(crate) struct Insert {
    pub(crate) format: Format,
    pub(crate) effects: Effects,
    sound: Arc<InsertedSound>,
    /// Where in the audio it begins and ends.
    cut: Effects,
    /// Bytes of one clip at the most, and those still to be given, repeats included.
    most: usize,
    left: usize,
    /// The clip, where it is short; its repeats are given from here.
    short: Option<Bytes>,
    running: Option<ClipRound>,
}

/// One round of a clip.
struct ClipRound {
    transcoder: Transcoder,
    /// Bytes of the audio that were decoded, and of the clip that were given.
    at: usize,
    given: usize,
    ended: bool,
}

impl Insert {
    /// Cuts the clip out of its audio; `None` if nothing is left of it.
    /// This is codec work, and takes its time.
    ///
    /// # Errors
    /// When the audio cannot be decoded.
    pub(crate) fn new(wish: &Sound, sound: &Arc<InsertedSound>) -> Result<Option<Insert>, AudioError> {
        let begin = wish.begin.unwrap_or(0.0);
        let end = wish.end.unwrap_or(sound.seconds).min(sound.seconds).min(begin + LONGEST);
        if end - begin <= 0.0 {
            return Ok(None);
        }
        let speed = wish.speed.clamp(*SPEEDS.start(), *SPEEDS.end());
        let format = Format { codec: Codec::Pcm, channels: sound.format.channels.clamp(1, 2), ..sound.format };
        let format = Format { bitrate: None, vbr: false, ..format };
        let cut = Effects {
            start: wish.begin.filter(|begin| *begin > 0.0),
            end: Some(end).filter(|end| *end < sound.seconds),
            ..Effects::default()
        };
        let frame = 2 * usize::from(format.channels);
        let rate = f64::from(format.rate);
        let some = |value: f64, neutral: f64| ((value - neutral).abs() > 1e-9).then_some(value);
        let effects =
            Effects { speed: some(speed, 1.0), gain: some(wish.level.clamp(-60.0, 40.0), 0.0), ..Effects::default() };
        // To the frame, as the cut rounds it.
        let frames = |seconds: f64| (seconds * rate).round() as usize;
        let most = (frames(end).min(frames(sound.seconds)) - frames(begin).min(frames(end))) * frame;
        let asked = (most / frame) as f64 * wish.count.max(0.0);
        let longest = wish.duration.unwrap_or(f64::INFINITY).min(LONGEST) * speed * rate;
        let left = asked.min(longest).round() as usize * frame;
        let sound = sound.clone();
        let mut insert = Insert { format, effects, sound, cut, most, left, short: None, running: None };
        if most <= SHORT {
            let mut short = Vec::with_capacity(most);
            while let Some(bytes) = insert.decoded()? {
                short.extend_from_slice(&bytes);
            }
            insert.short = Some(short.into());
        }
        let silent = insert.short.as_ref().is_some_and(Bytes::is_empty);
        Ok((insert.left > 0 && most > 0 && !silent).then_some(insert))
    }

    /// The next bytes of the round at hand; `None` at its end, after which
    /// another one begins.
    fn decoded(&mut self) -> Result<Option<Bytes>, AudioError> {
        let running = match &mut self.running {
            Some(running) => running,
            None => {
                let options = Options { tags: Tags::default(), effects: self.cut, ..Options::default() };
                let transcoder = Transcoder::with(self.sound.format, self.format, options)?;
                self.running.insert(ClipRound { transcoder, at: 0, given: 0, ended: false })
            }
        };
        loop {
            let audio = &self.sound.audio;
            if running.ended || running.given >= self.most {
                self.running = None;
                return Ok(None);
            }
            let made = match running.at < audio.len() {
                true => {
                    let end = audio.len().min(running.at + STEP);
                    let step = audio.slice(running.at..end);
                    running.at = end;
                    running.transcoder.push(&step)?
                }
                false => {
                    running.ended = true;
                    running.transcoder.finish()?
                }
            };
            let made = made.slice(..made.len().min(self.most - running.given));
            if !made.is_empty() {
                running.given += made.len();
                return Ok(Some(made));
            }
        }
    }

    /// The next bytes, repeats included; `None` at the end. Codec work.
    ///
    /// # Errors
    /// When the audio cannot be decoded.
    pub(crate) fn next(&mut self) -> Result<Option<Bytes>, AudioError> {
        if self.left == 0 {
            return Ok(None);
        }
        let next = match &self.short {
            Some(short) => Some(short.clone()),
            None => match self.decoded()? {
                Some(bytes) => Some(bytes),
                None => self.decoded()?,
            },
        };
        let Some(next) = next else { return Ok(None) };
        let some = next.slice(..next.len().min(self.left));
        self.left -= some.len();
        Ok(Some(some))
    }
}

#[cfg(test)]
mod tests {
    use dispatcher_audio::encode_all;

    use super::*;

    /// A second of a ramp at 16 kHz.
    fn ramp() -> Arc<InsertedSound> {
        let samples: Vec<f32> = (0..16_000).map(|n| n as f32 / 32_000.0).collect();
        let sound = InsertedSound::new(encode_all(&samples, Format::new(Codec::Wav, 16_000)).expect("a file").into());
        Arc::new(sound.expect("a sound"))
    }

    fn wish() -> Sound {
        let src = "gong.wav".into();
        Sound { src, begin: None, end: None, count: 1.0, duration: None, level: 0.0, speed: 1.0 }
    }

    fn frames(wish: &Sound) -> Option<usize> {
        frames_of(wish, &ramp())
    }

    fn frames_of(wish: &Sound, sound: &Arc<InsertedSound>) -> Option<usize> {
        let mut insert = Insert::new(wish, sound).expect("decoded")?;
        let mut bytes = 0;
        while let Some(some) = insert.next().expect("decoded") {
            bytes += some.len();
        }
        Some(bytes / 2)
    }

    #[test]
    fn a_long_clip_is_decoded_anew_for_each_of_its_repeats() {
        let samples: Vec<f32> = (0..16_000 * 30).map(|n| (n % 400) as f32 / 800.0).collect();
        let sound = encode_all(&samples, Format::new(Codec::Flac, 16_000)).expect("a file");
        let sound = Arc::new(InsertedSound::new(sound.into()).expect("a sound"));
        let three = Sound { count: 2.5, ..wish() };
        let mut insert = Insert::new(&three, &sound).expect("decoded").expect("a clip");
        assert!(insert.short.is_none(), "a megabyte is not held");
        let mut made = Vec::new();
        while let Some(some) = insert.next().expect("decoded") {
            made.extend_from_slice(&some);
        }
        let once = 16_000 * 30 * 2;
        assert_eq!(made.len(), once * 5 / 2);
        assert_eq!(made[..once], made[once..2 * once], "each round is the same");
        assert_eq!(made[..once / 2], made[2 * once..]);
        let cut = Sound { begin: Some(1.5), end: Some(20.0), count: 2.0, ..wish() };
        assert_eq!(frames_of(&cut, &sound), Some(2 * 16_000 * 37 / 2));
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
