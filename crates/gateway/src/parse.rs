//! Parse: what was sent becomes a script.

use dispatcher_markup::{MarkupError, Script, read_ssml, read_text};
use serde::{Deserialize, Serialize};

/// The text of a synthesis request.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum TextInput {
    Plain(String),
    Ssml(String),
}

impl TextInput {
    pub(crate) fn parse(&self) -> Result<Script, MarkupError> {
        match self {
            TextInput::Plain(text) => read_text(text),
            TextInput::Ssml(document) => read_ssml(document),
        }
    }

    /// What is said, without its markup; nothing where it has faults.
    pub fn plain(&self) -> String {
        self.parse().map(|script| script.plain_text()).unwrap_or_default()
    }

    /// The source, as it was sent.
    pub(crate) fn source(&self) -> &str {
        match self {
            TextInput::Plain(text) | TextInput::Ssml(text) => text,
        }
    }
}
