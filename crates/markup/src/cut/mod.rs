//! Cutting a piece to an engine's limit: at the end of a paragraph or a
//! sentence while it can be helped, then of a clause, then of a word; markup
//! is closed before a cut and opened again behind it.

mod growing;
mod sentences;

use std::sync::Arc;

use crate::lower::{Atom, Opening, Piece, escape};
pub use growing::GrowingText;
use sentences::{Rank, ends_paragraph, places, sentence_ends};
use unicode_segmentation::UnicodeSegmentation as _;

/// How much an engine takes at once.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Room {
    /// In the unit below.
    pub most: usize,
    /// Bytes of UTF-8, and not characters.
    pub bytes: bool,
    /// Tags and escapes count.
    pub tags: bool,
    /// Length of the markup around the text in the document that is sent, where it counts.
    pub around: usize,
    /// What the engine is sent.
    pub form: BodyForm,
}

/// What an engine is sent of a piece.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum BodyForm {
    /// Its words alone.
    Text,
    /// Markup, in which some characters of the text are escaped.
    Markup,
}

/// How much the first part of a piece holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FirstPart {
    /// One sentence, so that it is heard early.
    Sentence,
    /// As much as the others.
    Full,
}

impl Room {
    fn left(&self) -> usize {
        self.most.saturating_sub(if self.tags { self.around } else { 0 })
    }

    fn count(&self, text: &str) -> usize {
        if self.bytes { text.len() } else { text.chars().count() }
    }

    fn text(&self, text: &str) -> usize {
        if self.tags && self.form == BodyForm::Markup && text.contains(['&', '<', '>']) {
            let mut escaped = String::new();
            escape(text, &mut escaped);
            return self.count(&escaped);
        }
        self.count(text)
    }

    fn atom(&self, atom: &Atom) -> usize {
        match atom {
            Atom::Text(text) => self.text(text),
            Atom::Open(opening) => usize::from(self.tags) * self.count(&opening.tag),
            Atom::Empty(tag) => usize::from(self.tags) * self.count(tag),
            Atom::Close(name) => usize::from(self.tags) * (name.len() + 3),
            Atom::Paragraph => 2,
            Atom::Sentence => 1,
        }
    }
}

/// Elements that are one thing: never cut within.
const WHOLE: &[&str] = &["say-as", "phoneme", "sub", "token", "w"];

/// Something that is not parted, and how good a cut behind it is.
struct Unit {
    atoms: Vec<Atom>,
    rank: Option<Rank>,
}

/// The sentences of a text, each with the white space behind it.
pub fn sentences(text: &str) -> Vec<&str> {
    let mut start = 0;
    let mut found = Vec::new();
    for end in sentence_ends(text).into_iter().chain([text.len()]) {
        found.push(&text[start..end]);
        start = end;
    }
    found.retain(|sentence| !sentence.trim().is_empty());
    found
}

/// Parts a piece to fit; a piece that fits stays whole.
///
/// A single word that does not fit is parted between its letters.
pub fn pack(piece: &Piece, room: Room, first: FirstPart) -> Vec<Piece> {
    let whole: usize = piece.body.iter().map(|atom| room.atom(atom)).sum();
    if whole <= room.left() || piece.sound.is_some() || room.left() == 0 {
        return vec![piece.clone()];
    }
    let mut packer = Packer { room, parts: Vec::new(), current: Vec::new(), used: 0, open: Vec::new(), best: None };
    for unit in units(&piece.body) {
        let first_sentence =
            first == FirstPart::Sentence && packer.parts.is_empty() && unit.rank >= Some(Rank::Sentence);
        packer.take(unit);
        if first_sentence && speaks(&packer.current) {
            packer.cut(packer.current.len());
        }
    }
    packer.finish(piece)
}

/// Parts a piece behind its sentences, whatever its length. A part has at least
/// `first` characters if it is the first, else `least`. A sound, and a piece whose
/// length is asked for, stay whole.
pub fn by_sentence(piece: &Piece, first: usize, least: usize) -> Vec<Piece> {
    if piece.sound.is_some() || piece.treatment.duration.is_some() {
        return vec![piece.clone()];
    }
    let room = Room { most: usize::MAX, bytes: false, tags: false, around: 0, form: BodyForm::Text };
    let mut packer = Packer { room, parts: Vec::new(), current: Vec::new(), used: 0, open: Vec::new(), best: None };
    for unit in units(&piece.body) {
        let ends = unit.rank >= Some(Rank::Sentence);
        packer.take(unit);
        let least = if packer.parts.is_empty() { first } else { least };
        if ends && spoken(&packer.current) >= least.max(1) {
            packer.cut(packer.current.len());
        }
    }
    match packer.parts.is_empty() {
        true => vec![piece.clone()],
        false => packer.finish(piece),
    }
}

