//! What engines say of a session, as its segments: numbered in their order,
//! each with its times in the session, each settled once.

use dispatcher_core::{Revised, Transcript, TranscriptChange, Word};
use dispatcher_engines::LiveResult;

use super::LiveEvent;
use crate::dispatch::dispatch_record::SinceDispatch;

/// The segments of a session.
#[derive(Default)]
pub(super) struct LiveResults {
    /// Of the call at hand: what the engine calls them, and their numbers.
    open: Vec<(Option<serde_json::Value>, u64)>,
    /// The number of the last one.
    last: u64,
    settled: Vec<SettledSegment>,
    /// The end of the last word that is settled.
    to: f64,
    first: Option<SinceDispatch>,
}

/// A segment that does not change any more.
struct SettledSegment {
    segment: u64,
    text: String,
    /// Where the transcript is to be kept.
    words: Vec<Word>,
    changes: Vec<TranscriptChange>,
}

/// Which words of a call are taken, in seconds of the session. Two calls that
/// share some audio have its words twice, and the last word of the first may
/// be cut into.
pub(super) struct Seams {
    /// It shares its beginning with the call before.
    pub(super) begins_within: bool,
    /// Where its audio breaks off in the middle of speech.
    pub(super) breaks_off: Option<f64>,
}

/// A word that ends so close to where the audio breaks off is cut into.
const TORN: f64 = 0.15;
/// Two readings of a word lie at most so far apart at a seam.
const SLACK: f64 = 0.1;

impl LiveResults {
    /// Takes in a result, whose times are those of the session.
    pub(super) fn take(&mut self, result: LiveResult, seams: &Seams, elapsed: SinceDispatch) -> Option<LiveEvent> {
        let LiveResult { key, transcript, settled } = result;
        let after = if seams.begins_within { self.to - SLACK } else { f64::NEG_INFINITY };
        let until = seams.breaks_off.map_or(f64::INFINITY, |end| end - TORN);
        let transcript = within(transcript, after, until);
        self.first.get_or_insert(elapsed);
        let known = self.open.iter().position(|(own, _)| *own == key);
        if known.is_none() && transcript.text.trim().is_empty() {
            return None;
        }
        let at = known.unwrap_or_else(|| {
            self.last += 1;
            self.open.push((key, self.last));
            self.open.len() - 1
        });
        let segment = self.open[at].1;
        if self.settled.iter().any(|own| own.segment == segment) {
            return None;
        }
        if settled {
            self.to = transcript.words.iter().filter_map(|word| word.end).fold(self.to, f64::max);
            let text = transcript.text.clone();
            self.settled.push(SettledSegment { segment, text, words: Vec::new(), changes: Vec::new() });
            // Without a name, the next result is of another segment.
            if self.open[at].0.is_none() {
                self.open.remove(at);
            }
        }
        Some(LiveEvent::Result { segment, settled, transcript, changes: Vec::new(), command: None })
    }

    /// What a settled segment is after the rules of the app; its words where
    /// they are to be kept with what changed them.
    pub(super) fn settle(&mut self, segment: u64, transcript: &Transcript, kept: Option<&[TranscriptChange]>) {
        let Some(own) = self.settled.iter_mut().rfind(|own| own.segment == segment) else { return };
        own.text.clone_from(&transcript.text);
        if let Some(changes) = kept {
            own.words.clone_from(&transcript.words);
            own.changes = changes.to_vec();
        }
    }

    /// All that is settled, to be kept.
    pub(super) fn whole(&mut self, language: Option<String>) -> Revised {
        self.settled.sort_by_key(|own| own.segment);
        let words = self.settled.iter().flat_map(|own| own.words.iter().cloned()).collect();
        let changes = self.settled.iter().flat_map(|own| own.changes.iter().cloned()).collect();
        let transcript = Transcript { text: self.text(), language, words, ..Transcript::default() };
        Revised { transcript, changes, command: None }
    }

    /// The next results are of another call: numbers of what was not settled
    /// are given again.
    pub(super) fn again(&mut self) {
        self.open.clear();
        self.last = self.settled.iter().map(|own| own.segment).max().unwrap_or(0);
    }

    pub(super) fn first_at(&self) -> Option<SinceDispatch> {
        self.first
    }

    /// All that is settled, in its order.
    pub(super) fn text(&self) -> String {
        let mut settled: Vec<&SettledSegment> = self.settled.iter().collect();
        settled.sort_by_key(|own| own.segment);
        let texts = settled.into_iter().map(|own| own.text.as_str()).filter(|text| !text.trim().is_empty());
        texts.collect::<Vec<_>>().join(" ")
    }
}

