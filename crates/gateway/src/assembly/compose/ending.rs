//! How a performance ends: whole, left, paused, failed, or with way given to the
//! next candidate; what each attempt under way is charged.

use dispatcher_audio::Joiner;
use dispatcher_core::Cause;
use dispatcher_engines::EngineError;

use super::{Performance, PerformanceStop, SegmentSource};
use crate::dispatch::candidates::Tried;
use crate::dispatch::deliver::CodecError;
use crate::dispatch::dispatch_record::DispatchOutcome;
use crate::dispatch::speak::CALLER_LEFT;
use crate::{BodyError, FailedAttempt, GatewayError};

impl Performance<'_> {
    pub(super) async fn end(mut self, outcome: Result<(), PerformanceStop>) -> Result<Tried<()>, GatewayError> {
        let made_ms = self.joiner.get().map_or(0, |joiner| joiner.length().milliseconds());
        let settled = match outcome {
            Ok(()) => self.whole(made_ms).await,
            Err(PerformanceStop::Records(error)) => Err(error),
            Err(PerformanceStop::Left) => self.abandoned(made_ms, CALLER_LEFT).await,
            Err(PerformanceStop::Paused) => self.paused(made_ms).await,
            // Nothing has sounded: another candidate may try.
            Err(PerformanceStop::Failed(failed)) if self.responder.is_some() => return self.give_way(failed).await,
            Err(PerformanceStop::Failed(failed)) => self.failed(failed, made_ms).await,
        };
        match settled {
            Ok(()) => Ok(Tried::Over(())),
            Err(error) if self.responder.is_some() => Err(error),
            Err(error) => {
                tracing::error!(dispatch = self.run.record.id(), %error, "a dispatch was not settled");
                let detail = CodecError::Worker("the settlement could not be written".into());
                self.break_off(FailedAttempt::of(self.planned, detail.into())).await;
                Ok(Tried::Over(()))
            }
        }
    }

    /// Tells a caller who has audio that it is not whole. One who has left
    /// misses nothing.
    async fn break_off(&mut self, failed: FailedAttempt) {
        drop(self.run.audio.send(Err(BodyError(failed))).await);
    }

    async fn whole(&mut self, made_ms: u64) -> Result<(), GatewayError> {
        if let Some(start) = self.joiner.get().and_then(Joiner::start) {
            self.run.completion.set_start(start);
        }
        self.settle(DispatchOutcome::done(made_ms, self.first_at)).await
    }

    async fn settle(&mut self, outcome: DispatchOutcome) -> Result<(), GatewayError> {
        self.run.record.settle(std::mem::take(&mut self.last), outcome).await.map(drop)
    }

    /// Attempts under way are over.
    async fn drop_calls(&mut self) -> Result<(), GatewayError> {
        let calls = [self.calling.take(), self.ahead.take()];
        for calling in calls.into_iter().flatten() {
            let SegmentSource::Call(calling) = calling else { continue };
            self.write_last().await?;
            let usage = calling.attempt.usage();
            let why = "the utterance ended before it";
            self.last = calling.attempt.abandoned(why, usage, usage.milliseconds, None).into();
        }
        Ok(())
    }

    /// Ends the call that was made ahead, where it is of an engine that has
    /// failed meanwhile.
    pub(super) async fn drop_ahead(&mut self, engine: &str) -> Result<(), GatewayError> {
        let of_it = |ahead: &SegmentSource<'_>| match ahead {
            SegmentSource::Call(calling) => calling.attempt.engine() == engine,
            SegmentSource::StoredPiece(_) | SegmentSource::Given => false,
        };
        let Some(SegmentSource::Call(mut ahead)) = self.ahead.take_if(|ahead| of_it(ahead)) else { return Ok(()) };
        self.write_last().await?;
        let ended = match ahead.called.take() {
            Some(Err(error)) => ahead.attempt.failed(&FailedAttempt::of(self.planned, error), None),
            _ => {
                let usage = ahead.attempt.usage();
                let why = "its engine failed in an earlier sentence";
                ahead.attempt.abandoned(why, usage, usage.milliseconds, None)
            }
        };
        self.last = ended.into();
        Ok(())
    }

    async fn abandoned(&mut self, made_ms: u64, why: &str) -> Result<(), GatewayError> {
        self.drop_calls().await?;
        self.settle(DispatchOutcome::abandoned(made_ms, self.first_at, why)).await
    }

    /// What there is of the audio must not be taken for the whole.
    async fn paused(&mut self, made_ms: u64) -> Result<(), GatewayError> {
        self.abandoned(made_ms, "the service ended; the job goes on once it runs again").await?;
        match self.responder.take() {
            Some(responder) => drop(responder.send(Err(GatewayError::Abandoned))),
            None => {
                let detail = "the service ended".to_owned();
                let error = EngineError { cause: Cause::Abandoned, detail, retry_after: None };
                self.break_off(FailedAttempt::of(self.planned, error)).await;
            }
        }
        Ok(())
    }

    async fn close_failed(&mut self, failed: &FailedAttempt) -> Result<(), GatewayError> {
        match self.close(|attempt| attempt.failed(failed, None)).await {
            Ok(()) => self.drop_calls().await,
            Err(PerformanceStop::Records(error)) => Err(error),
            Err(_) => Ok(()),
        }
    }

    async fn give_way(mut self, failed: FailedAttempt) -> Result<Tried<()>, GatewayError> {
        self.close_failed(&failed).await?;
        Ok(Tried::Failed { last: std::mem::take(&mut self.last), others: Vec::new(), failed })
    }

    async fn failed(&mut self, failed: FailedAttempt, made_ms: u64) -> Result<(), GatewayError> {
        self.close_failed(&failed).await?;
        let problem = format!("failed after {made_ms} ms of audio: {}", failed.cause);
        self.settle(DispatchOutcome::failed(made_ms, self.first_at, problem)).await?;
        self.break_off(failed).await;
        Ok(())
    }
}
