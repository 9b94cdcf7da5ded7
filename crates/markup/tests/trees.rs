//! Whatever valid tree an app sends: every word is said once, in order, with
//! the context of its position; every break is as long as it says; every part
//! fits the engine's limit and is a document by itself.

use dispatcher_markup::{BodyForm, Choices, Dialect, FirstPart, Piece, Policy, Room, lower, pack, read_ssml};
use proptest::prelude::*;

struct Quay;

impl Choices for Quay {
    fn voice(&self, _: &dispatcher_markup::VoiceWish) -> Option<String> {
        Some("pt".to_owned())
    }

    fn speaks(&self, voice: Option<&str>, language: &str) -> bool {
        language.starts_with(voice.unwrap_or("en"))
    }
}

const ALL: &str = r#"{"elements": {"p": {}, "s": {}, "emphasis": {"level": "text"}, "break": {"time": "milliseconds"},
    "prosody": {"rate": "percent", "pitch": "semitones", "volume": "decibels"}, "sub": {"alias": "text"},
    "mark": {"name": "text"}, "lang": {"xml:lang": "text"}, "w": {"role": "text"}}}"#;

/// Context of a word.
#[derive(Debug, Clone, Copy, PartialEq)]
struct Held {
    rate: f64,
    pitch: f64,
    volume: f64,
    portuguese: bool,
}

/// A tree that grows from one number, and what is to become of it.
struct Tree {
    state: u64,
    source: String,
    /// Each word that is said, and what holds for it.
    words: Vec<(String, Held)>,
    /// The same where the engine takes `sub` itself.
    inner: Vec<String>,
    elements: Vec<&'static str>,
    marks: Vec<String>,
    breaks: f64,
}

impl Tree {
    fn grown(seed: u64) -> Tree {
        let mut tree = Tree {
            state: seed | 1,
            source: String::new(),
            words: Vec::new(),
            inner: Vec::new(),
            elements: vec!["speak"],
            marks: Vec::new(),
            breaks: 0.0,
        };
        let held = Held { rate: 1.0, pitch: 0.0, volume: 0.0, portuguese: false };
        tree.word(held);
        for _ in 0..2 + tree.pick(4) {
            match tree.pick(3) {
                0 => tree.paragraph(held),
                _ => tree.inline(held, 0),
            }
        }
        tree
    }

    /// A number below another (xorshift of G. Marsaglia, 2003).
    fn pick(&mut self, below: u64) -> u64 {
        self.state ^= self.state << 13;
        self.state ^= self.state >> 7;
        self.state ^= self.state << 17;
        self.state % below
    }

    fn open(&mut self, name: &'static str, attributes: &str) {
        self.elements.push(name);
        self.source += &format!("<{name}{attributes}>");
    }

    fn close(&mut self, name: &str) {
        self.source += &format!("</{name}>");
    }

    /// A word that is like no other, with a letter of two bytes now and then.
    fn word(&mut self, held: Held) {
        let number = self.words.len();
        let word = if self.pick(5) == 0 { format!("maré{number}") } else { format!("quay{number}") };
        let end = [" ", " ", ", ", ". ", " \n "][self.pick(5) as usize];
        self.source += &format!("{word}{end}");
        let said = format!("{word}{}", end.trim());
        self.inner.push(said.clone());
        self.words.push((said, held));
    }

    fn paragraph(&mut self, held: Held) {
        self.open("p", "");
        for _ in 0..1 + self.pick(3) {
            self.open("s", "");
            for _ in 0..1 + self.pick(3) {
                self.inline(held, 0);
            }
            self.close("s");
        }
        self.close("p");
    }

    fn inline(&mut self, held: Held, depth: u64) {
        match self.pick(if depth > 3 { 5 } else { 10 }) {
            0 | 1 => self.word(held),
            2 => {
                let milliseconds = 50 * (1 + self.pick(20));
                self.breaks += milliseconds as f64;
                self.elements.push("break");
                self.source += &format!("<break time=\"{milliseconds}ms\"/>");
            }
            3 => {
                let name = format!("m{}", self.marks.len());
                self.elements.push("mark");
                self.source += &format!("<mark name=\"{name}\"/>");
                self.marks.push(name);
            }
            4 => {
                let number = self.words.len();
                self.open("sub", &format!(" alias=\"alias{number}\""));
                self.source += &format!("short{number}");
                self.close("sub");
                self.source += " ";
                self.words.push((format!("alias{number}"), held));
                self.inner.push(format!("short{number}"));
            }
            5 => self.within("emphasis", "", held, depth),
            6 => {
                let percent = 60 + 10 * self.pick(10);
                let held = Held { rate: percent as f64 / 100.0, ..held };
                self.within("prosody", &format!(" rate=\"{percent}%\""), held, depth);
            }
            7 => {
                let semitones = self.pick(5) as f64 - 2.0;
                let held = Held { pitch: held.pitch + semitones, ..held };
                self.within("prosody", &format!(" pitch=\"{semitones:+}st\""), held, depth);
            }
            8 => {
                let decibels = self.pick(13) as f64 - 6.0;
                let held = Held { volume: held.volume + decibels, ..held };
                self.within("prosody", &format!(" volume=\"{decibels:+}dB\""), held, depth);
            }
            _ => self.within("lang", " xml:lang=\"pt-PT\"", Held { portuguese: true, ..held }, depth),
        }
    }

