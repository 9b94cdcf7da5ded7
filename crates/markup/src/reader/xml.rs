//! What XML 1.0 and Namespaces in XML 1.0 ask and the tokenizer does not check.

use std::borrow::Cow;

use quick_xml::Reader;
use quick_xml::events::{BytesRef, BytesStart, Event};

use crate::MarkupError;

/// Attributes of one element, and namespaces in force.
const MAX_ATTRIBUTES: usize = 64;
const MAX_BINDINGS: usize = 128;

/// An attribute as it stands there, references resolved.
pub(super) struct Given<'s> {
    pub(super) name: &'s str,
    pub(super) value: Cow<'s, str>,
    /// Byte position of its name.
    pub(super) at: usize,
}

/// The first character that XML does not allow (section 2.2).
pub(super) fn illegal(text: &str) -> Option<usize> {
    let control = |byte: &u8| *byte < 0x20 && !matches!(*byte, b'\t' | b'\n' | b'\r');
    let bytes = text.as_bytes();
    // Without a branch for each byte, which is what most documents take.
    if bytes.iter().fold(false, |any, byte| any | control(byte)) {
        return bytes.iter().position(control);
    }
    text.find('\u{ffff}').into_iter().chain(text.find('\u{fffe}')).min()
}

/// What a reference stands for: a character, or one of XML's own five entities.
pub(super) fn resolved(reference: &BytesRef<'_>) -> Option<String> {
    let name: &str = reference;
    let written = format!("&{name};");
    let said = quick_xml::escape::unescape(&written).ok()?;
    illegal(&said).is_none().then(|| said.into_owned())
}

/// The events of a document, each with its byte position.
pub(super) struct Events<'s> {
    source: &'s str,
    reader: Reader<&'s [u8]>,
}

impl<'s> Events<'s> {
    /// The document, without the mark of its byte order; `what` it is.
    ///
    /// # Errors
    /// When it is too long, or has characters that XML does not allow.
    pub(super) fn of(source: &'s str, what: &str) -> Result<Self, MarkupError> {
        if source.len() > super::MAX_BYTES {
            let most = super::MAX_BYTES;
            return Err(MarkupError::at(source, 0, format!("the {what} is longer than {most} bytes")));
        }
        let source = source.strip_prefix('\u{feff}').unwrap_or(source);
        if let Some(at) = illegal(source) {
            return Err(MarkupError::at(source, at, "a character that is not allowed in XML"));
        }
        let mut reader = Reader::from_str(source);
        reader.config_mut().check_comments = true;
        Ok(Events { source, reader })
    }

    pub(super) fn source(&self) -> &'s str {
        self.source
    }

    /// The next event; the end of the document again and again.
    pub(super) fn next(&mut self) -> Result<(usize, Event<'s>), MarkupError> {
        let at = usize::try_from(self.reader.buffer_position()).unwrap_or(usize::MAX);
        match self.reader.read_event() {
            Ok(event) => Ok((at, event)),
            Err(error) => {
                let at = usize::try_from(self.reader.error_position()).unwrap_or(at);
                Err(MarkupError::at(self.source, at, told(&error)))
            }
        }
    }
}

/// The tokenizer's errors in this project's words.
fn told(error: &quick_xml::Error) -> String {
    use quick_xml::errors::IllFormedError;
    match error {
        quick_xml::Error::IllFormed(IllFormedError::MismatchedEndTag { expected, found }) => {
            format!("</{found}> stands where </{expected}> is expected")
        }
        quick_xml::Error::IllFormed(IllFormedError::UnmatchedEndTag(name)) => {
            format!("</{name}> ends what never began")
        }
        other => other.to_string(),
    }
}

/// Prefixes and what they stand for, innermost last.
#[derive(Default)]
pub(super) struct Namespaces {
    bindings: Vec<(String, String)>,
}

impl Namespaces {
    pub(super) fn len(&self) -> usize {
        self.bindings.len()
    }

    pub(super) fn truncate(&mut self, length: usize) {
        self.bindings.truncate(length);
    }

