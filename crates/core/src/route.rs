//! Routes: named, ordered plans.

use serde::{Deserialize, Serialize};

use crate::{Criteria, Site, extended_filter};

/// The two kinds of work.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
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
}

impl Conditions {
    /// Whether a request in this language may use the leg. A request that
    /// names no language may use every leg.
    pub fn allow(&self, language: Option<&str>) -> bool {
        let Some(language) = language else { return true };
        self.languages.is_empty() || self.languages.iter().any(|range| extended_filter(range, language))
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
    /// The legs in the order in which they are tried.
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
}

impl Route {
    /// Refuses what no request could use.
    pub fn check(&self) -> Result<(), RouteError> {
        let fits = |b: u8| b.is_ascii_lowercase() || b.is_ascii_digit() || b == b'-';
        if self.name.is_empty() || self.name.len() > 40 || !self.name.bytes().all(fits) {
            return Err(RouteError::Name(self.name.clone()));
        }
        if !(1..=16).contains(&self.legs.len()) {
            return Err(RouteError::Legs(self.legs.len()));
        }
        let deadlines = self.legs.iter().enumerate().filter_map(|(at, leg)| leg.deadline.map(|given| (at + 1, given)));
        match deadlines.into_iter().find(|(_, given)| !(50..=600_000).contains(given)) {
            Some((leg, given)) => Err(RouteError::Deadline { leg, given }),
            None => Ok(()),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn conditions_hold_only_for_named_languages() {
        let conditions = Conditions { languages: vec!["pt".into(), "en-GB".into()], site: None };
        assert!(conditions.allow(Some("pt-BR")) && conditions.allow(Some("en-GB")) && conditions.allow(None));
        assert!(!conditions.allow(Some("en-US")));
    }

    #[test]
    fn absurd_routes_are_refused() {
        let leg = Leg {
            engine: "heron".into(),
            voice: None,
            criteria: Criteria::default(),
            model: None,
            deadline: Some(10),
            credential: None,
            conditions: Conditions::default(),
        };
        let mut route = Route { name: "quayside".into(), work: Work::Synthesis, note: String::new(), legs: vec![leg] };
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
