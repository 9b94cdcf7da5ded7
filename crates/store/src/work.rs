//! Dispatches, attempts and the ledger entries that belong to them.

use diesel::prelude::*;
use dispatcher_core::Work;

use crate::models::{LedgerEntry, SampleDispatch, StoredAttempt, StoredDispatch, StoredJobPiece};
use crate::schema::{attempts, dispatches, job_pieces, ledger};
use crate::states::{AttemptState, DispatchState, LedgerKind};
use crate::usage::add_recalled;
use crate::words::Word;
use crate::{Durability, Store, StoreError};

/// Which dispatches to list; newest first.
#[derive(Debug, Clone, Default)]
pub struct DispatchFilter {
    /// Of these apps; of all if `None`.
    pub apps: Option<Vec<String>>,
    pub engine: Option<String>,
    pub state: Option<DispatchState>,
    pub work: Option<Work>,
    pub job: Option<String>,
    /// Only those before this id.
    pub before: Option<String>,
    pub limit: i64,
}

impl Store {
    /// Writes the intent: the attempt that is about to be made, and its hold;
    /// with the first one, that its dispatch has begun.
    pub async fn begin_attempt(
        &self,
        dispatch: Option<StoredDispatch>,
        attempt: StoredAttempt,
        hold: LedgerEntry,
    ) -> Result<(), StoreError> {
        let write = move |c: &mut SqliteConnection| {
            if let Some(dispatch) = &dispatch {
                diesel::insert_into(dispatches::table).values(dispatch.clone()).execute(c)?;
            }
            diesel::insert_into(attempts::table).values(&attempt).execute(c)?;
            diesel::insert_into(ledger::table).values(hold.clone()).execute(c)?;
            Ok(())
        };
        self.writer.submit_repeatable(Durability::Process, write).await
    }

    /// Writes an attempt as it ended, and what it cost.
    pub async fn end_attempt(&self, attempt: StoredAttempt, entries: Vec<LedgerEntry>) -> Result<(), StoreError> {
        self.writer.submit_repeatable(Durability::Process, move |c| write_attempt(c, &attempt, &entries)).await
    }

    /// Writes a piece of a job that is made, with the attempt that made it;
    /// synced to the disk.
    pub async fn end_piece(
        &self,
        attempt: Option<(StoredAttempt, Vec<LedgerEntry>)>,
        piece: StoredJobPiece,
    ) -> Result<(), StoreError> {
        let write = move |c: &mut SqliteConnection| {
            if let Some((attempt, entries)) = &attempt {
                write_attempt(c, attempt, entries)?;
            }
            diesel::replace_into(job_pieces::table).values(&piece).execute(c)?;
            Ok(())
        };
        self.writer.submit_repeatable(Durability::Disk, write).await
    }

    /// Writes a dispatch as it ended, with its last attempt; synced to the disk.
    pub async fn settle(
        &self,
        attempt: Option<(StoredAttempt, Vec<LedgerEntry>)>,
        dispatch: StoredDispatch,
    ) -> Result<(), StoreError> {
        let write = move |c: &mut SqliteConnection| {
            if let Some((attempt, entries)) = &attempt {
                write_attempt(c, attempt, entries)?;
            }
            diesel::replace_into(dispatches::table).values(dispatch.clone()).execute(c)?;
            if dispatch.recalled { add_recalled(c, &dispatch) } else { Ok(()) }
        };
        self.writer.submit_repeatable(Durability::Disk, write).await
    }

    /// After a crash: attempts and dispatches found open become `uncertain`,
    /// and what was held for them is charged. Gives the number of attempts.
    pub async fn mark_uncertain(&self, at: i64, day: String) -> Result<usize, StoreError> {
        let write = move |c: &mut SqliteConnection| {
            let open: Vec<StoredAttempt> = attempts::table
                .filter(attempts::state.eq(AttemptState::Running))
                .select(StoredAttempt::as_select())
                .load(c)?;
            for attempt in &open {
                let held: Vec<LedgerEntry> = ledger::table
                    .filter(ledger::dispatch.eq(&attempt.dispatch))
                    .filter(ledger::attempt.eq(attempt.number))
                    .filter(ledger::kind.eq(LedgerKind::Hold))
                    .select(LedgerEntry::as_select())
                    .load(c)?;
                for hold in held {
                    for (kind, sign) in [(LedgerKind::Release, -1), (LedgerKind::Settle, 1)] {
                        let entry = LedgerEntry {
                            kind,
                            characters: hold.characters * sign,
                            audio_ms: hold.audio_ms * sign,
                            nanos: hold.nanos * sign,
                            day: day.clone(),
                            at,
                            ..hold.clone()
                        };
                        diesel::insert_into(ledger::table).values(entry).execute(c)?;
                    }
                    add_cost(c, &hold)?;
                }
            }
            diesel::update(attempts::table.filter(attempts::state.eq(AttemptState::Running)))
                .set(attempts::state.eq(AttemptState::Uncertain))
                .execute(c)?;
            diesel::update(dispatches::table.filter(dispatches::state.eq(DispatchState::Running)))
                .set(dispatches::state.eq(DispatchState::Uncertain))
                .execute(c)?;
            Ok(open.len())
        };
        self.writer.submit(Durability::Disk, write).await
    }

