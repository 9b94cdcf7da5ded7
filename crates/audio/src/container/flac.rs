//! FLAC (RFC 9639): a frame splitter that is fed bytes, and the check sums.
//! Encoding lives in [`crate::codec::flac_encode`].

use bytes::{Buf as _, BytesMut};
use crc::{CRC_8_SMBUS, CRC_16_UMTS, Crc, Table};

use crate::chunk::Chunk;
use crate::container::packets::{Coding, Demuxed, Demuxer, Packet, Track};
use crate::tags::{MAX_TAG_BYTES, vorbis};
use crate::{AudioError, Layout};

/// A frame holds at most 65,535 samples of eight channels of 32 bits.
const MAX_FRAME_BYTES: usize = 4 << 20;
/// Pictures in the metadata are passed over; larger blocks are refused.
const MAX_BLOCK_BYTES: usize = 16 << 20;
/// STREAMINFO (RFC 9639, section 8.2).
pub(crate) const INFO_BYTES: usize = 34;

/// The number of frames in STREAMINFO; `None` if it is not known.
pub(crate) fn total_frames(info: &[u8]) -> Option<u64> {
    let high = u64::from(*info.get(13)? & 0x0F) << 32;
    let low = u32::from_be_bytes(*info.get(14..18)?.first_chunk()?);
    Some(high | u64::from(low)).filter(|frames| *frames > 0)
}

/// Bits of a sample, from STREAMINFO.
pub(crate) fn bits_per_sample(info: &[u8]) -> u8 {
    match info.get(12..14) {
        Some([a, b]) => (((a & 1) << 4) | (b >> 4)) + 1,
        _ => 0,
    }
}

/// Rate and channels, from STREAMINFO.
pub(crate) fn layout(info: &[u8]) -> Option<Layout> {
    let [a, b, c] = *info.get(10..13)?.first_chunk::<3>()?;
    let rate = u32::from_be_bytes([0, a, b, c]) >> 4;
    Some(Layout { rate, channels: ((c >> 1) & 7) + 1 })
}

const CRC8: Crc<u8> = Crc::<u8>::new(&CRC_8_SMBUS);
const CRC16: Crc<u16, Table<16>> = Crc::<u16, Table<16>>::new(&CRC_16_UMTS);

/// Over a frame header with its check sum this is 0 (RFC 9639, section 9.1.8).
pub(crate) fn crc8(bytes: &[u8]) -> u8 {
    CRC8.checksum(bytes)
}

/// Over a frame with its footer the check sum is 0 (RFC 9639, section 9.3).
pub(crate) fn crc16(bytes: &[u8]) -> u16 {
    CRC16.checksum(bytes)
}

/// Whether this is a frame header with a correct check sum; `None` while it
/// is not whole.
fn is_frame_header(bytes: &[u8]) -> Option<bool> {
    let [sync, second, third, fourth] = *bytes.first_chunk::<4>()?;
    let plausible = sync == 0xFF
        && second & 0xFE == 0xF8
        && third >> 4 != 0
        && third & 0x0F != 0x0F
        && fourth >> 4 <= 10
        && fourth & 1 == 0
        && (fourth >> 1) & 7 != 3;
    if !plausible {
        return Some(false);
    }
    // The number is coded as UTF-8 codes letters, up to 36 bits.
    let number = match bytes.get(4)?.leading_ones() {
        0 => 1,
        ones @ 2..=7 => ones as usize,
        _ => return Some(false),
    };
    let block = match third >> 4 {
        6 => 1,
        7 => 2,
        _ => 0,
    };
    let rate = match third & 0x0F {
        12 => 1,
        13 | 14 => 2,
        _ => 0,
    };
    let length = 4 + number + block + rate;
    Some(crc8(bytes.get(..=length)?) == 0)
}

