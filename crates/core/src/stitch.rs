//! One transcript out of those of overlapping parts of a recording, with no
//! word lost and none said twice.

use crate::transcript::meet_dense;
use crate::{Transcript, Word, normalise_words};

/// Two readings of a word lie at most so far apart, in seconds.
const SLACK: f64 = 0.25;
/// Words at a seam that are compared where there are no times.
const MOST_COMPARED: usize = 40;
/// Words at an end that may have been cut into.
const MOST_TORN: usize = 2;

/// What was heard from one second of a recording to another.
#[derive(Debug, Clone, PartialEq)]
pub struct HeardPart {
    /// Seconds from the start of the whole at which the part begins.
    pub from: f64,
    /// Seconds from the start of the whole at which the part ends.
    pub to: f64,
    /// Times from the beginning of the part.
    pub transcript: Transcript,
}

/// A word with its text in the part's own writing, and its separator behind.
#[derive(Debug, Clone)]
struct Said {
    word: Word,
    text: String,
}

/// Puts parts together, in their order; each may overlap the next.
pub fn stitch(parts: &[HeardPart]) -> Transcript {
    let language = parts.iter().find_map(|part| part.transcript.language.clone());
    let spoken: Vec<&HeardPart> = parts.iter().filter(|part| !part.transcript.text.trim().is_empty()).collect();
    let timed = |part: &&HeardPart| {
        let words = &part.transcript.words;
        !words.is_empty() && words.iter().all(|word| word.start.is_some() && word.end.is_some())
    };
    match spoken.iter().all(timed) {
        true => by_times(&spoken, language),
        false => by_words(&spoken, language),
    }
}

/// The words of a part with all that its text has between them.
fn said(part: &HeardPart) -> Vec<Said> {
    let text = &part.transcript.text;
    let mut at = 0;
    let mut starts = Vec::new();
    for word in &part.transcript.words {
        match text[at..].find(word.text.as_str()) {
            Some(found) => {
                starts.push(Some(at + found));
                at += found + word.text.len();
            }
            None => starts.push(None),
        }
    }
    let whole = starts.iter().all(Option::is_some);
    let moved = |time: Option<f64>| time.map(|time| part.from + time);
    let words = part.transcript.words.iter().enumerate();
    words
        .map(|(index, word)| {
            let end = starts.get(index + 1).copied().flatten().unwrap_or(text.len());
            let text = match starts[index].filter(|_| whole) {
                // Audio before the first word belongs to it.
                Some(start) => text[if index == 0 { 0 } else { start }..end].to_owned(),
                None => format!("{} ", word.text),
            };
            Said { word: Word { start: moved(word.start), end: moved(word.end), ..word.clone() }, text }
        })
        .collect()
}

fn by_times(parts: &[&HeardPart], language: Option<String>) -> Transcript {
    let mut all: Vec<Said> = Vec::new();
    let mut to = f64::NEG_INFINITY;
    for part in parts {
        let next = said(part);
        let (keep, from) = seam(&all, &next, part.from, to);
        all.truncate(keep);
        if from < next.len() {
            end_part(&mut all, &next[from]);
        }
        all.extend(next.into_iter().skip(from));
        to = part.to;
    }
    let text: String = all.iter().map(|said| said.text.as_str()).collect();
    let words = all.into_iter().map(|said| said.word).collect();
    Transcript { text: text.trim().to_owned(), language, words, ..Transcript::default() }
}

/// Parts are set apart by a space, except in writing that has none.
fn end_part(all: &mut [Said], next: &Said) {
    if let Some(last) = all.last_mut() {
        let spaced = last.text.ends_with(char::is_whitespace) || next.text.starts_with(char::is_whitespace);
        if !spaced && !meet_dense(&last.text, &next.text) {
            last.text.push(' ');
        }
    }
}

fn key(word: &Word) -> String {
    normalise_words(&word.text).concat()
}

/// How many words of the first stay, and with which of the second it goes on.
fn seam(first: &[Said], second: &[Said], from: f64, to: f64) -> (usize, usize) {
    let start = |said: &Said| said.word.start.unwrap_or(0.0);
    let end = |said: &Said| said.word.end.unwrap_or(0.0);
    let middle = (from + to) / 2.0;
    if to <= from {
        return (first.len(), 0);
    }
    // Where both have heard the same word at the same time, as far from either
    // edge as can be.
    let mut best: Option<(f64, usize, usize)> = None;
    let late = first.iter().rposition(|said| end(said) < from - SLACK).map_or(0, |at| at + 1);
    let early = second.iter().position(|said| start(said) > to + SLACK).unwrap_or(second.len());
    for (i, one) in first.iter().enumerate().skip(late) {
        for (j, other) in second[..early].iter().enumerate() {
            if (start(one) - start(other)).abs() < SLACK && key(&one.word) == key(&other.word) {
                let off = (start(one) - middle).abs();
                if best.is_none_or(|(least, ..)| off < least) {
                    best = Some((off, i, j));
                }
            }
        }
    }
    if let Some((_, i, j)) = best {
        return (i + 1, j + 1);
    }
    let centre = |said: &Said| f64::midpoint(start(said), end(said));
    let (Some(last), Some(next)) = (first.last().map(&end), second.first().map(&start)) else {
        return (first.len(), 0);
    };
    if next >= middle {
        // The second hears nothing before: the first goes as far as it is
        // whole. A word at its edge may be torn.
        let torn = |said: &Said| end(said) >= to - SLACK && start(said) >= next - SLACK;
        let keep = first.iter().position(|said| centre(said) >= next || torn(said)).unwrap_or(first.len());
        return (keep, 0);
    }
    if last <= middle {
        return (first.len(), second.iter().position(|said| centre(said) > last).unwrap_or(second.len()));
    }
    let keep = first.iter().position(|said| centre(said) >= middle).unwrap_or(first.len());
    (keep, second.iter().position(|said| centre(said) >= middle).unwrap_or(second.len()))
}

