//! Dispatches, attempts and the ledger entries that belong to them.

use diesel::prelude::*;

use crate::models::{AttemptRow, DispatchRow, JobPieceRow, LedgerRow, SampleDispatch};
use crate::schema::{attempts, dispatches, job_pieces, ledger};
use crate::states::{AttemptState, DispatchState, LedgerKind};
use crate::{Durability, Store, StoreError};

/// How an attempt ended.
#[derive(Debug, Clone)]
pub struct AttemptEnd {
    pub dispatch: String,
    pub number: i64,
    pub state: AttemptState,
    pub cause: Option<String>,
    pub detail: Option<String>,
    pub first_us: Option<i64>,
    pub total_us: i64,
}

/// How a dispatch ended.
#[derive(Debug, Clone)]
pub struct DispatchEnd {
    pub id: String,
    pub state: DispatchState,
    pub engine: Option<String>,
    pub voice: Option<String>,
    pub model: Option<String>,
    pub audio_ms: i64,
    pub first_us: Option<i64>,
    pub total_us: i64,
    pub cost_nanos: i64,
    pub currency: String,
    pub problem: Option<String>,
}

/// Which dispatches to list; newest first.
#[derive(Debug, Clone, Default)]
pub struct DispatchFilter {
    pub app: Option<String>,
    pub engine: Option<String>,
    pub state: Option<DispatchState>,
    pub work: Option<String>,
    pub job: Option<String>,
    /// Only those before this id.
    pub before: Option<String>,
    pub limit: i64,
}

impl Store {
    /// Writes that a dispatch has begun.
    pub async fn begin_dispatch(&self, row: DispatchRow) -> Result<(), StoreError> {
        let write = move |c: &mut SqliteConnection| {
            diesel::insert_into(dispatches::table).values(&row).execute(c)?;
            Ok(())
        };
        self.writer.submit(Durability::Process, write).await
    }

    /// Writes the intent: the attempt that is about to be made, and its hold;
    /// with the first one, that its dispatch has begun.
    pub async fn begin_attempt(
        &self,
        dispatch: Option<DispatchRow>,
        row: AttemptRow,
        hold: LedgerRow,
    ) -> Result<(), StoreError> {
        let write = move |c: &mut SqliteConnection| {
            if let Some(dispatch) = &dispatch {
                diesel::insert_into(dispatches::table).values(dispatch).execute(c)?;
            }
            diesel::insert_into(attempts::table).values(&row).execute(c)?;
            diesel::insert_into(ledger::table).values(hold).execute(c)?;
            Ok(())
        };
        self.writer.submit(Durability::Process, write).await
    }

    /// Writes how an attempt ended, and what it cost.
    pub async fn end_attempt(&self, end: AttemptEnd, entries: Vec<LedgerRow>) -> Result<(), StoreError> {
        self.writer.submit(Durability::Process, move |c| write_attempt(c, &end, entries)).await
    }

    /// Writes a piece of a job that is made, with the attempt that made it;
    /// synced to the disk.
    pub async fn end_piece(
        &self,
        attempt: Option<(AttemptEnd, Vec<LedgerRow>)>,
        piece: JobPieceRow,
    ) -> Result<(), StoreError> {
        let write = move |c: &mut SqliteConnection| {
            if let Some((end, entries)) = attempt {
                write_attempt(c, &end, entries)?;
            }
            diesel::replace_into(job_pieces::table).values(&piece).execute(c)?;
            Ok(())
        };
        self.writer.submit(Durability::Disk, write).await
    }

    /// Settles a dispatch, with its last attempt; synced to the disk.
    pub async fn settle(
        &self,
        attempt: Option<(AttemptEnd, Vec<LedgerRow>)>,
        end: DispatchEnd,
    ) -> Result<(), StoreError> {
        let write = move |c: &mut SqliteConnection| {
            if let Some((attempt, entries)) = attempt {
                write_attempt(c, &attempt, entries)?;
            }
            diesel::update(dispatches::table.find(&end.id))
                .set((
                    dispatches::state.eq(end.state),
                    dispatches::engine.eq(&end.engine),
                    dispatches::voice.eq(&end.voice),
                    dispatches::model.eq(&end.model),
                    dispatches::audio_ms.eq(end.audio_ms),
                    dispatches::first_us.eq(end.first_us),
                    dispatches::total_us.eq(end.total_us),
                    dispatches::cost_nanos.eq(end.cost_nanos),
                    dispatches::currency.eq(&end.currency),
                    dispatches::problem.eq(&end.problem),
                ))
                .execute(c)?;
            Ok(())
        };
        self.writer.submit(Durability::Disk, write).await
    }

