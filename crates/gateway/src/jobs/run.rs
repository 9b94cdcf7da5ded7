//! The run of a job: its turn, its tracks, its waits, its end.

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use dispatcher_core::{Backoff, Cause, Remedy, vtt};
use dispatcher_store::{JobChange, JobState, StoredJob, StoredJobFile};
use tokio::io::{AsyncSeekExt as _, AsyncWriteExt as _};
use tokio::sync::mpsc;
use tokio_util::sync::CancellationToken;

use super::work::Stored;
use super::{JobWork, PieceStore, Track, captions, piece_store};
use crate::dispatch::dispatch_record::to_i64;
use crate::{Caller, CallerRole, FailedAttempt, Gateway, GatewayError, Utterance, now_micros};

/// Attempts in a row without progress after which a job fails.
const MOST_WAITS: u32 = 40;
/// The same while engines refuse access, which people mend: a day.
const MOST_WAITS_FOR_ACCESS: u32 = 24 * 60;
/// The waits that a job sets itself.
const WAITS: Backoff =
    Backoff { first: Duration::from_secs(1), factor: 2, longest: Duration::from_secs(60), jitter: 0.2 };

/// Why work on a job stopped.
pub(super) enum JobStop {
    Cancelled,
    /// The service ends.
    Paused,
    /// It may go better later.
    Wait(Wait),
    /// Every engine refuses this call for good.
    Unusable(String),
    Failed(String),
}

/// Why to try again later.
pub(super) struct Wait {
    pub(super) why: String,
    after: Option<Duration>,
    /// An engine refuses access, or is not there: people mend that.
    pub(super) access: bool,
}

impl From<GatewayError> for JobStop {
    fn from(error: GatewayError) -> JobStop {
        match error {
            GatewayError::AllFailed { attempts, .. } => of_attempts(&attempts),
            GatewayError::NoRoom { .. } | GatewayError::Crowded { .. } => {
                JobStop::Wait(Wait { why: error.to_string(), after: None, access: false })
            }
            error => JobStop::Failed(error.to_string()),
        }
    }
}

impl From<std::io::Error> for JobStop {
    fn from(error: std::io::Error) -> JobStop {
        JobStop::Failed(format!("the files of the job: {error}"))
    }
}

/// What several failures come to: waiting helps where it would help any of
/// the engines.
fn of_attempts(attempts: &[FailedAttempt]) -> JobStop {
    // What the engine said is in the record of the attempt, for operators.
    let why = attempts.iter().map(FailedAttempt::for_anybody).collect::<Vec<_>>().join("; ");
    let passes = |cause: Cause| {
        !cause.is_of_access() && cause.remedy() == Remedy::SameLeg
            || matches!(cause, Cause::TimedOut | Cause::Broken | Cause::Quota | Cause::Refused)
    };
    let passing = attempts.iter().any(|failed| passes(failed.cause));
    let access = attempts.iter().any(|failed| failed.cause.is_of_access());
    match passing || access {
        true => {
            let after = attempts.iter().filter_map(|failed| failed.retry_after).min();
            JobStop::Wait(Wait { why, after, access: access && !passing })
        }
        false => JobStop::Unusable(why),
    }
}

/// Whether a track has both of its files: its audio, and the text that follows it.
fn is_made(files: &[StoredJobFile], track: usize) -> bool {
    files.iter().filter(|file| usize::try_from(file.number / 2) == Ok(track)).count() == 2
}

/// One job in work.
pub(super) struct JobRun<'g> {
    pub(super) gateway: &'g Gateway,
    pub(super) row: StoredJob,
    pub(super) folder: PathBuf,
    pub(super) caller: Caller,
    pub(super) cancel: &'g CancellationToken,
}

/// Carries a job out, from wherever it was left.
pub(super) async fn run(gateway: &Gateway, id: &str, cancel: &CancellationToken) {
    let ended = match waits(gateway, id, cancel).await {
        Ok(()) => gateway.end_job(id, JobState::Done, None).await,
        Err(JobStop::Cancelled) => gateway.end_job(id, JobState::Cancelled, None).await,
        Err(JobStop::Failed(why) | JobStop::Unusable(why) | JobStop::Wait(Wait { why, .. })) => {
            gateway.end_job(id, JobState::Failed, Some(why)).await
        }
        Err(JobStop::Paused) => Ok(()),
    };
    if let Err(error) = ended {
        tracing::error!(job = %id, %error, "the end of a job cannot be written");
    }
}

