//! Pace: how many calls an engine takes.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// Pace of calls that the gateway keeps to, so that the engine's rate limit is not exceeded.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Pace {
    /// Calls per minute, spread evenly.
    #[serde(default)]
    pub per_minute: Option<u32>,
    /// Calls that may start at once after a pause (default: 1).
    #[serde(default)]
    pub burst: Option<u32>,
    /// Simultaneous calls.
    #[serde(default)]
    pub at_once: Option<u32>,
}
