//! Where a text may be cut: the ends of sentences, clauses and words.
//!
//! Sentences and words by Unicode's rules (UAX #29), mended where those cut
//! behind abbreviations and initials.

use unicode_segmentation::UnicodeSegmentation as _;

/// How good a place for a cut is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) enum Rank {
    Word,
    Clause,
    Sentence,
    Paragraph,
}

/// A name, a number or a word follows these, and never a new sentence.
const BEFORE_A_NAME: &[&str] = &[
    "mr", "mrs", "ms", "dr", "st", "prof", "capt", "cpt", "lt", "sgt", "rev", "hon", "sr", "sra", "srª", "dra", "d",
    "eng", "cmdte", "m", "mm", "mme", "mlle", "me", "vs", "cf", "e.g", "i.e", "p.ex", "ex", "fig", "vol", "approx",
];
/// A number follows these, or a new sentence.
const BEFORE_A_NUMBER: &[&str] =
    &["no", "nos", "nr", "n", "n.º", "nº", "art", "p", "pp", "sec", "chap", "cap", "tel", "tél", "ch"];

/// The word that a text ends in, its last point taken off.
fn last_word(text: &str) -> Option<&str> {
    let body = text.trim_end().strip_suffix('.')?;
    body.rsplit(|c: char| c.is_whitespace() || matches!(c, '(' | '[' | '"' | '“' | '«' | '\'')).next()
}

/// Whether an empty line ends a text.
pub(super) fn ends_paragraph(text: &str) -> bool {
    let space = &text[text.trim_end().len()..];
    space.bytes().filter(|byte| *byte == b'\n').count() > 1
}

/// Whether what looks like the end of a sentence is none.
fn goes_on(before: &str, after: &str) -> bool {
    if after.trim_start().starts_with(char::is_lowercase) {
        return true;
    }
    let Some(word) = last_word(before) else { return false };
    let mut letters = word.chars();
    let initial = matches!((letters.next(), letters.next()), (Some(letter), None) if letter.is_uppercase());
    let folded = word.to_lowercase();
    let number = after.trim_start().starts_with(|c: char| c.is_numeric());
    // "Pier B." may end a sentence; "J. Marlow" does not. An initial has a
    // word before it that is a name, or none: told by what follows.
    let named = initial && after.trim_start().starts_with(char::is_uppercase) && !ends_in_place(before);
    named || BEFORE_A_NAME.contains(&folded.as_str()) || (number && BEFORE_A_NUMBER.contains(&folded.as_str()))
}

/// "… at pier B." and the like: a letter that names a thing before it.
fn ends_in_place(before: &str) -> bool {
    let mut words = before.split_whitespace().rev();
    words.next();
    words.next().is_some_and(|word| word.chars().all(|c| c.is_lowercase() || c.is_numeric()))
}

/// Where Unicode ends sentences. Each letter costs a search in a table, and a
/// row of small letters is to its rules what one of them is (UAX #29, section
/// 5.1: no rule looks past a small letter): the row's first stands for it.
fn bounds(text: &str) -> Vec<usize> {
    let small = |byte: &u8| byte.is_ascii_lowercase();
    let mut short = String::with_capacity(text.len() / 2);
    // From which byte of the short text on, and how many are left out before.
    let mut left_out = vec![(0, 0)];
    let (mut at, mut many) = (0, 0);
    while at < text.len() {
        let rest = &text.as_bytes()[at..];
        let first = rest.iter().position(small).map_or(rest.len(), |letter| letter + 1);
        let row = rest[first..].iter().take_while(|byte| small(byte)).count();
        short.push_str(&text[at..at + first]);
        many += row;
        left_out.push((short.len(), many));
        at += first + row;
    }
    let mut next = left_out.into_iter().peekable();
    let mut before = 0;
    let ends = short.split_sentence_bound_indices().map(|(at, _)| at).skip(1);
    ends.map(|end| {
        while let Some((_, many)) = next.next_if(|(from, _)| *from <= end) {
            before = many;
        }
        end + before
    })
    .collect()
}

/// Byte positions behind which sentences end, the end of the text not among
/// them. White space belongs to the sentence before it.
pub(crate) fn sentence_ends(text: &str) -> Vec<usize> {
    let mut start = 0;
    let mut ends = Vec::new();
    for at in bounds(text) {
        let (before, after) = (&text[start..at], &text[at..]);
        if before.trim().is_empty() || after.starts_with(['\n', '\r']) {
            continue;
        }
        // A line that ends without a mark goes on, unless an empty line follows.
        let parted = ends_paragraph(before);
        let marked = before.trim_end().ends_with(is_end);
        if !parted && (!marked || goes_on(before, after)) {
            continue;
        }
        ends.push(at);
        start = at;
    }
    ends
}

