//! Lexicons: how words are pronounced (PLS 1.0, W3C Recommendation of 14
//! October 2008), and where a text has such words.

use std::collections::HashMap;
use std::ops::Range;

/// One way of saying the words of a lexeme.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Pronunciation {
    /// Symbols of a phonetic alphabet, such as `ipa`.
    Phoneme {
        /// What is said.
        symbols: String,
        /// `ipa`, or a name that begins with `x-`.
        alphabet: String,
    },
    /// Other words that sound the same.
    Alias(String),
}

/// Words, and how they are said.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Lexeme {
    /// How it is written, at least one way.
    pub graphemes: Vec<String>,
    /// Local names of the roles that it is meant for; for any where empty.
    pub roles: Vec<String>,
    /// The preferred first, the others in document order.
    pub pronunciations: Vec<Pronunciation>,
}

/// The first two characters of a word, in small letters.
type Beginning = (char, Option<char>);

/// A lexicon, indexed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Lexicon {
    /// BCP 47.
    pub language: String,
    lexemes: Vec<Lexeme>,
    /// By the first two characters, in small letters: lexeme and grapheme,
    /// the longest grapheme first.
    index: HashMap<Beginning, Vec<(usize, usize)>>,
}

/// A word of a lexicon in a text.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Match<'l> {
    pub(crate) range: Range<usize>,
    pub(crate) lexeme: &'l Lexeme,
}

fn key(text: &str) -> Option<Beginning> {
    let mut characters = text.chars().flat_map(char::to_lowercase);
    let first = characters.next()?;
    // White space may be written in several ways.
    Some((first, characters.next().filter(|second| !second.is_whitespace())))
}

/// Whether words of its script stand without space between them.
fn unspaced(character: char) -> bool {
    matches!(character, '\u{0e00}'..='\u{0eff}' | '\u{1000}'..='\u{109f}' | '\u{1780}'..='\u{17ff}'
        | '\u{3040}'..='\u{30ff}' | '\u{3400}'..='\u{9fff}' | '\u{f900}'..='\u{faff}' | '\u{20000}'..='\u{3ffff}')
}

/// Whether two characters are of one word.
fn joined(left: char, right: char) -> bool {
    let within = |c: char| c.is_alphanumeric() && !unspaced(c);
    within(left) && within(right)
}

impl Lexicon {
    pub(crate) fn new(language: String, lexemes: Vec<Lexeme>) -> Lexicon {
        let mut index: HashMap<_, Vec<(usize, usize)>> = HashMap::new();
        for (at, lexeme) in lexemes.iter().enumerate() {
            for (which, grapheme) in lexeme.graphemes.iter().enumerate() {
                if let Some(key) = key(grapheme) {
                    index.entry(key).or_default().push((at, which));
                }
            }
        }
        for found in index.values_mut() {
            found.sort_by_key(|(at, which)| std::cmp::Reverse(lexemes[*at].graphemes[*which].len()));
        }
        Lexicon { language, lexemes, index }
    }

    /// In document order.
    pub fn lexemes(&self) -> &[Lexeme] {
        &self.lexemes
    }

    /// Whether it is for text of a language, by basic filtering (RFC 4647,
    /// section 3.3.1); text of no known language may be anything.
    pub fn is_for(&self, language: Option<&str>) -> bool {
        let covers = |range: &str, tag: &str| {
            tag.get(..range.len()).is_some_and(|start| start.eq_ignore_ascii_case(range))
                && matches!(tag.as_bytes().get(range.len()), None | Some(b'-'))
        };
        language.is_none_or(|language| covers(&self.language, language) || covers(language, &self.language))
    }

