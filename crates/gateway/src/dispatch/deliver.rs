//! Deliver: engine audio becomes the asked format, streamed.

use std::sync::Arc;

use bytes::Bytes;
use dispatcher_audio::{AudioError, Format, Length, Options, Transcoder};
use dispatcher_core::Cause;
use dispatcher_engines::EngineError;
use tokio::sync::{Semaphore, mpsc};
use tokio::task::JoinHandle;

use crate::FailedAttempt;
use crate::dispatch::completion::Completion;

/// Pieces that may wait for the caller; back-pressure beyond.
pub(crate) const WAITING: usize = 4;

/// Why a body that had begun did not end.
#[derive(Debug, Clone, thiserror::Error)]
#[error("{} after the first audio: {}", .0.engine, .0.cause)]
pub struct BodyError(pub FailedAttempt);

/// Audio as it is made. Its end comes only after everything is settled; an
/// error means that the audio is not whole. Dropping it ends the engine's call.
pub struct AudioBody {
    pub(crate) receiver: mpsc::Receiver<Result<Bytes, BodyError>>,
    pub(crate) first: Option<Bytes>,
    pub(crate) completion: Completion,
}

impl AudioBody {
    /// The next piece; `None` once the audio is whole and settled.
    pub async fn next(&mut self) -> Option<Result<Bytes, BodyError>> {
        match self.first.take() {
            Some(first) => Some(Ok(first)),
            None => self.receiver.recv().await,
        }
    }

    /// What completes the audio, once it was collected to its end.
    pub fn completion(&self) -> Completion {
        self.completion.clone()
    }
}

/// Why work on audio failed.
#[derive(Debug, Clone, thiserror::Error)]
pub(crate) enum CodecError {
    /// The audio is at fault.
    #[error(transparent)]
    Audio(#[from] AudioError),
    /// A worker of ours panicked or was stopped.
    #[error("a worker of the gateway stopped: {0}")]
    Worker(String),
}

impl CodecError {
    fn worker(error: impl std::fmt::Display) -> CodecError {
        CodecError::Worker(error.to_string())
    }
}

impl From<CodecError> for EngineError {
    /// An engine is to blame for its audio, and not for our workers.
    fn from(error: CodecError) -> EngineError {
        let cause = if matches!(error, CodecError::Audio(_)) { Cause::Broken } else { Cause::Internal };
        EngineError { cause, detail: error.to_string(), retry_after: None }
    }
}

/// Something whose work is done off the async threads, by at most as many
/// threads as there are cores.
pub(crate) struct Offload<T> {
    worker: Option<T>,
    /// Until it is made, which takes an encoder a millisecond and more.
    making: Option<JoinHandle<Result<T, CodecError>>>,
    codecs: Arc<Semaphore>,
}

impl<T: Send + 'static> Offload<T> {
    pub(crate) fn new(worker: T, codecs: Arc<Semaphore>) -> Self {
        Offload { worker: Some(worker), making: None, codecs }
    }

    /// Has the worker made, beside what else there is to do.
    pub(crate) fn making(
        make: impl FnOnce() -> Result<T, AudioError> + Send + 'static,
        codecs: Arc<Semaphore>,
    ) -> Self {
        let turns = codecs.clone();
        let making = tokio::spawn(async move {
            let _permit = turns.acquire_owned().await.map_err(CodecError::worker)?;
            Ok(tokio::task::spawn_blocking(make).await.map_err(CodecError::worker)??)
        });
        Offload { worker: None, making: Some(making), codecs }
    }

    /// The worker; `None` before its first work.
    pub(crate) fn get(&self) -> Option<&T> {
        self.worker.as_ref()
    }

    /// The worker, once it is made.
    async fn made(&mut self) -> Result<&mut T, CodecError> {
        if let Some(making) = &mut self.making {
            let made = making.await;
            self.making = None;
            self.worker = Some(made.map_err(CodecError::worker)??);
        }
        self.worker.as_mut().ok_or_else(lost)
    }

    pub(crate) async fn run<R: Send + 'static>(
        &mut self,
        work: impl FnOnce(&mut T) -> Result<R, AudioError> + Send + 'static,
    ) -> Result<R, CodecError> {
        self.made().await?;
        let permit = self.codecs.clone().acquire_owned().await.map_err(CodecError::worker)?;
        let mut worker = self.worker.take().ok_or_else(lost)?;
        let done = tokio::task::spawn_blocking(move || {
            let result = work(&mut worker);
            drop(permit);
            (worker, result)
        });
        let (worker, result) = done.await.map_err(CodecError::worker)?;
        self.worker = Some(worker);
        Ok(result?)
    }
}

/// The worker was lost with work that failed before.
fn lost() -> CodecError {
    CodecError::Worker("it was lost with earlier work".into())
}

/// A transcoder, off the async threads where it has work to do.
pub(crate) struct Converter(Offload<Transcoder>);

impl Converter {
    pub(crate) fn new(from: Format, to: Format, options: Options, codecs: Arc<Semaphore>) -> Result<Self, AudioError> {
        Ok(Converter(match Transcoder::moves(from, to, &options) {
            true => Offload::new(Transcoder::with(from, to, options)?, codecs),
            false => Offload::making(move || Transcoder::with(from, to, options), codecs),
        }))
    }

    /// As [`Transcoder::start`].
    pub(crate) fn start(&self) -> Option<Bytes> {
        self.0.get().and_then(Transcoder::start)
    }

    pub(crate) fn length(&self) -> Length {
        self.0.get().map(Transcoder::length).unwrap_or_default()
    }

    pub(crate) async fn push(&mut self, bytes: Bytes) -> Result<Bytes, CodecError> {
        self.run(move |transcoder| transcoder.push(&bytes)).await
    }

    pub(crate) async fn finish(&mut self) -> Result<Bytes, CodecError> {
        self.run(Transcoder::finish).await
    }

    async fn run(
        &mut self,
        work: impl FnOnce(&mut Transcoder) -> Result<Bytes, AudioError> + Send + 'static,
    ) -> Result<Bytes, CodecError> {
        // Moving coded sound is cheaper than handing it to a thread.
        let transcoder = self.0.made().await?;
        if transcoder.decodes() { self.0.run(work).await } else { Ok(work(transcoder)?) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn a_worker_that_panics_is_not_the_fault_of_the_engine() {
        let mut offload = Offload::new(5_u32, Arc::new(Semaphore::new(1)));
        let error = offload.run(|_| -> Result<(), AudioError> { panic!("as tested") }).await.expect_err("a panic");
        assert!(matches!(error, CodecError::Worker(_)), "{error}");
        assert_eq!(EngineError::from(error).cause, Cause::Internal);
        let lost = offload.run(|_| Ok(())).await.expect_err("its worker is lost");
        assert_eq!(EngineError::from(lost).cause, Cause::Internal);
    }

    #[tokio::test]
    async fn audio_that_cannot_be_read_is() {
        let codecs = Arc::new(Semaphore::new(1));
        let mut making: Offload<u32> = Offload::making(|| Err(AudioError::Empty), codecs);
        let error = making.run(|_| Ok(())).await.expect_err("not made");
        assert_eq!(EngineError::from(error).cause, Cause::Broken);
    }
}
