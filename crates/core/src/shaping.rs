//! What a request asks of the speech beyond its text, and what becomes of it
//! with an engine: taken by it, made good by the gateway, or left out.

use dispatcher_markup::Policy;
use serde::{Deserialize, Serialize};

use crate::sheet::takes;
use crate::{CountControl, HearingControls, RangeControl, SpeakingControls, StyleControl, TextControl, Voice};

/// A manner of speaking, and how much of it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Style {
    /// The name of the style, as the engine or the request has it.
    pub name: String,
    /// 0 to 1.
    pub strength: Option<f64>,
}

/// What is asked for. Nothing is asked for by default.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
pub struct Shaping {
    /// Factor of the ordinary speed, 0.25 to 4.
    pub rate: Option<f64>,
    /// Semitones, -12 to 12.
    pub pitch: Option<f64>,
    /// Decibels, -40 to 12.
    pub volume: Option<f64>,
    /// A manner of speaking.
    pub style: Option<Style>,
    /// Words about how to speak.
    pub direction: Option<String>,
    /// 0 to 1.
    pub variation: Option<f64>,
    /// The same number gives the same audio, where the engine can.
    pub seed: Option<u64>,
}

/// What the gateway does in its own audio code.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Emulation {
    /// Factor of the speed.
    pub rate: f64,
    /// Semitones.
    pub pitch: f64,
    /// Decibels.
    pub volume: f64,
}

impl Emulation {
    /// Whether the audio stays as the engine made it.
    pub fn is_nothing(&self) -> bool {
        *self == Emulation::default()
    }
}

/// How far tempo is changed here.
const LEAST_TEMPO: f64 = 0.5;
const MOST_TEMPO: f64 = 2.0;

impl Default for Emulation {
    fn default() -> Self {
        Emulation { rate: 1.0, pitch: 0.0, volume: 0.0 }
    }
}

/// What was done with one wish.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Done {
    /// The engine does it as it was asked for.
    Native,
    /// The nearest that the engine takes.
    Rewritten,
    /// Done in the gateway's own audio code.
    Emulated,
    /// It is left out.
    Omitted,
}

/// One wish, what was done with it, and what would have worked.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Adjustment {
    /// The control, as requests name it.
    pub control: &'static str,
    /// What was done.
    pub done: Done,
    /// For people; empty where the wish was carried out as it was.
    pub note: String,
}

/// Wishes as one engine gets them.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Shaped {
    /// What templates see; a control's neutral value where nothing was asked.
    pub rate: Option<f64>,
    /// Semitones, as the engine takes them.
    pub pitch: Option<f64>,
    /// Decibels, as the engine takes them.
    pub volume: Option<f64>,
    /// As the engine names it.
    pub style: Option<Style>,
    /// Words about how to speak.
    pub direction: Option<String>,
    /// How much repeated takes may vary.
    pub variation: Option<f64>,
    /// A whole number.
    pub seed: Option<f64>,
    /// What is left for the gateway.
    pub emulated: Emulation,
    /// What became of each wish.
    pub adjustments: Vec<Adjustment>,
}

impl Shaping {
    /// Whether anything is asked for.
    pub fn is_empty(&self) -> bool {
        *self == Shaping::default()
    }

    /// What becomes of the wishes with an engine's controls, for one of its
    /// models and voices; by [`Policy::Adapt`] the gateway does what it can itself.
    pub fn with(&self, controls: &SpeakingControls, model: Option<&str>, voice: &Voice, policy: Policy) -> Shaped {
        let mut work = ShapingWork { model, policy, shaped: Shaped::default() };
        let (rate, rest) = work.number("rate", &controls.rate, self.rate, Sort::Factor);
        work.shaped.rate = rate;
        let rest = rest.unwrap_or(1.0);
        work.shaped.emulated.rate = rest.clamp(LEAST_TEMPO, MOST_TEMPO);
        if work.shaped.emulated.rate != rest
            && let Some(wish) = work.shaped.adjustments.last_mut()
        {
            wish.done = Done::Rewritten;
            wish.note = format!("limited to a rate of {}", rate.unwrap_or(1.0) * work.shaped.emulated.rate);
        }
        let (pitch, rest) = work.number("pitch", &controls.pitch, self.pitch, Sort::Sum);
        work.shaped.pitch = pitch;
        work.shaped.emulated.pitch = rest.unwrap_or(0.0);
        let (volume, rest) = work.number("volume", &controls.volume, self.volume, Sort::Sum);
        work.shaped.volume = volume;
        work.shaped.emulated.volume = rest.unwrap_or(0.0);
        work.shaped.variation = work.number("variation", &controls.variation, self.variation, Sort::Alone).0;
        #[expect(clippy::cast_precision_loss, reason = "seeds are limited to 2^53")]
        let seed = self.seed.map(|seed| seed as f64);
        work.shaped.seed = work.number("seed", &controls.seed, seed, Sort::Alone).0;
        work.style(&controls.style, self.style.as_ref(), voice);
        work.shaped.direction = work.text("direction", &controls.direction, self.direction.as_deref());
        work.shaped
    }
}

