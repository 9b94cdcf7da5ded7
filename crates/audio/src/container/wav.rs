//! RIFF WAVE: a header reader that is fed bytes, and headers that are right
//! for streams. Read as well: RIFX, its form with the high bytes first, and
//! RF64 and BW64 (EBU Tech 3306, ITU-R BS.2088), whose lengths of 64 bits stand
//! in a chunk of their own.

use crate::codec::pcm::SampleKind;
use crate::container::sample_file::{SampleFormat, SoundStart};
use crate::{AudioError, Layout, Tags};

/// The data length written where the true length is not known yet.
///
/// The largest 32-bit value is what stream-aware readers take as "until the
/// end of the file"; readers that do not know the custom read what is there.
pub const UNKNOWN_LENGTH: u32 = u32::MAX;

/// Chunks before the data that are longer than this are refused: 1 MiB.
const MAX_CHUNK: usize = 1 << 20;

/// How samples stand in a WAV that is written here (codings of RFC 2361).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum WavCoding {
    Pcm16 = 1,
    Alaw = 6,
    Mulaw = 7,
}

/// A 44-byte header for 16-bit PCM. `data_bytes` is `None` for a stream.
pub fn wav_header(layout: Layout, data_bytes: Option<u32>) -> Vec<u8> {
    header(WavCoding::Pcm16, layout, &Tags::default(), data_bytes)
}

fn chunk(out: &mut Vec<u8>, id: &[u8; 4], body: &[u8]) {
    out.extend_from_slice(id);
    out.extend_from_slice(&(body.len() as u32).to_le_bytes());
    out.extend_from_slice(body);
}

/// Everything before the samples. Every coding but PCM has a longer `fmt `
/// and a `fact` with the number of frames. Tags stand before the data, since
/// a stream cannot come back to them.
pub(crate) fn header(coding: WavCoding, layout: Layout, tags: &Tags, data_bytes: Option<u32>) -> Vec<u8> {
    let channels = u16::from(layout.channels);
    let sample: u16 = if coding == WavCoding::Pcm16 { 2 } else { 1 };
    let mut format = (coding as u16).to_le_bytes().to_vec();
    format.extend_from_slice(&channels.to_le_bytes());
    format.extend_from_slice(&layout.rate.to_le_bytes());
    format.extend_from_slice(&(layout.rate * u32::from(sample * channels)).to_le_bytes());
    format.extend_from_slice(&(sample * channels).to_le_bytes());
    format.extend_from_slice(&(sample * 8).to_le_bytes());
    let mut out = b"RIFF\0\0\0\0WAVE".to_vec();
    if coding == WavCoding::Pcm16 {
        chunk(&mut out, b"fmt ", &format);
    } else {
        format.extend_from_slice(&[0, 0]);
        chunk(&mut out, b"fmt ", &format);
        let frames = data_bytes.map_or(UNKNOWN_LENGTH, |bytes| bytes / u32::from(channels));
        chunk(&mut out, b"fact", &frames.to_le_bytes());
    }
    out.extend(crate::tags::riff::write(tags));
    out.extend_from_slice(b"data");
    out.extend_from_slice(&data_bytes.unwrap_or(UNKNOWN_LENGTH).to_le_bytes());
    let riff = data_bytes.map_or(UNKNOWN_LENGTH, |bytes| bytes.saturating_add(out.len() as u32 - 8));
    out[4..8].copy_from_slice(&riff.to_le_bytes());
    out
}

/// Number of first bytes of a file in which [`mend_wav_lengths`] finds its data.
pub const WAV_START: usize = 64 << 10;

/// Whether a length is what streams claim that do not know theirs.
fn is_open(length: u32) -> bool {
    length == 0 || length >= 0x7FFF_0000
}

/// Writes the true lengths into a whole file whose header was that of a
/// stream; leaves every other file as it is. Returns whether it did.
///
/// `start` is at least the first [`WAV_START`] bytes, or all of a shorter
/// file; `file_length` is the whole size.
pub fn mend_wav_lengths(start: &mut [u8], file_length: u64) -> bool {
    if !start.starts_with(b"RIFF") || start.get(8..12) != Some(b"WAVE") {
        return false;
    }
    let word = |at: usize| start.get(at..).and_then(|rest| rest.first_chunk::<4>()).copied();
    let (mut at, mut frame, mut fact) = (12, None, None);
    while let (Some(id), Some(length)) = (word(at), word(at + 4).map(u32::from_le_bytes)) {
        match &id {
            b"fmt " => frame = word(at + 20).map(|[low, high, ..]| u32::from(u16::from_le_bytes([low, high])).max(1)),
            b"fact" => fact = Some(at + 8),
            b"data" if !is_open(length) => return false,
            b"data" => break,
            _ => {}
        }
        at = at.saturating_add(8 + length as usize + length as usize % 2);
    }
    let data = file_length.checked_sub(at as u64 + 8).and_then(|bytes| u32::try_from(bytes).ok());
    let (Some(data), Some(b"data"), Some(frame)) = (data, word(at).as_ref(), frame) else { return false };
    start[4..8].copy_from_slice(&data.saturating_add(at as u32).to_le_bytes());
    start[at + 4..at + 8].copy_from_slice(&data.to_le_bytes());
    if let Some(fact) = fact {
        start[fact..fact + 4].copy_from_slice(&(data / frame).to_le_bytes());
    }
    true
}

