//! The conformance matrix: what a sheet claims, against what is seen.
//!
//! Every claim that can be tried with a short call is tried: access, voices,
//! models, formats, controls, limits, errors, the catalogue. The calls are
//! real: they are dispatches of the caller's app, and are charged to it.

use std::time::Duration;

use dispatcher_audio::{AudioError, Format, Length, decode_all, measure};
use dispatcher_core::{Candidate, Cause, Done, Money, Shaped, Shaping, Sheet, Style, Usage, Voice, Work, sample_sentence};
use dispatcher_engines::{AudioSource, Engine, EngineError, EngineFormat, Hear, Speak};
use dispatcher_vault::Parts;
use futures::StreamExt as _;
use secrecy::{ExposeSecret as _, SecretString};

use crate::plan::usage_of;
use crate::settle::{Docket, Ending, Opening};
use crate::speak::ending_of;
use crate::{Caller, FailedAttempt, Gateway, GatewayError, Planned};

/// One call of a check may take so long.
const PATIENCE: Duration = Duration::from_secs(120);
/// Texts beyond this are not sent only to see whether they are taken.
const LONGEST_TRIED: u64 = 20_000;
/// Voices and styles that are tried of each engine.
const MOST_TRIED: usize = 3;
/// How far a length may be from what a rate makes of it.
const TOLERANCE: f64 = 0.15;

/// Whether a claim was found to be true.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Verdict {
    Holds,
    Differs,
    /// Not tried, and why is in what was seen.
    Open,
}

impl Verdict {
    /// The word for it.
    pub fn name(self) -> &'static str {
        match self {
            Verdict::Holds => "holds",
            Verdict::Differs => "differs",
            Verdict::Open => "open",
        }
    }
}

/// One claim of a sheet.
#[derive(Debug, Clone)]
pub struct Claim {
    /// `access`, `voice`, `model`, `format`, `control`, `limit`, `error`,
    /// `catalogue` or `transcript`.
    pub kind: &'static str,
    pub subject: String,
    pub claimed: String,
    pub seen: String,
    pub verdict: Verdict,
    /// Of a claim that differs: what was sent, without the credential …
    pub request: Option<String>,
    /// … and what came back.
    pub answer: Option<String>,
}

/// The matrix of one engine.
#[derive(Debug, Clone)]
pub struct Matrix {
    pub engine: String,
    pub claims: Vec<Claim>,
    pub cost: Money,
}

impl Matrix {
    /// Whether nothing differs.
    pub fn good(&self) -> bool {
        self.claims.iter().all(|claim| claim.verdict != Verdict::Differs)
    }
}

/// Sound that an engine made.
struct Made {
    samples: Vec<f32>,
    rate: u32,
    length: Length,
}

impl Made {
    fn seconds(&self) -> f64 {
        self.samples.len() as f64 / f64::from(self.rate.max(1))
    }
}

struct Checking<'a> {
    gateway: &'a Gateway,
    caller: &'a Caller,
    engine: std::sync::Arc<Engine>,
    sheet: std::sync::Arc<Sheet>,
    claims: Vec<Claim>,
    cost: Money,
}

/// Why a try came to nothing, and what was sent.
struct Miss {
    cause: Cause,
    detail: String,
    request: String,
}

impl Gateway {
    /// Tries what an engine's sheet claims. `heard` speaks what a recogniser
    /// is to hear, by voice id or route; the app's own voice where it is
    /// missing. `quick` leaves out limits.
    ///
    /// # Errors
    /// When there is no such engine, or the records cannot be written.
    pub async fn check_engine(
        &self,
        caller: &Caller,
        name: &str,
        quick: bool,
        heard: Option<&str>,
    ) -> Result<Matrix, GatewayError> {
        let registry = self.registry();
        let engine = registry.engine(name)?.clone();
        let sheet = registry.sheet(name).cloned().unwrap_or_else(|| engine.sheet().clone());
        let cost = Money::zero(sheet.tariff.currency);
        let mut work = Checking { gateway: self, caller, engine, sheet, claims: Vec::new(), cost };
        if work.access().await? {
            work.catalogue().await;
            work.speech(quick).await?;
            work.hearing(heard).await?;
        }
        Ok(Matrix { engine: name.to_owned(), claims: work.claims, cost: work.cost })
    }
}

