//! Lowering: a script becomes the least changed pieces that one engine
//! accepts, and a report of what became of each element.
//!
//! An element that the engine's dialect takes is written for it; what the
//! dialect does not take is said in other words, or left to the gateway's own
//! audio code, which ends a piece and begins another, or spoken plainly.

mod element;
mod emotion;
mod piece;
mod token;
mod voice;
mod words;

use std::sync::Arc;

use crate::dialect::Dialect;
use crate::script::{Element, Script, SourceKind, Tag, WalkStep};
use crate::{Fidelity, Lexicon, Outcome};
use token::Word;
use words::InUse;

pub(crate) use piece::escape;
pub use piece::{Atom, Lowered, Manner, MarkAt, Opening, Piece, Sound, Treatment, VoiceWish};

/// What to do with what an engine cannot.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Policy {
    /// Make it good.
    #[default]
    Adapt,
    /// Leave it.
    Omit,
}

/// What only the gateway knows. Where it says nothing, the engine has one
/// voice, which speaks every language, and nothing beside.
pub trait Choices {
    /// A voice that meets the wish, by a name that the piece carries; `None`
    /// where there is none.
    fn voice(&self, _wish: &VoiceWish) -> Option<String> {
        None
    }

    /// Whether a voice (`None`: the utterance's own) speaks a language.
    fn speaks(&self, _voice: Option<&str>, _language: &str) -> bool {
        true
    }

    /// Whether a sound at an address can be had.
    fn sound(&self, _src: &str) -> bool {
        false
    }

    /// A lexicon by its address.
    fn lexicon(&self, _uri: &str) -> Option<Arc<Lexicon>> {
        None
    }

    /// Lexicons that hold for every text in their language, by name; an
    /// earlier one goes before a later one.
    fn lexicons(&self) -> Vec<(String, Arc<Lexicon>)> {
        Vec::new()
    }

    /// Whether the engine itself changes rate, pitch and volume so far beside
    /// the text, so that nothing is left to be made good.
    fn controls(&self, _treatment: &Treatment) -> bool {
        false
    }

    /// The engine's own name for a way of speaking, where it has it: of an
    /// emotion's category, or a dimension as `valence+` or `arousal-`.
    fn style(&self, _emotion: &str) -> Option<String> {
        None
    }
}

/// Lowers a script to a dialect; without one, to plain text.
pub fn lower(script: &Script<'_>, dialect: Option<&Dialect>, policy: Policy, choices: &dyn Choices) -> Lowered {
    let mut lowering = Lowering::new(script, dialect, policy, choices);
    lowering.run();
    lowering.finish()
}

/// The text that is spoken where nothing else is done.
pub(crate) fn plain_text(script: &Script<'_>) -> String {
    struct Nothing;
    impl Choices for Nothing {}
    let lowered = lower(script, None, Policy::Omit, &Nothing);
    lowered.pieces.iter().map(Piece::plain).filter(|text| !text.is_empty()).collect::<Vec<_>>().join(" ")
}

/// Context at the current position.
#[derive(Debug, Clone, Default, PartialEq)]
struct WalkState {
    treatment: Treatment,
    voice: Option<Box<str>>,
    language: Option<Box<str>>,
    style: Option<Box<Manner>>,
    base: Option<String>,
    /// Lexicons that a word is looked up in, among those in use; the last first.
    lookups: Vec<usize>,
    /// What the word is in its sentence, as a qualified name.
    role: Option<String>,
}

