//! Canaries at work: when they run, what was measured, and what is held
//! against what. What counts as a change is decided in `dispatcher_core`.

use std::time::Duration;

use dispatcher_audio::{Codec, Format};
use dispatcher_core::{Canary, Departure, ErrorCounts, HearingWish, compare_texts};
use dispatcher_engines::AudioSource;
use dispatcher_store::{DocumentVersion, NewVersion, StoreError, StoredCanaryRun, VersionedKind};

use crate::dispatch::dispatch_record::new_id;
use crate::intake::recording::AudioInfo;
use crate::library::whole_utterance::{Spoken, WholeUtterance, fresh_request};
use crate::{
    Caller, Gateway, GatewayError, GivenAudio, HearerWish, RecognitionRequest, SynthesisRequest, Unsupported,
    now_micros,
};

/// Canaries of a service.
const MOST_CANARIES: usize = 100;
/// Runs of one that are kept beside its reference.
const MOST_RUNS: i64 = 500;
/// Interval between looks at which canaries are due.
const LOOK: Duration = Duration::from_secs(20);
/// Microseconds of a minute.
const MINUTE: i64 = 60_000_000;
/// Samples a second of what is measured.
const RATE: u32 = 24_000;
/// Bytes of its audio: two minutes.
const MOST_AUDIO: usize = 120 * 2 * RATE as usize;
/// Who runs it, where nobody asks for it.
const SCHEDULE: &str = "schedule";

/// A canary, and how its voice did last.
#[derive(Debug, Clone)]
pub struct CanaryView {
    pub canary: Canary,
    pub version: i64,
    /// What runs are held against; `None` before the first run that did not fail.
    pub reference: Option<StoredCanaryRun>,
    /// `None` before the first run of this version.
    pub latest: Option<StoredCanaryRun>,
}

impl CanaryView {
    /// In what a run differs from the reference: nothing where either is missing.
    pub fn departures(&self, run: &StoredCanaryRun) -> Vec<Departure> {
        let was = self.reference.as_ref().and_then(StoredCanaryRun::measures);
        run.measures().zip(was).map(|(is, was)| is.departures(&was)).unwrap_or_default()
    }

    /// When it runs next, in microseconds; a canary that never ran is due.
    pub fn next_at(&self) -> Option<i64> {
        let every = i64::try_from(self.canary.every).unwrap_or(i64::MAX).saturating_mul(MINUTE);
        self.latest.as_ref().map(|run| run.run_at.saturating_add(every))
    }

    /// What an operator has to know of the last run; `None` where all is well.
    pub fn trouble(&self) -> Option<String> {
        let run = self.latest.as_ref()?;
        let Canary { name, voice, .. } = &self.canary;
        if let Some(fault) = &run.fault {
            return Some(format!("the canary {name} of {voice} failed: {fault}"));
        }
        let changes: Vec<String> = self.departures(run).iter().map(Departure::to_string).collect();
        (!changes.is_empty()).then(|| format!("the voice {voice} has changed (canary {name}): {}", changes.join("; ")))
    }
}

fn missing(name: &str) -> GatewayError {
    StoreError::Missing { what: "canary", name: name.to_owned() }.into()
}

impl Gateway {
    /// Keeps a canary as its next version; it runs soon after.
    ///
    /// # Errors
    /// Where it could never run, or its voice, app or ear is not there.
    pub async fn put_canary(&self, canary: Canary, by: &str) -> Result<CanaryView, GatewayError> {
        canary.check()?;
        let caller = Caller::of_app(self.inner.store.app(canary.app.clone()).await?, by);
        self.estimate_speech(&caller, &speaking(&canary)).await?;
        if let Some(ear) = &canary.ear {
            self.plan_recognition(&caller, &hearer(&canary, ear), &AudioInfo::of_samples(RATE, 1.0))?;
        }
        let others = self.inner.store.in_force(VersionedKind::Canary).await?;
        if others.len() >= MOST_CANARIES && !others.iter().any(|row| row.name == canary.name) {
            return Err(GatewayError::ManyCanaries { limit: MOST_CANARIES });
        }
        let document = serde_json::to_string(&canary).map_err(GatewayError::document("a canary"))?;
        let new = NewVersion::by(by, VersionedKind::Canary, &canary.name, document);
        self.inner.store.put_version(new, now_micros()).await?;
        self.canary(&canary.name).await
    }

