//! The render plan of a candidate: the script as its engine, other voices and our
//! own audio code will perform it, segment by segment.

use std::cell::RefCell;
use std::sync::Arc;

use dispatcher_audio::Edge;
use dispatcher_core::{CallPrice, Candidate, MoneyError, Planner, Shaping, Style, Usage, Wanted};
use dispatcher_engines::Speak;
use dispatcher_markup::{
    BodyForm, Fidelity, FirstPart, MarkAt, Outcome, Piece, Room, Script, Treatment, by_sentence, lower, pack,
};

use crate::planning::cast_voices::Cast;
use crate::planning::plan::{plan_one, shaped_by, usage_of};
use crate::{GatewayError, InsertedSound, PlannedCall, Registry, Resources, SynthesisRequest, Unsupported};

/// Milliseconds between words and between sentences, where a script is parted
/// there and asks for no break.
const WORD_GAP: f64 = 60.0;
const SENTENCE_GAP: f64 = 250.0;

/// A script as one candidate performs it.
#[derive(Clone, Default)]
pub struct RenderPlan {
    pub(crate) segments: Vec<Segment>,
    /// Milliseconds of silence behind the last segment.
    pub(crate) silence: f64,
    /// Marks behind the last segment.
    pub(crate) marks: Vec<MarkAt>,
    pub(crate) fidelity: Vec<Fidelity>,
    /// Equal for equal sounds and words of lexicons; empty where there are none.
    pub(crate) mark: String,
}

/// One call of an engine, with what is done around its audio.
#[derive(Clone)]
pub(crate) struct Segment {
    pub(crate) piece: Piece,
    /// Who speaks it, where that is not the candidate itself.
    pub(crate) cast: Option<Arc<PlannedCall>>,
    /// A sound in place of a call.
    pub(crate) sound: Option<Arc<InsertedSound>>,
    pub(crate) call: Speak,
    pub(crate) usage: Usage,
    pub(crate) estimate: dispatcher_core::Money,
}

impl RenderPlan {
    /// Whether other voices speak than that of its candidate.
    pub(crate) fn has_other_voices(&self, planned: &PlannedCall) -> bool {
        self.segments.iter().any(|segment| segment.speaker(planned).voice_id() != planned.voice_id())
    }
}

impl Segment {
    /// Who speaks it.
    pub(crate) fn speaker<'p>(&'p self, planned: &'p PlannedCall) -> &'p PlannedCall {
        self.cast.as_deref().unwrap_or(planned)
    }

    /// The call as another candidate would make it: the text alone, with what is
    /// asked of the whole. What is asked of the segment itself is done as far as
    /// it is emulated.
    pub(crate) fn call_of(&self, other: &PlannedCall) -> Speak {
        let call = other.call(&self.call.text, self.call.language.as_deref());
        let own = self.piece.treatment != Treatment::default() || self.piece.style.is_some();
        if own { Speak { shaped: self.call.shaped.clone(), ..call } } else { call }
    }
}

impl RenderPlan {
    /// What becomes of silence that an engine puts around a segment: between
    /// segments all of it goes, since engines differ in it; what lies there is
    /// the break that is asked for, or [`RenderPlan::gap`].
    pub(crate) fn edges(&self, index: usize) -> (Edge, Edge) {
        let own = self.segments.get(index).map_or(0.0, |segment| segment.piece.silence);
        let start = if index > 0 || own > 0.0 { Edge::Close } else { Edge::Keep };
        let end = if index + 1 < self.segments.len() || self.silence > 0.0 { Edge::Close } else { Edge::Keep };
        (start, end)
    }

    /// Milliseconds between a segment and the one before it where no break is
    /// asked for.
    pub(crate) fn gap(&self, index: usize) -> f64 {
        let before = index.checked_sub(1).and_then(|before| self.segments.get(before));
        match (before, self.segments.get(index)) {
            (Some(_), Some(own)) if own.piece.overlap > 0.0 => 0.0,
            (Some(before), Some(own)) if own.piece.silence == 0.0 => {
                if ends_sentence(&before.piece) {
                    SENTENCE_GAP
                } else {
                    WORD_GAP
                }
            }
            _ => 0.0,
        }
    }

