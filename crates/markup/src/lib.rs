//! Scripts: the parsed text of a synthesis request, whatever it came from,
//! and what each engine's dialect makes of it.
//!
//! What lives here: the [`Script`] and its readers (plain text, SSML 1.1 with
//! EmotionML), the [`Lexicon`] (PLS 1.0), the [`Dialect`] that an engine takes, lowering to it
//! ([`lower`]) with a [`Fidelity`] report, cutting to an engine's limit
//! ([`pack`]), and say-as in words. Nothing here calls an engine, makes a
//! sound or fetches anything.

#![warn(missing_docs)]

mod address;
mod cut;
mod dialect;
mod dialogue;
mod encoding;
mod fidelity;
mod language;
mod lexicon;
mod lower;
mod notice;
mod place;
pub mod prosody;
mod reader;
mod say_as;
mod script;
mod text;

/// Milliseconds of one break.
pub const LONGEST_BREAK: f64 = 600_000.0;
/// Milliseconds of all breaks of a script together.
pub const LONGEST_SILENCE: f64 = 3_600_000.0;

pub use address::{Reference, ReferenceKind};
pub use cut::{BodyForm, FirstPart, GrowingText, Room, by_sentence, pack, sentences};
pub use dialect::{Accepts, AcceptsRange, Dialect, ValueForm};
pub use dialogue::{DialogueLine, LineFault, dialogue};
pub use encoding::{EncodingError, decode_text};
pub use fidelity::{Fidelity, Outcome};
pub use language::{Detected, by_paragraph, detect, evident};
pub use lexicon::{Lexeme, Lexicon, Pronunciation};
pub use lower::{Atom, Choices, Lowered, Manner, MarkAt, Opening, Piece, Policy, Sound, Treatment, VoiceWish, lower};
pub use notice::with_notice;
pub use place::MarkupError;
pub use reader::values::time as read_time;
pub use reader::{new_pls, read_pls, read_ssml, with_word};
pub use script::{Element, Script, SourceKind, Tag};
pub use text::{looks_like_markup, read_text};

/// The examples of the README are run as tests.
#[cfg(doctest)]
#[doc = include_str!("../README.md")]
struct Readme;
