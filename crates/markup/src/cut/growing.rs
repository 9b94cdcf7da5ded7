//! A text that is still being written: its sentences, as soon as nothing that
//! may follow can change where they end.

use super::sentences;
use super::sentences::{Rank, places, sentence_ends};

/// Characters without an end of a sentence from which on it is cut at a clause.
const LONG: usize = 300;
/// From so many on it is cut at a word.
const LONGER: usize = 600;

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
    rest: String,
    /// Bytes in which no sentence was found to end.
    seen: usize,
}

impl GrowingText {
    /// Adds what was written.
    pub fn push(&mut self, text: &str) {
        self.rest.push_str(text);
    }

    /// Bytes that were not taken yet.
    pub fn len(&self) -> usize {
        self.rest.len()
    }

    /// Whether all was taken.
    pub fn is_empty(&self) -> bool {
        self.rest.is_empty()
    }

    /// The next sentence with the white space behind it; a very long one in
    /// parts. Nothing while more text may still belong to it.
    pub fn next_sentence(&mut self) -> Option<String> {
        // Only a mark or an empty line ends one.
        if self.rest.len() > self.seen {
            if let Some(end) = sentence_ends(&self.rest).into_iter().find(|end| is_certain(&self.rest[*end..])) {
                return Some(self.take(end));
            }
            self.seen = self.rest.len();
        }
        if self.rest.len() <= LONG || self.rest.chars().count() <= LONG {
            return None;
        }
        let places = places(&self.rest);
        let clause = places.iter().rfind(|(_, rank)| *rank >= Rank::Clause);
        let word = places.last().filter(|_| self.rest.chars().count() > LONGER);
        let end = clause.or(word)?.0;
        Some(self.take(end))
    }

    /// The sentences of all that is left.
    pub fn rest(&mut self) -> Vec<String> {
        let rest = self.take(self.rest.len());
        sentences(&rest).into_iter().map(str::to_owned).collect()
    }

    fn take(&mut self, end: usize) -> String {
        self.seen = 0;
        let rest = self.rest.split_off(end);
        std::mem::replace(&mut self.rest, rest)
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

    /// What is given of a text that comes in pieces of so many characters.
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
