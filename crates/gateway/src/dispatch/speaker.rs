//! Speaker: one candidate of a synthesis after the other is called, beside the
//! next one where its route hedges, until one gives audio.

use dispatcher_audio::Tags;
use futures::{FutureExt as _, TryFutureExt as _};

use crate::dispatch::attempt::{Called, Speaking, tags};
use crate::dispatch::candidates::{Attempt, Tried};
use crate::dispatch::dispatch_record::OpenAttempt;
use crate::dispatch::hedge::{self, CallEnd, RaceEnd, Racer};
use crate::dispatch::speak::{FirstAudio, Responder, Run, left};
use crate::{FailedAttempt, GatewayError, PlannedCall};

/// The candidates of a synthesis, tried for one caller.
pub(super) struct Speaker<'r> {
    pub(super) run: &'r Run,
    /// Until the caller has its first audio.
    pub(super) responder: Option<Responder>,
}

impl Attempt<()> for Speaker<'_> {
    async fn left(&mut self) {
        left(&self.run.audio, &mut self.responder).await;
    }

    async fn attempt(&mut self, planned: &PlannedCall, failures: &[FailedAttempt]) -> Result<Tried<()>, GatewayError> {
        let run = self.run;
        let hedge = match &run.hedging {
            Some(route) => run.record.gateway().hedge(route, &run.plan, planned).await,
            None => None,
        };
        // Pieces of jobs are kept, which composing sees to.
        let single = planned.render_plan.single().is_some() && run.piece_store.is_none();
        if !single && (hedge.is_none() || planned.render_plan.opening_call(planned).is_none()) {
            // On the heap: scripts of one part do without it.
            return Box::pin(run.compose(&mut self.responder, planned, failures, None)).await;
        }
        let first = run.begin_call(planned).await?;
        let left = left(&run.audio, &mut self.responder);
        let RaceEnd { planned, attempt, end, other } =
            hedge::race(&run.record, first, hedge, |next| run.begin_call(next), left).await?;
        let mut failures = failures.to_vec();
        failures.extend(other.clone());
        match end {
            CallEnd::Left => {
                run.abandon(attempt, planned, None, None, 0).await;
                Ok(Tried::Over(()))
            }
            CallEnd::Failed(error) => {
                let failed = FailedAttempt::of(planned, error);
                let others = other.into_iter().collect();
                Ok(Tried::Failed { last: attempt.failed(&failed, None).into(), others, failed })
            }
            CallEnd::Answered(Opened::Called(called)) => {
                let opening = Some((attempt, called));
                Box::pin(run.compose(&mut self.responder, planned, &failures, opening)).await
            }
            CallEnd::Answered(Opened::Speaking(speaking)) => {
                self.deliver(planned, attempt, *speaking, failures).await;
                Ok(Tried::Over(()))
            }
        }
    }
}

/// What the first call of a script has given.
enum Opened {
    /// The script is one call, which speaks.
    Speaking(Box<Speaking>),
    /// The first of several.
    Called(Called),
}

impl Speaker<'_> {
    /// Hands over the first audio of a script that is one call, and what follows.
    async fn deliver(
        &mut self,
        planned: &PlannedCall,
        attempt: OpenAttempt,
        speaking: Speaking,
        fallbacks: Vec<FailedAttempt>,
    ) {
        let run = self.run;
        let first_at = run.record.elapsed();
        let first_audio = FirstAudio {
            planned: planned.clone(),
            first: speaking.first.clone(),
            first_at,
            fallbacks,
            words: speaking.words.clone(),
            tempo: planned.render_plan.single().map_or(1.0, |part| part.call.shaped.emulated.rate),
        };
        if self.responder.take().is_none_or(|responder| responder.send(Ok(first_audio)).is_err()) {
            let made_ms = speaking.converter.length().milliseconds();
            run.abandon(attempt, planned, Some(speaking.first_at), None, made_ms).await;
        } else {
            run.stream(attempt, planned, speaking, first_at).await;
        }
    }
}

impl Run {
    /// What the audio of a candidate says of itself.
    pub(crate) fn tags(&self, planned: &PlannedCall) -> Tags {
        Tags { synthetic: self.tagged, ..tags(planned, &self.text, self.language.as_deref()) }
    }

    /// Begins the first call of a candidate's script.
    async fn begin_call<'r>(&'r self, planned: &'r PlannedCall) -> Result<Racer<'r, Opened>, GatewayError> {
        let gateway = self.record.gateway();
        if let Some(part) = planned.render_plan.single() {
            let attempt = self.record.begin(planned, planned.usage).await?;
            let tags = self.tags(planned);
            let call = gateway.attempt_speech(planned, &self.record, part.call.clone(), self.format, tags);
            let call = call.map_ok(|speaking| Opened::Speaking(Box::new(speaking))).boxed();
            return Ok(Racer { planned, attempt, call });
        }
        let Some(segment) = planned.render_plan.opening_call(planned) else {
            return Err(GatewayError::Contradiction("a script that begins with no call"));
        };
        let attempt = self.record.begin(planned, segment.usage).await?;
        let call = gateway.open_call(planned, &self.record, segment.call.clone());
        let call = call.and_then(Called::sounding).map_ok(Opened::Called).boxed();
        Ok(Racer { planned, attempt, call })
    }
}
