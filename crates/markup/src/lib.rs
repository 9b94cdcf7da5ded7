//! Scripts: the parsed text of a synthesis request, whatever it came from.
//!
//! What lives here: the [`Script`], its readers (plain text, SSML 1.1) and the
//! [`Fidelity`] report. Nothing here calls an engine or makes a sound.
//!
//! So far engines are given plain text. Of SSML the structure (`speak`, `p`,
//! `s`, `token`, `w`) and `sub` are carried out; every other element is read,
//! checked for form and reported, its text spoken plainly.

mod fidelity;
pub mod prosody;
mod script;
mod ssml;
mod text;

pub use fidelity::{Fidelity, Outcome};
pub use script::Script;
pub use ssml::{MarkupError, read_ssml};
pub use text::read_text;