/// Works on a job until it is over, with waits between tries.
async fn waits(gateway: &Gateway, id: &str, cancel: &CancellationToken) -> Result<(), JobStop> {
    let pause = &gateway.inner.jobs.pause;
    let mut tries = 0;
    let mut made = -1;
    loop {
        let slot = tokio::select! {
            slot = gateway.inner.jobs.slots.clone().acquire_owned() => slot,
            () = cancel.cancelled() => return Err(JobStop::Cancelled),
            () = pause.cancelled() => return Err(JobStop::Paused),
        };
        let outcome = work(gateway, id, cancel).await;
        drop(slot);
        let Err(JobStop::Wait(Wait { why, after, access })) = outcome else { return outcome };
        let progress = gateway.inner.store.job_progress(id.to_owned()).await.map_err(GatewayError::from)?.pieces;
        // Headway starts the count again.
        tries = if progress > made { 1 } else { tries + 1 };
        made = progress;
        let most = if access { MOST_WAITS_FOR_ACCESS } else { MOST_WAITS };
        if tries > most {
            return Err(JobStop::Failed(format!("{most} attempts in a row failed: {why}")));
        }
        let wait = after.unwrap_or_default().max(WAITS.wait(tries, rand::random()));
        let reason = format!("{why}; attempt {} follows in {} s", tries + 1, wait.as_secs_f64().ceil());
        change(gateway, id, JobState::Waiting, Some(reason)).await?;
        tokio::select! {
            () = tokio::time::sleep(wait) => {}
            () = cancel.cancelled() => return Err(JobStop::Cancelled),
            () = pause.cancelled() => return Err(JobStop::Paused),
        }
    }
}

async fn change(gateway: &Gateway, id: &str, state: JobState, reason: Option<String>) -> Result<(), GatewayError> {
    let change = JobChange { state: Some(state), reason: Some(reason), ..JobChange::default() };
    gateway.inner.store.change_job(id.to_owned(), change).await?;
    gateway.inner.jobs.announce(id);
    Ok(())
}

/// Removes what a run that was killed has left half-written.
async fn remove_half_files(folder: &Path) {
    let Ok(mut entries) = tokio::fs::read_dir(folder).await else { return };
    while let Ok(Some(entry)) = entries.next_entry().await {
        if entry.file_name().to_string_lossy().starts_with(piece_store::ASIDE) {
            // A file that stays goes with the folder of the job.
            let _ = tokio::fs::remove_file(entry.path()).await;
        }
    }
}

/// One try.
async fn work(gateway: &Gateway, id: &str, cancel: &CancellationToken) -> Result<(), JobStop> {
    let row = gateway.inner.store.job(id.to_owned()).await.map_err(GatewayError::from)?;
    if row.state.is_over() {
        return Ok(());
    }
    if row.started_at.is_none() {
        let begun = JobChange { started_at: Some(now_micros()), ..JobChange::default() };
        gateway.inner.store.change_job(id.to_owned(), begun).await.map_err(GatewayError::from)?;
    }
    change(gateway, id, JobState::Running, None).await?;
    remove_half_files(&gateway.job_folder(id)?.join("files")).await;
    let stored: Stored = serde_json::from_str(&row.request)
        .map_err(|error| JobStop::Failed(format!("the job cannot be read: {error}")))?;
    let app = gateway.inner.store.app(row.app.clone()).await.map_err(GatewayError::from)?;
    let role = if stored.operator { CallerRole::Operator } else { CallerRole::App };
    let grants = Some(stored.grants.clone()).filter(|grants| !grants.is_whole()).map(Arc::new);
    let end_user = row.end_user.as_deref().map(Arc::from);
    let caller = Caller { role, grants, end_user, ..Caller::of_app(app, row.by.clone()) };
    let folder = gateway.job_folder(id)?;
    let run = JobRun { gateway, row, folder, caller, cancel };
    match &stored.work {
        JobWork::Speech { tracks } => run.speech(tracks).await,
        JobWork::Hearing(dictation) => run.dictation(dictation).await,
    }
}

