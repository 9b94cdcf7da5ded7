//! Vorbis comments, as Ogg and FLAC carry them (RFC 7845, section 5.2; RFC
//! 9639, section 8.6): lengths little-endian, `NAME=value` in UTF-8.

use super::{Field, Tags, VENDOR};

pub(crate) fn write(tags: &Tags) -> Vec<u8> {
    let mut comment = Vec::new();
    let mut text = |text: &str| {
        comment.extend_from_slice(&(text.len() as u32).to_le_bytes());
        comment.extend_from_slice(text.as_bytes());
    };
    text(VENDOR);
    let fields = tags.fields();
    comment.extend_from_slice(&(fields.len() as u32).to_le_bytes());
    for (field, value) in fields {
        let line = format!("{}={value}", field.name());
        comment.extend_from_slice(&(line.len() as u32).to_le_bytes());
        comment.extend_from_slice(line.as_bytes());
    }
    comment
}

/// Takes a piece off the front: its length in four bytes, then itself.
fn piece<'a>(rest: &mut &'a [u8]) -> Option<&'a [u8]> {
    let length = u32::from_le_bytes(*rest.first_chunk::<4>()?) as usize;
    let piece = rest.get(4..length.checked_add(4)?)?;
    *rest = &rest[4 + length..];
    Some(piece)
}

/// Reads as many comments as are whole.
pub(crate) fn read(bytes: &[u8]) -> Tags {
    let mut tags = Tags::default();
    let mut rest = bytes;
    let vendor = piece(&mut rest);
    // The number of comments adds nothing to their lengths.
    let (Some(_), Some(mut rest)) = (vendor, rest.get(4..)) else { return tags };
    while let Some(line) = piece(&mut rest) {
        let line = String::from_utf8_lossy(line);
        if let Some((name, value)) = line.split_once('=')
            && let Some(field) = Field::named(name)
        {
            tags.set(field, value);
        }
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
        assert_eq!(read(&bytes), tags);
        for cut in 0..bytes.len() {
            let part = read(&bytes[..cut]);
            assert!(part.title.is_none() || part.title == tags.title, "cut at {cut}");
        }
        assert_eq!(read(&[0xFF; 40]), Tags::default());
    }
}
