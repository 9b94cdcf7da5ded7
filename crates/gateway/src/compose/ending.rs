//! How a performance ends: whole, left, paused, failed, or with way given to the
//! next leg; what each attempt under way is charged.

use dispatcher_audio::Joiner;
use dispatcher_core::Cause;
use dispatcher_engines::EngineError;

use super::{Composed, Performance, Source, Stop};
use crate::attempt::broken;
use crate::speak::{ending_of, summary};
use crate::{BodyError, FailedAttempt, GatewayError};

impl Performance<'_> {
    pub(super) async fn end(mut self, outcome: Result<(), Stop>, only: bool) -> Composed {
        let made_ms = self.joiner.get().map_or(0, |joiner| joiner.length().milliseconds());
        let result = match outcome {
            Ok(()) => self.whole(made_ms).await,
            Err(Stop::Records(error)) => Err(error),
            Err(Stop::Left) => self.abandoned(made_ms, "the caller left before the end").await,
            Err(Stop::Paused) => self.paused(made_ms).await,
            Err(Stop::Failed(failed)) => {
                if self.opener.is_some() && !only {
                    return self.give_way(failed).await;
                }
                return self.failed(failed, made_ms).await;
            }
        };
        if let Err(error) = result {
            tracing::error!(dispatch = %self.run.docket.id, %error, "a dispatch was not settled");
            match self.opener.take() {
                Some(opener) => drop(opener.send(Err(error))),
                None => {
                    let detail = "the settlement could not be written";
                    let failed = FailedAttempt::of(self.planned, broken(&detail));
                    let _ = self.run.audio.send(Err(BodyError(failed))).await;
                }
            }
        }
        Composed::Over
    }

    async fn whole(&mut self, made_ms: u64) -> Result<(), GatewayError> {
        if let Some(start) = self.joiner.get().and_then(Joiner::start) {
            let _ = self.run.start.set(start);
        }
        self.settle("done", made_ms, None).await
    }

    async fn settle(&mut self, state: &'static str, made_ms: u64, problem: Option<String>) -> Result<(), GatewayError> {
        let last = self.last.take();
        let last = last.as_ref().map(|(entry, ending)| (entry, ending.clone()));
        self.run.docket.settle(last, state, made_ms, self.first_us, problem).await.map(drop)
    }

    /// Attempts under way are over.
    async fn drop_calls(&mut self) -> Result<(), GatewayError> {
        let calls = [self.calling.take(), self.ahead.take()];
        for calling in calls.into_iter().flatten() {
            let Source::Call(calling) = calling else { continue };
            self.write_last().await?;
            let usage = calling.entry.usage();
            let ending = calling.entry.cancelled("the utterance ended before it", usage, usage.milliseconds);
            self.last = Some((calling.entry, Some(ending)));
        }
        Ok(())
    }

    async fn abandoned(&mut self, made_ms: u64, why: &str) -> Result<(), GatewayError> {
        self.drop_calls().await?;
        self.settle("abandoned", made_ms, Some(why.to_owned())).await
    }

    /// What there is of the audio must not be taken for the whole.
    async fn paused(&mut self, made_ms: u64) -> Result<(), GatewayError> {
        self.abandoned(made_ms, "the service ended; the job goes on once it runs again").await?;
        match self.opener.take() {
            Some(opener) => drop(opener.send(Err(GatewayError::Abandoned))),
            None => {
                let detail = "the service ended".to_owned();
                let error = EngineError { cause: Cause::Abandoned, detail, retry_after: None };
                drop(self.run.audio.send(Err(BodyError(FailedAttempt::of(self.planned, error)))).await);
            }
        }
        Ok(())
    }

    /// Nothing has sounded: another candidate tries.
    async fn give_way(mut self, failed: FailedAttempt) -> Composed {
        let closed = self.close(ending_of(&failed, None)).await.is_ok() && self.drop_calls().await.is_ok();
        let written = self.write_last().await.is_ok();
        self.failures.push(failed);
        match self.opener.take() {
            Some(opener) if closed && written => Composed::Next(opener, self.failures),
            Some(opener) => {
                let _ = opener.send(Err(GatewayError::Internal("an attempt could not be written".into())));
                Composed::Over
            }
            None => Composed::Over,
        }
    }

    async fn failed(mut self, failed: FailedAttempt, made_ms: u64) -> Composed {
        let ended = self.close(ending_of(&failed, None)).await.is_ok() && self.drop_calls().await.is_ok();
        self.failures.push(failed.clone());
        let problem = match self.opener.is_some() {
            true => summary(&self.failures),
            false => format!("failed after {made_ms} ms of audio: {}", failed.cause),
        };
        let settled = self.settle("failed", made_ms, Some(problem)).await;
        if settled.is_err() || !ended {
            tracing::error!(dispatch = %self.run.docket.id, "a broken dispatch was not settled");
        }
        match self.opener.take() {
            Some(opener) => {
                let dispatch = self.run.docket.id.clone();
                let error = settled.err().unwrap_or(GatewayError::AllFailed { dispatch, attempts: self.failures });
                let _ = opener.send(Err(error));
            }
            None => drop(self.run.audio.send(Err(BodyError(failed))).await),
        }
        Composed::Over
    }
}
