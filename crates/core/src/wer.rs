//! Word error rate: the edit distance between two texts in words.

/// The counts behind a word error rate.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct WordErrors {
    /// Insertions, deletions and substitutions.
    pub errors: usize,
    /// Words of the reference.
    pub words: usize,
}

impl WordErrors {
    /// Errors for each word of the reference; 0 for an empty reference that was met.
    pub fn rate(self) -> f64 {
        if self.words == 0 { if self.errors == 0 { 0.0 } else { 1.0 } } else { self.errors as f64 / self.words as f64 }
    }
}

/// Lower case, punctuation off, split at white space.
pub fn normalise_words(text: &str) -> Vec<String> {
    text.split_whitespace()
        .map(|word| word.chars().filter(|c| c.is_alphanumeric() || *c == '\'').flat_map(char::to_lowercase).collect())
        .filter(|word: &String| !word.is_empty())
        .collect()
}

/// The fewest insertions, deletions and substitutions of words that turn the
/// hypothesis into the reference.
pub fn word_errors(reference: &str, hypothesis: &str) -> WordErrors {
    let (reference, hypothesis) = (normalise_words(reference), normalise_words(hypothesis));
    WordErrors { errors: strsim::generic_levenshtein(&reference, &hypothesis), words: reference.len() }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn counts_words_not_letters() {
        let errors = word_errors("The ferry leaves at six.", "the ferry leave six o'clock");
        assert_eq!(errors, WordErrors { errors: 3, words: 5 });
        assert!((errors.rate() - 0.6).abs() < 1e-12);
        assert_eq!(word_errors("", "").rate(), 0.0);
        let invented = word_errors("", "the ramp is closing");
        assert_eq!(invented, WordErrors { errors: 4, words: 0 }, "nothing was said, and four words were heard");
        assert_eq!(invented.rate(), 1.0);
        assert_eq!(word_errors("cast off", ""), WordErrors { errors: 2, words: 2 }, "and the other way round");
    }
}
