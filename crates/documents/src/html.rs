//! HTML and XHTML: the text that would be seen, block by block. Navigation,
//! scripts, what is hidden, and the marks of notes are left out; notes
//! themselves are read where they stand.

use scraper::{ElementRef, Html, Node};

use crate::{Block, Damage, Document, DocumentError, tidy};

/// Elements that begin a new paragraph.
const BLOCKS: &[&str] = &[
    "address",
    "article",
    "aside",
    "blockquote",
    "body",
    "caption",
    "center",
    "dd",
    "details",
    "dialog",
    "div",
    "dl",
    "dt",
    "fieldset",
    "figcaption",
    "figure",
    "footer",
    "form",
    "header",
    "hgroup",
    "hr",
    "legend",
    "li",
    "main",
    "ol",
    "p",
    "pre",
    "section",
    "summary",
    "table",
    "tbody",
    "tfoot",
    "thead",
    "tr",
    "ul",
];
/// Elements with nothing to be read.
const SILENT: &[&str] = &[
    "audio", "button", "canvas", "datalist", "embed", "head", "iframe", "img", "input", "map", "math", "nav",
    "noscript", "object", "option", "picture", "rp", "rt", "script", "select", "style", "svg", "template", "textarea",
    "title", "video",
];

/// Deeper levels are read as one text.
const DEEPEST: usize = 200;
/// Elements open at once. Building a tree takes time by the square of it.
const MOST_OPEN: usize = 3_000;
/// Elements that have no content, or whose end tag may be left out.
const NEVER_DEEP: &[&str] = &[
    "a", "area", "base", "br", "col", "colgroup", "dd", "dt", "embed", "hr", "img", "input", "li", "link", "meta",
    "option", "p", "rp", "rt", "source", "tbody", "td", "tfoot", "th", "thead", "tr", "track", "wbr",
];

/// Refuses nesting that no document has, before a tree is built.
pub(crate) fn check_depth(text: &str) -> Result<(), DocumentError> {
    let mut open = 0_usize;
    for tag in text.split('<').skip(1) {
        let (closes, name) = tag.strip_prefix('/').map_or((false, tag), |name| (true, name));
        let end = name.find(|c: char| !c.is_ascii_alphanumeric()).unwrap_or(name.len());
        let name = name[..end].to_ascii_lowercase();
        let empty = tag.split('>').next().is_some_and(|inside| inside.ends_with('/'));
        if name.is_empty() || empty || NEVER_DEEP.contains(&name.as_str()) {
            continue;
        }
        open = if closes { open.saturating_sub(1) } else { open + 1 };
        if open > MOST_OPEN {
            return Err(Damage::Nesting { most: MOST_OPEN }.into());
        }
    }
    Ok(())
}

/// Bytes as text: UTF-8, or what the document says of itself.
pub(crate) fn decode(bytes: &[u8]) -> Result<String, DocumentError> {
    if std::str::from_utf8(bytes).is_ok() {
        return crate::text_of(bytes, None);
    }
    let start = String::from_utf8_lossy(&bytes[..bytes.len().min(1_024)]).to_ascii_lowercase();
    let label = start.split("charset=").nth(1).or(start.split("encoding=").nth(1)).unwrap_or_default();
    let label = label.trim_start_matches(['"', '\'']).split(['"', '\'', ' ', ';', '>', '/']).next().unwrap_or_default();
    crate::text_of(bytes, Some(label))
}

#[derive(Default)]
struct Gather {
    text: String,
    blocks: Vec<Block>,
    heading: Option<u8>,
}

impl Gather {
    fn end(&mut self) {
        let text = tidy(&std::mem::take(&mut self.text));
        if !text.is_empty() {
            self.blocks.push(match self.heading {
                Some(level) => Block::Heading { level, text },
                None => Block::Paragraph(text),
            });
        }
    }