/// How what is missing of a number could be made good.
#[derive(Clone, Copy, PartialEq)]
enum Sort {
    Factor,
    Sum,
    Alone,
}

struct ShapingWork<'a> {
    model: Option<&'a str>,
    policy: Policy,
    shaped: Shaped,
}

impl ShapingWork<'_> {
    fn note(&mut self, control: &'static str, done: Done, note: String) {
        self.shaped.adjustments.push(Adjustment { control, done, note });
    }

    fn none_of(&self, models: &[String]) -> String {
        match self.model {
            Some(model) if !models.is_empty() => {
                format!("the model {model} does not support it; these do: {}", models.join(", "))
            }
            _ => "the engine does not support it".into(),
        }
    }

    /// What the engine is given, and what is left for the gateway.
    fn number(
        &mut self,
        name: &'static str,
        control: &Option<RangeControl>,
        wish: Option<f64>,
        sort: Sort,
    ) -> (Option<f64>, Option<f64>) {
        let there = control.as_ref().filter(|control| takes(&control.models, self.model));
        let neutral = there.and_then(|control| control.neutral);
        let Some(wish) = wish else { return (neutral, None) };
        let models = control.as_ref().map(|control| control.models.as_slice()).unwrap_or_default();
        let good = self.policy == Policy::Adapt && sort != Sort::Alone;
        let Some(control) = there else {
            let why = self.none_of(models);
            return match good {
                true => {
                    self.note(name, Done::Emulated, why);
                    (None, Some(wish))
                }
                false => {
                    self.note(name, Done::Omitted, why);
                    (None, None)
                }
            };
        };
        let given = wish.clamp(control.least, control.most);
        if (given - wish).abs() < 1e-9 {
            self.note(name, Done::Native, String::new());
            return (Some(given), None);
        }
        let range = format!("it supports {} to {}", control.least, control.most);
        if !good {
            self.note(name, Done::Rewritten, format!("{range}; {given} was sent for {wish}"));
            return (Some(given), None);
        }
        self.note(name, Done::Emulated, format!("{range}; the rest of {wish} was emulated"));
        (Some(given), Some(if sort == Sort::Factor { wish / given } else { wish - given }))
    }

    fn style(&mut self, control: &Option<StyleControl>, wish: Option<&Style>, voice: &Voice) {
        let Some(wish) = wish else { return };
        let models = control.as_ref().map(|control| control.models.as_slice()).unwrap_or_default();
        let Some(control) = control.as_ref().filter(|control| takes(&control.models, self.model)) else {
            let why = self.none_of(models);
            return self.note("style", Done::Omitted, why);
        };
        let names = if control.names.is_empty() { &voice.styles } else { &control.names };
        let Some(name) = names.iter().find(|name| name.eq_ignore_ascii_case(&wish.name)) else {
            let why = match names.is_empty() {
                true => format!("the voice {} has no styles", voice.name),
                false => format!("there is no style '{}'; there are: {}", wish.name, names.join(", ")),
            };
            return self.note("style", Done::Omitted, why);
        };
        let strength = wish.strength.filter(|_| control.graded || !control.strengths.is_empty());
        let nearest = |strength: f64| {
            let distance = |has: &&f64| (**has - strength).abs();
            control.strengths.iter().min_by(|a, b| distance(a).total_cmp(&distance(b))).copied().unwrap_or(strength)
        };
        let given = strength.map(nearest);
        let (done, note) = match (wish.strength, given) {
            (Some(_), None) => (Done::Rewritten, "its strength cannot be set".into()),
            (Some(wish), Some(given)) if (wish - given).abs() > 1e-9 => {
                (Done::Rewritten, format!("strength {given} was sent for {wish}"))
            }
            _ => (Done::Native, String::new()),
        };
        self.note("style", done, note);
        self.shaped.style = Some(Style { name: name.clone(), strength: given });
    }

    /// How many of so many are taken.
    fn count(&mut self, name: &'static str, control: &Option<CountControl>, wish: u64) -> u64 {
        let models = control.as_ref().map(|control| control.models.as_slice()).unwrap_or_default();
        let Some(control) = control.as_ref().filter(|control| takes(&control.models, self.model)) else {
            let why = self.none_of(models);
            self.note(name, Done::Omitted, why);
            return 0;
        };
        match wish <= control.most {
            true => self.note(name, Done::Native, String::new()),
            false => self.note(name, Done::Rewritten, format!("the first {} of {wish} are used", control.most)),
        }
        wish.min(control.most)
    }

    fn text(&mut self, name: &'static str, control: &Option<TextControl>, wish: Option<&str>) -> Option<String> {
        let wish = wish?;
        let models = control.as_ref().map(|control| control.models.as_slice()).unwrap_or_default();
        let Some(control) = control.as_ref().filter(|control| takes(&control.models, self.model)) else {
            let why = self.none_of(models);
            self.note(name, Done::Omitted, why);
            return None;
        };
        let length = wish.chars().count() as u64;
        if length > control.characters {
            self.note(name, Done::Omitted, format!("it has {length} characters; the limit is {}", control.characters));
            return None;
        }
        self.note(name, Done::Native, String::new());
        Some(wish.to_owned())
    }
}

