//! Lint: what each engine would do with a document, with nothing sent and no
//! records at hand.

use dispatcher_core::Wanted;
use dispatcher_markup::{Fidelity, MarkupError, Outcome};

use crate::plan::plan_synthesis;
use crate::{Caller, GatewayError, Registry, Resources, SynthesisRequest};

/// What one engine would do.
pub struct Lint {
    pub engine: String,
    /// The voice that it was asked with, as `engine/voice`.
    pub voice: String,
    /// Whether the voice speaks the language of the document.
    pub speaks: bool,
    /// How many calls of engines it takes.
    pub calls: usize,
    pub fidelity: Vec<Fidelity>,
    pub worst: Outcome,
}

/// An engine, and what it would do or why it would refuse.
pub type Column = (String, Result<Lint, GatewayError>);

/// What each engine that speaks would do with a request; of those with a
/// voice, the first that speaks the document's language is asked.
///
/// # Errors
/// What is wrong with the document, at its place.
pub fn lint(
    registry: &Registry,
    request: &SynthesisRequest,
    resources: &Resources,
) -> Result<Vec<Column>, MarkupError> {
    let script = request.text.parse()?;
    let language = request.language.as_deref().or(script.language.as_deref());
    let caller = Caller::nobody();
    let mut found = Vec::new();
    for engine in registry.engines() {
        let sheet = registry.sheet(&engine.sheet().name).unwrap_or_else(|| engine.sheet());
        let Some(synthesis) = &sheet.synthesis else { continue };
        let usable = || synthesis.voices.iter().filter(|voice| voice.unavailable.is_none());
        let speaking = usable().find(|voice| language.is_none_or(|language| voice.speaks(language)));
        let Some(voice) = speaking.or_else(|| usable().next()) else { continue };
        let id = format!("{}/{}", sheet.name, voice.id);
        let plan = plan_synthesis(registry, &caller, request, &Wanted::Named(id.clone()), &script, resources);
        let linted = plan.and_then(|plan| {
            let planned = plan.into_iter().next().ok_or_else(|| GatewayError::Internal("an empty plan".into()))?;
            Ok(Lint {
                engine: sheet.name.clone(),
                voice: id,
                speaks: speaking.is_some(),
                calls: planned.score.parts.iter().filter(|part| part.sound.is_none()).count(),
                fidelity: planned.fidelity(),
                worst: planned.worst(),
            })
        });
        found.push((sheet.name.clone(), linted));
    }
    Ok(found)
}
