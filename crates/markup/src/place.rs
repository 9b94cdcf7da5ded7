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
        let (line, column) = Lines::of(source).place(source, at);
        MarkupError { line, column, message: message.into() }
    }
}

/// Turns byte positions into lines and columns. Positions asked for in rising
/// order cost one walk over the source altogether.
#[derive(Debug, Clone)]
pub(crate) struct Lines {
    /// Each byte is a character.
    ascii: bool,
    /// Up to here it was counted; the number of that line less one.
    at: usize,
    lines: usize,
    /// Characters of its line before it.
    characters: usize,
}

impl Lines {
    pub(crate) fn of(source: &str) -> Self {
        Lines { ascii: source.is_ascii(), at: 0, lines: 0, characters: 0 }
    }

    /// Line and column, from 1, of a byte position of that source.
    pub(crate) fn place(&mut self, source: &str, at: usize) -> (usize, usize) {
        let mut at = at.min(source.len());
        while !source.is_char_boundary(at) {
            at -= 1;
        }
        if at < self.at {
            *self = Lines { ascii: self.ascii, at: 0, lines: 0, characters: 0 };
        }
        let mut of_line = &source.as_bytes()[self.at..at];
        while let Some(end) = memchr::memchr(b'\n', of_line) {
            of_line = &of_line[end + 1..];
            self.lines += 1;
            self.characters = 0;
        }
        self.characters += match self.ascii {
            true => of_line.len(),
            // Bytes that begin a character (RFC 3629).
            false => of_line.iter().filter(|byte| **byte & 0xC0 != 0x80).count(),
        };
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
        let mut lines = Lines::of(source);
        for (found, line, column) in [("ω", 2, 1), ("<b", 2, 2), ("end", 4, 1), ("ão", 1, 3), ("end", 4, 1)] {
            assert_eq!(lines.place(source, source.find(found).expect(found)), (line, column), "{found}");
        }
        let source = "one\n\n<two>";
        assert_eq!(Lines::of(source).place(source, source.find("two").expect("two")), (3, 2));
    }
}
