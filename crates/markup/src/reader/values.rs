//! The forms that values of attributes take (SSML 1.1; 1.0 where it differs).

/// The version of a document: 1.0 has value forms of its own.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Version {
    One,
    OneOne,
}

/// What an attribute holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Form {
    /// Anything.
    Text,
    /// No white space, not empty.
    Token,
    /// A name without a colon (XML Names), unique in the document for `xml:id`.
    Id,
    /// A reference to another `xml:id` or a `mark`; looked up at the end.
    Reference,
    /// A language tag (BCP 47), or nothing.
    Language,
    /// Language tags, each perhaps with an accent: `en:pt fr`.
    Languages,
    /// Qualified names whose prefixes are declared.
    Roles,
    Uri,
    OneOf(&'static [&'static str]),
    /// Words of a list, apart by white space; none twice.
    SomeOf(&'static [&'static str]),
    Time,
    /// Zero and up, whole.
    Whole,
    /// One and up, whole.
    Counted,
    /// More than zero.
    Positive,
    Percent,
    Decibels,
    Pitch,
    Range,
    Contour,
    Rate,
    Volume,
}

const VOICE_FEATURES: &[&str] = &["name", "variant", "gender", "age", "languages"];

/// Voice features for `required` and `ordering`.
pub(crate) const FEATURES: Form = Form::SomeOf(VOICE_FEATURES);

/// A number as the recommendation writes it: `n`, `n.`, `.n`, `n.n`.
pub(crate) fn number(text: &str) -> Option<f64> {
    let dots = text.bytes().filter(|b| *b == b'.').count();
    let digits = text.bytes().filter(u8::is_ascii_digit).count();
    let plain = dots <= 1 && digits > 0 && dots + digits == text.len();
    plain.then(|| text.parse().ok()).flatten()
}

/// A number with a sign before it.
pub(crate) fn signed(text: &str) -> Option<f64> {
    match text.strip_prefix('-') {
        Some(rest) => number(rest).map(|value| -value),
        None => number(text.strip_prefix('+')?),
    }
}

/// Milliseconds of a time designation: `250ms`, `1.5s`.
pub fn time(value: &str) -> Option<f64> {
    let value = value.strip_prefix('+').unwrap_or(value);
    match value.strip_suffix("ms") {
        Some(milliseconds) => number(milliseconds),
        None => number(value.strip_suffix('s')?).map(|seconds| seconds * 1_000.0),
    }
}

/// Whether a text is well-formed as a language tag (RFC 5646, section 2.1),
/// as far as its subtags' sizes go.
pub(crate) fn is_language(tag: &str) -> bool {
    let mut subtags = tag.split('-');
    let first = subtags.next().unwrap_or_default();
    let private = first.eq_ignore_ascii_case("x") || first.eq_ignore_ascii_case("i");
    let primary = (2..=8).contains(&first.len()) && first.bytes().all(|b| b.is_ascii_alphabetic());
    let rest: Vec<&str> = subtags.collect();
    (primary || (private && !rest.is_empty()))
        && rest.iter().all(|part| (1..=8).contains(&part.len()) && part.bytes().all(|b| b.is_ascii_alphanumeric()))
        && rest.last().is_none_or(|last| last.len() > 1 || private)
}

pub(crate) fn is_name(text: &str) -> bool {
    let start = |c: char| c.is_alphabetic() || c == '_';
    if text.is_ascii() {
        let first = text.bytes().next().is_some_and(|byte| start(byte.into()));
        return first && text.bytes().all(|byte| byte.is_ascii_alphanumeric() || matches!(byte, b'_' | b'-' | b'.'));
    }
    text.starts_with(start) && text.chars().all(|c| start(c) || c.is_numeric() || matches!(c, '-' | '.' | '\u{b7}'))
}

/// A name with at most one prefix (Namespaces in XML 1.0, section 4).
pub(super) fn is_qualified_name(name: &str) -> bool {
    // Nearly all are of these letters, which are quickly gone through.
    let letter = |byte: u8| byte.is_ascii_lowercase();
    if name.bytes().next().is_some_and(letter) && name.bytes().all(|byte| letter(byte) || byte == b'-') {
        return true;
    }
    match prefix_of(name) {
        None => is_name(name),
        Some(end) => is_name(&name[..end]) && is_name(&name[end + 1..]),
    }
}

/// Where the prefix of a name ends, if it has one. Names are too short for the
/// searches that are quick in long texts.
pub(super) fn prefix_of(name: &str) -> Option<usize> {
    name.bytes().position(|byte| byte == b':')
}