    /// Adds made-up dispatches, marked as samples: all of them or none.
    pub async fn add_samples(&self, samples: Vec<SampleDispatch>) -> Result<(), StoreError> {
        let write = move |c: &mut SqliteConnection| {
            for sample in samples {
                let row = StoredDispatch { sample: true, ..sample.dispatch };
                diesel::insert_into(dispatches::table).values(row.clone()).execute(c)?;
                if row.recalled {
                    add_recalled(c, &row)?;
                }
                for attempt in sample.attempts {
                    diesel::insert_into(attempts::table).values(attempt).execute(c)?;
                }
                for entry in sample.ledger {
                    diesel::insert_into(ledger::table).values(entry).execute(c)?;
                }
            }
            Ok(())
        };
        self.writer.submit(Durability::Disk, write).await
    }

    /// Whether some dispatches are samples.
    pub async fn has_samples(&self) -> Result<bool, StoreError> {
        self.read(|c| {
            let samples = dispatches::table.filter(dispatches::sample.eq(true));
            Ok(diesel::select(diesel::dsl::exists(samples)).get_result(c)?)
        })
        .await
    }

    /// Dispatches, newest first.
    pub async fn dispatches(&self, filter: DispatchFilter) -> Result<Vec<StoredDispatch>, StoreError> {
        self.read(move |c| {
            let mut query = dispatches::table.order(dispatches::id.desc()).limit(filter.limit).into_boxed();
            if let Some(apps) = filter.apps {
                query = query.filter(dispatches::app.eq_any(apps));
            }
            if let Some(engine) = filter.engine {
                query = query.filter(dispatches::engine.eq(engine));
            }
            if let Some(state) = filter.state {
                query = query.filter(dispatches::state.eq(state));
            }
            if let Some(work) = filter.work {
                query = query.filter(dispatches::work.eq(Word(work)));
            }
            if let Some(job) = filter.job {
                query = query.filter(dispatches::job.eq(job));
            }
            if let Some(before) = filter.before {
                query = query.filter(dispatches::id.lt(before));
            }
            Ok(query.select(StoredDispatch::as_select()).load(c)?)
        })
        .await
    }

    /// Dispatches from an id on that ended well after an attempt had failed.
    pub async fn count_fallbacks(&self, from: String) -> Result<usize, StoreError> {
        self.read(move |c| {
            let count: i64 = attempts::table
                .filter(attempts::dispatch.ge(from))
                .filter(attempts::number.gt(1))
                .filter(attempts::state.eq(AttemptState::Done))
                .count()
                .get_result(c)?;
            Ok(usize::try_from(count).unwrap_or(0))
        })
        .await
    }

    /// One dispatch with its attempts and ledger entries.
    pub async fn dispatch(
        &self,
        id: String,
    ) -> Result<(StoredDispatch, Vec<StoredAttempt>, Vec<LedgerEntry>), StoreError> {
        self.read(move |c| {
            let found = dispatches::table.find(&id).select(StoredDispatch::as_select()).first(c).optional()?;
            let row: StoredDispatch =
                found.ok_or_else(|| StoreError::Missing { what: "dispatch", name: id.clone() })?;
            let tried = attempts::table
                .filter(attempts::dispatch.eq(&id))
                .order(attempts::number)
                .select(StoredAttempt::as_select())
                .load(c)?;
            let entries = ledger::table
                .filter(ledger::dispatch.eq(&id))
                .order(ledger::id)
                .select(LedgerEntry::as_select())
                .load(c)?;
            Ok((row, tried, entries))
        })
        .await
    }
}

/// Adds a charge to the cost of its dispatch. A dispatch shows one currency,
/// that of its last charge; the ledger has all of them.
fn add_cost(c: &mut SqliteConnection, charge: &LedgerEntry) -> Result<(), StoreError> {
    let dispatch = dispatches::table.find(&charge.dispatch);
    let same = dispatch.filter(dispatches::currency.eq(Word(charge.currency)));
    let added =
        diesel::update(same).set(dispatches::cost_nanos.eq(dispatches::cost_nanos + charge.nanos)).execute(c)?;
    if added == 0 {
        let cost = (dispatches::cost_nanos.eq(charge.nanos), dispatches::currency.eq(Word(charge.currency)));
        diesel::update(dispatches::table.find(&charge.dispatch)).set(cost).execute(c)?;
    }
    Ok(())
}

/// Rows are written whole: an update of some columns is prepared anew each
/// time, which takes longer than to write the row.
fn write_attempt(c: &mut SqliteConnection, attempt: &StoredAttempt, entries: &[LedgerEntry]) -> Result<(), StoreError> {
    diesel::replace_into(attempts::table).values(attempt).execute(c)?;
    for entry in entries {
        diesel::insert_into(ledger::table).values(entry.clone()).execute(c)?;
    }
    Ok(())
}
