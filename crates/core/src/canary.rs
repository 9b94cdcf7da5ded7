//! Canaries: sentences that a voice speaks now and then, so that somebody
//! notices when it begins to sound otherwise. What a canary is, and what
//! counts as a change, is here; speaking, measuring and keeping are not.

use std::fmt;

use serde::{Deserialize, Serialize};

use crate::{VoiceId, is_record_name};

/// Characters of a sentence.
const LONGEST_TEXT: usize = 200;
/// Minutes between two runs: from five minutes to thirty days.
const INTERVALS: std::ops::RangeInclusive<u64> = 5..=43_200;

/// Share of the duration by which a voice may differ from itself: engines that
/// shape each utterance anew differ by a twentieth.
const DURATION: f64 = 0.15;
/// Loudness units by which it may (EBU R 128 calls 1 LU barely noticed).
const LOUDNESS: f64 = 3.0;
/// Semitones by which its pitch may.
const PITCH: f64 = 2.0;
/// Share of the words that may be misheard beyond what was at first. A word that
/// is missing is a change by itself: engines that break off lose few of many.
const WORDS: f64 = 0.15;

/// A sentence that a voice speaks at intervals.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Canary {
    /// 1 to 40 small letters, digits and hyphens.
    pub name: String,
    /// `engine/voice`.
    pub voice: String,
    /// What is spoken: 1 to 200 characters.
    pub text: String,
    /// The app that pays.
    pub app: String,
    /// BCP 47 tag of the text, where the voice speaks several languages.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub language: Option<String>,
    /// The engine or route that recognises it; without one, words are not compared.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ear: Option<String>,
    /// Minutes between two runs: 5 to 43 200.
    pub every: u64,
}

/// What can be wrong with a canary.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum CanaryError {
    /// The name has other characters than names may have.
    #[error("the name of a canary is 1 to 40 small letters, digits and hyphens, not '{0}'")]
    Name(String),
    /// A route or criteria would speak with another voice some day.
    #[error("a canary is about one voice, as engine/voice, not '{0}'")]
    Voice(String),
    /// Nothing to speak, or too much.
    #[error("the text of a canary has 1 to {LONGEST_TEXT} characters, not {0}")]
    Text(usize),
    /// Too often, or never.
    #[error("a canary runs every {} to {} minutes, not {}", INTERVALS.start(), INTERVALS.end(), .0)]
    Interval(u64),
}

impl Canary {
    /// Refuses what could never run.
    pub fn check(&self) -> Result<(), CanaryError> {
        if !is_record_name(&self.name) {
            return Err(CanaryError::Name(self.name.clone()));
        }
        if self.voice.parse::<VoiceId>().is_err() {
            return Err(CanaryError::Voice(self.voice.clone()));
        }
        let characters = self.text.chars().count();
        if self.text.trim().is_empty() || characters > LONGEST_TEXT {
            return Err(CanaryError::Text(characters));
        }
        match INTERVALS.contains(&self.every) {
            true => Ok(()),
            false => Err(CanaryError::Interval(self.every)),
        }
    }
}

/// How a voice spoke a sentence.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct VoiceMeasures {
    /// Seconds of audio.
    pub seconds: f64,
    /// Integrated loudness in LUFS; `None` for silence.
    pub loudness: Option<f64>,
    /// Median fundamental frequency in hertz; `None` where nothing is voiced.
    pub pitch: Option<f64>,
    /// Word error rate of what was recognised, 0 and above; `None` where
    /// nobody listened.
    pub errors: Option<f64>,
    /// Words of the text that were not recognised at all.
    pub missing: usize,
}

/// In what a voice can change.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum VoiceTrait {
    /// Seconds of audio.
    Duration,
    /// LUFS.
    Loudness,
    /// Hertz.
    Pitch,
    /// Word error rate.
    Words,
}

impl VoiceTrait {
    /// The word in answers.
    pub fn name(self) -> &'static str {
        match self {
            VoiceTrait::Duration => "duration",
            VoiceTrait::Loudness => "loudness",
            VoiceTrait::Pitch => "pitch",
            VoiceTrait::Words => "words",
        }
    }
}

/// A change that is more than chance.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Departure {
    /// In what.
    pub of: VoiceTrait,
    /// The measure of the reference; `None` where it had none.
    pub was: Option<f64>,
    /// The measure now.
    pub is: Option<f64>,
}

impl VoiceMeasures {
    /// In what it differs from a reference, in the order duration, loudness, pitch, words.
    pub fn departures(&self, was: &VoiceMeasures) -> Vec<Departure> {
        let ratio = |was: f64, is: f64| if was > 0.0 { is / was } else { f64::INFINITY };
        let duration = |was, is| (ratio(was, is) - 1.0).abs() > DURATION;
        let loudness = |was: f64, is: f64| (is - was).abs() > LOUDNESS;
        let pitch = |was, is| (12.0 * ratio(was, is).log2()).abs() > PITCH;
        let compared = [
            departure(VoiceTrait::Duration, Some(was.seconds), Some(self.seconds), duration),
            departure(VoiceTrait::Loudness, was.loudness, self.loudness, loudness),
            departure(VoiceTrait::Pitch, was.pitch, self.pitch, pitch),
            // Where nobody listened, nothing is known.
            was.errors.zip(self.errors).and_then(|(before, now)| {
                let words = |before, now| now - before > WORDS || self.missing > was.missing;
                departure(VoiceTrait::Words, Some(before), Some(now), words)
            }),
        ];
        compared.into_iter().flatten().collect()
    }
}

