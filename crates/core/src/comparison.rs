//! Transcripts held against what was said, and against one another: error
//! rates with the texts as they are compared, and a consensus of several.

mod consensus;

pub use consensus::{Consensus, ConsensusWord, consensus};

use crate::alignment::{Aligned, MOST_UNLIKE, align, count_by};
use crate::normalise_words;

/// Characters of a text that is compared.
const MOST_CHARACTERS: usize = 10_000;

/// How many words or characters differ.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct ErrorCounts {
    /// Others in the place of those of the reference.
    pub substituted: usize,
    /// In the reference alone.
    pub missing: usize,
    /// In the hypothesis alone.
    pub inserted: usize,
    /// Of the reference.
    pub of: usize,
}

impl ErrorCounts {
    /// All differences.
    pub fn errors(self) -> usize {
        self.substituted + self.missing + self.inserted
    }

    /// Differences for each word or character of the reference, 0 and up; 1
    /// where the reference is empty and the hypothesis is not.
    pub fn rate(self) -> f64 {
        match (self.of, self.errors()) {
            (_, 0) => 0.0,
            (0, _) => 1.0,
            (of, errors) => errors as f64 / of as f64,
        }
    }

    pub(crate) fn of_steps(steps: &[Aligned]) -> ErrorCounts {
        let mut counts = ErrorCounts::default();
        for step in steps {
            match step {
                Aligned::Same(..) => {}
                Aligned::Substituted(..) => counts.substituted += 1,
                Aligned::Missing(_) => counts.missing += 1,
                Aligned::Inserted(_) => counts.inserted += 1,
            }
            counts.of += usize::from(!matches!(step, Aligned::Inserted(_)));
        }
        counts
    }
}

/// A text held against a reference.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TextComparison {
    /// The words of the reference as they are compared: in small letters,
    /// without punctuation.
    pub reference: Vec<String>,
    /// The words of the hypothesis as they are compared.
    pub hypothesis: Vec<String>,
    /// How the words lie beside one another.
    pub alignment: Vec<Aligned>,
    /// By words.
    pub words: ErrorCounts,
    /// By characters of the words, with a space between them.
    pub characters: ErrorCounts,
}

/// Holds a text against a reference. `None` if a text has more than
/// 10,000 characters.
pub fn compare_texts(reference: &str, hypothesis: &str) -> Option<TextComparison> {
    let (reference, hypothesis) = (normalise_words(reference), normalise_words(hypothesis));
    let letters = |words: &[String]| words.join(" ").chars().collect::<Vec<char>>();
    let differ = |one: char, other: char| if one == other { 0 } else { MOST_UNLIKE };
    let (first, second) = (letters(&reference), letters(&hypothesis));
    if first.len().max(second.len()) > MOST_CHARACTERS {
        return None;
    }
    let alignment = align(&reference, &hypothesis)?;
    let words = ErrorCounts::of_steps(&alignment);
    let characters = count_by(first.len(), second.len(), |i, j| differ(first[i], second[j]));
    Some(TextComparison { reference, hypothesis, alignment, words, characters })
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Worked by hand.
    #[test]
    fn rates_are_those_that_one_counts() {
        let compared = compare_texts("The ferry leaves at six.", "the ferry leave six o'clock").expect("short");
        assert_eq!(compared.words, ErrorCounts { substituted: 1, missing: 1, inserted: 1, of: 5 });
        assert!((compared.words.rate() - 0.6).abs() < 1e-12);
        // The letters of "the ramp" and "the lamps": r for l, and s too many.
        let letters = compare_texts("The ramp!", "the lamps").expect("short").characters;
        assert_eq!(letters, ErrorCounts { substituted: 1, missing: 0, inserted: 1, of: 8 });
        assert_eq!(compared.reference, ["the", "ferry", "leaves", "at", "six"]);

        let swapped = compare_texts("cast off", "off cast").expect("short");
        assert_eq!(swapped.words.errors(), 2);
        let nothing = compare_texts("", "").expect("short");
        assert_eq!((nothing.words.rate(), nothing.characters.rate()), (0.0, 0.0));
        let invented = compare_texts("", "the ramp").expect("short");
        assert_eq!((invented.words.inserted, invented.words.rate()), (2, 1.0));
        let lost = compare_texts("the ramp", "").expect("short");
        assert_eq!((lost.words.missing, lost.words.rate(), lost.characters.of), (2, 1.0, 8));
    }

    #[test]
    fn a_text_that_is_too_long_is_not_compared() {
        assert_eq!(compare_texts(&"aye ".repeat(2_501), "aye"), None);
    }
}