impl Checking<'_> {
    fn put(&mut self, kind: &'static str, subject: impl Into<String>, claimed: &str, seen: String, verdict: Verdict) {
        let (subject, claimed) = (subject.into(), claimed.to_owned());
        self.claims.push(Claim { kind, subject, claimed, seen, verdict, request: None, answer: None });
    }

    fn miss(&mut self, kind: &'static str, subject: impl Into<String>, claimed: &str, miss: &Miss) {
        self.put(kind, subject, claimed, miss.cause.name().to_owned(), Verdict::Differs);
        if let Some(claim) = self.claims.last_mut() {
            claim.request = Some(miss.request.clone());
            claim.answer = Some(miss.detail.clone());
        }
    }

    /// Whether the engine can be called at all.
    async fn access(&mut self) -> Result<bool, GatewayError> {
        if let Some(reason) = self.engine.absent() {
            self.put("access", "program", "installed", reason, Verdict::Differs);
            return Ok(false);
        }
        let engine = self.engine.clone();
        if engine.sheet().access.parts.is_empty() {
            self.put("access", "credential", "none needed", "none needed".into(), Verdict::Holds);
            return Ok(true);
        }
        let opened = match self.gateway.credential_for(&engine).await {
            Ok(Some(opened)) => opened,
            Ok(None) => return Ok(true),
            Err(error) => {
                self.put("access", "credential", "bound", error.detail, Verdict::Differs);
                return Ok(false);
            }
        };
        match engine.try_credential(&opened.parts).await {
            None => self.put("access", "credential", "taken", "seen by the calls below".into(), Verdict::Open),
            Some(Ok(_)) => self.put("access", "credential", "taken", "taken".into(), Verdict::Holds),
            Some(Err(error)) => {
                let miss = Miss { cause: error.cause, detail: error.detail, request: "the call of the check".into() };
                self.miss("access", "credential", "taken", &miss);
            }
        }
        self.stranger(&opened.parts).await;
        Ok(true)
    }

    /// A credential that is not good is refused as such.
    async fn stranger(&mut self, parts: &Parts) {
        let own: Vec<String> = self.sheet.access.secret_parts().cloned().collect();
        let spoilt = |(name, part): (&String, &SecretString)| {
            let text = part.expose_secret();
            // A key in PEM that is spoilt is no key: it would not leave the house.
            let spoilt = if own.contains(name) && !text.contains("-----BEGIN") {
                text.chars().rev().chain(['x', 'x', 'x', 'x']).collect()
            } else {
                text.to_owned()
            };
            (name.clone(), SecretString::from(spoilt))
        };
        let strange: Parts = parts.iter().map(spoilt).collect();
        if strange.iter().all(|(name, part)| parts[name].expose_secret() == part.expose_secret()) {
            return self.put("access", "stranger", "refused", "a key cannot be made up".into(), Verdict::Open);
        }
        let Some(planned) = self.planned(None, None, None, Shaping::default()) else { return };
        let call = self.call(&planned, "Hello.");
        let request = self.engine.preview(&call);
        let refused = match self.engine.try_credential(&strange).await {
            Some(outcome) => outcome.map(drop),
            None => read(self.engine.speak(call, &strange).await).await.map(drop),
        };
        match refused {
            Err(error) if error.cause == Cause::Unauthorized => {
                self.put("access", "stranger", "unauthorized", "unauthorized".into(), Verdict::Holds);
            }
            Err(error) => {
                let miss = Miss { cause: error.cause, detail: error.detail, request };
                self.miss("access", "stranger", "unauthorized", &miss);
            }
            Ok(()) => self.put("access", "stranger", "unauthorized", "let in".into(), Verdict::Differs),
        }
    }

    async fn catalogue(&mut self) {
        let Some(catalogue) = self.engine.sheet().catalogue.clone() else { return };
        let parts = match self.gateway.credential_for(&self.engine).await {
            Ok(opened) => opened.map(|opened| opened.parts.clone()).unwrap_or_default(),
            Err(_) => return,
        };
        let own = self.engine.sheet().synthesis.as_ref().map(|it| it.voices.clone()).unwrap_or_default();
        match self.engine.voices(&parts).await {
            None => {}
            Some(Err(error)) => {
                let call = catalogue.call.unwrap_or_else(|| catalogue.arguments.join(" "));
                let miss = Miss { cause: error.cause, detail: error.detail, request: call };
                self.miss("catalogue", "list", "voices", &miss);
            }
            Some(Ok(listed)) => {
                self.put("catalogue", "list", "voices", format!("{} voices", listed.len()), Verdict::Holds);
                let there = |voice: &&Voice| listed.iter().any(|has| has.id == voice.id);
                let gone: Vec<&str> = own.iter().filter(|v| !there(v)).map(|voice| voice.id.as_str()).collect();
                if !catalogue.extends && !own.is_empty() {
                    let (seen, verdict) = match gone.is_empty() {
                        true => ("all listed".into(), Verdict::Holds),
                        false => (format!("not listed: {}", gone.join(", ")), Verdict::Differs),
                    };
                    self.put("catalogue", "the sheet's voices", "listed", seen, verdict);
                }
            }
        }
    }

    /// A candidate of this engine; the first voice and model and the first
    /// format where nothing else is said.
    fn planned(
        &self,
        voice: Option<&Voice>,
        model: Option<&str>,
        format: Option<EngineFormat>,
        shaping: Shaping,
    ) -> Option<Planned> {
        let synthesis = self.sheet.synthesis.as_ref()?;
        let voice = voice.or_else(|| synthesis.voices.iter().find(|v| v.unavailable.is_none()))?.clone();
        let own = voice.models.first().cloned();
        let model = model.map(str::to_owned).or(own).or_else(|| Some(synthesis.models.first()?.name.clone()));
        let format = format.or_else(|| self.engine.speaking_formats().into_iter().next())?;
        let shaped = shaping.with(&synthesis.controls, model.as_deref(), &voice, false);
        let candidate = Candidate { sheet: self.sheet.clone(), voice: Some(voice), model, deadline: 120_000 };
        let currency = self.sheet.tariff.currency;
        Some(Planned {
            candidate,
            engine: self.engine.clone(),
            format,
            usage: Usage::default(),
            estimate: Money::zero(currency),
            shaped,
        })
    }

    fn call(&self, planned: &Planned, text: &str) -> Speak {
        Speak {
            text: text.to_owned(),
            voice: planned.candidate.voice.clone().unwrap_or_default(),
            model: planned.candidate.model.clone(),
            language: None,
            format: planned.format.clone(),
            shaped: planned.shaped.clone(),
        }
    }

    /// Speaks, as a dispatch of the caller's.
    async fn speak(&mut self, planned: &Planned, text: &str) -> Result<Result<Made, Miss>, GatewayError> {
        let usage = usage_of(text);
        let estimate = self.sheet.tariff.cost(usage, planned.candidate.model.as_deref())?;
        let opening = Opening {
            wanted: "check",
            media_type: planned.format.format.media_type(),
            language: None,
            characters: usage.characters,
            audio_ms: 0,
            trace: None,
            rehearsal: false,
        };
        let docket = Docket::open(self.gateway, self.caller, Work::Synthesis, opening);
        let entry = docket.begin(planned, usage, estimate).await?;
        let call = self.call(planned, text);
        let request = self.engine.preview(&call);
        let made = self.sound(planned, call).await;
        let milliseconds = made.as_ref().map_or(0, |made| made.length.milliseconds());
        let (state, ending) = match &made {
            Ok(_) => {
                let charged = Some(Usage { milliseconds, ..usage });
                ("done", Ending { state: "done", cause: None, detail: None, first_us: None, charged })
            }
            Err(error) => ("failed", ending_of(&FailedAttempt::of(planned, error.clone()), None)),
        };
        let problem = made.as_ref().err().map(|error| error.detail.clone());
        let cost = docket.settle(Some((&entry, ending)), state, milliseconds, None, problem).await?;
        self.cost = self.cost.plus(cost).unwrap_or(self.cost);
        Ok(made.map_err(|error| Miss { cause: error.cause, detail: error.detail, request }))
    }

    async fn sound(&self, planned: &Planned, call: Speak) -> Result<Made, EngineError> {
        let _permit = self.gateway.turn(planned, &self.caller.app.name).await;
        let credential = self.gateway.credential_for(&self.engine).await?;
        let none = Parts::new();
        let parts = credential.as_ref().map_or(&none, |opened| &opened.parts);
        let speaking = async { read(self.engine.speak(call, parts).await).await };
        let audio = match tokio::time::timeout(PATIENCE, speaking).await {
            Ok(audio) => audio?,
            Err(_) => {
                let detail = format!("no answer within {} s", PATIENCE.as_secs());
                return Err(EngineError { cause: Cause::TimedOut, detail, retry_after: None });
            }
        };
        let format = planned.format.format;
        let broken = |error: AudioError| crate::attempt::broken(&error);
        let decoded = tokio::task::spawn_blocking(move || {
            let (format, length) = measure(&audio, Some(format))?;
            let (samples, layout) = decode_all(&audio, format)?;
            Ok((samples, layout, length))
        });
        let decoded = decoded.await.map_err(|error| crate::attempt::broken(&error))?;
        let (samples, layout, length) = decoded.map_err(broken)?;
        Ok(Made { samples, rate: layout.rate, length })
    }

    async fn speech(&mut self, quick: bool) -> Result<(), GatewayError> {
        let Some(synthesis) = self.sheet.synthesis.clone() else { return Ok(()) };
        let voices: Vec<Voice> = synthesis.voices.iter().filter(|voice| voice.unavailable.is_none()).cloned().collect();
        let Some(first) = voices.first().cloned() else { return Ok(()) };
        let text = sample_sentence(&first.languages);
        let length = self.formats(text).await?;
        // The first is heard by the formats; of the rest some from the ends.
        let step = (voices.len() / MOST_TRIED).max(1);
        for voice in voices.iter().skip(1).step_by(step).take(MOST_TRIED) {
            let Some(planned) = self.planned(Some(voice), None, None, Shaping::default()) else { continue };
            match self.speak(&planned, sample_sentence(&voice.languages)).await? {
                Ok(made) => self.put("voice", &voice.id, "speaks", seconds(&made), Verdict::Holds),
                Err(miss) => self.miss("voice", &voice.id, "speaks", &miss),
            }
        }
        for model in synthesis.models.iter().skip(1) {
            let Some(planned) = self.planned(Some(&first), Some(&model.name), None, Shaping::default()) else { continue };
            match self.speak(&planned, text).await? {
                Ok(made) => self.put("model", &model.name, "speaks", seconds(&made), Verdict::Holds),
                Err(miss) => self.miss("model", &model.name, "speaks", &miss),
            }
        }
        self.controls(&first, text, length).await?;
        self.unknown_voice(&first).await?;
        if !quick {
            self.limits(&first, text).await?;
        }
        Ok(())
    }

    /// Every format at every rate; gives the seconds of the sentence.
    async fn formats(&mut self, text: &str) -> Result<Option<f64>, GatewayError> {
        let mut formats = self.engine.speaking_formats();
        // What says itself what it is comes first, to measure the rest by.
        formats.sort_by_key(|format| !format.format.codec.describes_itself());
        let mut known = None;
        for format in formats {
            let subject = format!("{} {} Hz", format.key, format.format.rate);
            let claimed = format!("{}, {} Hz", format.format.codec, format.format.rate);
            let own = format.format;
            let Some(planned) = self.planned(None, None, Some(format), Shaping::default()) else { continue };
            match self.speak(&planned, text).await? {
                Err(miss) => self.miss("format", subject, &claimed, &miss),
                Ok(made) => {
                    let long = made.seconds();
                    let (seen, verdict) = judge_format(own, &made, known);
                    self.put("format", subject, &claimed, seen, verdict);
                    if verdict == Verdict::Differs {
                        self.told_by(&planned, text, format!("{} Hz, {long:.2} s", made.rate));
                    } else if known.is_none() && own.codec.describes_itself() {
                        known = Some(long);
                    }
                }
            }
        }
        Ok(known)
    }

    /// What was sent for the last claim, and what came back.
    fn told_by(&mut self, planned: &Planned, text: &str, answer: String) {
        let request = self.engine.preview(&self.call(planned, text));
        if let Some(claim) = self.claims.last_mut() {
            claim.request = Some(request);
            claim.answer = Some(answer);
        }
    }

    async fn controls(&mut self, voice: &Voice, text: &str, _length: Option<f64>) -> Result<(), GatewayError> {
        let Some(synthesis) = self.sheet.synthesis.clone() else { return Ok(()) };
        let controls = &synthesis.controls;
        let model_of = |models: &[String]| models.first().cloned();
        let mut tries: Vec<(String, Shaping, Option<String>, Option<f64>)> = Vec::new();
        if let Some(rate) = &controls.rate {
            for value in [rate.least, rate.most] {
                let wish = Shaping { rate: Some(value), ..Shaping::default() };
                tries.push((format!("rate {value}"), wish, model_of(&rate.models), Some(value)));
            }
        }
        if let Some(pitch) = &controls.pitch {
            for value in [pitch.least, pitch.most] {
                let wish = Shaping { pitch: Some(value), ..Shaping::default() };
                tries.push((format!("pitch {value:+} st"), wish, model_of(&pitch.models), None));
            }
        }
        if let Some(volume) = &controls.volume {
            let wish = Shaping { volume: Some(volume.least), ..Shaping::default() };
            tries.push((format!("volume {:+} dB", volume.least), wish, model_of(&volume.models), None));
        }
        if let Some(style) = &controls.style {
            let names = if style.names.is_empty() { &voice.styles } else { &style.names };
            for name in names.iter().take(MOST_TRIED) {
                let degree = style.degrees.last().copied();
                let wish = Shaping { style: Some(Style { name: name.clone(), degree }), ..Shaping::default() };
                tries.push((format!("style {name}"), wish, model_of(&style.models), None));
            }
        }
        if let Some(direction) = &controls.direction {
            let wish = Shaping { direction: Some("calm and clear".into()), ..Shaping::default() };
            tries.push(("direction".into(), wish, model_of(&direction.models), None));
        }
        if let Some(variation) = &controls.variation {
            let wish = Shaping { variation: Some(variation.most), ..Shaping::default() };
            tries.push((format!("variation {}", variation.most), wish, model_of(&variation.models), None));
        }
        for (subject, wish, model, rate) in tries {
            self.control(voice, text, subject, wish, model.as_deref(), rate).await?;
        }
        Ok(())
    }

    async fn control(
        &mut self,
        voice: &Voice,
        text: &str,
        subject: String,
        wish: Shaping,
        model: Option<&str>,
        rate: Option<f64>,
    ) -> Result<(), GatewayError> {
        let accepted = wish.direction.is_some() || wish.style.is_some() || wish.variation.is_some();
        let Some(planned) = self.planned(Some(voice), model, None, wish) else { return Ok(()) };
        if planned.shaped.adjustments.iter().any(|it| it.done == Done::Omitted) {
            self.put("control", subject, "taken", "the sheet itself does not take it".into(), Verdict::Differs);
            return Ok(());
        }
        let plain = self.planned(Some(voice), model, None, Shaping::default());
        let before = match plain {
            Some(plain) => self.speak(&plain, text).await?.ok(),
            None => None,
        };
        let made = match self.speak(&planned, text).await? {
            Ok(made) => made,
            Err(miss) => {
                self.miss("control", subject, "taken", &miss);
                return Ok(());
            }
        };
        let Some(before) = before else { return Ok(()) };
        let claimed = if accepted { "taken" } else { "heard" };
        let (seen, verdict) = match rate {
            Some(rate) => {
                let got = before.seconds() / made.seconds().max(1e-3);
                let fits = (got / rate - 1.0).abs() <= TOLERANCE;
                (format!("{got:.2} times as fast"), if fits { Verdict::Holds } else { Verdict::Differs })
            }
            None if accepted => (seconds(&made), Verdict::Holds),
            None if before.samples == made.samples => ("no difference is heard".into(), Verdict::Differs),
            None => ("a difference is heard".into(), Verdict::Holds),
        };
        self.put("control", subject, claimed, seen.clone(), verdict);
        if verdict == Verdict::Differs {
            self.told_by(&planned, text, seen);
        }
        Ok(())
    }

    async fn unknown_voice(&mut self, voice: &Voice) -> Result<(), GatewayError> {
        let strange = Voice { id: format!("{}-of-nowhere", voice.id), ..voice.clone() };
        let Some(planned) = self.planned(Some(&strange), None, None, Shaping::default()) else { return Ok(()) };
        match self.speak(&planned, "Hello.").await? {
            Ok(_) => self.put("error", "an unknown voice", "refused", "spoken by another".into(), Verdict::Open),
            Err(miss) if matches!(miss.cause, Cause::Malformed | Cause::Unsupported | Cause::Refused) => {
                self.put("error", "an unknown voice", "refused", miss.cause.name().into(), Verdict::Holds);
            }
            // Programs end as they like.
            Err(miss) if self.engine.sheet().process.is_some() => {
                self.put("error", "an unknown voice", "refused", miss.cause.name().into(), Verdict::Holds);
            }
            Err(miss) => self.miss("error", "an unknown voice", "refused", &miss),
        }
        Ok(())
    }

    async fn limits(&mut self, voice: &Voice, text: &str) -> Result<(), GatewayError> {
        let Some(limit) = self.sheet.synthesis.as_ref().map(|synthesis| synthesis.limit.clone()) else { return Ok(()) };
        let (most, unit) = match (limit.characters, limit.bytes) {
            (Some(characters), _) => (characters, "characters"),
            (None, Some(bytes)) => (bytes, "bytes"),
            _ => return Ok(()),
        };
        let claimed = format!("{most} {unit} at once");
        if most > LONGEST_TRIED {
            self.put("limit", unit, &claimed, "not tried: too long to send for this".into(), Verdict::Open);
            return Ok(());
        }
        // ASCII, so that characters and bytes are the same.
        let sentence = sample_sentence(&["en".to_owned()]);
        let _ = text;
        let long: String = std::iter::repeat_n(sentence, most as usize / sentence.len() + 1).collect::<Vec<_>>().join(" ");
        let long = long[..usize::try_from(most).unwrap_or(0).min(long.len())].trim_end().to_owned();
        let Some(planned) = self.planned(Some(voice), None, None, Shaping::default()) else { return Ok(()) };
        match self.speak(&planned, &long).await? {
            Ok(made) => self.put("limit", unit, &claimed, seconds(&made), Verdict::Holds),
            Err(miss) => self.miss("limit", unit, &claimed, &miss),
        }
        Ok(())
    }

    async fn hearing(&mut self, heard: Option<&str>) -> Result<(), GatewayError> {
        let Some(recognition) = self.sheet.recognition.clone() else { return Ok(()) };
        let sentence = sample_sentence(&["en".to_owned()]);
        let sample = match self.gateway.sample(self.caller, sentence, heard).await {
            Ok(sample) => sample,
            Err(error) => {
                self.put("transcript", "speech to hear", "text", format!("not tried: {error}"), Verdict::Open);
                return Ok(());
            }
        };
        for (key, format) in self.engine.hearing_formats().into_iter().map(|format| (format.key.clone(), format)) {
            if format.format.check_output().is_err() {
                continue;
            }
            let subject = format!("{key} {} Hz", format.format.rate);
            match self.hear(&sample, format, HearAsk::default()).await? {
                Err(miss) => self.miss("format", subject, "heard", &miss),
                Ok(transcript) => {
                    let errors = dispatcher_core::word_errors(sentence, &transcript.text);
                    let seen = format!("\"{}\", {:.0} % word errors", transcript.text, errors.rate() * 100.0);
                    let verdict = if transcript.text.is_empty() { Verdict::Differs } else { Verdict::Holds };
                    self.put("format", subject, "heard", seen, verdict);
                }
            }
        }
        self.transcript(&sample, &recognition).await
    }

    async fn transcript(
        &mut self,
        sample: &[f32],
        recognition: &dispatcher_core::Recognition,
    ) -> Result<(), GatewayError> {
        let formats = self.engine.hearing_formats();
        let Some(format) = formats.into_iter().find(|format| format.format.check_output().is_ok()) else {
            return Ok(());
        };
        let ask = HearAsk {
            speakers: recognition.controls.speakers.is_some(),
            alternatives: recognition.controls.alternatives.as_ref().map(|it| it.most.min(2)),
            hints: recognition.controls.hints.is_some(),
        };
        let transcript = match self.hear(sample, format, ask).await? {
            Ok(transcript) => transcript,
            Err(miss) => {
                self.miss("control", "all of them", "taken", &miss);
                return Ok(());
            }
        };
        let truth = |yes: bool| if yes { Verdict::Holds } else { Verdict::Differs };
        if recognition.transcript.as_ref().is_some_and(|paths| paths.words.is_some()) || recognition.lines.is_some() {
            let times: Vec<f64> = transcript.words.iter().filter_map(|word| word.start).collect();
            let whole = !transcript.words.is_empty() && times.len() == transcript.words.len();
            let length = sample.len() as f64 / f64::from(SAMPLE_RATE);
            let inside = times.is_sorted() && times.iter().all(|time| (0.0..=length).contains(time));
            let seen = format!("{} words from {:.2} s", transcript.words.len(), times.first().copied().unwrap_or(0.0));
            self.put("transcript", "word times", "in order, within the sound", seen, truth(whole && inside));
        }
        if ask.speakers {
            let named = transcript.words.iter().all(|word| word.speaker.is_some()) && !transcript.words.is_empty();
            self.put("control", "speakers", "named", if named { "named" } else { "not named" }.into(), truth(named));
        }
        if ask.alternatives.is_some() {
            let count = transcript.alternatives.len();
            self.put("control", "alternatives", "given", format!("{count} given"), truth(count > 0));
        }
        if ask.hints {
            self.put("control", "hints", "taken", "taken".into(), Verdict::Holds);
        }
        Ok(())
    }

    async fn hear(
        &mut self,
        sample: &[f32],
        format: EngineFormat,
        ask: HearAsk,
    ) -> Result<Result<dispatcher_core::Transcript, Miss>, GatewayError> {
        let to = format.format;
        let samples = sample.to_vec();
        let coded = tokio::task::spawn_blocking(move || coded(&samples, to)).await;
        let audio = coded.map_err(|error| GatewayError::Internal(error.to_string()))?.map_err(GatewayError::Format)?;
        let milliseconds = sample.len() as u64 * 1_000 / u64::from(SAMPLE_RATE);
        let usage = Usage { milliseconds, ..Usage::default() };
        let model = self.sheet.recognition.as_ref().and_then(|it| it.models.first()).map(|model| model.name.clone());
        let estimate = self.sheet.tariff.cost(usage, model.as_deref())?;
        let candidate = Candidate { sheet: self.sheet.clone(), voice: None, model: model.clone(), deadline: 120_000 };
        let engine = self.engine.clone();
        let planned = Planned { candidate, engine, format: format.clone(), usage, estimate, shaped: Shaped::default() };
        let opening = Opening {
            wanted: "check",
            media_type: to.media_type(),
            language: None,
            characters: 0,
            audio_ms: milliseconds,
            trace: None,
            rehearsal: false,
        };
        let docket = Docket::open(self.gateway, self.caller, Work::Recognition, opening);
        let entry = docket.begin(&planned, usage, estimate).await?;
        let call = Hear {
            audio: AudioSource::Memory(audio.into()),
            format: format.clone(),
            model,
            language: Some("en".into()),
            context: None,
            variation: None,
            hints: if ask.hints { vec!["quay".into()] } else { Vec::new() },
            speakers: ask.speakers,
            alternatives: ask.alternatives,
            seconds: milliseconds as f64 / 1_000.0,
        };
        let heard = self.listen(&planned, call).await;
        let (state, ending) = match &heard {
            Ok(_) => {
                ("done", Ending { state: "done", cause: None, detail: None, first_us: None, charged: Some(usage) })
            }
            Err(error) => ("failed", ending_of(&FailedAttempt::of(&planned, error.clone()), None)),
        };
        let problem = heard.as_ref().err().map(|error| error.detail.clone());
        let cost = docket.settle(Some((&entry, ending)), state, milliseconds, None, problem).await?;
        self.cost = self.cost.plus(cost).unwrap_or(self.cost);
        let request = format!("{} of {} Hz, {} ms", to.media_type(), to.rate, milliseconds);
        Ok(heard.map_err(|error| Miss { cause: error.cause, detail: error.detail, request }))
    }

    async fn listen(&self, planned: &Planned, call: Hear) -> Result<dispatcher_core::Transcript, EngineError> {
        let _permit = self.gateway.turn(planned, &self.caller.app.name).await;
        let credential = self.gateway.credential_for(&self.engine).await?;
        let none = Parts::new();
        let parts = credential.as_ref().map_or(&none, |opened| &opened.parts);
        match tokio::time::timeout(PATIENCE, self.engine.hear(call, parts)).await {
            Ok(heard) => heard,
            Err(_) => {
                let detail = format!("no answer within {} s", PATIENCE.as_secs());
                Err(EngineError { cause: Cause::TimedOut, detail, retry_after: None })
            }
        }
    }
}