/// What a request asks of a recogniser beyond the text.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
pub struct HearingWish {
    /// Words that the audio probably has.
    pub hints: Vec<String>,
    /// Words about what the audio is.
    pub context: Option<String>,
    /// 0 to 1.
    pub variation: Option<f64>,
    /// Speakers are to be distinguished.
    pub speakers: bool,
    /// Number of alternative transcripts.
    pub alternatives: Option<u64>,
}

impl HearingWish {
    /// What an engine's model is given of it, and what was done with each.
    pub fn with(&self, controls: &HearingControls, model: Option<&str>) -> (HearingWish, Vec<Adjustment>) {
        let mut work = ShapingWork { model, policy: Policy::Omit, shaped: Shaped::default() };
        let mut given = HearingWish::default();
        if !self.hints.is_empty() {
            let most = work.count("hints", &controls.hints, self.hints.len() as u64);
            given.hints = self.hints.iter().take(usize::try_from(most).unwrap_or(usize::MAX)).cloned().collect();
        }
        if let Some(wish) = self.alternatives {
            given.alternatives = Some(work.count("alternatives", &controls.alternatives, wish)).filter(|n| *n > 0);
        }
        given.variation = work.number("variation", &controls.variation, self.variation, Sort::Alone).0;
        given.context = work.text("context", &controls.context, self.context.as_deref());
        if self.speakers {
            let models = controls.speakers.as_ref().map(|control| control.models.as_slice()).unwrap_or_default();
            given.speakers = controls.speakers.as_ref().is_some_and(|control| takes(&control.models, model));
            let (done, note) = match given.speakers {
                true => (Done::Native, String::new()),
                false => (Done::Omitted, work.none_of(models)),
            };
            work.note("speakers", done, note);
        }
        (given, work.shaped.adjustments)
    }
}

impl Adjustment {
    /// What was done, for people; `None` if it was done as it was wished.
    pub fn told(&self) -> Option<String> {
        let done = match self.done {
            Done::Omitted => "was omitted",
            Done::Emulated => "was emulated",
            Done::Native | Done::Rewritten => "was changed",
        };
        (!self.note.is_empty()).then(|| format!("{} {done}: {}", self.control, self.note))
    }
}

#[cfg(test)]
mod tests {
    use crate::SwitchControl;

    use std::collections::BTreeMap;

    use super::*;

    fn range(least: f64, most: f64, models: &[&str]) -> Option<RangeControl> {
        let models = models.iter().map(|model| (*model).to_owned()).collect();
        Some(RangeControl { least, most, neutral: None, models })
    }

    fn voice() -> Voice {
        Voice { id: "v".into(), name: "V".into(), styles: vec!["Calm".into()], ..Voice::default() }
    }

    fn told(shaped: &Shaped) -> Vec<(&str, Done)> {
        shaped.adjustments.iter().map(|item| (item.control, item.done)).collect()
    }

