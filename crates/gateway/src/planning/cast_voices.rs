//! The voices of a script beside one candidate: which one fits a wish best, and
//! what the candidate can do of what a script asks for.

use std::cell::RefCell;
use std::sync::Arc;

use dispatcher_core::{Gender, Shaping, Style, Voice};
use dispatcher_markup::{Choices, Lexicon, Treatment, VoiceWish};

use crate::PlannedCall;
use crate::planning::plan::shaped_by;
use crate::planning::render_plan::{Casting, treated};

/// Wishes for voices that a cast remembers.
const REMEMBERED: usize = 64;

/// The choices of one candidate.
pub(super) struct Cast<'a> {
    pub(super) casting: &'a Casting<'a>,
    pub(super) planned: &'a PlannedCall,
    /// The voices of wishes so far: a script repeats the same few.
    pub(super) voices: RefCell<Vec<(VoiceWish, Option<String>)>>,
}

impl Cast<'_> {
    /// The voice that fits a wish best, looked for among all.
    fn best_voice(&self, wish: &VoiceWish) -> Option<String> {
        let planner = self.casting.planner(self.planned);
        let own_engine = self.planned.engine_name();
        let language = self.casting.language;
        let mut found: Vec<(u32, bool, bool, String)> = planner
            .voices()
            .filter(|(sheet, voice)| {
                let here = self.casting.registry.engine(&sheet.name).is_ok_and(|engine| engine.absent().is_none());
                // A wish without a language stays in the language of the text.
                let fits = !wish.languages.is_empty()
                    || !wish.names.is_empty()
                    || language.is_none_or(|language| voice.speaks(language));
                voice.unavailable.is_none() && here && fits
            })
            .filter_map(|(sheet, voice)| {
                let points = meets(wish, &sheet.name, voice)?;
                let own = self.planned.candidate.voice.as_ref().is_some_and(|own| own.id == voice.id);
                let near = sheet.name == own_engine;
                Some((points, near, near && own, format!("{}/{}", sheet.name, voice.id)))
            })
            .collect();
        // Another engine only where this one has no voice at all that meets it.
        if found.iter().any(|(_, near, ..)| *near) {
            found.retain(|(_, near, ..)| *near);
        }
        found.sort_by(|a, b| b.0.cmp(&a.0).then(b.2.cmp(&a.2)).then(a.3.cmp(&b.3)));
        let variant = wish.variant.map_or(0, |variant| variant as usize - 1);
        let best = found.first()?.0;
        let equal: Vec<String> = found.into_iter().filter(|(points, ..)| *points == best).map(|(.., id)| id).collect();
        equal.get(variant).or(equal.first()).cloned()
    }
}

/// How well a voice meets a wish: nothing where it misses what is required.
fn meets(wish: &VoiceWish, engine: &str, voice: &Voice) -> Option<u32> {
    let required = |feature: &str| wish.required.iter().any(|required| required == feature);
    let named = |name: &String| {
        [voice.name.as_str(), voice.id.as_str()].iter().any(|known| known.eq_ignore_ascii_case(name))
            || *name == format!("{engine}/{}", voice.id)
    };
    let language = |(tag, _): &(String, Option<String>)| voice.speaks(tag);
    let exact = |(tag, _): &(String, Option<String>)| voice.languages.iter().any(|has| has.eq_ignore_ascii_case(tag));
    let gender = voice.gender.map(Gender::name);
    let checks = [
        ("name", !wish.names.is_empty(), wish.names.iter().any(named), 16),
        ("languages", !wish.languages.is_empty(), wish.languages.iter().any(language), 8),
        ("gender", wish.gender.is_some(), gender == wish.gender.as_deref(), 4),
        ("age", wish.age.is_some(), wish.age.zip(voice.age).is_some_and(|(a, b)| a.abs_diff(b.into()) <= 10), 1),
    ];
    let mut points = 0;
    for (feature, asked, met, weight) in checks {
        match (asked, met) {
            (true, false) if required(feature) => return None,
            (true, true) => points += weight,
            _ => {}
        }
    }
    // Nothing that is asked for is met: the voice that speaks may as well stay.
    let asked = checks.iter().any(|(_, asked, ..)| *asked);
    if asked && points == 0 {
        return None;
    }
    Some(points + 2 * u32::from(wish.languages.iter().any(exact)))
}

impl Choices for Cast<'_> {
    fn voice(&self, wish: &VoiceWish) -> Option<String> {
        if let Some((_, voice)) = self.voices.borrow().iter().find(|(known, _)| known == wish) {
            return voice.clone();
        }
        let voice = self.best_voice(wish);
        let mut voices = self.voices.borrow_mut();
        if voices.len() >= REMEMBERED {
            voices.clear();
        }
        voices.push((wish.clone(), voice.clone()));
        voice
    }

    fn speaks(&self, voice: Option<&str>, language: &str) -> bool {
        let own = self.planned.candidate.voice.as_ref();
        let planner = self.casting.planner(self.planned);
        match voice {
            None => own.is_none_or(|voice| voice.speaks(language)),
            Some(id) => planner
                .voices()
                .any(|(sheet, voice)| format!("{}/{}", sheet.name, voice.id) == id && voice.speaks(language)),
        }
    }

    fn sound(&self, src: &str) -> bool {
        self.casting.resources.sound(src).is_some()
    }

    fn lexicon(&self, uri: &str) -> Option<Arc<Lexicon>> {
        self.casting.resources.lexicon(uri)
    }

    fn lexicons(&self) -> Vec<(String, Arc<Lexicon>)> {
        self.casting.resources.always()
    }

    fn controls(&self, treatment: &Treatment) -> bool {
        let wishes = treated(&self.casting.request.shaping, treatment);
        shaped_by(&self.planned.candidate, self.casting.request, &wishes).emulated.is_nothing()
    }

    fn style(&self, emotion: &str) -> Option<String> {
        let style = self.planned.candidate.sheet.synthesis.as_ref()?.controls.style.as_ref()?;
        let said = style.emotions.get(emotion)?;
        let wishes = Shaping { style: Some(Style { name: said.clone(), strength: None }), ..Shaping::default() };
        let shaped = shaped_by(&self.planned.candidate, self.casting.request, &wishes);
        shaped.style.map(|style| style.name)
    }
}
