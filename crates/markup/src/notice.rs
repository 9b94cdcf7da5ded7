//! A sentence that is spoken before a script: a notice that no person speaks.

use crate::lower::escape;
use crate::script::{Element, Script, SourceKind, Tag};

/// The source of a script with a sentence before everything that is said in it.
pub fn with_notice(script: &Script<'_>, notice: &str) -> String {
    let (source, at) = (script.source, body_start(script));
    if script.kind() == SourceKind::Text {
        // A paragraph of its own.
        return format!("{notice}\n\n{source}");
    }
    let mut sentence = String::new();
    escape(notice, &mut sentence);
    format!("{}<s>{sentence}</s>{}", &source[..at], &source[at..])
}

/// Byte position from which anything may be said: in SSML behind the start of
/// the root and what must stand first in it (SSML 1.1, section 3.1).
fn body_start(script: &Script<'_>) -> usize {
    let Some(root) = script.root().filter(|_| script.kind() == SourceKind::Markup) else { return 0 };
    let head = |element: &Element<'_>| matches!(element.tag(), Tag::Lexicon | Tag::Meta | Tag::Metadata);
    let mut from = start_tag_end(script.source, root.at());
    for element in script.elements().skip(1) {
        if element.at() < from {
            // Within what was passed over.
            continue;
        }
        if !head(&element) {
            break;
        }
        from = element_end(script.source, element.at());
    }
    from
}

/// Where the start tag at a position ends.
fn start_tag_end(source: &str, at: usize) -> usize {
    let mut quote = None;
    for (offset, byte) in source.bytes().enumerate().skip(at) {
        match (quote, byte) {
            (None, b'"' | b'\'') => quote = Some(byte),
            (Some(open), byte) if open == byte => quote = None,
            (None, b'>') => return offset + 1,
            _ => {}
        }
    }
    source.len()
}

/// Where the element that begins at a position ends; none of its own name is in it.
fn element_end(source: &str, at: usize) -> usize {
    let start_end = start_tag_end(source, at);
    let start = &source[at..start_end];
    if start.ends_with("/>") {
        return start_end;
    }
    let name = start[1..].split(|c: char| c.is_ascii_whitespace() || c == '>').next().unwrap_or_default();
    match source[start_end..].find(&format!("</{name}")) {
        Some(end) => start_tag_end(source, start_end + end),
        None => source.len(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{read_ssml, read_text};

    const ROOT: &str =
        r#"<?xml version="1.0"?><speak version="1.1" xmlns="http://www.w3.org/2001/10/synthesis" xml:lang="en">"#;

    #[test]
    fn a_notice_is_said_first_and_behind_what_must_stand_first() {
        for before in [
            "",
            r#"<lexicon uri="words.pls" xml:id="x"/>"#,
            r#"<meta name="about" content="a > b"/><metadata><x:y xmlns:x="urn:x">z</x:y></metadata>"#,
            "<!-- first --> <metadata></metadata>\n<lexicon xml:id='x' uri='u'></lexicon>",
        ] {
            let document = format!("{ROOT}{before}&lt;<s>Ahoy</s></speak>");
            let told = with_notice(&read_ssml(&document).expect("a script"), "Tom & a computer.");
            let behind = told.strip_prefix(&format!("{ROOT}{before}"));
            assert_eq!(behind, Some("<s>Tom &amp; a computer.</s>&lt;<s>Ahoy</s></speak>"), "{before}");
            let said = read_ssml(&told).expect("a script").plain_text();
            assert!(said.starts_with("Tom & a computer."), "{said}");
        }
        let told = with_notice(&read_text("Ahoy <there>").expect("a script"), "A computer");
        assert_eq!(told, "A computer\n\nAhoy <there>");
    }
}
