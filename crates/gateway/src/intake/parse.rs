//! Parse: what was sent becomes a script.

use dispatcher_core::Wanted;
use dispatcher_markup::{MarkupError, Script, by_paragraph, detect, read_ssml, read_text, with_notice};
use serde::{Deserialize, Serialize};

use crate::{Registry, SynthesisRequest};

/// The text of a synthesis request.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum TextInput {
    Plain(String),
    Ssml(String),
    /// A document that was made of something else: of lines, or of a text in
    /// several languages.
    Made(String),
}

impl TextInput {
    pub(crate) fn parse(&self) -> Result<Script<'_>, MarkupError> {
        match self {
            TextInput::Plain(text) => read_text(text),
            TextInput::Ssml(document) => read_ssml(document),
            // What is odd about it is none of its sender's doing.
            TextInput::Made(document) => {
                let mut script = read_ssml(document)?;
                script.notes.clear();
                Ok(script)
            }
        }
    }

    /// The text without its markup; empty if it has faults.
    pub fn plain(&self) -> String {
        self.parse().map(|script| script.plain_text()).unwrap_or_default()
    }

    /// The text with a sentence before it. A faulty one stays as it is, so that its
    /// faults are found where they stand.
    pub fn with_notice(self, notice: &str) -> TextInput {
        let told = self.parse().map(|script| with_notice(&script, notice));
        match (self, told) {
            (text, Err(_)) => text,
            (TextInput::Plain(_), Ok(told)) => TextInput::Plain(told),
            (TextInput::Ssml(_), Ok(told)) => TextInput::Ssml(told),
            (TextInput::Made(_), Ok(told)) => TextInput::Made(told),
        }
    }

    /// The source, as it was sent.
    pub fn source(&self) -> &str {
        match self {
            TextInput::Plain(text) | TextInput::Ssml(text) | TextInput::Made(text) => text,
        }
    }
}

/// The language that asks for the text's own to be found out.
const AUTO: &str = "auto";
/// No language that one could name (ISO 639-2).
const UNKNOWN: &str = "und";

impl SynthesisRequest {
    /// Where the language is `auto`: finds out which it is among those that
    /// voices here speak, for each paragraph of a plain text, and says so.
    pub fn find_language(&mut self, registry: &Registry) {
        if self.language.as_deref() != Some(AUTO) {
            return;
        }
        let mut among: Vec<String> =
            registry.planner(None).voices().flat_map(|(_, voice)| voice.languages.iter().cloned()).collect();
        among.sort();
        among.dedup();
        let Some(found) = detect(&self.text.plain(), &among) else {
            self.language = None;
            self.notes.push(format!("the language of the text was not detected ({UNKNOWN})"));
            return;
        };
        let doubt = if found.reliable { "" } else { ", uncertain" };
        self.notes.push(format!("detected language: {} ({:.2}{doubt})", found.tag, found.confidence));
        self.language = Some(found.tag.to_owned());
        if let Some(Wanted::Like(criteria)) = &mut self.wanted {
            criteria.languages.get_or_insert_with(|| found.tag.to_owned());
        }
        if let TextInput::Plain(text) = &self.text
            && let Some(document) = by_paragraph(text, found.tag, &among)
        {
            self.notes.push("paragraphs in other languages are spoken in those languages".into());
            self.text = TextInput::Made(document);
        }
    }
}
