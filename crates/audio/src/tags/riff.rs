//! The INFO list of RIFF WAVE: title, track, language and date have chunks
//! of their own, the rest is in the comment as `NAME=value` pairs.

use super::{Field, Tags, VENDOR};

fn chunk(out: &mut Vec<u8>, id: &[u8; 4], body: &[u8]) {
    out.extend_from_slice(id);
    out.extend_from_slice(&(body.len() as u32).to_le_bytes());
    out.extend_from_slice(body);
    if body.len() % 2 == 1 {
        out.push(0);
    }
}

/// Text ends in a zero byte, as the readers of INFO expect.
fn text(out: &mut Vec<u8>, id: &[u8; 4], value: &str) {
    chunk(out, id, &[value.as_bytes(), &[0]].concat());
}

/// The whole `LIST` chunk; empty without tags.
pub(crate) fn write(tags: &Tags) -> Vec<u8> {
    let fields = tags.fields();
    let mut out = Vec::new();
    if fields.is_empty() {
        return out;
    }
    let mut list = b"INFO".to_vec();
    let mut comment = Vec::new();
    for (field, value) in fields {
        match field {
            Field::Title => text(&mut list, b"INAM", &value),
            Field::Track => text(&mut list, b"ITRK", &value),
            Field::Language => text(&mut list, b"ILNG", &value),
            Field::Date => text(&mut list, b"ICRD", &value),
            _ => comment.push(format!("{}={value}", field.name())),
        }
    }
    if !comment.is_empty() {
        text(&mut list, b"ICMT", &comment.join("; "));
    }
    text(&mut list, b"ISFT", VENDOR);
    chunk(&mut out, b"LIST", &list);
    out
}

/// Reads the body of a `LIST` chunk.
pub(crate) fn read(body: &[u8]) -> Tags {
    let mut tags = Tags::default();
    let Some(mut rest) = body.strip_prefix(b"INFO") else { return tags };
    while let (Some(id), Some(length)) = (rest.first_chunk::<4>(), rest.get(4..).and_then(|r| r.first_chunk::<4>())) {
        let length = u32::from_le_bytes(*length) as usize;
        let Some(value) = rest.get(8..).and_then(|rest| rest.get(..length)) else { break };
        let value = String::from_utf8_lossy(value);
        let value = value.trim_end_matches('\0');
        match id {
            b"INAM" => tags.set(Field::Title, value),
            b"ITRK" => tags.set(Field::Track, value),
            b"ILNG" => tags.set(Field::Language, value),
            b"ICRD" => tags.set(Field::Date, value),
            b"ICMT" => value.split("; ").filter_map(|pair| pair.split_once('=')).for_each(|(name, value)| {
                if let Some(field) = Field::named(name) {
                    tags.set(field, value);
                }
            }),
            _ => {}
        }
        rest = rest.get(8 + length + length % 2..).unwrap_or_default();
    }
    tags
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_written_is_read_and_damage_ends_the_reading() {
        let tags = crate::tags::sample();
        let bytes = write(&tags);
        assert_eq!(bytes.len() % 2, 0, "chunks keep an even length");
        assert_eq!(read(&bytes[8..]), tags);
        for cut in 8..bytes.len() {
            let part = read(&bytes[8..cut]);
            assert!(part.title.is_none() || part.title == tags.title, "cut at {cut}");
        }
        assert_eq!(write(&Tags::default()), b"");
    }
}
