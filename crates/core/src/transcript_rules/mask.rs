//! Masks: what is removed from transcripts before anything is kept.

use std::ops::Range;

use regex::{Regex, RegexBuilder};
use serde::{Deserialize, Deserializer, Serialize};

use super::digits::digit_runs;
use super::rewrite::WrittenSpan;
use super::{ChangedBy, RuleError, check_text};
use crate::{Transcript, is_record_name};

/// Rules of one app.
const MOST_RULES: usize = 40;
/// Characters of a pattern.
const MOST_PATTERN: usize = 400;
/// Bytes of a pattern as it is compiled.
const MOST_COMPILED: usize = 1 << 20;

/// One kind of text that is masked.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct MaskRule {
    /// What is written in its place, in brackets. `card-number`,
    /// `telephone-number`, `email-address` and `bank-account` need no more.
    pub name: String,
    /// Numbers with a minimum and maximum number of digits, written or spoken.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub digits: Option<(usize, usize)>,
    /// A regular expression, matched without regard to case.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pattern: Option<String>,
}

#[derive(Debug, Clone)]
enum Matcher {
    Digits(usize, usize),
    Pattern(Regex),
}

/// The rules of an app, ready for use.
#[derive(Debug, Clone, Default, Serialize)]
pub struct Masks {
    rules: Vec<MaskRule>,
    #[serde(skip)]
    found: Vec<Matcher>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct MaskDocument {
    rules: Vec<MaskRule>,
}

impl<'de> Deserialize<'de> for Masks {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Masks, D::Error> {
        let document = MaskDocument::deserialize(deserializer)?;
        Masks::new(document.rules).map_err(serde::de::Error::custom)
    }
}

/// Rules that a name alone is enough for.
fn built_in(name: &str) -> Option<Matcher> {
    match name {
        // ISO/IEC 7812-1. The check digit is not asked: one digit that was
        // heard wrongly would show the others.
        "card-number" => Some(Matcher::Digits(13, 19)),
        // ITU-T E.164.
        "telephone-number" => Some(Matcher::Digits(7, 15)),
        "email-address" => {
            pattern(r"[\w.+-]+(?:@|\s+at\s+)[\w-]+(?:(?:\.|\s+dot\s+)[\w-]+)+").ok().map(Matcher::Pattern)
        }
        // ISO 13616, in groups or not.
        "bank-account" => {
            pattern(r"\b[a-z]{2}\s?[0-9]{2}(?:\s?[a-z0-9]{4}){2,7}(?:\s?[a-z0-9]{1,3})?\b").ok().map(Matcher::Pattern)
        }
        _ => None,
    }
}

fn pattern(text: &str) -> Result<Regex, regex::Error> {
    RegexBuilder::new(text).case_insensitive(true).size_limit(MOST_COMPILED).build()
}

impl MaskRule {
    fn found(&self, at: &str) -> Result<Matcher, RuleError> {
        if !is_record_name(&self.name) {
            return Err(RuleError::new(format!("{at}/name"), "is 1 to 40 small letters, digits and hyphens"));
        }
        match (&self.digits, &self.pattern) {
            (None, None) => built_in(&self.name).ok_or_else(|| {
                let known = "card-number, telephone-number, email-address or bank-account";
                RuleError::new(format!("{at}/name"), format!("is not {known}; another name needs digits or a pattern"))
            }),
            (Some((least, most)), None) if (3..=40).contains(least) && (*least..=40).contains(most) => {
                Ok(Matcher::Digits(*least, *most))
            }
            (Some(_), None) => {
                Err(RuleError::new(format!("{at}/digits"), "is the least and the most digits, 3 to 40, such as [4, 6]"))
            }
            (None, Some(text)) => {
                let at = format!("{at}/pattern");
                check_text(&at, text, MOST_PATTERN)?;
                let made = pattern(text).map_err(|error| RuleError::new(&at, error.to_string()))?;
                match made.is_match("") {
                    true => Err(RuleError::new(at, "matches an empty text")),
                    false => Ok(Matcher::Pattern(made)),
                }
            }
            (Some(_), Some(_)) => Err(RuleError::new(at, "has digits or a pattern, not both")),
        }
    }
}

impl Masks {
    /// Rules, ready for use.
    ///
    /// # Errors
    /// The first rule that makes no sense.
    pub fn new(rules: Vec<MaskRule>) -> Result<Masks, RuleError> {
        if rules.len() > MOST_RULES {
            return Err(RuleError::new("/rules", format!("has more than {MOST_RULES} rules")));
        }
        let found = rules.iter().enumerate().map(|(index, rule)| rule.found(&format!("/rules/{index}")));
        let found = found.collect::<Result<_, _>>()?;
        Ok(Masks { rules, found })
    }

    /// Whether nothing is masked.
    pub fn is_empty(&self) -> bool {
        self.rules.is_empty()
    }

    /// The rules as they were given.
    pub fn rules(&self) -> &[MaskRule] {
        &self.rules
    }

