//! Lexicons and clips.

use dispatcher_gateway::{DocumentVersion, StoredClip, StoredLexicon};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::rfc3339;

/// A lexicon.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct LexiconAnswer {
    pub(crate) name: String,
    pub(crate) version: i64,
    /// App that may use it; null for all apps.
    pub(crate) app: Option<String>,
    /// Whether it is used for all text in its language.
    pub(crate) always: bool,
    /// Of its words.
    #[schema(example = "en-GB")]
    pub(crate) language: String,
    /// Number of lexemes.
    pub(crate) lexemes: usize,
    /// Some of its graphemes, in order.
    pub(crate) examples: Vec<String>,
    pub(crate) by: String,
    pub(crate) at: String,
}

/// A word for a lexicon.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct LexiconWordRequest {
    /// The word as it is written.
    pub(crate) grapheme: String,
    /// Words that are pronounced as it should be.
    pub(crate) alias: Option<String>,
    /// Pronunciation, in place of an alias.
    pub(crate) phoneme: Option<String>,
    /// Alphabet of the phoneme (default: `ipa`).
    pub(crate) alphabet: Option<String>,
    /// BCP 47 tag of a lexicon that does not exist yet.
    pub(crate) language: Option<String>,
}

/// Words in a list.
const EXAMPLES: usize = 5;

impl From<&StoredLexicon> for LexiconAnswer {
    fn from(stored: &StoredLexicon) -> Self {
        let words = stored.lexicon.lexemes().iter().filter_map(|lexeme| lexeme.graphemes.first());
        LexiconAnswer {
            name: stored.name.clone(),
            version: stored.version,
            app: stored.app.clone(),
            always: stored.always,
            language: stored.lexicon.language.clone(),
            lexemes: stored.lexicon.lexemes().len(),
            examples: words.take(EXAMPLES).cloned().collect(),
            by: stored.by.clone(),
            at: rfc3339(stored.at),
        }
    }
}

/// One version of a record.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct Version {
    pub(crate) version: i64,
    pub(crate) by: String,
    pub(crate) at: String,
    pub(crate) retired: bool,
}

impl From<DocumentVersion> for Version {
    fn from(row: DocumentVersion) -> Self {
        let retired = row.retired_at.is_some();
        Version { version: row.version, by: row.origin.name().to_owned(), at: rfc3339(row.created_at), retired }
    }
}

/// Audio that scripts insert.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct ClipAnswer {
    pub(crate) id: String,
    /// For `src` of SSML's `audio`.
    #[schema(example = "clip:5d41402abc4b2a76b9719d91")]
    pub(crate) src: String,
    pub(crate) title: String,
    #[serde(rename = "type")]
    pub(crate) kind: String,
    pub(crate) bytes: i64,
    /// Seconds.
    pub(crate) duration: f64,
    pub(crate) app: String,
    pub(crate) by: String,
    pub(crate) at: String,
    /// Faults in the audio that was sent; only when the clip is added.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub(crate) warnings: Vec<String>,
}

impl From<StoredClip> for ClipAnswer {
    fn from(row: StoredClip) -> Self {
        ClipAnswer {
            src: format!("clip:{}", row.id),
            id: row.id,
            title: row.title,
            kind: row.media_type,
            bytes: row.bytes,
            duration: row.audio_ms as f64 / 1_000.0,
            app: row.app,
            by: row.created_by,
            at: rfc3339(row.created_at),
            warnings: Vec::new(),
        }
    }
}
