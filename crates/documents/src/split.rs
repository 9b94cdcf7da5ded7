//! Parts of a document, each to become a file.

use dispatcher_markup::sentences;

use crate::{Block, Document};

/// Where a document is parted.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Split {
    /// Nowhere.
    None,
    /// Before each heading of this level or above; 1 to 6.
    Heading(u8),
    /// Behind each line: dialogue, lists of announcements.
    Line,
    /// At a paragraph, after a number of characters.
    Length(usize),
}

/// A part with what it is called.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DocumentPart {
    /// The heading it begins with, or its first words.
    pub title: String,
    /// What is said, the heading included.
    pub text: String,
}

/// Letters of a title that is made of a text.
const TITLE: usize = 60;

/// The first words of a text.
fn first_words(text: &str) -> String {
    let words = text.split_whitespace().collect::<Vec<_>>().join(" ");
    match words.char_indices().nth(TITLE) {
        None => words,
        Some((end, _)) => {
            let cut = words[..end].rfind(' ').unwrap_or(end);
            format!("{}…", &words[..cut])
        }
    }
}

impl Document {
    /// The highest level of heading that there is more than one of; nothing
    /// where there is none.
    pub fn chapter_level(&self) -> Option<u8> {
        let levels = self.blocks.iter().filter_map(|block| match block {
            Block::Heading { level, .. } => Some(*level),
            Block::Paragraph(_) => None,
        });
        let levels: Vec<u8> = levels.collect();
        let several = (1..=6).find(|level| levels.iter().filter(|at| *at == level).count() > 1);
        several.or_else(|| levels.iter().min().copied())
    }

    /// The parts in their order; none is empty.
    pub fn parts(&self, split: Split) -> Vec<DocumentPart> {
        let mut parts: Vec<DocumentPart> = match split {
            Split::None => {
                let text = self.text();
                let title = self.title.clone().unwrap_or_else(|| first_words(&text));
                vec![DocumentPart { title, text }]
            }
            Split::Heading(level) => self.by_heading(level),
            Split::Line => {
                let lines = self.blocks.iter().flat_map(|block| block.text().lines());
                lines.map(|line| DocumentPart { title: first_words(line), text: line.to_owned() }).collect()
            }
            Split::Length(most) => self.by_length(most.max(1)),
        };
        parts.retain(|part| !part.text.trim().is_empty());
        parts
    }

    fn by_heading(&self, most: u8) -> Vec<DocumentPart> {
        let title = self.title.clone();
        let mut parts = vec![DocumentPart { title: String::new(), text: String::new() }];
        for block in &self.blocks {
            if let Block::Heading { level, text } = block
                && *level <= most
            {
                parts.push(DocumentPart { title: text.clone(), text: String::new() });
            }
            if let Some(part) = parts.last_mut() {
                add(&mut part.text, block.text());
            }
        }
        // Text before the first heading has the name of the document.
        parts[0].title = title.unwrap_or_else(|| first_words(&parts[0].text));
        // A heading with nothing below it goes with what follows it.
        let mut joined: Vec<DocumentPart> = Vec::new();
        let mut bare: Option<DocumentPart> = None;
        for part in parts {
            let alone = part.text.trim() == part.title.trim();
            let part = match bare.take() {
                Some(above) => DocumentPart { title: part.title, text: format!("{}\n\n{}", above.text, part.text) },
                None => part,
            };
            if alone { bare = Some(part) } else { joined.push(part) }
        }
        joined.extend(bare);
        joined
    }

    /// Parts of about equal length, none longer than `most` characters but
    /// where one sentence is; a heading begins a part or is within one.
    fn by_length(&self, most: usize) -> Vec<DocumentPart> {
        let units = self.units();
        let mut left: usize = units.iter().map(|unit| unit.length).sum();
        let mut parts_left = left.div_ceil(most).max(1);
        let mut parts: Vec<DocumentPart> = Vec::new();
        let mut length = 0;
        for unit in units {
            // What is left is shared evenly, so that no rest is a part of its own.
            let aim = (left + length).div_ceil(parts_left);
            let full = length + unit.length > most || length + unit.length / 2 > aim && parts_left > 1;
            if parts.is_empty() || length > 0 && full {
                parts_left = parts_left.saturating_sub(usize::from(!parts.is_empty())).max(1);
                parts.push(DocumentPart { title: first_words(&unit.text), text: String::new() });
                length = 0;
            }
            if let Some(part) = parts.last_mut() {
                let between = if unit.begins && !part.text.is_empty() { "\n\n" } else { "" };
                part.text += between;
                part.text += &unit.text;
            }
            length += unit.length;
            left = left.saturating_sub(unit.length);
        }
        for part in &mut parts {
            part.text.truncate(part.text.trim_end().len());
        }
        parts
    }

