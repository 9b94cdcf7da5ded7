//! Parse: what was sent becomes a script.

use dispatcher_markup::{MarkupError, Outcome, Script, read_ssml, read_text};

use crate::{GatewayError, Unsupported};

/// The text of a synthesis request.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum TextInput {
    Plain(String),
    Ssml(String),
}

impl TextInput {
    pub(crate) fn parse(&self, unsupported: Unsupported) -> Result<Script, GatewayError> {
        let script = self.read()?;
        let lost: Vec<_> = script.fidelity.iter().filter(|item| item.outcome > Outcome::MadeGood).cloned().collect();
        if unsupported == Unsupported::Refuse && !lost.is_empty() {
            return Err(GatewayError::Unsupported(lost));
        }
        Ok(script)
    }

    fn read(&self) -> Result<Script, MarkupError> {
        match self {
            TextInput::Plain(text) => read_text(text),
            TextInput::Ssml(document) => read_ssml(document),
        }
    }
}
