//! One recognition, from the audio to its settled record.

use std::io::{Read as _, Seek as _, Write as _};
use std::sync::Arc;

use bytes::Bytes;
use dispatcher_audio::{AudioError, Format, Options, Transcoder};
use dispatcher_core::{Adjustment, Cause, HearingWish, Money, RequestShare, Revised, Transcript, Work};
use dispatcher_engines::{AudioSource, Engine, EngineError, EngineFormat};
use dispatcher_vault::Parts;
use tokio::sync::oneshot;

use crate::dispatch::attempt::again;
use crate::dispatch::caller_limits::InWork;
use crate::dispatch::candidates::{self, Attempt, Outcome, Tried};
use crate::dispatch::channels::RecognisedChannel;
use crate::dispatch::deliver::CodecError;
use crate::dispatch::dispatch_record::{DispatchOutcome, DispatchRecord, LastAttempt, NewDispatch};
use crate::dispatch::speak::{CALLER_LEFT, summary};
use crate::intake::recording::{AudioInfo, GivenAudio};
use crate::jobs::PartNote;
use crate::library::transcripts::NewTranscript;
use crate::planning::hearers::{HearerWish, controlled};
use crate::planning::languages::{ComparedLanguage, StatedLanguage};
use crate::planning::order::Purpose;
use crate::{Caller, FailedAttempt, Gateway, GatewayError, PlannedCall, Unsupported};

/// Audio with less audio than this has nothing to be recognised, in seconds.
pub(crate) const SILENT: f64 = 0.1;

/// What is asked for.
#[derive(Debug, Clone)]
pub struct RecognitionRequest {
    pub audio: GivenAudio,
    pub hearer: HearerWish,
    /// Languages of which one is spoken, if none is stated.
    pub languages: Vec<String>,
    pub wish: HearingWish,
    pub unsupported: Unsupported,
    /// Each channel is recognised by itself.
    pub channels: bool,
    /// Milliseconds until the transcript, in place of each candidate's own.
    pub deadline: Option<u64>,
    /// The credential to call with, in place of the engine's usual one.
    pub credential: Option<String>,
    pub trace: Option<String>,
}

/// A transcript and how it was come by.
#[derive(Debug, Clone)]
pub struct Recognised {
    pub dispatch: String,
    pub engine: String,
    pub model: Option<String>,
    /// What was heard, after the rules of the app.
    pub revised: Revised,
    /// How the language of the transcript is known; `None` if it is not.
    pub language_from: Option<LanguageSource>,
    /// What each language that might be spoken was found to be.
    pub languages: Vec<ComparedLanguage>,
    /// What became of each channel, where they were recognised one by one.
    pub channels: Vec<RecognisedChannel>,
    /// It is kept, under the id of the dispatch.
    pub kept: bool,
    /// Seconds of audio.
    pub length: f64,
    pub cost: Money,
    pub warnings: Vec<String>,
    pub rehearsal: bool,
}

/// How the language of a transcript is known.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum LanguageSource {
    /// The request says it.
    Request,
    /// It is the language of the app.
    App,
    /// It was the likeliest of several.
    Compared,
    /// The engine says it, or knows no other.
    Engine,
    /// The text can be of no other.
    Text,
}

impl LanguageSource {
    /// The word in answers.
    pub fn name(self) -> &'static str {
        match self {
            LanguageSource::Request => "request",
            LanguageSource::App => "app",
            LanguageSource::Compared => "compared",
            LanguageSource::Engine => "engine",
            LanguageSource::Text => "text",
        }
    }
}

