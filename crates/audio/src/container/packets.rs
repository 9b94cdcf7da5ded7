//! From packets of coded sound to samples: what every container of packets
//! shares. Demuxers cut bytes into packets; this has them decoded and trims them.

use crate::buffers::release;
use crate::chunk::Chunk;
use crate::codec::packet_codec::{PacketCodec, packet_codec};
use crate::conform::Conform;
use crate::container::opus_head::OpusHead;
use crate::{AudioError, Codec, Layout, Tags};

/// Opus decodes at this rate whatever it was made from (RFC 7845, section 4).
pub(crate) const OPUS_RATE: u32 = 48_000;

/// One packet.
#[derive(Debug, PartialEq, Eq)]
pub(crate) struct Packet {
    pub(crate) data: Vec<u8>,
    /// Where the audio truly ends, in frames since the stream began and before
    /// the start is trimmed; known at the last packet alone.
    pub(crate) end: Option<u64>,
    /// Frames to throw away at its end.
    pub(crate) discard: u64,
}

impl Packet {
    pub(crate) fn new(data: Vec<u8>) -> Self {
        Packet { data, end: None, discard: 0 }
    }
}

/// How the packets of a track are coded.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Coding {
    Opus(OpusHead),
    /// The 34 bytes of STREAMINFO (RFC 9639, section 8.2).
    Flac(Vec<u8>),
    /// Identification and setup header, one behind the other.
    Vorbis(Vec<u8>),
    /// AudioSpecificConfig (ISO/IEC 14496-3, section 1.6.2.1).
    Aac(Vec<u8>),
}

impl Coding {
    /// The codec, by the container that it is at home in.
    pub(crate) fn codec(&self) -> Codec {
        match self {
            Coding::Opus(_) => Codec::OggOpus,
            Coding::Flac(_) => Codec::Flac,
            Coding::Vorbis(_) => Codec::OggVorbis,
            Coding::Aac(_) => Codec::Aac,
        }
    }
}

/// A track: its coding, and what to trim.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Track {
    pub(crate) coding: Coding,
    /// Frames before the audio begins.
    pub(crate) start: u64,
    /// Total number of frames, if the container states it.
    pub(crate) frames: Option<u64>,
}

/// What a demuxer has found.
#[derive(Debug, PartialEq, Eq)]
pub(crate) enum Demuxed {
    /// A track begins; packets that follow belong to it.
    Track(Track),
    Packet(Packet),
    /// What the file says of itself.
    Tags(Tags),
}

/// Cuts bytes of a container into packets; a state machine without I/O.
pub(crate) trait Demuxer: Send {
    /// Takes bytes and appends what they complete. With `last` the bytes are
    /// over, and what is torn is an error.
    fn push(&mut self, bytes: &[u8], chunk: Chunk, out: &mut Vec<Demuxed>) -> Result<(), AudioError>;
}

struct Playing {
    codec: Box<dyn PacketCodec>,
    layout: Layout,
    track: Track,
    /// Frames decoded so far, before trimming.
    decoded: u64,
    /// Frames given so far.
    given: u64,
}

/// Decodes what a demuxer finds.
pub(crate) struct PacketDecoder {
    demuxer: Box<dyn Demuxer>,
    playing: Option<Playing>,
    /// Of the first stream, to which later ones are brought.
    layout: Option<Layout>,
    conform: Option<Conform>,
    tags: Tags,
    streams: u32,
    found: Vec<Demuxed>,
    frame: Vec<f32>,
}

impl PacketDecoder {
    pub(crate) fn new(demuxer: Box<dyn Demuxer>) -> Self {
        PacketDecoder {
            demuxer,
            playing: None,
            layout: None,
            conform: None,
            tags: Tags::default(),
            streams: 0,
            found: Vec::new(),
            frame: Vec::new(),
        }
    }

    pub(crate) fn layout(&self) -> Option<Layout> {
        self.layout
    }

    pub(crate) fn fits_sixteen_bits(&self) -> bool {
        let coding = self.playing.as_ref().map(|playing| &playing.track.coding);
        self.conform.is_none()
            && matches!(coding, Some(Coding::Flac(info)) if crate::container::flac::bits_per_sample(info) <= 16)
    }

