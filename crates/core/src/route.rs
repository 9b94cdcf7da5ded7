//! Routes: named, ordered plans.

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

use crate::{Criteria, Site, extended_filter};

/// The two kinds of work.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Work {
    /// Text to audio.
    Synthesis,
    /// Audio to text.
    Recognition,
}

impl Work {
    /// Both.
    pub const ALL: [Work; 2] = [Work::Synthesis, Work::Recognition];

    /// The word used in records.
    pub fn name(self) -> &'static str {
        match self {
            Work::Synthesis => "synthesis",
            Work::Recognition => "recognition",
        }
    }
}

/// In which order the legs of a route are tried.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Order {
    /// As they are listed.
    #[default]
    Listed,
    /// By what the request would cost.
    Cheapest,
    /// By the usual time to the first audio or the transcript, as measured.
    Fastest,
    /// By how much of the request each would lose.
    Faithful,
}

impl Order {
    /// All of them.
    pub const ALL: [Order; 4] = [Order::Listed, Order::Cheapest, Order::Fastest, Order::Faithful];

    fn is_listed(&self) -> bool {
        *self == Order::Listed
    }

    /// The name in routes.
    pub fn name(self) -> &'static str {
        match self {
            Order::Listed => "listed",
            Order::Cheapest => "cheapest",
            Order::Fastest => "fastest",
            Order::Faithful => "faithful",
        }
    }
}

/// A part of each day in UTC, as `22:00-06:00`: the first minute belongs to
/// it, the last does not.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct Hours {
    /// Minutes of the day.
    from: u16,
    to: u16,
}

const DAY: u16 = 24 * 60;

impl Hours {
    /// Whether a minute of the day is in it.
    pub fn hold(self, minute: u16) -> bool {
        // Over midnight where they end before they begin.
        match self.from < self.to {
            true => (self.from..self.to).contains(&minute),
            false => minute >= self.from || minute < self.to,
        }
    }
}

impl FromStr for Hours {
    type Err = String;

    fn from_str(text: &str) -> Result<Hours, String> {
        let time = |text: &str| {
            let (hour, minute) = text.trim().split_once(':')?;
            let digits = |part: &str| part.len() == 2 && part.bytes().all(|byte| byte.is_ascii_digit());
            let (hour, minute) = (digits(hour).then_some(hour)?, digits(minute).then_some(minute)?);
            let (hour, minute): (u16, u16) = (hour.parse().ok()?, minute.parse().ok()?);
            let time = hour * 60 + minute;
            (minute < 60 && time <= DAY).then_some(time)
        };
        let parts = text.split_once('-').and_then(|(from, to)| Some((time(from)?, time(to)?)));
        match parts.filter(|(from, to)| from != to && *from < DAY) {
            Some((from, to)) => Ok(Hours { from, to }),
            None => Err(format!("hours are two times of a day in UTC as 22:00-06:00, not '{text}'")),
        }
    }
}

impl TryFrom<String> for Hours {
    type Error = String;

    fn try_from(text: String) -> Result<Hours, String> {
        text.parse()
    }
}

impl From<Hours> for String {
    fn from(hours: Hours) -> String {
        hours.to_string()
    }
}

impl fmt::Display for Hours {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Hours { from, to } = self;
        write!(f, "{:02}:{:02}-{:02}:{:02}", from / 60, from % 60, to / 60, to % 60)
    }
}

/// What a request is like, beside its work, as far as conditions ask for it.
/// Conditions on what is not known here are met.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Circumstances<'a> {
    /// The app that asks.
    pub app: Option<&'a str>,
    /// The names of the asked audio format, of synthesis.
    pub formats: &'a [&'a str],
    /// The minute of the day in UTC.
    pub minute: Option<u16>,
}

/// When a leg may be used.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Conditions {
    /// Language ranges of the request, one of which must fit; empty: any.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub languages: Vec<String>,
    /// Where the engine must run, whatever its sheet says later: a leg whose
    /// engine runs elsewhere is not taken.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub site: Option<Site>,
    /// The region in which the engine is called.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub region: Option<String>,
    /// Names of asked audio formats, one of which must fit; empty: any.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub formats: Vec<String>,
    /// The apps that may use it; empty: all.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub apps: Vec<String>,
    /// The part of the day in which it may be used.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub hours: Option<Hours>,
}