    /// The first segment, where the candidate itself is called for it.
    pub(crate) fn opening_call(&self, planned: &PlannedCall) -> Option<&Segment> {
        let opening = self.segments.first()?;
        (opening.sound.is_none() && std::ptr::eq(opening.speaker(planned), planned)).then_some(opening)
    }

    /// The call of a script that is one call, its sound as the engine makes it.
    pub(crate) fn single(&self) -> Option<&Segment> {
        match self.segments.as_slice() {
            [segment]
                if segment.cast.is_none()
                    && segment.sound.is_none()
                    && segment.piece.silence == 0.0
                    && self.silence == 0.0
                    && segment.piece.marks.is_empty()
                    && self.marks.is_empty()
                    && segment.piece.treatment.duration.is_none() =>
            {
                Some(segment)
            }
            _ => None,
        }
    }
}

/// Why the costs of segments have no sum.
fn unsummed(error: MoneyError) -> GatewayError {
    match error {
        MoneyError::Mixed(first, second) => GatewayError::MixedCurrencies(first, second),
        other => other.into(),
    }
}

/// What lexicons and sounds add to a render plan, beyond its document.
fn mark_of(segments: &[Segment], looked_up: usize) -> String {
    if looked_up == 0 && segments.iter().all(|segment| segment.sound.is_none()) {
        return String::new();
    }
    let told = |segment: &Segment| match &segment.sound {
        Some(sound) => serde_json::json!([segment.piece.sound, sound.content]).to_string(),
        None => segment.piece.markup(),
    };
    crate::content_hash(segments.iter().map(told).collect::<Vec<_>>().join("\0").as_bytes())
}

fn ends_sentence(piece: &Piece) -> bool {
    piece.plain().trim_end().ends_with(['.', '!', '?', '…', '。', '！', '？', '؟', '۔', '”', '»', '"'])
}

/// Calls of engines and inserted sounds that one script may become.
const MOST_PARTS: usize = 10_000;

/// What a script is cast with.
pub(crate) struct Casting<'a> {
    pub(crate) registry: &'a Registry,
    pub(crate) request: &'a SynthesisRequest,
    pub(crate) granted: Option<&'a [String]>,
    /// Of the text.
    pub(crate) language: Option<&'a str>,
    pub(crate) resources: &'a Resources,
    /// Whose prices apply, `YYYY-MM-DD` in UTC.
    pub(crate) day: String,
    pub(crate) calls: SentenceCalls,
}

/// How the sentences of a text are called for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum SentenceCalls {
    /// As many at once as an engine takes.
    Together,
    /// Each by itself, where it costs nothing: another engine can go on between
    /// any two of them.
    Apart,
}

/// Sentences of fewer characters go with the next.
const SHORT_SENTENCE: usize = 12;
/// A text of more characters is called for in parts of several sentences.
const LONG_TEXT: usize = 1_500;
const SEVERAL_SENTENCES: usize = 300;

impl SentenceCalls {
    /// Whether the calls of an engine may be for a sentence each.
    fn apart(self, speaker: &PlannedCall) -> bool {
        let sheet = &speaker.candidate.sheet;
        // Where the number of calls is limited or charged they are not multiplied.
        let polled = sheet.synthesis.as_ref().is_none_or(|synthesis| synthesis.poll.is_some());
        self == SentenceCalls::Apart
            && !polled
            && sheet.pace.per_minute.is_none()
            && speaker.candidate.tariff().is_divisible()
    }
}

