//! What became of each element of a script.

use std::borrow::Cow;

use serde::Serialize;

/// What was done with an element.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Outcome {
    /// The engine took it as it was.
    Native,
    /// It was said in another way that means the same.
    Rewritten,
    /// The gateway did it in its own audio code.
    MadeGood,
    /// Its text is spoken without what it asked for.
    SpokenPlainly,
    /// Nothing of it is left.
    Omitted,
}

impl Outcome {
    /// The word for it.
    pub fn name(self) -> &'static str {
        match self {
            Outcome::Native => "native",
            Outcome::Rewritten => "rewritten",
            Outcome::MadeGood => "made-good",
            Outcome::SpokenPlainly => "spoken-plainly",
            Outcome::Omitted => "omitted",
        }
    }
}

/// One element, its place in the source, and what became of it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Fidelity {
    pub element: Cow<'static, str>,
    /// From 1; 0 for a member of the request that is no element.
    #[serde(skip_serializing_if = "is_zero")]
    pub line: usize,
    /// From 1, in characters.
    #[serde(skip_serializing_if = "is_zero")]
    pub column: usize,
    pub outcome: Outcome,
    /// Why, where that is not plain.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub note: Option<Box<str>>,
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "serde asks so")]
fn is_zero(value: &usize) -> bool {
    *value == 0
}
