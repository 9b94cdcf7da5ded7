//! The script: what is to be said, as a tree of spans in document order.

use std::ops::Range;

use crate::place::Lines;

/// The elements of SSML 1.1, and what may stand among them.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Tag {
    /// `speak`, the root.
    Speak,
    /// `p`.
    Paragraph,
    /// `s`.
    Sentence,
    /// `token`, or `w`.
    Token,
    /// `voice`.
    Voice,
    /// `prosody`.
    Prosody,
    /// `emphasis`.
    Emphasis,
    /// `break`.
    Break,
    /// `say-as`.
    SayAs,
    /// `phoneme`.
    Phoneme,
    /// `sub`.
    Sub,
    /// `lang`.
    Lang,
    /// `lexicon`.
    Lexicon,
    /// `lookup`.
    Lookup,
    /// `audio`.
    Audio,
    /// `mark`.
    Mark,
    /// `desc`.
    Desc,
    /// `meta`.
    Meta,
    /// `metadata`.
    Metadata,
    /// `emotion` of EmotionML 1.0.
    Emotion,
    /// `overlap` of our own namespace: what follows begins so much before what
    /// stands before it has ended.
    Overlap,
    /// An element of another namespace, with all that is in it.
    Foreign,
}

/// A stretch of a script's text, in bytes: of its source, or, from where that
/// ends, of what was spelt otherwise there.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Span {
    pub(crate) at: u32,
    pub(crate) end: u32,
}

impl Span {
    pub(crate) fn new(at: usize, end: usize) -> Span {
        Span { at: number(at), end: number(end) }
    }

    pub(crate) fn range(self) -> Range<usize> {
        self.at as usize..self.end as usize
    }

    /// The text: in the source, or after it in what was spelt.
    #[inline]
    pub(crate) fn of<'t>(self, source: &'t str, spelt: &'t str) -> &'t str {
        let Range { start, end } = self.range();
        match start.checked_sub(source.len()) {
            None => &source[start..end],
            Some(start) => &spelt[start..end - source.len()],
        }
    }
}

/// A position, or a number of something, as it is kept. Sources are limited
/// far below what this holds.
pub(crate) fn number(at: usize) -> u32 {
    u32::try_from(at).unwrap_or(u32::MAX)
}

/// What is kept of an element. A long script has many: they lie side by side,
/// and have no memory of their own.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Record {
    pub(crate) tag: Tag,
    /// Its name is written in another way than SSML's own: with a prefix, or
    /// as `w`.
    pub(crate) renamed: bool,
    /// Byte position of its start tag in the source.
    pub(crate) at: u32,
    /// Its attributes, among those of the script.
    pub(crate) attributes: Span,
    /// Index of its end among the items.
    pub(crate) end: u32,
}

/// An element as it was written, its values checked.
#[derive(Clone, Copy)]
pub struct Element<'s> {
    script: &'s Script<'s>,
    record: &'s Record,
}

impl<'s> Element<'s> {
    /// What it is.
    pub fn tag(self) -> Tag {
        self.record.tag
    }

    /// Its name, without a prefix.
    pub fn name(self) -> &'s str {
        self.renamed().unwrap_or(self.record.tag.name())
    }

    /// Its name without a prefix, where that may be another than SSML's own.
    pub(crate) fn renamed(self) -> Option<&'s str> {
        if !self.record.renamed {
            return None;
        }
        let tag = &self.script.source[self.at() + 1..];
        let end = tag.find(|c: char| c.is_ascii_whitespace() || matches!(c, '/' | '>')).unwrap_or(tag.len());
        tag[..end].rsplit(':').next()
    }

    /// Byte position of its start tag in the source.
    pub fn at(self) -> usize {
        self.record.at as usize
    }

    /// Index of its end among the items.
    pub(crate) fn end(self) -> usize {
        self.record.end as usize
    }

    /// Attributes of SSML, `xml:lang` and the like among them; references resolved.
    pub fn attributes(self) -> impl Iterator<Item = (&'static str, &'s str)> {
        let script = self.script;
        let of_mine = script.attributes.get(self.record.attributes.range()).unwrap_or_default();
        of_mine.iter().map(|(name, value)| (*name, script.slice(*value)))
    }

    /// The value of an attribute.
    #[inline]
    pub fn get(self, name: &str) -> Option<&'s str> {
        // Most elements have none.
        if self.record.attributes.at == self.record.attributes.end {
            return None;
        }
        self.attributes().find(|(key, _)| *key == name).map(|(_, value)| value)
    }
}