impl Casting<'_> {
    /// What the voices of a script are chosen from, beside one candidate.
    pub(super) fn planner(&self, planned: &PlannedCall) -> Planner<'_> {
        self.registry.planner(self.granted).within(planned.candidate.bounds.clone())
    }

    /// A candidate with its render plan, what it uses and what it costs.
    ///
    /// # Errors
    /// When something of the script is lost and may not be, or when a piece
    /// cannot be made to fit the engine's limit.
    pub(crate) fn perform(&self, planned: PlannedCall, script: &Script<'_>) -> Result<PlannedCall, GatewayError> {
        let refuses = self.request.unsupported == Unsupported::Refuse;
        let policy = self.request.unsupported.policy();
        let synthesis = planned.candidate.sheet.synthesis.as_ref();
        let dialect = synthesis.and_then(|synthesis| synthesis.markup.as_ref());
        let lowered =
            lower(script, dialect, policy, &Cast { casting: self, planned: &planned, voices: RefCell::default() });
        let lost = |item: &&Fidelity| item.outcome > Outcome::Emulated;
        if refuses && lowered.fidelity.iter().any(|item| lost(&item)) {
            let lost = lowered.fidelity.iter().filter(lost).cloned().collect();
            return Err(GatewayError::Unsupported(lost));
        }
        let mut segments = Vec::new();
        for piece in &lowered.pieces {
            if lowered.pieces.len().max(segments.len()) > MOST_PARTS {
                let given = lowered.pieces.len().max(segments.len());
                return Err(GatewayError::TooManyParts { given, limit: MOST_PARTS });
            }
            self.cast(&planned, piece, &mut segments)?;
        }
        let mut usage = Usage::default();
        let mut estimate = dispatcher_core::Money::zero(planned.candidate.tariff().currency);
        for segment in &segments {
            usage = usage.plus(segment.usage);
            estimate = estimate.plus(segment.estimate).map_err(unsummed)?;
        }
        let mark = mark_of(&segments, lowered.looked_up);
        let render_plan =
            RenderPlan { segments, silence: lowered.silence, marks: lowered.marks, fidelity: lowered.fidelity, mark };
        Ok(PlannedCall { usage, estimate, render_plan: Arc::new(render_plan), ..planned })
    }

    /// The segments that a piece becomes with who speaks it.
    fn cast(&self, planned: &PlannedCall, piece: &Piece, segments: &mut Vec<Segment>) -> Result<(), GatewayError> {
        if let Some(sound) = piece.sound.as_ref().and_then(|sound| self.resources.sound(&sound.src)) {
            let estimate = dispatcher_core::Money::zero(planned.candidate.tariff().currency);
            let (call, usage) = (planned.call("", None), Usage::default());
            segments.push(Segment { piece: piece.clone(), cast: None, sound: Some(sound), call, usage, estimate });
            return Ok(());
        }
        let own = planned.voice_id();
        let cast = match piece.voice.as_deref() {
            Some(voice) if Some(voice) != own.as_deref() => Some(Arc::new(self.other_voice(planned, voice)?)),
            _ => None,
        };
        let speaker = cast.as_deref().unwrap_or(planned);
        let reads_markup = speaker.candidate.sheet.synthesis.as_ref().is_some_and(|it| it.markup.is_some());
        let form = if reads_markup && cast.is_none() { BodyForm::Markup } else { BodyForm::Text };
        let fitting = |piece: &Piece| self.call(planned, speaker, piece, form);
        let mut packed = match self.calls.apart(speaker) {
            true => {
                let long = piece.plain().chars().count() > LONG_TEXT;
                by_sentence(piece, SHORT_SENTENCE, if long { SEVERAL_SENTENCES } else { SHORT_SENTENCE })
            }
            false => vec![piece.clone()],
        };
        for room in rooms(speaker, &fitting(piece)) {
            let mut first = if segments.is_empty() { FirstPart::Sentence } else { FirstPart::Full };
            packed = packed
                .iter()
                .flat_map(|piece| pack(piece, room, std::mem::replace(&mut first, FirstPart::Full)))
                .collect();
        }
        let mut price = self.price(planned, speaker, segments)?;
        for piece in packed {
            let call = fitting(&piece);
            if let Some(error) = over_limit(speaker, &call) {
                return Err(error);
            }
            let usage = usage_of(&call.text);
            let estimate = price.cost(usage)?;
            price = price.after(usage);
            segments.push(Segment { piece, cast: cast.clone(), sound: None, call, usage, estimate });
        }
        Ok(())
    }

    /// How the next call of a speaker is charged, after those of its engine in the script.
    fn price(
        &self,
        planned: &PlannedCall,
        speaker: &PlannedCall,
        before: &[Segment],
    ) -> Result<CallPrice, GatewayError> {
        let candidate = &speaker.candidate;
        let mut used = Usage::default();
        if !candidate.tariff().tiers.is_empty() {
            used = self.registry.volumes.used(speaker.engine_name(), candidate.work, &self.day);
            let own = before.iter().filter(|it| it.speaker(planned).engine_name() == speaker.engine_name());
            used = own.fold(used, |used, segment| used.plus(segment.usage));
        }
        Ok(candidate.price(&self.day, used)?)
    }

    fn call(&self, planned: &PlannedCall, speaker: &PlannedCall, piece: &Piece, form: BodyForm) -> Speak {
        let language = piece.language.as_deref().or(self.language);
        let mut call = speaker.call(&piece.plain(), language);
        call.markup = (form == BodyForm::Markup).then(|| piece.markup());
        if let Some(shaped) = self.wishes(piece) {
            call.shaped = shaped_by(&speaker.candidate, self.request, &shaped);
        } else if !std::ptr::eq(planned, speaker) {
            call.shaped = shaped_by(&speaker.candidate, self.request, &self.request.shaping);
        }
        call
    }

    /// What is asked of a piece beyond its text, where that is not what is
    /// asked of the whole.
    fn wishes(&self, piece: &Piece) -> Option<Shaping> {
        let treatment = Treatment { duration: None, ..piece.treatment };
        if treatment == Treatment::default() && piece.style.is_none() {
            return None;
        }
        let mut wishes = treated(&self.request.shaping, &treatment);
        if let Some(manner) = &piece.style {
            wishes.style = Some(Style { name: manner.name.clone(), strength: manner.strength });
        }
        Some(wishes)
    }

    fn other_voice(&self, planned: &PlannedCall, voice: &str) -> Result<PlannedCall, GatewayError> {
        let wanted = Wanted::Named(voice.to_owned());
        let planner = self.planner(planned);
        let found = planner.synthesis(&wanted, None, None)?.into_iter().next();
        let candidate = found.ok_or_else(|| GatewayError::Contradiction("a voice of the plan is gone"))?;
        // The same engine keeps the model that was asked for.
        let same = candidate.sheet.name == planned.candidate.sheet.name;
        let model = if same { planned.candidate.model.clone() } else { candidate.model.clone() };
        let candidate = Candidate { model, deadline: planned.candidate.deadline, ..candidate };
        let shaped = shaped_by(&candidate, self.request, &self.request.shaping);
        plan_one(self.registry, candidate, self.request.format, shaped)
    }
}

