//! What became of each element of a script.

use serde::ser::SerializeStruct;
use serde::{Serialize, Serializer};

use crate::script::{Element, Tag, number};

/// What was done with an element.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Outcome {
    /// The engine took it as it was.
    Native,
    /// It was said in another way that means the same.
    Rewritten,
    /// The gateway did it in its own audio code.
    Emulated,
    /// Its text is spoken without what it asked for.
    Plain,
    /// Nothing of it is left.
    Omitted,
}

impl Outcome {
    /// The word for it.
    pub fn name(self) -> &'static str {
        match self {
            Outcome::Native => "native",
            Outcome::Rewritten => "rewritten",
            Outcome::Emulated => "emulated",
            Outcome::Plain => "plain",
            Outcome::Omitted => "omitted",
        }
    }
}

/// One element, its place in the source, and what became of it. A long script
/// has many: most have no memory of their own.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Fidelity {
    /// From 1; 0 for a member of the request that is no element.
    pub line: u32,
    /// From 1, in characters.
    pub column: u32,
    /// What became of it.
    pub outcome: Outcome,
    /// What it is, where it has no name of its own.
    tag: Tag,
    told: Option<Box<Told>>,
}

/// What few entries have.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
struct Told {
    element: Option<Box<str>>,
    note: Option<Box<str>>,
}

impl Fidelity {
    /// What became of something that is no element.
    pub fn of_member(name: &str, outcome: Outcome) -> Fidelity {
        let told = Told { element: Some(name.into()), note: None };
        Fidelity { line: 0, column: 0, outcome, tag: Tag::Foreign, told: Some(Box::new(told)) }
    }

    /// An element at its place, taken as it was so far.
    pub(crate) fn of(element: Element<'_>, (line, column): (usize, usize)) -> Fidelity {
        let named = element.renamed().map(|name| Box::new(Told { element: Some(name.into()), note: None }));
        let (line, column) = (number(line), number(column));
        Fidelity { line, column, outcome: Outcome::Native, tag: element.tag(), told: named }
    }

    /// The name of the element, without a prefix; or of the member.
    pub fn element(&self) -> &str {
        let named = self.told.as_ref().and_then(|told| told.element.as_deref());
        named.unwrap_or(self.tag.name())
    }

    /// Why, where that is not plain.
    pub fn note(&self) -> Option<&str> {
        self.told.as_ref()?.note.as_deref()
    }

    /// Says why, where nothing was said yet.
    #[must_use]
    pub fn with_note(mut self, note: impl Into<Box<str>>) -> Fidelity {
        self.tell(note);
        self
    }

    pub(crate) fn tell(&mut self, note: impl Into<Box<str>>) {
        self.told.get_or_insert_default().note.get_or_insert_with(|| note.into());
    }
}

impl Serialize for Fidelity {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let placed = self.line > 0;
        let fields = 2 + 2 * usize::from(placed) + usize::from(self.note().is_some());
        let mut entry = serializer.serialize_struct("Fidelity", fields)?;
        entry.serialize_field("element", self.element())?;
        if placed {
            entry.serialize_field("line", &self.line)?;
            entry.serialize_field("column", &self.column)?;
        }
        entry.serialize_field("outcome", &self.outcome)?;
        if let Some(note) = self.note() {
            entry.serialize_field("note", note)?;
        }
        entry.end()
    }
}
