//! Audio as base64 inside JSON, decoded as it streams in.
//!
//! A scanner without I/O: it is fed bytes, follows one singular path (RFC
//! 9535: names and indexes), and gives the decoded bytes of the string there.

use base64::Engine as _;
use base64::engine::general_purpose::{STANDARD, STANDARD_NO_PAD};

/// Arrays and objects within one another.
const MAX_DEPTH: usize = 64;
/// What a document may hold beside its audio: 1 MiB.
const MAX_REST: usize = 1 << 20;
/// A key longer than this is none of ours.
const MAX_KEY: usize = 1_024;

/// One step of a path.
#[derive(Debug, Clone, PartialEq, Eq)]
enum PathStep {
    Name(String),
    Index(usize),
}

/// A singular path.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Path(Vec<PathStep>);

impl Path {
    /// Reads `$.a.b[0]` or `$['a']`; `None` where it is not singular.
    pub(crate) fn parse(text: &str) -> Option<Path> {
        let mut rest = text.trim().strip_prefix('$')?;
        let mut steps = Vec::new();
        while !rest.is_empty() {
            if let Some(after) = rest.strip_prefix('.') {
                let end = after.find(['.', '[']).unwrap_or(after.len());
                let name = &after[..end];
                if name.is_empty() || !name.chars().all(|c| c.is_alphanumeric() || c == '_' || c == '-') {
                    return None;
                }
                steps.push(PathStep::Name(name.into()));
                rest = &after[end..];
            } else {
                let (inner, after) = rest.strip_prefix('[')?.split_once(']')?;
                let quoted = inner.strip_prefix(['\'', '"']).and_then(|inner| inner.strip_suffix(['\'', '"']));
                steps.push(match quoted {
                    Some(name) => PathStep::Name(name.into()),
                    None => PathStep::Index(inner.parse().ok()?),
                });
                rest = after;
            }
        }
        (!steps.is_empty()).then_some(Path(steps))
    }
}

/// What was wrong with the JSON.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum ScanError {
    #[error("it is not JSON")]
    NotJson,
    #[error("it is incomplete")]
    Torn,
    #[error("the answer has no audio at the sheet's path")]
    NotFound,
    #[error("the audio is not base64")]
    NotBase64,
    #[error("it has more than {0} bytes besides the audio")]
    TooLong(usize),
}

/// Takes audio out of a JSON document that may be larger than memory: the
/// bytes of the base64 string at a path, and the document without them.
pub struct AudioSplitter(Scanner);

impl AudioSplitter {
    /// `path` is singular (RFC 9535), such as `$.audio.base64`; `None` where
    /// it is not.
    pub fn new(path: &str) -> Option<Self> {
        Some(AudioSplitter(Scanner { rest: Some(Vec::new()), ..Scanner::new(Path::parse(path)?) }))
    }

    /// The same for a document with a maximum number of bytes beside its audio.
    #[must_use]
    pub fn with_rest(mut self, most: usize) -> Self {
        self.0.most_rest = most;
        self
    }

    /// Takes bytes of the document and gives the audio that is ready.
    ///
    /// # Errors
    /// Where it is no JSON or no base64, or too long beside the audio.
    pub fn push(&mut self, bytes: &[u8]) -> Result<Vec<u8>, ScanError> {
        self.0.push(bytes)
    }

    /// The document is over: what is left of it, with an empty string in
    /// place of the audio, and whether there was any.
    ///
    /// # Errors
    /// Where it ends in the middle.
    pub fn finish(self) -> Result<(Vec<u8>, bool), ScanError> {
        match self.0.finish() {
            Ok(()) => Ok((self.0.rest.unwrap_or_default(), true)),
            Err(ScanError::NotFound) => Ok((self.0.rest.unwrap_or_default(), false)),
            Err(error) => Err(error),
        }
    }
}

#[derive(Debug)]
enum Level {
    Object { key: String },
    Array { index: usize },
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum JsonState {
    /// A value must follow.
    Value,
    /// In an object: a key or its end.
    KeyOrEnd,
    Key,
    Colon,
    /// Behind a value.
    CommaOrEnd,
    /// In an array that has just begun.
    ValueOrEnd,
    Text {
        key: bool,
    },
    Escape {
        key: bool,
    },
    Unicode {
        key: bool,
        left: u8,
        code: u32,
    },
    Bare,
    Done,
}

/// The scanner.
pub(crate) struct Scanner {
    path: Path,
    state: JsonState,
    levels: Vec<Level>,
    key: String,
    target: bool,
    found: bool,
    quad: Vec<u8>,
    ended: bool,
    /// The document without the string at the path, where it is wanted.
    rest: Option<Vec<u8>>,
    most_rest: usize,
    /// A rest that is too long is given up, and no error.
    rest_may_go: bool,
}

impl Scanner {
    pub(crate) fn new(path: Path) -> Self {
        Scanner {
            path,
            state: JsonState::Value,
            levels: Vec::new(),
            key: String::new(),
            target: false,
            found: false,
            quad: Vec::new(),
            ended: false,
            rest: None,
            most_rest: MAX_REST,
            rest_may_go: false,
        }
    }

