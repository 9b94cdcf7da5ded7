//! From what a request wants to the ordered candidates that can give it.

mod error;

use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::Duration;

use serde::{Deserialize, Serialize};

pub use error::{LegFault, PlanError};

use crate::{
    Bounds, CallPrice, Circumstances, Criteria, Leg, MoneyError, Origin, PriceTerms, Route, Sheet, Tariff, Usage,
    Voice, VoiceId, Work, nearest, nearest_by,
};

/// What a request asks for.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Wanted {
    /// A route, a voice id `engine/voice`, or (recognition) an engine.
    Named(String),
    /// Any voice that is so.
    Like(Criteria),
}

/// One engine that could do the work, with all that is chosen for it.
#[derive(Debug, Clone)]
pub struct Candidate {
    /// The sheet of its engine.
    pub sheet: Arc<Sheet>,
    /// Set for synthesis.
    pub voice: Option<Voice>,
    /// The model; `None` if the engine has none to choose from.
    pub model: Option<String>,
    /// What it is to do.
    pub work: Work,
    /// Milliseconds until the first audio or the transcript of ordinary work,
    /// where a route or the request says so; else as the sheet has it.
    pub deadline: Option<u64>,
    /// The credential that a route or the request names.
    pub credential: Option<String>,
    /// Where other engines may be called beside it, for the voices of a script.
    pub bounds: Bounds,
    /// Its place among the legs of a route, from 0.
    pub leg: Option<usize>,
    /// The voice that a route names and that is not there; this one is like it.
    pub in_place_of: Option<String>,
}

impl Candidate {
    /// The region in which its engine is called; where nothing is given, the one of the credential.
    pub fn region(&self) -> Option<&str> {
        self.bounds.region().filter(|region| self.sheet.has_region(region))
    }

    /// How its work is charged.
    pub fn tariff(&self) -> &Tariff {
        self.sheet.tariff_of(self.work)
    }

    /// How a call of it is charged on a day (`YYYY-MM-DD` in UTC), after what was used
    /// in its month.
    ///
    /// # Errors
    /// When the tariff was not checked.
    pub fn price(&self, day: &str, used: Usage) -> Result<CallPrice, MoneyError> {
        self.price_in(None, day, used)
    }

    /// The same with the region of its credential, which counts where no other
    /// region is chosen.
    ///
    /// # Errors
    /// When the tariff was not checked.
    pub fn price_in(&self, of_credential: Option<&str>, day: &str, used: Usage) -> Result<CallPrice, MoneyError> {
        let class = self.voice.as_ref().and_then(|voice| voice.class.as_deref());
        let region = self.region().or(of_credential);
        self.tariff().of_call(PriceTerms { model: self.model.as_deref(), class, region, day, used })
    }

    /// Whether its cost is known to the last digit before it is called: it is
    /// charged by the text, and no factor of an unknown region applies.
    pub fn has_exact_price(&self) -> bool {
        self.tariff().charges_text() && (self.tariff().regions.is_empty() || self.region().is_some())
    }

    /// How long its first audio, or its transcript, is waited for.
    pub fn first_deadline(&self, usage: Usage) -> Duration {
        let set = self.deadline.map(Duration::from_millis);
        self.sheet.deadline_of(self.work).first(self.work, usage, set)
    }

    /// How long a pause of its audio may be.
    pub fn silence(&self) -> Duration {
        self.sheet.deadline_of(self.work).silence()
    }

    /// How long the rest of its audio is waited for in all.
    pub fn whole_deadline(&self, usage: Usage) -> Duration {
        self.sheet.deadline_of(self.work).whole(usage)
    }
}

/// Everything that planning looks at.
#[derive(Debug, Clone)]
pub struct Planner<'a> {
    /// The sheets in force, by engine.
    pub sheets: &'a BTreeMap<String, Arc<Sheet>>,
    /// The routes in force, by name.
    pub routes: &'a BTreeMap<String, Route>,
    /// The voices made for the account that may be used, as `engine/voice`;
    /// all of them where this is missing.
    pub granted: Option<&'a [String]>,
    /// Where engines may be called.
    pub bounds: Bounds,
    /// What else conditions of legs may ask for.
    pub circumstances: Circumstances<'a>,
}

