//! PLS 1.0 (W3C Recommendation of 14 October 2008) to a lexicon.

use quick_xml::events::{BytesRef, BytesStart, Event};

use super::xml::{self, Events, Given, Namespaces};
use super::{MAX_DEPTH, values};
use crate::MarkupError;
use crate::lexicon::{Lexeme, Lexicon, Pronunciation};

pub(crate) const PLS: &str = "http://www.w3.org/2005/01/pronunciation-lexicon";
/// Lexemes in one lexicon.
const MAX_LEXEMES: usize = 50_000;

/// An element of PLS that is open.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum LexiconElement {
    Lexicon,
    Lexeme,
    Grapheme,
    Phoneme,
    Alias,
    Example,
    Meta,
    /// Metadata and elements of other namespaces, with all that is in them.
    PassedOver,
}

impl LexiconElement {
    fn named(local: &str) -> Option<LexiconElement> {
        Some(match local {
            "lexicon" => LexiconElement::Lexicon,
            "lexeme" => LexiconElement::Lexeme,
            "grapheme" => LexiconElement::Grapheme,
            "phoneme" => LexiconElement::Phoneme,
            "alias" => LexiconElement::Alias,
            "example" => LexiconElement::Example,
            "meta" => LexiconElement::Meta,
            "metadata" => LexiconElement::PassedOver,
            _ => return None,
        })
    }

    /// Whether it takes the other inside of it (sections 4.1 to 4.9).
    fn holds(self, other: LexiconElement) -> bool {
        match self {
            LexiconElement::Lexicon => {
                matches!(other, LexiconElement::Lexeme | LexiconElement::Meta | LexiconElement::PassedOver)
            }
            LexiconElement::Lexeme => {
                matches!(
                    other,
                    LexiconElement::Grapheme
                        | LexiconElement::Phoneme
                        | LexiconElement::Alias
                        | LexiconElement::Example
                        | LexiconElement::PassedOver
                )
            }
            LexiconElement::PassedOver => true,
            _ => false,
        }
    }

    fn takes(self) -> &'static [&'static str] {
        match self {
            LexiconElement::Lexicon => &["version", "alphabet", "xml:lang", "xml:base"],
            LexiconElement::Lexeme => &["role", "xml:id"],
            LexiconElement::Grapheme | LexiconElement::Example | LexiconElement::PassedOver => &[],
            LexiconElement::Phoneme => &["prefer", "alphabet"],
            LexiconElement::Alias => &["prefer"],
            LexiconElement::Meta => &["name", "http-equiv", "content"],
        }
    }
}

/// A lexeme being read.
#[derive(Default)]
struct Draft {
    at: usize,
    graphemes: Vec<String>,
    roles: Vec<String>,
    /// Preferred or not.
    pronunciations: Vec<(bool, Pronunciation)>,
}

struct Builder<'s> {
    source: &'s str,
    namespaces: Namespaces,
    open: Vec<(LexiconElement, usize)>,
    closed: bool,
    language: String,
    alphabet: String,
    lexemes: Vec<Lexeme>,
    draft: Draft,
    /// Of the phoneme or alias that is open.
    preferred: bool,
    own_alphabet: Option<String>,
    text: String,
}

/// Reads a PLS document.
///
/// # Errors
/// The first fault, with line and column and what was expected.
pub fn read_pls(source: &str) -> Result<Lexicon, MarkupError> {
    let mut events = Events::of(source, "lexicon")?;
    let source = events.source();
    let mut builder = Builder {
        source,
        namespaces: Namespaces::default(),
        open: Vec::new(),
        closed: false,
        language: String::new(),
        alphabet: String::new(),
        lexemes: Vec::new(),
        draft: Draft::default(),
        preferred: false,
        own_alphabet: None,
        text: String::new(),
    };
    loop {
        let event = events.next()?;
        let at = events.at();
        match event {
            Event::Start(start) => builder.start(&start, at)?,
            Event::Empty(start) => {
                builder.start(&start, at)?;
                builder.end(at)?;
            }
            Event::End(_) => builder.end(at)?,
            Event::Text(text) => builder.text(&source[at..at + text.len()], at)?,
            Event::CData(text) => {
                let at = at + "<![CDATA[".len();
                builder.text(&source[at..at + text.len()], at)?;
            }
            Event::GeneralRef(reference) => builder.reference(&reference, at)?,
            Event::DocType(doctype) => builder.doctype(&doctype, at)?,
            Event::Decl(_) if at > 0 => return builder.fault(at, "the XML declaration stands at the very beginning"),
            Event::Decl(_) | Event::PI(_) | Event::Comment(_) => {}
            Event::Eof => break,
        }
    }
    match (builder.open.is_empty(), builder.closed) {
        (true, true) => Ok(Lexicon::new(builder.language, builder.lexemes)),
        (true, false) => builder.fault(0, "there is no <lexicon>"),
        (false, _) => builder.fault(source.len(), "<lexicon> is never closed"),
    }
}

