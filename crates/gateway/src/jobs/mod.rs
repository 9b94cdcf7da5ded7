//! Jobs: long work that outlives its call. A job is a list of tracks, each
//! spoken into a file of its own, piece by piece; or a recording that is
//! heard piece by piece. What is made is stored ([`piece_store`]), so that no end of
//! the service has a piece bought again.

mod captions;
mod dictation;
mod piece_store;
mod run;
mod samples;
mod tell;
mod work;

use std::collections::HashMap;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

use dispatcher_core::{Costs, Currency, Money, Work};
use dispatcher_engines::AudioSource;
use dispatcher_store::{Identified, JobChange, JobFilter, JobProgress, JobState, StoreError, StoredJob, StoredJobFile};
use parking_lot::Mutex;
use tokio::sync::{Semaphore, broadcast};
use tokio_util::sync::CancellationToken;

use crate::dispatch::dispatch_record::{new_id, to_i64};
use crate::planning::order::Purpose;
use crate::planning::plan::wanted;
use crate::storage::bytes_in;
use crate::{Caller, Gateway, GatewayError, GivenAudio, now_micros};

pub use dictation::Dictation;
pub(crate) use dictation::PartNote;
pub(crate) use piece_store::{PieceStore, StoredPiece};
pub use tell::Webhooks;
pub use work::{JobWork, NewJob, Track};

/// Jobs that run at once; more wait their turn.
const AT_ONCE: usize = 4;
/// Jobs of one app that are not over.
const MOST_OPEN: usize = 500;
/// Changes that a slow listener may be behind.
const UNHEARD: usize = 1_024;
/// Results are looked through for old ones as often as this.
const SWEEP: Duration = Duration::from_secs(600);

/// What the host says of jobs.
#[derive(Debug, Clone)]
pub struct JobsPlace {
    /// Pieces and results lie here, a folder for each job.
    pub folder: PathBuf,
    /// How long results are kept.
    pub keep: Duration,
    /// Jobs of an earlier run rest until [`Gateway::resume_jobs`] is called:
    /// engines are not ready before.
    pub held: bool,
}

/// The jobs of a gateway.
pub(crate) struct Jobs {
    slots: Arc<Semaphore>,
    /// Those that are not over, by id; cancelled by their token.
    open: Mutex<HashMap<String, CancellationToken>>,
    /// Ids of jobs that have changed.
    changes: broadcast::Sender<String>,
    /// The service ends: no further piece is begun.
    pause: CancellationToken,
}

impl Jobs {
    /// Tells those who follow jobs that one has changed.
    pub(crate) fn announce(&self, id: &str) {
        // Nobody may be listening.
        let _ = self.changes.send(id.to_owned());
    }
}

impl Default for Jobs {
    fn default() -> Self {
        Jobs {
            slots: Arc::new(Semaphore::new(AT_ONCE)),
            open: Mutex::default(),
            changes: broadcast::channel(UNHEARD).0,
            pause: CancellationToken::new(),
        }
    }
}

/// The current state of a job.
#[derive(Debug, Clone)]
pub struct JobView {
    pub row: StoredJob,
    pub progress: JobProgress,
    pub files: Vec<StoredJobFile>,
    /// What it was to cost, in each currency, the first leg's first.
    pub estimates: Vec<Money>,
    /// What its reader is warned of.
    pub warnings: Vec<String>,
}

impl JobView {
    /// Whether it will not change any more.
    pub fn is_over(&self) -> bool {
        self.row.state.is_over()
    }

    /// Whether its files are synthetic speech.
    pub fn is_synthetic(&self) -> bool {
        self.row.work == Work::Synthesis
    }
}

/// What a job will take, as far as it is known before.
#[derive(Debug)]
pub struct JobEstimate {
    pub pieces: u64,
    pub estimates: Costs,
    pub warnings: Vec<String>,
}

impl Gateway {
    fn jobs_place(&self) -> Result<&JobsPlace, GatewayError> {
        self.inner.host.jobs.as_ref().ok_or_else(|| GatewayError::NoFolder("jobs"))
    }

    fn job_folder(&self, id: &str) -> Result<PathBuf, GatewayError> {
        Ok(self.jobs_place()?.folder.join(id))
    }