impl Gateway {
    /// Recognises. The transcript is as the rules of the app make it, and kept
    /// where the app wants that.
    ///
    /// # Errors
    /// Before anything was called: faults of the request. After: all that was
    /// tried and why it failed.
    pub async fn recognise(
        &self,
        caller: &Caller,
        mut request: RecognitionRequest,
    ) -> Result<Recognised, GatewayError> {
        let stated = self.state_language(caller, &mut request).await?;
        let mut recognised = match request.channels {
            true => self.recognise_channels(caller, &request).await?,
            false => self.recognise_for(caller, request, None).await?,
        };
        if let Some(StatedLanguage { from, compared }) = stated {
            recognised.language_from = Some(from);
            recognised.languages = compared;
        }
        self.finish_transcript(caller, &mut recognised).await?;
        Ok(recognised)
    }

    /// The rules of the app, and what it keeps. What is kept has no parts that
    /// are masked.
    async fn finish_transcript(&self, caller: &Caller, recognised: &mut Recognised) -> Result<(), GatewayError> {
        let heard = std::mem::take(&mut recognised.revised.transcript);
        recognised.revised = self.revise(&caller.app.name, heard).await?;
        if !recognised.rehearsal {
            let Recognised { dispatch, engine, length, revised, .. } = &*recognised;
            let end_user = caller.end_user();
            let new = NewTranscript { id: dispatch, title: "", engine, length: *length, end_user };
            match self.keep_transcript(&caller.app, new, revised).await {
                Ok(kept) => recognised.kept = kept,
                // It is paid for, and still returned.
                Err(error) => {
                    tracing::error!(%error, dispatch, "a transcript was not kept");
                    recognised.warnings.push("the transcript could not be kept".into());
                }
            }
        }
        Ok(())
    }

    /// The same, for a part of a job: what is heard is kept before it is paid for.
    pub(crate) async fn recognise_for(
        &self,
        caller: &Caller,
        request: RecognitionRequest,
        note: Option<PartNote>,
    ) -> Result<Recognised, GatewayError> {
        // Parts of jobs were let in with their job.
        let in_work = if note.is_none() { self.enter(caller)? } else { None };
        let (audio, probed) = request.audio.take(self, request.unsupported).await?;
        let request = RecognitionRequest { audio, ..request };
        let (wanted, plan) = self.plan_recognition(caller, &request.hearer, &probed)?;
        caller.check_route(&wanted, request.credential.as_deref())?;
        let mut plan = self.controllable(plan, &request)?;
        if note.is_none() {
            self.arrange(&wanted, Purpose::Answer, &mut plan, |planned| planned);
        }
        for planned in &mut plan {
            planned.candidate.deadline = request.deadline.or(planned.candidate.deadline);
            if request.credential.is_some() {
                planned.candidate.credential.clone_from(&request.credential);
            }
        }
        let rehearsal = caller.app.rehearsal;
        if note.is_none() && !rehearsal {
            plan = self.uncrowded(caller, plan)?;
        }
        let share = |cost| RequestShare::of_audio(probed.length.milliseconds(), cost);
        let hold = if rehearsal { None } else { self.hold_for_plan(caller, &mut plan, share)? };
        let new = NewDispatch {
            hold,
            requested: &wanted,
            media_type: probed.format.media_type(),
            language: request.hearer.language.clone(),
            characters: 0,
            audio_ms: probed.length.milliseconds(),
            trace: request.trace.clone(),
            rehearsal,
            job: note.as_ref().map(|note| note.job.clone()),
        };
        let record = DispatchRecord::open(self, caller, Work::Recognition, new);
        let (answer, outcome) = oneshot::channel();
        let gateway = self.clone();
        self.inner.running.spawn(async move {
            let run = Listening { gateway, record, plan, request, probed, note, _in_work: in_work };
            if rehearsal { run.rehearse(answer).await } else { run.hear(answer).await }
        });
        outcome.await.map_err(|_| GatewayError::Abandoned)?
    }
}

type Answer = oneshot::Sender<Result<Recognised, GatewayError>>;

struct Listening {
    gateway: Gateway,
    record: DispatchRecord,
    plan: Vec<PlannedCall>,
    request: RecognitionRequest,
    probed: AudioInfo,
    note: Option<PartNote>,
    _in_work: Option<InWork>,
}