    /// Retires a canary. Its runs stay for a later one of its name.
    ///
    /// # Errors
    /// Where there is none of the name.
    pub async fn retire_canary(&self, name: &str, by: &str) -> Result<(), GatewayError> {
        Ok(self.inner.store.retire(VersionedKind::Canary, name.into(), by.into(), now_micros()).await?)
    }

    /// All canaries, by name.
    ///
    /// # Errors
    /// When the records cannot be read.
    pub async fn canaries(&self) -> Result<Vec<CanaryView>, GatewayError> {
        let mut views = Vec::new();
        for row in self.inner.store.in_force(VersionedKind::Canary).await? {
            views.push(self.canary_view(row).await?);
        }
        Ok(views)
    }

    /// One canary.
    ///
    /// # Errors
    /// Where there is none of the name.
    pub async fn canary(&self, name: &str) -> Result<CanaryView, GatewayError> {
        let rows = self.inner.store.in_force(VersionedKind::Canary).await?;
        let row = rows.into_iter().find(|row| row.name == name).ok_or_else(|| missing(name))?;
        self.canary_view(row).await
    }

    async fn canary_view(&self, row: DocumentVersion) -> Result<CanaryView, GatewayError> {
        let document = format!("the canary {}", row.name);
        let canary: Canary = serde_json::from_str(&row.document).map_err(GatewayError::document(document))?;
        let reference = self.inner.store.canary_reference(row.name.clone(), row.version).await?;
        let latest = self.inner.store.canary_runs(row.name, 1).await?.pop();
        // A run of an earlier version spoke something else.
        Ok(CanaryView {
            canary,
            version: row.version,
            reference,
            latest: latest.filter(|it| it.version == row.version),
        })
    }

    /// Runs of a canary, the newest first.
    ///
    /// # Errors
    /// When the records cannot be read.
    pub async fn canary_runs(&self, name: &str, limit: i64) -> Result<Vec<StoredCanaryRun>, GatewayError> {
        Ok(self.inner.store.canary_runs(name.to_owned(), limit).await?)
    }

    /// Runs a canary now, and keeps what was measured. The first run that does
    /// not fail becomes the reference.
    ///
    /// # Errors
    /// Where there is none of the name, or the run cannot be kept.
    pub async fn run_canary(&self, name: &str, by: &str) -> Result<CanaryView, GatewayError> {
        // One at a time: what is measured of one is not slowed down by another,
        // and no canary is run twice for one interval.
        let _turn = self.inner.canary_turn.lock().await;
        let view = self.canary(name).await?;
        self.run_in_turn(view, by).await
    }

    async fn run_in_turn(&self, view: CanaryView, by: &str) -> Result<CanaryView, GatewayError> {
        let nothing = StoredCanaryRun {
            id: new_id(),
            canary: view.canary.name.clone(),
            version: view.version,
            run_at: now_micros(),
            is_reference: false,
            dispatch: None,
            audio_ms: 0,
            loudness: None,
            pitch: None,
            heard: None,
            word_errors: None,
            words_missing: 0,
            fault: None,
        };
        let run = match self.measure_canary(&view.canary, by, nothing.clone()).await {
            Ok(run) => run,
            Err(error) => StoredCanaryRun { fault: Some(error.to_string()), ..nothing },
        };
        let run = StoredCanaryRun { is_reference: view.reference.is_none() && run.fault.is_none(), ..run };
        self.inner.store.add_canary_run(run.clone(), MOST_RUNS).await?;
        let reference = view.reference.or_else(|| run.is_reference.then(|| run.clone()));
        Ok(CanaryView { reference, latest: Some(run), ..view })
    }

