//! Plain text to a script.

use crate::{MarkupError, Script};

/// Reads plain text as one script. A single line or paragraph is kept as it
/// is, to the character; only empty lines at the ends are dropped.
///
/// # Errors
/// When there is nothing to say, or control characters stand in the text.
pub fn read_text(text: &str) -> Result<Script, MarkupError> {
    let unspeakable = |c: char| c.is_control() && !matches!(c, '\n' | '\r' | '\t');
    if let Some(at) = text.find(unspeakable) {
        return Err(MarkupError::at(text, at, "a control character cannot be spoken"));
    }
    let trimmed = text.trim_matches(['\n', '\r']);
    if trimmed.trim().is_empty() {
        return Err(MarkupError::at(text, 0, "there is no text to speak"));
    }
    Ok(Script { paragraphs: vec![trimmed.to_owned()], language: None, fidelity: Vec::new() })
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
}
