//! SSML 1.1 (W3C Recommendation of 7 September 2010) to a script; documents
//! of version 1.0 by their own value forms.
//!
//! The tokenizer validates almost nothing, so that this reader does: what XML
//! 1.0 and its namespaces ask (one root, legal names and characters, declared
//! prefixes, no document type with an internal subset), what SSML asks of
//! each element ([`rules`]) and value ([`values`]), and limits on depth, size
//! and number.

mod emotion;
mod pls;
pub(crate) mod rules;
pub(crate) mod values;
mod xml;

use std::collections::HashSet;

use compact_str::CompactString;
use quick_xml::events::{BytesRef, BytesStart, Event};

use crate::MarkupError;
use crate::script::{Attributes, Element, Item, Kind, Script, Tag};
use emotion::Emotion;
pub use pls::read_pls;
use rules::{COMMON, Content};
use values::{Form, Version};
use xml::{Events, Given, Namespaces};

use std::borrow::Cow;

/// Elements within elements.
const MAX_DEPTH: usize = 64;
/// 2 MiB of markup: hours of speech.
const MAX_BYTES: usize = 2 << 20;
/// Elements in one document.
const MAX_ELEMENTS: usize = 100_000;

pub(crate) const SSML: &str = "http://www.w3.org/2001/10/synthesis";
/// What lines of dialogue need and SSML has no element for.
pub(crate) const OWN: &str = "urn:dispatcher:script";
pub(crate) const EMOTION: &str = "http://www.w3.org/2009/10/emotionml";

/// An element that is open.
struct Open<'s> {
    tag: Tag,
    name: &'s str,
    /// Its number; none where it is passed over.
    item: Option<usize>,
    /// Namespaces declared before it.
    bindings: usize,
}

struct Builder<'s> {
    source: &'s str,
    version: Version,
    items: Vec<Item>,
    /// Room for the attributes of the tag at hand.
    given: Vec<Given<'s>>,
    elements: Vec<Element>,
    open: Vec<Open<'s>>,
    namespaces: Namespaces,
    /// How many elements deep it is passed over what stands there.
    skipped: usize,
    emotion: Option<Emotion>,
    /// Start tags, those that are passed over included.
    tags: usize,
    /// Something of `<speak>` came that must stand behind the head.
    body: bool,
    closed: bool,
    ids: HashSet<String>,
    lexicons: HashSet<String>,
    marks: HashSet<String>,
    /// Marks that `<speak>` refers to.
    wanted_marks: Vec<(&'static str, String)>,
    language: Option<String>,
    notes: Vec<String>,
    spoken: bool,
}

/// What a namespace is to us.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Space {
    Ssml,
    Emotion,
    Own,
    None,
    Other,
}

impl Space {
    fn of(namespace: &str) -> Space {
        match namespace {
            "" => Space::None,
            SSML => Space::Ssml,
            EMOTION => Space::Emotion,
            OWN => Space::Own,
            _ => Space::Other,
        }
    }
}

/// Reads an SSML document.
///
/// # Errors
/// The first fault, with line and column and what was expected.
pub fn read_ssml(source: &str) -> Result<Script, MarkupError> {
    let mut events = Events::of(source, "document")?;
    let source = events.source();
    let mut builder = Builder::new(source);
    loop {
        let (at, event) = events.next()?;
        match event {
            Event::Start(start) => builder.start(&start, at, false)?,
            Event::Empty(start) => builder.start(&start, at, true)?,
            Event::End(_) => builder.end(),
            Event::Text(text) => builder.text(text.len(), at)?,
            Event::CData(text) => builder.raw(at + "<![CDATA[".len(), text.len())?,
            Event::GeneralRef(reference) => builder.reference(&reference, at)?,
            Event::DocType(doctype) => builder.doctype(&doctype, at)?,
            Event::Decl(_) if at > 0 => return builder.fault(at, "the XML declaration stands at the very beginning"),
            Event::PI(text) if text.target().eq_ignore_ascii_case("xml") => {
                return builder.fault(at, "the XML declaration stands at the very beginning");
            }
            Event::Decl(_) | Event::PI(_) | Event::Comment(_) => {}
            Event::Eof => break,
        }
    }
    builder.finish()
}

