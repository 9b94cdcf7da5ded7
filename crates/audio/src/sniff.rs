//! Telling a format by its first bytes.

use crate::Codec;
use crate::mp3::FrameHeader;

/// So many bytes decide; with fewer the answer may still be "not yet".
pub const MIN_SNIFF: usize = 16;

/// The format that the bytes begin, or `None` where nothing known begins so.
///
/// Raw codings have no mark and are never found.
pub fn sniff(start: &[u8]) -> Option<Codec> {
    let begins = |mark: &[u8]| start.starts_with(mark);
    let at_eight = start.get(8..12).unwrap_or_default();
    match start.first()? {
        b'R' | b'B' if crate::wav::is_wav(start) => Some(Codec::Wav),
        b'F' if begins(b"FORM") && (at_eight == b"AIFF" || at_eight == b"AIFC") => Some(Codec::Aiff),
        b'.' if begins(b".snd") => Some(Codec::Au),
        b'f' if begins(b"fLaC") => Some(Codec::Flac),
        b'O' if begins(b"OggS") => in_ogg(start),
        0x1A if begins(&[0x1A, 0x45, 0xDF, 0xA3]) => Some(Codec::WebmOpus),
        b'I' if begins(b"ID3") => Some(tagged(start)),
        _ if matches!(start.get(4..8), Some(b"ftyp" | b"styp")) => Some(Codec::Mp4),
        // Layer 0 is ADTS, which MPEG audio reserves.
        0xFF if crate::adts::is_adts(start) => Some(Codec::Aac),
        0xFF if FrameHeader::parse(start).is_some() => Some(Codec::Mp3),
        _ => None,
    }
}

/// The first page holds the identification header alone (RFC 7845, section 3;
/// RFC 9639, section 10.1).
fn in_ogg(start: &[u8]) -> Option<Codec> {
    let page = &start[..start.len().min(96)];
    let holds = |mark: &[u8]| page.windows(mark.len()).any(|window| window == mark);
    if holds(b"OpusHead") {
        Some(Codec::OggOpus)
    } else if holds(b"\x01vorbis") {
        Some(Codec::OggVorbis)
    } else if holds(b"\x7FFLAC") {
        Some(Codec::OggFlac)
    } else {
        None
    }
}

/// What stands behind an ID3v2 tag, where the bytes reach that far; MP3
/// otherwise, which nearly always has them.
fn tagged(start: &[u8]) -> Codec {
    let behind = crate::tags::id3::length(start).and_then(|length| start.get(length..));
    match behind {
        Some(rest) if rest.starts_with(b"fLaC") => Codec::Flac,
        Some(rest) if crate::adts::is_adts(rest) => Codec::Aac,
        _ => Codec::Mp3,
    }
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
