//! A text that is still being written: its sentences, as soon as nothing that
//! may follow can change where they end.

use std::collections::VecDeque;

use super::sentences;
use super::sentences::{Rank, places, sentence_ends};

/// Characters without an end of a sentence from which on it is cut at a clause.
const LONG: usize = 300;
/// Length from which it is cut at a word.
const LONGER: usize = 600;
/// Bytes that are looked at: what a caller sends at once may be a thousand times
/// as long, and each sentence of it is looked for by itself.
const LOOKED_AT: usize = 8 << 10;

/// A text that grows, of which no more is kept than has not been taken.
///
/// ```
/// # use dispatcher_markup::GrowingText;
/// let mut text = GrowingText::default();
/// text.push("The ramp is closing. Please ");
/// assert_eq!(text.next_sentence().as_deref(), Some("The ramp is closing. "));
/// assert_eq!(text.next_sentence(), None);
/// text.push("stand clear.");
/// assert_eq!(text.rest(), ["Please stand clear."]);
/// ```
#[derive(Debug, Clone, Default)]
pub struct GrowingText {
    text: String,
    /// Where what was not taken yet begins.
    from: usize,
    /// Bytes from there on in which no sentence was found to end.
    seen: usize,
    /// Sentences that were found and not taken yet: all of what is looked at is
    /// found at once.
    found: VecDeque<String>,
}

impl GrowingText {
    /// Adds what was written.
    pub fn push(&mut self, text: &str) {
        self.text.push_str(text);
    }

    /// Bytes that were not taken yet.
    pub fn len(&self) -> usize {
        self.text.len() - self.from + self.found.iter().map(String::len).sum::<usize>()
    }

    /// Whether all was taken.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// The next sentence with the white space behind it; a very long one in
    /// parts. Nothing while more text may still belong to it.
    pub fn next_sentence(&mut self) -> Option<String> {
        if let Some(found) = self.found.pop_front() {
            return Some(found);
        }
        let left = &self.text[self.from..];
        let looked_at = &left[..left.floor_char_boundary(LOOKED_AT.min(left.len()))];
        if looked_at.len() > self.seen {
            let mut ends = sentence_ends(looked_at);
            ends.retain(|end| is_certain(&looked_at[*end..]));
            self.seen = looked_at.len();
            let mut begun = 0;
            for end in ends {
                let sentence = self.take(end - begun);
                self.found.push_back(sentence);
                begun = end;
            }
            if let Some(found) = self.found.pop_front() {
                return Some(found);
            }
        }
        let left = &self.text[self.from..];
        let looked_at = &left[..left.floor_char_boundary(LOOKED_AT.min(left.len()))];
        let mut letters = looked_at.char_indices();
        letters.nth(LONG)?;
        let longer = letters.nth(LONGER - LONG).map(|(at, _)| at);
        let places = places(&looked_at[..longer.unwrap_or(looked_at.len())]);
        let clause = places.iter().rfind(|(_, rank)| *rank >= Rank::Clause);
        let word = places.last().filter(|_| longer.is_some());
        let end = clause.or(word)?.0;
        Some(self.take(end))
    }

    /// The sentences of all that is left.
    pub fn rest(&mut self) -> Vec<String> {
        let mut all: Vec<String> = self.found.drain(..).collect();
        let rest = self.take(self.text.len() - self.from);
        all.extend(sentences(&rest).into_iter().map(str::to_owned));
        all
    }

    fn take(&mut self, length: usize) -> String {
        self.seen = 0;
        let taken = self.text[self.from..self.from + length].to_owned();
        self.from += length;
        // What is left is moved seldom: there may be much of it.
        if self.from > self.text.len() / 2 {
            self.text.drain(..self.from);
            self.from = 0;
        }
        taken
    }
}

/// Whether a text begins a further sentence, whatever comes behind it: a rule of
/// Unicode looks past digits and marks for a small letter (UAX #29, SB8).
fn is_certain(after: &str) -> bool {
    after.chars().any(char::is_alphabetic)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    /// Parts of a text that is received in pieces of this many characters.
    fn given(text: &str, sizes: &[usize]) -> Vec<String> {
        let mut growing = GrowingText::default();
        let mut found = Vec::new();
        let mut letters = text.chars();
        for size in sizes.iter().cycle() {
            let piece: String = letters.by_ref().take(*size).collect();
            if piece.is_empty() {
                break;
            }
            growing.push(&piece);
            while let Some(sentence) = growing.next_sentence() {
                found.push(sentence);
            }
        }
        found.extend(growing.rest());
        found
    }

    #[test]
    fn a_sentence_is_given_once_another_has_begun() {
        let text = "Dr. Tussock sails at 6.15 p.m. today. Board now! It costs 3.50. The gate opens at 06:15";
        let wanted =
            ["Dr. Tussock sails at 6.15 p.m. today. ", "Board now! ", "It costs 3.50. ", "The gate opens at 06:15"];
        for sizes in [&[1][..], &[3], &[12], &[1, 7, 2], &[500]] {
            assert_eq!(given(text, sizes), wanted, "{sizes:?}");
        }
    }

    #[test]
    fn a_sentence_without_an_end_is_cut_at_a_clause_or_a_word() {
        let clauses = "we wait at the quay and look at the tide, ".repeat(20);
        let parts = given(&clauses, &[5]);
        assert_eq!(parts.concat(), clauses);
        assert!(parts.len() > 2 && parts.iter().all(|part| part.chars().count() < 350), "{parts:?}");
        assert!(parts.iter().all(|part| part.ends_with("tide, ")), "{parts:?}");
        let words = "tide ".repeat(400);
        let parts = given(&words, &[5]);
        assert!(parts.concat() == words && parts.iter().all(|part| part.chars().count() <= 700), "{parts:?}");
        // Nothing to cut at: it is kept together.
        assert_eq!(given(&"x".repeat(2_000), &[100]).len(), 1);
        // A book that is sent at once is cut as one that comes in pieces.
        let book = "The ramp is closing, so please wait behind the line. ".repeat(4_000);
        let parts = given(&book, &[usize::MAX]);
        assert_eq!((parts.len(), parts.concat() == book), (4_000, true));
    }

    proptest! {
        #[test]
        fn nothing_is_lost_and_sentences_are_those_of_the_whole_text(
            words in prop::collection::vec("(Mr|Dr|no|[A-Z]?[a-z]{1,7}|[0-9]{1,3})[.,!?)\"]{0,2}[ \n]{1,2}", 1..40),
            sizes in prop::collection::vec(1_usize..13, 1..5),
        ) {
            let text = words.concat();
            let parts = given(&text, &sizes);
            let joined = parts.concat();
            prop_assert_eq!(joined.trim_end(), text.trim_end());
            prop_assert_eq!(parts, sentences(&text));
        }
    }
}
