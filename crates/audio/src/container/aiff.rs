//! AIFF and AIFF-C: a header reader that is fed bytes.

use crate::codec::pcm::SampleKind;
use crate::container::sample_file::{SampleFormat, SoundStart};
use crate::{AudioError, Layout, Tags};

/// Chunks before the audio that are longer than this are refused: 1 MiB.
const MAX_CHUNK: usize = 1 << 20;

/// Reads chunks until the audio begins; keeps only what it has not used.
#[derive(Debug, Default)]
pub(crate) struct AiffHeaderReader {
    pending: Vec<u8>,
    /// The form was seen, and whether it is AIFF-C.
    compressed: Option<bool>,
    /// The format, and how many frames `COMM` promises.
    common: Option<(SampleFormat, u32)>,
}

impl AiffHeaderReader {
    /// Takes more bytes; answers once the audio has begun.
    pub(crate) fn push(&mut self, bytes: &[u8]) -> Result<Option<SoundStart>, AudioError> {
        self.pending.extend_from_slice(bytes);
        let compressed = match self.compressed {
            Some(compressed) => compressed,
            None if self.pending.len() < 12 => return Ok(None),
            None => {
                let kind = &self.pending[8..12];
                if &self.pending[0..4] != b"FORM" || !(kind == b"AIFF" || kind == b"AIFC") {
                    return Err(AudioError::NotThis {
                        expected: "AIFF",
                        found: crate::format::sniff::describe(&self.pending),
                    });
                }
                let compressed = kind == b"AIFC";
                self.pending.drain(..12);
                *self.compressed.insert(compressed)
            }
        };
        while let (Some(id), Some(length)) = (self.pending.first_chunk::<4>().copied(), word(&self.pending, 4)) {
            if &id == b"SSND" {
                return self.begin(length);
            }
            let whole = 8 + length as usize + (length as usize & 1);
            if whole > MAX_CHUNK {
                let what = format!("a {length}-byte chunk before its sound");
                return Err(AudioError::Unsupported { format: "AIFF", what });
            }
            if self.pending.len() < whole {
                return Ok(None);
            }
            if &id == b"COMM" {
                self.common = Some(parse_common(&self.pending[8..8 + length as usize], compressed)?);
            }
            self.pending.drain(..whole);
        }
        Ok(None)
    }

    /// `SSND` has an offset to its first sample, which may still be to come.
    fn begin(&mut self, length: u32) -> Result<Option<SoundStart>, AudioError> {
        let Some(offset) = word(&self.pending, 8) else { return Ok(None) };
        let (format, frames) = self.common.ok_or_else(|| AudioError::Unsupported {
            format: "AIFF",
            what: "its sound before its COMM chunk".into(),
        })?;
        let first = 16 + offset as usize;
        if first > MAX_CHUNK {
            return Err(AudioError::Unsupported { format: "AIFF", what: format!("an offset of {offset} bytes") });
        }
        if self.pending.len() < first {
            return Ok(None);
        }
        // Streams claim nothing or everything; COMM counts what there is.
        let in_chunk =
            (length > 8 && length < 0x7FFF_0000).then(|| u64::from(length - 8).saturating_sub(offset.into()));
        let counted = (frames > 0 && frames < 0x7FFF_0000).then(|| u64::from(frames) * format.frame_bytes());
        let declared = match (in_chunk, counted) {
            (Some(chunk), Some(counted)) => Some(chunk.min(counted)),
            (chunk, counted) => chunk.or(counted),
        };
        let data = self.pending.split_off(first);
        Ok(Some(SoundStart { format, declared, data, tags: Tags::default() }))
    }
}

fn word(bytes: &[u8], at: usize) -> Option<u32> {
    Some(u32::from_be_bytes(*bytes.get(at..at + 4)?.first_chunk()?))
}

/// ```text
/// channels(2) frames(4) bits(2) rate(10, extended) [compression(4) name]
/// ```
fn parse_common(chunk: &[u8], compressed: bool) -> Result<(SampleFormat, u32), AudioError> {
    let short = AudioError::Truncated { format: "AIFF", what: "its COMM chunk is too short" };
    if chunk.len() < 18 || (compressed && chunk.len() < 22) {
        return Err(short);
    }
    let channels = u16::from_be_bytes([chunk[0], chunk[1]]);
    let frames = word(chunk, 2).unwrap_or(0);
    let bits = u16::from_be_bytes([chunk[6], chunk[7]]);
    let rate = extended(&chunk[8..18]);
    let coding: &[u8] = if compressed { &chunk[18..22] } else { b"NONE" };
    let kind = match (coding, bits) {
        (b"NONE" | b"twos", 1..=8) => SampleKind::S8,
        (b"NONE" | b"twos", 9..=16) => SampleKind::S16Be,
        (b"NONE" | b"twos", 17..=24) => SampleKind::S24Be,
        (b"NONE" | b"twos", 25..=32) => SampleKind::S32Be,
        (b"sowt", 1..=8) => SampleKind::S8,
        (b"sowt", 9..=16) => SampleKind::S16Le,
        (b"sowt", 17..=24) => SampleKind::S24Le,
        (b"sowt", 25..=32) => SampleKind::S32Le,
        (b"in24", _) => SampleKind::S24Be,
        (b"in32", _) => SampleKind::S32Be,
        (b"raw ", 1..=8) => SampleKind::U8,
        (b"fl32" | b"FL32", _) => SampleKind::F32Be,
        (b"fl64" | b"FL64", _) => SampleKind::F64Be,
        (b"ulaw" | b"ULAW", _) => SampleKind::Mulaw,
        (b"alaw" | b"ALAW", _) => SampleKind::Alaw,
        _ => {
            let what = format!("coding '{}' of {bits} bits", String::from_utf8_lossy(coding));
            return Err(AudioError::Unsupported { format: "AIFF", what });
        }
    };
    let layout = Layout { rate, channels: u8::try_from(channels).map_err(|_| AudioError::Channels(channels))? };
    crate::codec::decode::check_input(layout)?;
    Ok((SampleFormat { layout, kind }, frames))
}

/// An 80-bit extended float (IEEE 754) of a rate, to the nearest hertz; 0
/// where it is no rate.
fn extended(bytes: &[u8]) -> u32 {
    let exponent = i32::from(u16::from_be_bytes([bytes[0], bytes[1]]) & 0x7FFF) - 16_383;
    let mantissa = bytes[2..10].first_chunk::<8>().map_or(0, |bytes| u64::from_be_bytes(*bytes));
    let negative = bytes[0] & 0x80 != 0;
    if negative || !(0..32).contains(&exponent) {
        return 0;
    }
    let value = mantissa as f64 / 2f64.powi(63 - exponent);
    if value < f64::from(u32::MAX) { value.round() as u32 } else { 0 }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rates_are_read_from_their_extended_form() {
        for (bytes, rate) in [
            ([0x40, 0x0E, 0xAC, 0x44, 0, 0, 0, 0, 0, 0], 44_100),
            ([0x40, 0x0D, 0xAC, 0x44, 0, 0, 0, 0, 0, 0], 22_050),
            ([0x40, 0x0B, 0xFA, 0, 0, 0, 0, 0, 0, 0], 8_000),
            ([0xC0, 0x0B, 0xFA, 0, 0, 0, 0, 0, 0, 0], 0),
            ([0x7F, 0xFF, 0xFA, 0, 0, 0, 0, 0, 0, 0], 0),
        ] {
            assert_eq!(extended(&bytes), rate, "{bytes:?}");
        }
    }
}
