//! Phrases that are commands: a table of phrases with slots, matched against
//! the whole of what was said.

use std::collections::BTreeMap;

use serde::{Deserialize, Deserializer, Serialize};

use super::rewrite::{SaidWord, keys, tokens};
use super::{RuleError, check_text};
use crate::is_record_name;

const MOST_PHRASES: usize = 500;
const MOST_CHARACTERS: usize = 300;
const MOST_SLOTS: usize = 5;
const MOST_VALUES: usize = 1_000;
/// Optional stretches of a phrase within one another.
const MOST_DEPTH: usize = 4;
/// Words of what is said; nobody gives a longer command.
const MOST_SAID: usize = 60;
/// Words that fill a slot without a list.
const MOST_FREE: usize = 8;

/// A phrase and its command. Words in `[…]` are optional;
/// `{name}` is a slot.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Phrase {
    /// What a program is to do.
    pub command: String,
    /// For instance `next [ferry] to {place}`.
    pub phrase: String,
    /// What a slot may be; any words where nothing is said.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub slots: BTreeMap<String, Vec<String>>,
}

/// The phrases of an app. Of several that match, the first is taken.
#[derive(Debug, Clone, Default, Serialize)]
pub struct PhraseTable {
    phrases: Vec<Phrase>,
    #[serde(skip)]
    patterns: Vec<Pattern>,
}

/// A command that was said.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct SpokenCommand {
    /// As the table names it.
    pub command: String,
    /// What was said for each slot; of a list, as the list writes it.
    pub slots: BTreeMap<String, String>,
}

/// The items of a phrase, one after the other.
type Pattern = Vec<PhraseItem>;

#[derive(Debug, Clone, PartialEq)]
enum PhraseItem {
    Word(String),
    /// Number of the following items that are optional.
    Optional(usize),
    /// With the words of its values.
    Slot(String, Vec<(Vec<String>, String)>),
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct PhraseDocument {
    phrases: Vec<Phrase>,
}

impl<'de> Deserialize<'de> for PhraseTable {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<PhraseTable, D::Error> {
        let document = PhraseDocument::deserialize(deserializer)?;
        PhraseTable::new(document.phrases).map_err(serde::de::Error::custom)
    }
}

impl Phrase {
    fn pattern(&self, at: &str) -> Result<Pattern, RuleError> {
        if !is_record_name(&self.command) {
            return Err(RuleError::new(format!("{at}/command"), "is 1 to 40 small letters, digits and hyphens"));
        }
        let place = format!("{at}/phrase");
        check_text(&place, &self.phrase, MOST_CHARACTERS)?;
        let mut reader = PatternReader { phrase: self, rest: &self.phrase, slots: Vec::new(), needed: false };
        let pattern = reader.items(0).map_err(|fault| RuleError::new(&place, fault))?;
        if !reader.needed {
            return Err(RuleError::new(place, "has nothing that must be said"));
        }
        let slots = reader.slots;
        if let Some(unused) = self.slots.keys().find(|name| !slots.contains(name)) {
            return Err(RuleError::new(format!("{at}/slots"), format!("{{{unused}}} is not in the phrase")));
        }
        for (name, values) in &self.slots {
            let place = format!("{at}/slots/{name}");
            if values.is_empty() || values.len() > MOST_VALUES {
                return Err(RuleError::new(place, format!("has 1 to {MOST_VALUES} values")));
            }
            for value in values {
                check_text(&place, value, MOST_CHARACTERS)?;
            }
        }
        Ok(pattern)
    }
}

/// Reads a phrase from left to right.
struct PatternReader<'p> {
    phrase: &'p Phrase,
    rest: &'p str,
    slots: Vec<String>,
    /// There is something that must be said.
    needed: bool,
}

