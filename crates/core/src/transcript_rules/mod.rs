//! What an app has done with its transcripts: numbers are masked, words are
//! written as its vocabulary says, and a phrase becomes a command; in this
//! order, so that nothing that is masked is seen by what follows.

mod command;
mod digits;
mod likeness;
mod mask;
mod rewrite;
mod vocabulary;

use serde::{Deserialize, Serialize};

pub use command::{Phrase, PhraseTable, SpokenCommand};
pub use mask::{MaskRule, Masks};
pub use vocabulary::{Vocabulary, VocabularyWord};

use crate::Transcript;
use rewrite::{WrittenSpan, anchored, rewrite};

/// Why a vocabulary, a phrase table or mask rules cannot be kept.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{at}: {fault}")]
pub struct RuleError {
    /// JSON pointer (RFC 6901) to the member in the document.
    pub at: String,
    /// What is wrong with it, for people.
    pub fault: String,
}

impl RuleError {
    fn new(at: impl Into<String>, fault: impl Into<String>) -> RuleError {
        RuleError { at: at.into(), fault: fault.into() }
    }
}

/// All that an app has done with its transcripts.
#[derive(Debug, Clone, Default)]
pub struct TranscriptRules {
    /// Names and terms, and how they are written.
    pub vocabulary: Vocabulary,
    /// Phrases that are commands.
    pub phrases: PhraseTable,
    /// What is not kept.
    pub masks: Masks,
}

/// What changed a transcript.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum ChangedBy {
    /// A word of the vocabulary.
    Vocabulary,
    /// A mask.
    Mask,
}

/// One change of a transcript after it was recognised.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct TranscriptChange {
    /// What changed it.
    pub by: ChangedBy,
    /// What the engine had heard; never told of what is masked.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub heard: Option<String>,
    /// What is written in its place.
    pub written: String,
    /// How alike they sound, 0 to 1; 1 where a form of the word was heard.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub likeness: Option<f64>,
    /// Seconds from the beginning.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub start: Option<f64>,
    /// Seconds from the beginning.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub end: Option<f64>,
}

/// A transcript after the rules of its app, as it is given to callers and kept.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
pub struct Revised {
    /// What is left of it.
    #[serde(flatten)]
    pub transcript: Transcript,
    /// Each change, in the order of the text.
    #[serde(default)]
    pub changes: Vec<TranscriptChange>,
    /// The command that it is, if it is one.
    #[serde(default)]
    pub command: Option<SpokenCommand>,
}

impl TranscriptRules {
    /// Whether transcripts stay as they are, and none is a command.
    pub fn is_empty(&self) -> bool {
        self.vocabulary.words.is_empty() && self.masks.is_empty() && self.phrases.phrases().is_empty()
    }

    /// Masks a transcript, corrects its words and says which command it is. To
    /// do it again changes nothing.
    pub fn revise(&self, transcript: Transcript) -> Revised {
        let (masked, mut changes) = self.masked(transcript);
        let (transcript, corrected) = match self.vocabulary.words.is_empty() {
            true => (masked, Vec::new()),
            false => changed(masked, |transcript| self.vocabulary.spans(transcript)),
        };
        changes.extend(corrected);
        changes.sort_by(|one, other| one.start.unwrap_or(0.0).total_cmp(&other.start.unwrap_or(0.0)));
        let command = self.phrases.command(&transcript.text);
        Revised { transcript, changes, command }
    }

    /// What a person wrote: masked, and perhaps a command. Its words are right.
    pub fn accept(&self, transcript: Transcript) -> Revised {
        let (transcript, changes) = self.masked(transcript);
        let command = self.phrases.command(&transcript.text);
        Revised { transcript, changes, command }
    }

    /// A transcript without what is masked, in all its readings.
    pub fn mask(&self, transcript: Transcript) -> Transcript {
        self.masked(transcript).0
    }

    fn masked(&self, transcript: Transcript) -> (Transcript, Vec<TranscriptChange>) {
        if self.masks.is_empty() {
            return (transcript, Vec::new());
        }
        let (mut masked, changes) = changed(transcript, |transcript| self.masks.spans(transcript));
        for alternative in &mut masked.alternatives {
            let text = std::mem::take(&mut alternative.text);
            alternative.text = self.masked_text(text);
        }
        (masked, changes)
    }

    fn masked_text(&self, text: String) -> String {
        let transcript = Transcript { text, ..Transcript::default() };
        let spans = self.masks.spans(&transcript);
        rewrite(transcript, &spans).0.text
    }
}

/// A transcript with what a rule finds in it written differently.
fn changed(
    transcript: Transcript,
    find: impl Fn(&Transcript) -> Vec<WrittenSpan>,
) -> (Transcript, Vec<TranscriptChange>) {
    let transcript = anchored(transcript);
    let spans = find(&transcript);
    rewrite(transcript, &spans)
}

