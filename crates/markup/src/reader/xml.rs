//! What XML 1.0 and Namespaces in XML 1.0 ask and the tokenizer does not check.

use std::borrow::Cow;
use std::ops::Range;

use quick_xml::Reader;
use quick_xml::events::{BytesRef, BytesStart, Event};

use super::values::prefix_of;
use crate::MarkupError;

/// Attributes of one element, and namespaces in force.
const MAX_ATTRIBUTES: usize = 64;
const MAX_BINDINGS: usize = 128;

/// An attribute as written, with references resolved.
pub(super) struct Given<'s> {
    pub(super) name: &'s str,
    pub(super) value: Cow<'s, str>,
    /// Byte positions of its name and its value.
    pub(super) at: usize,
    pub(super) value_at: usize,
}

/// The first character that XML does not allow (section 2.2).
pub(super) fn illegal(text: &str) -> Option<usize> {
    let control = |byte: &u8| *byte < 0x20 && !matches!(*byte, b'\t' | b'\n' | b'\r');
    let bytes = text.as_bytes();
    // Without a branch for each byte, which is what most documents take.
    if bytes.iter().fold(false, |any, byte| any | control(byte)) {
        return bytes.iter().position(control);
    }
    if text.is_ascii() {
        return None;
    }
    text.find('\u{ffff}').into_iter().chain(text.find('\u{fffe}')).min()
}

/// Value of a reference: a character, or one of XML's own five entities.
pub(super) fn resolved(reference: &BytesRef<'_>) -> Option<char> {
    let said = match &**reference {
        "amp" => '&',
        "lt" => '<',
        "gt" => '>',
        "quot" => '"',
        "apos" => '\'',
        _ => reference.resolve_char_ref().ok().flatten()?,
    };
    illegal(said.encode_utf8(&mut [0; 4])).is_none().then_some(said)
}

/// The events of a document, with their positions.
pub(super) struct Events<'s> {
    source: &'s str,
    reader: Reader<&'s [u8]>,
    at: usize,
}

impl<'s> Events<'s> {
    /// The document, without the mark of its byte order; `what` it is.
    ///
    /// # Errors
    /// When it is too long, or has characters that XML does not allow.
    pub(super) fn of(source: &'s str, what: &str) -> Result<Self, MarkupError> {
        if source.len() > super::MAX_BYTES {
            let most = super::MAX_BYTES;
            return Err(MarkupError::at(source, 0, format_args!("the {what} is longer than {most} bytes")));
        }
        let source = source.strip_prefix('\u{feff}').unwrap_or(source);
        if let Some(at) = illegal(source) {
            return Err(MarkupError::at(source, at, "a character that is not allowed in XML"));
        }
        let mut reader = Reader::from_str(source);
        reader.config_mut().check_comments = true;
        Ok(Events { source, reader, at: 0 })
    }

    pub(super) fn source(&self) -> &'s str {
        self.source
    }

    /// Byte position of the event that came last.
    pub(super) fn at(&self) -> usize {
        self.at
    }

    /// The next event; the end of the document again and again.
    pub(super) fn next(&mut self) -> Result<Event<'s>, MarkupError> {
        self.at = usize::try_from(self.reader.buffer_position()).unwrap_or(usize::MAX);
        self.reader.read_event().map_err(|error| {
            let at = usize::try_from(self.reader.error_position()).unwrap_or(self.at);
            MarkupError::at(self.source, at, told(&error))
        })
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
        match prefix_of(qualified) {
            Some(end) => self.find(&qualified[..end]),
            None => Some(self.find("").unwrap_or_default()),
        }
    }

    /// Whether the prefix of a name is declared, or there is none.
    pub(super) fn knows_prefix(&self, name: &str) -> bool {
        prefix_of(name).is_none_or(|end| &name[..end] == "xml" || self.find(&name[..end]).is_some())
    }
}

/// An attribute as written: its name, the position of the name, and where the
/// value does.
type WrittenAttribute<'s> = (&'s str, usize, Range<usize>);

/// A tag, taken in from its front.
struct Tag<'s> {
    source: &'s str,
    /// Byte position in the source that it is read up to, and of its end.
    at: usize,
    end: usize,
}

