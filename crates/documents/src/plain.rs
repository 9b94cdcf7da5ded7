//! Plain text: empty lines part paragraphs, and nothing is a heading.

use crate::{Block, Document};

pub(crate) fn read(text: &str) -> Document {
    let mut blocks = Vec::new();
    let mut paragraph: Vec<&str> = Vec::new();
    for line in text.lines().chain([""]) {
        if line.trim().is_empty() {
            if !paragraph.is_empty() {
                blocks.push(Block::Paragraph(paragraph.join("\n")));
                paragraph.clear();
            }
        } else {
            paragraph.push(line.trim());
        }
    }
    Document { blocks, ..Document::default() }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn empty_lines_part_paragraphs_and_lines_stay_lines() {
        let read = read("One\r\n  two\r\n\r\n\r\nThree\n");
        assert_eq!(read.blocks, [Block::Paragraph("One\ntwo".into()), Block::Paragraph("Three".into())]);
        assert_eq!(read.text(), "One\ntwo\n\nThree");
    }
}
