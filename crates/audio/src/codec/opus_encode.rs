//! Samples to Opus (RFC 6716), in a container.

use opus::{Application, Bitrate, Channels, Encoder};

use crate::container::opus_mux::{Coded, OpusMuxer, OpusStream, muxer};
use crate::container::packets::OPUS_RATE;
use crate::{AudioError, Codec, Format, Tags};

/// Frames at 48 kHz in one of our packets: 20 ms.
const PACKET_FRAMES: u64 = OPUS_RATE as u64 / 50;

/// Makes packets of 20 ms and has them written.
pub(crate) struct OpusEncoder {
    encoder: Encoder,
    muxer: Box<dyn OpusMuxer>,
    format: Format,
    pre_skip: u64,
    pending: Vec<f32>,
    packets: u64,
    frames: u64,
}

impl OpusEncoder {
    pub(crate) fn new(format: Format, tags: Tags) -> Result<Self, AudioError> {
        let channels = if format.channels == 1 { Channels::Mono } else { Channels::Stereo };
        let mut encoder = Encoder::new(format.rate, channels, Application::Voip).map_err(opus_failed)?;
        let bitrate = format.effective_bitrate().unwrap_or(24_000);
        encoder.set_bitrate(Bitrate::Bits(bitrate as i32)).map_err(opus_failed)?;
        let lookahead = encoder.get_lookahead().map_err(opus_failed)?.max(0) as u64;
        let pre_skip = lookahead * frames_each(format.rate);
        let stream = OpusStream { channels: format.channels, pre_skip, rate: format.rate, gain: 0 };
        let muxer = muxer(format.codec, stream, tags)?;
        Ok(OpusEncoder { encoder, muxer, format, pre_skip, pending: Vec::new(), packets: 0, frames: 0 })
    }

    /// Frames at 48 kHz in all so far, pre-skip included.
    fn total(&self) -> u64 {
        self.frames * frames_each(self.format.rate) + self.pre_skip
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
        ready.chunks_exact(size).try_for_each(|chunk| self.packet(chunk, out))
    }

    fn packet(&mut self, chunk: &[f32], out: &mut Vec<u8>) -> Result<(), AudioError> {
        let data = self.encoder.encode_vec_float(chunk, 1_500).map_err(opus_failed)?;
        self.packets += 1;
        self.muxer.packet(Coded { data, frames: PACKET_FRAMES, end: self.packets * PACKET_FRAMES }, out)
    }

    /// Pushes the last audio through the encoder's look-ahead, with silence.
    pub(crate) fn finish(&mut self, out: &mut Vec<u8>) -> Result<(), AudioError> {
        let size = self.packet_samples();
        while self.packets * PACKET_FRAMES < self.total() {
            let mut chunk: Vec<f32> = self.pending.drain(..).collect();
            chunk.resize(size, 0.0);
            self.packet(&chunk, out)?;
        }
        self.muxer.finish(self.total(), out)
    }

    /// As [`OpusMuxer::start`].
    pub(crate) fn start(&self) -> Option<Vec<u8>> {
        self.muxer.start()
    }
}

/// What the library says.
pub(super) fn opus_failed(error: opus::Error) -> AudioError {
    AudioError::Codec { codec: Codec::OggOpus, what: error.to_string() }
}

/// Frames at 48 kHz for each at another rate that Opus takes.
fn frames_each(rate: u32) -> u64 {
    u64::from(OPUS_RATE / rate)
}
