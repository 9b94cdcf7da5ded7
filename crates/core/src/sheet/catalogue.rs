//! Where an engine lists its voices.

use indexmap::IndexMap;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::call::request;

/// Places of the members of a voice, relative to its node (JSONPath), or the groups of `line`.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct VoicePaths {
    /// JSONPath of the id within a voice.
    #[serde(default)]
    pub id: Option<String>,
    /// JSONPath of the name within a voice.
    #[serde(default)]
    pub name: Option<String>,
    /// BCP 47 tags; the path can find several.
    #[serde(default)]
    pub languages: Option<String>,
    /// The region, if it is separate from the language; it is added to each language without one.
    #[serde(default)]
    pub region: Option<String>,
    /// JSONPath of the gender within a voice.
    #[serde(default)]
    pub gender: Option<String>,
    /// JSONPath of the age within a voice.
    #[serde(default)]
    pub age: Option<String>,
    /// JSONPath of the styles within a voice.
    #[serde(default)]
    pub styles: Option<String>,
    /// JSONPath of the uses within a voice.
    #[serde(default)]
    pub uses: Option<String>,
    /// JSONPath of the models within a voice.
    #[serde(default)]
    pub models: Option<String>,
    /// JSONPath of the character within a voice.
    #[serde(default)]
    pub character: Option<String>,
    /// JSONPath of the class within a voice, by which it is charged.
    #[serde(default)]
    pub class: Option<String>,
    /// `stock` or `custom`; `map.origin` translates other words of the engine.
    #[serde(default)]
    pub origin: Option<String>,
    /// Why it cannot be used; `map.unavailable` translates the engine's words. Missing, `false` and
    /// empty text mean that it can be used.
    #[serde(default)]
    pub unavailable: Option<String>,
}

request! {
    /// A further call for each voice, whose answer adds members.
    pub struct EachVoice {
        /// Places of the members of a voice in the answer of the call.
        #[serde(default)]
        pub voice: VoicePaths,
    }
}

request! {
    /// `[catalogue]`: the list of voices, from a call or a program.
    pub struct Catalogue {
        /// One node per voice (JSONPath).
        #[serde(default)]
        pub voices: Option<String>,
        /// Place of the next page, `page` in templates. The list ends if it is missing, null or
        /// empty.
        #[serde(default)]
        pub next: Option<String>,
        /// Places of the members of a voice in the list.
        #[serde(default)]
        pub voice: VoicePaths,
        /// The engine's words and those of the catalogue, by member: `gender = { f = "female" }`.
        #[serde(default)]
        pub map: IndexMap<String, IndexMap<String, String>>,
        /// A call for each voice, if the list does not have all of its members.
        #[serde(default)]
        pub each: Option<EachVoice>,
        /// Arguments by template (process driver).
        #[serde(default)]
        pub arguments: Vec<String>,
        /// A line that is a voice: a regular expression with groups named
        /// like the members of `voice` (process driver).
        #[serde(default)]
        pub line: Option<String>,
        /// The voices of the sheet are kept in addition to the list.
        #[serde(default)]
        pub extends: bool,
        /// Hours after which the list is fetched again; 0: only on demand.
        #[serde(default = "day")]
        pub hours: u64,
    }
}

fn day() -> u64 {
    24
}
