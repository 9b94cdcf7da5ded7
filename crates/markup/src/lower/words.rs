//! Words of lexicons: each is sent in the first of its pronunciations that
//! the engine takes, and in other words where it takes no phonemes.

use std::sync::Arc;

use super::element::tag_of;
use super::{Atom, Element, Lowering, Opening, Tag, WalkStep};
use crate::address::join;
use crate::lexicon::{Lexeme, Lexicon, Pronunciation};
use crate::{Fidelity, Outcome};

/// Aliases whose words are looked up in turn (PLS 1.0, section 4.7).
const MAX_ALIASES: usize = 8;
/// Words that a report names.
const MOST_NAMED: usize = 3;

/// A lexicon that words are looked up in, and what became of them.
pub(super) struct InUse {
    lexicon: Arc<Lexicon>,
    /// As it is known, where it holds for all the text.
    name: Option<String>,
    /// The report of the element that asks for it.
    report: Option<usize>,
    /// `xml:id` of its `lexicon`.
    id: String,
    done: usize,
    /// Words that the engine takes no pronunciation of.
    plain: Vec<String>,
}

impl InUse {
    pub(super) fn of_all((name, lexicon): (String, Arc<Lexicon>)) -> InUse {
        InUse { lexicon, name: Some(name), report: None, id: String::new(), done: 0, plain: Vec::new() }
    }
}

/// How a word is written for the engine.
enum Written {
    Tag(String),
    Alias(String),
}