/// The condition of a leg that a request does not meet.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum Unmet {
    /// The leg takes other languages.
    #[error("it is for {}, not for {asked}", takes.join(", "))]
    Language {
        /// Ranges of the leg.
        takes: Vec<String>,
        /// The request's language.
        asked: String,
    },
    /// The leg makes other formats.
    #[error("it is for {}, not for {asked}", takes.join(", "))]
    Format {
        /// Names of the leg.
        takes: Vec<String>,
        /// The request's format.
        asked: String,
    },
    /// The leg is for other apps.
    #[error("it is for {}, not for {asked}", takes.join(", "))]
    App {
        /// Apps of the leg.
        takes: Vec<String>,
        /// The request's app.
        asked: String,
    },
    /// It is another time of the day.
    #[error("it is used at {0} UTC")]
    Hours(Hours),
}

impl Conditions {
    /// Whether a request in this language and these circumstances may use the
    /// leg. A request that names no language may use every leg.
    ///
    /// # Errors
    /// The first condition that is not met. The site is not among them: it
    /// bounds what is called, whatever the leg says.
    pub fn check(&self, language: Option<&str>, circumstances: Circumstances<'_>) -> Result<(), Unmet> {
        let fits = |language: &str| self.languages.iter().any(|range| extended_filter(range, language));
        if let Some(asked) = language.filter(|asked| !self.languages.is_empty() && !fits(asked)) {
            return Err(Unmet::Language { takes: self.languages.clone(), asked: asked.to_owned() });
        }
        let Circumstances { app, formats, minute } = circumstances;
        let makes = |name: &str| self.formats.iter().any(|format| format.eq_ignore_ascii_case(name));
        if let Some(asked) = formats.first().filter(|_| !self.formats.is_empty() && !formats.iter().any(|f| makes(f))) {
            return Err(Unmet::Format { takes: self.formats.clone(), asked: (*asked).to_owned() });
        }
        if let Some(asked) = app.filter(|app| !self.apps.is_empty() && !self.apps.iter().any(|own| own == app)) {
            return Err(Unmet::App { takes: self.apps.clone(), asked: asked.to_owned() });
        }
        match (self.hours, minute) {
            (Some(hours), Some(minute)) if !hours.hold(minute) => Err(Unmet::Hours(hours)),
            _ => Ok(()),
        }
    }
}

/// One engine of a route.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Leg {
    /// The engine that the leg calls.
    pub engine: String,
    /// The engine's own voice id; without it the criteria or the request's
    /// language choose.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub voice: Option<String>,
    /// In place of a voice: what it must be like.
    #[serde(default, skip_serializing_if = "Criteria::is_empty")]
    pub criteria: Criteria,
    /// The model; the engine's first that fits unless given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub model: Option<String>,
    /// Milliseconds until the first audio (synthesis) or the answer
    /// (recognition).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub deadline: Option<u64>,
    /// The credential to call the engine with, in place of its usual one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub credential: Option<String>,
    /// How often it is tried first, compared with the other legs that have a
    /// weight; those without are tried behind it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub weight: Option<u32>,
    /// When the leg may be taken; always unless given.
    #[serde(default)]
    pub conditions: Conditions,
}

/// A named, ordered plan.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Route {
    /// The name by which requests ask for it.
    pub name: String,
    /// What its legs do.
    pub work: Work,
    /// For people.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub note: String,
    /// In which order the legs are tried.
    #[serde(default, skip_serializing_if = "Order::is_listed")]
    pub order: Order,
    /// The next leg is called beside one that is slower than usual; who gives
    /// audio first is heard.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub hedge: bool,
    /// The legs.
    pub legs: Vec<Leg>,
}

/// What can be wrong with a route.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum RouteError {
    /// The name has other characters than names may have.
    #[error("the name of a route is 1 to 40 small letters, digits and hyphens, not '{0}'")]
    Name(String),
    /// There are no legs, or too many.
    #[error("a route has 1 to 16 legs, not {0}")]
    Legs(usize),
    /// A leg's deadline is outside what deadlines may be.
    #[error("leg {leg}: a deadline is 50 to 600000 ms, not {given}")]
    Deadline {
        /// From 0.
        leg: usize,
        /// Milliseconds.
        given: u64,
    },
    /// A weight is outside what weights may be.
    #[error("leg {leg}: a weight is 1 to 1000, not {given}")]
    Weight {
        /// From 1.
        leg: usize,
        /// As given.
        given: u32,
    },
    /// Weights and an order by something else.
    #[error("weights are for the order 'listed', not for '{}'", .0.name())]
    Weighted(Order),
    /// Nothing is lost of audio, whoever hears it.
    #[error("the order 'faithful' is for synthesis")]
    Faithful,
    /// A recording is heard once, since its engine may charge for all of it.
    #[error("only a route for synthesis can hedge")]
    Hedge,
    /// Nothing to call beside its leg.
    #[error("a route that hedges has at least two legs")]
    Alone,
}

