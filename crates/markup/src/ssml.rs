//! SSML 1.1 (W3C Recommendation of 7 September 2010) to a script.
//!
//! The tokenizer validates almost nothing, so that this reader does: one
//! root, matching ends, legal names and characters, no document type with an
//! internal subset, and limits on depth, size and elements.

use quick_xml::Reader;
use quick_xml::events::{BytesRef, BytesStart, Event};

use crate::{Fidelity, Outcome, Script};

/// Elements within elements.
const MAX_DEPTH: usize = 64;
/// 2 MiB of markup: hours of speech.
const MAX_BYTES: usize = 2 << 20;
/// Elements in one document.
const MAX_ELEMENTS: usize = 100_000;

/// What is wrong with a document, and where.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("line {line}, column {column}: {message}")]
pub struct MarkupError {
    /// From 1.
    pub line: usize,
    /// From 1, in characters.
    pub column: usize,
    pub message: String,
}

impl MarkupError {
    pub(crate) fn at(source: &str, at: usize, message: impl Into<String>) -> Self {
        let (line, column) = place(source, at);
        MarkupError { line, column, message: message.into() }
    }
}

/// Line and column, from 1, of a byte position.
fn place(source: &str, at: usize) -> (usize, usize) {
    let mut at = at.min(source.len());
    while !source.is_char_boundary(at) {
        at -= 1;
    }
    let before = &source[..at];
    let line_start = before.rfind('\n').map_or(0, |newline| newline + 1);
    (before.matches('\n').count() + 1, before[line_start..].chars().count() + 1)
}

/// The elements of SSML 1.1 and what becomes of them for an engine that takes
/// plain text.
fn outcome_of(element: &str) -> Option<Outcome> {
    Some(match element {
        "speak" | "p" | "s" | "token" | "w" => Outcome::Native,
        "sub" => Outcome::Rewritten,
        "voice" | "prosody" | "emphasis" | "say-as" | "phoneme" | "lang" | "lookup" => Outcome::SpokenPlainly,
        "break" | "audio" | "mark" | "desc" | "meta" | "metadata" | "lexicon" => Outcome::Omitted,
        _ => return None,
    })
}

struct Builder<'s> {
    source: &'s str,
    paragraphs: Vec<String>,
    current: String,
    open: Vec<String>,
    /// Depth of the element whose content is not spoken, if any.
    silent: Option<usize>,
    language: Option<String>,
    fidelity: Vec<Fidelity>,
    elements: usize,
    closed: bool,
}

/// Reads an SSML document.
///
/// # Errors
/// The first fault, with line and column.
pub fn read_ssml(source: &str) -> Result<Script, MarkupError> {
    if source.len() > MAX_BYTES {
        return Err(MarkupError::at(source, 0, format!("the document is longer than {MAX_BYTES} bytes")));
    }
    if let Some(at) = source.find(|c: char| c.is_control() && !matches!(c, '\n' | '\r' | '\t')) {
        return Err(MarkupError::at(source, at, "a control character is not allowed in XML"));
    }
    let mut reader = Reader::from_str(source);
    let mut builder = Builder {
        source,
        paragraphs: Vec::new(),
        current: String::new(),
        open: Vec::new(),
        silent: None,
        language: None,
        fidelity: Vec::new(),
        elements: 0,
        closed: false,
    };
    loop {
        let at = reader.buffer_position() as usize;
        let event = reader
            .read_event()
            .map_err(|error| MarkupError::at(source, reader.error_position() as usize, error.to_string()))?;
        match event {
            Event::Start(start) => builder.start(&start, at, false)?,
            Event::Empty(start) => builder.start(&start, at, true)?,
            Event::End(_) => builder.end(),
            Event::Text(text) => builder.text(&text.into_inner(), at)?,
            Event::CData(text) => builder.text(&text.into_inner(), at)?,
            Event::GeneralRef(reference) => builder.reference(&reference, at)?,
            Event::DocType(_) => return Err(MarkupError::at(source, at, "a document type is not taken; leave it out")),
            Event::Decl(_) | Event::PI(_) | Event::Comment(_) => {}
            Event::Eof => break,
        }
    }
    builder.finish()
}