/// What an end tag brings.
enum Closing {
    /// A native element ends.
    Native(&'static str),
    /// A paragraph or a sentence without a tag of its own ends.
    Gap(Atom),
    /// A token ends.
    Word,
    /// A prosody ends whose length is asked for: the place of its report, and
    /// how many pieces there were before it.
    Duration(usize, usize, f64),
}

struct Lowering<'s> {
    script: &'s Script<'s>,
    dialect: Option<&'s Dialect>,
    policy: Policy,
    choices: &'s dyn Choices,
    /// The item that the walk comes to next.
    next: usize,
    pieces: Vec<Piece>,
    current: Piece,
    /// The last text of the piece at hand, as long as text is added to it. Its
    /// room, and that of the piece's body, is used again for the next.
    written: String,
    /// White space that is written before what follows, if anything does.
    space: bool,
    /// The last that was written ends in white space, or nothing was.
    at_start: bool,
    /// Native elements that are open, with their start tags.
    open: Vec<Arc<Opening>>,
    state: WalkState,
    /// What holds outside of each element that is open, where that is not what
    /// holds within, and how many closings there were before it.
    saved: Vec<(Option<Box<WalkState>>, usize)>,
    /// How many elements are open where nothing is said; 0 where it is.
    silent: usize,
    closings: Vec<Closing>,
    word: Option<Word>,
    /// A token began or ended at this position.
    boundary: bool,
    fidelity: Vec<Fidelity>,
    lexicons: Vec<InUse>,
    /// Content before `startmark` or after `endmark` is not rendered.
    started: bool,
    ended: bool,
}

impl<'s> Lowering<'s> {
    fn new(script: &'s Script<'s>, dialect: Option<&'s Dialect>, policy: Policy, choices: &'s dyn Choices) -> Self {
        let root = script.root();
        let lexicons: Vec<InUse> = choices.lexicons().into_iter().rev().map(InUse::of_all).collect();
        let state = WalkState { lookups: (0..lexicons.len()).collect(), ..WalkState::default() };
        Lowering {
            script,
            dialect,
            policy,
            choices,
            next: 0,
            pieces: Vec::new(),
            current: Piece::default(),
            written: String::new(),
            space: false,
            at_start: true,
            open: Vec::new(),
            state,
            lexicons,
            saved: Vec::new(),
            silent: 0,
            closings: Vec::new(),
            word: None,
            boundary: false,
            fidelity: Vec::with_capacity(script.elements.len()),
            started: root.is_none_or(|speak| speak.get("startmark").is_none()),
            ended: false,
        }
    }

    fn run(&mut self) {
        let script = self.script;
        let mut place = script.places();
        while let Some(item) = script.items.get(self.next) {
            self.next += 1;
            match item.step() {
                WalkStep::Text(_) | WalkStep::Said(_) if !self.state.lookups.is_empty() => {
                    let run = self.run_of_text();
                    self.text(&run);
                }
                WalkStep::Text(span) => self.text(script.slice(span)),
                WalkStep::Said(said) => self.text(said.encode_utf8(&mut [0; 4])),
                WalkStep::Close => self.close(),
                WalkStep::Open(number) => {
                    let element = script.element(number);
                    let at = self.fidelity.len();
                    self.fidelity.push(Fidelity::of(element, place(element.at())));
                    self.saved.push((None, self.closings.len()));
                    let outcome = self.element(element, at);
                    self.fidelity[at].outcome = outcome;
                }
            }
        }
    }

    fn note(&mut self, at: usize, note: impl Into<Box<str>>) {
        if let Some(entry) = self.fidelity.get_mut(at) {
            entry.tell(note);
        }
    }

    fn on_close(&mut self, closing: Closing) {
        self.closings.push(closing);
    }

    fn adapts(&self) -> bool {
        self.policy == Policy::Adapt
    }

    /// Whether the content at the current position is rendered.
    fn heard(&self) -> bool {
        self.silent == 0 && self.started && !self.ended
    }

    /// Nothing within the element at hand is said.
    fn silence_here(&mut self) {
        if self.silent == 0 {
            self.silent = self.saved.len();
        }
    }

    /// What holds within the element at hand, to be changed.
    fn inner(&mut self) -> &mut WalkState {
        if let Some((outer @ None, _)) = self.saved.last_mut() {
            *outer = Some(Box::new(self.state.clone()));
        }
        &mut self.state
    }

