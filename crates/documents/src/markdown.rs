//! Markdown (CommonMark 0.31, with tables and footnotes): what would be seen,
//! without code blocks, pictures and addresses.

use pulldown_cmark::{Event, HeadingLevel, MetadataBlockKind, Options, Parser, Tag, TagEnd};

use crate::{Block, Document, tidy};

/// What is being gathered.
#[derive(Default)]
struct Gather {
    text: String,
    blocks: Vec<Block>,
    /// Depth of elements whose text is not read.
    silent: usize,
}

impl Gather {
    fn end(&mut self, heading: Option<u8>) {
        let text = tidy(&std::mem::take(&mut self.text));
        if text.is_empty() {
            return;
        }
        self.blocks.push(match heading {
            Some(level) => Block::Heading { level, text },
            None => Block::Paragraph(text),
        });
    }
}

fn level(level: HeadingLevel) -> u8 {
    level as u8
}

pub(crate) fn read(text: &str) -> Document {
    let options = Options::ENABLE_TABLES
        | Options::ENABLE_FOOTNOTES
        | Options::ENABLE_STRIKETHROUGH
        | Options::ENABLE_YAML_STYLE_METADATA_BLOCKS;
    let mut gather = Gather::default();
    for event in Parser::new_ext(text, options) {
        match event {
            Event::Start(Tag::CodeBlock(_) | Tag::Image { .. } | Tag::MetadataBlock(_) | Tag::HtmlBlock) => {
                gather.end(None);
                gather.silent += 1;
            }
            Event::End(
                TagEnd::CodeBlock
                | TagEnd::Image
                | TagEnd::MetadataBlock(MetadataBlockKind::YamlStyle | _)
                | TagEnd::HtmlBlock,
            ) => {
                gather.text.clear();
                gather.silent = gather.silent.saturating_sub(1);
            }
            _ if gather.silent > 0 => {}
            // A list item may have text of its own before a list within it.
            Event::Start(Tag::Heading { .. } | Tag::Paragraph | Tag::List(_) | Tag::Item | Tag::BlockQuote(_)) => {
                gather.end(None);
            }
            Event::End(TagEnd::Heading(at)) => gather.end(Some(level(at))),
            Event::End(TagEnd::TableCell) => gather.text.push_str(", "),
            Event::End(TagEnd::TableRow | TagEnd::TableHead) => {
                let row = gather.text.trim_end_matches([',', ' ']).len();
                gather.text.truncate(row);
                gather.end(None);
            }
            Event::End(TagEnd::Paragraph | TagEnd::Item | TagEnd::BlockQuote(_) | TagEnd::FootnoteDefinition) => {
                gather.end(None);
            }
            Event::Text(text) | Event::Code(text) => gather.text.push_str(&text),
            Event::SoftBreak | Event::HardBreak => gather.text.push(' '),
            // References to notes and tags are not said.
            _ => {}
        }
    }
    gather.end(None);
    let title = gather.blocks.iter().find_map(|block| match block {
        Block::Heading { level: 1, text } => Some(text.clone()),
        _ => None,
    });
    Document { title, blocks: gather.blocks, ..Document::default() }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_would_be_seen_is_read() {
        let source = "---\nauthor: x\n---\n# Rounds\n\nThe *mate* counts `24` [life\njackets](https://x.example).[^1]\n\n\
                      - First\n- Second\n  - Within\n\n```\ncode\n```\n\n| Door | Side |\n|--|--|\n| 4 | left |\n\n\
                      ![a map](m.png)\n\n> Said aloud.\n\n[^1]: On both sides.\n";
        let read = read(source);
        assert_eq!(read.title.as_deref(), Some("Rounds"));
        let texts: Vec<&str> = read.blocks.iter().map(Block::text).collect();
        assert_eq!(
            texts,
            [
                "Rounds",
                "The mate counts 24 life jackets.",
                "First",
                "Second",
                "Within",
                "Door, Side",
                "4, left",
                "Said aloud.",
                "On both sides."
            ]
        );
        assert_eq!(read.blocks[0], Block::Heading { level: 1, text: "Rounds".into() });
    }
}