    fn element(&mut self, element: ElementRef<'_>, depth: usize) {
        if depth > DEEPEST {
            return self.text.extend(element.text());
        }
        let name = element.value().name();
        if SILENT.contains(&name) || is_hidden(element) || is_mark(element) {
            return;
        }
        let level = match name.as_bytes() {
            [b'h', level @ b'1'..=b'6'] => Some(level - b'0'),
            _ => None,
        };
        match name {
            "br" => return self.text.push(' '),
            "td" | "th" if !self.text.trim().is_empty() => self.text.push_str(", "),
            _ => {}
        }
        let block = level.is_some() || BLOCKS.contains(&name);
        if block {
            self.end();
        }
        let outer = self.heading;
        self.heading = level.or(outer);
        for child in element.children() {
            match child.value() {
                Node::Text(text) => self.text.push_str(text),
                Node::Element(_) => {
                    if let Some(child) = ElementRef::wrap(child) {
                        self.element(child, depth + 1);
                    }
                }
                _ => {}
            }
        }
        if block {
            self.end();
        }
        self.heading = outer;
    }
}

fn attribute<'a>(element: ElementRef<'a>, name: &str) -> &'a str {
    element.value().attr(name).unwrap_or_default()
}

fn is_hidden(element: ElementRef<'_>) -> bool {
    let style = attribute(element, "style").replace(' ', "").to_ascii_lowercase();
    element.value().attr("hidden").is_some()
        || attribute(element, "aria-hidden") == "true"
        || style.contains("display:none")
        || style.contains("visibility:hidden")
        || has(element, &["pagebreak", "doc-pagebreak"])
}

/// Whether its `epub:type` or `role` is one of these.
fn has(element: ElementRef<'_>, kinds: &[&str]) -> bool {
    let given = [attribute(element, "epub:type"), attribute(element, "role")];
    given.iter().flat_map(|given| given.split_whitespace()).any(|kind| kinds.contains(&kind))
}

/// The mark of a note, or the way back from it.
fn is_mark(element: ElementRef<'_>) -> bool {
    if has(element, &["noteref", "backlink", "doc-noteref", "doc-backlink"]) {
        return true;
    }
    let name = element.value().name();
    if !matches!(name, "a" | "sup") {
        return false;
    }
    let text: String = element.text().take(8).collect();
    let text = text.trim();
    let sign =
        |c: char| c.is_ascii_digit() || matches!(c, '*' | '†' | '‡' | '§' | '[' | ']' | '(' | ')' | '↩' | '↑' | '^');
    let bare = text.chars().count() <= 5 && text.chars().all(sign);
    let within = |selector: &str| {
        element.descendants().filter_map(ElementRef::wrap).any(|inner| inner.value().name() == selector)
    };
    let inside_sup = element.parent().and_then(ElementRef::wrap).is_some_and(|parent| parent.value().name() == "sup");
    match name {
        "a" => bare && attribute(element, "href").contains('#') && (inside_sup || within("sup") || text.contains('↩')),
        "sup" => bare && within("a"),
        _ => false,
    }
}

/// Reads a page.
pub(crate) fn read(text: &str) -> Result<Document, DocumentError> {
    check_depth(text)?;
    let page = Html::parse_document(&without_empty_tags(text));
    let root = page.root_element();
    let mut gather = Gather::default();
    gather.element(root, 0);
    gather.end();
    let title = page
        .root_element()
        .descendants()
        .filter_map(ElementRef::wrap)
        .find(|element| element.value().name() == "title")
        .map(|title| tidy(&title.text().collect::<String>()));
    let language = Some(attribute(root, "lang")).filter(|tag| !tag.is_empty()).or(Some(attribute(root, "xml:lang")));
    Ok(Document {
        title: title.filter(|title| !title.is_empty()),
        language: language.filter(|tag| !tag.is_empty()).map(str::to_owned),
        blocks: gather.blocks,
        warnings: Vec::new(),
    })
}

