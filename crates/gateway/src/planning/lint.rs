//! Lint: what each engine would do with a document, with nothing sent and no
//! records at hand.

use dispatcher_core::{Voice, Wanted};
use dispatcher_markup::{Fidelity, MarkupError, Outcome};

use crate::planning::order::Purpose;
use crate::planning::plan::plan_synthesis;
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

/// The registry with a voice for an engine whose sheet names none, since a
/// catalogue lists them: what becomes of markup is the same for each of them.
fn with_any_voice(registry: &Registry, engine: &str, language: Option<&str>) -> Option<Registry> {
    let sheet = registry.sheet(engine)?;
    let synthesis = sheet.synthesis.as_ref()?;
    let named = synthesis.voices.iter().any(|voice| voice.unavailable.is_none());
    if named || sheet.catalogue.is_none() {
        return None;
    }
    let languages = vec![language.unwrap_or("und").to_owned()];
    let voice = Voice { id: "any".into(), name: "any voice".into(), languages, ..Voice::default() };
    let mut with_any = registry.clone();
    with_any.list(engine, vec![voice]);
    Some(with_any)
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
        let with_any = with_any_voice(registry, &engine.sheet().name, language);
        let registry = with_any.as_ref().unwrap_or(registry);
        let sheet = registry.sheet(&engine.sheet().name).unwrap_or_else(|| engine.sheet());
        let Some(synthesis) = &sheet.synthesis else { continue };
        let usable = || synthesis.voices.iter().filter(|voice| voice.unavailable.is_none());
        let speaking = usable().find(|voice| language.is_none_or(|language| voice.speaks(language)));
        let Some(voice) = speaking.or_else(|| usable().next()) else { continue };
        let id = format!("{}/{}", sheet.name, voice.id);
        let plan = plan_synthesis(
            registry,
            &caller,
            request,
            &Wanted::Named(id.clone()),
            (&script, resources),
            Purpose::Estimate,
        );
        let linted = plan.and_then(|plan| {
            let planned = plan.into_iter().next().ok_or_else(|| GatewayError::Contradiction("an empty plan"))?;
            Ok(Lint {
                engine: sheet.name.clone(),
                voice: id,
                speaks: speaking.is_some(),
                calls: planned.render_plan.segments.iter().filter(|segment| segment.sound.is_none()).count(),
                fidelity: planned.fidelity(),
                worst: planned.worst(),
            })
        });
        found.push((sheet.name.clone(), linted));
    }
    Ok(found)
}
