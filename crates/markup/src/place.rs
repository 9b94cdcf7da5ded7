//! Places in a source, as people count them.

/// What is wrong with a document, and where.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("line {line}, column {column}: {message}")]
pub struct MarkupError {
    /// From 1.
    pub line: usize,
    /// From 1, in characters.
    pub column: usize,
    /// What is wrong, as a sentence without its place.
    pub message: String,
}

impl MarkupError {
    /// What is wrong at a byte position. Faults are rare: what they say is put
    /// together here, and not where they are found.
    #[cold]
    pub(crate) fn at(source: &str, at: usize, message: impl std::fmt::Display) -> Self {
        let (line, column) = Lines::of(source).place(at);
        MarkupError { line, column, message: message.to_string() }
    }
}

/// Turns byte positions into lines and columns. Positions asked for in rising
/// order cost one walk over the source altogether.
#[derive(Debug, Clone)]
pub(crate) struct Lines<'s> {
    source: &'s str,
    /// Each byte is a character.
    ascii: bool,
    ends: memchr::Memchr<'s>,
    /// Where the line at hand ends, and its number less one.
    end: usize,
    line: usize,
    /// Up to here it was counted, and the characters of its line before it.
    at: usize,
    characters: usize,
}

impl<'s> Lines<'s> {
    pub(crate) fn of(source: &'s str) -> Self {
        let mut ends = memchr::memchr_iter(b'\n', source.as_bytes());
        let end = ends.next().unwrap_or(source.len());
        Lines { source, ascii: source.is_ascii(), ends, end, line: 0, at: 0, characters: 0 }
    }

    /// Line and column, from 1, of a byte position.
    pub(crate) fn place(&mut self, at: usize) -> (usize, usize) {
        let mut at = at.min(self.source.len());
        while !self.source.is_char_boundary(at) {
            at -= 1;
        }
        if at < self.at {
            *self = Lines::of(self.source);
        }
        while at > self.end {
            self.at = self.end + 1;
            self.characters = 0;
            self.end = self.ends.next().unwrap_or(self.source.len());
            self.line += 1;
        }
        let passed = &self.source.as_bytes()[self.at..at];
        self.characters += match self.ascii {
            true => passed.len(),
            // Bytes that begin a character (RFC 3629).
            false => passed.iter().filter(|byte| **byte & 0xC0 != 0x80).count(),
        };
        self.at = at;
        (self.line + 1, self.characters + 1)
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
            assert_eq!(lines.place(source.find(found).expect(found)), (line, column), "{found}");
        }
        let source = "one\n\n<two>";
        assert_eq!(Lines::of(source).place(source.find("two").expect("two")), (3, 2));
    }

    /// Were a line counted from its beginning each time, this would take minutes.
    #[test]
    fn a_long_line_is_counted_once() {
        let source = "é".repeat(500_000);
        let mut lines = Lines::of(&source);
        for at in (0..source.len()).step_by(2) {
            assert_eq!(lines.place(at), (1, at / 2 + 1));
        }
    }
}