/// Samples of a channel in a frame, from its header and STREAMINFO.
pub(crate) fn frame_samples(frame: &[u8], info: &[u8]) -> Option<u32> {
    let code = frame.get(2)? >> 4;
    let at = 4 + match frame.get(4)?.leading_ones() as usize {
        0 => 1,
        ones => ones,
    };
    Some(match code {
        1 => 192,
        2..=5 => 576 << (code - 2),
        6 => u32::from(*frame.get(at)?) + 1,
        7 => u32::from(u16::from_be_bytes(*frame.get(at..at + 2)?.first_chunk()?)) + 1,
        8..=15 => 256 << (code - 8),
        _ => u32::from(u16::from_be_bytes(*info.get(2..4)?.first_chunk()?)),
    })
}

fn damaged(what: &str) -> AudioError {
    AudioError::Unsupported { format: "FLAC", what: what.into() }
}

enum FlacState {
    /// Before the mark, with bytes of an ID3v2 tag still to pass over.
    Mark {
        skip: usize,
    },
    Metadata,
    /// In a block that is passed over.
    Skip {
        left: usize,
        last: bool,
    },
    /// In the frames; so far has been looked for the next one.
    Frames {
        looked: usize,
    },
}

/// Native FLAC to its frames.
pub(crate) struct FlacDemuxer {
    pending: BytesMut,
    place: FlacState,
    frames: Option<u64>,
    begun: bool,
}

impl FlacDemuxer {
    pub(crate) fn new() -> Self {
        FlacDemuxer { pending: BytesMut::new(), place: FlacState::Mark { skip: 0 }, frames: None, begun: false }
    }

    /// One step; `false` where more bytes are needed.
    fn step(&mut self, out: &mut Vec<Demuxed>) -> Result<bool, AudioError> {
        match self.place {
            FlacState::Mark { skip } if skip > 0 => {
                let taken = skip.min(self.pending.len());
                self.pending.advance(taken);
                self.place = FlacState::Mark { skip: skip - taken };
                Ok(taken == skip)
            }
            FlacState::Mark { .. } => self.mark(),
            FlacState::Skip { left, last } => {
                let taken = left.min(self.pending.len());
                self.pending.advance(taken);
                if taken < left {
                    self.place = FlacState::Skip { left: left - taken, last };
                    return Ok(false);
                }
                self.after_block(last);
                Ok(true)
            }
            FlacState::Metadata => self.block(out),
            FlacState::Frames { looked } => self.frame(looked, out),
        }
    }

    fn mark(&mut self) -> Result<bool, AudioError> {
        if self.pending.starts_with(b"ID3") {
            let Some(skip) = crate::tags::id3::length(&self.pending) else { return Ok(false) };
            self.place = FlacState::Mark { skip };
            return Ok(true);
        }
        if self.pending.len() < 4 {
            return Ok(false);
        }
        if !self.pending.starts_with(b"fLaC") {
            return Err(AudioError::NotThis { expected: "FLAC", found: crate::format::sniff::describe(&self.pending) });
        }
        self.pending.advance(4);
        self.place = FlacState::Metadata;
        Ok(true)
    }

    fn block(&mut self, out: &mut Vec<Demuxed>) -> Result<bool, AudioError> {
        let Some(&[kind, a, b, c]) = self.pending.first_chunk::<4>() else { return Ok(false) };
        let length = u32::from_be_bytes([0, a, b, c]) as usize;
        let last = kind & 0x80 != 0;
        if kind & 0x7F != 0 {
            if !self.begun || length > MAX_BLOCK_BYTES {
                let what =
                    if self.begun { format!("a {length}-byte block") } else { "no STREAMINFO at its start".into() };
                return Err(AudioError::Unsupported { format: "FLAC", what });
            }
            // Comments are read; other blocks, and absurd ones, are passed over.
            if kind & 0x7F == 4 && length <= MAX_TAG_BYTES {
                let Some(comment) = self.pending.get(4..4 + length) else { return Ok(false) };
                out.push(Demuxed::Tags(vorbis::read(comment)));
            }
            self.pending.advance(4);
            self.place = FlacState::Skip { left: length, last };
            return Ok(true);
        }
        if length != INFO_BYTES {
            return Err(AudioError::Unsupported { format: "FLAC", what: format!("a STREAMINFO of {length} bytes") });
        }
        let Some(info) = self.pending.get(4..4 + INFO_BYTES) else { return Ok(false) };
        self.frames = total_frames(info);
        out.push(Demuxed::Track(Track { coding: Coding::Flac(info.to_vec()), start: 0, frames: None }));
        self.begun = true;
        self.pending.advance(4 + INFO_BYTES);
        self.after_block(last);
        Ok(true)
    }

