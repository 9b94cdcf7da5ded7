//! ID3v2 (informal standards 2.3 and 2.4), the tag before an MP3.

use super::{Field, MAX_TAG_BYTES, Tags, VENDOR};

/// Bytes of the tag that begins here, its head included; `None` until its
/// head is whole. Its size is "synchsafe": seven bits a byte.
pub(crate) fn length(start: &[u8]) -> Option<usize> {
    let size = start.get(6..10)?;
    let footer = if start[5] & 0x10 == 0 { 0 } else { 10 };
    Some(10 + footer + size.iter().fold(0, |sum, byte| (sum << 7) | usize::from(byte & 0x7F)))
}

fn synchsafe(length: usize) -> [u8; 4] {
    [21, 14, 7, 0].map(|shift| ((length >> shift) & 0x7F) as u8)
}

/// The three letters (ISO 639-2) that `TLAN` wants, for the languages that
/// are asked for most; others stand in their own frame alone.
fn three_letters(language: &str) -> Option<&'static str> {
    let primary = language.split('-').next().unwrap_or_default().to_ascii_lowercase();
    let known = [
        ("ar", "ara"),
        ("bn", "ben"),
        ("cs", "ces"),
        ("da", "dan"),
        ("de", "deu"),
        ("el", "ell"),
        ("en", "eng"),
        ("es", "spa"),
        ("fi", "fin"),
        ("fr", "fra"),
        ("he", "heb"),
        ("hi", "hin"),
        ("hu", "hun"),
        ("id", "ind"),
        ("it", "ita"),
        ("ja", "jpn"),
        ("ko", "kor"),
        ("nl", "nld"),
        ("nb", "nob"),
        ("no", "nor"),
        ("pl", "pol"),
        ("pt", "por"),
        ("ro", "ron"),
        ("ru", "rus"),
        ("sv", "swe"),
        ("th", "tha"),
        ("tr", "tur"),
        ("uk", "ukr"),
        ("vi", "vie"),
        ("zh", "zho"),
    ];
    known.into_iter().find(|(two, _)| *two == primary).map(|(_, three)| three)
}

/// Frames of text are in UTF-8 (encoding 3).
fn frame(out: &mut Vec<u8>, id: &[u8; 4], text: &str) {
    out.extend_from_slice(id);
    out.extend_from_slice(&synchsafe(text.len() + 1));
    out.extend_from_slice(&[0, 0, 3]);
    out.extend_from_slice(text.as_bytes());
}

/// The whole tag, version 2.4; empty without tags.
pub(crate) fn write(tags: &Tags) -> Vec<u8> {
    let fields = tags.fields();
    if fields.is_empty() {
        return Vec::new();
    }
    let mut frames = Vec::new();
    for (field, value) in fields {
        match field {
            Field::Title => frame(&mut frames, b"TIT2", &value),
            Field::Track => frame(&mut frames, b"TRCK", &value),
            Field::Date => frame(&mut frames, b"TDRC", &value),
            _ => frame(&mut frames, b"TXXX", &format!("{}\0{value}", field.name())),
        }
        if let Some(three) = three_letters(&value).filter(|_| field == Field::Language) {
            frame(&mut frames, b"TLAN", three);
        }
    }
    frame(&mut frames, b"TENC", VENDOR);
    let mut tag = b"ID3\x04\0\0".to_vec();
    tag.extend_from_slice(&synchsafe(frames.len()));
    tag.append(&mut frames);
    tag
}

/// Text in any of the four encodings.
fn decode(encoding: u8, bytes: &[u8]) -> String {
    let utf16 = |bytes: &[u8], little: bool| {
        let units = bytes
            .as_chunks::<2>()
            .0
            .iter()
            .map(|pair| if little { u16::from_le_bytes(*pair) } else { u16::from_be_bytes(*pair) });
        char::decode_utf16(units).map(|c| c.unwrap_or(char::REPLACEMENT_CHARACTER)).collect::<String>()
    };
    match (encoding, bytes) {
        // Each string of a frame may begin with its own mark.
        (1, [0xFF, 0xFE, rest @ ..]) => utf16(rest, true).replace('\u{FEFF}', ""),
        (1, [0xFE, 0xFF, rest @ ..]) | (2, rest) => utf16(rest, false).replace('\u{FEFF}', ""),
        (1, rest) => utf16(rest, true),
        (3, rest) => String::from_utf8_lossy(rest).into_owned(),
        (_, rest) => rest.iter().map(|byte| char::from(*byte)).collect(),
    }
}

