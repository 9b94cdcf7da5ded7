//! The index of an MP4: the boxes with the positions of packets.

use crate::AudioError;
use crate::container::mp4::{Sample, unsupported};
use crate::container::opus_head::OpusHead;
use crate::container::packets::{Coding, OPUS_RATE, Track};

/// A day of audio has some four million packets.
const MAX_SAMPLES: usize = 8 << 20;

/// What the movie box says of its first track of audio.
#[derive(Debug)]
pub(crate) struct Movie {
    pub(crate) track: Track,
    pub(crate) samples: Vec<Sample>,
    id: u32,
    /// Default for fragments that do not state it.
    default_size: u32,
}

/// The boxes inside a box.
struct Boxes<'a>(&'a [u8]);

impl<'a> Iterator for Boxes<'a> {
    type Item = ([u8; 4], &'a [u8]);

    fn next(&mut self) -> Option<Self::Item> {
        let head = self.0.first_chunk::<8>()?;
        let kind = [head[4], head[5], head[6], head[7]];
        let (from, size) = match u32::from_be_bytes([head[0], head[1], head[2], head[3]]) {
            0 => (8, self.0.len()),
            1 => (16, usize::try_from(u64::from_be_bytes(*self.0.get(8..16)?.first_chunk()?)).ok()?),
            size => (8, size as usize),
        };
        let body = self.0.get(from..size)?;
        self.0 = &self.0[size..];
        Some((kind, body))
    }
}

fn child<'a>(body: &'a [u8], path: &[&[u8; 4]]) -> Option<&'a [u8]> {
    path.iter().try_fold(body, |body, kind| Boxes(body).find(|(has, _)| has == *kind).map(|(_, body)| body))
}

fn word(bytes: &[u8], at: usize) -> Option<u32> {
    Some(u32::from_be_bytes(*bytes.get(at..at.checked_add(4)?)?.first_chunk()?))
}

fn long(bytes: &[u8], at: usize) -> Option<u64> {
    Some(u64::from_be_bytes(*bytes.get(at..at.checked_add(8)?)?.first_chunk()?))
}

/// Reads the movie box.
pub(crate) fn read_movie(moov: &[u8]) -> Result<Movie, AudioError> {
    let sound = Boxes(moov)
        .filter(|(kind, _)| kind == b"trak")
        .map(|(_, body)| body)
        .find(|trak| child(trak, &[b"mdia", b"hdlr"]).is_some_and(|handler| handler.get(8..12) == Some(b"soun")));
    let trak = sound.ok_or_else(|| unsupported("no track of sound"))?;
    let broken = || unsupported("a track whose index cannot be read");
    let header = child(trak, &[b"tkhd"]).ok_or_else(broken)?;
    let id = word(header, if header.first() == Some(&1) { 20 } else { 12 }).ok_or_else(broken)?;
    let table = child(trak, &[b"mdia", b"minf", b"stbl"]).ok_or_else(broken)?;
    let (coding, start) = read_description(child(table, &[b"stsd"]).ok_or_else(broken)?)?;
    let samples = read_table(table).ok_or_else(broken)?;
    let default_size = Boxes(child(moov, &[b"mvex"]).unwrap_or_default())
        .filter(|(kind, body)| kind == b"trex" && word(body, 4) == Some(id))
        .find_map(|(_, body)| word(body, 16))
        .unwrap_or(0);
    let mut track = Track { coding, start, frames: None };
    trim(moov, trak, &mut track);
    Ok(Movie { track, samples, id, default_size })
}

/// What is cut off at both ends: by the edit list, or else by the note that
/// some encoders leave in its place.
fn trim(moov: &[u8], trak: &[u8], track: &mut Track) {
    let timescale = |body: &[u8]| word(body, if body.first() == Some(&1) { 20 } else { 12 });
    let media_scale = child(trak, &[b"mdia", b"mdhd"]).and_then(timescale).unwrap_or(0);
    let movie_scale = child(moov, &[b"mvhd"]).and_then(timescale).unwrap_or(0);
    let rate = match &track.coding {
        Coding::Opus(_) => u64::from(OPUS_RATE),
        _ => u64::from(media_scale),
    };
    if let Some((time, duration)) = child(trak, &[b"edts", b"elst"]).and_then(read_edit) {
        if media_scale > 0 {
            track.start = time.saturating_mul(rate) / u64::from(media_scale);
        }
        // A fragmented file claims no length.
        if duration > 0 && movie_scale > 0 {
            let exact = duration.saturating_mul(rate).div_ceil(u64::from(movie_scale));
            let slack = rate / u64::from(movie_scale).max(1) + 1;
            track.frames = whole_length(trak, track.start, exact, slack);
        }
    }
    if let Some((priming, frames)) = smooth_note(moov) {
        (track.start, track.frames) = (priming, Some(frames));
    }
}