impl<'a> Planner<'a> {
    /// A planner without bounds, for a request of which nothing is known.
    pub fn new(sheets: &'a BTreeMap<String, Arc<Sheet>>, routes: &'a BTreeMap<String, Route>) -> Planner<'a> {
        let (bounds, circumstances) = (Bounds::default(), Circumstances::default());
        Planner { sheets, routes, granted: None, bounds, circumstances }
    }

    /// A planner for the same within other bounds, in place of these.
    #[must_use]
    pub fn within(self, bounds: Bounds) -> Planner<'a> {
        Planner { bounds, ..self }
    }

    /// The same for a request in other circumstances.
    #[must_use]
    pub fn under(self, circumstances: Circumstances<'a>) -> Planner<'a> {
        Planner { circumstances, ..self }
    }

    /// Refuses a region that no engine has.
    ///
    /// # Errors
    /// With the nearest regions that there are.
    pub fn check_region(&self, region: &str) -> Result<(), PlanError> {
        let known = || self.sheets.values().flat_map(|sheet| sheet.region_names()).map(String::as_str);
        if known().any(|name| name == region) {
            return Ok(());
        }
        Err(PlanError::NoSuchRegion { wanted: region.to_owned(), nearest: nearest(region, known(), 3) })
    }

    /// The sheet of an engine that may be called.
    fn sheet(&self, engine: &str) -> Option<&'a Arc<Sheet>> {
        self.sheets.get(engine).filter(|sheet| self.bounds.hold(sheet))
    }

    /// The candidates for a synthesis, in the order in which to try them.
    ///
    /// # Errors
    /// When nothing could do it; the nearest names are in the error.
    pub fn synthesis(
        &self,
        wanted: &Wanted,
        model: Option<&str>,
        language: Option<&str>,
    ) -> Result<Vec<Candidate>, PlanError> {
        match wanted {
            Wanted::Like(criteria) => self.by_criteria(criteria, model),
            Wanted::Named(name) => match name.parse::<VoiceId>() {
                Ok(id) => Ok(vec![self.by_voice(&id, name, model)?]),
                Err(()) => self.by_route(name, Work::Synthesis, model, language),
            },
        }
    }

    /// The candidates for a recognition. `wanted` names a route or an engine.
    ///
    /// # Errors
    /// When nothing could do it; the nearest names are in the error.
    pub fn recognition(
        &self,
        wanted: &str,
        model: Option<&str>,
        language: Option<&str>,
    ) -> Result<Vec<Candidate>, PlanError> {
        if self.routes.contains_key(wanted) {
            return self.by_route(wanted, Work::Recognition, model, language);
        }
        match self.sheet(wanted).filter(|sheet| sheet.recognition.is_some()) {
            Some(sheet) => Ok(vec![self.candidate(sheet, None, model, Work::Recognition, None)?]),
            None if self.sheets.get(wanted).is_some_and(|sheet| sheet.recognition.is_some()) => {
                Err(PlanError::OutOfBounds { wanted: wanted.into() })
            }
            None => {
                let engines = self.sheets.values().filter(|s| s.recognition.is_some()).map(|s| s.name.as_str());
                let routes = self.routes.values().filter(|r| r.work == Work::Recognition).map(|r| r.name.as_str());
                let nearest = nearest(wanted, engines.chain(routes), 3);
                Err(PlanError::NoSuchEngine { wanted: wanted.into(), nearest })
            }
        }
    }

    /// Every voice, with its engine.
    pub fn voices(&self) -> impl Iterator<Item = (&Arc<Sheet>, &Voice)> {
        let here = self.sheets.values().filter(|sheet| self.bounds.hold(sheet));
        here.flat_map(move |sheet| {
            let voices = sheet.synthesis.iter().flat_map(|synthesis| &synthesis.voices);
            voices.filter(|voice| self.open(sheet, voice)).map(move |voice| (sheet, voice))
        })
    }

    /// Whether a voice may be used at all.
    fn open(&self, sheet: &Sheet, voice: &Voice) -> bool {
        let granted = |granted: &[String]| granted.contains(&format!("{}/{}", sheet.name, voice.id));
        let made_for_all = voice.origin == Origin::Stock || self.granted.is_none_or(granted);
        made_for_all && self.bounds.hold_voice(&sheet.name, &voice.id)
    }

    fn by_voice(&self, id: &VoiceId, name: &str, model: Option<&str>) -> Result<Candidate, PlanError> {
        let sheet = self.sheet(&id.engine);
        let voices = sheet.into_iter().flat_map(|sheet| sheet.synthesis.iter().map(move |it| (sheet, it)));
        let mut found = voices.flat_map(|(sheet, it)| it.voices.iter().map(move |voice| (sheet, voice)));
        match found.find(|(sheet, voice)| voice.id == id.voice && self.open(sheet, voice)) {
            Some((_, Voice { unavailable: Some(why), .. })) => {
                Err(PlanError::Unavailable { voice: name.into(), why: why.clone() })
            }
            Some((sheet, voice)) => self.candidate(sheet, Some(voice), model, Work::Synthesis, None),
            None if self.bounds != Bounds::default() => {
                // Whether it would be there without them.
                match self.clone().within(Bounds::default()).by_voice(id, name, None) {
                    Err(PlanError::NoSuchVoice { .. }) => Err(self.no_such_voice(name)),
                    _ => Err(PlanError::OutOfBounds { wanted: name.into() }),
                }
            }
            None => Err(self.no_such_voice(name)),
        }
    }

    fn no_such_voice(&self, wanted: &str) -> PlanError {
        let known =
            |(sheet, voice): (&Arc<Sheet>, &Voice)| (format!("{}/{}", sheet.name, voice.id), voice.name.clone());
        let voices: Vec<(String, String)> = self.voices().map(known).collect();
        let voices = voices.iter().map(|(id, name)| (id.as_str(), Some(name.as_str())));
        let routes = self.routes.values().filter(|r| r.work == Work::Synthesis).map(|r| (r.name.as_str(), None));
        let nearest = nearest_by(wanted, voices.chain(routes), 3);
        PlanError::NoSuchVoice { wanted: wanted.into(), nearest }
    }

    fn by_criteria(&self, criteria: &Criteria, model: Option<&str>) -> Result<Vec<Candidate>, PlanError> {
        let here = self.clone().within(self.bounds.clone().at(criteria.site));
        let mut ranked: Vec<_> = here
            .voices()
            .filter(|(_, voice)| voice.unavailable.is_none())
            .filter(|(sheet, voice)| model.is_none_or(|model| takes_model(sheet, voice, model)))
            .filter_map(|(sheet, voice)| Some((criteria.rank(voice)?, sheet, voice)))
            .collect();
        ranked.sort_by_key(|(rank, ..)| *rank);
        if ranked.is_empty() {
            return Err(PlanError::NoVoiceFits { nearest: here.near_misses(criteria) });
        }
        // One voice of each engine: another of the same would fail alike.
        let mut engines = Vec::new();
        ranked.retain(|(_, sheet, _)| {
            let new = !engines.contains(&sheet.name);
            engines.push(sheet.name.clone());
            new
        });
        ranked
            .into_iter()
            .map(|(_, sheet, voice)| here.candidate(sheet, Some(voice), model, Work::Synthesis, None))
            .collect()
    }

    /// Voices that would fit by their language alone, or by their name.
    fn near_misses(&self, criteria: &Criteria) -> Vec<String> {
        let wider = [
            Criteria { languages: criteria.languages.clone(), gender: criteria.gender, ..Criteria::default() },
            Criteria { languages: criteria.languages.clone(), ..Criteria::default() },
        ];
        let id = |sheet: &Sheet, voice: &Voice| format!("{}/{}", sheet.name, voice.id);
        for wider in wider.iter().filter(|_| criteria.languages.is_some()) {
            let mut fitting: Vec<(usize, String)> = self
                .voices()
                .filter(|(_, voice)| voice.unavailable.is_none())
                .filter_map(|(sheet, voice)| Some((wider.rank(voice)?, id(sheet, voice))))
                .collect();
            fitting.sort();
            if !fitting.is_empty() {
                return fitting.into_iter().take(3).map(|(_, id)| id).collect();
            }
        }
        let Some(name) = &criteria.name else { return Vec::new() };
        match self.no_such_voice(name) {
            PlanError::NoSuchVoice { nearest, .. } => nearest,
            _ => Vec::new(),
        }
    }

    fn by_route(
        &self,
        name: &str,
        work: Work,
        model: Option<&str>,
        language: Option<&str>,
    ) -> Result<Vec<Candidate>, PlanError> {
        let route = self.routes.get(name).ok_or_else(|| self.no_such_voice(name))?;
        if route.work != work {
            return Err(PlanError::OtherWork { route: name.into(), has: route.work, wanted: work });
        }
        let mut candidates = Vec::new();
        let (mut unfit, mut unmet) = (None, None);
        for (index, planned) in self.legs(route, model, language).into_iter().enumerate() {
            match planned {
                Ok(candidate) => candidates.push(candidate),
                Err(LegFault::Unfit(fault)) => unfit = unfit.or(Some(fault)),
                Err(LegFault::Unmet(fault)) => unmet = unmet.or(Some((index + 1, fault))),
            }
        }
        match (candidates.is_empty(), unfit, unmet) {
            (true, Some(fault), _) => Err(fault),
            (true, None, Some((leg, unmet))) => Err(PlanError::NoLeg { route: name.into(), leg, unmet }),
            _ => Ok(candidates),
        }
    }

    /// Result of each leg of a route, in the order of the list.
    pub fn legs(&self, route: &Route, model: Option<&str>, language: Option<&str>) -> Vec<Result<Candidate, LegFault>> {
        let planned = |(index, leg): (usize, &Leg)| {
            leg.conditions.check(language, self.circumstances)?;
            let bounds = self.bounds.clone().at(leg.conditions.site).at(leg.criteria.site);
            let bounds = bounds.in_region(leg.conditions.region.as_deref());
            // An engine that is not there at all is another fault.
            if self.sheets.get(&leg.engine).is_some_and(|sheet| !bounds.hold(sheet)) {
                return Err(PlanError::OutOfBounds { wanted: route.name.clone() }.into());
            }
            let candidate = self.clone().within(bounds).by_leg(leg, route.work, model, language)?;
            Ok(Candidate { leg: Some(index), ..candidate })
        };
        route.legs.iter().enumerate().map(planned).collect()
    }

    fn by_leg(
        &self,
        leg: &Leg,
        work: Work,
        model: Option<&str>,
        language: Option<&str>,
    ) -> Result<Candidate, PlanError> {
        let missing = || PlanError::NoSuchEngine { wanted: leg.engine.clone(), nearest: Vec::new() };
        let sheet = self.sheet(&leg.engine).ok_or_else(missing)?;
        // A model is a wish of the request; a leg that lacks it keeps its own.
        let model = model.filter(|model| sheet.model_names(work).contains(model)).or(leg.model.as_deref());
        if work == Work::Recognition {
            sheet.recognition.as_ref().ok_or_else(missing)?;
            let found = self.candidate(sheet, None, model, work, leg.deadline)?;
            return Ok(Candidate { credential: leg.credential.clone(), ..found });
        }
        let voices = &sheet.synthesis.as_ref().ok_or_else(missing)?.voices;
        let able = || voices.iter().filter(|v| v.unavailable.is_none() && self.open(sheet, v));
        let best = |criteria: &Criteria| {
            able().filter_map(|v| Some((criteria.rank(v)?, v))).min_by_key(|(rank, _)| *rank).map(|(_, v)| v)
        };
        let named = leg.voice.as_ref().and_then(|id| voices.iter().find(|voice| voice.id == *id));
        let (voice, missed) = match (&leg.voice, named) {
            (Some(_), Some(voice)) if voice.unavailable.is_none() => (Some(voice), None),
            (Some(id), known) => (likenesses(leg, known, language).iter().find_map(best), Some(id)),
            (None, _) => {
                let languages = language.map(str::to_owned).or_else(|| leg.criteria.languages.clone());
                (best(&Criteria { languages, ..leg.criteria.clone() }), None)
            }
        };
        match voice {
            Some(voice) => {
                let found = self.candidate(sheet, Some(voice), model, work, leg.deadline)?;
                let in_place_of = missed.map(|id| format!("{}/{id}", leg.engine));
                Ok(Candidate { credential: leg.credential.clone(), in_place_of, ..found })
            }
            None => Err(PlanError::NoVoiceFits { nearest: Vec::new() }),
        }
    }

    fn candidate(
        &self,
        sheet: &Arc<Sheet>,
        voice: Option<&Voice>,
        model: Option<&str>,
        work: Work,
        deadline: Option<u64>,
    ) -> Result<Candidate, PlanError> {
        let models = sheet.model_names(work);
        let own = voice
            .filter(|voice| !voice.models.is_empty())
            .map(|voice| voice.models.iter().map(String::as_str).collect());
        let allowed: Vec<&str> = own.unwrap_or_else(|| models.clone());
        if let Some(model) = model.filter(|model| !allowed.contains(model)) {
            return Err(PlanError::NoSuchModel {
                engine: sheet.name.clone(),
                model: model.into(),
                models: allowed.into_iter().map(str::to_owned).collect(),
            });
        }
        // The first model is the engine's ordinary one.
        let model = model.or(allowed.first().copied()).map(str::to_owned);
        Ok(Candidate {
            sheet: sheet.clone(),
            voice: voice.cloned(),
            model,
            work,
            deadline,
            credential: None,
            bounds: self.bounds.clone(),
            leg: None,
            in_place_of: None,
        })
    }
}

/// What a voice must be like to speak in place of one that a leg names: the
/// same language and gender, with the style if there is one, then without.
/// `None` if it is not known what the missing one was like.
fn likenesses(leg: &Leg, missing: Option<&Voice>, language: Option<&str>) -> Vec<Criteria> {
    let own = |voice: &Voice| {
        let spoken = language.filter(|tag| voice.speaks(tag)).map(str::to_owned);
        Criteria {
            languages: spoken.or_else(|| voice.languages.first().cloned()),
            gender: voice.gender,
            style: voice.styles.first().cloned(),
            ..Criteria::default()
        }
    };
    let like = match missing {
        _ if !leg.criteria.is_empty() => leg.criteria.clone(),
        Some(voice) => own(voice),
        None => return Vec::new(),
    };
    let without_style = Criteria { style: None, ..like.clone() };
    vec![like, without_style]
}

fn takes_model(sheet: &Sheet, voice: &Voice, model: &str) -> bool {
    sheet.model_names(Work::Synthesis).contains(&model)
        && (voice.models.is_empty() || voice.models.iter().any(|has| has == model))
}

#[cfg(test)]
mod tests;