    #[test]
    fn what_is_past_the_range_is_made_good_by_the_rest() {
        let controls =
            SpeakingControls { rate: range(0.5, 1.5, &[]), pitch: range(-2.0, 2.0, &[]), ..Default::default() };
        let wish = Shaping { rate: Some(3.0), pitch: Some(-5.0), volume: Some(-6.0), ..Shaping::default() };
        let shaped = wish.with(&controls, None, &voice(), Policy::Adapt);
        assert_eq!((shaped.rate, shaped.pitch, shaped.volume), (Some(1.5), Some(-2.0), None));
        assert_eq!(shaped.emulated, Emulation { rate: 2.0, pitch: -3.0, volume: -6.0 });
        assert_eq!(told(&shaped), [("rate", Done::Emulated), ("pitch", Done::Emulated), ("volume", Done::Emulated)]);
        let omitted = wish.with(&controls, None, &voice(), Policy::Omit);
        assert_eq!(omitted.emulated, Emulation::default());
        assert_eq!(told(&omitted), [("rate", Done::Rewritten), ("pitch", Done::Rewritten), ("volume", Done::Omitted)]);
    }

    #[test]
    fn a_control_of_another_model_is_named_with_the_models_that_have_it() {
        let direction = Some(TextControl { characters: 20, models: vec!["directed".into()] });
        let controls = SpeakingControls { direction, ..Default::default() };
        let wish = Shaping { direction: Some("like a pilot".into()), ..Shaping::default() };
        let shaped = wish.with(&controls, Some("quick"), &voice(), Policy::Adapt);
        assert_eq!(told(&shaped), [("direction", Done::Omitted)]);
        assert!(shaped.adjustments[0].note.contains("these do: directed"), "{:?}", shaped.adjustments);
        assert_eq!(
            wish.with(&controls, Some("directed"), &voice(), Policy::Adapt).direction.as_deref(),
            Some("like a pilot")
        );
        let long = Shaping { direction: Some("x".repeat(21)), ..Shaping::default() };
        assert_eq!(long.with(&controls, Some("directed"), &voice(), Policy::Adapt).direction, None);
    }

    #[test]
    fn strengths_of_style_go_to_the_nearest_there_is() {
        let style = Some(StyleControl {
            names: vec![],
            strengths: vec![0.25, 0.5, 0.75],
            graded: false,
            models: vec![],
            emotions: BTreeMap::new(),
        });
        let controls = SpeakingControls { style, ..Default::default() };
        let wish =
            |name: &str, strength| Shaping { style: Some(Style { name: name.into(), strength }), ..Shaping::default() };
        let shaped = wish("calm", Some(0.6)).with(&controls, None, &voice(), Policy::Adapt);
        assert_eq!(shaped.style, Some(Style { name: "Calm".into(), strength: Some(0.5) }));
        assert_eq!(told(&shaped), [("style", Done::Rewritten)]);
        let strange = wish("angry", None).with(&controls, None, &voice(), Policy::Adapt);
        assert_eq!((strange.style.is_none(), strange.adjustments[0].done), (true, Done::Omitted));
    }

    #[test]
    fn a_neutral_value_is_given_where_nothing_is_asked() {
        let rate = Some(RangeControl { least: 0.5, most: 2.0, neutral: Some(1.0), models: vec!["a".into()] });
        let controls = SpeakingControls { rate, ..Default::default() };
        let nothing = Shaping::default();
        assert_eq!(nothing.with(&controls, Some("a"), &voice(), Policy::Adapt).rate, Some(1.0));
        assert_eq!(nothing.with(&controls, Some("b"), &voice(), Policy::Adapt).rate, None);
        assert!(
            nothing.is_empty() && nothing.with(&controls, Some("a"), &voice(), Policy::Adapt).adjustments.is_empty()
        );
    }

    #[test]
    fn a_recogniser_is_given_what_its_model_takes() {
        let controls = HearingControls {
            hints: Some(CountControl { most: 2, models: vec![] }),
            speakers: Some(SwitchControl { models: vec!["long".into()] }),
            ..Default::default()
        };
        let wish = HearingWish {
            hints: ["Gullsay", "Skerrow", "Holm"].map(str::to_owned).to_vec(),
            context: Some("earlier".into()),
            speakers: true,
            ..Default::default()
        };
        let (given, done) = wish.with(&controls, Some("short"));
        assert_eq!((given.hints.len(), given.context, given.speakers), (2, None, false));
        let done: Vec<_> = done.iter().map(|it| (it.control, it.done)).collect();
        assert_eq!(done, [("hints", Done::Rewritten), ("context", Done::Omitted), ("speakers", Done::Omitted)]);
        assert!(wish.with(&controls, Some("long")).0.speakers);
    }
}
