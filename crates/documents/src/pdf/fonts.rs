//! Fonts as the reader of text can take them: it knows few encodings by name,
//! and gives up on some slips that other readers pass over.

use pdf_extract::{Dictionary, Document as File, Object};

/// Encodings that the reader knows by name.
const KNOWN: [&[u8]; 3] = [b"MacRomanEncoding", b"MacExpertEncoding", b"WinAnsiEncoding"];

/// Where the standard encoding differs from WinAnsi (ISO 32000-1, D.2): runs
/// of glyph names, each from a code on.
const STANDARD: &[(i64, &[&str])] = &[
    (39, &["quoteright"]),
    (96, &["quoteleft"]),
    (
        161,
        &[
            "exclamdown",
            "cent",
            "sterling",
            "fraction",
            "yen",
            "florin",
            "section",
            "currency",
            "quotesingle",
            "quotedblleft",
            "guillemotleft",
            "guilsinglleft",
            "guilsinglright",
            "fi",
            "fl",
        ],
    ),
    (177, &["endash", "dagger", "daggerdbl", "periodcentered"]),
    (
        182,
        &[
            "paragraph",
            "bullet",
            "quotesinglbase",
            "quotedblbase",
            "quotedblright",
            "guillemotright",
            "ellipsis",
            "perthousand",
        ],
    ),
    (191, &["questiondown"]),
    (193, &["grave", "acute", "circumflex", "tilde", "macron", "breve", "dotaccent", "dieresis"]),
    (202, &["ring", "cedilla"]),
    (205, &["hungarumlaut", "ogonek", "caron", "emdash"]),
    (225, &["AE"]),
    (227, &["ordfeminine"]),
    (232, &["Lslash", "Oslash", "OE", "ordmasculine"]),
    (241, &["ae"]),
    (245, &["dotlessi"]),
    (248, &["lslash", "oslash", "oe", "germandbls"]),
];

fn name(object: &Object) -> Option<&[u8]> {
    object.as_name().ok()
}

fn standard() -> Vec<Object> {
    let run = |(code, names): &(i64, &[&str])| {
        let names = names.iter().map(|name| Object::Name(name.as_bytes().to_vec()));
        std::iter::once(Object::Integer(*code)).chain(names).collect::<Vec<_>>()
    };
    STANDARD.iter().flat_map(run).collect()
}

/// The encoding with a base that the reader knows.
fn encoding(file: &File, given: Option<&Object>) -> Option<Object> {
    let given = given.and_then(|given| file.dereference(given).ok()).map(|(_, given)| given);
    let based = |differences: Vec<Object>| {
        let mut made = Dictionary::new();
        made.set("Type", Object::Name(b"Encoding".to_vec()));
        made.set("BaseEncoding", Object::Name(b"WinAnsiEncoding".to_vec()));
        made.set("Differences", Object::Array(differences));
        Object::Dictionary(made)
    };
    match given {
        Some(Object::Name(known)) if KNOWN.contains(&known.as_slice()) => Some(Object::Name(known.clone())),
        Some(Object::Name(known)) if known == b"StandardEncoding" => Some(based(standard())),
        Some(Object::Dictionary(given)) => {
            let base = given.get(b"BaseEncoding").ok().and_then(name);
            let own = given.get(b"Differences").and_then(|own| file.dereference(own)).ok();
            let own = own.and_then(|(_, own)| own.as_array().ok()).cloned().unwrap_or_default();
            match base {
                Some(b"StandardEncoding") => Some(based(standard().into_iter().chain(own).collect())),
                Some(base) if !KNOWN.contains(&base) => Some(based(own)),
                _ => Some(Object::Dictionary(given.clone())),
            }
        }
        _ => None,
    }
}

/// Signs of one font.
const MOST_SIGNS: i64 = 65_536;

