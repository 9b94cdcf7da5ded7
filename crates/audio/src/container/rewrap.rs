//! Coded sound from one container into another, or into the same with other
//! tags, without decoding it.

use crate::chunk::Chunk;
use crate::codec::flac_encode::header_around;
use crate::container::mp3_frames::FrameSplitter;
use crate::container::mp3_tag;
use crate::container::opus_head::OpusHead;
use crate::container::opus_mux::{Coded, OpusMuxer, OpusStream, muxer};
use crate::container::packets::{Coding, Demuxed, Demuxer, OPUS_RATE, Packet, Track, opus_frames};
use crate::container::sample_file::{Header, SoundFile};
use crate::container::wav::{self, WavCoding};
use crate::{AudioError, Codec, Format, Layout, Length, Tags};

/// What came of some bytes.
pub(crate) enum Rewrapped {
    Bytes(Vec<u8>),
    /// This sound cannot be moved as it is and must be decoded; all bytes so far.
    Refused(Vec<u8>),
}

enum PacketSource {
    File(Box<SoundFile>),
    Mp3 { splitter: FrameSplitter, first: bool },
    Packets { demuxer: Box<dyn Demuxer>, found: Vec<Demuxed> },
}

enum PacketSink {
    Plain { frame_bytes: u64, wav: Option<WavCoding> },
    Mp3,
    Opus { muxer: Box<dyn OpusMuxer>, start: u64, end: u64, total: Option<u64> },
    Flac { info: Vec<u8> },
}

/// Moves sound. Whether it can be moved shows with the first bytes of it.
pub(crate) struct Rewrap {
    source: PacketSource,
    to: Format,
    tags: Tags,
    sink: Option<PacketSink>,
    /// What came before that was clear.
    seen: Vec<u8>,
    /// Of plain samples.
    bytes: u64,
    length: Length,
    /// Frames of MP3 that are not heard, which counts at the end.
    trimmed: u64,
}

/// Beyond it a header is not worth keeping for a second reading.
const MAX_SEEN: usize = 4 << 20;

impl Rewrap {
    /// A rewrapper where the two formats carry one coding; what is between
    /// raw samples alone is no less work than decoding, and exact as well.
    pub(crate) fn between(from: Format, to: Format, tags: &Tags) -> Option<Rewrap> {
        let same_sound = from.rate == to.rate
            && from.channels == to.channels
            && to.bitrate.is_none_or(|bitrate| from.effective_bitrate() == Some(bitrate))
            && (!to.vbr || from.vbr);
        if !same_sound {
            return None;
        }
        let source = match (from.codec, to.codec) {
            (from, _)
                if from.is_wav()
                    && (to.codec.is_wav() || matches!(to.codec, Codec::Pcm | Codec::Mulaw | Codec::Alaw)) =>
            {
                PacketSource::File(Box::new(SoundFile::new(Header::of(from)?)))
            }
            (Codec::Mp3, Codec::Mp3) => PacketSource::Mp3 { splitter: FrameSplitter::default(), first: true },
            (Codec::OggOpus | Codec::WebmOpus, Codec::OggOpus | Codec::WebmOpus)
            | (Codec::Flac | Codec::OggFlac, Codec::Flac) => {
                PacketSource::Packets { demuxer: crate::codec::decode::demuxer(from.codec)?, found: Vec::new() }
            }
            _ => return None,
        };
        let length = Length { frames: 0, rate: to.rate };
        Some(Rewrap { source, to, tags: tags.clone(), sink: None, seen: Vec::new(), bytes: 0, length, trimmed: 0 })
    }

    /// How much audio has passed.
    pub(crate) fn length(&self) -> Length {
        self.length
    }