/// Wishes for the whole, and what a piece adds to them.
pub(super) fn treated(wishes: &Shaping, treatment: &Treatment) -> Shaping {
    let changed = |value: f64, neutral: f64| ((value - neutral).abs() > 1e-9).then_some(value);
    Shaping {
        rate: changed(wishes.rate.unwrap_or(1.0) * treatment.rate, 1.0),
        pitch: changed(wishes.pitch.unwrap_or(0.0) + treatment.pitch, 0.0),
        volume: changed(wishes.volume.unwrap_or(0.0) + treatment.volume, 0.0),
        ..wishes.clone()
    }
}

/// What an engine takes at once, in each unit that it counts.
fn rooms(planned: &PlannedCall, call: &Speak) -> Vec<Room> {
    let Some(synthesis) = planned.candidate.sheet.synthesis.as_ref() else { return Vec::new() };
    let limit = &synthesis.limit;
    let room = |most: u64, bytes: bool| {
        let bare = Speak { text: "x".into(), markup: call.markup.as_ref().map(|_| "x".into()), ..call.clone() };
        let document = if limit.tags { planned.engine.document(&bare) } else { String::new() };
        let around = if bytes { document.len() } else { document.chars().count() };
        let most = usize::try_from(most).unwrap_or(usize::MAX);
        let form = if call.markup.is_some() { BodyForm::Markup } else { BodyForm::Text };
        Room { most, bytes, tags: limit.tags, around: around.saturating_sub(1), form }
    };
    let characters = limit.characters.map(|most| room(most, false));
    characters.into_iter().chain(limit.bytes.map(|most| room(most, true))).collect()
}

fn over_limit(planned: &PlannedCall, call: &Speak) -> Option<GatewayError> {
    let limit = &planned.candidate.sheet.synthesis.as_ref()?.limit;
    let over = |limit: Option<u64>, given: u64, unit: &'static str| {
        let limit = limit.filter(|limit| given > *limit)?;
        Some(GatewayError::TooLong { engine: planned.engine_name().to_owned(), given, limit, unit })
    };
    // Some engines count the whole document, its markup included.
    let usage = match limit.tags {
        false => usage_of(&call.text),
        true => usage_of(&planned.engine.document(call)),
    };
    over(limit.characters, usage.characters, "characters").or_else(|| over(limit.bytes, usage.bytes, "bytes"))
}
