//! Text that follows the audio: cues of sentences out of cues of pieces.

use dispatcher_core::Word;
use dispatcher_markup::sentences;

use crate::dispatch::utterance::Cue;

/// Cues of sentences, in seconds. Where the engine timed each word of a piece,
/// sentences begin with their first word; elsewhere the piece's time is
/// shared out by the length of its sentences.
pub(super) fn of_sentences(pieces: &[Cue], words: &[Word]) -> Vec<(f64, f64, String)> {
    let mut cues = Vec::new();
    for piece in pieces {
        let parts = sentences(&piece.text);
        let timed: Vec<(f64, f64)> = words
            .iter()
            .filter_map(|word| Some((word.start?, word.end?)))
            .filter(|(start, _)| *start >= piece.start - 1e-6 && *start < piece.end)
            .collect();
        let counted: usize = parts.iter().map(|part| part.split_whitespace().count()).sum();
        match timed.len() == counted && counted > 0 {
            true => by_words(&parts, &timed, &mut cues),
            false => by_length(&parts, piece, &mut cues),
        }
    }
    cues
}

fn by_words(parts: &[&str], timed: &[(f64, f64)], cues: &mut Vec<(f64, f64, String)>) {
    let mut at = 0;
    for part in parts {
        let count = part.split_whitespace().count();
        let (Some(first), Some(last)) = (timed.get(at), timed.get((at + count).saturating_sub(1))) else { return };
        cues.push((first.0, last.1, one_line(part)));
        at += count;
    }
}

fn one_line(text: &str) -> String {
    text.split_whitespace().collect::<Vec<_>>().join(" ")
}

fn by_length(parts: &[&str], piece: &Cue, cues: &mut Vec<(f64, f64, String)>) {
    let length = |part: &str| part.chars().count() as f64;
    let whole: f64 = parts.iter().map(|part| length(part)).sum();
    let mut so_far = 0.0;
    for part in parts {
        let at = |share: f64| piece.start + (piece.end - piece.start) * share / whole.max(1.0);
        let (start, end) = (at(so_far), at(so_far + length(part)));
        cues.push((start, end, one_line(part)));
        so_far += length(part);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sentences_follow_their_words_or_share_the_time_of_their_piece() {
        let piece = Cue { start: 10.0, end: 20.0, text: "One two. Three four.".into() };
        let even = of_sentences(std::slice::from_ref(&piece), &[]);
        assert_eq!(even[0].2, "One two.");
        assert_eq!((even[0].0, even[1].1), (10.0, 20.0));
        assert!((even[1].0 - 14.5).abs() < 1e-9 && even[0].1 == even[1].0, "9 of 20 characters: {even:?}");
        let word = |start: f64| Word { start: Some(start), end: Some(start + 0.5), ..Word::default() };
        let timed = of_sentences(&[piece], &[10.0, 11.0, 17.0, 18.0].map(word));
        assert_eq!(timed, [(10.0, 11.5, "One two.".into()), (17.0, 18.5, "Three four.".into())]);
    }
}