impl Route {
    /// Refuses what no request could use.
    pub fn check(&self) -> Result<(), RouteError> {
        if !crate::is_record_name(&self.name) {
            return Err(RouteError::Name(self.name.clone()));
        }
        if !(1..=16).contains(&self.legs.len()) {
            return Err(RouteError::Legs(self.legs.len()));
        }
        let mut deadlines =
            self.legs.iter().enumerate().filter_map(|(at, leg)| leg.deadline.map(|given| (at + 1, given)));
        if let Some((leg, given)) = deadlines.find(|(_, given)| !(50..=600_000).contains(given)) {
            return Err(RouteError::Deadline { leg, given });
        }
        if self.order == Order::Faithful && self.work == Work::Recognition {
            return Err(RouteError::Faithful);
        }
        if self.hedge && self.work == Work::Recognition {
            return Err(RouteError::Hedge);
        }
        if self.hedge && self.legs.len() < 2 {
            return Err(RouteError::Alone);
        }
        let mut weights = self.legs.iter().enumerate().filter_map(|(at, leg)| leg.weight.map(|given| (at + 1, given)));
        match weights.clone().find(|(_, given)| !(1..=1_000).contains(given)) {
            Some((leg, given)) => Err(RouteError::Weight { leg, given }),
            None if weights.next().is_some() && self.order != Order::Listed => Err(RouteError::Weighted(self.order)),
            None => Ok(()),
        }
    }

