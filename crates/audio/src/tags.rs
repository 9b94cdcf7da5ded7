//! What stands beside the sound: notes that are written, and tags that are
//! passed over.

/// Who made it.
pub(crate) const VENDOR: &str = "Dispatcher";
/// Says that nobody spoke this.
pub(crate) const SYNTHETIC: &str = "SYNTHETIC_SPEECH=1";

/// A Vorbis comment: vendor and fields, lengths little-endian.
pub(crate) fn vorbis_comment() -> Vec<u8> {
    let mut comment = Vec::new();
    let mut text = |text: &str| {
        comment.extend_from_slice(&(text.len() as u32).to_le_bytes());
        comment.extend_from_slice(text.as_bytes());
    };
    text(VENDOR);
    let fields = [SYNTHETIC];
    comment.extend_from_slice(&(fields.len() as u32).to_le_bytes());
    for field in fields {
        comment.extend_from_slice(&(field.len() as u32).to_le_bytes());
        comment.extend_from_slice(field.as_bytes());
    }
    comment
}

/// Bytes of the ID3v2 tag that begins here, its head included; `None` until
/// its head is whole. Its size is "synchsafe": seven bits a byte.
pub(crate) fn id3_bytes(start: &[u8]) -> Option<usize> {
    let size = start.get(6..10)?;
    Some(10 + size.iter().fold(0, |sum, byte| (sum << 7) | usize::from(byte & 0x7F)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_tag_tells_its_length_in_sevens() {
        assert_eq!(id3_bytes(b"ID3\x04\0\0\0\0\x01\x48"), Some(10 + 200));
        assert_eq!(id3_bytes(b"ID3\x04\0\0\x7F\x7F\x7F\x7F"), Some(10 + (1 << 28) - 1));
        assert_eq!(id3_bytes(b"ID3\x04\0\0\0\0\x01"), None);
    }
}