/// The length that the edit asks for. The movie's clock is coarser than the
/// sound's: within a tick of the end of the media, the end is meant.
fn whole_length(trak: &[u8], start: u64, exact: u64, slack: u64) -> Option<u64> {
    let header = child(trak, &[b"mdia", b"mdhd"])?;
    let media = if header.first() == Some(&1) { long(header, 24)? } else { u64::from(word(header, 16)?) };
    let rest = media.saturating_sub(start);
    Some(if rest > 0 && rest.abs_diff(exact) <= slack { rest } else { exact })
}

/// The first edit that shows media: where in the media it begins, and how
/// long it lasts on the movie's clock.
fn read_edit(list: &[u8]) -> Option<(u64, u64)> {
    let large = list.first() == Some(&1);
    let count = word(list, 4)?.min(16) as usize;
    (0..count).find_map(|index| {
        let (duration, time) = if large {
            (long(list, 8 + index * 20)?, long(list, 16 + index * 20)?.cast_signed())
        } else {
            let at = 8 + index * 12;
            (u64::from(word(list, at)?), i64::from(word(list, at + 4)?.cast_signed()))
        };
        Some((u64::try_from(time).ok()?, duration))
    })
}

/// ` 00000000 PRIMING REMAINDER LENGTH …` in hexadecimal, at any position.
fn smooth_note(moov: &[u8]) -> Option<(u64, u64)> {
    let user = child(moov, &[b"udta", b"meta"])?;
    let list = child(user.get(4..)?, &[b"ilst"])?;
    let at = list.windows(8).position(|window| window == b"iTunSMPB")?;
    let text = String::from_utf8_lossy(&list[at + 8..(at + 160).min(list.len())]).into_owned();
    let mut numbers = text.split(|c: char| !c.is_ascii_hexdigit()).filter(|word| word.len() >= 8);
    let mut next = || u64::from_str_radix(numbers.next()?, 16).ok();
    let (_, priming, _, length) = (next()?, next()?, next()?, next()?);
    (length > 0).then_some((priming, length))
}

/// The coding of the first sample entry, and the frames before the audio.
fn read_description(stsd: &[u8]) -> Result<(Coding, u64), AudioError> {
    let broken = || unsupported("a broken description of its sound");
    let (kind, entry) = Boxes(stsd.get(8..).ok_or_else(broken)?).next().ok_or_else(broken)?;
    // Version 1 and 2 of the entry, as older writers make them, are longer.
    let extra = match entry.get(8..10) {
        Some([0, 1]) => 16,
        Some([0, 2]) => 36,
        _ => 0,
    };
    let inner = entry.get(28 + extra..).ok_or_else(broken)?;
    match &kind {
        b"Opus" => {
            let head = child(inner, &[b"dOps"]).ok_or_else(broken)?;
            let head = OpusHead::read_box(head)?;
            let pre_skip = u64::from(head.pre_skip);
            Ok((Coding::Opus(head), pre_skip))
        }
        b"mp4a" => {
            let esds = child(inner, &[b"esds"]).or_else(|| child(inner, &[b"wave", b"esds"])).ok_or_else(broken)?;
            let descriptors = esds.get(4..).ok_or_else(broken)?;
            let config = match specific_config(descriptors).ok_or_else(broken)? {
                (0x40 | 0x66..=0x68, Some(config)) => config,
                (0x40 | 0x66..=0x68, None) => return Err(broken()),
                (0x69 | 0x6B, _) => return Err(unsupported("sound coded as MP3")),
                (other, _) => return Err(unsupported(format!("sound of object type {other:#x}"))),
            };
            Ok((Coding::Aac(config), 0))
        }
        b"enca" => Err(unsupported("encrypted sound")),
        other => Err(unsupported(format!("sound coded as '{}'", String::from_utf8_lossy(other)))),
    }
}