    fn within(&mut self, name: &'static str, attributes: &str, held: Held, depth: u64) {
        self.open(name, attributes);
        for _ in 0..1 + self.pick(3) {
            self.inline(held, depth + 1);
        }
        self.close(name);
        self.source += " ";
    }
}

fn document(body: &str) -> String {
    format!("<speak version=\"1.1\" xmlns=\"http://www.w3.org/2001/10/synthesis\" xml:lang=\"en-GB\">{body}</speak>")
}

fn squeezed(text: &str) -> String {
    text.chars().filter(|c| !c.is_whitespace()).collect()
}

fn said(pieces: &[Piece]) -> String {
    pieces.iter().map(|piece| squeezed(&piece.plain())).collect()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(400))]

    #[test]
    fn an_engine_of_text_alone_says_every_word_as_it_is_to_be_said(seed in any::<u64>()) {
        let tree = Tree::grown(seed);
        let source = document(&tree.source);
        let script = read_ssml(&source).unwrap_or_else(|fault| panic!("{source}: {fault}"));
        let lowered = lower(&script, None, Policy::Adapt, &Quay);
        let wanted: String = tree.words.iter().map(|(word, _)| word.as_str()).collect();
        prop_assert_eq!(said(&lowered.pieces), wanted);
        let told: Vec<_> = lowered.fidelity.iter().map(|entry| entry.element().to_owned()).collect();
        prop_assert_eq!(&told, &tree.elements, "each element once, in order");
        let places: Vec<_> = lowered.fidelity.iter().map(|entry| (entry.line, entry.column)).collect();
        prop_assert!(places.windows(2).all(|pair| pair[0] < pair[1]), "{:?}", places);
        let silence: f64 = lowered.pieces.iter().map(|piece| piece.silence).sum::<f64>() + lowered.silence;
        prop_assert!((silence - tree.breaks).abs() < 1e-6, "{} ms instead of {}", silence, tree.breaks);
        let marks = lowered.pieces.iter().flat_map(|piece| &piece.marks).chain(&lowered.marks);
        prop_assert_eq!(marks.map(|mark| mark.name.clone()).collect::<Vec<_>>(), tree.marks);
        for (word, held) in &tree.words {
            let bare = word.trim_end_matches(['.', ',']);
            let has = |piece: &&Piece| piece.plain().split(|c: char| !c.is_alphanumeric()).any(|one| one == bare);
            let piece = lowered.pieces.iter().find(has).unwrap();
            let treatment = piece.treatment;
            let portuguese = piece.voice.as_deref() == Some("pt");
            let found = Held { rate: treatment.rate, pitch: treatment.pitch, volume: treatment.volume, portuguese };
            prop_assert_eq!(&found, held, "{} in {}", word, source);
        }
    }

    #[test]
    fn an_engine_of_markup_gets_documents_that_say_the_same(seed in any::<u64>(), most in 60_usize..400) {
        let tree = Tree::grown(seed);
        let source = document(&tree.source);
        let script = read_ssml(&source).unwrap();
        let dialect: Dialect = serde_json::from_str(ALL).unwrap();
        let lowered = lower(&script, Some(&dialect), Policy::Adapt, &Quay);
        let spoken = tree.inner.concat();
        for (bytes, tags) in [(false, false), (true, false), (true, true)] {
            // The tags of five elements are some 200 characters by themselves.
            let most = if tags { most + 200 } else { most };
            let room = Room { most, bytes, tags, around: 20, form: BodyForm::Markup };
            let parts: Vec<Piece> =
                lowered.pieces.iter().enumerate().flat_map(|(at, piece)| pack(piece, room, if at == 0 { FirstPart::Sentence } else { FirstPart::Full })).collect();
            let mut text = String::new();
            for part in &parts {
                let body = part.markup();
                let whole = document(&body);
                let read = read_ssml(&whole).unwrap_or_else(|fault| panic!("{body}: {fault}\n of {source}"));
                text += &said(&lower(&read, Some(&dialect), Policy::Adapt, &Quay).pieces);
                let counted = if tags { body } else { part.plain() };
                let length = if bytes { counted.len() } else { counted.chars().count() };
                let room = most - if tags { 20 } else { 0 };
                // No part is less than a word with the tags around it.
                let least = tags && part.plain().split_whitespace().count() <= 1;
                prop_assert!(length <= room || least, "{} of {}: {}", length, room, counted);
            }
            prop_assert_eq!(&text, &spoken, "{} in rooms of {}", source, most);
        }
    }
}
