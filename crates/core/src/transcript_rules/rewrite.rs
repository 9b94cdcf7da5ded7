//! Words of a transcript written differently, in its text and in its list of
//! words at once.

use std::ops::Range;

use super::{ChangedBy, TranscriptChange};
use crate::{Transcript, Word};

/// Bytes of a text that are written differently.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct WrittenSpan {
    pub(super) range: Range<usize>,
    pub(super) written: String,
    pub(super) by: ChangedBy,
    pub(super) likeness: Option<f64>,
}

/// A word of a text: letters and digits, apostrophes within.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct SaidWord {
    pub(super) range: Range<usize>,
    /// In small letters.
    pub(super) key: String,
}

/// The words of a text with their places in it.
pub(super) fn tokens(text: &str) -> Vec<SaidWord> {
    let mut found: Vec<Range<usize>> = Vec::new();
    let mut open: Option<usize> = None;
    let mut characters = text.char_indices().peekable();
    while let Some((at, c)) = characters.next() {
        let next = characters.peek().map(|(_, next)| *next);
        let within = c.is_alphanumeric()
            || open.is_some() && matches!(c, '\'' | '’') && next.is_some_and(char::is_alphanumeric)
            || open.is_some() && is_mark(c);
        match (within, open) {
            (true, None) => open = Some(at),
            (false, Some(start)) => {
                found.push(start..at);
                open = None;
            }
            _ => {}
        }
    }
    found.extend(open.map(|start| start..text.len()));
    let token = |range: Range<usize>| SaidWord { key: text[range.clone()].to_lowercase().replace('’', "'"), range };
    found.into_iter().map(token).collect()
}

/// The words of a text, to be compared.
pub(super) fn keys(text: &str) -> Vec<String> {
    tokens(text).into_iter().map(|token| token.key).collect()
}

/// Combining marks, which belong to the letter before.
fn is_mark(c: char) -> bool {
    matches!(c, '\u{300}'..='\u{36f}' | '\u{64b}'..='\u{65f}' | '\u{93a}'..='\u{94f}' | '\u{3099}' | '\u{309a}')
}

/// Position of each word in the text; `None` for a word that is not in it.
pub(super) fn places(transcript: &Transcript) -> Option<Vec<Range<usize>>> {
    let mut at = 0;
    let mut places = Vec::with_capacity(transcript.words.len());
    for word in &transcript.words {
        let start = at + transcript.text[at..].find(word.text.as_str())?;
        at = start + word.text.len();
        places.push(start..at);
    }
    Some(places)
}

/// The transcript with a text that contains each of its words.
pub(super) fn anchored(transcript: Transcript) -> Transcript {
    if places(&transcript).is_some() {
        return transcript;
    }
    let text = transcript.words.iter().map(|word| word.text.as_str()).collect::<Vec<_>>().join(" ");
    Transcript { text, ..transcript }
}

/// Writes spans, which are in order and apart from one another, and says what
/// that changed.
pub(super) fn rewrite(transcript: Transcript, spans: &[WrittenSpan]) -> (Transcript, Vec<TranscriptChange>) {
    if spans.is_empty() {
        return (transcript, Vec::new());
    }
    let places = places(&transcript).unwrap_or_default();
    let Transcript { text, words, .. } = &transcript;
    let mut changes = Vec::with_capacity(spans.len());
    for span in spans {
        let touched: Vec<&Word> =
            places.iter().zip(words).filter(|(place, _)| overlap(place, &span.range)).map(|(_, word)| word).collect();
        changes.push(TranscriptChange {
            by: span.by,
            heard: (span.by == ChangedBy::Vocabulary).then(|| text[span.range.clone()].to_owned()),
            written: span.written.clone(),
            likeness: span.likeness.map(|likeness| (likeness * 1_000.0).round() / 1_000.0),
            start: touched.first().and_then(|word| word.start),
            end: touched.last().and_then(|word| word.end),
        });
    }
    let words = rewritten_words(text, words, &places, spans);
    let text = written(text, 0..text.len(), spans);
    (Transcript { text, words, ..transcript }, changes)
}

fn overlap(one: &Range<usize>, other: &Range<usize>) -> bool {
    one.start < other.end && other.start < one.end
}

/// A part of a text with the spans in it written.
fn written(text: &str, range: Range<usize>, spans: &[WrittenSpan]) -> String {
    let mut out = String::new();
    let mut at = range.start;
    for span in spans.iter().filter(|span| overlap(&span.range, &range)) {
        out += &text[at..span.range.start.max(at)];
        out += &span.written;
        at = span.range.end;
    }
    out += text.get(at..range.end).unwrap_or_default();
    out
}