/// A descendant font whose widths (9.7.4.3) are all listed one by one, and in
/// whole numbers where the reader takes no others.
fn with_plain_widths(file: &File, font: &Dictionary) -> Dictionary {
    let mut font = font.clone();
    if !font.has(b"FontDescriptor") {
        font.set("FontDescriptor", Object::Dictionary(Dictionary::new()));
    }
    let resolved = |object: &Object| file.dereference(object).map(|(_, object)| object.clone()).ok();
    if let Some(usual) = font.get(b"DW").ok().and_then(resolved).and_then(|usual| usual.as_float().ok()) {
        font.set("DW", Object::Integer(usual.round() as i64));
    }
    let given = font.get(b"W").ok().and_then(resolved);
    let given: Vec<Object> = match &given {
        Some(Object::Array(given)) => given.iter().filter_map(resolved).collect(),
        _ => Vec::new(),
    };
    let mut plain = Vec::new();
    let mut at = 0;
    let mut listed = 0;
    while let Some(first) = given.get(at).and_then(|first| first.as_float().ok()).map(|first| first as i64) {
        match (given.get(at + 1), given.get(at + 2)) {
            (Some(Object::Array(widths)), _) => {
                let widths: Vec<Object> =
                    widths.iter().filter_map(resolved).filter(|width| width.as_float().is_ok()).collect();
                listed += widths.len() as i64;
                plain.extend([Object::Integer(first), Object::Array(widths)]);
                at += 2;
            }
            (Some(last), Some(width)) => {
                let count = last.as_float().map_or(0, |last| last as i64 - first + 1).clamp(0, MOST_SIGNS);
                listed += count;
                if width.as_float().is_ok() {
                    plain.extend([Object::Integer(first), Object::Array(vec![width.clone(); count as usize])]);
                }
                at += 3;
            }
            _ => break,
        }
        if listed > MOST_SIGNS {
            break;
        }
    }
    font.set("W", Object::Array(plain));
    font
}

/// A font, mended; `None` where it is none.
pub(super) fn mended(file: &File, font: &Object) -> Option<Object> {
    let mut font = font.as_dict().ok()?.clone();
    let kind = font.get(b"Subtype").ok().and_then(name)?.to_vec();
    if font.get(b"ToUnicode").is_ok_and(|map| map.as_name().is_ok()) {
        font.remove(b"ToUnicode");
    }
    if kind == b"Type0" {
        let descendants = font.get(b"DescendantFonts").and_then(|given| file.dereference(given)).ok();
        let first = descendants.and_then(|(_, all)| all.as_array().ok()?.first());
        let first = first.and_then(|first| file.dereference(first).ok()?.1.as_dict().ok())?;
        let descendants = vec![Object::Dictionary(with_plain_widths(file, first))];
        // Other named encodings are of two bytes a sign too; what they mean is
        // in the map to text, where there is one.
        if font.get(b"Encoding").is_ok_and(|encoding| encoding.as_name().is_ok()) {
            font.set("Encoding", Object::Name(b"Identity-H".to_vec()));
        }
        font.set("DescendantFonts", Object::Array(descendants));
        return Some(Object::Dictionary(font));
    }
    match encoding(file, font.get(b"Encoding").ok()) {
        Some(encoding) => font.set("Encoding", encoding),
        // A code that its map to text leaves out needs something to fall back to.
        None if font.has(b"ToUnicode") => font.set("Encoding", Object::Name(b"WinAnsiEncoding".to_vec())),
        None => {
            font.remove(b"Encoding");
        }
    }
    let widths = font.get(b"Widths").and_then(|widths| file.dereference(widths)).ok();
    let count = widths.and_then(|(_, widths)| widths.as_array().ok()).map(Vec::len);
    let first = font.get(b"FirstChar").and_then(|first| file.dereference(first)).ok();
    let first = first.and_then(|(_, first)| first.as_i64().ok());
    if let (Some(count), Some(first)) = (count, first) {
        font.set("LastChar", first + i64::try_from(count).unwrap_or(0) - 1);
    }
    Some(Object::Dictionary(font))
}
