//! `token` and `w` (SSML 1.1, 3.1.8): what is in one is one word, whatever
//! elements are in it; two tokens are two words, with or without space between.

use super::{Closing, Element, Lowering, Tag, WalkStep};
use crate::Outcome;

/// The token that is open.
pub(super) struct Word {
    /// Number of elements that were open before it.
    depth: usize,
    /// Its text was written at its start.
    said: bool,
    /// Its text, without white space at its ends.
    text: String,
    /// Milliseconds of silence after it, of breaks in it.
    silence: f64,
}

impl Lowering<'_> {
    pub(super) fn token(&mut self, element: Element<'_>, at: usize) -> Outcome {
        if self.word.is_some() {
            return Outcome::Native;
        }
        self.inner().role = element.get("role").map(str::to_owned);
        let text = self.text_of(element).trim_ascii().to_owned();
        let (marks, alone) = self.marks_in(element);
        for name in &marks {
            self.mark_here(name);
        }
        let written = self.open.len();
        self.boundary = true;
        let outcome = self.structure(element, at);
        if self.open.len() > written {
            // The engine's own tag keeps words apart.
            self.boundary = false;
        }
        // In one run, so that lexicons find the word.
        let said = alone && !marks.is_empty();
        if said && self.heard() {
            self.words(&text);
        }
        self.word = Some(Word { depth: self.saved.len(), said, text, silence: 0.0 });
        self.on_close(Closing::Word);
        outcome
    }

    /// Names of the marks in a token that the engine does not take, and
    /// whether nothing but text is with them.
    fn marks_in(&self, element: Element<'_>) -> (Vec<String>, bool) {
        let mut marks = Vec::new();
        let mut alone = true;
        for item in &self.script.items[self.next..element.end()] {
            let WalkStep::Open(number) = item.step() else { continue };
            let inner = self.script.element(number);
            let native = || self.accepted(Tag::Mark, "mark", inner.attributes()).is_some();
            if inner.tag() == Tag::Mark && self.adapts() && self.heard() && !native() {
                marks.extend(inner.get("name").map(str::to_owned));
            } else {
                alone = false;
            }
        }
        (marks, alone)
    }

    /// Whether text at this position was written at the start of its token.
    pub(super) fn is_said(&self) -> bool {
        self.word.as_ref().is_some_and(|word| word.said)
    }

    /// Whether to change how the element is spoken would cut a word in two.
    pub(super) fn cuts_word(&self, element: Element<'_>) -> bool {
        self.word.as_ref().is_some_and(|word| word.text != self.text_of(element).trim_ascii())
    }

    /// Adds silence: within a token, after it.
    pub(super) fn pause_for(&mut self, milliseconds: f64) {
        match &mut self.word {
            Some(word) => word.silence += milliseconds,
            None => self.silence(milliseconds),
        }
    }

    /// The token ends.
    pub(super) fn end_word(&mut self) {
        let Some(word) = self.word.take_if(|word| word.depth > self.saved.len()) else { return };
        self.boundary |= self.open.last().is_none_or(|opening| !matches!(opening.name, "token" | "w"));
        if word.silence > 0.0 {
            self.silence(word.silence);
        }
    }

    /// Whether a word that ended or begins here is to be kept apart from the
    /// text that follows.
    pub(super) fn is_boundary(&mut self, text: &str) -> bool {
        let boundary = std::mem::take(&mut self.boundary);
        boundary
            && text.starts_with(char::is_alphanumeric)
            && self.written_last().is_some_and(|text| text.ends_with(char::is_alphanumeric))
    }
}
