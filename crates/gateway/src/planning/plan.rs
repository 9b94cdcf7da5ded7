//! Plan: a script and a wish become ordered candidates with their estimates.

use std::borrow::Cow;
use std::sync::Arc;

use dispatcher_audio::Format;
use dispatcher_core::{Candidate, Criteria, Done, Money, Planner, Shaped, Shaping, Usage, Wanted};
use dispatcher_engines::{Engine, EngineFormat, Speak};
use dispatcher_markup::{Fidelity, Outcome, Policy, Script, evident};
use dispatcher_vault::Parts;
use serde::{Deserialize, Serialize};

use crate::planning::order::Purpose;
use crate::planning::render_plan::{Casting, RenderPlan, SentenceCalls};
use crate::{Caller, Gateway, GatewayError, Registry, Resources, SynthesisRequest};

/// What to do with what an engine cannot.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Unsupported {
    Refuse,
    #[default]
    Adapt,
    Omit,
}

impl Unsupported {
    /// What is done with a request that is not refused.
    pub(crate) fn policy(self) -> Policy {
        if self == Unsupported::Adapt { Policy::Adapt } else { Policy::Omit }
    }
}

/// Milliseconds of speech that a character takes at the most; for tariffs by
/// time, where the length is not known before.
const MILLISECONDS_A_CHARACTER: u64 = 120;

/// A candidate with all that its attempt needs.
#[derive(Clone)]
pub struct PlannedCall {
    pub candidate: Candidate,
    pub engine: Arc<Engine>,
    pub format: EngineFormat,
    /// What the script uses with this engine; audio is a guess at its top.
    pub usage: Usage,
    /// The top of what it may cost.
    pub estimate: Money,
    /// What becomes of what was asked for beyond the text.
    pub shaped: Shaped,
    /// The script as this candidate performs it.
    pub render_plan: Arc<RenderPlan>,
}

/// What language a text is in.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum TextLanguage<'a> {
    /// As its request or document says.
    Declared(&'a str),
    /// As its letters show beyond doubt.
    Evident(&'static str),
    Unknown,
}

impl<'a> TextLanguage<'a> {
    /// As it was declared, and not found out.
    pub(crate) fn declared(self) -> Option<&'a str> {
        match self {
            TextLanguage::Declared(tag) => Some(tag),
            TextLanguage::Evident(_) | TextLanguage::Unknown => None,
        }
    }

    /// Finding out takes a tenth of a millisecond and more.
    pub(crate) fn of(declared: Option<&'a str>, text: &str) -> Self {
        match declared {
            Some(tag) => TextLanguage::Declared(tag),
            None => evident(text).map_or(TextLanguage::Unknown, TextLanguage::Evident),
        }
    }
}

impl PlannedCall {
    /// The voice as `engine/voice`.
    pub fn voice_id(&self) -> Option<String> {
        self.candidate.voice.as_ref().map(|voice| format!("{}/{}", self.candidate.sheet.name, voice.id))
    }

    /// What becomes of each element of the script and each wish beside it.
    pub fn fidelity(&self) -> Vec<Fidelity> {
        let wish = |it: &dispatcher_core::Adjustment| {
            let outcome = match it.done {
                Done::Native => Outcome::Native,
                Done::Rewritten => Outcome::Rewritten,
                Done::Emulated => Outcome::Emulated,
                Done::Omitted => Outcome::Omitted,
            };
            let entry = Fidelity::of_member(it.control, outcome);
            if it.note.is_empty() { entry } else { entry.with_note(it.note.as_str()) }
        };
        self.render_plan.fidelity.iter().cloned().chain(self.shaped.adjustments.iter().map(wish)).collect()
    }

    /// The worst of it.
    pub fn worst(&self) -> Outcome {
        self.fidelity().iter().map(|item| item.outcome).max().unwrap_or(Outcome::Native)
    }

    /// The call of the engine that a text becomes.
    pub(crate) fn call(&self, text: &str, language: Option<&str>) -> Speak {
        Speak {
            text: text.to_owned(),
            markup: None,
            voice: self.candidate.voice.clone().unwrap_or_default(),
            model: self.candidate.model.clone(),
            language: language.map(str::to_owned),
            format: self.format.clone(),
            shaped: self.shaped.clone(),
        }
    }