    fn find(&self, prefix: &str) -> Option<&str> {
        let found = self.bindings.iter().rev().find(|(name, _)| name == prefix);
        found.map(|(_, address)| address.as_str()).filter(|address| !address.is_empty() || prefix.is_empty())
    }

    /// The namespace of an element, empty for none; `None` where its prefix is
    /// not declared.
    pub(super) fn of_element(&self, qualified: &str) -> Option<&str> {
        match qualified.split_once(':') {
            Some((prefix, _)) => self.find(prefix),
            None => Some(self.find("").unwrap_or_default()),
        }
    }

    /// Whether the prefix of a name is declared, or there is none.
    pub(super) fn knows_prefix(&self, name: &str) -> bool {
        match name.split_once(':') {
            Some((prefix, _)) => prefix == "xml" || self.find(prefix).is_some(),
            None => true,
        }
    }
}

/// Attributes with white space between them (section 3.1).
fn spaced(tag: &str) -> bool {
    let mut quote = None;
    let mut closed = false;
    for byte in tag.bytes() {
        match quote {
            Some(open) if byte == open => (quote, closed) = (None, true),
            Some(_) => {}
            None if closed && !byte.is_ascii_whitespace() && byte != b'/' => return false,
            None => {
                closed = false;
                if matches!(byte, b'"' | b'\'') {
                    quote = Some(byte);
                }
            }
        }
    }
    true
}

/// The attributes of a tag go to `found`; declarations of namespaces to
/// `namespaces`.
pub(super) fn attributes<'s>(
    start: &BytesStart<'_>,
    source: &'s str,
    at: usize,
    namespaces: &mut Namespaces,
    found: &mut Vec<Given<'s>>,
) -> Result<(), MarkupError> {
    let fault = |at: usize, message: String| Err(MarkupError::at(source, at, message));
    let tag: &str = start;
    if tag.len() == start.name().as_ref().len() {
        return Ok(());
    }
    if !spaced(tag) {
        return fault(at, "attributes stand apart by white space".into());
    }
    for attribute in start.attributes() {
        let attribute = match attribute {
            Ok(attribute) => attribute,
            Err(error) => return fault(at, error.to_string()),
        };
        let name = attribute.key.as_ref();
        // The name is a slice of the tag, the tag of the source.
        let place = at + 1 + (name.as_ptr() as usize).saturating_sub(tag.as_ptr() as usize);
        if !super::values::is_qualified_name(name) {
            return fault(place, format!("'{name}' is not a name"));
        }
        // Both lie in the source, which outlives the tokenizer's event.
        let name = &source[place..place + name.len()];
        let raw: &str = &attribute.value;
        let raw_at = at + 1 + (raw.as_ptr() as usize).saturating_sub(tag.as_ptr() as usize);
        let raw = match source.get(raw_at..raw_at + raw.len()).filter(|slice| *slice == raw) {
            Some(raw) => raw,
            None => return fault(place, format!("the value of {name} cannot be read")),
        };
        if raw.contains('<') {
            return fault(place, format!("'<' is not allowed in {name}; write &lt;"));
        }
        let value = if raw.contains('&') {
            match quick_xml::escape::unescape(raw) {
                Ok(value) if illegal(&value).is_none() => value,
                _ => return fault(place, format!("an entity in {name} is not known; write & as &amp;")),
            }
        } else {
            Cow::Borrowed(raw)
        };
        match name.strip_prefix("xmlns") {
            Some("") => namespaces.bindings.push((String::new(), value.into_owned())),
            Some(prefix) if prefix.starts_with(':') => {
                if value.is_empty() {
                    return fault(place, format!("{name} declares nothing"));
                }
                namespaces.bindings.push((prefix[1..].to_owned(), value.into_owned()));
            }
            _ => found.push(Given { name, value, at: place }),
        }
        if found.len() > MAX_ATTRIBUTES || namespaces.bindings.len() > MAX_BINDINGS {
            return fault(at, format!("more than {MAX_ATTRIBUTES} attributes or {MAX_BINDINGS} namespaces"));
        }
    }
    Ok(())
}
