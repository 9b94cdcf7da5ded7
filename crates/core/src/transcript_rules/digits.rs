//! Numbers as sequences of digits, written or spoken.

use std::ops::Range;

use super::rewrite::{SaidWord, tokens};

/// Digits that follow one another in a text.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct DigitRun {
    pub(super) range: Range<usize>,
    pub(super) digits: usize,
}

/// What may stand between the digits of one number.
const BETWEEN: &str = " \t\n\u{a0}\u{202f}-–‑.,()+";

/// Spoken digits of English, German, French, Spanish, Italian, Portuguese,
/// Dutch and Swedish. A number is as secret whatever the language, so no
/// language is asked for.
const DIGIT_WORDS: &[&str] = &[
    "zero", "oh", "o", "nought", "naught", "nil", "one", "two", "three", "four", "five", "six", "seven", "eight",
    "nine", "null", "eins", "zwei", "zwo", "drei", "vier", "fünf", "sechs", "sieben", "acht", "neun", "zéro", "un",
    "deux", "trois", "quatre", "cinq", "sept", "huit", "neuf", "cero", "uno", "dos", "tres", "cuatro", "cinco", "seis",
    "siete", "ocho", "nueve", "due", "tre", "quattro", "cinque", "sei", "sette", "otto", "nove", "um", "dois", "três",
    "quatro", "meia", "sete", "oito", "nul", "een", "één", "twee", "drie", "vijf", "zes", "zeven", "negen", "noll",
    "ett", "två", "fyra", "fem", "sex", "sju", "åtta", "nio",
];

/// Words for two digits, in English.
const TENS: &[&str] = &[
    "ten",
    "eleven",
    "twelve",
    "thirteen",
    "fourteen",
    "fifteen",
    "sixteen",
    "seventeen",
    "eighteen",
    "nineteen",
    "twenty",
    "thirty",
    "forty",
    "fifty",
    "sixty",
    "seventy",
    "eighty",
    "ninety",
];

/// How often the next digit is said.
fn times(key: &str) -> Option<usize> {
    match key {
        "double" => Some(2),
        "triple" | "treble" => Some(3),
        _ => None,
    }
}

fn is_digit(c: char) -> bool {
    c.is_ascii_digit()
        || matches!(c, '\u{660}'..='\u{669}' | '\u{6f0}'..='\u{6f9}' | '\u{966}'..='\u{96f}' | '\u{ff10}'..='\u{ff19}')
        || "〇零一二三四五六七八九".contains(c)
}

/// How many digits a word is; `None` if it is none.
fn digits_of(key: &str) -> Option<usize> {
    if key.chars().all(is_digit) {
        return Some(key.chars().count());
    }
    if DIGIT_WORDS.contains(&key) {
        return Some(1);
    }
    TENS.contains(&key).then_some(2)
}

/// Every number in a text that is told in digits, the longest that can be.
pub(super) fn digit_runs(text: &str) -> Vec<DigitRun> {
    let mut runs: Vec<DigitRun> = Vec::new();
    let mut open: Option<DigitRun> = None;
    // "double" that waits for its digit, and "twenty" for its units.
    let (mut repeat, mut after_tens): (Option<(usize, usize)>, bool) = (None, false);
    for SaidWord { range, key } in tokens(text) {
        if let Some(run) = &open
            && !text[run.range.end..range.start].chars().all(|c| BETWEEN.contains(c))
            && repeat.is_none()
        {
            runs.extend(open.take());
        }
        if let Some(count) = times(&key) {
            repeat = Some((range.start, count));
            continue;
        }
        let Some(mut digits) = digits_of(&key) else {
            runs.extend(open.take());
            (repeat, after_tens) = (None, false);
            continue;
        };
        let mut start = range.start;
        if let Some((from, count)) = repeat.take() {
            (start, digits) = (from, digits * count);
        }
        // "forty two" has two digits, not three.
        let units = after_tens && digits == 1 && !key.chars().all(is_digit);
        after_tens = TENS[10..].contains(&key.as_str());
        match &mut open {
            Some(run) => {
                run.range.end = range.end;
                run.digits += if units { 0 } else { digits };
            }
            None => open = Some(DigitRun { range: start..range.end, digits }),
        }
    }
    runs.extend(open);
    runs
}

#[cfg(test)]
mod tests {
    use super::*;

    fn runs(text: &str) -> Vec<(&str, usize)> {
        digit_runs(text).into_iter().map(|run| (&text[run.range], run.digits)).collect()
    }

    #[test]
    fn written_digits_are_one_number_across_spaces_and_hyphens() {
        assert_eq!(runs("card 4000-0012 3456.7899, thanks"), [("4000-0012 3456.7899", 16)]);
        assert_eq!(runs("at 10:15 from 3"), [("10", 2), ("15", 2), ("3", 1)]);
        assert_eq!(runs("電話は０１２３４５６です"), [], "without spaces the words are one");
        assert_eq!(runs("SF1234567"), [], "letters and digits are a name");
        assert_eq!(runs("(016) 3296 and 0123"), [("016) 3296", 7), ("0123", 4)]);
    }

    #[test]
    fn spoken_digits_count_with_their_doubles_and_tens() {
        assert_eq!(runs("call oh one six double three two"), [("oh one six double three two", 6)]);
        assert_eq!(runs("triple seven forty two nineteen"), [("triple seven forty two nineteen", 7)]);
        assert_eq!(runs("fünf sechs, sieben acht"), [("fünf sechs, sieben acht", 4)]);
        assert_eq!(runs("two ferries and one dog"), [("two", 1), ("one", 1)]);
        assert_eq!(runs("a double room"), []);
    }
}
