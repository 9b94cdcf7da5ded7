//! What a sheet claims of listening.

use std::sync::Arc;

use dispatcher_audio::{AudioError, Format, decode_all};
use dispatcher_core::{
    Bounds, Candidate, Cause, Money, RequestShare, Shaped, Shaping, Transcript, Usage, Work, sample_sentence,
};
use dispatcher_engines::{AudioSource, EngineError, EngineFormat, Hear};
use dispatcher_vault::Parts;

use super::{Checking, Miss, PATIENCE, Verdict};
use crate::dispatch::dispatch_record::{DispatchOutcome, DispatchRecord, NewDispatch};
use crate::{Caller, FailedAttempt, Gateway, GatewayError, PlannedCall};

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

impl Checking<'_> {
    pub(super) async fn hearing(&mut self, heard: Option<&str>) -> Result<(), GatewayError> {
        let Some(recognition) = self.sheet.recognition.clone() else { return Ok(()) };
        let sentence = sample_sentence(&["en".to_owned()]);
        let Some(sample) = self.audible(sentence, heard).await? else {
            let why = "not tested: no voice is available to speak the test audio; give one with --voice";
            self.put("transcript", "speech to hear", "text", why.into(), Verdict::Untested);
            return Ok(());
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

    /// A sentence in a voice that this engine recognises: the one that is named,
    /// else the app's own, else one of the engines that run where this one
    /// does. The last one that was spoken, if it recognises none.
    async fn audible(&mut self, sentence: &str, heard: Option<&str>) -> Result<Option<Vec<f32>>, GatewayError> {
        if let Some(heard) = heard {
            return self.gateway.sample(self.caller, sentence, Some(heard)).await.map(Some);
        }
        let registry = self.gateway.registry();
        let states = self.gateway.engine_states().await?;
        let mut voices: Vec<Option<String>> = vec![None];
        for engine in registry.engines().filter(|engine| engine.sheet().site == self.sheet.site) {
            let (name, synthesis) = (&engine.sheet().name, engine.sheet().synthesis.as_ref());
            let english = synthesis.and_then(|it| it.voices.iter().find(|voice| voice.speaks("en")));
            let ready = states.get(name) == Some(&crate::EngineState::Ready);
            voices.extend(english.filter(|_| ready).map(|voice| Some(format!("{name}/{}", voice.id))));
        }
        let format = self.engine.hearing_formats().into_iter().find(|format| format.format.check_output().is_ok());
        let Some(format) = format else { return Ok(None) };
        let mut last = None;
        for voice in voices {
            let Ok(sample) = self.gateway.sample(self.caller, sentence, voice.as_deref()).await else { continue };
            let heard = self.hear(&sample, format.clone(), HearAsk::default()).await?;
            let understood = heard.is_ok_and(|transcript| !transcript.text.trim().is_empty());
            last = Some(sample);
            if understood {
                break;
            }
        }
        Ok(last)
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
            self.put("transcript", "word times", "in order, within the audio", seen, truth(whole && inside));
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
    ) -> Result<Result<Transcript, Miss>, GatewayError> {
        let to = format.format;
        let samples = sample.to_vec();
        let coded = tokio::task::spawn_blocking(move || coded(&samples, to)).await;
        let audio = coded?.map_err(GatewayError::Format)?;
        let milliseconds = sample.len() as u64 * 1_000 / u64::from(SAMPLE_RATE);
        let usage = Usage { milliseconds, ..Usage::default() };
        let model = self.sheet.recognition.as_ref().and_then(|it| it.models.first()).map(|model| model.name.clone());
        let estimate = Money::zero(self.sheet.tariff_of(Work::Recognition).currency);
        let candidate = Candidate {
            sheet: self.sheet.clone(),
            voice: None,
            model: model.clone(),
            work: Work::Recognition,
            deadline: Some(120_000),
            credential: None,
            bounds: Bounds::default(),
            leg: None,
            in_place_of: None,
        };
        let engine = self.engine.clone();
        let planned = PlannedCall {
            candidate,
            engine,
            format: format.clone(),
            usage,
            estimate,
            shaped: Shaped::default(),
            render_plan: Arc::default(),
        };
        let share = RequestShare::of_audio(milliseconds, Money::zero(estimate.currency));
        let new = NewDispatch {
            hold: self.gateway.hold_spending(self.caller, share)?,
            requested: "check",
            media_type: to.media_type(),
            language: None,
            characters: 0,
            audio_ms: milliseconds,
            trace: None,
            rehearsal: false,
            job: None,
        };
        let record = DispatchRecord::open(self.gateway, self.caller, Work::Recognition, new);
        let attempt = record.begin(&planned, usage).await?;
        let call = Hear {
            model,
            language: Some("en".into()),
            hints: if ask.hints { vec!["quay".into()] } else { Vec::new() },
            speakers: ask.speakers,
            alternatives: ask.alternatives,
            seconds: milliseconds as f64 / 1_000.0,
            ..Hear::new(AudioSource::Memory(audio.into()), format.clone())
        };
        let heard = self.listen(&planned, &record, call).await;
        let (ended, outcome) = match &heard {
            Ok(_) => (attempt.delivered(usage, None), DispatchOutcome::done(milliseconds, None)),
            Err(error) => {
                let ended = attempt.failed(&FailedAttempt::of(&planned, error.clone()), None);
                (ended, DispatchOutcome::failed(milliseconds, None, error.detail.clone()))
            }
        };
        let cost = record.settle(ended.into(), outcome).await?;
        self.cost = self.cost.plus(cost).unwrap_or(self.cost);
        let request = format!("{} of {} Hz, {} ms", to.media_type(), to.rate, milliseconds);
        Ok(heard.map_err(|error| Miss { cause: error.cause, detail: error.detail, request }))
    }

    async fn listen(
        &self,
        planned: &PlannedCall,
        record: &DispatchRecord,
        call: Hear,
    ) -> Result<Transcript, EngineError> {
        let _permit = self.gateway.turn(planned, record).await;
        let credential = self.gateway.credential_for(&self.engine, None).await?;
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

impl Gateway {
    /// A sentence spoken, as samples at 24 kHz, for recognisers to hear.
    async fn sample(&self, caller: &Caller, text: &str, voice: Option<&str>) -> Result<Vec<f32>, GatewayError> {
        let format = Format::new(dispatcher_audio::Codec::Pcm, SAMPLE_RATE);
        let request = crate::SynthesisRequest {
            deadline: None,
            credential: None,
            text: crate::TextInput::Plain(text.into()),
            wanted: voice.map(|voice| dispatcher_core::Wanted::Named(voice.into())),
            model: None,
            language: Some("en".into()),
            unsupported: crate::Unsupported::Adapt,
            shaping: Shaping::default(),
            format,
            region: None,
            trace: None,
            notes: Vec::new(),
            cache: crate::CacheWish::Off,
        };
        let mut utterance = self.speak(caller, request).await?;
        let mut audio = Vec::new();
        while let Some(piece) = utterance.body.next().await {
            audio.extend_from_slice(&piece.map_err(|error| GatewayError::CheckAudio(error.to_string()))?);
        }
        Ok(decode_all(&audio, format).map_err(GatewayError::NotAudio)?.0)
    }
}
