//! Regions: where an engine can be called, and how a call says so.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::Sheet;

/// Regions in which an engine can be called.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Regions {
    /// The public part of the credential that names its region; the region of a request takes its
    /// place.
    pub part: String,
    /// The regions.
    pub names: Vec<String>,
}

impl Sheet {
    /// The regions in which it can be called; empty where it has but one place.
    pub fn region_names(&self) -> &[String] {
        self.regions.as_ref().map_or(&[], |regions| &regions.names)
    }

    /// Whether it can be called in a region.
    pub fn has_region(&self, region: &str) -> bool {
        self.region_names().iter().any(|name| name == region)
    }
}
