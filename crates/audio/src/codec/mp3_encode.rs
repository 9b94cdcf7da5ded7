//! Samples to layer III, at a constant or a variable bit rate.

use mp3lame_encoder::{Bitrate, Builder, DualPcm, Encoder, FlushGap, Mode, MonoPcm, Quality, VbrMode};

use crate::buffers::release;
use crate::container::mp3_frames::FrameHeader;
use crate::container::mp3_tag::{TagFrame, Totals};
use crate::{AudioError, Codec, Format, Tags};

/// Samples that the encoder puts before the audio.
const ENCODER_DELAY: u16 = 576;
/// Samples of a channel that are encoded at once: a frame.
const AT_ONCE: usize = 1_152;
/// Maximum number of frame positions that are kept, for any length.
const MAX_PLACES: usize = 512;

/// Counts frames in bytes that pass by, and keeps places of some.
#[derive(Default)]
struct FrameCounter {
    head: Vec<u8>,
    /// Bytes of the frame at hand still to pass.
    left: usize,
    samples: u32,
    frames: u32,
    bytes: u32,
    places: Vec<u32>,
    /// Interval, in frames, of the positions that are kept.
    step: u32,
}

impl FrameCounter {
    fn push(&mut self, mut bytes: &[u8]) {
        while !bytes.is_empty() {
            if self.left > 0 {
                let passed = self.left.min(bytes.len());
                self.left -= passed;
                self.bytes += passed as u32;
                bytes = &bytes[passed..];
                continue;
            }
            let missing = (4 - self.head.len()).min(bytes.len());
            self.head.extend_from_slice(&bytes[..missing]);
            bytes = &bytes[missing..];
            if self.head.len() == 4 {
                self.frame();
            }
        }
    }

    fn frame(&mut self) {
        self.step = self.step.max(1);
        if self.frames.is_multiple_of(self.step) {
            if self.places.len() == MAX_PLACES {
                self.step *= 2;
                self.places = self.places.iter().copied().step_by(2).collect();
            }
            if self.frames.is_multiple_of(self.step) {
                self.places.push(self.bytes);
            }
        }
        let header = FrameHeader::parse(&self.head);
        self.left = header.map_or(0, |header| header.bytes.saturating_sub(4));
        self.samples = header.map_or(self.samples, |header| header.samples);
        self.frames += 1;
        self.bytes += 4;
        self.head.clear();
    }
}

pub(crate) struct Mp3Encoder {
    encoder: Encoder,
    format: Format,
    /// Bytes before the tag frame.
    id3: Vec<u8>,
    tag: Option<TagFrame>,
    counter: FrameCounter,
    /// Samples that were taken, per channel.
    taken: u64,
    done: bool,
    left: Vec<f32>,
    right: Vec<f32>,
    made: Vec<u8>,
}

fn failed(what: String) -> AudioError {
    AudioError::Codec { codec: Codec::Mp3, what }
}

impl Mp3Encoder {
    pub(crate) fn new(format: Format, tags: &Tags) -> Result<Self, AudioError> {
        let build = || -> Result<Encoder, mp3lame_encoder::BuildError> {
            let mode = if format.channels == 1 { Mode::Mono } else { Mode::JointStereo };
            let builder = Builder::new()
                .ok_or(mp3lame_encoder::BuildError::NoMem)?
                .with_sample_rate(format.rate)?
                .with_output_sample_rate(std::num::NonZeroU32::new(format.rate))?
                .with_num_channels(format.channels)?
                .with_mode(mode)?
                // With `Good`, 48 kbit/s are 1.04 times as far from the source
                // as the format's own command (`make bench-compare`).
                .with_quality(Quality::VeryNice)?
                // The tag frame is written here, since the library leaves it
                // out where frames are small.
                .with_to_write_vbr_tag(false)?;
            match format.effective_bitrate() {
                Some(bitrate) => builder.with_brate(bitrate_of(bitrate))?.build(),
                None => builder.with_vbr_mode(VbrMode::Mtrh)?.with_vbr_quality(Quality::Nice)?.build(),
            }
        };
        Ok(Mp3Encoder {
            encoder: build().map_err(|error| failed(format!("{error:?}")))?,
            format,
            id3: crate::tags::id3::write(tags),
            tag: None,
            counter: FrameCounter::default(),
            taken: 0,
            done: false,
            left: Vec::new(),
            right: Vec::new(),
            made: Vec::new(),
        })
    }