    /// The parts of its credential, for the region in which it is called.
    pub(crate) fn parts_in_region<'p>(&self, parts: &'p Parts) -> Cow<'p, Parts> {
        match self.candidate.region().zip(self.candidate.sheet.regions.as_ref()) {
            None => Cow::Borrowed(parts),
            Some((region, regions)) => {
                let mut parts = parts.clone();
                parts.insert(regions.part.clone(), region.to_owned().into());
                Cow::Owned(parts)
            }
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

/// Bytes of a text from which on fewer candidates are planned, each of which
/// holds the text in its own form.
const LONG: usize = 64 << 10;
const FEW: usize = 3;

/// The candidates for a script, the best first.
///
/// # Errors
/// When nobody can speak it as it is asked for.
pub(crate) fn plan_synthesis(
    registry: &Registry,
    caller: &Caller,
    request: &SynthesisRequest,
    wanted: &Wanted,
    (script, resources): (&Script<'_>, &Resources),
    purpose: Purpose,
) -> Result<Vec<PlannedCall>, GatewayError> {
    let planning = Planning { registry, caller, request, script, resources, granted: caller.granted() };
    if let Some(region) = &request.region {
        planning.with_planner(|planner| planner.check_region(region))?;
    }
    let candidates =
        planning.with_planner(|planner| planner.synthesis(wanted, request.model.as_deref(), planning.language()))?;
    // Another engine can only go on in the middle where there is another.
    let others = candidates.len() > 1 && purpose != Purpose::Job;
    let calls = match others && request.text.source().len() <= LONG {
        true => SentenceCalls::Apart,
        false => SentenceCalls::Together,
    };
    let mut planned = Vec::new();
    let mut unfit = None;
    let most = if request.text.source().len() > LONG { FEW } else { usize::MAX };
    for candidate in candidates {
        if planned.len() >= most {
            break;
        }
        match planning.call_of(candidate, calls) {
            Ok(one) => planned.push(one),
            Err(error) => unfit = unfit.or(Some(error)),
        }
    }
    match (planned.is_empty(), unfit) {
        (true, Some(error)) => Err(error),
        _ => Ok(planned),
    }
}

/// All that a synthesis is planned with.
pub(crate) struct Planning<'a> {
    pub(crate) registry: &'a Registry,
    pub(crate) caller: &'a Caller,
    pub(crate) request: &'a SynthesisRequest,
    pub(crate) script: &'a Script<'a>,
    pub(crate) resources: &'a Resources,
    /// As of the caller.
    pub(crate) granted: Option<Vec<String>>,
}

impl Planning<'_> {
    /// Of the text.
    pub(crate) fn language(&self) -> Option<&str> {
        self.request.language.as_deref().or(self.script.language.as_deref())
    }

    /// Asks what planning looks at, as the caller and the request have it.
    pub(crate) fn with_planner<T>(&self, ask: impl FnOnce(Planner<'_>) -> T) -> T {
        let media_type = self.request.format.media_type();
        let essence = media_type.split(';').next().unwrap_or_default();
        let names = [self.request.format.codec.extension(), essence];
        let bounds = self.caller.bounds().in_region(self.request.region.as_deref());
        let planner = self.registry.planner(self.granted.as_deref()).within(bounds);
        ask(planner.under(self.caller.circumstances(&names)))
    }

    /// What a candidate makes of the script.
    ///
    /// # Errors
    /// When it cannot do what is asked for.
    pub(crate) fn call_of(&self, mut candidate: Candidate, calls: SentenceCalls) -> Result<PlannedCall, GatewayError> {
        let Planning { registry, request, script, resources, .. } = *self;
        candidate.deadline = request.deadline.or(candidate.deadline);
        if request.credential.is_some() {
            candidate.credential.clone_from(&request.credential);
        }
        let shaped = shape(&candidate, request);
        if request.unsupported == Unsupported::Refuse && shaped.adjustments.iter().any(|it| it.done != Done::Native) {
            let engine = candidate.sheet.name.clone();
            return Err(GatewayError::Uncontrolled { engine, adjustments: shaped.adjustments });
        }
        let bare = plan_one(registry, candidate, request.format, shaped)?;
        let casting = Casting {
            registry,
            request,
            granted: self.granted.as_deref(),
            language: self.language(),
            resources,
            calls,
            day: crate::clock::today(),
        };
        casting.perform(bare, script)
    }
}

/// What becomes of what is asked for beyond the text.
pub(crate) fn shape(candidate: &Candidate, request: &SynthesisRequest) -> Shaped {
    shaped_by(candidate, request, &request.shaping)
}

/// The same for wishes of a part of the script.
pub(crate) fn shaped_by(candidate: &Candidate, request: &SynthesisRequest, wishes: &Shaping) -> Shaped {
    match (&candidate.sheet.synthesis, &candidate.voice) {
        (Some(synthesis), Some(voice)) => {
            wishes.with(&synthesis.controls, candidate.model.as_deref(), voice, request.unsupported.policy())
        }
        _ => Shaped::default(),
    }
}

/// A candidate without its render plan.
pub(crate) fn plan_one(
    registry: &Registry,
    candidate: Candidate,
    wanted: Format,
    shaped: Shaped,
) -> Result<PlannedCall, GatewayError> {
    let engine = registry.engine(&candidate.sheet.name)?.clone();
    let format =
        engine.speaking_format(wanted).ok_or_else(|| GatewayError::NoEngineFormat(candidate.sheet.name.clone()))?;
    let estimate = Money::zero(candidate.tariff().currency);
    let (usage, render_plan) = (Usage::default(), Arc::default());
    Ok(PlannedCall { candidate, engine, format, usage, estimate, shaped, render_plan })
}

pub(crate) fn usage_of(text: &str) -> Usage {
    let characters = text.chars().count() as u64;
    Usage { characters, bytes: text.len() as u64, milliseconds: characters * MILLISECONDS_A_CHARACTER }
}

impl Gateway {
    /// The candidates for a script in the order in which to try them; a long
    /// one is planned in its turn.
    ///
    /// # Errors
    /// As [`plan_synthesis`].
    pub(crate) async fn plan_speech(
        &self,
        caller: &Caller,
        request: &SynthesisRequest,
        wish: &Wanted,
        (script, resources): (&Script<'_>, &Resources),
        purpose: Purpose,
    ) -> Result<Vec<PlannedCall>, GatewayError> {
        let registry = self.registry();
        let length = request.text.source().len();
        let plan = || plan_synthesis(&registry, caller, request, wish, (script, resources), purpose);
        let mut plan = self.inner.texts.unhurried(length, plan).await?;
        if let Wanted::Named(name) = wish {
            self.arrange(name, purpose, &mut plan, |planned| planned);
        }
        Ok(plan)
    }

    /// Warnings about a plan that will work but may disappoint.
    pub(crate) fn warnings(&self, planned: &PlannedCall, language: TextLanguage<'_>) -> Vec<String> {
        let told = match language {
            TextLanguage::Declared(tag) => Some((tag, "is")),
            TextLanguage::Evident(tag) => Some((tag, "appears to be")),
            TextLanguage::Unknown => None,
        };
        let mismatch = told.zip(planned.candidate.voice.as_ref());
        let mismatch = mismatch.filter(|((tag, _), voice)| !voice.speaks(tag)).map(|((tag, is), voice)| {
            format!("the voice {} speaks {}, and the text {is} {tag}", voice.name, voice.languages.join(", "))
        });
        let in_place_of = planned.candidate.in_place_of.as_ref().zip(planned.voice_id());
        let replaced = in_place_of
            .map(|(missing, voice)| format!("the voice {missing} is not available; {voice} speaks in its place"));
        let changed = planned.shaped.adjustments.iter().filter_map(dispatcher_core::Adjustment::told);
        replaced.into_iter().chain(mismatch).chain(changed).collect()
    }
}