impl Builder<'_> {
    fn fault<T>(&self, at: usize, message: impl std::fmt::Display) -> Result<T, MarkupError> {
        Err(MarkupError::at(self.source, at, message))
    }

    fn doctype(&self, doctype: &str, at: usize) -> Result<(), MarkupError> {
        if doctype.contains('[') || !self.open.is_empty() || self.closed {
            return self.fault(at, "a document type that declares something is not taken; leave out what is in []");
        }
        Ok(())
    }

    fn start(&mut self, start: &BytesStart<'_>, at: usize) -> Result<(), MarkupError> {
        let name = start.name();
        let qualified = name.as_ref();
        if self.closed {
            return self
                .fault(at, format_args!("<{qualified}> stands behind the end of the lexicon; there is one root"));
        }
        if !values::is_qualified_name(qualified) {
            return self.fault(at, format_args!("'{qualified}' is not a name"));
        }
        if self.open.len() >= MAX_DEPTH {
            return self.fault(at, format_args!("more than {MAX_DEPTH} elements within one another"));
        }
        let bindings = self.namespaces.len();
        let mut given = Vec::new();
        xml::attributes(start, self.source, at, &mut self.namespaces, &mut given)?;
        let Some(namespace) = self.namespaces.of_element(qualified) else {
            return self.fault(at, format_args!("the prefix of <{qualified}> is not declared; add xmlns:…=\"…\""));
        };
        let local = qualified.rsplit_once(':').map_or(qualified, |(_, local)| local);
        // A document without any namespace is taken for PLS.
        let ours = namespace == PLS || (namespace.is_empty() && !qualified.contains(':'));
        let part = match (self.open.last(), ours) {
            (Some((LexiconElement::PassedOver, _)), _) => LexiconElement::PassedOver,
            (None, false) => {
                return self.fault(at, format_args!("the root of a lexicon is <lexicon> of the namespace {PLS}"));
            }
            (Some(_), false) => LexiconElement::PassedOver,
            (_, true) => match LexiconElement::named(local) {
                Some(part) => part,
                None => return self.fault(at, format_args!("<{qualified}> is not an element of PLS 1.0")),
            },
        };
        self.placed(part, qualified, at)?;
        if part != LexiconElement::PassedOver {
            self.begin(part, qualified, &given, at)?;
        }
        self.open.push((part, bindings));
        Ok(())
    }

    fn placed(&self, part: LexiconElement, qualified: &str, at: usize) -> Result<(), MarkupError> {
        match self.open.last() {
            None if part == LexiconElement::Lexicon => Ok(()),
            None => self.fault(at, format_args!("the root of a lexicon is <lexicon>, not <{qualified}>")),
            Some((parent, _)) if parent.holds(part) => Ok(()),
            Some((LexiconElement::Lexicon | LexiconElement::Lexeme, _)) => self
                .fault(at, format_args!("<{qualified}> does not stand there; a lexeme holds grapheme, phoneme, alias")),
            Some(_) => self.fault(at, format_args!("<{qualified}> stands where text alone is taken")),
        }
    }

    /// An element's attributes, and what they mean.
    fn begin(
        &mut self,
        part: LexiconElement,
        qualified: &str,
        given: &[Given<'_>],
        at: usize,
    ) -> Result<(), MarkupError> {
        for one in given {
            let foreign = one.name.contains(':') && !one.name.starts_with("xml:");
            if !foreign && one.name != "xml:space" && !part.takes().contains(&one.name) {
                let takes = if part.takes().is_empty() { "none".into() } else { part.takes().join(", ") };
                return self
                    .fault(one.at, format_args!("{} is no attribute of <{qualified}>; it takes {takes}", one.name));
            }
        }
        let get = |name: &str| given.iter().find(|one| one.name == name).map(|one| one.value.trim().to_owned());
        let alphabet = get("alphabet");
        if let Some(alphabet) = alphabet.as_ref().filter(|it| it.is_empty() || it.contains(char::is_whitespace)) {
            return self
                .fault(at, format_args!("alphabet=\"{alphabet}\": expected ipa, or a name such as x-saltmarsh"));
        }
        self.text.clear();
        match part {
            LexiconElement::Lexicon => self.root(get("version"), alphabet, get("xml:lang"), at),
            LexiconElement::Lexeme => {
                if self.lexemes.len() >= MAX_LEXEMES {
                    return self.fault(at, format_args!("more than {MAX_LEXEMES} lexemes"));
                }
                let roles = get("role").unwrap_or_default();
                let local = |role: &str| role.rsplit(':').next().unwrap_or_default().to_owned();
                let undeclared = |role: &&str| role.contains(':') && !self.namespaces.knows_prefix(role);
                if let Some(role) = roles.split_ascii_whitespace().find(undeclared) {
                    return self.fault(at, format_args!("role=\"{role}\": the prefix is not declared"));
                }
                self.draft =
                    Draft { at, roles: roles.split_ascii_whitespace().map(local).collect(), ..Draft::default() };
                Ok(())
            }
            LexiconElement::Phoneme | LexiconElement::Alias => {
                self.preferred = match get("prefer").as_deref() {
                    None | Some("false") => false,
                    Some("true") => true,
                    Some(other) => return self.fault(at, format_args!("prefer=\"{other}\": expected true or false")),
                };
                self.own_alphabet = alphabet;
                Ok(())
            }
            LexiconElement::Meta
                if get("content").is_none() || get("name").is_some() == get("http-equiv").is_some() =>
            {
                self.fault(at, "<meta> needs content, and either name or http-equiv")
            }
            _ => Ok(()),
        }
    }

    fn root(
        &mut self,
        version: Option<String>,
        alphabet: Option<String>,
        language: Option<String>,
        at: usize,
    ) -> Result<(), MarkupError> {
        match version.as_deref() {
            Some("1.0") => {}
            Some(other) => return self.fault(at, format_args!("version '{other}' of PLS is not known; 1.0 is")),
            None => return self.fault(at, "<lexicon> needs version=\"1.0\""),
        }
        let Some(alphabet) = alphabet else {
            return self.fault(at, "<lexicon> needs alphabet, such as alphabet=\"ipa\"");
        };
        match language.filter(|tag| !tag.is_empty() && values::is_language(tag)) {
            Some(language) => (self.language, self.alphabet) = (language, alphabet),
            None => return self.fault(at, "<lexicon> needs xml:lang, such as xml:lang=\"en-GB\""),
        }
        Ok(())
    }

    fn end(&mut self, at: usize) -> Result<(), MarkupError> {
        // The tokenizer has checked that the name matches.
        let Some((part, bindings)) = self.open.pop() else { return Ok(()) };
        self.namespaces.truncate(bindings);
        let words = || self.text.split_whitespace().collect::<Vec<_>>().join(" ");
        match part {
            LexiconElement::Grapheme | LexiconElement::Phoneme | LexiconElement::Alias => {
                let text = words();
                if text.is_empty() {
                    return self.fault(at, "a grapheme, phoneme or alias without text");
                }
                let alphabet = self.own_alphabet.take().unwrap_or_else(|| self.alphabet.clone());
                match part {
                    LexiconElement::Grapheme => self.draft.graphemes.push(text),
                    LexiconElement::Alias => {
                        self.draft.pronunciations.push((self.preferred, Pronunciation::Alias(text)))
                    }
                    _ => {
                        let phoneme = Pronunciation::Phoneme { symbols: text, alphabet };
                        self.draft.pronunciations.push((self.preferred, phoneme));
                    }
                }
            }
            LexiconElement::Lexeme => {
                let mut draft = std::mem::take(&mut self.draft);
                if draft.graphemes.is_empty() || draft.pronunciations.is_empty() {
                    return self.fault(draft.at, "<lexeme> needs a grapheme, and a phoneme or an alias");
                }
                // The first that is preferred, then as they stand (section 4.9.3).
                draft.pronunciations.sort_by_key(|(preferred, _)| !preferred);
                let pronunciations = draft.pronunciations.into_iter().map(|(_, one)| one).collect();
                self.lexemes.push(Lexeme { graphemes: draft.graphemes, roles: draft.roles, pronunciations });
            }
            _ => {}
        }
        self.text.clear();
        self.closed = self.open.is_empty();
        Ok(())
    }

    fn text(&mut self, text: &str, at: usize) -> Result<(), MarkupError> {
        match self.open.last() {
            Some((
                LexiconElement::Grapheme | LexiconElement::Phoneme | LexiconElement::Alias | LexiconElement::Example,
                _,
            )) => self.text.push_str(text),
            Some((LexiconElement::PassedOver, _)) => {}
            _ if text.trim_ascii().is_empty() => {}
            _ => return self.fault(at, "text stands where elements alone are taken"),
        }
        Ok(())
    }

    fn reference(&mut self, reference: &BytesRef<'_>, at: usize) -> Result<(), MarkupError> {
        match xml::resolved(reference) {
            Some(said) => self.text(said.encode_utf8(&mut [0; 4]), at),
            None => {
                let name: &str = reference;
                self.fault(at, format_args!("the entity &{name}; is not known; &amp; &lt; &gt; &quot; &apos; are"))
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn document(body: &str) -> String {
        format!(
            "<?xml version=\"1.0\"?>\n<lexicon version=\"1.0\" xmlns=\"{PLS}\" alphabet=\"ipa\" xml:lang=\"en-GB\">\n{body}\n</lexicon>"
        )
    }

    #[test]
    fn a_lexicon_is_read_with_its_preferences_and_roles() {
        let lexicon = read_pls(&document(
            "<meta name=\"author\" content=\"Harbour office\"/><metadata><x:y xmlns:x=\"urn:x\">no</x:y></metadata>
             <lexeme xmlns:r=\"urn:roles\" role=\"r:noun r:place\" xml:id=\"a\">
               <grapheme>Gullsay</grapheme><grapheme>Gull&#x27;s\n Ey</grapheme>
               <alias>Gull see</alias><phoneme prefer=\"true\">ˈɡʌlzeɪ</phoneme>
               <phoneme alphabet=\"x-harbour\">gul-zay</phoneme><example>To Gullsay.</example>
             </lexeme>",
        ))
        .expect("a lexicon");
        assert_eq!(lexicon.language, "en-GB");
        let [lexeme] = lexicon.lexemes() else { panic!("one lexeme") };
        assert_eq!(lexeme.graphemes, ["Gullsay", "Gull's Ey"]);
        assert_eq!(lexeme.roles, ["noun", "place"]);
        let phoneme = |symbols: &str, alphabet: &str| Pronunciation::Phoneme {
            symbols: symbols.into(),
            alphabet: alphabet.into(),
        };
        let said =
            [phoneme("ˈɡʌlzeɪ", "ipa"), Pronunciation::Alias("Gull see".into()), phoneme("gul-zay", "x-harbour")];
        assert_eq!(lexeme.pronunciations, said);
    }

    #[test]
    fn faults_are_told_at_their_place() {
        let lexeme = |inner: &str| document(&format!("<lexeme>{inner}</lexeme>"));
        for (source, line, told) in [
            (document("<word/>"), 3, "not an element of PLS"),
            (document("<grapheme>a</grapheme>"), 3, "does not stand there"),
            (lexeme("<grapheme>a</grapheme>"), 3, "needs a grapheme, and a phoneme or an alias"),
            (lexeme("<grapheme/><alias>b</alias>"), 3, "without text"),
            (lexeme("<grapheme>a<b/></grapheme><alias>b</alias>"), 3, "not an element"),
            (lexeme("<grapheme>a</grapheme><alias prefer=\"yes\">b</alias>"), 3, "expected true or false"),
            (lexeme("<grapheme>a</grapheme><alias>&harbour;</alias>"), 3, "&harbour; is not known"),
            (lexeme("<grapheme>a</grapheme>loose<alias>b</alias>"), 3, "text stands"),
            (document("").replace("version=\"1.0\" xmlns", "xmlns"), 2, "needs version"),
            (document("").replace(" alphabet=\"ipa\"", ""), 2, "needs alphabet"),
            (document("").replace(" xml:lang=\"en-GB\"", ""), 2, "needs xml:lang"),
            (document("").replace("</lexicon>", ""), 4, "never closed"),
            ("<speak/>".into(), 1, "not an element of PLS"),
            (String::new(), 1, "there is no <lexicon>"),
            (format!("<!DOCTYPE lexicon [<!ENTITY a \"b\">]>{}", &document("")[22..]), 1, "not taken"),
        ] {
            let error = read_pls(&source).expect_err(&source);
            assert!(error.message.contains(told), "{source}: {error}");
            assert_eq!(error.line, line, "{source}: {error}");
        }
    }
}
