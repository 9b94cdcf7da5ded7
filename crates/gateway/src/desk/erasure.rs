//! Erasing what an app, or one of its end users, said and heard, on request.

use dispatcher_store::{ErasureMode, ErasureScope, StoreError};

use crate::dispatch::admit::is_end_user;
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
    /// Tokens that were made for the end user; they are revoked.
    pub tokens: usize,
    /// Dispatches that named the end user, and do not any more.
    pub dispatches: usize,
}

impl Gateway {
    /// Erases the transcripts, exchanges, comparisons, kept answers and finished
    /// jobs of an app or of one of its end users, or counts them. Dispatches,
    /// the ledger and the usage have no words, and stay.
    ///
    /// # Errors
    /// Where there is no app of the name, or none can be that of an end user.
    pub async fn erase(&self, scope: ErasureScope, mode: ErasureMode, by: &str) -> Result<Erasure, GatewayError> {
        self.app(&scope.app).await?;
        if scope.end_user.as_deref().is_some_and(|name| !is_end_user(name)) {
            return Err(GatewayError::BadEndUser);
        }
        let store = &self.inner.store;
        let app = scope.app.clone();
        let erased = store.erase(scope, mode, by.to_owned(), now_micros()).await?;
        let (mut over, mut running) = (Vec::new(), 0);
        for id in &erased.jobs {
            match store.job(id.clone()).await?.state.is_over() {
                true => over.push(id),
                false => running += 1,
            }
        }
        if mode == ErasureMode::Erase {
            for id in &over {
                self.remove_job(id).await?;
            }
            for id in &erased.tokens {
                self.end_token(&app, id, by).await?;
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
            running_jobs: running,
            tokens: erased.tokens.len(),
            dispatches: count(erased.dispatches),
        })
    }

    /// Ends a token, which may have ended already.
    async fn end_token(&self, app: &str, id: &str, by: &str) -> Result<(), GatewayError> {
        match self.revoke_token(app, id, by).await {
            Err(GatewayError::Store(StoreError::Missing { .. })) => Ok(()),
            done => done,
        }
    }

    /// Removes the files of kept audio, and the folders of comparisons.
    pub(crate) async fn remove_erased_files(&self, contents: &[String], comparisons: &[String]) {
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
