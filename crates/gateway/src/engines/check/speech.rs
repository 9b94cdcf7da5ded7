//! What a sheet claims of speaking.

use std::sync::Arc;

use dispatcher_audio::{AudioError, Format, decode_all, measure};
use dispatcher_core::{
    Bounds, Candidate, Cause, Done, Money, RangeControl, RequestShare, Shaping, Style, Usage, Voice, Work,
    sample_sentence,
};
use dispatcher_engines::{EngineError, EngineFormat, Speak};
use dispatcher_markup::Policy;
use dispatcher_vault::Parts;

use super::{CheckDepth, Checking, MadeSound, Miss, PATIENCE, Verdict, read};
use crate::dispatch::dispatch_record::{DispatchOutcome, DispatchRecord, NewDispatch};
use crate::planning::plan::usage_of;
use crate::{FailedAttempt, GatewayError, PlannedCall};

/// Texts beyond this are not sent only to see whether they are taken.
const LONGEST_TRIED: u64 = 20_000;
/// Voices and styles that are tried of each engine.
const MOST_TRIED: usize = 3;
/// How far a length may be from what a rate makes of it.
const TOLERANCE: f64 = 0.15;

/// One control, and the values at which it is tried.
struct Try {
    subject: String,
    wishes: Vec<Shaping>,
    model: Option<String>,
}