    /// Takes long work in hand.
    ///
    /// # Errors
    /// The same as the work would have at once, before any engine is called.
    pub async fn submit(&self, caller: &Caller, job: NewJob) -> Result<JobView, GatewayError> {
        if let Some(address) = &job.webhook {
            self.check_webhook(address)?;
        }
        caller.check_job()?;
        self.check_room()?;
        self.check_jobs_of(caller).await?;
        let forecast = self.estimate_job(caller, &job).await?;
        let id = new_id();
        let folder = self.job_folder(&id)?;
        let stored = work::Stored {
            operator: caller.is_operator(),
            grants: caller.grants.as_deref().cloned().unwrap_or_default(),
            work: job.work,
        };
        work::bring_in(job.audio.as_ref(), &folder).await?;
        let request = serde_json::to_string(&stored).map_err(GatewayError::document("a job"))?;
        let estimates = forecast.estimates.amounts();
        let estimate = estimates.first().copied().unwrap_or(Money::zero(Currency::EUR));
        let estimates: Vec<(Currency, i64)> = estimates.iter().map(|money| (money.currency, money.nanos)).collect();
        let row = StoredJob {
            id: id.clone(),
            app: caller.app.name.clone(),
            by: caller.who.clone(),
            end_user: caller.end_user(),
            work: stored.work.kind(),
            title: job.title,
            state: JobState::Queued,
            reason: None,
            request,
            pieces: to_i64(forecast.pieces),
            estimate_nanos: estimate.nanos,
            currency: estimate.currency,
            warnings: serde_json::to_string(&[job.warnings, forecast.warnings].concat())
                .map_err(GatewayError::document("a job"))?,
            estimates: serde_json::to_string(&estimates).map_err(GatewayError::document("a job"))?,
            webhook: job.webhook,
            notified_at: None,
            given_up_at: None,
            created_at: now_micros(),
            started_at: None,
            ended_at: None,
            expires_at: None,
        };
        self.inner.store.add_job(row).await?;
        self.begin_job(id.clone());
        self.job(&id).await
    }

    /// Refuses a further job of an app that has too many, or too many bytes of results.
    async fn check_jobs_of(&self, caller: &Caller) -> Result<(), GatewayError> {
        let filter = JobFilter { apps: Some(vec![caller.app.name.clone()]), limit: i64::MAX, ..JobFilter::default() };
        let rows = self.inner.store.jobs(filter).await?;
        if rows.iter().filter(|row| !row.state.is_over()).count() >= MOST_OPEN {
            let what = format!("the app has {MOST_OPEN} jobs that have not ended; wait, or cancel some");
            return Err(GatewayError::Crowded { what, retry_after: SWEEP });
        }
        let Some(most) = self.inner.host.room.as_ref().map(|room| room.quota) else { return Ok(()) };
        let folders = rows.iter().map(|row| self.job_folder(&row.id)).collect::<Result<Vec<_>, _>>()?;
        let kept = tokio::task::spawn_blocking(move || folders.iter().map(|folder| bytes_in(folder)).sum::<u64>());
        match kept.await? >= most {
            true => Err(GatewayError::Quota { what: "jobs", most }),
            false => Ok(()),
        }
    }

    /// What a job would take, without any engine being called.
    ///
    /// # Errors
    /// The same as [`Gateway::submit`] for the work itself.
    pub async fn estimate_job(&self, caller: &Caller, job: &NewJob) -> Result<JobEstimate, GatewayError> {
        match &job.work {
            JobWork::Speech { tracks } => self.forecast_speech(caller, tracks).await,
            JobWork::Hearing(dictation) => self.forecast_hearing(caller, dictation, job.audio.clone()).await,
        }
    }

    async fn forecast_hearing(
        &self,
        caller: &Caller,
        dictation: &Dictation,
        audio: Option<AudioSource>,
    ) -> Result<JobEstimate, GatewayError> {
        let source = audio.ok_or_else(|| GatewayError::Contradiction("a dictation without its recording"))?;
        let (_, probed) = GivenAudio { source, told: dictation.told }.take(self, dictation.unsupported).await?;
        let (_, plan) = self.hearing_candidates(caller, &dictation.hearer.stated(caller), &probed)?;
        let head = plan.iter().find(|(_, over)| over.is_none()).or(plan.first());
        let (head, _) = head.ok_or_else(|| GatewayError::NothingWanted(caller.app.name.clone()))?;
        // How many parts there are is known once the recording is cut.
        Ok(JobEstimate { pieces: 1, estimates: Costs::from(head.estimate), warnings: probed.warnings })
    }