    fn text(&mut self, text: &str) {
        if !self.heard() || self.is_said() {
            return;
        }
        self.words(text);
    }

    /// Text, its white space laid out as the kind of script asks.
    fn write(&mut self, text: &str) {
        if self.script.kind == SourceKind::Text {
            return self.push(text);
        }
        let trimmed = text.trim_ascii_start();
        if trimmed.is_empty() {
            self.space |= !text.is_empty();
            return;
        }
        let apart = self.boundary && self.is_boundary(trimmed);
        let spaced = (self.space || trimmed.len() < text.len() || apart) && !self.at_start;
        let text = trimmed;
        let trimmed = text.trim_ascii_end();
        if spaced {
            self.written.push(' ');
        }
        push_spaced_once(trimmed, &mut self.written);
        self.space = trimmed.len() < text.len();
        self.at_start = false;
    }

    fn push(&mut self, text: &str) {
        self.at_start = text.ends_with(|c: char| c.is_ascii_whitespace()) && self.script.kind == SourceKind::Markup;
        self.written.push_str(text);
    }

    /// A step of the piece at hand, behind the text that is there.
    fn step(&mut self, atom: Atom) {
        self.settle_text();
        self.current.body.push(atom);
    }

    fn settle_text(&mut self) {
        if !self.written.is_empty() {
            self.current.body.push(Atom::Text(self.written.as_str().to_owned()));
            self.written.clear();
        }
    }

    /// The text that was written last in the current piece.
    fn written_last(&self) -> Option<&str> {
        if !self.written.is_empty() {
            return Some(&self.written);
        }
        self.current.body.iter().rev().find_map(|atom| match atom {
            Atom::Text(text) => Some(text.as_str()),
            _ => None,
        })
    }

    /// Whether an engine has something to say in the piece at hand.
    fn speaks(&self) -> bool {
        !self.written.trim_start().is_empty() || self.current.speaks()
    }

    /// A tag of the engine's: white space that waits goes before it.
    fn tag(&mut self, atom: Atom) {
        if self.space && !self.at_start && !matches!(atom, Atom::Close(_)) {
            self.push(" ");
            self.space = false;
            self.at_start = matches!(atom, Atom::Open(_));
        }
        self.step(atom);
    }

    fn open_native(&mut self, tag: String, name: &'static str) {
        let opening = Arc::new(Opening { tag, name });
        if matches!(name, "p" | "s") {
            self.space = false;
            self.at_start = true;
        }
        self.tag(Atom::Open(opening.clone()));
        self.open.push(opening);
        self.on_close(Closing::Native(name));
    }

    fn gap(&mut self, gap: Atom) {
        let last = if self.written.is_empty() { self.current.body.last_mut() } else { None };
        match (last, &gap) {
            (Some(Atom::Paragraph), _) | (Some(Atom::Sentence), Atom::Sentence) => {}
            (Some(last @ Atom::Sentence), Atom::Paragraph) => *last = Atom::Paragraph,
            _ => {
                if self.speaks() {
                    self.step(gap);
                }
            }
        }
        self.space = false;
        self.at_start = true;
    }

    /// The piece at hand is over; what follows is another, with the same
    /// native elements open.
    fn flush(&mut self) {
        if self.speaks() {
            self.settle_text();
            self.current.body.extend(self.open.iter().rev().map(|opening| Atom::Close(opening.name)));
            self.drop_idle_pairs();
            let body = self.current.body.drain(..).collect();
            let room = std::mem::replace(&mut self.current.body, body);
            self.pieces.push(std::mem::replace(&mut self.current, Piece { body: room, ..Piece::default() }));
        } else {
            self.written.clear();
            self.current.body.clear();
        }
        let again = self.open.iter().cloned().map(Atom::Open);
        self.current.body.extend(again);
        self.current.treatment = self.state.treatment;
        self.current.voice.clone_from(&self.state.voice);
        self.current.language.clone_from(&self.state.language);
        self.current.style.clone_from(&self.state.style);
        self.space = false;
        self.at_start = true;
    }