    /// The first word of the lexicon in a text from a byte position on: where
    /// several begin, the longest, and of one spelling that of the role.
    pub(crate) fn find(&self, text: &str, from: usize, role: Option<&str>) -> Option<Match<'_>> {
        let mut before = text[..from].chars().next_back();
        for (offset, character) in text[from..].char_indices() {
            let at = from + offset;
            let starts = before.is_none_or(|before| !joined(before, character));
            before = Some(character);
            if !starts || character.is_whitespace() {
                continue;
            }
            if let Some(found) = self.at(text, at, role) {
                return Some(found);
            }
        }
        None
    }

    fn at(&self, text: &str, at: usize, role: Option<&str>) -> Option<Match<'_>> {
        let (first, second) = key(&text[at..])?;
        let alone = second.and_then(|_| self.index.get(&(first, None)));
        let lists = [self.index.get(&(first, second)), alone];
        let mut best: Option<(Match<'_>, bool)> = None;
        for (lexeme, which) in lists.into_iter().flatten().flatten() {
            let lexeme = &self.lexemes[*lexeme];
            let meant = role.is_some_and(|role| lexeme.roles.iter().any(|own| own == role));
            if !lexeme.roles.is_empty() && !meant {
                continue;
            }
            let Some(length) = spelt(&text[at..], &lexeme.graphemes[*which]) else { continue };
            let range = at..at + length;
            let better = best.as_ref().is_none_or(|(best, best_meant)| {
                range.end > best.range.end || (range.end == best.range.end && meant && !best_meant)
            });
            if better {
                best = Some((Match { range, lexeme }, meant));
            }
        }
        best.map(|(found, _)| found)
    }
}

/// Bytes at the beginning of a text that are the grapheme, up to the end of a
/// word. White space is any white space; a small letter at the beginning may
/// stand as a capital, as at the beginning of a sentence.
fn spelt(text: &str, grapheme: &str) -> Option<usize> {
    let mut rest = text.char_indices().peekable();
    let mut last = None;
    for (at, wanted) in grapheme.chars().enumerate() {
        let (_, found) = rest.next()?;
        let same = found == wanted
            || (wanted.is_whitespace() && found.is_whitespace())
            || (at == 0 && wanted.is_lowercase() && found.to_lowercase().eq([wanted]));
        if !same {
            return None;
        }
        if wanted.is_whitespace() {
            while rest.next_if(|(_, c)| c.is_whitespace()).is_some() {}
        }
        last = Some(found);
    }
    let next = rest.peek().copied();
    match (last, next) {
        (Some(last), Some((_, next))) if joined(last, next) => None,
        (Some(_), next) => Some(next.map_or(text.len(), |(at, _)| at)),
        (None, _) => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn lexicon(words: &[(&str, &str, &str)]) -> Lexicon {
        let lexemes = words.iter().map(|(grapheme, role, alias)| Lexeme {
            graphemes: vec![(*grapheme).into()],
            roles: role.split_ascii_whitespace().map(str::to_owned).collect(),
            pronunciations: vec![Pronunciation::Alias((*alias).into())],
        });
        Lexicon::new("en-GB".into(), lexemes.collect())
    }

    fn found(lexicon: &Lexicon, text: &str, role: Option<&str>) -> Vec<(String, String)> {
        let mut at = 0;
        let mut all = Vec::new();
        while let Some(one) = lexicon.find(text, at, role) {
            at = one.range.end;
            let Pronunciation::Alias(alias) = &one.lexeme.pronunciations[0] else { panic!("an alias") };
            all.push((text[one.range].to_owned(), alias.clone()));
        }
        all
    }

    #[test]
    fn words_are_found_whole_longest_first_and_by_role() {
        let lexicon = lexicon(&[
            ("Gull", "", "a"),
            ("Gull Sound", "", "b"),
            ("tide", "", "c"),
            ("lead", "noun", "led"),
            ("lead", "", "leed"),
            ("C", "", "sea"),
            ("潮", "", "うしお"),
            ("R&D", "", "r and d"),
        ]);
        let words = |text, role| found(&lexicon, text, role).into_iter().map(|(_, alias)| alias).collect::<Vec<_>>();
        assert_eq!(words("Gullsay, Gull and Gull\n  Sound.", None), ["a", "b"], "no part of a word");
        assert_eq!(words("Tide by tide, TIDE", None), ["c", "c"], "a capital at the beginning alone");
        assert_eq!(words("lead", None), ["leed"]);
        assert_eq!(words("lead", Some("noun")), ["led"]);
        assert_eq!(words("C, c, CC", None), ["sea"]);
        assert_eq!(words("満潮です", None), ["うしお"], "words of this script stand without space");
        assert_eq!(words("the R&D desk", None), ["r and d"]);
        assert_eq!(found(&lexicon, "gull\u{301} Gull", None)[0].0, "Gull");
    }

    #[test]
    fn a_lexicon_is_for_its_language() {
        let lexicon = lexicon(&[]);
        for (language, is) in [("en-GB", true), ("en-GB-x-tide", true), ("en", true), ("en-US", false), ("eng", false)]
        {
            assert_eq!(lexicon.is_for(Some(language)), is, "{language}");
        }
        assert!(lexicon.is_for(None));
    }
}
