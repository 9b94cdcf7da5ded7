//! Where an element may stand.

use super::*;

impl Builder<'_> {
    pub(super) fn root(
        &mut self,
        local: &str,
        qualified: &str,
        given: &[Given<'_>],
        at: usize,
    ) -> Result<(), MarkupError> {
        let namespace = self.namespaces.of_element(qualified).unwrap_or_default();
        if local != "speak" {
            return self.fault(at, format_args!("the root of SSML is <speak>, not <{local}>"));
        }
        if namespace.is_empty() {
            self.notes.push(format!("the document declares no namespace; SSML's is xmlns=\"{SSML}\""));
        } else if namespace != SSML {
            return self.fault(at, format_args!("the namespace of <speak> is {SSML}, not {namespace}"));
        }
        let get = |name: &str| given.iter().find(|one| one.name == name).map(|one| &*one.value);
        self.version = match get("version") {
            Some("1.1") => Version::OneOne,
            Some("1.0") => Version::One,
            Some(other) => {
                return self.fault(at, format_args!("version '{other}' of SSML is not known; 1.0 and 1.1 are"));
            }
            None => {
                self.notes.push("<speak> has no version and is read as SSML 1.1; add version=\"1.1\"".into());
                Version::OneOne
            }
        };
        self.language = get("xml:lang").filter(|tag| !tag.is_empty()).map(str::to_owned);
        if self.language.is_none() {
            self.notes.push("<speak> names no language; add xml:lang".into());
        }
        Ok(())
    }

    /// Whether the element is allowed at its position.
    pub(super) fn placed(&mut self, tag: Tag, qualified: &str, at: usize) -> Result<(), MarkupError> {
        let Some(parent) = self.open.last() else { return Ok(()) };
        if matches!(tag, Tag::Foreign | Tag::Emotion | Tag::Overlap) {
            return match parent.tag.content() {
                Content::Empty => {
                    self.fault(at, format_args!("<{}> is empty; <{qualified}> stands inside of it", parent.name))
                }
                _ => Ok(()),
            };
        }
        match parent.tag.content() {
            Content::Any => {}
            Content::Mixed(allowed) if allowed.contains(&tag) => {}
            content => return self.misplaced(parent.name, content, qualified, at),
        }
        let head = matches!(tag, Tag::Meta | Tag::Metadata | Tag::Lexicon);
        if head && self.body {
            return self.fault(
                at,
                format_args!("<{qualified}> stands at the head of <speak>, before any text and other elements"),
            );
        }
        self.body |= !head;
        Ok(())
    }

    pub(super) fn misplaced(
        &self,
        parent: &str,
        content: Content,
        qualified: &str,
        at: usize,
    ) -> Result<(), MarkupError> {
        match content {
            Content::Mixed(allowed) => {
                let names = allowed.iter().map(|tag| tag.name()).collect::<Vec<_>>().join(", ");
                self.fault(at, format_args!("<{qualified}> may not stand in <{parent}>, which takes text and {names}"))
            }
            Content::Text => self.fault(at, format_args!("<{parent}> takes text alone, and no <{qualified}>")),
            _ => self.fault(at, format_args!("<{parent}> is empty; <{qualified}> stands inside of it")),
        }
    }
}
