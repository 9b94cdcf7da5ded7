//! What lowering makes: pieces, each one call of an engine or one inserted
//! sound, and the silence before it.

use std::sync::Arc;

use serde::Serialize;

use crate::{BodyForm, Fidelity};

/// A step of a piece's body.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Atom {
    /// Text, as it is said.
    Text(String),
    /// An element begins.
    Open(Arc<Opening>),
    /// An element ends; its name.
    Close(&'static str),
    /// An empty element, whole.
    Empty(Box<str>),
    /// The end of a paragraph.
    Paragraph,
    /// The end of a sentence that the document marks.
    Sentence,
}

/// What an element is opened with, and opened again behind a cut.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Opening {
    /// The start tag, whole.
    pub tag: String,
    /// The name in the start tag.
    pub name: &'static str,
}

/// A way of speaking.
#[derive(Debug, Clone, PartialEq)]
pub struct Manner {
    /// As the engine names it.
    pub name: String,
    /// How much of it, from 0 to 1.
    pub strength: Option<f64>,
}

/// A wish for another voice, by SSML 1.1's selection (section 3.2.1).
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct VoiceWish {
    /// Language and perhaps accent, the best first.
    pub languages: Vec<(String, Option<String>)>,
    /// `male`, `female` or `neutral`.
    pub gender: Option<String>,
    /// Years.
    pub age: Option<u32>,
    /// From 1.
    pub variant: Option<u32>,
    /// The best first.
    pub names: Vec<String>,
    /// What must be met.
    pub required: Vec<String>,
}

/// Audio that replaces text.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Sound {
    /// Resolved against `xml:base`.
    pub src: String,
    /// Seconds into it.
    pub begin: Option<f64>,
    /// Seconds into it at which it ends.
    pub end: Option<f64>,
    /// How often, parts of a time included; without end where only a length is
    /// given.
    pub count: f64,
    /// Seconds of it in all.
    pub duration: Option<f64>,
    /// Decibels.
    pub level: f64,
    /// Times its ordinary speed.
    pub speed: f64,
}

/// What is made good with the audio of a piece.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Treatment {
    /// Times the ordinary rate.
    pub rate: f64,
    /// Semitones.
    pub pitch: f64,
    /// Decibels.
    pub volume: f64,
    /// Milliseconds that the piece is to take, whatever its rate.
    pub duration: Option<f64>,
}

impl Default for Treatment {
    fn default() -> Self {
        Treatment { rate: 1.0, pitch: 0.0, volume: 0.0, duration: None }
    }
}

/// A mark, and the milliseconds of a piece's silence that lie before it.
#[derive(Debug, Clone, PartialEq)]
pub struct MarkAt {
    /// The name that the script gives it.
    pub name: String,
    /// Milliseconds of silence before it.
    pub behind: f64,
}

/// One call of an engine, or one inserted sound.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Piece {
    /// Milliseconds of silence before it.
    pub silence: f64,
    /// Milliseconds by which it begins before the piece ahead of it has ended.
    pub overlap: f64,
    /// Marks that lie before its audio.
    pub marks: Vec<MarkAt>,
    /// What is said, in order.
    pub body: Vec<Atom>,
    /// In place of text.
    pub sound: Option<Box<Sound>>,
    /// What is done to its audio.
    pub treatment: Treatment,
    /// The voice that speaks it, where that is not the utterance's own; as
    /// [`Choices::voice`](super::Choices::voice) names it.
    pub voice: Option<Box<str>>,
    /// The language of it, where that is not the script's own.
    pub language: Option<Box<str>>,
    /// A way of speaking, where that is not the voice's own.
    pub style: Option<Box<Manner>>,
}

impl Piece {
    /// Whether an engine has something to say in it.
    pub fn speaks(&self) -> bool {
        self.body.iter().any(|atom| match atom {
            Atom::Text(text) => !text.trim_start().is_empty(),
            // A phoneme or an alias may be all there is.
            Atom::Open(opening) => matches!(opening.name, "phoneme" | "sub"),
            _ => false,
        })
    }

    /// Its body as markup, with its text escaped.
    pub fn markup(&self) -> String {
        render(&self.body, BodyForm::Markup)
    }

    /// What is said, without markup.
    pub fn plain(&self) -> String {
        let text: Vec<Atom> = self
            .body
            .iter()
            .filter(|a| matches!(a, Atom::Text(_) | Atom::Paragraph | Atom::Sentence))
            .cloned()
            .collect();
        render(&text, BodyForm::Text)
    }
}

/// A script, lowered for one engine.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Lowered {
    /// In order; never empty where the script speaks.
    pub pieces: Vec<Piece>,
    /// One entry an element, in document order.
    pub fidelity: Vec<Fidelity>,
    /// Milliseconds of silence behind the last piece.
    pub silence: f64,
    /// Marks behind the last piece.
    pub marks: Vec<MarkAt>,
    /// Words that lexicons changed.
    pub looked_up: usize,
}

pub(crate) fn escape(text: &str, out: &mut String) {
    let mut rest = text;
    while let Some(at) = rest.find(['&', '<', '>']) {
        out.push_str(&rest[..at]);
        out.push_str(match rest.as_bytes()[at] {
            b'&' => "&amp;",
            b'<' => "&lt;",
            _ => "&gt;",
        });
        rest = &rest[at + 1..];
    }
    out.push_str(rest);
}

pub(crate) fn render(atoms: &[Atom], form: BodyForm) -> String {
    let mut out = String::new();
    for (index, atom) in atoms.iter().enumerate() {
        match atom {
            Atom::Text(text) if form == BodyForm::Markup => escape(text, &mut out),
            Atom::Text(text) => out.push_str(text),
            Atom::Open(opening) => out.push_str(&opening.tag),
            Atom::Empty(tag) => out.push_str(tag),
            Atom::Close(name) => {
                out.push_str("</");
                out.push_str(name);
                out.push('>');
            }
            Atom::Paragraph | Atom::Sentence if index + 1 == atoms.len() || out.is_empty() => {}
            Atom::Paragraph => out.push_str("\n\n"),
            Atom::Sentence => out.push(' '),
        }
    }
    out
}
