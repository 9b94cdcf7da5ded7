//! MP4 (ISO/IEC 14496-12), whole and fragmented, to the packets of its first
//! track of audio: a box reader that is fed bytes.
//!
//! Where the index comes first, packets leave as they arrive. Where it comes
//! last, the media before it is held, up to a limit.

use std::collections::VecDeque;

use bytes::{Buf as _, BytesMut};

use crate::AudioError;
use crate::chunk::Chunk;
use crate::container::mp4_index::{Movie, read_fragment, read_movie};
use crate::container::packets::{Demuxed, Demuxer, Packet};

/// An index of a day of audio is a few MiB.
const MAX_INDEX: u64 = 32 << 20;
/// Media that may be held until its index comes: hours of speech.
const MAX_HELD: u64 = 96 << 20;

pub(crate) fn unsupported(what: impl Into<String>) -> AudioError {
    AudioError::Unsupported { format: "MP4", what: what.into() }
}

/// Position of a packet in the file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Sample {
    pub(crate) at: u64,
    pub(crate) size: u32,
}

enum BoxState {
    /// Before the header of a box.
    Header,
    /// In a box that is wanted whole.
    Index { kind: [u8; 4], size: u64 },
    /// In media or in a box that is passed over; `None`: to the end.
    Data { left: Option<u64>, media: bool },
}

/// MP4 to packets.
pub(crate) struct Mp4Demuxer {
    /// Bytes from `position` on that are not used up.
    pending: BytesMut,
    position: u64,
    place: BoxState,
    movie: Option<Movie>,
    samples: VecDeque<Sample>,
    /// Media before any index: its place and bytes.
    held: Vec<(u64, Vec<u8>)>,
    held_bytes: u64,
    /// Where the fragment that is at hand begins.
    fragment: u64,
}

impl Mp4Demuxer {
    pub(crate) fn new() -> Self {
        Mp4Demuxer {
            pending: BytesMut::new(),
            position: 0,
            place: BoxState::Header,
            movie: None,
            samples: VecDeque::new(),
            held: Vec::new(),
            held_bytes: 0,
            fragment: 0,
        }
    }

    fn use_up(&mut self, count: usize) {
        self.pending.advance(count);
        self.position += count as u64;
    }

    /// One step; `false` where more bytes are needed.
    fn step(&mut self, out: &mut Vec<Demuxed>) -> Result<bool, AudioError> {
        match self.place {
            BoxState::Header => self.header(),
            BoxState::Index { kind, size } => {
                let Some(body) = self.pending.get(..size as usize).map(<[u8]>::to_vec) else { return Ok(false) };
                self.use_up(size as usize);
                self.place = BoxState::Header;
                self.index(kind, &body, out)?;
                Ok(true)
            }
            BoxState::Data { left, media } => self.data(left, media, out),
        }
    }

    /// ```text
    /// size(4) kind(4) [size(8), where the first is 1]
    /// ```
    fn header(&mut self) -> Result<bool, AudioError> {
        let Some(head) = self.pending.first_chunk::<8>() else { return Ok(false) };
        let kind = [head[4], head[5], head[6], head[7]];
        let short = u32::from_be_bytes([head[0], head[1], head[2], head[3]]);
        if self.position == 0 && kind != *b"ftyp" && kind != *b"moov" && kind != *b"styp" {
            return Err(AudioError::NotThis { expected: "MP4", found: crate::format::sniff::describe(&self.pending) });
        }
        let (head, size) = match short {
            0 => (8, None),
            1 => match self.pending.get(8..16).and_then(<[u8]>::first_chunk::<8>) {
                Some(size) => (16, Some(u64::from_be_bytes(*size))),
                None => return Ok(false),
            },
            size => (8, Some(u64::from(size))),
        };
        let body = match size {
            Some(size) => Some(size.checked_sub(head).ok_or_else(|| unsupported("a box smaller than its header"))?),
            None => None,
        };
        if kind == *b"moof" {
            self.fragment = self.position;
        }
        self.use_up(head as usize);
        self.place = match (&kind, body) {
            (b"moov" | b"moof", Some(size)) if size <= MAX_INDEX => BoxState::Index { kind, size },
            (b"moov" | b"moof", _) => return Err(unsupported("an index without end")),
            (_, left) => BoxState::Data { left, media: kind == *b"mdat" },
        };
        Ok(true)
    }

