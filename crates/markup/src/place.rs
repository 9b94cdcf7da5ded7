//! Places in a source, as people count them.

/// What is wrong with a document, and where.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("line {line}, column {column}: {message}")]
pub struct MarkupError {
    /// From 1.
    pub line: usize,
    /// From 1, in characters.
    pub column: usize,
    pub message: String,
}

impl MarkupError {
    pub(crate) fn at(source: &str, at: usize, message: impl Into<String>) -> Self {
        let (line, column) = Lines::default().place(source, at);
        MarkupError { line, column, message: message.into() }
    }
}

/// Turns byte positions into lines and columns. Positions asked for in rising
/// order cost one walk over the source altogether.
#[derive(Debug, Clone, Default)]
pub(crate) struct Lines {
    /// Up to here it was counted; the number of that line less one.
    at: usize,
    lines: usize,
    /// Characters of its line before it.
    characters: usize,
}

impl Lines {
    /// Line and column, from 1, of a byte position.
    pub(crate) fn place(&mut self, source: &str, at: usize) -> (usize, usize) {
        let mut at = at.min(source.len());
        while !source.is_char_boundary(at) {
            at -= 1;
        }
        if at < self.at {
            *self = Lines::default();
        }
        let passed = &source.as_bytes()[self.at..at];
        let ends = passed.iter().filter(|byte| **byte == b'\n').count();
        let of_line = match ends {
            0 => passed,
            _ => {
                self.characters = 0;
                let last = passed.iter().rposition(|byte| *byte == b'\n').unwrap_or(0);
                &passed[last + 1..]
            }
        };
        // Bytes that begin a character (RFC 3629).
        self.characters += of_line.iter().filter(|byte| **byte & 0xC0 != 0x80).count();
        self.lines += ends;
        self.at = at;
        (self.lines + 1, self.characters + 1)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn places_are_counted_in_characters_in_any_order() {
        let source = "ação\nω<b\n\nend";
        let mut lines = Lines::default();
        for (found, line, column) in [("ω", 2, 1), ("<b", 2, 2), ("end", 4, 1), ("ão", 1, 3), ("end", 4, 1)] {
            assert_eq!(lines.place(source, source.find(found).expect(found)), (line, column), "{found}");
        }
    }
}