    /// Elements reopened at a cut that then held nothing.
    fn drop_idle_pairs(&mut self) {
        let body = &mut self.current.body;
        let mut index = 0;
        while index + 1 < body.len() {
            let idle = matches!((&body[index], &body[index + 1]),
                (Atom::Open(opened), Atom::Close(closed)) if opened.name == *closed && !matches!(*closed, "phoneme" | "sub"));
            if idle {
                body.drain(index..index + 2);
                index = index.saturating_sub(1);
            } else {
                index += 1;
            }
        }
    }

    /// The state changes in a way that only another piece can carry.
    fn turn(&mut self, change: impl FnOnce(&mut WalkState)) {
        let before = self.state.clone();
        change(self.inner());
        if self.state != before {
            self.flush();
        }
    }

    fn silence(&mut self, milliseconds: f64) {
        self.flush();
        self.current.silence += milliseconds;
    }

    fn close(&mut self) {
        let Some((outer, before)) = self.saved.pop() else { return };
        if self.saved.len() < self.silent {
            self.silent = 0;
        }
        while self.closings.len() > before {
            let Some(closing) = self.closings.pop() else { break };
            match closing {
                Closing::Native(name) => {
                    self.open.pop();
                    self.step(Atom::Close(name));
                    if matches!(name, "p" | "s") {
                        self.space = false;
                        self.at_start = true;
                    }
                }
                Closing::Gap(gap) => self.gap(gap),
                Closing::Word => self.end_word(),
                Closing::Duration(report, before, milliseconds) => {
                    self.flush();
                    self.stretch(report, before, milliseconds);
                }
            }
        }
        let Some(state) = outer else { return };
        let carried = |state: &WalkState| {
            let WalkState { treatment, voice, language, style, .. } = state;
            *treatment == self.state.treatment
                && *voice == self.state.voice
                && *language == self.state.language
                && *style == self.state.style
        };
        let same = carried(&state);
        self.state = *state;
        if !same {
            self.flush();
        }
    }

    /// A stretch of speech gets the length that is asked for, where it became
    /// one piece.
    fn stretch(&mut self, report: usize, before: usize, milliseconds: f64) {
        match self.pieces.get_mut(before..) {
            Some([piece]) if piece.sound.is_none() => piece.treatment.duration = Some(milliseconds),
            _ => {
                self.fidelity[report].outcome = Outcome::Plain;
                self.note(report, "its length is not kept: it is more than one piece");
            }
        }
    }

    fn finish(mut self) -> Lowered {
        let tail =
            if self.speaks() { None } else { Some((self.current.silence, std::mem::take(&mut self.current.marks))) };
        self.settle_text();
        if let Some(Atom::Paragraph | Atom::Sentence) = self.current.body.last() {
            self.current.body.pop();
        }
        self.flush();
        let looked_up = self.report_lexicons();
        let (silence, marks) = tail.unwrap_or_default();
        Lowered { pieces: self.pieces, fidelity: self.fidelity, silence, marks, looked_up }
    }
}

/// Adds text that neither begins nor ends in white space, a single space in
/// place of each white space within.
fn push_spaced_once(text: &str, out: &mut String) {
    let space = |byte: u8| byte.is_ascii_whitespace();
    let bytes = text.as_bytes();
    // Most texts are in order already, which is found out without a branch for
    // each byte.
    let pairs = bytes.iter().zip(&bytes[1..]);
    let idle = pairs.fold(false, |any, (one, next)| any | (space(*one) & (space(*next) | (*one != b' '))));
    if !idle {
        return out.push_str(text);
    }
    for (at, word) in text.split_ascii_whitespace().enumerate() {
        if at > 0 {
            out.push(' ');
        }
        out.push_str(word);
    }
}

#[cfg(test)]
mod tests;
