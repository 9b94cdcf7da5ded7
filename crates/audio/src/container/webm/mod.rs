//! WebM and its parent format Matroska (RFC 9559): its elements, which are
//! those of EBML (RFC 8794). Reading for the first track of audio, and writing
//! of Opus, have modules of their own.

mod read;
mod write;

pub(crate) use read::WebmDemuxer;
pub(crate) use write::WebmMuxer;

use crate::AudioError;
use crate::tags::{Field, Tags};

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
    pub(super) const ENCODINGS: u32 = 0x6D80;
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
    pub(super) const TITLE: u32 = 0x7BA9;
    pub(super) const DURATION: u32 = 0x4489;
    pub(super) const VOID: u32 = 0xEC;
    pub(super) const TARGETS: u32 = 0x63C0;
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

/// Of frames at 48 kHz, rounded up, so that no frame is lost in reading back.
fn nanoseconds(frames: u64) -> u64 {
    (frames * 1_000_000_000).div_ceil(u64::from(crate::container::packets::OPUS_RATE))
}

/// Reads the title in the body of `Info`.
fn read_title(body: &[u8]) -> Tags {
    let mut tags = Tags::default();
    if let Some((_, title)) = Elements(body).find(|(id, _)| *id == id::TITLE) {
        tags.set(Field::Title, &String::from_utf8_lossy(title));
    }
    tags
}

/// Reads the body of `Tags`.
fn read_tags(body: &[u8]) -> Tags {
    let mut tags = Tags::default();
    let simple = Elements(body).filter(|(id, _)| *id == id::TAG).flat_map(|(_, tag)| Elements(tag));
    for (_, simple) in simple.filter(|(id, _)| *id == id::SIMPLE_TAG) {
        let text = |wanted| {
            let found = Elements(simple).find(|(id, _)| *id == wanted);
            found.map(|(_, text)| String::from_utf8_lossy(text).into_owned()).unwrap_or_default()
        };
        let name = text(id::TAG_NAME);
        let official = OFFICIAL.iter().find(|(_, official)| *official == name).map(|(field, _)| *field);
        let field = official.or_else(|| Field::named(&name));
        if let Some(field) = field {
            tags.set(field, &text(id::TAG_TEXT));
        }
    }
    tags
}

/// Fields that have other names among the official tags.
const OFFICIAL: [(Field, &str); 2] = [(Field::Date, "DATE_ENCODED"), (Field::Track, "PART_NUMBER")];

/// The whole `Tags`; empty without tags.
fn write_tags(out: &mut Vec<u8>, tags: &Tags) {
    let fields = tags.fields();
    if fields.is_empty() {
        return;
    }
    let mut tag = Vec::new();
    // Without a target they stand for all.
    put(&mut tag, id::TARGETS, &[]);
    for (field, value) in fields {
        let mut simple = Vec::new();
        let official = OFFICIAL.iter().find(|(official, _)| *official == field).map(|(_, name)| *name);
        let name = official.unwrap_or(field.name());
        put(&mut simple, id::TAG_NAME, name.as_bytes());
        put(&mut simple, id::TAG_TEXT, value.as_bytes());
        put(&mut tag, id::SIMPLE_TAG, &simple);
    }
    let mut body = Vec::new();
    put(&mut body, id::TAG, &tag);
    put(out, id::TAGS, &body);
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_written_is_read_and_damage_ends_the_reading() {
        let tags = crate::tags::sample();
        let mut bytes = Vec::new();
        write_tags(&mut bytes, &tags);
        let (id, body) = Elements(&bytes).next().expect("one element");
        assert_eq!((id, read_tags(body)), (id::TAGS, tags.clone()));
        for cut in 0..body.len() {
            let part = read_tags(&body[..cut]);
            assert!(part.title.is_none() || part.title == tags.title, "cut at {cut}");
        }
    }
}