impl<'s> Builder<'s> {
    fn new(source: &'s str) -> Self {
        Builder {
            source,
            version: Version::OneOne,
            items: Vec::with_capacity(source.len() / 16),
            elements: Vec::with_capacity(source.len() / 64),
            given: Vec::new(),
            open: Vec::new(),
            namespaces: Namespaces::default(),
            skipped: 0,
            emotion: None,
            tags: 0,
            body: false,
            closed: false,
            ids: HashSet::new(),
            lexicons: HashSet::new(),
            marks: HashSet::new(),
            wanted_marks: Vec::new(),
            language: None,
            notes: Vec::new(),
            spoken: false,
        }
    }

    fn fault<T>(&self, at: usize, message: impl Into<String>) -> Result<T, MarkupError> {
        Err(MarkupError::at(self.source, at, message))
    }

    fn doctype(&self, doctype: &str, at: usize) -> Result<(), MarkupError> {
        if !self.open.is_empty() || self.closed {
            return self.fault(at, "a document type stands before the document");
        }
        if doctype.contains('[') {
            return self.fault(at, "a document type that declares something is not taken; leave out what is in []");
        }
        match doctype.split_ascii_whitespace().next() {
            Some("speak") => Ok(()),
            _ => self.fault(at, "the document type of SSML is speak"),
        }
    }

    fn start(&mut self, start: &BytesStart<'_>, at: usize, empty: bool) -> Result<(), MarkupError> {
        let name = start.name();
        let qualified = name.as_ref();
        if self.closed {
            return self.fault(at, format!("<{qualified}> stands behind the end of the document; there is one root"));
        }
        if Tag::named(qualified, self.version).is_none() && !values::is_qualified_name(qualified) {
            return self.fault(at, format!("'{qualified}' is not a name"));
        }
        self.tags += 1;
        if self.tags > MAX_ELEMENTS || self.open.len() >= MAX_DEPTH {
            return self.fault(at, format!("more than {MAX_ELEMENTS} elements, or {MAX_DEPTH} within one another"));
        }
        let bindings = self.namespaces.len();
        let mut attributes = std::mem::take(&mut self.given);
        xml::attributes(start, self.source, at, &mut self.namespaces, &mut attributes)?;
        let Some(namespace) = self.namespaces.of_element(qualified) else {
            return self.fault(at, format!("the prefix of <{qualified}> is not declared; add xmlns:…=\"…\""));
        };
        let space = Space::of(namespace);
        let namespace = if self.open.is_empty() { namespace.to_owned() } else { String::new() };
        for given in &attributes {
            if !self.namespaces.knows_prefix(given.name) {
                return self.fault(at, format!("the prefix of the attribute {} is not declared", given.name));
            }
        }
        let local = qualified.rsplit_once(':').map_or(qualified, |(_, local)| local);
        let item = if self.skipped > 0 {
            self.within(local, space, &attributes, at)?;
            None
        } else {
            if self.open.is_empty() {
                self.root(local, &namespace, &attributes, at)?;
            }
            Some(self.element(local, qualified, space, &mut attributes, at)?)
        };
        attributes.clear();
        self.given = attributes;
        let tag = item.and_then(|item| self.elements.get(item)).map_or(Tag::Foreign, |element| element.tag);
        let passed_over = self.skipped > 0 || matches!(tag.content(), Content::Any);
        self.skipped += usize::from(passed_over);
        self.open.push(Open { tag, name: &self.source[at + 1..at + 1 + qualified.len()], item, bindings });
        if empty {
            self.end();
        }
        Ok(())
    }