    /// A scanner that keeps the document without its audio, as long as that
    /// is short.
    pub(crate) fn with_rest(path: Path) -> Self {
        Scanner { rest: Some(Vec::new()), rest_may_go: true, ..Scanner::new(path) }
    }

    /// The document without its audio, once it has ended.
    pub(crate) fn rest(&self) -> Option<&[u8]> {
        self.rest.as_deref()
    }

    /// Takes bytes and gives the audio that is ready.
    pub(crate) fn push(&mut self, bytes: &[u8]) -> Result<Vec<u8>, ScanError> {
        let mut out = Vec::new();
        let mut at = 0;
        while at < bytes.len() {
            // The audio itself: long runs without anything to look at.
            if self.target && self.state == (JsonState::Text { key: false }) {
                let run = bytes[at..].iter().take_while(|b| !matches!(b, b'"' | b'\\')).count();
                self.take_base64(&bytes[at..at + run], &mut out)?;
                at += run;
                if at == bytes.len() {
                    break;
                }
            }
            self.keep(bytes[at])?;
            self.step(bytes[at], &mut out)?;
            at += 1;
        }
        Ok(out)
    }

    /// Keeps a byte that is not of the string at the path.
    fn keep(&mut self, byte: u8) -> Result<(), ScanError> {
        let Some(rest) = self.rest.as_mut() else { return Ok(()) };
        let inside = match self.state {
            JsonState::Text { key: false } => byte != b'"',
            JsonState::Escape { key: false } | JsonState::Unicode { key: false, .. } => true,
            _ => false,
        };
        if self.target && inside {
            return Ok(());
        }
        if rest.len() >= self.most_rest {
            if !self.rest_may_go {
                return Err(ScanError::TooLong(self.most_rest));
            }
            self.rest = None;
            return Ok(());
        }
        rest.push(byte);
        Ok(())
    }

    /// The answer is over.
    pub(crate) fn finish(&self) -> Result<(), ScanError> {
        match (self.state, self.found) {
            (JsonState::Done, true) => Ok(()),
            (JsonState::Done, false) => Err(ScanError::NotFound),
            _ => Err(ScanError::Torn),
        }
    }

    fn step(&mut self, byte: u8, out: &mut Vec<u8>) -> Result<(), ScanError> {
        match self.state {
            JsonState::Text { key } => self.text(byte, key, out),
            JsonState::Escape { key } => self.escape(byte, key, out),
            JsonState::Unicode { key, left, code } => {
                let digit = (byte as char).to_digit(16).ok_or(ScanError::NotJson)?;
                let code = code * 16 + digit;
                if left > 1 {
                    self.state = JsonState::Unicode { key, left: left - 1, code };
                    return Ok(());
                }
                self.state = JsonState::Text { key };
                self.letter(char::from_u32(code).unwrap_or('\u{FFFD}'), key, out)
            }
            JsonState::Bare if !matches!(byte, b',' | b'}' | b']') && !byte.is_ascii_whitespace() => {
                if byte.is_ascii_alphanumeric() || matches!(byte, b'+' | b'-' | b'.') {
                    Ok(())
                } else {
                    Err(ScanError::NotJson)
                }
            }
            JsonState::Bare => {
                self.after_value();
                self.step(byte, out)
            }
            _ if byte.is_ascii_whitespace() => Ok(()),
            JsonState::Value => self.value(byte),
            JsonState::ValueOrEnd if byte == b']' => self.close(byte),
            JsonState::ValueOrEnd => self.value(byte),
            JsonState::KeyOrEnd if byte == b'}' => self.close(byte),
            JsonState::KeyOrEnd | JsonState::Key if byte == b'"' => {
                self.key.clear();
                self.state = JsonState::Text { key: true };
                Ok(())
            }
            JsonState::Colon if byte == b':' => {
                self.state = JsonState::Value;
                Ok(())
            }
            JsonState::CommaOrEnd if byte == b',' => {
                match self.levels.last_mut() {
                    Some(Level::Array { index }) => {
                        *index += 1;
                        self.state = JsonState::Value;
                    }
                    _ => self.state = JsonState::Key,
                }
                Ok(())
            }
            JsonState::CommaOrEnd => self.close(byte),
            JsonState::KeyOrEnd | JsonState::Key | JsonState::Colon | JsonState::Done => Err(ScanError::NotJson),
        }
    }

