//! WebM to packets: an element reader that is fed bytes.

use bytes::{Buf as _, BytesMut};

use super::{Elements, head, id, number, read_tags, read_title, signed, unsigned, unsupported};
use crate::AudioError;
use crate::chunk::Chunk;
use crate::container::opus_head::OpusHead;
use crate::container::packets::{Coding, Demuxed, Demuxer, OPUS_RATE, Packet, Track};
use crate::tags::MAX_TAG_BYTES;

/// Elements that are read whole are small: a second of audio, a list of tracks.
const MAX_ELEMENT: u64 = 8 << 20;

enum ElementState {
    Element,
    /// In an element that is passed over.
    Skip(u64),
}

/// WebM to packets.
pub(crate) struct WebmDemuxer {
    pending: BytesMut,
    place: ElementState,
    begun: bool,
    track: Option<u64>,
    /// Of the track's coding, in hertz.
    rate: u64,
    /// Remaining bytes of the segment, if it states its size.
    left: Option<u64>,
}

impl WebmDemuxer {
    pub(crate) fn new() -> Self {
        WebmDemuxer {
            pending: BytesMut::new(),
            place: ElementState::Element,
            begun: false,
            track: None,
            rate: 0,
            left: None,
        }
    }

    fn use_up(&mut self, count: usize) {
        self.pending.advance(count);
        self.left = self.left.map(|left| left.saturating_sub(count as u64));
    }

    fn step(&mut self, out: &mut Vec<Demuxed>) -> Result<bool, AudioError> {
        if let ElementState::Skip(left) = self.place {
            let taken = self.pending.len().min(usize::try_from(left).unwrap_or(usize::MAX));
            self.use_up(taken);
            self.place =
                if taken as u64 == left { ElementState::Element } else { ElementState::Skip(left - taken as u64) };
            return Ok(taken as u64 == left);
        }
        let Some((id, size, at)) = head(&self.pending)? else { return Ok(false) };
        if !self.begun && id != id::HEADER {
            return Err(AudioError::NotThis { expected: "WebM", found: crate::format::sniff::describe(&self.pending) });
        }
        match (id, size) {
            // These hold what is wanted: one goes into them, whatever their size.
            (id::SEGMENT, size) => {
                self.use_up(at);
                self.left = size;
            }
            (id::CLUSTER, _) => self.use_up(at),
            (_, None) => return Err(unsupported("an element without end")),
            (id::HEADER | id::TRACKS | id::SIMPLE_BLOCK | id::GROUP, Some(size)) => {
                if size > MAX_ELEMENT {
                    return Err(unsupported(format!("an element of {size} bytes")));
                }
                let end = at + size as usize;
                let Some(body) = self.pending.get(at..end).map(<[u8]>::to_vec) else { return Ok(false) };
                self.use_up(end);
                self.element(id, &body, out)?;
            }
            (id::TAGS | id::INFO, Some(size)) if size <= MAX_TAG_BYTES as u64 => {
                let Some(body) = self.pending.get(at..at + size as usize) else { return Ok(false) };
                out.push(Demuxed::Tags(if id == id::INFO { read_title(body) } else { read_tags(body) }));
                self.use_up(at + size as usize);
            }
            (_, Some(size)) => {
                self.use_up(at);
                self.place = ElementState::Skip(size);
            }
        }
        Ok(true)
    }

    fn element(&mut self, id: u32, body: &[u8], out: &mut Vec<Demuxed>) -> Result<(), AudioError> {
        match id {
            id::HEADER => {
                self.begun = true;
                Ok(())
            }
            id::TRACKS => self.tracks(body, out),
            id::SIMPLE_BLOCK => self.block(body, 0, out),
            _ => {
                let discard = Elements(body).find(|(id, _)| *id == id::DISCARD).map_or(0, |(_, body)| signed(body));
                match Elements(body).find(|(id, _)| *id == id::BLOCK) {
                    Some((_, block)) => self.block(block, discard, out),
                    None => Ok(()),
                }
            }
        }
    }

    fn tracks(&mut self, body: &[u8], out: &mut Vec<Demuxed>) -> Result<(), AudioError> {
        let entries = Elements(body).filter(|(id, _)| *id == id::TRACK).map(|(_, entry)| entry);
        let field = |entry, wanted| Elements(entry).find(|(id, _)| *id == wanted).map(|(_, body)| body);
        let sound = entries.into_iter().find(|entry| field(entry, id::TYPE).map(unsigned) == Some(2));
        let entry = sound.ok_or_else(|| unsupported("no track of sound"))?;
        // Its packets are not those of the codec: what came of them would be noise.
        if field(entry, id::ENCODINGS).is_some() {
            return Err(unsupported("packets that are compressed or encrypted once more"));
        }
        let private = field(entry, id::PRIVATE).unwrap_or_default();
        let codec = field(entry, id::CODEC).unwrap_or_default();
        let (coding, start, rate) = match codec {
            b"A_OPUS" => {
                let head = OpusHead::read(private)?;
                let pre_skip = u64::from(head.pre_skip);
                (Coding::Opus(head), pre_skip, u64::from(OPUS_RATE))
            }
            b"A_VORBIS" => (Coding::Vorbis(vorbis_headers(private)?), 0, 0),
            b"A_FLAC" if private.len() >= 42 => (Coding::Flac(private[8..42].to_vec()), 0, 0),
            _ if codec.starts_with(b"A_AAC") => (Coding::Aac(private.to_vec()), 0, 0),
            other => return Err(unsupported(format!("sound coded as {}", String::from_utf8_lossy(other)))),
        };
        self.track = field(entry, id::NUMBER).map(unsigned);
        self.rate = rate;
        out.push(Demuxed::Track(Track { coding, start, frames: None }));
        Ok(())
    }

