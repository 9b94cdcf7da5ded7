//! Writing Opus in Ogg (RFC 3533, RFC 7845).

use ogg::writing::{PacketWriteEndInfo, PacketWriter};

use crate::opus_encode::{Coded, OpusPackets};
use crate::{AudioError, Codec, Format};

/// Any number will do for the only stream of a file.
const SERIAL: u32 = 0x5A17_3A25;

/// Samples to Ogg Opus, 20 ms packets, three to a page.
pub(crate) struct OggOpusEncoder {
    packets: OpusPackets,
    writer: PacketWriter<'static, Vec<u8>>,
    /// One packet is kept back, since the last one must be marked as last.
    waiting: Option<Coded>,
    written: u64,
}

impl OggOpusEncoder {
    pub(crate) fn new(format: Format) -> Result<Self, AudioError> {
        let packets = OpusPackets::new(format)?;
        let mut this = OggOpusEncoder { packets, writer: PacketWriter::new(Vec::new()), waiting: None, written: 0 };
        let mut tags = b"OpusTags".to_vec();
        tags.extend_from_slice(&crate::tags::vorbis_comment());
        for packet in [this.packets.head(), tags] {
            this.write(packet, PacketWriteEndInfo::EndPage, 0)?;
        }
        Ok(this)
    }

    fn write(&mut self, packet: Vec<u8>, end: PacketWriteEndInfo, granule: u64) -> Result<(), AudioError> {
        self.writer
            .write_packet(packet, SERIAL, end, granule)
            .map_err(|error| AudioError::Codec { codec: Codec::OggOpus, what: error.to_string() })
    }

    fn queue(&mut self, coded: Vec<Coded>) -> Result<(), AudioError> {
        for packet in coded {
            let Some(before) = self.waiting.replace(packet) else { continue };
            self.written += 1;
            // The first pages are short, so that the first sound leaves soon.
            let ends_page = self.written <= 3 || self.written.is_multiple_of(3);
            let end = if ends_page { PacketWriteEndInfo::EndPage } else { PacketWriteEndInfo::NormalPacket };
            self.write(before.data, end, before.end)?;
        }
        Ok(())
    }

    pub(crate) fn encode(&mut self, samples: &[f32], out: &mut Vec<u8>) -> Result<(), AudioError> {
        let mut coded = Vec::new();
        self.packets.encode(samples, &mut coded)?;
        self.queue(coded)?;
        out.append(self.writer.inner_mut());
        Ok(())
    }

    pub(crate) fn finish(&mut self, out: &mut Vec<u8>) -> Result<(), AudioError> {
        let mut coded = Vec::new();
        self.packets.finish(&mut coded)?;
        self.queue(coded)?;
        if let Some(last) = self.waiting.take() {
            // The last granule position counts the true end (RFC 7845, section 4.4).
            self.write(last.data, PacketWriteEndInfo::EndStream, self.packets.total())?;
        }
        out.append(self.writer.inner_mut());
        Ok(())
    }
}
