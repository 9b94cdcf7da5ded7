//! Audio on its way to an engine: whole, in numbered parts, or as base64 in
//! the middle of JSON; and how fast somebody speaks in it.

use std::hash::{BuildHasher as _, Hasher as _, RandomState};
use std::io::Read as _;
use std::ops::Range;
use std::sync::Arc;

use base64::Engine as _;
use base64::engine::Config as _;
use base64::engine::general_purpose::{STANDARD, URL_SAFE_NO_PAD};
use bytes::Bytes;
use dispatcher_audio::{Format, TempoMeter};
use dispatcher_core::Cause;
use minijinja::context;
use minijinja::value::Value;
use tempfile::TempPath;
use tokio::io::{AsyncReadExt as _, AsyncSeekExt as _};

use crate::EngineError;
use crate::call::{AudioSource, EngineFormat};
use crate::request::Payload;

/// Bytes that are read at once; a multiple of three, for base64.
const BLOCK: usize = 48 << 10;

/// What follows the marker where the alphabet for addresses is asked for
/// (RFC 4648, section 5).
const URL: &str = "-url";

/// Audio, or a part of it, to be put into a request.
pub(crate) struct RequestAudio {
    source: AudioSource,
    range: Range<u64>,
    pub(crate) format: EngineFormat,
    /// Stands in the rendered body where the audio belongs. A new one each
    /// time, so that no text can hold it.
    marker: String,
}

/// Speech within this is ordinary. Voices differ by as much, a sentence more or
/// less, and following them costs as many words as it saves: on 20 sentences in
/// four voices (816 words) these bounds lose half a word of a hundred of ordinary
/// speech, and wider ones two to three of slow speech. `make bench-words` has
/// other sentences.
const ORDINARY: std::ops::RangeInclusive<f64> = 0.9..=1.2;

/// The tempo of the speech in a file: 1 where it is ordinary, or cannot be
/// told, since whoever listens to it will say what is wrong with it; else 0.5
/// to 1.5.
pub(crate) async fn tempo(file: Arc<TempPath>, format: Format) -> f64 {
    let measured = tokio::task::spawn_blocking(move || {
        let mut file = std::fs::File::open(&*file).ok()?;
        let mut meter = TempoMeter::new(format).ok()?;
        let mut block = vec![0; BLOCK];
        loop {
            let count = file.read(&mut block).ok()?;
            if count == 0 || !meter.push(&block[..count]).ok()? {
                return meter.finish().ok()?;
            }
        }
    });
    let tempo = measured.await.ok().flatten().unwrap_or(1.0);
    if ORDINARY.contains(&tempo) { 1.0 } else { tempo.clamp(0.5, 1.5) }
}

fn failed(error: &std::io::Error) -> EngineError {
    EngineError::new(Cause::Unavailable, format!("the spooled audio: {error}"))
}

impl RequestAudio {
    pub(crate) async fn whole(source: &AudioSource, format: &EngineFormat) -> Result<RequestAudio, EngineError> {
        let length = match source {
            AudioSource::Memory(bytes) => bytes.len() as u64,
            AudioSource::File(path) => tokio::fs::metadata(&***path).await.map_err(|error| failed(&error))?.len(),
        };
        let random = || RandomState::new().build_hasher().finish();
        let marker = format!("audio{:016x}{:016x}", random(), random());
        Ok(RequestAudio { source: source.clone(), range: 0..length, format: format.clone(), marker })
    }

