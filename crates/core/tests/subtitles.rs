//! Subtitles of a transcript hold every word, in order, at its time.

use dispatcher_core::{Transcript, Word};
use proptest::prelude::*;

/// Seconds and text of each cue, read by the grammar of WebVTT (W3C) or of
/// SubRip, which differ in the mark before the thousandths.
fn cues(file: &str, mark: char) -> Vec<(f64, f64, String)> {
    let seconds = |text: &str| {
        let (whole, thousandths) = text.split_once(mark).unwrap_or_else(|| panic!("{text} has no '{mark}'"));
        assert_eq!(thousandths.len(), 3, "{text}");
        let parts: Vec<f64> = whole.split(':').map(|part| part.parse().unwrap()).collect();
        assert!(parts.len() == 3 && parts[1] < 60.0 && parts[2] < 60.0, "{text}");
        parts[0] * 3_600.0 + parts[1] * 60.0 + parts[2] + thousandths.parse::<f64>().unwrap() / 1_000.0
    };
    // Lines of a cue are one text.
    let blocks = file.split("\n\n").filter_map(|block| block.split_once(" --> ").map(|parts| (block, parts)));
    blocks
        .map(|(_, (before, behind))| {
            let (end, text) = behind.split_once('\n').unwrap();
            let text = text.trim_end_matches('\n');
            let lines = text.lines().map(|line| unescaped(line).chars().count()).max().unwrap_or(0);
            assert!(lines <= 42 || !text.contains(' '), "a line of {lines} columns: {text}");
            (seconds(before.lines().last().unwrap()), seconds(end), text.replace('\n', " "))
        })
        .collect()
}

fn transcript(words: &[(String, f64)]) -> Transcript {
    let mut at = 0.0;
    let words: Vec<Word> = words
        .iter()
        .map(|(text, length)| {
            let start = at;
            at += length + 0.1;
            Word { text: text.clone(), start: Some(start), end: Some(start + length), ..Word::default() }
        })
        .collect();
    let text = words.iter().map(|word| word.text.as_str()).collect::<Vec<_>>().join(" ");
    Transcript { text, words, ..Transcript::default() }
}

fn unescaped(text: &str) -> String {
    text.replace("&lt;", "<").replace("&gt;", ">").replace("&amp;", "&")
}

proptest! {
    #[test]
    fn every_word_is_in_a_cue_that_can_be_read(
        words in prop::collection::vec(("[a-zé<&>]{1,12}[.,?!]?", 0.05f64..2.5), 1..120)
    ) {
        let transcript = transcript(&words);
        let length = transcript.words.last().and_then(|word| word.end).unwrap();
        let vtt = cues(&transcript.to_vtt(length), '.');
        let srt = cues(&transcript.to_srt(length), ',');
        let said: Vec<String> = vtt.iter().map(|(.., text)| unescaped(text)).collect();
        prop_assert_eq!(said.join(" "), transcript.text.clone());
        prop_assert_eq!(srt.iter().map(|(.., text)| text.clone()).collect::<Vec<_>>(), said.clone());
        for ((start, end, _), text) in vtt.iter().zip(&said) {
            prop_assert!(start < end, "{} to {}", start, end);
            let one = !text.contains(' ');
            prop_assert!(one || end - start <= 6.001, "{:?} stands for {} s", text, end - start);
            prop_assert!(one || text.chars().count() <= 72, "{:?} is {} long", text, text.chars().count());
            let inner = text.trim_end_matches(['.', '?', '!']);
            prop_assert!(!inner.contains(['.', '?', '!']), "two sentences in one: {:?}", text);
        }
        for pair in vtt.windows(2) {
            prop_assert!(pair[0].1 <= pair[1].0 + 1e-6, "{:?} overlap", pair);
        }
        // A cue begins with its first word, ends no sooner than its last, and stays
        // for as long as it takes to read where nothing comes after it.
        let starts: Vec<f64> = transcript.words.iter().filter_map(|word| word.start).collect();
        let mut at = 0;
        for (start, end, text) in &vtt {
            prop_assert!((start - starts[at]).abs() < 0.001, "{} for {}", start, starts[at]);
            at += text.split(' ').count();
            let spoken = transcript.words[at - 1].end.unwrap();
            prop_assert!(*end > spoken - 0.001, "it ends at {} before its last word at {}", end, spoken);
            let read = start + unescaped(text).chars().count() as f64 / 17.0;
            prop_assert!(*end < spoken.max(read) + 0.001);
        }
    }
}

#[test]
fn a_day_of_sound_has_hours_and_a_word_without_a_time_makes_one_cue_of_all() {
    let late = Word { text: "Gullsay".into(), start: Some(86_399.5), end: Some(86_399.999_6), ..Word::default() };
    let transcript = Transcript { text: "Gullsay".into(), words: vec![late.clone()], ..Transcript::default() };
    assert_eq!(transcript.to_vtt(86_400.0), "WEBVTT\n\n23:59:59.500 --> 24:00:00.000\nGullsay\n");
    let untimed = Word { text: "quay".into(), ..Word::default() };
    let transcript = Transcript { text: "Gullsay quay".into(), words: vec![late, untimed], ..Transcript::default() };
    assert_eq!(cues(&transcript.to_srt(3.25), ','), [(0.0, 3.25, "Gullsay quay".to_owned())]);
}

#[test]
fn writing_without_spaces_gets_none() {
    let word = |text: &str, start: f64| Word {
        text: text.into(),
        start: Some(start),
        end: Some(start + 0.4),
        ..Word::default()
    };
    let words =
        vec![word("六時の", 0.0), word("便は", 0.5), word("欠航です。", 1.0), word("Gullsay", 2.0), word("行き", 2.5)];
    let transcript =
        Transcript { text: "六時の便は欠航です。 Gullsay 行き".into(), words, ..Transcript::default() };
    let said: Vec<String> = cues(&transcript.to_vtt(3.0), '.').into_iter().map(|(.., text)| text).collect();
    assert_eq!(said, ["六時の便は欠航です。", "Gullsay 行き"]);
}
