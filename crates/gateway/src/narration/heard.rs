//! How much of a spoken text was heard by a time: word by word where the engine
//! reports words, otherwise by its share of the sentence.

/// What is spoken, and when.
#[derive(Debug, Default)]
pub(crate) struct SpokenText {
    sentences: Vec<SpokenSentence>,
}

#[derive(Debug)]
struct SpokenSentence {
    /// With the white space that follows it.
    text: String,
    from: f64,
    /// Once all of it was sent.
    to: Option<f64>,
    /// Where words end in the text, and when each begins.
    words: Vec<(usize, f64)>,
}

impl SpokenText {
    /// A sentence begins.
    pub(crate) fn begin(&mut self, text: &str, from: f64) {
        self.sentences.push(SpokenSentence { text: text.to_owned(), from, to: None, words: Vec::new() });
    }

    /// A word of the last sentence begins. One that the text does not have, as
    /// a number in words, is passed over.
    pub(crate) fn word(&mut self, word: &str, start: f64) {
        let Some(sentence) = self.sentences.last_mut() else { return };
        let told = sentence.words.last().map_or(0, |(end, _)| *end);
        if let Some(at) = sentence.text[told..].find(word) {
            sentence.words.push((told + at + word.len(), start));
        }
    }

    /// The last sentence ends.
    pub(crate) fn end(&mut self, to: f64) {
        if let Some(sentence) = self.sentences.last_mut() {
            sentence.to = Some(to);
        }
    }

    /// The text that was heard by a time. A word counts once it has begun.
    pub(crate) fn until(&self, time: f64) -> String {
        let mut text = String::new();
        for sentence in &self.sentences {
            match sentence.to {
                Some(to) if to <= time => text.push_str(&sentence.text),
                _ if sentence.from >= time => break,
                _ => text.push_str(&sentence.text[..sentence.heard(time)]),
            }
        }
        text.trim_end().to_owned()
    }
}

impl SpokenSentence {
    /// Bytes of its text that were heard by a time within it.
    fn heard(&self, time: f64) -> usize {
        if !self.words.is_empty() {
            return self.words.iter().take_while(|(_, start)| *start < time).last().map_or(0, |(end, _)| *end);
        }
        // Without words a sentence whose length is unknown counts as not heard.
        let share = self.to.map_or(0.0, |to| (time - self.from) / (to - self.from).max(0.001));
        let bytes = (self.text.len() as f64 * share.clamp(0.0, 1.0)) as usize;
        let end = self.text.floor_char_boundary(bytes);
        // A word that is begun is not cut.
        self.text[..end].rfind(char::is_whitespace).unwrap_or(0)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_word_counts_once_it_has_begun() {
        let mut spoken = SpokenText::default();
        spoken.begin("The ramp is closing. ", 1.0);
        for (word, start) in [("The", 1.0), ("ramp", 1.3), ("is", 1.6), ("closing.", 1.8)] {
            spoken.word(word, start);
        }
        spoken.end(2.5);
        spoken.begin("Stand clear.", 2.5);
        for (time, text) in [
            (0.5, ""),
            (1.0, ""),
            (1.4, "The ramp"),
            (1.9, "The ramp is closing."),
            (2.5, "The ramp is closing."),
            (2.9, "The ramp is closing."),
        ] {
            assert_eq!(spoken.until(time), text, "{time}");
        }
        spoken.word("Stand", 2.6);
        assert_eq!(spoken.until(2.9), "The ramp is closing. Stand");
    }

    #[test]
    fn words_that_are_repeated_or_not_in_the_text_are_counted_in_order() {
        let mut spoken = SpokenText::default();
        spoken.begin("No, no, 12 no.", 0.0);
        for (word, start) in [("No,", 0.1), ("no,", 0.3), ("twelve", 0.5), ("no.", 0.9)] {
            spoken.word(word, start);
        }
        spoken.end(1.2);
        assert_eq!(spoken.until(0.4), "No, no,");
        assert_eq!(spoken.until(0.8), "No, no,", "what has no word in the text is not heard yet");
        assert_eq!(spoken.until(1.0), "No, no, 12 no.");
    }

    #[test]
    fn without_words_it_is_the_share_of_the_sentence() {
        let mut spoken = SpokenText::default();
        spoken.begin("六時 the ramp is closing", 0.0);
        assert_eq!(spoken.until(0.5), "", "its length is not known yet");
        spoken.end(2.0);
        assert_eq!(spoken.until(1.0), "六時 the");
        assert_eq!(spoken.until(1.99), "六時 the ramp is");
        assert_eq!(spoken.until(2.0), "六時 the ramp is closing");
    }
}