    pub(crate) fn encode(&mut self, samples: &[f32], out: &mut Vec<u8>) -> Result<(), AudioError> {
        self.taken += samples.len() as u64 / u64::from(self.format.channels);
        // The library keeps as much room as it was ever given samples.
        samples.chunks(AT_ONCE * usize::from(self.format.channels)).try_for_each(|some| self.encode_some(some, out))
    }

    fn encode_some(&mut self, samples: &[f32], out: &mut Vec<u8>) -> Result<(), AudioError> {
        self.made.reserve(mp3lame_encoder::max_required_buffer_size(samples.len()));
        let result = if self.format.channels == 1 {
            self.encoder.encode_to_vec(MonoPcm(samples), &mut self.made)
        } else {
            self.left.clear();
            self.right.clear();
            self.left.extend(samples.iter().step_by(2));
            self.right.extend(samples.iter().skip(1).step_by(2));
            self.encoder.encode_to_vec(DualPcm { left: &self.left, right: &self.right }, &mut self.made)
        };
        result.map_err(|error| failed(format!("{error:?}")))?;
        self.take(out);
        Ok(())
    }

    pub(crate) fn finish(&mut self, out: &mut Vec<u8>) -> Result<(), AudioError> {
        self.made.reserve(7_200);
        let result = self.encoder.flush_to_vec::<FlushGap>(&mut self.made);
        result.map_err(|error| failed(format!("{error:?}")))?;
        self.take(out);
        self.done = true;
        Ok(())
    }

    /// Hands over what was made; the tags go before the first of it.
    fn take(&mut self, out: &mut Vec<u8>) {
        if let Some(first) = self.made.first_chunk::<4>().filter(|_| self.counter.frames == 0) {
            out.extend_from_slice(&self.id3);
            self.tag = TagFrame::before(*first, self.format.vbr);
            out.extend(self.tag.map(|tag| tag.write(&library(), ENCODER_DELAY, None)).unwrap_or_default());
        }
        self.counter.push(&self.made);
        out.extend_from_slice(&self.made);
        [&mut self.left, &mut self.right].into_iter().for_each(release);
        release(&mut self.made);
    }

    /// The first bytes as they would be, had the length been known before.
    pub(crate) fn start(&self) -> Option<Vec<u8>> {
        let tag = self.tag.filter(|_| self.done)?;
        let decoded = u64::from(self.counter.frames) * u64::from(self.counter.samples);
        let padding = decoded.saturating_sub(self.taken + u64::from(ENCODER_DELAY));
        let totals = Totals {
            frames: self.counter.frames,
            bytes: self.counter.bytes,
            padding: padding.min(0xFFF) as u16,
            places: &self.counter.places,
        };
        Some([self.id3.clone(), tag.write(&library(), ENCODER_DELAY, Some(totals))].concat())
    }
}

/// The encoder's name as players look for it, to believe its delay.
fn library() -> String {
    format!("LAME{}", mp3lame_encoder::mp3lame_version())
}

fn bitrate_of(bits: u32) -> Bitrate {
    match bits / 1_000 {
        ..=11 => Bitrate::Kbps8,
        12..=23 => Bitrate::Kbps16,
        24..=31 => Bitrate::Kbps24,
        32..=39 => Bitrate::Kbps32,
        40..=47 => Bitrate::Kbps40,
        48..=63 => Bitrate::Kbps48,
        64..=79 => Bitrate::Kbps64,
        80..=95 => Bitrate::Kbps80,
        96..=111 => Bitrate::Kbps96,
        112..=127 => Bitrate::Kbps112,
        128..=159 => Bitrate::Kbps128,
        160..=191 => Bitrate::Kbps160,
        192..=223 => Bitrate::Kbps192,
        224..=255 => Bitrate::Kbps224,
        256..=319 => Bitrate::Kbps256,
        _ => Bitrate::Kbps320,
    }
}
