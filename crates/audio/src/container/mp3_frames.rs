//! Frames of MPEG audio layer III (ISO/IEC 11172-3, 13818-3): where they lie
//! in a stream of bytes, and the bytes between them.

use bytes::{Buf as _, BytesMut};

use crate::chunk::Chunk;
use crate::tags::{MAX_TAG_BYTES, id3};
use crate::{AudioError, Layout, Tags};

/// Garbage before the first frame that is searched through: 64 KiB, enough
/// for the padding that some encoders leave after their tags.
const MAX_GARBAGE: usize = 64 << 10;
/// Number of consecutive frames of another rate that are no accident.
const OTHERS: usize = 4;

/// The four bytes that begin each frame (ISO/IEC 11172-3, section 2.4.1.3).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct FrameHeader {
    pub(crate) layout: Layout,
    /// Whole frame, header included.
    pub(crate) bytes: usize,
    /// Per channel.
    pub(crate) samples: u32,
}

impl FrameHeader {
    /// Reads a layer III header; free-format frames and reserved values are refused.
    ///
    /// ```text
    /// AAAAAAAA AAABBCCD EEEEFFGH IIJJKLMM
    /// A sync  B version  C layer  E bit rate  F rate  G padding  I mode
    /// ```
    pub(crate) fn parse(bytes: &[u8]) -> Option<FrameHeader> {
        let [a, b, c, d] = *bytes.first_chunk::<4>()?;
        if a != 0xFF || b & 0xE0 != 0xE0 || b & 0x06 != 0x02 {
            return None;
        }
        let version = (b >> 3) & 3; // 0: MPEG-2.5, 2: MPEG-2, 3: MPEG-1
        let index = usize::from(c >> 4);
        let kilobits: u32 = match version {
            3 => [0, 32, 40, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320, 0][index],
            0 | 2 => [0, 8, 16, 24, 32, 40, 48, 56, 64, 80, 96, 112, 128, 144, 160, 0][index],
            _ => return None,
        };
        let base: u32 = [44_100, 48_000, 32_000, 0][usize::from((c >> 2) & 3)];
        if kilobits == 0 || base == 0 {
            return None;
        }
        let (rate, samples) = match version {
            3 => (base, 1_152),
            2 => (base / 2, 576),
            _ => (base / 4, 576),
        };
        let padding = usize::from((c >> 1) & 1);
        let channels = if d >> 6 == 3 { 1 } else { 2 };
        let bytes = (samples / 8 * kilobits * 1_000 / rate) as usize + padding;
        Some(FrameHeader { layout: Layout { rate, channels }, bytes, samples })
    }

    /// Whether the next frame of the same stream may begin so.
    fn goes_with(&self, next: &FrameHeader) -> bool {
        self.layout.rate == next.layout.rate
    }
}

/// Cuts a byte stream into frames; skips ID3 tags and garbage.
#[derive(Debug, Default)]
pub(crate) struct FrameSplitter {
    pending: BytesMut,
    /// Bytes of an ID3v2 tag still to pass over, and what has passed of it.
    skip: usize,
    /// What is passed over is the tag of the file.
    keeps: bool,
    tag: Vec<u8>,
    in_step: bool,
    garbage: usize,
    /// Pieces that came so far.
    pieces: u64,
    /// Of the first frame that was taken.
    layout: Option<Layout>,
}

impl FrameSplitter {
    pub(crate) fn push(&mut self, bytes: &[u8]) {
        self.pieces += 1;
        self.pending.extend_from_slice(bytes);
    }

