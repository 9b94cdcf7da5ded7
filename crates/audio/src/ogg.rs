//! Ogg (RFC 3533): pages to packets, for Opus, Vorbis and FLAC.

use crate::AudioError;
use crate::opus_head::OpusHead;
use crate::packets::{Coding, Demuxer, Found, Packet, Track, opus_frames};
use crate::tags::vorbis;

/// Far above any packet of speech, below anything that could hurt: a packet
/// of FLAC may hold 65,535 samples of eight channels.
const MAX_PACKET_BYTES: usize = 2 << 20;
/// Setup headers of Vorbis are some 4 KiB, comments may hold a picture.
const MAX_HEADER_BYTES: usize = 1 << 20;

/// One packet and what the page that ended it said.
struct Piece {
    data: Vec<u8>,
    /// The page's granule position, on its last packet.
    granule: Option<u64>,
    /// Ends the stream.
    last: bool,
    /// Begins a stream.
    first: bool,
}

/// Cuts a byte stream into the packets of one logical stream after another.
#[derive(Default)]
struct PageReader {
    pending: Vec<u8>,
    packet: Vec<u8>,
    serial: Option<u32>,
}

impl PageReader {
    /// ```text
    /// "OggS" version flags granule(8) serial(4) sequence(4) crc(4) n lacing[n] body
    /// ```
    fn push(&mut self, bytes: &[u8], out: &mut Vec<Piece>) -> Result<(), AudioError> {
        self.pending.extend_from_slice(bytes);
        let mut at = 0;
        while let Some(page) = self.pending.get(at..).filter(|page| page.len() >= 27) {
            if !page.starts_with(b"OggS") {
                return Err(AudioError::NotThis { expected: "Ogg", found: crate::sniff::describe(page) });
            }
            let segments = usize::from(page[26]);
            let Some(lacing) = page.get(27..27 + segments) else { break };
            let whole = 27 + segments + lacing.iter().map(|byte| usize::from(*byte)).sum::<usize>();
            if page.len() < whole {
                break;
            }
            let page = page[..whole].to_vec();
            at += whole;
            self.read_page(&page, segments, out)?;
        }
        self.pending.drain(..at);
        Ok(())
    }

    fn read_page(&mut self, page: &[u8], segments: usize, out: &mut Vec<Piece>) -> Result<(), AudioError> {
        let first_page = page[5] & 2 != 0;
        let last_page = page[5] & 4 != 0;
        let serial = u32::from_le_bytes([page[14], page[15], page[16], page[17]]);
        match self.serial {
            // Other streams beside the first are passed over.
            Some(known) if known != serial && !first_page => return Ok(()),
            Some(known) if known != serial && !self.packet.is_empty() => return Ok(()),
            _ => self.serial = Some(serial),
        }
        let granule = page[6..14].first_chunk::<8>().map_or(0, |bytes| u64::from_le_bytes(*bytes));
        let mut at = 27 + segments;
        let before = out.len();
        for lace in &page[27..27 + segments] {
            self.packet.extend_from_slice(&page[at..at + usize::from(*lace)]);
            at += usize::from(*lace);
            if self.packet.len() > MAX_PACKET_BYTES {
                let what = format!("a packet over {MAX_PACKET_BYTES} bytes");
                return Err(AudioError::Unsupported { format: "Ogg", what });
            }
            if *lace < 255 {
                let data = std::mem::take(&mut self.packet);
                out.push(Piece { data, granule: None, last: false, first: first_page && out.len() == before });
            }
        }
        if out.len() > before
            && let Some(piece) = out.last_mut()
        {
            piece.granule = Some(granule).filter(|granule| *granule != u64::MAX);
            piece.last = last_page;
        }
        Ok(())
    }

    /// Whether a page or packet was begun and never completed.
    fn torn(&self) -> bool {
        !self.pending.is_empty() || !self.packet.is_empty()
    }
}

/// What the stream carries, and how much of its headers has been seen.
enum Stream {
    None,
    Opus { tags: bool, pre_skip: u64, offset: Option<u64>, counted: u64 },
    Vorbis { ident: Vec<u8>, headers: u8 },
    Flac { left: u16 },
}

/// Ogg with one stream after another (RFC 3533, section 4: chained).
pub(crate) struct OggDemuxer {
    pages: PageReader,
    stream: Stream,
    ended: bool,
}