    async fn forecast_speech(&self, caller: &Caller, tracks: &[Track]) -> Result<JobEstimate, GatewayError> {
        let mut forecast = JobEstimate { pieces: 0, estimates: Costs::default(), warnings: Vec::new() };
        for track in tracks {
            let request = &track.request;
            request.format.check_output().map_err(GatewayError::Format)?;
            let length = request.text.source().len();
            let _room = self.inner.texts.room(length).await?;
            let script = request.text.parse()?;
            let language = request.language.as_deref().or(script.language.as_deref());
            let wish = wanted(caller, request.wanted.as_ref(), language)?;
            let resources = self.resources(caller, &script).await;
            let plan = self.plan_speech(caller, request, &wish, (&script, &resources), Purpose::Job).await?;
            let Some(head) = plan.first() else { continue };
            forecast.pieces += head.render_plan.segments.len() as u64;
            forecast.estimates.add(head.estimate)?;
        }
        Ok(forecast)
    }

    /// The current state of a job.
    ///
    /// # Errors
    /// When there is none of this id.
    pub async fn job(&self, id: &str) -> Result<JobView, GatewayError> {
        self.view_job(self.inner.store.job(id.to_owned()).await?).await
    }

    async fn view_job(&self, row: StoredJob) -> Result<JobView, GatewayError> {
        let store = &self.inner.store;
        let progress = store.job_progress(row.id.clone()).await?;
        let files = store.job_files(row.id.clone()).await?;
        let warnings = serde_json::from_str(&row.warnings).map_err(GatewayError::document("a job"))?;
        let listed: Vec<(Currency, i64)> =
            serde_json::from_str(&row.estimates).map_err(GatewayError::document("a job"))?;
        let mut estimates: Vec<Money> = listed.into_iter().map(|(currency, nanos)| Money { nanos, currency }).collect();
        if estimates.is_empty() {
            estimates.push(Money { nanos: row.estimate_nanos, currency: row.currency });
        }
        Ok(JobView { row, progress, files, estimates, warnings })
    }

    /// The same, of a job that a caller may see, by its id or a unique
    /// beginning of it.
    ///
    /// # Errors
    /// Where the caller has none, or several, that begin so.
    pub async fn job_of(&self, caller: &Caller, id: &str) -> Result<JobView, GatewayError> {
        let id = self.inner.store.id_of(Identified::Job, caller.visible_apps(), id.to_owned()).await?;
        self.job(&id).await
    }

    /// Jobs, newest first.
    ///
    /// # Errors
    /// When the records cannot be read.
    pub async fn jobs(&self, filter: JobFilter) -> Result<Vec<JobView>, GatewayError> {
        let mut views = Vec::new();
        for row in self.inner.store.jobs(filter).await? {
            views.push(self.view_job(row).await?);
        }
        Ok(views)
    }

    /// Ids of jobs, each time one has changed.
    pub fn job_changes(&self) -> broadcast::Receiver<String> {
        self.inner.jobs.changes.subscribe()
    }

    /// Path of a result.
    ///
    /// # Errors
    /// When the job has no such file.
    pub async fn job_file(&self, id: &str, name: &str) -> Result<(StoredJobFile, PathBuf), GatewayError> {
        let files = self.inner.store.job_files(id.to_owned()).await?;
        let missing = || GatewayError::Store(StoreError::Missing { what: "file", name: name.to_owned() });
        let file = files.into_iter().find(|file| file.name == name).ok_or_else(missing)?;
        let path = self.job_folder(id)?.join("files").join(&file.name);
        Ok((file, path))
    }

    /// Ends a job before its time; what is made of it stays until it is removed.
    /// Nothing happens to one that is over.
    ///
    /// # Errors
    /// When there is none of this id.
    pub async fn cancel_job(&self, id: &str) -> Result<JobView, GatewayError> {
        let view = self.job(id).await?;
        let token = self.inner.jobs.open.lock().get(id).cloned();
        match token {
            Some(token) => {
                let mut changes = self.job_changes();
                token.cancel();
                // Its calls end first, and what they cost is settled.
                while !self.job(id).await?.is_over() {
                    // Looks again in either case.
                    let _ = tokio::time::timeout(Duration::from_millis(200), changes.recv()).await;
                }
            }
            None if !view.is_over() => self.end_job(id, JobState::Cancelled, None).await?,
            None => {}
        }
        self.job(id).await
    }

