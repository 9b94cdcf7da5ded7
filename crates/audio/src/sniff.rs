//! Telling a format by its first bytes.

use crate::Codec;
use crate::mp3::FrameHeader;

/// So many bytes decide; with fewer the answer may still be "not yet".
pub const MIN_SNIFF: usize = 16;

/// The format that the bytes begin, or `None` where nothing known begins so.
///
/// Raw codings have no mark and are never found.
pub fn sniff(start: &[u8]) -> Option<Codec> {
    if start.starts_with(b"RIFF") && start.get(8..12) == Some(b"WAVE") {
        return Some(Codec::Wav);
    }
    if start.starts_with(b"OggS") {
        // The first page holds the identification header alone (RFC 7845, section 3).
        return start.windows(8).take(64).any(|w| w == b"OpusHead").then_some(Codec::OggOpus);
    }
    if start.starts_with(b"ID3") || FrameHeader::parse(start).is_some() {
        return Some(Codec::Mp3);
    }
    None
}

/// A few words for an error: what the bytes look like.
pub(crate) fn describe(start: &[u8]) -> String {
    let known: [(&[u8], &str); 9] = [
        (b"fLaC", "FLAC"),
        (b"OggS", "Ogg"),
        (b"ID3", "MP3"),
        (b"FORM", "AIFF"),
        (b".snd", "AU"),
        (b"\x1A\x45\xDF\xA3", "WebM"),
        (b"<", "markup"),
        (b"{", "JSON"),
        (b"RIFF", "RIFF"),
    ];
    if start.is_empty() {
        return "nothing".into();
    }
    if start.get(4..8) == Some(b"ftyp") {
        return "MP4".into();
    }
    if let Some((_, name)) = known.iter().find(|(magic, _)| start.starts_with(magic)) {
        return (*name).into();
    }
    let shown: Vec<String> = start.iter().take(8).map(|byte| format!("{byte:02x}")).collect();
    format!("the bytes {}", shown.join(" "))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn tells_the_formats_that_are_read() {
        assert_eq!(sniff(b"RIFF\x24\0\0\0WAVEfmt "), Some(Codec::Wav));
        assert_eq!(sniff(b"ID3\x04\0\0\0\0\0\0rest"), Some(Codec::Mp3));
        assert_eq!(sniff(&[0xFF, 0xF3, 0x64, 0xC4, 0, 0]), Some(Codec::Mp3));
        let mut ogg = b"OggS\0\x02".to_vec();
        ogg.resize(28, 0);
        ogg.extend_from_slice(b"OpusHead");
        assert_eq!(sniff(&ogg), Some(Codec::OggOpus));
    }

    #[test]
    fn does_not_take_text_for_audio() {
        for text in ["<html>", "{\"error\":1}", "", "RIFF", "The 06:15 to Gullsay"] {
            assert_eq!(sniff(text.as_bytes()), None, "{text}");
        }
        assert_eq!(describe(b"{\"fault\":1}"), "JSON");
    }
}