    async fn measure_canary(
        &self,
        canary: &Canary,
        by: &str,
        run: StoredCanaryRun,
    ) -> Result<StoredCanaryRun, GatewayError> {
        let caller = Caller::of_app(self.inner.store.app(canary.app.clone()).await?, by);
        let whole = self.speak_whole(&caller, speaking(canary), MOST_AUDIO).await?;
        let WholeUtterance { spoken, dispatch, fault } = whole;
        let run = StoredCanaryRun { dispatch: Some(dispatch), fault, ..run };
        let Some(Spoken { audio, measured, .. }) = spoken.filter(|_| run.fault.is_none()) else { return Ok(run) };
        let run = StoredCanaryRun {
            audio_ms: measured.milliseconds,
            loudness: measured.loudness,
            pitch: measured.pitch,
            ..run
        };
        let Some(ear) = &canary.ear else { return Ok(run) };
        match self.recognise(&caller, hearing(canary, ear, audio)).await {
            Ok(heard) => {
                let heard = heard.revised.transcript.text;
                // `None` only of a transcript far longer than any canary.
                let words = compare_texts(&canary.text, &heard).map(|compared| compared.words);
                let words_missing = words.map_or(0, |words| i64::try_from(words.missing).unwrap_or(i64::MAX));
                let word_errors = Some(words.map_or(1.0, ErrorCounts::rate));
                Ok(StoredCanaryRun { heard: Some(heard), word_errors, words_missing, ..run })
            }
            Err(error) => Ok(StoredCanaryRun { fault: Some(format!("it was spoken, but not heard: {error}")), ..run }),
        }
    }

    /// Makes the last run the reference: the voice sounds as it should.
    ///
    /// # Errors
    /// Where there is no canary of the name, or its last run failed.
    pub async fn accept_canary(&self, name: &str, by: &str) -> Result<CanaryView, GatewayError> {
        let _turn = self.inner.canary_turn.lock().await;
        let view = self.canary(name).await?;
        let run = view.latest.filter(|run| run.fault.is_none()).ok_or(GatewayError::NothingToAccept)?;
        self.inner.store.accept_canary_run(run.id, by.to_owned(), now_micros()).await?;
        self.canary(name).await
    }

    /// Runs canaries when they are due, until the gateway ends.
    pub(crate) fn keep_canaries(&self) {
        let inner = std::sync::Arc::downgrade(&self.inner);
        tokio::spawn(async move {
            loop {
                tokio::time::sleep(LOOK).await;
                let Some(inner) = inner.upgrade() else { return };
                if let Err(error) = (Gateway { inner }).run_due_canaries().await {
                    tracing::warn!(%error, "canaries were not run");
                }
            }
        });
    }

    async fn run_due_canaries(&self) -> Result<(), GatewayError> {
        for CanaryView { canary, .. } in self.canaries().await? {
            let _turn = self.inner.canary_turn.lock().await;
            // Somebody may have run or retired it meanwhile.
            let Ok(view) = self.canary(&canary.name).await else { continue };
            if view.next_at().is_some_and(|at| at > now_micros()) {
                continue;
            }
            if let Some(trouble) = self.run_in_turn(view, SCHEDULE).await?.trouble() {
                tracing::warn!(canary = canary.name, "{trouble}");
            }
        }
        Ok(())
    }
}

fn speaking(canary: &Canary) -> SynthesisRequest {
    fresh_request(&canary.text, &canary.voice, canary.language.as_deref(), Format::new(Codec::Wav, RATE))
}

fn hearer(canary: &Canary, ear: &str) -> HearerWish {
    HearerWish { wanted: Some(ear.to_owned()), language: canary.language.clone(), ..HearerWish::default() }
}

fn hearing(canary: &Canary, ear: &str, audio: Vec<u8>) -> RecognitionRequest {
    RecognitionRequest {
        audio: GivenAudio { source: AudioSource::Memory(audio.into()), told: None },
        hearer: hearer(canary, ear),
        languages: Vec::new(),
        wish: HearingWish::default(),
        unsupported: Unsupported::Adapt,
        channels: false,
        deadline: None,
        credential: None,
        trace: None,
    }
}
