//! Runs of plain samples behind a header: what WAVE, AIFF and AU share.

use crate::codec::pcm::SampleKind;
use crate::container::aiff::AiffHeaderReader;
use crate::container::au::AuHeaderReader;
use crate::container::wav::WavHeaderReader;
use crate::tags::MAX_TAG_BYTES;
use crate::{AudioError, Codec, Layout, Tags};

/// What a header says of the samples that follow it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct SampleFormat {
    pub(crate) layout: Layout,
    pub(crate) kind: SampleKind,
}

impl SampleFormat {
    /// Bytes of one frame.
    pub(crate) fn frame_bytes(self) -> u64 {
        self.kind.bytes() as u64 * u64::from(self.layout.channels)
    }
}

/// The header is over: the format, how many bytes of data are declared
/// (`None`: until the end) and the data bytes that came with the header.
pub(crate) struct SoundStart {
    pub(crate) format: SampleFormat,
    pub(crate) declared: Option<u64>,
    pub(crate) data: Vec<u8>,
    pub(crate) tags: Tags,
}

/// A header of any of the three containers.
pub(crate) enum Header {
    Wav(WavHeaderReader),
    Aiff(AiffHeaderReader),
    Au(AuHeaderReader),
}

impl Header {
    /// The reader for a codec's header; `None` where it has none of this kind.
    pub(crate) fn of(codec: Codec) -> Option<Header> {
        match codec {
            Codec::Wav | Codec::WavMulaw | Codec::WavAlaw => Some(Header::Wav(WavHeaderReader::default())),
            Codec::Aiff => Some(Header::Aiff(AiffHeaderReader::default())),
            Codec::Au => Some(Header::Au(AuHeaderReader::default())),
            _ => None,
        }
    }

    fn push(&mut self, bytes: &[u8]) -> Result<Option<SoundStart>, AudioError> {
        match self {
            Header::Wav(reader) => reader.push(bytes),
            Header::Aiff(reader) => reader.push(bytes),
            Header::Au(reader) => reader.push(bytes),
        }
    }

    fn name(&self) -> &'static str {
        match self {
            Header::Wav(_) => "WAV",
            Header::Aiff(_) => "AIFF",
            Header::Au(_) => "AU",
        }
    }
}

/// The bytes of a file of plain samples: its header read, its data cut to
/// what is declared.
pub(crate) struct SoundFile {
    header: Header,
    format: Option<SampleFormat>,
    /// Bytes of data still to come; `None` where the header does not know.
    left: Option<u64>,
    tags: Tags,
    /// What follows the data: tags may stand there too.
    behind: Vec<u8>,
}

impl SoundFile {
    pub(crate) fn new(header: Header) -> Self {
        SoundFile { header, format: None, left: None, tags: Tags::default(), behind: Vec::new() }
    }

    /// What the file says of itself, so far.
    pub(crate) fn tags(&self) -> Tags {
        // An odd number of bytes is followed by a padding byte.
        let list = self.behind.iter().position(|byte| *byte != 0).map(|at| &self.behind[at..]);
        match list.filter(|list| self.tags.is_empty() && list.starts_with(b"LIST")) {
            Some(list) => crate::tags::riff::read(list.get(8..).unwrap_or_default()),
            None => self.tags.clone(),
        }
    }

    pub(crate) fn format(&self) -> Option<SampleFormat> {
        self.format
    }

    /// Seconds of data that are promised and have not come.
    pub(crate) fn missing(&self) -> Option<f64> {
        let format = self.format?;
        Some(self.left? as f64 / format.frame_bytes() as f64 / f64::from(format.layout.rate))
    }

    /// Whether the header does not say how long the data is.
    pub(crate) fn is_open_ended(&self) -> bool {
        self.format.is_some() && self.left.is_none()
    }

    /// Takes bytes and hands over those that are samples.
    pub(crate) fn push(&mut self, bytes: &[u8], mut take: impl FnMut(&[u8], SampleFormat)) -> Result<(), AudioError> {
        if let Some(format) = self.format {
            take(self.cut(bytes), format);
        } else if let Some(start) = self.header.push(bytes)? {
            self.format = Some(start.format);
            self.left = start.declared;
            self.tags = start.tags;
            take(self.cut(&start.data), start.format);
        }
        Ok(())
    }

    fn cut<'a>(&mut self, bytes: &'a [u8]) -> &'a [u8] {
        let Some(left) = self.left.as_mut() else { return bytes };
        let taken = bytes.len().min(usize::try_from(*left).unwrap_or(usize::MAX));
        *left -= taken as u64;
        let room = MAX_TAG_BYTES - self.behind.len();
        self.behind.extend_from_slice(&bytes[taken..bytes.len().min(taken.saturating_add(room))]);
        &bytes[..taken]
    }

    /// The bytes are over.
    pub(crate) fn finish(&self) -> Result<(), AudioError> {
        let format = self.header.name();
        match (self.format, self.left) {
            (None, _) => Err(AudioError::Truncated { format, what: "its header is not whole" }),
            (_, Some(1..)) => Err(AudioError::Truncated { format, what: "it holds less than its header says" }),
            _ => Ok(()),
        }
    }
}
