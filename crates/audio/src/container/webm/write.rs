//! Packets of Opus to WebM, as it is for a stream: sizes of the segment and
//! its clusters are not stated.

use super::{id, nanoseconds, open, put, put_number, write_tags};
use crate::container::opus_mux::{Coded, OpusMuxer, OpusStream};
use crate::container::packets::OPUS_RATE;
use crate::{AudioError, Tags};

/// A cluster is at most this long; a block's time counts in 16 bits.
const CLUSTER_MILLISECONDS: u64 = 5_000;
/// What decoders should decode before a place they have jumped to, in
/// nanoseconds (RFC 7845, section 4.6).
const PRE_ROLL: u64 = 80_000_000;

pub(crate) struct WebmMuxer {
    stream: OpusStream,
    tags: Tags,
    /// One packet is kept back, since the last one states what to discard.
    waiting: Option<Coded>,
    begun: bool,
    /// Milliseconds at which the cluster at hand begins.
    cluster: Option<u64>,
    /// Frames of audio, once they are known.
    total: Option<u64>,
}

impl WebmMuxer {
    pub(crate) fn new(stream: OpusStream, tags: Tags) -> Self {
        WebmMuxer { stream, tags, waiting: None, begun: false, cluster: None, total: None }
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
        // A stream does not know its duration: a gap of the same size stands
        // there, into which a file can have it written.
        match self.total {
            None => put(&mut info, id::VOID, &[0; 9]),
            Some(frames) => {
                put(&mut info, id::DURATION, &(frames as f64 * 1_000.0 / f64::from(OPUS_RATE)).to_be_bytes())
            }
        }
        put(out, id::INFO, &info);
        let mut audio = Vec::new();
        put(&mut audio, id::RATE, &f64::from(OPUS_RATE).to_be_bytes());
        put_number(&mut audio, id::CHANNELS, self.stream.channels.into());
        let mut track = Vec::new();
        for (id, value) in [(id::NUMBER, 1), (id::UID, 1), (id::TYPE, 2)] {
            put_number(&mut track, id, value);
        }
        put(&mut track, id::CODEC, b"A_OPUS");
        put(&mut track, id::PRIVATE, &self.stream.head());
        put_number(&mut track, id::DELAY, nanoseconds(self.stream.pre_skip));
        put_number(&mut track, id::PRE_ROLL, PRE_ROLL);
        put(&mut track, id::AUDIO, &audio);
        let mut tracks = Vec::new();
        put(&mut tracks, id::TRACK, &track);
        put(out, id::TRACKS, &tracks);
        write_tags(out, &self.tags);
    }

    fn write(&mut self, packet: &Coded, discard: u64, out: &mut Vec<u8>) {
        if !std::mem::replace(&mut self.begun, true) {
            self.header(out);
        }
        let time = packet.end.saturating_sub(packet.frames) * 1_000 / u64::from(OPUS_RATE);
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
}

impl OpusMuxer for WebmMuxer {
    fn packet(&mut self, packet: Coded, out: &mut Vec<u8>) -> Result<(), AudioError> {
        if let Some(before) = self.waiting.replace(packet) {
            self.write(&before, 0, out);
        }
        Ok(())
    }

    fn finish(&mut self, total: u64, out: &mut Vec<u8>) -> Result<(), AudioError> {
        self.total = Some(total.saturating_sub(self.stream.pre_skip));
        if let Some(last) = self.waiting.take() {
            let begun = last.end.saturating_sub(last.frames);
            self.write(&last, last.end.saturating_sub(total.max(begun)), out);
        }
        Ok(())
    }

    fn start(&self) -> Option<Vec<u8>> {
        let mut out = Vec::new();
        self.total.map(|_| self.header(&mut out)).map(|()| out)
    }
}