    fn after_block(&mut self, last: bool) {
        self.place = if last { FlacState::Frames { looked: 0 } } else { FlacState::Metadata };
    }

    /// A frame does not state its length: it ends where the next one begins
    /// and its check sum is right.
    fn frame(&mut self, looked: usize, out: &mut Vec<Demuxed>) -> Result<bool, AudioError> {
        match is_frame_header(&self.pending) {
            None => return Ok(false),
            Some(false) if self.pending.starts_with(b"TAG") => return Ok(false),
            Some(false) => {
                return Err(damaged("damage where a frame should begin"));
            }
            Some(true) => {}
        }
        let mut at = looked.max(4);
        while let Some(step) = self.pending.get(at..).and_then(|rest| memchr::memchr(0xFF, rest)) {
            at += step;
            match is_frame_header(&self.pending[at..]) {
                None => break,
                Some(true) if crc16(&self.pending[..at]) == 0 => {
                    out.push(Demuxed::Packet(Packet::new(self.pending.split_to(at).to_vec())));
                    self.place = FlacState::Frames { looked: 0 };
                    return Ok(true);
                }
                Some(_) => at += 1,
            }
        }
        let looked = at.min(self.pending.len().saturating_sub(16)).max(4);
        self.place = FlacState::Frames { looked };
        if self.pending.len() > MAX_FRAME_BYTES {
            return Err(damaged("damage in a frame"));
        }
        Ok(false)
    }

    /// Whether others follow the frame that never came to its end.
    fn holds_more_frames(&self) -> bool {
        let behind = self.pending.get(4..).unwrap_or_default();
        memchr::memchr_iter(0xFF, behind).any(|at| is_frame_header(&behind[at..]) == Some(true))
    }

    fn finish(&mut self, out: &mut Vec<Demuxed>) -> Result<(), AudioError> {
        let torn = |what| Err(AudioError::Truncated { format: "FLAC", what });
        if !matches!(self.place, FlacState::Frames { .. }) {
            return torn("its metadata is not whole");
        }
        // An ID3v1 tag may follow the last frame.
        let tagged = self.pending.len().checked_sub(128).filter(|at| self.pending[*at..].starts_with(b"TAG"));
        if let Some(at) = tagged {
            self.pending.truncate(at);
        }
        if self.pending.is_empty() {
            return Ok(());
        }
        if is_frame_header(&self.pending) != Some(true) || crc16(&self.pending) != 0 {
            if self.holds_more_frames() {
                return Err(damaged("damage in a frame"));
            }
            return torn("its last frame is not whole");
        }
        out.push(Demuxed::Packet(Packet::new(self.pending.split().to_vec())));
        Ok(())
    }
}

impl Demuxer for FlacDemuxer {
    fn push(&mut self, bytes: &[u8], chunk: Chunk, out: &mut Vec<Demuxed>) -> Result<(), AudioError> {
        self.pending.extend_from_slice(bytes);
        while self.step(out)? {}
        if chunk.is_last() { self.finish(out) } else { Ok(()) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn check_sums_are_those_of_the_standard() {
        // CRC-8/SMBUS and CRC-16/UMTS of the digits.
        assert_eq!(crc8(b"123456789"), 0xF4);
        assert_eq!(crc16(b"123456789"), 0xFEE8);
        let bytes: Vec<u8> = (0..1_003u32).map(|n| (n * 7) as u8).collect();
        let slow = bytes.iter().fold(0u16, |crc, byte| {
            (0..8).fold(
                crc ^ (u16::from(*byte) << 8),
                |crc, _| if crc & 0x8000 != 0 { (crc << 1) ^ 0x8005 } else { crc << 1 },
            )
        });
        assert_eq!(crc16(&bytes), slow, "the fast form against the plain one");
    }
}