const PITCH_WORDS: &[&str] = &["x-low", "low", "medium", "high", "x-high", "default"];
const RATE_WORDS: &[&str] = &["x-slow", "slow", "medium", "fast", "x-fast", "default"];
const VOLUME_WORDS: &[&str] = &["silent", "x-soft", "soft", "medium", "loud", "x-loud", "default"];

/// `+10%`, `-2st`, `+5.5Hz`; a bare signed number in 1.0.
fn relative(value: &str, version: Version) -> bool {
    let units = ["%", "st", "Hz"];
    let body = units.iter().find_map(|unit| value.strip_suffix(unit));
    let body = body.or((version == Version::One).then_some(value));
    body.is_some_and(|body| signed(body.trim_end()).is_some())
}

fn hertz(value: &str) -> bool {
    value.strip_suffix("Hz").is_some_and(|number_| number(number_.trim_end()).is_some())
}

fn pitch_or_range(value: &str, version: Version) -> bool {
    PITCH_WORDS.contains(&value) || relative(value, version) || hertz(value)
}

/// Pairs of a place in percent and a pitch: `(0%,+20Hz) (50%,+10%)`.
fn contour(value: &str, version: Version) -> bool {
    let mut rest = value.trim();
    if rest.is_empty() {
        return false;
    }
    while !rest.is_empty() {
        let Some((pair, behind)) = rest.strip_prefix('(').and_then(|rest| rest.split_once(')')) else { return false };
        let Some((place, target)) = pair.split_once(',') else { return false };
        let place = place.trim().strip_suffix('%').and_then(number);
        if place.is_none() || !pitch_or_range(target.trim(), version) {
            return false;
        }
        rest = behind.trim_start();
    }
    true
}

fn rate(value: &str, version: Version) -> bool {
    let share = value.strip_suffix('%').and_then(number).is_some();
    let old = version == Version::One && (number(value).is_some() || relative(value, version));
    RATE_WORDS.contains(&value) || share || old
}

fn volume(value: &str, version: Version) -> bool {
    let decibels = value.strip_suffix("dB").is_some_and(|body| signed(body.trim_end()).is_some());
    let loudness = |value: &str| number(value).is_some_and(|loudness| loudness <= 100.0);
    let old = version == Version::One
        && (loudness(value) || signed(value).is_some() || value.strip_suffix('%').is_some_and(|b| signed(b).is_some()));
    let new = version == Version::OneOne && decibels;
    VOLUME_WORDS.contains(&value) || old || new
}

fn some_of(words: &[&str], value: &str) -> bool {
    let given: Vec<&str> = value.split_ascii_whitespace().collect();
    let once = given.iter().enumerate().all(|(at, word)| !given[..at].contains(word));
    !given.is_empty() && once && given.iter().all(|word| words.contains(word))
}

fn languages(value: &str) -> bool {
    value.split_ascii_whitespace().all(|one| {
        let (language, accent) = one.split_once(':').map_or((one, None), |(l, a)| (l, Some(a)));
        is_language(language) && accent.is_none_or(is_language)
    })
}

impl Form {
    /// Whether a value has this form. References and roles are looked up
    /// elsewhere.
    pub(crate) fn holds(self, value: &str, version: Version) -> bool {
        match self {
            Form::Text => true,
            Form::Token | Form::Reference => !value.is_empty() && !value.contains(char::is_whitespace),
            Form::Id => is_name(value),
            Form::Language => value.is_empty() || is_language(value),
            Form::Languages => languages(value),
            Form::Roles => value.split_ascii_whitespace().all(|name| match name.split_once(':') {
                Some((prefix, local)) => is_name(prefix) && is_name(local),
                None => is_name(name),
            }),
            Form::Uri => !value.contains(|c: char| c.is_whitespace() || matches!(c, '<' | '>' | '"')),
            Form::OneOf(words) => words.contains(&value),
            Form::SomeOf(words) => some_of(words, value),
            Form::Time => time(value).is_some(),
            Form::Whole => !value.is_empty() && value.len() < 10 && value.bytes().all(|b| b.is_ascii_digit()),
            Form::Counted => Form::Whole.holds(value, version) && value.bytes().any(|b| b != b'0'),
            Form::Positive => number(value).is_some_and(|value| value > 0.0),
            Form::Percent => value.strip_suffix('%').and_then(number).is_some(),
            Form::Decibels => value.strip_suffix("dB").and_then(signed).is_some(),
            Form::Pitch | Form::Range => pitch_or_range(value, version),
            Form::Contour => contour(value, version),
            Form::Rate => rate(value, version),
            Form::Volume => volume(value, version),
        }
    }