impl OggDemuxer {
    pub(crate) fn new() -> Self {
        OggDemuxer { pages: PageReader::default(), stream: Stream::None, ended: false }
    }

    fn begin(&mut self, head: Vec<u8>, out: &mut Vec<Found>) -> Result<(), AudioError> {
        self.ended = false;
        if head.starts_with(b"OpusHead") {
            let head = OpusHead::read(&head)?;
            let pre_skip = u64::from(head.pre_skip);
            out.push(Found::Track(Track { coding: Coding::Opus(head), start: pre_skip, frames: None }));
            self.stream = Stream::Opus { tags: false, pre_skip, offset: None, counted: 0 };
        } else if head.starts_with(b"\x01vorbis") {
            self.stream = Stream::Vorbis { ident: head, headers: 1 };
        } else if head.starts_with(b"\x7FFLAC") && head.len() >= 51 {
            let info = head[17..51].to_vec();
            let frames = crate::flac::total_frames(&info);
            out.push(Found::Track(Track { coding: Coding::Flac(info), start: 0, frames }));
            self.stream = Stream::Flac { left: u16::from_be_bytes([head[7], head[8]]) };
        } else {
            let found = crate::sniff::describe(&head);
            return Err(AudioError::NotThis { expected: "Opus, Vorbis or FLAC in Ogg", found });
        }
        Ok(())
    }

    fn take(&mut self, piece: Piece, out: &mut Vec<Found>) -> Result<(), AudioError> {
        if piece.first || matches!(self.stream, Stream::None) {
            return self.begin(piece.data, out);
        }
        self.ended |= piece.last;
        let mut end = piece.granule.filter(|_| piece.last);
        match &mut self.stream {
            Stream::None => {}
            Stream::Opus { tags: tags @ false, .. } => {
                *tags = true;
                if let Some(comment) = piece.data.strip_prefix(b"OpusTags") {
                    out.push(Found::Tags(vorbis::read(comment)));
                }
                return Ok(());
            }
            Stream::Opus { pre_skip, offset, counted, .. } => {
                *counted += opus_frames(&piece.data);
                // A stream cut out of a longer one does not begin at 0; the
                // first page tells where it does (RFC 7845, section 4.5).
                if let (None, Some(granule)) = (*offset, piece.granule) {
                    let begun = if piece.last { 0 } else { granule.saturating_sub(*counted) };
                    *offset = Some(if begun > *pre_skip { begun } else { 0 });
                }
                end = end.map(|end| end.saturating_sub(offset.unwrap_or(0)));
            }
            Stream::Vorbis { ident, headers } if *headers < 3 => {
                *headers += 1;
                if let Some(comment) = piece.data.strip_prefix(b"\x03vorbis") {
                    out.push(Found::Tags(vorbis::read(comment)));
                }
                if *headers == 3 {
                    if ident.len() + piece.data.len() > MAX_HEADER_BYTES {
                        let what = "headers over 1 MiB".into();
                        return Err(AudioError::Unsupported { format: "Ogg Vorbis", what });
                    }
                    let mut both = std::mem::take(ident);
                    both.extend_from_slice(&piece.data);
                    out.push(Found::Track(Track { coding: Coding::Vorbis(both), start: 0, frames: None }));
                }
                return Ok(());
            }
            Stream::Vorbis { .. } => {}
            // Metadata blocks come first; how many, the head may have told.
            Stream::Flac { left } => {
                if *left > 0 || piece.data.first().is_some_and(|byte| *byte != 0xFF) {
                    *left = left.saturating_sub(1);
                    if let [4 | 0x84, _, _, _, comment @ ..] = piece.data.as_slice() {
                        out.push(Found::Tags(vorbis::read(comment)));
                    }
                    return Ok(());
                }
                end = None;
            }
        }
        out.push(Found::Packet(Packet { data: piece.data, end, discard: 0 }));
        Ok(())
    }
}

impl Demuxer for OggDemuxer {
    fn push(&mut self, bytes: &[u8], last: bool, out: &mut Vec<Found>) -> Result<(), AudioError> {
        let mut pieces = Vec::new();
        let result = self.pages.push(bytes, &mut pieces);
        for piece in pieces {
            self.take(piece, out)?;
        }
        result?;
        if last && (self.pages.torn() || !self.ended) {
            return Err(AudioError::Truncated { format: "Ogg", what: "its last page is missing" });
        }
        Ok(())
    }
}
