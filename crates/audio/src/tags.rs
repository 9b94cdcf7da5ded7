//! What is written about the sound beside it.

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
