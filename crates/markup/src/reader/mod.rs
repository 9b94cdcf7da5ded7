//! SSML 1.1 (W3C Recommendation of 7 September 2010) to a script; documents
//! of version 1.0 by their own value forms.
//!
//! The tokenizer validates almost nothing, so that this reader does: what XML
//! 1.0 and its namespaces ask (one root, legal names and characters, declared
//! prefixes, no document type with an internal subset), what SSML asks of
//! each element ([`rules`]) and value ([`values`]), and limits on depth, size
//! and number.

mod attributes;
mod emotion;
mod lengths;
mod placement;
mod pls;
mod pls_word;
pub(crate) mod rules;
pub(crate) mod values;
mod xml;

use std::collections::HashSet;

use quick_xml::events::{BytesRef, BytesStart, Event};

use crate::MarkupError;
use crate::script::{Item, Record, Script, SourceKind, Span, Tag, number};
use emotion::Emotion;
pub use pls::read_pls;
pub use pls_word::{new_pls, with_word};
use rules::Content;
use values::Version;
use xml::{Events, Given, Namespaces};

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
struct OpenElement<'s> {
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
    elements: Vec<Record>,
    attributes: Vec<(&'static str, Span)>,
    spelt: String,
    /// What a name without a prefix belongs to, as long as nothing is declared.
    unprefixed: Option<Space>,
    /// Whether the text contains ']'.
    brackets: bool,
    open: Vec<OpenElement<'s>>,
    namespaces: Namespaces,
    /// Depth of the elements whose content is skipped.
    skipped: usize,
    /// Emotions that are open, the innermost last.
    emotions: Vec<Emotion>,
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
pub fn read_ssml(source: &str) -> Result<Script<'_>, MarkupError> {
    let mut events = Events::of(source, "document")?;
    let source = events.source();
    let mut builder = Builder::new(source);
    loop {
        let event = events.next()?;
        let at = events.at();
        match event {
            Event::Start(start) => builder.start(&start, at, false)?,
            Event::Empty(start) => builder.start(&start, at, true)?,
            Event::End(_) => builder.end(),
            Event::Text(text) => builder.text(&text, at)?,
            Event::CData(text) => builder.raw(&text, at + "<![CDATA[".len())?,
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
            // As many as a dense document has, so that none of them moves.
            items: Vec::with_capacity(source.len() / 9),
            elements: Vec::with_capacity(source.len() / 36),
            attributes: Vec::with_capacity(source.len() / 80),
            spelt: String::new(),
            unprefixed: None,
            brackets: memchr::memchr(b']', source.as_bytes()).is_some(),
            given: Vec::new(),
            open: Vec::new(),
            namespaces: Namespaces::default(),
            skipped: 0,
            emotions: Vec::new(),
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

    #[cold]
    fn fault<T>(&self, at: usize, message: impl std::fmt::Display) -> Result<T, MarkupError> {
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
            return self
                .fault(at, format_args!("<{qualified}> stands behind the end of the document; there is one root"));
        }
        // Most are SSML's own as they stand.
        let mut named = Tag::named(qualified, self.version);
        let mut prefix = None;
        if named.is_none() {
            if !values::is_qualified_name(qualified) {
                return self.fault(at, format_args!("'{qualified}' is not a name"));
            }
            prefix = values::prefix_of(qualified);
        }
        let local = prefix.map_or(qualified, |end| &qualified[end + 1..]);
        if prefix.is_some() {
            named = Tag::named(local, self.version);
        }
        self.tags += 1;
        if self.tags > MAX_ELEMENTS || self.open.len() >= MAX_DEPTH {
            return self
                .fault(at, format_args!("more than {MAX_ELEMENTS} elements, or {MAX_DEPTH} within one another"));
        }
        let bindings = self.namespaces.len();
        let mut attributes = std::mem::take(&mut self.given);
        if start.len() > qualified.len() {
            xml::attributes(start, self.source, at, &mut self.namespaces, &mut attributes)?;
            for given in &attributes {
                if !self.namespaces.knows_prefix(given.name) {
                    return self.fault(at, format_args!("the prefix of the attribute {} is not declared", given.name));
                }
            }
        }
        if self.namespaces.len() != bindings {
            self.unprefixed = None;
        }
        let space = match (prefix, self.unprefixed) {
            (None, Some(space)) => space,
            _ => self.space(qualified, at)?,
        };
        let of_emotion = space == Space::Emotion
            && local != "emotion"
            && self.open.last().is_some_and(|parent| parent.tag == Tag::Emotion);
        let item = if of_emotion {
            self.emotion_part(local, &attributes, at)?;
            None
        } else if self.skipped > 0 {
            None
        } else {
            if self.open.is_empty() {
                self.root(local, qualified, &attributes, at)?;
            }
            // The root has said which version it is.
            let named = if self.open.is_empty() { Tag::named(local, self.version) } else { named };
            Some(self.element(named, qualified, local, space, &mut attributes, at)?)
        };
        attributes.clear();
        self.given = attributes;
        let tag = item.and_then(|item| self.elements.get(item)).map_or(Tag::Foreign, |element| element.tag);
        let passed_over = self.skipped > 0 || matches!(tag.content(), Content::Any);
        self.skipped += usize::from(passed_over);
        self.open.push(OpenElement { tag, name: &self.source[at + 1..at + 1 + qualified.len()], item, bindings });
        if empty {
            self.end();
        }
        Ok(())
    }

    /// What an element belongs to.
    fn space(&mut self, qualified: &str, at: usize) -> Result<Space, MarkupError> {
        let Some(namespace) = self.namespaces.of_element(qualified) else {
            return self.fault(at, format_args!("the prefix of <{qualified}> is not declared; add xmlns:…=\"…\""));
        };
        let space = Space::of(namespace);
        if values::prefix_of(qualified).is_none() {
            self.unprefixed = Some(space);
        }
        Ok(space)
    }

    /// A child of `emotion` that describes the emotion.
    fn emotion_part(&mut self, local: &str, given: &[Given<'_>], at: usize) -> Result<(), MarkupError> {
        match self.emotions.last_mut() {
            Some(emotion) => emotion.part(local, given).map_err(|fault| MarkupError::at(self.source, at, fault)),
            None => Ok(()),
        }
    }

    /// An element that is read; gives its number.
    fn element(
        &mut self,
        named: Option<Tag>,
        qualified: &str,
        local: &str,
        space: Space,
        given: &mut Vec<Given<'s>>,
        at: usize,
    ) -> Result<usize, MarkupError> {
        let root = self.open.is_empty();
        // A document without any namespace is taken for SSML.
        let prefixed = local.len() < qualified.len();
        let ours = space == Space::Ssml || (space == Space::None && !prefixed);
        let tag = match (ours, space == Space::Emotion && local == "emotion") {
            (true, _) => named,
            (false, true) => Some(Tag::Emotion),
            (false, false) if space == Space::Own && local == "overlap" => Some(Tag::Overlap),
            (false, false) => Some(Tag::Foreign),
        };
        let Some(tag) = tag else {
            let version = if self.version == Version::One { "1.0" } else { "1.1" };
            return self.fault(at, format_args!("<{qualified}> is not an element of SSML {version}"));
        };
        if tag == Tag::Speak && !root {
            return self.fault(at, "<speak> stands inside of <speak>; there is one root");
        }
        self.placed(tag, qualified, at)?;
        let first = self.attributes.len();
        match tag {
            Tag::Emotion => {
                self.emotions.push(Emotion::begin(given).map_err(|fault| MarkupError::at(self.source, at, fault))?);
            }
            Tag::Foreign => {}
            _ => self.checked(tag, qualified, given, at)?,
        }
        let attributes = Span::new(first, self.attributes.len());
        if !attributes.range().is_empty() || matches!(tag, Tag::Prosody | Tag::Meta) {
            self.meant(tag, first, at)?;
        }
        let item = self.elements.len();
        // SSML's own are known by their names: `w` for `token` is shorter.
        let renamed = if ours { prefixed || local.len() != tag.name().len() } else { qualified != tag.name() };
        self.items.push(Item::open(number(item)));
        self.elements.push(Record { tag, renamed, at: number(at), attributes, end: 0 });
        Ok(item)
    }

    #[cold]
    fn end(&mut self) {
        // The tokenizer has checked that the name matches.
        let Some(open) = self.open.pop() else { return };
        self.skipped = self.skipped.saturating_sub(1);
        if self.namespaces.len() != open.bindings {
            self.namespaces.truncate(open.bindings);
            self.unprefixed = None;
        }
        if let Some(item) = open.item {
            let end = self.items.len();
            let emotion = if open.tag == Tag::Emotion { self.emotions.pop() } else { None };
            if let Some(element) = self.elements.get_mut(item) {
                element.end = number(end);
            }
            if let Some(emotion) = emotion {
                self.felt(item, emotion);
            }
            self.items.push(Item::close());
        }
        self.closed = self.open.is_empty();
    }

    /// The content of an `emotion` becomes its attributes.
    fn felt(&mut self, item: usize, emotion: Emotion) {
        let first = self.attributes.len();
        for (name, value) in emotion.attributes() {
            let value = self.spell(&value);
            self.attributes.push((name, value));
        }
        if let Some(element) = self.elements.get_mut(item) {
            element.attributes = Span::new(first, self.attributes.len());
        }
    }

    /// Text as written in the source.
    fn text(&mut self, text: &str, at: usize) -> Result<(), MarkupError> {
        if let Some(offset) = self.brackets.then(|| text.find("]]>")).flatten() {
            return self.fault(at + offset, "']]>' is not allowed in text");
        }
        self.raw(text, at)
    }

    fn raw(&mut self, text: &str, at: usize) -> Result<(), MarkupError> {
        let blank = text.bytes().all(|byte| byte.is_ascii_whitespace());
        if self.takes_text(blank, at)? {
            self.spoken |= !blank;
            self.items.push(Item::text(Span::new(at, at + text.len())));
        }
        Ok(())
    }

    /// Whether text is read at the current position.
    fn takes_text(&mut self, blank: bool, at: usize) -> Result<bool, MarkupError> {
        let Some(open) = self.open.last() else {
            return if blank { Ok(false) } else { self.fault(at, "text stands outside <speak>") };
        };
        if self.skipped > 0 {
            return Ok(false);
        }
        match open.tag.content() {
            Content::Empty if !blank => {
                self.fault(at, format_args!("<{}> is empty; text stands inside of it", open.name))
            }
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
            return self.fault(at, format_args!("the entity &{name}; is not known; &amp; &lt; &gt; &quot; &apos; are"));
        };
        let blank = said.is_ascii_whitespace();
        if self.takes_text(blank, at)? {
            self.spoken |= !blank;
            self.items.push(Item::said(said));
        }
        Ok(())
    }

    fn finish(mut self) -> Result<Script<'s>, MarkupError> {
        if let Some(open) = self.open.last() {
            return self.fault(self.source.len(), format_args!("<{}> is never closed", open.name));
        }
        if !self.closed {
            return self.fault(0, "there is no <speak>");
        }
        for (key, name) in std::mem::take(&mut self.wanted_marks) {
            if !self.marks.contains(&name) {
                return self.fault(0, format_args!("{key}=\"{name}\" is the name of no <mark>"));
            }
        }
        if !self.spoken {
            return self.fault(0, "there is no text to speak");
        }
        let script = Script {
            source: self.source,
            items: self.items,
            elements: self.elements,
            attributes: self.attributes,
            spelt: self.spelt,
            kind: SourceKind::Markup,
            language: self.language,
            notes: self.notes,
        };
        lengths::check(&script)?;
        Ok(script)
    }
}

#[cfg(test)]
mod tests;
