//! RIFF WAVE: a header reader that is fed bytes, and headers that are right
//! for streams.

use crate::pcm::SampleKind;
use crate::{AudioError, Layout};

/// The data length written where the true length is not known yet.
///
/// The largest 32-bit value is what stream-aware readers take as "until the
/// end of the file"; readers that do not know the custom read what is there.
pub const UNKNOWN_LENGTH: u32 = u32::MAX;

/// Chunks before the data that are longer than this are refused: 1 MiB.
const MAX_CHUNK: usize = 1 << 20;

/// A 44-byte header for 16-bit PCM. `data_bytes` is `None` for a stream.
pub fn wav_header(layout: Layout, data_bytes: Option<u32>) -> [u8; 44] {
    let data = data_bytes.unwrap_or(UNKNOWN_LENGTH);
    let riff = data_bytes.map_or(UNKNOWN_LENGTH, |bytes| bytes.saturating_add(36));
    let frame = u16::from(layout.channels) * 2;
    let mut header = [0; 44];
    header[0..4].copy_from_slice(b"RIFF");
    header[4..8].copy_from_slice(&riff.to_le_bytes());
    header[8..16].copy_from_slice(b"WAVEfmt ");
    header[16..20].copy_from_slice(&16u32.to_le_bytes());
    header[20..22].copy_from_slice(&1u16.to_le_bytes());
    header[22..24].copy_from_slice(&u16::from(layout.channels).to_le_bytes());
    header[24..28].copy_from_slice(&layout.rate.to_le_bytes());
    header[28..32].copy_from_slice(&(layout.rate * u32::from(frame)).to_le_bytes());
    header[32..34].copy_from_slice(&frame.to_le_bytes());
    header[34..36].copy_from_slice(&16u16.to_le_bytes());
    header[36..40].copy_from_slice(b"data");
    header[40..44].copy_from_slice(&data.to_le_bytes());
    header
}

/// Writes the true lengths into a whole file whose header was that of a
/// stream; leaves every other file as it is. Returns whether it did.
///
/// `start` is at least the first 44 bytes, `file_length` the whole size.
pub fn mend_wav_lengths(start: &mut [u8], file_length: u64) -> bool {
    let streamed = start.len() >= 44
        && &start[0..4] == b"RIFF"
        && &start[36..40] == b"data"
        && start[40..44] == UNKNOWN_LENGTH.to_le_bytes();
    let Some(data) = file_length.checked_sub(44).and_then(|bytes| u32::try_from(bytes).ok()) else {
        return false;
    };
    if streamed {
        start[4..8].copy_from_slice(&data.saturating_add(36).to_le_bytes());
        start[40..44].copy_from_slice(&data.to_le_bytes());
    }
    streamed
}

/// What the header says of the samples that follow it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct WavFormat {
    pub(crate) layout: Layout,
    pub(crate) kind: SampleKind,
}

/// Reads chunks until the data begins; keeps only what it has not used.
#[derive(Debug, Default)]
pub(crate) struct WavHeaderReader {
    pending: Vec<u8>,
    seen_riff: bool,
    format: Option<WavFormat>,
}

/// The header is over: the format, how many bytes of data are declared
/// (`None`: until the end) and the data bytes that came with the header.
pub(crate) struct WavStart {
    pub(crate) format: WavFormat,
    pub(crate) declared: Option<u64>,
    pub(crate) data: Vec<u8>,
}

impl WavHeaderReader {
    /// Takes more bytes; answers once the data has begun.
    pub(crate) fn push(&mut self, bytes: &[u8]) -> Result<Option<WavStart>, AudioError> {
        self.pending.extend_from_slice(bytes);
        if !self.seen_riff {
            if self.pending.len() < 12 {
                return Ok(None);
            }
            if &self.pending[0..4] != b"RIFF" || &self.pending[8..12] != b"WAVE" {
                return Err(AudioError::NotThis { expected: "WAV", found: crate::sniff::describe(&self.pending) });
            }
            self.pending.drain(..12);
            self.seen_riff = true;
        }
        while let Some((id, length)) = self.chunk_head() {
            if &id == b"data" {
                return self.begin_data(length).map(Some);
            }
            // Chunks are padded to an even length (RIFF, 1991).
            let whole = 8 + length as usize + (length as usize & 1);
            if whole > MAX_CHUNK {
                return Err(AudioError::Unsupported {
                    format: "WAV",
                    what: format!("a {length}-byte chunk before its data"),
                });
            }
            if self.pending.len() < whole {
                return Ok(None);
            }
            if &id == b"fmt " {
                self.format = Some(parse_format(&self.pending[8..8 + length as usize])?);
            }
            self.pending.drain(..whole);
        }
        Ok(None)
    }

    fn chunk_head(&self) -> Option<([u8; 4], u32)> {
        let id = self.pending.first_chunk::<4>()?;
        let length = self.pending.get(4..8)?.first_chunk::<4>()?;
        Some((*id, u32::from_le_bytes(*length)))
    }

    fn begin_data(&mut self, length: u32) -> Result<WavStart, AudioError> {
        let format =
            self.format.ok_or(AudioError::Truncated { format: "WAV", what: "no fmt chunk before the data" })?;
        // Lengths at or near the ends of 32 bits are what streams claim.
        let declared = (length != 0 && length < 0x7FFF_0000).then_some(u64::from(length));
        let data = self.pending.split_off(8);
        Ok(WavStart { format, declared, data })
    }
}

fn parse_format(chunk: &[u8]) -> Result<WavFormat, AudioError> {
    let short = AudioError::Truncated { format: "WAV", what: "its fmt chunk is too short" };
    if chunk.len() < 16 {
        return Err(short);
    }
    let word = |at: usize| u16::from_le_bytes([chunk[at], chunk[at + 1]]);
    let bits = word(14);
    let mut tag = word(0);
    if tag == 0xFFFE {
        // WAVE_FORMAT_EXTENSIBLE: the true tag begins the sub-format GUID.
        tag = if chunk.len() >= 26 { word(24) } else { return Err(short) };
    }
    let kind = match (tag, bits) {
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
    let channels = word(2);
    let rate = u32::from_le_bytes([chunk[4], chunk[5], chunk[6], chunk[7]]);
    let layout = Layout { rate, channels: u8::try_from(channels).map_err(|_| AudioError::Channels(channels))? };
    crate::decode::check_input(layout)?;
    Ok(WavFormat { layout, kind })
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
            assert_eq!(start.format, WavFormat { layout: MONO, kind: SampleKind::S16Le });
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
        assert!(mend_wav_lengths(&mut file, 144));
        assert_eq!(file[..44], wav_header(MONO, Some(100)));
        assert!(!mend_wav_lengths(&mut file, 144), "a true header stays as it is");
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