fn is_end(c: char) -> bool {
    matches!(
        c,
        '.' | '!'
            | '?'
            | '…'
            | '。'
            | '！'
            | '？'
            | '．'
            | '؟'
            | '۔'
            | '"'
            | '”'
            | '»'
            | '’'
            | '\''
            | ')'
            | ']'
            | '」'
            | '』'
            | '）'
    )
}

fn is_clause(c: char) -> bool {
    matches!(c, ',' | ';' | ':' | '–' | '—' | '、' | '，' | '；' | '：' | '،' | '؛')
}

/// Every place where a sentence may be cut, in order, with its rank; behind
/// white space, where there is some.
pub(crate) fn places(text: &str) -> Vec<(usize, Rank)> {
    let mut places = Vec::new();
    let mut at = 0;
    let mut words = text.split_word_bounds().peekable();
    while let Some(word) = words.next() {
        let start = at;
        at += word.len();
        // Trailing white space and marks stay with the word before them.
        let follows = words.peek().copied().unwrap_or_default();
        if at == text.len() {
            break;
        }
        let before = text[..at].trim_end();
        let spaced = word.chars().all(char::is_whitespace) && !follows.chars().all(char::is_whitespace);
        let wide = before.ends_with(['、', '，', '；', '：']);
        // Scripts without spaces part between words.
        let unspaced = !follows.is_empty()
            && text[start..at].chars().all(char::is_alphanumeric)
            && follows.starts_with(|c: char| c.is_alphanumeric());
        if spaced && before.ends_with(is_clause) || wide {
            places.push((at, Rank::Clause));
        } else if spaced || unspaced {
            places.push((at, Rank::Word));
        }
    }
    places
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn sentences(text: &str) -> Vec<&str> {
        let mut start = 0;
        let mut found: Vec<&str> = Vec::new();
        for end in sentence_ends(text).into_iter().chain([text.len()]) {
            found.push(text[start..end].trim());
            start = end;
        }
        found
    }

    #[test]
    fn sentences_end_where_people_end_them() {
        for (text, parts) in [
            ("The ferry is late. Please wait.", vec!["The ferry is late.", "Please wait."]),
            (
                "Mr. Tidewell and Dr. Tussock sail at 6.15 p.m. today. Board now!",
                vec!["Mr. Tidewell and Dr. Tussock sail at 6.15 p.m. today.", "Board now!"],
            ),
            ("Ask J. Marlow for No. 5. It is there.", vec!["Ask J. Marlow for No. 5.", "It is there."]),
            ("Wait at pier B. The gate opens at 06:15.", vec!["Wait at pier B.", "The gate opens at 06:15."]),
            ("It costs 3.50 euros. Pay on board.", vec!["It costs 3.50 euros.", "Pay on board."]),
            (
                "O Sr. Almada chega às 18h30. Espere no cais n.º 3.",
                vec!["O Sr. Almada chega às 18h30.", "Espere no cais n.º 3."],
            ),
            ("M. Corbel attend. Montez !", vec!["M. Corbel attend.", "Montez !"]),
            ("船は遅れます。お待ちください！はい。", vec!["船は遅れます。", "お待ちください！", "はい。"]),
            ("العبارة متأخرة. هل تنتظر؟ نعم.", vec!["العبارة متأخرة.", "هل تنتظر؟", "نعم."]),
            ("“Mind the step!” she said. We did.", vec!["“Mind the step!” she said.", "We did."]),
            (
                "Life jackets\n\nAre under the seats. Take one.",
                vec!["Life jackets", "Are under the seats.", "Take one."],
            ),
            ("a line\nthat goes on. Next", vec!["a line\nthat goes on.", "Next"]),
        ] {
            assert_eq!(sentences(text), parts, "{text}");
        }
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(2_000))]

        #[test]
        fn unicode_ends_sentences_where_it_does_in_the_whole_text(
            text in "([a-z]{1,4}|[A-ZÉßé1-9]|\\.|[?!,:\"')(]| |\r|\n|\u{301}|\u{200d}|\u{2029}|。|و|船){0,40}"
        ) {
            let whole: Vec<usize> = text.split_sentence_bound_indices().map(|(at, _)| at).skip(1).collect();
            prop_assert_eq!(bounds(&text), whole, "{:?}", text);
        }
    }

    #[test]
    fn within_a_sentence_clauses_rank_above_words() {
        let text = "Mind the step, please.";
        let found: Vec<(&str, Rank)> = places(text).into_iter().map(|(at, rank)| (&text[..at], rank)).collect();
        assert_eq!(found, vec![("Mind ", Rank::Word), ("Mind the ", Rank::Word), ("Mind the step, ", Rank::Clause),]);
        assert!(ends_paragraph("Now\n\n") && !ends_paragraph("Now\n"));
        assert!(places("船は遅れます、少し").iter().any(|(_, rank)| *rank == Rank::Clause));
    }
}