    pub(crate) fn is_chained(&self) -> bool {
        self.streams > 1
    }

    pub(crate) fn tags(&self) -> &Tags {
        &self.tags
    }

    pub(crate) fn push(&mut self, bytes: &[u8], chunk: Chunk, out: &mut Vec<f32>) -> Result<(), AudioError> {
        let result = self.demuxer.push(bytes, chunk, &mut self.found);
        // What was whole before a fault is still sound.
        let mut found = std::mem::take(&mut self.found);
        for found in found.drain(..) {
            match found {
                Demuxed::Track(track) => {
                    self.streams += 1;
                    self.end(out)?;
                    self.begin(track)?;
                }
                Demuxed::Packet(packet) => self.decode(&packet, out)?,
                Demuxed::Tags(tags) => self.tags.merge(&tags),
            }
        }
        self.found = found;
        release(&mut self.frame);
        if chunk.is_last() && result.is_ok() {
            self.end(out)?;
        }
        result
    }

    /// A stream is over: what is still on its way.
    fn end(&mut self, out: &mut Vec<f32>) -> Result<(), AudioError> {
        self.conform.take().map_or(Ok(()), |conform| conform.finish(out))
    }

    fn begin(&mut self, track: Track) -> Result<(), AudioError> {
        let playing = Playing::new(track)?;
        let layout = *self.layout.get_or_insert(playing.layout);
        self.conform = Conform::new(playing.layout, layout)?;
        self.playing = Some(playing);
        Ok(())
    }

    fn decode(&mut self, packet: &Packet, out: &mut Vec<f32>) -> Result<(), AudioError> {
        let Some(playing) = self.playing.as_mut() else { return Ok(()) };
        let frames = playing.codec.decode(&packet.data, &mut self.frame)?;
        let before = playing.decoded;
        playing.decoded += frames;
        let end = packet.end.map_or(playing.decoded, |end| playing.decoded.min(end.max(before)));
        let end = end.saturating_sub(packet.discard).max(before);
        let start = playing.track.start.clamp(before, end);
        let room = playing.track.frames.map_or(u64::MAX, |all| all.saturating_sub(playing.given));
        let count = (end - start).min(room);
        playing.given += count;
        let channels = u64::from(playing.layout.channels);
        let from = ((start - before) * channels) as usize;
        let sound = &self.frame[from..from + (count * channels) as usize];
        match self.conform.as_mut() {
            Some(conform) => conform.push(sound, out),
            None => {
                out.extend_from_slice(sound);
                Ok(())
            }
        }
    }
}

impl Playing {
    fn new(track: Track) -> Result<Self, AudioError> {
        let codec = packet_codec(&track.coding)?;
        let layout = codec.layout()?;
        crate::codec::decode::check_input(layout)?;
        Ok(Playing { codec, layout, track, decoded: 0, given: 0 })
    }
}

/// Frames at 48 kHz in a packet of Opus, by its table-of-contents byte (RFC
/// 6716, section 3.1); 0 for what is no packet.
pub(crate) fn opus_frames(packet: &[u8]) -> u64 {
    let Some(toc) = packet.first() else { return 0 };
    let size = match toc >> 3 {
        config @ 0..=11 => [480, 960, 1_920, 2_880][usize::from(config & 3)],
        config @ 12..=15 => [480, 960][usize::from(config & 1)],
        config => [120, 240, 480, 960][usize::from(config & 3)],
    };
    let count = match toc & 3 {
        0 => 1,
        1 | 2 => 2,
        _ => packet.get(1).map_or(0, |byte| u64::from(byte & 0x3F)),
    };
    size * count
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn packets_of_opus_tell_their_length() {
        for (packet, frames) in [
            (&[0x08u8][..], 960),
            (&[0x18], 2_880),
            (&[0x78], 960),
            (&[0xF8], 960),
            (&[0xE0], 120),
            (&[0x09], 1_920),
            (&[0x0B, 3], 2_880),
            (&[], 0),
        ] {
            assert_eq!(opus_frames(packet), frames, "{packet:?}");
        }
    }
}