    /// Takes up a job that failed or was cancelled: what is made and paid for
    /// is used again.
    ///
    /// # Errors
    /// When it is at work or done, its files have expired, or there is none.
    pub async fn resume_job(&self, id: &str) -> Result<JobView, GatewayError> {
        let view = self.job(id).await?;
        if !tokio::fs::try_exists(self.job_folder(id)?).await.unwrap_or(false) {
            return Err(GatewayError::JobState("its files have expired; submit the work again".into()));
        }
        self.check_room()?;
        if !self.inner.store.reopen_job(id.to_owned()).await? {
            let why = match view.row.state {
                JobState::Done => "it is done".into(),
                state => format!("it is {state} and continues automatically"),
            };
            return Err(GatewayError::JobState(why));
        }
        self.inner.jobs.announce(id);
        self.begin_job(id.to_owned());
        self.job(id).await
    }

    /// Removes a job that is over, with its files.
    ///
    /// # Errors
    /// When it is not over, or there is none.
    pub async fn remove_job(&self, id: &str) -> Result<(), GatewayError> {
        let view = self.job(id).await?;
        if !view.is_over() || !self.inner.store.remove_job(id.to_owned()).await? {
            let by = format!("work that is {}", view.row.state);
            return Err(GatewayError::InUse { what: "job", name: id.to_owned(), by });
        }
        self.drop_job_files(id).await;
        Ok(())
    }

    async fn drop_job_files(&self, id: &str) {
        let Ok(folder) = self.job_folder(id) else { return };
        match tokio::fs::remove_dir_all(&folder).await {
            Err(error) if error.kind() != std::io::ErrorKind::NotFound => {
                tracing::warn!(job = %id, %error, "the files of a job cannot be removed");
            }
            _ => {}
        }
    }

    async fn end_job(&self, id: &str, state: JobState, reason: Option<String>) -> Result<(), GatewayError> {
        let now = now_micros();
        let keep = i64::try_from(self.jobs_place()?.keep.as_micros()).unwrap_or(i64::MAX);
        let change = JobChange {
            state: Some(state),
            reason: Some(reason),
            ended_at: Some(now),
            expires_at: Some(now.saturating_add(keep)),
            ..JobChange::default()
        };
        let ended = self.inner.store.change_job(id.to_owned(), change).await?;
        self.inner.jobs.announce(id);
        if ended {
            self.tell_end(id.to_owned());
        }
        Ok(())
    }

    fn begin_job(&self, id: String) {
        let token = CancellationToken::new();
        self.inner.jobs.open.lock().insert(id.clone(), token.clone());
        let gateway = self.clone();
        self.inner.running.spawn(async move {
            run::run(&gateway, &id, &token).await;
            gateway.inner.jobs.open.lock().remove(&id);
        });
    }

    /// Goes on with the jobs that an earlier run left, and lets old results go.
    ///
    /// # Errors
    /// When the records cannot be read.
    pub async fn resume_jobs(&self) -> Result<(), GatewayError> {
        if self.inner.host.jobs.is_none() {
            return Ok(());
        }
        for row in self.inner.store.jobs_at_work().await? {
            tracing::info!(job = %row.id, title = %row.title, "goes on");
            self.begin_job(row.id);
        }
        for id in self.inner.store.jobs_to_notify().await? {
            self.tell_end(id);
        }
        let (gateway, pause) = (self.clone(), self.inner.jobs.pause.clone());
        tokio::spawn(async move {
            while !pause.is_cancelled() {
                gateway.forget_old_jobs().await;
                tokio::select! {
                    () = tokio::time::sleep(SWEEP) => {}
                    () = pause.cancelled() => {}
                }
            }
        });
        Ok(())
    }

    async fn forget_old_jobs(&self) {
        let expired = self.inner.store.expired_jobs(now_micros()).await.unwrap_or_default();
        for id in expired {
            self.drop_job_files(&id).await;
            if let Err(error) = self.inner.store.forget_job_files(id.clone()).await {
                tracing::warn!(job = %id, %error, "old results are still listed");
            }
        }
    }

    /// Lets jobs rest: pieces under way are finished, no further ones begun.
    pub fn pause_jobs(&self) {
        self.inner.jobs.pause.cancel();
    }
}
