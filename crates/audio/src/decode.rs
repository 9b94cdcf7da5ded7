//! Bytes of any format that is read here to samples.

use crate::mp3::Mp3Decoder;
use crate::ogg_opus::OggOpusDecoder;
use crate::pcm::SampleKind;
use crate::wav::{WavFormat, WavHeaderReader};
use crate::{AudioError, Codec, Format, Layout};

/// Rates outside are a mistake or an attack: telephone bands to studio rates.
const INPUT_RATES: std::ops::RangeInclusive<u32> = 4_000..=192_000;

pub(crate) fn check_input(layout: Layout) -> Result<(), AudioError> {
    if !(1..=8).contains(&layout.channels) {
        return Err(AudioError::Channels(layout.channels.into()));
    }
    if !INPUT_RATES.contains(&layout.rate) {
        return Err(AudioError::Unsupported { format: "audio", what: format!("{} Hz", layout.rate) });
    }
    Ok(())
}

/// One decoder, whatever the format. Samples are interleaved.
pub(crate) enum Decoder {
    Raw(RawDecoder),
    Wav(WavDecoder),
    Mp3(Mp3Decoder),
    OggOpus(Box<OggOpusDecoder>),
}

impl Decoder {
    /// A decoder for bytes of the format; rate and channels count only for
    /// codings that do not tell them.
    pub(crate) fn new(format: Format) -> Result<Self, AudioError> {
        let layout = Layout { rate: format.rate, channels: format.channels };
        let raw = |kind| {
            check_input(layout)?;
            Ok(Decoder::Raw(RawDecoder { layout, kind, pending: Vec::new() }))
        };
        match format.codec {
            Codec::Pcm => raw(SampleKind::S16Le),
            Codec::L16 => raw(SampleKind::S16Be),
            Codec::Mulaw => raw(SampleKind::Mulaw),
            Codec::Wav => Ok(Decoder::Wav(WavDecoder::default())),
            Codec::Mp3 => Ok(Decoder::Mp3(Mp3Decoder::new())),
            Codec::OggOpus => Ok(Decoder::OggOpus(Box::new(OggOpusDecoder::new()))),
        }
    }

    /// Takes bytes and appends the samples that are ready. With `last` the
    /// stream is over, and what is torn is an error.
    pub(crate) fn push(&mut self, bytes: &[u8], last: bool, out: &mut Vec<f32>) -> Result<(), AudioError> {
        match self {
            Decoder::Raw(raw) => raw.push(bytes, last, out),
            Decoder::Wav(wav) => wav.push(bytes, last, out),
            Decoder::Mp3(mp3) => mp3.push(bytes, last, out),
            Decoder::OggOpus(opus) => opus.push(bytes, last, out),
        }
    }

    /// Rate and channels, once known.
    pub(crate) fn layout(&self) -> Option<Layout> {
        match self {
            Decoder::Raw(raw) => Some(raw.layout),
            Decoder::Wav(wav) => wav.format.map(|format| format.layout),
            Decoder::Mp3(mp3) => mp3.layout(),
            Decoder::OggOpus(opus) => opus.layout(),
        }
    }
}

/// Samples without any header.
pub(crate) struct RawDecoder {
    layout: Layout,
    kind: SampleKind,
    pending: Vec<u8>,
}

impl RawDecoder {
    fn push(&mut self, bytes: &[u8], last: bool, out: &mut Vec<f32>) -> Result<(), AudioError> {
        push_samples(&mut self.pending, self.kind, self.layout.channels, bytes, out);
        if last && !self.pending.is_empty() {
            return Err(AudioError::Truncated { format: "raw audio", what: "its last sample is not whole" });
        }
        Ok(())
    }
}

/// Decodes whole frames of `pending` + `bytes`; the rest stays pending.
fn push_samples(pending: &mut Vec<u8>, kind: SampleKind, channels: u8, bytes: &[u8], out: &mut Vec<f32>) {
    let frame = kind.bytes() * usize::from(channels);
    let mut bytes = bytes;
    if !pending.is_empty() {
        let wanted = (frame - pending.len()).min(bytes.len());
        pending.extend_from_slice(&bytes[..wanted]);
        bytes = &bytes[wanted..];
        if pending.len() < frame {
            return;
        }
        kind.decode(pending, out);
        pending.clear();
    }
    let whole = bytes.len() / frame * frame;
    kind.decode(&bytes[..whole], out);
    pending.extend_from_slice(&bytes[whole..]);
}

/// RIFF WAVE with any of the sample kinds.
#[derive(Default)]
pub(crate) struct WavDecoder {
    header: WavHeaderReader,
    format: Option<WavFormat>,
    /// Bytes of data still to come; `None` where the header does not know.
    left: Option<u64>,
    pending: Vec<u8>,
}

impl WavDecoder {
    fn push(&mut self, bytes: &[u8], last: bool, out: &mut Vec<f32>) -> Result<(), AudioError> {
        if self.format.is_some() {
            self.push_data(bytes, out);
        } else if let Some(start) = self.header.push(bytes)? {
            self.format = Some(start.format);
            self.left = start.declared;
            self.push_data(&start.data, out);
        }
        if !last {
            return Ok(());
        }
        match (self.format, self.left) {
            (None, _) => Err(AudioError::Truncated { format: "WAV", what: "its header is not whole" }),
            (_, Some(1..)) => Err(AudioError::Truncated { format: "WAV", what: "it holds less than its header says" }),
            _ => Ok(()),
        }
    }

    fn push_data(&mut self, bytes: &[u8], out: &mut Vec<f32>) {
        let Some(format) = self.format else { return };
        let taken = self.left.map_or(bytes.len(), |left| bytes.len().min(usize::try_from(left).unwrap_or(usize::MAX)));
        if let Some(left) = self.left.as_mut() {
            *left -= taken as u64;
        }
        push_samples(&mut self.pending, format.kind, format.layout.channels, &bytes[..taken], out);
    }
}