/// One step of the walk over a script.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum WalkStep {
    /// The element of this number.
    Open(u32),
    Close,
    /// Text of the source.
    Text(Span),
    /// A character that is not as in the source: a reference, resolved.
    Said(char),
}

/// A step as it is kept, in eight bytes: of a text where it begins and ends;
/// of another what it is, which is no end of a text, and its number.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Item(u32, u32);

impl Item {
    const OPEN: u32 = u32::MAX;
    const CLOSE: u32 = u32::MAX - 1;
    const SAID: u32 = u32::MAX - 2;

    pub(crate) const fn open(number: u32) -> Item {
        Item(number, Item::OPEN)
    }

    pub(crate) const fn close() -> Item {
        Item(0, Item::CLOSE)
    }

    pub(crate) const fn said(character: char) -> Item {
        Item(character as u32, Item::SAID)
    }

    pub(crate) const fn text(span: Span) -> Item {
        Item(span.at, span.end)
    }

    #[inline]
    pub(crate) fn step(self) -> WalkStep {
        match self.1 {
            Item::OPEN => WalkStep::Open(self.0),
            Item::CLOSE => WalkStep::Close,
            Item::SAID => WalkStep::Said(char::from_u32(self.0).unwrap_or_default()),
            end => WalkStep::Text(Span { at: self.0, end }),
        }
    }
}

/// What the source was taken for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SourceKind {
    /// Text, to the character.
    Text,
    /// SSML, where white space is layout.
    Markup,
}

/// The parsed text of a synthesis request, over its source.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Script<'s> {
    pub(crate) source: &'s str,
    pub(crate) items: Vec<Item>,
    /// In document order.
    pub(crate) elements: Vec<Record>,
    /// Of all elements, in document order: names, and where the values stand.
    pub(crate) attributes: Vec<(&'static str, Span)>,
    /// Values that are not as in the source.
    pub(crate) spelt: String,
    pub(crate) kind: SourceKind,
    /// The language that the document names for itself.
    pub language: Option<String>,
    /// What is odd about the source and no fault.
    pub notes: Vec<String>,
}

impl Script<'_> {
    /// The text of a stretch.
    #[inline]
    pub(crate) fn slice(&self, span: Span) -> &str {
        span.of(self.source, &self.spelt)
    }

    /// The element of a number.
    pub(crate) fn element(&self, number: u32) -> Element<'_> {
        Element { script: self, record: &self.elements[number as usize] }
    }

    /// The element that all others are in.
    pub(crate) fn root(&self) -> Option<Element<'_>> {
        self.elements.first().map(|record| Element { script: self, record })
    }

    /// What the source was taken for.
    pub fn kind(&self) -> SourceKind {
        self.kind
    }

    /// Where in the source, from 1; columns in characters.
    pub(crate) fn places(&self) -> impl FnMut(usize) -> (usize, usize) {
        let mut lines = Lines::of(self.source);
        move |at| lines.place(at)
    }

    /// Every element, in document order.
    pub fn elements(&self) -> impl Iterator<Item = Element<'_>> {
        self.elements.iter().map(|record| Element { script: self, record })
    }

    /// The text that is spoken where nothing else is done: paragraphs apart
    /// by an empty line.
    pub fn plain_text(&self) -> String {
        crate::lower::plain_text(self)
    }
}
