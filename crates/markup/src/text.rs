//! Plain text to a script.

use crate::script::{Item, Script, SourceKind, Span};
use crate::{MarkupError, read_ssml};

/// Reads plain text as one script. It is kept as it is, to the character;
/// only empty lines at the ends are dropped.
///
/// # Errors
/// When there is nothing to say, or control characters stand in the text.
pub fn read_text(text: &str) -> Result<Script<'_>, MarkupError> {
    let unspeakable = |c: char| c.is_control() && !matches!(c, '\n' | '\r' | '\t');
    if let Some(at) = text.find(unspeakable) {
        return Err(MarkupError::at(text, at, "a control character cannot be spoken"));
    }
    let trimmed = text.trim_matches(['\n', '\r']);
    if trimmed.trim().is_empty() {
        return Err(MarkupError::at(text, 0, "there is no text to speak"));
    }
    let items = vec![Item::text(Span::new(0, trimmed.len()))];
    let mut notes = Vec::new();
    if looks_like_markup(trimmed) {
        let fault = read_ssml(trimmed).err().map(|fault| format!(", and as SSML it has a fault ({fault})"));
        let fault = fault.unwrap_or_else(|| ", though it is sound SSML".into());
        notes.push(format!("the text looks like markup{fault}; it is spoken as text, since it was sent as text"));
    }
    Ok(Script {
        source: trimmed,
        items,
        elements: Vec::new(),
        attributes: Vec::new(),
        spelt: String::new(),
        kind: SourceKind::Text,
        language: None,
        notes,
    })
}

/// Whether a text begins as a document of SSML would.
pub fn looks_like_markup(text: &str) -> bool {
    let text = text.trim_start_matches('\u{feff}').trim_start();
    text.starts_with("<?xml") || text.starts_with("<speak")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn text_is_kept_to_the_character() {
        for text in ["The 06:15 to Gullsay", "a  b", "One.\n\nTwo & <three>", " lead and trail "] {
            assert_eq!(read_text(text).expect("text").plain_text(), text);
        }
        assert_eq!(read_text("\n\nAll aboard\n").expect("text").plain_text(), "All aboard");
    }

    #[test]
    fn what_cannot_be_spoken_is_refused_at_its_place() {
        let error = read_text("first line\nsecond\u{7} line").expect_err("a bell");
        assert_eq!((error.line, error.column), (2, 7));
        assert!(read_text(" \n\t ").is_err() && read_text("").is_err());
    }

    #[test]
    fn text_that_looks_like_markup_is_text_and_said_so() {
        let script = read_text("<speak version=\"1.1\">Mind the step</speak>").expect("text");
        assert_eq!(script.plain_text(), "<speak version=\"1.1\">Mind the step</speak>");
        assert!(script.notes[0].contains("sound SSML"), "{:?}", script.notes);
        assert!(read_text("<speak>a</b>").expect("text").notes[0].contains("line 1"));
        assert!(read_text("a < b and b > c").expect("text").notes.is_empty());
    }
}