    /// Numbered parts of a size in bytes, from 1; one part if the audio is empty.
    pub(crate) fn parts(&self, bytes: u64) -> impl Iterator<Item = (u64, RequestAudio)> + '_ {
        let count = self.range.end.div_ceil(bytes).max(1);
        (0..count).map(move |index| {
            let range = index * bytes..((index + 1) * bytes).min(self.range.end);
            let part = RequestAudio {
                source: self.source.clone(),
                range,
                format: self.format.clone(),
                marker: self.marker.clone(),
            };
            (index + 1, part)
        })
    }

    pub(crate) fn length(&self) -> u64 {
        self.range.end - self.range.start
    }

    /// What templates can name as `audio`.
    pub(crate) fn context(&self) -> Value {
        let url = format!("{}{URL}", self.marker);
        context! {
            base64 => Value::from_safe_string(self.marker.clone()),
            base64url => Value::from_safe_string(url),
            bytes => self.length(),
        }
    }

    fn in_memory(&self) -> Option<Bytes> {
        let place = |at: u64| usize::try_from(at).unwrap_or(usize::MAX);
        match &self.source {
            AudioSource::Memory(bytes) => Some(bytes.slice(place(self.range.start)..place(self.range.end))),
            AudioSource::File(_) => None,
        }
    }

    async fn reader(&self) -> Result<Box<dyn tokio::io::AsyncRead + Send + Sync + Unpin>, EngineError> {
        match &self.source {
            AudioSource::Memory(_) => Ok(Box::new(std::io::Cursor::new(self.in_memory().unwrap_or_default()))),
            AudioSource::File(path) => {
                let mut file = tokio::fs::File::open(&***path).await.map_err(|error| failed(&error))?;
                file.seek(std::io::SeekFrom::Start(self.range.start)).await.map_err(|error| failed(&error))?;
                Ok(Box::new(file.take(self.length())))
            }
        }
    }

    /// The audio in blocks of a size.
    pub(crate) async fn blocks(
        &self,
        size: usize,
    ) -> Result<impl futures::Stream<Item = Result<Bytes, std::io::Error>> + Send + Sync + use<>, EngineError> {
        let reader = self.reader().await?;
        Ok(futures::stream::try_unfold(reader, move |mut reader| async move {
            let mut block = vec![0; size];
            let mut filled = 0;
            while filled < size {
                match reader.read(&mut block[filled..]).await? {
                    0 => break,
                    count => filled += count,
                }
            }
            block.truncate(filled);
            Ok((filled > 0).then(|| (Bytes::from(block), reader)))
        }))
    }

    /// The audio as the body of a request, and its length.
    pub(crate) async fn body(&self) -> Result<(reqwest::Body, u64), EngineError> {
        let body = match self.in_memory() {
            Some(bytes) => bytes.into(),
            None => reqwest::Body::wrap_stream(self.blocks(BLOCK).await?),
        };
        Ok((body, self.length()))
    }

    pub(crate) async fn payload(&self) -> Result<Payload, EngineError> {
        let kind = self.format.format.media_type();
        Ok(match self.in_memory() {
            Some(bytes) => Payload::Bytes { kind, bytes },
            None => {
                let (body, length) = self.body().await?;
                Payload::Stream { kind, length, body }
            }
        })
    }

    /// A text that holds this audio as base64 where templates said so.
    pub(crate) async fn spliced(&self, kind: &str, text: String) -> Result<Payload, EngineError> {
        use futures::StreamExt as _;
        let kind = kind.to_owned();
        let Some((before, after)) = text.split_once(&self.marker) else {
            return Ok(Payload::Bytes { kind, bytes: text.into() });
        };
        if after.contains(&self.marker) {
            return Err(EngineError::new(Cause::Malformed, "the sheet names audio.base64 twice in one body"));
        }
        let (coding, after) = match after.strip_prefix(URL) {
            Some(after) => (&URL_SAFE_NO_PAD, after),
            None => (&STANDARD, after),
        };
        if let Some(bytes) = self.in_memory() {
            return Ok(Payload::Bytes { kind, bytes: format!("{before}{}{after}", coding.encode(bytes)).into() });
        }
        let size = usize::try_from(self.length()).ok();
        let size = size.and_then(|size| base64::encoded_len(size, coding.config().encode_padding()));
        let length = (before.len() + after.len() + size.unwrap_or(0)) as u64;
        let piece = |text: &str| {
            let text = Bytes::copy_from_slice(text.as_bytes());
            futures::stream::once(futures::future::ready(Ok::<_, std::io::Error>(text)))
        };
        let coded = self.blocks(BLOCK).await?.map(|block| block.map(|block| Bytes::from(coding.encode(block))));
        let body = piece(before).chain(coded).chain(piece(after));
        Ok(Payload::Stream { kind, length, body: reqwest::Body::wrap_stream(body) })
    }

    /// One part as base64, for a message.
    pub(crate) fn message(&self, text: &str, block: &[u8]) -> String {
        let url = format!("{}{URL}", self.marker);
        match text.contains(&url) {
            true => text.replacen(&url, &URL_SAFE_NO_PAD.encode(block), 1),
            false => text.replacen(&self.marker, &STANDARD.encode(block), 1),
        }
    }
}
