//! Where an engine lists its voices.

use indexmap::IndexMap;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::call::request;

/// Where the members of a voice lie, relative to its node (JSONPath), or the
/// groups of `line` that hold them.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct VoicePaths {
    #[serde(default)]
    pub id: Option<String>,
    #[serde(default)]
    pub name: Option<String>,
    /// BCP 47 tags; several where the path finds several.
    #[serde(default)]
    pub languages: Option<String>,
    /// Where the language and its region stand apart: the region, which is
    /// put behind each language that has none.
    #[serde(default)]
    pub region: Option<String>,
    #[serde(default)]
    pub gender: Option<String>,
    #[serde(default)]
    pub age: Option<String>,
    #[serde(default)]
    pub styles: Option<String>,
    #[serde(default)]
    pub uses: Option<String>,
    #[serde(default)]
    pub models: Option<String>,
    #[serde(default)]
    pub character: Option<String>,
    /// `stock` or `custom`, by `map.origin` where the engine has other words.
    #[serde(default)]
    pub origin: Option<String>,
    /// Why it cannot be used; by `map.unavailable` where what stands there is
    /// not for people. Nothing, `false` and empty text mean that it can.
    #[serde(default)]
    pub unavailable: Option<String>,
}

request! {
    /// A further call for each voice, whose answer adds to it.
    pub struct EachVoice {
        #[serde(default)]
        pub voice: VoicePaths,
    }
}

request! {
    /// `[catalogue]`: the list of voices, from a call or a program.
    pub struct Catalogue {
        /// One node a voice (JSONPath).
        #[serde(default)]
        pub voices: Option<String>,
        /// Where the next page is named; templates see it as `page`. The
        /// list ends where it is missing, null or empty.
        #[serde(default)]
        pub next: Option<String>,
        #[serde(default)]
        pub voice: VoicePaths,
        /// Words of the engine and ours, by member: `gender = { f = "female" }`.
        #[serde(default)]
        pub map: IndexMap<String, IndexMap<String, String>>,
        #[serde(default)]
        pub each: Option<EachVoice>,
        /// Arguments by template (process driver).
        #[serde(default)]
        pub arguments: Vec<String>,
        /// A line that is a voice: a regular expression with groups named
        /// like the members of `voice` (process driver).
        #[serde(default)]
        pub line: Option<String>,
        /// The sheet's own voices stay beside those that are listed.
        #[serde(default)]
        pub extends: bool,
        /// Hours after which the list is read again; 0: only when asked to.
        #[serde(default = "day")]
        pub hours: u64,
    }
}

fn day() -> u64 {
    24
}