/// What the audio is, as an object type (0x40: AAC), and the decoder's
/// configuration, where there is one, out of the descriptors (ISO/IEC 14496-1,
/// section 7.2.6): tag, length in sevens, body.
fn specific_config(mut bytes: &[u8]) -> Option<(u8, Option<Vec<u8>>)> {
    let mut object = 0;
    loop {
        if bytes.is_empty() && object > 0 {
            return Some((object, None));
        }
        let (tag, rest) = bytes.split_first()?;
        let mut length = 0;
        let mut at = 0;
        loop {
            let byte = *rest.get(at)?;
            at += 1;
            length = (length << 7) | usize::from(byte & 0x7F);
            if byte & 0x80 == 0 || at == 4 {
                break;
            }
        }
        let body = rest.get(at..)?;
        bytes = match tag {
            // The elementary stream: an id and flags stand before what is in it.
            3 => {
                let flags = *body.get(2)?;
                let mut skip = 3;
                skip += if flags & 0x80 != 0 { 2 } else { 0 };
                skip += if flags & 0x40 != 0 { 1 + usize::from(*body.get(skip)?) } else { 0 };
                skip += if flags & 0x20 != 0 { 2 } else { 0 };
                body.get(skip..)?
            }
            // The decoder: thirteen bytes stand before its configuration.
            4 => {
                object = *body.first()?;
                body.get(13..)?
            }
            5 => return Some((object, Some(body.get(..length).filter(|config| config.len() >= 2)?.to_vec()))),
            _ => body.get(length..)?,
        };
    }
}

/// Position of every packet, from the tables of sizes, chunks and offsets.
fn read_table(table: &[u8]) -> Option<Vec<Sample>> {
    let sizes = child(table, &[b"stsz"])?;
    let (same, count) = (word(sizes, 4)?, word(sizes, 8)? as usize);
    if count == 0 {
        return Some(Vec::new());
    }
    let runs = child(table, &[b"stsc"])?;
    let run_count = word(runs, 4)? as usize;
    let (offsets, wide) = match child(table, &[b"stco"]) {
        Some(offsets) => (offsets, false),
        None => (child(table, &[b"co64"])?, true),
    };
    let chunks = word(offsets, 4)? as usize;
    let mut samples = Vec::new();
    let mut run = 0;
    for chunk in 0..chunks {
        while run + 1 < run_count && word(runs, 8 + (run + 1) * 12)? as usize <= chunk + 1 {
            run += 1;
        }
        let mut at = if wide { long(offsets, 8 + chunk * 8)? } else { u64::from(word(offsets, 8 + chunk * 4)?) };
        for _ in 0..word(runs, 12 + run * 12)? {
            if samples.len() >= count.min(MAX_SAMPLES) {
                return Some(samples);
            }
            let size = if same > 0 { same } else { word(sizes, 12 + samples.len() * 4)? };
            samples.push(Sample { at, size });
            at = at.checked_add(u64::from(size))?;
        }
    }
    Some(samples)
}

/// The packets of a fragment that begins at a place in the file.
pub(crate) fn read_fragment(moof: &[u8], movie: &Movie, begun: u64) -> Result<Vec<Sample>, AudioError> {
    let broken = || unsupported("a fragment whose index cannot be read");
    let mut samples = Vec::new();
    for (_, traf) in Boxes(moof).filter(|(kind, _)| kind == b"traf") {
        let header = child(traf, &[b"tfhd"]).ok_or_else(broken)?;
        if word(header, 4) == Some(movie.id) {
            read_runs(traf, header, movie, begun, &mut samples).ok_or_else(broken)?;
        }
    }
    Ok(samples)
}

fn read_runs(traf: &[u8], header: &[u8], movie: &Movie, begun: u64, samples: &mut Vec<Sample>) -> Option<()> {
    let flags = word(header, 0)? & 0x00FF_FFFF;
    let mut at = 8;
    let mut base = begun;
    if flags & 1 != 0 {
        base = long(header, at)?;
        at += 8;
    }
    at += [2, 8].iter().filter(|bit| flags & **bit != 0).count() * 4;
    let default_size = if flags & 0x10 != 0 { word(header, at)? } else { movie.default_size };
    let mut next = base;
    for (_, run) in Boxes(traf).filter(|(kind, _)| kind == b"trun") {
        let flags = word(run, 0)? & 0x00FF_FFFF;
        let count = word(run, 4)? as usize;
        let mut at = 8;
        if flags & 1 != 0 {
            next = base.checked_add_signed(i64::from(word(run, at)?.cast_signed()))?;
            at += 4;
        }
        at += if flags & 4 != 0 { 4 } else { 0 };
        for _ in 0..count {
            at += if flags & 0x100 != 0 { 4 } else { 0 };
            let size = if flags & 0x200 != 0 { word(run, at)? } else { default_size };
            at += if flags & 0x200 != 0 { 4 } else { 0 };
            at += [0x400, 0x800].iter().filter(|bit| flags & **bit != 0).count() * 4;
            if samples.len() >= MAX_SAMPLES {
                return None;
            }
            samples.push(Sample { at: next, size });
            next = next.checked_add(u64::from(size))?;
        }
    }
    Some(())
}