/// The words, those that a span touches as one or, where what is written has
/// several words, each with its share of the time.
fn rewritten_words(text: &str, words: &[Word], places: &[Range<usize>], spans: &[WrittenSpan]) -> Vec<Word> {
    let mut made: Vec<Word> = Vec::new();
    let mut at = 0;
    while at < places.len() {
        let mut range = places[at].clone();
        let first = at;
        at += 1;
        let touches =
            |range: &Range<usize>| spans.iter().find(|span| overlap(&span.range, range) && span.range.end > range.end);
        while let Some(span) = touches(&range) {
            range.end = span.range.end;
            while at < places.len() && places[at].start < range.end {
                range.end = range.end.max(places[at].end);
                at += 1;
            }
        }
        let group = &words[first..at];
        match spans.iter().any(|span| overlap(&span.range, &range)) {
            false => made.extend_from_slice(group),
            true => made.extend(shared(&written(text, range, spans), group)),
        }
    }
    made
}

/// Words of a text, over the time of other words.
fn shared(text: &str, group: &[Word]) -> Vec<Word> {
    let (Some(first), Some(last)) = (group.first(), group.last()) else { return Vec::new() };
    let sure = group.iter().filter_map(|word| word.confidence).reduce(f64::min);
    let whole = first.start.zip(last.end);
    let letters = text.chars().filter(|c| !c.is_whitespace()).count().max(1) as f64;
    let mut before = 0.0;
    let word = |part: &str| {
        let share = part.chars().count() as f64 / letters;
        let times =
            whole.map(|(start, end)| (start + (end - start) * before, start + (end - start) * (before + share)));
        before += share;
        Word {
            text: part.to_owned(),
            start: times.map_or(first.start, |times| Some(times.0)),
            end: times.map_or(last.end, |times| Some(times.1)),
            confidence: sure,
            speaker: first.speaker.clone(),
        }
    };
    text.split_whitespace().map(word).collect()
}

#[cfg(test)]
mod tests {
    use super::super::tests::heard;
    use super::*;

    fn span(text: &str, part: &str, written: &str) -> WrittenSpan {
        let at = text.find(part).expect("the part");
        let (by, likeness) = (ChangedBy::Vocabulary, Some(0.91234));
        WrittenSpan { range: at..at + part.len(), written: written.into(), by, likeness }
    }

    #[test]
    fn a_word_for_several_has_their_time_and_keeps_the_marks_around_them() {
        let text = "to “gull say”, now";
        let (made, changes) = rewrite(heard(text), &[span(text, "gull say", "Gullsay")]);
        assert_eq!(made.text, "to “Gullsay”, now");
        let words: Vec<_> = made.words.iter().map(|word| (word.text.as_str(), word.start, word.end)).collect();
        let (third, fourth) = (Some(3.0), Some(3.5));
        assert_eq!(words, [("to", Some(0.0), Some(0.5)), ("“Gullsay”,", Some(1.0), Some(2.5)), ("now", third, fourth)]);
        assert_eq!((changes[0].heard.as_deref(), changes[0].likeness), (Some("gull say"), Some(0.912)));
        assert_eq!((changes[0].start, changes[0].end), (Some(1.0), Some(2.5)));
    }

    #[test]
    fn several_words_for_one_share_its_time_by_their_length() {
        let text = "at gulsayholm";
        let (made, _) = rewrite(heard(text), &[span(text, "gulsayholm", "Gullsay Hol")]);
        let words: Vec<_> = made.words.iter().map(|word| (word.text.as_str(), word.start, word.end)).collect();
        assert_eq!(words[1], ("Gullsay", Some(1.0), Some(1.35)));
        assert_eq!(words[2], ("Hol", Some(1.35), Some(1.5)));
    }

    #[test]
    fn two_changes_within_one_word_are_both_written() {
        let text = "gul/sker x";
        let spans = [span(text, "gul", "Gullsay"), span(text, "sker", "Skerrow")];
        let (made, changes) = rewrite(heard(text), &spans);
        assert_eq!((made.text.as_str(), changes.len()), ("Gullsay/Skerrow x", 2));
        assert_eq!(made.words.iter().map(|word| word.text.as_str()).collect::<Vec<_>>(), ["Gullsay/Skerrow", "x"]);
    }

    #[test]
    fn words_are_letters_and_digits_with_apostrophes_within() {
        let keys: Vec<String> = tokens("‘O’Hara's’ 10:15 e\u{301}t 六時").into_iter().map(|token| token.key).collect();
        assert_eq!(keys, ["o'hara's", "10", "15", "e\u{301}t", "六時"]);
    }

    #[test]
    fn a_text_without_words_is_written_too() {
        let transcript = Transcript { text: "to gull say".into(), ..Transcript::default() };
        let (made, changes) = rewrite(transcript, &[span("to gull say", "gull say", "Gullsay")]);
        assert_eq!((made.text.as_str(), made.words.len(), changes[0].start), ("to Gullsay", 0, None));
    }
}
