//! EPUB 3 (and 2): the chapters in the order of the spine.

use std::collections::HashMap;
use std::io::{Cursor, Read as _};

use zip::ZipArchive;

use crate::{Damage, Document, DocumentError, MOST_TEXT, html};

/// Files in the archive at most.
const MOST_FILES: usize = 20_000;

fn damaged_file(name: &str, error: impl std::fmt::Display) -> DocumentError {
    Damage::ArchivedFile { name: name.to_owned(), reason: error.to_string() }.into()
}

struct Book<'b> {
    archive: ZipArchive<Cursor<&'b [u8]>>,
    /// Bytes that may still be unpacked.
    room: u64,
}

impl Book<'_> {
    fn file(&mut self, name: &str) -> Result<Vec<u8>, DocumentError> {
        let file = self.archive.by_name(name).map_err(|error| damaged_file(name, error))?;
        if file.encrypted() {
            return Err(DocumentError::Encrypted);
        }
        let mut bytes = Vec::new();
        // What the archive says of sizes may be a lie.
        file.take(self.room + 1).read_to_end(&mut bytes).map_err(|error| damaged_file(name, error))?;
        self.room = self.room.checked_sub(bytes.len() as u64).ok_or(DocumentError::TooLarge)?;
        Ok(bytes)
    }

    fn xml(&mut self, name: &str) -> Result<String, DocumentError> {
        html::decode(&self.file(name)?)
    }
}

/// A path beside another, with `..` and escapes resolved.
fn beside(base: &str, path: &str) -> String {
    let path = percent_encoding::percent_decode_str(path.split('#').next().unwrap_or_default()).decode_utf8_lossy();
    let folder = base.rsplit_once('/').map_or("", |(folder, _)| folder);
    let mut parts: Vec<&str> = if path.starts_with('/') { Vec::new() } else { folder.split('/').collect() };
    for part in path.split('/') {
        match part {
            "" | "." => {}
            ".." => drop(parts.pop()),
            part => parts.push(part),
        }
    }
    parts.retain(|part| !part.is_empty());
    parts.join("/")
}

fn parse(text: &str) -> Result<roxmltree::Document<'_>, DocumentError> {
    let options = roxmltree::ParsingOptions { allow_dtd: true, nodes_limit: 1_000_000, ..Default::default() };
    roxmltree::Document::parse_with_options(text, options)
        .map_err(|error| Damage::Xml { reason: error.to_string() }.into())
}

pub(crate) fn read(bytes: &[u8]) -> Result<Document, DocumentError> {
    let archive = ZipArchive::new(Cursor::new(bytes)).map_err(|error| Damage::Archive { reason: error.to_string() })?;
    if archive.len() > MOST_FILES {
        return Err(DocumentError::TooLarge);
    }
    let mut book = Book { archive, room: 4 * MOST_TEXT as u64 };
    if book.archive.by_name("META-INF/encryption.xml").is_ok() && book.archive.by_name("META-INF/rights.xml").is_ok() {
        return Err(DocumentError::Encrypted);
    }
    let container = book.xml("META-INF/container.xml")?;
    let container = parse(&container)?;
    let place = container.descendants().find(|node| node.tag_name().name() == "rootfile");
    let place = place.and_then(|node| node.attribute("full-path")).ok_or(Damage::NoPackage)?;
    let package = book.xml(place)?;
    let package = parse(&package)?;
    let named = |name: &str| {
        let found = package.descendants().find(|node| node.tag_name().name() == name);
        found.and_then(|node| node.text()).map(crate::tidy).filter(|text| !text.is_empty())
    };
    let items: HashMap<&str, &str> = package
        .descendants()
        .filter(|node| node.tag_name().name() == "item")
        .filter_map(|node| Some((node.attribute("id")?, node.attribute("href")?)))
        .collect();
    let mut document = Document { title: named("title"), language: named("language"), ..Document::default() };
    let spine = package.descendants().filter(|node| node.tag_name().name() == "itemref");
    let linear = spine.filter(|node| node.attribute("linear") != Some("no"));
    for href in linear.filter_map(|node| items.get(node.attribute("idref")?)) {
        let chapter = book.xml(&beside(place, href))?;
        document.blocks.extend(html::read(&chapter)?.blocks);
    }
    Ok(document)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn paths_are_resolved_beside_their_package() {
        assert_eq!(beside("OEBPS/content.opf", "text/one%20two.xhtml#n1"), "OEBPS/text/one two.xhtml");
        assert_eq!(beside("OEBPS/content.opf", "../one.xhtml"), "one.xhtml");
        assert_eq!(beside("content.opf", "../../one.xhtml"), "one.xhtml");
    }
}