impl PatternReader<'_> {
    fn items(&mut self, depth: usize) -> Result<Pattern, String> {
        let mut items = Vec::new();
        loop {
            let stop = self.rest.find(['[', ']', '{', '}']).unwrap_or(self.rest.len());
            let (words, rest) = self.rest.split_at(stop);
            let words = keys(words);
            self.needed |= depth == 0 && !words.is_empty();
            items.extend(words.into_iter().map(PhraseItem::Word));
            let mark = rest.chars().next();
            self.rest = rest.get(1..).unwrap_or_default();
            match mark {
                None if depth > 0 => return Err("has a [ without its ]".into()),
                None => return Ok(items),
                Some(']') if depth > 0 => return Ok(items),
                Some('[') if depth == MOST_DEPTH => return Err("has too many [ within one another".into()),
                Some('[') => {
                    let within = self.items(depth + 1)?;
                    items.push(PhraseItem::Optional(within.len()));
                    items.extend(within);
                }
                Some('{') => {
                    items.push(self.slot()?);
                    self.needed |= depth == 0;
                }
                Some(mark) => return Err(format!("has a {mark} that closes nothing")),
            }
        }
    }

    fn slot(&mut self) -> Result<PhraseItem, String> {
        let (name, rest) = self.rest.split_once('}').ok_or("has a { without its }")?;
        self.rest = rest;
        if !is_record_name(name) {
            return Err(format!("a slot is named by small letters, digits and hyphens, not '{name}'"));
        }
        if self.slots.iter().any(|known| known == name) {
            return Err(format!("has the slot {{{name}}} twice"));
        }
        self.slots.push(name.to_owned());
        if self.slots.len() > MOST_SLOTS {
            return Err(format!("has more than {MOST_SLOTS} slots"));
        }
        let values = self.phrase.slots.get(name).into_iter().flatten();
        Ok(PhraseItem::Slot(name.to_owned(), values.map(|value| (keys(value), value.clone())).collect()))
    }
}

impl PhraseTable {
    /// Phrases, ready for use.
    ///
    /// # Errors
    /// The first phrase that makes no sense.
    pub fn new(phrases: Vec<Phrase>) -> Result<PhraseTable, RuleError> {
        if phrases.len() > MOST_PHRASES {
            return Err(RuleError::new("/phrases", format!("has more than {MOST_PHRASES} phrases")));
        }
        let patterns = phrases.iter().enumerate().map(|(index, phrase)| phrase.pattern(&format!("/phrases/{index}")));
        let patterns = patterns.collect::<Result<_, _>>()?;
        Ok(PhraseTable { phrases, patterns })
    }

    /// The phrases as they were given.
    pub fn phrases(&self) -> &[Phrase] {
        &self.phrases
    }

    /// The command that a text is, case and marks aside.
    pub fn command(&self, text: &str) -> Option<SpokenCommand> {
        if self.phrases.is_empty() {
            return None;
        }
        let said = tokens(text);
        if said.is_empty() || said.len() > MOST_SAID {
            return None;
        }
        self.phrases.iter().zip(&self.patterns).find_map(|(phrase, pattern)| {
            let mut matcher =
                PhraseMatcher { pattern, text, said: &said, failed: vec![false; pattern.len() * (said.len() + 1)] };
            let slots = matcher.matched(0, 0)?;
            Some(SpokenCommand { command: phrase.command.clone(), slots: slots.into_iter().collect() })
        })
    }
}

type Filled = Vec<(String, String)>;

/// A phrase held against what is said.
struct PhraseMatcher<'m> {
    pattern: &'m [PhraseItem],
    text: &'m str,
    said: &'m [SaidWord],
    /// Items and words from which there is no way to the end: each is tried
    /// once, however many ways lead there.
    failed: Vec<bool>,
}

impl PhraseMatcher<'_> {
    /// What fills the slots where the items from one on match the words from
    /// one on, to the end of both.
    fn matched(&mut self, item: usize, word: usize) -> Option<Filled> {
        let pattern = self.pattern;
        let Some(first) = pattern.get(item) else { return (word == self.said.len()).then(Vec::new) };
        let place = item * (self.said.len() + 1) + word;
        if self.failed[place] {
            return None;
        }
        let filled = match first {
            PhraseItem::Word(key) => match self.said.get(word).is_some_and(|said| said.key == *key) {
                true => self.matched(item + 1, word + 1),
                false => None,
            },
            PhraseItem::Optional(count) => {
                self.matched(item + 1, word).or_else(|| self.matched(item + 1 + count, word))
            }
            PhraseItem::Slot(name, values) if values.is_empty() => (1..=(self.said.len() - word).min(MOST_FREE))
                .find_map(|count| {
                    let filled = self.matched(item + 1, word + count)?;
                    let range = self.said[word].range.start..self.said[word + count - 1].range.end;
                    Some(with(filled, name, &self.text[range]))
                }),
            PhraseItem::Slot(name, values) => values.iter().find_map(|(words, value)| {
                let rest = &self.said[word..];
                let fits = rest.len() >= words.len() && rest.iter().zip(words).all(|(said, key)| said.key == *key);
                let filled = if fits { self.matched(item + 1, word + words.len())? } else { return None };
                Some(with(filled, name, value))
            }),
        };
        self.failed[place] = filled.is_none();
        filled
    }
}

