//! What becomes of each element.

use std::borrow::Cow;

use super::voice::{wish_for_language, wish_of};
use super::{Atom, Closing, Element, Lowering, MarkAt, Piece, Sound, Tag, WalkStep};
use crate::Outcome;
use crate::address::join;
use crate::dialect::{Meant, meant};
use crate::dialogue::MOST_OVERLAP;
use crate::reader::values::{number, signed, time};

/// Milliseconds of a break by its strength. The recommendation leaves them to
/// the processor; these are this project's choice.
fn pause(strength: &str) -> f64 {
    match strength {
        "none" => 0.0,
        "x-weak" => 100.0,
        "weak" => 200.0,
        "strong" => 700.0,
        "x-strong" => 1_200.0,
        _ => 400.0,
    }
}

/// Attributes that say nothing of the audio.
const SILENT: [&str; 4] = ["xml:id", "xml:base", "onlangfailure", "xml:space"];

/// A start tag with these attributes.
pub(super) fn tag_of(name: &str, attributes: &[(&str, String)], empty: bool) -> String {
    let mut tag = format!("<{name}");
    for (key, value) in attributes {
        let mut escaped = String::new();
        super::escape(value, &mut escaped);
        tag.push_str(&format!(" {key}=\"{}\"", escaped.replace('"', "&quot;")));
    }
    tag.push_str(if empty { "/>" } else { ">" });
    tag
}

/// A prosody attribute as what is made good: how the treatment changes.
#[derive(Clone, Copy)]
enum Change {
    Rate(f64),
    Pitch(f64),
    Volume(f64),
    Duration(f64),
}