/// Whether bytes begin such a file, of 32 or of 64 bits.
pub(crate) fn is_wav(start: &[u8]) -> bool {
    let marked = [b"RIFF", b"RIFX", b"RF64", b"BW64"].iter().any(|mark| start.starts_with(*mark));
    marked && start.get(8..12) == Some(b"WAVE")
}

/// Reads chunks until the data begins; keeps only what it has not used.
#[derive(Debug, Default)]
pub(crate) struct WavHeaderReader {
    pending: Vec<u8>,
    seen_riff: bool,
    /// High bytes come first.
    big: bool,
    /// Bytes of the data, if 32 bits are not enough.
    long_data: Option<u64>,
    format: Option<SampleFormat>,
    tags: Tags,
}

impl WavHeaderReader {
    /// Takes more bytes; answers once the data has begun.
    pub(crate) fn push(&mut self, bytes: &[u8]) -> Result<Option<SoundStart>, AudioError> {
        self.pending.extend_from_slice(bytes);
        if !self.seen_riff {
            if self.pending.len() < 12 {
                return Ok(None);
            }
            if !is_wav(&self.pending) {
                return Err(AudioError::NotThis {
                    expected: "WAV",
                    found: crate::format::sniff::describe(&self.pending),
                });
            }
            self.big = self.pending.starts_with(b"RIFX");
            self.pending.drain(..12);
            self.seen_riff = true;
        }
        while let Some((id, length)) = self.chunk_head() {
            if &id == b"data" {
                return self.begin_data(length).map(Some);
            }
            let end = 8 + length as usize;
            if end > MAX_CHUNK {
                return Err(AudioError::Unsupported {
                    format: "WAV",
                    what: format!("a {length}-byte chunk before its data"),
                });
            }
            let Some(whole) = self.padded(end) else { return Ok(None) };
            let body = &self.pending[8..end];
            match &id {
                b"fmt " => self.format = Some(parse_format(body, self.big)?),
                // The length of all, then that of the data.
                b"ds64" => {
                    self.long_data = body.get(8..16).and_then(<[u8]>::first_chunk).map(|at| u64::from_le_bytes(*at))
                }
                b"LIST" if body.starts_with(b"INFO") => self.tags = crate::tags::riff::read(body),
                _ => {}
            }
            self.pending.drain(..whole);
        }
        Ok(None)
    }

    fn chunk_head(&self) -> Option<([u8; 4], u32)> {
        let id = self.pending.first_chunk::<4>()?;
        let length = self.pending.get(4..8)?.first_chunk::<4>()?;
        Some((*id, if self.big { u32::from_be_bytes(*length) } else { u32::from_le_bytes(*length) }))
    }

    /// Where the next chunk begins; `None` while that is not here. Chunks are
    /// padded to an even length (RIFF, 1991), which some programs forget.
    fn padded(&self, end: usize) -> Option<usize> {
        if end.is_multiple_of(2) {
            return (self.pending.len() >= end).then_some(end);
        }
        let next = self.pending.get(end..end + 4)?;
        let forgotten = [b"data", b"fmt ", b"LIST", b"fact"].iter().any(|id| next == *id);
        Some(if forgotten { end } else { end + 1 })
    }

    fn begin_data(&mut self, length: u32) -> Result<SoundStart, AudioError> {
        let format =
            self.format.ok_or(AudioError::Truncated { format: "WAV", what: "no fmt chunk before the data" })?;
        // Lengths at or near the ends of 32 bits are what streams claim.
        let declared = match self.long_data {
            Some(long) if length == UNKNOWN_LENGTH => (long != 0 && long < u64::MAX >> 1).then_some(long),
            _ => (!is_open(length)).then_some(u64::from(length)),
        };
        let data = self.pending.split_off(8);
        Ok(SoundStart { format, declared, data, tags: std::mem::take(&mut self.tags) })
    }
}