impl Builder<'_> {
    fn fault<T>(&self, at: usize, message: impl Into<String>) -> Result<T, MarkupError> {
        Err(MarkupError::at(self.source, at, message))
    }

    fn start(&mut self, start: &BytesStart<'_>, at: usize, empty: bool) -> Result<(), MarkupError> {
        let qualified = start.name().as_ref().to_owned();
        if self.closed {
            return self.fault(at, format!("<{qualified}> stands behind the end of the document; there is one root"));
        }
        if !qualified.starts_with(|c: char| c.is_alphabetic() || c == '_') {
            return self.fault(at, format!("'{qualified}' is not a name"));
        }
        self.elements += 1;
        if self.elements > MAX_ELEMENTS || self.open.len() >= MAX_DEPTH {
            return self.fault(at, format!("more than {MAX_ELEMENTS} elements, or {MAX_DEPTH} within one another"));
        }
        if self.open.is_empty() && qualified != "speak" {
            return self.fault(at, format!("the root of SSML is <speak>, not <{qualified}>"));
        }
        let attributes = self.attributes(start, at)?;
        let attribute = |name: &str| attributes.iter().find(|(key, _)| key == name).map(|(_, value)| value.clone());
        if self.open.is_empty() {
            match attribute("version").as_deref() {
                Some("1.0" | "1.1") => {}
                Some(other) => {
                    return self.fault(at, format!("version '{other}' of SSML is not known; 1.0 and 1.1 are"));
                }
                None => return self.fault(at, "<speak> needs version=\"1.1\""),
            }
            self.language = attribute("xml:lang");
        }
        if matches!(qualified.as_str(), "p" | "s") {
            self.end_piece(qualified == "p");
        }
        let foreign = qualified.contains(':');
        let outcome = if foreign { Some(Outcome::Omitted) } else { outcome_of(&qualified) };
        let Some(outcome) = outcome else {
            return self.fault(at, format!("<{qualified}> is not an element of SSML 1.1"));
        };
        let (line, column) = place(self.source, at);
        self.fidelity.push(Fidelity { element: qualified.clone(), line, column, outcome });
        if qualified == "sub" {
            match attribute("alias") {
                Some(alias) if self.silent.is_none() => self.current.push_str(&alias),
                Some(_) => {}
                None => return self.fault(at, "<sub> needs alias=\"…\""),
            }
        }
        if empty {
            self.closed = self.open.is_empty();
            return Ok(());
        }
        let unspoken = foreign || matches!(qualified.as_str(), "sub" | "desc" | "metadata" | "meta" | "lexicon");
        if unspoken && self.silent.is_none() {
            self.silent = Some(self.open.len());
        }
        self.open.push(qualified);
        Ok(())
    }

    fn attributes(&self, start: &BytesStart<'_>, at: usize) -> Result<Vec<(String, String)>, MarkupError> {
        let mut found = Vec::new();
        for attribute in start.attributes() {
            let attribute = match attribute {
                Ok(attribute) => attribute,
                Err(error) => return self.fault(at, error.to_string()),
            };
            let raw = &attribute.value;
            if raw.contains('<') {
                return self.fault(at, "'<' is not allowed in an attribute; write &lt;");
            }
            let Ok(value) = quick_xml::escape::unescape(raw) else {
                return self.fault(at, format!("an entity in the attribute {} is not known", attribute.key.as_ref()));
            };
            found.push((attribute.key.as_ref().to_owned(), value.into_owned()));
        }
        Ok(found)
    }

    fn end(&mut self) {
        // The tokenizer has checked that the name matches.
        let element = self.open.pop();
        if self.silent == Some(self.open.len()) {
            self.silent = None;
        }
        match element.as_deref() {
            Some("p") => self.end_piece(true),
            Some("s") => self.end_piece(false),
            _ => {}
        }
        self.closed = self.open.is_empty();
    }

    fn text(&mut self, text: &str, at: usize) -> Result<(), MarkupError> {
        if self.open.is_empty() {
            return if text.trim().is_empty() { Ok(()) } else { self.fault(at, "text stands outside <speak>") };
        }
        if let Some(offset) = text.find("]]>") {
            return self.fault(at + offset, "']]>' is not allowed in text");
        }
        if self.silent.is_none() {
            self.current.push_str(text);
        }
        Ok(())
    }

    fn reference(&mut self, reference: &BytesRef<'_>, at: usize) -> Result<(), MarkupError> {
        let name = reference.to_string();
        match quick_xml::escape::unescape(&format!("&{name};")) {
            Ok(text) => self.text(&text, at),
            Err(_) => self.fault(at, format!("the entity &{name}; is not known")),
        }
    }

    /// White space in markup is layout: runs become one space.
    fn end_piece(&mut self, paragraph: bool) {
        let text = self.current.split_whitespace().collect::<Vec<_>>().join(" ");
        self.current.clear();
        if paragraph && !text.is_empty() {
            self.paragraphs.push(text);
        } else if !text.is_empty() {
            self.current = text + " ";
        }
    }

    fn finish(mut self) -> Result<Script, MarkupError> {
        if let Some(element) = self.open.last() {
            return self.fault(self.source.len(), format!("<{element}> is never closed"));
        }
        if !self.closed {
            return self.fault(0, "there is no <speak>");
        }
        self.end_piece(true);
        if self.paragraphs.is_empty() {
            return self.fault(0, "there is no text to speak");
        }
        Ok(Script { paragraphs: self.paragraphs, language: self.language, fidelity: self.fidelity })
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn plain(body: &str) -> String {
        read_ssml(&format!("<speak version=\"1.1\" xml:lang=\"en-GB\">{body}</speak>")).expect(body).plain_text()
    }

    #[test]
    fn structure_is_kept_and_sub_is_said() {
        assert_eq!(plain("<p>Mind the\n  gap.</p><p>Tide &amp; time</p>"), "Mind the gap.\n\nTide & time");
        assert_eq!(plain("The <sub alias=\"Saltmarsh Ferries\">SF</sub> pier"), "The Saltmarsh Ferries pier");
        assert_eq!(plain("<s>One.</s><s>Two.</s>"), "One. Two.");
        assert_eq!(plain("a<break time=\"1s\"/>b <prosody rate=\"slow\">c</prosody> &#x41;"), "ab c A");
        assert_eq!(plain("<x:note xmlns:x=\"urn:x\">not said</x:note>said"), "said");
    }

    #[test]
    fn the_report_names_element_place_and_outcome() {
        let script = read_ssml("<speak version=\"1.1\">\n  go <break/>\n</speak>").expect("valid");
        let last = script.fidelity.last().expect("an entry");
        assert_eq!((last.element.as_str(), last.line, last.column), ("break", 2, 6));
        assert_eq!(script.worst(), Outcome::Omitted);
    }

    #[test]
    fn what_is_not_ssml_is_refused_at_its_place() {
        for (document, line, says) in [
            ("<speak version=\"1.1\">\n<tone/>x</speak>", 2, "not an element of SSML"),
            ("<speak version=\"1.1\">x", 1, "never closed"),
            ("<speak version=\"1.1\">x</speak><speak version=\"1.1\">y</speak>", 1, "one root"),
            ("<speak version=\"1.1\">x</speak> tail", 1, "outside"),
            ("<speak>x</speak>", 1, "version"),
            ("<speak version=\"2.0\">x</speak>", 1, "2.0"),
            ("<voice>x</voice>", 1, "<speak>"),
            ("<!DOCTYPE speak [<!ENTITY a \"b\">]><speak version=\"1.1\">&a;</speak>", 1, "document type"),
            ("<speak version=\"1.1\">&unknown;</speak>", 1, "&unknown;"),
            ("<speak version=\"1.1\"><p>x</s></speak>", 1, ""),
            ("<speak version=\"1.1\"> </speak>", 1, "no text"),
            ("", 1, "no <speak>"),
        ] {
            let error = read_ssml(document).expect_err(document);
            assert_eq!(error.line, line, "{document}: {error}");
            assert!(error.message.contains(says), "{document}: {error}");
        }
    }

    #[test]
    fn deep_and_wide_documents_are_refused() {
        let deep = format!("<speak version=\"1.1\">{}", "<prosody>".repeat(5_000));
        assert!(read_ssml(&deep).expect_err("deep").message.contains("within one another"));
    }

    proptest! {
        #[test]
        fn random_markup_never_panics(text in "[<>/a-z \"=&;pseak!\\[\\]ω-]{0,120}") {
            let _ = read_ssml(&text);
            let _ = read_ssml(&format!("<speak version=\"1.1\">{text}</speak>"));
        }
    }
}
