//! Samples to packets of Opus (RFC 6716), for any container.

use opus::{Application, Bitrate, Channels, Encoder};

use crate::packets::OPUS_RATE;
use crate::{AudioError, Codec, Format};

/// A packet, and the frames at 48 kHz up to its end, pre-skip included.
pub(crate) struct Coded {
    pub(crate) data: Vec<u8>,
    pub(crate) end: u64,
}

/// Makes packets of 20 ms.
pub(crate) struct OpusPackets {
    encoder: Encoder,
    format: Format,
    pending: Vec<f32>,
    packets: u64,
    frames: u64,
    pre_skip: u64,
}

/// Frames at 48 kHz in one of our packets.
pub(crate) const PACKET_FRAMES: u64 = OPUS_RATE as u64 / 50;

impl OpusPackets {
    pub(crate) fn new(format: Format) -> Result<Self, AudioError> {
        let channels = if format.channels == 1 { Channels::Mono } else { Channels::Stereo };
        let mut encoder = Encoder::new(format.rate, channels, Application::Voip).map_err(failed)?;
        let bitrate = format.effective_bitrate().unwrap_or(24_000);
        encoder.set_bitrate(Bitrate::Bits(bitrate as i32)).map_err(failed)?;
        let lookahead = encoder.get_lookahead().map_err(failed)?.max(0) as u64;
        let pre_skip = lookahead * u64::from(OPUS_RATE / format.rate);
        Ok(OpusPackets { encoder, format, pending: Vec::new(), packets: 0, frames: 0, pre_skip })
    }

    /// Frames at 48 kHz before the sound begins.
    pub(crate) fn pre_skip(&self) -> u64 {
        self.pre_skip
    }

    /// Frames at 48 kHz in all so far, pre-skip included.
    pub(crate) fn total(&self) -> u64 {
        self.frames * u64::from(OPUS_RATE / self.format.rate) + self.pre_skip
    }

    /// `OpusHead` (RFC 7845, section 5.1).
    pub(crate) fn head(&self) -> Vec<u8> {
        let mut head = b"OpusHead\x01".to_vec();
        head.push(self.format.channels);
        head.extend_from_slice(&(self.pre_skip as u16).to_le_bytes());
        head.extend_from_slice(&self.format.rate.to_le_bytes());
        head.extend_from_slice(&[0, 0, 0]);
        head
    }

    fn packet_samples(&self) -> usize {
        self.format.rate as usize / 50 * usize::from(self.format.channels)
    }

    pub(crate) fn encode(&mut self, samples: &[f32], out: &mut Vec<Coded>) -> Result<(), AudioError> {
        self.frames += samples.len() as u64 / u64::from(self.format.channels);
        self.pending.extend_from_slice(samples);
        let size = self.packet_samples();
        let whole = self.pending.len() / size * size;
        let ready: Vec<f32> = self.pending.drain(..whole).collect();
        ready.chunks_exact(size).try_for_each(|chunk| self.packet(chunk, out))
    }

    fn packet(&mut self, chunk: &[f32], out: &mut Vec<Coded>) -> Result<(), AudioError> {
        let data = self.encoder.encode_vec_float(chunk, 1_500).map_err(failed)?;
        self.packets += 1;
        out.push(Coded { data, end: self.packets * PACKET_FRAMES });
        Ok(())
    }

    /// Pushes the last sound through the encoder's look-ahead, with silence.
    pub(crate) fn finish(&mut self, out: &mut Vec<Coded>) -> Result<(), AudioError> {
        let size = self.packet_samples();
        while self.packets * PACKET_FRAMES < self.total() {
            let mut chunk: Vec<f32> = self.pending.drain(..).collect();
            chunk.resize(size, 0.0);
            self.packet(&chunk, out)?;
        }
        Ok(())
    }
}

fn failed(error: opus::Error) -> AudioError {
    AudioError::Codec { codec: Codec::OggOpus, what: error.to_string() }
}
