//! Packets of Opus to Ogg (RFC 3533, RFC 7845).

use ogg::writing::{PacketWriteEndInfo, PacketWriter};

use crate::container::opus_mux::{Coded, OpusMuxer, OpusStream};
use crate::{AudioError, Codec, Tags};

/// Any number will do for the only stream of a file.
const SERIAL: u32 = 0x5A17_3A25;

/// Three packets to a page; the first pages are short.
pub(crate) struct OggMuxer {
    stream: OpusStream,
    tags: Tags,
    writer: PacketWriter<'static, Vec<u8>>,
    /// One packet is kept back, since the last one must be marked as last.
    waiting: Option<Coded>,
    written: u64,
}

impl OggMuxer {
    pub(crate) fn new(stream: OpusStream, tags: Tags) -> Self {
        OggMuxer { stream, tags, writer: PacketWriter::new(Vec::new()), waiting: None, written: 0 }
    }

    fn write(&mut self, packet: Vec<u8>, end: PacketWriteEndInfo, granule: u64) -> Result<(), AudioError> {
        self.writer
            .write_packet(packet, SERIAL, end, granule)
            .map_err(|error| AudioError::Codec { codec: Codec::OggOpus, what: error.to_string() })
    }

    fn headers(&mut self) -> Result<(), AudioError> {
        let comment = [b"OpusTags".as_slice(), &crate::tags::vorbis::write(&self.tags)].concat();
        self.write(self.stream.head(), PacketWriteEndInfo::EndPage, 0)?;
        self.write(comment, PacketWriteEndInfo::EndPage, 0)
    }
}

impl OpusMuxer for OggMuxer {
    fn packet(&mut self, packet: Coded, out: &mut Vec<u8>) -> Result<(), AudioError> {
        if let Some(before) = self.waiting.replace(packet) {
            self.written += 1;
            if self.written == 1 {
                self.headers()?;
            }
            // The first pages are short, so that the first audio leaves soon.
            let ends_page = self.written <= 3 || self.written.is_multiple_of(3);
            let end = if ends_page { PacketWriteEndInfo::EndPage } else { PacketWriteEndInfo::NormalPacket };
            self.write(before.data, end, before.end)?;
        }
        out.append(self.writer.inner_mut());
        Ok(())
    }

    fn finish(&mut self, total: u64, out: &mut Vec<u8>) -> Result<(), AudioError> {
        if let Some(last) = self.waiting.take() {
            if self.written == 0 {
                self.headers()?;
            }
            // The last granule position counts the true end (RFC 7845, section 4.4).
            self.write(last.data, PacketWriteEndInfo::EndStream, total)?;
        }
        out.append(self.writer.inner_mut());
        Ok(())
    }

    fn start(&self) -> Option<Vec<u8>> {
        None
    }
}
