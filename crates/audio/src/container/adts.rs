//! AAC in ADTS frames (ISO/IEC 14496-3, annex 1.A): a frame splitter.

use bytes::{Buf as _, BytesMut};

use crate::AudioError;
use crate::chunk::Chunk;
use crate::container::packets::{Coding, Demuxed, Demuxer, Packet, Track};

/// So much that is no frame may stand between frames.
const MAX_GARBAGE: usize = 64 << 10;
/// And so much before the first: the rest of a frame that was cut.
const MAX_FRONT: usize = (1 << 13) - 1;

/// Cuts ADTS into raw AAC blocks.
#[derive(Default)]
pub(crate) struct AdtsDemuxer {
    pending: BytesMut,
    /// Bytes of an ID3v2 tag still to pass over.
    skip: usize,
    config: Option<[u8; 2]>,
    garbage: usize,
    /// Bytes at the beginning that are not a frame.
    front: Option<String>,
}

/// A frame header.
struct Header {
    config: [u8; 2],
    head: usize,
    whole: usize,
    blocks: u8,
}

impl Header {
    /// ```text
    /// sync(12) id(1) layer(2) protection-absent(1) profile(2) rate(4) private(1)
    /// channels(3) … frame-length(13) fullness(11) blocks(2)
    /// ```
    fn parse(bytes: &[u8]) -> Option<Header> {
        let b = bytes.first_chunk::<7>()?;
        let rate = (b[2] >> 2) & 0x0F;
        let channels = ((b[2] & 1) << 2) | (b[3] >> 6);
        let whole = (usize::from(b[3] & 3) << 11) | (usize::from(b[4]) << 3) | usize::from(b[5] >> 5);
        let head = if b[1] & 1 == 1 { 7 } else { 9 };
        let valid = b[0] == 0xFF && b[1] & 0xF6 == 0xF0 && rate < 13 && whole > head;
        // AudioSpecificConfig: object type(5) rate(4) channels(4).
        let object = (b[2] >> 6) + 1;
        let config = [(object << 3) | (rate >> 1), (rate << 7) | (channels << 3)];
        valid.then_some(Header { config, head, whole, blocks: b[6] & 3 })
    }
}

/// Whether the bytes begin a frame of ADTS.
pub(crate) fn is_adts(bytes: &[u8]) -> bool {
    Header::parse(bytes).is_some()
}

impl AdtsDemuxer {
    fn step(&mut self, out: &mut Vec<Demuxed>) -> Result<bool, AudioError> {
        if self.skip > 0 {
            let taken = self.skip.min(self.pending.len());
            self.pending.advance(taken);
            self.skip -= taken;
        }
        if self.skip > 0 || self.pending.len() < 7 {
            return Ok(false);
        }
        if self.config.is_none() && self.pending.starts_with(b"ID3") {
            let Some(length) = crate::tags::id3::length(&self.pending) else { return Ok(false) };
            self.skip = length;
            return Ok(true);
        }
        let Some(header) = Header::parse(&self.pending) else { return self.garbage() };
        if self.pending.len() < header.whole {
            return Ok(false);
        }
        // In the middle of a frame much looks like the beginning of one: the
        // first is where another like it follows.
        if self.front.is_some() && self.config.is_none() {
            let Some(next) = self.pending.get(header.whole..header.whole + 7) else { return Ok(false) };
            if Header::parse(next).is_none_or(|next| next.config != header.config) {
                return self.garbage();
            }
        }
        if header.blocks > 0 {
            return Err(AudioError::Unsupported { format: "AAC", what: "several blocks in a frame".into() });
        }
        match self.config {
            None => {
                let coding = Coding::Aac(header.config.to_vec());
                out.push(Demuxed::Track(Track { coding, start: 0, frames: None }));
                self.config = Some(header.config);
            }
            Some(config) if config != header.config => {
                return Err(AudioError::Unsupported { format: "AAC", what: "a change of rate or channels".into() });
            }
            Some(_) => {}
        }
        let block = self.pending[header.head..header.whole].to_vec();
        out.push(Demuxed::Packet(Packet::new(block)));
        self.pending.advance(header.whole);
        self.garbage = 0;
        Ok(true)
    }

    fn garbage(&mut self) -> Result<bool, AudioError> {
        if self.config.is_none() {
            self.front.get_or_insert_with(|| crate::format::sniff::describe(&self.pending));
        }
        let next = self.pending[1..].iter().position(|byte| *byte == 0xFF).map_or(self.pending.len(), |at| at + 1);
        self.garbage += next;
        if self.garbage > if self.config.is_none() { MAX_FRONT } else { MAX_GARBAGE } {
            return Err(self.not_this());
        }
        self.pending.advance(next);
        Ok(true)
    }

    fn not_this(&self) -> AudioError {
        let found = self.front.clone().unwrap_or_else(|| crate::format::sniff::describe(&self.pending));
        AudioError::NotThis { expected: "AAC", found }
    }
}

impl Demuxer for AdtsDemuxer {
    fn push(&mut self, bytes: &[u8], chunk: Chunk, out: &mut Vec<Demuxed>) -> Result<(), AudioError> {
        self.pending.extend_from_slice(bytes);
        while self.step(out)? {}
        if chunk.is_last() && self.config.is_none() && self.front.is_some() {
            return Err(self.not_this());
        }
        let torn = Header::parse(&self.pending).is_some() || self.config.is_none();
        if chunk.is_last() && torn {
            return Err(AudioError::Truncated { format: "AAC", what: "its last frame is not whole" });
        }
        Ok(())
    }
}