    /// What of a text is masked. Where rules overlap, the first is believed,
    /// and all of it goes.
    pub(super) fn spans(&self, transcript: &Transcript) -> Vec<WrittenSpan> {
        let text = &transcript.text;
        let runs = digit_runs(text);
        let mut spans: Vec<WrittenSpan> = Vec::new();
        for (rule, found) in self.rules.iter().zip(&self.found) {
            let ranges: Vec<Range<usize>> = match found {
                Matcher::Digits(least, most) => {
                    let fits = runs.iter().filter(|run| (*least..=*most).contains(&run.digits));
                    fits.map(|run| run.range.clone()).collect()
                }
                Matcher::Pattern(pattern) => pattern.find_iter(text).map(|found| found.range()).collect(),
            };
            for range in ranges.into_iter().filter(|range| !range.is_empty()) {
                add(&mut spans, range, &format!("[{}]", rule.name));
            }
        }
        spans.sort_by_key(|span| span.range.start);
        spans
    }
}

/// Adds a range; those that it overlaps grow by it.
fn add(spans: &mut Vec<WrittenSpan>, range: Range<usize>, written: &str) {
    let overlapping = |span: &WrittenSpan| span.range.start < range.end && range.start < span.range.end;
    let mut range_of_all = range.clone();
    let mut name = None;
    spans.retain(|span| {
        let overlaps = overlapping(span);
        if overlaps {
            range_of_all = range_of_all.start.min(span.range.start)..range_of_all.end.max(span.range.end);
            name.get_or_insert_with(|| span.written.clone());
        }
        !overlaps
    });
    let written = name.unwrap_or_else(|| written.to_owned());
    spans.push(WrittenSpan { range: range_of_all, written, by: ChangedBy::Mask, likeness: None });
}

#[cfg(test)]
mod tests {
    use super::*;

    fn masked(document: &str, text: &str) -> String {
        let masks: Masks = serde_json::from_str(document).expect("masks");
        let transcript = Transcript { text: text.into(), ..Transcript::default() };
        let spans = masks.spans(&transcript);
        super::super::rewrite(transcript, &spans).0.text
    }

    const ALL: &str = r#"{"rules": [{"name": "email-address"}, {"name": "bank-account"}, {"name": "card-number"},
        {"name": "telephone-number"}, {"name": "booking", "pattern": "SF-[0-9]{4}"}, {"name": "pin", "digits": [4, 6]}]}"#;

    #[test]
    fn numbers_go_whether_they_are_written_or_spoken() {
        for (text, left) in [
            ("It is 4000 0012 3456 7899.", "It is [card-number]."),
            ("four triple oh double oh one two three four five six seven eight nine nine", "[card-number]"),
            ("call +44 20 5550 0199 now", "call +[telephone-number] now"),
            ("call oh one six three two five five oh one nine nine", "call [telephone-number]"),
            ("my booking is sf-1234, platform 3", "my booking is [booking], platform 3"),
            ("pin four two one one", "pin [pin]"),
            ("write to purser@saltmarsh.example please", "write to [email-address] please"),
            ("purser at saltmarsh dot example", "[email-address]"),
            ("GB33 SALT 2020 1555 5555 55", "[bank-account]"),
            ("the 18 20 to Holm leaves from pier 2", "the [pin] to Holm leaves from pier 2"),
            ("three ferries, two piers", "three ferries, two piers"),
        ] {
            assert_eq!(masked(ALL, text), left, "{text}");
        }
    }

    #[test]
    fn where_rules_overlap_nothing_of_either_stays() {
        let rules = r#"{"rules": [{"name": "one", "pattern": "ab+c"}, {"name": "two", "pattern": "c+d"}]}"#;
        assert_eq!(masked(rules, "x abbcccd y"), "x [one] y");
    }

    #[test]
    fn rules_that_make_no_sense_are_told_by_their_place() {
        let fault =
            |document: &str| serde_json::from_str::<Masks>(document).map(drop).expect_err("a fault").to_string();
        assert!(fault(r#"{"rules": [{"name": "passport"}]}"#).starts_with("/rules/0/name: is not card-number"));
        assert!(fault(r#"{"rules": [{"name": "x", "digits": [1, 2]}]}"#).starts_with("/rules/0/digits"));
        assert!(
            fault(r#"{"rules": [{"name": "x", "pattern": "a*"}]}"#).starts_with("/rules/0/pattern: matches an empty")
        );
        assert!(fault(r#"{"rules": [{"name": "x", "pattern": "("}]}"#).starts_with("/rules/0/pattern"));
        assert!(fault(r#"{"rules": [{"name": "x", "pattern": "(a{1000}){1000}"}]}"#).contains("size limit"));
        assert!(fault(r#"{"rules": [{"name": "x", "pattern": "a", "digits": [4, 4]}]}"#).contains("not both"));
        assert!(fault(r#"{"rules": [{"name": "X y"}]}"#).starts_with("/rules/0/name"));
    }
}
