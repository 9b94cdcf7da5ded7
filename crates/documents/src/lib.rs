//! Documents to be read aloud: their text in reading order, with headings.
//!
//! What lives here: plain text, Markdown, HTML, EPUB 3 and PDF, each into one
//! form ([`Document`]), and its parts by heading, line or length ([`split`]).
//! What does not: SSML (`dispatcher-markup`), files, sockets, and anything
//! that a document links to.

#![warn(missing_docs)]

mod epub;
mod error;
mod html;
mod markdown;
mod pdf;
mod plain;
mod split;

pub use error::{Damage, DocumentError};
pub use pdf::expects_panic;
pub use split::{DocumentPart, Split};

use dispatcher_markup::{EncodingError, decode_text};
use serde::{Deserialize, Serialize};

/// The most text that a document may come to, in bytes.
pub const MOST_TEXT: usize = 8 << 20;

/// What a document is written in.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum DocumentKind {
    /// Plain text (RFC 2046, section 4.1.3).
    Text,
    /// Markdown (RFC 7763).
    Markdown,
    /// HTML, and XHTML.
    Html,
    /// EPUB 2 or 3.
    Epub,
    /// PDF (ISO 32000).
    Pdf,
}

/// A piece of a document.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub enum Block {
    /// `level` from 1 (the highest) to 6.
    Heading {
        /// From 1 (the highest) to 6.
        level: u8,
        /// One line, without markup.
        text: String,
    },
    /// One line, without markup.
    Paragraph(String),
}

impl Block {
    /// What is said.
    pub fn text(&self) -> &str {
        match self {
            Block::Heading { text, .. } | Block::Paragraph(text) => text,
        }
    }
}

/// Text in reading order.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct Document {
    /// The title that the document gives itself.
    pub title: Option<String>,
    /// BCP 47 tag, if the document has one.
    pub language: Option<String>,
    /// Headings and paragraphs in reading order.
    pub blocks: Vec<Block>,
    /// What of it could not be read.
    #[serde(default)]
    pub warnings: Vec<String>,
}

impl Document {
    /// All that is said, paragraphs apart.
    pub fn text(&self) -> String {
        self.blocks.iter().map(Block::text).collect::<Vec<_>>().join("\n\n")
    }
}

impl DocumentKind {
    /// The kind of a media type or of a file's name; `None` if neither
    /// is known.
    pub fn of(media_type: Option<&str>, name: Option<&str>) -> Option<DocumentKind> {
        let essence = media_type.map(|given| given.split(';').next().unwrap_or_default().trim().to_ascii_lowercase());
        let by_type = match essence.as_deref() {
            Some("text/plain") => Some(DocumentKind::Text),
            Some("text/markdown") => Some(DocumentKind::Markdown),
            Some("text/html" | "application/xhtml+xml") => Some(DocumentKind::Html),
            Some("application/epub+zip") => Some(DocumentKind::Epub),
            Some("application/pdf") => Some(DocumentKind::Pdf),
            _ => None,
        };
        let extension =
            name.and_then(|name| name.rsplit_once('.')).map(|(_, extension)| extension.to_ascii_lowercase());
        by_type.or(match extension.as_deref() {
            Some("txt" | "text") => Some(DocumentKind::Text),
            Some("md" | "markdown") => Some(DocumentKind::Markdown),
            Some("html" | "htm" | "xhtml") => Some(DocumentKind::Html),
            Some("epub") => Some(DocumentKind::Epub),
            Some("pdf") => Some(DocumentKind::Pdf),
            _ => None,
        })
    }

    /// Its media type.
    pub fn media_type(self) -> &'static str {
        match self {
            DocumentKind::Text => "text/plain",
            DocumentKind::Markdown => "text/markdown",
            DocumentKind::Html => "text/html",
            DocumentKind::Epub => "application/epub+zip",
            DocumentKind::Pdf => "application/pdf",
        }
    }
}

/// Reads a document.
///
/// # Errors
/// When it is not what it is said to be, is damaged, or has no text.
pub fn read(bytes: &[u8], kind: DocumentKind) -> Result<Document, DocumentError> {
    // What a file begins with is the truth about these two.
    let kind = match bytes {
        [b'%', b'P', b'D', b'F', ..] => DocumentKind::Pdf,
        [b'P', b'K', 3, 4, ..] => DocumentKind::Epub,
        _ => kind,
    };
    let document = match kind {
        DocumentKind::Text => plain::read(&text_of(bytes, None)?),
        DocumentKind::Markdown => markdown::read(&text_of(bytes, None)?),
        DocumentKind::Html => html::read(&html::decode(bytes)?)?,
        DocumentKind::Epub => epub::read(bytes)?,
        DocumentKind::Pdf => pdf::read(bytes)?,
    };
    let length: usize = document.blocks.iter().map(|block| block.text().len()).sum();
    match length {
        0 => Err(DocumentError::NoText),
        _ if length > MOST_TEXT => Err(DocumentError::TooLarge),
        _ => Ok(document),
    }
}

/// A document's bytes as text, in the encoding that it declares.
pub(crate) fn text_of(bytes: &[u8], charset: Option<&str>) -> Result<String, DocumentError> {
    match decode_text(bytes, charset) {
        Ok(text) => Ok(text.into_owned()),
        Err(EncodingError::NotUtf8(at)) => Err(DocumentError::NotUtf8(at)),
        Err(error) => Err(Damage::Encoding(error).into()),
    }
}

/// One line with single spaces.
pub(crate) fn tidy(text: &str) -> String {
    let visible = text.chars().filter(|c| !matches!(c, '\u{ad}' | '\u{200b}' | '\u{2060}' | '\u{feff}'));
    let text: String = visible.collect();
    text.split_whitespace().collect::<Vec<_>>().join(" ")
}

/// The examples of the README are run as tests.
#[cfg(doctest)]
#[doc = include_str!("../README.md")]
struct Readme;