    /// Something inside what is passed over.
    fn within(&mut self, local: &str, space: Space, given: &[Given<'_>], at: usize) -> Result<(), MarkupError> {
        match self.emotion.as_mut().filter(|_| space == Space::Emotion) {
            Some(emotion) => emotion.part(local, given).map_err(|fault| MarkupError::at(self.source, at, fault)),
            None => Ok(()),
        }
    }

    /// An element that is read; gives its number.
    fn element(
        &mut self,
        local: &str,
        qualified: &str,
        space: Space,
        given: &mut Vec<Given<'s>>,
        at: usize,
    ) -> Result<usize, MarkupError> {
        let root = self.open.is_empty();
        // A document without any namespace is taken for SSML.
        let ours = space == Space::Ssml || (space == Space::None && !qualified.contains(':'));
        let tag = match (ours, space == Space::Emotion && local == "emotion") {
            (true, _) => Tag::named(local, self.version),
            (false, true) => Some(Tag::Emotion),
            (false, false) if space == Space::Own && local == "overlap" => Some(Tag::Overlap),
            (false, false) => Some(Tag::Foreign),
        };
        let Some(tag) = tag else {
            let version = if self.version == Version::One { "1.0" } else { "1.1" };
            return self.fault(at, format!("<{qualified}> is not an element of SSML {version}"));
        };
        if tag == Tag::Speak && !root {
            return self.fault(at, "<speak> stands inside of <speak>; there is one root");
        }
        self.placed(tag, qualified, at)?;
        let attributes = match tag {
            Tag::Emotion => {
                self.emotion = Some(Emotion::begin(given).map_err(|fault| MarkupError::at(self.source, at, fault))?);
                Attributes::new()
            }
            Tag::Foreign => Attributes::new(),
            _ => self.checked(tag, qualified, given, at)?,
        };
        let name = if qualified == tag.name() { Cow::Borrowed(tag.name()) } else { Cow::Owned(qualified.to_owned()) };
        let element = Element { tag, name, at, attributes, end: 0 };
        self.meant(&element)?;
        self.items.push(Item::Open(self.elements.len()));
        self.elements.push(element);
        Ok(self.elements.len() - 1)
    }

    fn root(&mut self, local: &str, namespace: &str, given: &[Given<'_>], at: usize) -> Result<(), MarkupError> {
        if local != "speak" {
            return self.fault(at, format!("the root of SSML is <speak>, not <{local}>"));
        }
        if namespace.is_empty() {
            self.notes.push(format!("the document declares no namespace; SSML's is xmlns=\"{SSML}\""));
        } else if namespace != SSML {
            return self.fault(at, format!("the namespace of <speak> is {SSML}, not {namespace}"));
        }
        let get = |name: &str| given.iter().find(|one| one.name == name).map(|one| &*one.value);
        self.version = match get("version") {
            Some("1.1") => Version::OneOne,
            Some("1.0") => Version::One,
            Some(other) => return self.fault(at, format!("version '{other}' of SSML is not known; 1.0 and 1.1 are")),
            None => return self.fault(at, "<speak> needs version=\"1.1\""),
        };
        self.language = get("xml:lang").filter(|tag| !tag.is_empty()).map(str::to_owned);
        if self.language.is_none() {
            self.notes.push("<speak> names no language; add xml:lang".into());
        }
        Ok(())
    }

    /// Whether the element may stand where it stands.
    fn placed(&mut self, tag: Tag, qualified: &str, at: usize) -> Result<(), MarkupError> {
        let Some(parent) = self.open.last() else { return Ok(()) };
        if matches!(tag, Tag::Foreign | Tag::Emotion | Tag::Overlap) {
            return match parent.tag.content() {
                Content::Empty => {
                    self.fault(at, format!("<{}> is empty; <{qualified}> stands inside of it", parent.name))
                }
                _ => Ok(()),
            };
        }
        let message = match parent.tag.content() {
            Content::Mixed(allowed) if allowed.contains(&tag) => None,
            Content::Mixed(allowed) => {
                let names: Vec<&str> = allowed.iter().map(|tag| tag.name()).collect();
                Some(format!(
                    "<{qualified}> may not stand in <{}>, which takes text and {}",
                    parent.name,
                    names.join(", ")
                ))
            }
            Content::Text => Some(format!("<{}> takes text alone, and no <{qualified}>", parent.name)),
            Content::Empty => Some(format!("<{}> is empty; <{qualified}> stands inside of it", parent.name)),
            Content::Any => None,
        };
        if let Some(message) = message {
            return self.fault(at, message);
        }
        let head = matches!(tag, Tag::Meta | Tag::Metadata | Tag::Lexicon);
        if head && self.body {
            return self
                .fault(at, format!("<{qualified}> stands at the head of <speak>, before any text and other elements"));
        }
        self.body |= !head;
        Ok(())
    }

    /// The attributes, each known, of its form and none missing.
    fn checked(
        &self,
        tag: Tag,
        qualified: &str,
        given: &mut Vec<Given<'s>>,
        at: usize,
    ) -> Result<Attributes, MarkupError> {
        let rules = tag.attributes(self.version);
        let mut attributes = Attributes::new();
        for one in given.drain(..) {
            let foreign = one.name.contains(':') && !one.name.starts_with("xml:");
            if foreign || one.name == "xml:space" {
                continue;
            }
            let Some(rule) = rules.iter().chain(COMMON).find(|rule| rule.name == one.name) else {
                let names: Vec<&str> = rules.iter().map(|rule| rule.name).collect();
                let takes = if names.is_empty() { "none".into() } else { names.join(", ") };
                return self.fault(one.at, format!("{} is no attribute of <{qualified}>; it takes {takes}", one.name));
            };
            if !rule.form.holds(&one.value, self.version) {
                let expected = rule.form.expected(self.version);
                return self
                    .fault(one.at, format!("{}=\"{}\" in <{qualified}>: expected {expected}", one.name, one.value));
            }
            let prefixed = |name: &str| name.contains(':') && !self.namespaces.knows_prefix(name);
            if rule.form == Form::Roles && one.value.split_ascii_whitespace().any(prefixed) {
                return self.fault(one.at, format!("{}=\"{}\": the prefix is not declared", one.name, one.value));
            }
            attributes.push((Cow::Borrowed(rule.name), CompactString::from(one.value)));
        }
        let missing = rules.iter().find(|rule| rule.required && !attributes.iter().any(|(name, _)| name == rule.name));
        match missing {
            Some(rule) => {
                let expected = rule.form.expected(self.version);
                self.fault(at, format!("<{qualified}> needs {}: {expected}", rule.name))
            }
            None => Ok(attributes),
        }
    }

    /// What the recommendation asks beyond forms.
    fn meant(&mut self, element: &Element) -> Result<(), MarkupError> {
        let at = element.at;
        if let Some(id) = element.get("xml:id")
            && !self.ids.insert(id.to_owned())
        {
            return self.fault(at, format!("xml:id=\"{id}\" stands twice; it is unique in a document"));
        }
        match element.tag {
            Tag::Prosody if PROSODY.iter().all(|name| element.get(name).is_none()) => {
                self.fault(at, format!("<prosody> asks for nothing; it needs one of {}", PROSODY.join(", ")))
            }
            Tag::Meta if element.get("name").is_some() == element.get("http-equiv").is_some() => {
                self.fault(at, "<meta> needs either name or http-equiv")
            }
            Tag::Lexicon => {
                self.lexicons.extend(element.get("xml:id").map(str::to_owned));
                Ok(())
            }
            Tag::Lookup => match element.get("ref") {
                Some(name) if !self.lexicons.contains(name) => {
                    self.fault(at, format!("ref=\"{name}\" is the xml:id of no <lexicon>"))
                }
                _ => Ok(()),
            },
            Tag::Mark => {
                self.marks.extend(element.get("name").map(str::to_owned));
                Ok(())
            }
            Tag::Speak => {
                let wanted = ["startmark", "endmark"].map(|key| element.get(key).map(|value| (key, value.to_owned())));
                self.wanted_marks.extend(wanted.into_iter().flatten());
                Ok(())
            }
            Tag::Audio => {
                self.spoken |= element.get("src").is_some();
                Ok(())
            }
            Tag::Sub => {
                self.spoken |= element.get("alias").is_some_and(|alias| !alias.trim().is_empty());
                Ok(())
            }
            Tag::Phoneme => {
                self.spoken |= element.get("ph").is_some_and(|ph| !ph.trim().is_empty());
                Ok(())
            }
            _ => Ok(()),
        }
    }

    fn end(&mut self) {
        // The tokenizer has checked that the name matches.
        let Some(open) = self.open.pop() else { return };
        self.skipped = self.skipped.saturating_sub(1);
        self.namespaces.truncate(open.bindings);
        if let Some(item) = open.item {
            let end = self.items.len();
            let emotion = if open.tag == Tag::Emotion { self.emotion.take() } else { None };
            if let Some(element) = self.elements.get_mut(item) {
                element.end = end;
                element.attributes.extend(emotion.into_iter().flat_map(Emotion::attributes));
            }
            self.items.push(Item::Close);
        }
        self.closed = self.open.is_empty();
    }

    /// Text as it stands in the source.
    fn text(&mut self, length: usize, at: usize) -> Result<(), MarkupError> {
        let text = &self.source[at..at + length];
        // Few texts have a bracket, and looking for one is cheap.
        let bracket = text.as_bytes().contains(&b']');
        if let Some(offset) = bracket.then(|| text.find("]]>")).flatten() {
            return self.fault(at + offset, "']]>' is not allowed in text");
        }
        self.raw(at, length)
    }

    fn raw(&mut self, at: usize, length: usize) -> Result<(), MarkupError> {
        let text = &self.source[at..at + length];
        let blank = text.trim_ascii().is_empty();
        if self.takes_text(blank, at)? {
            self.spoken |= !blank;
            self.items.push(Item::Text(at..at + length));
        }
        Ok(())
    }

    /// Whether text is taken where the walk stands.
    fn takes_text(&mut self, blank: bool, at: usize) -> Result<bool, MarkupError> {
        let Some(open) = self.open.last() else {
            return if blank { Ok(false) } else { self.fault(at, "text stands outside <speak>") };
        };
        if self.skipped > 0 {
            return Ok(false);
        }
        match open.tag.content() {
            Content::Empty if !blank => self.fault(at, format!("<{}> is empty; text stands inside of it", open.name)),
            Content::Empty => Ok(false),
            _ => {
                self.body |= !blank;
                Ok(true)
            }
        }
    }

    fn reference(&mut self, reference: &BytesRef<'_>, at: usize) -> Result<(), MarkupError> {
        let Some(said) = xml::resolved(reference) else {
            let name: &str = reference;
            return self.fault(at, format!("the entity &{name}; is not known; &amp; &lt; &gt; &quot; &apos; are"));
        };
        let blank = said.trim_ascii().is_empty();
        if self.takes_text(blank, at)? {
            self.spoken |= !blank;
            self.items.push(Item::Said(said));
        }
        Ok(())
    }

    fn finish(mut self) -> Result<Script, MarkupError> {
        if let Some(open) = self.open.last() {
            return self.fault(self.source.len(), format!("<{}> is never closed", open.name));
        }
        if !self.closed {
            return self.fault(0, "there is no <speak>");
        }
        for (key, name) in std::mem::take(&mut self.wanted_marks) {
            if !self.marks.contains(&name) {
                return self.fault(0, format!("{key}=\"{name}\" is the name of no <mark>"));
            }
        }
        if !self.spoken {
            return self.fault(0, "there is no text to speak");
        }
        Ok(Script {
            source: self.source.to_owned(),
            items: self.items,
            elements: self.elements,
            kind: Kind::Markup,
            language: self.language,
            notes: self.notes,
        })
    }
}

const PROSODY: [&str; 6] = ["pitch", "contour", "range", "rate", "duration", "volume"];

#[cfg(test)]
mod tests;