/// Without times: the words that end one part and begin the next are looked for.
fn by_words(parts: &[&HeardPart], language: Option<String>) -> Transcript {
    let mut text = String::new();
    for part in parts {
        let next = part.transcript.text.trim();
        let (keep, from) = text_seam(&text, next);
        text.truncate(keep);
        let next = next[from..].trim_start();
        if !text.is_empty() && !next.is_empty() && !meet_dense(&text, next) {
            text.push(' ');
        }
        text += next;
    }
    Transcript { text, language, ..Transcript::default() }
}

/// Bytes of the first that stay, and where the second goes on.
fn text_seam(first: &str, second: &str) -> (usize, usize) {
    let spans = |text: &str| -> Vec<(usize, usize)> {
        let word = |part: &str| {
            let start = part.as_ptr() as usize - text.as_ptr() as usize;
            (start, start + part.len())
        };
        text.split_whitespace().map(word).collect()
    };
    let (a, b) = (spans(first), spans(second));
    let tail = &a[a.len().saturating_sub(MOST_COMPARED)..];
    let head = &b[..b.len().min(MOST_COMPARED)];
    let same = |one: &(usize, usize), other: &(usize, usize)| {
        normalise_words(&first[one.0..one.1]) == normalise_words(&second[other.0..other.1])
    };
    let mut best: Option<(usize, usize, usize)> = None;
    for torn_tail in 0..=MOST_TORN.min(tail.len()) {
        for torn_head in 0..=MOST_TORN.min(head.len()) {
            let (tail, head) = (&tail[..tail.len() - torn_tail], &head[torn_head..]);
            let most = tail.len().min(head.len());
            let matched =
                |count: &usize| tail[tail.len() - count..].iter().zip(head).all(|(one, other)| same(one, other));
            if let Some(count) = (2..=most).rev().find(matched)
                && best.is_none_or(|(known, ..)| count > known)
            {
                best = Some((count, tail[tail.len() - 1].1, head[count - 1].1));
            }
        }
    }
    best.map_or((first.len(), 0), |(_, keep, from)| (keep, from))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn part(from: f64, to: f64, text: &str, times: &[(f64, f64)]) -> HeardPart {
        let words = text.split_whitespace().zip(times).map(|(text, (start, end))| Word {
            text: text.into(),
            start: Some(start - from),
            end: Some(end - from),
            ..Word::default()
        });
        let transcript = Transcript { text: text.into(), words: words.collect(), ..Transcript::default() };
        HeardPart { from, to, transcript }
    }

    #[test]
    fn words_that_both_have_heard_are_said_once() {
        let first = part(
            0.0,
            10.0,
            "Mind the step at the la",
            &[(6.0, 6.3), (6.4, 6.6), (6.7, 7.2), (7.5, 7.8), (8.8, 9.1), (9.7, 10.0)],
        );
        let second =
            part(7.0, 20.0, "p at the last door.", &[(7.0, 7.2), (7.5, 7.8), (8.8, 9.1), (9.7, 10.3), (10.4, 11.0)]);
        let whole = stitch(&[first, second]);
        assert_eq!(whole.text, "Mind the step at the last door.");
        let starts: Vec<f64> = whole.words.iter().filter_map(|word| word.start).collect();
        assert_eq!(starts, [6.0, 6.4, 6.7, 7.5, 8.8, 9.7, 10.4]);
    }

    #[test]
    fn what_only_one_of_them_could_hear_is_kept() {
        // The second begins within an utterance that it cannot make out.
        let first = part(0.0, 10.0, "One two three", &[(7.0, 7.5), (8.0, 8.5), (9.0, 9.5)]);
        let second = part(6.0, 20.0, "Four five", &[(10.2, 10.6), (11.0, 11.5)]);
        assert_eq!(stitch(&[first.clone(), second]).text, "One two three Four five");
        // The first has only the beginning of one that the second has whole.
        let torn = part(0.0, 10.0, "One two thr", &[(7.0, 7.5), (8.0, 8.5), (9.8, 10.0)]);
        let whole = part(9.7, 20.0, "three four", &[(9.8, 10.3), (10.4, 11.0)]);
        assert_eq!(stitch(&[torn, whole]).text, "One two three four");
    }

    /// Two readings of one stretch that share no word: each is believed where
    /// it is farther from its own edge.
    #[test]
    fn where_they_disagree_the_seam_lies_in_the_middle() {
        let first = part(0.0, 10.0, "a b c d e", &[(5.0, 5.4), (6.2, 6.6), (7.2, 7.6), (8.4, 8.8), (9.2, 9.6)]);
        let second = part(6.0, 16.0, "v w x y z", &[(6.1, 6.5), (7.3, 7.7), (8.5, 8.9), (9.3, 9.7), (11.0, 11.4)]);
        let whole = stitch(&[first, second]);
        assert_eq!(whole.text, "a b c x y z");
        let times: Vec<(f64, f64)> = whole.words.iter().filter_map(|word| Some((word.start?, word.end?))).collect();
        assert!(times.windows(2).all(|pair| pair[0].1 <= pair[1].0), "{times:?}");
    }

    /// The first falls silent before the middle: the second has the rest.
    #[test]
    fn what_the_first_does_not_reach_is_the_seconds() {
        let first = part(0.0, 10.0, "a b", &[(5.0, 5.4), (6.4, 6.8)]);
        let second = part(6.0, 16.0, "v w x", &[(6.1, 6.5), (7.0, 7.4), (9.0, 9.4)]);
        assert_eq!(stitch(&[first, second]).text, "a b w x");
    }

    /// The same word at the same time joins them, the same word elsewhere
    /// does not.
    #[test]
    fn a_word_is_the_same_only_at_its_time() {
        let first = part(0.0, 10.0, "the pier the", &[(6.0, 6.3), (7.5, 7.9), (8.3, 8.5)]);
        let second = part(6.0, 16.0, "pier the boat", &[(7.6, 8.0), (8.2, 8.4), (9.0, 9.5)]);
        let whole = stitch(&[first, second]);
        assert_eq!(whole.text, "the pier the boat");
        let third = part(6.0, 16.0, "Pier, the boat", &[(7.6, 8.0), (8.2, 8.4), (9.0, 9.5)]);
        let first = part(0.0, 10.0, "the pier", &[(6.0, 6.3), (7.5, 7.9)]);
        assert_eq!(stitch(&[first, third]).text, "the pier the boat", "case and marks are no difference");
    }

    #[test]
    fn what_stands_between_words_stays_and_times_are_of_the_whole() {
        let mut first = part(0.0, 5.0, "Now: cast off!", &[(1.0, 1.4), (1.5, 1.8), (1.9, 2.4)]);
        first.transcript.text = "– Now: cast off! –".into();
        first.transcript.language = Some("en".into());
        let second = part(5.0, 10.0, "Aye.", &[(6.0, 6.5)]);
        let whole = stitch(&[first, second]);
        assert_eq!((whole.text.as_str(), whole.language.as_deref()), ("– Now: cast off! – Aye.", Some("en")));
        assert_eq!(whole.words.last().and_then(|word| word.start), Some(6.0));
        // A text that is not made of its words is written anew.
        let mut odd = part(0.0, 5.0, "cast off", &[(1.0, 1.4), (1.5, 1.8)]);
        odd.transcript.text = "c'st off".into();
        assert_eq!(stitch(&[odd]).text, "cast off");
    }

    #[test]
    fn parts_that_meet_in_silence_are_set_one_behind_the_other() {
        let first = part(0.0, 10.0, "All aboard.", &[(1.0, 1.4), (1.5, 2.0)]);
        let second = part(10.0, 20.0, "The ramp is closing.", &[(11.0, 11.3), (11.4, 11.6), (11.7, 12.0)]);
        let whole = stitch(&[first, second]);
        assert_eq!(whole.text, "All aboard. The ramp is closing.");
        assert_eq!(whole.words.len(), 5);
    }

    #[test]
    fn writing_without_spaces_gets_none() {
        let said = |from: f64, text: &str| {
            let word = Word { text: text.into(), start: Some(1.0), end: Some(2.0), ..Word::default() };
            let transcript = Transcript { text: text.into(), words: vec![word], ..Transcript::default() };
            HeardPart { from, to: from + 5.0, transcript }
        };
        assert_eq!(stitch(&[said(0.0, "六時の便は"), said(5.0, "欠航です。")]).text, "六時の便は欠航です。");
    }

    #[test]
    fn without_times_the_common_words_show_the_seam() {
        let text = |from: f64, text: &str| HeardPart {
            from,
            to: from + 10.0,
            transcript: Transcript { text: text.into(), ..Transcript::default() },
        };
        let parts = [
            text(0.0, "Stand clear of the doors and mind the ga"),
            text(7.0, "rs and mind the step at the end. All aboard."),
        ];
        assert_eq!(stitch(&parts).text, "Stand clear of the doors and mind the step at the end. All aboard.");
        assert_eq!(stitch(&[text(0.0, "One."), text(10.0, "Two.")]).text, "One. Two.");
        assert_eq!(stitch(&[text(0.0, "One."), text(10.0, " ")]).text, "One.");
        assert_eq!(stitch(&[]).text, "");
    }
}
