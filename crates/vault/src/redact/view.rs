//! A text with its escapes undone, and where each character comes from.

use std::ops::Range;

use zeroize::Zeroizing;

/// Characters of a text at some layer of decoding, each with the bytes of the
/// source that it comes from.
pub(super) struct View(Vec<(char, Range<usize>)>);

/// A text as views are searched: in lower case, without white space.
pub(super) fn fold(text: &str) -> String {
    text.chars().filter(|c| !c.is_whitespace()).flat_map(char::to_lowercase).collect()
}

/// Named entities of XML 1.0 (section 4.6).
const ENTITIES: [(&str, char); 5] = [("amp", '&'), ("lt", '<'), ("gt", '>'), ("quot", '"'), ("apos", '\'')];
/// The longest name or number of an entity.
const LONGEST_ENTITY: usize = 10;

impl View {
    pub(super) fn of(text: &str) -> View {
        View(text.char_indices().map(|(at, c)| (c, at..at + c.len_utf8())).collect())
    }

    /// The next layer: escapes of JSON (RFC 8259, section 7), percent-encoding
    /// (RFC 3986, section 2.1) and references of XML undone; `None` if there are none.
    pub(super) fn decoded(&self) -> Option<View> {
        let mut out = Vec::with_capacity(self.0.len());
        let mut at = 0;
        let mut changed = false;
        while let Some((c, span)) = self.0.get(at) {
            let taken = match c {
                '\\' => self.backslash(at, &mut out),
                '%' => self.bytes(at, '%', &mut out),
                '&' => self.entity(at, &mut out),
                _ => 0,
            };
            if taken == 0 {
                out.push((*c, span.clone()));
            }
            changed |= taken > 0;
            at += taken.max(1);
        }
        changed.then_some(View(out))
    }

    /// Quoted-printable (RFC 2045, section 6.7) undone.
    pub(super) fn quoted_printable(&self) -> View {
        let mut out = Vec::with_capacity(self.0.len());
        let mut at = 0;
        while let Some((c, span)) = self.0.get(at) {
            let break_after = |n: usize| self.character(at + n) == Some('\n');
            let taken = match c {
                '=' if break_after(1) => 2,
                '=' if self.character(at + 1) == Some('\r') && break_after(2) => 3,
                '=' => self.bytes(at, '=', &mut out),
                _ => 0,
            };
            if taken == 0 {
                out.push((*c, span.clone()));
            }
            at += taken.max(1);
        }
        View(out)
    }

    fn character(&self, at: usize) -> Option<char> {
        self.0.get(at).map(|(c, _)| *c)
    }

    /// The bytes of the source from one character to another.
    fn span(&self, from: usize, to: usize) -> Range<usize> {
        self.0[from].1.start..self.0[to - 1].1.end
    }

    /// A number with this many hexadecimal digits.
    fn hexadecimal(&self, at: usize, digits: usize) -> Option<u32> {
        (at..at + digits).try_fold(0, |number, at| Some(number * 16 + self.character(at)?.to_digit(16)?))
    }

    /// Undoes an escape; gives how many characters it took.
    fn backslash(&self, at: usize, out: &mut Vec<(char, Range<usize>)>) -> usize {
        let Some(next) = self.character(at + 1) else { return 0 };
        let (character, taken) = match next {
            'u' | 'U' => match self.utf16(at) {
                Some(found) => found,
                None => return 0,
            },
            'n' | 'r' | 't' | 'b' | 'f' => (' ', 2),
            c if !c.is_alphanumeric() => (c, 2),
            _ => return 0,
        };
        out.push((character, self.span(at, at + taken)));
        taken
    }

    /// A code unit, or two of a pair, and how many characters they take.
    fn utf16(&self, at: usize) -> Option<(char, usize)> {
        let first = self.hexadecimal(at + 2, 4)?;
        let second = || match (self.character(at + 6)?, self.character(at + 7)?) {
            ('\\', 'u' | 'U') => self.hexadecimal(at + 8, 4),
            _ => None,
        };
        match first {
            0xD800..0xDC00 => {
                let second = second().filter(|unit| (0xDC00..0xE000).contains(unit))?;
                Some((char::from_u32(0x1_0000 + ((first - 0xD800) << 10) + (second - 0xDC00))?, 12))
            }
            unit => Some((char::from_u32(unit)?, 6)),
        }
    }

    /// Undoes a row of bytes in hexadecimal, each behind a mark.
    fn bytes(&self, at: usize, mark: char, out: &mut Vec<(char, Range<usize>)>) -> usize {
        let mut bytes = Vec::new();
        while self.character(at + 3 * bytes.len()) == Some(mark) {
            match self.hexadecimal(at + 3 * bytes.len() + 1, 2).and_then(|byte| u8::try_from(byte).ok()) {
                Some(byte) => bytes.push(byte),
                None => break,
            }
        }
        let mut from = 0;
        for chunk in bytes.utf8_chunks() {
            for c in chunk.valid().chars() {
                out.push((c, self.span(at + 3 * from, at + 3 * (from + c.len_utf8()))));
                from += c.len_utf8();
            }
            for byte in chunk.invalid() {
                out.push((char::from(*byte), self.span(at + 3 * from, at + 3 * from + 3)));
                from += 1;
            }
        }
        3 * bytes.len()
    }

    /// Undoes a reference: `&amp;`, `&#38;`, `&#x26;`.
    fn entity(&self, at: usize, out: &mut Vec<(char, Range<usize>)>) -> usize {
        let name: String =
            (at + 1..at + 1 + LONGEST_ENTITY).map_while(|at| self.character(at).filter(|c| *c != ';')).collect();
        let length = name.chars().count();
        if self.character(at + 1 + length) != Some(';') {
            return 0;
        }
        let number = name.strip_prefix('#').and_then(|number| match number.strip_prefix(['x', 'X']) {
            Some(digits) => u32::from_str_radix(digits, 16).ok(),
            None => number.parse().ok(),
        });
        let named = ENTITIES.iter().find(|(known, _)| name.eq_ignore_ascii_case(known)).map(|(_, c)| *c);
        let Some(character) = number.and_then(char::from_u32).or(named) else { return 0 };
        out.push((character, self.span(at, at + length + 2)));
        length + 2
    }

    /// Adds the positions of any of the forms in the source, ignoring some characters.
    pub(super) fn find(
        &self,
        forms: &[Zeroizing<String>],
        passed: impl Fn(char) -> bool,
        found: &mut Vec<Range<usize>>,
    ) {
        if forms.is_empty() {
            return;
        }
        let mut text = Zeroizing::new(String::new());
        // For each byte of the folded text, the character that it comes from.
        let mut origin = Vec::new();
        for (number, (c, _)) in self.0.iter().enumerate().filter(|(_, (c, _))| !passed(*c)) {
            for lower in c.to_lowercase() {
                text.push(lower);
                origin.resize(text.len(), number);
            }
        }
        for form in forms {
            let mut from = 0;
            while let Some(at) = text.get(from..).and_then(|rest| rest.find(form.as_str())) {
                let (start, end) = (from + at, from + at + form.len());
                found.push(self.span(origin[start], origin[end - 1] + 1));
                from = start + text[start..].chars().next().map_or(1, char::len_utf8);
            }
        }
    }
}
