//! The tag frame of MP3: a frame without sound at the beginning, in which
//! encoders tell how long the audio is and how much of what is decoded comes
//! before and behind it. Not part of the standard; every player knows it.
//!
//! ```text
//! frame header(4) side information "Info" or "Xing" flags(4)
//! [frames(4)] [bytes(4)] [places(100)] [quality(4)] encoder(9) … delay and padding(3) … check(2)
//! ```

use crate::container::mp3_frames::FrameHeader;

/// The decoder's own delay in samples, as every layer III decoder has it.
pub(crate) const DECODER_DELAY: u64 = 529;

const FRAMES: u8 = 1;
const BYTES: u8 = 2;
const PLACES: u8 = 4;
const QUALITY: u8 = 8;
/// From the encoder's name to the check sum.
const EXTENSION: usize = 36;

/// Samples to throw away, per channel.
#[derive(Debug, Default, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Trim {
    pub(crate) start: u64,
    pub(crate) end: u64,
}

/// Bytes of the side information between header and tag.
fn side_bytes(header: &[u8]) -> usize {
    let mpeg1 = header[1] & 0x08 != 0;
    let mono = header[3] >> 6 == 3;
    match (mpeg1, mono) {
        (true, false) => 32,
        (true, true) | (false, false) => 17,
        (false, true) => 9,
    }
}

/// What a frame that carries the tag says; `None` for a frame of audio.
pub(crate) fn read(frame: &[u8]) -> Option<Trim> {
    FrameHeader::parse(frame)?;
    // Where frames have a check sum of two bytes some encoders leave room for
    // it before the tag, and some do not.
    let places = [0, 2].map(|check| frame.get(4 + check + side_bytes(frame)..));
    let tag = places.into_iter().flatten().find(|tag| tag.starts_with(b"Xing") || tag.starts_with(b"Info"))?;
    let flags = *tag.get(7)?;
    let before = [(FRAMES, 4), (BYTES, 4), (PLACES, 100), (QUALITY, 4)];
    let at = 8 + before.iter().filter(|(flag, _)| flags & flag != 0).map(|(_, bytes)| bytes).sum::<usize>();
    let Some(extension) = tag.get(at..at + EXTENSION).filter(|extension| extension[0] != 0) else {
        return Some(Trim::default());
    };
    let delay = (u64::from(extension[21]) << 4) | u64::from(extension[22] >> 4);
    let padding = (u64::from(extension[22] & 0x0F) << 8) | u64::from(extension[23]);
    if delay == 0 && padding == 0 {
        return Some(Trim::default());
    }
    Some(Trim { start: delay + DECODER_DELAY, end: padding.saturating_sub(DECODER_DELAY) })
}

/// What is known at the end.
#[derive(Debug, Clone, Copy, Default)]
pub(crate) struct Totals<'a> {
    /// Frames behind the tag frame.
    pub(crate) frames: u32,
    /// Their bytes.
    pub(crate) bytes: u32,
    /// Samples after the audio, as the encoder counts them.
    pub(crate) padding: u16,
    /// For a variable bit rate: where frames begin, spread over the file.
    pub(crate) places: &'a [u32],
}

/// A tag frame that goes before a stream.
#[derive(Debug, Clone, Copy)]
pub(crate) struct TagFrame {
    header: [u8; 4],
    size: usize,
    variable: bool,
}

impl TagFrame {
    /// The tag frame for a stream that begins with this header: of the same
    /// kind, at the lowest bit rate at which a frame is large enough. Below
    /// 64 kbit/s the stream's own frames are too small for it.
    pub(crate) fn before(first: [u8; 4], variable: bool) -> Option<TagFrame> {
        // Without padding and check sum.
        let header = [first[0], first[1] | 1, first[2] & !0x02, first[3]];
        let needed = 4 + side_bytes(&header) + 8 + 12 + 100 + EXTENSION;
        (1..15u8).find_map(|index| {
            let header = [header[0], header[1], (header[2] & 0x0F) | (index << 4), header[3]];
            let size = FrameHeader::parse(&header)?.bytes;
            (size >= needed).then_some(TagFrame { header, size, variable })
        })
    }

