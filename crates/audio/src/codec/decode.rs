//! Bytes of any format that is read here to samples.

use crate::chunk::Chunk;
#[cfg(feature = "mp3")]
use crate::codec::mp3_decode::Mp3Decoder;
use crate::codec::pcm::SampleKind;
use crate::container::adts::AdtsDemuxer;
use crate::container::flac::FlacDemuxer;
#[cfg(feature = "mp4")]
use crate::container::mp4::Mp4Demuxer;
use crate::container::ogg::OggDemuxer;
use crate::container::packets::{Demuxer, PacketDecoder};
use crate::container::sample_file::{Header, SoundFile};
#[cfg(feature = "webm")]
use crate::container::webm::WebmDemuxer;
use crate::{AudioError, Codec, Format, Layout, Tags};

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

/// The demuxer for a container of packets; `None` for other formats.
pub(crate) fn demuxer(codec: Codec) -> Option<Box<dyn Demuxer>> {
    Some(match codec {
        Codec::OggOpus | Codec::OggVorbis | Codec::OggFlac => Box::new(OggDemuxer::new()),
        #[cfg(feature = "webm")]
        Codec::WebmOpus => Box::new(WebmDemuxer::new()),
        Codec::Flac => Box::new(FlacDemuxer::new()),
        Codec::Aac => Box::<AdtsDemuxer>::default(),
        #[cfg(feature = "mp4")]
        Codec::Mp4 => Box::new(Mp4Demuxer::new()),
        _ => return None,
    })
}

/// One decoder, whatever the format. Samples are interleaved.
pub(crate) enum Decoder {
    Raw(RawDecoder),
    File(FileDecoder),
    #[cfg(feature = "mp3")]
    Mp3(Mp3Decoder),
    Packets(PacketDecoder),
}

impl Decoder {
    /// A decoder for bytes of the format; rate and channels count only for
    /// codings that do not state them.
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
            Codec::Alaw => raw(SampleKind::Alaw),
            #[cfg(feature = "mp3")]
            Codec::Mp3 => Ok(Decoder::Mp3(Mp3Decoder::new())),
            codec => match (Header::of(codec), demuxer(codec)) {
                (Some(header), _) => {
                    Ok(Decoder::File(FileDecoder { file: SoundFile::new(header), pending: Vec::new() }))
                }
                (None, Some(demuxer)) => Ok(Decoder::Packets(PacketDecoder::new(demuxer))),
                (None, None) => Err(AudioError::NotBuilt(codec)),
            },
        }
    }

    /// Takes bytes and appends the samples that are ready. With `last` the
    /// stream is over, and what is torn is an error.
    pub(crate) fn push(&mut self, bytes: &[u8], chunk: Chunk, out: &mut Vec<f32>) -> Result<(), AudioError> {
        match self {
            Decoder::Raw(raw) => raw.push(bytes, chunk, out),
            Decoder::File(file) => file.push(bytes, chunk, out),
            #[cfg(feature = "mp3")]
            Decoder::Mp3(mp3) => mp3.push(bytes, chunk, out),
            Decoder::Packets(packets) => packets.push(bytes, chunk, out),
        }
    }

    /// Whether 16 bits hold every sample that comes out; asked once the layout
    /// is known.
    pub(crate) fn fits_sixteen_bits(&self) -> bool {
        match self {
            Decoder::Raw(raw) => raw.kind.fits_sixteen_bits(),
            Decoder::File(file) => file.file.format().is_some_and(|format| format.kind.fits_sixteen_bits()),
            #[cfg(feature = "mp3")]
            Decoder::Mp3(_) => false,
            Decoder::Packets(packets) => packets.fits_sixteen_bits(),
        }
    }

    /// Whether one stream followed another so far.
    pub(crate) fn is_chained(&self) -> bool {
        matches!(self, Decoder::Packets(packets) if packets.is_chained())
    }

    /// Seconds that a file of plain samples promises and has not held so far.
    pub(crate) fn missing(&self) -> Option<f64> {
        match self {
            Decoder::File(file) => file.file.missing(),
            _ => None,
        }
    }

    /// What the file says of itself, as far as it has been read.
    pub(crate) fn tags(&self) -> Tags {
        match self {
            Decoder::Raw(_) => Tags::default(),
            Decoder::File(file) => file.file.tags(),
            #[cfg(feature = "mp3")]
            Decoder::Mp3(mp3) => mp3.tags(),
            Decoder::Packets(packets) => packets.tags().clone(),
        }
    }

    /// Rate and channels, once known.
    pub(crate) fn layout(&self) -> Option<Layout> {
        match self {
            Decoder::Raw(raw) => Some(raw.layout),
            Decoder::File(file) => file.file.format().map(|format| format.layout),
            #[cfg(feature = "mp3")]
            Decoder::Mp3(mp3) => mp3.layout(),
            Decoder::Packets(packets) => packets.layout(),
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
    fn push(&mut self, bytes: &[u8], chunk: Chunk, out: &mut Vec<f32>) -> Result<(), AudioError> {
        push_samples(&mut self.pending, self.kind, self.layout.channels, bytes, out);
        if chunk.is_last() && !self.pending.is_empty() {
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

/// Samples behind a header.
pub(crate) struct FileDecoder {
    file: SoundFile,
    pending: Vec<u8>,
}

impl FileDecoder {
    fn push(&mut self, bytes: &[u8], chunk: Chunk, out: &mut Vec<f32>) -> Result<(), AudioError> {
        let pending = &mut self.pending;
        self.file.push(bytes, |data, format| push_samples(pending, format.kind, format.layout.channels, data, out))?;
        if chunk.is_last() { self.file.finish() } else { Ok(()) }
    }
}
