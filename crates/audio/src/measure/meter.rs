//! The length of audio, counted as its bytes pass by and without decoding.

use crate::chunk::Chunk;
use crate::codec::decode::Decoder;
use crate::codec::pcm::SampleKind;
use crate::container::mp3_frames::FrameSplitter;
use crate::container::mp3_tag;
use crate::container::sample_file::{Header, SoundFile};
use crate::dsp::expansion::Expansion;
use crate::{AudioError, Codec, Format, Layout, Tags, recognise};

/// A length in frames at a rate.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Length {
    /// Frames, each one sample of every channel.
    pub frames: u64,
    /// Hertz; 0 while nothing is known.
    pub rate: u32,
}

impl Length {
    /// In milliseconds, rounded up.
    pub fn milliseconds(self) -> u64 {
        if self.rate == 0 { 0 } else { (self.frames * 1_000).div_ceil(u64::from(self.rate)) }
    }

    /// In seconds.
    pub fn seconds(self) -> f64 {
        if self.rate == 0 { 0.0 } else { self.frames as f64 / f64::from(self.rate) }
    }
}

/// How samples are stored.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Depth {
    /// Bits of a sample.
    pub bits: u16,
    /// Whether samples are floating point, and not integers.
    pub float: bool,
    /// G.711: the coding of such a file.
    pub law: Option<Codec>,
    /// High bytes come first.
    pub swapped: bool,
}

impl Default for Depth {
    fn default() -> Self {
        Depth { bits: 16, float: false, law: None, swapped: false }
    }
}

impl Depth {
    fn of(kind: SampleKind) -> Depth {
        use SampleKind::{Alaw, F32Be, F32Le, F64Be, F64Le, Mulaw, S8, S16Be, S16Le, S24Be, S24Le, S32Be, S32Le, U8};
        let law = match kind {
            Mulaw => Some(Codec::WavMulaw),
            Alaw => Some(Codec::WavAlaw),
            U8 | S8 | S16Le | S16Be | S24Le | S24Be | S32Le | S32Be | F32Le | F32Be | F64Le | F64Be => None,
        };
        Depth {
            bits: kind.bytes() as u16 * 8,
            float: matches!(kind, F32Le | F32Be | F64Le | F64Be),
            law,
            swapped: matches!(kind, S16Be | S24Be | S32Be | F32Be | F64Be),
        }
    }
}

/// Counts frames as bytes pass by, and refuses bytes that are not the format.
pub struct Meter {
    kind: MeterKind,
    length: Length,
    /// Of raw codings, as it was told.
    raw: Layout,
    expansion: Option<Expansion>,
}

enum MeterKind {
    Raw {
        frame_bytes: u64,
        bytes: u64,
    },
    File {
        file: Box<SoundFile>,
        bytes: u64,
    },
    Mp3 {
        splitter: FrameSplitter,
        first: bool,
        trimmed: u64,
    },
    /// Containers whose packets state too little: decoded, and counted.
    Decoded {
        decoder: Box<Decoder>,
        samples: Vec<f32>,
    },
}

impl Meter {
    /// A meter for bytes of the format; rate and channels count only for
    /// codings that do not state them.
    pub fn new(format: Format) -> Result<Self, AudioError> {
        let layout = Layout { rate: format.rate, channels: format.channels };
        let raw = |sample: u64| MeterKind::Raw { frame_bytes: sample * u64::from(layout.channels.max(1)), bytes: 0 };
        let kind = match format.codec {
            Codec::Pcm | Codec::L16 => raw(2),
            Codec::Mulaw | Codec::Alaw => raw(1),
            Codec::Mp3 => MeterKind::Mp3 { splitter: FrameSplitter::default(), first: true, trimmed: 0 },
            codec => match Header::of(codec) {
                Some(header) => MeterKind::File { file: Box::new(SoundFile::new(header)), bytes: 0 },
                None => MeterKind::Decoded { decoder: Box::new(Decoder::new(format)?), samples: Vec::new() },
            },
        };
        let rate = if matches!(kind, MeterKind::Raw { .. }) { layout.rate } else { 0 };
        Ok(Meter { kind, length: Length { frames: 0, rate }, raw: layout, expansion: Some(Expansion::default()) })
    }

    /// Lets few bytes be any length of audio.
    #[must_use]
    pub fn any_length(self) -> Self {
        Meter { expansion: None, ..self }
    }

    /// What the file says of itself, as far as it has been read.
    pub fn tags(&self) -> Tags {
        match &self.kind {
            MeterKind::Raw { .. } => Tags::default(),
            MeterKind::File { file, .. } => file.tags(),
            MeterKind::Mp3 { splitter, .. } => splitter.tags(),
            MeterKind::Decoded { decoder, .. } => decoder.tags(),
        }
    }

