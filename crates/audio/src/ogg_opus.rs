//! Opus in Ogg (RFC 3533, RFC 6716, RFC 7845): a page reader that is fed
//! bytes, decoding, and encoding.

use ogg::writing::{PacketWriteEndInfo, PacketWriter};
use opus::{Application, Bitrate, Channels, Decoder, Encoder};

use crate::{AudioError, Codec, Format, Layout};

/// Granule positions count at this rate whatever the input's (RFC 7845, section 4).
const GRANULE_RATE: u32 = 48_000;
/// The longest packet is 120 ms (RFC 6716, section 2.1.4).
const MAX_PACKET_FRAMES: usize = 5_760;
/// Far above any packet of speech, below anything that could hurt.
const MAX_PACKET_BYTES: usize = 64 << 10;

/// One packet and what the page that ended it said.
#[derive(Debug, PartialEq, Eq)]
pub(crate) struct Packet {
    pub(crate) data: Vec<u8>,
    /// The page's granule position, on its last packet.
    pub(crate) granule: Option<u64>,
    pub(crate) last: bool,
}

/// Cuts a byte stream into the packets of its one logical stream.
#[derive(Debug, Default)]
pub(crate) struct PageReader {
    pending: Vec<u8>,
    packet: Vec<u8>,
}

impl PageReader {
    /// Takes bytes and appends each completed packet.
    ///
    /// ```text
    /// "OggS" version flags granule(8) serial(4) sequence(4) crc(4) n lacing[n] body
    /// ```
    pub(crate) fn push(&mut self, bytes: &[u8], out: &mut Vec<Packet>) -> Result<(), AudioError> {
        self.pending.extend_from_slice(bytes);
        while self.pending.len() >= 27 {
            if !self.pending.starts_with(b"OggS") {
                return Err(AudioError::NotThis { expected: "Ogg", found: crate::sniff::describe(&self.pending) });
            }
            let segments = usize::from(self.pending[26]);
            let Some(lacing) = self.pending.get(27..27 + segments) else { return Ok(()) };
            let body_bytes: usize = lacing.iter().map(|byte| usize::from(*byte)).sum();
            let whole = 27 + segments + body_bytes;
            if self.pending.len() < whole {
                return Ok(());
            }
            let page: Vec<u8> = self.pending.drain(..whole).collect();
            self.read_page(&page, segments, out)?;
        }
        Ok(())
    }

    fn read_page(&mut self, page: &[u8], segments: usize, out: &mut Vec<Packet>) -> Result<(), AudioError> {
        let last_page = page[5] & 4 != 0;
        let granule = page[6..14].first_chunk::<8>().map_or(0, |bytes| u64::from_le_bytes(*bytes));
        let mut at = 27 + segments;
        let first = out.len();
        for lace in &page[27..27 + segments] {
            self.packet.extend_from_slice(&page[at..at + usize::from(*lace)]);
            at += usize::from(*lace);
            if self.packet.len() > MAX_PACKET_BYTES {
                return Err(AudioError::Unsupported { format: "Ogg Opus", what: "a packet over 64 KiB".into() });
            }
            if *lace < 255 {
                let data = std::mem::take(&mut self.packet);
                out.push(Packet { data, granule: None, last: false });
            }
        }
        if out.len() > first
            && let Some(packet) = out.last_mut()
        {
            packet.granule = Some(granule);
            packet.last = last_page;
        }
        Ok(())
    }

    /// Whether a page or packet was begun and never completed.
    pub(crate) fn torn(&self) -> bool {
        !self.pending.is_empty() || !self.packet.is_empty()
    }
}

/// Ogg Opus to samples at 48 kHz, delay and padding taken off.
pub(crate) struct OggOpusDecoder {
    pages: PageReader,
    decoder: Option<Decoder>,
    channels: u8,
    headers: u8,
    pre_skip: u64,
    /// Frames decoded so far, pre-skip included.
    decoded: u64,
    ended: bool,
    frame: Vec<f32>,
}