fn departure(
    of: VoiceTrait,
    was: Option<f64>,
    is: Option<f64>,
    differ: impl Fn(f64, f64) -> bool,
) -> Option<Departure> {
    let differs = match (was, is) {
        (Some(was), Some(is)) => differ(was, is),
        (was, is) => was.is_some() != is.is_some(),
    };
    differs.then_some(Departure { of, was, is })
}

impl fmt::Display for Departure {
    /// As `31 % longer (2.10 s, was 1.60 s)`.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let (Some(was), Some(is)) = (self.was, self.is) else {
            let (found, name) = (if self.is.is_some() { "found now" } else { "not found any more" }, self.of.name());
            return write!(f, "{name} {found}");
        };
        let word = |more: &'static str, less: &'static str| if is > was { more } else { less };
        match self.of {
            VoiceTrait::Duration => {
                let percent = ((is / was - 1.0) * 100.0).abs();
                write!(f, "{percent:.0} % {} ({is:.2} s, was {was:.2} s)", word("longer", "shorter"))
            }
            VoiceTrait::Loudness => {
                let units = (is - was).abs();
                write!(f, "{units:.1} LU {} ({is:.1} LUFS, was {was:.1} LUFS)", word("louder", "quieter"))
            }
            VoiceTrait::Pitch => {
                let semitones = (12.0 * (is / was).log2()).abs();
                write!(f, "{semitones:.1} semitones {} ({is:.0} Hz, was {was:.0} Hz)", word("higher", "lower"))
            }
            VoiceTrait::Words => {
                write!(f, "{:.0} % of the words misheard or missing, were {:.0} %", is * 100.0, was * 100.0)
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const WAS: VoiceMeasures =
        VoiceMeasures { seconds: 2.0, loudness: Some(-20.0), pitch: Some(110.0), errors: Some(0.1), missing: 0 };

    fn told(is: VoiceMeasures) -> Vec<String> {
        is.departures(&WAS).iter().map(Departure::to_string).collect()
    }

    #[test]
    fn small_differences_are_chance_and_large_ones_are_told_with_their_amount() {
        let near =
            VoiceMeasures { seconds: 2.28, loudness: Some(-22.9), pitch: Some(122.0), errors: Some(0.24), missing: 0 };
        assert_eq!(told(near), Vec::<String>::new());
        assert_eq!(told(VoiceMeasures { errors: Some(0.0), ..WAS }), Vec::<String>::new(), "better is no change");
        let swallowed = VoiceMeasures { errors: Some(0.2), missing: 1, ..WAS };
        assert_eq!(told(swallowed), ["20 % of the words misheard or missing, were 10 %"], "one word of many");
        assert_eq!(swallowed.departures(&VoiceMeasures { missing: 1, ..WAS }), [], "it was missing before");
        let far =
            VoiceMeasures { seconds: 1.5, loudness: Some(-26.0), pitch: Some(165.0), errors: Some(0.5), missing: 1 };
        assert_eq!(
            told(far),
            [
                "25 % shorter (1.50 s, was 2.00 s)",
                "6.0 LU quieter (-26.0 LUFS, was -20.0 LUFS)",
                "7.0 semitones higher (165 Hz, was 110 Hz)",
                "50 % of the words misheard or missing, were 10 %",
            ]
        );
    }

    #[test]
    fn silence_and_a_voice_without_pitch_are_changes_and_an_absent_ear_is_none() {
        let silent = VoiceMeasures { seconds: 2.0, loudness: None, pitch: None, errors: None, missing: 0 };
        assert_eq!(told(silent), ["loudness not found any more", "pitch not found any more"]);
        assert_eq!(WAS.departures(&VoiceMeasures { pitch: None, ..WAS })[0].to_string(), "pitch found now");
        assert_eq!(WAS.departures(&VoiceMeasures { seconds: 0.0, ..WAS }).len(), 1, "from nothing");
    }

    #[test]
    fn what_could_never_run_is_refused() {
        let canary = |voice: &str, text: &str, every| Canary {
            name: "pier".into(),
            voice: voice.into(),
            text: text.into(),
            app: "demo".into(),
            language: None,
            ear: None,
            every,
        };
        let said = |canary: Canary| canary.check().map_err(|error| error.to_string());
        assert_eq!(said(canary("heron/pellin", "Land ahoy.", 5)), Ok(()));
        assert_eq!(
            said(canary("quayside", "Land ahoy.", 60)),
            Err("a canary is about one voice, as engine/voice, not 'quayside'".into())
        );
        assert_eq!(
            said(canary("heron/pellin", " ", 60)),
            Err("the text of a canary has 1 to 200 characters, not 1".into())
        );
        assert_eq!(
            said(canary("heron/pellin", "é".repeat(201).as_str(), 60)).map_err(|e| e.ends_with("not 201")),
            Err(true)
        );
        assert_eq!(
            said(canary("heron/pellin", "Ahoy.", 4)),
            Err("a canary runs every 5 to 43200 minutes, not 4".into())
        );
        let named = Canary { name: "The pier".into(), ..canary("heron/pellin", "Ahoy.", 60) };
        assert!(said(named).is_err_and(|error| error.contains("'The pier'")));
    }
}