/// XHTML may end elements in their start tag, which HTML does not know: what
/// follows would be taken for their inside.
fn without_empty_tags(text: &str) -> String {
    const SWALLOW: [&str; 9] = ["title", "script", "style", "textarea", "iframe", "noscript", "a", "span", "i"];
    let mut out = String::with_capacity(text.len());
    let mut rest = text;
    while let Some(end) = rest.find("/>") {
        let (before, after) = rest.split_at(end);
        let name = before.rfind('<').map(|at| &before[at + 1..]).and_then(|tag| tag.split_whitespace().next());
        match name.filter(|name| SWALLOW.contains(&name.to_ascii_lowercase().as_str())) {
            Some(name) => {
                out += before;
                out += &format!("></{name}>");
            }
            None => {
                out += before;
                out += "/>";
            }
        }
        rest = &after[2..];
    }
    out + rest
}

#[cfg(test)]
mod tests {
    use super::*;

    fn page(text: &str) -> Document {
        read(text).expect("a page")
    }

    fn texts(document: &Document) -> Vec<&str> {
        document.blocks.iter().map(Block::text).collect()
    }

    #[test]
    fn what_would_be_seen_is_read_in_its_order() {
        let page = page(
            "<!doctype html><html lang='en-GB'><head><title>Rounds &amp; doors</title><style>p{}</style></head><body>\
             <nav><a href='/'>Home</a></nav><h1>Rounds</h1><div>Before<p>The <b>mate</b> counts\n24.</p>after</div>\
             <ul><li>One<ul><li>Within</li></ul></li></ul><table><tr><th>Door</th><td>4</td></tr></table>\
             <p hidden>No</p><p style='display: none'>No</p><script>no()</script><p>a<br>b</p><ruby>便<rt>びん</rt></ruby>",
        );
        assert_eq!((page.title.as_deref(), page.language.as_deref()), (Some("Rounds & doors"), Some("en-GB")));
        let wanted = ["Rounds", "Before", "The mate counts 24.", "after", "One", "Within", "Door, 4", "a b", "便"];
        assert_eq!(texts(&page), wanted);
        assert_eq!(page.blocks[0], Block::Heading { level: 1, text: "Rounds".into() });
    }

    #[test]
    fn marks_of_notes_are_left_out_and_powers_are_not() {
        let page = page(
            "<p>Count twice<a epub:type='noteref' href='#n1'>1</a> or<sup><a href='#n2'>2</a></sup> more.</p>\
             <p>About 10<sup>2</sup> metres; see <a href='#door'>door 4</a>.</p>\
             <aside epub:type='footnote' id='n1'><p>Aloud. <a href='#r1' role='doc-backlink'>↩</a></p></aside>",
        );
        assert_eq!(texts(&page), ["Count twice or more.", "About 102 metres; see door 4.", "Aloud."]);
    }

    #[test]
    fn elements_that_end_in_their_start_tag_swallow_nothing() {
        let page = page(
            "<?xml version='1.0'?><html xmlns='http://www.w3.org/1999/xhtml'><head><title/><script src='x'/></head>\
             <body><p><a id='p1'/>All <span/>aboard.</p></body></html>",
        );
        assert_eq!(texts(&page), ["All aboard."]);
    }

    #[test]
    fn other_encodings_are_read_where_they_are_named() {
        let mut bytes = b"<meta charset=\"iso-8859-1\"><p>Mar\xE9".to_vec();
        assert_eq!(texts(&page(&decode(&bytes).expect("latin"))), ["Maré"]);
        bytes = b"<p>Mar\xE9".to_vec();
        assert_eq!(decode(&bytes), Err(DocumentError::NotUtf8(6)));
    }

    #[test]
    fn deep_nesting_is_refused_before_it_is_built_and_long_lists_are_not() {
        let deep = "<div>".repeat(300_000);
        let begun = std::time::Instant::now();
        assert!(matches!(read(&deep), Err(DocumentError::Damaged(Damage::Nesting { most: MOST_OPEN }))));
        assert!(begun.elapsed() < std::time::Duration::from_secs(2), "{:?}", begun.elapsed());
        let open_ends = format!("<ul>{}</ul>", "<li>One more".repeat(10_000));
        assert_eq!(page(&open_ends).blocks.len(), 10_000, "end tags may be left out");
        let closed = "<div><p>Deck</p><br></div>".repeat(10_000);
        assert_eq!(page(&closed).blocks.len(), 10_000);
    }
}