impl OggOpusDecoder {
    pub(crate) fn new() -> Self {
        OggOpusDecoder {
            pages: PageReader::default(),
            decoder: None,
            channels: 0,
            headers: 0,
            pre_skip: 0,
            decoded: 0,
            ended: false,
            frame: Vec::new(),
        }
    }

    pub(crate) fn layout(&self) -> Option<Layout> {
        self.decoder.as_ref().map(|_| Layout { rate: GRANULE_RATE, channels: self.channels })
    }

    pub(crate) fn push(&mut self, bytes: &[u8], last: bool, out: &mut Vec<f32>) -> Result<(), AudioError> {
        let mut packets = Vec::new();
        self.pages.push(bytes, &mut packets)?;
        for packet in packets {
            match self.headers {
                0 => self.read_head(&packet.data)?,
                1 => self.headers = 2, // the comment header
                _ => self.decode_packet(&packet, out)?,
            }
        }
        if last && (self.pages.torn() || (self.headers > 0 && !self.ended)) {
            return Err(AudioError::Truncated { format: "Ogg Opus", what: "its last page is missing" });
        }
        Ok(())
    }

    /// The identification header (RFC 7845, section 5.1).
    fn read_head(&mut self, data: &[u8]) -> Result<(), AudioError> {
        if data.len() < 19 || !data.starts_with(b"OpusHead") {
            return Err(AudioError::NotThis { expected: "Ogg Opus", found: crate::sniff::describe(data) });
        }
        self.channels = data[9];
        if !(1..=2).contains(&self.channels) {
            return Err(AudioError::Channels(self.channels.into()));
        }
        self.pre_skip = u64::from(u16::from_le_bytes([data[10], data[11]]));
        let channels = if self.channels == 1 { Channels::Mono } else { Channels::Stereo };
        self.decoder = Some(Decoder::new(GRANULE_RATE, channels).map_err(failed)?);
        self.frame = vec![0.0; MAX_PACKET_FRAMES * usize::from(self.channels)];
        self.headers = 1;
        Ok(())
    }

    fn decode_packet(&mut self, packet: &Packet, out: &mut Vec<f32>) -> Result<(), AudioError> {
        let Some(decoder) = self.decoder.as_mut() else { return Ok(()) };
        let frames = decoder.decode_float(&packet.data, &mut self.frame, false).map_err(failed)? as u64;
        let before = self.decoded;
        self.decoded += frames;
        // The last granule position counts the true end (RFC 7845, section 4.4).
        let end = match packet.granule {
            Some(granule) if packet.last => self.decoded.min(granule.max(before)),
            _ => self.decoded,
        };
        self.ended |= packet.last;
        let from = self.pre_skip.clamp(before, end) - before;
        let channels = u64::from(self.channels);
        out.extend_from_slice(&self.frame[(from * channels) as usize..((end - before) * channels) as usize]);
        Ok(())
    }
}

/// Samples to Ogg Opus, 20 ms packets, three to a page.
pub(crate) struct OggOpusEncoder {
    encoder: Encoder,
    writer: PacketWriter<'static, Vec<u8>>,
    format: Format,
    pending: Vec<f32>,
    /// One packet is kept back, since the last one must be marked as last.
    waiting: Option<(Vec<u8>, u64)>,
    packets: u64,
    frames: u64,
    pre_skip: u64,
}

/// Any number will do for the only stream of a file.
const SERIAL: u32 = 0x5A17_3A25;

impl OggOpusEncoder {
    pub(crate) fn new(format: Format) -> Result<Self, AudioError> {
        let channels = if format.channels == 1 { Channels::Mono } else { Channels::Stereo };
        let mut encoder = Encoder::new(format.rate, channels, Application::Voip).map_err(failed)?;
        let bitrate = format.effective_bitrate().unwrap_or(24_000);
        encoder.set_bitrate(Bitrate::Bits(bitrate as i32)).map_err(failed)?;
        let lookahead = encoder.get_lookahead().map_err(failed)?.max(0) as u64;
        let pre_skip = lookahead * u64::from(GRANULE_RATE / format.rate);
        let mut this = OggOpusEncoder {
            encoder,
            writer: PacketWriter::new(Vec::new()),
            format,
            pending: Vec::new(),
            waiting: None,
            packets: 0,
            frames: 0,
            pre_skip,
        };
        this.write_headers()?;
        Ok(this)
    }

