//! Ogg (RFC 3533): pages to packets, for Opus, Vorbis and FLAC.

use bytes::{Buf as _, BytesMut};
use crc::{CRC_32_CKSUM, Crc, Table};

use crate::chunk::Chunk;
use crate::container::opus_head::OpusHead;
use crate::container::packets::{Coding, Demuxed, Demuxer, Packet, Track, opus_frames};
use crate::tags::vorbis;
use crate::{AudioError, Codec};

/// Far above any packet of speech, below anything that could hurt: a packet
/// of FLAC may hold 65,535 samples of eight channels.
const MAX_PACKET_BYTES: usize = 2 << 20;
/// Setup headers of Vorbis are some 4 KiB, comments may hold a picture.
const MAX_HEADER_BYTES: usize = 1 << 20;

/// Of the same polynomial as that of POSIX, and not inverted.
const CHECK_SUM: Crc<u32, Table<16>> = Crc::<u32, Table<16>>::new(&CRC_32_CKSUM);

/// One packet and what the page that ended it said.
struct OggPacket {
    data: Vec<u8>,
    /// The page's granule position, on its last packet.
    granule: Option<u64>,
    /// Ends the stream.
    last: bool,
    /// Begins a stream.
    first: bool,
}

/// The audio that a stream with this first packet carries; `None` for
/// pictures, an index, and audio that is not read here.
pub(crate) fn codec_of(head: &[u8]) -> Option<Codec> {
    let known: [(&[u8], Codec); 3] =
        [(b"OpusHead", Codec::OggOpus), (b"\x01vorbis", Codec::OggVorbis), (b"\x7FFLAC", Codec::OggFlac)];
    known.into_iter().find(|(mark, _)| head.starts_with(mark)).map(|(_, codec)| codec)
}

/// The body of the page that the bytes begin, where it is the first page of a
/// stream, and what stands behind it. A body that is cut is given as far as
/// it goes.
pub(crate) fn first_page(bytes: &[u8]) -> Option<(&[u8], &[u8])> {
    let page = OggPage::parse(bytes).filter(|page| page.begins && bytes.starts_with(b"OggS"))?;
    let whole = page.whole.min(bytes.len());
    Some((bytes.get(page.body..whole)?, &bytes[whole..]))
}

/// What the header of a page says.
///
/// ```text
/// "OggS" version flags granule(8) serial(4) sequence(4) crc(4) n lacing[n] body
/// ```
struct OggPage {
    begins: bool,
    ends: bool,
    granule: u64,
    serial: u32,
    /// Begin and end of its body.
    body: usize,
    whole: usize,
}

impl OggPage {
    /// `None` while its header is not whole.
    fn parse(bytes: &[u8]) -> Option<OggPage> {
        let head = bytes.first_chunk::<27>()?;
        let body = 27 + usize::from(head[26]);
        let lacing = bytes.get(27..body)?;
        Some(OggPage {
            begins: head[5] & 2 != 0,
            ends: head[5] & 4 != 0,
            granule: head[6..14].first_chunk::<8>().map_or(0, |bytes| u64::from_le_bytes(*bytes)),
            serial: u32::from_le_bytes([head[14], head[15], head[16], head[17]]),
            body,
            whole: body + lacing.iter().map(|byte| usize::from(*byte)).sum::<usize>(),
        })
    }
}

/// Whether the check sum of a whole page is right (RFC 3533, section 6): it
/// is counted with its own four bytes as zeros.
fn check_sum_is_right(page: &[u8]) -> bool {
    let told = page.get(22..26).and_then(<[u8]>::first_chunk).map(|sum| u32::from_le_bytes(*sum));
    let mut sum = CHECK_SUM.digest();
    for part in [&page[..22], &[0; 4], &page[26..]] {
        sum.update(part);
    }
    told == Some(!sum.finalize())
}

/// Cuts a byte stream into the packets of one logical stream after another.
#[derive(Default)]
struct PageReader {
    pending: BytesMut,
    packet: Vec<u8>,
    /// The stream of audio whose packets are taken.
    serial: Option<u32>,
    /// Among the first pages, which stand together: what the first begins
    /// with, in words.
    opening: Option<String>,
    /// The stream that is read has ended.
    ended: bool,
}

impl PageReader {
    fn push(&mut self, bytes: &[u8], out: &mut Vec<OggPacket>) -> Result<(), AudioError> {
        self.pending.extend_from_slice(bytes);
        while self.pending.len() >= 27 {
            if !self.pending.starts_with(b"OggS") {
                self.pass_junk()?;
                continue;
            }
            let Some(page) = OggPage::parse(&self.pending).filter(|page| self.pending.len() >= page.whole) else {
                break;
            };
            let bytes = self.pending.split_to(page.whole);
            if !check_sum_is_right(&bytes) {
                return Err(AudioError::Unsupported { format: "Ogg", what: "a page whose check sum is wrong".into() });
            }
            self.read_page(&page, &bytes, out)?;
        }
        Ok(())
    }

    /// Skips bytes where a page should begin: behind the end of
    /// the stream it may be none of ours.
    fn pass_junk(&mut self) -> Result<(), AudioError> {
        if self.ended {
            // The beginning of a mark may be the last that is here.
            let next = memchr::memmem::find(&self.pending, b"OggS").unwrap_or(self.pending.len() - 3);
            self.pending.advance(next);
            return Ok(());
        }
        Err(match self.serial {
            Some(_) => AudioError::Unsupported { format: "Ogg", what: "damage where a page should begin".into() },
            None => AudioError::NotThis { expected: "Ogg", found: crate::format::sniff::describe(&self.pending) },
        })
    }