/// The candidates of a recognition, tried for one caller.
struct Hearer<'l> {
    listening: &'l Listening,
    answer: &'l mut Answer,
}

impl Attempt<Option<Recognised>> for Hearer<'_> {
    async fn left(&mut self) {
        self.answer.closed().await;
    }

    /// `None` if the caller left.
    async fn attempt(
        &mut self,
        planned: &PlannedCall,
        failures: &[FailedAttempt],
    ) -> Result<Tried<Option<Recognised>>, GatewayError> {
        let listening = self.listening;
        let record = &listening.record;
        let audio_ms = listening.probed.length.milliseconds();
        let attempt = record.begin(planned, planned.usage).await?;
        let deadline = planned.candidate.first_deadline(planned.usage);
        let heard = tokio::select! {
            heard = tokio::time::timeout(deadline, listening.attempt(planned)) => heard.unwrap_or_else(|_| {
                let detail = format!("no transcript within {} ms", deadline.as_millis());
                Err(EngineError { cause: Cause::TimedOut, detail, retry_after: None })
            }),
            () = self.answer.closed() => {
                // Engines work on audio no faster than they were given it.
                let heard = attempt.milliseconds();
                let left = format!("the caller left after {heard} ms");
                let ended = attempt.abandoned(&left, planned.usage, heard, None);
                record.settle(ended.into(), DispatchOutcome::abandoned(audio_ms, None, CALLER_LEFT)).await?;
                return Ok(Tried::Over(None));
            }
        };
        let transcript = match heard {
            Ok(transcript) => transcript,
            Err(error) => {
                let failed = FailedAttempt::of(planned, error);
                return Ok(Tried::Failed { last: attempt.failed(&failed, None).into(), others: Vec::new(), failed });
            }
        };
        let stored = match &listening.note {
            Some(note) => {
                // A part is kept before the whole is known, and masked before it is kept.
                let masked = listening.gateway.rules_of(record.app()).rules.mask(transcript.clone());
                note.commit(attempt.engine(), record.id(), &masked).await
            }
            None => Ok(()),
        };
        let first = attempt.elapsed();
        let last = LastAttempt::from(attempt.delivered(planned.usage, Some(first)));
        if let Err(error) = stored {
            // The engine did its part and is paid, whatever became of it here.
            record.settle(last, DispatchOutcome::failed(audio_ms, None, error.to_string())).await?;
            return Err(error);
        }
        let cost = record.settle(last, DispatchOutcome::done(audio_ms, Some(record.elapsed()))).await?;
        Ok(Tried::Over(Some(listening.recognised(planned, transcript, cost, failures))))
    }
}

impl Listening {
    async fn hear(self, mut answer: Answer) {
        let mut hearer = Hearer { listening: &self, answer: &mut answer };
        let result = match candidates::run(&self.record, &self.plan, &mut hearer).await {
            Ok(Outcome::Over(None)) => return,
            Ok(Outcome::Over(Some(recognised))) => Ok(recognised),
            Ok(Outcome::Exhausted(last, attempts)) => self.exhausted(last, attempts).await,
            Err(error) => Err(error),
        };
        drop(answer.send(result));
    }

    /// Every candidate failed: because there was nothing to recognise, or not.
    async fn exhausted(&self, last: LastAttempt, attempts: Vec<FailedAttempt>) -> Result<Recognised, GatewayError> {
        let audio_ms = self.probed.length.milliseconds();
        if self.is_silent().await {
            // No engine is to blame that it makes nothing of silence.
            let cost = self.record.settle(last, DispatchOutcome::done(audio_ms, Some(self.record.elapsed()))).await?;
            let planned = self.plan.first().ok_or_else(|| GatewayError::Contradiction("an empty plan"))?;
            let mut heard = self.recognised(planned, Transcript::default(), cost, &[]);
            heard.warnings.push("the audio is silent".into());
            return Ok(heard);
        }
        self.record.settle(last, DispatchOutcome::failed(audio_ms, None, summary(&attempts))).await?;
        Err(GatewayError::AllFailed { dispatch: self.record.id().to_owned(), attempts })
    }