impl Lowering<'_> {
    /// Takes an element in; gives what became of it.
    pub(super) fn element(&mut self, element: Element<'_>, at: usize) -> Outcome {
        let based = element.get("xml:base").map(|base| join(self.state.base.as_deref(), base));
        if based.is_some() {
            self.inner().base = based;
        }
        if !self.heard() && element.tag() != Tag::Mark {
            return Outcome::Native;
        }
        match element.tag() {
            Tag::Speak => self.language(element, at, Outcome::Native),
            Tag::Paragraph | Tag::Sentence => self.structure(element, at),
            Tag::Token => self.token(element, at),
            Tag::Lang => {
                let outcome = self.whole(element).unwrap_or(Outcome::Rewritten);
                self.language(element, at, outcome)
            }
            Tag::Voice => self.voice(element, at),
            Tag::Prosody => self.prosody(element, at),
            Tag::Emphasis => self.emphasis(element),
            Tag::Break => self.pause(element),
            Tag::SayAs => self.say_as(element, at),
            Tag::Phoneme => self.phoneme(element),
            Tag::Sub => self.alias(element),
            Tag::Audio => self.audio(element, at),
            Tag::Mark => self.mark(element, at),
            // They are about the document and have no audio.
            Tag::Desc | Tag::Meta | Tag::Metadata => {
                self.silence_here();
                Outcome::Native
            }
            Tag::Lexicon => self.lexicon(element, at),
            Tag::Lookup => self.lookup(element, at),
            Tag::Emotion => self.emotion(element, at),
            Tag::Overlap => self.overlap(element, at),
            Tag::Foreign => {
                self.silence_here();
                Outcome::Omitted
            }
        }
    }

    /// The attributes as the dialect takes them; `None` where it does not take
    /// the element or one of them.
    pub(super) fn accepted<'v>(
        &self,
        tag: Tag,
        name: &'static str,
        given: impl Iterator<Item = (&'static str, &'v str)>,
    ) -> Option<(Vec<(&'static str, String)>, bool)> {
        let accepts = self.dialect?.element(name)?;
        let mut written = Vec::new();
        let mut same = true;
        for (key, value) in given.filter(|(key, _)| !SILENT.contains(key)) {
            let accepts = accepts.get(key)?;
            let meant = (tag == Tag::Prosody || key == "time").then(|| meant(key, value)).flatten();
            let text = accepts.write(value, meant)?;
            same &= text == *value;
            written.push((key, text));
        }
        Some((written, same))
    }

    /// The name by which the dialect may know an element.
    pub(super) fn name(&self, element: Element<'_>) -> &'static str {
        if element.tag() == Tag::Token && element.name() == "w" { "w" } else { element.tag().name() }
    }

    /// Writes the element for the engine, where it takes it whole.
    pub(super) fn whole(&mut self, element: Element<'_>) -> Option<Outcome> {
        self.whole_with(element, element.attributes())
    }

    /// Likewise, with these of its attributes.
    fn whole_with<'v>(
        &mut self,
        element: Element<'_>,
        given: impl Iterator<Item = (&'static str, &'v str)>,
    ) -> Option<Outcome> {
        let name = self.name(element);
        let (attributes, same) = self.accepted(element.tag(), name, given)?;
        self.open_native(tag_of(name, &attributes, false), name);
        Some(if same { Outcome::Native } else { Outcome::Rewritten })
    }

    fn emphasis(&mut self, element: Element<'_>) -> Outcome {
        // Without a level it is a moderate one, whether or not the engine takes that.
        let levels = self.dialect.and_then(|dialect| dialect.element("emphasis")).and_then(|takes| takes.get("level"));
        let fits = levels.is_none_or(|levels| levels.write(element.get("level").unwrap_or("moderate"), None).is_some());
        let spoken = if element.get("level") == Some("none") { Outcome::Rewritten } else { Outcome::Plain };
        if fits { self.whole(element).unwrap_or(spoken) } else { spoken }
    }

    pub(super) fn structure(&mut self, element: Element<'_>, at: usize) -> Outcome {
        let gap = match element.tag() {
            Tag::Paragraph => Some(Atom::Paragraph),
            Tag::Sentence => Some(Atom::Sentence),
            _ => None,
        };
        // A language is said by voice or tag of its own, and not by attribute.
        let written = || element.attributes().filter(|(key, _)| *key != "xml:lang");
        let tagged = self.accepted(element.tag(), self.name(element), written()).is_some();
        if let Some(gap) = gap.filter(|_| !tagged) {
            self.gap(gap.clone());
            self.on_close(Closing::Gap(gap));
        }
        let spoken = match element.get("role") {
            Some(_) => Outcome::Plain,
            None => Outcome::Rewritten,
        };
        let outcome = self.whole_with(element, written()).unwrap_or(spoken);
        self.language(element, at, outcome)
    }

    /// A change of language, if there is one.
    fn language(&mut self, element: Element<'_>, at: usize, outcome: Outcome) -> Outcome {
        let Some(tag) = element.get("xml:lang").filter(|tag| !tag.is_empty()) else { return outcome };
        let native = outcome == Outcome::Native && element.tag() == Tag::Lang;
        if native || self.choices.speaks(self.state.voice.as_deref(), tag) {
            if element.tag() != Tag::Speak && !native {
                let other = self.state.language.as_deref().or(self.script.language.as_deref()) != Some(tag);
                if other {
                    self.turn(|state| state.language = Some(tag.into()));
                }
            }
            return outcome;
        }
        if element.tag() == Tag::Speak {
            return outcome;
        }
        let failure = element.get("onlangfailure").unwrap_or("processorchoice");
        // The text's own voice comes before any other that speaks the language.
        if self.adapts() && failure != "ignorelang" && self.choices.speaks(None, tag) {
            self.note(at, "spoken by the voice of the text".to_owned());
            self.turn(|state| {
                state.voice = None;
                state.language = Some(tag.into());
            });
            return Outcome::Emulated;
        }
        match self.choices.voice(&wish_for_language(tag)).filter(|_| self.adapts() && failure != "ignorelang") {
            _ if failure == "ignoretext" => {
                self.silence_here();
                self.note(at, format!("no {tag} here, and the text asks to be left out then"));
                Outcome::Omitted
            }
            Some(voice) => {
                self.note(at, format!("spoken by {voice}"));
                self.turn(|state| {
                    state.voice = Some(voice.into());
                    state.language = Some(tag.into());
                });
                Outcome::Emulated
            }
            None => {
                self.note(at, format!("the voice does not speak {tag}"));
                Outcome::Plain
            }
        }
    }

    fn voice(&mut self, element: Element<'_>, at: usize) -> Outcome {
        if let Some(outcome) = self.whole(element) {
            return outcome;
        }
        let wish = wish_of(element);
        match self.choices.voice(&wish).filter(|_| self.adapts()) {
            Some(voice) => {
                self.note(at, format!("spoken by {voice}"));
                let language = element.get("xml:lang").or(wish.languages.first().map(|(tag, _)| tag.as_str()));
                self.turn(|state| {
                    state.voice = Some(voice.into());
                    state.language = language.map(Box::from).or(state.language.take());
                });
                Outcome::Emulated
            }
            None => {
                self.note(at, "no other voice meets this; the voice stays");
                Outcome::Plain
            }
        }
    }

    /// Attribute by attribute: the engine's, or ours, or nobody's.
    fn prosody(&mut self, element: Element<'_>, at: usize) -> Outcome {
        let accepts = self.dialect.and_then(|dialect| dialect.element("prosody"));
        let mut native: Vec<(&'static str, String)> = Vec::new();
        let mut changes = Vec::new();
        let mut worst = Outcome::Native;
        for (key, value) in element.attributes().filter(|(key, _)| !SILENT.contains(key)) {
            let means = self.meant(key, value);
            let written = accepts.and_then(|accepts| accepts.get(key)).and_then(|accepts| accepts.write(value, means));
            let outcome = match (written, self.change(key, means)) {
                (Some(text), _) => {
                    let outcome = if text == *value { Outcome::Native } else { Outcome::Rewritten };
                    native.push((key, text));
                    outcome
                }
                (_, Some(_)) if self.cuts_word(element) => {
                    self.note(at, "a part of a token is not spoken otherwise: it is one word");
                    Outcome::Plain
                }
                (_, Some(change)) if self.adapts() => {
                    changes.push(change);
                    Outcome::Emulated
                }
                _ => {
                    self.note(at, format!("{key}=\"{value}\" is beyond this engine and the gateway"));
                    Outcome::Plain
                }
            };
            worst = worst.max(outcome);
        }
        let duration = changes.iter().find_map(|change| match change {
            Change::Duration(milliseconds) => Some(*milliseconds),
            _ => None,
        });
        self.turn(|state| {
            for change in &changes {
                match change {
                    Change::Rate(factor) => state.treatment.rate = *factor,
                    Change::Pitch(semitones) => state.treatment.pitch += semitones,
                    Change::Volume(decibels) => state.treatment.volume += decibels,
                    Change::Duration(_) => {}
                }
            }
        });
        if worst == Outcome::Emulated && duration.is_none() && self.choices.controls(&self.state.treatment) {
            worst = Outcome::Rewritten;
        }
        if let Some(milliseconds) = duration {
            self.flush();
            self.on_close(Closing::Duration(at, self.pieces.len(), milliseconds));
        }
        if !native.is_empty() {
            self.open_native(tag_of("prosody", &native, false), "prosody");
        }
        worst
    }

    /// Value of a prosody attribute, relative to the default of the voice.
    fn meant(&self, key: &str, value: &str) -> Option<Meant> {
        match key {
            // 1.0: a loudness from 0 to 100, 100 the ordinary; a change adds to it.
            "volume" if number(value).is_some() => {
                number(value).map(|loudness| Meant::Volume(20.0 * (loudness / 100.0).max(0.01).log10()))
            }
            "volume" if signed(value.trim_end_matches('%')).is_some() => {
                let share = signed(value.trim_end_matches('%')).unwrap_or(0.0) / 100.0;
                Some(Meant::Volume(20.0 * (1.0 + share).max(0.01).log10()))
            }
            _ => meant(key, value),
        }
    }

    /// What of a prosody attribute can be made good.
    fn change(&self, key: &str, meant: Option<Meant>) -> Option<Change> {
        match meant? {
            Meant::Rate(factor) => (0.5..=2.0).contains(&factor).then_some(Change::Rate(factor)),
            Meant::Pitch(by) => {
                let whole = self.state.treatment.pitch + by;
                (-12.0..=12.0).contains(&whole).then_some(Change::Pitch(by))
            }
            Meant::Volume(by) => {
                let whole = self.state.treatment.volume + by;
                (-60.0..=40.0).contains(&whole).then_some(Change::Volume(by))
            }
            Meant::Time(milliseconds) => {
                (key == "duration" && milliseconds > 0.0).then_some(Change::Duration(milliseconds))
            }
        }
    }

    fn pause(&mut self, element: Element<'_>) -> Outcome {
        if let Some((attributes, same)) = self.accepted(Tag::Break, "break", element.attributes()) {
            self.tag(Atom::Empty(tag_of("break", &attributes, true).into()));
            return if same { Outcome::Native } else { Outcome::Rewritten };
        }
        let strength = element.get("strength").unwrap_or("medium");
        let milliseconds = element.get("time").and_then(time).unwrap_or_else(|| pause(strength));
        // The same break as a time, where the engine takes times.
        if self.dialect.is_some_and(|dialect| dialect.element("break").is_some()) {
            let timed = format!("{milliseconds}ms");
            let timed = [("time", timed.as_str())].into_iter();
            if let Some((attributes, _)) = self.accepted(Tag::Break, "break", timed) {
                self.tag(Atom::Empty(tag_of("break", &attributes, true).into()));
                return Outcome::Rewritten;
            }
        }
        if !self.adapts() {
            return Outcome::Omitted;
        }
        if milliseconds > 0.0 {
            self.pause_for(milliseconds);
        }
        Outcome::Emulated
    }

    fn overlap(&mut self, element: Element<'_>, at: usize) -> Outcome {
        if !self.adapts() {
            return Outcome::Omitted;
        }
        let asked = element.get("time").and_then(time).unwrap_or(0.0);
        // Amount of preceding audio that is held until it begins.
        if asked > MOST_OVERLAP {
            self.note(at, format!("no more than {} s overlap", MOST_OVERLAP / 1_000.0));
        }
        self.flush();
        self.current.overlap = asked.min(MOST_OVERLAP);
        Outcome::Emulated
    }

    fn say_as(&mut self, element: Element<'_>, at: usize) -> Outcome {
        if let Some(outcome) = self.whole(element) {
            return outcome;
        }
        let text = self.text_of(element);
        let kind = element.get("interpret-as").unwrap_or_default();
        let language = self.state.language.as_deref().or(self.script.language.as_deref());
        let (format, detail) = (element.get("format"), element.get("detail"));
        let spoken = crate::say_as::spoken(text.trim(), kind, format, detail, language);
        match spoken {
            Some(spoken) => {
                self.write(&spoken);
                self.silence_here();
                Outcome::Rewritten
            }
            None => {
                let language = language.unwrap_or("a language that is not named");
                let note = format!("'{}' as {kind} is not put into words of {language}", text.trim());
                self.note(at, note);
                Outcome::Plain
            }
        }
    }

    fn phoneme(&mut self, element: Element<'_>) -> Outcome {
        let bare = element.attributes().filter(|(key, _)| *key != "type");
        self.whole_with(element, bare).unwrap_or(Outcome::Plain)
    }

    fn alias(&mut self, element: Element<'_>) -> Outcome {
        if let Some(outcome) = self.whole(element) {
            return outcome;
        }
        let alias = element.get("alias").unwrap_or_default();
        self.words(alias);
        self.silence_here();
        Outcome::Rewritten
    }

    fn audio(&mut self, element: Element<'_>, at: usize) -> Outcome {
        let src = element.get("src").map(|src| join(self.state.base.as_deref(), src));
        // What only the gateway can reach is no address to an engine.
        let reachable = src.as_deref().is_none_or(|src| src.starts_with("http://") || src.starts_with("https://"));
        if let Some(outcome) = if reachable { self.whole(element) } else { None } {
            return outcome;
        }
        if let Some(src) = src.filter(|src| self.adapts() && self.choices.sound(src)) {
            self.flush();
            let speed = element.get("speed").and_then(|speed| number(speed.trim_end_matches('%'))).unwrap_or(100.0);
            let level = element.get("soundLevel").and_then(|level| signed(level.trim_end_matches("dB"))).unwrap_or(0.0);
            let seconds = |key: &str| element.get(key).and_then(time).map(|milliseconds| milliseconds / 1_000.0);
            let once = if element.get("repeatDur").is_some() { f64::INFINITY } else { 1.0 };
            let sound = Sound {
                src,
                begin: seconds("clipBegin"),
                end: seconds("clipEnd"),
                count: element.get("repeatCount").and_then(number).unwrap_or(once),
                duration: seconds("repeatDur"),
                level,
                speed: speed / 100.0,
            };
            let before = std::mem::take(&mut self.current);
            self.pieces.push(Piece { sound: Some(Box::new(sound)), ..before });
            self.flush();
            self.silence_here();
            return Outcome::Emulated;
        }
        if self.text_of(element).trim().is_empty() {
            self.note(at, "the sound cannot be had, and there is no text in its place");
            Outcome::Omitted
        } else {
            self.note(at, "the text in its place is spoken");
            Outcome::Plain
        }
    }

    fn mark(&mut self, element: Element<'_>, at: usize) -> Outcome {
        let name = element.get("name").unwrap_or_default();
        let root = self.script.root();
        let is = |key: &str| root.and_then(|speak| speak.get(key)) == Some(name);
        if is("startmark") {
            self.started = true;
        }
        if is("endmark") {
            self.ended = true;
        }
        if !self.heard() {
            return Outcome::Native;
        }
        if let Some((attributes, _)) = self.accepted(Tag::Mark, "mark", element.attributes()) {
            self.tag(Atom::Empty(tag_of("mark", &attributes, true).into()));
            return Outcome::Native;
        }
        if !self.adapts() {
            return Outcome::Omitted;
        }
        if self.word.is_some() {
            self.note(at, "at the start of its token, which is one word");
        } else {
            self.mark_here(name);
        }
        Outcome::Emulated
    }

    /// Records a mark before what follows.
    pub(super) fn mark_here(&mut self, name: &str) {
        self.flush();
        let behind = self.current.silence;
        self.current.marks.push(MarkAt { name: name.to_owned(), behind });
    }

    /// The text within the element that the walk has just reached.
    pub(super) fn text_of(&self, element: Element<'_>) -> Cow<'_, str> {
        let mut text = Cow::Borrowed("");
        let mut index = self.next;
        while index < element.end() {
            match self.script.items[index].step() {
                WalkStep::Open(number) => {
                    let inner = self.script.element(number);
                    if matches!(inner.tag(), Tag::Desc | Tag::Metadata) {
                        index = inner.end();
                    }
                }
                WalkStep::Text(span) => text += self.script.slice(span),
                WalkStep::Said(said) => text.to_mut().push(said),
                WalkStep::Close => {}
            }
            index += 1;
        }
        text
    }
}
