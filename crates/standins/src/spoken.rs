//! What a document of SSML says, to stand-ins that take one: they know few
//! elements and refuse the rest, as engines do.

use quick_xml::Reader;
use quick_xml::events::{BytesStart, Event};

/// The text of a document of which only these elements may be part.
pub(crate) fn spoken(document: &str, elements: &[&str]) -> Result<String, String> {
    let mut reader = Reader::from_str(document);
    let mut text = String::new();
    let mut depth = 0usize;
    loop {
        match reader.read_event().map_err(|error| error.to_string())? {
            Event::Start(start) => {
                known(&start, elements, depth == 0)?;
                depth += 1;
            }
            Event::Empty(start) => known(&start, elements, depth == 0)?,
            Event::End(_) => depth = depth.saturating_sub(1),
            Event::Text(part) if depth > 0 => text.push_str(&part.into_inner()),
            Event::Text(part) if part.trim().is_empty() => {}
            Event::CData(part) if depth > 0 => text.push_str(&part.into_inner()),
            Event::GeneralRef(name) if depth > 0 => text.push(character(&name.into_inner())?),
            Event::Eof if depth == 0 => break,
            Event::Eof => return Err("the document ends inside an element".into()),
            Event::Decl(_) | Event::Comment(_) => {}
            _ => return Err("there is text outside of the document".into()),
        }
    }
    Ok(text.split_whitespace().collect::<Vec<_>>().join(" "))
}

fn known(start: &BytesStart<'_>, elements: &[&str], root: bool) -> Result<(), String> {
    let name = start.name().into_inner().to_owned();
    if root && name != "speak" {
        return Err(format!("the document begins with {name} and not with speak"));
    }
    if elements.contains(&name.as_str()) { Ok(()) } else { Err(format!("the element {name} is not known here")) }
}

fn character(name: &str) -> Result<char, String> {
    let number = name.strip_prefix('#').and_then(|number| match number.strip_prefix('x') {
        Some(hex) => u32::from_str_radix(hex, 16).ok(),
        None => number.parse().ok(),
    });
    match name {
        "amp" => Ok('&'),
        "lt" => Ok('<'),
        "gt" => Ok('>'),
        "quot" => Ok('"'),
        "apos" => Ok('\''),
        _ => number.and_then(char::from_u32).ok_or_else(|| format!("the entity {name} is not known here")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn documents_are_read_and_strange_ones_refused() {
        let known = ["speak", "s", "break"];
        let read = |document| spoken(document, &known);
        assert_eq!(read("<speak>A &amp; B<break/> <s>&#233;&lt;</s></speak>"), Ok("A & B é<".into()));
        for strange in
            ["plain", "<s>x</s>", "<speak><p>x</p></speak>", "<speak>", "<speak>&bomb;</speak>", "<speak>x</s>"]
        {
            assert!(read(strange).is_err(), "{strange}");
        }
    }
}