impl Lowering<'_> {
    /// `lexicon`: had, or not.
    pub(super) fn lexicon(&mut self, element: Element<'_>, at: usize) -> Outcome {
        if let Some(outcome) = self.whole(element) {
            return outcome;
        }
        let address = join(self.state.base.as_deref(), element.get("uri").unwrap_or_default());
        let Some(lexicon) = self.choices.lexicon(&address) else {
            self.note(at, format!("the lexicon '{address}' cannot be had"));
            return Outcome::Omitted;
        };
        let id = element.get("xml:id").unwrap_or_default().to_owned();
        let place = self.lexicons.len();
        self.lexicons.push(InUse { lexicon, name: None, report: None, id, done: 0, plain: Vec::new() });
        // In documents of version 1.0 it holds for all that follows.
        if self.script.root().and_then(|speak| speak.get("version")) == Some("1.0") {
            self.lexicons[place].report = Some(at);
            self.inner();
            if let Some((Some(outer), _)) = self.saved.last_mut() {
                outer.lookups.push(place);
            }
        }
        Outcome::Rewritten
    }

    /// `lookup`: words within it are looked up.
    pub(super) fn lookup(&mut self, element: Element<'_>, at: usize) -> Outcome {
        if let Some(outcome) = self.whole(element) {
            return outcome;
        }
        let wanted = element.get("ref").unwrap_or_default();
        let Some(place) = self.lexicons.iter().position(|one| one.name.is_none() && one.id == wanted) else {
            self.note(at, "its lexicon cannot be had");
            return Outcome::Plain;
        };
        let InUse { lexicon, id, .. } = &self.lexicons[place];
        let (lexicon, id) = (lexicon.clone(), id.clone());
        let place = self.lexicons.len();
        self.lexicons.push(InUse { lexicon, name: None, report: Some(at), id, done: 0, plain: Vec::new() });
        self.inner().lookups.push(place);
        Outcome::Rewritten
    }

    /// The text that the walk has just come to, with what follows it up to
    /// the next tag: a word may hold a reference.
    pub(super) fn run_of_text(&mut self) -> String {
        let mut text = String::new();
        self.next -= 1;
        while let Some(item) = self.script.items.get(self.next) {
            match item.step() {
                WalkStep::Text(span) => text.push_str(self.script.slice(span)),
                WalkStep::Said(said) => text.push(said),
                _ => break,
            }
            self.next += 1;
        }
        text
    }

    /// Text, its words as the lexicons have them.
    pub(super) fn words(&mut self, text: &str) {
        if self.state.lookups.is_empty() {
            return self.write(text);
        }
        let mut at = 0;
        while let Some((place, range, lexeme)) = self.looked_up(text, at) {
            self.write(&text[at..range.start]);
            let spelt = &text[range.clone()];
            match self.pronounced(place, &lexeme, MAX_ALIASES) {
                Some(Written::Tag(tag)) => {
                    self.lexicons[place].done += 1;
                    self.tag(Atom::Open(Arc::new(Opening { tag, name: "phoneme" })));
                    self.write(spelt);
                    self.step(Atom::Close("phoneme"));
                }
                Some(Written::Alias(alias)) => {
                    self.lexicons[place].done += 1;
                    self.write(&alias);
                }
                None => {
                    let plain = &mut self.lexicons[place].plain;
                    if !plain.iter().any(|word| word == spelt) {
                        plain.push(spelt.to_owned());
                    }
                    self.write(spelt);
                }
            }
            at = range.end;
        }
        self.write(&text[at..]);
    }

    /// The next word of a lexicon: where two have it, the inner one's.
    fn looked_up(&self, text: &str, from: usize) -> Option<(usize, std::ops::Range<usize>, Lexeme)> {
        let language = self.state.language.as_deref().or(self.script.language.as_deref());
        let role = self.state.role.as_deref().map(|role| role.rsplit(':').next().unwrap_or_default());
        let lexicons = self.state.lookups.iter().rev().map(|place| (*place, &self.lexicons[*place]));
        let found = lexicons
            .filter(|(_, one)| one.lexicon.is_for(language))
            .filter_map(|(place, one)| Some((place, one.lexicon.find(text, from, role)?)));
        // Of equal beginnings the first stays, which is the inner one's.
        let (place, first) = found.min_by_key(|(_, found)| found.range.start)?;
        Some((place, first.range, first.lexeme.clone()))
    }

    fn pronounced(&self, place: usize, lexeme: &Lexeme, deep: usize) -> Option<Written> {
        lexeme.pronunciations.iter().find_map(|one| match one {
            Pronunciation::Alias(alias) => Some(Written::Alias(self.alias_of(place, alias, deep))),
            Pronunciation::Phoneme { symbols, alphabet } => {
                let given = [("alphabet", alphabet.as_str()), ("ph", symbols.as_str())];
                let (attributes, _) = self.accepted(Tag::Phoneme, "phoneme", given.into_iter())?;
                Some(Written::Tag(tag_of("phoneme", &attributes, false)))
            }
        })
    }

    /// An alias, its own words looked up in the same lexicon.
    fn alias_of(&self, place: usize, alias: &str, deep: usize) -> String {
        let lexicon = &self.lexicons[place].lexicon;
        let mut out = String::new();
        let mut at = 0;
        while let Some(found) = lexicon.find(alias, at, None).filter(|_| deep > 0) {
            // A word that is its own alias is not looked up again.
            let itself = found.lexeme.graphemes.iter().any(|grapheme| grapheme == alias);
            out.push_str(&alias[at..found.range.start]);
            match found.lexeme.pronunciations.iter().find(|one| matches!(one, Pronunciation::Alias(_))) {
                Some(Pronunciation::Alias(inner)) if !itself => out.push_str(&self.alias_of(place, inner, deep - 1)),
                _ => out.push_str(&alias[found.range.clone()]),
            }
            at = found.range.end;
        }
        out.push_str(&alias[at..]);
        out
    }

    /// What became of the words of each lexicon; gives how many it changed.
    pub(super) fn report_lexicons(&mut self) -> usize {
        let looked_up = self.lexicons.iter().map(|one| one.done).sum();
        for InUse { name, report, done, plain, lexicon, .. } in std::mem::take(&mut self.lexicons) {
            let language = self.script.language.as_deref();
            let outcome = if plain.is_empty() { Outcome::Rewritten } else { Outcome::Plain };
            let named = plain.iter().take(MOST_NAMED).map(String::as_str).collect::<Vec<_>>().join(", ");
            let more = if plain.len() > MOST_NAMED { " and more" } else { "" };
            let lost = format!("it has no words for {named}{more} but phonemes, which this engine does not take");
            match (report, name) {
                (Some(at), _) if !plain.is_empty() => {
                    self.fidelity[at].outcome = outcome;
                    self.note(at, lost);
                }
                (Some(at), _) if done == 0 && !lexicon.is_for(language) => {
                    self.note(at, format!("it is for {}, and the text is not", lexicon.language));
                }
                (None, Some(name)) if done > 0 || !plain.is_empty() => {
                    let words = if done == 1 { "word" } else { "words" };
                    let note = match plain.is_empty() {
                        true => format!("'{name}' says how to speak {done} {words}"),
                        false => format!("'{name}': {lost}"),
                    };
                    self.fidelity.push(Fidelity::of_member("lexicon", outcome).with_note(note));
                }
                _ => {}
            }
        }
        looked_up
    }
}
