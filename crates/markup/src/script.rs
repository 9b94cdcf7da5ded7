//! The script: paragraphs of text, and what became of the markup.

use crate::{Fidelity, Outcome};

/// The parsed text of a synthesis request.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Script {
    /// Never empty; none is blank.
    pub paragraphs: Vec<String>,
    /// The language that the document names for itself.
    pub language: Option<String>,
    pub fidelity: Vec<Fidelity>,
}

impl Script {
    /// The text that an engine without markup is given: paragraphs apart by
    /// an empty line.
    pub fn plain_text(&self) -> String {
        self.paragraphs.join("\n\n")
    }

    /// The worst that became of anything.
    pub fn worst(&self) -> Outcome {
        self.fidelity.iter().map(|item| item.outcome).max().unwrap_or(Outcome::Native)
    }
}