/// The words of a transcript that begin after one time and end until another.
/// Those without times are taken as they are.
fn within(transcript: Transcript, after: f64, until: f64) -> Transcript {
    let outside =
        |word: &Word| word.start.is_some_and(|start| start < after) || word.end.is_some_and(|end| end > until);
    if !transcript.words.iter().any(outside) {
        return transcript;
    }
    let words: Vec<Word> = transcript.words.into_iter().filter(|word| !outside(word)).collect();
    let text = words.iter().map(|word| word.text.as_str()).collect::<Vec<_>>().join(" ");
    Transcript { text, words, ..transcript }
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    const WHOLE: Seams = Seams { begins_within: false, breaks_off: None };

    fn heard(key: u64, text: &str, settled: bool) -> LiveResult {
        let transcript = Transcript { text: text.into(), ..Transcript::default() };
        LiveResult { key: Some(json!(key)), transcript, settled }
    }

    fn told(results: &mut LiveResults, result: LiveResult) -> Option<(u64, bool, String)> {
        match results.take(result, &WHOLE, SinceDispatch::default())? {
            LiveEvent::Result { segment, settled, transcript, .. } => Some((segment, settled, transcript.text)),
            other => panic!("{other:?}"),
        }
    }

    #[test]
    fn a_segment_keeps_its_number_until_it_is_settled_and_does_not_change_after() {
        let mut results = LiveResults::default();
        assert_eq!(told(&mut results, heard(0, "ramp the", false)), Some((1, false, "ramp the".into())));
        assert_eq!(told(&mut results, heard(1, "clear", false)), Some((2, false, "clear".into())));
        assert_eq!(told(&mut results, heard(0, "The ramp.", true)), Some((1, true, "The ramp.".into())));
        assert_eq!(told(&mut results, heard(0, "the lamp", false)), None);
        assert_eq!(told(&mut results, heard(1, "Stand clear.", true)), Some((2, true, "Stand clear.".into())));
        assert_eq!(results.text(), "The ramp. Stand clear.");
    }

    #[test]
    fn what_is_kept_is_as_the_rules_of_the_app_made_it() {
        let mut results = LiveResults::default();
        told(&mut results, heard(1, "Stand clear.", true));
        told(&mut results, heard(0, "To gull say.", true));
        let word = |text: &str, start: f64| Word { text: text.into(), start: Some(start), ..Word::default() };
        let revised = Transcript {
            text: "To Gullsay.".into(),
            words: vec![word("To", 4.0), word("Gullsay.", 4.3)],
            ..Transcript::default()
        };
        let change = TranscriptChange {
            by: dispatcher_core::ChangedBy::Vocabulary,
            heard: Some("gull say".into()),
            written: "Gullsay".into(),
            likeness: Some(1.0),
            start: Some(4.3),
            end: None,
        };
        results.settle(2, &revised, Some(std::slice::from_ref(&change)));
        assert_eq!(results.text(), "Stand clear. To Gullsay.");
        let whole = results.whole(Some("en-GB".into()));
        assert_eq!((whole.transcript.text.as_str(), whole.changes), ("Stand clear. To Gullsay.", vec![change]));
        assert_eq!(whole.transcript.words, revised.words, "the first was not to be kept with its words");
    }

    #[test]
    fn another_call_gives_the_numbers_of_what_was_open_again() {
        let mut results = LiveResults::default();
        told(&mut results, heard(0, "The ramp.", true));
        told(&mut results, heard(1, "stand", false));
        results.again();
        assert_eq!(told(&mut results, heard(0, "Stand clear.", true)), Some((2, true, "Stand clear.".into())));
        assert_eq!(results.text(), "The ramp. Stand clear.");
    }

    #[test]
    fn without_names_the_open_result_is_the_one_that_changes() {
        let mut results = LiveResults::default();
        let nameless = |text: &str, settled| LiveResult { key: None, ..heard(0, text, settled) };
        assert_eq!(told(&mut results, nameless("stand", false)), Some((1, false, "stand".into())));
        assert_eq!(told(&mut results, nameless("Stand clear.", true)), Some((1, true, "Stand clear.".into())));
        assert_eq!(told(&mut results, nameless("hold", false)), Some((2, false, "hold".into())));
    }

    #[test]
    fn words_at_a_seam_are_of_one_call_alone() {
        let word = |text: &str, start: f64| Word {
            text: text.into(),
            start: Some(start),
            end: Some(start + 0.2),
            confidence: None,
            speaker: None,
        };
        let transcript = Transcript {
            text: "clear of the doors".into(),
            words: vec![word("clear", 9.0), word("of", 9.3), word("the", 9.6), word("doors", 9.8)],
            ..Transcript::default()
        };
        let cut = Seams { breaks_off: Some(10.0), ..WHOLE };
        let mut results = LiveResults::default();
        let first = LiveResult { key: Some(json!(0)), transcript: transcript.clone(), settled: true };
        results.take(first, &cut, SinceDispatch::default());
        assert_eq!(results.text(), "clear of the", "the last word is cut into");
        results.again();
        let next = LiveResult { key: Some(json!(0)), transcript, settled: true };
        results.take(next, &Seams { begins_within: true, ..WHOLE }, SinceDispatch::default());
        assert_eq!(results.text(), "clear of the doors");
    }
}