    fn value(&mut self, byte: u8) -> Result<(), ScanError> {
        match byte {
            b'"' => {
                self.target = !self.found && self.here();
                self.state = JsonState::Text { key: false };
            }
            b'{' | b'[' if self.levels.len() >= MAX_DEPTH => return Err(ScanError::NotJson),
            b'{' => {
                self.levels.push(Level::Object { key: String::new() });
                self.state = JsonState::KeyOrEnd;
            }
            b'[' => {
                self.levels.push(Level::Array { index: 0 });
                self.state = JsonState::ValueOrEnd;
            }
            b'-' | b'0'..=b'9' | b't' | b'f' | b'n' => self.state = JsonState::Bare,
            _ => return Err(ScanError::NotJson),
        }
        Ok(())
    }

    fn here(&self) -> bool {
        self.levels.len() == self.path.0.len()
            && self.levels.iter().zip(&self.path.0).all(|(level, step)| match (level, step) {
                (Level::Object { key }, PathStep::Name(name)) => key == name,
                (Level::Array { index }, PathStep::Index(wanted)) => index == wanted,
                _ => false,
            })
    }

    fn close(&mut self, byte: u8) -> Result<(), ScanError> {
        match (self.levels.pop(), byte) {
            (Some(Level::Object { .. }), b'}') | (Some(Level::Array { .. }), b']') => {
                self.after_value();
                Ok(())
            }
            _ => Err(ScanError::NotJson),
        }
    }

    fn after_value(&mut self) {
        self.state = if self.levels.is_empty() { JsonState::Done } else { JsonState::CommaOrEnd };
    }

    fn text(&mut self, byte: u8, key: bool, out: &mut Vec<u8>) -> Result<(), ScanError> {
        match byte {
            b'"' if key => {
                if let Some(Level::Object { key }) = self.levels.last_mut() {
                    *key = std::mem::take(&mut self.key);
                }
                self.state = JsonState::Colon;
            }
            b'"' => {
                if std::mem::take(&mut self.target) {
                    self.end_base64(out)?;
                    self.found = true;
                }
                self.after_value();
            }
            b'\\' => self.state = JsonState::Escape { key },
            0..=0x1F => return Err(ScanError::NotJson),
            _ if key && self.key.len() < MAX_KEY => self.key.push(byte as char),
            _ => {}
        }
        Ok(())
    }

    fn escape(&mut self, byte: u8, key: bool, out: &mut Vec<u8>) -> Result<(), ScanError> {
        self.state = JsonState::Text { key };
        match byte {
            b'u' => {
                self.state = JsonState::Unicode { key, left: 4, code: 0 };
                Ok(())
            }
            b'"' | b'\\' | b'/' => self.letter(byte as char, key, out),
            b'n' | b'r' | b't' | b'b' | b'f' => self.letter('\n', key, out),
            _ => Err(ScanError::NotJson),
        }
    }

    fn letter(&mut self, letter: char, key: bool, out: &mut Vec<u8>) -> Result<(), ScanError> {
        if key {
            self.key.push(letter);
            return Ok(());
        }
        if self.target { self.take_base64(letter.to_string().as_bytes(), out) } else { Ok(()) }
    }

    fn take_base64(&mut self, text: &[u8], out: &mut Vec<u8>) -> Result<(), ScanError> {
        // Either alphabet (RFC 4648, sections 4 and 5), with padding or without.
        let standard = |byte: &u8| match byte {
            b'-' => b'+',
            b'_' => b'/',
            byte => *byte,
        };
        self.quad.extend(text.iter().filter(|byte| !byte.is_ascii_whitespace()).map(standard));
        // Padding ends the data: it is kept back until the string ends.
        let whole = self.quad.iter().position(|byte| *byte == b'=').unwrap_or(self.quad.len()) / 4 * 4;
        let ready: Vec<u8> = self.quad.drain(..whole).collect();
        if self.ended && !ready.is_empty() {
            return Err(ScanError::NotBase64);
        }
        self.ended |= self.quad.contains(&b'=');
        STANDARD.decode_vec(&ready, out).map_err(|_| ScanError::NotBase64)
    }

