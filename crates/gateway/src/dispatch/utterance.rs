//! What a caller gets of a synthesis: its first audio, and what is known of it.

use std::sync::Arc;

use dispatcher_audio::Format;
use dispatcher_core::{Money, Word};
use dispatcher_engines::Words;
use dispatcher_markup::{Fidelity, Outcome};
use parking_lot::Mutex;

use crate::{AudioBody, CacheOutcome, FailedAttempt};

/// An utterance whose first audio is there.
pub struct Utterance {
    pub dispatch: String,
    pub engine: String,
    /// `engine/voice`.
    pub voice: String,
    pub model: Option<String>,
    pub format: Format,
    /// The top of what it may cost; exact for tariffs by text.
    pub estimate: Money,
    pub fidelity: Vec<Fidelity>,
    pub worst: Outcome,
    pub fingerprint: String,
    pub warnings: Vec<String>,
    pub rehearsal: bool,
    /// Microseconds from the request to the first audio.
    pub first_us: i64,
    /// Attempts that failed before this one.
    pub fallbacks: Vec<FailedAttempt>,
    pub body: AudioBody,
    /// What was done about kept audio.
    pub cache: CacheOutcome,
    pub(super) words: Words,
    /// How much faster the audio was made than the engine spoke it.
    pub(super) tempo: f64,
    pub(super) marks: Marks,
    pub(super) cues: Cues,
}

impl Utterance {
    /// What is said when, part by part, where it was made of parts; whole
    /// once the body has ended.
    pub fn cues(&self) -> Vec<Cue> {
        self.cues.lock().clone()
    }

    /// Marks of the script and the seconds at which they come; whole once the
    /// body has ended.
    pub fn marks(&self) -> Vec<(String, f64)> {
        self.marks.lock().clone()
    }

    /// Words and their times, as far as the engine reports them; whole once the
    /// body has ended.
    pub fn words(&self) -> Vec<Word> {
        self.words_from(0)
    }

    /// The same without those that were sent already.
    pub fn words_from(&self, told: usize) -> Vec<Word> {
        let words = self.words.lock();
        let moved = |time: Option<f64>| time.map(|time| time / self.tempo);
        words
            .iter()
            .skip(told)
            .map(|word| Word { start: moved(word.start), end: moved(word.end), ..word.clone() })
            .collect()
    }
}

/// What is said from one second of an utterance to another.
#[derive(Debug, Clone, PartialEq)]
pub struct Cue {
    pub start: f64,
    pub end: f64,
    pub text: String,
}

pub(crate) type Cues = Arc<Mutex<Vec<Cue>>>;

/// Marks of a script, with the seconds at which they come.
pub(crate) type Marks = Arc<Mutex<Vec<(String, f64)>>>;
