//! Hearers: a wish and a recording become the ordered candidates that can
//! recognise it, with what each would cost.

use std::sync::Arc;

use dispatcher_core::{Adjustment, Candidate, Done, HearingWish, Shaped, Site, Vocabulary};
use dispatcher_engines::{AudioSource, Hear};
use serde::{Deserialize, Serialize};

use crate::dispatch::hear::RecognitionRequest;
use crate::intake::recording::AudioInfo;
use crate::planning::order::Purpose;
use crate::{Caller, Gateway, GatewayError, PlannedCall, Registry, Unsupported, today};

/// Who is to recognise something, and where.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct HearerWish {
    /// An engine or a route.
    pub wanted: Option<String>,
    pub model: Option<String>,
    /// Of what is said.
    pub language: Option<String>,
    /// Where the engine must run.
    #[serde(default)]
    pub site: Option<Site>,
    /// The region in which it is called.
    #[serde(default)]
    pub region: Option<String>,
}

/// What an engine takes at once.
pub(crate) struct Over {
    pub(crate) seconds: Option<u64>,
    pub(crate) megabytes: Option<u64>,
}

/// A candidate, and why it cannot take the audio whole.
pub(crate) type HearingCandidate = (PlannedCall, Option<GatewayError>);

impl Gateway {
    /// Candidates that can take the audio whole, with what each would cost.
    pub(crate) fn plan_recognition(
        &self,
        caller: &Caller,
        wish: &HearerWish,
        probed: &AudioInfo,
    ) -> Result<(String, Vec<PlannedCall>), GatewayError> {
        let (wanted, hearers) = self.hearing_candidates(caller, wish, probed)?;
        let mut too_long = None;
        let mut able = Vec::new();
        for (planned, over) in hearers {
            match over {
                None => able.push(planned),
                Some(error) => too_long = too_long.or(Some(error)),
            }
        }
        match (able.is_empty(), too_long) {
            (true, Some(error)) => Err(error),
            _ => Ok((wanted, able)),
        }
    }

    /// All candidates for audio of a kind.
    pub(crate) fn hearing_candidates(
        &self,
        caller: &Caller,
        wish: &HearerWish,
        probed: &AudioInfo,
    ) -> Result<(String, Vec<HearingCandidate>), GatewayError> {
        let registry = self.registry();
        let bounds = caller.bounds().at(wish.site).in_region(wish.region.as_deref());
        let wanted = match wish.wanted.as_deref().or(caller.app.default_recognition.as_deref()) {
            Some(wanted) => wanted.to_owned(),
            None => registry
                .engines()
                .filter(|engine| bounds.hold(engine.sheet()))
                .find(|engine| engine.sheet().recognition.is_some() && engine.absent().is_none())
                .map(|engine| engine.sheet().name.clone())
                .ok_or_else(|| GatewayError::NothingWanted(caller.app.name.clone()))?,
        };
        let mut hearers = Vec::new();
        let planner = registry.planner(None).within(bounds).under(caller.circumstances(&[]));
        wish.region.as_deref().map_or(Ok(()), |region| planner.check_region(region))?;
        for candidate in planner.recognition(&wanted, wish.model.as_deref(), wish.language.as_deref())? {
            hearers.push(hearing_call(&registry, candidate, probed)?);
        }
        self.arrange(&wanted, Purpose::Estimate, &mut hearers, |(planned, _)| planned);
        Ok((wanted, hearers))
    }

    /// The candidates that do what is asked for, where nothing less will do.
    pub(crate) fn controllable(
        &self,
        plan: Vec<PlannedCall>,
        request: &RecognitionRequest,
    ) -> Result<Vec<PlannedCall>, GatewayError> {
        if request.unsupported != Unsupported::Refuse {
            return Ok(plan);
        }
        let mut first = None;
        let mut able = Vec::new();
        for planned in plan {
            let (_, adjustments) = controlled(&request.wish, &planned.candidate);
            if adjustments.iter().all(|it| it.done == Done::Native) {
                able.push(planned);
            } else if first.is_none() {
                first = Some(GatewayError::Uncontrolled { engine: planned.engine_name().into(), adjustments });
            }
        }
        match (able.is_empty(), first) {
            (true, Some(error)) => Err(error),
            _ => Ok(able),
        }
    }
}

/// The call of a candidate for audio, and why it cannot take it whole.
pub(crate) fn hearing_call(
    registry: &Registry,
    candidate: Candidate,
    probed: &AudioInfo,
) -> Result<HearingCandidate, GatewayError> {
    let over = over_limit(&candidate, probed);
    let engine = registry.engine(&candidate.sheet.name)?.clone();
    let format = engine
        .hearing_format(probed.format)
        .ok_or_else(|| GatewayError::NoEngineFormat(candidate.sheet.name.clone()))?;
    let usage = probed.usage();
    let day = today();
    let used = registry.volumes.used(&candidate.sheet.name, candidate.work, &day);
    let estimate = candidate.price(&day, used)?.cost(usage)?;
    let (shaped, render_plan) = (Shaped::default(), Arc::default());
    Ok((PlannedCall { candidate, engine, format, usage, estimate, shaped, render_plan }, over))
}

/// What the candidate is given of what is asked for, and what is done with it.
pub(crate) fn controlled(wish: &HearingWish, candidate: &Candidate) -> (HearingWish, Vec<Adjustment>) {
    match &candidate.sheet.recognition {
        Some(recognition) => wish.with(&recognition.controls, candidate.model.as_deref()),
        None => Default::default(),
    }
}

impl PlannedCall {
    /// The call of audio that is in its format. An engine that takes hints is
    /// given the words of the vocabulary after those of the request.
    pub(crate) fn hear(
        &self,
        audio: AudioSource,
        seconds: f64,
        language: Option<&str>,
        wish: &HearingWish,
        vocabulary: &Vocabulary,
    ) -> Hear {
        let hints = vocabulary.hints().filter(|word| !wish.hints.iter().any(|hint| hint == word)).map(str::to_owned);
        let hints = wish.hints.iter().cloned().chain(hints).collect();
        let (wish, _) = controlled(&HearingWish { hints, ..wish.clone() }, &self.candidate);
        Hear {
            audio,
            format: self.format.clone(),
            model: self.candidate.model.clone(),
            language: language.map(str::to_owned),
            context: wish.context,
            variation: wish.variation,
            hints: wish.hints,
            speakers: wish.speakers,
            alternatives: wish.alternatives,
            seconds,
        }
    }
}

impl Over {
    pub(crate) fn of(candidate: &Candidate) -> Over {
        let limit = candidate.sheet.recognition.as_ref().map(|recognition| &recognition.limit);
        Over { seconds: limit.and_then(|it| it.seconds), megabytes: limit.and_then(|it| it.megabytes) }
    }
}

fn over_limit(candidate: &Candidate, probed: &AudioInfo) -> Option<GatewayError> {
    let limit = Over::of(candidate);
    let over = |limit: Option<u64>, given: u64, unit: &'static str| {
        let limit = limit.filter(|limit| given > *limit)?;
        Some(GatewayError::TooLong { engine: candidate.sheet.name.clone(), given, limit, unit })
    };
    let seconds = probed.length.milliseconds().div_ceil(1_000);
    over(limit.seconds, seconds, "seconds")
        .or_else(|| over(limit.megabytes, probed.bytes.div_ceil(1_000_000), "megabytes"))
}