fn with(mut filled: Filled, name: &str, value: &str) -> Filled {
    filled.push((name.to_owned(), value.to_owned()));
    filled
}

#[cfg(test)]
mod tests {
    use super::*;

    fn table(phrases: &str) -> PhraseTable {
        serde_json::from_str(&format!(r#"{{"phrases": {phrases}}}"#)).expect("phrases")
    }

    fn told(table: &PhraseTable, text: &str) -> String {
        match table.command(text) {
            None => "nothing".into(),
            Some(SpokenCommand { command, slots }) => {
                let slots: Vec<String> = slots.iter().map(|(name, value)| format!("{name}={value}")).collect();
                format!("{command} {}", slots.join(" ")).trim().to_owned()
            }
        }
    }

    #[test]
    fn a_phrase_is_the_whole_of_what_is_said() {
        let table = table(
            r#"[{"command": "depart", "phrase": "[when is the] next [ferry [or boat]] to {place}",
                 "slots": {"place": ["Gullsay", "Gullsay North", "Holm"]}},
                {"command": "cancel", "phrase": "cancel [my] booking"},
                {"command": "announce", "phrase": "announce {what} at {pier}"}]"#,
        );
        for (text, command) in [
            ("When is the next ferry to gullsay north?", "depart place=Gullsay North"),
            ("Next ferry or boat to Holm", "depart place=Holm"),
            ("next to Holm", "depart place=Holm"),
            ("Next ferry to Skerrow.", "nothing"),
            ("please cancel my booking", "nothing"),
            ("Cancel booking!", "cancel"),
            ("Announce: the ramp is closing, at pier four.", "announce pier=pier four what=the ramp is closing"),
            ("announce at pier four", "nothing"),
            ("", "nothing"),
        ] {
            assert_eq!(told(&table, text), command, "{text}");
        }
    }

    #[test]
    fn phrases_that_make_no_sense_are_told_by_their_place() {
        let fault = |phrase: &str| {
            let document = format!(r#"{{"phrases": [{{"command": "x", "phrase": "{phrase}"}}]}}"#);
            serde_json::from_str::<PhraseTable>(&document).map(drop).expect_err("a fault").to_string()
        };
        for (phrase, told) in [
            ("go [now", "a [ without its ]"),
            ("go now]", "a ] that closes nothing"),
            ("go {where", "a { without its }"),
            ("go {Where}", "small letters"),
            ("{a} {a}", "{a} twice"),
            ("[go]", "nothing that must be said"),
            ("[[[[[a]]]]] b", "too many ["),
            ("{a}{b}{c}{d}{e}{f}", "more than 5 slots"),
        ] {
            let fault = fault(phrase);
            assert!(fault.starts_with("/phrases/0/phrase") && fault.contains(told), "{phrase}: {fault}");
        }
    }

    /// Slots that could be filled in many ways end in time.
    #[test]
    fn a_long_text_is_no_trouble_for_free_slots() {
        let table = table(r#"[{"command": "x", "phrase": "{a} {b} {c} {d} {e} stop"}]"#);
        assert_eq!(told(&table, &"go ".repeat(60)), "nothing");
        assert_eq!(told(&table, &"go ".repeat(61)), "nothing");
        // There are more ways to leave out some of these than there are atoms.
        let phrase = format!("{} stop", "[go]".repeat(70));
        let optional = super::PhraseTable::new(vec![Phrase { command: "x".into(), phrase, slots: BTreeMap::new() }]);
        let optional = optional.expect("a phrase");
        assert_eq!(told(&optional, &"go ".repeat(40)), "nothing");
        assert_eq!(told(&optional, &format!("{}stop", "go ".repeat(40))), "x");
    }
}