fn parse_format(chunk: &[u8], big: bool) -> Result<SampleFormat, AudioError> {
    let short = AudioError::Truncated { format: "WAV", what: "its fmt chunk is too short" };
    if chunk.len() < 16 {
        return Err(short);
    }
    let word = |at: usize| {
        let bytes = [chunk[at], chunk[at + 1]];
        if big { u16::from_be_bytes(bytes) } else { u16::from_le_bytes(bytes) }
    };
    let bits = word(14);
    let mut tag = word(0);
    if tag == 0xFFFE {
        // WAVE_FORMAT_EXTENSIBLE: the true tag begins the sub-format GUID.
        tag = if chunk.len() >= 26 { word(24) } else { return Err(short) };
    }
    // Odd numbers of bits stand at the top of whole bytes.
    let bytes = bits.div_ceil(8);
    let padded = tag == 1 && Some(word(12)) == bytes.checked_mul(word(2));
    let whole = if padded { bytes.saturating_mul(8) } else { bits };
    let kind = match (tag, whole) {
        (1, 8) => SampleKind::U8,
        (1, 16) => SampleKind::S16Le,
        (1, 24) => SampleKind::S24Le,
        (1, 32) => SampleKind::S32Le,
        (3, 32) => SampleKind::F32Le,
        (3, 64) => SampleKind::F64Le,
        (6, 8) => SampleKind::Alaw,
        (7, 8) => SampleKind::Mulaw,
        _ => return Err(AudioError::Unsupported { format: "WAV", what: format!("coding {tag} of {bits} bits") }),
    };
    let kind = if big { kind.swapped() } else { kind };
    let channels = word(2);
    let (first, second) = (u32::from(word(4)), u32::from(word(6)));
    let rate = if big { first << 16 | second } else { second << 16 | first };
    let layout = Layout { rate, channels: u8::try_from(channels).map_err(|_| AudioError::Channels(channels))? };
    crate::codec::decode::check_input(layout)?;
    Ok(SampleFormat { layout, kind })
}

#[cfg(test)]
mod tests {
    use super::*;

    const MONO: Layout = Layout { rate: 24_000, channels: 1 };

    fn header_with_list_chunk() -> Vec<u8> {
        let mut file = wav_header(MONO, Some(4)).to_vec();
        let mut list = b"LIST".to_vec();
        list.extend_from_slice(&5u32.to_le_bytes());
        list.extend_from_slice(b"INFO!\0"); // odd length, so one byte of padding
        file.splice(36..36, list);
        file.extend_from_slice(&[1, 2, 3, 4]);
        file
    }

    #[test]
    fn reads_the_same_however_the_header_is_cut() {
        let file = header_with_list_chunk();
        for cut in 0..=file.len() {
            let mut reader = WavHeaderReader::default();
            let first = reader.push(&file[..cut]).expect("valid");
            let mut data = Vec::new();
            let start = match first {
                Some(start) => {
                    data.extend(&file[cut..]);
                    start
                }
                None => reader.push(&file[cut..]).expect("valid").expect("begun"),
            };
            assert_eq!(start.format, SampleFormat { layout: MONO, kind: SampleKind::S16Le });
            assert_eq!(start.declared, Some(4));
            assert_eq!([start.data, data].concat(), [1, 2, 3, 4], "cut at {cut}");
        }
    }

    #[test]
    fn a_stream_header_declares_no_length_and_can_be_mended() {
        let mut file = wav_header(MONO, None).to_vec();
        file.extend_from_slice(&[0; 100]);
        let start = WavHeaderReader::default().push(&file).expect("valid").expect("begun");
        assert_eq!(start.declared, None);
        let mut empty = file.clone();
        empty[40..44].fill(0);
        assert!(mend_wav_lengths(&mut empty, 144), "no length at all");
        assert_eq!(empty[..44], wav_header(MONO, Some(100))[..]);
        assert!(mend_wav_lengths(&mut file, 144));
        assert_eq!(file[..44], wav_header(MONO, Some(100))[..]);
        assert!(!mend_wav_lengths(&mut file, 144), "a true header stays as it is");
    }

    #[test]
    fn headers_with_tags_and_with_a_fact_are_mended_too() {
        let tags = crate::tags::sample();
        for coding in [WavCoding::Pcm16, WavCoding::Alaw, WavCoding::Mulaw] {
            let mut file = header(coding, MONO, &tags, None);
            let length = file.len();
            file.extend_from_slice(&[0; 100]);
            assert!(mend_wav_lengths(&mut file, length as u64 + 100));
            assert_eq!(file[..length], header(coding, MONO, &tags, Some(100))[..], "{coding:?}");
            assert_eq!(WavHeaderReader::default().push(&file).expect("valid").expect("begun").tags, tags);
        }
        let mut lying = b"RIFF\0\0\0\0WAVEdata\xFF\xFF\xFF\xFF".to_vec();
        assert!(!mend_wav_lengths(&mut lying, 20), "without a format nothing is known");
    }

    #[test]
    fn refuses_codings_it_cannot_read_and_absurd_chunks() {
        let mut odd = wav_header(MONO, Some(4)).to_vec();
        odd[20] = 0x55;
        let error = WavHeaderReader::default().push(&odd).err().expect("MPEG in WAV");
        assert_eq!(error.to_string(), "WAV with coding 85 of 16 bits cannot be read");
        let mut huge = b"RIFF\0\0\0\0WAVEjunk".to_vec();
        huge.extend_from_slice(&u32::MAX.to_le_bytes());
        assert!(WavHeaderReader::default().push(&huge).is_err());
        assert!(WavHeaderReader::default().push(b"not a wave file").is_err());
    }
}
