//! Jobs: long work, its pieces and its files.

use diesel::prelude::*;
use diesel::sql_types::{BigInt, Text};
use dispatcher_core::{Currency, Money};

use crate::models::{StoredJob, StoredJobFile, StoredJobPiece};
use crate::schema::{job_files, job_pieces, jobs};
use crate::states::JobState;
use crate::words::Word;
use crate::{Durability, Store, StoreError};

/// Which jobs to list; newest first.
#[derive(Debug, Clone, Default)]
pub struct JobFilter {
    /// Of these apps; of all if `None`.
    pub apps: Option<Vec<String>>,
    pub state: Option<JobState>,
    /// Only those before this id.
    pub before: Option<String>,
    pub limit: i64,
}

/// What became of the notification of a webhook.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum WebhookResult {
    Notified,
    /// It did not answer with success to any attempt.
    GivenUp,
}

/// How far a job is.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct JobProgress {
    /// Pieces that are made.
    pub pieces: i64,
    /// Milliseconds of audio that are made or recognised.
    pub audio_ms: i64,
    /// Charged so far in every attempt, once in each currency.
    pub costs: Vec<Money>,
}

#[derive(QueryableByName)]
struct PieceTotals {
    #[diesel(sql_type = BigInt)]
    pieces: i64,
    #[diesel(sql_type = BigInt)]
    audio_ms: i64,
}

#[derive(QueryableByName)]
struct Charged {
    #[diesel(sql_type = Text)]
    currency: Word<Currency>,
    #[diesel(sql_type = BigInt)]
    nanos: i64,
}

/// A change of a job; what is not given stays.
#[derive(Debug, Clone, Default)]
pub struct JobChange {
    pub state: Option<JobState>,
    /// Why it waits or failed; the inner nothing takes it away.
    pub reason: Option<Option<String>>,
    pub pieces: Option<i64>,
    /// In the currency of its first call.
    pub estimate: Option<Money>,
    pub started_at: Option<i64>,
    pub ended_at: Option<i64>,
    pub expires_at: Option<i64>,
    pub warnings: Option<String>,
    pub estimates: Option<String>,
}

impl Store {
    /// Writes a new job.
    ///
    /// # Errors
    /// When the records cannot be written; so with all of these.
    pub async fn add_job(&self, row: StoredJob) -> Result<(), StoreError> {
        let write = move |c: &mut SqliteConnection| {
            diesel::insert_into(jobs::table).values(row).execute(c)?;
            Ok(())
        };
        self.writer.submit(Durability::Disk, write).await
    }

    /// Changes a job that is not over. Gives whether there was one.
    pub async fn change_job(&self, id: String, change: JobChange) -> Result<bool, StoreError> {
        let write = move |c: &mut SqliteConnection| {
            let open = jobs::table.filter(jobs::id.eq(&id)).filter(jobs::state.eq_any(JobState::AT_WORK));
            let change = (
                change.state.map(|state| jobs::state.eq(state)),
                change.reason.map(|reason| jobs::reason.eq(reason)),
                change.pieces.map(|pieces| jobs::pieces.eq(pieces)),
                change.estimate.map(|it| (jobs::estimate_nanos.eq(it.nanos), jobs::currency.eq(Word(it.currency)))),
                change.started_at.map(|at| jobs::started_at.eq(at)),
                change.ended_at.map(|at| jobs::ended_at.eq(at)),
                change.expires_at.map(|at| jobs::expires_at.eq(at)),
                change.warnings.map(|warnings| jobs::warnings.eq(warnings)),
                change.estimates.map(|estimates| jobs::estimates.eq(estimates)),
            );
            Ok(diesel::update(open).set(change).execute(c)? > 0)
        };
        self.writer.submit(Durability::Disk, write).await
    }

    /// Makes a job that failed or was cancelled wait for its turn again.
    /// Gives whether there was one.
    pub async fn reopen_job(&self, id: String) -> Result<bool, StoreError> {
        let write = move |c: &mut SqliteConnection| {
            let ended = jobs::table
                .filter(jobs::id.eq(&id))
                .filter(jobs::state.eq_any([JobState::Failed, JobState::Cancelled]));
            let none = (None::<i64>, None::<String>);
            let open = (
                jobs::state.eq(JobState::Queued),
                jobs::reason.eq(none.1),
                jobs::ended_at.eq(none.0),
                jobs::expires_at.eq(none.0),
                jobs::notified_at.eq(none.0),
                jobs::given_up_at.eq(none.0),
            );
            Ok(diesel::update(ended).set(open).execute(c)? > 0)
        };
        self.writer.submit(Durability::Disk, write).await
    }

    /// One job.
    pub async fn job(&self, id: String) -> Result<StoredJob, StoreError> {
        self.read(move |c| {
            let found = jobs::table.find(&id).select(StoredJob::as_select()).first(c).optional()?;
            found.ok_or(StoreError::Missing { what: "job", name: id })
        })
        .await
    }

    /// Jobs, newest first.
    pub async fn jobs(&self, filter: JobFilter) -> Result<Vec<StoredJob>, StoreError> {
        self.read(move |c| {
            let mut query = jobs::table.order(jobs::id.desc()).limit(filter.limit).into_boxed();
            if let Some(apps) = filter.apps {
                query = query.filter(jobs::app.eq_any(apps));
            }
            if let Some(state) = filter.state {
                query = query.filter(jobs::state.eq(state));
            }
            if let Some(before) = filter.before {
                query = query.filter(jobs::id.lt(before));
            }
            Ok(query.select(StoredJob::as_select()).load(c)?)
        })
        .await
    }

