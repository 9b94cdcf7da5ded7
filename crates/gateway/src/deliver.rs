//! Deliver: engine audio becomes the asked format, streamed.

use std::sync::Arc;

use bytes::Bytes;
use dispatcher_audio::{AudioError, Format, Length, Transcoder};
use tokio::sync::{Semaphore, mpsc};

use crate::FailedAttempt;

/// Pieces that may wait for the caller; back-pressure beyond.
pub(crate) const WAITING: usize = 4;

/// Why a body that had begun did not end.
#[derive(Debug, Clone, thiserror::Error)]
#[error("{} after the first audio: {}", .0.engine, .0.detail)]
pub struct BodyError(pub FailedAttempt);

/// Audio as it is made. Its end comes only after everything is settled; an
/// error means that the audio is not whole. Dropping it ends the engine's call.
pub struct AudioBody {
    pub(crate) receiver: mpsc::Receiver<Result<Bytes, BodyError>>,
    pub(crate) first: Option<Bytes>,
}

impl AudioBody {
    /// The next piece; `None` once the audio is whole and settled.
    pub async fn next(&mut self) -> Option<Result<Bytes, BodyError>> {
        match self.first.take() {
            Some(first) => Some(Ok(first)),
            None => self.receiver.recv().await,
        }
    }
}

/// A transcoder whose work is done off the async threads, by at most as many
/// threads as there are cores.
pub(crate) struct Converter {
    transcoder: Option<Transcoder>,
    codecs: Arc<Semaphore>,
}

impl Converter {
    pub(crate) fn new(from: Format, to: Format, codecs: Arc<Semaphore>) -> Result<Self, AudioError> {
        Ok(Converter { transcoder: Some(Transcoder::new(from, to)?), codecs })
    }

    pub(crate) fn length(&self) -> Length {
        self.transcoder.as_ref().map(Transcoder::length).unwrap_or_default()
    }

    pub(crate) async fn push(&mut self, bytes: Bytes) -> Result<Bytes, AudioError> {
        self.run(move |transcoder| transcoder.push(&bytes)).await
    }

    pub(crate) async fn finish(&mut self) -> Result<Bytes, AudioError> {
        self.run(Transcoder::finish).await
    }

    async fn run(
        &mut self,
        work: impl FnOnce(&mut Transcoder) -> Result<Bytes, AudioError> + Send + 'static,
    ) -> Result<Bytes, AudioError> {
        let mut transcoder = self.transcoder.take().ok_or(AudioError::Empty)?;
        // Passing bytes through is cheaper than handing them to a thread.
        if transcoder.passes_through() {
            let result = work(&mut transcoder);
            self.transcoder = Some(transcoder);
            return result;
        }
        let permit = self.codecs.clone().acquire_owned().await.map_err(|_| AudioError::Empty)?;
        let done = tokio::task::spawn_blocking(move || {
            let result = work(&mut transcoder);
            drop(permit);
            (transcoder, result)
        });
        let (transcoder, result) = done.await.map_err(|_| AudioError::Empty)?;
        self.transcoder = Some(transcoder);
        result
    }
}
