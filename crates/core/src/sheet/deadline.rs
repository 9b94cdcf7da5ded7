//! How long an engine is waited for: by a fixed time and by the size of the work.

use std::time::Duration;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::{Usage, Work};

/// Characters of a text that the fixed time is for.
const ORDINARY: u64 = 1_000;
/// Waits beyond this are no waits: an hour and more is a job of its own.
const LONGEST: f64 = 7_200.0;

/// `[synthesis.deadline]` or `[recognition.deadline]`, in seconds.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct DeadlineSpec {
    /// Until the first audio, or until the transcript (default: 30). A route and a request can set
    /// it.
    #[serde(default)]
    pub first: Option<f64>,
    /// Added for each character after the first thousand (synthesis; default: 0.01), or for each
    /// second of audio (recognition; default: 1).
    #[serde(default)]
    pub first_each: Option<f64>,
    /// Synthesis: total wait for the rest of the audio (default: 60). Waits for the caller do not
    /// count.
    #[serde(default)]
    pub whole: Option<f64>,
    /// Synthesis: added for each character (default: 0.2).
    #[serde(default)]
    pub whole_each: Option<f64>,
    /// Synthesis: the longest wait between two parts of the audio (default: 20).
    #[serde(default)]
    pub silence: Option<f64>,
}

fn seconds(value: f64) -> Duration {
    Duration::from_secs_f64(value.clamp(0.0, LONGEST))
}

impl DeadlineSpec {
    /// Until the first audio of a text, or the transcript of audio; `first`
    /// is what a route or a request has set in place of the sheet's.
    pub fn first(&self, work: Work, usage: Usage, first: Option<Duration>) -> Duration {
        let base = first.map_or(self.first.unwrap_or(30.0), |given| given.as_secs_f64());
        let more = match work {
            Work::Synthesis => self.first_each.unwrap_or(0.01) * usage.characters.saturating_sub(ORDINARY) as f64,
            Work::Recognition => self.first_each.unwrap_or(1.0) * usage.milliseconds as f64 / 1_000.0,
        };
        seconds(base + more)
    }

    /// The sum of all waits for the audio of a text behind its first.
    pub fn whole(&self, usage: Usage) -> Duration {
        seconds(self.whole.unwrap_or(60.0) + self.whole_each.unwrap_or(0.2) * usage.characters as f64)
    }

    /// The longest wait between two parts of the audio.
    pub fn silence(&self) -> Duration {
        seconds(self.silence.unwrap_or(20.0))
    }

    /// What is wrong with it.
    pub(super) fn fault(&self) -> Option<&'static str> {
        let given = [self.first, self.first_each, self.whole, self.whole_each, self.silence];
        let wrong = given.into_iter().flatten().any(|value| !(0.0..=LONGEST).contains(&value));
        wrong.then_some("deadlines are seconds from 0 to 7200")
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn deadlines_grow_with_the_work() {
        let spec = DeadlineSpec::default();
        let text = |characters| Usage { characters, ..Usage::default() };
        let audio = |milliseconds| Usage { milliseconds, ..Usage::default() };
        let first = |usage, given| spec.first(Work::Synthesis, usage, given).as_secs_f64();
        assert_eq!((first(text(50), None), first(text(1_000), None), first(text(11_000), None)), (30.0, 30.0, 130.0));
        assert_eq!(first(text(50), Some(Duration::from_millis(900))), 0.9);
        assert_eq!(spec.first(Work::Recognition, audio(600_000), None).as_secs_f64(), 630.0);
        assert_eq!(spec.whole(text(10_000)).as_secs_f64(), 2_060.0);
        let own = DeadlineSpec { first: Some(5.0), first_each: Some(0.0), ..DeadlineSpec::default() };
        assert_eq!(own.first(Work::Synthesis, text(50_000), None).as_secs_f64(), 5.0);
        assert_eq!((spec.silence().as_secs(), own.silence().as_secs()), (20, 20));
        let hasty = DeadlineSpec { silence: Some(0.5), ..DeadlineSpec::default() };
        assert_eq!(hasty.silence(), Duration::from_millis(500));
        assert!(DeadlineSpec { silence: Some(f64::NAN), ..DeadlineSpec::default() }.fault().is_some());
        assert!(DeadlineSpec { whole: Some(-1.0), ..DeadlineSpec::default() }.fault().is_some());
    }
}