    /// ```text
    /// track(variable) time(2) flags(1) [lacing] frames
    /// ```
    fn block(&mut self, body: &[u8], discard: i64, out: &mut Vec<Demuxed>) -> Result<(), AudioError> {
        let Some((track, at)) = number(body, false)? else { return Ok(()) };
        if Some(track) != self.track {
            return Ok(());
        }
        let (Some(flags), Some(rest)) = (body.get(at + 2), body.get(at + 3..)) else {
            return Err(unsupported("a block that is too short"));
        };
        let frames = laced(rest, (flags >> 1) & 3).ok_or_else(|| unsupported("a block whose lacing is damaged"))?;
        // Nanoseconds, to be thrown away at the end of the last frame.
        let discard = u64::try_from(discard).unwrap_or(0).saturating_mul(self.rate) / 1_000_000_000;
        let last = frames.len().saturating_sub(1);
        out.extend(frames.into_iter().enumerate().map(|(index, frame)| {
            let discard = if index == last { discard } else { 0 };
            Demuxed::Packet(Packet { discard, ..Packet::new(frame.to_vec()) })
        }));
        Ok(())
    }
}

/// The frames of a block: one, or several laced together (RFC 9559, section 10.3).
fn laced(bytes: &[u8], lacing: u8) -> Option<Vec<&[u8]>> {
    if lacing == 0 {
        return Some(vec![bytes]);
    }
    let count = usize::from(*bytes.first()?) + 1;
    let mut rest = &bytes[1..];
    let mut sizes = Vec::with_capacity(count);
    match lacing {
        1 => {
            for _ in 1..count {
                let end = rest.iter().position(|byte| *byte != 255)?;
                sizes.push(end * 255 + usize::from(rest[end]));
                rest = &rest[end + 1..];
            }
        }
        3 => {
            for index in 1..count {
                let (value, used) = number(rest, false).ok()??;
                let bias = (1i64 << (7 * used - 1)) - 1;
                let size = match index {
                    1 => i64::try_from(value).ok()?,
                    _ => i64::try_from(*sizes.last()?).ok()? + i64::try_from(value).ok()? - bias,
                };
                sizes.push(usize::try_from(size).ok()?);
                rest = &rest[used..];
            }
        }
        _ => sizes = vec![rest.len() / count; count - 1],
    }
    let mut frames = Vec::with_capacity(count);
    for size in sizes {
        frames.push(rest.get(..size)?);
        rest = &rest[size..];
    }
    frames.push(rest);
    Some(frames)
}

/// The three headers of Vorbis, laced as Xiph does: the first and the third.
fn vorbis_headers(private: &[u8]) -> Result<Vec<u8>, AudioError> {
    let headers = laced(private, 1).filter(|headers| headers.len() == 3);
    let headers = headers.ok_or_else(|| unsupported("Vorbis headers that cannot be read"))?;
    Ok([headers[0], headers[2]].concat())
}

impl Demuxer for WebmDemuxer {
    fn push(&mut self, bytes: &[u8], chunk: Chunk, out: &mut Vec<Demuxed>) -> Result<(), AudioError> {
        self.pending.extend_from_slice(bytes);
        while self.step(out)? {}
        // A recording whose sizes are not known ends wherever it ends.
        let torn = !self.begun || !self.pending.is_empty() || matches!(self.place, ElementState::Skip(_));
        if chunk.is_last() && (torn || self.left.is_some_and(|left| left > 0)) {
            return Err(AudioError::Truncated { format: "WebM", what: "its last part is missing" });
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::super::{open, put, put_number};
    use super::*;

    #[test]
    fn packets_that_are_coded_twice_are_refused_and_not_played() {
        let mut entry = Vec::new();
        put_number(&mut entry, id::TYPE, 2);
        put(&mut entry, id::CODEC, b"A_OPUS");
        put(&mut entry, id::PRIVATE, b"OpusHead\x01\x01\x38\x01\x80\xBB\0\0\0\0\0");
        let read = |entry: &[u8]| {
            let (mut bytes, mut tracks) = (Vec::new(), Vec::new());
            put(&mut bytes, id::HEADER, &[]);
            open(&mut bytes, id::SEGMENT);
            put(&mut tracks, id::TRACK, entry);
            put(&mut bytes, id::TRACKS, &tracks);
            let mut found = Vec::new();
            WebmDemuxer::new().push(&bytes, Chunk::Last, &mut found).map(|()| found.len())
        };
        assert_eq!(read(&entry), Ok(1), "a track");
        put(&mut entry, id::ENCODINGS, &[0x62, 0x40, 0x80]);
        let error = read(&entry).expect_err("no way to undo it");
        assert_eq!(error.to_string(), "WebM with packets that are compressed or encrypted once more cannot be read");
    }
}
