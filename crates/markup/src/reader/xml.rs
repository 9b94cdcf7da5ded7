//! What XML 1.0 and Namespaces in XML 1.0 ask and the tokenizer does not check.

use quick_xml::events::BytesStart;

use crate::MarkupError;

/// Attributes of one element, and namespaces in force.
const MAX_ATTRIBUTES: usize = 64;
const MAX_BINDINGS: usize = 128;

/// An attribute as it stands there, references resolved.
pub(super) struct Given {
    pub(super) name: String,
    pub(super) value: String,
    /// Byte position of its name.
    pub(super) at: usize,
}

/// The first character that XML does not allow (section 2.2).
pub(super) fn illegal(text: &str) -> Option<usize> {
    let control = |byte: &u8| *byte < 0x20 && !matches!(*byte, b'\t' | b'\n' | b'\r');
    let control = text.as_bytes().iter().position(control);
    control.or_else(|| text.find(['\u{fffe}', '\u{ffff}']))
}

/// The tokenizer's errors in this project's words.
pub(super) fn told(error: &quick_xml::Error) -> String {
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
    pub(super) fn of_element(&self, qualified: &str) -> Option<String> {
        match qualified.split_once(':') {
            Some((prefix, _)) => self.find(prefix).map(str::to_owned),
            None => Some(self.find("").unwrap_or_default().to_owned()),
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
    for character in tag.chars() {
        match quote {
            Some(open) if character == open => (quote, closed) = (None, true),
            Some(_) => {}
            None if closed && !character.is_ascii_whitespace() && character != '/' => return false,
            None => {
                closed = false;
                if matches!(character, '"' | '\'') {
                    quote = Some(character);
                }
            }
        }
    }
    true
}

/// The attributes of a tag; declarations of namespaces go to `namespaces`.
pub(super) fn attributes(
    start: &BytesStart<'_>,
    source: &str,
    at: usize,
    namespaces: &mut Namespaces,
) -> Result<Vec<Given>, MarkupError> {
    let fault = |at: usize, message: String| Err(MarkupError::at(source, at, message));
    let tag: &str = start;
    if tag.len() == start.name().as_ref().len() {
        return Ok(Vec::new());
    }
    if !spaced(tag) {
        return fault(at, "attributes stand apart by white space".into());
    }
    let mut found = Vec::new();
    for attribute in start.attributes() {
        let attribute = match attribute {
            Ok(attribute) => attribute,
            Err(error) => return fault(at, error.to_string()),
        };
        let name = attribute.key.as_ref();
        // The name is a slice of the tag, the tag of the source.
        let place = at + 1 + (name.as_ptr() as usize).saturating_sub(tag.as_ptr() as usize);
        if !name.split(':').all(super::values::is_name) || name.matches(':').count() > 1 {
            return fault(place, format!("'{name}' is not a name"));
        }
        let raw: &str = &attribute.value;
        if raw.contains('<') {
            return fault(place, format!("'<' is not allowed in {name}; write &lt;"));
        }
        let value = if raw.contains('&') {
            match quick_xml::escape::unescape(raw) {
                Ok(value) if illegal(&value).is_none() => value.into_owned(),
                _ => return fault(place, format!("an entity in {name} is not known; write & as &amp;")),
            }
        } else {
            raw.to_owned()
        };
        match name.strip_prefix("xmlns") {
            Some("") => namespaces.bindings.push((String::new(), value)),
            Some(prefix) if prefix.starts_with(':') => {
                if value.is_empty() {
                    return fault(place, format!("{name} declares nothing"));
                }
                namespaces.bindings.push((prefix[1..].to_owned(), value));
            }
            _ => found.push(Given { name: name.to_owned(), value, at: place }),
        }
        if found.len() > MAX_ATTRIBUTES || namespaces.bindings.len() > MAX_BINDINGS {
            return fault(at, format!("more than {MAX_ATTRIBUTES} attributes or {MAX_BINDINGS} namespaces"));
        }
    }
    Ok(found)
}
