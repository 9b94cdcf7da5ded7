//! Metadata of audio: title, track, language, engine, voice, date, and whether
//! it is synthetic. One form here; each container has its own way of carrying it.
//!
//! What does not live here: WebM's tags, which are elements ([`crate::container::webm`]).

pub(crate) mod id3;
pub(crate) mod provenance;
pub(crate) mod riff;
pub(crate) mod vorbis;

use serde::Serialize;

/// Who made it.
pub(crate) const VENDOR: &str = "Dispatcher";
/// Longer values are cut when they are written, and when they are read.
const MAX_VALUE: usize = 500;
/// Maximum number of bytes of tags that are read; pictures after them are skipped.
pub(crate) const MAX_TAG_BYTES: usize = 64 << 10;

/// What a file says of itself. Empty members are neither written nor read.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize)]
pub struct Tags {
    /// What the recording is called.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub title: Option<String>,
    /// Its place among several files, such as `3/12`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub track: Option<String>,
    /// A language tag (RFC 5646).
    #[serde(skip_serializing_if = "Option::is_none")]
    pub language: Option<String>,
    /// The engine that spoke.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub engine: Option<String>,
    /// Its voice.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub voice: Option<String>,
    /// A day or a moment (RFC 3339).
    #[serde(skip_serializing_if = "Option::is_none")]
    pub date: Option<String>,
    /// Nobody spoke this: a machine did.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub synthetic: bool,
    /// The signature of the file: see [`crate::put_provenance`]. It is of this very
    /// file, and must not go into one that is made of it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub provenance: Option<String>,
}

/// The members by the names that free-form tags give them.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Field {
    Title,
    Track,
    Language,
    Engine,
    Voice,
    Date,
    Synthetic,
    Provenance,
}

impl Field {
    /// The signature comes last: see [`provenance`].
    pub(crate) const ALL: [Field; 8] = [
        Field::Title,
        Field::Track,
        Field::Language,
        Field::Engine,
        Field::Voice,
        Field::Date,
        Field::Synthetic,
        Field::Provenance,
    ];

    pub(crate) fn name(self) -> &'static str {
        match self {
            Field::Title => "TITLE",
            Field::Track => "TRACKNUMBER",
            Field::Language => "LANGUAGE",
            Field::Engine => "ENGINE",
            Field::Voice => "VOICE",
            Field::Date => "DATE",
            Field::Synthetic => "SYNTHETIC_SPEECH",
            Field::Provenance => "PROVENANCE",
        }
    }

    pub(crate) fn named(name: &str) -> Option<Field> {
        Field::ALL.into_iter().find(|field| field.name().eq_ignore_ascii_case(name))
    }
}

/// One line of text, cut to what is carried.
fn tidy(value: &str) -> String {
    let line: String = value.chars().map(|c| if c.is_control() { ' ' } else { c }).take(MAX_VALUE).collect();
    line.trim().to_owned()
}

impl Tags {
    /// Whether there is nothing to say.
    pub fn is_empty(&self) -> bool {
        *self == Tags::default()
    }

    fn text(&mut self, field: Field) -> Option<&mut Option<String>> {
        match field {
            Field::Title => Some(&mut self.title),
            Field::Track => Some(&mut self.track),
            Field::Language => Some(&mut self.language),
            Field::Engine => Some(&mut self.engine),
            Field::Voice => Some(&mut self.voice),
            Field::Date => Some(&mut self.date),
            Field::Provenance => Some(&mut self.provenance),
            Field::Synthetic => None,
        }
    }

    /// Takes what was read; the first of several values stays.
    pub(crate) fn set(&mut self, field: Field, value: &str) {
        let value = tidy(value);
        match self.text(field) {
            None => self.synthetic |= value == "1",
            Some(kept) => {
                if kept.is_none() && !value.is_empty() {
                    *kept = Some(value);
                }
            }
        }
    }

    /// Takes from another what is missing here.
    pub(crate) fn merge(&mut self, other: &Tags) {
        other.fields().iter().for_each(|(field, value)| self.set(*field, value));
    }

    /// What is to be written, in the order of the members.
    pub(crate) fn fields(&self) -> Vec<(Field, String)> {
        let synthetic = self.synthetic.then(|| "1".to_owned());
        let Tags { title, track, language, engine, voice, date, provenance, .. } = self;
        let values = [title, track, language, engine, voice, date, &synthetic, provenance];
        let named = Field::ALL.into_iter().zip(values);
        named.filter_map(|(field, value)| Some((field, tidy(value.as_ref()?)))).filter(|(_, v)| !v.is_empty()).collect()
    }
}

#[cfg(test)]
pub(crate) fn sample() -> Tags {
    Tags {
        title: Some("Partida às 06:15 – ilha de Gullsay".into()),
        track: Some("3/12".into()),
        language: Some("pt-PT".into()),
        engine: Some("heron".into()),
        voice: Some("heron/marisol".into()),
        date: Some("2026-11-25T14:40:00Z".into()),
        synthetic: true,
        provenance: Some(provenance::UNSIGNED.into()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_are_one_line_of_bounded_length() {
        let mut tags = Tags::default();
        tags.set(Field::Title, &format!("two\nlines {}", "x".repeat(9_000)));
        tags.set(Field::Title, "a second title");
        let title = tags.title.clone().unwrap_or_default();
        assert!(title.starts_with("two lines xxx") && title.len() == 500, "{title}");
        tags.set(Field::Synthetic, "0");
        assert!(!tags.synthetic);
        assert_eq!(tags.fields().len(), 1, "empty members are not written");
    }
}