/// What a recogniser is asked for besides text.
#[derive(Clone, Copy, Default)]
struct HearAsk {
    speakers: bool,
    alternatives: Option<u64>,
    hints: bool,
}

/// The rate of the speech that recognisers are given.
const SAMPLE_RATE: u32 = 24_000;

/// The sample in a format of an engine.
fn coded(samples: &[f32], to: Format) -> Result<Vec<u8>, AudioError> {
    use dispatcher_audio::{Codec, Transcoder};
    let raw = Format::new(Codec::Pcm, SAMPLE_RATE);
    let bytes: Vec<u8> = samples.iter().flat_map(|sample| ((sample * 32_767.0) as i16).to_le_bytes()).collect();
    let mut transcoder = Transcoder::new(raw, to)?;
    let mut out = transcoder.push(&bytes.into())?.to_vec();
    out.extend_from_slice(&transcoder.finish()?);
    Ok(out)
}

fn seconds(made: &Made) -> String {
    format!("{:.2} s", made.seconds())
}

/// What came back for a format; `known` is how long the sentence is.
fn judge_format(claimed: Format, made: &Made, known: Option<f64>) -> (String, Verdict) {
    let long = made.seconds();
    if made.rate != claimed.rate {
        return (format!("{} Hz", made.rate), Verdict::Differs);
    }
    match known.filter(|_| !claimed.codec.describes_itself()) {
        Some(known) if (long / known - 1.0).abs() > TOLERANCE => {
            // Raw samples do not say their rate; their length does.
            let rate = f64::from(claimed.rate) * long / known;
            (format!("as long as at {rate:.0} Hz"), Verdict::Differs)
        }
        _ if long < 0.1 => ("no sound".into(), Verdict::Differs),
        _ => (format!("{} Hz, {long:.2} s", made.rate), Verdict::Holds),
    }
}