    fn index(&mut self, kind: [u8; 4], body: &[u8], out: &mut Vec<Demuxed>) -> Result<(), AudioError> {
        if kind == *b"moov" {
            if self.movie.is_some() {
                return Ok(());
            }
            let movie = read_movie(body)?;
            out.push(Demuxed::Track(movie.track.clone()));
            self.samples = movie.samples.iter().copied().collect();
            self.movie = Some(movie);
            return self.release_held(out);
        }
        let Some(movie) = &self.movie else { return Err(unsupported("a fragment before its index")) };
        self.samples.extend(read_fragment(body, movie, self.fragment)?);
        Ok(())
    }

    /// Gives the packets of media that came before the index.
    fn release_held(&mut self, out: &mut Vec<Demuxed>) -> Result<(), AudioError> {
        for (begun, bytes) in std::mem::take(&mut self.held) {
            while let Some(sample) = self.samples.front().copied() {
                let Some(from) = sample.at.checked_sub(begun) else {
                    return Err(unsupported("a packet where there is no media"));
                };
                let Some(data) = bytes.get(from as usize..).and_then(|rest| rest.get(..sample.size as usize)) else {
                    break;
                };
                self.samples.pop_front();
                out.push(Demuxed::Packet(Packet::new(data.to_vec())));
            }
        }
        Ok(())
    }

    fn data(&mut self, left: Option<u64>, media: bool, out: &mut Vec<Demuxed>) -> Result<bool, AudioError> {
        let here =
            left.map_or(self.pending.len(), |left| self.pending.len().min(usize::try_from(left).unwrap_or(usize::MAX)));
        let used = match (media, &self.movie) {
            (false, _) => here,
            (true, None) => self.hold(here)?,
            (true, Some(_)) => self.cut(here, out)?,
        };
        self.use_up(used);
        let left = left.map(|left| left - used as u64);
        if left == Some(0) {
            self.place = BoxState::Header;
            return Ok(true);
        }
        self.place = BoxState::Data { left, media };
        Ok(false)
    }

    fn hold(&mut self, here: usize) -> Result<usize, AudioError> {
        self.held_bytes += here as u64;
        if self.held_bytes > MAX_HELD {
            return Err(unsupported("its index behind so much media; move the index to the front"));
        }
        match self.held.last_mut() {
            Some((begun, bytes)) if *begun + bytes.len() as u64 == self.position => {
                bytes.extend_from_slice(&self.pending[..here]);
            }
            _ => self.held.push((self.position, self.pending[..here].to_vec())),
        }
        Ok(here)
    }

    /// Cuts the packets that lie in the first `here` bytes; gives how many of
    /// them are used up.
    fn cut(&mut self, here: usize, out: &mut Vec<Demuxed>) -> Result<usize, AudioError> {
        let mut used = 0;
        while let Some(sample) = self.samples.front().copied() {
            let Some(from) = sample.at.checked_sub(self.position) else {
                return Err(unsupported("packets that lie across one another"));
            };
            let from = usize::try_from(from).unwrap_or(usize::MAX);
            if from >= here {
                return Ok(here);
            }
            let end = from.saturating_add(sample.size as usize);
            if end > here {
                // The rest of it is still to come.
                return Ok(from.max(used));
            }
            out.push(Demuxed::Packet(Packet::new(self.pending[from..end].to_vec())));
            self.samples.pop_front();
            used = end;
        }
        Ok(here)
    }
}

impl Demuxer for Mp4Demuxer {
    fn push(&mut self, bytes: &[u8], chunk: Chunk, out: &mut Vec<Demuxed>) -> Result<(), AudioError> {
        self.pending.extend_from_slice(bytes);
        while self.step(out)? {}
        if !chunk.is_last() {
            return Ok(());
        }
        let torn = |what| Err(AudioError::Truncated { format: "MP4", what });
        match self.place {
            _ if self.movie.is_none() => torn("its index is missing"),
            BoxState::Index { .. } => torn("a part of its index is missing"),
            BoxState::Data { left: Some(_), .. } => torn("it holds less than its index says"),
            _ if !self.samples.is_empty() => torn("it holds less than its index says"),
            _ => Ok(()),
        }
    }
}