/// Characters that are said.
fn spoken(atoms: &[Atom]) -> usize {
    let said = |atom: &Atom| if let Atom::Text(text) = atom { text.trim().chars().count() } else { 0 };
    atoms.iter().map(said).sum()
}

fn speaks(atoms: &[Atom]) -> bool {
    atoms.iter().any(|atom| matches!(atom, Atom::Text(text) if !text.trim().is_empty()))
}

/// The body as units, each text parted where sentences end.
fn units(body: &[Atom]) -> Vec<Unit> {
    let mut units = Vec::new();
    // Sentences run on through elements: they are found in the text as a whole.
    let whole: String = body
        .iter()
        .map(|atom| match atom {
            Atom::Text(text) => text.as_str(),
            Atom::Paragraph => "\n\n",
            _ => "",
        })
        .collect();
    let ends = sentence_ends(&whole);
    let mut at = 0;
    let mut index = 0;
    while index < body.len() {
        match &body[index] {
            Atom::Text(text) => {
                let mut start = 0;
                let from = ends.partition_point(|end| *end <= at);
                for end in ends[from..].iter().map(|end| end - at).take_while(|end| *end < text.len()) {
                    let rank = if ends_paragraph(&text[..end]) { Rank::Paragraph } else { Rank::Sentence };
                    units.push(Unit { atoms: vec![Atom::Text(text[start..end].to_owned())], rank: Some(rank) });
                    start = end;
                }
                at += text.len();
                let ended = ends.binary_search(&at).is_ok();
                let rank = ended.then_some(Rank::Sentence);
                units.push(Unit { atoms: vec![Atom::Text(text[start..].to_owned())], rank });
            }
            Atom::Open(opening) if WHOLE.contains(&opening.name) => {
                let name = opening.name;
                let end = body[index..].iter().position(|atom| matches!(atom, Atom::Close(closed) if *closed == name));
                let end = end.map_or(body.len() - 1, |offset| index + offset);
                let atoms = body[index..=end].to_vec();
                at += atoms.iter().map(|atom| if let Atom::Text(text) = atom { text.len() } else { 0 }).sum::<usize>();
                units.push(Unit { atoms, rank: None });
                index = end;
            }
            Atom::Paragraph => {
                at += 2;
                units.push(Unit { atoms: vec![Atom::Paragraph], rank: Some(Rank::Paragraph) });
            }
            Atom::Sentence => units.push(Unit { atoms: vec![Atom::Sentence], rank: Some(Rank::Sentence) }),
            Atom::Close(name) => {
                let rank = match *name {
                    "p" => Some(Rank::Paragraph),
                    "s" => Some(Rank::Sentence),
                    // Behind what a sentence ended in, it still ends.
                    _ => units.last().and_then(|unit: &Unit| unit.rank).filter(|rank| *rank >= Rank::Clause),
                };
                units.push(Unit { atoms: vec![Atom::Close(name)], rank });
            }
            other => units.push(Unit { atoms: vec![other.clone()], rank: None }),
        }
        index += 1;
    }
    units
}

struct Packer {
    room: Room,
    parts: Vec<Vec<Atom>>,
    current: Vec<Atom>,
    /// What `current` takes, without the ends of what is open.
    used: usize,
    /// Elements open at the end of `current`.
    open: Vec<Arc<Opening>>,
    /// The best place for a cut so far: how many atoms of `current` lie before it.
    best: Option<(Rank, usize)>,
}

impl Packer {
    fn closing(&self) -> usize {
        self.open.iter().map(|opening| self.room.atom(&Atom::Close(opening.name))).sum()
    }

    fn take(&mut self, unit: Unit) {
        let cost: usize = unit.atoms.iter().map(|atom| self.room.atom(atom)).sum();
        let ends_element = matches!(unit.atoms.as_slice(), [Atom::Close(_)]);
        while self.used + cost + if ends_element { 0 } else { self.closing() } > self.room.left() {
            let Some((_, at)) = self.best.filter(|(_, at)| speaks(&self.current[..*at])) else {
                if speaks(&self.current) && !ends_element {
                    self.cut(self.current.len());
                    continue;
                }
                return self.force(unit);
            };
            self.cut(at);
        }
        self.put(unit.atoms, cost);
        if let Some(rank) = unit.rank
            && self.best.is_none_or(|(best, _)| rank.min(Rank::Sentence) >= best.min(Rank::Sentence))
        {
            self.best = Some((rank, self.current.len()));
        }
    }