/// What a document of a rule may hold.
fn check_text(at: &str, text: &str, most: usize) -> Result<(), RuleError> {
    if text.trim().is_empty() {
        return Err(RuleError::new(at, "is empty"));
    }
    if text.chars().count() > most {
        return Err(RuleError::new(at, format!("has more than {most} characters")));
    }
    if text.chars().any(char::is_control) {
        return Err(RuleError::new(at, "has control characters"));
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Alternative, Word};

    pub(super) fn heard(text: &str) -> Transcript {
        let words = text.split_whitespace().enumerate().map(|(index, text)| Word {
            text: text.into(),
            start: Some(index as f64),
            end: Some(index as f64 + 0.5),
            confidence: Some(0.8),
            speaker: None,
        });
        Transcript { text: text.into(), words: words.collect(), ..Transcript::default() }
    }

    fn rules() -> TranscriptRules {
        TranscriptRules {
            vocabulary: serde_json::from_str(
                r#"{"words": [{"grapheme": ["Skerrow"], "alias": ["care oh"]}, {"grapheme": ["Gullsay"]}]}"#,
            )
            .expect("a vocabulary"),
            masks: serde_json::from_str(r#"{"rules": [{"name": "card-number"}]}"#).expect("masks"),
            phrases: serde_json::from_str(
                r#"{"phrases": [{"command": "next-departure", "phrase": "next [ferry] to {place}"}]}"#,
            )
            .expect("phrases"),
        }
    }

    #[test]
    fn a_number_is_masked_before_a_word_is_corrected_and_a_phrase_is_looked_for() {
        let mut transcript = heard("Next ferry to care oh.");
        let revised = rules().revise(transcript.clone());
        assert_eq!(revised.transcript.text, "Next ferry to Skerrow.");
        let word = revised.transcript.words.last().expect("words");
        assert_eq!((word.text.as_str(), word.start, word.end), ("Skerrow.", Some(3.0), Some(4.5)));
        let command = revised.command.expect("a command");
        assert_eq!((command.command.as_str(), command.slots["place"].as_str()), ("next-departure", "Skerrow"));
        let [change] = revised.changes.as_slice() else { panic!("{:?}", revised.changes) };
        assert_eq!((change.heard.as_deref(), change.written.as_str()), (Some("care oh"), "Skerrow"));

        transcript = heard("pay with 4000 0012 3456 7899 at care oh");
        transcript.alternatives = vec![Alternative { text: "pay 4000001234567899".into(), confidence: None }];
        let revised = rules().revise(transcript);
        assert_eq!(revised.transcript.text, "pay with [card-number] at Skerrow");
        assert_eq!(revised.transcript.alternatives[0].text, "pay [card-number]");
        let told = serde_json::to_string(&revised.changes).expect("JSON");
        assert!(!told.contains("4000"), "a change does not tell what it masks: {told}");
        assert_eq!(revised.transcript.words[2].text, "[card-number]");
        assert_eq!((revised.transcript.words[2].start, revised.transcript.words[2].end), (Some(2.0), Some(5.5)));
    }

    #[test]
    fn what_a_person_wrote_is_masked_and_not_corrected() {
        let accepted = rules().accept(heard("next to care oh"));
        assert_eq!((accepted.transcript.text.as_str(), accepted.changes.len()), ("next to care oh", 0));
        assert_eq!(accepted.command.expect("a command").slots["place"], "care oh");
        assert_eq!(rules().mask(heard("card 4000 0012 3456 7899")).text, "card [card-number]");
    }

    #[test]
    fn rules_that_were_applied_change_nothing_more() {
        let once = rules().revise(heard("to care oh with 4000 0012 3456 7899 please"));
        let twice = rules().revise(once.transcript.clone());
        assert_eq!(twice.transcript, once.transcript);
        assert_eq!(twice.changes, []);
    }

    /// An engine may give words that its text does not have.
    #[test]
    fn words_that_are_not_in_the_text_are_masked_as_well() {
        let mut transcript = heard("card 4000 0012 3456 7899 please");
        transcript.text = "card number four double oh please".into();
        let revised = rules().revise(transcript);
        assert_eq!(revised.transcript.text, "card [card-number] please");
        assert!(revised.transcript.words.iter().all(|word| !word.text.contains("3456")));
    }

    #[test]
    fn without_rules_a_transcript_stays_as_it_is() {
        let mut odd = heard("cast off");
        odd.text = "c'st off".into();
        assert_eq!(TranscriptRules::default().revise(odd.clone()).transcript, odd);
        let phrases = TranscriptRules { phrases: rules().phrases, ..TranscriptRules::default() };
        assert!(!phrases.is_empty(), "a phrase alone is a rule");
        assert_eq!(phrases.revise(odd.clone()).transcript, odd);
    }
}
