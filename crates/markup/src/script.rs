//! The script: what is to be said, as a tree of spans in document order.

use std::borrow::Cow;
use std::ops::Range;

use compact_str::CompactString;
use smallvec::SmallVec;

use crate::place::Lines;

/// The elements of SSML 1.1, and what may stand among them.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Tag {
    Speak,
    Paragraph,
    Sentence,
    /// `token`, or `w`.
    Token,
    Voice,
    Prosody,
    Emphasis,
    Break,
    SayAs,
    Phoneme,
    Sub,
    Lang,
    Lexicon,
    Lookup,
    Audio,
    Mark,
    Desc,
    Meta,
    Metadata,
    /// `emotion` of EmotionML 1.0.
    Emotion,
    /// `overlap` of our own namespace: what follows begins so much before what
    /// stands before it has ended.
    Overlap,
    /// An element of another namespace, with all that is in it.
    Foreign,
}

/// Names and values. Most elements have none or one, and most values are
/// short: neither takes memory of its own.
pub type Attributes = SmallVec<[(Cow<'static, str>, CompactString); 1]>;

/// An element as it was written, its values checked.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Element {
    pub tag: Tag,
    /// As it was written.
    pub name: Cow<'static, str>,
    /// Byte position of its start tag in the source.
    pub at: usize,
    /// Attributes of SSML, `xml:lang` and the like among them; references resolved.
    pub attributes: Attributes,
    /// Index of its end among the items.
    pub end: usize,
}

impl Element {
    /// The value of an attribute.
    pub fn get(&self, name: &str) -> Option<&str> {
        self.attributes.iter().find(|(key, _)| key == name).map(|(_, value)| value.as_str())
    }
}

/// One step of the walk over a script.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Item {
    /// The element of this number.
    Open(usize),
    Close,
    /// Text of the source.
    Text(Range<usize>),
    /// Text that is not as in the source: a reference, resolved.
    Said(String),
}

/// What the source was taken for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    /// Text, to the character.
    Text,
    /// SSML, where white space is layout.
    Markup,
}

/// The parsed text of a synthesis request.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Script {
    pub(crate) source: String,
    pub(crate) items: Vec<Item>,
    /// In document order.
    pub(crate) elements: Vec<Element>,
    pub(crate) kind: Kind,
    /// The language that the document names for itself.
    pub language: Option<String>,
    /// What is odd about the source and no fault.
    pub notes: Vec<String>,
}

impl Script {
    /// The walk over the script.
    pub fn items(&self) -> &[Item] {
        &self.items
    }

    /// What the source was taken for.
    pub fn kind(&self) -> Kind {
        self.kind
    }

    /// Where in the source, from 1; columns in characters.
    pub(crate) fn places(&self) -> impl FnMut(usize) -> (usize, usize) {
        let mut lines = Lines::default();
        move |at| lines.place(&self.source, at)
    }

    /// Every element, in document order.
    pub fn elements(&self) -> &[Element] {
        &self.elements
    }

    /// The text that is spoken where nothing else is done: paragraphs apart
    /// by an empty line.
    pub fn plain_text(&self) -> String {
        crate::lower::plain_text(self)
    }
}