    fn write_headers(&mut self) -> Result<(), AudioError> {
        let mut head = b"OpusHead\x01".to_vec();
        head.push(self.format.channels);
        head.extend_from_slice(&(self.pre_skip as u16).to_le_bytes());
        head.extend_from_slice(&self.format.rate.to_le_bytes());
        head.extend_from_slice(&[0, 0, 0]);
        let mut tags = b"OpusTags".to_vec();
        for text in ["Dispatcher", "SYNTHETIC_SPEECH=1"] {
            tags.extend_from_slice(&(text.len() as u32).to_le_bytes());
            tags.extend_from_slice(text.as_bytes());
            if text == "Dispatcher" {
                tags.extend_from_slice(&1u32.to_le_bytes());
            }
        }
        for packet in [head, tags] {
            self.write(packet, PacketWriteEndInfo::EndPage, 0)?;
        }
        Ok(())
    }

    fn write(&mut self, packet: Vec<u8>, end: PacketWriteEndInfo, granule: u64) -> Result<(), AudioError> {
        self.writer
            .write_packet(packet, SERIAL, end, granule)
            .map_err(|error| AudioError::Codec { codec: Codec::OggOpus, what: error.to_string() })
    }

    fn packet_samples(&self) -> usize {
        self.format.rate as usize / 50 * usize::from(self.format.channels)
    }

    pub(crate) fn encode(&mut self, samples: &[f32], out: &mut Vec<u8>) -> Result<(), AudioError> {
        self.frames += samples.len() as u64 / u64::from(self.format.channels);
        self.pending.extend_from_slice(samples);
        let size = self.packet_samples();
        let whole = self.pending.len() / size * size;
        let ready: Vec<f32> = self.pending.drain(..whole).collect();
        for chunk in ready.chunks_exact(size) {
            self.encode_packet(chunk)?;
        }
        out.append(self.writer.inner_mut());
        Ok(())
    }

    fn encode_packet(&mut self, chunk: &[f32]) -> Result<(), AudioError> {
        let data = self.encoder.encode_vec_float(chunk, 1_500).map_err(failed)?;
        self.packets += 1;
        let granule = self.packets * u64::from(GRANULE_RATE / 50);
        if let Some((packet, at)) = self.waiting.replace((data, granule)) {
            // The first pages are short, so that the first sound leaves soon.
            let number = self.packets - 1;
            let end = if number <= 3 || number.is_multiple_of(3) {
                PacketWriteEndInfo::EndPage
            } else {
                PacketWriteEndInfo::NormalPacket
            };
            self.write(packet, end, at)?;
        }
        Ok(())
    }

    pub(crate) fn finish(&mut self, out: &mut Vec<u8>) -> Result<(), AudioError> {
        // Silence pushes the last sound through the encoder's look-ahead.
        let total = self.frames * u64::from(GRANULE_RATE / self.format.rate) + self.pre_skip;
        let size = self.packet_samples();
        while self.packets * u64::from(GRANULE_RATE / 50) < total {
            let mut chunk: Vec<f32> = self.pending.drain(..).collect();
            chunk.resize(size, 0.0);
            self.encode_packet(&chunk)?;
        }
        if let Some((packet, _)) = self.waiting.take() {
            self.write(packet, PacketWriteEndInfo::EndStream, total)?;
        }
        out.append(self.writer.inner_mut());
        Ok(())
    }
}

fn failed(error: opus::Error) -> AudioError {
    AudioError::Codec { codec: Codec::OggOpus, what: error.to_string() }
}