    fn put(&mut self, atoms: Vec<Atom>, cost: usize) {
        for atom in &atoms {
            match atom {
                Atom::Open(opening) => self.open.push(opening.clone()),
                Atom::Close(_) => drop(self.open.pop()),
                _ => {}
            }
        }
        self.used += cost;
        self.current.extend(atoms);
    }

    /// What no part has room for: a sentence is parted at its clauses and
    /// words, a word between its letters.
    fn force(&mut self, unit: Unit) {
        if let [Atom::Text(text)] = unit.atoms.as_slice()
            && let places = places(text)
            && !places.is_empty()
        {
            let mut start = 0;
            for (end, rank) in places.into_iter().map(|(end, rank)| (end, Some(rank))).chain([(text.len(), unit.rank)])
            {
                self.take(Unit { atoms: vec![Atom::Text(text[start..end].to_owned())], rank });
                start = end;
            }
            return;
        }
        let [Atom::Text(text)] = unit.atoms.as_slice() else {
            let cost = unit.atoms.iter().map(|atom| self.room.atom(atom)).sum();
            return self.put(unit.atoms, cost);
        };
        for letter in text.graphemes(true) {
            let cost = self.room.text(letter);
            if self.used + cost + self.closing() > self.room.left() && speaks(&self.current) {
                self.cut(self.current.len());
            }
            match self.current.last_mut() {
                Some(Atom::Text(last)) => {
                    last.push_str(letter);
                    self.used += cost;
                }
                _ => self.put(vec![Atom::Text(letter.to_owned())], cost),
            }
        }
    }

    /// Ends a part after this many atoms.
    fn cut(&mut self, at: usize) {
        let rest = self.current.split_off(at);
        let mut part = std::mem::take(&mut self.current);
        let mut open: Vec<Arc<Opening>> = Vec::new();
        for atom in &part {
            match atom {
                Atom::Open(opening) => open.push(opening.clone()),
                Atom::Close(_) => drop(open.pop()),
                _ => {}
            }
        }
        part.extend(open.iter().rev().map(|opening| Atom::Close(opening.name)));
        self.parts.push(part);
        self.open.clear();
        self.used = 0;
        self.best = None;
        let again: Vec<Atom> = open.into_iter().map(Atom::Open).chain(rest).collect();
        let cost = again.iter().map(|atom| self.room.atom(atom)).sum();
        self.put(again, cost);
    }

    fn finish(mut self, piece: &Piece) -> Vec<Piece> {
        if speaks(&self.current) {
            self.parts.push(std::mem::take(&mut self.current));
        }
        let mut pieces: Vec<Piece> = Vec::new();
        for body in self.parts {
            let body = tidy(body);
            let first = pieces.is_empty();
            pieces.push(Piece {
                silence: if first { piece.silence } else { 0.0 },
                overlap: if first { piece.overlap } else { 0.0 },
                marks: if first { piece.marks.clone() } else { Vec::new() },
                body,
                treatment: crate::Treatment { duration: None, ..piece.treatment },
                ..piece.clone()
            });
        }
        pieces
    }
}

/// Texts that lie side by side become one, white space at both ends goes, and
/// so does an element that holds nothing.
fn tidy(body: Vec<Atom>) -> Vec<Atom> {
    let mut out: Vec<Atom> = Vec::new();
    for atom in body {
        match (out.last_mut(), atom) {
            (Some(Atom::Text(last)), Atom::Text(text)) => last.push_str(&text),
            (Some(Atom::Open(opened)), Atom::Close(closed)) if opened.name == closed && !WHOLE.contains(&closed) => {
                out.pop();
            }
            (_, atom) => out.push(atom),
        }
    }
    if let Some(Atom::Text(text)) = out.iter_mut().find(|atom| matches!(atom, Atom::Text(_))) {
        *text = text.trim_start().to_owned();
    }
    if let Some(Atom::Text(text)) = out.iter_mut().rev().find(|atom| matches!(atom, Atom::Text(_))) {
        *text = text.trim_end().to_owned();
    }
    out.retain(|atom| !matches!(atom, Atom::Text(text) if text.is_empty()));
    while let Some(Atom::Paragraph | Atom::Sentence) = out.last() {
        out.pop();
    }
    out
}

#[cfg(test)]
mod tests;