    pub(crate) fn push(&mut self, bytes: &[u8], chunk: Chunk) -> Result<Rewrapped, AudioError> {
        if self.sink.is_none() {
            self.seen.extend_from_slice(bytes);
        }
        let mut out = Vec::new();
        let moved = match &mut self.source {
            PacketSource::File(_) => self.move_samples(bytes, chunk, &mut out)?,
            PacketSource::Mp3 { .. } => self.move_frames(bytes, chunk, &mut out)?,
            PacketSource::Packets { .. } => self.move_packets(bytes, chunk, &mut out)?,
        };
        if !moved || (self.sink.is_none() && self.seen.len() > MAX_SEEN) {
            return Ok(Rewrapped::Refused(std::mem::take(&mut self.seen)));
        }
        if self.sink.is_some() {
            self.seen = Vec::new();
        }
        if chunk.is_last() {
            self.finish(&mut out)?;
        }
        Ok(Rewrapped::Bytes(out))
    }

    /// `false` where the samples are of another kind than is asked for.
    fn move_samples(&mut self, bytes: &[u8], chunk: Chunk, out: &mut Vec<u8>) -> Result<bool, AudioError> {
        let PacketSource::File(file) = &mut self.source else { return Ok(false) };
        let mut samples = Vec::new();
        file.push(bytes, |data, _| samples.extend_from_slice(data))?;
        let Some(format) = file.format() else {
            return if chunk.is_last() { file.finish().map(|()| true) } else { Ok(true) };
        };
        if self.sink.is_none() {
            let layout = Layout { rate: self.to.rate, channels: self.to.channels };
            let Some((kind, wav)) = written_kind(self.to.codec).filter(|_| format.layout == layout) else {
                return Ok(false);
            };
            if kind != format.kind {
                return Ok(false);
            }
            self.sink = Some(PacketSink::Plain { frame_bytes: format.frame_bytes(), wav });
        }
        if chunk.is_last() {
            file.finish()?;
        }
        let Some(PacketSink::Plain { frame_bytes, wav }) = &self.sink else { return Ok(false) };
        if let Some(coding) = wav.filter(|_| self.bytes == 0 && !samples.is_empty()) {
            out.extend(wav::header(coding, format.layout, &self.tags, None));
        }
        self.bytes += samples.len() as u64;
        self.length.frames = self.bytes / frame_bytes;
        out.append(&mut samples);
        Ok(true)
    }

    /// `false` where rate or channels are others than is asked for.
    fn move_frames(&mut self, bytes: &[u8], chunk: Chunk, out: &mut Vec<u8>) -> Result<bool, AudioError> {
        let PacketSource::Mp3 { splitter, first } = &mut self.source else { return Ok(false) };
        splitter.push(bytes);
        while let Some((header, frame)) = splitter.next(chunk)? {
            if self.sink.is_none() {
                if header.layout != (Layout { rate: self.to.rate, channels: self.to.channels }) {
                    return Ok(false);
                }
                out.extend(crate::tags::id3::write(&self.tags));
                self.sink = Some(PacketSink::Mp3);
            }
            // The tag frame goes along, and is no audio.
            match mp3_tag::read(&frame).filter(|_| *first) {
                Some(trim) => self.trimmed = trim.start + trim.end,
                None => self.length.frames += u64::from(header.samples),
            }
            *first = false;
            out.extend_from_slice(&frame);
        }
        if chunk.is_last() {
            splitter.finish()?;
        }
        Ok(true)
    }

    /// `false` where something else than is asked for is in the container.
    fn move_packets(&mut self, bytes: &[u8], chunk: Chunk, out: &mut Vec<u8>) -> Result<bool, AudioError> {
        let PacketSource::Packets { demuxer, found } = &mut self.source else { return Ok(false) };
        let mut found = std::mem::take(found);
        let result = demuxer.push(bytes, chunk, &mut found);
        for found in found.drain(..) {
            match found {
                Demuxed::Tags(_) => {}
                Demuxed::Track(track) if self.sink.is_none() => match self.sink_for(track) {
                    Some(sink) => self.sink = Some(sink),
                    None => return Ok(false),
                },
                Demuxed::Track(_) => {
                    let what = "a second stream behind the first, unless it is decoded".into();
                    return Err(AudioError::Unsupported { format: "a chain of streams", what });
                }
                Demuxed::Packet(packet) => self.packet(packet, out)?,
            }
        }
        result.map(|()| true)
    }

