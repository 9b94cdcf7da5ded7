//! The attributes of an element: known, of their forms, none missing, and what
//! SSML 1.1 asks of them beyond that.

use std::borrow::Cow;

use super::rules::{self, COMMON};
use super::values::Form;
use super::xml::Given;
use super::{Builder, Span, Tag};
use crate::MarkupError;

const PROSODY: [&str; 6] = ["pitch", "contour", "range", "rate", "duration", "volume"];

impl<'s> Builder<'s> {
    /// Takes in the attributes, each known, of its form and none missing.
    pub(super) fn checked(
        &mut self,
        tag: Tag,
        qualified: &str,
        given: &mut Vec<Given<'s>>,
        at: usize,
    ) -> Result<(), MarkupError> {
        let rules = tag.attributes(self.version);
        let first = self.attributes.len();
        for one in given.drain(..) {
            let rule = rules.iter().chain(COMMON).find(|rule| rule.name == one.name);
            let Some(rule) = rule else {
                let foreign = one.name.contains(':') && !one.name.starts_with("xml:");
                if foreign || one.name == "xml:space" {
                    continue;
                }
                let names: Vec<&str> = rules.iter().map(|rule| rule.name).collect();
                let takes = if names.is_empty() { "none".into() } else { names.join(", ") };
                return self
                    .fault(one.at, format_args!("{} is no attribute of <{qualified}>; it takes {takes}", one.name));
            };
            if !rule.form.holds(&one.value, self.version) {
                let expected = rule.form.expected(self.version);
                return self.fault(
                    one.at,
                    format_args!("{}=\"{}\" in <{qualified}>: expected {expected}", one.name, one.value),
                );
            }
            let prefixed = |name: &str| name.contains(':') && !self.namespaces.knows_prefix(name);
            if rule.form == Form::Roles && one.value.split_ascii_whitespace().any(prefixed) {
                return self.fault(one.at, format_args!("{}=\"{}\": the prefix is not declared", one.name, one.value));
            }
            let value = match one.value {
                Cow::Borrowed(value) => Span::new(one.value_at, one.value_at + value.len()),
                Cow::Owned(value) => self.spell(&value),
            };
            self.attributes.push((rule.name, value));
        }
        let has = |rule: &rules::Attribute| self.attributes[first..].iter().any(|(name, _)| *name == rule.name);
        match rules.iter().find(|rule| rule.required && !has(rule)) {
            Some(rule) => {
                let expected = rule.form.expected(self.version);
                self.fault(at, format_args!("<{qualified}> needs {}: {expected}", rule.name))
            }
            None => Ok(()),
        }
    }

    /// Keeps what is not as in the source.
    pub(super) fn spell(&mut self, value: &str) -> Span {
        let at = self.source.len() + self.spelt.len();
        self.spelt.push_str(value);
        Span::new(at, at + value.len())
    }

    /// The value of an attribute of the element at hand, whose attributes
    /// begin at `first`.
    pub(super) fn value(&self, first: usize, name: &str) -> Option<&str> {
        let (_, span) = self.attributes[first..].iter().find(|(key, _)| *key == name)?;
        Some(span.of(self.source, &self.spelt))
    }

    /// What the recommendation asks beyond forms.
    pub(super) fn meant(&mut self, tag: Tag, first: usize, at: usize) -> Result<(), MarkupError> {
        let get = |name: &str| self.value(first, name);
        let owned = |name: &str| get(name).map(str::to_owned);
        let said = |name: &str| get(name).is_some_and(|value| !value.trim().is_empty());
        match tag {
            Tag::Prosody if PROSODY.iter().all(|name| get(name).is_none()) => {
                return self
                    .fault(at, format_args!("<prosody> asks for nothing; it needs one of {}", PROSODY.join(", ")));
            }
            Tag::Meta if get("name").is_some() == get("http-equiv").is_some() => {
                return self.fault(at, "<meta> needs either name or http-equiv");
            }
            Tag::Lexicon => self.lexicons.extend(owned("xml:id")),
            Tag::Lookup => match get("ref") {
                Some(name) if !self.lexicons.contains(name) => {
                    return self.fault(at, format_args!("ref=\"{name}\" is the xml:id of no <lexicon>"));
                }
                _ => {}
            },
            Tag::Mark => self.marks.extend(owned("name")),
            Tag::Speak => {
                let wanted = ["startmark", "endmark"].map(|key| owned(key).map(|value| (key, value)));
                self.wanted_marks.extend(wanted.into_iter().flatten());
            }
            Tag::Audio => self.spoken |= get("src").is_some(),
            Tag::Sub => self.spoken |= said("alias"),
            Tag::Phoneme => self.spoken |= said("ph"),
            _ => {}
        }
        match self.value(first, "xml:id").map(str::to_owned) {
            Some(id) if self.ids.contains(&id) => {
                self.fault(at, format_args!("xml:id=\"{id}\" stands twice; it is unique in a document"))
            }
            id => {
                self.ids.extend(id);
                Ok(())
            }
        }
    }
}
