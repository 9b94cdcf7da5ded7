//! WebM and its parent format Matroska (RFC 9559): an element reader that is
//! fed bytes, for the first track of sound, and writing of Opus.

use bytes::{Buf as _, BytesMut};

use crate::AudioError;
use crate::Format;
use crate::opus_encode::{Coded, OpusPackets, PACKET_FRAMES};
use crate::packets::{Coding, Demuxer, Found, OPUS_RATE, Packet, Track, opus_head};

/// Elements that are read whole are small: a second of sound, a list of tracks.
const MAX_ELEMENT: u64 = 8 << 20;

mod id {
    pub(super) const HEADER: u32 = 0x1A45_DFA3;
    pub(super) const SEGMENT: u32 = 0x1853_8067;
    pub(super) const INFO: u32 = 0x1549_A966;
    pub(super) const TRACKS: u32 = 0x1654_AE6B;
    pub(super) const TRACK: u32 = 0xAE;
    pub(super) const NUMBER: u32 = 0xD7;
    pub(super) const UID: u32 = 0x73C5;
    pub(super) const TYPE: u32 = 0x83;
    pub(super) const CODEC: u32 = 0x86;
    pub(super) const PRIVATE: u32 = 0x63A2;
    pub(super) const DELAY: u32 = 0x56AA;
    pub(super) const PRE_ROLL: u32 = 0x56BB;
    pub(super) const AUDIO: u32 = 0xE1;
    pub(super) const RATE: u32 = 0xB5;
    pub(super) const CHANNELS: u32 = 0x9F;
    pub(super) const CLUSTER: u32 = 0x1F43_B675;
    pub(super) const TIME: u32 = 0xE7;
    pub(super) const SIMPLE_BLOCK: u32 = 0xA3;
    pub(super) const GROUP: u32 = 0xA0;
    pub(super) const BLOCK: u32 = 0xA1;
    pub(super) const DISCARD: u32 = 0x75A2;
    pub(super) const SCALE: u32 = 0x2A_D7B1;
    pub(super) const MUXER: u32 = 0x4D80;
    pub(super) const WRITER: u32 = 0x5741;
    pub(super) const TAGS: u32 = 0x1254_C367;
    pub(super) const TAG: u32 = 0x7373;
    pub(super) const SIMPLE_TAG: u32 = 0x67C8;
    pub(super) const TAG_NAME: u32 = 0x45A3;
    pub(super) const TAG_TEXT: u32 = 0x4487;
}

fn unsupported(what: impl Into<String>) -> AudioError {
    AudioError::Unsupported { format: "WebM", what: what.into() }
}

/// A number of variable length (RFC 8794, section 4): its value and how many
/// bytes it takes. `keep` leaves the length mark in, as ids have it.
fn number(bytes: &[u8], keep: bool) -> Result<Option<(u64, usize)>, AudioError> {
    let Some(first) = bytes.first() else { return Ok(None) };
    let length = first.leading_zeros() as usize + 1;
    if length > 8 {
        return Err(unsupported("damage where an element should begin"));
    }
    let Some(all) = bytes.get(..length) else { return Ok(None) };
    let mask = if keep { 0xFF } else { 0xFFu16 >> length };
    let start = u64::from(u16::from(*first) & mask);
    Ok(Some((all[1..].iter().fold(start, |value, byte| (value << 8) | u64::from(*byte)), length)))
}

/// Id, size (`None`: not known) and length of an element's head.
type Head = (u32, Option<u64>, usize);

fn head(bytes: &[u8]) -> Result<Option<Head>, AudioError> {
    let Some((id, first)) = number(bytes, true)? else { return Ok(None) };
    let id = u32::try_from(id).map_err(|_| unsupported("damage where an element should begin"))?;
    let Some((size, second)) = number(&bytes[first..], false)? else { return Ok(None) };
    // All ones stand for a size that was not known when it was written.
    let unknown = size == (1 << (7 * second)) - 1;
    Ok(Some((id, (!unknown).then_some(size), first + second)))
}

