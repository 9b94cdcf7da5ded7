//! What can be wrong with a document. Variants hold facts, not sentences.

use dispatcher_markup::EncodingError;
use serde::{Deserialize, Serialize};

use crate::MOST_TEXT;

/// Why a document cannot be read. The document is at fault: nobody can help
/// but who made it.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error, Serialize, Deserialize)]
#[non_exhaustive]
pub enum DocumentError {
    /// The byte, from 0, at which UTF-8 ends.
    #[error("the text is not UTF-8 (at byte {0})")]
    NotUtf8(usize),
    /// Nothing in it is text.
    #[error("the document has no text; scanned pages need optical character recognition first")]
    NoText,
    /// It is locked with a password.
    #[error("the document is encrypted; remove the password first")]
    Encrypted,
    /// It is not what its format demands.
    #[error("the document cannot be read: {0}")]
    Damaged(Damage),
    /// Its text is longer than [`MOST_TEXT`], or it unpacks to more than such
    /// a text takes.
    #[error("the document is larger than {MOST_TEXT} bytes of text")]
    TooLarge,
}

/// Where a document breaks the rules of its format. A `reason` is what the
/// library that read it says.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error, Serialize, Deserialize)]
#[non_exhaustive]
pub enum Damage {
    /// Its bytes are not in the encoding that it declares.
    #[error("{0}")]
    Encoding(EncodingError),
    /// An EPUB's archive.
    #[error("{reason}")]
    Archive {
        /// In the library's words.
        reason: String,
    },
    /// A file in an EPUB's archive.
    #[error("{name}: {reason}")]
    ArchivedFile {
        /// Its path in the archive.
        name: String,
        /// In the library's words.
        reason: String,
    },
    /// The XML of a file in an EPUB.
    #[error("{reason}")]
    Xml {
        /// In the library's words, with line and column.
        reason: String,
    },
    /// An EPUB whose container names no package document (EPUB 3.3, section
    /// 4.2.6.3).
    #[error("it names no package")]
    NoPackage,
    /// HTML with more than this many open elements.
    #[error("more than {most} elements are within one another")]
    Nesting {
        /// The most that are read.
        most: usize,
    },
    /// The structure of a PDF, or the drawing of one of its pages.
    #[error("{reason}")]
    Pdf {
        /// In the library's words.
        reason: String,
    },
    /// A form of a PDF (ISO 32000-1, section 8.10) that draws itself.
    #[error("a form contains itself")]
    FormInItself,
    /// The parser of PDF gave up without a reason.
    #[error("it does not follow the standard")]
    NotStandard,
    /// No page of a PDF can be read.
    #[error("page {page} is left out: {cause}")]
    Page {
        /// The first page, from 1.
        page: u32,
        /// What is wrong with it.
        cause: Box<DocumentError>,
    },
}

impl From<Damage> for DocumentError {
    fn from(damage: Damage) -> Self {
        DocumentError::Damaged(damage)
    }
}