impl Checking<'_> {
    /// A candidate of this engine; the first voice and model and the first
    /// format where nothing else is said.
    pub(super) fn planned(
        &self,
        voice: Option<&Voice>,
        model: Option<&str>,
        format: Option<EngineFormat>,
        shaping: Shaping,
    ) -> Option<PlannedCall> {
        let synthesis = self.sheet.synthesis.as_ref()?;
        let voice = voice.or_else(|| synthesis.voices.iter().find(|v| v.unavailable.is_none()))?.clone();
        let own = voice.models.first().cloned();
        let model = model.map(str::to_owned).or(own).or_else(|| Some(synthesis.models.first()?.name.clone()));
        let format = format.or_else(|| self.engine.speaking_formats().into_iter().next())?;
        let shaped = shaping.with(&synthesis.controls, model.as_deref(), &voice, Policy::Omit);
        let candidate = Candidate {
            sheet: self.sheet.clone(),
            voice: Some(voice),
            model,
            work: Work::Synthesis,
            deadline: Some(120_000),
            credential: None,
            bounds: Bounds::default(),
            leg: None,
            in_place_of: None,
        };
        let currency = self.sheet.tariff_of(Work::Synthesis).currency;
        Some(PlannedCall {
            candidate,
            engine: self.engine.clone(),
            format,
            usage: Usage::default(),
            estimate: Money::zero(currency),
            shaped,
            render_plan: Arc::default(),
        })
    }

    pub(super) fn call(&self, planned: &PlannedCall, text: &str) -> Speak {
        planned.call(text, None)
    }

    /// Speaks, as a dispatch of the caller's.
    async fn speak(&mut self, planned: &PlannedCall, text: &str) -> Result<Result<MadeSound, Miss>, GatewayError> {
        let usage = usage_of(text);
        let share = RequestShare::of_text(usage, Money::zero(planned.estimate.currency));
        let new = NewDispatch {
            hold: self.gateway.hold_spending(self.caller, share)?,
            requested: "check",
            media_type: planned.format.format.media_type(),
            language: None,
            characters: usage.characters,
            audio_ms: 0,
            trace: None,
            rehearsal: false,
            job: None,
        };
        let record = DispatchRecord::open(self.gateway, self.caller, Work::Synthesis, new);
        let attempt = record.begin(planned, usage).await?;
        let call = self.call(planned, text);
        let request = self.engine.preview(&call);
        let made = self.sound(planned, &record, call).await;
        let milliseconds = made.as_ref().map_or(0, |made| made.length.milliseconds());
        let (ended, outcome) = match &made {
            Ok(_) => {
                let charged = Usage { milliseconds, ..usage };
                (attempt.delivered(charged, None), DispatchOutcome::done(milliseconds, None))
            }
            Err(error) => {
                let ended = attempt.failed(&FailedAttempt::of(planned, error.clone()), None);
                (ended, DispatchOutcome::failed(milliseconds, None, error.detail.clone()))
            }
        };
        let cost = record.settle(ended.into(), outcome).await?;
        self.cost = self.cost.plus(cost).unwrap_or(self.cost);
        Ok(made.map_err(|error| Miss { cause: error.cause, detail: error.detail, request }))
    }

    async fn sound(
        &self,
        planned: &PlannedCall,
        record: &DispatchRecord,
        call: Speak,
    ) -> Result<MadeSound, EngineError> {
        let _permit = self.gateway.turn(planned, record).await;
        let credential = self.gateway.credential_for(&self.engine, None).await?;
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
        let broken = |error: AudioError| crate::dispatch::attempt::broken(&error);
        let decoded = tokio::task::spawn_blocking(move || {
            let (format, length) = measure(&audio, Some(format))?;
            let (samples, layout) = decode_all(&audio, format)?;
            Ok((samples, layout, length))
        });
        let decoded = decoded.await.map_err(|error| crate::dispatch::attempt::broken(&error))?;
        let (samples, layout, length) = decoded.map_err(broken)?;
        Ok(MadeSound { samples, rate: layout.rate, length })
    }

    pub(super) async fn speech(&mut self, depth: CheckDepth) -> Result<(), GatewayError> {
        let Some(synthesis) = self.sheet.synthesis.clone() else { return Ok(()) };
        let voices: Vec<Voice> = synthesis.voices.iter().filter(|voice| voice.unavailable.is_none()).cloned().collect();
        let Some(first) = voices.first().cloned() else { return Ok(()) };
        let text = sample_sentence(&first.languages);
        self.formats(text).await?;
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
            let Some(planned) = self.planned(Some(&first), Some(&model.name), None, Shaping::default()) else {
                continue;
            };
            match self.speak(&planned, text).await? {
                Ok(made) => self.put("model", &model.name, "speaks", seconds(&made), Verdict::Holds),
                Err(miss) => self.miss("model", &model.name, "speaks", &miss),
            }
        }
        self.controls(&first, text).await?;
        self.unknown_voice(&first).await?;
        if depth == CheckDepth::Whole {
            self.limits(&first).await?;
        }
        Ok(())
    }

    /// Every format at every rate.
    async fn formats(&mut self, text: &str) -> Result<(), GatewayError> {
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
        Ok(())
    }

    /// What was sent for the last claim, and what came back.
    fn told_by(&mut self, planned: &PlannedCall, text: &str, answer: String) {
        let request = self.engine.preview(&self.call(planned, text));
        if let Some(claim) = self.claims.last_mut() {
            claim.request = Some(request);
            claim.answer = Some(answer);
        }
    }

    async fn controls(&mut self, voice: &Voice, text: &str) -> Result<(), GatewayError> {
        let Some(synthesis) = self.sheet.synthesis.clone() else { return Ok(()) };
        let controls = &synthesis.controls;
        let model_of = |models: &[String]| models.first().cloned();
        let ranged = |name: &'static str, control: &Option<RangeControl>, wish: fn(f64) -> Shaping| {
            control.as_ref().map(|range| Try {
                subject: name.to_owned(),
                wishes: vec![wish(range.least), wish(range.most)],
                model: model_of(&range.models),
            })
        };
        let mut tries: Vec<Try> = [
            ranged("rate", &controls.rate, |value| Shaping { rate: Some(value), ..Shaping::default() }),
            ranged("pitch", &controls.pitch, |value| Shaping { pitch: Some(value), ..Shaping::default() }),
            ranged("volume", &controls.volume, |value| Shaping { volume: Some(value), ..Shaping::default() }),
            ranged("variation", &controls.variation, |it| Shaping { variation: Some(it), ..Shaping::default() }),
        ]
        .into_iter()
        .flatten()
        .collect();
        if let Some(style) = &controls.style {
            let names = if style.names.is_empty() { &voice.styles } else { &style.names };
            let strength = style.strengths.last().copied();
            let wish =
                |name: &String| Shaping { style: Some(Style { name: name.clone(), strength }), ..Shaping::default() };
            tries.extend(names.iter().take(MOST_TRIED).map(|name| Try {
                subject: format!("style {name}"),
                wishes: vec![wish(name)],
                model: model_of(&style.models),
            }));
        }
        if let Some(direction) = &controls.direction {
            let wish = Shaping { direction: Some("calm and clear".into()), ..Shaping::default() };
            tries.push(Try { subject: "direction".into(), wishes: vec![wish], model: model_of(&direction.models) });
        }
        for one in tries {
            self.control(voice, text, one).await?;
        }
        Ok(())
    }

    /// Whether a control is accepted, and has an effect on the audio if that can be measured.
    async fn control(&mut self, voice: &Voice, text: &str, one: Try) -> Result<(), GatewayError> {
        let Try { subject, wishes, model } = one;
        let Some(plain) = self.planned(Some(voice), model.as_deref(), None, Shaping::default()) else { return Ok(()) };
        let Ok(before) = self.speak(&plain, text).await? else { return Ok(()) };
        let mut seen = Vec::new();
        for wish in wishes {
            let (rate, heard) = (wish.rate, wish.pitch.is_some() || wish.volume.is_some());
            let Some(planned) = self.planned(Some(voice), model.as_deref(), None, wish) else { return Ok(()) };
            if planned.shaped.adjustments.iter().any(|it| it.done == Done::Omitted) {
                self.put("control", subject, "taken", "the sheet does not support it".into(), Verdict::Differs);
                return Ok(());
            }
            let made = match self.speak(&planned, text).await? {
                Ok(made) => made,
                Err(miss) => {
                    self.miss("control", subject, "taken", &miss);
                    return Ok(());
                }
            };
            let (told, good) = match rate {
                Some(rate) => {
                    let got = before.seconds() / made.seconds().max(1e-3);
                    (format!("{got:.2} times as fast for {rate}"), (got / rate - 1.0).abs() <= TOLERANCE)
                }
                None if heard => {
                    let same = before.samples == made.samples;
                    (if same { "nothing changes" } else { "it is audible" }.into(), !same)
                }
                None => (seconds(&made), true),
            };
            seen.push(told);
            if !good {
                self.put("control", subject, "heard", seen.join(", "), Verdict::Differs);
                self.told_by(&planned, text, seen.join(", "));
                return Ok(());
            }
        }
        self.put("control", subject, "heard", seen.join(", "), Verdict::Holds);
        Ok(())
    }

    async fn unknown_voice(&mut self, voice: &Voice) -> Result<(), GatewayError> {
        let strange = Voice { id: format!("{}-of-nowhere", voice.id), ..voice.clone() };
        let Some(planned) = self.planned(Some(&strange), None, None, Shaping::default()) else { return Ok(()) };
        match self.speak(&planned, "Hello.").await? {
            Ok(_) => {
                self.put("error", "an unknown voice", "refused", "spoken by another voice".into(), Verdict::Untested)
            }
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

    async fn limits(&mut self, voice: &Voice) -> Result<(), GatewayError> {
        let Some(limit) = self.sheet.synthesis.as_ref().map(|synthesis| synthesis.limit.clone()) else { return Ok(()) };
        let (most, unit) = match (limit.characters, limit.bytes) {
            (Some(characters), _) => (characters, "characters"),
            (None, Some(bytes)) => (bytes, "bytes"),
            _ => return Ok(()),
        };
        let claimed = format!("{most} {unit} in one call");
        if most > LONGEST_TRIED {
            self.put("limit", unit, &claimed, "not tested: too long for a check".into(), Verdict::Untested);
            return Ok(());
        }
        let Some(planned) = self.planned(Some(voice), None, None, Shaping::default()) else { return Ok(()) };
        // Where markup counts, what it takes is not left for the text.
        let around = if limit.tags { self.engine.document(&self.call(&planned, "x")).len() - 1 } else { 0 };
        let most = usize::try_from(most).unwrap_or(0).saturating_sub(around);
        // ASCII, so that characters and bytes are the same.
        let sentence = sample_sentence(&["en".to_owned()]);
        let long: String = std::iter::repeat_n(sentence, most / sentence.len() + 1).collect::<Vec<_>>().join(" ");
        let long = long[..most.min(long.len())].trim_end().to_owned();
        match self.speak(&planned, &long).await? {
            Ok(made) => self.put("limit", unit, &claimed, seconds(&made), Verdict::Holds),
            Err(miss) => self.miss("limit", unit, &claimed, &miss),
        }
        Ok(())
    }
}

fn seconds(made: &MadeSound) -> String {
    format!("{:.2} s", made.seconds())
}

/// What came back for a format; `known` is how long the sentence is.
fn judge_format(claimed: Format, made: &MadeSound, known: Option<f64>) -> (String, Verdict) {
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