    fn end_base64(&mut self, out: &mut Vec<u8>) -> Result<(), ScanError> {
        let rest = std::mem::take(&mut self.quad);
        let rest = String::from_utf8(rest).map_err(|_| ScanError::NotBase64)?;
        STANDARD_NO_PAD.decode_vec(rest.trim_end_matches('='), out).map_err(|_| ScanError::NotBase64)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn scan(path: &str, json: &str, piece: usize) -> Result<Vec<u8>, ScanError> {
        let mut scanner = Scanner::new(Path::parse(path).expect("singular"));
        let mut out = Vec::new();
        for piece in json.as_bytes().chunks(piece) {
            out.extend(scanner.push(piece)?);
        }
        scanner.finish()?;
        Ok(out)
    }

    const SOUND: &[u8] = b"sound of the tide, in and out";

    #[test]
    fn a_document_is_split_into_its_audio_and_the_rest_however_it_is_cut() {
        let base64 = STANDARD.encode(SOUND).replace('/', "\\/");
        let document = format!(
            "{{\"a\": [1, \"\\u00e9\\\"\"], \"audio\": {{\"type\": \"x\", \"base64\": \"{base64}\"}}, \"base64\": \"kept\"}} "
        );
        for piece in [1, 2, 7, 1_000] {
            let mut splitter = AudioSplitter::new("$.audio.base64").expect("singular");
            let mut audio = Vec::new();
            for piece in document.as_bytes().chunks(piece) {
                audio.extend(splitter.push(piece).expect("JSON"));
            }
            let (rest, found) = splitter.finish().expect("whole");
            assert!(found && audio == SOUND, "pieces of {piece}");
            assert_eq!(String::from_utf8(rest).expect("text"), document.replace(&base64, ""));
        }
        let mut without = AudioSplitter::new("$.audio.base64").expect("singular");
        assert_eq!(without.push(b"{\"audio\": {\"base64\": 7}}"), Ok(Vec::new()));
        assert_eq!(without.finish(), Ok((b"{\"audio\": {\"base64\": 7}}".to_vec(), false)));
        let mut large = AudioSplitter::new("$.audio.base64").expect("singular");
        let document = format!("{{\"a\": \"{}\"}}", "x".repeat(MAX_REST));
        assert_eq!(large.push(document.as_bytes()), Err(ScanError::TooLong(MAX_REST)));
        let mut roomy = AudioSplitter::new("$.audio.base64").expect("singular").with_rest(2 * MAX_REST);
        assert_eq!(roomy.push(document.as_bytes()), Ok(Vec::new()));
    }

    fn answer() -> String {
        let text = STANDARD.encode(SOUND).replace('/', "\\/");
        format!(r#"{{"a":[1,{{"b\u0062":"x","sound":"{text}"}}],"n":null,"t":true,"f":-1.5e3,"later":{{}}}}"#)
    }

    #[test]
    fn finds_the_audio_however_the_answer_is_cut() {
        for piece in [1, 2, 3, 5, 7, 1_000] {
            assert_eq!(scan("$.a[1].sound", &answer(), piece).expect("found"), SOUND, "in {piece}s");
        }
        assert_eq!(scan("$['a'][1].bb", r#"{"a":[0,{"b\u0062":"QQ=="}]}"#, 1).expect("found"), b"A");
    }

    #[test]
    fn the_alphabet_for_addresses_is_read_without_padding() {
        let sound: Vec<u8> = (0..=255).chain(248..=255).collect();
        let coded = base64::engine::general_purpose::URL_SAFE_NO_PAD.encode(&sound);
        assert!(coded.contains('-') && coded.contains('_') && !coded.contains('='));
        for piece in [1, 3, 1_000] {
            assert_eq!(scan("$.s", &format!("{{\"s\": \"{coded}\"}}"), piece).expect("found"), sound);
        }
    }

    #[test]
    fn every_proper_prefix_is_torn() {
        let whole = answer();
        for cut in 0..whole.len() {
            assert!(scan("$.a[1].sound", &whole[..cut], 64).is_err(), "cut at {cut}");
        }
    }

    #[test]
    fn what_is_not_there_or_not_base64_is_said() {
        assert_eq!(scan("$.b", &answer(), 9), Err(ScanError::NotFound));
        assert_eq!(scan("$.s", r#"{"s":"%%%%"}"#, 9), Err(ScanError::NotBase64));
        assert_eq!(scan("$.s", r#"{"s":"QQ==QQ=="}"#, 9), Err(ScanError::NotBase64));
        for bad in ["<html>", "{]", r#"{"a" 1}"#, r#"{"a":1}x"#, r#"{"s":"a\q"}"#] {
            assert_eq!(scan("$.s", bad, 3), Err(ScanError::NotJson), "{bad}");
        }
        assert!(Path::parse("$.a[*].b").is_none() && Path::parse("a.b").is_none() && Path::parse("$..a").is_none());
    }
}