    fn recognised(
        &self,
        planned: &PlannedCall,
        mut transcript: Transcript,
        cost: Money,
        failures: &[FailedAttempt],
    ) -> Recognised {
        let language_from = self.know_language(planned, &mut transcript);
        let mut warnings: Vec<String> = failures.iter().map(FailedAttempt::passed_over).collect();
        warnings.extend(self.probed.warnings.iter().cloned());
        let (_, adjustments) = controlled(&self.request.wish, &planned.candidate);
        warnings.extend(adjustments.iter().filter_map(Adjustment::told));
        let rehearsal = self.record.is_rehearsal();
        if rehearsal {
            warnings.push("this is a rehearsal: no engine was called and nothing is charged".into());
        }
        Recognised {
            dispatch: self.record.id().to_owned(),
            engine: planned.engine_name().into(),
            model: planned.candidate.model.clone(),
            revised: Revised { transcript, ..Revised::default() },
            language_from,
            languages: Vec::new(),
            channels: Vec::new(),
            kept: false,
            length: self.probed.length.seconds(),
            cost,
            warnings,
            rehearsal,
        }
    }

    /// Whether there is nothing in the audio that anybody could recognise.
    async fn is_silent(&self) -> bool {
        let (source, format) = (self.request.audio.source.clone(), self.probed.format);
        let sounding = self.gateway.in_turn(move || crate::intake::recording::sounding(&source, format)).await;
        sounding.ok().flatten().is_some_and(|seconds| seconds < SILENT)
    }

    /// Adds the language of a transcript whose engine does not say it.
    fn know_language(&self, planned: &PlannedCall, transcript: &mut Transcript) -> Option<LanguageSource> {
        let stated = self.request.hearer.language.clone();
        let from = if stated.is_some() { LanguageSource::Request } else { LanguageSource::Engine };
        if transcript.language.is_some() {
            return Some(from);
        }
        let known = planned.candidate.sheet.recognition.as_ref().map(|it| it.languages.as_slice()).unwrap_or_default();
        let primary = |tag: &str| tag.split('-').next().unwrap_or_default().to_ascii_lowercase();
        let only = known.first().filter(|first| known.iter().all(|tag| primary(tag) == primary(first)));
        if let Some(language) = stated.or_else(|| only.cloned()) {
            transcript.language = Some(language);
            return Some(from);
        }
        transcript.language = dispatcher_markup::evident(&transcript.text).map(str::to_owned);
        transcript.language.is_some().then_some(LanguageSource::Text)
    }

    async fn rehearse(self, answer: Answer) {
        let transcript =
            crate::dispatch::rehearse::transcript(self.probed.length.seconds(), self.request.hearer.language.clone());
        let outcome = DispatchOutcome::done(self.probed.length.milliseconds(), Some(self.record.elapsed()));
        let settled = self.record.settle(LastAttempt::None, outcome).await;
        let result = match (settled, self.plan.first()) {
            (Ok(cost), Some(planned)) => Ok(self.recognised(planned, transcript, cost, &[])),
            (Err(error), _) => Err(error),
            _ => Err(GatewayError::Contradiction("an empty plan")),
        };
        // A caller who left needs no answer.
        let _ = answer.send(result);
    }