    /// Whether one stream followed another in it.
    pub fn is_chained(&self) -> bool {
        matches!(&self.kind, MeterKind::Decoded { decoder, .. } if decoder.is_chained())
    }

    /// The length of what has passed so far.
    pub fn length(&self) -> Length {
        self.length
    }

    /// Rate and channels, once known.
    pub fn layout(&self) -> Option<Layout> {
        match &self.kind {
            MeterKind::Raw { .. } => Some(self.raw),
            MeterKind::File { file, .. } => file.format().map(|format| format.layout),
            MeterKind::Mp3 { splitter, .. } => splitter.layout(),
            MeterKind::Decoded { decoder, .. } => decoder.layout(),
        }
    }

    /// How the samples are stored, where that is plain; known once the layout is.
    pub fn depth(&self) -> Option<Depth> {
        match &self.kind {
            MeterKind::Raw { .. } => None,
            MeterKind::File { file, .. } => file.format().map(|format| Depth::of(format.kind)),
            MeterKind::Mp3 { .. } => None,
            MeterKind::Decoded { decoder, .. } => {
                decoder.layout()?;
                let bits = if decoder.fits_sixteen_bits() { 16 } else { 24 };
                Some(Depth { bits, ..Depth::default() })
            }
        }
    }

    /// Whether a file does not say how long it is, as those of streams do.
    pub fn is_open_ended(&self) -> bool {
        matches!(&self.kind, MeterKind::File { file, .. } if file.is_open_ended())
    }

    /// Counts the bytes.
    ///
    /// # Errors
    /// When the bytes are not of the format.
    pub fn push(&mut self, bytes: &[u8]) -> Result<(), AudioError> {
        self.advance(bytes, Chunk::More)
    }

    /// The stream is over; gives the whole length.
    ///
    /// # Errors
    /// When the stream ended inside something that must be whole, or held no
    /// sound at all.
    pub fn finish(&mut self) -> Result<Length, AudioError> {
        self.advance(&[], Chunk::Last)?;
        if self.length.frames == 0 { Err(AudioError::Empty) } else { Ok(self.length) }
    }

    fn advance(&mut self, new: &[u8], chunk: Chunk) -> Result<(), AudioError> {
        match &mut self.kind {
            MeterKind::Raw { frame_bytes, bytes } => {
                *bytes += new.len() as u64;
                self.length.frames = *bytes / *frame_bytes;
            }
            MeterKind::File { file, bytes } => {
                file.push(new, |data, _| *bytes += data.len() as u64)?;
                if let Some(format) = file.format() {
                    self.length = Length { frames: *bytes / format.frame_bytes(), rate: format.layout.rate };
                }
                if chunk.is_last() {
                    file.finish()?;
                }
            }
            MeterKind::Mp3 { splitter, first, trimmed } => {
                splitter.push(new);
                while let Some((header, frame)) = splitter.next(chunk)? {
                    self.length.rate = header.layout.rate;
                    match mp3_tag::read(&frame).filter(|_| *first) {
                        Some(trim) => *trimmed = trim.start + trim.end,
                        None => self.length.frames += u64::from(header.samples),
                    }
                    *first = false;
                }
                if chunk.is_last() {
                    splitter.finish()?;
                    self.length.frames = self.length.frames.saturating_sub(*trimmed);
                }
            }
            MeterKind::Decoded { decoder, samples } => {
                samples.clear();
                let result = decoder.push(new, chunk, samples);
                if let Some(layout) = decoder.layout() {
                    self.length.rate = layout.rate;
                    self.length.frames += samples.len() as u64 / u64::from(layout.channels);
                    if let Some(expansion) = self.expansion.as_mut() {
                        expansion.check(new.len(), samples.len(), layout)?;
                    }
                }
                result?;
            }
        }
        Ok(())
    }
}

/// Sniffs whole audio and measures it; `told` is what the sender says it is,
/// needed for raw codings.
///
/// # Errors
/// When it is not audio that is read here, or is torn.
pub fn measure(audio: &[u8], told: Option<Format>) -> Result<(Format, Length), AudioError> {
    let format = recognise(audio, told)?;
    let mut meter = Meter::new(format)?;
    for chunk in audio.chunks(64 << 10) {
        meter.push(chunk)?;
    }
    let length = meter.finish()?;
    let rate = if format.codec.describes_itself() { length.rate } else { format.rate };
    Ok((format.with_rate(rate), length))
}