    /// The leg to try first, where legs have weights, among those that may be
    /// used; `chance` is a random number from 0 to 1. Without it, the heaviest.
    pub fn drawn(&self, usable: &[usize], chance: Option<f64>) -> Option<usize> {
        let weights: Vec<(usize, u32)> =
            usable.iter().filter_map(|leg| Some((*leg, self.legs.get(*leg)?.weight?))).collect();
        let sum: u32 = weights.iter().map(|(_, weight)| weight).sum();
        let Some(chance) = chance else {
            return weights.iter().rev().max_by_key(|(_, weight)| *weight).map(|(leg, _)| *leg);
        };
        let mut left = chance.clamp(0.0, 1.0) * f64::from(sum);
        let drawn = weights.iter().find(|(_, weight)| {
            left -= f64::from(*weight);
            left < 0.0
        });
        drawn.or(weights.last()).map(|(leg, _)| *leg)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn conditions_hold_only_for_named_languages() {
        let conditions = Conditions { languages: vec!["pt".into(), "en-GB".into()], ..Conditions::default() };
        let check = |language| conditions.check(language, Circumstances::default());
        assert_eq!((check(Some("pt-BR")), check(Some("en-GB")), check(None)), (Ok(()), Ok(()), Ok(())));
        let unmet = check(Some("en-US")).expect_err("another region");
        assert_eq!(unmet.to_string(), "it is for pt, en-GB, not for en-US");
    }

    #[test]
    fn conditions_on_format_app_and_hour_are_met_or_named() {
        let conditions = Conditions {
            formats: vec!["mp3".into(), "audio/ogg".into()],
            apps: vec!["helpline".into()],
            hours: Some("22:00-06:00".parse().expect("hours")),
            ..Conditions::default()
        };
        let met = Circumstances { app: Some("helpline"), formats: &["MP3", "audio/mpeg"], minute: Some(60) };
        let told = |circumstances| conditions.check(None, circumstances).map_err(|unmet| unmet.to_string());
        assert_eq!(told(met), Ok(()));
        assert_eq!(told(Circumstances::default()), Ok(()), "what is not known is no obstacle");
        assert_eq!(told(Circumstances { formats: &["opus", "audio/ogg"], ..met }), Ok(()));
        let unmet = [
            (Circumstances { formats: &["wav", "audio/wav"], ..met }, "it is for mp3, audio/ogg, not for wav"),
            (Circumstances { app: Some("console"), ..met }, "it is for helpline, not for console"),
            (Circumstances { minute: Some(12 * 60), ..met }, "it is used at 22:00-06:00 UTC"),
        ];
        for (circumstances, why) in unmet {
            assert_eq!(told(circumstances), Err(why.to_owned()));
        }
    }

    #[test]
    fn hours_hold_over_midnight_and_are_read_strictly() {
        let night: Hours = "22:00-06:00".parse().expect("hours");
        let day: Hours = "06:00-22:00".parse().expect("hours");
        for minute in 0..DAY {
            assert_ne!(night.hold(minute), day.hold(minute), "{minute}");
        }
        assert!(night.hold(0) && night.hold(22 * 60) && !night.hold(6 * 60) && night.hold(6 * 60 - 1));
        let late: Hours = "20:30-24:00".parse().expect("hours");
        assert!(late.hold(DAY - 1) && late.hold(20 * 60 + 30) && !late.hold(0) && !late.hold(20 * 60 + 29));
        assert_eq!(late.to_string(), "20:30-24:00");
        for wrong in [
            "",
            "22-6",
            "22:00",
            "9:00-10:00",
            "25:00-26:00",
            "10:60-11:00",
            "10:00-10:00",
            "24:00-02:00",
            "+1:00-02:00",
        ] {
            assert!(wrong.parse::<Hours>().is_err(), "{wrong}");
        }
    }

    fn weighted(weights: &[Option<u32>]) -> Route {
        let leg = |weight: &Option<u32>| Leg {
            engine: "heron".into(),
            voice: None,
            criteria: Criteria::default(),
            model: None,
            deadline: None,
            credential: None,
            weight: *weight,
            conditions: Conditions::default(),
        };
        Route {
            name: "quayside".into(),
            work: Work::Synthesis,
            note: String::new(),
            order: Order::Listed,
            hedge: false,
            legs: weights.iter().map(leg).collect(),
        }
    }

    #[test]
    fn legs_are_drawn_by_their_weights() {
        let route = weighted(&[Some(3), None, Some(1)]);
        let drawn = |chance| route.drawn(&[0, 1, 2], Some(chance));
        assert_eq!([drawn(0.0), drawn(0.74), drawn(0.75), drawn(1.0)], [Some(0), Some(0), Some(2), Some(2)]);
        assert_eq!(route.drawn(&[1, 2], Some(0.1)), Some(2), "the heaviest may not be used");
        assert_eq!(route.drawn(&[1], Some(0.1)), None);
        assert_eq!(weighted(&[None, None]).drawn(&[0, 1], Some(0.5)), None);
        assert_eq!(weighted(&[Some(1), Some(5), Some(5)]).drawn(&[0, 1, 2], None), Some(1), "the heaviest");
    }

    #[test]
    fn weights_are_bounded_and_belong_to_listed_legs() {
        assert_eq!(weighted(&[Some(0)]).check(), Err(RouteError::Weight { leg: 1, given: 0 }));
        assert_eq!(weighted(&[None, Some(1_001)]).check(), Err(RouteError::Weight { leg: 2, given: 1_001 }));
        assert_eq!(weighted(&[Some(1), Some(1_000)]).check(), Ok(()));
        let route = Route { order: Order::Cheapest, ..weighted(&[Some(1)]) };
        assert_eq!(route.check(), Err(RouteError::Weighted(Order::Cheapest)));
        assert_eq!(Route { order: Order::Cheapest, ..weighted(&[None]) }.check(), Ok(()));
        let faithful = Route { order: Order::Faithful, ..weighted(&[None]) };
        assert_eq!(faithful.check(), Ok(()));
        assert_eq!(Route { work: Work::Recognition, ..faithful }.check(), Err(RouteError::Faithful));
    }

    #[test]
    fn only_speech_of_two_legs_is_hedged() {
        let route = |legs: &[Option<u32>], work| Route { hedge: true, work, ..weighted(legs) };
        assert_eq!(route(&[None, None], Work::Synthesis).check(), Ok(()));
        assert_eq!(route(&[None], Work::Synthesis).check(), Err(RouteError::Alone));
        assert_eq!(route(&[None, None], Work::Recognition).check(), Err(RouteError::Hedge));
    }

    #[test]
    fn absurd_routes_are_refused() {
        let mut route = weighted(&[None]);
        route.legs[0].deadline = Some(10);
        assert_eq!(route.check(), Err(RouteError::Deadline { leg: 1, given: 10 }));
        route.legs[0].deadline = Some(2_000);
        assert_eq!(route.check(), Ok(()));
        route.name = "Quay Side".into();
        assert!(matches!(route.check(), Err(RouteError::Name(_))));
        route.name = "quayside".into();
        route.legs.clear();
        assert_eq!(route.check(), Err(RouteError::Legs(0)));
    }
}
