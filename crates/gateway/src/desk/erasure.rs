//! Erasing what an app said and heard, on request.

use dispatcher_store::{ErasureMode, JobFilter};

use crate::{Gateway, GatewayError, now_micros};

/// What is erased, or would be.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Erasure {
    pub transcripts: usize,
    pub exchanges: usize,
    pub comparisons: usize,
    /// Answers that were kept for recall.
    pub kept_answers: usize,
    /// Jobs that are over, with their files.
    pub jobs: usize,
    /// Jobs that are not over; they stay.
    pub running_jobs: usize,
}

impl Gateway {
    /// Erases the transcripts, exchanges, comparisons, kept answers and finished
    /// jobs of an app, or counts them. Dispatches, the ledger and the usage
    /// have no words, and stay.
    ///
    /// # Errors
    /// Where there is no app of the name.
    pub async fn erase_app(&self, app: &str, mode: ErasureMode, by: &str) -> Result<Erasure, GatewayError> {
        self.app(app).await?;
        let store = &self.inner.store;
        let filter = JobFilter { apps: Some(vec![app.to_owned()]), limit: i64::MAX, ..JobFilter::default() };
        let (over, running): (Vec<_>, Vec<_>) =
            store.jobs(filter).await?.into_iter().partition(|job| job.state.is_over());
        let erased = store.erase_app(app.to_owned(), mode, by.to_owned(), now_micros()).await?;
        if mode == ErasureMode::Erase {
            for job in &over {
                self.remove_job(&job.id).await?;
            }
            self.remove_erased_files(&erased.contents, &erased.comparisons).await;
        }
        let count = |count: i64| usize::try_from(count).unwrap_or_default();
        Ok(Erasure {
            transcripts: count(erased.transcripts),
            exchanges: count(erased.exchanges),
            comparisons: erased.comparisons.len(),
            kept_answers: count(erased.kept_answers),
            jobs: over.len(),
            running_jobs: running.len(),
        })
    }

    async fn remove_erased_files(&self, contents: &[String], comparisons: &[String]) {
        let Some(folder) = &self.inner.host.clips else { return };
        let files = contents.iter().map(|content| folder.join(content));
        let folders = comparisons.iter().map(|id| folder.join("compared").join(id));
        for path in files.chain(folders) {
            let removed = match path.is_dir() {
                true => tokio::fs::remove_dir_all(&path).await,
                false => tokio::fs::remove_file(&path).await,
            };
            if let Err(error) = removed.or_else(|error| match error.kind() {
                std::io::ErrorKind::NotFound => Ok(()),
                _ => Err(error),
            }) {
                tracing::error!(%error, path = %path.display(), "erased audio cannot be removed");
            }
        }
    }
}