impl<'s> Tag<'s> {
    fn rest(&self) -> &'s [u8] {
        &self.source.as_bytes()[self.at..self.end]
    }

    fn fault<T>(&self, at: usize, message: impl std::fmt::Display) -> Result<T, MarkupError> {
        Err(MarkupError::at(self.source, at, message))
    }

    /// Whether there was white space.
    fn space(&mut self) -> bool {
        let many = self.rest().iter().take_while(|byte| byte.is_ascii_whitespace()).count();
        self.at += many;
        many > 0
    }

    /// The next attribute (XML 1.0, section 3.1); nothing at the end of the tag.
    fn attribute(&mut self) -> Result<Option<WrittenAttribute<'s>>, MarkupError> {
        let spaced = self.space();
        let (rest, at) = (self.rest(), self.at);
        if matches!(rest, [] | [b'/']) {
            return Ok(None);
        }
        if !spaced {
            return self.fault(at, "attributes stand apart by white space");
        }
        let length = rest.iter().position(|byte| *byte == b'=' || byte.is_ascii_whitespace()).unwrap_or(rest.len());
        self.at += length;
        let name = &self.source[at..self.at];
        if !super::values::is_qualified_name(name) {
            return self.fault(at, format_args!("'{name}' is not a name"));
        }
        self.space();
        if self.rest().first() != Some(&b'=') {
            return self.fault(at, format_args!("{name} has no value; write {name}=\"…\""));
        }
        self.at += 1;
        self.space();
        let quote = match self.rest().first() {
            Some(quote @ (b'"' | b'\'')) => *quote,
            _ => return self.fault(self.at, format_args!("the value of {name} stands in quotation marks")),
        };
        self.at += 1;
        let Some(length) = memchr::memchr(quote, self.rest()) else {
            return self.fault(self.at, format_args!("the value of {name} has no end"));
        };
        let value = self.at..self.at + length;
        self.at += length + 1;
        Ok(Some((name, at, value)))
    }

    /// A value as it counts (section 3.3.3): references resolved, and white
    /// space of any kind a space.
    fn value(&self, name: &str, at: Range<usize>) -> Result<Cow<'s, str>, MarkupError> {
        let start = at.start;
        let raw = &self.source[at];
        if !raw.bytes().fold(false, |any, byte| any | matches!(byte, b'<' | b'&' | b'\t' | b'\n' | b'\r')) {
            return Ok(Cow::Borrowed(raw));
        }
        if let Some(offset) = raw.find('<') {
            return self.fault(start + offset, format_args!("'<' is not allowed in {name}; write &lt;"));
        }
        let spaces = raw.replace("\r\n", " ").replace(['\t', '\n', '\r'], " ");
        match quick_xml::escape::unescape(&spaces) {
            Ok(value) if illegal(&value).is_none() => Ok(Cow::Owned(value.into_owned())),
            _ => self.fault(start, format_args!("an entity in {name} is not known; write & as &amp;")),
        }
    }
}

/// Adds the attributes of the tag at `at` to `found`; declarations
/// of namespaces to `namespaces`.
pub(super) fn attributes<'s>(
    start: &BytesStart<'_>,
    source: &'s str,
    at: usize,
    namespaces: &mut Namespaces,
    found: &mut Vec<Given<'s>>,
) -> Result<(), MarkupError> {
    let named = start.name().as_ref().len();
    let mut tag = Tag { source, at: at + 1 + named, end: at + 1 + start.len() };
    while let Some((name, place, value_at)) = tag.attribute()? {
        let value = tag.value(name, value_at.clone())?;
        match name.strip_prefix("xmlns") {
            Some(prefix) if prefix.is_empty() || prefix.starts_with(':') => {
                let prefix = prefix.trim_start_matches(':');
                if value.is_empty() && !prefix.is_empty() {
                    return tag.fault(place, format_args!("{name} declares nothing"));
                }
                namespaces.bindings.push((prefix.to_owned(), value.into_owned()));
            }
            _ if found.iter().any(|one| one.name == name) => {
                return tag.fault(place, format_args!("{name} stands twice in one tag"));
            }
            _ => found.push(Given { name, value, at: place, value_at: value_at.start }),
        }
        if found.len() > MAX_ATTRIBUTES || namespaces.bindings.len() > MAX_BINDINGS {
            return tag
                .fault(place, format_args!("more than {MAX_ATTRIBUTES} attributes or {MAX_BINDINGS} namespaces"));
        }
    }
    Ok(())
}