    /// What is not parted: sentences, each heading with what follows it.
    fn units(&self) -> Vec<Unit> {
        let mut units: Vec<Unit> = Vec::new();
        let mut headings = String::new();
        for block in &self.blocks {
            let text = block.text();
            if let Block::Heading { .. } = block {
                add(&mut headings, text);
                continue;
            }
            for (number, sentence) in sentences(text).into_iter().enumerate() {
                let first = number == 0;
                let mut own = if first { std::mem::take(&mut headings) } else { String::new() };
                // What is between sentences stays as it is.
                add(&mut own, sentence);
                units.push(Unit { length: own.chars().count(), text: own, begins: first });
            }
        }
        if !headings.is_empty() {
            units.push(Unit { length: headings.chars().count(), text: headings, begins: true });
        }
        units
    }
}

/// Text that stays together.
struct Unit {
    text: String,
    /// It begins a paragraph.
    begins: bool,
    /// In characters.
    length: usize,
}

fn add(text: &mut String, more: &str) {
    if !text.is_empty() {
        text.push_str("\n\n");
    }
    text.push_str(more);
}

#[cfg(test)]
mod tests {
    use super::*;

    fn heading(level: u8, text: &str) -> Block {
        Block::Heading { level, text: text.into() }
    }

    fn book() -> Document {
        let text = |text: &str| Block::Paragraph(text.into());
        Document {
            title: Some("Handbook".into()),
            language: None,
            blocks: vec![
                heading(1, "Handbook"),
                heading(2, "Safety on board"),
                text("Count twice."),
                heading(3, "Doors"),
                text("Close them."),
                heading(2, "Arrival"),
                text("Stand clear.\nHold the rail."),
            ],
            warnings: Vec::new(),
        }
    }

    #[test]
    fn parts_by_heading_keep_smaller_headings_and_a_bare_one_goes_with_the_next() {
        let parts = book().parts(Split::Heading(2));
        let titles: Vec<&str> = parts.iter().map(|part| part.title.as_str()).collect();
        assert_eq!(titles, ["Safety on board", "Arrival"]);
        assert_eq!(parts[0].text, "Handbook\n\nSafety on board\n\nCount twice.\n\nDoors\n\nClose them.");
        assert_eq!(parts[1].text, "Arrival\n\nStand clear.\nHold the rail.");
        assert_eq!(book().chapter_level(), Some(2));
    }

    #[test]
    fn parts_by_line_and_by_length() {
        let lines = book().parts(Split::Line);
        assert_eq!(lines.len(), 8);
        assert_eq!(lines[7].text, "Hold the rail.");
        let short = book().parts(Split::Length(40));
        assert!(short.iter().all(|part| part.text.chars().count() <= 50), "{short:?}");
        assert_eq!(short.iter().map(|part| part.text.as_str()).collect::<Vec<_>>().join("\n\n"), book().text());
        assert_eq!(book().parts(Split::None).len(), 1);
    }

    #[test]
    fn parts_by_length_are_alike_and_cut_long_paragraphs_at_sentences() {
        let sentence = "The ferry to Gullsay leaves from berth two at six. ";
        let long = |count: usize| Block::Paragraph(sentence.repeat(count).trim_end().to_owned());
        let document = Document {
            blocks: vec![
                heading(1, "Handbook"),
                heading(2, "Safety"),
                long(50),
                heading(2, "Arrival"),
                long(3),
                long(20),
            ],
            ..Document::default()
        };
        let parts = document.parts(Split::Length(900));
        let lengths: Vec<usize> = parts.iter().map(|part| part.text.chars().count()).collect();
        assert!(lengths.iter().all(|length| *length <= 900), "{lengths:?}");
        let (least, most) = (lengths.iter().min().copied().unwrap_or(0), lengths.iter().max().copied().unwrap_or(0));
        assert!(least * 2 > most, "{lengths:?}");
        let words = |text: &str| text.split_whitespace().map(str::to_owned).collect::<Vec<_>>();
        let all: Vec<String> = parts.iter().flat_map(|part| words(&part.text)).collect();
        assert_eq!(all, words(&document.text()), "nothing is lost");
        assert!(parts.iter().all(|part| !part.text.ends_with("Arrival")), "a heading goes with what follows");
        assert!(parts[0].title.starts_with("Handbook Safety The ferry"), "{}", parts[0].title);
    }
}