    async fn attempt(&self, planned: &PlannedCall) -> Result<Transcript, EngineError> {
        if let Some(reason) = planned.engine.absent() {
            return Err(EngineError { cause: Cause::Absent, detail: reason, retry_after: None });
        }
        let audio = self.fit(&planned.engine, &planned.format).await?;
        let permit = self.gateway.turn(planned, &self.record).await;
        let language = self.request.hearer.language.as_deref();
        let vocabulary = self.gateway.rules_of(self.record.app()).rules;
        let seconds = self.probed.length.seconds();
        let call = planned.hear(audio, seconds, language, &self.request.wish, &vocabulary.vocabulary);
        let named = planned.candidate.credential.as_deref();
        let heard = self.gateway.with_credential(&planned.engine, named, |credential| {
            let (permit, call) = (permit.as_ref(), &call);
            async move {
                let none = Parts::new();
                let parts = credential.as_ref().map_or(&none, |credential| &credential.parts);
                let parts = planned.parts_in_region(parts);
                again(permit, || planned.engine.hear(call.clone(), &parts)).await
            }
        });
        heard.await
    }

    /// The audio in a format that the engine takes, as it is where it can be.
    async fn fit(&self, engine: &Arc<Engine>, wanted: &EngineFormat) -> Result<AudioSource, EngineError> {
        let plain = self.probed.depth.is_none_or(|depth| engine.hears_depth(wanted, depth)) && !self.probed.open_ended;
        let (given, wanted) = (self.probed.format, wanted.format);
        if given.satisfies(&wanted) && plain {
            return Ok(self.request.audio.source.clone());
        }
        let source = self.request.audio.source.clone();
        let permit = self.gateway.inner.codecs.clone().acquire_owned().await.map_err(stopped)?;
        let work = tokio::task::spawn_blocking(move || {
            let _permit = permit;
            transcode_to_file(&source, given, wanted)
        });
        work.await.map_err(stopped)?
    }
}

fn stopped(error: impl std::fmt::Display) -> EngineError {
    CodecError::Worker(error.to_string()).into()
}

/// Audio in another format, in a file.
pub(crate) fn transcode_to_file(source: &AudioSource, from: Format, to: Format) -> Result<AudioSource, EngineError> {
    let io =
        |error: std::io::Error| EngineError { cause: Cause::Unavailable, detail: error.to_string(), retry_after: None };
    let unusable =
        |error: AudioError| EngineError { cause: Cause::Unusable, detail: error.to_string(), retry_after: None };
    let mut reader: Box<dyn std::io::Read> = match source {
        AudioSource::Memory(bytes) => Box::new(std::io::Cursor::new(bytes.clone())),
        AudioSource::File(path) => Box::new(std::fs::File::open(&***path).map_err(io)?),
    };
    let suffix = format!(".{}", to.codec.extension());
    let mut file = tempfile::Builder::new().suffix(&suffix).tempfile().map_err(io)?;
    // Equal formats may differ in how their samples are stored.
    let options = Options { decode: from.satisfies(&to), ..Options::default() };
    let mut transcoder = Transcoder::with(from, to, options).map_err(unusable)?;
    let mut chunk = vec![0; 64 << 10];
    loop {
        let count = reader.read(&mut chunk).map_err(io)?;
        if count == 0 {
            break;
        }
        let out = transcoder.push(&Bytes::copy_from_slice(&chunk[..count])).map_err(unusable)?;
        file.write_all(&out).map_err(io)?;
    }
    file.write_all(&transcoder.finish().map_err(unusable)?).map_err(io)?;
    // A file can say its true length, which some programs insist on.
    let mut start = transcoder.start().map(Vec::from);
    if start.is_none() {
        let length = file.as_file().metadata().map_err(io)?.len();
        let mut given = Vec::new();
        file.rewind().map_err(io)?;
        file.as_file().take(dispatcher_audio::WAV_START as u64).read_to_end(&mut given).map_err(io)?;
        start = dispatcher_audio::mend_wav_lengths(&mut given, length).then_some(given);
    }
    if let Some(start) = start {
        file.rewind().map_err(io)?;
        file.write_all(&start).map_err(io)?;
    }
    Ok(AudioSource::File(Arc::new(file.into_temp_path())))
}