    /// After a crash: attempts and dispatches found open become `uncertain`,
    /// and what was held for them is charged. Gives the number of attempts.
    pub async fn mark_uncertain(&self, at: i64, day: String) -> Result<usize, StoreError> {
        let write = move |c: &mut SqliteConnection| {
            let open: Vec<AttemptRow> = attempts::table
                .filter(attempts::state.eq(AttemptState::Running))
                .select(AttemptRow::as_select())
                .load(c)?;
            for attempt in &open {
                let held: Vec<LedgerRow> = ledger::table
                    .filter(ledger::dispatch.eq(&attempt.dispatch))
                    .filter(ledger::attempt.eq(attempt.number))
                    .filter(ledger::kind.eq(LedgerKind::Hold))
                    .select(LedgerRow::as_select())
                    .load(c)?;
                for hold in held {
                    for (kind, sign) in [(LedgerKind::Release, -1), (LedgerKind::Settle, 1)] {
                        let entry = LedgerRow {
                            id: None,
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
                let row = DispatchRow { sample: 1, ..sample.dispatch };
                diesel::insert_into(dispatches::table).values(row).execute(c)?;
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
            let samples = dispatches::table.filter(dispatches::sample.eq(1));
            Ok(diesel::select(diesel::dsl::exists(samples)).get_result(c)?)
        })
        .await
    }

    /// Dispatches, newest first.
    pub async fn dispatches(&self, filter: DispatchFilter) -> Result<Vec<DispatchRow>, StoreError> {
        self.read(move |c| {
            let mut query = dispatches::table.order(dispatches::id.desc()).limit(filter.limit).into_boxed();
            if let Some(app) = filter.app {
                query = query.filter(dispatches::app.eq(app));
            }
            if let Some(engine) = filter.engine {
                query = query.filter(dispatches::engine.eq(engine));
            }
            if let Some(state) = filter.state {
                query = query.filter(dispatches::state.eq(state));
            }
            if let Some(work) = filter.work {
                query = query.filter(dispatches::work.eq(work));
            }
            if let Some(job) = filter.job {
                query = query.filter(dispatches::job.eq(job));
            }
            if let Some(before) = filter.before {
                query = query.filter(dispatches::id.lt(before));
            }
            Ok(query.select(DispatchRow::as_select()).load(c)?)
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
    pub async fn dispatch(&self, id: String) -> Result<(DispatchRow, Vec<AttemptRow>, Vec<LedgerRow>), StoreError> {
        self.read(move |c| {
            let found = dispatches::table.find(&id).select(DispatchRow::as_select()).first(c).optional()?;
            let row: DispatchRow = found.ok_or_else(|| StoreError::Missing { what: "dispatch", name: id.clone() })?;
            let tried = attempts::table
                .filter(attempts::dispatch.eq(&id))
                .order(attempts::number)
                .select(AttemptRow::as_select())
                .load(c)?;
            let entries = ledger::table
                .filter(ledger::dispatch.eq(&id))
                .order(ledger::id)
                .select(LedgerRow::as_select())
                .load(c)?;
            Ok((row, tried, entries))
        })
        .await
    }
}

/// Adds a charge to the cost of its dispatch. A dispatch shows one currency,
/// that of its last charge; the ledger has all of them.
fn add_cost(c: &mut SqliteConnection, charge: &LedgerRow) -> Result<(), StoreError> {
    let dispatch = dispatches::table.find(&charge.dispatch);
    let same = dispatch.filter(dispatches::currency.eq(&charge.currency));
    let added =
        diesel::update(same).set(dispatches::cost_nanos.eq(dispatches::cost_nanos + charge.nanos)).execute(c)?;
    if added == 0 {
        let cost = (dispatches::cost_nanos.eq(charge.nanos), dispatches::currency.eq(&charge.currency));
        diesel::update(dispatches::table.find(&charge.dispatch)).set(cost).execute(c)?;
    }
    Ok(())
}

fn write_attempt(c: &mut SqliteConnection, end: &AttemptEnd, entries: Vec<LedgerRow>) -> Result<(), StoreError> {
    diesel::update(attempts::table.find((&end.dispatch, end.number)))
        .set((
            attempts::state.eq(end.state),
            attempts::cause.eq(&end.cause),
            attempts::detail.eq(&end.detail),
            attempts::first_us.eq(end.first_us),
            attempts::total_us.eq(end.total_us),
        ))
        .execute(c)?;
    for entry in entries {
        diesel::insert_into(ledger::table).values(entry).execute(c)?;
    }
    Ok(())
}