/// Reads a tag from its beginning; of a long one the first part.
pub(crate) fn read(tag: &[u8]) -> Tags {
    let mut tags = Tags::default();
    let Some((head, body)) = tag.split_at_checked(10).filter(|(head, _)| head.starts_with(b"ID3")) else {
        return tags;
    };
    let version = head[3];
    let whole = length(head).map_or(0, |length| length - 10);
    let body = &body[..body.len().min(whole).min(MAX_TAG_BYTES)];
    // Bytes that were inserted so that no audio frame appears to begin here.
    let unsynchronised = head[5] & 0x80 != 0 && version < 4;
    let body = if unsynchronised { resynchronise(body) } else { body.to_vec() };
    let mut rest = body.as_slice();
    if head[5] & 0x40 != 0 {
        let Some(size) = rest.first_chunk::<4>() else { return tags };
        let extended = if version < 4 { u32::from_be_bytes(*size) as usize + 4 } else { seven_bits(*size) };
        rest = rest.get(extended..).unwrap_or_default();
    }
    while let (Some(id), Some(size)) = (rest.first_chunk::<4>(), rest.get(4..).and_then(|r| r.first_chunk::<4>())) {
        let size = if version < 4 { u32::from_be_bytes(*size) as usize } else { seven_bits(*size) };
        let Some([encoding, text @ ..]) = rest.get(10..).and_then(|rest| rest.get(..size)) else { break };
        let text = decode(*encoding, text);
        match id {
            b"TIT2" => tags.set(Field::Title, text.trim_end_matches('\0')),
            b"TRCK" => tags.set(Field::Track, text.trim_end_matches('\0')),
            b"TDRC" | b"TYER" | b"TDRL" => tags.set(Field::Date, text.trim_end_matches('\0')),
            b"TXXX" => {
                let (name, value) = text.split_once('\0').unwrap_or_default();
                if let Some(field) = Field::named(name) {
                    tags.set(field, value.trim_end_matches('\0'));
                }
            }
            _ => {}
        }
        rest = &rest[10 + size..];
    }
    tags
}

fn seven_bits(bytes: [u8; 4]) -> usize {
    bytes.iter().fold(0, |sum, byte| (sum << 7) | usize::from(byte & 0x7F))
}

fn resynchronise(body: &[u8]) -> Vec<u8> {
    let before = std::iter::once(&0).chain(body);
    body.iter().zip(before).filter(|(byte, before)| (**byte, **before) != (0, 0xFF)).map(|(byte, _)| *byte).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_tag_tells_its_length_in_sevens() {
        assert_eq!(length(b"ID3\x04\0\0\0\0\x01\x48"), Some(10 + 200));
        assert_eq!(length(b"ID3\x04\0\0\x7F\x7F\x7F\x7F"), Some(10 + (1 << 28) - 1));
        assert_eq!(length(b"ID3\x04\0\x10\0\0\x01\x48"), Some(20 + 200), "a footer");
        assert_eq!(length(b"ID3\x04\0\0\0\0\x01"), None);
    }

    #[test]
    fn what_is_written_is_read_and_damage_ends_the_reading() {
        let tags = crate::tags::sample();
        let bytes = write(&tags);
        assert_eq!(length(&bytes), Some(bytes.len()));
        assert_eq!(read(&bytes), tags);
        assert!(bytes.windows(14).any(|window| window == b"TLAN\0\0\0\x04\0\0\x03por"), "players know three letters");
        for cut in 0..bytes.len() {
            let part = read(&bytes[..cut]);
            assert!(part.title.is_none() || part.title == tags.title, "cut at {cut}");
        }
    }

    #[test]
    fn bytes_that_keep_frames_of_sound_from_appearing_are_taken_out() {
        assert_eq!(resynchronise(&[1, 0xFF, 0, 0xE0, 0xFF, 0, 0, 2]), [1, 0xFF, 0xE0, 0xFF, 0, 2]);
    }

    #[test]
    fn older_tags_with_wide_letters_are_read() {
        let mut frame = b"TIT2\0\0\0\x0d\0\0\x01\xFF\xFE".to_vec();
        frame.extend("Gull\u{e9}".encode_utf16().flat_map(u16::to_le_bytes));
        let mut tag = b"ID3\x03\0\0\0\0\0".to_vec();
        tag.push(frame.len() as u8);
        tag.extend(frame);
        assert_eq!(read(&tag).title.as_deref(), Some("Gull\u{e9}"));
    }
}
