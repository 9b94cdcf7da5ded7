//! Alerts: rules that say of what, when and where an operator is notified,
//! and the decision whether something is sent now. What is watched, and how it
//! is sent, is not here.

use std::time::Duration;

use serde::{Deserialize, Serialize};

use crate::Hours;

macro_rules! watched {
    ($($(#[$doc:meta])* $name:ident = $word:literal),+ $(,)?) => {
        /// What a rule watches.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
        pub enum Watched {
            $($(#[$doc])* #[serde(rename = $word)] $name),+
        }

        impl Watched {
            /// All of them.
            pub const ALL: &[Watched] = &[$(Watched::$name),+];

            /// The word in rules and records.
            pub fn name(self) -> &'static str {
                match self {
                    $(Watched::$name => $word),+
                }
            }
        }
    };
}

watched! {
    /// An engine is not called for a while, since it has failed.
    BreakerOpen = "breaker-open",
    /// An engine does not take a credential any more.
    CredentialRefused = "credential-refused",
    /// A credential ends soon. Threshold: days before its end.
    CredentialEnding = "credential-ending",
    /// A voice that a route or an app names is gone.
    VoiceWithdrawn = "voice-withdrawn",
    /// Many calls of an engine fail. Threshold: per cent of the calls of the
    /// last two hours.
    ErrorShare = "error-share",
    /// Many calls wait for an engine. Threshold: calls.
    QueueFull = "queue-full",
    /// The disk of the data folder is nearly full. Threshold: megabytes free.
    DiskLow = "disk-low",
    /// An allowance is nearly used. Threshold: per cent of it.
    AllowanceShare = "allowance-share",
    /// A credit of an engine ends or runs out soon. Threshold: days before that.
    CreditEnding = "credit-ending",
    /// A voice does not sound as it did, by its canary, or its canary fails.
    VoiceChanged = "voice-changed",
}

impl Watched {
    /// The word's meaning.
    pub fn from_name(name: &str) -> Option<Watched> {
        Watched::ALL.iter().copied().find(|watched| watched.name() == name)
    }

    /// What its threshold may be; `None` if it has none.
    fn range(self) -> Option<ThresholdRange> {
        let range = |least, usual, most, low| Some(ThresholdRange { least, usual, most, low });
        match self {
            Watched::CreditEnding => range(1.0, 14.0, 365.0, true),
            Watched::CredentialEnding => range(1.0, 14.0, 365.0, true),
            Watched::ErrorShare => range(1.0, 20.0, 100.0, false),
            Watched::QueueFull => range(1.0, 20.0, 200.0, false),
            Watched::DiskLow => range(1.0, 2_000.0, 10_000_000.0, true),
            Watched::AllowanceShare => range(1.0, 80.0, 100.0, false),
            Watched::BreakerOpen | Watched::CredentialRefused | Watched::VoiceWithdrawn | Watched::VoiceChanged => None,
        }
    }

    /// What a rule without a threshold is raised at; `None` if it has none.
    pub fn usual_threshold(self) -> Option<f64> {
        self.range().map(|range| range.usual)
    }
}

/// The thresholds of something that is counted.
struct ThresholdRange {
    least: f64,
    usual: f64,
    most: f64,
    /// It is raised below the threshold, not above.
    low: bool,
}

/// A condition, and where an operator is notified of it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct AlertRule {
    /// 1 to 40 small letters, digits and hyphens.
    pub name: String,
    /// What it watches.
    pub on: Watched,
    /// The engines that it is about; empty: all.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub engines: Vec<String>,
    /// From which measure on it is raised, as [`Watched`] counts it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub threshold: Option<f64>,
    /// Seconds that it must last before a message is sent (default: 0).
    #[serde(default)]
    pub after: u64,
    /// Minutes in which the same is told once at the most, however often it
    /// ends and begins again (default: 30).
    #[serde(default = "half_an_hour")]
    pub pause: u64,
    /// The part of the day in which nothing is sent: it is sent afterwards,
    /// where it still lasts.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub quiet: Option<Hours>,
    /// Addresses: `https://…` is called as a webhook, `mailto:…` gets mail.
    pub to: Vec<String>,
    /// For people; it is sent with each message.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub note: String,
}

fn half_an_hour() -> u64 {
    30
}

/// What can be wrong with a rule.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
#[non_exhaustive]
pub enum AlertRuleError {
    /// The name has other characters than names may have.
    #[error("the name of an alert is 1 to 40 small letters, digits and hyphens, not '{0}'")]
    Name(String),
    /// It has no address, or too many.
    #[error("an alert is sent to 1 to 8 addresses, not {0}")]
    Addresses(usize),
    /// An address that is neither of a webhook nor of a mailbox.
    #[error("an address is a webhook as https://… or a mailbox as mailto:…, not '{0}'")]
    Address(String),
    /// A note that no message has room for.
    #[error("a note has at most 400 characters, not {0}")]
    Note(usize),
    /// A threshold where nothing is counted.
    #[error("'{}' has no threshold", .0.name())]
    Uncounted(Watched),
    /// A threshold that can never be met, or always is.
    #[error("a threshold for '{}' is {least} to {most}, not {given}", .on.name())]
    Threshold {
        /// What is watched.
        on: Watched,
        /// The least.
        least: f64,
        /// The most.
        most: f64,
        /// As given.
        given: f64,
    },
    /// A duration outside what durations may be.
    #[error("'{what}' is 0 to {most}, not {given}")]
    Duration {
        /// `after` or `pause`.
        what: &'static str,
        /// The most.
        most: u64,
        /// As given.
        given: u64,
    },
}

impl AlertRule {
    /// Refuses a rule that could never be sent.
    pub fn check(&self) -> Result<(), AlertRuleError> {
        if !crate::is_record_name(&self.name) {
            return Err(AlertRuleError::Name(self.name.clone()));
        }
        if !(1..=8).contains(&self.to.len()) {
            return Err(AlertRuleError::Addresses(self.to.len()));
        }
        let is_address = |to: &str| {
            let mailbox = to.strip_prefix("mailto:").is_some_and(|mailbox| mailbox.contains('@'));
            mailbox || to.starts_with("https://") || to.starts_with("http://")
        };
        if let Some(other) = self.to.iter().find(|to| to.len() > 1_000 || !is_address(to)) {
            return Err(AlertRuleError::Address(other.chars().take(200).collect()));
        }
        let note = self.note.chars().count();
        if note > 400 {
            return Err(AlertRuleError::Note(note));
        }
        for (what, given, most) in [("after", self.after, 86_400), ("pause", self.pause, 10_080)] {
            if given > most {
                return Err(AlertRuleError::Duration { what, most, given });
            }
        }
        let Some(given) = self.threshold else { return Ok(()) };
        let ThresholdRange { least, most, .. } = self.on.range().ok_or(AlertRuleError::Uncounted(self.on))?;
        match (least..=most).contains(&given) {
            true => Ok(()),
            false => Err(AlertRuleError::Threshold { on: self.on, least, most, given }),
        }
    }

    /// Whether it is about an engine; what is of none concerns every rule.
    pub fn concerns(&self, engine: Option<&str>) -> bool {
        self.engines.is_empty() || engine.is_none_or(|engine| self.engines.iter().any(|own| own == engine))
    }

    /// Whether a measure raises the alert.
    pub fn is_raised_at(&self, measure: f64) -> bool {
        let Some(range) = self.on.range() else { return true };
        let threshold = self.threshold.unwrap_or(range.usual);
        if range.low { measure <= threshold } else { measure >= threshold }
    }
}

/// What a message says.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Told {
    /// It has begun.
    Raised,
    /// It is over.
    Over,
}

/// What is known of one thing that a rule watches. Times are those of one
/// clock, since any moment.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Alarm {
    /// Since when it lasts; nothing while all is well.
    pub since: Option<Duration>,
    /// When the last message of its beginning was sent.
    pub told_at: Option<Duration>,
    /// The message of its beginning was sent, that of its end was not.
    pub open: bool,
}