impl JobRun<'_> {
    async fn speech(&self, tracks: &[Track]) -> Result<(), JobStop> {
        let store = &self.gateway.inner.store;
        let made = store.job_files(self.row.id.clone()).await.map_err(GatewayError::from)?;
        for (index, track) in tracks.iter().enumerate() {
            if !is_made(&made, index) {
                self.track(index, tracks.len(), track).await?;
            }
        }
        if tracks.len() > 1 { self.playlist(2 * tracks.len()).await } else { Ok(()) }
    }

    /// A list that players take, of several files.
    async fn playlist(&self, number: usize) -> Result<(), JobStop> {
        let made = self.gateway.inner.store.job_files(self.row.id.clone()).await.map_err(GatewayError::from)?;
        let sounds: Vec<&StoredJobFile> = made.iter().filter(|file| file.number % 2 == 0).collect();
        let mut text = String::from("#EXTM3U\n");
        for file in &sounds {
            let seconds = (file.audio_ms as f64 / 1_000.0).round();
            text += &format!("#EXTINF:{seconds},{}\n{}\n", file.title.replace(['\r', '\n'], " "), file.name);
        }
        let length = sounds.iter().map(|file| file.audio_ms).sum::<i64>();
        let (name, bytes) = ("playlist.m3u8", text.len() as u64);
        piece_store::put_aside(self.folder.join("files"), name.to_owned(), text.into_bytes()).await?;
        self.list(number, name, &self.row.title, "audio/x-mpegurl", bytes, u64::try_from(length).unwrap_or(0)).await
    }

    async fn piece_store(
        &self,
        track: usize,
        tags: piece_store::TrackTags,
    ) -> Result<(Arc<PieceStore>, mpsc::Receiver<()>), JobStop> {
        let rows = self.gateway.inner.store.job_pieces(self.row.id.clone()).await.map_err(GatewayError::from)?;
        let jobs = &self.gateway.inner.jobs;
        let place =
            piece_store::TrackFolder { folder: self.folder.join("pieces"), job: self.row.id.clone(), track, tags };
        Ok(PieceStore::open(place, &rows, jobs.pause.clone(), jobs.changes.clone()).await?)
    }

    /// One track into its file.
    async fn track(&self, index: usize, of: usize, track: &Track) -> Result<(), JobStop> {
        let place = (of > 1).then(|| format!("{}/{of}", index + 1));
        let title = Some(track.title.clone()).filter(|title| !title.is_empty());
        let (piece_store, mut released) =
            self.piece_store(index, piece_store::TrackTags { title, track: place }).await?;
        let outcome = self.speak(index, of, track, piece_store).await;
        // Its calls end first, and what they cost is settled.
        let _ = released.recv().await;
        outcome
    }

    async fn speak(&self, index: usize, of: usize, track: &Track, piece_store: Arc<PieceStore>) -> Result<(), JobStop> {
        let spoken = tokio::select! {
            spoken = self.gateway.speak_for(&self.caller, track.request.clone(), Some(piece_store)) => spoken,
            () = self.cancel.cancelled() => return Err(JobStop::Cancelled),
        };
        let mut utterance = spoken.map_err(|error| self.paused(error.into()))?;
        let files = self.folder.join("files");
        let stem = track.stem(index + 1, of);
        let name = format!("{stem}.{}", utterance.format.codec.extension());
        let bytes = self.write(&mut utterance, &files, &name).await?;
        let cues = captions::of_sentences(&utterance.cues(), &utterance.words());
        let milliseconds = utterance.cues().last().map_or(0.0, |cue| cue.end * 1_000.0) as u64;
        let title = if track.title.is_empty() { stem.clone() } else { track.title.clone() };
        let media_type = utterance.format.media_type();
        self.list(2 * index, &name, &title, &media_type, bytes, milliseconds).await?;
        let (text, name) = (vtt(cues), format!("{stem}.vtt"));
        piece_store::put_aside(files, name.clone(), text.clone().into_bytes()).await?;
        self.list(2 * index + 1, &name, &title, "text/vtt", text.len() as u64, milliseconds).await
    }

    /// A failure that is only the end of the service.
    fn paused(&self, stop: JobStop) -> JobStop {
        if self.gateway.inner.jobs.pause.is_cancelled() { JobStop::Paused } else { stop }
    }

    /// The audio into a file, which has its name once it is whole.
    async fn write(&self, utterance: &mut Utterance, folder: &Path, name: &str) -> Result<u64, JobStop> {
        let (file, aside) = tempfile::NamedTempFile::new_in(folder)?.into_parts();
        let mut file = tokio::fs::File::from_std(file);
        loop {
            let next = tokio::select! {
                next = utterance.body.next() => next,
                () = self.cancel.cancelled() => return Err(JobStop::Cancelled),
            };
            match next {
                None => break,
                Some(Ok(bytes)) => file.write_all(&bytes).await?,
                Some(Err(error)) => return Err(self.paused(of_attempts(&[error.0]))),
            }
        }
        let length = file.stream_position().await?;
        file.flush().await?;
        let (mut file, path, completion) = (file.into_std().await, folder.join(name), utterance.body.completion());
        let named = move || -> std::io::Result<()> {
            completion.complete(&mut file)?;
            file.sync_all()?;
            aside.persist(path).map_err(|error| error.error)
        };
        tokio::task::spawn_blocking(named).await.map_err(std::io::Error::other)??;
        Ok(length)
    }

    /// Warns the job's reader; the same warning is given once.
    pub(super) async fn warn(&self, warning: String) -> Result<(), JobStop> {
        let row = self.gateway.inner.store.job(self.row.id.clone()).await.map_err(GatewayError::from)?;
        let mut warnings: Vec<String> = serde_json::from_str(&row.warnings).unwrap_or_default();
        if !warnings.contains(&warning) {
            warnings.push(warning);
            let warnings = serde_json::to_string(&warnings).map_err(|error| JobStop::Failed(error.to_string()))?;
            let change = JobChange { warnings: Some(warnings), ..JobChange::default() };
            self.gateway.inner.store.change_job(self.row.id.clone(), change).await.map_err(GatewayError::from)?;
            self.gateway.inner.jobs.announce(&self.row.id);
        }
        Ok(())
    }

    pub(super) async fn list(
        &self,
        number: usize,
        name: &str,
        title: &str,
        media_type: &str,
        bytes: u64,
        milliseconds: u64,
    ) -> Result<(), JobStop> {
        let row = StoredJobFile {
            job: self.row.id.clone(),
            number: i64::try_from(number).unwrap_or(i64::MAX),
            name: name.to_owned(),
            title: title.to_owned(),
            media_type: media_type.to_owned(),
            bytes: to_i64(bytes),
            audio_ms: to_i64(milliseconds),
        };
        self.gateway.inner.store.put_job_file(row).await.map_err(GatewayError::from)?;
        self.gateway.inner.jobs.announce(&self.row.id);
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn failed(cause: Cause, retry_after: Option<u64>) -> FailedAttempt {
        let retry_after = retry_after.map(Duration::from_secs);
        FailedAttempt { engine: "heron".into(), cause, detail: "as tested".into(), retry_after }
    }

    /// The wait that failures come to, in seconds, and whether people end it;
    /// nothing where the job is given up.
    fn wait(attempts: &[FailedAttempt]) -> Option<(Option<u64>, bool)> {
        match of_attempts(attempts) {
            JobStop::Wait(Wait { after, access, .. }) => Some((after.map(|after| after.as_secs()), access)),
            _ => None,
        }
    }

    #[test]
    fn a_job_waits_for_what_passes_and_for_what_people_mend() {
        for passing in [Cause::TimedOut, Cause::Throttled, Cause::Unavailable, Cause::Broken, Cause::Quota] {
            assert_eq!(wait(&[failed(passing, None)]), Some((None, false)), "{passing}");
        }
        for mended in [Cause::Unauthorized, Cause::Absent] {
            assert_eq!(wait(&[failed(mended, None)]), Some((None, true)), "{mended}");
        }
        for hopeless in [Cause::Unsupported, Cause::Unusable] {
            assert_eq!(wait(&[failed(hopeless, None)]), None, "{hopeless}");
        }
        let both =
            [failed(Cause::Unauthorized, None), failed(Cause::Throttled, Some(9)), failed(Cause::Quota, Some(4))];
        assert_eq!(wait(&both), Some((Some(4), false)), "one of them passes, after the shortest wait");
        assert_eq!(wait(&[failed(Cause::Unsupported, None), failed(Cause::TimedOut, None)]), Some((None, false)));
    }

    #[test]
    fn a_track_is_made_once_it_has_its_sound_and_its_text() {
        let file = |number| StoredJobFile {
            job: "j1".into(),
            number,
            name: format!("{number}.mp3"),
            title: String::new(),
            media_type: "audio/mpeg".into(),
            bytes: 9,
            audio_ms: 3,
        };
        assert!(!is_made(&[], 0));
        assert!(!is_made(&[file(0)], 0), "its subtitles are missing");
        assert!(is_made(&[file(0), file(1)], 0));
        assert!(!is_made(&[file(0), file(1), file(3)], 1), "of the second track there is only the text");
        assert!(is_made(&[file(0), file(1), file(2), file(3)], 1));
    }
}
