//! Why nothing can do the work.

use crate::{Unmet, Work};

/// Why nothing can do the work.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum PlanError {
    /// No voice and no route has the name.
    #[error("there is no voice or route '{wanted}'{}", hint(nearest))]
    NoSuchVoice {
        /// The name in the request.
        wanted: String,
        /// The nearest names that there are.
        nearest: Vec<String>,
    },
    /// No recogniser and no route has the name.
    #[error("there is no engine or route '{wanted}'{}", hint(nearest))]
    NoSuchEngine {
        /// The name in the request.
        wanted: String,
        /// The nearest names that there are.
        nearest: Vec<String>,
    },
    /// No voice meets the criteria.
    #[error("no voice matches the criteria{}", hint(nearest))]
    NoVoiceFits {
        /// Voices that meet the most of them.
        nearest: Vec<String>,
    },
    /// The engine does not have the model.
    #[error("{engine} has no model '{model}'{}", hint(models))]
    NoSuchModel {
        /// The engine.
        engine: String,
        /// The model in the request.
        model: String,
        /// The models that it has.
        models: Vec<String>,
    },
    /// The route does the other kind of work.
    #[error("the route '{route}' is for {}, not for {}", .has.name(), .wanted.name())]
    OtherWork {
        /// The route.
        route: String,
        /// What it does.
        has: Work,
        /// What is asked for.
        wanted: Work,
    },
    /// The voice is there, and its engine does not let it be used.
    #[error("the voice '{voice}' is not available: {why}")]
    Unavailable {
        /// The voice, as `engine/voice`.
        voice: String,
        /// Why, in the engine's words.
        why: String,
    },
    /// What is asked for is there, and no engine of it runs where it must.
    #[error("no engine of '{wanted}' may be used: the site, the region or the grants of the key exclude it")]
    OutOfBounds {
        /// The voice, the engine or the route.
        wanted: String,
    },
    /// No engine says that it can be called there.
    #[error("no engine can be called in the region '{wanted}'{}", hint(nearest))]
    NoSuchRegion {
        /// The region in the request.
        wanted: String,
        /// The nearest regions that there are.
        nearest: Vec<String>,
    },
    /// No leg of the route may be used for the request.
    #[error("no leg of the route '{route}' may be used; leg {leg}: {unmet}")]
    NoLeg {
        /// The route.
        route: String,
        /// The first leg, from 1.
        leg: usize,
        /// What the request does not meet.
        unmet: Unmet,
    },
}

/// Why a leg of a route is not a candidate for a request.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum LegFault {
    /// The request does not meet a condition of the leg.
    #[error(transparent)]
    Unmet(#[from] Unmet),
    /// The leg could not do it.
    #[error(transparent)]
    Unfit(#[from] PlanError),
}

fn hint(names: &[String]) -> String {
    if names.is_empty() { String::new() } else { format!("; similar: {}", names.join(", ")) }
}
