//! Estimates: what a request would do and cost, with nothing sent.

use dispatcher_core::Money;
use dispatcher_markup::Fidelity;

use crate::dispatch::fingerprint;
use crate::planning::order::Purpose;
use crate::planning::plan::{TextLanguage, wanted};
use crate::{Caller, Gateway, GatewayError, GivenAudio, HearerWish, PlannedCall, SynthesisRequest};

/// The plan of a request that was not sent.
pub struct Estimate {
    /// In the order in which they would be tried.
    pub plan: Vec<PlannedCall>,
    /// What the first would cost at the most.
    pub cost: Money,
    /// Whether that is known to the last digit.
    pub exact: bool,
    pub fidelity: Vec<Fidelity>,
    /// Of synthesis.
    pub fingerprint: Option<String>,
    /// Seconds of audio, of recognition.
    pub length: Option<f64>,
    pub warnings: Vec<String>,
}

impl Gateway {
    /// What a synthesis would do.
    ///
    /// # Errors
    /// As the synthesis itself, before anything is called.
    pub async fn estimate_speech(&self, caller: &Caller, request: &SynthesisRequest) -> Result<Estimate, GatewayError> {
        request.format.check_output().map_err(GatewayError::Format)?;
        let length = request.text.source().len();
        let _room = self.inner.texts.room(length).await?;
        let script = request.text.parse()?;
        let language = request.language.as_deref().or(script.language.as_deref());
        let wish = wanted(caller, request.wanted.as_ref(), language)?;
        let resources = self.resources(caller, &script).await;
        let plan = self.plan_speech(caller, request, &wish, (&script, &resources), Purpose::Estimate).await?;
        let head = plan.first().ok_or_else(|| GatewayError::Contradiction("an empty plan"))?;
        Ok(Estimate {
            cost: head.estimate,
            exact: head.candidate.has_exact_price(),
            fingerprint: Some(fingerprint::of_request(head, request.text.source(), language, request.format)),
            length: None,
            warnings: [
                &request.notes,
                &resources.missing,
                &self.warnings(head, TextLanguage::of(language, &script.plain_text())),
                &script.notes,
            ]
            .into_iter()
            .flatten()
            .cloned()
            .collect(),
            fidelity: head.fidelity(),
            plan,
        })
    }

    /// What a recognition would do; the audio is measured, and nothing sent.
    ///
    /// # Errors
    /// As the recognition itself, before anything is called.
    pub async fn estimate_hearing(
        &self,
        caller: &Caller,
        audio: &GivenAudio,
        wish: &HearerWish,
    ) -> Result<Estimate, GatewayError> {
        let (_, probed) = audio.take(self, crate::Unsupported::Adapt).await?;
        let mut probed = probed;
        let (_, hearers) = self.hearing_candidates(caller, &wish.stated(caller), &probed)?;
        let whole = hearers.iter().any(|(_, over)| over.is_none());
        if let Some((_, Some(over))) = hearers.first().filter(|_| !whole) {
            probed.warnings.push(format!("{over}; it is transcribed in parts, as a job"));
        }
        let plan: Vec<PlannedCall> =
            hearers.into_iter().filter(|(_, over)| over.is_none() || !whole).map(|(planned, _)| planned).collect();
        let head = plan.first().ok_or_else(|| GatewayError::Contradiction("an empty plan"))?;
        Ok(Estimate {
            cost: head.estimate,
            exact: head.candidate.has_exact_price() || head.candidate.tariff().regions.is_empty(),
            fidelity: Vec::new(),
            fingerprint: None,
            length: Some(probed.length.seconds()),
            warnings: probed.warnings,
            plan,
        })
    }
}