    /// The next whole frame, or `None` until more bytes come. With `last`, no
    /// more will come and the final frame need not be followed by another.
    pub(crate) fn next(&mut self, chunk: Chunk) -> Result<Option<(FrameHeader, Vec<u8>)>, AudioError> {
        loop {
            if self.skip > 0 {
                let skipped = self.skip.min(self.pending.len());
                if self.keeps {
                    let kept = skipped.min(MAX_TAG_BYTES.saturating_sub(self.tag.len()));
                    self.tag.extend_from_slice(&self.pending[..kept]);
                }
                self.pending.advance(skipped);
                self.skip -= skipped;
            }
            if self.skip > 0 || self.pending.len() < 4 {
                return Ok(None);
            }
            if !self.in_step && (self.pending.starts_with(b"ID3") || self.pending.starts_with(b"APET")) {
                if !self.begin_tag() {
                    return Ok(None);
                }
                continue;
            }
            let header = FrameHeader::parse(&self.pending);
            // One stream has one rate: what claims another is no frame of it.
            match header.filter(|h| self.layout.is_none_or(|layout| layout.rate == h.layout.rate)) {
                Some(header) if self.pending.len() < header.bytes => return Ok(None),
                Some(header) if self.in_step => return Ok(Some(self.take(header))),
                // Out of step a header alone proves little: another must follow.
                Some(header) => match self.pending.get(header.bytes..header.bytes + 4) {
                    Some(next) if FrameHeader::parse(next).is_some_and(|next| header.goes_with(&next)) => {
                        return Ok(Some(self.take(header)));
                    }
                    Some(_) => self.step_over_garbage()?,
                    None if chunk.is_last() => return Ok(Some(self.take(header))),
                    // A stream that begins with exactly one frame: its audio
                    // need not wait for the next.
                    None if self.pieces == 1 && self.pending.len() == header.bytes => {
                        return Ok(Some(self.take(header)));
                    }
                    None => return Ok(None),
                },
                // What is no frame may be a tag.
                None if self.in_step => self.in_step = false,
                None => match header.map_or(Some(false), |other| self.is_run(other, chunk)) {
                    None => return Ok(None),
                    Some(true) => {
                        let what = "a change of rate in the middle".into();
                        return Err(AudioError::Unsupported { format: "MP3", what });
                    }
                    Some(false) => self.step_over_garbage()?,
                },
            }
        }
    }

    /// Skips a tag of ID3v2, or one of the kind that often follows
    /// the frames; `false` while its length is not known.
    ///
    /// ```text
    /// "APETAGEX" version(4) length(4) items(4) flags(4) zeros(8)
    /// ```
    fn begin_tag(&mut self) -> bool {
        self.keeps = self.layout.is_none() && self.pending.starts_with(b"ID3");
        if self.keeps {
            self.tag.clear();
        }
        let length = match self.pending.first_chunk::<32>() {
            _ if self.pending.starts_with(b"ID3") => id3::length(&self.pending),
            // Its length is that of the bytes after this header, if it is one.
            Some(head) if head.starts_with(b"APETAGEX") => {
                let behind = u32::from_le_bytes([head[12], head[13], head[14], head[15]]);
                Some(32 + if head[23] & 0x20 != 0 { behind as usize } else { 0 })
            }
            Some(_) => Some(1),
            None => None,
        };
        self.skip = length.unwrap_or(0);
        length.is_some()
    }

    /// Whether a run of frames begins here, of one rate; `None` while too few
    /// bytes are here to tell.
    fn is_run(&self, first: FrameHeader, chunk: Chunk) -> Option<bool> {
        let mut at = first.bytes;
        for _ in 1..OTHERS {
            let Some(next) = self.pending.get(at..at + 4) else { return chunk.is_last().then_some(false) };
            match FrameHeader::parse(next).filter(|next| first.goes_with(next)) {
                Some(next) => at += next.bytes,
                None => return Some(false),
            }
        }
        Some(true)
    }

    /// Rate and channels of the frames, once one was seen.
    pub(crate) fn layout(&self) -> Option<Layout> {
        self.layout
    }

    /// Bytes before the frames.
    pub(crate) fn tags(&self) -> Tags {
        id3::read(&self.tag)
    }