    /// Of streams that stand beside each other (RFC 3533, section 4) the first
    /// with audio is taken.
    fn choose(&mut self, page: &OggPage, head: &[u8]) {
        if self.opening.is_none() {
            self.opening = Some(crate::format::sniff::describe(head));
            self.serial = None;
            self.packet.clear();
        }
        if self.serial.is_none() && codec_of(head).is_some() {
            self.serial = Some(page.serial);
        }
    }

    fn read_page(&mut self, page: &OggPage, bytes: &[u8], out: &mut Vec<OggPacket>) -> Result<(), AudioError> {
        if page.begins {
            self.choose(page, &bytes[page.body..]);
        } else if let (Some(found), None) = (self.opening.take(), self.serial) {
            return Err(AudioError::NotThis { expected: "Opus, Vorbis or FLAC in Ogg", found });
        }
        if self.serial != Some(page.serial) {
            return Ok(());
        }
        self.ended = page.ends || (self.ended && !page.begins);
        let mut at = page.body;
        let before = out.len();
        for lace in &bytes[27..page.body] {
            self.packet.extend_from_slice(&bytes[at..at + usize::from(*lace)]);
            at += usize::from(*lace);
            if self.packet.len() > MAX_PACKET_BYTES {
                let what = format!("a packet over {MAX_PACKET_BYTES} bytes");
                return Err(AudioError::Unsupported { format: "Ogg", what });
            }
            if *lace < 255 {
                let data = std::mem::take(&mut self.packet);
                out.push(OggPacket { data, granule: None, last: false, first: page.begins && out.len() == before });
            }
        }
        if out.len() > before
            && let Some(piece) = out.last_mut()
        {
            piece.granule = Some(page.granule).filter(|granule| *granule != u64::MAX);
            piece.last = page.ends;
        }
        Ok(())
    }

    /// Whether the stream, or a page or packet of it, was begun and never
    /// completed.
    fn torn(&self) -> bool {
        !self.ended || !self.packet.is_empty() || self.pending.starts_with(b"OggS")
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
}

impl OggDemuxer {
    pub(crate) fn new() -> Self {
        OggDemuxer { pages: PageReader::default(), stream: Stream::None }
    }

    fn begin(&mut self, head: Vec<u8>, out: &mut Vec<Demuxed>) -> Result<(), AudioError> {
        if head.starts_with(b"OpusHead") {
            let head = OpusHead::read(&head)?;
            let pre_skip = u64::from(head.pre_skip);
            out.push(Demuxed::Track(Track { coding: Coding::Opus(head), start: pre_skip, frames: None }));
            self.stream = Stream::Opus { tags: false, pre_skip, offset: None, counted: 0 };
        } else if head.starts_with(b"\x01vorbis") {
            self.stream = Stream::Vorbis { ident: head, headers: 1 };
        } else if head.starts_with(b"\x7FFLAC") && head.len() >= 51 {
            let info = head[17..51].to_vec();
            let frames = crate::container::flac::total_frames(&info);
            out.push(Demuxed::Track(Track { coding: Coding::Flac(info), start: 0, frames }));
            self.stream = Stream::Flac { left: u16::from_be_bytes([head[7], head[8]]) };
        } else {
            let found = crate::format::sniff::describe(&head);
            return Err(AudioError::NotThis { expected: "Opus, Vorbis or FLAC in Ogg", found });
        }
        Ok(())
    }

    fn take(&mut self, piece: OggPacket, out: &mut Vec<Demuxed>) -> Result<(), AudioError> {
        if piece.first || matches!(self.stream, Stream::None) {
            return self.begin(piece.data, out);
        }
        let mut end = piece.granule.filter(|_| piece.last);
        match &mut self.stream {
            Stream::None => {}
            Stream::Opus { tags: tags @ false, .. } => {
                *tags = true;
                if let Some(comment) = piece.data.strip_prefix(b"OpusTags") {
                    out.push(Demuxed::Tags(vorbis::read(comment)));
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
                    out.push(Demuxed::Tags(vorbis::read(comment)));
                }
                if *headers == 3 {
                    if ident.len() + piece.data.len() > MAX_HEADER_BYTES {
                        let what = "headers over 1 MiB".into();
                        return Err(AudioError::Unsupported { format: "Ogg Vorbis", what });
                    }
                    let mut both = std::mem::take(ident);
                    both.extend_from_slice(&piece.data);
                    out.push(Demuxed::Track(Track { coding: Coding::Vorbis(both), start: 0, frames: None }));
                }
                return Ok(());
            }
            Stream::Vorbis { .. } => {}
            // Metadata blocks come first; how many, the head may have told.
            Stream::Flac { left } => {
                if *left > 0 || piece.data.first().is_some_and(|byte| *byte != 0xFF) {
                    *left = left.saturating_sub(1);
                    if let [4 | 0x84, _, _, _, comment @ ..] = piece.data.as_slice() {
                        out.push(Demuxed::Tags(vorbis::read(comment)));
                    }
                    return Ok(());
                }
                end = None;
            }
        }
        out.push(Demuxed::Packet(Packet { data: piece.data, end, discard: 0 }));
        Ok(())
    }
}

impl Demuxer for OggDemuxer {
    fn push(&mut self, bytes: &[u8], chunk: Chunk, out: &mut Vec<Demuxed>) -> Result<(), AudioError> {
        let mut pieces = Vec::new();
        let result = self.pages.push(bytes, &mut pieces);
        for piece in pieces {
            self.take(piece, out)?;
        }
        result?;
        if chunk.is_last() && self.pages.torn() {
            return Err(AudioError::Truncated { format: "Ogg", what: "its last page is missing" });
        }
        Ok(())
    }
}
