//! Telling a format by its first bytes.

use crate::container::mp3_frames::FrameHeader;
use crate::{AudioError, Codec, Format};

/// Number of first bytes that identify a file: a stream of Ogg may name
/// others before its audio, and a tag may stand before the mark.
pub const START_BYTES: usize = 4 << 10;

/// What audio is, by its first [`START_BYTES`]; `told` is what its sender says
/// it is, which counts where the bytes do not tell: for raw codings, and for
/// streams of frames, which may begin in the middle of one.
///
/// # Errors
/// If neither identifies it.
pub fn recognise(start: &[u8], told: Option<Format>) -> Result<Format, AudioError> {
    let in_frames = |codec| matches!(codec, Codec::Mp3 | Codec::Aac);
    match (sniff(&start[..start.len().min(START_BYTES)]), told) {
        (Some(codec), _) => Ok(Format::new(codec, 24_000)),
        (None, Some(told)) if !told.codec.describes_itself() || in_frames(told.codec) => Ok(told),
        _ => Err(AudioError::Unrecognised(describe(start))),
    }
}

/// The format that the bytes begin, or `None` where nothing known begins so.
///
/// Raw codings have no mark and are never found.
pub fn sniff(start: &[u8]) -> Option<Codec> {
    let begins = |mark: &[u8]| start.starts_with(mark);
    let at_eight = start.get(8..12).unwrap_or_default();
    match start.first()? {
        b'R' | b'B' if crate::container::wav::is_wav(start) => Some(Codec::Wav),
        b'F' if begins(b"FORM") && (at_eight == b"AIFF" || at_eight == b"AIFC") => Some(Codec::Aiff),
        b'.' | b'd' | 0 if crate::container::au::is_au(start) => Some(Codec::Au),
        b'f' if begins(b"fLaC") => Some(Codec::Flac),
        b'O' if begins(b"OggS") => in_ogg(start),
        0x1A if begins(&[0x1A, 0x45, 0xDF, 0xA3]) => Some(Codec::WebmOpus),
        b'I' if begins(b"ID3") => Some(tagged(start)),
        _ if matches!(start.get(4..8), Some(b"ftyp" | b"styp")) => Some(Codec::Mp4),
        // Layer 0 is ADTS, which MPEG audio reserves.
        0xFF if crate::container::adts::is_adts(start) => Some(Codec::Aac),
        0xFF if FrameHeader::parse(start).is_some() => Some(Codec::Mp3),
        _ => None,
    }
}

/// Bytes of rubbish that may be before audio.
const MOST_RUBBISH: usize = 64 << 10;

/// Where audio begins in bytes that begin with something else, in bytes; up
/// to 64 KiB are searched.
pub fn find_start(bytes: &[u8]) -> Option<usize> {
    let bytes = &bytes[..bytes.len().min(MOST_RUBBISH + START_BYTES)];
    (1..bytes.len().min(MOST_RUBBISH)).find(|at| {
        let rest = &bytes[*at..];
        match sniff(rest) {
            // Two bytes may look like a frame by chance; frames that follow
            // each other do not.
            Some(Codec::Mp3) if rest[0] == 0xFF => {
                let mut behind = rest;
                (0..3).all(|_| {
                    let Some(length) = FrameHeader::parse(behind).map(|header| header.bytes) else { return false };
                    behind = behind.get(length..).unwrap_or_default();
                    true
                })
            }
            Some(Codec::Aac) if rest[0] == 0xFF => false,
            // "ftyp" and the like have no mark at their very beginning.
            Some(Codec::Mp4) => rest.starts_with(&[0, 0]),
            found => found.is_some(),
        }
    })
}

/// Each stream's first page holds its identification header alone (RFC 7845,
/// section 3; RFC 9639, section 10.1), and all first pages stand before any
/// other (RFC 3533, section 4): among them may be those of pictures, or of an
/// index.
fn in_ogg(start: &[u8]) -> Option<Codec> {
    let mut rest = start;
    while let Some((page, behind)) = crate::container::ogg::first_page(rest) {
        if let Some(codec) = crate::container::ogg::codec_of(page) {
            return Some(codec);
        }
        rest = behind;
    }
    None
}

/// Content after an ID3v2 tag, where the bytes reach that far; MP3
/// otherwise, which nearly always has them.
fn tagged(start: &[u8]) -> Codec {
    let behind = crate::tags::id3::length(start).and_then(|length| start.get(length..));
    match behind {
        Some(rest) if rest.starts_with(b"fLaC") => Codec::Flac,
        Some(rest) if crate::container::adts::is_adts(rest) => Codec::Aac,
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
        ogg.resize(26, 0);
        let index = [&ogg, b"\x01\x08fishead\0".as_slice()].concat();
        ogg.extend_from_slice(b"\x01\x13OpusHead");
        assert_eq!(sniff(&ogg), Some(Codec::OggOpus));
        assert_eq!(sniff(&[index.as_slice(), &ogg].concat()), Some(Codec::OggOpus), "behind an index");
        assert_eq!(sniff(&[index.as_slice(), &index].concat()), None, "nothing but an index");
    }

    #[test]
    fn audio_behind_rubbish_is_found() {
        let tone = vec![0.1; 24_000];
        for codec in [Codec::Wav, Codec::Mp3, Codec::OggOpus, Codec::Flac] {
            let file = crate::encode_all(&tone, Format::new(codec, 24_000)).expect("a file");
            let behind = [b"\xFF\xFB HTTP/1.1 200 OK\r\n\r\n".as_slice(), &file].concat();
            assert_eq!(find_start(&behind), Some(behind.len() - file.len()), "{codec}");
        }
        assert_eq!(find_start(b"<html>The 06:15 to Gullsay is delayed</html>"), None);
        assert_eq!(find_start(b""), None);
    }

    #[test]
    fn does_not_take_text_for_audio() {
        for text in ["<html>", "{\"error\":1}", "", "RIFF", "The 06:15 to Gullsay"] {
            assert_eq!(sniff(text.as_bytes()), None, "{text}");
        }
        assert_eq!(describe(b"{\"fault\":1}"), "JSON");
    }
}