    /// What was expected, in words.
    pub(crate) fn expected(self, version: Version) -> String {
        let one = version == Version::One;
        match self {
            Form::Text => "any text".into(),
            Form::Token | Form::Reference => "a name without white space".into(),
            Form::Id => "a name without a colon".into(),
            Form::Language => "a language tag such as pt-PT".into(),
            Form::Languages => "language tags such as \"en-GB pt:fr\"".into(),
            Form::Roles => "names such as lex:noun, their prefix declared".into(),
            Form::Uri => "an address".into(),
            Form::OneOf(words) => {
                format!("one of {}", words.iter().filter(|w| !w.is_empty()).copied().collect::<Vec<_>>().join(", "))
            }
            Form::SomeOf(words) => format!("some of {}, none twice", words.join(", ")),
            Form::Time => "a time such as 250ms or 1.5s".into(),
            Form::Whole => "a whole number from 0".into(),
            Form::Counted => "a whole number from 1".into(),
            Form::Positive => "a number above 0".into(),
            Form::Percent => "a percentage such as 90%, without a sign".into(),
            Form::Decibels => "a gain such as +6dB or -3dB".into(),
            Form::Pitch | Form::Range => {
                format!("a pitch such as 200Hz, +2st, -10% or one of {}", PITCH_WORDS.join(", "))
            }
            Form::Contour => "pairs such as (0%,+20Hz) (50%,-10%)".into(),
            Form::Rate if one => format!("a rate such as 0.9, +10% or one of {}", RATE_WORDS.join(", ")),
            Form::Rate => format!("a rate such as 90%, without a sign, or one of {}", RATE_WORDS.join(", ")),
            Form::Volume if one => {
                format!("a volume from 0 to 100, a change such as +10, or one of {}", VOLUME_WORDS.join(", "))
            }
            Form::Volume => format!("a volume such as -3dB or +6dB, or one of {}", VOLUME_WORDS.join(", ")),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[track_caller]
    fn check(form: Form, version: Version, good: &[&str], bad: &[&str]) {
        for value in good {
            assert!(form.holds(value, version), "{form:?} {value:?} in {version:?}");
        }
        for value in bad {
            assert!(!form.holds(value, version), "{form:?} {value:?} in {version:?}");
        }
    }

    #[test]
    fn values_of_1_1_are_told_from_those_of_1_0() {
        use Version::{One, OneOne};
        check(
            Form::Rate,
            OneOne,
            &["90%", "0%", "12.5%", ".5%", "x-fast", "default"],
            &["0.9", "+10%", "-10%", "", "%", "quick", "9 0%"],
        );
        check(Form::Rate, One, &["0.9", "1", "+10%", "-0.5", "slow", "90%"], &["", "x", "quick"]);
        check(Form::Volume, OneOne, &["+6dB", "-.5dB", "silent"], &["6dB", "50", "+10", "+10%", "+6db"]);
        check(Form::Volume, One, &["50", "100", "+10", "-5.5%", "x-loud"], &["101", "+6dB", "loudest"]);
        check(
            Form::Pitch,
            OneOne,
            &["200Hz", "+20Hz", "-2st", "+1.5st", "-8%", "high"],
            &["200", "2st", "+2", "10%", "+2 semitones"],
        );
        check(Form::Pitch, One, &["+20", "-3", "200Hz"], &["20"]);
        check(
            Form::Contour,
            OneOne,
            &["(0%,+20Hz) (10%,+30%) (40%,+10Hz)", "(0%, high)"],
            &["", "0%,+20Hz", "(0,+20Hz)", "(0%,20)", "(0%,+20Hz"],
        );
        check(
            Form::Time,
            OneOne,
            &["250ms", "3s", "0.5s", "+1s", "0ms", ".25s"],
            &["3", "3 s", "-1s", "1m", "s", "1e3ms"],
        );
    }

    #[test]
    fn names_lists_and_tags() {
        check(
            Form::Language,
            Version::OneOne,
            &["", "en", "pt-PT", "zh-Hant-TW", "x-dock", "de-1996"],
            &["e", "en_GB", "en-", "-en", "english language"],
        );
        check(Form::Languages, Version::OneOne, &["", "en-GB pt:fr", "ja"], &["en:", "en,pt", ":en"]);
        check(
            FEATURES,
            Version::OneOne,
            &["name", "gender age", "languages name variant"],
            &["", "colour", "name name"],
        );
        check(Form::Counted, Version::OneOne, &["1", "12"], &["0", "-1", "1.0", ""]);
        check(Form::Id, Version::OneOne, &["a", "_b-1", "ção"], &["1a", "a:b", "", "a b"]);
        check(Form::Positive, Version::OneOne, &["1", "2.5", ".5"], &["0", "-1", "x"]);
    }
}
