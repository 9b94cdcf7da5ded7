//! One transcript of a recording whose channels were recognised one by one, as
//! of a telephone call: each channel is a speaker.

use crate::{Transcript, Word};

/// Words of a channel that lie closer together are one turn of its speaker, in
/// seconds.
const TURN: f64 = 0.8;

/// What one speaker says until a pause.
struct Turn {
    start: f64,
    channel: usize,
    words: Vec<Word>,
}

/// Puts transcripts of channels together, in the order of their turns, a line
/// of text each. Words have the number of their channel as speaker, from 1. A
/// channel whose words have no times is a single turn, at the beginning.
pub fn merge_channels(channels: Vec<Transcript>) -> Transcript {
    let language = channels.iter().find_map(|channel| channel.language.clone());
    let mut turns: Vec<Turn> = Vec::new();
    let mut untimed = Vec::new();
    for (channel, transcript) in channels.into_iter().enumerate() {
        if transcript.words.is_empty() || transcript.words.iter().any(|word| word.start.is_none()) {
            untimed.push(transcript.text.trim().to_owned());
            continue;
        }
        turns.extend(turns_of(channel, transcript.words));
    }
    turns.sort_by(|one, other| one.start.total_cmp(&other.start).then(one.channel.cmp(&other.channel)));
    let said = |turn: &Turn| turn.words.iter().map(|word| word.text.as_str()).collect::<Vec<_>>().join(" ");
    let lines = untimed.into_iter().chain(turns.iter().map(said)).filter(|line| !line.is_empty());
    Transcript {
        text: lines.collect::<Vec<_>>().join("\n"),
        language,
        words: turns.into_iter().flat_map(|turn| turn.words).collect(),
        ..Transcript::default()
    }
}

fn turns_of(channel: usize, words: Vec<Word>) -> Vec<Turn> {
    let mut turns: Vec<Turn> = Vec::new();
    let mut end = f64::NEG_INFINITY;
    for word in words {
        let start = word.start.unwrap_or_default();
        let word = Word { speaker: Some((channel + 1).to_string()), ..word };
        let next = word.end.unwrap_or(start);
        match turns.last_mut().filter(|_| start - end < TURN) {
            Some(turn) => turn.words.push(word),
            None => turns.push(Turn { start, channel, words: vec![word] }),
        }
        end = next;
    }
    turns
}

#[cfg(test)]
mod tests {
    use super::*;

    fn channel(words: &[(&str, f64)]) -> Transcript {
        let word = |(text, start): &(&str, f64)| Word {
            text: (*text).into(),
            start: Some(*start),
            end: Some(start + 0.3),
            confidence: None,
            speaker: None,
        };
        let text = words.iter().map(|(text, _)| *text).collect::<Vec<_>>().join(" ");
        Transcript { text, words: words.iter().map(word).collect(), ..Transcript::default() }
    }

    #[test]
    fn turns_come_in_the_order_in_which_they_begin_and_are_not_torn() {
        let caller = channel(&[("When", 0.0), ("is", 0.4), ("the", 0.8), ("ferry?", 1.2), ("Thanks.", 5.0)]);
        // The clerk falls into the caller's sentence.
        let clerk = channel(&[("Good", 0.5), ("morning.", 0.9), ("At", 3.0), ("noon.", 3.4)]);
        let merged = merge_channels(vec![caller, clerk]);
        assert_eq!(merged.text, "When is the ferry?\nGood morning.\nAt noon.\nThanks.");
        let speakers: Vec<&str> = merged.words.iter().filter_map(|word| word.speaker.as_deref()).collect();
        assert_eq!(speakers, ["1", "1", "1", "1", "2", "2", "2", "2", "1"]);
    }

    #[test]
    fn a_silent_channel_and_one_without_times_lose_nothing() {
        let silent = Transcript::default();
        let untimed = Transcript { text: " Ahoy there. ".into(), language: Some("en".into()), ..Transcript::default() };
        let merged = merge_channels(vec![channel(&[("Aye.", 1.0)]), silent, untimed]);
        assert_eq!((merged.text.as_str(), merged.language.as_deref()), ("Ahoy there.\nAye.", Some("en")));
        assert_eq!(merge_channels(Vec::new()), Transcript::default());
    }
}