    fn sink_for(&self, track: Track) -> Option<PacketSink> {
        match (track.coding, self.to.codec) {
            (Coding::Opus(head), Codec::OggOpus | Codec::WebmOpus)
                if head.channels == self.to.channels && head.is_plain() =>
            {
                let OpusHead { channels, gain, .. } = head;
                let stream = OpusStream { channels, pre_skip: track.start, rate: OPUS_RATE, gain };
                let muxer = muxer(self.to.codec, stream, self.tags.clone()).ok()?;
                Some(PacketSink::Opus { muxer, start: track.start, end: 0, total: None })
            }
            (Coding::Flac(info), Codec::Flac) => {
                let layout = Layout { rate: self.to.rate, channels: self.to.channels };
                (crate::container::flac::layout(&info) == Some(layout)).then_some(PacketSink::Flac { info })
            }
            _ => None,
        }
    }

    fn packet(&mut self, packet: Packet, out: &mut Vec<u8>) -> Result<(), AudioError> {
        match &mut self.sink {
            Some(PacketSink::Opus { muxer, start, end, total }) => {
                let frames = opus_frames(&packet.data);
                *end += frames;
                let true_end = packet.end.map_or(*end, |told| told.min(*end)).saturating_sub(packet.discard);
                *total = Some(true_end);
                let seconds = true_end.saturating_sub(*start);
                self.length = Length { frames: seconds, rate: OPUS_RATE };
                muxer.packet(Coded { data: packet.data, frames, end: *end }, out)
            }
            Some(PacketSink::Flac { info }) => {
                if self.length.frames == 0 {
                    out.extend(header_around(info, &self.tags));
                }
                let size = crate::container::flac::frame_samples(&packet.data, info).unwrap_or(0);
                self.length.frames += u64::from(size);
                out.extend_from_slice(&packet.data);
                Ok(())
            }
            _ => Ok(()),
        }
    }

    fn finish(&mut self, out: &mut Vec<u8>) -> Result<(), AudioError> {
        self.length.frames = self.length.frames.saturating_sub(self.trimmed);
        if self.length.frames == 0 {
            return Err(AudioError::Empty);
        }
        if let Some(PacketSink::Opus { muxer, total: Some(total), .. }) = &mut self.sink {
            muxer.finish(*total, out)?;
        }
        Ok(())
    }

    /// As [`crate::codec::encode::Encoder::start`].
    pub(crate) fn start(&self) -> Option<Vec<u8>> {
        match self.sink.as_ref()? {
            PacketSink::Plain { wav, .. } => {
                let layout = Layout { rate: self.to.rate, channels: self.to.channels };
                let length = u32::try_from(self.bytes).ok()?;
                wav.map(|coding| wav::header(coding, layout, &self.tags, Some(length)))
            }
            PacketSink::Opus { muxer, .. } => muxer.start(),
            PacketSink::Mp3 | PacketSink::Flac { .. } => None,
        }
    }
}

/// How a codec's plain samples stand, where it has them.
fn written_kind(codec: Codec) -> Option<(crate::codec::pcm::SampleKind, Option<WavCoding>)> {
    use crate::codec::pcm::SampleKind::{Alaw, Mulaw, S16Le};
    Some(match codec {
        Codec::Wav => (S16Le, Some(WavCoding::Pcm16)),
        Codec::Pcm => (S16Le, None),
        Codec::WavMulaw => (Mulaw, Some(WavCoding::Mulaw)),
        Codec::Mulaw => (Mulaw, None),
        Codec::WavAlaw => (Alaw, Some(WavCoding::Alaw)),
        Codec::Alaw => (Alaw, None),
        _ => return None,
    })
}