/// All that an engine says.
async fn read(spoken: Result<dispatcher_engines::Spoken, EngineError>) -> Result<Vec<u8>, EngineError> {
    let mut audio = Vec::new();
    let mut stream = spoken?.audio;
    while let Some(piece) = stream.next().await {
        audio.extend_from_slice(&piece?);
    }
    Ok(audio)
}

impl Gateway {
    /// A sentence spoken, as samples at 24 kHz, for recognisers to hear.
    async fn sample(&self, caller: &Caller, text: &str, voice: Option<&str>) -> Result<Vec<f32>, GatewayError> {
        let format = Format::new(dispatcher_audio::Codec::Pcm, SAMPLE_RATE);
        let request = crate::SynthesisRequest {
            text: crate::TextInput::Plain(text.into()),
            wanted: voice.map(|voice| dispatcher_core::Wanted::Named(voice.into())),
            model: None,
            language: Some("en".into()),
            unsupported: crate::Unsupported::Adapt,
            shaping: Shaping::default(),
            format,
            trace: None,
        };
        let mut utterance = self.speak(caller, request).await?;
        let mut audio = Vec::new();
        while let Some(piece) = utterance.body.next().await {
            audio.extend_from_slice(&piece.map_err(|error| GatewayError::Internal(error.to_string()))?);
        }
        Ok(decode_all(&audio, format).map_err(GatewayError::NotAudio)?.0)
    }
}