    /// Before the end nothing is known but the encoder's delay.
    pub(crate) fn write(&self, encoder: &str, delay: u16, totals: Option<Totals<'_>>) -> Vec<u8> {
        let mut frame = self.header.to_vec();
        frame.resize(4 + side_bytes(&self.header), 0);
        frame.extend_from_slice(if self.variable { b"Xing" } else { b"Info" });
        match totals {
            None => frame.extend_from_slice(&[0; 4]),
            Some(totals) => {
                let places = if self.variable { PLACES } else { 0 };
                frame.extend_from_slice(&[0, 0, 0, FRAMES | BYTES | places]);
                frame.extend_from_slice(&totals.frames.to_be_bytes());
                let bytes = totals.bytes.saturating_add(self.size as u32);
                frame.extend_from_slice(&bytes.to_be_bytes());
                if self.variable {
                    frame.extend((0..100).map(|percent| self.place(percent, &totals, bytes)));
                }
            }
        }
        let name: Vec<u8> = encoder.bytes().chain(std::iter::repeat(b' ')).take(9).collect();
        frame.extend_from_slice(&name);
        // Method: constant, or variable by the newer of two ways.
        frame.push(if self.variable { 4 } else { 1 });
        frame.extend_from_slice(&[0; 11]);
        let padding = totals.map_or(0, |totals| totals.padding);
        frame.extend_from_slice(&[(delay >> 4) as u8, (delay << 4) as u8 | (padding >> 8) as u8, padding as u8]);
        frame.extend_from_slice(&[0; 4]);
        frame.extend_from_slice(&totals.map_or(0, |totals| totals.bytes).to_be_bytes());
        frame.extend_from_slice(&[0; 2]);
        let check = check(&frame);
        frame.extend_from_slice(&check.to_be_bytes());
        frame.resize(self.size, 0);
        frame
    }

    /// Position of each per cent of the time, in 256ths of the bytes.
    fn place(&self, percent: usize, totals: &Totals<'_>, bytes: u32) -> u8 {
        let place = totals.places.get(percent * totals.places.len() / 100).copied().unwrap_or(0);
        let place = u64::from(place) + self.size as u64;
        (place * 256 / u64::from(bytes.max(1))).min(255) as u8
    }
}

/// CRC-16 with the polynomial 0x8005, both ways reflected.
fn check(bytes: &[u8]) -> u16 {
    bytes.iter().fold(0, |crc, byte| {
        (0..8).fold(crc ^ u16::from(*byte), |crc, _| if crc & 1 != 0 { (crc >> 1) ^ 0xA001 } else { crc >> 1 })
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_check_sum_is_the_usual_one() {
        assert_eq!(check(b"123456789"), 0xBB3D);
    }

    #[test]
    fn tags_of_streams_and_of_files_are_of_one_size_and_are_read_back() {
        // MPEG-2, 16 kbit/s, 24 kHz, mono: frames of 48 bytes.
        for variable in [false, true] {
            let tag = TagFrame::before([0xFF, 0xF3, 0x24, 0xC4], variable).expect("fits at a higher rate");
            let stream = tag.write("LAME3.100", 576, None);
            let places: Vec<u32> = (0..50).map(|n| n * 1_000).collect();
            let totals = Totals { frames: 50, bytes: 50_000, padding: 1_000, places: &places };
            let file = tag.write("LAME3.100", 576, Some(totals));
            assert_eq!(stream.len(), file.len());
            assert_eq!(FrameHeader::parse(&file).map(|header| header.bytes), Some(file.len()));
            assert_eq!(read(&stream), Some(Trim { start: 576 + 529, end: 0 }));
            assert_eq!(read(&file), Some(Trim { start: 576 + 529, end: 1_000 - 529 }));
        }
        assert_eq!(read(&[0xFF, 0xF3, 0x64, 0xC4, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0]), None, "a frame of sound");
    }
}