/// The elements inside an element; ends at damage.
struct Elements<'a>(&'a [u8]);

impl<'a> Iterator for Elements<'a> {
    type Item = (u32, &'a [u8]);

    fn next(&mut self) -> Option<Self::Item> {
        let (id, size, at) = head(self.0).ok()??;
        let end = at.checked_add(usize::try_from(size?).ok()?)?;
        let body = self.0.get(at..end)?;
        self.0 = &self.0[end..];
        Some((id, body))
    }
}

fn unsigned(body: &[u8]) -> u64 {
    body.iter().take(8).fold(0, |value, byte| (value << 8) | u64::from(*byte))
}

fn signed(body: &[u8]) -> i64 {
    let bits = 8 * body.len().min(8) as u32;
    if bits == 0 { 0 } else { (unsigned(body) << (64 - bits)).cast_signed() >> (64 - bits) }
}

enum Place {
    Element,
    /// In an element that is passed over.
    Skip(u64),
}

/// WebM to packets.
pub(crate) struct WebmDemuxer {
    pending: BytesMut,
    place: Place,
    begun: bool,
    track: Option<u64>,
    /// Of the track's coding, in hertz.
    rate: u64,
    /// Bytes of the segment still to come, where it tells its size.
    left: Option<u64>,
}

impl WebmDemuxer {
    pub(crate) fn new() -> Self {
        WebmDemuxer { pending: BytesMut::new(), place: Place::Element, begun: false, track: None, rate: 0, left: None }
    }

    fn use_up(&mut self, count: usize) {
        self.pending.advance(count);
        self.left = self.left.map(|left| left.saturating_sub(count as u64));
    }

    fn step(&mut self, out: &mut Vec<Found>) -> Result<bool, AudioError> {
        if let Place::Skip(left) = self.place {
            let taken = self.pending.len().min(usize::try_from(left).unwrap_or(usize::MAX));
            self.use_up(taken);
            self.place = if taken as u64 == left { Place::Element } else { Place::Skip(left - taken as u64) };
            return Ok(taken as u64 == left);
        }
        let Some((id, size, at)) = head(&self.pending)? else { return Ok(false) };
        if !self.begun && id != id::HEADER {
            return Err(AudioError::NotThis { expected: "WebM", found: crate::sniff::describe(&self.pending) });
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
            (_, Some(size)) => {
                self.use_up(at);
                self.place = Place::Skip(size);
            }
        }
        Ok(true)
    }

