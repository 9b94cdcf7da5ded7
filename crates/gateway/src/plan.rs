//! Plan: a script and a wish become ordered candidates with their estimates.

use std::sync::Arc;

use dispatcher_audio::Format;
use dispatcher_core::{Candidate, Criteria, Done, Money, Shaped, Usage, Wanted};
use dispatcher_engines::{Engine, EngineFormat, Speak};
use dispatcher_markup::{Fidelity, Outcome, Script};

use crate::{Caller, Gateway, GatewayError, Registry, SynthesisRequest};

/// What to do with what an engine cannot.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Unsupported {
    Refuse,
    #[default]
    Adapt,
    Omit,
}

/// Milliseconds of speech that a character takes at the most; for tariffs by
/// time, where the length is not known before.
const MILLISECONDS_A_CHARACTER: u64 = 120;

/// A candidate with all that its attempt needs.
#[derive(Clone)]
pub struct Planned {
    pub candidate: Candidate,
    pub engine: Arc<Engine>,
    pub format: EngineFormat,
    /// What the script uses with this engine; audio is a guess at its top.
    pub usage: Usage,
    /// The top of what it may cost.
    pub estimate: Money,
    /// What becomes of what was asked for beyond the text.
    pub shaped: Shaped,
}

impl Planned {
    /// The voice as `engine/voice`.
    pub fn voice_id(&self) -> Option<String> {
        self.candidate.voice.as_ref().map(|voice| format!("{}/{}", self.candidate.sheet.name, voice.id))
    }

    /// What becomes of each element of the script and each wish beside it.
    pub fn fidelity(&self, script: &Script) -> Vec<Fidelity> {
        let wish = |it: &dispatcher_core::Adjustment| Fidelity {
            element: it.control.into(),
            line: 0,
            column: 0,
            outcome: match it.done {
                Done::Native => Outcome::Native,
                Done::Rewritten => Outcome::Rewritten,
                Done::MadeGood => Outcome::MadeGood,
                Done::Omitted => Outcome::Omitted,
            },
        };
        script.fidelity.iter().cloned().chain(self.shaped.adjustments.iter().map(wish)).collect()
    }

    /// The worst of it.
    pub fn worst(&self, script: &Script) -> Outcome {
        self.fidelity(script).iter().map(|item| item.outcome).max().unwrap_or(Outcome::Native)
    }

    /// The call of the engine that this becomes.
    pub(crate) fn call(&self, text: &str, language: Option<&str>) -> Speak {
        Speak {
            text: text.to_owned(),
            voice: self.candidate.voice.clone().unwrap_or_default(),
            model: self.candidate.model.clone(),
            language: language.map(str::to_owned),
            format: self.format.clone(),
            shaped: self.shaped.clone(),
        }
    }

    /// The engine's name.
    pub fn engine_name(&self) -> &str {
        &self.candidate.sheet.name
    }
}

/// What the request, the app and the language ask for, in this order.
pub(crate) fn wanted(caller: &Caller, wanted: Option<&Wanted>, language: Option<&str>) -> Result<Wanted, GatewayError> {
    match (wanted, &caller.app.default_voice, language) {
        (Some(wanted), ..) => Ok(wanted.clone()),
        (None, Some(voice), _) => Ok(Wanted::Named(voice.clone())),
        (None, None, Some(language)) => {
            Ok(Wanted::Like(Criteria { languages: Some(language.into()), ..Criteria::default() }))
        }
        _ => Err(GatewayError::NothingWanted(caller.app.name.clone())),
    }
}

pub(crate) fn plan_synthesis(
    registry: &Registry,
    caller: &Caller,
    request: &SynthesisRequest,
    wanted: &Wanted,
    script: &Script,
) -> Result<Vec<Planned>, GatewayError> {
    let language = request.language.as_deref().or(script.language.as_deref());
    let granted = caller.granted();
    let candidates = registry.planner(granted.as_deref()).synthesis(wanted, request.model.as_deref(), language)?;
    let text = script.plain_text();
    let usage = usage_of(&text);
    let mut planned = Vec::new();
    let mut too_long = None;
    for candidate in candidates {
        let shaped = shape(&candidate, request);
        if request.unsupported == Unsupported::Refuse && shaped.adjustments.iter().any(|it| it.done != Done::Native) {
            let engine = candidate.sheet.name.clone();
            too_long = too_long.or(Some(GatewayError::Uncontrolled { engine, adjustments: shaped.adjustments }));
            continue;
        }
        let one = plan_one(registry, candidate, request.format, usage, shaped)?;
        if let Some(error) = over_limit(&one, &text, language) {
            too_long = too_long.or(Some(error));
            continue;
        }
        planned.push(one);
    }
    match (planned.is_empty(), too_long) {
        (true, Some(error)) => Err(error),
        _ => Ok(planned),
    }
}

/// What becomes of what is asked for beyond the text.
fn shape(candidate: &Candidate, request: &SynthesisRequest) -> Shaped {
    match (&candidate.sheet.synthesis, &candidate.voice) {
        (Some(synthesis), Some(voice)) => {
            let make_good = request.unsupported == Unsupported::Adapt;
            request.shaping.with(&synthesis.controls, candidate.model.as_deref(), voice, make_good)
        }
        _ => Shaped::default(),
    }
}

fn plan_one(
    registry: &Registry,
    candidate: Candidate,
    wanted: Format,
    usage: Usage,
    shaped: Shaped,
) -> Result<Planned, GatewayError> {
    let engine = registry.engine(&candidate.sheet.name)?.clone();
    let format = engine
        .speaking_format(wanted)
        .ok_or_else(|| GatewayError::Internal(format!("{} has no format", candidate.sheet.name)))?;
    let estimate = candidate.sheet.tariff.cost(usage, candidate.model.as_deref())?;
    Ok(Planned { candidate, engine, format, usage, estimate, shaped })
}

pub(crate) fn usage_of(text: &str) -> Usage {
    let characters = text.chars().count() as u64;
    Usage { characters, bytes: text.len() as u64, milliseconds: characters * MILLISECONDS_A_CHARACTER }
}

fn over_limit(planned: &Planned, text: &str, language: Option<&str>) -> Option<GatewayError> {
    let limit = &planned.candidate.sheet.synthesis.as_ref()?.limit;
    let over = |limit: Option<u64>, given: u64, unit: &'static str| {
        let limit = limit.filter(|limit| given > *limit)?;
        Some(GatewayError::TooLong { engine: planned.engine_name().to_owned(), given, limit, unit })
    };
    // Some engines count the whole document, its markup included.
    let usage = match limit.tags {
        false => planned.usage,
        true => usage_of(&planned.engine.document(&planned.call(text, language))),
    };
    over(limit.characters, usage.characters, "characters").or_else(|| over(limit.bytes, usage.bytes, "bytes"))
}

impl Gateway {
    /// Warnings about a plan that will work but may disappoint.
    pub(crate) fn warnings(&self, planned: &Planned, language: Option<&str>) -> Vec<String> {
        let mismatch = language.zip(planned.candidate.voice.as_ref()).filter(|(tag, voice)| !voice.speaks(tag));
        let mismatch = mismatch.map(|(tag, voice)| {
            format!("the voice {} speaks {}, and the text is {tag}", voice.name, voice.languages.join(", "))
        });
        let changed = planned.shaped.adjustments.iter().filter_map(dispatcher_core::Adjustment::told);
        mismatch.into_iter().chain(changed).collect()
    }
}