impl Alarm {
    /// Takes in how it is now, at a minute of the day in UTC. Gives what is to
    /// be told.
    pub fn step(&mut self, rule: &AlertRule, lasts: bool, now: Duration, minute: u16) -> Option<Told> {
        let quiet = rule.quiet.is_some_and(|hours| hours.hold(minute));
        if !lasts {
            self.since = None;
            if self.open && !quiet {
                self.open = false;
                return Some(Told::Over);
            }
            return None;
        }
        let since = *self.since.get_or_insert(now);
        let paused = self.told_at.is_some_and(|told| now < told + Duration::from_secs(60 * rule.pause));
        if self.open || quiet || paused || now < since + Duration::from_secs(rule.after) {
            return None;
        }
        self.open = true;
        self.told_at = Some(now);
        Some(Told::Raised)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn rule() -> AlertRule {
        let rule = serde_json::json!({
            "name": "night-watch", "on": "breaker-open", "to": ["https://watch.saltmarsh.example/alerts"],
        });
        serde_json::from_value(rule).expect("a rule")
    }

    /// Messages of each step: seconds, and whether it lasts.
    fn told(rule: &AlertRule, steps: &[(u64, bool)]) -> Vec<Option<Told>> {
        let mut alarm = Alarm::default();
        let minute = |second: u64| u16::try_from(second / 60 % 1_440).expect("a minute");
        steps.iter().map(|(at, lasts)| alarm.step(rule, *lasts, Duration::from_secs(*at), minute(*at))).collect()
    }

    #[test]
    fn the_beginning_and_the_end_are_told_once() {
        let steps = [(0, false), (10, true), (20, true), (30, false), (40, false)];
        assert_eq!(told(&rule(), &steps), [None, Some(Told::Raised), None, Some(Told::Over), None]);
    }

    #[test]
    fn what_comes_and_goes_is_told_once_in_a_pause() {
        let steps = [(0, true), (10, false), (20, true), (1_790, true), (1_801, true), (1_810, false)];
        let expected = [Some(Told::Raised), Some(Told::Over), None, None, Some(Told::Raised), Some(Told::Over)];
        assert_eq!(told(&rule(), &steps), expected);
    }

    #[test]
    fn what_does_not_last_is_not_told() {
        let patient = AlertRule { after: 60, ..rule() };
        let steps = [(0, true), (50, true), (55, false), (60, true), (119, true), (120, true), (121, false)];
        let expected = [None, None, None, None, None, Some(Told::Raised), Some(Told::Over)];
        assert_eq!(told(&patient, &steps), expected);
    }

    #[test]
    fn in_quiet_hours_nothing_is_sent_and_what_lasts_is_told_afterwards() {
        let sleeping = AlertRule { quiet: Some("00:10-00:20".parse().expect("hours")), ..rule() };
        // Over within them: no message is sent.
        assert_eq!(told(&sleeping, &[(600, true), (900, false), (1_300, false)]), [None, None, None]);
        assert_eq!(told(&sleeping, &[(600, true), (1_199, true), (1_200, true)]), [None, None, Some(Told::Raised)]);
        let ends = told(&sleeping, &[(500, true), (700, false), (1_200, false)]);
        assert_eq!(ends, [Some(Told::Raised), None, Some(Told::Over)]);
    }

    #[test]
    fn a_measure_is_compared_in_its_own_direction() {
        let share = AlertRule { on: Watched::ErrorShare, ..rule() };
        assert_eq!([19.9, 20.0, 50.0].map(|percent| share.is_raised_at(percent)), [false, true, true]);
        let ending = AlertRule { on: Watched::CredentialEnding, threshold: Some(7.0), ..rule() };
        assert_eq!([8.0, 7.0, -1.0].map(|days| ending.is_raised_at(days)), [false, true, true]);
        assert!(rule().is_raised_at(0.0), "what is not counted is always told");
        let own = AlertRule { engines: vec!["heron".into()], ..rule() };
        assert_eq!([Some("heron"), Some("godwit"), None].map(|engine| own.concerns(engine)), [true, false, true]);
    }

    #[test]
    fn rules_that_could_never_be_told_are_refused() {
        assert_eq!(rule().check(), Ok(()));
        let named = AlertRule { name: "Night watch".into(), ..rule() };
        assert!(matches!(named.check(), Err(AlertRuleError::Name(_))));
        assert_eq!(AlertRule { to: vec![], ..rule() }.check(), Err(AlertRuleError::Addresses(0)));
        for address in ["watch@saltmarsh.example", "mailto:nobody", "ftp://x.example", ""] {
            let sent = AlertRule { to: vec![address.into()], ..rule() };
            assert_eq!(sent.check(), Err(AlertRuleError::Address(address.into())), "{address}");
        }
        let counted = AlertRule { threshold: Some(3.0), ..rule() };
        assert_eq!(counted.check(), Err(AlertRuleError::Uncounted(Watched::BreakerOpen)));
        let share = |threshold| AlertRule { on: Watched::ErrorShare, threshold: Some(threshold), ..rule() };
        assert!(share(100.0).check().is_ok() && share(100.5).check().is_err() && share(0.0).check().is_err());
        let fault = share(200.0).check().expect_err("more than all").to_string();
        assert_eq!(fault, "a threshold for 'error-share' is 1 to 100, not 200");
        assert!(AlertRule { pause: 10_081, ..rule() }.check().is_err());
        let noted = |length| AlertRule { note: "é".repeat(length), ..rule() }.check();
        assert_eq!([noted(400), noted(401)], [Ok(()), Err(AlertRuleError::Note(401))]);
    }
}