    fn element(&mut self, id: u32, body: &[u8], out: &mut Vec<Found>) -> Result<(), AudioError> {
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

    fn tracks(&mut self, body: &[u8], out: &mut Vec<Found>) -> Result<(), AudioError> {
        let entries = Elements(body).filter(|(id, _)| *id == id::TRACK).map(|(_, entry)| entry);
        let field = |entry, wanted| Elements(entry).find(|(id, _)| *id == wanted).map(|(_, body)| body);
        let sound = entries.into_iter().find(|entry| field(entry, id::TYPE).map(unsigned) == Some(2));
        let entry = sound.ok_or_else(|| unsupported("no track of sound"))?;
        let private = field(entry, id::PRIVATE).unwrap_or_default();
        let codec = field(entry, id::CODEC).unwrap_or_default();
        let (coding, start, rate) = match codec {
            b"A_OPUS" => {
                let (channels, pre_skip) = opus_head(private)?;
                (Coding::Opus { channels }, pre_skip, u64::from(OPUS_RATE))
            }
            b"A_VORBIS" => (Coding::Vorbis(vorbis_headers(private)?), 0, 0),
            b"A_FLAC" if private.len() >= 42 => (Coding::Flac(private[8..42].to_vec()), 0, 0),
            _ if codec.starts_with(b"A_AAC") => (Coding::Aac(private.to_vec()), 0, 0),
            other => return Err(unsupported(format!("sound coded as {}", String::from_utf8_lossy(other)))),
        };
        self.track = field(entry, id::NUMBER).map(unsigned);
        self.rate = rate;
        out.push(Found::Track(Track { coding, start, frames: None }));
        Ok(())
    }

    /// ```text
    /// track(variable) time(2) flags(1) [lacing] frames
    /// ```
    fn block(&mut self, body: &[u8], discard: i64, out: &mut Vec<Found>) -> Result<(), AudioError> {
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
            Found::Packet(Packet { discard, ..Packet::new(frame.to_vec()) })
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
    fn push(&mut self, bytes: &[u8], last: bool, out: &mut Vec<Found>) -> Result<(), AudioError> {
        self.pending.extend_from_slice(bytes);
        while self.step(out)? {}
        // A recording whose sizes are not known ends wherever it ends.
        let torn = !self.begun || !self.pending.is_empty() || matches!(self.place, Place::Skip(_));
        if last && (torn || self.left.is_some_and(|left| left > 0)) {
            return Err(AudioError::Truncated { format: "WebM", what: "its last part is missing" });
        }
        Ok(())
    }
}

/// Samples to WebM with Opus, as it is for a stream: sizes of the segment and
/// its clusters are not told.
pub(crate) struct WebmOpusEncoder {
    packets: OpusPackets,
    format: Format,
    /// One packet is kept back, since the last one tells what to discard.
    waiting: Option<Coded>,
    begun: bool,
    /// Milliseconds at which the cluster at hand begins.
    cluster: Option<u64>,
}

/// A cluster is at most this long; a block's time counts in 16 bits.
const CLUSTER_MILLISECONDS: u64 = 5_000;
/// What decoders should decode before a place they have jumped to, in
/// nanoseconds (RFC 7845, section 4.6).
const PRE_ROLL: u64 = 80_000_000;

fn put(out: &mut Vec<u8>, id: u32, body: &[u8]) {
    let bytes = id.to_be_bytes();
    out.extend_from_slice(&bytes[id.leading_zeros() as usize / 8..]);
    match body.len() {
        short @ 0..0x7F => out.push(0x80 | short as u8),
        long => out.extend_from_slice(&(0x1000_0000 | long as u32).to_be_bytes()),
    }
    out.extend_from_slice(body);
}

fn put_number(out: &mut Vec<u8>, id: u32, value: u64) {
    let bytes = value.to_be_bytes();
    put(out, id, &bytes[(value.leading_zeros() as usize / 8).min(7)..]);
}

/// An element whose size is not known, begun.
fn open(out: &mut Vec<u8>, id: u32) {
    out.extend_from_slice(&id.to_be_bytes());
    out.extend_from_slice(&[0x01, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF]);
}

impl WebmOpusEncoder {
    pub(crate) fn new(format: Format) -> Result<Self, AudioError> {
        let packets = OpusPackets::new(format)?;
        Ok(WebmOpusEncoder { packets, format, waiting: None, begun: false, cluster: None })
    }

    fn header(&self, out: &mut Vec<u8>) {
        let mut header = Vec::new();
        for (id, value) in [(0x4286, 1), (0x42F7, 1), (0x42F2, 4), (0x42F3, 8)] {
            put_number(&mut header, id, value);
        }
        put(&mut header, 0x4282, b"webm");
        put_number(&mut header, 0x4287, 4);
        put_number(&mut header, 0x4285, 2);
        put(out, id::HEADER, &header);
        open(out, id::SEGMENT);
        let mut info = Vec::new();
        put_number(&mut info, id::SCALE, 1_000_000);
        put(&mut info, id::MUXER, crate::tags::VENDOR.as_bytes());
        put(&mut info, id::WRITER, crate::tags::VENDOR.as_bytes());
        put(out, id::INFO, &info);
        let mut audio = Vec::new();
        put(&mut audio, id::RATE, &f64::from(OPUS_RATE).to_be_bytes());
        put_number(&mut audio, id::CHANNELS, self.format.channels.into());
        let mut track = Vec::new();
        for (id, value) in [(id::NUMBER, 1), (id::UID, 1), (id::TYPE, 2)] {
            put_number(&mut track, id, value);
        }
        put(&mut track, id::CODEC, b"A_OPUS");
        put(&mut track, id::PRIVATE, &self.packets.head());
        put_number(&mut track, id::DELAY, nanoseconds(self.packets.pre_skip()));
        put_number(&mut track, id::PRE_ROLL, PRE_ROLL);
        put(&mut track, id::AUDIO, &audio);
        let mut tracks = Vec::new();
        put(&mut tracks, id::TRACK, &track);
        put(out, id::TRACKS, &tracks);
        put(out, id::TAGS, &tags());
    }

    fn queue(&mut self, coded: Vec<Coded>, out: &mut Vec<u8>) {
        for packet in coded {
            if let Some(before) = self.waiting.replace(packet) {
                self.write(&before, 0, out);
            }
        }
    }

    fn write(&mut self, packet: &Coded, discard: u64, out: &mut Vec<u8>) {
        if !std::mem::replace(&mut self.begun, true) {
            self.header(out);
        }
        let time = (packet.end - PACKET_FRAMES) * 1_000 / u64::from(OPUS_RATE);
        let cluster = match self.cluster {
            Some(cluster) if time < cluster + CLUSTER_MILLISECONDS => cluster,
            _ => {
                open(out, id::CLUSTER);
                put_number(out, id::TIME, time);
                *self.cluster.insert(time)
            }
        };
        let mut block = vec![0x81];
        block.extend_from_slice(&((time - cluster) as u16).to_be_bytes());
        block.push(if discard == 0 { 0x80 } else { 0 });
        block.extend_from_slice(&packet.data);
        if discard == 0 {
            return put(out, id::SIMPLE_BLOCK, &block);
        }
        let mut group = Vec::new();
        put(&mut group, id::BLOCK, &block);
        put(&mut group, id::DISCARD, &nanoseconds(discard).to_be_bytes());
        put(out, id::GROUP, &group);
    }

    pub(crate) fn encode(&mut self, samples: &[f32], out: &mut Vec<u8>) -> Result<(), AudioError> {
        let mut coded = Vec::new();
        self.packets.encode(samples, &mut coded)?;
        self.queue(coded, out);
        Ok(())
    }

    pub(crate) fn finish(&mut self, out: &mut Vec<u8>) -> Result<(), AudioError> {
        let mut coded = Vec::new();
        self.packets.finish(&mut coded)?;
        self.queue(coded, out);
        if let Some(last) = self.waiting.take() {
            let discard = last.end.saturating_sub(self.packets.total());
            self.write(&last, discard, out);
        }
        Ok(())
    }
}

/// Of frames at 48 kHz, rounded up, so that no frame is lost in reading back.
fn nanoseconds(frames: u64) -> u64 {
    (frames * 1_000_000_000).div_ceil(u64::from(OPUS_RATE))
}

fn tags() -> Vec<u8> {
    let (name, text) = crate::tags::SYNTHETIC.split_once('=').unwrap_or((crate::tags::SYNTHETIC, ""));
    let mut simple = Vec::new();
    put(&mut simple, id::TAG_NAME, name.as_bytes());
    put(&mut simple, id::TAG_TEXT, text.as_bytes());
    let mut tag = Vec::new();
    // Without a target it stands for all.
    put(&mut tag, 0x63C0, &[]);
    put(&mut tag, id::SIMPLE_TAG, &simple);
    let mut tags = Vec::new();
    put(&mut tags, id::TAG, &tag);
    tags
}