    /// Jobs that are not over, oldest first.
    pub async fn jobs_at_work(&self) -> Result<Vec<StoredJob>, StoreError> {
        self.read(|c| {
            let open = jobs::table.filter(jobs::state.eq_any(JobState::AT_WORK)).order(jobs::id);
            Ok(open.select(StoredJob::as_select()).load(c)?)
        })
        .await
    }

    /// Jobs that have ended and whose webhook was neither notified nor given up.
    pub async fn jobs_to_notify(&self) -> Result<Vec<String>, StoreError> {
        self.read(|c| {
            let over = jobs::table.filter(jobs::state.ne_all(JobState::AT_WORK)).filter(jobs::webhook.is_not_null());
            Ok(over
                .filter(jobs::notified_at.is_null())
                .filter(jobs::given_up_at.is_null())
                .order(jobs::id)
                .select(jobs::id)
                .load(c)?)
        })
        .await
    }

    /// Writes when the webhook of a job was notified, or given up.
    pub async fn note_webhook(&self, id: String, result: WebhookResult, at: i64) -> Result<(), StoreError> {
        let write = move |c: &mut SqliteConnection| {
            let job = jobs::table.find(&id);
            match result {
                WebhookResult::Notified => diesel::update(job).set(jobs::notified_at.eq(at)).execute(c)?,
                WebhookResult::GivenUp => diesel::update(job).set(jobs::given_up_at.eq(at)).execute(c)?,
            };
            Ok(())
        };
        self.writer.submit(Durability::Disk, write).await
    }

    /// How far a job is, and what it has cost.
    pub async fn job_progress(&self, id: String) -> Result<JobProgress, StoreError> {
        self.read(move |c| {
            let made =
                "SELECT count(*) AS pieces, coalesce(sum(audio_ms), 0) AS audio_ms FROM job_pieces WHERE job = ?";
            let PieceTotals { pieces, audio_ms } = diesel::sql_query(made).bind::<Text, _>(&id).get_result(c)?;
            let charged = "SELECT ledger.currency AS currency, sum(ledger.nanos) AS nanos \
                FROM ledger JOIN dispatches ON dispatches.id = ledger.dispatch \
                WHERE dispatches.job = ? AND ledger.kind IN ('settle', 'adjust') GROUP BY ledger.currency ORDER BY 1";
            let charged: Vec<Charged> = diesel::sql_query(charged).bind::<Text, _>(&id).load(c)?;
            let costs = charged.into_iter().map(|Charged { currency, nanos }| Money { nanos, currency: currency.0 });
            let costs = costs.collect();
            Ok(JobProgress { pieces, audio_ms, costs })
        })
        .await
    }

    /// The pieces of a job that are made.
    pub async fn job_pieces(&self, id: String) -> Result<Vec<StoredJobPiece>, StoreError> {
        self.read(move |c| {
            let made = job_pieces::table.filter(job_pieces::job.eq(&id));
            Ok(made.order((job_pieces::track, job_pieces::piece)).select(StoredJobPiece::as_select()).load(c)?)
        })
        .await
    }

    /// Writes a file of a job; one of the same number gives way.
    pub async fn put_job_file(&self, row: StoredJobFile) -> Result<(), StoreError> {
        let write = move |c: &mut SqliteConnection| {
            diesel::replace_into(job_files::table).values(&row).execute(c)?;
            Ok(())
        };
        self.writer.submit(Durability::Disk, write).await
    }

    /// The files of a job, in their order.
    pub async fn job_files(&self, id: String) -> Result<Vec<StoredJobFile>, StoreError> {
        self.read(move |c| {
            let files = job_files::table.filter(job_files::job.eq(&id)).order(job_files::number);
            Ok(files.select(StoredJobFile::as_select()).load(c)?)
        })
        .await
    }

    /// Jobs whose results are kept no longer, and are not removed yet.
    pub async fn expired_jobs(&self, now: i64) -> Result<Vec<String>, StoreError> {
        self.read(move |c| {
            let over = jobs::table.filter(jobs::expires_at.le(now)).filter(jobs::state.ne_all(JobState::AT_WORK));
            Ok(over.select(jobs::id).load(c)?)
        })
        .await
    }

    /// Forgets the files and pieces of a job; its record stays.
    pub async fn forget_job_files(&self, id: String) -> Result<(), StoreError> {
        let write = move |c: &mut SqliteConnection| {
            diesel::delete(job_files::table.filter(job_files::job.eq(&id))).execute(c)?;
            diesel::delete(job_pieces::table.filter(job_pieces::job.eq(&id))).execute(c)?;
            diesel::update(jobs::table.find(&id)).set(jobs::expires_at.eq(None::<i64>)).execute(c)?;
            Ok(())
        };
        self.writer.submit(Durability::Disk, write).await
    }

    /// Removes a job that is over, with all that is of it. Gives whether
    /// there was one.
    pub async fn remove_job(&self, id: String) -> Result<bool, StoreError> {
        let write = move |c: &mut SqliteConnection| {
            let over = jobs::table.filter(jobs::id.eq(&id)).filter(jobs::state.ne_all(JobState::AT_WORK));
            Ok(diesel::delete(over).execute(c)? > 0)
        };
        self.writer.submit(Durability::Disk, write).await
    }
}
