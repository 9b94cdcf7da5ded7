//! MPEG audio layer III (ISO/IEC 11172-3, 13818-3) to samples.

use nanomp3::{Decoder, MAX_SAMPLES_PER_FRAME};

use crate::catch_panic::guarded;
use crate::chunk::Chunk;
use crate::container::mp3_frames::{FrameHeader, FrameSplitter};
use crate::container::mp3_tag;
use crate::dsp::resample::remix;
use crate::{AudioError, Layout, Tags};

/// Layer III to samples, a frame at a time.
pub(crate) struct Mp3Decoder {
    splitter: FrameSplitter,
    decoder: Box<Decoder>,
    frame: Vec<f32>,
    layout: Option<Layout>,
    first: bool,
    skip: usize,
    /// Samples held back, so that the padding at the end can be cut off.
    hold: usize,
    held: Vec<f32>,
}

impl Mp3Decoder {
    pub(crate) fn new() -> Self {
        Mp3Decoder {
            splitter: FrameSplitter::default(),
            decoder: Box::new(Decoder::new()),
            frame: vec![0.0; MAX_SAMPLES_PER_FRAME],
            layout: None,
            first: true,
            skip: 0,
            hold: 0,
            held: Vec::new(),
        }
    }

    pub(crate) fn layout(&self) -> Option<Layout> {
        self.layout
    }

    pub(crate) fn tags(&self) -> Tags {
        self.splitter.tags()
    }

    pub(crate) fn push(&mut self, bytes: &[u8], chunk: Chunk, out: &mut Vec<f32>) -> Result<(), AudioError> {
        self.splitter.push(bytes);
        while let Some((header, frame)) = self.splitter.next(chunk)? {
            self.decode_frame(header, &frame, out)?;
        }
        if chunk.is_last() { self.splitter.finish() } else { Ok(()) }
    }

    /// Samples of a frame and its channels; nothing for a frame that cannot be
    /// decoded. On some that are malformed the decoder panics (found by
    /// fuzzing: mixed blocks at 8 kHz): it is made anew then.
    fn decode_guarded(&mut self, frame: &[u8]) -> Option<(usize, u8)> {
        let (decoder, samples) = (&mut self.decoder, &mut self.frame);
        match guarded(|| decoder.decode(frame, samples).1) {
            Some(Ok(info)) => Some((info.samples_produced * usize::from(info.channels.num()), info.channels.num())),
            Some(Err(_)) => None,
            None => {
                *self.decoder = Decoder::new();
                None
            }
        }
    }

    fn decode_frame(&mut self, header: FrameHeader, frame: &[u8], out: &mut Vec<f32>) -> Result<(), AudioError> {
        let layout = *self.layout.get_or_insert(header.layout);
        if std::mem::take(&mut self.first)
            && let Some(trim) = mp3_tag::read(frame)
        {
            self.skip = trim.start as usize * usize::from(layout.channels);
            self.hold = trim.end as usize * usize::from(layout.channels);
            return Ok(());
        }
        // Frames that lean on bytes of earlier ones we do not have give silence.
        let result = self.decode_guarded(frame);
        let per_channel = header.samples as usize;
        let (samples, channels) = match result {
            Some(made) => made,
            None => {
                self.frame.fill(0.0);
                (per_channel * usize::from(layout.channels), layout.channels)
            }
        };
        // A frame of other channels than the first had is brought to them.
        let mut other = Vec::new();
        let mut sound = &self.frame[..samples];
        if channels != layout.channels {
            other.extend_from_slice(sound);
            remix(&mut other, channels, layout.channels);
            sound = &other;
        }
        let skipped = self.skip.min(sound.len());
        self.skip -= skipped;
        let sound = &sound[skipped..];
        if self.hold == 0 {
            out.extend_from_slice(sound);
            return Ok(());
        }
        self.held.extend_from_slice(sound);
        let ready = self.held.len().saturating_sub(self.hold);
        out.extend(self.held.drain(..ready));
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Found by fuzzing.
    #[test]
    fn a_frame_that_breaks_the_decoder_is_silence() {
        const FRAMES: [&str; 2] = [
            "ffe318c4000c10920f00000000000000b6801dddddddcd11111113fddfffdc38181818b33220041d93e2004253940ff071d9407f583873403fc08ee7fa15800028100a000000645e",
            "ffe318c40a0f98fad919b35012142893835c0c6a20b1715b1042064c95cb8626e6089b982468984070183808623959d5d956cd6e5675767766b7f3ddb54c414d45332e3130305555",
        ];
        let byte = |hex: &[u8]| u8::from_str_radix(std::str::from_utf8(hex).expect("hex"), 16).expect("hex");
        let file: Vec<u8> = FRAMES.iter().flat_map(|frame| frame.as_bytes().chunks(2).map(byte)).collect();
        let mut out = Vec::new();
        let mut decoder = Mp3Decoder::new();
        decoder.push(&file, Chunk::Last, &mut out).expect("frames that are passed over");
        assert_eq!(out.len(), 1_152, "both frames keep their time");
        assert!(out[576..].iter().all(|sample| *sample == 0.0));
    }
}
