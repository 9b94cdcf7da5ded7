//! The place of a signature in a file. What is signed is the whole file with
//! [`UNSIGNED`] in that place, its tags included: who changes anything changes
//! what was signed. The signature has the same length, so that it can be put in
//! when the file is complete.
//!
//! What does not live here: keys, digests and signatures.

use std::ops::Range;

use crc::{Algorithm, Crc};

use super::Field;

/// What stands in the place of a signature until a file is signed. A stream
/// keeps it: its end is not known when its tags are sent.
pub const UNSIGNED: &str =
    "unsigned...............................................................................................";
/// The place is looked for in so many bytes of a file.
pub const PROVENANCE_HEAD: usize = 64 << 10;
/// Bytes between the name of the tag and its value, in any container.
const MOST_BETWEEN: usize = 16;

/// The checksum of an Ogg page (RFC 3533, section 6).
const OGG_CRC: Crc<u32> = Crc::<u32>::new(&Algorithm {
    width: 32,
    poly: 0x04C1_1DB7,
    init: 0,
    refin: false,
    refout: false,
    xorout: 0,
    check: 0x89A1_897F,
    residue: 0,
});

fn is_value(byte: u8) -> bool {
    byte.is_ascii_alphanumeric() || matches!(byte, b'-' | b'_' | b'.')
}

/// Where the value stands in the first bytes of a file.
fn place(head: &[u8]) -> Option<Range<usize>> {
    let head = &head[..head.len().min(PROVENANCE_HEAD)];
    // It is the last of the tags: a title may hold the same words.
    let name = memchr::memmem::rfind(head, Field::Provenance.name().as_bytes())? + Field::Provenance.name().len();
    let value =
        |from: usize| head.get(from..from + UNSIGNED.len()).is_some_and(|value| value.iter().all(|b| is_value(*b)));
    let from = (name..=name + MOST_BETWEEN).find(|from| value(*from))?;
    Some(from..from + UNSIGNED.len())
}

/// The signature of a file, from its first [`PROVENANCE_HEAD`] bytes;
/// [`UNSIGNED`] where it has none yet, and `None` where it has no place for one.
pub fn provenance(head: &[u8]) -> Option<&str> {
    std::str::from_utf8(head.get(place(head)?)?).ok()
}

/// Puts a signature, or [`UNSIGNED`], into the first bytes of a file. Says
/// whether there is a place for it.
pub fn put_provenance(head: &mut [u8], value: &str) -> bool {
    let Some(place) = place(head).filter(|place| place.len() == value.len()) else { return false };
    let Some(page) = (match head.starts_with(b"OggS") {
        true => ogg_page(head, &place).map(Some),
        false => Some(None),
    }) else {
        return false;
    };
    head[place].copy_from_slice(value.as_bytes());
    if let Some(page) = page {
        let page = &mut head[page];
        page[22..26].fill(0);
        let sum = OGG_CRC.checksum(page);
        page[22..26].copy_from_slice(&sum.to_le_bytes());
    }
    true
}

/// The page that holds a place as a whole.
fn ogg_page(head: &[u8], place: &Range<usize>) -> Option<Range<usize>> {
    let mut at = 0;
    loop {
        let page = head.get(at..)?;
        let segments = usize::from(*page.get(26)?);
        let body: usize = page.get(27..27 + segments)?.iter().map(|length| usize::from(*length)).sum();
        let end = at + 27 + segments + body;
        if !page.starts_with(b"OggS") || end > head.len() || at > place.start {
            return None;
        }
        if place.end <= end {
            return Some(at..end);
        }
        at = end;
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Codec, Format, Meter, Options, Tags, Transcoder, encode_all};

    const SIGNATURE: &str =
        "abcdefgh-_345678.01234567890123456789012345678901234567890123456789012345678901234567890123456789012345";

    /// Half a second of a tone in a format, with a title.
    fn file(codec: Codec, title: &str) -> Vec<u8> {
        let samples: Vec<f32> = (0..12_000).map(|n| 0.4 * (n as f32 * 0.17).sin()).collect();
        let (from, to) = (Format::new(Codec::Wav, 24_000), Format::new(codec, 24_000));
        let tags =
            Tags { title: Some(title.into()), provenance: Some(UNSIGNED.into()), synthetic: true, ..Tags::default() };
        let options = Options { tags, ..Options::default() };
        let mut transcoder = Transcoder::with(from, to, options).expect("a transcoder");
        let mut out = transcoder.push(&encode_all(&samples, from).expect("audio").into()).expect("audio").to_vec();
        out.extend_from_slice(&transcoder.finish().expect("audio"));
        out
    }

    #[test]
    fn a_signature_is_put_into_every_container_and_the_file_stays_whole() {
        assert_eq!(SIGNATURE.len(), UNSIGNED.len());
        let misleading = format!("PROVENANCE={UNSIGNED}");
        for codec in [Codec::Mp3, Codec::OggOpus, Codec::WebmOpus, Codec::Flac, Codec::Wav] {
            let unsigned = file(codec, &misleading);
            assert_eq!(provenance(&unsigned), Some(UNSIGNED), "{codec:?}");
            let mut signed = unsigned.clone();
            assert!(put_provenance(&mut signed, SIGNATURE));
            assert_eq!(provenance(&signed), Some(SIGNATURE), "{codec:?}");
            let mut meter = Meter::new(Format::new(codec, 24_000)).expect("a meter");
            meter.push(&signed).expect("whole");
            assert!(meter.finish().expect("whole").milliseconds() >= 500, "{codec:?}");
            let tags = meter.tags();
            assert_eq!(tags.provenance.as_deref(), Some(SIGNATURE), "{codec:?}");
            assert_eq!(tags.title.as_ref(), Some(&misleading), "{codec:?}: the title stays");
            assert!(put_provenance(&mut signed, UNSIGNED));
            assert_eq!(signed, unsigned, "{codec:?}: back to what was signed, checksums included");
        }
    }

    #[test]
    fn a_file_without_a_place_or_with_half_of_one_is_left_alone() {
        for codec in [Codec::Mp3, Codec::OggOpus, Codec::WebmOpus, Codec::Flac, Codec::Wav] {
            let whole = file(codec, "Ahoy");
            let from = place(&whole).expect("a place").start;
            for cut in [0, 20, from - 4, from + UNSIGNED.len() - 1] {
                let mut part = whole[..cut].to_vec();
                assert!(!put_provenance(&mut part, SIGNATURE), "{codec:?} cut at {cut}");
                assert_eq!(part, whole[..cut], "{codec:?} cut at {cut}");
            }
        }
        let mut other = b"RIFF\0\0\0\0WAVEfmt ".to_vec();
        assert!(!put_provenance(&mut other, SIGNATURE));
        assert!(!put_provenance(&mut file(Codec::Wav, "Ahoy"), "short"), "another length would move the audio");
    }
}