    fn take(&mut self, header: FrameHeader) -> (FrameHeader, Vec<u8>) {
        self.in_step = true;
        self.layout.get_or_insert(header.layout);
        self.garbage = 0;
        (header, self.pending.split_to(header.bytes).to_vec())
    }

    fn step_over_garbage(&mut self) -> Result<(), AudioError> {
        let to_next = self.pending[1..].iter().position(|byte| *byte == 0xFF).map_or(self.pending.len(), |at| at + 1);
        if self.garbage == 0 && self.layout.is_none() {
            // Text in place of audio is detected at once, not after 64 KiB.
            if self.pending.iter().take(32).all(|byte| byte.is_ascii_graphic() || byte.is_ascii_whitespace()) {
                return Err(AudioError::NotThis {
                    expected: "MP3",
                    found: crate::format::sniff::describe(&self.pending),
                });
            }
        }
        self.garbage += to_next;
        if self.garbage > MAX_GARBAGE {
            return Err(AudioError::NotThis { expected: "MP3", found: "bytes without MPEG frames".into() });
        }
        self.pending.advance(to_next);
        Ok(())
    }

    /// No more bytes will come.
    ///
    /// # Errors
    /// When a frame or a tag was begun and never completed.
    pub(crate) fn finish(&self) -> Result<(), AudioError> {
        let torn = FrameHeader::parse(&self.pending).is_some_and(|header| self.pending.len() < header.bytes);
        let what = if self.skip > 0 {
            "its tag is longer than what is there"
        } else if self.in_step && torn {
            "its last frame is not whole"
        } else {
            return Ok(());
        };
        Err(AudioError::Truncated { format: "MP3", what })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn reads_headers_by_the_standard() {
        // MPEG-2, 48 kbit/s, 24 kHz, mono: 144 bytes for 576 samples.
        let header = FrameHeader::parse(&[0xFF, 0xF3, 0x64, 0xC4]).expect("valid");
        assert_eq!(header, FrameHeader { layout: Layout { rate: 24_000, channels: 1 }, bytes: 144, samples: 576 });
        // MPEG-1, 128 kbit/s, 44.1 kHz, joint stereo, padded: 418 bytes.
        let header = FrameHeader::parse(&[0xFF, 0xFB, 0x92, 0x64]).expect("valid");
        assert_eq!(header, FrameHeader { layout: Layout { rate: 44_100, channels: 2 }, bytes: 418, samples: 1_152 });
        assert_eq!(FrameHeader::parse(&[0xFF, 0xFB, 0xF2, 0x64]), None, "bit rate 15 is reserved");
        assert_eq!(FrameHeader::parse(&[0xFF, 0xFD, 0x92, 0x64]), None, "layer II");
        assert_eq!(FrameHeader::parse(&[0xFF, 0xFB, 0x92]), None, "too short");
    }

    #[test]
    fn a_stream_has_one_rate_whatever_stands_between_its_frames() {
        let frame = |header: [u8; 4]| {
            let mut frame = header.to_vec();
            frame.resize(FrameHeader::parse(&header).expect("valid").bytes, 0);
            frame
        };
        let (ours, other) = (frame([0xFF, 0xF3, 0x64, 0xC4]), frame([0xFF, 0xFB, 0x92, 0x64]));
        let stream = [&ours[..], &ours, b"xyz", &other, &other, &ours, &ours].concat();
        let mut splitter = FrameSplitter::default();
        splitter.push(&stream);
        let mut rates = Vec::new();
        while let Some((header, _)) = splitter.next(Chunk::Last).expect("no fault") {
            rates.push(header.layout.rate);
        }
        assert_eq!(rates, [24_000; 4]);
    }

    #[test]
    fn text_is_refused_at_once() {
        let mut splitter = FrameSplitter::default();
        splitter.push(b"{\"fault\":\"the reeds are quiet tonight, come back later\"}");
        let error = splitter.next(Chunk::More).expect_err("text");
        assert_eq!(error.to_string(), "this is not MP3: JSON");
    }
}
